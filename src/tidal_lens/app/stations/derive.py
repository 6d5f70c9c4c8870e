"""The Derive station: quantities that follow from what is in the file."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QPushButton, QSizePolicy, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.parts import column, label, number_text, row
from tidal_lens.quantities.store import Distribution, Quantity


class DeriveStation(QWidget):
    """A list of quantities by purpose; the chosen one with formula, range and distribution, and what to do with it."""

    def __init__(self, document: Document, act: Any) -> None:
        super().__init__()
        self.document = document
        self._act = act
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a quantity")
        self.search.setAccessibleName("Find a quantity")
        self.search.setToolTip("Shows only quantities that have these letters in their name")
        self.search.textChanged.connect(lambda _t: self._fill())
        self.list = QListWidget()
        self.list.setAccessibleName("Quantities")
        self.list.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.list.setFixedHeight(300)
        self.list.currentItemChanged.connect(lambda now, _old: self._choose(now))
        self.title = label("", "head")
        self.about = label("", "soft")
        self.silhouette = Silhouette()
        self.span = label("", "soft")
        self.paint_card = QPushButton("Colour the chosen card")
        self.paint_card.setToolTip("Colour the chosen card by this quantity")
        self.paint_card.clicked.connect(lambda: act("colour-by", self.chosen))
        self.surface = QPushButton("Isosurface of it")
        self.surface.setToolTip("Add an isosurface of this quantity")
        self.surface.clicked.connect(lambda: act("add-isosurface", self.chosen))
        self.chosen: str | None = None
        column(self, self.search, self.list, self.title, self.about, self.silhouette, self.span,
               row(self.paint_card, self.surface, stretch=0))
        document.case_changed.connect(self._fill)
        document.quantity_known.connect(self._known)
        document.study_changed.connect(self._show)
        document.chosen_changed.connect(self._show)

    def show_quantity(self, name: str) -> None:
        """Choose a quantity in the list."""
        self.search.clear()
        for n in range(self.list.count()):
            item = self.list.item(n)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == name:
                self.list.setCurrentItem(item)

    def _offered(self) -> tuple[Quantity, ...]:
        evaluator = self.document.evaluator
        return evaluator.store.quantities() if evaluator is not None else ()

    def _fill(self) -> None:
        keep = self.chosen
        wanted = self.search.text().strip().lower()
        self.list.blockSignals(True)
        self.list.clear()
        group = ""
        for q in self._offered():
            if wanted not in f"{q.title} {q.symbol} {q.name}".lower():
                continue
            if q.group != group:
                group = q.group
                head = QListWidgetItem(group)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                head.setForeground(theme.colour("soft"))
                head.setFont(theme.font(12, bold=True))
                self.list.addItem(head)
            item = QListWidgetItem(f"   {q.title}" + (f"   {q.symbol}" if q.symbol != q.title else ""))
            item.setData(Qt.ItemDataRole.UserRole, q.name)
            item.setToolTip(f"needs {q.missing}" if q.missing else q.about)
            if q.missing:
                item.setText(f"   {q.title}   needs {q.missing}")
                item.setForeground(theme.colour("soft"))
            item.setSizeHint(QSize(0, 23))
            self.list.addItem(item)
            if q.name == keep:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        if self.list.currentItem() is None:
            for n in range(self.list.count()):
                first = self.list.item(n)
                if first is not None and first.data(Qt.ItemDataRole.UserRole):
                    self.list.setCurrentItem(first)
                    break
        self._choose(self.list.currentItem())

    def _choose(self, item: QListWidgetItem | None) -> None:
        name = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        self.chosen = name
        self._ask()
        self._show()

    def showEvent(self, event: Any) -> None:
        """Work out the chosen quantity when it is first looked at."""
        super().showEvent(event)
        self._ask()

    def _ask(self) -> None:
        q = next((q for q in self._offered() if q.name == self.chosen), None)
        if q is not None and self.isVisible() and not q.missing and q.components == 1:
            self.document.ask_quantity(q.name)

    def _known(self, name: str) -> None:
        if name == self.chosen:
            self._show()

    def _show(self) -> None:
        q = next((q for q in self._offered() if q.name == self.chosen), None)
        evaluator = self.document.evaluator
        for widget in (self.title, self.about, self.silhouette, self.span, self.paint_card, self.surface):
            widget.setVisible(q is not None)
        if q is None or evaluator is None:
            return
        spread = evaluator.store.known_distribution(q.name)
        unit = f" [{q.unit}]" if q.unit else ""
        self.title.setText(f"{q.title}{unit}")
        place = "cell values, averaged to nodes" if q.place == "cell" else "node values"
        self.about.setText(f"{q.symbol} = {q.about}\nfrom {place}" if q.group != "In the file" else f"{q.about}; {place}")
        self.silhouette.show_distribution(spread if q.components == 1 else None)
        if q.missing:
            self.span.setText(f"Needs {q.missing}, which this result does not have.")
        elif q.components == 3:
            self.span.setText("A vector: colour by its magnitude or a component.")
        elif spread is None:
            self.span.setText("Computing…")
        else:
            holes = f"; {spread.not_finite:,} not finite" if spread.not_finite else ""
            self.span.setText(f"{number_text(spread.low)} … {number_text(spread.high)}; 99 % between "
                              f"{number_text(spread.usual[0])} and {number_text(spread.usual[1])}{holes}")
        usable = q.components == 1 and not q.missing
        self.paint_card.setEnabled(usable and self.document.chosen_layer is not None)
        self.surface.setEnabled(usable)


class Silhouette(QWidget):
    """The distribution of a quantity, lying."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(56)
        self._spread: Distribution | None = None

    def show_distribution(self, spread: Distribution | None) -> None:
        """Show another distribution, or none."""
        self._spread = spread
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        base = self.height() - 1.0
        painter.setPen(theme.colour("line"))
        painter.drawLine(0, int(base), self.width(), int(base))
        if self._spread is None or self._spread.counts.max() == 0:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("sea", 0.75))
        shares = (self._spread.counts / self._spread.counts.max()) ** 0.5
        wide = self.width() / len(shares)
        for n, share in enumerate(shares):
            painter.drawRect(QRectF(n * wide, base - share * (base - 4), max(wide - 1, 1), share * (base - 4)))
