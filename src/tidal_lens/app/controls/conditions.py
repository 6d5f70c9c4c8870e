"""Conditions as rows: a tick, a quantity, which side of what; for masks and regions."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Box, Check, Choice, IconButton, NumberField, QuantityChooser, Slider, column, label, row, told_apart
from tidal_lens.study.conditions import Condition
from tidal_lens.study.kinds.first_values import round_to

Tell = Callable[..., None]
_NUMBER = "a number"


class ConditionRow(QWidget):
    """One condition.

    Parameters
    ----------
    document : Document
        Of the quantities.
    number : int
        Which it is.
    change : callable
        Told what is done, a grip and the changed fields.
    remove : callable
        Takes it away.
    """

    def __init__(self, document: Document, number: int, change: Tell, remove: Callable[[int], None]) -> None:
        super().__init__()
        self.document, self._number, self._change = document, number, change
        self._shown: Condition | None = None
        self.on = Check("", "Whether this condition counts", lambda on: self._say("Condition", on=on))
        self.on.setAccessibleName("Condition counts")
        self.quantity = QuantityChooser("Quantity", "The quantity that decides", plain=False)
        self.quantity.picked.connect(self._choose)
        self.gone = IconButton("x", "Take this condition away", "Take this condition away", partial(remove, number), size=14)
        self.keep = Choice([("above", "Above", "Keep what lies above"), ("below", "Below", "Keep what lies below")])
        self.keep.picked.connect(lambda side: self._say("Side of the condition", keep=side))
        self.than = Box("Than", "What it is compared with: a number, or another quantity")
        self.than.activated.connect(self._compare)
        self.value = NumberField("Value", "Where it is cut; its bead on the colour key can be dragged too")
        self.value.edited.connect(lambda v: self._say("Value of the condition", value=v))
        self.sweep = Slider("Sweep", "Sweep the value through the usual range", 0.0, 1.0)
        self.sweep.moved.connect(self._swept)
        self.sweep.sliderPressed.connect(self._held)
        self.sweep.sliderReleased.connect(document.release)
        self.span = label("", "soft")
        self._names: list[str] = []
        column(self, row(self.on, self.quantity, self.gone, stretch=1), row("Keep", self.keep, stretch=1),
               row("Than", self.than, stretch=1), row("Value", self.value, stretch=1), row("", self.sweep, stretch=1), self.span, spacing=4)

    def _held(self) -> None:
        self.document.dragging = True

    def _say(self, what: str, grip: str = "", **changes: Any) -> None:
        self._change(self._number, what, grip, **changes)

    def _usual(self, name: str) -> tuple[float, float] | None:
        evaluator = self.document.evaluator
        spread = evaluator.store.known_distribution(name) if evaluator is not None else None
        return spread.usual if spread is not None else None

    def _choose(self, name: str) -> None:
        usual = self._usual(name)
        what = "Quantity of the condition"
        if usual is None:
            self._say(what, quantity=name)
        else:
            self._say(what, quantity=name, value=round_to(0.5 * sum(usual), 0.01 * (usual[1] - usual[0])))

    def _compare(self, at: int) -> None:
        self._say("Condition", other=self._names[at - 1] if at > 0 else "")

    def _swept(self, share: float) -> None:
        usual = self._usual(self._shown.quantity) if self._shown is not None else None
        if usual is not None:
            self._say("Value of the condition", f"condition {self._number}",
                      value=round_to(usual[0] + share * (usual[1] - usual[0]), 0.002 * (usual[1] - usual[0])))

    def show_value(self, condition: Condition, *, alone: bool) -> None:
        """Show what it is now; one that is alone cannot be taken away."""
        evaluator = self.document.evaluator
        if evaluator is None:
            return
        self._shown = condition
        name, units = condition.quantity, self.document.units
        offered = evaluator.store.quantities()
        self.on.setChecked(condition.on)
        self.gone.setEnabled(not alone)
        self.quantity.offer(offered, condition.quantity)
        self.keep.show_value(condition.keep)
        names = [q.name for q in offered if q.components == 1 and q.place != "wall" and not q.missing]
        if names != self._names:
            self._names = names
            self.than.clear()
            self.than.addItems([_NUMBER, *told_apart([q for q in offered if q.name in set(names)])])
        self.than.setCurrentIndex(names.index(condition.other) + 1 if condition.other in names else 0 if not condition.other else -1)
        usual = self._usual(condition.quantity)
        by_number = not condition.other
        for widget in (self.value, self.sweep):
            widget.setVisible(by_number)
        self.span.setVisible(by_number and usual is not None)
        if usual is not None:
            self.value.step = float(f"{max(usual[1] - usual[0], 1e-300) / 50:.0e}")
            self.sweep.show_value((condition.value - usual[0]) / max(usual[1] - usual[0], 1e-300))
            self.span.setText(f"Usual values are {units.texts(name, usual[:1])[0]} to {units.values(name, usual[1:])}.")
        self.value.show_in(units.of_name(name))
        self.value.show_value(condition.value)


class ConditionsEditor(QWidget):
    """All conditions of a shape, and a button for one more.

    Parameters
    ----------
    document : Document
        Of the quantities.
    change : callable
        Given what is done, a grip, and ``conditions``.
    """

    def __init__(self, document: Document, change: Tell) -> None:
        super().__init__()
        self.document, self._change = document, change
        self.rows: list[ConditionRow] = []
        self._conditions: tuple[Condition, ...] = ()
        holder = QWidget()
        self._list = QVBoxLayout(holder)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(10)
        self.more = QPushButton("One more condition")
        self.more.setToolTip("Add a condition on another quantity, or on the same")
        self.more.clicked.connect(self._add)
        column(self, holder, self.more, spacing=8)
        document.quantity_known.connect(lambda _name: self.show_value(self._conditions))

    def _add(self) -> None:
        last = self._conditions[-1]
        fresh = last.with_(keep="below" if last.keep == "above" else "above", on=True)
        self._change("One more condition", "", conditions=(*self._conditions, fresh))

    def _edit(self, number: int, what: str, grip: str = "", **changes: Any) -> None:
        new = tuple(c.with_(**changes) if n == number else c for n, c in enumerate(self._conditions))
        self._change(what, grip, conditions=new)

    def _remove(self, number: int) -> None:
        if len(self._conditions) > 1:
            self._change("Take a condition away", "", conditions=tuple(c for n, c in enumerate(self._conditions) if n != number))

    def show_value(self, conditions: tuple[Condition, ...]) -> None:
        """Show conditions."""
        self._conditions = conditions
        while len(self.rows) > len(conditions):
            self.rows.pop().deleteLater()
        while len(self.rows) < len(conditions):
            one = ConditionRow(self.document, len(self.rows), self._edit, self._remove)
            self._list.addWidget(one)
            self.rows.append(one)
        for one, condition in zip(self.rows, conditions, strict=True):
            one.show_value(condition, alone=len(conditions) == 1)
        self.more.setEnabled(0 < len(conditions) < 20)
