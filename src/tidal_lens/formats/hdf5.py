"""Reading HDF5 with care: hard links only, no data kept elsewhere, and no more numbers than the file can hold."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.work import checkpoint

_SLAB = 1 << 25  # bytes read at a time
MAGIC = b"\x89HDF\r\n\x1a\n"
DAMAGED = "Write it again from the solver."
_MOST = 4_000_000_000  # numbers in one array that are believed
_MOST_PER_BYTE = 1200  # what the strongest compression can make of one byte, and then some


def open_hdf5(path: Path) -> Any:
    """An HDF5 file for reading.

    Raises
    ------
    FileError
        It is damaged or cannot be read.
    """
    import h5py  # loaded when first needed, not before the window is up

    try:
        return h5py.File(path, "r")
    except (OSError, RuntimeError, ValueError) as exc:
        raise FileError(f"The file is damaged or cut off: {_reason(exc)}.", str(path),
                        "Copy it again, or write it again from the solver.") from exc


def _reason(exc: BaseException) -> str:
    lines = str(exc).splitlines()
    return lines[0][:150] if lines else type(exc).__name__


def names(group: Any) -> list[str]:
    """Names of what a group holds.

    Raises
    ------
    FileError
        Its list is damaged.
    """
    try:
        return [str(name) for name in group]
    except (KeyError, OSError, RuntimeError, ValueError) as exc:
        raise FileError(f"The file is damaged: {_reason(exc)}.", "", "Copy it again, or write it again from the solver.") from exc


def member(group: Any, name: str) -> Any | None:
    """What a hard link of a group leads to; None where there is no such link, or it leads elsewhere or to damaged content."""
    import h5py

    if not name:
        return None
    try:
        if not isinstance(group, h5py.Group) or not isinstance(group.get(name, getlink=True), h5py.HardLink):
            return None
        return group[name]
    except (KeyError, OSError, RuntimeError, ValueError):
        return None


def subgroup(group: Any, name: str) -> Any | None:
    """A group in a group, or None."""
    import h5py

    found = member(group, name)
    return found if isinstance(found, h5py.Group) else None


def at_path(group: Any, path: str) -> Any | None:
    """What stands at a path of names, every link of which is hard; None where there is none."""
    found = group
    for name in path.strip("/").split("/"):
        found = member(found, name)
        if found is None:
            return None
    return found


def checked(data: Any, where: str, kinds: str = "iuf") -> Any:
    """A dataset whose content may be read.

    Parameters
    ----------
    data : object
        What was found in the file.
    where : str
        For messages.
    kinds : str
        Kinds of numbers that are accepted, as NumPy names them.

    Raises
    ------
    FileError
        It is no dataset, its numbers are of another kind, stand elsewhere, or are more than its bytes can hold.
    """
    import h5py

    if not isinstance(data, h5py.Dataset):
        raise FileError("An array is missing.", where, DAMAGED)
    try:
        kind, elsewhere, size = data.dtype.kind, bool(data.external) or data.is_virtual, int(data.size or 0)
        stored = int(data.id.get_storage_size())
    except (OSError, RuntimeError, TypeError, ValueError) as exc:
        raise FileError(f"An array cannot be read: {_reason(exc)}.", where, DAMAGED) from exc
    if kind not in kinds or elsewhere:
        raise FileError("An array is of a kind that is not read.", where, DAMAGED)
    if size > _MOST or size > stored * _MOST_PER_BYTE + 4096:
        raise FileError(f"An array declares {size:,} numbers, more than the file can hold.", where, DAMAGED)
    return data


def numbers(data: Any, where: str, part: Any = (), kinds: str = "iuf") -> NDArray[Any]:
    """Content of a dataset, or of a part of it, in the machine's byte order.

    Raises
    ------
    FileError
        It cannot be read.
    """
    source = checked(data, where, kinds)
    try:
        values = _in_slabs(source) if part == () and source.nbytes > _SLAB else source[part]
    except (OSError, RuntimeError, ValueError, TypeError) as exc:
        raise FileError(f"An array cannot be read, the file is damaged: {_reason(exc)}.", where, DAMAGED) from exc
    return np.asarray(values).astype(source.dtype.newbyteorder("="), copy=False)


def _in_slabs(source: Any) -> NDArray[Any]:
    """A long dataset, read so that it can be given up in between."""
    out = np.empty(source.shape, source.dtype)
    rows = max(1, _SLAB * source.shape[0] // source.nbytes)
    for begin in range(0, source.shape[0], rows):
        checkpoint()
        out[begin:begin + rows] = source[begin:begin + rows]
    return out


def some_numbers(node: Any, name: str) -> tuple[float, ...]:
    """A few numbers in an attribute; empty where there are none."""
    try:
        value = np.asarray(node.attrs[name])
    except (KeyError, OSError, RuntimeError, ValueError, TypeError):
        return ()
    return tuple(float(v) for v in value.ravel()) if value.dtype.kind in "iuf" and value.size <= 64 else ()


def text_of(node: Any, name: str) -> str:
    """A text in an attribute; empty where there is none."""
    try:
        value = node.attrs[name]
    except (KeyError, OSError, RuntimeError, ValueError, TypeError):
        return ""
    if isinstance(value, np.ndarray):
        value = value.ravel()[0] if value.size == 1 else b""
    raw = value.encode() if isinstance(value, str) else value
    return bytes(raw)[:4096].split(b"\0")[0].decode("utf-8", "replace").strip() if isinstance(raw, bytes | np.bytes_) else ""
