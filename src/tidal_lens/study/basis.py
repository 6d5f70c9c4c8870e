"""The identity of an answer: all that it rests on, as one value.

It is the key under which the answer is kept, the wish that is asked for, and what tells whether one that comes is still wanted.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from tidal_lens.quantities.names import FORMULA
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.dressings import Dressing
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.model import Study
from tidal_lens.study.said import Sifting
from tidal_lens.study.value import Value, walk

Signature = frozenset[tuple[object, ...]]
Stamp = tuple[int, int]


@dataclass(frozen=True)
class Basis:
    """What an answer rests on.

    Attributes
    ----------
    flow : int
        Number of the flow; of its mesh, which steps of a series may share, where no value of the flow is needed.
    what : str
        ``shape``, ``sifted``, ``masked``, ``colours`` or ``dressing``.
    of : Shape or Basis
        The shape, or what is masked, coloured or dressed.
    how : Value or None
        The mask or dressing.
    quantities : tuple of (str, Signature)
        Each quantity needed, and what its values rest on.
    subjects : tuple of Basis or None
        Of the layers that it is made from; None for one that is gone.
    stamps : tuple of Stamp
        Of the files that are read: a changed file is another one.
    """

    flow: int
    what: str
    of: Shape | Basis
    how: Value | None = None
    quantities: tuple[tuple[str, Signature], ...] = ()
    stamps: tuple[Stamp, ...] = ()
    subjects: tuple[Basis | None, ...] = ()

    @cached_property
    def _hash(self) -> int:
        return hash((self.flow, self.what, self.of, self.how, self.quantities, self.stamps, self.subjects))

    def __hash__(self) -> int:
        return self._hash  # a shape may hold thousands of points


def shape_basis(shape: Shape, store: QuantityStore, of: Callable[[str], Basis | None] = lambda _id: None) -> Basis:
    """What a shape's geometry rests on; ``of`` gives what that of another layer does."""
    needs = (*shape.needs(), *shape.constants())
    flow = store.flow
    subjects = tuple(of(layer) for layer in walk(shape, "layer"))
    stamps = tuple(_stamp(path) for path in walk(shape, "path"))
    if shape.of_series:  # steps on one mesh share its number; how many there are counts, not which is shown
        subjects = tuple(None if s is None else _of_mesh(s, flow.mesh_number) for s in subjects)
        stamps = (*stamps, (len(flow.times), 0))
    own = flow.mesh_number if shape.of_series or (shape.of_mesh and not needs) else flow.number
    rests = [(name, store.signature(name)) for name in needs]
    if shape.of_sides:
        methods, sides = store.methods, frozenset(b.name for b in flow.boundaries if b.kind == "periodic")
        shown = methods.shown if shape.of_sides == "cuts" else 1
        rests.append(("", frozenset({(sides, methods.axis_point, methods.axis, methods.passages, shown)} if sides else ())))
    if shape.of_all:
        rests.append(("", frozenset({(store.reference, store.methods)})))
    return Basis(own, "shape", shape, None, tuple(rests), stamps, subjects)


def rebased(basis: Basis, store: QuantityStore) -> Basis:
    """The same shape, and those that it is made from, on another flow."""
    shape = basis.of
    assert isinstance(shape, Shape)
    below = dict(zip(walk(shape, "layer"), basis.subjects, strict=True))

    def of(layer_id: str) -> Basis | None:
        own = below[layer_id]
        return None if own is None else rebased(own, store)

    return shape_basis(shape, store, of)


def _of_mesh(basis: Basis, number: int) -> Basis:
    return replace(basis, flow=number, subjects=tuple(None if s is None else _of_mesh(s, number) for s in basis.subjects))


def colours_basis(shape: Basis, quantity: str, store: QuantityStore) -> Basis:
    """What the colours of a shape rest on."""
    return Basis(store.flow.number, "colours", shape, None, ((quantity, store.signature(quantity)),))


def sifted_basis(of: Basis, sifting: Sifting) -> Basis:
    """What of findings is shown."""
    return Basis(of.flow, "sifted", of, sifting)


def masked_basis(of: Basis, mask: Shape, store: QuantityStore) -> Basis:
    """What is left of a geometry by a mask."""
    return Basis(store.flow.number, "masked", of, mask, tuple((n, store.signature(n)) for n in mask.needs()))


def dressing_basis(shape: Basis, dressing: Dressing, store: QuantityStore) -> Basis:
    """What a dressing of a shape rests on."""
    return Basis(store.flow.number, "dressing", shape, dressing.shaped(), tuple((n, store.signature(n)) for n in dressing.needs()))


def said_of(study: Study, quantities: Sequence[str]) -> str:
    """A short text of all that the user said and that quantities, formulas among them, may rest on; the same in another session."""
    texts = {f"{FORMULA}{f.name}": f.text for f in study.formulas}
    said = ([texts.get(name, "") for name in quantities], study.reference, study.choices, study.roles, study.kinds, study.reading)
    return hashlib.sha256(repr(said).encode()).hexdigest()[:16]


def _stamp(path: str) -> Stamp:
    try:
        found = os.stat(path)
    except OSError:
        return 0, 0
    return found.st_mtime_ns, found.st_size
