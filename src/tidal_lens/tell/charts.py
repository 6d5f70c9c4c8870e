"""Charts of measures as pictures, in our own colours and fonts."""

from __future__ import annotations

import io
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure

from tidal_lens.scene.palettes import palette
from tidal_lens.scene.themes import Theme
from tidal_lens.study.charts import Chart, Curve, Sheet
from tidal_lens.tell.lettering import LOCK, font
from tidal_lens.tell.printing import PLAIN

_INKS = ("sea", "magenta", "amber", "ink", "red", "soft")
_DASHES = ("-", "--", "-.", ":")
_WEIGHS = 0.05  # of the greater side that the lesser must be, for zero to be the middle
_MANY = 12  # curves that a legend names


def chart_file(chart: Chart, theme: Theme, kind: str = "svg", size: tuple[float, float] = (6.4, 3.6)) -> bytes:
    """A chart as SVG, PNG or PDF, of a size in inches."""
    out = io.BytesIO()
    with LOCK, mpl.rc_context(PLAIN):
        figure = Figure(figsize=size, dpi=160, facecolor=theme.panel, layout="constrained")
        axes = figure.add_subplot(facecolor=theme.paper)
        if chart.sheet is not None:
            _sheet(axes, chart.sheet, theme)
        else:
            _curves(axes, chart.curves, theme)
        if chart.log_across:
            axes.set_xscale("log")
        if chart.log_up:
            axes.set_yscale("log")
        if chart.down:
            axes.invert_yaxis()
        _frame(axes, chart, theme)
        said: dict[str, Any] = {"Creator": "Tidal Lens", "Date": None} if kind == "svg" else (
            {"Creator": "Tidal Lens", "CreationDate": None} if kind == "pdf" else {"Software": "Tidal Lens"})
        figure.savefig(out, format=kind, metadata=said, facecolor=theme.panel)
    return out.getvalue()


def _frame(axes: Any, chart: Chart, theme: Theme) -> None:
    axes.set_xlabel(chart.across, fontproperties=font(10), color=theme.ink, parse_math=False)
    axes.set_ylabel(chart.up, fontproperties=font(10), color=theme.ink, parse_math=False)
    if chart.sheet is None:
        axes.grid(visible=True, color=theme.line, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.tick_params(colors=theme.soft, labelcolor=theme.ink)
    for spine in axes.spines.values():
        spine.set_color(theme.line)
    for text in (*axes.get_xticklabels(), *axes.get_yticklabels()):
        text.set_fontproperties(font(9))


def _curves(axes: Any, curves: tuple[Curve, ...], theme: Theme) -> None:
    for n, curve in enumerate(curves):
        ink = getattr(theme, _INKS[n % len(_INKS)])
        name = curve.name if n < _MANY else None
        if curve.dots:
            axes.plot(curve.at, curve.values, linestyle="none", marker="o", markersize=3.5, color=ink, markerfacecolor=theme.panel,
                      label=name)
        else:
            dash = ":" if curve.dashed else _DASHES[n // len(_INKS) % len(_DASHES)]
            axes.plot(curve.at, curve.values, linestyle=dash, linewidth=1.4, color=theme.soft if curve.dashed else ink, label=name)
    if len(curves) > 1:
        legend = axes.legend(prop=font(9), frameon=True, facecolor=theme.panel, edgecolor=theme.line, labelcolor=theme.ink, loc="best")
        for text in legend.get_texts():
            text.set_parse_math(False)


def _sheet(axes: Any, sheet: Sheet, theme: Theme) -> None:
    known = sheet.values[np.isfinite(sheet.values)]
    low, high = (float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)
    scale = "signed" if low < 0.0 < high and min(-low, high) > _WEIGHS * max(-low, high) else "even"
    if scale == "signed":
        low, high = -max(-low, high), max(-low, high)
    table = palette(scale, low, high) / 255.0
    drawn = axes.pcolormesh(sheet.across, sheet.up, np.ma.masked_invalid(sheet.values), shading="gouraud",
                            cmap=mpl.colors.ListedColormap(table), vmin=low, vmax=high, rasterized=True)
    bar = axes.figure.colorbar(drawn, ax=axes)
    bar.set_label(sheet.told, fontproperties=font(10), color=theme.ink)
    bar.ax.tick_params(colors=theme.soft, labelcolor=theme.ink)
    for text in bar.ax.get_yticklabels():
        text.set_fontproperties(font(9))
    if len(sheet.lines):
        axes.add_collection(LineCollection(list(sheet.lines), colors=theme.ink, linewidths=0.6))
    if len(sheet.feet):
        way = sheet.arrows
        axes.quiver(sheet.feet[:, 0], sheet.feet[:, 1], way[:, 0], way[:, 1], angles="xy", scale_units="xy", scale=1.0, color=theme.ink,
                    width=0.002)
    axes.set_aspect("equal")
