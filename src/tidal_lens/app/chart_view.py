"""A chart of a measure: curves and dots over one axis, read by pointing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QPainter, QTextDocument
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.charts import inks
from tidal_lens.app.parts import Check, label, row
from tidal_lens.app.sheet_items import sheet_items
from tidal_lens.study.charts import Chart, Curve, Sheet
from tidal_lens.study.words import number_text

_HEIGHT = 230
# Of the cases, the first first: lines, and how the legend shows them.
_STROKES = ((Qt.PenStyle.SolidLine, "━"), (Qt.PenStyle.DashLine, "┅"), (Qt.PenStyle.DotLine, "┈"), (Qt.PenStyle.DashDotLine, "╍"))
_FINE = 3.0  # pixels of a saved picture to one on screen
_WIDE = 16777215  # what Qt takes as no limit


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
        self.plot: Any = None
        self.spot: Any = None
        self._number: Callable[[float], str] = number_text
        self._items: list[Any] = []
        self.legend = label("")
        self.legend.setTextFormat(Qt.TextFormat.RichText)
        self.legend.setWordWrap(True)
        self.reading = label("", "soft")
        self.log_across = Check("Log across", "A logarithmic axis across: what is not above zero is left out", lambda _on: self._scale())
        self.log_up = Check("Log up", "A logarithmic axis up: what is not above zero is left out", lambda _on: self._scale())
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(2)
        self._box.addWidget(self.legend)
        self._box.addWidget(self.reading)
        self._box.addLayout(row(self.log_across, self.log_up, label(""), stretch=2))

    def grow(self, *, freely: bool) -> None:
        """Take all the height that there is, or a fixed one."""
        if self.plot is not None:
            self.plot.setMinimumHeight(80 if freely else _HEIGHT)
            self.plot.setMaximumHeight(_WIDE if freely else _HEIGHT)

    def _build(self) -> None:
        import pyqtgraph  # half a second, needed only when there is a chart

        self.plot = pyqtgraph.PlotWidget()
        self.plot.setFixedHeight(_HEIGHT)
        self.plot.setMenuEnabled(False)
        self.plot.hideButtons()
        self.plot.setToolTip("Point to read values; drag to shift, wheel to enlarge, double-click to see all")
        self.plot.scene().sigMouseClicked.connect(lambda event: self.plot.getPlotItem().autoRange() if event.double() else None)
        self.plot.scene().sigMouseMoved.connect(self.point)
        self.spot = self.plot.plot([], [], pen=None, symbol="o", symbolSize=10, symbolBrush=None)
        self.spot.setZValue(10)
        self._box.insertWidget(0, self.plot, 1)

    def show_chart(self, chart: Chart, colour_of_card: str = "", number: Callable[[float], str] = number_text) -> None:
        """Draw other curves; one alone has the colour of its card. What is pointed at is read as ``number`` says."""
        import pyqtgraph

        if self.plot is None:
            self._build()
        old, item = self.chart, self.plot.getPlotItem()
        new = old is None or (chart.across, chart.up) != (old.across, old.up) or chart.sheet is not None or old.sheet is not None
        if new:
            for box, on in ((self.log_across, chart.log_across), (self.log_up, chart.log_up)):
                box.setChecked(on)
                box.setVisible(chart.sheet is None)
        self.chart, self._number = chart, number
        self._style(chart)
        item.getViewBox().invertY(chart.down)
        item.setLogMode(self.log_across.isChecked(), self.log_up.isChecked())
        self.plot.setAspectLocked(chart.sheet is not None)
        for gone in self._items:
            self.plot.removeItem(gone)
        self._items = []
        told = self._draw_sheet(chart.sheet) if chart.sheet is not None else self._draw_curves(chart, colour_of_card)
        self.spot.setSymbolPen(pyqtgraph.mkPen(theme.colour("ink"), width=1.6))
        self._mark(None)
        self.legend.setText(" &nbsp; ".join(told))
        self.legend.setVisible(len(told) > 1 or chart.sheet is not None)
        if new:
            item.autoRange()

    def _style(self, chart: Chart) -> None:
        """Axes in the theme's colours."""
        self.plot.setAccessibleName(f"{chart.up} over {chart.across}")
        self.plot.setBackground(theme.colour("paper"))
        soft = theme.colour("soft")
        for side, text in (("bottom", chart.across), ("left", chart.up)):
            axis = self.plot.getPlotItem().getAxis(side)
            axis.setPen(theme.colour("line"))
            axis.setTextPen(soft)
            axis.setTickFont(theme.font(11))
            self.plot.setLabel(side, text, color=soft.name(), siPrefixEnableRanges=())  # numbers as they are, never in thousandths

    def _draw_sheet(self, sheet: Sheet) -> list[str]:
        self._items, told = sheet_items(sheet, theme.colour("ink"))
        for one in self._items:
            self.plot.addItem(one)
        return [told]

    def _draw_curves(self, chart: Chart, colour_of_card: str) -> list[str]:
        """Curves and dots; what the legend tells of each."""
        import pyqtgraph

        told, colours = [], inks()
        drawn_of = [0] * (1 + max((c.case for c in chart.curves), default=0))  # the same colours in each case
        for curve in chart.curves:
            n = drawn_of[curve.case]
            drawn_of[curve.case] += 1
            colour = QColor(colour_of_card if colour_of_card and len(chart.curves) == 1 else colours[n % len(colours)])
            if curve.dots:
                drawn = self.plot.plot(curve.at, curve.values, pen=None, symbol="o", symbolSize=5,
                                        symbolPen=pyqtgraph.mkPen(colour, width=1.2), symbolBrush=None)
            else:
                dashed = n >= len(colours) or curve.dashed
                style = Qt.PenStyle.DashLine if dashed and not curve.case else _STROKES[curve.case][0]
                drawn = self.plot.plot(curve.at, curve.values, pen=pyqtgraph.mkPen(colour, width=1.8, style=style), connect="finite",
                                        antialias=True)
            self._items.append(drawn)
            name = curve.name.replace("&", "&amp;").replace("<", "&lt;").replace(" ", "&nbsp;")
            sign = "○" if curve.dots else "┅" if curve.dashed else _STROKES[curve.case][1]
            told.append(f'<span style="color:{colour.name()}">{sign}</span>&nbsp;{name}')
        return told

    def _scale(self) -> None:
        if self.plot is not None:
            self.plot.getPlotItem().setLogMode(self.log_across.isChecked(), self.log_up.isChecked())
            self.plot.getPlotItem().autoRange()

    def _drawn(self, curve: Curve) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Where its points stand on the axes as they are."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return (np.log10(np.where(curve.at > 0.0, curve.at, np.nan)) if self.log_across.isChecked() else curve.at,
                    np.log10(np.where(curve.values > 0.0, curve.values, np.nan)) if self.log_up.isChecked() else curve.values)

    def _mark(self, point: tuple[Curve, int] | None) -> None:
        """Ring a point of a curve, and tell it; or none."""
        if point is None:
            self.spot.setData([], [])
            self.reading.setText("")
            return
        curve, n = point
        self.spot.setData([float(curve.at[n])], [float(curve.values[n])])
        self.reading.setText(f"{curve.name}: {self._number(float(curve.values[n]))} at {self._number(float(curve.at[n]))}")

    def point(self, where: Any) -> None:
        """The value nearest to the pointer, in pixels."""
        chart, box = self.chart, self.plot.getPlotItem().getViewBox()
        best: tuple[float, Curve, int] | None = None
        if chart is not None and box.sceneBoundingRect().contains(where):
            at = box.mapSceneToView(where)
            wide, tall = box.viewPixelSize()
            if chart.sheet is not None:
                self._read_sheet(chart.sheet, at.x(), at.y())
                return
            for curve in chart.curves:
                across, up = self._drawn(curve)
                off = np.hypot((across - at.x()) / wide, (up - at.y()) / tall)
                if np.isfinite(off).any():
                    n = int(np.nanargmin(off))
                    if best is None or off[n] < best[0]:
                        best = float(off[n]), curve, n
        self._mark(best[1:] if best is not None else None)
        places = best[1].places if best is not None else None
        self.pointed.emit(places[best[2]] if places is not None and best is not None else None)

    def _read_sheet(self, sheet: Sheet, across: float, up: float) -> None:
        """Tell the value of the nearest place of a lattice."""
        off = np.hypot(sheet.across - across, sheet.up - up)
        n = int(off.argmin())
        value = float(sheet.values.ravel()[n])
        at = f"{self._number(float(sheet.across.ravel()[n]))}, {self._number(float(sheet.up.ravel()[n]))}"
        self.spot.setData([float(sheet.across.ravel()[n])], [float(sheet.up.ravel()[n])])
        self.reading.setText(f"{self._number(value) if np.isfinite(value) else 'no value'} at {at}")

    def mark_place(self, place: NDArray[np.float64] | None, reach: float) -> None:
        """Ring the value whose place in the flow is nearest to one, if any is within reach of it."""
        best: tuple[float, Curve, int] | None = None
        for curve in self.chart.curves if self.chart is not None else ():
            if place is None or curve.places is None or not len(curve.places):
                continue
            off = np.linalg.norm(curve.places - place, axis=1)
            if np.isfinite(off).any():
                n = int(np.nanargmin(off))
                if off[n] <= reach and (best is None or off[n] < best[0]):
                    best = float(off[n]), curve, n
        if self.plot is not None:
            self._mark(best[1:] if best is not None else None)

    def save(self, path: Path) -> None:
        """Write what is seen, curves' names below, as PNG or SVG.

        Raises
        ------
        OSError
            It cannot be written.
        """
        self._mark(None)
        size = self.plot.size()
        names = QTextDocument()
        names.setDefaultFont(theme.font(12))
        names.setTextWidth(size.width() - 16)
        names.setHtml(f'<span style="color:{theme.colour("ink").name()}">{self.legend.text()}</span>' if self.legend.text() else "")
        whole = QSize(size.width(), size.height() + int(names.size().height()) + 8)
        if path.suffix.lower() == ".svg":
            vector = QSvgGenerator()
            vector.setFileName(str(path))
            vector.setSize(whole)
            vector.setViewBox(QRectF(0, 0, whole.width(), whole.height()))
            if chart := self.chart:
                vector.setTitle(f"{chart.up} over {chart.across}")
            with QPainter(vector) as p:
                self._paint(p, whole, names)
            return
        image = QImage(whole * _FINE, QImage.Format.Format_RGB32)
        with QPainter(image) as p:
            p.scale(_FINE, _FINE)
            self._paint(p, whole, names)
        if not image.save(str(path)):
            raise OSError(f"{path} cannot be written")

    def _paint(self, p: QPainter, whole: QSize, names: QTextDocument) -> None:
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(QRectF(0, 0, whole.width(), whole.height()), theme.colour("paper"))
        size = self.plot.size()
        self.plot.render(p, QRectF(0, 0, size.width(), size.height()))
        p.translate(8, size.height() + 4)
        names.drawContents(p)
