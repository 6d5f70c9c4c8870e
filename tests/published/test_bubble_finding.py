"""Recirculation against closed bubbles: Hill 1894, and a bubble on a wall from its stream function."""

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.features.bubbles import find_bubbles
from tidal_lens.features.finding import USUAL
from tidal_lens.features.zeros import zeros_of
from tidal_lens.quantities.store import QuantityStore

BALL = 4 / 3 * np.pi


def hill(p):
    """Hill's spherical vortex of radius 1 at rest in a stream of speed 1 along x."""
    x, y, z = p.T
    s2 = y * y + z * z
    r = np.sqrt(np.maximum(x * x + s2, 1e-30))
    inside = r < 1
    u = np.where(inside, -1.5 * (1 - (r**2 + s2)), 1 - 1 / r**3 + 1.5 * s2 / r**5)
    v = np.where(inside, -1.5 * x, -1.5 * x / r**5)
    return np.column_stack([u, v * y, v * z])


def found(n, kind="structured", velocity=hill, low=-2.0, high=2.0):
    flow = cube_flow(n, kind, 0.02, velocity, low, high)
    bubbles, zeros = find_bubbles(flow, QuantityStore(flow, flow.reference).values, np.array([1.0, 0, 0]))
    return flow, [b for b in bubbles if b.finding.score >= USUAL], [z for z in zeros if z.score >= USUAL]


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra", "wedges"])
def test_hills_bubble_has_its_volume_and_is_closed(kind):
    _, (one,), zeros = found(41, kind)
    finding = one.finding
    assert finding.number("volume") == pytest.approx(BALL, rel=0.02)
    assert finding.number("volume that runs back") == pytest.approx(0.5 * BALL, rel=0.02), "inside x² + 2 s² < 1: half of the ball"
    assert finding.number("length") == pytest.approx(2.0, rel=0.01)
    assert finding.number("width") == pytest.approx(2.0, rel=0.03)
    assert finding.told[0].startswith("Closed")
    assert finding.number("closes at") == pytest.approx(1.0, abs=0.01)
    radius = np.linalg.norm(one.skin.points, axis=1)
    assert radius.mean() == pytest.approx(1.0, abs=0.01)
    assert radius.std() < 0.03
    saddles = sorted(z.place[0] for z in zeros if z.sort == "saddle" and np.hypot(*z.place[1:]) < 0.1)
    assert saddles == pytest.approx([-1.0, 1.0], abs=0.02), "both stagnation points"
    ring = [z for z in zeros if np.hypot(*z.place[1:]) > 0.5]
    assert ring == [], "of the ring of centres at 1/√2 no chance point passes"


def test_the_volume_of_hills_bubble_converges():
    errors = [abs(found(n)[1][0].finding.number("volume") / BALL - 1) for n in (25, 49)]
    assert errors[1] < 0.6 * errors[0]
    assert errors[0] < 0.03


def wall_bubble(p):
    """ψ = y² (x² − 1 + 2 y) above the wall y = 0: fluid runs back under y = (1 − x²)/3, the bubble is under (1 − x²)/2."""
    x, y, _ = p.T
    return np.column_stack([2 * y * (x * x - 1) + 6 * y * y, -2 * x * y * y, 0 * x])


def test_a_bubble_on_a_wall_has_its_volume():
    """Area within ψ = 0: the integral of (1 − x²)/2 from −1 to 1 is 2/3; two thirds of it run back."""
    def up(p):
        return wall_bubble(np.column_stack([p[:, 0], 0.5 * (p[:, 1] + 1.5), p[:, 2]])) * np.array([1.0, 2.0, 1.0])

    # The box is from −1.5 to 1.5; its floor y = −1.5 is the wall, and heights are doubled.
    _, (one,), _ = found(49, "structured", up, -1.5, 1.5)
    assert one.finding.number("volume") == pytest.approx(2 / 3 * 2 * 3, rel=0.03), "two high, three deep"
    assert one.finding.number("volume that runs back") == pytest.approx(4 / 9 * 2 * 3, rel=0.03)
    assert one.finding.number("length") == pytest.approx(2.0, rel=0.03)


@pytest.mark.parametrize("kind", ["structured", "tetrahedra", "wedges"])
def test_critical_points_of_a_linear_field_are_exact(kind):
    gradient = np.array([[1.0, 0.3, 0.0], [-0.2, -2.0, 0.1], [0.0, 0.4, 0.7]])
    place = np.array([0.13, -0.21, 0.32])
    flow = cube_flow(11, kind, 0.05, lambda p: (p - place) @ gradient.T, -1.0, 1.0)
    velocity = QuantityStore(flow, flow.reference).values("velocity")
    (one,) = zeros_of(flow, velocity)
    assert one.place == pytest.approx(place, abs=1e-6)
    assert one.gradient == pytest.approx(gradient, abs=1e-6)
    assert one.kind == "saddle"
    assert one.incoming == 1


@pytest.mark.parametrize(("gradient", "kind"), [(np.diag([1.0, 2.0, 3.0]), "node"), (np.diag([-1.0, -2.0, 0.5]), "saddle"),
                                                (np.array([[1.0, -3.0, 0], [3.0, 1.0, 0], [0, 0, 0.5]]), "focus")])
def test_kinds_of_critical_points(gradient, kind):
    """Chong, Perry & Cantwell 1990: nodes have rates of one sign, foci turn."""
    flow = cube_flow(8, "structured", 0.0, lambda p: (p - 0.03) @ gradient.T, -1.0, 1.0)
    (one,) = zeros_of(flow, QuantityStore(flow, flow.reference).values("velocity"))
    assert one.kind == kind
