"""Numbers and findings of all cases side by side, for the chosen card, and what they say as meshes of one flow."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import column, label, row
from tidal_lens.app.stations.station import Act
from tidal_lens.errors import TidalLensError
from tidal_lens.features.finding import Finding
from tidal_lens.flow.case import Flow
from tidal_lens.study.evaluate import Evaluated, sifting_of
from tidal_lens.study.model import Layer
from tidal_lens.study.said import listing
from tidal_lens.study.side_by_side import cell_size, findings_beside, mesh_study, numbers_beside
from tidal_lens.study.tables import Cell, Table
from tidal_lens.study.words import number_text
from tidal_lens.work import Token

_MESHES = (2, 3)


class BesideEntry(QWidget):
    """Below the chosen card's own numbers; hidden where there is one case."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self._document = document
        self.meshes: Table | None = None
        self._of: tuple[object, ...] = ()
        self.name = label("Side by side", "head")
        self.numbers = label("")
        self.study = QPushButton("As meshes of one flow")
        self.study.setToolTip("Observed order, extrapolated value and grid convergence index of each number (Roache 1994)")
        self.study.clicked.connect(self._study_meshes)
        self.save = QPushButton("Save CSV…")
        self.save.setToolTip("Save the numbers of all cases, their differences and what was said of the meshes")
        self.save.clicked.connect(lambda: act("save-beside"))
        self.told = label("")
        for words in (self.numbers, self.told):
            words.setTextFormat(Qt.TextFormat.RichText)
            words.setWordWrap(True)
            words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column(self, self.name, self.numbers, row(self.study, self.save, stretch=0), self.told, spacing=6)
        for signal in (document.chosen_changed, document.study_changed, document.beside.changed, theme.hub().changed):
            signal.connect(self.refresh)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)
        self.refresh()

    def _there(self) -> list[tuple[int, Evaluated]]:
        """The chosen card in all cases in which it came to something."""
        layer, document = self._document.chosen_layer, self._document
        if layer is None or layer.case is not None or not document.study.others:
            return []
        found = [(0, document.asking.results.get(layer.id)),
                 *((n, one.asking.results.get(layer.id)) for n, one in sorted(document.beside.cases.items()))]
        return [(n, result) for n, result in found if result is not None]

    @property
    def is_wanted(self) -> bool:
        """Whether there is anything to compare."""
        layer = self._document.chosen_layer
        return layer is not None and (layer.shape.measures or layer.shape.finds) and len(self._there()) > 1

    def tables(self) -> tuple[Table, ...]:
        """All that is told: numbers side by side, findings of the first and each other, the meshes."""
        layer, there = self._document.chosen_layer, self._there()
        if layer is None or len(there) < 2:
            return ()
        titles = [self._document.study.case_titles[n] for n, _ in there]
        if layer.shape.finds:
            named = [self._findings(layer, result) for _, result in there]
            return tuple(findings_beside(named[0], own, (titles[0], title)) for own, title in zip(named[1:], titles[1:], strict=True))
        found = numbers_beside([result.unmasked.tables for _, result in there], titles)
        return tuple(t for t in (found, self.meshes) if t is not None)

    def _findings(self, layer: Layer, result: Evaluated) -> list[tuple[str, Finding]]:
        return [(x.name, x.finding) for x in listing(result.unmasked.findings, sifting_of(layer, self._document.study)) if x.shown]

    def _study_meshes(self) -> None:
        document, there = self._document, self._there()
        flows = [document.flow if n == 0 else document.beside.cases[n].flow for n, _ in there]
        known: list[Flow] = [flow for flow in flows if flow is not None]
        tables, titles = [result.unmasked.tables for _, result in there], [document.study.case_titles[n] for n, _ in there]
        if len(known) < len(there):
            return

        def work(_token: Token) -> Table | None:
            try:
                return mesh_study(tables, titles, [cell_size(flow) for flow in known])
            except ValueError as why:
                raise TidalLensError(f"This is no mesh study: {why}.", "", "Open coarser or finer solutions of the same flow.") from why

        def done(table: Table | None) -> None:
            self.meshes = table
            self.refresh()

        document.jobs.submit(Slot("meshes"), "Mesh study", work, done, document.tell)

    def refresh(self) -> None:
        """Show what there is."""
        self.setVisible(self.is_wanted)
        of = tuple(id(result.unmasked) for _, result in self._there())
        if of != self._of:
            self._of, self.meshes = of, None
        if not self.is_wanted:
            return
        layer = self._document.chosen_layer
        finds = layer is not None and layer.shape.finds
        tables = self.tables()
        self.study.setVisible(not finds and len(self._there()) in _MESHES)
        units = self._document.units
        shown = [units.table(t) for t in (tables if finds else tables[:1])]
        self.numbers.setText("<br>".join(_found(t) if finds else _beside(t, len(self._there())) for t in shown))
        self.told.setVisible(self.meshes is not None)
        self.told.setText(_meshes(self.meshes) if self.meshes is not None else "")


def _cell(cell: Cell, sign: bool = False) -> str:
    if isinstance(cell, str):
        return cell
    if cell != cell:
        return "—"
    if sign:
        return (f"{cell:+.2g}" if abs(cell) < 100.0 else f"{cell:+.0f}").replace("-", "−")
    return number_text(cell)


def _rows(heads: tuple[str, ...], rows: Sequence[tuple[str, tuple[str, ...]]]) -> str:
    """Names on lines of their own, numbers below them: there is little room."""
    soft = theme.colour("soft").name()
    out = [f'<tr>{"".join(_right(h, soft) for h in heads)}</tr>']
    for name, cells in rows:
        out.append(f'<tr><td colspan="{len(heads)}" style="color:{soft}">{name}</td></tr>')
        out.append(f'<tr>{"".join(_right(c) for c in cells)}</tr>')
    return f'<table cellspacing="0" cellpadding="1" width="100%">{"".join(out)}</table>'


def _right(text: str, colour: str = "") -> str:
    return f'<td align="right"{f" style=color:{colour}" if colour else ""}>{text}&nbsp;</td>'


def _beside(table: Table, count: int) -> str:
    """Of each number: what it is in each case, and by how many per cent the others are off the first."""
    shares = range(count + 2, len(table.heads), 2)
    heads = (*table.heads[1:count + 1], *("%" if count == 2 else f"{table.heads[n - 1].split(' less ')[0]} %" for n in shares))
    return _rows(heads, [(str(row[0]), (*(_cell(c) for c in row[1:count + 1]), *(_cell(row[n], True) for n in shares)))
                         for row in table.rows])


def _meshes(table: Table) -> str:
    return _rows(("order", "extrapolated", "index [%]", "verdict"),
                 [(str(row[0]), (_cell(row[-4]), _cell(row[-3]), _cell(row[-2]), str(row[-1]))) for row in table.rows])


def _found(table: Table) -> str:
    """Findings and their partners: by how much they moved, and how much stronger the other's are."""
    rows = []
    for here, sort, there, number, a, b, change, moved in table.rows:
        alone = f"{here}: not in {table.heads[5]}" if here else f"{there}: not in {table.heads[4]}"
        name = f"{here} ↔ {there}" if here and there else alone
        rows.append((f"{name}, {sort}" + (f": {number}" if number else ""), (_cell(a), _cell(b), _cell(change, True), _cell(moved))))
    return _rows((table.heads[4], table.heads[5], "%", "moved"), rows)
