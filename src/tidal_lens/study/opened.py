"""A case that is open, at whatever step a study looks at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from tidal_lens.errors import CancelledError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.evaluate import Evaluated, Evaluator, methods_of, quantities_on_keys, reference_of, sifting_of
from tidal_lens.study.model import Layer, Study
from tidal_lens.study.said import Sifting
from tidal_lens.study.series import Series
from tidal_lens.study.session import Session, keeps_range, key_of, seen_range, with_range
from tidal_lens.study.steps_beside import step_beside
from tidal_lens.work import Token


@dataclass(frozen=True, eq=False)
class Opened:
    """One case with its steps.

    Attributes
    ----------
    first : Evaluator
        Of the step that was opened.
    series : Series or None
        All its steps; None for steady flow.
    others : dict
        Cases beside it, by their numbers, the first of them 1.
    """

    first: Evaluator
    series: Series | None = None
    others: Mapping[int, Opened] = field(default_factory=dict)

    @staticmethod
    def of(session: Session) -> Opened:
        """What a session opened."""
        return Opened(session.evaluator, session.series())

    @property
    def steps(self) -> int:
        """How many steps there are; one for steady flow."""
        return len(self.series.times) if self.series is not None else 1

    def beside(self, number: int, study: Study, here: Flow) -> tuple[Opened, Study]:
        """Another case, and the study as it is for it: at the step that goes with the one of the first that is here."""
        one = self.others[number]
        times = one.series.times if one.series is not None else one.first.flow.times
        return one, study.model_copy(update={"step": step_beside(study.others[number - 1], here, times)})

    def evaluator(self, study: Study, token: Token) -> Evaluator:
        """The evaluator of the step that a study looks at, with its free stream and methods.

        Raises
        ------
        TidalLensError
            The step cannot be read.
        CancelledError
            The token was cancelled.
        """
        wanted = reference_of(self.first.flow, study), methods_of(study)
        if self.series is not None and study.step != self.first.flow.step:
            return self.series.evaluator(min(study.step, self.steps - 1), wanted[0], token, wanted[1])
        store = self.first.store
        return self.first if (store.reference, store.methods) == wanted else self.first.with_context(*wanted)


@dataclass(frozen=True, eq=False)
class Seen:
    """What a study's cards came to at one step.

    Attributes
    ----------
    study : Study
        The study, with the ranges that its quantities were first seen in.
    evaluator : Evaluator
        Of the step.
    results : dict
        What cards came to, by their ids.
    troubles : dict
        Why others are not there, by their ids.
    """

    study: Study
    evaluator: Evaluator
    results: dict[str, Evaluated]
    troubles: dict[str, str] = field(default_factory=dict)

    def sifting(self, layer: Layer) -> Sifting:
        """What decides which findings of a card are shown."""
        return sifting_of(layer, self.study)

    @property
    def store(self) -> QuantityStore:
        """Quantities of the step."""
        return self.evaluator.store


def is_wanted(layer: Layer, study: Study, case: int = 0) -> bool:
    """Whether a card of a case is drawn."""
    return study.is_drawn(layer) and layer.is_of(case) and layer.shape.geometry != "none"


def seen(opened: Opened, study: Study, token: Token, *, measures: bool = False, case: int = 0) -> Seen:
    """Work out all cards that are drawn; with ``measures`` also those that measure or find, lit or not; of a case that is opened.

    Raises
    ------
    TidalLensError
        The step that is looked at cannot be read; what a single card cannot do is told in ``troubles``.
    CancelledError
        The token was cancelled.
    """
    evaluator = opened.evaluator(study, token.part(0.0, 0.2))
    layers = [x for x in study.layers if is_wanted(x, study, case)
              or (x.is_of(case) and (x.shape.measures or x.shape.finds) and (measures or study.is_named(x)))]
    results, troubles = {}, {}
    for n, layer in enumerate(layers):
        part = token.part(0.2 + 0.8 * n / len(layers), 0.2 + 0.8 * (n + 1) / len(layers))
        try:
            results[layer.id] = evaluator.evaluate(layer, part, study)
        except CancelledError:
            raise
        except TidalLensError as error:
            troubles[layer.id] = str(error)
            continue
        if results[layer.id].trouble:
            troubles[layer.id] = results[layer.id].trouble
    for layer in study.masks():
        for name in quantities_on_keys(layer):
            if layer.is_of(case) and not evaluator.lacking(layer, study):
                evaluator.store.distribution(name, token)
    return Seen(study if case else with_ranges(study, evaluator), evaluator, results, troubles)


def with_ranges(study: Study, evaluator: Evaluator) -> Study:
    """The study with the ranges of a series' quantities as they are first seen: all its steps are coloured alike."""
    if len(evaluator.flow.times) < 2:
        return study
    for name in dict.fromkeys(n for x in study.layers if study.is_drawn(x) for n in quantities_on_keys(x)):
        known = key_of(study, evaluator, name)
        if known is not None and not known[0].coarse and keeps_range(study, name):
            study = with_range(study, name, seen_range(study, evaluator, name, known[0]))
    return study
