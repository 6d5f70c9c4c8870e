"""A lighter way through the compiler, for processes that do nothing but compile the kernels.

Numba is made to compile one function at a time, whenever somebody calls it. Here all kernels are compiled in a row, and most
functions are pieces (:func:`tidal_lens.jit.piece`) that only kernels call. What is spared for that:

- A piece gets no machine code of its own: it is linked into the kernels that call it, and optimised there, once.
- A kernel is optimised once as a whole, without a cheap pass over the whole before. (Without the passes over each function
  before, gradients in double precision were a quarter slower: they stay.)
- What type a call of a built-in function has is asked about ten times for each call: asked once.
- What is alive where is worked out where it is asked for, and not after each of a dozen passes.
- Variables of an instruction are found, and options compared, with less looking round.
- Counting who holds an array takes only its one counter out of it: sizes, strides and data were taken out as well, to no end.
- Nobody listens to the compiler's events and notes, so none are told.

Nothing of this changes what kernels compute. It holds for one version of the compiler; with another all is compiled as usual.
"""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import tidal_lens.jit  # noqa: F401  (sets the compiler up, so before it is loaded)

# isort: split
import llvmlite
import numba
from llvmlite.binding import ffi
from numba import _dynfunc
from numba.core import ir, ssa
from numba.core.codegen import JITCodeLibrary
from numba.core.cpu import CPUContext
from numba.core.postproc import PostProcessor, VariableLifetime
from numba.core.runtime.context import NRTContext
from numba.core.targetconfig import ConfigStack, TargetConfig
from numba.core.transforms import canonicalize_cfg
from numba.core.typed_passes import BaseNativeLowering
from numba.core.types.functions import BaseFunction

_KNOWN = ("0.68.1", "0.50.0")  # of numba and llvmlite


def compile_lightly() -> bool:
    """Change the compiler in this process; before the first kernel is compiled.

    Returns
    -------
    bool
        Whether it was changed: False where the compiler is not the version that this was made for.
    """
    if (numba.__version__, llvmlite.__version__) != _KNOWN:
        return False
    _optimise_once()
    _pieces_without_code()
    _remember_call_types()
    _compare_options_quickly()
    _find_variables_quickly()
    _look_at_lives_when_asked()
    _count_holders_only()
    _tell_nobody()
    return True


def _optimise_once() -> None:
    def optimise(library: Any) -> None:
        if not getattr(library, "is_piece", False):
            passes, builder = library._codegen._module_pass_manager()
            passes.run(library._final_module, builder)

    JITCodeLibrary._optimize_final_module = optimise


def _pieces_without_code() -> None:
    lower, executable, finalise = BaseNativeLowering.run_pass, CPUContext.get_executable, JITCodeLibrary._finalize_final_module

    def lower_marked(self: Any, state: Any) -> Any:
        if state.library is None:
            state.library = state.targetctx.codegen().create_library(state.func_id.func_qualname)
            state.library.enable_object_caching()
        state.library.is_piece = bool(state.flags.no_cpython_wrapper)
        return lower(self, state)

    def executable_of_kernels(self: Any, library: Any, description: Any, environment: Any) -> Any:
        if not getattr(library, "is_piece", False):
            return executable(self, library, description, environment)
        library._ensure_finalized()
        name = description.qualname.split(".")[-1]
        return _dynfunc.make_function(description.lookup_module(), name, "A piece of kernels.", 0, environment, (library,))

    def finalise_kernels(library: Any) -> None:
        if not getattr(library, "is_piece", False):
            finalise(library)
            return
        library._finalize_dynamic_globals()
        library._finalized = True

    BaseNativeLowering.run_pass = lower_marked
    CPUContext.get_executable = executable_of_kernels
    JITCodeLibrary._finalize_final_module = finalise_kernels


def _remember_call_types() -> None:
    find = BaseFunction.get_call_type

    def get_call_type(self: Any, context: Any, args: Any, kws: Any) -> Any:
        known = self.__dict__.setdefault("_call_types", {})
        key = (context, tuple(args), tuple(kws.items()), ConfigStack.top_or_none())
        found = known.get(key)
        if found is None:
            found = find(self, context, args, kws)
            if found is not None and all(arg.is_precise() for arg in (*args, *kws.values())):
                known[key] = found
        return found

    base: Any = BaseFunction
    base.get_call_type = get_call_type


def _compare_options_quickly() -> None:
    def equal(self: Any, other: Any) -> Any:
        if self is other:
            return True
        if type(self) is not type(other):
            return NotImplemented
        mine, others = self._values, other._values
        return mine == others or all(getattr(self, name) == getattr(other, name) for name in mine.keys() | others.keys())

    options: Any = TargetConfig
    options.__eq__ = equal
    options.__hash__ = lambda self: hash(type(self))  # its own one knew no more: it was that of the options' names


def _look_at_lives_when_asked() -> None:
    whole = PostProcessor.run

    def run(self: Any, emit_dels: bool = False, extend_lifetimes: bool = False) -> None:
        code = self.func_ir
        if emit_dels or code.is_generator:
            whole(self, emit_dels, extend_lifetimes)
            return
        code.blocks = canonicalize_cfg(code.blocks)
        code.variable_lifetime = VariableLifetime(code.blocks)  # it works out what is asked of it
        code.generator_info = None

    base: Any = PostProcessor
    base.run = run


def _find_variables_quickly() -> None:
    plain = {str, int, float, bool, type(None), ir.Loc}

    def variables(self: Any, value: Any) -> Any:
        kind = type(value)
        if kind is ir.Var:
            return [value]
        if kind in plain:
            return ()
        if isinstance(value, ir.Inst):
            return value.list_vars()
        if isinstance(value, dict):
            value = value.values()
        elif not isinstance(value, list | tuple):
            return ()
        found: list[Any] = []
        for one in value:
            if type(one) is ir.Var:
                found.append(one)
            elif type(one) not in plain:
                found.extend(variables(self, one))
        return found

    ir.Inst._rec_list_vars = variables


def _count_holders_only() -> None:
    def counters(self: Any, builder: Any, kind: Any, value: Any) -> list[Any]:
        models = self._context.data_model_manager
        model = models[kind]
        found = [(kind, model.get_nrt_meminfo(builder, value))] if model.has_nrt_meminfo() else []
        for part, take in model.traverse(builder):
            if counts.get(part) is None:
                counts[part] = models[part].contains_nrt_meminfo()
            if counts[part]:
                found += counters(self, builder, part, take(value))
        return found

    counts: dict[Any, bool] = {}
    NRTContext.get_meminfos = counters


def _tell_nobody() -> None:
    notes: Any = ssa
    notes._logger = SimpleNamespace(debug=lambda *_: None, isEnabledFor=lambda _: False)  # asked for every statement
    ffi.lib._lock._cblist.clear()
