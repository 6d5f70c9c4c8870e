"""What the window's start does not need is loaded at its first use: kernels, for which the compiler must be loaded, and writers."""

from __future__ import annotations

import gc
import sys
import threading
from collections.abc import Sequence
from importlib.machinery import ModuleSpec, PathFinder
from types import ModuleType
from typing import Any

_GATE = threading.RLock()
_ROOMS = frozenset({"tidal_lens.cutting.outlines", "tidal_lens.formats.cgns_flow", "tidal_lens.formats.vtkhdf_write",
                    "tidal_lens.formats.vtk_xml_write"})


class _Late(ModuleType):
    """A module that is not loaded yet; the first look at what it holds loads it. Any thread may be the first."""

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):  # nobody asks for these to use what is in it
            raise AttributeError(name)
        with _GATE:  # others wait here until it is whole
            loader: Any = self.__spec__.loader if self.__spec__ is not None else None
            if isinstance(loader, _LateLoader):
                loader.load(self, name)
        return getattr(self, name)


class _LateLoader:  # without its abstract class, which takes as long to load as all of this spares
    def __init__(self, inner: Any) -> None:
        self._inner, self._loading = inner, False

    def create_module(self, spec: ModuleSpec) -> ModuleType | None:
        made: ModuleType | None = self._inner.create_module(spec)
        return made

    def exec_module(self, module: ModuleType) -> None:
        module.__class__ = _Late

    def load(self, module: ModuleType, name: str) -> None:
        """Run the module's own lines; in the midst of them it does not have a name that it does not have yet."""
        if self._loading:
            raise AttributeError(name)
        if not isinstance(module, _Late):  # another thread was first
            return
        self._loading, new = True, "numba" not in sys.modules
        collects = gc.isenabled()
        gc.disable()  # what is loaded stays; looking through it for garbage takes as long again
        try:
            self._inner.exec_module(module)
            object.__setattr__(module, "__class__", ModuleType)
            if new and "numba" in sys.modules:
                gc.freeze()
        finally:
            self._loading = False
            if collects:
                gc.enable()

    def __getattr__(self, name: str) -> Any:  # sources and the like, for who shows or counts them
        return getattr(self._inner, name)


class _Finder:
    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> ModuleSpec | None:
        if not (name in _ROOMS or (name.startswith("tidal_lens.") and name.endswith("kernels"))):
            return None
        spec = PathFinder.find_spec(name, path, target)
        if spec is not None and spec.loader is not None:
            spec.loader = _LateLoader(spec.loader)  # type: ignore[assignment]
        return spec


def load_late() -> None:
    """From now on, such modules are loaded when they are first used."""
    if not any(isinstance(one, _Finder) for one in sys.meta_path):
        sys.meta_path.insert(0, _Finder())
