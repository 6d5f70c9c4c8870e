"""The results that a file belongs to: an index beside it, or above it, that names it."""

from __future__ import annotations

from pathlib import Path

_SUFFIXES = frozenset({".vtm", ".pvd", ".pvtu", ".pvts", ".pvtr", ".pvti", ".pvtp", ".vtpd", ".vtpc", ".xdmf", ".xmf"})
_LARGEST, _MOST, _LEVELS = 4_000_000, 200, 3


def results_of(path: Path) -> list[Path]:
    """Indexes that name a file, the nearest first; none for an index that no other names.

    Looked for beside the file and in the two folders above it, among files of no more than 4 MB.
    """
    found: list[Path] = []
    name = path.name.encode()
    folder = path.resolve().parent
    for _ in range(_LEVELS):
        try:
            near = sorted(p for p in folder.iterdir() if p.suffix.lower() in _SUFFIXES and p.name != path.name)[:_MOST]
            found += [p for p in near if p.stat().st_size <= _LARGEST and _names(p, name)]
        except OSError:
            break
        if folder.parent == folder:
            break
        folder = folder.parent
    return found


def _names(index: Path, name: bytes) -> bool:
    """Whether the text of an index holds a file's name as a whole."""
    text = index.read_bytes()
    at = text.find(name)
    while at >= 0:
        before, after = text[at - 1:at], text[at + len(name):at + len(name) + 1]
        if (before in (b"/", b'"', b"'", b">") and after in (b'"', b"'", b":", b"<")) or (before in (b" ", b"\n", b"\t") and after == b":"):
            return True
        at = text.find(name, at + 1)
    return False
