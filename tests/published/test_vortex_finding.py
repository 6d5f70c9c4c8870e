"""Vortex cores against vortices that are known in closed form, on every kind of cell.

Lamb, Hydrodynamics: the greatest swirl of a Gaussian vortex is at 1.1209 of its √(4νt), where e^a = 1 + 2a (solved here).
Batchelor 1964, J. Fluid Mech. 20; Burgers 1948, Adv. Appl. Mech. 1.
"""

import numpy as np
import pytest
from scipy.optimize import brentq

from making import cube_flow
from threads import threads
from tidal_lens.features.finding import USUAL
from tidal_lens.features.vortex_list import find_vortices
from tidal_lens.quantities.store import QuantityStore
from vortex_fields import ALPHA, batchelor, bent, burgers, greatest_circulation, helix, noisy, shear_layer

CELLS = ("structured", "hexahedra", "tetrahedra", "wedges")
RADIUS = 0.2


def found(velocity, kind="structured", n=39, warp=0.05, clear=True):
    flow = cube_flow(n, kind, warp, velocity, -1.0, 1.0)
    every = find_vortices(flow, QuantityStore(flow, flow.reference).values, 0.0)
    return [f for f in every if f.score >= USUAL] if clear else every


def off_axis(line, core):
    """Distances of the points of a line that are well inside from where the core is, in radii."""
    inside = np.abs(line).max(axis=1) < 0.8
    return np.linalg.norm((line - core(line))[inside][:, :2], axis=1) / RADIUS


def axis(line):
    return np.column_stack([0 * line[:, 0], 0 * line[:, 0], line[:, 2]])


def test_the_radius_of_the_greatest_swirl_is_solved_right():
    assert brentq(lambda a: np.exp(a) - 1 - 2 * a, 0.5, 3) == pytest.approx(ALPHA, abs=1e-9)
    assert np.sqrt(ALPHA) == pytest.approx(1.1209, abs=1e-4)


@pytest.mark.parametrize("kind", CELLS)
@pytest.mark.parametrize("velocity", [batchelor, burgers], ids=["Batchelor's", "Burgers' drifting across"])
def test_a_straight_vortex_is_one_line_in_its_place_with_its_circulation(velocity, kind):
    (one,) = found(velocity, kind)
    off = off_axis(one.line, axis)
    assert np.sqrt(np.mean(off**2)) < 0.05
    assert one.size > 1.8, "from one side of the flow to the other"
    assert abs(one.number("circulation")) == pytest.approx(greatest_circulation(1.0), rel=0.05)
    assert one.number("radius") == pytest.approx(RADIUS, rel=0.05)
    assert one.trust > 0.9


def test_place_and_radius_get_better_with_the_mesh():
    off, radii = [], []
    for n in (15, 29, 57):
        (one,) = found(batchelor, n=n)
        off.append(np.sqrt(np.mean(off_axis(one.line, axis) ** 2)))
        radii.append(abs(one.number("radius") / RADIUS - 1))
    assert off[2] < 0.5 * off[0]
    assert np.log2(radii[0] / radii[2]) / 2 > 1.5, "nearly at second order"


@pytest.mark.parametrize("kind", CELLS)
def test_one_per_cent_of_noise_leaves_it_alone_and_adds_none(kind):
    (one,) = found(lambda p: noisy(batchelor(p)), kind)
    assert np.sqrt(np.mean(off_axis(one.line, axis) ** 2)) < 0.05
    assert abs(one.number("circulation")) == pytest.approx(greatest_circulation(1.0), rel=0.05)


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_a_bent_core_is_followed(kind):
    (one,) = found(bent, kind, warp=0.0)
    assert np.sqrt(np.mean(off_axis(one.line, lambda line: helix(line[:, 2])) ** 2)) < 0.08
    assert one.size == pytest.approx(2 * np.hypot(1, 2 * np.pi * 0.25 / 2.5), rel=0.05), "the length of the helix"


@pytest.mark.parametrize("second", [1.0, -1.0], ids=["alike", "opposite"])
def test_two_vortices_are_two(second):
    def both(p):
        return batchelor(p, (-0.25, 0)) + batchelor(p, (0.25, 0), second)

    pair = found(both)
    assert len(pair) == 2
    places = sorted(float(np.median(f.line[:, 0])) for f in pair)
    assert places == pytest.approx([-0.25, 0.25], abs=0.03), "they draw each other's least λ2 a little"
    for one in pair:
        assert abs(one.number("circulation")) == pytest.approx(greatest_circulation(1.0), rel=0.09)
    turns = {next(t for t in f.told if "turns" in t) for f in pair}
    assert len(turns) == (1 if second > 0 else 2), "the sense of turning is told"


@pytest.mark.parametrize("kind", CELLS)
@pytest.mark.parametrize("noise", [0.0, 0.01])
def test_a_shear_layer_is_no_vortex(kind, noise):
    assert found(lambda p: noisy(shear_layer(p), noise), kind, n=31) == []


def test_the_number_of_threads_changes_nothing():
    """Work is cut into chunks for threads: whatever their number and order, the list is the same."""
    def field(p):
        return noisy(batchelor(p, (-0.3, 0)) + batchelor(p, (0.3, 0.1), -0.7), 0.02)

    told = []
    for count in (1, 2, 5):
        with threads(count):
            told.append([(f.score, f.size, tuple(n.value for n in f.numbers), f.line.tobytes()) for f in found(field, n=31, clear=False)])
    assert told[0] == told[1] == told[2]
    assert len(told[0]) >= 2


def test_a_ring_closes_on_itself():
    """A vortex ring: the speed falls off from a circle of radius 0.5 in the plane z = 0."""
    def ring(p):
        r = np.hypot(p[:, 0], p[:, 1])
        off, z = r - 0.5, p[:, 2]
        w = np.exp(-(off**2 + z**2) / 0.02)
        along = -z * w / np.maximum(r, 1e-9)
        return np.column_stack([along * p[:, 0], along * p[:, 1], off * w])

    rings = [f for f in found(ring, n=51, warp=0.0) if f.told[0] == "It closes on itself."]
    assert len(rings) == 1
    assert rings[0].size == pytest.approx(np.pi, rel=0.03)
    assert np.hypot(rings[0].line[:, 0], rings[0].line[:, 1]) == pytest.approx(0.5, abs=0.02)
