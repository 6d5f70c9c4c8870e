"""Lines through the steps of a series against closed forms, scipy, and steady flow."""

from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from making import cube_points
from tidal_lens.errors import CancelledError
from tidal_lens.flow.case import Block, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.tracing.seeds import rows_of
from tidal_lens.tracing.streamlines import End, TraceSettings, trace_lines
from tidal_lens.tracing.unsteady import Moment, Releases, Steps, pathlines, streaklines, timelines
from tidal_lens.work import Token

U, V, W = 1.0, 0.5, 2.0  # a stream along x that swings along y with the angular frequency W
SEEDS = np.array([[-3.0, 0.0, 0.0], [-3.0, 0.5, 0.2], [-3.0, 1.0, 0.4]])


def block(points, n):
    return Flow("box", Path("box"), points, (Block("a", StructuredGrid((n, n, n)), 0, 0),), {})


def steps_of(wind, times, now, *, n=9, size=8.0, moved=lambda _t: np.zeros(3)):
    """A series of a velocity field wind(points, time) in a cube about the origin, whose mesh may move."""
    rest = size * (cube_points(n) - 0.5)
    kept = {}

    def at(step):
        if step not in kept:
            shift = moved(times[step])
            flow = block(rest + shift, n) if shift.any() else own
            kept[step] = Moment.of(times[step], mesh_of(flow), wind(flow.points, times[step]))
        return kept[step]

    own = block(rest + moved(times[now]), n)
    return Steps(own, times, now, at)


def swinging(points, time):
    return np.tile([U, V * np.cos(W * time), 0.0], (len(points), 1))


def halvings(error):
    errors = np.array([error(n) for n in (11, 21, 41)])
    return np.log2(errors[:-1] / errors[1:]), errors


def lines_of(found):
    return np.repeat(np.arange(found.n_lines), np.diff(found.offsets))


def test_pathlines_of_a_swinging_stream_are_sines_of_second_order():
    """x = x0 + U t, y = y0 + (V / W) sin W t in closed form."""

    def error(n):
        found = pathlines(steps_of(swinging, np.linspace(0.0, 3.0, n), 0), SEEDS)
        assert found.n_lines == 3
        assert np.allclose(found.time[found.offsets[1:] - 1], 3.0)
        start = SEEDS[found.seeds[lines_of(found)]]
        exact = start + np.column_stack([U * found.time, V / W * np.sin(W * found.time), 0.0 * found.time])
        return np.abs(found.points - exact).max()

    orders, errors = halvings(error)
    assert errors[-1] < 1e-3
    assert (orders > 1.9).all()


def test_streaklines_of_a_swinging_stream_are_of_second_order():
    """A particle of age s is at x0 + U s, y0 + (V / W) (sin W t - sin W (t - s))."""

    def error(n):
        found = streaklines(steps_of(swinging, np.linspace(0.0, 3.0, n), n - 1), SEEDS, Releases(0.07))
        assert found.n_lines == 3
        assert np.diff(found.time[:found.offsets[1]]) == pytest.approx(0.07)
        exact = SEEDS[found.seeds[lines_of(found)]] + np.column_stack(
            [U * found.time, V / W * (np.sin(W * 3.0) - np.sin(W * (3.0 - found.time))), 0.0 * found.time])
        return np.abs(found.points - exact).max()

    orders, errors = halvings(error)
    assert errors[-1] < 1e-3
    assert (orders > 1.9).all()


def test_timelines_go_with_the_stream_and_keep_their_rows():
    steps = steps_of(swinging, np.linspace(0.0, 3.0, 61), 60)
    found = timelines(steps, np.concatenate([SEEDS, SEEDS + np.array([0.0, -2.0, 0.0])]), np.repeat([4, 7], 3), Releases(1.0))
    assert found.n_lines == 8, "released at 0, 1, 2 and now, two rows"
    assert len(found.begun) == found.n_seeds == 6
    for line in range(8):
        own = found.points[found.offsets[line]:found.offsets[line + 1]]
        age = found.time[found.offsets[line]]
        drift = np.array([U * age, V / W * (np.sin(6.0) - np.sin(W * (3.0 - age))), 0.0])
        assert own == pytest.approx(SEEDS + drift - [0.0, 2.0 * (line % 2), 0.0], abs=1e-3)


def test_in_steady_flow_all_three_are_streamlines():
    """Only there, as every textbook says."""

    def wind(points, _time):
        return np.column_stack([-points[:, 1], points[:, 0], 0.3 + 0.0 * points[:, 0]])

    steps = steps_of(wind, (0.0, 0.3, 1.1), 2, n=13)
    seeds = np.array([[1.0, 0.0, -1.0], [2.0, 0.5, -1.0]])
    mesh = steps.at(2).mesh
    settings = TraceSettings("forward", max_time=1.1, cell_tolerance=1e-7)
    lines = trace_lines(steps.flow, mesh, steps.at(2).velocity, seeds, settings)
    began = steps_of(wind, (0.0, 0.3, 1.1), 0, n=13)
    paths = pathlines(began, seeds, tolerance=1e-6)
    streaks = streaklines(steps, seeds, Releases(0.1, tolerance=1e-6))
    for found in (paths, streaks):
        for line in (0, 1):
            a, b = (x.points[x.offsets[line + 1] - 1] for x in (lines, found))
            assert b == pytest.approx(a, abs=1e-5)
    assert streaks.time[streaks.offsets[1] - 1] == pytest.approx(1.1)
    assert paths.more["speed on the way"][0] == pytest.approx(np.hypot(1.0, 0.3))


def test_scipy_agrees_on_a_whirl_that_wanders():
    """The velocity is linear in place and in time, so that nothing is lost in interpolating it; solve_ivp is the second opinion."""

    def wind(points, time):
        return np.column_stack([-points[:, 1] + 0.5 * time, points[:, 0], 0.2 * time + 0.0 * points[:, 0]])

    steps = steps_of(wind, (0.0, 0.5, 2.0), 1)
    found = pathlines(steps, SEEDS[:1] + np.array([2.0, 0.0, 0.0]), direction="both", tolerance=1e-8)
    for end, at in ((0.0, 0), (2.0, -1)):
        exact = solve_ivp(lambda t, p: wind(p[None], t)[0], (0.5, end), SEEDS[0] + [2.0, 0.0, 0.0], rtol=1e-11, atol=1e-12).y[:, -1]
        assert found.points[at] == pytest.approx(exact, abs=1e-6)
        assert found.time[at] == pytest.approx(end - 0.5)
    assert (found.ends == End.LAST).all()
    assert (np.diff(found.time) > 0.0).all()


def test_backward_from_where_it_came_to():
    ahead = pathlines(steps_of(swinging, np.linspace(0.0, 3.0, 7), 0), SEEDS, tolerance=1e-7)
    ends = ahead.points[ahead.offsets[1:] - 1]
    back = pathlines(steps_of(swinging, np.linspace(0.0, 3.0, 7), 6), ends, direction="backward", tolerance=1e-7)
    assert back.points[back.offsets[:-1]] == pytest.approx(SEEDS, abs=1e-5)
    assert (back.time <= 0.0).all()


def test_a_mesh_that_moves_changes_nothing_of_where_particles_go():
    """The same uniform wind that grows with time, seen on a mesh at rest and on one that is carried along."""

    def wind(points, time):
        return np.tile([1.0 + time, 0.0, 0.0], (len(points), 1))

    times = np.linspace(0.0, 2.0, 5)
    moving = steps_of(wind, times, 0, moved=lambda t: np.array([t, 0.3 * t, 0.0]))
    found = pathlines(moving, SEEDS)
    assert found.points[found.offsets[1:] - 1] == pytest.approx(SEEDS + np.array([4.0, 0.0, 0.0]), abs=1e-9)
    values = found.stencil.apply(moving.flow.points[:, 0])
    inside = found.points[:, 0] <= 4.0
    assert inside.any()
    assert values[inside] == pytest.approx(found.points[inside, 0])
    gone = pathlines(steps_of(wind, times, 0, moved=lambda t: np.array([3.0 * t, 0.0, 0.0])), SEEDS)
    assert (gone.ends[:, 1] == End.LEFT).all(), "the mesh went away from them"


def test_where_the_mesh_of_this_step_does_not_reach_there_is_no_value():
    steps = steps_of(lambda p, _t: np.tile([3.0, 0.0, 0.0], (len(p), 1)), (0.0, 2.0), 0, moved=lambda t: np.array([3.0 * t, 0.0, 0.0]))
    found = pathlines(steps, np.array([[2.0, 0.0, 0.0]]))
    values = found.stencil.apply(steps.flow.points[:, 0])
    assert found.points[-1, 0] == pytest.approx(8.0)
    assert np.isnan(values[-1])
    assert values[0] == pytest.approx(2.0)


def test_ends_are_told_and_streaks_lose_what_has_left():
    steps = steps_of(swinging, np.linspace(0.0, 3.0, 31), 30)
    outside = np.array([[9.0, 0.0, 0.0]])
    seeds = np.concatenate([[[2.5, 0.0, 0.0]], SEEDS[:1], outside])
    found = streaklines(steps, seeds, Releases(0.1))
    assert found.seeds.tolist() == [0, 1]
    assert found.ends[:, 1].tolist() == [End.LEFT, End.LAST]
    assert found.points[:, 0].max() <= 4.0
    assert found.time[:found.offsets[1]].max() == pytest.approx(1.5, abs=0.11), "the others have left"
    short = streaklines(steps, SEEDS[:1], Releases(0.1, max_time=1.0))
    assert short.time.max() == pytest.approx(1.0)
    assert short.ends[0, 1] == End.TIME
    paths = pathlines(steps_of(swinging, np.linspace(0.0, 3.0, 31), 0), seeds, max_time=2.0)
    assert paths.ends[:, 1].tolist() == [End.LEFT, End.TIME]
    assert paths.census == ((End.LEFT.words, 1), (End.TIME.words, 1))
    few = pathlines(steps_of(swinging, np.linspace(0.0, 3.0, 31), 0), SEEDS[:1], max_points=10)
    assert len(few.points) == 10
    assert few.ends[0, 1] == End.STEPS


def test_two_steps_are_looked_at_at_a_time_each_once_or_twice():
    steps, asked = steps_of(swinging, np.linspace(0.0, 3.0, 13), 0), []

    def at(step):
        asked.append(step)
        return steps.at(step)

    pathlines(Steps(steps.flow, steps.times, 0, at), SEEDS)
    pairs = asked[:24]
    assert pairs == [n for k in range(12) for n in (k, k + 1)]


def test_where_neighbours_are_drawn_apart_others_are_released_between_them():
    """A straining wind doubles the distance of neighbours again and again; what is put between lies where it was released, exactly."""

    def wind(points, _time):
        return np.column_stack([np.ones(len(points)), 1.5 * points[:, 1], -1.5 * points[:, 2]])

    steps, how = steps_of(wind, (0.0, 1.0, 2.0), 2), Releases(0.5, spacing=0.15, tolerance=1e-8)
    row = np.array([[-3.0, -0.1, 0.0], [-3.0, 0.1, 0.0]])
    found = timelines(steps, row, np.zeros(2, np.int64), how)
    sizes = np.diff(found.offsets)
    assert found.n_lines == 5
    assert found.begun.tolist() == [0, 1]
    assert sizes[0] == 3
    assert sizes[-1] == 33, "no more than five halvings"
    ages = found.time[found.offsets[:-1]]
    for line, age in enumerate(ages):
        own = found.points[found.offsets[line]:found.offsets[line + 1]]
        exact = np.linspace(-0.1, 0.1, len(own)) * np.exp(1.5 * age)
        assert own[:, 1] == pytest.approx(exact, abs=1e-5)
        assert own[:, 0] == pytest.approx(-3.0 + age)
    torn = timelines(steps, row, np.zeros(2, np.int64), Releases(0.5, spacing=0.01, tolerance=1e-8))
    assert torn.time.max() < 2.0, "drawn out to more than six times that by then: no line any more"
    streaks = streaklines(steps, row[:1], Releases(1.0, spacing=0.15))
    assert np.linalg.norm(np.diff(streaks.points, axis=0), axis=1).max() <= 0.15
    assert len(streaklines(steps, row[:1], Releases(1.0)).points) == 3


def test_cancelled_between_steps():
    token = Token()
    steps = steps_of(swinging, np.linspace(0.0, 3.0, 13), 0)

    def at(step):
        if step == 3:
            token.cancel()
        return steps.at(step)

    with pytest.raises(CancelledError):
        pathlines(Steps(steps.flow, steps.times, 0, at), SEEDS, token=token)


def test_rows_end_with_their_set_and_where_the_next_is_far():
    places = np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0], [9, 0, 0], [10, 0, 0], [11, 0, 0]])
    assert rows_of(places, np.array([0, 0, 0, 0, 0, 1])).tolist() == [0, 0, 0, 1, 1, 2]
    assert rows_of(places[:1], np.zeros(1, np.int64)).tolist() == [0]
