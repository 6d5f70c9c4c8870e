"""What a flow has on offer: formulas, the catalogue, the file's own arrays, and how each is told."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.catalogue import BY_NAME, CATALOGUE, HIDDEN, OWN_SCALES, THROUGH, Scale
from tidal_lens.quantities.formula.functions import ELSEWHERE
from tidal_lens.quantities.formula.tree import Formula, FormulaError
from tidal_lens.quantities.methods import AVERAGING, Methods
from tidal_lens.quantities.names import FILE, FORMULA, OWN
from tidal_lens.quantities.rests import Rests
from tidal_lens.quantities.spread import Distribution, distribution_of

NEAR_ONE = 0.9  # Mach number
AXES = ("x", "y", "z")
_MINE, _IN_FILE = "Formulas", "In the file"
_COMPONENTS = {"scalar": 1, "condition": 1, "vector": 3, "tensor": 9}


@dataclass(frozen=True)
class Quantity:
    """What can be shown: a catalogue entry, a formula or an array of the file.

    Attributes
    ----------
    name, title, symbol, unit, group, scale
        As in :class:`tidal_lens.quantities.catalogue.Definition`.
    about : str
        How it is defined.
    components : int
        1, 3 or 9; only those with 1 can colour things.
    place : str
        ``node`` or ``cell``: where the values that it rests on stand in the file; ``wall`` if it is known on walls only.
    made : str
        How it came to the nodes, in a few words: for the colour key.
    missing : str
        Empty, or what is missing to have it.
    """

    name: str
    title: str
    symbol: str
    unit: str
    group: str
    about: str
    scale: Scale
    components: int = 1
    place: str = "node"
    missing: str = ""
    made: str = "node values"

    @property
    def label(self) -> str:
        """Title with unit."""
        return f"{self.title} [{self.unit}]" if self.unit else self.title


class Offer(Rests):
    """Lists and describes quantities, by what is known of their values so far.

    Parameters
    ----------
    flow, reference, methods
        As of :class:`tidal_lens.quantities.rests.Rests`.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods) -> None:
        self._offered: dict[str, Quantity] | None = None
        self._spread: dict[str, Distribution] = {}
        self._coarse: dict[str, Distribution] = {}
        self._own: dict[str, Mapping[str, NDArray[Any]]] = {}
        self._own_spread: dict[str, tuple[tuple[int, ...], Distribution]] = {}
        super().__init__(flow, reference, methods)

    def quantities(self) -> tuple[Quantity, ...]:
        """Everything on offer: formulas, the catalogue, then the file's own arrays."""
        return tuple(self._all().values())

    def _all(self) -> dict[str, Quantity]:
        if self._offered is None:
            self._offered = {q.name: q for q in self._list()}
        return self._offered

    def _list(self) -> list[Quantity]:
        offered: list[Quantity] = []
        for name, found in self.formulas.items():
            offered += self._of_formula(name, found)
        for d in CATALOGUE:
            if d.group == HIDDEN:
                continue
            about = f"{d.told} ({d.source})" if d.source else d.told
            place, made = self._how(d.name)
            offered.append(Quantity(d.name, d.title, d.symbol, d.unit if self.flow.si_units else "", d.group, about, d.scale,
                                    d.components, place, self.missing(d.name), made))
        for f in self.flow.fields.values():
            made = "node values" if f.place == "node" else f"cell values, {AVERAGING[self.methods.averaging]}"
            offered.append(Quantity(f"{FILE}{f.name}", f.name, f.name, "", _IN_FILE, f"array of the file, one value a {f.place}",
                                    "even", f.components, f.place, made=made))
            if f.components == 3:
                offered.extend(Quantity(f"{FILE}{f.name}.{axis}", f"{f.name} {axis}", f"{f.name} {axis}", "", _IN_FILE,
                                        f"{axis} component of {f.name}", "signed", 1, f.place, made=made) for axis in AXES)
        return offered

    def _of_formula(self, name: str, found: Formula | FormulaError) -> list[Quantity]:
        key, text = f"{FORMULA}{name}", dict(self.methods.formulas)[name]
        if isinstance(found, FormulaError):
            return [Quantity(key, name, name, "", _MINE, text, "even", 1, "node", f"another text. {found.what}")]
        place, made = self._how(key)
        unit = str(found.root.unit) if found.root.unit is not None else ""
        difference = self._difference_of(found)
        title = difference or name
        scale: Scale = "signed" if difference else "even"
        whole = Quantity(key, title, title, unit, _MINE, text, scale, _COMPONENTS[found.root.shape], place, self.missing(key), made)
        if whole.components != 3:
            return [whole]
        return [whole, *(Quantity(f"{key}.{a}", f"{title} {a}", f"{title} {a}", unit, _MINE, f"{a} component of {name}", "signed", 1, place,
                                  whole.missing, made) for a in AXES)]

    @staticmethod
    def _difference_of(found: Formula) -> str:
        """What a formula is called that is a quantity of another case less that of this one; nothing for any other."""
        root = found.root
        if root.what != "-" or len(root.parts) != 2 or root.parts[0].what not in ELSEWHERE or root.parts[0].parts[0] != root.parts[1]:
            return ""
        leaf = root.parts[1].leaf
        key = leaf.key if leaf is not None else ""
        name = BY_NAME[key].title if key in BY_NAME else key.partition(":")[2] or key.capitalize()
        which = ELSEWHERE[root.parts[0].what]
        return f"Δ {name}" if which == 1 else f"Δ {name}, case {which + 1}"

    def describe(self, name: str) -> Quantity:
        """What is known of a quantity.

        Raises
        ------
        MissingQuantityError
            There is none of that name.
        """
        found = self._of_card(name) if name.startswith(OWN) else self._all().get(name)
        if found is None:
            close = difflib.get_close_matches(name, list(self._all()), 1)
            raise MissingQuantityError(f"There is no quantity {name!r} in this result.", self.flow.title,
                                       f"Did you mean {close[0]!r}?" if close else "")
        if found.scale == "even" and found.name not in BY_NAME and self._has_two_signs(name):
            return replace(found, scale="signed")
        if found.scale == "mach" and not self._comes_near_one(name):
            return replace(found, scale="even")
        return found

    # -- what cards bring along ---------------------------------------------------------------------------------

    def note_own(self, card: str, values: Mapping[str, NDArray[Any]]) -> None:
        """Values (n,) or vectors (n, 3) that a card brings along, by their names: its particles' diameters."""
        self._own[card] = values

    def own_of(self, card: str) -> tuple[Quantity, ...]:
        """What a card brings along."""
        return tuple(replace(self._of_card(OWN + name), components=1 if values.ndim == 1 else 3)
                     for name, values in self._own.get(card, {}).items())

    @staticmethod
    def _of_card(name: str) -> Quantity:
        title = name[len(OWN):]
        title = title[:1].upper() + title[1:]
        scale, made = OWN_SCALES.get(name[len(OWN):], "even"), "through the whole flow" if name[len(OWN):] in THROUGH else "of the card"
        return Quantity(name, title, title, "", "Of the card", f"{title}, which the card brings along", scale, made=made)

    def own_distribution(self, name: str, cards: Sequence[str]) -> Distribution | None:
        """How such values are spread over some cards, each point counting as one; None where none of them has come yet."""
        there = [self._own[card][name[len(OWN):]] for card in cards if name[len(OWN):] in self._own.get(card, ())]
        if not there:
            return None
        basis, ready = tuple(map(id, there)), self._own_spread.get(name)
        if ready is None or ready[0] != basis:
            ready = self._own_spread[name] = basis, distribution_of(np.concatenate(there))
            self._spread[name] = ready[1]
        return ready[1]

    def _has_two_signs(self, name: str) -> bool:
        """Whether a quantity of unknown meaning lies on both sides of zero, so that zero is worth a colour of its own."""
        spread = self._spread.get(self._kept_as(name))
        return spread is not None and min(-spread.usual[0], spread.usual[1]) > 0.05 * max(-spread.usual[0], spread.usual[1])

    def _comes_near_one(self, name: str) -> bool:
        """Whether a Mach number reaches so far that where it is 1 is worth a break in the colours."""
        spread = self.known_distribution(name)
        return spread is None or (spread.high >= NEAR_ONE and spread.low <= 1.0 / NEAR_ONE)

    def known_distribution(self, name: str) -> Distribution | None:
        """The distribution if it has been worked out already, else a first look at it if there was one."""
        return self._spread.get(self._kept_as(name)) or self._coarse.get(name)

    def _kept_as(self, name: str) -> str:
        """Under which name values are kept: of what rests on other cases, another one with each of their steps."""
        if not self._others or not name.startswith(FORMULA) or not self.is_of_others(name):
            return name
        return f"{name}\0{hash(self.signature(name))}"
