"""The list of findings, painted as one widget: a name, two numbers and a trust bar a row."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from tidal_lens.app import theme
from tidal_lens.app.findings import CardOfFindings
from tidal_lens.features.finding import Number
from tidal_lens.study.said import Listed

_HEAD, _ROW = 26, 38
_BAR = 46.0
TOLD = 2  # numbers a row


@dataclass(frozen=True, eq=False)
class Row:
    """A row: a finding, or the head of a card without one."""

    card: CardOfFindings
    listed: Listed | None
    top: int
    high: int


def rows_of(cards: list[CardOfFindings]) -> list[Row]:
    """Heads and findings from above: those that are shown, then those that were dismissed."""
    out: list[Row] = []
    top = 0
    for card in cards:
        out.append(Row(card, None, top, _HEAD))
        top += _HEAD
        for own in (*card.shown, *(x for x in card.listed if x.verdict == "dismiss")):
            out.append(Row(card, own, top, _ROW))
            top += _ROW
    return out


class FindingList(QWidget):
    """Rows of findings under the heads of their cards.

    Signals
    -------
    picked(str, int)
        A row was clicked, or gone to by keys: its card and number.
    gone_to
        The chosen row is to be gone to: clicked, or Return.
    """

    picked = pyqtSignal(str, int)
    gone_to = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Findings")
        self.setToolTip("Click a finding to go to it; arrow keys choose, Return goes there")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.rows: list[Row] = []
        self._chosen: tuple[str, int] | None = None
        self._tell: Callable[[Number], str] = lambda number: f"{number.value:g}"
        theme.hub().changed.connect(self.update)

    def show_rows(self, cards: list[CardOfFindings], chosen: tuple[str, int] | None, tell: Callable[[Number], str]) -> None:
        """Show other findings, or another choice; numbers as ``tell`` tells them."""
        self.rows, self._chosen, self._tell = rows_of(cards), chosen, tell
        self.setFixedHeight(max(self.rows[-1].top + self.rows[-1].high if self.rows else 0, 1))
        self.setAccessibleDescription(", ".join(r.listed.name for r in self.rows if r.listed is not None and r.listed.shown)[:2000])
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(280, self.height())

    def place_of(self, name: str) -> QPointF:
        """The middle of the row of a name."""
        found = next(r for r in self.rows if r.listed is not None and r.listed.name == name)
        return QPointF(0.4 * self.width(), found.top + 0.5 * found.high)

    def _at(self, y: float) -> Row | None:
        return next((r for r in self.rows if r.top <= y < r.top + r.high), None)

    # -- mouse and keys --------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        found = self._at(event.position().y()) if event is not None else None
        if found is not None and found.listed is not None:
            self.picked.emit(found.card.layer.id, found.listed.number)
            self.gone_to.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        own = [r for r in self.rows if r.listed is not None]
        at = next((n for n, r in enumerate(own) if self._is_chosen(r)), -1)
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is not None and own:
            row = own[min(max(at + step, 0), len(own) - 1)]
            assert row.listed is not None
            self.picked.emit(row.card.layer.id, row.listed.number)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and at >= 0:
            self.gone_to.emit()
        else:
            super().keyPressEvent(event)

    def _is_chosen(self, row: Row) -> bool:
        return row.listed is not None and self._chosen == (row.card.layer.id, row.listed.number)

    def event(self, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            found = self._at(event.pos().y())
            if found is not None and found.listed is not None:
                finding = found.listed.finding
                told = [f"{found.listed.name}: {finding.sort}", *(f"{n.name}: {self._tell(n)}" for n in finding.numbers),
                        f"trust {finding.trust:.0%}, clear up to strictness {finding.score:.2f}"]
                QToolTip.showText(event.globalPos(), "\n".join(told), self)
                return True
        return super().event(event)

    # -- painting --------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        seen = QRectF(event.rect()) if event is not None else QRectF(self.rect())
        with QPainter(self) as p:
            p.setRenderHints(QPainter.RenderHint.Antialiasing)
            for row in self.rows:
                if row.top + row.high < seen.top() or row.top > seen.bottom():
                    continue
                if row.listed is None:
                    self._paint_head(p, row)
                else:
                    self._paint_row(p, row, row.listed)

    def _paint_head(self, p: QPainter, row: Row) -> None:
        p.setFont(theme.font(12, bold=True))
        p.setPen(theme.colour("ink"))
        shown, every = len(row.card.shown), len(row.card.listed)
        box = QRectF(2, row.top, self.width() - 4, row.high)
        p.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, row.card.layer.name)
        p.setFont(theme.font(11))
        p.setPen(theme.colour("soft"))
        told = f"{shown} of {every}" if every else "none in this flow"
        p.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, told)

    def _paint_row(self, p: QPainter, row: Row, own: Listed) -> None:
        box = QRectF(1, row.top + 1, self.width() - 2, row.high - 2)
        if self._is_chosen(row):
            p.setPen(theme.colour("magenta") if self.hasFocus() else Qt.GlobalColor.transparent)
            p.setBrush(theme.colour("shoal"))
            p.drawRoundedRect(box, 4, 4)
        finding, soft = own.finding, own.verdict == "dismiss"
        p.setFont(theme.font(12.5, bold=True))
        p.setPen(theme.colour("soft" if soft else "magenta"))
        left = box.left() + 6
        name = QFontMetricsF(p.font()).elidedText(own.name, Qt.TextElideMode.ElideRight, 96)
        p.drawText(QPointF(left, row.top + 16), name)
        wide = max(QFontMetricsF(p.font()).horizontalAdvance(name) + 8, 30)
        p.setFont(theme.font(11))
        p.setPen(theme.colour("soft"))
        sort = f"{finding.sort}{' · dismissed' if soft else ' · kept' if own.verdict == 'keep' else ''}"
        p.drawText(QPointF(left + wide, row.top + 16), sort)
        told = " · ".join(f"{n.name} {self._tell(n)}" for n in finding.numbers[:TOLD])
        p.setPen(theme.colour("soft" if soft else "ink"))
        p.drawText(QPointF(left, row.top + 31), QFontMetricsF(p.font()).elidedText(told, Qt.TextElideMode.ElideRight, box.width() - 14))
        self._paint_trust(p, QRectF(box.right() - _BAR - 6, row.top + 8, _BAR, 6), finding.trust)

    @staticmethod
    def _paint_trust(p: QPainter, box: QRectF, trust: float) -> None:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.colour("line"))
        p.drawRoundedRect(box, 3, 3)
        p.setBrush(theme.colour("sea" if trust >= 0.6 else "amber" if trust >= 0.3 else "red"))
        p.drawRoundedRect(QRectF(box.left(), box.top(), max(box.width() * trust, 5.0), box.height()), 3, 3)
