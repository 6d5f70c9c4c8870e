"""All quantities of one flow at its nodes, computed when first needed and kept within a memory budget."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.kept import Kept
from tidal_lens.quantities.catalogue import BY_NAME, CATALOGUE, HIDDEN, Scale
from tidal_lens.quantities.cell_gradients import can_be_taken
from tidal_lens.quantities.compute import COMPUTED, DIFFERENTIATED
from tidal_lens.quantities.formula.evaluate import evaluate
from tidal_lens.quantities.formula.functions import DERIVATIVES
from tidal_lens.quantities.formula.parse import parse
from tidal_lens.quantities.formula.tree import Formula, FormulaError, Node
from tidal_lens.quantities.methods import AVERAGING, Methods
from tidal_lens.quantities.moment import Moment, sample_ranges
from tidal_lens.quantities.names import (
    CONST,
    FILE,
    FORMULA,
    OLD_NAMES,
    ROLES,
    NameTable,
    catalogue_formula,
    constant,
    density_is_constant,
    pressure_is_absolute,
    substitute,
)
from tidal_lens.quantities.nodes import node_values
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.quantities.spread import Distribution, distribution_of
from tidal_lens.quantities.walls import node_areas
from tidal_lens.work import Token

Values = NDArray[Any]
Moments = Callable[[int, ReferenceState, Methods], "QuantityStore"]
NEAR_ONE = 0.9  # Mach number
LARGE = 400_000  # nodes from which on a first look is worth it
_AXES = ("x", "y", "z")
_MINE, _IN_FILE = "Formulas", "In the file"
_COMPONENTS = {"scalar": 1, "condition": 1, "vector": 3, "tensor": 9}
_FREE_STREAM = frozenset({"p_ref", "rho_ref", "T_ref", "U_ref", "speed_ref", "q_ref", "M_ref", "p0_ref"})
_DERIVED, _CONSTANT_DENSITY, _GAS_DENSITY = "derivatives", "density of the free stream", "density of a gas"
_WORDS = {"R": "gas constant", "mu_ref": "viscosity", "t": "time"}


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


class QuantityStore:
    """Node values of any quantity of a flow.

    Parameters
    ----------
    flow : Flow
        The flow.
    reference : ReferenceState
        The free stream that coefficients refer to.
    methods : Methods, optional
        Choices, and the user's formulas.
    moments : callable, optional
        The store of another step of the series.

    Notes
    -----
    Values count into the one limit of :mod:`tidal_lens.memory`: the longest unused are given up first.
    """

    def __init__(self, flow: Flow, reference: ReferenceState, methods: Methods | None = None, *, moments: Moments | None = None) -> None:
        self.flow = flow
        self.reference = reference
        self.methods = methods or Methods()
        self._moments = moments
        self._offered: dict[str, Quantity] | None = None
        # A view of the file's own values takes nothing more.
        self._kept: Kept[str, Values] = Kept("quantities", lambda values: 0 if values.base is not None else values.nbytes)
        self._spread: dict[str, Distribution] = {}
        self._coarse: dict[str, Distribution] = {}
        self._signatures: dict[str, frozenset[tuple[object, ...]]] = {}
        self._smoothings: dict[str, int] = {}
        self._lacks: dict[str, list[str]] = {}
        self._below: dict[str, set[str]] = {}  # formulas on which each formula rests, in an order in which they can be computed
        self.formulas: dict[str, Formula | FormulaError] = {}
        self._understand()

    def with_context(self, reference: ReferenceState, methods: Methods) -> QuantityStore:
        """A store with another free stream or other choices; values that do not depend on them are taken along."""
        other = QuantityStore(self.flow, reference, methods, moments=self.moments)
        other._spread = {n: d for n, d in list(self._spread.items()) if self.signature(n) == other.signature(n)}
        for name, values in self._kept.items():
            if self.signature(name) == other.signature(name):
                other._kept.put(name, values)
        return other

    @property
    def moments(self) -> Moments | None:
        """Gives the store of another step of the series, where there is one."""
        return self._moments

    @moments.setter
    def moments(self, moments: Moments | None) -> None:
        self._moments = moments
        self._offered = None
        self._lacks.clear()

    # -- formulas ------------------------------------------------------------------------------------------------

    def _understand(self) -> None:
        """Check the user's formulas, each after those that it names; what is in a circle is told."""
        texts = dict(self.methods.formulas)
        waiting = dict(texts)
        shapes: dict[str, Any] = {}
        while waiting:
            table = NameTable(self.flow, shapes)
            names = [n for n, _ in table.offered()]
            done: list[str] = []
            for name, text in waiting.items():
                try:
                    found = parse(text, table.resolve, [*names, *waiting], old=OLD_NAMES, understood=True)
                except FormulaError as error:
                    if not _words(text) & waiting.keys():
                        self.formulas[name] = error
                        done.append(name)
                    continue
                self.formulas[name] = found
                self._below[name] = {n for key in found.root.keys if key.startswith(FORMULA)
                                     for n in (key[len(FORMULA):], *self._below[key[len(FORMULA):]])}
                shapes[name] = ("scalar" if found.root.shape == "condition" else found.root.shape, found.root.unit)
                done.append(name)
            if not done:
                break
            for name in done:
                del waiting[name]
        for name, text in waiting.items():
            self.formulas[name] = self._why_not(name, text, waiting, shapes)
        self._shapes = shapes
        self.formulas = {name: self.formulas[name] for name in texts}

    def _why_not(self, name: str, text: str, waiting: dict[str, str], shapes: dict[str, Any]) -> FormulaError:
        reached = _reached(name, waiting)
        if name in reached:
            at = max(text.find(min(_words(text) & reached)), 0)
            return FormulaError(f"The formula {name} comes back to itself" + (f" by way of {', '.join(sorted(reached - {name}))}."
                                                                               if reached - {name} else "."), at, len(text),
                                "Take one of them out of the circle.")
        try:
            parse(text, NameTable(self.flow, shapes).resolve, [*waiting], old=OLD_NAMES, understood=True)
        except FormulaError as error:
            return error
        return FormulaError("The formula rests on one that is not understood.", 0, len(text))

    def check(self, text: str, name: str = "") -> Formula:
        """Understand a formula that is being typed in the place of the one of a name.

        Raises
        ------
        FormulaError
            It is not understood, or it would come back to itself.
        """
        resting = {n for n in self._shapes if name and name in self._below[n]}
        shapes = {n: s for n, s in self._shapes.items() if n != name and n not in resting}
        table = NameTable(self.flow, shapes)
        try:
            return parse(text, table.resolve, [n for n, _ in table.offered()], old=OLD_NAMES)
        except FormulaError as error:
            word = text[error.begin:error.end].strip("`")
            if name and (word == name or word in resting):
                raise FormulaError(f"{word} rests on {name}: the formula would come back to itself.", error.begin, error.end) from None
            raise

    def names(self) -> list[tuple[str, str]]:
        """Names that formulas can use, with what they are."""
        return NameTable(self.flow, self._shapes).offered()

    def dependants(self, name: str) -> list[str]:
        """The user's formulas that use a formula, directly or by way of others."""
        return [n for n in self.formulas if name in self._below.get(n, ())]

    def below(self, key: str) -> list[str]:
        """Formulas on which a formula rests, in an order in which they can be computed; none for another quantity."""
        own = self._below.get(_plain(key)[len(FORMULA):], ()) if key.startswith(FORMULA) else ()
        return [f"{FORMULA}{n}" for n in self._below if n in own]

    # -- what there is -------------------------------------------------------------------------------------------

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
                                        f"{axis} component of {f.name}", "signed", 1, f.place, made=made) for axis in _AXES)
        return offered

    def _of_formula(self, name: str, found: Formula | FormulaError) -> list[Quantity]:
        key, text = f"{FORMULA}{name}", dict(self.methods.formulas)[name]
        if isinstance(found, FormulaError):
            return [Quantity(key, name, name, "", _MINE, text, "even", 1, "node", f"another text. {found.what}")]
        place, made = self._how(key)
        unit = str(found.root.unit) if found.root.unit is not None else ""
        whole = Quantity(key, name, name, unit, _MINE, text, "even", _COMPONENTS[found.root.shape], place, self.missing(key), made)
        if whole.components != 3:
            return [whole]
        return [whole, *(Quantity(f"{key}.{a}", f"{name} {a}", f"{name} {a}", unit, _MINE, f"{a} component of {name}", "signed", 1, place,
                                  whole.missing, made) for a in _AXES)]

    def describe(self, name: str) -> Quantity:
        """What is known of a quantity.

        Raises
        ------
        MissingQuantityError
            There is none of that name.
        """
        found = self._all().get(name)
        if found is None:
            close = difflib.get_close_matches(name, list(self._all()), 1)
            raise MissingQuantityError(f"There is no quantity {name!r} in this result.", self.flow.title,
                                       f"Did you mean {close[0]!r}?" if close else "")
        if found.scale == "even" and found.name not in BY_NAME and self._has_two_signs(name):
            return replace(found, scale="signed")
        if found.scale == "mach" and not self._comes_near_one(name):
            return replace(found, scale="even")
        return found

    def _has_two_signs(self, name: str) -> bool:
        """Whether a quantity of unknown meaning lies on both sides of zero, so that zero is worth a colour of its own."""
        spread = self._spread.get(name)
        return spread is not None and min(-spread.usual[0], spread.usual[1]) > 0.05 * max(-spread.usual[0], spread.usual[1])

    def _comes_near_one(self, name: str) -> bool:
        """Whether a Mach number reaches so far that where it is 1 is worth a break in the colours."""
        spread = self.known_distribution(name)
        return spread is None or (spread.high >= NEAR_ONE and spread.low <= 1.0 / NEAR_ONE)

    # -- what rests on what --------------------------------------------------------------------------------------

    def _tree(self, key: str) -> Node | None:
        """The tree of a quantity that is computed by a formula."""
        if key.startswith(FORMULA):
            found = self.formulas.get(_plain(key)[len(FORMULA):])
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
            if node.what == "rate" and (len(self.flow.times) < 2 or self.moments is None):
                out.append("a time series")
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
            self._lacks[key] = list(dict.fromkeys(self._find_lack(_plain(key))))
        return self._lacks[key]

    def _find_lack(self, key: str) -> list[str]:
        if key.startswith(CONST):
            name = key[len(CONST):]
            known = constant(name, self.flow, self.reference, self.methods) is not None
            return [] if known else ["free stream" if name in _FREE_STREAM else _WORDS.get(name, name)]
        if key in ("walls", "plane flow"):
            there = self.flow.normal is not None if key == "plane flow" else any(b.kind == "wall" and b.nodes is not None
                                                                                 for b in self.flow.boundaries)
            return [] if there else [key]
        if key == "velocity":
            return [] if self.flow.roles.has_velocity else ["velocity"]
        if key.startswith(FILE):
            return [] if self._has(key[len(FILE):]) else [key[len(FILE):]]
        if key in ROLES:
            return [] if getattr(self.flow.roles, key) or self._tree(key) is not None else [key]
        tree = self._tree(key)
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
            ready = self._signatures[key] = self._sign(_plain(key))
        return ready

    def _sign(self, key: str) -> frozenset[tuple[object, ...]]:
        if key.startswith(CONST):
            return frozenset({(key, constant(key[len(CONST):], self.flow, self.reference, self.methods))})
        text = dict(self.methods.formulas).get(key[len(FORMULA):]) if key.startswith(FORMULA) else None
        tree = self._tree(key)
        if tree is not None:
            derived = any(n.what in DERIVATIVES for n in tree.walk())
            cells = any(n.what == "over_cells" for n in tree.walk())
            own = (key, text, self._order() if derived else None, self.methods.averaging if cells else None)
            return frozenset({own}).union(*(self.signature(k) for k in tree.keys))
        if key in BY_NAME:
            needs = [n for n in BY_NAME[key].needs if n not in ("walls", "plane flow")]
            return frozenset({(key, self._order())}).union(*(self.signature(n) for n in needs))
        return frozenset({(key, text, self.methods.averaging if self._of_cells([key]) else None)})

    def _order(self) -> tuple[bool, bool]:
        return self.methods.fourth_order, self.methods.on_cells

    def _leaves(self, key: str, seen: set[str]) -> set[str]:
        """Roles and arrays on which a quantity rests, and what is done on the way that has to be told."""
        key = _plain(key)
        if key in seen:
            return set()
        seen.add(key)
        tree = self._tree(key)
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
        key = _plain(key)
        if key not in self._smoothings:
            def most(node: Node) -> int:
                own = int(node.parts[1].fixed or 1) if node.what == "smooth" else 0
                if node.leaf is not None:
                    return self._passes(node.leaf.key) if node.leaf.key else 0
                return own + max((most(p) for p in node.parts), default=0)

            tree = self._tree(key)
            self._smoothings[key] = most(tree) if tree is not None else 0
        return self._smoothings[key]

    def cell_field(self, key: str) -> Values | None:
        """Cell values of a role or an array, if derivatives of it are taken between cells."""
        if not self.methods.on_cells or not self._of_cells([key]) or not can_be_taken(self.flow):
            return None
        names = [key[len(FILE):]] if key.startswith(FILE) else list(self.flow.roles.fields(key))
        fields = [self.flow.fields[n] for n in names if n in self.flow.fields]
        if len(fields) < len(names) or not fields or any(f.place != "cell" for f in fields):
            return None
        return fields[0].values if len(fields) == 1 else np.column_stack([f.values for f in fields])

    def _on_walls(self, key: str, seen: set[str]) -> bool:
        key = _plain(key)
        if key in seen:
            return False
        seen.add(key)
        if key in BY_NAME and BY_NAME[key].on_walls:
            return True
        tree = self._tree(key)
        return tree is not None and any(self._on_walls(k, seen) for k in tree.keys)

    # -- values --------------------------------------------------------------------------------------------------

    def kept(self, name: str) -> Values | None:
        """Values of a quantity if they are at hand, without computing anything."""
        return self._kept.ready(name)

    def values(self, name: str, token: Token | None = None) -> Values:
        """Node values of a quantity, shape (n,), (n, 3) or (n, 3, 3).

        Raises
        ------
        MissingQuantityError
            It cannot be had from this result.
        FormulaError
            It is a formula that is not understood.
        CancelledError
            The token was cancelled.
        """
        # What is worked out together waits at one gate.
        return self._kept.obtain(name, lambda: self._fixed(self._compute(name, token)), _together(name))

    @staticmethod
    def _fixed(values: Values) -> Values:
        values.flags.writeable = False
        return values

    def _keep(self, name: str, values: Values) -> None:
        self._kept.put(name, self._fixed(values))

    @property
    def nbytes(self) -> int:
        """Bytes of kept values."""
        return sum(v.nbytes for _, v in self._kept.items())

    def evaluate(self, formula: Formula, token: Token | None = None, *, sample: bool = False) -> Values:
        """Values of a formula that need not be one of the study's.

        With ``sample`` only some thousand nodes are looked at: the answer holds those, and no others.
        """
        lacking = self._lacking(formula.root)
        if lacking:
            raise MissingQuantityError(f"It needs {', '.join(dict.fromkeys(lacking))}, which this result does not have.", self.flow.title)
        if not sample:
            return evaluate(formula.root, Moment(self, token), token)
        ranges = sample_ranges(self.flow)
        values = evaluate(formula.root, Moment(self, token, ranges), token)
        return np.concatenate([values[a:b] for a, b in ranges])

    def distribution(self, name: str, token: Token | None = None) -> Distribution:
        """Distribution of a scalar quantity over the volume; over the walls' area for one that is known there only."""
        ready = self._spread.get(name)
        if ready is None:
            values = self.values(name, token)
            if self.describe(name).place == "wall":
                on = np.isfinite(values)
                ready = distribution_of(values[on], weights=node_areas(self.flow)[on])
            else:
                ready = distribution_of(values, weights=node_volumes(self.flow, token))
            self._spread[name] = ready
        return ready

    def preview(self, name: str, token: Token | None = None) -> Distribution | None:
        """A first look at the distribution, of a sample of the nodes; None where it takes as long as the whole."""
        tree = self._tree(_plain(name))
        quantity = self._all().get(name)
        small = self.flow.n_points < LARGE or self._kept.ready(name) is not None
        if small or quantity is None or quantity.missing or quantity.components != 1:
            return None
        source = Moment(self, token, sample_ranges(self.flow))
        if tree is not None and name == _plain(name):
            values = evaluate(tree, source, token)
        elif name in COMPUTED and BY_NAME[name].needs == ("velocity",):
            values = COMPUTED[name](source)
        else:
            return None
        found = self._coarse[name] = distribution_of(np.concatenate([values[a:b] for a, b in source.ranges]), coarse=True)
        return found

    def known_distribution(self, name: str) -> Distribution | None:
        """The distribution if it has been worked out already, else a first look at it if there was one."""
        return self._spread.get(name) or self._coarse.get(name)

    def _compute(self, name: str, token: Token | None) -> Values:
        if token is not None:
            token.check()
        if name.startswith(FILE):
            return self._from_file(name[len(FILE):])
        if name != _plain(name):
            return np.ascontiguousarray(self.values(_plain(name), token)[:, _AXES.index(name[-1])])
        found = self.formulas.get(name[len(FORMULA):]) if name.startswith(FORMULA) else None
        if isinstance(found, FormulaError):
            raise found
        self._demand(name)
        tree = self._tree(name)
        if tree is not None:
            for other in self.below(name):  # what it rests on first: chains of formulas may be long
                self.values(other, token)
            return evaluate(tree, Moment(self, token), token)
        if name == "velocity":
            return self._velocity(token)
        if name in ROLES:
            return self.values(f"{FILE}{getattr(self.flow.roles, name)}", token).view()
        return np.ascontiguousarray(COMPUTED[name](Moment(self, token)))

    def _demand(self, name: str) -> None:
        """Complain if a quantity is not there, or cannot be had."""
        if name not in BY_NAME and name not in ROLES:
            self.describe(name)
        missing = self.missing(name)
        if missing:
            title = BY_NAME[name].title if name in BY_NAME else name[len(FORMULA):] if name.startswith(FORMULA) else name.capitalize()
            raise MissingQuantityError(f"{title or name} needs {missing}, which this result does not have.", self.flow.title,
                                       "Choose another quantity, or say in the Case station what it is.")

    def _from_file(self, label: str) -> Values:
        field, axis = self.flow.fields.get(label), -1
        if field is None and label[-2:] in (".x", ".y", ".z"):
            field, axis = self.flow.fields.get(label[:-2]), _AXES.index(label[-1])
        if field is None or (axis >= 0 and field.components != 3):
            raise MissingQuantityError(f"There is no array {label!r} in the file.", self.flow.title, "Choose another quantity.")
        values = node_values(self.flow, field, self.methods.averaging)
        return np.ascontiguousarray(values[:, axis]) if axis >= 0 else values.view()

    def _velocity(self, token: Token | None) -> Values:
        roles = self.flow.roles
        names = roles.velocity or roles.momentum
        parts = [self.values(f"{FILE}{n}", token) for n in names]
        joined = parts[0] if len(parts) == 1 else np.column_stack(parts)
        if roles.velocity:
            return joined.view()
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(joined / self.values("density", token)[:, None])


def _plain(key: str) -> str:
    """The formula of which a key names a component."""
    return key[:-2] if key.startswith(FORMULA) and key[-2:] in (".x", ".y", ".z") else key


def _together(name: str) -> str:
    return "turning" if name in ("vorticity", "q") else name


def _reached(name: str, texts: dict[str, str]) -> set[str]:
    """Names that one formula's text leads to."""
    out: set[str] = set()
    todo = [name]
    while todo:
        for other in (_words(texts.get(todo.pop(), "")) & texts.keys()) - out:
            out.add(other)
            todo.append(other)
    return out


def _words(text: str) -> set[str]:
    """Names in a text, those in backticks too."""
    return {quoted or plain for quoted, plain in re.findall(r"`([^`]*)`|([^\W\d]\w*)", text)}


__all__ = ["CONST", "FILE", "FORMULA", "LARGE", "Distribution", "Quantity", "QuantityStore", "distribution_of"]
