"""Which finding is chosen, what is listed, and what is done with a finding."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QObject

from tidal_lens.app.asking import CaseHere
from tidal_lens.app.document import Document
from tidal_lens.app.eye import Eye
from tidal_lens.app.jobs import Slot
from tidal_lens.app.line_picks import LinePicks
from tidal_lens.distinct import distinct
from tidal_lens.features.finding import Finding, sounding_numbers
from tidal_lens.features.following import names_kept
from tidal_lens.features.found import FoundSurface
from tidal_lens.study.evaluate import Evaluated, sifting_of
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.finds import FindShape
from tidal_lens.study.kinds.from_findings import cut_across, line_number, profile_through, seed_around
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.model import Layer
from tidal_lens.study.over_steps import followed, over_time
from tidal_lens.study.said import Listed, Verdict, listing, saying
from tidal_lens.study.tables import Table
from tidal_lens.work import Token

FINDERS = tuple(kind for kind in KINDS if kind.station == "find")


@dataclass(frozen=True, eq=False)
class CardOfFindings:
    """A finder's card with what it found."""

    layer: Layer
    result: Evaluated
    listed: tuple[Listed, ...]

    @property
    def shown(self) -> tuple[Listed, ...]:
        """Those that pass."""
        return tuple(x for x in self.listed if x.shown)


class Findings(QObject):
    """The findings of a study.

    Parameters
    ----------
    document : Document
        Whose findings.
    case : CaseHere
        In which of its cases.
    picks : LinePicks
        Which one is chosen: by its card and its number.
    eye : Eye
        Goes to them.
    """

    def __init__(self, document: Document, case: CaseHere, picks: LinePicks, eye: Eye) -> None:
        super().__init__(picks)
        self._document, self._case, self.picks, self._eye = document, case, picks, eye
        self._cards: dict[str, tuple[tuple[object, ...], CardOfFindings]] = {}
        self._named: dict[str, tuple[tuple[Finding, ...], tuple[str, ...]]] = {}
        self.through_time: tuple[str, Table] | None = None  # of the finding of a name
        picks.forget = self.dismiss_chosen
        document.coming.connect(self._forget)

    def _forget(self) -> None:
        """Another case: what was found in the one before is let go of."""
        self._cards, self._named, self.through_time = {}, {}, None

    def cards(self) -> list[CardOfFindings]:
        """All finders' cards that have come to something, in the order of the deck."""
        out = []
        for layer in self._document.study.layers:
            result = self._case.asking.results.get(layer.id) if layer.shape.finds else None
            if result is None:
                continue
            sifting = sifting_of(layer, self._document.study)
            basis = (id(result), layer, sifting)
            if self._cards.get(layer.id, ((), None))[0] != basis:
                names = self.names_of(layer.id, result)
                self._cards[layer.id] = basis, CardOfFindings(layer, result, listing(result.unmasked.findings, sifting, names))
            out.append(self._cards[layer.id][1])
        self._cards = {card.layer.id: self._cards[card.layer.id] for card in out}
        return out

    def names_of(self, layer_id: str, result: Evaluated) -> tuple[str, ...]:
        """Names of a card's candidates: what was there at the step that was shown before keeps its name."""
        findings = result.unmasked.findings
        old = self._named.get(layer_id)
        if old is None or old[0] is not findings:
            names = sounding_numbers(findings) if old is None else names_kept(*old, findings)
            self._named[layer_id] = findings, names
            of = self.picks.of
            if old is not None and of is not None and of[0] == layer_id:  # what is chosen stays chosen
                name = old[1][of[1]] if of[1] < len(old[1]) else ""
                self.picks.of = (layer_id, names.index(name)) if name in names else None
        return self._named[layer_id][1]

    @property
    def chosen(self) -> tuple[CardOfFindings, Listed] | None:
        """The chosen finding, and the card that it is of."""
        of = self.picks.of
        if of is None:
            return None
        card = next((c for c in self.cards() if c.layer.id == of[0]), None)
        return (card, card.listed[of[1]]) if card is not None and of[1] < len(card.listed) else None

    @property
    def are_not_listed(self) -> bool:
        """Whether the chosen card is no finder's: those are listed in the ledger anyway."""
        layer = self._document.chosen_layer
        return layer is not None and not layer.shape.finds

    @property
    def verdict(self) -> str:
        """What was said of the chosen finding."""
        return self.chosen[1].verdict if self.chosen is not None else ""

    def choose(self, layer_id: str, number: int) -> None:
        """Choose a finding."""
        self.picks.pick(layer_id, number)

    # -- what is done with them ------------------------------------------------------------------------------

    def find_all(self) -> None:
        """Look for all that the flow has the quantities for: one step, on cards of their own; those that are there stay."""
        evaluator, flow = self._case.evaluator, self._case.flow
        if evaluator is None or flow is None:
            return
        study = self._document.study
        there = {x.kind for x in study.layers}
        last = None
        for kind in FINDERS:
            if kind.name in there or kind.lacks(flow) or kind.begin is None:
                continue
            last = study.layer_of(kind.begin(evaluator.store, ""))
            study = study.adding(last)
        if last is not None:
            self._document.edit(study, "Find all")
            self._document.choose(next(x.id for x in study.layers if x.shape.finds))

    def go_there(self) -> None:
        """Bring the chosen finding into the picture."""
        found = self.chosen
        if found is None:
            return
        card, own = found
        points = own.finding.line
        geometry = card.result.unmasked.geometry
        if not len(points) and isinstance(geometry, FoundSurface) and (geometry.owners == own.number).any():
            points = geometry.points[distinct(geometry.faces[geometry.owners == own.number])]
        room = max(own.finding.reach if not len(points) else 0.15 * own.finding.size, 1e-6)
        points = points if len(points) else own.finding.place[None]
        study = self._document.study
        if study.alone not in (None, card.layer.id):  # another card fills the view alone: nothing would be seen
            self._document.edit(study.with_(alone=None), "Show all")
        self._eye.frame_box(points.min(axis=0) - room, points.max(axis=0) + room)

    def _add(self, begun: Begun) -> None:
        chosen = self.picks.of
        layer = self._document.study.layer_of(begun)
        self._document.edit(self._document.study.adding(layer), f"Add {layer.name}")
        if chosen is not None:  # it stays chosen, so that more can be done with it
            self.picks.pick(*chosen)

    def cut_across(self) -> None:
        """Lay a slice across the chosen finding."""
        found, evaluator = self.chosen, self._case.evaluator
        if found is not None and evaluator is not None:
            card, own = found
            line = line_number(card.result.unmasked.geometry, own.number)
            self._add(cut_across(evaluator.store, own.finding, own.name, card.layer.id, line))

    def seed_around(self) -> None:
        """Trace lines round the chosen finding."""
        found, evaluator = self.chosen, self._case.evaluator
        if found is not None and evaluator is not None:
            self._add(seed_around(evaluator.store, found[1].finding, found[1].name))

    def profile(self) -> None:
        """Lay a profile through the chosen finding; its chart is seen."""
        found, evaluator = self.chosen, self._case.evaluator
        if found is not None and evaluator is not None:
            card, own = found
            self._document.add(profile_through(evaluator.store, own.finding, own.name, card.result.unmasked.geometry, own.number))

    def say(self, *, verdict: Verdict | None = None, name: str | None = None) -> None:
        """Say of the chosen finding that it is kept or dismissed, or what it is called."""
        found = self.chosen
        if found is None:
            return
        card, own = found
        study = self._document.study
        said = saying(study.said, own.finding, card.result.unmasked.findings, verdict=verdict, name=name)
        what = f"Rename {own.name}" if verdict is None else {"keep": f"Keep {own.name}", "dismiss": f"Dismiss {own.name}"}.get(
            verdict, f"Say nothing of {own.name}")
        self._document.edit(study.with_(said=said), what)

    def follow_in_time(self) -> None:
        """Look for the chosen finding at all steps of the series; its numbers become curves."""
        found, evaluator, flow = self.chosen, self._case.evaluator, self._case.flow
        if found is None or evaluator is None or flow is None or len(flow.times) < 2:
            return
        card, own = found
        shape = card.layer.shape
        assert isinstance(shape, FindShape)
        name, finding, steps, start = own.name, own.finding, len(flow.times), flow.step

        def work(token: Token) -> Table:
            return over_time(followed(shape, finding, evaluator.sight(token), steps, start), flow.times, name)

        def done(table: Table) -> None:
            self.through_time = name, table
            self.picks.changed.emit()

        self._document.jobs.submit(Slot("over time", card.layer.id), f"Following {name}", work, done, self._document.tell)

    def dismiss_chosen(self) -> bool:
        """Dismiss the chosen finding; whether one was chosen."""
        if self.chosen is None:
            return False
        self.say(verdict="dismiss")
        self.picks.drop()
        return True
