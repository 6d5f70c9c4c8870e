"""Axisymmetric results: a plane that stands for its turn about an axis.

Sources: cylindrical coordinates in any text; Poiseuille's pipe (Lamb, Hydrodynamics: the speed in the middle is twice the mean);
solid rotation: vorticity 2 Ω, Q = Ω² (Hunt, Wray & Moin 1988); Archimedes' sphere and cylinder.
"""

from dataclasses import replace

import numpy as np
import pytest

from making import flow_of
from plates import with_wall
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import recognise_roles
from tidal_lens.flow.turned import found_axis, turned_about
from tidal_lens.measures.balance import mass_balance
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.conditions import Condition
from tidal_lens.study.corrections import corrected
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds.boundaries import BoundariesShape
from tidal_lens.study.kinds.forces import ForcesShape
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.over import OverShape
from tidal_lens.study.kinds.region import RegionShape
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.kinds.volume import VolumeShape
from tidal_lens.study.looks import BallLook, LineLook, SurfaceLook
from tidal_lens.study.model import Study
from tidal_lens.work import Token

DEPTH = 0.02


def half(n=33, fields=None, place=lambda s, t: (2.0 * s, t), m=None):
    """The half plane y ≥ 0 beside the x axis as one layer of cells; ``place`` maps the unit square to x and r."""
    m = m or n
    t, s = np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, m), indexing="ij")
    x, r = place(s.ravel(), t.ravel())
    flat = np.column_stack([x, r, 0.0 * x])
    up = np.array([0.0, 0.0, 0.5 * DEPTH])
    points = np.concatenate([flat - up, flat + up])
    values = {name: of(points[:, 0], points[:, 1]) for name, of in (fields or {}).items()}
    flow = flow_of([(points, StructuredGrid((m, n, 2)))], values)
    flow = replace(flow, normal=(0.0, 0.0, 1.0), depth=DEPTH, turned=turned_about((0.0, 0.0, 1.0), "x"),
                   roles=recognise_roles({f.name: f.components for f in flow.fields.values()}))
    for name, on, kind in (("in", lambda p: np.abs(p[..., 0]) < 1e-9, "inlet"), ("out", lambda p: np.abs(p[..., 0] - 2) < 1e-9, "outlet"),
                           ("pipe", lambda p: np.abs(p[..., 1] - 1) < 1e-9, "wall")):
        try:
            flow = with_wall(flow, on, kind)
            flow = replace(flow, boundaries=(*flow.boundaries[:-1], replace(flow.boundaries[-1], name=name)))
        except ValueError:
            pass
    return flow


def told(evaluator, shape, study=None):
    study = study or Study()
    look = LineLook() if shape.geometry == "lines" else BallLook()
    layer = study.layer_of(Begun("m", shape, look))
    made = evaluator.evaluate(layer, Token(), study.adding(layer)).made
    return made, {row[0]: row[-1] for row in next(t for t in made.tables if t.heads[0] == "what").rows}


def pipe(n=65):
    return half(n, {"Velocity": lambda x, r: np.column_stack([1 - r**2, 0 * r, 0 * r]), "Density": lambda x, r: 2 + 0 * r,
                    "Pressure": lambda x, r: 3 - x})


def test_a_pipe_by_poiseuille():
    """Mass flow ρ π R² U/2, the mean half of what is in the middle; the volume of the pipe; what comes in goes out."""
    evaluator = Evaluator(pipe(), ReferenceState(0.0, 2.0, (1.0, 0, 0)))
    made, found = told(evaluator, BoundariesShape())
    assert "once round the axis" in made.told
    columns = {head: n for n, head in enumerate(made.tables[1].heads)}
    rows = {row[0]: row for row in made.tables[1].rows}
    assert rows["mass flow in"][columns["in"]] == pytest.approx(np.pi, rel=2e-3)
    assert rows["mass flow out"][columns["out"]] == pytest.approx(np.pi, rel=2e-3)
    assert rows["area"][columns["pipe"]] == pytest.approx(2 * np.pi * 2, rel=1e-9)
    assert found["mass flow in, net"] == pytest.approx(0.0, abs=1e-9)
    study = Study()
    cut = study.layer_of(Begun("cut", SliceShape(direction=(1.0, 0.0, 0.0), position=1.1), SurfaceLook()))
    made, mean = told(evaluator, OverShape(card=cut.id, quantity="speed"), study.adding(cut))
    assert mean["area"] == pytest.approx(np.pi, rel=1e-6)
    assert mean["greatest"] == pytest.approx(2 * mean["mean by area"], rel=2e-3), "the speed in the middle is twice the mean"
    _, inside = told(evaluator, VolumeShape(quantity="speed"))
    assert inside["volume"] == pytest.approx(2 * np.pi, rel=1e-6)
    assert inside["mean by volume"] == pytest.approx(0.5, rel=2e-3)
    assert inside["mass"] == pytest.approx(4 * np.pi, rel=1e-6)
    channel = Evaluator(replace(evaluator.flow, turned=None), ReferenceState(0.0, 2.0, (1.0, 0, 0)))
    _, flat = told(channel, OverShape(card=cut.id, quantity="speed"), study.adding(cut))
    assert flat["area"] == pytest.approx(1.0, rel=1e-6), "by unit depth"
    assert flat["greatest"] == pytest.approx(1.5 * flat["mean by area"], rel=2e-3), "in a plane channel 1.5 times the mean"
    region = study.layer_of(Begun("r", RegionShape(conditions=(Condition(quantity="speed", keep="above", value=0.75),)), SurfaceLook()))
    made = evaluator.evaluate(region, Token()).made
    assert made.tables[0].rows[0][1] == pytest.approx(np.pi * 0.25 * 2, rel=5e-3), "r < ½ once round"
    balance = mass_balance(evaluator.flow, np.full(evaluator.flow.n_points, 2.0), evaluator.flow.fields["Velocity"].values)
    assert {s.name: s.net for s in balance.shares}["in"] == pytest.approx(np.pi, rel=2e-3)


def test_volume_of_a_sphere_is_of_the_second_order():
    """Half a disc of radius 1 turned: 4/3 π."""
    errors = []
    for n in (9, 17, 33):
        flow = half(n, {"s": lambda x, r: 1 + 0 * x},
                    lambda s, t: ((0.02 + 0.98 * t) * np.cos(np.pi * (1 - s)), (0.02 + 0.98 * t) * np.sin(np.pi * (1 - s))), 2 * n)
        _, found = told(Evaluator(flow, ReferenceState()), VolumeShape(quantity="file:s"))
        errors.append(abs(found["volume"] / (4 / 3 * np.pi * (1 - 0.02**3)) - 1))
    assert errors[-1] < 1e-3
    assert np.log2(errors[0] / errors[1]) > 1.8


def test_gradients_have_what_turning_adds():
    """u = (x, −r/2): without divergence only by its part round the axis. Solid rotation: vorticity 2 Ω along the axis, Q = Ω²."""
    flow = half(17, {"Velocity": lambda x, r: np.column_stack([x, -0.5 * r, 0 * r])})
    store = QuantityStore(flow, ReferenceState())
    assert np.abs(store.values("divergence")).max() < 1e-9
    assert store.values("strain-rate") == pytest.approx(np.full(flow.n_points, np.sqrt(2 * (1 + 0.25 + 0.25))), rel=1e-6), "all three"
    flat = QuantityStore(replace(flow, turned=None), ReferenceState())
    assert flat.values("divergence") == pytest.approx(np.full(flow.n_points, 0.5)), "flat it has one"
    turning = half(17, {"Velocity": lambda x, r: np.column_stack([0 * x, 0 * x, 3.0 * r])})
    store = QuantityStore(turning, ReferenceState())
    spin = store.values("vorticity")
    assert spin[:, 0] == pytest.approx(6.0)
    assert np.abs(spin[:, 1:]).max() < 1e-9
    assert store.values("q") == pytest.approx(9.0)
    assert store.values("lambda2") == pytest.approx(-9.0)
    vortex = half(33, {"Velocity": lambda x, r: np.column_stack([0 * x, 0 * x, 1 / (r + 0.5)])})
    spin = QuantityStore(vortex, ReferenceState()).values("vorticity")[:, 0]
    r = vortex.points[:, 1]
    inner = (r > 0.1) & (r < 0.9)
    assert spin[inner] == pytest.approx((-1 / (r + 0.5) ** 2 + 1 / (r * (r + 0.5) + 1e-300))[inner], rel=0.01)


def test_the_drag_of_a_disc_is_along_the_axis():
    """A pressure of 5 on the ring face x = 2 of radius 1: 5 π, and nothing across."""
    flow = half(33, {"Velocity": lambda x, r: np.column_stack([1 + 0 * x, 0 * x, 0 * x]), "Pressure": lambda x, r: 5 + 0 * x,
                     "Density": lambda x, r: 2 + 0 * x})
    flow = replace(flow, boundaries=tuple(replace(b, kind="wall") if b.name == "out" else b for b in flow.boundaries))
    _, found = told(Evaluator(flow, ReferenceState(0.0, 2.0, (1.0, 0, 0))), ForcesShape(boundaries=("out",)))
    assert found["force x"] == pytest.approx(5 * np.pi, rel=1e-6)
    assert (found["force y"], found["force z"]) == pytest.approx((0.0, 0.0), abs=1e-12)
    assert found["CD"] == pytest.approx(5.0, rel=1e-6), "by its cross-section and ½ ρ U² = 1"


def test_stream_functions_of_mass_give_the_mass_flow():
    """Between the axis and the wall 2π times the difference; flat, by unit depth."""
    flow = pipe(33)
    store = QuantityStore(flow, ReferenceState())
    psi = store.values("mass-stokes-stream-function")
    assert 2 * np.pi * np.ptp(psi) == pytest.approx(np.pi, rel=5e-3)
    assert np.ptp(store.values("mass-stream-function")) == pytest.approx(2 * 2 / 3, rel=5e-3)


def test_an_axis_is_recognised_by_name_or_said():
    """A boundary called an axis, on a coordinate axis; the user may say otherwise."""
    flow = half(9, {"Velocity": lambda x, r: np.column_stack([1 + 0 * x, 0 * x, 0 * x])})
    flow = with_wall(replace(flow, turned=None), lambda p: np.abs(p[..., 1]) < 1e-9, "symmetry")
    named = replace(flow.boundaries[-1], name="Axis of symmetry")
    low, high = flow.bounds
    assert found_axis(flow.normal, [(b.name, b.points) for b in [*flow.boundaries[:-1], named]], low, high).letter == "x"
    assert found_axis(flow.normal, [("taxis", named.points)], low, high) is None
    assert found_axis(flow.normal, [("axis", b.points) for b in flow.boundaries if b.name == "pipe"], low, high) is None
    assert corrected(flow, Study(turned="x")).turned.axis == (1.0, 0.0, 0.0)
    assert corrected(flow, Study(turned="z")).turned is None, "it does not lie in the plane"
    turned = replace(flow, turned=turned_about(flow.normal, "x"))
    assert corrected(turned, Study(turned="flat")).turned is None
    assert corrected(turned, Study()) is turned
