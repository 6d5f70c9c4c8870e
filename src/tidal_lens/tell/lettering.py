"""Our own fonts, where there is no window: widths of texts, and what the drawing library needs to find them."""

from __future__ import annotations

import logging
import threading
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

# It tells of each weight that a font lacks, and that it looks for fonts at its first start.
logging.getLogger("matplotlib.font_manager").setLevel(logging.ERROR)

from matplotlib.font_manager import FontProperties, fontManager, get_font  # noqa: E402

FAMILIES = ["Source Sans 3", "Tidal Symbols"]
LOCK = threading.RLock()  # fonts keep the text that they set last


@lru_cache(maxsize=1)
def files() -> tuple[str, ...]:
    """Paths of the shipped fonts, known to the drawing library from now on."""
    folder = resources.files("tidal_lens").joinpath("assets/fonts")
    paths = tuple(str(folder.joinpath(f"{name}.ttf")) for name in ("SourceSans3-Regular", "SourceSans3-Semibold", "SourceSans3-It",
                                                                   "TidalSymbols"))
    for path in paths:
        fontManager.addfont(Path(path))
    return paths


def font(size: float, *, bold: bool = False) -> FontProperties:
    """Our font; one unit of size is one pixel of the view."""
    files()
    return FontProperties(family=FAMILIES, weight=600 if bold else 400, size=size)


@lru_cache(maxsize=1)
def _faces() -> tuple[Any, Any]:
    regular, bold, _, symbols = files()
    return get_font([regular, symbols]), get_font([bold, symbols])


@lru_cache(maxsize=4096)
def measure(text: str, size: float, bold: bool) -> float:
    """Width of a text in our own font, in the units of its size."""
    with LOCK:
        face = _faces()[int(bold)]
        face.set_size(100.0, 72)
        face.set_text(text, 0.0)
        wide, _ = face.get_width_height()
    return float(wide) / 64.0 * size / 100.0
