"""VTK XML files: image, rectilinear, structured, unstructured; in pieces, as multi-block and partitioned sets, as time series.

Nothing in a file is trusted: its frame is checked before the library sees it, and its content afterwards. The linked
files of an index are followed here, never by the library, and only inside the index's own folder.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from xml.etree import ElementTree as ET

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Flow
from tidal_lens.formats.assemble import Part, assemble
from tidal_lens.formats.reading import MissingMomentError, wants_block
from tidal_lens.formats.vtk_xml_data import Vertices, read_data, read_vertices
from tidal_lens.formats.vtk_xml_file import DAMAGED
from tidal_lens.formats.xml_safe import linked_file, parse_xml
from tidal_lens.work import Token, in_turn

_READERS = ("ImageData", "RectilinearGrid", "StructuredGrid", "UnstructuredGrid", "PolyData")
_PIECES = tuple(f"P{kind}" for kind in _READERS)
_SETS = ("vtkMultiBlockDataSet", "vtkPartitionedDataSetCollection", "vtkPartitionedDataSet")
_PARTITIONED = ("Partitions", "vtkPartitionedDataSet")
_SERIES = "Collection"
_INDEXES = (*_PIECES, *_SETS, _SERIES)
_KIND = re.compile(rb"<VTKFile[^>]*?\btype\s*=\s*[\"'](\w+)[\"']")


def sniff(head: bytes) -> bool:
    """Whether the first bytes are those of a VTK XML file."""
    return b"<VTKFile" in head


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:
    """Read a VTK XML file, or a step of a time series, into a flow."""
    if _checked_kind(path) != _SERIES:
        return assemble(path, _parts_of(path, path.stem, "", token), anyway)
    times, moments = _moments(path)
    step = min(step, len(times) - 1)
    if not any(file.is_file() for _, file in moments[step]):
        raise MissingMomentError(f"The file of t = {times[step]:.9g}, {moments[step][0][1].name}, is missing.", str(path),
                                 "Copy the whole folder, or go on to another step.")
    parts: list[Part] = []
    for number, (name, file) in enumerate(moments[step]):
        if not file.is_file():
            parts.append(_missing(file, path))
            continue
        if _checked_kind(file) == _SERIES:
            raise FileError("A time series inside a time series is not followed.", f"{path.name} → {file.name}",
                            "Open the inner file by itself.")
        parts += _parts_of(file, name or file.stem, "", token)
        token.report((number + 1) / len(moments[step]))
    return assemble(path, parts, anyway, (times, step))


def collection(path: Path) -> list[tuple[float, Path]]:
    """Times and first files of a collection.

    Raises
    ------
    FileError
        It is damaged, or names no files.
    """
    times, moments = _moments(path)
    return [(time, files[0][1]) for time, files in zip(times, moments, strict=True)]


def point_pieces(path: Path) -> list[Vertices]:
    """Points with values of a file of particles, whole or in pieces.

    Raises
    ------
    FileError
        It is damaged, or is of another kind.
    """
    kind = _checked_kind(path)
    if kind in _READERS:
        return read_vertices(path, kind)
    if kind not in _PIECES:
        raise FileError(f"Particles are not read from a file of type {kind}.", str(path), "Open one of the files that it names.")
    return [v for piece in _pieces(path, kind) if piece.is_file() and _checked_kind(piece) in _READERS
            for v in read_vertices(piece, _checked_kind(piece))]


def _missing(file: Path, index: Path) -> Part:
    return Part(file.stem, "", None, lost=f"{file.name} is missing and was left out, though {index.name} names it.")


def times_of(path: Path) -> tuple[float, ...]:
    """Times of a collection, without reading any of its files; empty for another kind of file.

    Raises
    ------
    FileError
        The file is damaged.
    """
    return _moments(path)[0] if _checked_kind(path) == _SERIES else ()


def _parts_of(path: Path, name: str, group: str, token: Token, *, inside: bool = False) -> list[Part]:
    """The data sets of a file, those it links to one after another."""
    kind = _checked_kind(path)
    parts: list[Part] = []
    if kind in _READERS:
        return _read(path, kind, name, group)
    if kind in _SETS or kind == _SERIES:
        if inside:
            raise FileError("An index of files inside an index is not followed.", path.name, "Open the inner file by itself.")
        leaves = _leaves(path, kind)
        there = [leaf.file.is_file() for leaf in leaves]
        if not any(there):
            raise FileError(f"None of the {len(leaves)} files that it names is there, not even {leaves[0].file.name}.", str(path),
                            "Copy the whole folder, not the index alone.")
        for number, leaf in enumerate(leaves):
            if not there[number]:
                parts.append(_missing(leaf.file, path))
            elif wants_block(leaf.name or leaf.group or leaf.file.stem):
                found = _parts_of(leaf.file, leaf.name, leaf.group, token, inside=True)
                parts += [replace(part, whole=leaf.group or name) for part in found] if leaf.piece else found
            token.check()
            token.report((number + 1) / len(leaves))
        return parts
    return _of_pieces(path, kind, name, group, token, inside=inside)


def _of_pieces(path: Path, kind: str, name: str, group: str, token: Token, *, inside: bool) -> list[Part]:
    listed = _pieces(path, kind)
    pieces = [piece for piece in listed if piece.is_file()]
    if not pieces:
        raise FileError(f"None of the {len(listed)} pieces that it names is there, not even {listed[0].name}.", str(path),
                        "Copy the whole folder, not the index alone.")
    parts = [_missing(piece, path) for piece in listed if not piece.is_file()]

    def read(number: int) -> list[Part]:
        token.check()
        piece = pieces[number]
        inner = _checked_kind(piece)
        if inner != kind[1:]:
            raise FileError(f"A piece of {kind} holds {inner}.", f"{path.name} → {piece.name}", DAMAGED)
        return _read(piece, inner, f"{name} {number + 1}" if len(pieces) > 1 else name, group or name, name)

    for number, own in enumerate(in_turn(read, len(pieces))):
        parts += own
        if not inside:
            token.report((number + 1) / len(pieces))
    return parts


def _read(path: Path, kind: str, name: str, group: str, whole: str = "") -> list[Part]:
    contents = read_data(path, kind)
    return [Part(f"{name} {n + 1}" if len(contents) > 1 else name, group, content, whole or name) for n, content in enumerate(contents)]


def _checked_kind(path: Path) -> str:
    try:
        size = path.stat().st_size
        with path.open("rb") as stream:
            head = stream.read(65536)
            stream.seek(max(0, size - 256))
            tail = stream.read()
    except OSError as exc:
        raise FileError(f"The file cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    found = _KIND.search(head)
    if found is None:
        raise FileError("This is not a VTK XML file.", str(path), DAMAGED)
    if b"</VTKFile>" not in tail:
        raise FileError("The file ends in the middle: it was cut off.", str(path), DAMAGED)
    kind = found.group(1).decode()
    if kind not in _READERS and kind not in _INDEXES:
        raise FileError(f"VTK XML files of type {kind} are not opened.", str(path),
                        f"It opens {', '.join(_READERS)}, in one or many pieces, multi-block files and collections.")
    return kind


@dataclass(frozen=True)
class _Leaf:
    name: str
    group: str
    file: Path
    piece: bool


def _index(path: Path, kind: str) -> ET.Element:
    """The element that lists an index's files."""
    found = parse_xml(path, 50_000_000).find(kind)
    if found is None:
        raise FileError("The index names no files.", str(path), DAMAGED)
    return found


def _leaves(path: Path, kind: str) -> list[_Leaf]:
    found = list(_visit(_index(path, kind), "", 0, path))
    if not found:
        raise FileError("The index names no files.", str(path), DAMAGED)
    return found


def _pieces(path: Path, kind: str) -> list[Path]:
    found = [linked_file(str(e.get("Source")), path, must_exist=False) for e in _index(path, kind).iter("Piece") if e.get("Source")]
    if not found:
        raise FileError("The index names no pieces.", str(path), DAMAGED)
    return found


def _moments(path: Path) -> tuple[tuple[float, ...], list[list[tuple[str, Path]]]]:
    """Times of a collection, in order, and the named files of each; whether they are there is seen when they are read."""
    by_time: dict[float, list[tuple[str, Path]]] = {}
    for element in _index(path, _SERIES).iter("DataSet"):
        link = element.get("file")
        if not link:
            continue
        try:
            time = float(element.get("timestep") or 0.0)
        except ValueError:
            raise FileError(f"A time in the index is no number: {element.get('timestep')!r}.", str(path), DAMAGED) from None
        if not math.isfinite(time):
            raise FileError("A time in the index is not finite.", str(path), DAMAGED)
        by_time.setdefault(time, []).append((element.get("name") or "", linked_file(link, path, must_exist=False)))
    if not by_time:
        raise FileError("The index names no files.", str(path), DAMAGED)
    times = tuple(sorted(by_time))
    return times, [by_time[t] for t in times]


def _visit(element: ET.Element, group: str, depth: int, path: Path) -> Iterator[_Leaf]:
    if depth > 30:
        raise FileError("The blocks are nested more than 30 deep.", str(path), DAMAGED)
    for child in element:
        name = child.get("name") or ""
        if child.tag in ("Block", "Piece", "Partitions"):
            yield from _visit(child, name or group, depth + 1, path)
        elif child.tag == "DataSet" and child.get("file"):
            yield _Leaf(name, group, linked_file(str(child.get("file")), path, must_exist=False), element.tag in _PARTITIONED)
