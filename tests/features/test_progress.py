"""Finders tell how far they are, only onward, and stop when they are asked to."""

import pytest

from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.errors import CancelledError, StudyError
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.model import Study
from tidal_lens.study.session import open_session
from tidal_lens.work import Token

FINDERS = [k for k in KINDS if k.station == "find"]


@pytest.fixture(scope="module")
def session():
    return open_session(ASSETS / "kittiwake coarse.vtm")


@pytest.mark.parametrize("kind", FINDERS, ids=lambda k: k.name)
def test_progress_goes_on_and_cancel_stops_it(kind, session):
    evaluator = session.evaluator
    layer = Study().layer_of(kind.begin(evaluator.store, ""))
    evaluator.evaluate(layer, Token())  # quantities are there
    told = []
    layer.shape.make(evaluator.sight(Token(told.append)))
    assert len(told) > 3
    assert told == sorted(told), "it never goes back"
    assert told[-1] <= 1.0
    stopped = Token()

    def give_up(fraction):
        if fraction >= 0.3:
            stopped.cancel()

    stopped.on_progress(give_up)
    with pytest.raises(CancelledError):
        layer.shape.make(evaluator.sight(stopped))


def test_a_part_of_a_token_is_cancelled_and_refused_with_it():
    told = []
    whole = Token(told.append)
    part = whole.part(0.5, 0.7)
    part.report(0.5)
    assert told == pytest.approx([0.6])
    part.part(0.0, 0.5).report(1.0)
    assert told[-1] == pytest.approx(0.6)
    whole.refuse(StudyError("No."))
    assert part.cancelled
    assert not part.unwanted
    with pytest.raises(StudyError):
        part.check()
    other = Token()
    other.part(0, 1).cancel()
    assert other.unwanted
