"""Legacy VTK files: one data set in text or in big-endian numbers.

The layout follows the published description of the simple legacy formats, versions 2 to 5.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field, Flow
from tidal_lens.formats.assemble import assemble_content
from tidal_lens.formats.cells import POLYGON, POLYHEDRON, Cells
from tidal_lens.formats.content import DAMAGED, Sheet, Solid, block_of_cells, finite_points, kept_field
from tidal_lens.formats.polyhedra import Faces
from tidal_lens.formats.reading import wants_quantity
from tidal_lens.formats.structured import Form, lattice_points, structured
from tidal_lens.work import Token

_TYPES = {"char": "i1", "unsigned_char": "u1", "signed_char": "i1", "short": "i2", "unsigned_short": "u2", "int": "i4",
          "unsigned_int": "u4", "long": "i8", "unsigned_long": "u8", "float": "f4", "double": "f8", "vtkidtype": "i4", "vtktypeint64": "i8",
          "vtktypeint32": "i4", "vtktypeuint8": "u1", "vtktypeuint64": "u8", "long_long": "i8"}
_WORD_LINE = re.compile(rb"\n[ \t]*(?!nan|inf|NaN|Inf|NAN|INF)[A-Za-z]")
_FORMS: dict[str, Form] = {"STRUCTURED_POINTS": "uniform", "RECTILINEAR_GRID": "rectilinear", "STRUCTURED_GRID": "curvilinear"}


def sniff(head: bytes) -> bool:
    """Whether the first bytes are those of a legacy VTK file."""
    return head.lstrip().lower().startswith(b"# vtk datafile")


def open_file(path: Path, token: Token, anyway: bool, step: int = 0) -> Flow:  # all readers are called alike
    """Read a legacy VTK file into a flow."""
    try:
        data = path.read_bytes()
    except OSError as exc:
        raise FileError(f"The file cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    token.check()
    content = _DataSet(_Reader(data, path.name)).content()
    solids = [Solid(path.stem, content.grid, content.points, content.fields, content.facts)] if isinstance(content, Solid) else []
    sheets = [(path.stem, content)] if isinstance(content, Sheet) else []
    return assemble_content(path, solids, sheets, [], anyway)


class _Reader:
    """Words and numbers one after another."""

    def __init__(self, data: bytes, where: str) -> None:
        self.data, self.where, self.at = data, where, 0
        self.line()
        self.line()
        mode = self.line().upper()
        if mode not in ("ASCII", "BINARY"):
            raise self.fail(f"It is neither ASCII nor BINARY but {mode[:20]!r}.")
        self.binary = mode == "BINARY"

    def fail(self, what: str) -> FileError:
        """An error about the file."""
        return FileError(what, self.where, DAMAGED)

    def line(self) -> str:
        """The rest of the present line."""
        end = self.data.find(b"\n", self.at)
        end = len(self.data) if end < 0 else end
        text = self.data[self.at:min(end, self.at + 4096)].decode("latin-1").strip()
        self.at = end + 1
        return text

    def words(self) -> list[str]:
        """Words of the next line that has any; empty at the end of the file."""
        while self.at < len(self.data):
            found = self.line().split()
            if found:
                return found
        return []

    def next_words(self) -> list[str]:
        """As :meth:`words`, but they stay to be read."""
        at = self.at
        found = self.words()
        self.at = at
        return found

    def numbers(self, count: int, kind: str) -> NDArray[Any]:
        """Numbers of a type as the file names it."""
        if kind.lower() == "bit":
            raise self.fail("Arrays of bits are not read.")
        code = _TYPES.get(kind.lower())
        if code is None or count < 0:
            raise self.fail(f"Numbers of type {kind!r} are not read.")
        dtype = np.dtype(code)
        if self.binary:
            if self.at + count * dtype.itemsize > len(self.data):
                raise self.fail(f"The file ends before {count:,} declared numbers: it was cut off.")
            values = np.frombuffer(self.data, dtype.newbyteorder(">"), count, self.at)
            self.at += count * dtype.itemsize
            return values.astype(dtype)
        return self._from_text(count, dtype)

    def _from_text(self, count: int, dtype: np.dtype[Any]) -> NDArray[Any]:
        if count > len(self.data):
            raise self.fail(f"The file ends before {count:,} declared numbers: it was cut off.")
        if count == 0:
            return np.empty(0, dtype)
        start = max(self.at - 1, 0)
        stop = _WORD_LINE.search(self.data, start)
        end = stop.start() if stop is not None else len(self.data)
        found = self.data[self.at:end].split()
        if len(found) > count:  # the next array has a name that looks like a number
            marks = [m.end() for _, m in zip(range(count), re.finditer(rb"\S+", self.data[self.at:end]), strict=False)]
            end = self.at + marks[-1]
            found = found[:count]
        if len(found) < count:
            raise self.fail(f"{len(found):,} numbers are there where {count:,} are declared: the file is cut off or damaged.")
        try:
            values = np.array(found, dtype=np.float64)
        except ValueError:
            raise self.fail("There is something that is no number among its numbers.") from None
        self.at = end
        if dtype.kind in "iu":
            if not (np.isfinite(values).all() and np.abs(values).max() < 2**53):
                raise self.fail("Whole numbers were expected.")
            return values.astype(np.int64)
        return values.astype(dtype)

    def whole(self, words: list[str], at: int) -> int:
        """A word as a whole number that the file could hold so many of."""
        try:
            value = int(words[at])
        except (IndexError, ValueError):
            raise self.fail(f"A number is missing in the line {' '.join(words)[:60]!r}.") from None
        if not 0 <= value <= len(self.data):
            raise self.fail(f"{value:,} things are declared, more than the file can hold.")
        return value


class _DataSet:
    """The one data set of a file."""

    def __init__(self, reader: _Reader) -> None:
        self.reader = reader
        words = reader.words()
        if len(words) < 2 or words[0].upper() != "DATASET":
            raise reader.fail("There is no data set in it.")
        self.kind = words[1].upper()
        self.dims: tuple[int, ...] = ()
        self.points: NDArray[np.float64] | None = None
        self.axes: dict[str, NDArray[np.float64]] = {}
        self.origin, self.spacing = np.zeros(3), np.ones(3)
        self.offsets: NDArray[np.int64] | None = None
        self.nodes: NDArray[np.int64] | None = None
        self.types: NDArray[Any] | None = None
        self.polygons: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None
        self.other_cells = 0
        self.fields: list[tuple[str, str, NDArray[Any]]] = []
        self.counts = {"node": 0, "cell": 0}
        self.facts: dict[str, Any] = {}
        self._read()

    def _read(self) -> None:
        reader, place = self.reader, ""
        while words := reader.words():
            word = words[0].upper()
            if word in ("POINT_DATA", "CELL_DATA"):
                place = "node" if word == "POINT_DATA" else "cell"
                self.counts[place] = reader.whole(words, 1)
            elif word == "METADATA":
                while reader.at < len(reader.data) and reader.line():
                    pass
            elif place or word == "FIELD":
                self._attribute(word, words, place)
            else:
                self._geometry(word, words)

    # -- shape -----------------------------------------------------------------------------------------------

    def _triple(self, words: list[str]) -> NDArray[np.float64]:
        try:
            values = np.array([float(w) for w in words[1:4]])
        except ValueError:
            values = np.empty(0)
        if values.shape != (3,) or not np.isfinite(values).all():
            raise self.reader.fail(f"Three numbers were expected in {' '.join(words)[:60]!r}.")
        return values

    def _geometry(self, word: str, words: list[str]) -> None:
        reader = self.reader
        if word == "DIMENSIONS":
            self.dims = tuple(reader.whole(words, n) for n in (1, 2, 3))
        elif word == "ORIGIN":
            self.origin = self._triple(words)
        elif word in ("SPACING", "ASPECT_RATIO"):
            self.spacing = self._triple(words)
        elif word == "POINTS":
            count = reader.whole(words, 1)
            self.points = reader.numbers(3 * count, self._type(words, 2)).reshape(-1, 3).astype(np.float64)
        elif word in ("X_COORDINATES", "Y_COORDINATES", "Z_COORDINATES"):
            self.axes[word[0]] = reader.numbers(reader.whole(words, 1), self._type(words, 2)).astype(np.float64)
        elif word == "CELLS":
            self.offsets, self.nodes = self._list(words)
        elif word == "CELL_TYPES":
            self.types = reader.numbers(reader.whole(words, 1), "int")
        elif word == "POLYGONS":
            self.polygons = self._list(words)
        elif word in ("VERTICES", "LINES", "TRIANGLE_STRIPS"):
            self.other_cells += len(self._list(words)[0]) - 1
        else:
            raise reader.fail(f"The word {word[:40]!r} is not known here.")

    def _type(self, words: list[str], at: int) -> str:
        if len(words) <= at:
            raise self.reader.fail(f"A type of numbers is missing in the line {' '.join(words)[:60]!r}.")
        return words[at]

    def _list(self, words: list[str]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Cells with offsets (version 5), or each behind its length."""
        reader = self.reader
        first, second = reader.whole(words, 1), reader.whole(words, 2)
        ahead = reader.next_words()
        if ahead and ahead[0].upper() == "OFFSETS":
            reader.words()
            offsets = reader.numbers(first, self._type(ahead, 1)).astype(np.int64)
            own = reader.words()
            if not own or own[0].upper() != "CONNECTIVITY":
                raise reader.fail("The connectivity of its cells is missing.")
            nodes = reader.numbers(second, self._type(own, 1)).astype(np.int64)
            return (offsets if len(offsets) else np.zeros(1, np.int64)), nodes
        flat = reader.numbers(second, "int").astype(np.int64)
        starts = np.empty(first + 1, np.int64)
        at, listed = 0, flat.tolist()
        for n in range(first):
            if at >= len(listed) or listed[at] < 0:
                raise reader.fail("The list of its cells ends too soon.")
            starts[n] = at
            at += 1 + listed[at]
        starts[first] = at
        if at != len(listed):
            raise reader.fail("The list of its cells makes no sense.")
        keep = np.ones(len(flat), dtype=bool)
        keep[starts[:-1]] = False
        return starts - np.arange(first + 1), flat[keep]

    # -- values ----------------------------------------------------------------------------------------------

    def _attribute(self, word: str, words: list[str], place: str) -> None:
        reader, count = self.reader, self.counts.get(place, 0)
        name = unquote(words[1])[:200] if len(words) > 1 else ""
        if word == "SCALARS":
            many = reader.whole(words, 3) if len(words) > 3 else 1
            if (ahead := reader.next_words()) and ahead[0].upper() == "LOOKUP_TABLE":
                reader.words()
            self._take(name, place, reader.numbers(count * many, self._type(words, 2)), count)
        elif word in ("VECTORS", "NORMALS"):
            self._take(name, place, reader.numbers(3 * count, self._type(words, 2)), count)
        elif word == "FIELD":
            for _ in range(reader.whole(words, 2)):
                self._field_array(place)
        else:
            self._pass_over(word, words, count)

    def _pass_over(self, word: str, words: list[str], count: int) -> None:
        """Attributes that are not kept."""
        reader = self.reader
        if word in ("TENSORS", "TENSORS6", "GLOBAL_IDS", "PEDIGREE_IDS"):
            reader.numbers({"TENSORS": 9, "TENSORS6": 6}.get(word, 1) * count, self._type(words, 2))
        elif word == "TEXTURE_COORDINATES":
            reader.numbers(reader.whole(words, 2) * count, self._type(words, 3))
        elif word in ("COLOR_SCALARS", "LOOKUP_TABLE"):
            many = reader.whole(words, 2) * (count if word == "COLOR_SCALARS" else 4)
            reader.numbers(many, "unsigned_char" if reader.binary else "float")
        else:
            raise reader.fail(f"The word {word[:40]!r} is not known here.")

    def _field_array(self, place: str) -> None:
        reader = self.reader
        words = reader.words()
        while words and words[0].upper() == "METADATA":
            while reader.at < len(reader.data) and reader.line():
                pass
            words = reader.words()
        if len(words) < 4:
            raise reader.fail("An array of a field is missing.")
        name, many, tuples = unquote(words[0])[:200], reader.whole(words, 1), reader.whole(words, 2)
        if words[3].lower() == "string":
            texts = [reader.line() for _ in range(many * tuples)]
            if not place and texts and not reader.binary:
                self.facts[name] = unquote(texts[0])
            return
        values = reader.numbers(many * tuples, words[3])
        if place:
            self._take(name, place, values, tuples)
        elif 0 < len(values) <= 16:
            self.facts[name] = tuple(float(v) for v in values)

    def _take(self, name: str, place: str, values: NDArray[Any], count: int) -> None:
        if count and (name == "vtkGhostType" or wants_quantity(name)):
            self.fields.append((name, place, values.reshape(count, -1)))

    # -- together --------------------------------------------------------------------------------------------

    def _fields(self, n_points: int, n_cells: int) -> tuple[list[Field], NDArray[np.bool_]]:
        keep = np.ones(n_cells, dtype=bool)
        out: list[Field] = []
        for name, place, values in self.fields:
            count = n_points if place == "node" else n_cells
            if name == "vtkGhostType":
                if place == "cell" and len(values) == n_cells:
                    keep = (values[:, 0].astype(np.int64) & 33) == 0
                continue
            found = kept_field(name, place, values, count, self.reader.where)
            if found is not None:
                out.append(found)
        return out, keep

    def content(self) -> Solid | Sheet | None:
        """The block or surface that it holds."""
        if self.kind in _FORMS:
            return self._structured()
        if self.kind == "UNSTRUCTURED_GRID":
            return self._unstructured()
        if self.kind == "POLYDATA":
            return self._surface()
        raise self.reader.fail(f"Data sets of type {self.kind[:40]} are not opened.")

    def _structured(self) -> Solid | Sheet | None:
        where = self.reader.where
        if len(self.dims) != 3 or min(self.dims) < 1:
            raise self.reader.fail("Its dimensions are missing.")
        if self.kind == "STRUCTURED_POINTS":
            if int(np.prod(self.dims)) > 64 * len(self.reader.data):
                raise self.reader.fail(f"{int(np.prod(self.dims)):,} points are declared, more than the file has values for.")
            points = lattice_points([o + s * np.arange(d) for o, s, d in zip(self.origin, self.spacing, self.dims, strict=True)])
        elif self.kind == "RECTILINEAR_GRID":
            axes = [self.axes.get(a, np.empty(0)) for a in "XYZ"]
            if tuple(len(a) for a in axes) != self.dims:
                raise self.reader.fail("Its coordinates do not fit its dimensions.")
            points = lattice_points(axes)
        else:
            points = np.empty((0, 3)) if self.points is None else self.points
        if len(points) != int(np.prod(self.dims)):
            raise self.reader.fail(f"{int(np.prod(self.dims)):,} points are declared, {len(points):,} are there.")
        n_cells = int(np.prod([max(d - 1, 1) for d in self.dims]))
        fields, own = self._fields(len(points), n_cells)
        i, j, k = self.dims
        return structured(finite_points(points, where), (i, j, k), _FORMS[self.kind], fields, own, self.facts, where)

    def _unstructured(self) -> Solid | Sheet | None:
        if self.points is None or self.offsets is None or self.nodes is None or self.types is None:
            raise self.reader.fail("Its points, cells or cell types are missing.")
        if len(self.types) != len(self.offsets) - 1:
            raise self.reader.fail(f"{len(self.offsets) - 1:,} cells have {len(self.types):,} types.")
        if len(self.types) and not 0 <= self.types.min() <= self.types.max() <= 255:
            raise self.reader.fail("Its cell types make no sense.")
        fields, keep = self._fields(len(self.points), len(self.types))
        offsets, nodes, faces = self.offsets, self.nodes, None
        if (self.types == POLYHEDRON).any():
            offsets, nodes, faces = self._polyhedra()
        cells = Cells(self.types.astype(np.uint8), offsets, nodes, faces)
        return block_of_cells(finite_points(self.points, self.reader.where), cells, fields, self.facts, self.reader.where, keep)

    def _polyhedra(self) -> tuple[NDArray[np.int64], NDArray[np.int64], Faces]:
        """Polyhedra are listed as the number of their faces and then each face behind its length."""
        assert self.types is not None
        assert self.offsets is not None
        assert self.nodes is not None
        owner: list[int] = []
        faces: list[list[int]] = []
        for cell in np.flatnonzero(self.types == POLYHEDRON):
            own = self.nodes[self.offsets[cell]:self.offsets[cell + 1]].tolist()
            at, many = 1, own[0] if own else 0
            for _ in range(many):
                size = own[at] if at < len(own) else -1
                if size < 3 or at + 1 + size > len(own):
                    raise self.reader.fail("The faces of its polyhedra make no sense.")
                owner.append(int(cell))
                faces.append(own[at + 1:at + 1 + size])
                at += 1 + size
        sizes = np.diff(self.offsets)
        plain = np.repeat(self.types != POLYHEDRON, sizes)
        sizes = np.where(self.types == POLYHEDRON, 0, sizes)
        lengths = np.array([len(f) for f in faces], np.int64)
        return (np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64), self.nodes[plain],
                Faces(np.array(owner, np.int64), np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64),
                      np.array([n for f in faces for n in f], np.int64)))

    def _surface(self) -> Sheet | None:
        if self.points is None or self.polygons is None:
            raise self.reader.fail("Its points or polygons are missing.")
        offsets, nodes = self.polygons
        sizes = np.diff(offsets)
        types = np.where(sizes == 3, 5, np.where(sizes == 4, 9, POLYGON)).astype(np.uint8)
        fields, keep = self._fields(len(self.points), len(types) + self.other_cells)
        if self.other_cells:
            fields, keep = [f for f in fields if f.place == "node"], np.ones(len(types), dtype=bool)
        found = block_of_cells(finite_points(self.points, self.reader.where), Cells(types, offsets, nodes), fields, self.facts,
                               self.reader.where, keep)
        return found if isinstance(found, Sheet) else None
