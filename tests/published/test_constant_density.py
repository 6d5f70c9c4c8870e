"""Incompressible results, which hold no density: what the free stream's density gives, and what must not be had from it."""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow, flow_of
from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore

RHO, SPEED = 1.2, 10.0
FREE = ReferenceState(pressure=50.0, density=RHO, velocity=(SPEED, 0.0, 0.0))


def stagnation(**more):
    """Plane flow towards a wall: free of rotation, so p + ½ ρ |u|² is the same everywhere (Lamb, Hydrodynamics: Bernoulli's theorem)."""
    base = cube_flow(9, "hexahedra", 0.04)
    u = SPEED * np.column_stack([base.points[:, 0], -base.points[:, 1], 0 * base.points[:, 0]])
    p = 110.0 - 0.5 * RHO * (u**2).sum(axis=1)
    return flow_of([(base.points, base.blocks[0].grid)], {"U": u, "p": p, **more}, FREE)


def test_bernoulli():
    flow = stagnation()
    store = QuantityStore(flow, flow.reference)
    assert np.allclose(store.values("bernoulli-pressure"), 110.0)
    assert np.allclose(store.values("bernoulli-coefficient"), 1.0)  # p∞ + ½ ρ∞ U∞² is 110 as well
    assert np.allclose(store.values("cp") + store.values("dynamic-pressure") / 60.0, 1.0)
    assert np.allclose(store.values("mass-flux"), RHO * flow.fields["U"].values)
    assert store.describe("dynamic-pressure").made == "node values, density of the free stream"
    assert store.describe("cp").made == "node values"
    assert np.allclose(store.evaluate(store.check("0.5 * density * length(velocity)**2 + pressure")), 110.0)


@pytest.mark.parametrize("name", ["mach", "sound-speed", "total-pressure", "pitot-pressure", "total-pressure-loss", "total-temperature",
                                  "enthalpy", "entropy-rise", "density-gradient-magnitude", "schlieren-shading", "density-laplacian",
                                  "normal-mach", "relative-mach"])
def test_laws_of_gases_and_derivatives_of_the_density_are_not_had_from_it(name):
    store = QuantityStore(stagnation(), replace(FREE, gas_constant=287.0))
    assert "density" in store.missing(name)
    with pytest.raises(MissingQuantityError):
        store.values(name)


def test_without_a_free_stream_there_is_none():
    store = QuantityStore(stagnation(), ReferenceState())
    assert store.missing("dynamic-pressure") == "density"
    assert store.missing("bernoulli-coefficient") == "density, free stream"


def test_another_density_of_the_free_stream_is_another_value():
    store = QuantityStore(stagnation(), FREE)
    first = store.values("dynamic-pressure")
    other = store.with_context(replace(FREE, density=2 * RHO), Methods())
    assert other.kept("dynamic-pressure") is None
    assert np.allclose(other.values("dynamic-pressure"), 2 * first)


def test_density_of_a_gas_from_pressure_and_temperature():
    """ρ = p / (R T) and M = |u| / √(γ R T): NACA Report 1135 (1953), equations of state and of the speed of sound."""
    base = cube_flow(5)
    temperature = 250.0 + 50 * base.points[:, 0]
    pressure = 5e4 + 1e4 * base.points[:, 1]
    u = np.column_stack([300 + 0 * pressure, 0 * pressure, 0 * pressure])
    flow = flow_of([(base.points, base.blocks[0].grid)], {"U": u, "p": pressure, "T": temperature}, replace(FREE, gas_constant=287.0))
    store = QuantityStore(flow, flow.reference)
    assert np.allclose(store.values("density"), pressure / (287.0 * temperature))
    assert np.allclose(store.values("mach"), 300.0 / np.sqrt(1.4 * 287.0 * temperature))
    assert store.describe("mach").made == "node values, density of a gas"
    unknown = QuantityStore(flow, replace(flow.reference, gas_constant=None))  # then only the free stream's is left
    assert np.allclose(unknown.values("mass-flux-magnitude"), 300 * RHO)
    assert "density" in unknown.missing("mach")


@pytest.mark.parametrize("free_stream", [0.0, None])
def test_a_pressure_that_counts_from_elsewhere_makes_no_gas_of_it(free_stream):
    """Half of it below zero, beside a temperature: no density by the law of gases, and no Mach number."""
    flow = stagnation()
    pressure = flow.fields["p"].values
    counted = {"U": flow.fields["U"].values, "p": pressure - np.median(pressure), "T": np.full(len(pressure), 300.0)}
    warm = flow_of([(flow.points, flow.blocks[0].grid)], counted, replace(FREE, pressure=free_stream, gas_constant=287.0))
    store = QuantityStore(warm, warm.reference)
    assert np.allclose(store.values("density"), RHO)
    assert store.missing("mach") in ("absolute pressure", "density")
    with_density = flow_of([(flow.points, flow.blocks[0].grid)], counted | {"rho": np.full(len(pressure), RHO)}, warm.reference)
    other = QuantityStore(with_density, with_density.reference)
    assert other.missing("mach") == ("absolute pressure" if free_stream == 0.0 else "")
    assert other.missing("dynamic-pressure") == ""
