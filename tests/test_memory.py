"""What is kept stays within one limit, the longest unused is given up first."""

import gc
import threading

import numpy as np
import pytest

from making import abc, cube_flow
from tidal_lens.errors import CancelledError, FileError
from tidal_lens.formats.reading import TooLargeError, session
from tidal_lens.memory import KEEPER, Keeper, limit, new_group, say_limit
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.model import Layer
from tidal_lens.work import Token, checkpoint, run_chunks, working_for


def test_the_longest_unused_of_all_kinds_goes_first(memory_limit):
    keeper, gone = Keeper(), []
    memory_limit(100)
    for n, kind in enumerate(("steps", "quantities", "shapes", "colours")):
        keeper.note((7, n), 30, lambda n=n: gone.append(n), kind)
        keeper.use((7, 0))
    assert gone == [1]
    assert keeper.total == 90
    assert keeper.by_kind() == {"steps": 30, "shapes": 30, "colours": 30}
    keeper.note("view", 60, lambda: gone.append("view"), "pictures", fixed=True)
    assert gone == [1, 2, 3], "what is in use is counted, but stays"
    keeper.note((8, 0), 500, lambda: gone.append("large"), "steps")
    assert gone == [1, 2, 3, 0]
    assert keeper.total == 560, "the newest stays, whatever its size"
    keeper.forget_group(8)
    assert keeper.total == 60


def test_a_third_of_the_machine_is_the_usual_limit(memory_limit):
    import psutil

    assert limit() == psutil.virtual_memory().total // 3
    memory_limit(12345)
    assert limit() == 12345


def test_stores_and_shapes_count_and_are_forgotten_with_their_owners(memory_limit):
    gc.collect()
    before = KEEPER.total
    flow = cube_flow(12, "hexahedra", velocity=abc)
    evaluator = Evaluator(flow, flow.reference)
    layers = [Layer(id="s", name="s", shape=SliceShape(axis=0, position=p), look=SurfaceLook(colour_by="speed")) for p in (0.3, 0.5)]
    for layer in layers:
        evaluator.evaluate(layer, Token())
    kinds = KEEPER.by_kind()
    assert kinds["shapes"] > 0
    assert kinds["quantities"] >= 8 * flow.n_points
    memory_limit(before + 1)
    assert evaluator.store.kept("speed") is None
    assert KEEPER.total <= before + 1
    again = evaluator.evaluate(layers[0], Token())
    assert np.isfinite(again.colours).all(), "what was given up is worked out again"
    del evaluator, again
    gc.collect()
    assert KEEPER.total <= before  # what stood there before may have been given up as well


def test_another_context_takes_values_along_and_counts_them_once_each(memory_limit):
    flow = cube_flow(8, velocity=abc)
    store = QuantityStore(flow, flow.reference)
    speed = store.values("speed")
    other = store.with_context(flow.reference, store.methods)
    assert other.kept("speed") is speed
    assert new_group() > 0


def test_a_reading_that_grows_beyond_the_limit_is_refused(memory_limit):
    """What a file declares is small, what comes of it is not."""
    from tidal_lens.formats.reading import Reading

    memory_limit(60_000_000)
    held = []

    def grow():
        with session(Reading(), Token()):
            for _ in range(400):
                held.append(np.ones(500_000))
                checkpoint()
                threading.Event().wait(0.005)

    with pytest.raises(TooLargeError, match="of memory"):
        grow()
    assert sum(h.nbytes for h in held) < 1_000_000_000
    with session(Reading(), Token()):
        checkpoint()


def test_work_is_given_up_at_chunks_and_checkpoints():
    token = Token()
    with working_for(token):
        checkpoint()
        done = []

        def one(begin, _end):
            done.append(begin)
            token.cancel()

        with pytest.raises(CancelledError):
            run_chunks(one, 1000, 1)
        assert len(done) < 20
        with pytest.raises(CancelledError):
            checkpoint()
    checkpoint()
    refused = Token()
    refused.refuse(FileError("no", "here"))
    assert not refused.unwanted
    with pytest.raises(FileError, match="no"):
        refused.check()
    say_limit(None)
