"""Files that differ in a number only: the moments of one run."""

from __future__ import annotations

import re
from pathlib import Path

_NUMBER = re.compile(r"\d+(?=\D*$)")
_MOST = 100_000


def siblings(path: Path) -> list[tuple[int, Path]]:
    """Files beside one that have the same name but for its last number, it included, in the order of the numbers.

    Parameters
    ----------
    path : Path
        A file such as ``flow_0010.vtu``.

    Returns
    -------
    list of (int, Path)
        Numbers and files; empty where the name has no number.
    """
    found = _NUMBER.search(path.stem)
    if found is None:
        return []
    pattern = re.compile(re.escape(path.stem[:found.start()]) + r"(\d+)" + re.escape(path.stem[found.end():] + path.suffix))
    matches: dict[int, Path] = {}
    try:
        for other in path.parent.iterdir():
            same = pattern.fullmatch(other.name)
            if same is not None and len(same.group(1)) <= 18 and other.is_file():
                matches.setdefault(int(same.group(1)), other)
                if len(matches) >= _MOST:
                    break
    except OSError:
        return []
    return sorted(matches.items())
