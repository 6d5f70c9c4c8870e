"""The steps of a time series: read when wanted, kept within a budget, sharing what does not change."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import numpy as np

from tidal_lens.errors import CancelledError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import Grid, StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.memory import KEEPER, new_group
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.model import ReadingSetting
from tidal_lens.study.partly import open_as
from tidal_lens.work import Token

_SHARED = ("seams", "outside", "bounds", "size", "body", "stage", "_mesh", "_joined", "_seam_fit", "_node_volumes", "_boundary_trees",
           "_links", "_outer", "_neighbours")


class Series:
    """All steps of an opened time series.

    Parameters
    ----------
    path : Path
        Its file.
    first : Evaluator
        The step that was opened.
    numbered : bool
        Whether its steps are files beside it.
    reading : ReadingSetting, optional
        What is read of each step.
    correct : callable
        Gives a step as the study has it.

    Notes
    -----
    Steps count into the one limit of :mod:`tidal_lens.memory`; the one used last is always kept.
    """

    def __init__(self, path: Path, first: Evaluator, *, numbered: bool = False, reading: ReadingSetting | None = None,
                 correct: Callable[[Flow], Flow] = lambda flow: flow) -> None:
        self._path, self._numbered, self._correct = path, numbered, correct
        self._group = new_group()
        weakref.finalize(self, KEEPER.forget_group, self._group)
        self._reading = reading or ReadingSetting()
        self._kept: OrderedDict[int, Evaluator] = OrderedDict({first.flow.step: first})
        self._lock = threading.Lock()
        self.times = first.flow.times
        first.store.moments = self._store
        self._note(first.flow.step, first)

    def has(self, step: int) -> bool:
        """Whether a step is in memory."""
        return step in self._kept

    def _store(self, step: int, reference: ReferenceState, methods: Methods) -> QuantityStore:
        return self.evaluator(step, reference, None, methods).store

    def evaluator(self, step: int, reference: ReferenceState, token: Token | None = None, methods: Methods | None = None) -> Evaluator:
        """The evaluator of a step, read if need be.

        Raises
        ------
        TidalLensError
            The step cannot be read.
        CancelledError
            The token was cancelled.
        """
        methods = methods or Methods()
        with self._lock:
            ready = self._kept.get(step)
            if ready is not None:
                self._kept.move_to_end(step)
            like = next(iter(self._kept.values()))
        if ready is None:
            flow = open_as(self._path, self._reading, token, step=step, numbered=self._numbered)
            share_mesh(like.flow, flow)
            ready = Evaluator(self._correct(flow), reference, methods, like.answers)
            ready.store.moments = self._store
        elif (ready.store.reference, ready.store.methods) != (reference, methods):
            ready = ready.with_context(reference, methods)
        if token is not None and token.cancelled:
            raise CancelledError
        with self._lock:
            self._kept[step] = ready
            self._kept.move_to_end(step)
        self._note(step, ready)
        return ready

    def _note(self, step: int, ready: Evaluator) -> None:
        own = weakref.ref(self)

        def drop() -> None:
            series = own()
            if series is not None:
                with series._lock:
                    last = next(reversed(series._kept), step) == step
                    gone = None if last else series._kept.pop(step, None)
                if gone is not None:
                    gone.answers.forget(gone.flow.number)

        # What steps share, their mesh, is counted with the one on the table.
        KEEPER.note((self._group, step), sum(f.values.nbytes for f in ready.flow.fields.values()), drop, "steps")


def share_mesh(old: Flow, new: Flow) -> bool:
    """Let a flow use what was built for another on the same mesh; whether it is the same."""
    same = (len(old.blocks) == len(new.blocks) and all(_same_grid(a.grid, b.grid) for a, b in zip(old.blocks, new.blocks, strict=True))
            and np.array_equal(old.points, new.points))
    if same:
        new.__dict__.update({name: old.__dict__[name] for name in ("points", *_SHARED) if name in old.__dict__})
        new.__dict__["mesh_number"] = old.mesh_number
        for a, b in zip(old.blocks, new.blocks, strict=True):
            b.__dict__["grid"] = a.grid
    return same


def _same_grid(a: Grid, b: Grid) -> bool:
    if isinstance(a, StructuredGrid) or isinstance(b, StructuredGrid):
        return isinstance(a, StructuredGrid) and isinstance(b, StructuredGrid) and a.dims == b.dims
    return np.array_equal(a.types, b.types) and np.array_equal(a.corners, b.corners)
