"""Colours by role, of both themes."""

from __future__ import annotations

from dataclasses import dataclass

from tidal_lens.scene.palettes import parse


@dataclass(frozen=True)
class Theme:
    """Colours (``#RRGGBB``) by role."""

    name: str
    paper: str
    panel: str
    line: str
    ink: str
    soft: str
    sea: str
    shoal: str
    magenta: str
    amber: str
    red: str
    ground: str
    on_sea: str


CHART = Theme("chart", "#F6F2E9", "#FBF9F4", "#D9D2C3", "#1F2A33", "#5B6770", "#0E6E7E", "#CFE3E4", "#B0246B", "#9A6200",
              "#B3261E", "#E9EFEF", "#FFFFFF")
NIGHT = Theme("night", "#10181E", "#17222A", "#2E3C46", "#E4E9EA", "#9DABB3", "#4FB3C1", "#1F4650", "#F07AB4", "#E0A94A",
              "#FF8A80", "#0C1318", "#0B1216")
THEMES = {t.name: t for t in (CHART, NIGHT)}


def rgba(theme: Theme, role: str, alpha: float = 1.0) -> tuple[float, float, float, float]:
    """A colour by its role, or one of its own (``#RRGGBB``), as shares of red, green, blue and solidity."""
    red, green, blue = (float(c) for c in parse(role if role.startswith("#") else str(getattr(theme, role))))
    return red, green, blue, alpha
