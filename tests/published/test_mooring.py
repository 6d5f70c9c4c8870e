"""The computed cylinder at Reynolds number 40 against the literature: what the solver says, and what Find finds in the shipped file.

From memory: Dennis & Chang 1970, J. Fluid Mech. 42: bubble 2.35 diameters, separation 53.8° from the rear, drag 1.52, nose Cp 1.14;
Coutanceau & Bouard 1977, J. Fluid Mech. 79 (experiment): bubble 2.13 diameters, separation 53.5°. Others lie between 2.13 and 2.36,
52.5° and 54.2°, 1.48 and 1.62.
"""

import numpy as np
import pytest

from tidal_lens.demo.mooring import ASSETS, solve
from tidal_lens.features.bubbles import find_bubbles
from tidal_lens.features.finding import USUAL
from tidal_lens.features.separation import find_separation
from tidal_lens.study.session import open_session

BUBBLE, SEPARATION, DRAG, NOSE = (2.13, 2.36), (52.5, 54.2), (1.48, 1.62), (1.11, 1.17)


def within(value, spread):
    return spread[0] <= value <= spread[1]


@pytest.fixture(scope="module")
def mooring():
    return open_session(ASSETS / "mooring.vtm")


def test_the_solver_is_within_the_spread_of_the_literature():
    found = solve(60)
    assert within(found.bubble, BUBBLE)
    assert within(found.separation, SEPARATION)
    assert within(found.drag, DRAG)
    assert within(2 * found.pressure[0, -1], NOSE)


def test_the_bubble_that_is_found_has_the_length_of_the_literature(mooring):
    store = mooring.evaluator.store
    bubbles, zeros = find_bubbles(mooring.flow, store.values, np.array([1.0, 0, 0]), density="density")
    (one,) = [b.finding for b in bubbles if b.finding.score >= USUAL]
    assert one.told[0].startswith("Closed")
    assert within(one.number("closes at") - 0.5, BUBBLE), "behind the rear of the cylinder"
    assert one.trust > 0.9
    kinds = sorted(z.sort for z in zeros if z.score >= USUAL)
    assert kinds == ["focus", "focus", "saddle"], "the middles of both eddies, and the point where the bubble closes"
    up, down = sorted((z.place for z in zeros if z.sort == "focus"), key=lambda p: -p[1])
    assert up == pytest.approx(down * [1, -1, 1], abs=2e-3), "alike on both sides"


def test_the_flow_separates_where_the_literature_says(mooring):
    found = find_separation(mooring.flow, mooring.evaluator.store.values("wall-shear")).findings
    angles = sorted(f.number("angle about the walls' middle") for f in found if f.sort == "separation line")
    assert len(angles) == 2
    assert all(within(abs(a), SEPARATION) for a in angles)
    ends = sorted(round(float(f.place[0]), 3) for f in found if f.sort == "attachment line")
    assert ends == [-0.5, 0.5], "nose and rear"


def test_the_nose_has_the_pressure_of_the_literature(mooring):
    cp = mooring.evaluator.store.values("cp")
    nose = np.linalg.norm(mooring.flow.points - [-0.5, 0, 0], axis=1).argmin()
    assert within(float(cp[nose]), NOSE)
