"""The free stream: read, guessed, taken from a boundary or a point, or typed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PyQt6.QtWidgets import QLineEdit, QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import NumberField, Picker, PointField, column, label, parse_number, row
from tidal_lens.flow.atmosphere import HIGHEST, LOWEST, altitude_of, standard_air
from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.measures.free_stream import boundary_state, point_state
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.study.evaluate import reference_of
from tidal_lens.study.model import Reference
from tidal_lens.study.words import number_text
from tidal_lens.work import Token

_FILE, _POINT = "\0file", "\0point"


class ReferenceControls(QWidget):
    """The free stream, as read or typed."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._sources: list[str] = []
        self.pressure = NumberField("Reference pressure", "Free-stream pressure, 0 where the result counts from it", 1.0)
        self.density = NumberField("Reference density", "Free-stream density", 0.01, 1e-300)
        self.gamma = NumberField("Ratio of specific heats", "γ; 1.4 for air", 0.01, 1.0001, 3.0)
        self.gas = NumberField("Gas constant", "Specific gas constant R; 287.05 J/(kg K) for air is taken in SI units", 1.0, 1e-300)
        self.viscosity = NumberField("Viscosity", "Dynamic viscosity where the result has none; else Sutherland's law for air in SI units",
                                     1e-6, 1e-300)
        self.prandtl = NumberField("Prandtl number", "For wall heat flux; 0.72 for air", 0.01, 1e-6, 1e6)
        self.area = NumberField("Reference area", "Forces are divided by it in coefficients; the walls' planform where none is given", 0.01,
                                1e-300)
        self.length = NumberField("Reference length", "That moments are divided by in coefficients; the body's length where none is given",
                                  0.01, 1e-300)
        self.span = NumberField("Depth", "That sums over a plane flow are taken over; a unit where none is given", 0.1, 1e-300)
        self.span.edited.connect(lambda v: self._set(depth=v))
        self.about = PointField("Moments about", "The point that moments are taken about: three numbers")
        self.area.edited.connect(lambda v: self._set(area=v))
        self.length.edited.connect(lambda v: self._set(length=v))
        self.about.pointed.connect(lambda v: self._set(about=v))
        self.gas.edited.connect(lambda v: self._set(gas_constant=v))
        self.viscosity.edited.connect(lambda v: self._set(viscosity=v))
        self.prandtl.edited.connect(lambda v: self._set(prandtl=v))
        self.velocity = [NumberField(f"Reference velocity {a}", f"{a} component of the free-stream velocity", 1.0) for a in "xyz"]
        self.pressure.edited.connect(lambda v: self._set(pressure=v))
        self.density.edited.connect(lambda v: self._set(density=v))
        self.gamma.edited.connect(lambda v: self._set(gamma=v))
        for axis, field in enumerate(self.velocity):
            field.edited.connect(lambda v, a=axis: self._set_velocity(a, v))
        self.mach = NumberField("Reference Mach number", "Free-stream Mach number: sets the speed, the direction stays", 0.1, 1e-6, 100.0)
        self.incidence = NumberField("Incidence", "Angle of the free stream above the x-y plane [degrees]; the speed stays", 1.0,
                                     -89.9, 89.9)
        self.altitude = NumberField("Altitude", "Altitude in the U.S. Standard Atmosphere 1976 [m]: sets pressure and density in SI "
                                    "units, the Mach number stays", 500.0, LOWEST, HIGHEST)
        self.altitude.setPlaceholderText("altitude")
        self.mach.edited.connect(lambda v: self._fly(mach=v))
        self.incidence.edited.connect(lambda v: self._fly(incidence=v))
        self.altitude.edited.connect(lambda v: self._fly(altitude=v))
        self.reset = QPushButton("As in the file")
        self.reset.setToolTip("Forget the typed reference state")
        self.reset.clicked.connect(lambda: document.edit(document.study.with_(reference=None), "Reference state"))
        self.origin = label("", "soft")
        self.source = Picker("Take the reference state from", "Take the free stream from a boundary's average, or from a point")
        self.source.activated.connect(self._take)
        self.point = QLineEdit()
        self.point.setAccessibleName("Point of the reference state")
        self.point.setToolTip("x, y, z of a point in the undisturbed stream; Return takes it")
        self.point.setPlaceholderText("x, y, z")
        self.point.returnPressed.connect(self._take_point)
        self.point.hide()
        column(self, label("Reference state", "head"), row("From", self.source, stretch=1), self.point,
                row("p∞, ρ∞", self.pressure, self.density), row("Velocity", *self.velocity),
               row("Mach, α, h", self.mach, self.incidence, self.altitude), row("γ, Pr", self.gamma, self.prandtl),
               row("R, μ", self.gas, self.viscosity), row("Area, L", self.area, self.length, self.span),
               row("About", self.about, stretch=1), self.reset, self.origin, spacing=6)

    def _now(self, flow: Flow) -> Reference:
        now = reference_of(flow, self.document.study)
        return Reference(pressure=now.pressure, density=now.density, velocity=now.velocity, gamma=now.gamma, gas_constant=now.gas_constant,
                         viscosity=now.viscosity, prandtl=now.prandtl, area=now.area, length=now.length, about=now.about, depth=now.depth)

    def _set(self, **changes: Any) -> None:
        if self.document.flow is not None:
            study = self.document.study
            changes.setdefault("origin", "typed")
            self.document.edit(study.with_(reference=self._now(self.document.flow).with_(**changes)), "Reference state")

    def _fly(self, *, mach: float | None = None, incidence: float | None = None, altitude: float | None = None) -> None:
        if self.document.flow is None:
            return
        now = reference_of(self.document.flow, self.document.study)
        if altitude is not None:
            air = standard_air(altitude)
            wanted = replace(now, pressure=air.pressure, density=air.density).flying(mach=now.mach)
        else:
            wanted = now.flying(mach=mach, incidence=incidence)
        self._set(pressure=wanted.pressure, density=wanted.density, velocity=wanted.velocity)

    def _take(self, at: int) -> None:
        """A source was chosen: the file, a boundary or a point."""
        flow, evaluator = self.document.flow, self.document.evaluator
        if flow is None or evaluator is None:
            return
        name = self._sources[at]
        self.point.setVisible(name == _POINT)
        if name == _FILE:
            self.document.edit(self.document.study.with_(reference=None), "Reference state")
        elif name == _POINT:
            self.point.setFocus()
        elif name:
            self._work(f"Averaging over {name}", lambda token: boundary_state(evaluator.store, name, token))

    def _take_point(self) -> None:
        evaluator = self.document.evaluator
        try:
            x, y, z = (parse_number(c) for c in self.point.text().replace(";", ",").split(","))
        except ValueError:
            self.document.noticed.emit(Notice("warn", "A point is three numbers: x, y, z."))
            return
        if evaluator is not None:
            self._work("Looking at the point", lambda token: point_state(evaluator.store, (x, y, z), token))

    def _work(self, title: str, work: Callable[[Token], ReferenceState]) -> None:
        def done(state: ReferenceState) -> None:
            self._set(pressure=state.pressure, density=state.density, velocity=state.velocity, origin=state.origin)

        self.document.jobs.submit(Slot("reference"), title, work, done, lambda error: self.document.noticed.emit(Notice("bad", str(error))))

    def _set_velocity(self, axis: int, value: float) -> None:
        if self.document.flow is not None:
            velocity = list(self._now(self.document.flow).velocity)
            velocity[axis] = value
            self._set(velocity=tuple(velocity))

    def _show_units(self, flow: Flow) -> None:
        setting = self.document.units.setting
        for field, unit in ((self.pressure, "Pa"), (self.density, "kg/m³"), (self.gas, "J/(kg K)"), (self.viscosity, "kg/(m s)"),
                            (self.area, "m²"), (self.length, "m"), (self.span, "m"), *((f, "m/s") for f in self.velocity)):
            field.show_in(setting.of_unit(unit) if flow.si_units else Shown(""))

    def refresh(self) -> None:
        """Show the reference state in force."""
        flow = self.document.flow
        if flow is None:
            return
        now = reference_of(flow, self.document.study)
        boundaries = [b.name for b in flow.boundaries if b.nodes is not None]
        self._sources = ["", _FILE, *boundaries, _POINT]
        self.source.offer([now.origin, "the file, or guessed", *(f"average over {b}" for b in boundaries), "a point…"], 0)
        self._show_units(flow)
        for field, value in ((self.pressure, now.pressure), (self.density, now.density)):
            field.setPlaceholderText("unknown")
            if value is None:
                field.clear()
            else:
                field.step = float(f"{abs(value) / 100 or 1.0:.0e}")
                field.show_value(value)
        air = "air" if flow.si_units else ""
        for field, value, otherwise in ((self.gas, now.gas_constant, air or "R"), (self.viscosity, now.viscosity, air or "μ"),
                                        (self.area, now.area, "planform"), (self.length, now.length, "body"),
                                        (self.span, now.depth, "unit depth")):
            field.setPlaceholderText(otherwise)
            if value is None:
                field.clear()
            else:
                field.step = float(f"{value / 100:.0e}")
                field.show_value(value)
        self.span.setVisible(flow.normal is not None and flow.turned is None)
        self.about.show_values(now.about)
        self.prandtl.show_value(now.prandtl)
        self.gamma.show_value(now.gamma)
        for field, part in zip(self.velocity, now.velocity, strict=True):
            field.step = float(f"{max(now.speed, 1e-6) / 100:.0e}")
            field.show_value(part)
        self.mach.setEnabled(now.mach is not None)
        self.mach.setPlaceholderText("Mach")
        height = altitude_of(now.pressure or 0.0, now.density or 0.0)
        for field, value in ((self.mach, now.mach), (self.incidence, now.incidence), (self.altitude, height)):
            if value is not None:
                field.show_value(round(value, 6))
            elif not field.hasFocus():
                field.clear()
        mach = f"Mach {now.mach:.4g}, " if now.mach is not None else ""
        units = "SI units" if flow.si_units else "units as in the file"
        speed = self.document.units.amount(now.speed, "m/s" if flow.si_units else "")
        self.origin.setText(f"{mach}speed {speed}, incidence {number_text(now.incidence, 3)}°; {now.origin}; {units}")
        self.reset.setEnabled(self.document.study.reference is not None)
