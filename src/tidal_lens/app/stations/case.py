"""The Case station: what was opened."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document, Notice
from tidal_lens.app.parts import Check, NumberField, Tile, column, label, number_text, row, rule
from tidal_lens.flow.atmosphere import HIGHEST, LOWEST, altitude_of, standard_air
from tidal_lens.flow.case import Flow
from tidal_lens.flow.roles import ROLE_NAMES
from tidal_lens.measures.balance import Balance, mass_balance
from tidal_lens.study.evaluate import reference_of
from tidal_lens.study.model import Reference
from tidal_lens.work import Token


class CaseStation(QWidget):
    """Blocks, boundaries, quantities, roles and the reference state."""

    def __init__(self, document: Document, act: Any) -> None:
        super().__init__()
        self.document = document
        tiles = QHBoxLayout()
        tiles.setSpacing(6)
        tiles.addWidget(Tile("folder-open", "Open…", "Open a result or a study (Ctrl+O)", lambda: act("open")))
        tiles.addWidget(Tile("save", "Save study", "Save the study (Ctrl+S)", lambda: act("save")))
        self.facts = label("", "soft")
        self.blocks = _Section("Blocks")
        self.boundaries = _Section("Boundaries")
        self.fields = _Section("Quantities in the file")
        self.roles = _Section("Roles")
        self.outline = Check("Draw the outline of the flow", "Draw the sharp edges of the flow's outside (O)",
                             lambda on: document.edit(document.study.with_(outline=on), "Outline"))
        self.reference = ReferenceControls(document)
        self.balance = BalanceControls(document)
        column(self, tiles, self.facts, rule(), self.reference, rule(), self.outline, rule(), self.blocks, self.boundaries,
               self.balance, self.fields, self.roles)
        document.case_changed.connect(self.refresh)
        document.study_changed.connect(self._refresh_light)
        document.quantity_known.connect(lambda _name: self._refresh_ranges())

    def showEvent(self, event: Any) -> None:
        """Ranges of the file's arrays are worked out when they are first looked at."""
        super().showEvent(event)
        self._ask_ranges()

    def _ask_ranges(self) -> None:
        flow = self.document.flow
        if flow is None or not self.isVisible():
            return
        for f in flow.fields.values():
            for name in _parts_of(f.name, f.components):
                self.document.ask_quantity(name)

    def _refresh_light(self) -> None:
        self.outline.setChecked(self.document.study.outline)
        self.reference.refresh()

    def refresh(self) -> None:
        """Show another flow."""
        flow = self.document.flow
        if flow is None:
            return
        low, high = flow.bounds
        corners = "\n".join(f"{axis}  {_bound(low[a], flow)} … {_bound(high[a], flow)}" for a, axis in enumerate("xyz"))
        self.facts.setText(f"{flow.path.name}\n{flow.n_points:,} points, {flow.n_cells:,} cells in {len(flow.blocks)} "
                           f"block{'s' if len(flow.blocks) > 1 else ''}, {flow.nbytes / 1e6:,.1f} MB\n{corners}")
        self.facts.setToolTip(str(flow.path))
        self.blocks.show_rows([(b.name, b.grid.description, f"{b.grid.n_cells:,} cells") for b in flow.blocks])
        self.boundaries.show_rows([(b.name, b.kind, f"{len(b.faces):,} faces") for b in flow.boundaries])
        found = flow.roles.described()
        self.roles.show_rows([(ROLE_NAMES[r], found.get(r, "not found"), "") for r in ("velocity", "pressure", "density", "temperature")])
        self._refresh_ranges()
        self._refresh_light()
        self._ask_ranges()

    def _refresh_ranges(self) -> None:
        flow, evaluator = self.document.flow, self.document.evaluator
        if flow is None or evaluator is None:
            return
        rows = []
        for f in flow.fields.values():
            parts = [evaluator.store.known_distribution(n) for n in _parts_of(f.name, f.components)]
            spans = [f"{number_text(d.low, 3)} … {number_text(d.high, 3)}" if d else "…" for d in parts]
            text = "\n".join(f"{a} {s}" for a, s in zip("xyz", spans, strict=False)) if f.components == 3 else spans[0]
            rows.append((f.name, f"{f.place}, {'vector' if f.components == 3 else 'scalar'}", text))
        self.fields.show_rows(rows)


def _bound(value: float, flow: Flow) -> str:
    return number_text(0.0 if abs(value) < 1e-9 * flow.size else float(value))


def _parts_of(name: str, components: int) -> list[str]:
    return [f"file:{name}"] if components == 1 else [f"file:{name}.{axis}" for axis in "xyz"]


class _Section(QWidget):
    """A heading and rows of name, kind and count."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self._rows: list[tuple[str, str, str]] = []
        self.title = title
        self._head = label(title, "head")
        self._holder = QWidget()
        self._grid = QGridLayout(self._holder)
        self._grid.setContentsMargins(0, 0, 0, 8)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(0, 1)
        column(self, self._head, self._holder, spacing=2)

    def show_rows(self, rows: list[tuple[str, str, str]]) -> None:
        """Show other rows."""
        if rows == self._rows:
            return
        self._rows = rows
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        for at, (name, kind, count) in enumerate(rows[:60]):
            left = QWidget()
            box = QVBoxLayout(left)
            box.setContentsMargins(0, 0, 0, 0)
            box.setSpacing(0)
            box.addWidget(label(name))
            box.addWidget(label(kind, "soft"))
            self._grid.addWidget(left, at, 0)
            right = label(count, "soft")
            right.setWordWrap(False)
            right.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self._grid.addWidget(right, at, 1)
        if len(rows) > 60:
            self._grid.addWidget(label(f"and {len(rows) - 60} more", "soft"), 60, 0)
        self._head.setText(f"{self.title} ({len(rows)})")


class BalanceControls(QWidget):
    """Mass through every boundary, when it is asked for."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.button = QPushButton("Mass through the boundaries")
        self.button.setToolTip("What flows in and out through each boundary, and whether it balances")
        self.button.clicked.connect(self._ask)
        self.rows = _Section("In, out, net")
        self.verdict = label("", "soft")
        column(self, self.button, self.rows, self.verdict, spacing=4)
        document.case_changed.connect(self._clear)
        document.step_changed.connect(self._clear)
        self._clear()

    def _clear(self) -> None:
        evaluator = self.document.evaluator
        able = evaluator is not None and not any(evaluator.store.describe(n).missing for n in ("speed", "density-gradient-magnitude"))
        self.button.setEnabled(able)
        self.rows.hide()
        self.verdict.hide()

    def _ask(self) -> None:
        evaluator = self.document.evaluator
        if evaluator is None:
            return

        def work(token: Token) -> Balance:
            store = evaluator.store
            return mass_balance(store.flow, store.values("density", token), store.values("velocity", token))

        def done(balance: Balance) -> None:
            if evaluator is not self.document.evaluator:
                return
            self.rows.title = "In, out, net [kg/s]" if evaluator.flow.si_units else "In, out, net"
            self.rows.show_rows([(s.name, f"in {number_text(s.inward)}, out {number_text(s.outward)}", number_text(s.net))
                                 for s in balance.shares])
            self.verdict.setText(balance.verdict)
            self.rows.show()
            self.verdict.show()

        self.document.jobs.submit("balance", "Mass through the boundaries", work, done,
                                  lambda error: self.document.noticed.emit(Notice("bad", str(error))))


class ReferenceControls(QWidget):
    """The free stream, as read or typed."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.pressure = NumberField("Reference pressure", "Free-stream pressure", 1.0, 1e-300)
        self.density = NumberField("Reference density", "Free-stream density", 0.01, 1e-300)
        self.gamma = NumberField("Ratio of specific heats", "γ; 1.4 for air", 0.01, 1.0001, 3.0)
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
        column(self, label("Reference state", "head"), row("p∞, ρ∞", self.pressure, self.density), row("Velocity", *self.velocity),
               row("Mach, α, h", self.mach, self.incidence, self.altitude), row("γ", self.gamma, self.reset), self.origin, spacing=6)

    def _now(self, flow: Flow) -> Reference:
        now = reference_of(flow, self.document.study)
        return Reference(pressure=now.pressure, density=now.density, velocity=now.velocity, gamma=now.gamma)

    def _set(self, **changes: Any) -> None:
        if self.document.flow is not None:
            study = self.document.study
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

    def _set_velocity(self, axis: int, value: float) -> None:
        if self.document.flow is not None:
            velocity = list(self._now(self.document.flow).velocity)
            velocity[axis] = value
            self._set(velocity=tuple(velocity))

    def refresh(self) -> None:
        """Show the reference state in force."""
        flow = self.document.flow
        if flow is None:
            return
        now = reference_of(flow, self.document.study)
        for field, value in ((self.pressure, now.pressure), (self.density, now.density)):
            field.setPlaceholderText("unknown")
            if value is None:
                field.clear()
            else:
                field.step = float(f"{value / 100:.0e}")
                field.show_value(value)
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
        self.origin.setText(f"{mach}speed {number_text(now.speed)}, incidence {number_text(now.incidence, 3)}°; {now.origin}; {units}")
        self.reset.setEnabled(self.document.study.reference is not None)
