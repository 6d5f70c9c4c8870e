"""Cases beside the first: opened as the study has them, at the step that goes with the first's, their values brought to its nodes."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from tidal_lens.errors import StudyError, TidalLensError, UnitsError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.across import Across, across
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.model import OtherCase, Study
from tidal_lens.study.opened import Opened
from tidal_lens.study.session import Session, open_session
from tidal_lens.study.steps_beside import step_beside
from tidal_lens.work import Token, at_gate


def open_other(study: Study, number: int, here: Flow, token: Token | None = None) -> Session:
    """Open one of a study's other cases, at the step that goes with the first's.

    Parameters
    ----------
    study : Study
        What is on the table.
    number : int
        Which case, the first being 0.
    here : Flow
        The first.
    token : Token, optional
        Progress and cancel.

    Raises
    ------
    UnitsError
        Units are known in one of them only.
    TidalLensError
        It cannot be opened, or cannot be compared.
    CancelledError
        The token was cancelled.
    """
    other = study.others[number - 1]
    own = study.model_copy(update={"case": other.path, "reading": other.reading, "numbered": other.numbered, "step": 0})
    session = open_session(Path(other.path), own, token, anyway=True, case=number)
    compare_units(here, session.flow, other)
    step = step_beside(other, here, session.flow.times)
    if step != session.flow.step:
        session = open_session(Path(other.path), own.model_copy(update={"step": step}), token, anyway=True, case=number)
    return session


def compare_units(here: Flow, there: Flow, other: OtherCase) -> None:
    """Refuse a case whose units are not known to be those of the first, unless the user says so.

    Raises
    ------
    UnitsError
        They are not.
    StudyError
        One is a plane flow, and the other is not.
    """
    if here.si_units != there.si_units and not other.anyway:
        known, unknown = (here.title, there.title) if here.si_units else (there.title, here.title)
        raise UnitsError(f"{known} is in SI units, {unknown} does not say in which units it is.", other.path)
    if (here.normal is None) != (there.normal is None):
        raise StudyError("One of the two is a plane flow, the other is not.", other.path, "Compare flows of the same sort.")


@dataclass(eq=False)
class Ways:
    """Ways from the nodes of one mesh to those of another, found once for all steps on them."""

    _gate: threading.Lock = field(default_factory=threading.Lock)
    _found: dict[tuple[object, ...], Across] = field(default_factory=dict)

    def between(self, there: Flow, here: Flow, token: Token | None) -> Across:
        """The way from one flow to another; only the newest is kept."""
        key = there.mesh_number, here.mesh_number, *(frozenset(b.name for b in flow.boundaries if b.solid) for flow in (there, here))
        with at_gate(self._gate):
            if key not in self._found:
                self._found = {key: across(there, here, token)}
            return self._found[key]


@dataclass(frozen=True)
class Carried:
    """A case beside another, as its quantities see it: see :class:`tidal_lens.quantities.stored.Elsewhere`."""

    store: QuantityStore
    here: Flow
    ways: Ways

    def bring(self, values: NDArray[Any], token: Token | None) -> NDArray[Any]:
        """Its node values at the nodes of the first."""
        return self.ways.between(self.store.flow, self.here, token).bring(values, token)


def carried(evaluator: Evaluator, here: Flow, ways: Ways) -> Carried:
    """A case beside the first."""
    return Carried(evaluator.store, here, ways)


def open_all(session: Session, tell: Callable[[str], object] = lambda _line: None) -> Opened:
    """The study's cases; what cannot be opened is told and left out."""
    study, flow, titles = session.study, session.flow, session.study.case_titles
    cases: dict[int, Opened] = {}
    beside: list[Carried | None] = []
    for number in range(1, len(study.others) + 1):
        try:
            other = open_other(study, number, flow)
        except TidalLensError as error:
            tell(f"{titles[number]}: {error}")
            beside.append(None)
            continue
        cases[number] = Opened.of(other)
        beside.append(carried(other.evaluator, flow, Ways()))
    session.evaluator.store.others = tuple(beside)
    return replace(Opened.of(session), others=cases)
