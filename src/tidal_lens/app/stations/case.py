"""The Case station: what was opened."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import Check, Picker, Tile, column, label, rule
from tidal_lens.app.stations.case_balance import BalanceControls
from tidal_lens.app.stations.case_boundaries import BoundariesControls
from tidal_lens.app.stations.case_passages import PassagesControls
from tidal_lens.app.stations.case_reading import ReadingControls
from tidal_lens.app.stations.case_reference import ReferenceControls
from tidal_lens.app.stations.case_roles import RolesControls
from tidal_lens.app.stations.rows import Facts, Section
from tidal_lens.app.stations.silhouette import Silhouette
from tidal_lens.app.stations.station import Act, Station
from tidal_lens.flow.case import Block, Flow
from tidal_lens.measures.inspect import BlockReport, Place, ValuesReport, inspect_block, inspect_values
from tidal_lens.quantities.store import Distribution, QuantityStore
from tidal_lens.study.words import number_text
from tidal_lens.work import Token


class CaseStation(QWidget):
    """Blocks, boundaries, quantities, roles and the reference state."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self.document = document
        tiles = QHBoxLayout()
        tiles.setSpacing(6)
        tiles.addWidget(Tile("folder-open", "Open…", "Open a result or a study (Ctrl+O)", lambda: act("open")))
        tiles.addWidget(Tile("save", "Save study", "Save the study (Ctrl+S)", lambda: act("save")))
        tiles.addWidget(Tile("save", "Save data…", "Save the flow with the quantities in use, in an open format", lambda: act("save-flow")))
        run_tiles = QHBoxLayout()
        run_tiles.setSpacing(6)
        run_tiles.addWidget(Tile("history", "History…", "Residuals and coefficients of the run, from a table", lambda: act("history")))
        run_tiles.addWidget(Tile("follow", "Follow a run…", "Watch a folder into which a solver writes", lambda: act("follow")))
        self.facts = label("", "soft")
        self.turned = Picker("The plane of the flow", "A plane flow may stand for what it is turned about an axis through the origin")
        self.turned.offer(["as recognised", "flat, by unit depth", "turned about x", "turned about y", "turned about z"], 0)
        self.turned.activated.connect(lambda at: document.edit(document.study.with_(turned=("", "flat", "x", "y", "z")[at]), "Axis"))
        self.reading = ReadingControls(document)
        self.blocks = Section("Blocks", opens=True)
        self.boundaries = BoundariesControls(document)
        self.fields = Section("Quantities in the file", opens=True)
        self.roles = RolesControls(document)
        self.blocks.asked.connect(self._look_into_block)
        self.fields.asked.connect(self._look_into_field)
        self.outline = Check("Draw the outline of the flow", "Draw the sharp edges of the flow's outside (O)",
                             lambda on: document.edit(document.study.with_(outline=on), "Outline"))
        self.reference = ReferenceControls(document)
        self.balance = BalanceControls(document)
        self.passages = PassagesControls(document)
        column(self, tiles, run_tiles, self.facts, self.turned, rule(), self.roles, rule(), self.reference, rule(), self.boundaries,
               self.passages, self.balance, rule(),
               self.reading, self.blocks, self.fields, self.outline)
        document.case_changed.connect(self.refresh)
        document.settings_changed.connect(self._refresh_light)
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
                self.document.asking.ask_quantity(name)

    def _refresh_light(self) -> None:
        self.outline.setChecked(self.document.study.outline)
        self.turned.setCurrentIndex(("", "flat", "x", "y", "z").index(self.document.study.turned))
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
        if flow.normal is not None:
            made = "" if flow.layer_found else "made "
            self.facts.setText(f"{self.facts.text()}\na plane flow, {made}a layer of cells {number_text(flow.depth)} deep")
        if flow.turned is not None:
            self.facts.setText(f"{self.facts.text()}\naxisymmetric: turned about {flow.turned.letter}, sums are once round it")
        self.turned.setVisible(flow.normal is not None)
        self.facts.setToolTip(str(flow.path))
        self.blocks.show_rows([(b.name, b.grid.description, f"{b.grid.n_cells:,} cells") for b in flow.blocks])
        self.boundaries.refresh(flow)
        self.passages.refresh(flow)
        self.roles.refresh(flow)
        self.reading.refresh(flow)
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

    # -- a look into one thing -------------------------------------------------------------------------------

    def _look_into_block(self, name: str) -> None:
        flow = self.document.flow
        block = next((b for b in flow.blocks if b.name == name), None) if flow is not None else None
        if flow is None or block is None or self._close(self.blocks, name):
            return

        def done(report: BlockReport) -> None:
            if self.document.flow is flow:
                self.blocks.open_row(name, lambda: _block_facts(report, self.document))

        self._submit("look", f"Looking into {name}", lambda token: _report(flow, block, token), done)

    def _look_into_field(self, name: str) -> None:
        flow, evaluator = self.document.flow, self.document.evaluator
        if flow is None or evaluator is None or name not in flow.fields or self._close(self.fields, name):
            return
        parts = _parts_of(name, flow.fields[name].components)

        def done(reports: list[ValuesReport]) -> None:
            if self.document.flow is flow:
                spreads = [evaluator.store.known_distribution(part) for part in parts]
                self.fields.open_row(name, lambda: _values_facts(reports, spreads, self.document))

        self._submit("look", f"Looking into {name}", lambda token: _value_reports(evaluator.store, parts, token), done)

    @staticmethod
    def _close(section: Section, name: str) -> bool:
        """Close a row that is open already; whether it was."""
        if name in section.rows and section.rows[name].more is not None:
            section.open_row(name, None)
            return True
        return False

    def _submit(self, purpose: str, title: str, work: Any, done: Any) -> None:
        self.document.jobs.submit(Slot(purpose), title, work, done, lambda error: self.document.noticed.emit(Notice("bad", str(error))))


def _report(flow: Flow, block: Block, token: Token) -> BlockReport:
    return inspect_block(flow, block, token)


def _value_reports(store: QuantityStore, names: list[str], token: Token) -> list[ValuesReport]:
    for name in names:
        store.distribution(name, token)
    return [inspect_values(store.flow, store.values(name, token)) for name in names]


def _place_text(place: Place) -> str:
    return ", ".join(number_text(c) for c in place)


def _block_facts(report: BlockReport, document: Document) -> Facts:
    lines = [*((name, f"{count:,}") for name, count in report.cells), ("points", f"{report.points:,}"),
             ("bounds", "\n".join(f"{axis}  {number_text(report.low[a])} … {number_text(report.high[a])}" for a, axis in enumerate("xyz"))),
             ("volume", number_text(report.volume, 5)), ("smallest cell", number_text(report.smallest.value)),
             ("negative cells", f"{report.negative:,}"),
             ("skewness", f"up to {report.skewness.value:.3f}, mean {report.skewness.mean:.3f}"),
             ("aspect ratio", f"up to {number_text(report.aspect.value)}, mean {number_text(report.aspect.mean)}")]
    worst = (("Go to the smallest cell", report.smallest), ("Go to the most skewed cell", report.skewness),
             ("Go to the longest cell", report.aspect))
    return Facts(lines, [(text, _visitor(document, w.place)) for text, w in worst])


def _visitor(document: Document, place: Place) -> Callable[[], None]:
    return lambda: document.visit.emit(place)


def _values_facts(reports: list[ValuesReport], spreads: list[Distribution | None], document: Document) -> QWidget:
    lines: list[tuple[str, str]] = []
    places: list[tuple[str, Callable[[], None]]] = []
    for axis, r in zip("xyz" if len(reports) > 1 else ("",), reports, strict=False):
        mark = f"{axis} " if axis else ""
        lines += [(f"{mark}least", f"{number_text(r.low, 6)}\nat {_place_text(r.low_place)}"),
                  (f"{mark}greatest", f"{number_text(r.high, 6)}\nat {_place_text(r.high_place)}"), (f"{mark}mean", number_text(r.mean, 6)),
                  (f"{mark}not finite", f"{r.not_finite:,}")]
        places += [(f"Go to the least {mark}".strip(), _visitor(document, r.low_place)),
                   (f"Go to the greatest {mark}".strip(), _visitor(document, r.high_place))]
        if r.first_not_finite is not None:
            places.append((f"Go to the first {mark}that is not finite", _visitor(document, r.first_not_finite)))
    out = QWidget()
    silhouettes = [Silhouette() for _ in spreads]
    for silhouette, spread in zip(silhouettes, spreads, strict=True):
        silhouette.show_distribution(spread)
    column(out, *silhouettes, Facts(lines, places), spacing=4)
    return out


def _bound(value: float, flow: Flow) -> str:
    return number_text(0.0 if abs(value) < 1e-9 * flow.size else float(value))


def _parts_of(name: str, components: int) -> list[str]:
    return [f"file:{name}"] if components == 1 else [f"file:{name}.{axis}" for axis in "xyz"]


STATION = Station("case", "Case", "Take stock of what was opened", CaseStation)
