import pytest

from tidal_lens.flow.roles import recognise_roles


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
