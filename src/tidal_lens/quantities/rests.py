"""What quantities rest on: what is missing to have one, when its values change, how they came about."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.book import Book, plain
from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.cell_gradients import can_be_taken
from tidal_lens.quantities.compute import DIFFERENTIATED
from tidal_lens.quantities.formula.functions import DERIVATIVES, ELSEWHERE, IN_TIME
from tidal_lens.quantities.formula.tree import Formula, Node
from tidal_lens.quantities.methods import AVERAGING, Methods
from tidal_lens.quantities.names import (
    CONST,
    FILE,
    FORMULA,
    OWN,
    ROLES,
    catalogue_formula,
    constant,
    density_is_constant,
    pressure_is_absolute,
    substitute,
)
from tidal_lens.quantities.stored import Elsewhere

_FREE_STREAM = frozenset({"p_ref", "rho_ref", "T_ref", "U_ref", "speed_ref", "q_ref", "M_ref", "p0_ref"})
_DERIVED, _CONSTANT_DENSITY, _GAS_DENSITY = "derivatives", "density of the free stream", "density of a gas"
# What a quantity may need of the flow itself.
_OF_FLOW: dict[str, Callable[[Flow], bool]] = {
    "walls": lambda flow: any(b.solid and b.nodes is not None for b in flow.boundaries),
    "plane flow": lambda flow: flow.normal is not None,
    "hub and casing": lambda flow: {"hub", "casing"} <= {b.kind for b in flow.boundaries}}
_WORDS = {"R": "gas constant", "mu_ref": "viscosity", "A_ref": "reference area", "L_ref": "reference length",
          "d_ref": "reference depth", "t": "time"}


class Rests(Book):
    """Walks over what quantities rest on.

    Parameters
    ----------
    flow, methods
        As of :class:`tidal_lens.quantities.book.Book`.
    reference : ReferenceState
        The free stream that coefficients refer to.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods) -> None:
        self.reference = reference
        self._signatures: dict[str, frozenset[tuple[object, ...]]] = {}
        self._smoothings: dict[str, int] = {}
        self._lacks: dict[str, list[str]] = {}
        self._others: tuple[Elsewhere | None, ...] = ()
        super().__init__(flow, methods)

    @property
    def others(self) -> tuple[Elsewhere | None, ...]:
        """Cases beside this one, the second first; None for one that is not there."""
        return self._others

    def _other(self, what: str) -> Elsewhere | None:
        """The case that a function of formulas looks into."""
        number = ELSEWHERE[what]
        return self._others[number - 1] if number <= len(self._others) else None

    @property
    def has_moments(self) -> bool:
        """Whether other steps of the series can be had."""
        return False

    def tree(self, key: str) -> Node | None:
        """The tree of a quantity that is computed by a formula."""
        if key.startswith(FORMULA):
            found = self.formulas.get(plain(key)[len(FORMULA):])
            return found.root if isinstance(found, Formula) else None
        if key in ROLES:
            if getattr(self.flow.roles, key) or (key == "velocity"):
                return None
            for given, way in substitute(key):
                if all(self._given(word) for word in given.split()) and not self._lacking(way.root):
                    return way.root
            return None
        found = catalogue_formula(key) if key in BY_NAME else None
        return found.root if found is not None else None

    def _given(self, word: str) -> bool:
        """Whether what a substitute rests on is there: see :func:`tidal_lens.quantities.names.substitute`."""
        if word == "absolute":
            return pressure_is_absolute(self.flow, self.reference)
        return self.flow.si_units if word == "si" else bool(getattr(self.flow.roles, word))

    def missing(self, key: str) -> str:
        """What is missing to have a quantity, in words; empty where nothing is."""
        return ", ".join(dict.fromkeys(self._lack(key)))

    def _lacking(self, root: Node) -> list[str]:
        out: list[str] = []
        for node in root.walk():
            if node.what in IN_TIME and (len(self.flow.times) < 2 or not self.has_moments):
                out.append("a time series")
            if node.what in ELSEWHERE:
                other = self._other(node.what)
                out += ["another case beside this one"] if other is None else [
                    f"{lack} in the other case" for key in sorted(node.keys) for lack in other.store.lack(key)]
            if node.leaf is not None and node.leaf.key:
                out += self._lack(node.leaf.key)
        return out or self._lacking_gas(root)

    def _lacking_gas(self, root: Node) -> list[str]:
        """What laws of gases and derivatives of the density cannot do with: a constant density, a pressure that counts from elsewhere."""
        laws = "density" in root.keys and not root.keys.isdisjoint((f"{CONST}gamma", f"{CONST}R"))
        if laws and self.reference.pressure is not None and self.reference.pressure <= 0.0:
            return ["absolute pressure"]
        wanted = laws or any(n.what in DERIVATIVES and "density" in n.keys for n in root.walk())
        return ["density"] if wanted and density_is_constant(self.flow, self.reference, self.methods) else []

    def _lack(self, key: str) -> list[str]:
        if key not in self._lacks:
            self._lacks[key] = list(dict.fromkeys(self._find_lack(plain(key))))
        return self._lacks[key]

    def _find_lack(self, key: str) -> list[str]:
        if key.startswith(CONST):
            name = key[len(CONST):]
            known = constant(name, self.flow, self.reference, self.methods) is not None
            return [] if known else ["free stream" if name in _FREE_STREAM else _WORDS.get(name, name)]
        if key in _OF_FLOW:
            return [] if _OF_FLOW[key](self.flow) else [key]
        if key == "velocity":
            return [] if self.flow.roles.has_velocity else ["velocity"]
        if key.startswith(FILE):
            return [] if self._has(key[len(FILE):]) else [key[len(FILE):]]
        if key in ROLES:
            return [] if getattr(self.flow.roles, key) or self.tree(key) is not None else [key]
        tree = self.tree(key)
        if tree is not None:
            return self._lacking(tree)
        if key not in BY_NAME:
            return [key]
        return [word for need in BY_NAME[key].needs for word in self._lack(need)]

    def _has(self, label: str) -> bool:
        return label in self.flow.fields or (label[-2:] in (".x", ".y", ".z") and label[:-2] in self.flow.fields)

    def signature(self, key: str) -> frozenset[tuple[object, ...]]:
        """Changes when the values of a quantity do, for another reason than another flow: all that they rest on, each once."""
        ready = self._signatures.get(key)
        if ready is None:
            ready = self._signatures[key] = self._sign(plain(key))
        return ready

    def _sign(self, key: str) -> frozenset[tuple[object, ...]]:
        if key.startswith(OWN):
            return frozenset()
        if key.startswith(CONST):
            return frozenset({(key, constant(key[len(CONST):], self.flow, self.reference, self.methods))})
        text = dict(self.methods.formulas).get(key[len(FORMULA):]) if key.startswith(FORMULA) else None
        tree = self.tree(key)
        if tree is not None:
            derived = any(n.what in DERIVATIVES for n in tree.walk())
            cells = any(n.what == "over_cells" for n in tree.walk())
            there = tuple(self._sign_there(n) for n in tree.walk() if n.what in ELSEWHERE)
            own = (key, text, *there, self._order() if derived else None, self.methods.averaging if cells else None)
            return frozenset({own}).union(*(self.signature(k) for k in tree.keys))
        if key in BY_NAME:
            needs = [n for n in BY_NAME[key].needs if n not in _OF_FLOW]
            chosen = (getattr(self.methods, choice) for choice in BY_NAME[key].choices)
            return frozenset({(key, self._order(), *chosen)}).union(*(self.signature(n) for n in needs))
        return frozenset({(key, text, self.methods.averaging if self._of_cells([key]) else None)})

    def _sign_there(self, node: Node) -> tuple[object, ...]:
        """What a part of a formula that is of another case rests on there."""
        other = self._other(node.what)
        if other is None:
            return node.what, None
        return node.what, other.store.flow.number, frozenset(other.store.signature(key) for key in node.keys)

    def is_of_others(self, key: str) -> bool:
        """Whether values of other cases are in a quantity."""
        trees = (self.tree(name) for name in (plain(key), *self.below(key)))
        return any(node.what in ELSEWHERE for tree in trees if tree is not None for node in tree.walk())

    def lack(self, key: str) -> tuple[str, ...]:
        """What is missing to have a quantity."""
        return tuple(self._lack(key))

    def _order(self) -> tuple[bool, bool]:
        return self.methods.fourth_order, self.methods.on_cells

    def _leaves(self, key: str, seen: set[str]) -> set[str]:
        """Roles and arrays on which a quantity rests, and what is done on the way that has to be told."""
        key = plain(key)
        if key in seen:
            return set()
        seen.add(key)
        tree = self.tree(key)
        if tree is None:
            needs = BY_NAME[key].needs if key in BY_NAME else ()
            own = {_DERIVED} if key in DIFFERENTIATED else set()
            return {key} if not needs else own.union(*(self._leaves(n, seen) for n in needs))
        stands_in = {_CONSTANT_DENSITY if f"{CONST}rho_ref" in tree.keys else _GAS_DENSITY} if key == "density" else set()
        out = stands_in | {"over cells" for n in tree.walk() if n.what == "over_cells"}
        out |= {_DERIVED for n in tree.walk() if n.what in DERIVATIVES}
        return out.union(*(self._leaves(k, seen) for k in tree.keys))

    def _of_cells(self, leaves: Sequence[str] | set[str]) -> bool:
        roles = self.flow.roles
        names: list[str] = []
        for leaf in leaves:
            if leaf.startswith(FILE):
                label = leaf[len(FILE):]
                names.append(label if label in self.flow.fields else label[:-2])
            elif leaf == "velocity":
                names += [*(roles.velocity or roles.momentum)]
            elif leaf in ROLES and getattr(roles, leaf):
                names.append(getattr(roles, leaf))
        return any(self.flow.fields[n].place == "cell" for n in names if n in self.flow.fields)

    def _how(self, key: str) -> tuple[str, str]:
        """Where the values of a quantity come from, and how they came to the nodes."""
        leaves = self._leaves(key, set())
        cells = self._of_cells(leaves)
        on_walls = self._on_walls(key, set())
        words = [f"cell values, {AVERAGING[self.methods.averaging]}" if cells else "node values"]
        if on_walls:
            words = ["on walls"]
        passes = self._passes(key)
        words += ["over cells"] if "over cells" in leaves else []
        words += [word for word in (_CONSTANT_DENSITY, _GAS_DENSITY) if word in leaves]
        words += self._differences(cells=cells) if _DERIVED in leaves else []
        if passes:
            words.append(f"smoothed {passes}×")
        return "wall" if on_walls else "cell" if cells else "node", ", ".join(words)

    def _differences(self, *, cells: bool) -> list[str]:
        """How derivatives are taken, where it is not the usual way."""
        if self.methods.on_cells and cells and can_be_taken(self.flow):
            return ["differences of cells"]
        fourth = self.methods.fourth_order and any(isinstance(b.grid, StructuredGrid) for b in self.flow.blocks)
        return ["fourth order"] if fourth else []

    def _passes(self, key: str) -> int:
        """How often, at most, anything in a quantity was smoothed on the way."""
        key = plain(key)
        if key not in self._smoothings:
            def most(node: Node) -> int:
                own = int(node.parts[1].fixed or 1) if node.what == "smooth" else 0
                if node.leaf is not None:
                    return self._passes(node.leaf.key) if node.leaf.key else 0
                return own + max((most(p) for p in node.parts), default=0)

            tree = self.tree(key)
            self._smoothings[key] = most(tree) if tree is not None else 0
        return self._smoothings[key]

    def cell_field(self, key: str) -> NDArray[Any] | None:
        """Cell values of a role or an array, if derivatives of it are taken between cells."""
        if not self.methods.on_cells or not self._of_cells([key]) or not can_be_taken(self.flow):
            return None
        names = [key[len(FILE):]] if key.startswith(FILE) else list(self.flow.roles.fields(key))
        fields = [self.flow.fields[n] for n in names if n in self.flow.fields]
        if len(fields) < len(names) or not fields or any(f.place != "cell" for f in fields):
            return None
        return fields[0].values if len(fields) == 1 else np.column_stack([f.values for f in fields])

    def _on_walls(self, key: str, seen: set[str]) -> bool:
        key = plain(key)
        if key in seen:
            return False
        seen.add(key)
        if key in BY_NAME and BY_NAME[key].on_walls:
            return True
        tree = self.tree(key)
        return tree is not None and any(self._on_walls(k, seen) for k in tree.keys)
