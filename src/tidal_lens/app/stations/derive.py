"""The Derive station: quantities that follow from what is in the file, formulas, and how things are worked out."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QPushButton, QSizePolicy, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, label, row, rule
from tidal_lens.app.stations.derive_choices import ChoiceControls
from tidal_lens.app.stations.derive_formula import FormulaPanel
from tidal_lens.app.stations.silhouette import Silhouette
from tidal_lens.app.stations.station import Act, Station
from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.store import FORMULA, Quantity
from tidal_lens.study.formulas import free_name

_ROLE = Qt.ItemDataRole.UserRole


class DeriveStation(QWidget):
    """A list of quantities by purpose; the chosen one with formula, source, range and distribution, and what to do with it."""

    def __init__(self, document: Document, act: Act) -> None:
        super().__init__()
        self.document = document
        self._act = act
        self._filled: tuple[object, ...] = ()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a quantity")
        self.search.setAccessibleName("Find a quantity")
        self.search.setToolTip("Shows only quantities with these letters in their name, symbol or purpose")
        self.search.textChanged.connect(lambda _t: self._fill())
        self.list = QListWidget()
        self.list.setAccessibleName("Quantities")
        self.list.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.list.setFixedHeight(250)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentItemChanged.connect(lambda now, _old: self._pick(now))
        self.title = label("", "head")
        self.about = label("", "")
        self.about.setWordWrap(True)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.notes = label("", "soft")
        self.silhouette = Silhouette()
        self.span = label("", "soft")
        self.paint_card = QPushButton("Colour the card")
        self.paint_card.setToolTip("Colour the chosen card by this quantity")
        self.paint_card.clicked.connect(lambda: act("colour-by", self.chosen or ""))
        self.surface = QPushButton("Isosurface")
        self.surface.setToolTip("Add an isosurface of this quantity")
        self.surface.clicked.connect(lambda: act("add-isosurface", self.chosen or ""))
        self.vary = QPushButton("Vary")
        self.vary.setToolTip("Begin a formula from this one")
        self.vary.clicked.connect(self._vary)
        self.chosen: str | None = None
        self.formula = FormulaPanel(document, self.show_quantity)
        document.asked_for.connect(self.show_quantity)
        self.choices = ChoiceControls(document)
        column(self, self.search, self.list, self.title, self.about, self.silhouette, self.span,
               row(self.paint_card, self.surface, self.vary), self.notes, rule(), self.formula, rule(), self.choices)
        document.case_changed.connect(self._fill)
        document.quantity_known.connect(self._known)
        document.study_changed.connect(self._fill)
        document.chosen_changed.connect(self._show)

    def show_quantity(self, name: str) -> None:
        """Choose a quantity in the list."""
        self.chosen = name
        self.search.clear()
        self._fill()
        for n in range(self.list.count()):
            item = self.list.item(n)
            if item is not None and item.data(_ROLE) == name:
                self.list.setCurrentItem(item)
                self._pick(item)

    def _offered(self) -> tuple[Quantity, ...]:
        evaluator = self.document.evaluator
        return evaluator.store.quantities() if evaluator is not None else ()

    def _fill(self) -> None:
        wanted, offered = self.search.text().strip().lower(), self._offered()
        if self._filled == (wanted, offered):
            self._show()
            return
        self._filled = (wanted, offered)
        keep = self.chosen
        self.list.blockSignals(True)
        self.list.clear()
        group = ""
        for q in offered:
            if wanted not in f"{q.title} {q.symbol} {q.name} {q.group}".lower():
                continue
            if q.group != group:
                group = q.group
                head = QListWidgetItem(group)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                head.setForeground(theme.colour("soft"))
                head.setFont(theme.font(12, bold=True))
                self.list.addItem(head)
            self.list.addItem(_entry(q))
            if q.name == keep:
                self.list.setCurrentRow(self.list.count() - 1)
        self.list.blockSignals(False)
        if self.list.currentItem() is None:
            for n in range(self.list.count()):
                first = self.list.item(n)
                if first is not None and first.data(_ROLE):
                    self.list.setCurrentItem(first)
                    break
        self._choose(self.list.currentItem())

    def _pick(self, item: QListWidgetItem | None) -> None:
        """An entry was chosen: a formula comes to the editor."""
        self._choose(item)
        if self.chosen is not None and self.chosen.startswith(FORMULA):
            self.formula.show_formula(self.chosen[len(FORMULA):].partition(".")[0])

    def _choose(self, item: QListWidgetItem | None) -> None:
        self.chosen = item.data(_ROLE) if item is not None else None
        self._ask()
        self._show()

    def showEvent(self, event: Any) -> None:
        """Work out the chosen quantity when it is first looked at."""
        super().showEvent(event)
        self._ask()

    def _quantity(self) -> Quantity | None:
        return next((q for q in self._offered() if q.name == self.chosen), None)

    def _ask(self) -> None:
        q = self._quantity()
        if q is not None and self.isVisible() and not q.missing and q.components == 1:
            self.document.asking.ask_quantity(q.name)

    def _known(self, name: str) -> None:
        if name == self.chosen:
            self._show()

    def _vary(self) -> None:
        q = self._quantity()
        if q is None:
            return
        text = _text_of(q)
        self.formula.take_up(free_name(self.document.study, f"my_{q.name.replace('-', '_')}" if q.name in BY_NAME else "formula_1"), text)

    def _show(self) -> None:
        q = self._quantity()
        evaluator = self.document.evaluator
        for widget in (self.title, self.about, self.notes, self.silhouette, self.span, self.paint_card, self.surface, self.vary):
            widget.setVisible(q is not None)
        if q is None or evaluator is None:
            return
        self._describe(q)
        if not q.missing and q.components == 1 and evaluator.store.known_distribution(q.name) is None:
            self._ask()
        spread = evaluator.store.known_distribution(q.name)
        self.silhouette.show_distribution(spread if q.components == 1 else None)
        self.silhouette.setVisible(q.components == 1 and not q.missing)
        if q.missing:
            self.span.setText(f"Needs {q.missing}, which this result does not have." if not q.missing.startswith("another text")
                              else "Not understood: see the formula below.")
        elif q.components != 1:
            self.span.setText("A vector: colour by its magnitude or a component." if q.components == 3 else
                              "A tensor: for use in formulas.")
        elif spread is None:
            self.span.setText("Computing…")
        else:
            holes = f"; {spread.not_finite:,} not finite" if spread.not_finite else ""
            first = "about " if spread.coarse else ""
            low, high, least, greatest = self.document.units.texts(q.name, (*spread.usual, spread.low, spread.high))
            self.span.setText(f"{first}{least} … {greatest}; 99 % between {low} and {high}{holes}")
        usable = q.components == 1 and not q.missing
        layer = self.document.chosen_layer
        fits = layer is not None and layer.look.on != "none" and (q.place != "wall" or layer.shape.on_walls)
        self.paint_card.setEnabled(usable and fits)
        self.surface.setEnabled(usable and q.place != "wall")
        self.vary.setEnabled(bool(_text_of(q)))

    def _describe(self, q: Quantity) -> None:
        self.title.setText(self.document.units.label(q))
        definition = BY_NAME.get(q.name)
        if definition is None:
            self.about.setText(f"{q.title} = {q.about}" if q.name.startswith(FORMULA) else q.about[0].upper() + q.about[1:])
            self.notes.setText(q.made[0].upper() + q.made[1:] + ".")
            return
        self.about.setText(f"{q.symbol} = {definition.told}")
        lines = [f"From {q.made}." if q.place != "wall" else "Known on walls only: colour the walls' card by it."]
        lines += [f"Sign: {definition.sign}."] if definition.sign else []
        lines += [f"Mind: {definition.misleads}"] if definition.misleads else []
        lines += [f"Source: {definition.source}."] if definition.source else []
        lines += [f"In formulas: {definition.name.replace('-', '_')}"]
        self.notes.setText("\n".join(lines))


def _entry(q: Quantity) -> QListWidgetItem:
    item = QListWidgetItem(f"   {q.title}" + (f"   {q.symbol}" if q.symbol != q.title else ""))
    item.setData(_ROLE, q.name)
    item.setToolTip(f"needs {q.missing}" if q.missing else q.about)
    if q.missing:
        item.setText(f"   {q.title}   needs {q.missing}")
        item.setForeground(theme.colour("soft"))
    item.setSizeHint(QSize(0, 23))
    return item


def _text_of(q: Quantity) -> str:
    """The formula of a quantity, as one to begin another with."""
    if q.name in BY_NAME:
        return BY_NAME[q.name].formula or q.name.replace("-", "_")
    if q.name.startswith(FORMULA):
        return q.name[len(FORMULA):]
    label_ = q.name.partition(":")[2]
    plain, _, axis = label_.rpartition(".")
    quoted = f"`{plain}`.{axis}" if axis in ("x", "y", "z") and plain else f"`{label_}`"
    return "" if "`" in label_ else quoted


STATION = Station("derive", "Derive", "Quantities that follow from it", DeriveStation)
