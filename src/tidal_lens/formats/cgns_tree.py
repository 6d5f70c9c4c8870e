"""The tree of nodes that a CGNS file is, over HDF5, and the links between files.

CGNS, the standard interface data structures, and its mapping to HDF5: cgns.org.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.formats.hdf5 import DAMAGED, at_path, checked, member, names, numbers, open_hdf5, subgroup, text_of

_LINK = "LK"


class Tree:
    """The nodes of a file and of those it links to."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._folder = path.parent.resolve()
        self._open = contextlib.ExitStack()
        self._files: dict[Path, Any] = {}
        self._unfollowed: FileError | None = None
        self._listed: dict[Any, list[tuple[str, Any, str]]] = {}
        self.elsewhere: set[str] = set()
        self.root = self._file(path.resolve())

    def __enter__(self) -> Tree:
        return self

    def __exit__(self, *_what: object) -> None:
        self._open.close()

    def _file(self, path: Path) -> Any:
        if path not in self._files:
            try:
                self._files[path] = self._open.enter_context(open_hdf5(path))
            except FileError:
                self._open.close()
                raise
        return self._files[path]

    def fail(self, what: str, node: Any) -> FileError:
        """An error about a node."""
        return FileError(what, f"{self.path.name}, {getattr(node, 'name', '')}", DAMAGED)

    def _below(self, node: Any) -> list[tuple[str, Any, str]]:
        """Name, node and label of all below another, each read once; links have no label."""
        try:
            found = self._listed.get(node)
        except TypeError as why:  # the library knows no number of a node whose head is damaged
            raise self.fail("A node of it is damaged.", self.root) from why
        if found is None:
            below = ((name, child) for name in names(node) if not name.startswith(" ") and (child := subgroup(node, name)) is not None)
            found = [(name, child, _LINK if text_of(child, "type") == _LINK else text_of(child, "label")) for name, child in below]
            self._listed[node] = found
        return found

    def own(self, node: Any, label: str) -> list[Any]:
        """Nodes below another that carry a label and stand in the same file."""
        return [child for _, child, own in self._below(node) if own == label]

    def children(self, node: Any, label: str) -> Iterator[tuple[str, Any]]:
        """Nodes below another that carry a label; linked ones come last, and those that lead nowhere are left out.

        Links named in ``elsewhere`` are not followed: they are other moments, in files that need not be opened.
        """
        yield from ((name, child) for name, child, own in self._below(node) if own == label)
        for name, child, own in self._below(node):
            if own != _LINK or name in self.elsewhere:
                continue
            try:
                target = self._resolved(child, 0)
            except FileError as error:
                self._unfollowed = error
                continue
            if text_of(target, "label") == label:
                yield name, target

    def first(self, node: Any, label: str) -> Any | None:
        """The first node below another that carries a label, or None."""
        found = next(self.children(node, label), None)
        return None if found is None else found[1]

    def named(self, node: Any, name: str) -> Any | None:
        """The node of a name below another, links resolved; None where there is none."""
        child = None if "/" in name or name.startswith(".") else subgroup(node, name)
        return None if child is None else self._resolved(child, 0)

    def _resolved(self, node: Any, depth: int) -> Any:
        if text_of(node, "type") != _LINK:
            return node
        if depth > 8:
            raise self.fail("Its links go round in a circle.", node)
        file, path = (bytes(self._dataset(node, what)[:4096].astype(np.int8)).split(b"\0")[0].decode("utf-8", "replace")
                      for what in (" file", " path"))
        holder = self.root
        if file:
            there = (self._folder / file).resolve()
            if not there.is_relative_to(self._folder):
                raise FileError(f"It links to {file}, outside its own folder.", str(self.path), "Put the linked files beside it.")
            if not there.is_file():
                raise FileError(f"The linked file {file} does not exist.", str(self.path), "Copy the whole folder.")
            holder = self._file(there)
        holder = at_path(holder, path)
        if holder is None:
            raise self.fail(f"The link to {path} leads nowhere.", node)
        return self._resolved(holder, depth + 1)

    def only(self, node: Any, label: str, what: str) -> Any:
        """The first node below that carries a label."""
        self._unfollowed = None
        found = self.first(node, label)
        if found is None:
            self._tell_unfollowed()
            raise self.fail(f"There is no {what} ({label}) in it.", node)
        return found

    def _tell_unfollowed(self) -> None:
        if self._unfollowed is not None:
            raise self._unfollowed

    def _dataset(self, node: Any, name: str = " data") -> Any:
        return checked(member(node, name), f"{self.path.name}, {getattr(node, 'name', '')}", "iufS")

    def has_data(self, node: Any) -> bool:
        """Whether a node holds data."""
        return member(node, " data") is not None

    def numbers(self, node: Any) -> NDArray[Any]:
        """The data of a node, in the machine's byte order."""
        return numbers(member(node, " data"), f"{self.path.name}, {getattr(node, 'name', '')}", kinds="iufS")

    def integers(self, node: Any) -> list[int]:
        """Some whole numbers."""
        values = self.numbers(node).ravel()
        if values.size > 64 or values.dtype.kind not in "iu":
            raise self.fail("Whole numbers were expected.", node)
        return [int(v) for v in values]

    def word(self, node: Any) -> str:
        """The data of a node as text."""
        values = self.numbers(node)
        return bytes(values.ravel()[:1024].astype(np.int8)).split(b"\0")[0].decode("utf-8", "replace").strip()
