"""One VTK XML file: what it declares, and its arrays, each read and checked when it is asked for.

The layout follows the published description of the VTK XML formats: text, base64 or raw numbers, in blocks that may be compressed.
Only what is asked for is read. The file is not mapped: one that a solver makes shorter meanwhile ends in a message, not in a crash.
"""

from __future__ import annotations

import base64
import binascii
import lzma
import os
import re
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.parsers import expat

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.formats import unpacking_kernels
from tidal_lens.work import checkpoint, read_only, run_chunks

DAMAGED = "Copy it again, or write it again from the solver."
_ZLIB = "vtkZLibDataCompressor"
_UNLIKE = "is damaged or has another size than declared"
_BULK = 1 << 22  # bytes from which an array is read by several threads
_DTYPES = {"Int8": "i1", "UInt8": "u1", "Int16": "i2", "UInt16": "u2", "Int32": "i4", "UInt32": "u4", "Int64": "i8", "UInt64": "u8",
           "Float32": "f4", "Float64": "f8"}
_MOST_PER_BYTE = 1200  # what the strongest compression can make of one byte, and then some
_MOST_ELEMENTS = 2_000_000
_TAG_END = re.compile(rb"""(?:[^>"']|"[^"]*"|'[^']*')*>""")


@dataclass(frozen=True, eq=False)
class XmlArray:
    """An array as declared: where its content stands, and how it is written."""

    name: str
    kind: str
    components: int
    form: str
    place: tuple[int, int]
    tuples: int | None


@dataclass(eq=False)
class XmlPiece:
    """A piece: its attributes and, by section, its arrays."""

    attributes: dict[str, str]
    sections: dict[str, list[XmlArray]] = field(default_factory=dict)

    def first(self, section: str, name: str = "") -> XmlArray | None:
        """The array of a name in a section, or its first one."""
        return next((a for a in self.sections.get(section, []) if not name or a.name == name), None)


class _Disk:
    """Bytes of a file, read when they are asked for."""

    def __init__(self, path: Path) -> None:
        self._stream = path.open("rb")
        self.size = os.fstat(self._stream.fileno()).st_size

    def close(self) -> None:
        """Close the file."""
        self._stream.close()

    def __getitem__(self, part: slice) -> bytes:
        begin, end = part.start or 0, self.size if part.stop is None else part.stop
        parts: list[bytes] = []
        while begin < end:
            checkpoint()
            found = os.pread(self._stream.fileno(), min(end - begin, 1 << 26), begin)
            if not found:
                break
            parts.append(found)
            begin += len(found)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def bulk(self, begin: int, end: int) -> memoryview:
        """The same for many bytes: read by several threads, straight to where they stay; fewer where the file ends before."""
        out = np.empty(end - begin, np.uint8)
        short: list[int] = []

        def some(first: int, last: int) -> None:
            while first < last:
                found = os.preadv(self._stream.fileno(), [out.data[first:last]], begin + first)
                if not found:
                    short.append(first)
                    return
                first += found

        run_chunks(some, len(out), 1 << 23)
        out.flags.writeable = False
        return out.data[:min(short, default=len(out))]

    def find(self, text: bytes, begin: int = 0, end: int | None = None) -> int:
        """Where a text first stands, -1 where it does not."""
        at, stop = max(begin, 0), self.size if end is None else end
        while at < stop:
            piece = self[at:min(at + (1 << 22) + len(text), stop)]
            first = piece.find(text[:1])  # numbers written as text hold no "<": looking for one letter is ten times faster
            found = piece.find(text, first) if first >= 0 else -1
            if found >= 0:
                return at + found
            if len(piece) <= len(text):
                break
            at += 1 << 22
        return -1

    def last(self, text: bytes) -> int:
        """Where a text stands in the last few bytes, -1 where it does not."""
        begin = max(0, self.size - 4096)
        found = self[begin:self.size].rfind(text)
        return begin + found if found >= 0 else -1


class XmlFile:
    """A VTK XML file that holds data (not an index of others).

    Parameters
    ----------
    path : Path
        The file.
    kind : str
        Type of data set that it is.
    """

    def __init__(self, path: Path, kind: str) -> None:
        self.path, self.kind = path, kind
        self.attributes: dict[str, str] = {}
        self.header: dict[str, str] = {}
        self.pieces: list[XmlPiece] = []
        self.facts: list[XmlArray] = []
        try:
            self._disk = _Disk(path)
            self.size = self._disk.size
        except (OSError, ValueError) as exc:
            raise FileError(f"The file cannot be read: {exc}.", str(path), "Check its name and permissions.") from exc
        try:
            self._appended = self._find_appended()
            self._parse()
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> XmlFile:
        return self

    def __exit__(self, *_what: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file; arrays that were read stay."""
        self._disk.close()

    def fail(self, what: str, name: str = "") -> FileError:
        """An error about the file, or an array in it."""
        return FileError(what, f"{self.path.name}, {name}" if name else str(self.path), DAMAGED)

    # -- frame -----------------------------------------------------------------------------------------------

    def _find_appended(self) -> tuple[int, int] | None:
        """Where the appended numbers begin and end."""
        at = self._disk.find(b"<AppendedData")
        self._head = at if at >= 0 else self.size
        if at < 0:
            return None
        mark = self._disk.find(b"_", self._disk.find(b">", at))
        end = self._disk.last(b"</AppendedData")
        if mark < 0 or end < mark:
            raise self.fail("The file ends in the middle: it was cut off.")
        return mark + 1, end

    def _parse(self) -> None:
        head = self._head
        parser = expat.ParserCreate()
        parser.buffer_text = False
        state = _Frame(self, parser)
        parser.StartElementHandler = state.start
        parser.EndElementHandler = state.end
        parser.EntityDeclHandler = state.entity
        try:
            begin = 0
            while begin < head:
                checkpoint()
                piece = self._disk[begin:min(begin + (1 << 16), head)]
                parser.Parse(piece, False)
                begin += len(piece) or 1 << 16
                if state.open is not None and piece.rfind(b"<") < piece.rfind(b">") + 1:  # within numbers: the parser need not see them
                    end = self._disk.find(b"<", begin, head)
                    state.passed += max((end if end >= 0 else head) - begin, 0)
                    begin = end if end >= 0 else head
            if self._appended:
                parser.Parse(b"</VTKFile>", True)
            else:
                parser.Parse(b"", True)
        except (expat.ExpatError, ValueError) as exc:
            raise self.fail(f"The file is damaged: {exc}.") from exc

    # -- arrays ----------------------------------------------------------------------------------------------

    def read(self, array: XmlArray, count: int | None = None) -> NDArray[Any]:
        """Content of an array.

        Parameters
        ----------
        array : XmlArray
            One of the file's.
        count : int, optional
            Tuples that it must have.

        Returns
        -------
        ndarray, shape (tuples,) or (tuples, components)
            In the machine's byte order.

        Raises
        ------
        FileError
            Its content contradicts what is declared.
        """
        dtype = self._dtype(array)
        if array.form == "ascii":
            values = self._text(array, dtype)
        else:
            raw = self._bytes(array, None if count is None else count * array.components * dtype.itemsize)
            if len(raw) % dtype.itemsize:
                raise self.fail("An array ends in the middle of a number.", array.name)
            values = np.frombuffer(raw, dtype).astype(dtype.newbyteorder("="), copy=False)
        if len(values) % array.components or (count is not None and len(values) != count * array.components):
            many = "" if count is None else f" where {count * array.components:,} belong"
            raise self.fail(f"{len(values):,} numbers are there{many}.", array.name)
        return values if array.components == 1 else values.reshape(-1, array.components)

    def _dtype(self, array: XmlArray) -> np.dtype[Any]:
        if array.kind not in _DTYPES:
            raise self.fail(f"Numbers of type {array.kind[:20]!r} are not read.", array.name)
        order = ">" if self.header.get("byte_order") == "BigEndian" else "<"
        return np.dtype(order + _DTYPES[array.kind])

    def _text(self, array: XmlArray, dtype: np.dtype[Any]) -> NDArray[Any]:
        try:
            values = np.array(self._disk[array.place[0]:array.place[1]].split(), dtype=np.float64)
        except ValueError:
            raise self.fail("There is something that is no number among its numbers.", array.name) from None
        if dtype.kind in "iu":
            if len(values) and not (np.isfinite(values).all() and np.abs(values).max() < 2**53):
                raise self.fail("Whole numbers were expected.", array.name)
            return values.astype(np.int64)
        with np.errstate(over="ignore"):
            return values.astype(dtype.newbyteorder("="))

    def _bytes(self, array: XmlArray, expected: int | None) -> Any:
        """The bytes of an array, decoded and uncompressed."""
        if array.form == "appended":
            if self._appended is None:
                raise self.fail("Its numbers are said to be appended, but nothing is.", array.name)
            begin, end = self._appended[0] + array.place[0], self._appended[1]
            if not self._appended[0] <= begin < end:
                raise self.fail("An array begins beyond the end of the file: it was cut off.", array.name)
            raw = self.header.get("encoding", "base64") == "raw"
        else:
            begin, end, raw = *array.place, False
        source = _Raw(self._disk, begin, end) if raw else _Base64(self._disk, begin, end)
        width = "<u8" if self.header.get("header_type") == "UInt64" else "<u4"
        if self.header.get("byte_order") == "BigEndian":
            width = width.replace("<", ">")
        try:
            return self._uncompressed(array, source, np.dtype(width), expected) if self.header.get("compressor") else self._plain(
                array, source, np.dtype(width), expected)
        except (zlib.error, lzma.LZMAError, binascii.Error, ValueError, OverflowError, MemoryError) as exc:
            raise self.fail(f"Its numbers cannot be unpacked: {str(exc)[:100] or type(exc).__name__}.", array.name) from exc

    def _plain(self, array: XmlArray, source: _Raw | _Base64, width: np.dtype[Any], expected: int | None) -> Any:
        size = int(np.frombuffer(source.take(width.itemsize, together=True), width)[0])
        if size > self.size or (expected is not None and size != expected):
            raise self.fail(f"{size:,} bytes are declared{'' if expected is None else f' where {expected:,} belong'}.", array.name)
        return source.take(size, after=width.itemsize)

    def _uncompressed(self, array: XmlArray, source: _Raw | _Base64, width: np.dtype[Any], expected: int | None) -> Any:
        first = np.frombuffer(source.take(3 * width.itemsize, peek=True), width)
        blocks, size, last = (int(n) for n in first)
        if blocks == 0:
            return b""
        whole = (blocks - 1) * size + (last or size)
        if blocks * width.itemsize > self.size or size > 1 << 31 or whole > self.size * _MOST_PER_BYTE or (
                expected is not None and whole != expected):
            raise self.fail(f"{whole:,} bytes are declared{'' if expected is None else f' where {expected:,} belong'}.", array.name)
        sizes = np.frombuffer(source.take((3 + blocks) * width.itemsize), width)[3:].astype(np.int64)
        if int(sizes.sum()) > self.size:
            raise self.fail("Its compressed blocks are larger than the file.", array.name)
        data = source.run(int(sizes.sum()))
        out = np.empty(whole, np.uint8)
        name = self.header["compressor"]
        unpack = _unpacker(name)
        if unpack is None:
            raise self.fail(f"It is compressed by {name[:40]!r}, which is not known.", array.name)
        begins = np.concatenate([[0], np.cumsum(sizes)])

        def some(first: int, end: int) -> None:
            packed = np.frombuffer(data(int(begins[first]), int(begins[end])), np.uint8)
            if name == _ZLIB and unpacking_kernels.READY:
                if unpacking_kernels.unpack_zlib(read_only(packed), begins, size, out, first, end) >= 0:
                    raise self.fail(f"A compressed block {_UNLIKE}.", array.name)
                return
            for n in range(first, end):
                to = out[n * size:(n + 1) * size]
                piece = unpack(packed[begins[n] - begins[first]:begins[n + 1] - begins[first]], len(to))
                if len(piece) != len(to):
                    raise self.fail(f"A compressed block {_UNLIKE}.", array.name)
                to[:] = np.frombuffer(piece, np.uint8)

        run_chunks(some, blocks, max(1, (1 << 21) // max(size, 1)))
        return out

    def texts(self, array: XmlArray) -> str:
        """The first text of an array of texts; empty where there is none."""
        if array.form != "ascii":
            raw = bytes(self._bytes(array, None)[:4096])
        else:
            try:
                raw = bytes(int(c) for c in self._disk[array.place[0]:min(array.place[1], array.place[0] + 4096)].split())
            except ValueError:
                return ""
        return raw.split(b"\0")[0].decode("utf-8", "replace")


class _Frame:
    """Takes the elements of a file down."""

    def __init__(self, file: XmlFile, parser: Any) -> None:
        self.file, self.parser = file, parser
        self.path: list[str] = []
        self.count = self.passed = 0  # bytes that the parser was not given
        self.open: tuple[dict[str, str], int] | None = None

    def entity(self, *_what: object) -> None:
        raise self.file.fail("The file defines XML entities, which are not read.")

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        file = self.file
        self.count += 1
        if self.count > _MOST_ELEMENTS or len(self.path) > 40:
            raise file.fail("It has more elements than are believed.")
        if tag == "VTKFile":
            file.header.update(attributes)
            if file._appended is not None:
                found = re.search(rb"encoding\s*=\s*[\"'](\w+)", file._disk[file._head:file._head + 200])
                file.header["encoding"] = found.group(1).decode() if found else "base64"
        elif tag == file.kind:
            file.attributes.update(attributes)
        elif tag == "Piece":
            file.pieces.append(XmlPiece(attributes))
        elif tag in ("DataArray", "Array"):
            self.open = attributes, self._content_begin()
        self.path.append(tag)

    def _content_begin(self) -> int:
        at = int(self.parser.CurrentByteIndex) + self.passed
        found = _TAG_END.match(self.file._disk[at:at + 65536])
        return at + found.end() if found is not None else at

    def end(self, tag: str) -> None:
        self.path.pop()
        if tag not in ("DataArray", "Array") or self.open is None:
            return
        attributes, begin = self.open
        self.open = None
        section = self.path[-1] if self.path else ""
        array = self._array(attributes, begin)
        if array is None:
            return
        if section == "FieldData":
            self.file.facts.append(array)
        elif self.file.pieces and "Piece" in self.path:
            self.file.pieces[-1].sections.setdefault(section, []).append(array)

    def _array(self, attributes: dict[str, str], begin: int) -> XmlArray | None:
        file = self.file
        form = attributes.get("format", "ascii").lower()
        try:
            components = int(attributes.get("NumberOfComponents") or 1)
            tuples = int(attributes["NumberOfTuples"]) if attributes.get("NumberOfTuples") else None
            offset = int(attributes.get("offset") or 0)
        except ValueError:
            raise file.fail("An array declares something that is no number.", attributes.get("Name", "")) from None
        if form not in ("ascii", "binary", "appended") or not 1 <= components <= 1000 or offset < 0:
            raise file.fail("An array declares what makes no sense.", attributes.get("Name", ""))
        end = int(self.parser.CurrentByteIndex) + self.passed
        if form != "appended":
            inner = file._disk.find(b"<", begin, end)  # keys that a writer keeps with an array come after its numbers
            end = inner if inner >= 0 else end
        place = (offset, 0) if form == "appended" else (begin, max(end, begin))
        return XmlArray(attributes.get("Name", ""), attributes.get("type", ""), components, form, place, tuples)


class _Raw:
    """Bytes as they are."""

    def __init__(self, data: _Disk, begin: int, end: int) -> None:
        self._data, self._at, self._end = data, begin, end

    def take(self, size: int, *, peek: bool = False, together: bool = False, after: int = 0) -> bytes | memoryview:
        """The next bytes."""
        if size < 0 or self._at + size > self._end:
            raise ValueError("the file ends before its numbers do")
        found = self._data[self._at:self._at + size] if size < _BULK else self._data.bulk(self._at, self._at + size)
        if len(found) < size:
            raise ValueError("the file became shorter while it was read")
        if not peek:
            self._at += size
        return found

    def run(self, size: int) -> Callable[[int, int], bytes | memoryview]:
        """The rest of a run of bytes; a part of it is given when it is asked for, from several threads too."""
        data = self.take(size)
        return lambda begin, end: data[begin:end]


class _Base64:
    """Bytes written as text: each run of them is padded on its own."""

    def __init__(self, data: _Disk, begin: int, end: int) -> None:
        head = data[begin:min(begin + 65536, end)]
        begin += len(head) - len(head.lstrip())
        self._data, self._at, self._end = data, begin, end

    def take(self, size: int, *, peek: bool = False, together: bool = False, after: int = 0) -> bytes:
        """The next bytes.

        Parameters
        ----------
        size : int
            How many.
        peek, together : bool
            They stay to be read; ``together`` they are in one run with those that follow.
        after : int
            Bytes of the same run that were taken before.
        """
        letters = -(-(size + after) // 3) * 4
        if size < 0 or self._at + letters > self._end + 3:
            raise ValueError("the file ends before its numbers do")
        text = self._data[self._at:min(self._at + letters, self._end)]
        if peek or together:
            text = text[: len(text) // 4 * 4]
        found = base64.b64decode(text)
        if len(found) < size + after:
            raise ValueError("the file ends before its numbers do")
        if not (peek or together):
            self._at += letters
        return found[after:after + size]

    def run(self, size: int) -> Callable[[int, int], bytes | memoryview]:
        """The rest of a run of bytes; a part of it is decoded when it is asked for, from several threads too."""
        letters = -(-size // 3) * 4
        if size < 0 or self._at + letters > self._end + 3:
            raise ValueError("the file ends before its numbers do")
        text = memoryview(self._data[self._at:min(self._at + letters, self._end)])
        self._at += letters

        def part(begin: int, end: int) -> bytes:
            first = begin // 3
            found = binascii.a2b_base64(text[4 * first:-(-end // 3) * 4])[begin - 3 * first:end - 3 * first]
            if len(found) < end - begin:
                raise ValueError("the file ends before its numbers do")
            return found

        return part


def _unpack_zlib(data: Any, size: int) -> bytes:
    tool = zlib.decompressobj()
    out = tool.decompress(data, max(size, 1))
    more = b"" if tool.eof else tool.decompress(tool.unconsumed_tail, 1)  # its checksum comes after the last number
    return out if tool.eof and not more else b""


def _unpacker(name: str) -> Callable[[Any, int], Any] | None:
    if name == _ZLIB:
        return _unpack_zlib
    if name == "vtkLZMADataCompressor":
        return lambda data, size: lzma.LZMADecompressor(memlimit=1 << 30).decompress(bytes(data), max(size, 1))
    if name == "vtkLZ4DataCompressor":
        from vtkmodules.vtkIOCore import vtkLZ4DataCompressor

        def unpack(data: Any, size: int) -> Any:
            tool = vtkLZ4DataCompressor()  # one a call: several threads unpack at a time
            out = np.empty(size, np.uint8)
            source = np.frombuffer(data, np.uint8)
            done = tool.Uncompress(source, len(source), out, size)  # type: ignore[call-overload]  # it takes arrays as well
            return out if int(done) == size else b""

        return unpack
    return None
