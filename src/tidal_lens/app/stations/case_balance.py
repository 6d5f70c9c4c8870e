"""What flows through the boundaries, and whether it balances."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import column, label, row
from tidal_lens.app.stations.rows import Section
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.measures.balance import Balance, balance_rows, energy_balance, mass_balance
from tidal_lens.quantities.shown_units import Shown
from tidal_lens.work import Token


class BalanceControls(QWidget):
    """Mass, and energy where it is known, through every boundary, when it is asked for."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.balances: tuple[Balance, ...] = ()
        self.button = QPushButton("Balance the boundaries")
        self.button.setToolTip("Mass and energy that flow in and out through each boundary, and whether they balance")
        self.button.clicked.connect(self._ask)
        self.save = QPushButton("Table…")
        self.save.setToolTip("Save the balance as a CSV table")
        self.save.clicked.connect(self._save)
        self.rows = Section("In, out, net")
        self.verdict = label("", "soft")
        column(self, row(self.button, self.save), self.rows, self.verdict, spacing=4)
        document.case_changed.connect(self._clear)
        document.step_changed.connect(self._clear)
        document.study_changed.connect(self._enable)
        self._clear()

    def _enable(self) -> None:
        evaluator = self.document.evaluator
        able = evaluator is not None and not any(evaluator.store.describe(n).missing for n in ("speed", "density-gradient-magnitude"))
        self.button.setEnabled(able)

    def _clear(self) -> None:
        self._enable()
        self.balances = ()
        self.rows.hide()
        self.verdict.hide()
        self.save.hide()

    def _ask(self) -> None:
        evaluator = self.document.evaluator
        if evaluator is None:
            return

        def work(token: Token) -> tuple[Balance, ...]:
            store = evaluator.store
            density, velocity = store.values("density", token), store.values("velocity", token)
            mass = mass_balance(store.flow, density, velocity)
            if not store.flow.roles.has_pressure:
                return (mass,)
            return mass, energy_balance(store.flow, store.values("pressure", token), density, velocity, store.reference.gamma)

        def done(balances: tuple[Balance, ...]) -> None:
            if evaluator is self.document.evaluator:
                self._show(balances)

        self.document.jobs.submit(Slot("balance"), "Balancing the boundaries", work, done,
                                  lambda error: self.document.noticed.emit(Notice("bad", str(error))))

    def _show(self, balances: tuple[Balance, ...]) -> None:
        self.balances = balances
        flow = self.document.flow
        si = flow is not None and flow.si_units
        deep = ", a unit of depth" if flow is not None and flow.normal is not None else ""
        units = self.document.units
        shown = [units.setting.of_unit(b.unit) if si else Shown("") for b in balances]
        self.rows.title = "In, out, net" + ("" if not si else f" [{' and '.join(s.text for s in shown)}{deep}]")
        rows = []
        for n, share in enumerate(balances[0].shares):
            own = [(b.what, s, b.shares[n]) for b, s in zip(balances, shown, strict=True)]
            told = [f"{what} in {units.number(s.of(x.inward))}, out {units.number(s.of(x.outward))}" for what, s, x in own]
            rows.append((share.name, "\n".join(told), "\n".join(units.number(s.of(x.net)) for _, s, x in own)))
        self.rows.show_rows(rows)
        self.verdict.setText("\n".join(b.verdict for b in balances))
        for widget in (self.rows, self.verdict, self.save):
            widget.show()

    def _save(self) -> None:
        flow = self.document.flow
        if flow is None or not self.balances:
            return
        start = str(flow.path.parent / f"{flow.path.stem} balance.csv")
        name, _ = QFileDialog.getSaveFileName(self, "Save the balance", start, "CSV tables (*.csv)",
                                              options=QFileDialog.Option.DontUseNativeDialog)
        if name:
            self.save_to(Path(name))

    def save_to(self, path: Path) -> None:
        """Write the balance that is shown."""
        target = path if path.suffix else path.with_suffix(".csv")
        try:
            write_table(target, balance_rows(self.balances))
        except TidalLensError as error:
            self.document.noticed.emit(Notice("bad", str(error)))
            return
        self.document.noticed.emit(Notice("note", f"The balance was saved as {target.name}."))
