import numpy as np
import pytest

from making import cube_flow
from tidal_lens.flow.roles import recognise_roles, vector_candidates
from tidal_lens.quantities.store import QuantityStore


@pytest.mark.parametrize(("names", "velocity"), [
    ({"U": 3, "p": 1}, ("U",)),
    ({"velocity": 3}, ("velocity",)),
    ({"VelocityX": 1, "VelocityY": 1, "VelocityZ": 1}, ("VelocityX", "VelocityY", "VelocityZ")),
    ({"x_velocity": 1, "y_velocity": 1, "z_velocity": 1}, ("x_velocity", "y_velocity", "z_velocity")),
    ({"u": 1, "v": 1, "w": 1, "rho": 1}, ("u", "v", "w")),
    ({"Ux": 1, "Uy": 1, "Uz": 1}, ("Ux", "Uy", "Uz")),
])
def test_velocity_is_recognised_in_many_spellings(names, velocity):
    assert recognise_roles(names).velocity == velocity


def test_momentum_with_density_gives_velocity_and_without_does_not():
    both = recognise_roles({"MomentumX": 1, "MomentumY": 1, "MomentumZ": 1, "Density": 1})
    assert both.velocity == ()
    assert both.has_velocity
    assert both.described()["velocity"] == "MomentumX, MomentumY, MomentumZ ÷ Density"
    assert not recognise_roles({"Momentum": 3}).has_velocity


def test_momentum_is_never_taken_for_velocity():
    assert recognise_roles({"rhoU": 3, "U": 3}).velocity == ("U",)


def test_pressure_density_and_temperature():
    roles = recognise_roles({"Pressure": 1, "Density": 1, "T": 1})
    assert (roles.pressure, roles.density, roles.temperature) == ("Pressure", "Density", "T")
    assert not roles.has_velocity


def test_a_scalar_named_like_a_vector_is_no_velocity():
    assert not recognise_roles({"Velocity": 1, "U": 1}).has_velocity


@pytest.mark.parametrize(("names", "velocity"), [
    (["mean_velocity_x", "mean_velocity_y", "mean_velocity_z"], True),
    (["Velocity:0", "Velocity:1", "Velocity:2"], True),
    (["VELOCITY_X", "VELOCITY_Y", "VELOCITY_Z"], True),
    (["X Velocity [m/s]", "Y Velocity [m/s]", "Z Velocity [m/s]"], True),
    (["flow.U_0", "flow.U_1", "flow.U_2"], True),
    (["Avg_Vel_x", "Avg_Vel_y", "Avg_Vel_z"], True),
    (["uMean", "vMean", "wMean"], True),
    (["u_rms", "v_rms", "w_rms"], False),
    (["TotalVelocityGradientX", "TotalVelocityGradientY", "TotalVelocityGradientZ"], False),
    (["wall_shear_x", "wall_shear_y", "wall_shear_z"], False),
])
def test_components_with_words_round_their_names(names, velocity):
    roles = recognise_roles(dict.fromkeys(names, 1))
    assert roles.velocity == (tuple(names) if velocity else ())


@pytest.mark.parametrize(("name", "role"), [
    ("Static Pressure", "pressure"), ("p_mean", "pressure"), ("pressure [Pa]", "pressure"), ("PRESSURE", "pressure"),
    ("P_static", "pressure"), ("total_pressure", None),
    ("p_rms", None), ("dynamic pressure", None), ("rho_avg", "density"), ("cell_density", "density"),
    ("ViscosityMolecular", "viscosity"), ("mu", "viscosity"), ("turbulent_viscosity", None), ("EnergyStagnationDensity", "energy"),
    ("rhoE", "energy"), ("static temperature", "temperature"), ("total_temperature", None), ("k", None), ("m", None), ("s", None),
])
def test_scalars_with_words_round_their_names(name, role):
    roles = recognise_roles({name: 1})
    found = [r for r in ("pressure", "density", "temperature", "viscosity", "energy") if getattr(roles, r)]
    assert found == ([role] if role else [])
    assert all(roles.reasons[r] for r in found)


def test_a_plain_name_comes_before_one_with_words_round_it():
    roles = recognise_roles({"UMean": 3, "U": 3, "p_mean": 1, "Pressure": 1})
    assert roles.velocity == ("U",)
    assert roles.pressure == "Pressure"
    assert roles.reasons["pressure"] == "standard name (CGNS)"


def test_pressure_follows_from_conserved_quantities():
    roles = recognise_roles({"Density": 1, "MomentumX": 1, "MomentumY": 1, "MomentumZ": 1, "EnergyStagnationDensity": 1})
    assert roles.has_pressure
    assert roles.described()["pressure"] == "from EnergyStagnationDensity"
    flow = cube_flow(4, Density=lambda p: 2 + 0 * p[:, 0], MomentumX=lambda p: 6 + 0 * p[:, 0], MomentumY=lambda p: 0 * p[:, 0],
                     MomentumZ=lambda p: 0 * p[:, 0], EnergyStagnationDensity=lambda p: 100 + p[:, 1])
    store = QuantityStore(flow, flow.reference)
    np.testing.assert_allclose(store.values("pressure"), 0.4 * (100 + flow.points[:, 1] - 0.5 * 2 * 9))
    np.testing.assert_allclose(store.values("speed"), 3.0)
    assert not store.describe("mach").missing


def test_what_could_make_a_vector():
    found = vector_candidates({"a": 3, "q_1": 1, "q_2": 1, "q_3": 1, "fx": 1, "fy": 1, "gx": 1, "gy": 1, "gz": 1})
    assert found == [("a",), ("gx", "gy", "gz"), ("q_1", "q_2", "q_3")]
