"""What is read of a result: which blocks and quantities, a region, every n-th point; and whether it fits into memory.

The choice in force is known to all readers while a file is being opened; they ask before they read an array.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field, replace

import numpy as np
import psutil
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import FileError
from tidal_lens.flow.case import Field
from tidal_lens.flow.grid import StructuredGrid, UnstructuredGrid
from tidal_lens.formats.content import Solid
from tidal_lens.memory import said_limit
from tidal_lens.work import Token, checkpoint, working_for

Corner = tuple[float, float, float]
_PULSE = 0.05  # seconds between two looks at the memory
_OTHERS = 256_000_000  # bytes that the rest of the program may take during a reading: pictures, shapes, compiled code
_SHARE = 0.8  # of the free memory that a result may take: what is derived from it needs room too


@dataclass(frozen=True)
class Reading:
    """What to read.

    Attributes
    ----------
    without_blocks, without_quantities : frozenset of str
        What to leave out.
    every : int
        Of structured blocks every so many a point along each index, and the last.
    low, high : tuple of float or None
        Corners of a region; cells that reach into it are read.
    steps : slice
        Which steps of a time series, from a first on, every so many.
    in_space : bool
        Leave one layer of three-dimensional cells what it is: no plane flow.
    """

    without_blocks: frozenset[str] = frozenset()
    without_quantities: frozenset[str] = frozenset()
    every: int = 1
    low: Corner | None = None
    high: Corner | None = None
    steps: slice = field(default_factory=lambda: slice(0, None, 1))
    in_space: bool = False

    def step_of_file(self, step: int) -> int:
        """The file's step that is the n-th of those chosen."""
        wanted: int = self.steps.start + step * self.steps.step
        return wanted if self.steps.stop is None else min(wanted, self.steps.stop - 1)

    def step_chosen(self, step: int) -> int:
        """The one of those chosen that is the file's n-th step, or the one before it."""
        past: int = max(step - self.steps.start, 0)
        return past // int(self.steps.step)


class TooLargeError(FileError):
    """A result does not fit into memory.

    Attributes
    ----------
    structured : bool
        Whether every n-th point would take less.
    quantities : tuple of str
        Names of its arrays as far as they were seen.
    """

    structured: bool = False
    quantities: tuple[str, ...] = ()


class MissingMomentError(FileError):
    """A moment of a series has no file; others may have."""


@dataclass
class _Session:
    """One opening of a file: the choice, and what was seen on the way."""

    reading: Reading
    blocks: dict[str, None] = field(default_factory=dict)
    quantities: dict[str, None] = field(default_factory=dict)
    claimed: int = 0
    room: int = 0


_NOW: ContextVar[_Session | None] = ContextVar("reading", default=None)


@contextlib.contextmanager
def session(reading: Reading, token: Token) -> Iterator[_Session]:
    """While this lasts, readers follow a choice; what grows beyond the memory that is to be had is refused."""
    room = int(_SHARE * psutil.virtual_memory().available)
    one = _Session(reading, room=min(room, said_limit() or room))
    mark = _NOW.set(one)
    over = threading.Event()
    watch = threading.Thread(target=_watch, args=(one, token, over), name="reading", daemon=True)
    watch.start()
    try:
        with working_for(token):
            yield one
    finally:
        over.set()
        _NOW.reset(mark)
        watch.join()


def _watch(one: _Session, token: Token, over: threading.Event) -> None:
    """Stop a reading that takes more than it asked for: what files declare is not believed."""
    process = psutil.Process()
    before = process.memory_info().rss
    while not over.wait(_PULSE):
        taken = process.memory_info().rss - before
        if taken > one.room + _OTHERS:
            token.refuse(_too_large(one, taken, "", structured=False))
            return


def wants_block(name: str) -> bool:
    """Whether a block is to be read; it is noted that it is there."""
    one = _NOW.get()
    if one is None:
        return True
    one.blocks[name] = None
    return name not in one.reading.without_blocks


def wants_quantity(name: str) -> bool:
    """Whether an array is to be read; it is noted that it is there."""
    checkpoint()
    one = _NOW.get()
    if one is None:
        return True
    one.quantities[name] = None
    return name not in one.reading.without_quantities


def takes_layers_as_plane() -> bool:
    """Whether one layer of three-dimensional cells is to be taken for a plane flow."""
    one = _NOW.get()
    return one is None or not one.reading.in_space


def note_quantities(names: Iterable[str]) -> None:
    """Note which arrays there are, before any of them is read."""
    one = _NOW.get()
    if one is not None:
        one.quantities.update(dict.fromkeys(names))


def claim(nbytes: int, where: str, *, structured: bool = False) -> None:
    """Ask for memory before arrays are read.

    Parameters
    ----------
    nbytes : int
        What they will take.
    where : str
        For the message.
    structured : bool
        Whether reading every n-th point makes them smaller.

    Raises
    ------
    TooLargeError
        Together with what was asked for before it is more than there is room for.
    """
    one = _NOW.get()
    checkpoint()
    if one is None:
        return
    kept = nbytes // one.reading.every**3 if structured else nbytes
    one.claimed += kept
    if one.claimed > one.room:
        raise _too_large(one, one.claimed, where, structured=structured)


def _too_large(one: _Session, needed: int, where: str, *, structured: bool) -> TooLargeError:
    fits = next((n for n in range(2, 65) if needed / n**3 < one.room), 64)
    told = (f"Read every {_ordinal(one.reading.every * fits)} point (about {needed / fits**3 / 1e9:.1f} GB)" if structured
            else "Leave out quantities or blocks, or read a region")
    error = TooLargeError(f"It would take at least {needed / 1e9:.1f} GB of memory, {one.room / 1e9:.1f} GB are to be had.", where,
                          f"{told}.")
    error.structured, error.quantities = structured, tuple(one.quantities)
    return error


def _ordinal(n: int) -> str:
    return {2: "second", 3: "third"}.get(n, f"{n}th")


def trimmed(solid: Solid) -> Solid | None:
    """A block as the choice in force has it; None where nothing of it is left."""
    one = _NOW.get()
    if one is None:
        return solid
    if one.reading.low is not None and one.reading.high is not None:
        low, high = np.array(one.reading.low), np.array(one.reading.high)
        found = _region(solid, low, high)
        if found is None:
            return None
        solid = found
    return _thinned(solid, one.reading.every) if one.reading.every > 1 and isinstance(solid.grid, StructuredGrid) else solid


def _thinned(solid: Solid, every: int) -> Solid:
    """Every n-th point of a structured block, and the last along each index; cell values of the cells at those points."""
    assert isinstance(solid.grid, StructuredGrid)
    # Of a plane flow the two sides of the layer stay.
    steps = (every, every, 1 if "PlanarNormal" in solid.facts else every)
    chosen = [distinct(np.append(np.arange(0, d, s), d - 1)) for d, s in zip(solid.grid.dims, steps, strict=True)]
    return _picked(solid, chosen)


def _picked(solid: Solid, chosen: list[NDArray[np.int64]]) -> Solid:
    """A structured block at some of its indices; each cell takes the value of the old cell at its first corner."""
    assert isinstance(solid.grid, StructuredGrid)
    i, j, k = solid.grid.dims
    nodes = np.ix_(chosen[2], chosen[1], chosen[0])
    cells = np.ix_(chosen[2][:-1], chosen[1][:-1], chosen[0][:-1])

    def cut(f: Field) -> Field:
        shape = (k, j, i) if f.place == "node" else (k - 1, j - 1, i - 1)
        part = f.values.reshape(*shape, *f.values.shape[1:])[nodes if f.place == "node" else cells]
        return Field(f.name, f.place, np.ascontiguousarray(part.reshape(-1, *f.values.shape[1:])))

    points = np.ascontiguousarray(solid.points.reshape(k, j, i, 3)[nodes].reshape(-1, 3))
    dims = (len(chosen[0]), len(chosen[1]), len(chosen[2]))
    return replace(solid, grid=StructuredGrid(dims, solid.grid.form), points=points, fields=[cut(f) for f in solid.fields])


def _region(solid: Solid, low: NDArray[np.float64], high: NDArray[np.float64]) -> Solid | None:
    within = np.asarray(((solid.points >= low) & (solid.points <= high)).all(axis=1))
    if not within.any():
        return None
    if isinstance(solid.grid, StructuredGrid):
        i, j, k = solid.grid.dims
        there = within.reshape(k, j, i)
        chosen = []
        for axis, d in ((2, i), (1, j), (0, k)):
            on = np.flatnonzero(there.any(axis=tuple(a for a in range(3) if a != axis)))
            chosen.append(np.arange(max(int(on[0]) - 1, 0), min(int(on[-1]) + 2, d)))
        return _picked(solid, chosen)
    keep = within[solid.grid.corners].any(axis=1)
    used = np.zeros(solid.grid.n_points, dtype=bool)
    used[solid.grid.corners[keep]] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    grid = UnstructuredGrid(int(used.sum()), number[solid.grid.corners[keep]], solid.grid.types[keep], solid.grid.origin)
    fields = [Field(f.name, f.place, f.values[used if f.place == "node" else keep]) for f in solid.fields]
    return replace(solid, grid=grid, points=solid.points[used], fields=fields)
