"""Turning machines against closed forms: share of span, means round the axis, loading, what is kept in the turning frame."""

from dataclasses import replace

import numpy as np
import pytest

from making import flow_of
from passages import AXIAL, CIRCULATION, LEAN, LONG, PITCH, casing, hub, of_pitch, passage, span_of
from tidal_lens.cutting.masking import whole_faces
from tidal_lens.flow.annulus import Annulus, passages_of
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.measures.round_axis import Lattice, round_axis
from tidal_lens.measures.stage import Machine, stage
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.conditions import Condition
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.mask import MaskShape
from tidal_lens.study.kinds.round_axis import MEAN, RoundAxisShape
from tidal_lens.study.kinds.round_blade import RoundBladeShape
from tidal_lens.study.kinds.span import SpanShape
from tidal_lens.study.looks import LineLook, NoLook, SurfaceLook
from tidal_lens.study.model import Study
from tidal_lens.study.tables import numbers_of
from tidal_lens.work import Token


def made_of(shape, flow, reference=None):
    layer = Study().layer_of(Begun("x", shape, LineLook() if shape.geometry == "lines" else SurfaceLook()))
    return Evaluator(flow, reference or ReferenceState()).evaluate(layer, Token(), Study().adding(layer)).made


@pytest.mark.parametrize("loose", [False, True])
def test_the_share_of_span_between_cones_is_that_of_the_radius(loose):
    flow = passage(loose=loose)
    store = QuantityStore(flow, flow.reference)
    assert store.values("span-share", Token()) == pytest.approx(span_of(flow.points), abs=1e-9)
    for share in (0.0, 0.3, 1.0):
        surface = made_of(SpanShape(share=share), flow).geometry
        assert len(surface.faces) > 100
        assert span_of(surface.points) == pytest.approx(min(max(share, 1e-3), 1 - 1e-3), abs=2e-4), "chords of cells between"
    assert np.ptp(surface.points[:, 0]) == pytest.approx(LONG)


def test_places_of_any_annulus_are_found_again():
    """A radial machine: hub and casing turn from the axis outwards, their nodes crowd, and come in any order."""
    rng, turn = np.random.default_rng(4), np.linspace(0, np.pi / 2, 80) ** 1.3 / (np.pi / 2) ** 0.3

    def turned(x, r):
        angle = rng.uniform(0, 2 * np.pi, (len(x), 12))
        points = np.stack([np.repeat(x[:, None], 12, 1), r[:, None] * np.cos(angle), r[:, None] * np.sin(angle)], axis=-1).reshape(-1, 3)
        return rng.permutation(points)

    rise = 1 - np.cos(turn)
    parts = {"hub": turned(np.sin(turn), 0.3 + 1.2 * rise), "casing": turned(0.6 * np.sin(turn), 0.7 + 0.8 * rise)}
    annulus = Annulus.of([Boundary(n, n, p, np.zeros((0, 4), int)) for n, p in parts.items()], (0, 0, 0), (1, 0, 0))
    assert annulus.hub[0] == pytest.approx([0.0, 0.3], abs=1e-3)
    assert annulus.casing[-1] == pytest.approx([0.6, 1.5], abs=1e-3)
    along, across, angle = rng.random(5000), rng.random(5000), rng.uniform(-3, 3, 5000)
    found = annulus.shares(annulus.in_space(annulus.places(along, across), angle))
    assert found == pytest.approx(np.column_stack([along, across]), abs=1e-9)
    assert annulus.angles(annulus.in_space(annulus.places(along, across), angle)) == pytest.approx(angle, abs=1e-9)
    bent = parts["hub"][:, 0].max()
    assert np.isnan(annulus.shares(np.array([[40.0 * bent, 9.0, 0.0]]))[0, 1]), "far off it"


@pytest.mark.parametrize("number", [2, 9, 37])
def test_passages_are_counted_by_what_one_takes_up(number):
    flow = passage((9, 9, 9), pitch=2 * np.pi / number)
    assert passages_of(flow, (0, 0, 0), (1, 0, 0)) == number
    assert passages_of(flow, (0, 0, 0), (-2.0, 0, 0)) == number
    assert passages_of(passage((9, 9, 9), pitch=1.0), (0, 0, 0), (1, 0, 0)) == 1, "6.28 of them make no wheel"


def test_without_hub_or_casing_it_is_told():
    flow = passage((9, 9, 9))
    flow = replace(flow, boundaries=tuple(b for b in flow.boundaries if b.kind != "casing"))
    with pytest.raises(Exception, match="casing"):
        made_of(SpanShape(), flow)
    assert "hub and casing" in QuantityStore(flow, flow.reference).missing("span-share")


def test_a_mean_round_the_axis_is_over_the_angle_and_not_over_indices():
    """1 + x + sin(2π t) + cos(4π t) over a pitch has the mean 1 + x, wherever the nodes crowd."""

    def wavy(p):
        t = of_pitch(p)
        return 1 + p[:, 0] + np.sin(2 * np.pi * t) + np.cos(4 * np.pi * t)

    errors = []
    for n in (25, 49):
        flow = passage((33, n, 9), s=wavy)
        annulus = Annulus.of(flow.boundaries, (0, 0, 0), (1, 0, 0))
        found = round_axis(flow, annulus, flow.fields["s"].values, Lattice(21, 9, 400))
        exact = 1 + LONG * found.along[:, None] + 0 * found.across
        errors.append(np.abs(found.mean - exact)[:, 1:-1].max())
        assert found.open_angle[:, 1:-1] == pytest.approx(PITCH, rel=0.01)
    assert errors[-1] < 6e-3, errors
    by_index = flow.fields["s"].values.reshape(n, 9, 33).mean(axis=0) - (1 + LONG * np.linspace(0, 1, 33))
    assert np.abs(by_index).max() > 10 * errors[-1], "the trap"
    assert found.places[:, 0, 1] == pytest.approx(hub(found.places[:, 0, 0]), abs=1e-6)
    assert found.places[:, -1, 1] == pytest.approx(casing(found.places[:, -1, 0]), abs=1e-6)


def test_the_flat_chart_has_lines_and_arrows_of_the_mean():
    """1 + x: lines of equal values are x = const; the mean of a free vortex with axial speed 1 is 1 along the axis."""
    flow = passage((33, 25, 17), s=lambda p: 1 + p[:, 0])
    made = made_of(RoundAxisShape(quantity="file:s"), flow)
    sheet = made.charts[0].sheet
    assert sheet.spacing == 0.2
    level = 1 + sheet.lines[:, :, 0].mean(axis=1)
    assert np.abs(level / sheet.spacing - np.round(level / sheet.spacing)).max() < 0.05
    assert np.abs(np.diff(sheet.lines[:, :, 0], axis=1)).max() < 0.02, "upright"
    inner = (sheet.feet[:, 0] > 0.2) & (sheet.feet[:, 0] < 1.8)
    ways = sheet.arrows[inner] / np.linalg.norm(sheet.arrows, axis=1).max()
    assert ways == pytest.approx(np.tile([1.0, 0.0], (inner.sum(), 1)), abs=0.02)
    assert sheet.across.shape == sheet.up.shape == sheet.values.shape == (120, 40)
    table = made.tables[-1]
    assert len(table.rows) == 120 * 40
    along, mean = np.array([(r[2], r[4]) for r in table.rows]).T
    known = np.isfinite(mean)
    assert mean[known] == pytest.approx(1 + along[known], abs=0.01)


@pytest.mark.parametrize("edges", ["exact", "cells"])
def test_a_masked_mean_keeps_its_colours(edges):
    """Half of the plane is left, cut where x says, with the values that it had."""
    flow = passage((17, 17, 9), s=lambda p: 3 * p[:, 0])
    study = Study()
    mean = study.layer_of(Begun("mean", RoundAxisShape(quantity="file:s"), SurfaceLook(colour_by=OWN + MEAN)))
    study = study.adding(mean)
    half = MaskShape(conditions=(Condition(quantity="place-x", value=0.4 * LONG, keep="below"),), edges=edges)
    study = study.adding(study.layer_of(Begun("half", half, NoLook())))
    found = Evaluator(flow, ReferenceState()).evaluate(mean, Token(), study)
    assert found.geometry.points[:, 0].max() == pytest.approx(0.4 * LONG, abs=1e-9 if edges == "exact" else 0.02)
    known = np.isfinite(found.colours)
    assert known.mean() > 0.9
    assert found.colours[known] == pytest.approx(3 * found.geometry.points[known, 0], abs=0.02)


def test_means_by_mass_and_where_only_a_part_is_open():
    """∫ t (1 + t) / ∫ (1 + t) = 5/9 over a pitch with the density 1 + t; a third of the pitch left out leaves two thirds open."""
    flow = passage((17, 61, 9), s=of_pitch, Density=lambda p: 1 + of_pitch(p), part=lambda p: np.where(of_pitch(p) < 0.66, 4.0, np.nan))
    made = made_of(RoundAxisShape(quantity="file:s", by="mass", rays=400), flow)
    mean = made.geometry.own[MEAN].reshape(120, 40)[2:-2, 2:-2]
    assert mean == pytest.approx(5 / 9, abs=4e-3)
    assert dict(made.tables[0].rows)["mean by area at 50 % of the way"] == pytest.approx(5 / 9, abs=4e-3)
    plain = made_of(RoundAxisShape(quantity="file:s", rays=400), flow).geometry.own[MEAN].reshape(120, 40)[2:-2, 2:-2]
    assert plain == pytest.approx(0.5, abs=4e-3)
    annulus = Annulus.of(flow.boundaries, (0, 0, 0), (1, 0, 0))
    found = round_axis(flow, annulus, flow.fields["part"].values, Lattice(11, 7, 300))
    assert found.mean[1:-1, 1:-1] == pytest.approx(4.0)
    assert found.open_angle[1:-1, 1:-1] / PITCH == pytest.approx(0.655, abs=0.02)


@pytest.mark.parametrize("share", [0.2, 0.5])
def test_a_span_unrolls_as_long_and_as_wide_as_it_is(share):
    """m′ = ∫ dm/r along a cone and the pitch across, both times one radius; vectors keep their parts along and round (conformal)."""
    flow = passage((41, 21, 17))
    made = made_of(SpanShape(share=share, unrolled=True), flow)
    surface = made.geometry
    x = np.linspace(0, LONG, 20_001)
    line = hub(x) + share * (casing(x) - hub(x))
    radius, slope = line.mean(), np.gradient(line, x)
    exact = radius * np.trapezoid(np.hypot(1.0, slope) / line, x)
    assert np.ptp(surface.points[:, 0]) == pytest.approx(exact, rel=1e-3), "along"
    assert np.ptp(surface.points[:, 1]) < 1e-12, "flat, and upright"
    assert surface.points[:, 2].min() > casing(0.0), "beside the machine"
    front = surface.points[np.abs(surface.points[:, 0]) < 1e-9]
    assert np.ptp(front[:, 2]) == pytest.approx(radius * PITCH, rel=1e-3)
    assert np.ptp(surface.points[:, 2]) == pytest.approx(radius * (PITCH + LEAN * LONG), rel=1e-3), "and nowhere it jumps"
    found = surface.stencil.apply_vectors(flow.fields["Velocity"].values)
    r = np.hypot(*(surface.stencil.apply(flow.points[:, k]) for k in (1, 2)))
    assert found[:, 0] == pytest.approx(AXIAL / np.hypot(1.0, slope[0]), rel=2e-3), "the part along the cone"
    assert found[:, 2] == pytest.approx(CIRCULATION / r, rel=0.01), "the part round the axis"
    half = whole_faces(surface, surface.points[:, 0] - 0.5 * exact).stencil.apply_vectors(flow.fields["Velocity"].values)
    assert half[:, 0] == pytest.approx(AXIAL / np.hypot(1.0, slope[0]), rel=2e-3), "masked too"


def test_the_loading_of_a_blade_is_what_stands_on_its_sides():
    """4 − x on one side and 1 + x on the other: means 3 and 2 along the chord from x = 0.6 to 1.4, at every span."""
    flow = passage((41, 17, 17), Pressure=lambda p: (1 - of_pitch(p)) * (4 - p[:, 0]) + of_pitch(p) * (1 + p[:, 0]))
    made = made_of(RoundBladeShape(boundaries=("blade",), share=0.5, more=(0.1, 0.9), quantities=("file:Pressure",)), flow)
    (chart,) = made.charts
    assert [c.name for c in chart.curves] == [f"{side} side, span {share}" for share in (0.5, 0.1, 0.9) for side in ("pressure", "suction")]
    for curve in chart.curves:
        good = np.isfinite(curve.at)
        x = 0.6 + 0.8 * curve.at[good]
        assert curve.values[good] == pytest.approx(4 - x if "pressure" in curve.name else 1 + x, abs=1e-6)
        assert curve.at[good].min() == pytest.approx(0.0, abs=1e-9)
        assert curve.at[good].max() == pytest.approx(1.0, abs=1e-9)
    told = numbers_of(made.tables)
    assert told["mean difference across, span 0.1"] == pytest.approx(1.0, abs=1e-3)
    assert told["suction side, least, span 0.9"] == pytest.approx(1.6, abs=1e-6)
    assert told["suction side, least, at, span 0.9"] == pytest.approx(0.0, abs=1e-9)
    assert told["pressure side, greatest, span 0.5"] == pytest.approx(3.4, abs=1e-6)
    spans = np.repeat([0.5, 0.1, 0.9], np.diff(made.geometry.offsets)[::2] * 2)
    assert span_of(made.geometry.points) == pytest.approx(spans, abs=2e-3), "chords of the walls' faces between"
    by_radius = made_of(RoundBladeShape(boundaries=("blade",), quantities=("file:Pressure",), against="m'"), flow).charts[0].curves[0]
    x = np.linspace(0.6, 1.4, 20_001)
    line = 0.5 * (hub(x) + casing(x))
    exact = np.trapezoid(np.hypot(1.0, np.gradient(line, x)) / line, x)
    assert np.nanmax(by_radius.at) - np.nanmin(by_radius.at) == pytest.approx(exact, rel=1e-3)


def test_a_stage_that_does_no_work_is_told_without_ratios():
    """Uniform flow along the axis: nothing to divide by, and nothing falls over."""
    flow = passage((17, 9, 9), Pressure=lambda p: 1e5 + 0 * p[:, 0], Density=lambda p: 1.2 + 0 * p[:, 0])
    even = replace(flow.fields["Velocity"], values=np.tile([20.0, 0, 0], (flow.n_points, 1)))
    flow = replace(flow, fields={**flow.fields, "Velocity": even})
    values = {"density": 1.2, "total-pressure": 1e5, "total-enthalpy": 3e5, "angular-momentum": 0.0}
    every = {name: np.full(flow.n_points, value) for name, value in values.items()} | {"velocity": flow.fields["Velocity"].values}
    told = stage(flow, Annulus.of(flow.boundaries, (0, 0, 0), (1, 0, 0)), every.__getitem__, Machine(1.4, 5.0, 9), (0.2, 0.8))
    assert told["work, rise of the total enthalpy"] == pytest.approx(0.0, abs=1e-6)
    assert told["power"] == pytest.approx(0.0, abs=1e-3)
    assert told["total-pressure ratio"] == pytest.approx(1.0)
    assert told["mass flow before"] == pytest.approx(9 * PITCH / 2 * 1.2 * 20 * (casing(0.4) ** 2 - hub(0.4) ** 2), rel=0.012)


def test_blocks_stand_or_turn():
    """Of a rotor and a stator the one turns: its relative velocity is that of its frame, the other's that of the file."""
    rotor, stator = passage((9, 9, 9)), passage((9, 9, 9))
    shift = np.array([LONG, 0, 0])
    both = flow_of([(rotor.points, rotor.blocks[0].grid), (stator.points + shift, stator.blocks[0].grid)],
                   {"Velocity": np.concatenate([f.fields["Velocity"].values for f in (rotor, stator)])})
    names = [b.name for b in both.blocks]
    spin, n = 3.0, rotor.n_points
    u = both.fields["Velocity"].values
    r = np.hypot(both.points[:, 1], both.points[:, 2])
    for turning, first, second in (((), spin, spin), ((names[0],), spin, 0.0), ((names[1],), 0.0, spin)):
        store = QuantityStore(both, both.reference, Methods(spin=spin, turning=turning))
        rate = np.repeat([first, second], n)
        w = store.values("relative-velocity", Token())
        assert w == pytest.approx(u - rate[:, None] * np.cross([1.0, 0, 0], both.points), abs=1e-12)
        assert store.values("relative-flow-angle", Token()) == pytest.approx(np.arctan2(CIRCULATION / r - rate * r, AXIAL), abs=1e-9)


def test_a_stage_works_as_eulers_equation_says():
    """Angular momentum that grows along the passage, heat by Euler's equation, pressure by an efficiency of 0.85 (any text)."""
    spin, cp, r, gamma, grows, efficient = 40.0, 1005.0, 1005.0 * 0.4 / 1.4, 1.4, 6.0, 0.85
    before, behind = 0.1, 0.9  # the exact values at these shares along

    def turning(p):
        return grows * p[:, 0] / LONG

    def warm(p):
        return 300.0 + spin * turning(p) / cp

    def total(p):
        return 1e5 * (1 + efficient * (warm(p) / 300.0 - 1)) ** 3.5

    def velocity(p):
        radius = np.hypot(p[:, 1], p[:, 2])
        around = np.column_stack([0 * radius, -p[:, 2], p[:, 1]]) / radius[:, None]
        return np.array([20.0, 0, 0]) + (turning(p) / radius)[:, None] * around

    def temperature(p):
        return warm(p) - 0.5 * (velocity(p) ** 2).sum(axis=1) / cp

    def pressure(p):
        return total(p) * (temperature(p) / warm(p)) ** 3.5

    flow = passage((65, 17, 33), Pressure=pressure, Density=lambda p: pressure(p) / (r * temperature(p)))
    flow = replace(flow, fields={**flow.fields, "Velocity": replace(flow.fields["Velocity"], values=velocity(flow.points))})
    evaluator = Evaluator(flow, ReferenceState(1e5, 1.2, (20.0, 0, 0), gamma=gamma, gas_constant=r), Methods(spin=spin))
    layer = Study().layer_of(Begun("x", RoundAxisShape(quantity="file:Pressure", by="mass", stations=(before, behind)), SurfaceLook()))
    told = dict(evaluator.evaluate(layer, Token(), Study().adding(layer)).made.tables[0].rows)
    rise = grows * (behind - before)
    assert told["rise of the angular momentum"] == pytest.approx(rise, rel=5e-3)
    assert told["work, rise of the total enthalpy"] == pytest.approx(spin * rise, rel=0.01)
    assert told["Euler's work over the rise of the total enthalpy"] == pytest.approx(1.0, rel=0.01)
    place = np.array([[LONG * s, 0, 0.7] for s in (before, behind)])
    ratio = total(place)[1] / total(place)[0]
    assert told["total-pressure ratio"] == pytest.approx(ratio, rel=1e-3)
    exact = (ratio ** (0.4 / 1.4) - 1) / (warm(place)[1] / warm(place)[0] - 1)
    assert told["efficiency, total to total"] == pytest.approx(exact, rel=0.01)
    assert told["passages"] == 9
    for name, share in (("before", before), ("behind", behind)):
        x = LONG * share
        radius = np.linspace(hub(x), casing(x), 4001)
        ring = np.column_stack([x + 0 * radius, 0 * radius, radius])
        exact = np.trapezoid(2 * np.pi * radius * 20.0 * pressure(ring) / (r * temperature(ring)), radius)
        assert told[f"mass flow {name}"] == pytest.approx(exact, rel=0.01)
    tip = spin * casing(before * LONG)
    assert told["speed of the tip"] == pytest.approx(tip, rel=1e-6)
    assert told["work coefficient"] == pytest.approx(spin * rise / tip**2, rel=0.01)
    assert told["flow coefficient"] == pytest.approx(20.0 / tip, rel=0.01)


def test_what_is_kept_in_the_turning_frame():
    """A free vortex has r uθ constant, a rigid rotation is at rest; rothalpy and relative totals by their definitions (any text)."""
    spin, p, rho = 1.7, 3.0, 2.0
    flow = passage((17, 9, 9), Pressure=lambda q: p + 0 * q[:, 0], Density=lambda q: rho + 0 * q[:, 0])
    state = ReferenceState(p, rho, (AXIAL, 0, 0), gamma=1.4)
    store = QuantityStore(flow, state, Methods(spin=spin))
    r = np.hypot(flow.points[:, 1], flow.points[:, 2])
    assert store.values("angular-momentum", Token()) == pytest.approx(CIRCULATION)
    assert store.values("velocity-meridional", Token()) == pytest.approx(AXIAL)
    swirl = CIRCULATION / r - spin * r
    assert store.values("relative-flow-angle", Token()) == pytest.approx(np.arctan2(swirl, AXIAL))
    w2 = AXIAL**2 + swirl**2
    assert store.values("rothalpy", Token()) == pytest.approx(1.4 / 0.4 * p / rho + 0.5 * w2 - 0.5 * (spin * r) ** 2)
    mach2 = w2 * rho / (1.4 * p)
    assert store.values("relative-total-pressure", Token()) == pytest.approx(p * (1 + 0.2 * mach2) ** 3.5)
    assert store.signature("rothalpy") != QuantityStore(flow, state, Methods(spin=spin, turning=("else",))).signature("rothalpy")
    turning = replace(flow.fields["Velocity"], values=spin * np.cross([1.0, 0, 0], flow.points))
    rigid = replace(flow, fields={**flow.fields, "Velocity": turning})
    assert QuantityStore(rigid, state, Methods(spin=spin)).values("relative-speed", Token()) == pytest.approx(0.0, abs=1e-12)
