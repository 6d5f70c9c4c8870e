"""Every measure on flows that lack something, and with what was begun on another flow: a clear message at worst."""

import contextlib

import numpy as np
import pytest

from making import cube_flow
from plates import bed, with_wall
from tidal_lens.demo import mooring
from tidal_lens.errors import TidalLensError
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.streamlines import new_streamlines
from tidal_lens.study.model import Study
from tidal_lens.study.session import open_session
from tidal_lens.work import Token

MEASURES = tuple(k for k in KINDS if k.station == "measure")


def some(p):
    return np.where(p[:, :1] > 0.5, np.nan, 1.0) * np.array([1.0, 0, 0])


FLOWS = {
    "no velocity": lambda: cube_flow(5, s=lambda p: p[:, 0]),
    "holes": lambda: with_wall(cube_flow(7, velocity=some, p=lambda p: np.where(p[:, 0] > 0.3, np.nan, 1.0)), bed),
    "at rest": lambda: with_wall(cube_flow(5, "tetrahedra", velocity=lambda p: 0 * p, p=lambda p: 0 * p[:, 0]), bed),
    "one cell": lambda: with_wall(cube_flow(2, velocity=lambda p: p, p=lambda p: p[:, 0]), bed),
    "beyond all bounds": lambda: with_wall(cube_flow(6, velocity=lambda p: 1e200 * p, p=lambda p: 1e300 * p[:, 0]), bed),
    "nothing known": lambda: with_wall(cube_flow(5, velocity=lambda p: np.nan * p, p=lambda p: np.nan * p[:, 0]), bed),
    "plane": lambda: open_session(mooring.ASSETS / "mooring.vtm").flow,
}


@pytest.fixture(scope="module")
def evaluators():
    flows = {name: make() for name, make in FLOWS.items()}
    return {name: Evaluator(flow, flow.reference) for name, flow in flows.items()}


def begun_on(evaluator):
    """All measures that can be begun on a flow, with a study of lines that they may be of."""
    study = Study()
    try:
        lines = study.layer_of(new_streamlines(evaluator.store))
        study = study.adding(lines)
    except TidalLensError:
        lines = None
    out = []
    for kind in MEASURES:
        if kind.lacks(evaluator.flow):
            continue
        with contextlib.suppress(TidalLensError):
            out.append(kind.begin(evaluator.store, lines.id if lines is not None and kind.shape.takes(lines.shape) else ""))
    return study, out


@pytest.mark.filterwarnings("ignore::RuntimeWarning")
@pytest.mark.parametrize("name", FLOWS)
def test_measures_come_to_something_or_say_why_not(evaluators, name):
    told, messages = 0, []
    for other in evaluators.values():
        study, begun = begun_on(other)
        for one in begun:
            layer = study.layer_of(one)
            try:
                made = evaluators[name].evaluate(layer, Token(), study.adding(layer)).made
            except TidalLensError as error:
                messages.append(str(error))
                continue
            assert made.tables, one.name
            assert all(len(row) == len(t.heads) for t in made.tables for row in t.rows), one.name
            told += 1
    assert all(text.endswith((".", "?")) for text in messages), messages
    assert told > 0 or name == "nothing known"
