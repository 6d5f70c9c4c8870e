"""A chart of a measure: curves and dots over one axis, read by pointing."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.charts import inks
from tidal_lens.app.parts import label
from tidal_lens.study.charts import Chart
from tidal_lens.study.words import number_text

_HEIGHT = 230


class ChartView(QWidget):
    """One chart, made when it is first shown.

    Attributes
    ----------
    pointed : signal
        The place in the flow (3,) of the value that is pointed at, or None.
    """

    pointed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.chart: Chart | None = None
        self._plot: Any = None
        self._items: list[Any] = []
        self.legend = label("")
        self.legend.setTextFormat(Qt.TextFormat.RichText)
        self.legend.setWordWrap(True)
        self.reading = label("", "soft")
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(2)
        self._box.addWidget(self.legend)
        self._box.addWidget(self.reading)

    def show_chart(self, chart: Chart) -> None:
        """Draw other curves."""
        import pyqtgraph  # half a second, needed only when there is a chart

        if self._plot is None:
            self._plot = pyqtgraph.PlotWidget()
            self._plot.setFixedHeight(_HEIGHT)
            self._plot.setMenuEnabled(False)
            self._plot.hideButtons()
            self._plot.setToolTip("Point to read values; drag to shift, wheel to enlarge, double-click to see all")
            self._plot.scene().sigMouseClicked.connect(lambda event: self._plot.getPlotItem().autoRange() if event.double() else None)
            self._plot.scene().sigMouseMoved.connect(self._point)
            self._box.insertWidget(0, self._plot)
        new = self.chart is None or (chart.across, chart.up) != (self.chart.across, self.chart.up)
        self.chart = chart
        item = self._plot.getPlotItem()
        self._plot.setAccessibleName(f"{chart.up} over {chart.across}")
        self._plot.setBackground(theme.colour("paper"))
        soft = theme.colour("soft")
        for side, text in (("bottom", chart.across), ("left", chart.up)):
            axis = item.getAxis(side)
            axis.setPen(theme.colour("line"))
            axis.setTextPen(soft)
            axis.setTickFont(theme.font(11))
            axis.enableAutoSIPrefix(False)
            self._plot.setLabel(side, text, color=soft.name())
        item.getViewBox().invertY(chart.down)
        for old in self._items:
            self._plot.removeItem(old)
        self._items, told, colours = [], [], inks()
        for n, curve in enumerate(chart.curves):
            colour = QColor(colours[n % len(colours)])
            if curve.dots:
                drawn = self._plot.plot(curve.at, curve.values, pen=None, symbol="o", symbolSize=5,
                                        symbolPen=pyqtgraph.mkPen(colour, width=1.2), symbolBrush=None)
            else:
                style = Qt.PenStyle.SolidLine if n < len(colours) else Qt.PenStyle.DashLine
                drawn = self._plot.plot(curve.at, curve.values, pen=pyqtgraph.mkPen(colour, width=1.8, style=style), connect="finite",
                                        antialias=True)
            self._items.append(drawn)
            name = curve.name.replace("&", "&amp;").replace("<", "&lt;").replace(" ", "&nbsp;")
            told.append(f'<span style="color:{colour.name()}">{"○" if curve.dots else "━"}</span>&nbsp;{name}')
        self.legend.setText(" &nbsp; ".join(told))
        self.legend.setVisible(len(told) > 1)
        if new:
            item.autoRange()

    def _point(self, where: Any) -> None:
        """The value nearest to the pointer, in pixels."""
        chart, box = self.chart, self._plot.getPlotItem().getViewBox()
        if chart is None or not box.sceneBoundingRect().contains(where):
            self.reading.setText("")
            self.pointed.emit(None)
            return
        at = box.mapSceneToView(where)
        wide, tall = box.viewPixelSize()
        best: tuple[float, str, Any] | None = None
        for curve in chart.curves:
            off = np.hypot((curve.at - at.x()) / wide, (curve.values - at.y()) / tall)
            if np.isfinite(off).any():
                n = int(np.nanargmin(off))
                told = f"{curve.name}: {number_text(float(curve.values[n]))} at {number_text(float(curve.at[n]))}"
                if best is None or off[n] < best[0]:
                    best = float(off[n]), told, None if curve.places is None else curve.places[n]
        self.reading.setText(best[1] if best is not None else "")
        self.pointed.emit(best[2] if best is not None else None)
