"""Filling: lines come by everywhere, none begins where one has been, and dead water fills by itself."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.seeds import FillSeeds, LineSeeds
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import Layer
from tidal_lens.tracing.fill import lattice
from tidal_lens.work import Token


def cellular(p):
    """Two rolls side by side in x, from a stream function sin(2 pi x) sin(pi z): neither ever enters the other."""
    x, z = 2 * np.pi * p[:, 0], np.pi * p[:, 2]
    return np.column_stack([np.pi * np.sin(x) * np.cos(z), 0 * x, -2 * np.pi * np.cos(x) * np.sin(z)])


@pytest.fixture(scope="module")
def evaluator():
    return Evaluator(cube_flow(21, velocity=cellular, p=lambda p: 1 + p[:, 0]), ReferenceState(1.0, 1.0, (1.0, 0, 0)))


def made(evaluator, *sets, **more):
    shape = StreamShape(seeds=sets, max_length=20.0, **more)
    return evaluator.evaluate(Layer(id="streamlines-1", name="Lines", shape=shape, look=LineLook()), Token()).made


def visited(lines, spacing):
    """Share of the cells of a lattice over the unit cube that lines pass through."""
    n = round(1 / spacing)
    pieces = [lines.points[a:b] for a, b in zip(lines.offsets[:-1], lines.offsets[1:], strict=True)]
    fine = np.concatenate([np.concatenate([p[:-1] + t * np.diff(p, axis=0) for t in np.linspace(0, 1, 6)]) for p in pieces if len(p) > 1])
    cells = np.clip((fine * n).astype(int), 0, n - 1)
    return len(np.unique(cells, axis=0)) / n**3


def test_a_lattice_covers_a_box():
    places = lattice(np.zeros(3), np.array([1.0, 0.5, 0.01]), 0.1)
    assert len(places) == 10 * 5
    np.testing.assert_allclose(places[:, 2], 0.005)
    np.testing.assert_allclose(np.unique(places[:, 0]), 0.05 + 0.1 * np.arange(10))


def test_space_is_covered_and_no_seed_is_where_a_line_was(evaluator):
    result = made(evaluator, FillSeeds(spacing=0.1, count=2000))
    lines = result.geometry
    assert visited(lines, 0.1) > 0.95
    alone = made(evaluator, LineSeeds(start=(0.05, 0.5, 0.5), end=(0.45, 0.5, 0.5), count=4)).geometry
    assert visited(alone, 0.1) < 0.15
    assert len(result.began) < 600, "far fewer than there are cells"


def test_what_a_stream_never_enters_fills_by_itself(evaluator):
    """Lines of one roll stay in it; the fill goes on in the other."""
    first = LineSeeds(start=(0.1, 0.5, 0.5), end=(0.4, 0.5, 0.5), count=5)
    before = made(evaluator, first).geometry
    assert before.points[:, 0].max() < 0.5 + 1e-3
    after = made(evaluator, first, FillSeeds(spacing=0.15, count=500))
    assert (after.began[5:, 0] > 0.5).any()
    assert visited(after.geometry, 0.2) > 0.95
    np.testing.assert_array_equal(after.began[:5], first.free())


def test_only_where_a_quantity_is_in_a_range(evaluator):
    result = made(evaluator, FillSeeds(spacing=0.1, quantity="place-x", keep="above", value=0.7, count=500))
    assert result.began[:, 0].min() >= 0.7
    own = made(evaluator, FillSeeds(quantity="place-x", keep="below", value=0.3))
    assert own.began[:, 0].max() <= 0.3
    assert 20 < len(own.began) <= 400, "the data choose a spacing"
    assert made(evaluator, FillSeeds(quantity="place-x", keep="above", value=7.0)).geometry.n_lines == 0
    assert len(made(evaluator, FillSeeds(spacing=0.05, count=30)).began) == 30


def test_it_says_when_a_spacing_is_too_small(evaluator):
    from tidal_lens.errors import StudyError

    with pytest.raises(StudyError, match="too small to fill"):
        made(evaluator, FillSeeds(spacing=1e-4))


def test_a_cancel_ends_it(evaluator):
    from tidal_lens.errors import CancelledError

    class Late(Token):
        """Cancelled when it is first looked at from the fill."""

        def report(self, fraction):
            self.cancel()

    shape = StreamShape(seeds=(FillSeeds(spacing=0.06, count=5000),), max_length=21.0)
    with pytest.raises(CancelledError):
        evaluator.evaluate(Layer(id="streamlines-1", name="Lines", shape=shape, look=LineLook()), Late())
