"""Controls of particles with mass."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.parts import Check, Choice, NumberField, column, row
from tidal_lens.study.kinds.streamlines import HeatSetting, ParticleSetting

_HEAT = ("capacity", "temperature", "boils", "latent")


class ParticleControls(QWidget):
    """What flies: its drag, size and density, gravity, and how it begins.

    Parameters
    ----------
    edit : callable
        Given what is done and the new setting.
    """

    def __init__(self, edit: Callable[[str, ParticleSetting], object]) -> None:
        super().__init__()
        self._edit = edit
        self._now = ParticleSetting()
        self.law = Choice([("stokes", "Stokes", "Drag of a slow ball, Stokes 1851"),
                           ("schiller-naumann", "Schiller-N.", "Drag of a ball up to any speed, Schiller and Naumann 1933"),
                           ("ballistic", "Ballistic", "By one number: mass by drag coefficient and area")])
        self.law.picked.connect(lambda law: self._set("Drag", law=law))
        self.diameter = NumberField("Diameter [µm]", "Of a ball, in millionths of the unit of length", 10.0, 1e-6, 1e12)
        self.diameter.edited.connect(lambda v: self._set("Diameter", diameter=1e-6 * v))
        self.density = NumberField("Density", "Of the particle", 100.0, 1e-9, 1e9)
        self.density.edited.connect(lambda v: self._set("Density", density=v))
        self.ballistic = NumberField("m / (C_d A)", "Mass by drag coefficient and area", 1.0, 1e-12, 1e12)
        self.ballistic.edited.connect(lambda v: self._set("Ballistic coefficient", ballistic=v))
        self.gravity = [NumberField(f"Gravity {axis}", f"{axis} of the acceleration of gravity", 1.0) for axis in "xyz"]
        self.start = Choice([("flow", "With the flow", "They begin as fast as the flow is there"),
                             ("typed", "At", "They begin at this velocity; 0 is at rest")])
        self.start.picked.connect(lambda start: self._set("How they begin", start=start))
        self.velocity = [NumberField(f"First velocity {axis}", f"{axis} of the velocity at first", 1.0) for axis in "xyz"]
        for name, fields in (("gravity", self.gravity), ("velocity", self.velocity)):
            for at, field in enumerate(fields):
                field.edited.connect(partial(self._axis, name, at))
        self.walls = Choice([("stop", "Stop", "A wall ends their way"), ("bounce", "Bounce", "Walls throw them back"),
                             ("pass", "Pass", "Walls are nothing to them")])
        self.walls.picked.connect(lambda walls: self._set("At walls", walls=walls))
        self.restitution = NumberField("Restitution", "Speed across the wall after it by that before, 0 to 1", 0.1, 0.0, 1.0)
        self.restitution.edited.connect(lambda v: self._set("Restitution", restitution=v))
        self.heated = Check("own temperature", "They take up heat of the gas, Ranz and Marshall 1952",
                            lambda on: self._set("Heat", heat=HeatSetting() if on else None))
        self.capacity = NumberField("Specific heat", "Of the particle", 100.0, 1e-9, 1e9)
        self.temperature = NumberField("First temperature", "Of the particle at first", 10.0, 1e-9, 1e6)
        self.boils = NumberField("Boils at", "Temperature at which it loses mass; 0 for never", 10.0, 0.0, 1e6)
        self.latent = NumberField("Latent heat", "Heat that each of its mass takes when it goes", 1e5, 1e-9, 1e12)
        for name in _HEAT:
            getattr(self, name).edited.connect(partial(self._warm, name))
        self._warmth = QWidget()
        column(self._warmth, row("c", self.capacity, "T at first", self.temperature, stretch=1),
               row("Boils at", self.boils, "heat", self.latent, stretch=1), spacing=6)
        column(self, row("Drag", self.law, stretch=1), row("d [µm]", self.diameter, "density", self.density, stretch=1),
               row("m/(C_d A)", self.ballistic, stretch=1), row("Gravity", *self.gravity), row("Begin", self.start, stretch=1),
               row("", *self.velocity), row("Walls", self.walls, stretch=1), row("", "restitution", self.restitution, stretch=2),
               row("Heat", self.heated, stretch=1), self._warmth, spacing=6)

    def _set(self, what: str, **changes: Any) -> None:
        self._edit(what, self._now.with_(**changes))

    def _axis(self, name: str, at: int, value: float) -> None:
        old = getattr(self._now, name)
        self._set(name.capitalize(), **{name: tuple(value if n == at else v for n, v in enumerate(old))})

    def _warm(self, name: str, value: float) -> None:
        if self._now.heat is not None:
            self._set("Heat", heat=self._now.heat.with_(**{name: value}))

    def show_value(self, now: ParticleSetting) -> None:
        """Show a setting."""
        self._now = now
        self.law.show_value(now.law)
        self.diameter.show_value(1e6 * now.diameter)
        self.density.show_value(now.density)
        self.ballistic.show_value(now.ballistic)
        for field in (self.diameter, self.density):
            field.setEnabled(now.law != "ballistic")
        self.ballistic.setEnabled(now.law == "ballistic")
        self.start.show_value(now.start)
        for fields, values in ((self.gravity, now.gravity), (self.velocity, now.velocity)):
            for field, value in zip(fields, values, strict=True):
                field.show_value(value)
        for field in self.velocity:
            field.setEnabled(now.start == "typed")
        self.walls.show_value(now.walls)
        self.restitution.show_value(now.restitution)
        self.restitution.setEnabled(now.walls == "bounce")
        ball = now.law != "ballistic"
        self.heated.setEnabled(ball)
        self.heated.setChecked(now.heat is not None)
        self._warmth.setVisible(now.heat is not None and ball)
        for name in _HEAT if now.heat is not None else ():
            getattr(self, name).show_value(getattr(now.heat, name))
