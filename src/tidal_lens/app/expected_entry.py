"""What is expected of the chosen measure, typed or from the solver's history, and how far off it is."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.histories import Histories
from tidal_lens.app.parts import IconButton, NumberField, Picker, column, label, row
from tidal_lens.study.expected import Expected, Judged, judged, same_number
from tidal_lens.study.tables import numbers_of
from tidal_lens.study.words import number_text


class ExpectedEntry(QWidget):
    """Rows of expectations, and a form for another one.

    Parameters
    ----------
    document : Document
        Whose chosen card is judged.
    histories : Histories
        The solver's own numbers.
    """

    def __init__(self, document: Document, histories: Histories) -> None:
        super().__init__()
        self._document, self._histories = document, histories
        self.told = label("")
        self.told.setWordWrap(True)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(2)
        self.judged: tuple[Judged, ...] = ()
        self._numbers: dict[str, float] = {}
        self.number = Picker("Expected number", "Which of the card's numbers")
        self.number.activated.connect(lambda _at: self._show_unit())
        self.value = NumberField("Expected value", "What it should be", 0.1)
        self.tolerance = NumberField("Tolerance in per cent", "How far off it may be", 0.5, 1e-6, 1e6)
        self.tolerance.show_value(2.0)
        self.source = QLineEdit()
        self.source.setAccessibleName("Source of the expected value")
        self.source.setPlaceholderText("source")
        self.source.setToolTip("Where the value comes from: a report, a test, another code")
        self.add = QPushButton("Expect")
        self.add.setToolTip("Set this value beside what is found")
        self.add.clicked.connect(self._add)
        column(self, label("Expected values", "soft"), self._rows, self.told, self.number,
               row(self.value, "±", self.tolerance, "%", stretch=0), row(self.source, self.add, stretch=0), spacing=4)
        document.study_changed.connect(self.refresh)
        document.chosen_changed.connect(self.refresh)
        document.result_changed.connect(lambda layer_id: self.refresh() if layer_id == document.chosen else None)
        histories.changed.connect(self.refresh)

    def begin(self) -> None:
        """Give the keyboard to the form."""
        self.value.setFocus()

    def _add(self) -> None:
        layer, name = self._document.chosen_layer, self._name
        if layer is None or not name or not self.value.text():
            return
        new = Expected(number=name, value=self.value.value(), tolerance=self.tolerance.value() / 100.0,
                       source=self.source.text().strip()[:200])
        others = tuple(e for e in layer.expected if e.number != name)
        self._document.edit_layer(layer.with_(expected=(*others, new)), f"Expect {name}")

    def _forget(self, name: str) -> None:
        layer = self._document.chosen_layer
        if layer is not None:
            self._document.edit_layer(layer.with_(expected=tuple(e for e in layer.expected if e.number != name)), f"Expect {name} no more")

    @property
    def _name(self) -> str:
        """Of the number that is chosen; its unit may be shown as another."""
        at = self.number.currentIndex()
        return list(self._numbers)[at] if 0 <= at < len(self._numbers) else ""

    def _show_unit(self) -> None:
        name = self._name
        self.value.show_in(self._document.units.of_number(name, self._numbers.get(name, 0.0)))

    def refresh(self) -> None:
        """Show the chosen card's."""
        layer, result = self._document.chosen_layer, self._document.asking.results.get(self._document.chosen or "")
        numbers = numbers_of(result.unmasked.tables) if result is not None and layer is not None and layer.shape.measures else {}
        self.setVisible(bool(numbers))
        if not numbers or layer is None:
            return
        names, now, units = list(numbers), self._name, self._document.units
        self.number.offer([units.words(name)[0] for name in names], names.index(now) if now in names else 0)
        self._numbers = numbers
        self._show_unit()
        self.judged = judged(layer.expected, numbers)
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for one in self.judged:
            holder = QWidget()
            text = label(self._words(one))
            text.setWordWrap(True)
            name = one.expected.number
            away = IconButton("x", f"Expect {name} no more", "Take it away", partial(self._forget, name), size=13)
            column(holder, row(text, away, stretch=0))
            self._rows.addWidget(holder)
        own = self._of_history(numbers)
        self.told.setText("<br>".join(self._words(one) for one in own))
        self.told.setVisible(bool(own))

    def _of_history(self, numbers: dict[str, float]) -> list[Judged]:
        """The solver's own numbers of the same names: its last ones, or those at the time that is shown."""
        history, flow = self._histories.history, self._document.flow
        if history is None or flow is None:
            return []
        out = []
        for curve in history.others:
            name = next((n for n in numbers if same_number(n, curve.name)), None)
            good = np.isfinite(curve.values)
            if name is None or not good.any():
                continue
            timed = history.counter.lower().startswith("t") and len(flow.times) > 1
            own = curve.values[good]
            value = float(np.interp(flow.times[flow.step], history.at[good], own)) if timed else float(own[-1])
            out.append(Judged(Expected(number=name, value=value, source="the solver's history"), numbers[name]))
        return out


    def _words(self, one: Judged) -> str:
        """A line of rich text."""
        e, units = one.expected, self._document.units
        shown = units.of_number(e.number, self._numbers.get(e.number, 0.0))
        tone = theme.colour({"within": "sea", "outside": "red"}.get(one.verdict, "soft")).name()
        off = f"{100.0 * one.share:+.2f} %" if e.value else f"{one.difference / shown.size:+.3g}"
        off = off.replace("-", "−")
        allowed = f"± {number_text(100.0 * e.tolerance, 3)} %" if e.value else f"± {number_text(e.tolerance / shown.size, 3)}"
        source = e.source.replace("&", "&amp;").replace("<", "&lt;")
        name = units.words(e.number)[0].replace("&", "&amp;").replace("<", "&lt;")
        unit = f" {shown.text}" if shown.text and "[" not in name else ""
        found = "not told" if one.verdict == "not told" else f"{units.number(shown.of(one.found), 5)}{unit}, {off}"
        return (f'{name}: {units.number(shown.of(e.value), 5)}{unit} {allowed}{f" ({source})" if source else ""}; '
                f'<span style="color:{tone}">{found}{"" if one.verdict == "not told" else f", {one.verdict}"}</span>')
