"""Curves of a solver's history: residuals by their logarithm, and what else it told, each in its own panel."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.parts import label
from tidal_lens.measures.history import Curve, History, early_greatest
from tidal_lens.study.words import number_text

# Told apart by lightness as well as by hue, for readers who see colours otherwise; light and dark grounds.
_INKS = {"chart": ("#0E6E7E", "#B0246B", "#8A5A00", "#3D4A9E", "#4D6B2F", "#7A3B2E"),
         "night": ("#5CC4D4", "#F07AB4", "#E0A93B", "#9AA6F2", "#A9CC7E", "#E39A86")}


def inks() -> tuple[str, ...]:
    """Colours of curves on the theme's ground."""
    return _INKS[theme.current().name]


class CurvesPanel(QWidget):
    """Some curves over one counter."""

    def __init__(self, title: str, *, logarithmic: bool) -> None:
        super().__init__()
        import pyqtgraph  # half a second, needed only when there is a history

        self._graph: Any = pyqtgraph
        self._logarithmic = logarithmic
        self.title = label(title, "soft")
        self.plot: Any = pyqtgraph.PlotWidget()
        self.plot.setAccessibleName(title)
        self.plot.setToolTip("Drag to shift, wheel to enlarge, double-click to see all")
        self.plot.setFixedHeight(210)
        self.plot.setMenuEnabled(False)
        self.plot.hideButtons()
        self.plot.getPlotItem().setLogMode(False, logarithmic)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self.legend = label("", "")
        self.legend.setTextFormat(Qt.TextFormat.RichText)
        self.legend.setWordWrap(True)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(2)
        for widget in (self.title, self.plot, self.legend):
            box.addWidget(widget)
        self.lines: dict[str, Any] = {}
        self._limits: dict[str, Any] = {}

    def _clicked(self, event: Any) -> None:
        if event.double():
            self.plot.getPlotItem().autoRange()

    def show_curves(self, history: History, curves: tuple[Curve, ...], criterion: float, own: Mapping[str, float]) -> None:
        """Draw other values; the part that is looked at stays where it was moved to."""
        colours = inks()
        ink = theme.colour("soft")
        self.plot.setBackground(theme.colour("paper"))
        for side in ("left", "bottom"):
            axis = self.plot.getPlotItem().getAxis(side)
            axis.setPen(theme.colour("line"))
            axis.setTextPen(ink)
            axis.setTickFont(theme.font(11))
        self.plot.setLabel("bottom", history.counter, color=ink.name())
        for gone in set(self.lines) - {c.name for c in curves}:
            self.plot.removeItem(self.lines.pop(gone))
        told = []
        for n, curve in enumerate(curves):
            colour = colours[n % len(colours)]
            pen = self._graph.mkPen(QColor(colour), width=1.6, style=Qt.PenStyle.SolidLine if n < len(colours) else Qt.PenStyle.DashLine)
            if curve.name not in self.lines:
                self.lines[curve.name] = self.plot.plot([], [], antialias=True)
            values = np.where(curve.values > 0.0, curve.values, np.nan) if self._logarithmic else curve.values
            self.lines[curve.name].setData(history.at, values, pen=pen, connect="finite")
            self._limit(curve, own.get(curve.name, criterion), colour)
            last = values[np.isfinite(values)]
            name = curve.name.replace("&", "&amp;").replace("<", "&lt;").replace(" ", "&nbsp;")
            told.append(f'<span style="color:{colour}">━</span>&nbsp;{name}&nbsp;{number_text(float(last[-1])) if len(last) else "—"}')
        for gone in set(self._limits) - set(self.lines):
            self.plot.removeItem(self._limits.pop(gone))
        self.legend.setText(" &nbsp; ".join(told))

    def _limit(self, curve: Curve, criterion: float, colour: str) -> None:
        """What a residual must fall below, as a dashed line of its colour."""
        if not self._logarithmic:
            return
        if curve.name not in self._limits:
            self._limits[curve.name] = self._graph.InfiniteLine(angle=0)
            self.plot.addItem(self._limits[curve.name], ignoreBounds=True)
        self._limits[curve.name].setPen(self._graph.mkPen(QColor(colour), width=1, style=Qt.PenStyle.DotLine))
        self._limits[curve.name].setPos(float(np.log10(early_greatest(curve) * criterion)))
