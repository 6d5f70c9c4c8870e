"""A study with the flow that it looks at: what the window, a run without one, and tests all begin from. No interface in it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import Distribution
from tidal_lens.study.basis import said_of
from tidal_lens.study.beginnings import first_choices, first_study
from tidal_lens.study.corrections import corrected
from tidal_lens.study.evaluate import Answers, Evaluated, Evaluator, key_range, methods_of, quantities_on_keys, reference_of
from tidal_lens.study.files import load_study
from tidal_lens.study.model import KeySetting, ReadingSetting, SeenRange, Study
from tidal_lens.study.partly import open_as
from tidal_lens.study.series import Series, share_mesh
from tidal_lens.work import Token

_WHOLE = ReadingSetting()
_SEEN = 30  # ranges kept of one quantity: under what the user says, and said before


@dataclass(frozen=True, eq=False)
class Session:
    """What was opened.

    Attributes
    ----------
    raw, flow : Flow
        As it was read, and as the study has it.
    evaluator : Evaluator
        Of that flow, with the study's reference state and methods.
    study : Study
        What is on the table.
    """

    raw: Flow
    flow: Flow
    evaluator: Evaluator
    study: Study

    def results(self, token: Token | None = None) -> dict[str, Evaluated]:
        """What all layers that are drawn came to, by their ids.

        Raises
        ------
        TidalLensError
            One of them cannot be made.
        CancelledError
            The token was cancelled.
        """
        wanted = token or Token()
        return {layer.id: self.evaluator.evaluate(layer, wanted, self.study) for layer in self.study.layers
                if self.study.is_drawn(layer) and layer.is_of(self.evaluator.answers.case) and layer.shape.geometry != "none"}

    def series(self) -> Series | None:
        """The steps of its series; None for steady flow."""
        flow, study = self.flow, self.study
        if len(flow.times) < 2:
            return None
        return Series(flow.path, self.evaluator, numbered=study.numbered, reading=study.reading,
                      correct=lambda read: corrected(read, study))


def stamp_of(case: str) -> tuple[int, int] | None:
    """Size and time of a case's file: another where it was written again; None where there is none."""
    try:
        found = Path(case).stat()
    except OSError:
        return None
    return found.st_size, found.st_mtime_ns


def open_session(path: Path, study: Study | None = None, token: Token | None = None, *, anyway: bool = False, numbered: bool = False,
                 reading: ReadingSetting = _WHOLE, case: int = 0) -> Session:
    """Open a result, as a study has it, or with what a result first shows.

    Parameters
    ----------
    path : Path
        The result.
    study : Study, optional
        What is on the table; it says itself what is read, and ``numbered`` and ``reading`` are passed over.
    token : Token, optional
        Progress and cancel.
    case : int
        Which of the study's cases it is, the first being 0.
    anyway, numbered, reading
        As of :func:`tidal_lens.study.partly.open_as`.

    Raises
    ------
    TidalLensError
        It cannot be opened.
    CancelledError
        The token was cancelled.
    """
    part, many = (reading, numbered) if study is None else (study.reading, study.numbered)
    raw = open_as(path, part, token, anyway=anyway, step=None if study is None else study.step, numbered=many)
    flow = raw if study is None else corrected(raw, study)
    own = Study(choices=first_choices(flow)) if study is None else study
    evaluator = Evaluator(flow, flow.reference if study is None else reference_of(flow, own), methods_of(own), Answers.none(case))
    begun = first_study(flow, evaluator.store).with_(choices=own.choices) if study is None else study
    facts = {"case": str(path.resolve()), "step": flow.step, "numbered": many, "reading": part}
    return Session(raw, flow, evaluator, begun.model_copy(update=facts))


def open_study(path: Path, token: Token | None = None) -> Session:
    """Open a study's file, and the result that it looks at.

    Raises
    ------
    TidalLensError
        One of them cannot be opened.
    CancelledError
        The token was cancelled.
    """
    study = load_study(path)
    if not study.case:
        raise StudyError("The study names no case.", str(path), "Open a result instead.")
    return open_session(Path(study.case), study, token, anyway=True)


def said_otherwise(raw: Flow, shown: Study, study: Study, answers: Answers | None, token: Token) -> Session:
    """The same result, taken as the user says now; read again where other parts or another step of it are wanted.

    Raises
    ------
    TidalLensError
        It cannot be read so.
    CancelledError
        The token was cancelled.
    """
    read = raw
    if raw.step != study.step or study.reading != shown.reading:
        read = open_as(raw.path, study.reading, token, step=study.step, numbered=study.numbered)
        share_mesh(raw, read)
    flow = corrected(read, study)
    return Session(read, flow, Evaluator(flow, reference_of(flow, study), methods_of(study), answers), study)


def keeps_range(study: Study, name: str) -> bool:
    """Whether a quantity of a series is coloured by the range in which it was first seen.

    Not what lines bring along: it is another with each edit of them.
    """
    return not (name.startswith(OWN) and any(name in quantities_on_keys(x) and x.shape.geometry == "lines" for x in study.layers))


def seen_range(study: Study, evaluator: Evaluator, name: str, spread: Distribution) -> SeenRange:
    """The range of a quantity of a series as it was first seen; this step's, where it was not seen before."""
    of = said_of(study, [name, *evaluator.store.below(name)])
    seen = next((r for r in study.ranges.get(name, ()) if r.of == of), None)
    if seen is not None:
        return seen
    low, high = spread.usual
    return SeenRange(low=low, high=high, least=spread.low, greatest=spread.high, of=of)


def with_range(study: Study, name: str, seen: SeenRange) -> Study:
    """The study with a range that a quantity of a series was first seen in; the same one where it is known."""
    old = study.ranges.get(name, ())
    return study if seen in old else study.model_copy(update={"ranges": {**study.ranges, name: (*old[-_SEEN:], seen)}})


def key_of(study: Study, evaluator: Evaluator, name: str) -> tuple[Distribution, float, float] | None:
    """Distribution and range of a quantity's colour key; None where it has not been worked out.

    All steps of a series are coloured alike: by the range of where the quantity was first seen.
    """
    if name.startswith(OWN):
        cards = [x.id for x in study.layers if study.is_drawn(x) and name in quantities_on_keys(x)]
        spread = evaluator.store.own_distribution(name, cards)
    else:
        spread = evaluator.store.known_distribution(name)
    if spread is None:
        return None
    counted = spread
    if len(evaluator.flow.times) > 1 and not spread.coarse and keeps_range(study, name):
        seen = seen_range(study, evaluator, name, spread)
        counted = replace(spread, usual=(seen.low, seen.high), low=seen.least, high=seen.greatest)
    low, high = key_range(evaluator.store.describe(name).scale, counted, study.keys.get(name, KeySetting()))
    return spread, low, high
