"""Modules of kernels are loaded when they are first used: the compiler's own modules take as long as a fifth of the window's start."""

from __future__ import annotations

import sys
import threading
from collections.abc import Sequence
from importlib.abc import Loader, MetaPathFinder
from importlib.machinery import ModuleSpec, PathFinder
from types import ModuleType
from typing import Any

_GATE = threading.RLock()


class _Late(ModuleType):
    """A module that is not loaded yet; the first look at what it holds loads it. Any thread may be the first."""

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):  # nobody asks for these to use a kernel
            raise AttributeError(name)
        with _GATE:  # others wait here until it is whole
            loader = self.__spec__.loader if self.__spec__ is not None else None
            if type(self) is _Late and isinstance(loader, _LateLoader):
                loader.load(self, name)
        return getattr(self, name)


class _LateLoader(Loader):
    def __init__(self, inner: Loader) -> None:
        self._inner, self._loading = inner, False

    def create_module(self, spec: ModuleSpec) -> ModuleType | None:
        return self._inner.create_module(spec)

    def exec_module(self, module: ModuleType) -> None:
        module.__class__ = _Late

    def load(self, module: ModuleType, name: str) -> None:
        """Run the module's own lines; in the midst of them it does not have a name that it does not have yet."""
        if self._loading:
            raise AttributeError(name)
        self._loading = True
        try:
            self._inner.exec_module(module)
            module.__class__ = ModuleType
        finally:
            self._loading = False

    def __getattr__(self, name: str) -> Any:  # sources and the like, for who shows or counts them
        return getattr(self._inner, name)


class _Finder(MetaPathFinder):
    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> ModuleSpec | None:
        if not (name.startswith("tidal_lens.") and name.endswith("kernels")):
            return None
        spec = PathFinder.find_spec(name, path, target)
        if spec is not None and spec.loader is not None:
            spec.loader = _LateLoader(spec.loader)
        return spec


def load_late() -> None:
    """From now on, modules of kernels are loaded when they are first used."""
    if not any(isinstance(one, _Finder) for one in sys.meta_path):
        sys.meta_path.insert(0, _Finder())
