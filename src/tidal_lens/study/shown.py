"""How numbers are shown: in which units, with how many digits. What is computed, kept, and written to tables in files stays in SI."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.features.finding import Number
from tidal_lens.quantities.shown_units import ABSOLUTE, Shown, System, choices, in_system
from tidal_lens.quantities.store import Quantity, QuantityStore
from tidal_lens.study.charts import SHARES, Chart, Sheet
from tidal_lens.study.tables import Amount, Cell, Table
from tidal_lens.study.value import QuantityName, Value
from tidal_lens.study.words import Notation, number_text

_UNIT = Annotated[str, Field(max_length=40)]
_BRACKET = re.compile(r"^(.*?) \[([^\[\]]+)\](.*)$", re.DOTALL)
# Tables whose rows are named by what they tell, and which of their columns that goes for: all, or those of such heads.
_NAMING: dict[str, tuple[str, ...]] = {"what": (), "quantity": ("value",)}
_PLAIN = ("°", "cells", "times")  # that are no matter of a system of units
Vec = NDArray[np.float64]


class UnitsSetting(Value):
    """How the user wants numbers.

    Attributes
    ----------
    system : str
        SI, or US customary units.
    by_unit : dict
        What all numbers of a unit are shown in: by SI unit.
    by_quantity : dict
        What one quantity is shown in, whatever the others are.
    digits : int
        Significant ones on keys, in tables and charts; as many as they deserve for 0.
    notation : str
        See :func:`tidal_lens.study.words.number_text`.
    """

    system: System = "si"
    by_unit: Annotated[dict[_UNIT, _UNIT], Field(max_length=100)] = Field(default_factory=dict)
    by_quantity: Annotated[dict[QuantityName, _UNIT], Field(max_length=1000)] = Field(default_factory=dict)
    digits: Annotated[int, Field(ge=0, le=9)] = 0
    notation: Notation = "plain"

    def with_quantity(self, name: str, unit: str) -> UnitsSetting:
        """With a quantity in a unit of its own."""
        return self.with_(by_quantity={**self.by_quantity, name: unit})

    def with_unit(self, si: str, unit: str) -> UnitsSetting:
        """With all numbers of an SI unit in another; in that of the system where it is empty."""
        return self.with_(by_unit={k: v for k, v in {**self.by_unit, si: unit}.items() if v})

    def of_unit(self, unit: str, *, absolute: bool = False, quantity: str = "") -> Shown:
        """What numbers of an SI unit are shown in."""
        offered = {s.text: s for s in choices(unit, absolute=absolute)}
        for wanted in (self.by_quantity.get(quantity, ""), self.by_unit.get(unit, "")):
            if wanted in offered:
                return offered[wanted]
            if wanted == "°C" and unit == "K":
                return Shown(unit)  # of a difference
            if wanted == "°F" and unit == "K":
                return offered["°R"]
        return in_system(unit, self.system, absolute=absolute)


@dataclass(frozen=True)
class InUnits:
    """Shows numbers of a flow as the user wants them.

    Parameters
    ----------
    setting : UnitsSetting
        What is wanted.
    quantities : tuple of Quantity
        Those of the flow: their names on tables and axes.
    """

    setting: UnitsSetting = field(default_factory=UnitsSetting)
    quantities: tuple[Quantity, ...] = ()

    @cached_property
    def _by_title(self) -> Mapping[str, Quantity]:
        return {q.title.lower(): q for q in reversed(self.quantities)}

    @cached_property
    def _by_name(self) -> Mapping[str, Quantity]:
        return {q.name: q for q in self.quantities}

    # -- what a number is shown in ---------------------------------------------------------------------------

    def of(self, quantity: Quantity) -> Shown:
        """What values of a quantity are shown in."""
        return self.setting.of_unit(quantity.unit, absolute=quantity.name in ABSOLUTE, quantity=quantity.name)

    def of_name(self, name: str) -> Shown:
        """What values of a quantity of that name are shown in; as they are where there is none."""
        found = self._by_name.get(name)
        return self.of(found) if found is not None else Shown("")

    def of_words(self, words: str, unit: str, *, change: bool = False) -> Shown:
        """What numbers of a unit are shown in that some words stand before: of a quantity of that name as it is."""
        start = re.split(r"[,:]", words.lower(), maxsplit=1)[0].strip()
        found = self._by_title.get(start) or self._by_title.get(start.rpartition(" ")[0])  # Velocity x
        name = found.name if found is not None and found.unit == unit else ""
        # "temperature, mean by area" is one, "temperature, spread" is none
        absolute = name in ABSOLUTE and not change and (start == words.lower().strip() or " mean" in words)
        return self.setting.of_unit(unit, absolute=absolute, quantity=name)

    def label(self, quantity: Quantity) -> str:
        """Title and unit as shown."""
        unit = self.of(quantity).text
        return f"{quantity.title} [{unit}]" if unit else quantity.title

    def of_number(self, name: str, value: float) -> Shown:
        """What a number of a card is shown in, by its name and what it is now."""
        if isinstance(value, Amount):
            return self._of_amount(value)
        found = _BRACKET.match(name)
        return self.of_words(found[1], found[2]) if found is not None and found[2] != "%" else Shown("")

    # -- numbers ---------------------------------------------------------------------------------------------

    def number(self, value: float, digits: int = 4) -> str:
        """A number that has been put into its unit already."""
        return number_text(value, self.setting.digits or digits, self.setting.notation)

    def value(self, quantity: Quantity, value: float, digits: int = 4) -> str:
        """A value of a quantity, with its unit."""
        return self._with_unit(self.of(quantity), value, digits)

    def amount(self, value: float, unit: str, digits: int = 4) -> str:
        """A number of an SI unit, with the unit that it is shown in."""
        return self._with_unit(self.setting.of_unit(unit), value, digits)

    def amount_text(self, amount: Amount, digits: int = 4) -> str:
        """An amount, with the unit that it is shown in."""
        return self._with_unit(self._of_amount(amount), float(amount), digits)

    def _of_amount(self, amount: Amount) -> Shown:
        absolute = amount.quantity in ABSOLUTE and not amount.change
        return self.setting.of_unit(amount.unit, absolute=absolute, quantity=amount.quantity)

    def texts(self, name: str, values: Sequence[float]) -> list[str]:
        """Values of a quantity without their unit."""
        shown = self.of_name(name)
        return [self.number(shown.of(v)) for v in values]

    def values(self, name: str, values: Sequence[float]) -> str:
        """Values of a quantity one after another, with the unit."""
        shown = self.of_name(name)
        listed = ", ".join(self.texts(name, values))
        return f"{listed}{'' if shown.text == '°' else ' '}{shown.text}" if shown.text else listed

    def _with_unit(self, shown: Shown, value: float, digits: int) -> str:
        text = self.number(shown.of(value), digits)
        return f"{text}{'' if shown.text == '°' else ' '}{shown.text}" if shown.text else text

    def finding_number(self, number: Number, *, si: bool) -> str:
        """A number of a finding, with its unit; without one where the file does not say its own."""
        known = self._by_name.get(number.unit) if number.unit else None
        if known is not None:
            return self.value(known, number.value)
        if number.unit in _PLAIN or not number.unit:
            return self._with_unit(Shown(number.unit), number.value, 4)
        return self.amount(number.value, number.unit) if si else self.number(number.value)

    # -- tables and charts -----------------------------------------------------------------------------------

    def words(self, words: str) -> tuple[str, Shown | None]:
        """A head or a row's name with the unit in brackets told as it is shown, and that; None where it has none."""
        found = _BRACKET.match(words)
        if found is None or found[2] == "%":
            return words, None
        shown = self.of_words(found[1], found[2])
        return (words, None) if shown.text == found[2] else (f"{found[1]} [{shown.text}]{found[3]}", shown)

    def table(self, table: Table) -> Table:
        """A table with its numbers in the units that they are shown in; amounts without a unit in words get it there."""
        heads = [self.words(head) for head in table.heads]
        rows = [self._row(row, table.heads, heads) for row in table.rows]
        return Table(table.title, tuple(head for head, _ in heads), tuple(rows))

    def _row(self, row: tuple[Cell, ...], plain: tuple[str, ...], heads: list[tuple[str, Shown | None]]) -> tuple[Cell, ...]:
        name, found, across = row[0], None, heads[2][1] if len(heads) > 2 else None
        if isinstance(name, str) and plain[0] in _NAMING:
            found = _BRACKET.match(name)
            name = self.words(name)[0]
        out: list[Cell] = [name if isinstance(name, str) else self._cell(name, heads[0][1])]
        units: set[str] = set()
        for cell, head, (_, of_head) in zip(row[1:], plain[1:], heads[1:], strict=False):
            if isinstance(cell, str):
                out.append(cell)
            elif isinstance(cell, Amount):
                of_column = _BRACKET.match(head) if not cell.quantity else None
                if of_column is not None and of_column[2] == cell.unit:  # the column tells the unit
                    out.append(self.of_words(of_column[1], cell.unit, change=cell.change).of(cell))
                    continue
                units.add(self._of_amount(Amount(0.0, cell.unit, cell.quantity)).text)
                out.append(self._of_amount(cell).of(cell))
            elif plain[0] == "quantity" and head == "value" and name == SHARES:
                out.append(cell if across is None else cell * across.size)
            elif found is not None and not head.endswith("[%]") and head in (_NAMING[plain[0]] or (head,)):
                out.append(self.of_words(found[1], found[2], change=" less " in head).of(cell))
            else:
                out.append(self._cell(cell, of_head))
        if isinstance(name, str) and len(units) == 1 and found is None and (unit := units.pop()):
            out[0] = f"{name} [{unit}]"
        return tuple(out)

    @staticmethod
    def _cell(cell: float, shown: Shown | None) -> float:
        return cell if shown is None else shown.of(cell)

    def chart(self, chart: Chart) -> Chart:
        """A chart with both its axes in the units that their numbers are shown in."""
        (across, x), (up, y) = self.words(chart.across), self.words(chart.up)
        told, z = self.words(chart.sheet.told) if chart.sheet is not None else ("", None)
        if x is None and y is None and z is None:
            return chart
        if chart.up == SHARES and x is not None:
            y = Shown("", 1.0 / x.size)
        curves = tuple(replace(c, at=_shown(c.at, x), values=_shown(c.values, y)) for c in chart.curves)
        sheet = chart.sheet
        if sheet is not None:
            sheet = Sheet(_shown(sheet.across, x), _shown(sheet.up, y), _shown(sheet.values, z), told,
                          _pairs(sheet.lines, x, y), sheet.spacing / (z.size if z is not None else 1.0),
                          _pairs(sheet.feet, x, y), _pairs(sheet.arrows, x, y))
        return replace(chart, across=across, up=up, curves=curves, sheet=sheet)


def _shown(values: Vec, shown: Shown | None) -> Vec:
    return values if shown is None else (values - shown.zero) / shown.size


def _pairs(values: Vec, x: Shown | None, y: Shown | None) -> Vec:
    """Places of two numbers each, (…, 2)."""
    if not values.size:
        return values
    return np.stack([_shown(values[..., 0], x), _shown(values[..., 1], y)], axis=-1)


def in_units(setting: UnitsSetting, store: QuantityStore | None) -> InUnits:
    """What shows numbers of a flow."""
    return InUnits(setting, store.quantities() if store is not None else ())
