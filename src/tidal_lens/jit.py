"""The one place that configures the compiler of the hot kernels.

Compiled kernels are kept in a per-user cache folder named after a digest of all kernel sources, of this file and of
:mod:`tidal_lens.light_compiling`, so that an edited helper or option can never leave a stale kernel behind.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar, cast

import platformdirs

_F = TypeVar("_F", bound=Callable[..., Any])


def _cache_folder() -> Path:
    digest = hashlib.sha256()
    for path in [Path(__file__), Path(__file__).with_name("light_compiling.py"), *sorted(Path(__file__).parent.rglob("*kernels.py"))]:
        digest.update(path.read_bytes())
    return Path(platformdirs.user_cache_dir("tidal-lens")) / "kernels" / digest.hexdigest()[:12]


os.environ.setdefault("NUMBA_CACHE_DIR", str(_cache_folder()))
# Lets straight pieces of code (three components, nine sums) work on several numbers at a time, as C compilers do by default.
os.environ.setdefault("NUMBA_SLP_VECTORIZE", "1")
# For each call it notes why each built-in of that name did not fit: painting that in colours took a tenth of the compiling.
os.environ.setdefault("NUMBA_DISABLE_ERROR_MESSAGE_HIGHLIGHTING", "1")

import llvmlite.binding  # noqa: E402
import numba  # noqa: E402  (the cache folder must be known before the compiler is loaded)
from llvmlite import ir  # noqa: E402
from numba.core import cgutils  # noqa: E402
from numba.core.compiler_lock import global_compiler_lock  # noqa: E402
from numba.np.arrayobj import make_array  # noqa: E402

POINTER, SMALL, WHOLE = numba.types.voidptr, numba.types.int32, numba.types.int64  # for foreign functions
# Full fastmath would break tests for NaN; these three flags do not.
# Nobody calls kernels from C: without that entry a sixth of the compiling is spared.
_OPTIONS = {"nogil": True, "no_cfunc_wrapper": True, "error_model": "numpy", "fastmath": {"contract", "arcp", "nsz"}}
_MAKING = {**_OPTIONS, "no_cpython_wrapper": True}
# Who still holds an array is counted when it is passed on, with two atomic operations for each: in pieces that are called for every face or
# step that was a sixth to a third of the time. What neither makes arrays nor hands any back does without.
_WITHIN = {**_MAKING, "_nrt": False}


_meanwhile: list[Callable[[], bool]] = []


def wait_while(others: Callable[[], bool] | None) -> None:
    """Let who needs a kernel that is not in the cache wait: others are compiling.

    Parameters
    ----------
    others : callable or None
        Waits a little and says whether to go on waiting; may raise. None: nobody else compiles.
    """
    _meanwhile[:] = [] if others is None else [others]


def cache_folder() -> Path:
    """Where compiled kernels are kept."""
    return Path(os.environ["NUMBA_CACHE_DIR"])


def kernel(function: _F) -> _F:
    """Compile a kernel: releases the interpreter lock, is cached on disk, divides like NumPy."""
    compiled: Any = numba.njit(cache=True, **_OPTIONS)(function)
    if hasattr(compiled, "targetctx"):  # not when the compiler is switched off
        compiled.compile = _patient(compiled)
    return cast(_F, compiled)


def _patient(dispatcher: Any) -> Callable[[Any], Any]:
    compile_now = dispatcher.compile

    def compile_or_wait(signature: Any) -> Any:
        while _meanwhile and _meanwhile[0]() and not is_there(dispatcher, signature):
            pass
        return compile_now(signature)

    return compile_or_wait


def signature_of(*arguments: Any) -> tuple[Any, ...]:
    """What a kernel that is called with some arguments is compiled for."""
    return tuple(numba.typeof(a) for a in arguments)


def is_there(dispatcher: Any, signature: Any) -> bool:
    """Whether a kernel was compiled for a signature, here or by others."""
    if not hasattr(dispatcher, "targetctx"):  # the compiler is switched off
        return True
    with global_compiler_lock:
        return signature in dispatcher.overloads or dispatcher._cache.load_overload(signature, dispatcher.targetctx) is not None


def piece(function: _F) -> _F:
    """Compile a part of kernels that only they call: it is kept within them, and has no entry of its own. It makes no arrays."""
    return cast(_F, _holding_nothing(numba.njit(**_WITHIN)(function)))


def making(function: _F) -> _F:
    """The same for a piece that makes arrays, or hands some back."""
    compiled: _F = numba.njit(**_MAKING)(function)
    return compiled


def _holding_nothing(dispatcher: Any) -> Any:
    """See that a piece hands no array back: its caller would give up one that it does not own."""
    if not hasattr(dispatcher, "targetctx"):  # the compiler is switched off
        return dispatcher
    compile_now = dispatcher.compile

    def compile_and_see(signature: Any) -> Any:
        entry = compile_now(signature)
        for overload in dispatcher.overloads.values():
            if "array(" in str(overload.signature.return_type).lower():
                raise TypeError(f"{dispatcher.py_func.__name__} hands an array back: it must be compiled with 'making'")
        return entry

    dispatcher.compile = compile_and_see
    return dispatcher


def folded(function: _F) -> _F:
    """Compile a piece of a kernel that LLVM puts into its callers: passing arrays on costs more than a short loop does."""
    return cast(_F, _holding_nothing(numba.njit(forceinline=True, **_WITHIN)(function)))


def summing(function: _F) -> _F:
    """Compile a piece of a kernel whose sums may be taken in any order: several numbers at a time."""
    return cast(_F, _holding_nothing(numba.njit(**{**_WITHIN, "fastmath": {"contract", "arcp", "nsz", "reassoc"}})(function)))


def inlined(function: _F) -> _F:
    """The same, put there before LLVM sees it: longer to compile, but loops round it are worked on several numbers at a time."""
    compiled: _F = numba.njit(inline="always", **_MAKING)(function)
    return compiled


def _ask_early(_context: Any, array: Any, row: Any) -> Any:
    def lower(target: Any, builder: Any, signature: Any, values: Any) -> Any:
        kind = signature.args[0]
        there = make_array(kind)(target, builder, values[0])
        step = builder.extract_value(there.strides, 0)
        offset = builder.mul(builder.zext(values[1], step.type) if values[1].type.width < step.type.width else values[1], step)
        byte = ir.IntType(8).as_pointer()
        place = builder.gep(builder.bitcast(there.data, byte), [offset])
        word = ir.IntType(32)
        ask = cgutils.get_or_insert_function(builder.module, ir.FunctionType(ir.VoidType(), [byte, word, word, word]), "llvm.prefetch.p0")
        builder.call(ask, [place, word(0), word(3), word(1)])
        return target.get_dummy_value()

    return numba.types.void(array, row), lower


ask_early: Any = numba.extending.intrinsic(_ask_early) if not numba.config.DISABLE_JIT else lambda _array, _row: None
"""Has a row of an array come from memory while something else is done: ``ask_early(array, row)``, for kernels; nothing is read."""


def _one_by_one(_context: Any) -> Any:
    def lower(target: Any, builder: Any, _signature: Any, _values: Any) -> Any:
        builder.function.attributes.add("noimplicitfloat")
        return target.get_dummy_value()

    return numba.types.void(), lower


one_by_one: Any = numba.extending.intrinsic(_one_by_one) if not numba.config.DISABLE_JIT else lambda: None
"""Has the piece that calls it work on one number at a time: where numbers are paired that do not stand side by side, changing places
costs more than it spares."""


def foreign(library: str, name: str, result: Any, *arguments: Any) -> Any:
    """A function of a library of the system for kernels to call by its name; None where there is no such library.

    Parameters
    ----------
    library, name : str
        The library's file, and the function in it.
    result, arguments : numba types
        Its signature.
    """
    try:
        llvmlite.binding.load_library_permanently(library)
    except RuntimeError:
        return None
    return numba.types.ExternalFunction(name, result(*arguments))
