"""Where the cases that come along are."""

from __future__ import annotations

from pathlib import Path

_ASSETS = Path(__file__).resolve().parent.parent / "assets"
FIRST = "kittiwake.vtm"


def demo_path(name: str = FIRST) -> Path:
    """The file of a case that comes along, by its name: its first word is its folder."""
    return _ASSETS / name.split(".")[0].split()[0] / name
