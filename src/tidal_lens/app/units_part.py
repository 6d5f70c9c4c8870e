"""Units and digits that numbers are shown with, a part of the settings: of the study, and of what is opened anew later."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Picker, column, label, row
from tidal_lens.app.preferences import prefer_units, preferred_units
from tidal_lens.quantities.shown_units import DIMENSIONS, choices
from tidal_lens.study.shown import UnitsSetting


class UnitsPart(QWidget):
    """A system, a unit for each sort of number, digits and how large ones are written.

    Parameters
    ----------
    document : Document
        Whose study is shown so.
    """

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._of = "Pa"
        self.system = Choice([("si", "SI", "Metres, pascals, kelvins"),
                              ("us", "US customary", "Feet, pounds to the square inch, Fahrenheit")])
        self.system.picked.connect(lambda system: self._set(system=system))
        self.of = Picker("Numbers of", "Which numbers are to be shown in another unit")
        self.of.activated.connect(self._choose)
        self.unit = Picker("Unit", "What they are shown in; what is computed, and tables in files, stay in SI")
        self.unit.activated.connect(self._take)
        self.digits = NumberField("Digits", "Of numbers on keys, in tables and charts; 0: as many as they deserve", 1, 0, 9)
        self.digits.whole = True
        self.digits.edited.connect(lambda count: self._set(digits=int(count)))
        self.notation = Choice([("plain", "Plain", "1234; 1.234e4 where its digits end before its ones"),
                                ("powers", "Powers", "1.234e4: always a power of ten"),
                                ("thousands", "Thousands", "12.34e3: powers of a thousand")])
        self.notation.picked.connect(lambda notation: self._set(notation=notation))
        self.reset = QPushButton("All as the system has them")
        self.reset.setToolTip("Forget units of single sorts of numbers and of single quantities")
        self.reset.clicked.connect(lambda: self._set(by_unit={}, by_quantity={}))
        self.told = label("", "soft")
        self.told.setWordWrap(True)
        column(self, row("Units", self.system, stretch=1), row("Numbers of", self.of, stretch=1), row("in", self.unit, stretch=1),
               self.told, self.reset, row("Digits", self.digits, stretch=1), row("Written", self.notation, stretch=1), spacing=8)
        document.study_changed.connect(lambda: self.refresh() if self.isVisible() else None)

    @property
    def _setting(self) -> UnitsSetting:
        return self._document.study.units if self._document.flow is not None else preferred_units()

    def _set(self, **changes: Any) -> None:
        self._put(self._setting.with_(**changes))

    def _put(self, units: UnitsSetting) -> None:
        document = self._document
        prefer_units(units)
        if document.flow is not None:
            document.edit(document.study.with_(units=units), "Units")
        self.refresh()

    def _choose(self, at: int) -> None:
        self._of = list(DIMENSIONS)[at]
        self.refresh()

    def _take(self, at: int) -> None:
        self._put(self._setting.with_unit(self._of, choices(self._of, absolute=True)[at].text))

    def refresh(self) -> None:
        """Show what is in force."""
        units = self._setting
        self.system.show_value(units.system)
        self.of.offer([f"{what} [{si}]" for si, what in DIMENSIONS.items()], list(DIMENSIONS).index(self._of))
        offered = [s.text for s in choices(self._of, absolute=True)]
        self.unit.offer(offered, offered.index(units.of_unit(self._of, absolute=True).text))
        named = {q.name: q.title for q in self._document.units.quantities}
        told = [f"{DIMENSIONS[si].lower()} in {unit}" for si, unit in units.by_unit.items() if si in DIMENSIONS]
        told += [f"{named.get(name, name)} in {unit}" for name, unit in units.by_quantity.items()]
        self.told.setText(f"{'; '.join(told)}." if told else "Places in the view stay as the file has them.")
        self.reset.setEnabled(bool(told))
        self.digits.show_value(units.digits)
        self.notation.show_value(units.notation)
