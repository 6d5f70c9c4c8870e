"""A quantity over a plane, as a chart draws it: colours, lines of equal values, arrows."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QColor

from tidal_lens.scene.palettes import palette
from tidal_lens.study.charts import Sheet
from tidal_lens.study.words import number_text

_HEAD, _OPEN = 0.32, np.radians(24.0)  # of an arrow: its head by its length, and the angle of each barb


def sheet_items(sheet: Sheet, ink: QColor) -> tuple[list[Any], str]:
    """What is added to a plot, from below, and words that tell what it shows.

    Parameters
    ----------
    sheet : Sheet
        What is drawn.
    ink : QColor
        Of lines and arrows.
    """
    import pyqtgraph

    low, high = float(np.nanmin(sheet.values)), float(np.nanmax(sheet.values))
    scale = "signed" if low < 0.0 < high and min(-low, high) > 0.05 * max(-low, high) else "even"
    if scale == "signed":
        low, high = -max(-low, high), max(-low, high)
    colours = palette(scale, low, high)
    corners = [sheet.values[a, b] for a in (slice(None, -1), slice(1, None)) for b in (slice(None, -1), slice(1, None))]
    cells = np.mean(corners, axis=0)
    shown = np.where(np.isfinite(cells), cells, low)
    table = pyqtgraph.ColorMap(np.linspace(0.0, 1.0, len(colours)), colours)
    mesh = pyqtgraph.PColorMeshItem(sheet.across, sheet.up, shown, colorMap=table, levels=(low, high if high > low else low + 1.0),
                                    enableAutoLevels=False, edgecolors=None)
    items: list[Any] = [mesh]
    for strokes, width in ((sheet.lines, 1.0), (_arrow_strokes(sheet.feet, sheet.arrows), 1.2)):
        if len(strokes):
            ends = strokes.reshape(-1, 2)
            items.append(pyqtgraph.PlotCurveItem(ends[:, 0], ends[:, 1], connect="pairs", pen=pyqtgraph.mkPen(ink, width=width),
                                                 antialias=True))
    steps = f", lines every {number_text(sheet.spacing)}" if sheet.spacing else ""
    first, last = (QColor(*(int(c) for c in colours[n][:3])).name() for n in (0, -1))
    return items, (f'{sheet.told}: <span style="color:{first}">■</span>&nbsp;{number_text(low)} to '
                   f'<span style="color:{last}">■</span>&nbsp;{number_text(high)}{steps}')


def _arrow_strokes(feet: NDArray[np.float64], arrows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Shafts and barbs, shape (k, 2, 2)."""
    if not len(feet):
        return np.empty((0, 2, 2))
    tips = feet + arrows
    strokes = [np.stack([feet, tips], axis=1)]
    for angle in (np.pi - _OPEN, np.pi + _OPEN):
        c, s = np.cos(angle), np.sin(angle)
        barb = _HEAD * arrows @ np.array([[c, s], [-s, c]])
        strokes.append(np.stack([tips, tips + barb], axis=1))
    return np.concatenate(strokes)
