"""Sounding numbers of findings, and rings at those that are places, painted over the picture."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPainter

from tidal_lens.app.findings import CardOfFindings
from tidal_lens.app.overlays.base import Quiet
from tidal_lens.app.overlays.painting import measure, paint_marks
from tidal_lens.app.stage import Stage
from tidal_lens.scene.finding_marks import SLACK, Named, finding_marks, middle_of
from tidal_lens.scene.marks import Mark


class FindingsOverlay(Quiet):
    """A click on a name chooses its finding.

    Parameters
    ----------
    view : Stage
        Where they are painted.
    cards : callable
        The finders' cards with their lists.
    choose : callable
        Chooses a finding by its card and number.
    chosen : callable
        The card and number of the chosen one, or None.
    """

    def __init__(self, view: Stage, cards: Callable[[], list[CardOfFindings]], choose: Callable[[str, int], None],
                 chosen: Callable[[], tuple[str, int] | None]) -> None:
        self._view, self._cards, self._choose, self._chosen = view, cards, choose, chosen
        self._boxes: list[tuple[tuple[float, float, float, float], str, int]] = []

    def marks(self) -> list[Mark]:
        """Names of all findings that are drawn and can be seen."""
        camera, study = self._view.shown_camera, self._view.document.study
        self._boxes = []
        if camera is None:
            return []
        taken: list[tuple[float, float, float, float]] = []
        named = [Named(middle_of(x.finding), x.name, not len(x.finding.line) and x.finding.size == 0.0,
                       (card.layer.id, x.number) == self._chosen(), card.layer.id, x.number)
                 for card in self._cards() if study.is_drawn(card.layer) for x in card.shown]
        size = self._view.width(), self._view.height()
        flow = self._view.case.flow
        slack = SLACK * (flow.size if flow is not None else 0.0)
        out: list[Mark] = []
        for one in sorted(named, key=lambda n: not n.chosen):
            marks, box = finding_marks(one, camera, size, self._view.depths, measure, taken, slack)
            out += marks
            if box is not None:
                self._boxes.append((box, one.card, one.number))
        return out

    def paint(self, p: QPainter) -> None:
        paint_marks(p, self.marks())

    def _at(self, at: QPointF) -> tuple[str, int] | None:
        return next(((card, number) for (left, top, right, bottom), card, number in self._boxes
                     if left <= at.x() <= right and top <= at.y() <= bottom), None)

    def grasp(self, at: QPointF) -> bool:
        """Choose the finding whose name is there."""
        found = self._at(at)
        if found is not None:
            self._choose(*found)
        return found is not None

    def hint(self, at: QPointF) -> str:
        """Which finding it is."""
        found = self._at(at)
        if found is None:
            return ""
        card = next(c for c in self._cards() if c.layer.id == found[0])
        own = card.listed[found[1]]
        return f"{own.name}: {own.finding.sort}. Click to choose it"
