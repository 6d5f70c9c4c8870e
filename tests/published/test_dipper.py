"""The rotor that comes along, as it is shipped: balances that hold for any machine, and what was computed of this one."""

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tidal_lens.demo.dipper import BACK, PRESSURE, RADIUS, RATE, SOUND, TEMPERATURE
from tidal_lens.demo.shipped import demo_path
from tidal_lens.flow.annulus import passages_of
from tidal_lens.formats.registry import open_flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.beginnings import first_choices
from tidal_lens.study.evaluate import Evaluator, methods_of
from tidal_lens.study.kinds.round_axis import RoundAxisShape
from tidal_lens.study.kinds.round_blade import RoundBladeShape
from tidal_lens.study.model import Study
from tidal_lens.study.tables import numbers_of
from tidal_lens.work import Token

TIP = RATE * RADIUS


@pytest.fixture(scope="module")
def evaluator():
    flow = open_flow(demo_path("dipper.cgns"))
    return Evaluator(flow, flow.reference, methods_of(Study(choices=first_choices(flow))))


@pytest.fixture(scope="module")
def store(evaluator) -> QuantityStore:
    return evaluator.store


def told(evaluator, shape):
    made = shape.make(evaluator.sight(Token()))
    return made, numbers_of(made.tables)


def test_the_file_says_what_it_is(evaluator):
    flow = evaluator.flow
    assert flow.turning.rate == pytest.approx(2339.5, abs=0.1)
    assert pytest.approx(0.55 * np.sqrt(1.4 * 287.05 * 288.15)) == TIP
    kinds = {b.name: b.kind for b in flow.boundaries}
    assert kinds["Dipper hub"] == "hub"
    assert kinds["Dipper casing"] == "casing"
    assert kinds["Dipper blade"] == "blade"
    assert sorted(kinds.values()).count("periodic") == 2
    assert passages_of(flow, (0, 0, 0), (1, 0, 0)) == 9
    assert flow.si_units
    assert flow.n_cells == 218_240
    ahead, behind = ({b.name: b.points for b in flow.boundaries}[f"periodic, {which} in turning"] for which in ("ahead", "behind"))
    c, s = np.cos(2 * np.pi / 9), np.sin(2 * np.pi / 9)
    turned = behind @ np.array([[1, 0, 0], [0, c, s], [0, -s, c]])
    gap, _ = cKDTree(ahead).query(turned)
    assert gap.max() < 2e-8, "both sides are one, a pitch apart"


def test_mass_goes_through_and_work_meets_eulers_equation(evaluator):
    """Euler's turbomachine equation (any textbook, as Dixon & Hall, Fluid Mechanics and Thermodynamics of Turbomachinery, 1.7).

    Ω Δ(r cθ) is the rise of the total enthalpy but for the friction of the casing, which stands: some 0.6 % of the work.
    """
    _, numbers = told(evaluator, RoundAxisShape(quantity="file:Pressure", by="mass", stations=(0.12, 0.8), rays=240))
    assert numbers["passages"] == 9
    # What the solver counted, through the faces of its cells, is 0.076295 in its own units, of one passage.
    own = 9 * 0.076295 * PRESSURE / (287.05 * TEMPERATURE) * SOUND * RADIUS**2
    assert numbers["mass flow before"] == pytest.approx(own, rel=0.01)
    assert numbers["mass flow behind"] == pytest.approx(numbers["mass flow before"], rel=0.002)
    assert numbers["total-pressure ratio"] == pytest.approx(1.0864, abs=0.003)
    warm = numbers["total-temperature ratio"]
    assert warm == pytest.approx(1.0269, abs=0.0005)
    work = numbers["work, rise of the total enthalpy"]
    assert work == pytest.approx((warm - 1.0) * TEMPERATURE * 3.5 * 287.05, rel=0.005)
    assert numbers["Euler's work over the rise of the total enthalpy"] == pytest.approx(0.994, abs=0.003)
    assert numbers["speed of the tip"] == pytest.approx(TIP, rel=1e-3)
    assert numbers["work coefficient"] == pytest.approx(work / TIP**2, rel=0.01)
    ideal = (numbers["total-pressure ratio"] ** (1 / 3.5) - 1.0) / (warm - 1.0)
    assert numbers["efficiency, total to total"] == pytest.approx(ideal, rel=1e-3)


def test_rothalpy_stays_the_same_but_for_friction(store):
    """Rothalpy is constant along relative streamlines of steady flow without friction and heat (Lyman 1993, J. Turbomach. 115, 213).

    Away from walls and blade rows of cells at the nose it stays within a few thousandths of the tip's speed squared.
    """
    flow = store.flow
    rothalpy = store.values("rothalpy")
    ahead = 1.4 / 0.4 * 287.05 * TEMPERATURE
    off = (rothalpy - ahead) / TIP**2
    span, x = store.values("span-share"), flow.points[:, 0] / RADIUS
    core = (span > 0.15) & (span < 0.85)
    inlet, behind = core & (x < -0.15), core & (x > 0.5)
    assert np.abs(off[inlet]).max() < 2e-3
    assert np.abs(np.median(off[behind])) < 4e-3
    assert np.sqrt(np.mean(off[behind] ** 2)) < 0.01
    fixed = store.values("total-temperature")[behind]
    assert np.median(fixed) / TEMPERATURE - 1.0 == pytest.approx(0.0265, abs=0.003), "total temperature is not: work is done"


def test_the_swirl_ahead_is_none_and_behind_near_a_free_vortex(store):
    flow = store.flow
    moment, span, x = store.values("angular-momentum"), store.values("span-share"), flow.points[:, 0] / RADIUS
    assert np.abs(moment[(x < -0.3) & (span > 0.05) & (span < 0.95)]).max() < 0.005 * TIP * RADIUS
    means = [float(np.median(moment[(np.abs(x - 0.9) < 0.03) & (np.abs(span - s) < 0.05)])) / (SOUND * RADIUS) for s in (0.2, 0.4, 0.6)]
    assert np.ptp(means) < 0.08 * np.mean(means), means
    assert np.mean(means) == pytest.approx(0.12, abs=0.006)


def test_the_outlet_is_in_radial_equilibrium(evaluator):
    """dp/dr = ρ cθ²/r (any textbook): the mean pressure's rise from hub to casing near the outlet is its integral."""
    made, _ = told(evaluator, RoundAxisShape(quantity="file:Pressure", stations=(0.95,), rays=240))
    curve = made.charts[1].curves[0]  # share of span over the mean
    low, high = (float(np.interp(s, curve.values, curve.at)) for s in (0.1, 0.9))
    store = evaluator.store
    span, x = store.values("span-share"), store.flow.points[:, 0]
    r = np.hypot(store.flow.points[:, 1], store.flow.points[:, 2])
    around = store.values("angular-momentum") / r
    force = store.values("density") * around**2 / r
    near = np.abs(x - 0.97 * RADIUS) < 0.02 * RADIUS
    shares = np.linspace(0.1, 0.9, 9)
    radii = [float(np.median(r[near & (np.abs(span - s) < 0.05)])) for s in shares]
    mean = [float(force[near & (np.abs(span - s) < 0.05)].mean()) for s in shares]
    assert high - low == pytest.approx(float(np.trapezoid(mean, radii)), rel=0.08)
    assert low < BACK * PRESSURE * 1.4 < high


def test_the_loading_at_mid_span(evaluator):
    """The pressure side's greatest is the relative total pressure, where the flow comes to rest: measured 1.2 % below it at the nodes."""
    made, numbers = told(evaluator, RoundBladeShape(boundaries=("Dipper blade",), share=0.517, quantities=("file:Pressure",)))
    assert {c.name.split(",")[0] for c in made.charts[0].curves} == {"pressure side", "suction side"}
    greatest = next(v for n, v in numbers.items() if n.startswith("pressure side, greatest"))
    store = evaluator.store
    span, x = store.values("span-share"), store.flow.points[:, 0]
    total = float(np.median(store.values("relative-total-pressure")[(np.abs(span - 0.517) < 0.05) & (x < -0.1 * RADIUS)]))
    assert greatest == pytest.approx(total, rel=0.025)
    least = next(v for n, v in numbers.items() if n.startswith("suction side, least"))
    assert least / PRESSURE == pytest.approx(0.84, abs=0.02)

