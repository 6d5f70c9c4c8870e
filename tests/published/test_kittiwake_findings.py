"""What Find finds on Kittiwake, fine and coarse: the features that earlier looks at the computed flow have established.

No published source: the flow is ours. What is known of it from slices, lines and pictures is written beside each check.
"""

from dataclasses import replace

import numpy as np
import pytest

from threads import threads
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.features.bubbles import find_bubbles
from tidal_lens.features.finding import USUAL, ranked
from tidal_lens.features.separation import find_separation
from tidal_lens.features.shocks import find_shocks
from tidal_lens.features.vortex_list import find_vortices
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.session import open_session


@pytest.fixture(scope="module", params=["kittiwake.vtm", "kittiwake coarse.vtm"], ids=["fine", "coarse"])
def case(request):
    session = open_session(ASSETS / request.param)
    return session.flow, session.evaluator.store, request.param == "kittiwake.vtm"


def passing(findings):
    return [findings[k] for k in ranked(findings) if findings[k].score >= USUAL]


def vortices(case):
    flow, store, _ = case
    return passing(find_vortices(flow, store.values, store.reference.speed, pressure="cp"))


def on_both_sides(findings):
    """Pairs of findings that are mirrored in y."""
    def off(a, b):
        return np.median(np.linalg.norm(a.line[::5, None] - (b.line * [1, -1, 1])[None], axis=2).min(axis=1))

    return [(a, b) for a in findings for b in findings
            if a.place[1] > 0.01 > b.place[1] and off(a, b) < 0.02 and abs(a.size / b.size - 1) < 0.15]


def at_x(finding, x):
    return finding.line[np.abs(finding.line[:, 0] - x).argmin()]


def test_the_leeward_pair_and_the_wake_pair_are_found_alike_on_both_sides(case):
    """Slices of Q show a pair over the body, at x = 0.7 at (±0.098, 0.106), and a pair in the wake out to the end of the mesh."""
    fine = case[2]
    found = vortices(case)
    pairs = on_both_sides(found)
    over = [p for p in pairs if p[0].line[:, 0].min() < 0.35]
    assert len(over) >= 1
    left = over[0][0]
    assert at_x(left, 0.7) == pytest.approx([0.7, 0.098, 0.106], abs=0.012 if fine else 0.025)
    assert left.line[:, 0].min() == pytest.approx(0.25, abs=0.05), "from x = 0.24"
    if fine:
        assert left.line[:, 0].max() > 1.4, "one line, as far as the shock"
        assert at_x(left, 1.3) == pytest.approx([1.3, 0.153, 0.102], abs=0.02)
    assert any(p[0].line[:, 0].max() > 2.3 for p in pairs), "the wake pair, to the end of the mesh"
    for a, b in pairs:
        assert a.number("circulation") == pytest.approx(b.number("circulation"), rel=0.12)
    if fine:
        wake = next(p[0] for p in pairs if p[0].line[:, 0].max() > 2.3)
        assert wake.trust > 0.8


def test_bow_and_recompression_shocks_are_found_and_none_on_walls(case):
    """Schlieren and Mach number show a bow shock from the nose, and an upper and a lower recompression shock behind the base."""
    flow, store, fine = case
    found = [s for s in find_shocks(flow, store.values, store.reference.gamma) if s.finding.score >= USUAL and s.finding.sort == "shock"]
    bow = [s for s in found if s.surface.points[:, 0].min() < 0.0]
    rear = [s for s in found if s.surface.points[:, 0].min() > 1.0]
    assert len(bow) == 1
    assert len(rear) == (2 if fine else max(len(rear), 1))
    nose = bow[0]
    # NACA Report 1135: normal shock at Mach 1.6.
    assert nose.finding.number("greatest normal Mach number") == pytest.approx(1.6, abs=0.06 if fine else 0.12)
    upper = [s for s in rear if s.finding.place[2] > 0.05]
    assert len(upper) == 1
    lift = np.abs(nose.surface.points[:, 1])
    assert lift.max() > 0.5


def test_primary_and_secondary_separation_and_the_sum_of_indices(case):
    """Wall lines draw together from (0.09, ±0.01) to (0.98, ±0.30), and on the fine mesh along a second line inside of it."""
    flow, store, fine = case
    walls = find_separation(flow, store.values("wall-shear"))
    assert walls.index_sum == walls.euler == 2
    lines = [f for f in passing(walls.findings) if f.sort == "separation line" and f.size > 0.3]
    left = [f for f in lines if f.line[-1, 1] > 0.0]
    right = [f for f in lines if f.line[-1, 1] < 0.0]
    assert len(left) == len(right)
    primary = max(left, key=lambda f: f.size)
    assert primary.line[0, 0] == pytest.approx(0.09, abs=0.06)
    assert primary.line[-1] == pytest.approx([0.98, 0.30, 0.033], abs=0.02)
    if fine:
        assert len(left) == 2, "the secondary line, which the coarse mesh does not hold"
    mirrored = max(right, key=lambda f: f.size).line * [1, -1, 1]
    assert primary.size == pytest.approx(max(right, key=lambda f: f.size).size, rel=0.02)
    assert primary.line[len(primary.line) // 2] == pytest.approx(mirrored[len(mirrored) // 2], abs=0.01)


def test_the_base_bubble_is_one_and_open(case):
    """u along the axis is reversed from the base to x = 1.19; lines pass in and out beside its closing saddle."""
    flow, store, fine = case
    bubbles, zeros = find_bubbles(flow, store.values, np.array(store.reference.velocity), density="density")
    (one,) = [b.finding for b in bubbles if b.finding.score >= USUAL]
    assert one.told[0].startswith("Open")
    assert one.number("volume that runs back") == pytest.approx(2.75e-3, rel=0.1 if fine else 0.25)
    assert 4.5e-3 < one.number("volume") < 6e-3
    closing = next(z for z in zeros if z.sort == "saddle" and abs(z.place[1]) < 1e-3 and z.place[0] > 1.1)
    assert closing.place[0] == pytest.approx(1.199 if fine else 1.166, abs=0.015)
    for z in zeros:
        if z.score >= USUAL and abs(z.place[1]) > 0.01:
            assert any(np.linalg.norm(o.place - z.place * [1, -1, 1]) < 0.02 for o in zeros), "alike on both sides"


def test_one_per_cent_of_noise_leaves_the_main_findings_and_adds_no_false_ones(case):
    flow, store, fine = case
    if fine:
        pytest.skip("the coarse mesh does")
    rng = np.random.default_rng(11)
    fields = dict(flow.fields)
    for name, field in flow.fields.items():
        values = np.asarray(field.values, np.float64)
        size = store.reference.speed if values.ndim > 1 else float(np.median(values))
        fields[name] = replace(field, values=(values + 0.01 * size * rng.standard_normal(values.shape)).astype(np.float32))
    noisy = replace(flow, fields=fields)
    shaken = QuantityStore(noisy, store.reference)
    clean, found = vortices(case), passing(find_vortices(noisy, shaken.values, store.reference.speed))
    everything = np.concatenate([f.line for f in found])
    for one in [f for f in clean if np.ptp(f.line[:, 0]) > 0.5]:
        off = np.linalg.norm(one.line[::7, None] - everything[None], axis=2).min(axis=1)
        assert np.median(off) < 0.04, "it is there yet, if in pieces"
    for f in found:
        near = min(np.median(np.linalg.norm(f.line[:, None] - c.line[None], axis=2).min(axis=1)) for c in clean)
        assert near < 0.1 or f.place[0] > 0.95, "no vortex where there was none, but among the eddies behind the base"


def test_the_list_of_all_four_does_not_depend_on_the_number_of_threads(case):
    flow, store, fine = case
    if fine:
        pytest.skip("the coarse mesh does")
    shear, stream = store.values("wall-shear"), np.array(store.reference.velocity)

    def told():
        bubbles, zeros = find_bubbles(flow, store.values, stream, density="density")
        every = [*find_vortices(flow, store.values, store.reference.speed, pressure="cp"), *find_separation(flow, shear).findings,
                 *(s.finding for s in find_shocks(flow, store.values, store.reference.gamma)), *(b.finding for b in bubbles), *zeros]
        return [(f.sort, f.score, f.place.tobytes(), tuple((n.name, n.value) for n in f.numbers)) for f in every]

    lists = []
    for count in (1, 3):
        with threads(count):
            lists.append(told())
    assert repr(lists[0]) == repr(lists[1])
