"""What the table's layers come to: asked for by what each rests on, worked out on other threads."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.errors import TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import LARGE, Distribution
from tidal_lens.scene.scenery import OUTLINE, Key, Table
from tidal_lens.study.evaluate import Evaluated, Evaluator, Wish, quantities_on_keys
from tidal_lens.study.model import Layer
from tidal_lens.study.session import keeps_range, key_of, seen_range


class CaseHere(Protocol):
    """One of the cases on the table: the document itself is the first."""

    @property
    def case(self) -> int:
        """Its number, the first being 0."""

    @property
    def flow(self) -> Flow | None:
        """The flow, once it is there."""

    @property
    def evaluator(self) -> Evaluator | None:
        """Of the flow, with the study's reference state and methods."""

    @property
    def is_right(self) -> bool:
        """Whether the flow is the one that the study looks at: nothing of it is on its way."""

    @property
    def asking(self) -> Asking:
        """What the cards come to in it."""


Keys = Callable[[str], "tuple[Distribution, float, float] | None"]


class Asking:
    """Results and failures of one case by layer; an answer counts if what it rests on is still what is wanted. On the window's thread."""

    def __init__(self, document: Holder, here: CaseHere, keys: Keys | None = None) -> None:
        self._document, self._here, self._keys = document, here, keys
        self.results: dict[str, Evaluated] = {}
        self.failures: dict[str, str] = {}
        self._asked: dict[str, Wish] = {}
        self._told: dict[str, Distribution | None] = {}  # what of quantities was told to be known

    def _slot(self, purpose: str, key: str = "") -> Slot:
        return Slot(purpose, f"{key}@{self._here.case}" if self._here.case else key)

    def under_way(self, since: float) -> set[str]:
        """Layers that are worked out since a moment of the monotonic clock."""
        slots = {self._slot("card", layer.id): layer.id for layer in self._document.study.layers}
        return {slots[job.slot] for job in self._document.jobs.running("card") if job.slot in slots and job.begun >= since}

    def clear(self) -> None:
        """Another case: nothing of the old one is wanted."""
        for layer_id in self._asked:
            self._document.jobs.cancel(self._slot("card", layer_id))
        self.results, self.failures, self._asked, self._told = {}, {}, {}, {}

    def refresh(self) -> None:
        """Ask for whatever is to be seen and is not there yet."""
        study = self._document.study
        layers = [layer for layer in study.layers if layer.is_of(self._here.case)]
        ids = {layer.id for layer in layers}
        for gone in (set(self.results) | set(self._asked)) - ids:
            self._document.jobs.cancel(self._slot("card", gone))
            self.results.pop(gone, None)
            self.failures.pop(gone, None)
            self._asked.pop(gone, None)
        for layer in layers:
            if study.is_drawn(layer) or study.is_named(layer):
                self._ask(layer) if layer.shape.geometry != "none" else self._ask_keyed(layer)

    def compute_again(self) -> None:
        """Ask anew for what failed or was cancelled."""
        self._asked.clear()
        self.failures.clear()
        self.refresh()

    def cancel_work(self) -> None:
        """Give up the job that has run longest."""
        document = self._document
        job = document.jobs.foremost()
        if job is None:
            return
        document.jobs.cancel(job.slot)
        if job.slot.purpose == "card" and document.study.layer(job.slot.key) is not None:
            self.failures[job.slot.key] = "Cancelled. F5 computes it."
            document.result_changed.emit(job.slot.key)

    def _ask_keyed(self, layer: Layer) -> None:
        """Of a layer that shows in others alone, what has a key; or why it cannot be had."""
        evaluator = self._here.evaluator
        if evaluator is None:
            return
        trouble = evaluator.lacking(layer, self._document.study)
        if trouble != self.failures.get(layer.id, ""):
            self.failures.pop(layer.id, None)
            if trouble:
                self.failures[layer.id] = trouble
            self._document.result_changed.emit(layer.id)
        for name in () if trouble else quantities_on_keys(layer):
            self.ask_quantity(name)

    def _ask(self, layer: Layer) -> None:
        document = self._document
        evaluator = self._here.evaluator
        if evaluator is None:
            return
        layer = self._of_here(layer, evaluator)
        draft, study = document.dragging, document.study
        wish = evaluator.wish(layer, study, draft=draft)
        if self._asked.get(layer.id) == wish:
            evaluator.use(wish)
            return
        self._asked[layer.id] = wish
        failed_before = self.failures.pop(layer.id, None) is not None

        def done(result: Evaluated) -> None:
            self._take(layer, wish, evaluator, result)

        def failed(error: TidalLensError) -> None:
            if self._asked.get(layer.id) != wish:
                return
            self.failures[layer.id] = str(error)
            self.results.pop(layer.id, None)
            document.result_changed.emit(layer.id)

        for name in quantities_on_keys(layer):
            self._first_look(evaluator, name)
        document.jobs.submit(self._slot("card", layer.id), layer.name,
                             lambda token: evaluator.evaluate(layer, token, study, draft=draft), done, failed)
        if failed_before or not draft:  # that a draft is begun shows nowhere
            document.result_changed.emit(layer.id)

    def _take(self, layer: Layer, wish: Wish, evaluator: Evaluator, result: Evaluated) -> None:
        """An answer is there; it counts if it is still wanted."""
        document = self._document
        # While something is dragged, pictures of where it was a moment ago are better than none.
        wanted = self._asked.get(layer.id) == wish or (document.dragging and evaluator is self._here.evaluator)
        if not wanted or document.study.layer(layer.id) is None:
            return
        self.results[layer.id] = result
        if result.trouble:
            self.failures[layer.id] = result.trouble
        document.result_changed.emit(layer.id)
        for name in quantities_on_keys(result.layer):
            spread = evaluator.store.known_distribution(name)
            if spread is None or spread is not self._told.get(name):
                self._told[name] = spread
                document.quantity_known.emit(name)
        if evaluator is not self._here.evaluator and not document.dragging:
            # Other methods or another free stream came meanwhile, that it does not rest on: they learn of its ranges too.
            self._asked.pop(layer.id, None)
            self.refresh()

    def _of_here(self, layer: Layer, evaluator: Evaluator) -> Layer:
        """The layer as it is drawn in this case: differences are drawn on the first, others in plain colours."""
        name = layer.look.colour_by
        of_others = self._here.case and name is not None and evaluator.store.is_of_others(name)
        return layer.with_(look=layer.look.with_(colour_by=None)) if of_others else layer

    def _first_look(self, evaluator: Evaluator, name: str) -> None:
        """Of a large flow, show a quantity's range from a sample while the whole is worked out."""
        document = self._document
        if evaluator.flow.n_points < LARGE or evaluator.store.known_distribution(name) is not None:
            return

        def known(spread: Distribution | None) -> None:
            if spread is not None and evaluator is self._here.evaluator:
                document.quantity_known.emit(name)

        document.jobs.submit(self._slot("first look", name), "A first look", lambda token: evaluator.store.preview(name, token), known,
                         lambda _error: None)

    def ask_quantity(self, name: str) -> None:
        """Work out a quantity and its distribution."""
        document = self._document
        evaluator = self._here.evaluator
        spread = evaluator.store.known_distribution(name) if evaluator is not None else None
        if evaluator is None or (spread is not None and not spread.coarse):
            return
        title = evaluator.store.describe(name).title
        self._first_look(evaluator, name)
        document.jobs.submit(self._slot("quantity", name), title, lambda token: evaluator.store.distribution(name, token),
                         lambda _answer: document.quantity_known.emit(name), document.tell)

    def key(self, name: str) -> tuple[Distribution, float, float] | None:
        """Distribution and range of a quantity's key, if known; of a series, the range that is seen first is kept in the study."""
        document = self._document
        evaluator = self._here.evaluator
        if evaluator is None:
            return None
        found = key_of(document.study, evaluator, name)
        series = len(evaluator.flow.times) > 1 and keeps_range(document.study, name)
        if found is not None and series and not found[0].coarse and self._here.is_right:
            document.note_range(name, seen_range(document.study, evaluator, name, found[0]))
        return found

    def table(self) -> Table | None:
        """All that lies on the table, for the scene; None while nothing is open."""
        document = self._document
        flow, evaluator = self._here.flow, self._here.evaluator
        if flow is None or evaluator is None:
            return None

        def key(name: str) -> Key | None:
            # One set of keys: those of the first case, but for what is known in another alone.
            known = (self._keys(name) if self._keys is not None else None) or self.key(name)
            return None if known is None else Key.of(document.study, evaluator.store.describe(name).scale, name, *known[1:])

        return Table(flow, document.study, self.results, key, self._outline(evaluator) if document.study.outline else None)

    def _outline(self, evaluator: Evaluator) -> NDArray[np.float64] | None:
        document = self._document
        if evaluator.known_outline is None:
            document.jobs.submit(self._slot("outline"), "Outline", lambda _token: evaluator.outline(),
                                 lambda _answer: document.result_changed.emit(OUTLINE), lambda _error: None)
        return evaluator.known_outline
