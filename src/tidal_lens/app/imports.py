"""Files that are laid onto the open flow: bodies, lists of points, histories; and data that are saved from it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.cutting.surface import Surface
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import Table, read_table, write_table
from tidal_lens.formats.export import save_flow, save_geometry
from tidal_lens.formats.written import Geometry, flow_data
from tidal_lens.study.evaluate import Evaluated, Evaluator, quantities_on_keys
from tidal_lens.study.kinds.body import new_body
from tidal_lens.study.kinds.points import new_points
from tidal_lens.study.kinds.streamlines import new_seed_list
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token

_AXIS = {axis: re.compile(rf"^(coordinate|points?|pos|position)?[ _:.]*({axis}|{n})([ _]*[\[(].*)?$", re.IGNORECASE)
         for n, axis in enumerate("xyz")}
_MOST = {"seeds": 5000, "points": 20000}


@dataclass(frozen=True, eq=False)
class _Read:
    table: Table
    points: NDArray[np.float64] | None


def points_in(table: Table) -> NDArray[np.float64] | None:
    """Rows of the columns x, y, z, shape (n, 3); None where there are no such columns, or no complete row."""
    columns = [next((n for n in table.names if _AXIS[axis].match(n.strip())), None) for axis in "xyz"]
    if any(c is None for c in columns) or len(set(columns)) != 3:
        return None
    points = np.column_stack([table.column(c) for c in columns if c is not None])
    points = points[np.isfinite(points).all(axis=1)]
    return points if len(points) else None


class Imports(QObject):
    """Takes up and gives away what is not a result."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.document = document

    def _tell(self, error: TidalLensError) -> None:
        self.document.noticed.emit(Notice("bad", str(error)))

    def open_body(self, path: Path) -> None:
        """Lay a body into the flow."""
        if self.document.flow is None:
            self._tell(TidalLensError("A body is laid into a flow, and none is open.", str(path), "Open a result first."))
            return
        self.document.add(new_body(path.resolve()))

    def open_table(self, path: Path) -> None:
        """Read a table: a history, or, if it has columns x, y and z, what the user says."""
        def work(_token: Token) -> _Read:
            table = read_table(path)
            return _Read(table, points_in(table))

        def done(read: _Read) -> None:
            if read.points is None or self.document.flow is None:
                self._history(path)
                return
            text = f"{path.name} holds {len(read.points):,} points. What are they?"
            self.document.noticed.emit(Notice("note", text, (
                ("Seeds of streamlines", partial(self._take, "seeds", read.points, path.name)),
                ("Points to show", partial(self._take, "points", read.points, path.name)),
                ("A history", partial(self._history, path)))))

        self.document.jobs.submit(Slot("table"), f"Reading {path.name}", work, done, self._tell)

    def _history(self, path: Path) -> None:
        self.document.edit(self.document.study.with_(history=str(path.resolve())), "Open history")

    def _take(self, what: str, points: NDArray[np.float64], source: str) -> None:
        evaluator = self.document.evaluator
        if evaluator is None:
            return
        most = _MOST[what]
        if len(points) > most:
            # Evenly chosen: the whole list stays represented.
            points = points[np.linspace(0, len(points) - 1, most).astype(int)]
            self.document.noticed.emit(Notice("warn", f"Of {source} every so many a point is taken, {most:,} in all."))
        listed = tuple((float(x), float(y), float(z)) for x, y, z in points)
        self.document.add(new_seed_list(evaluator.store, listed, source) if what == "seeds" else new_points(listed, source))

    # -- saving ----------------------------------------------------------------------------------------------

    def quantities_in_use(self) -> list[str]:
        """Names of the quantities that colour or shape anything on the table, in the order of the deck."""
        names: list[str] = []
        for layer in self.document.study.layers:
            names += [n for n in quantities_on_keys(layer) if n not in names]
        return names

    def save_flow(self, path: Path) -> None:
        """Save the flow with its own arrays and the derived quantities that are in use."""
        evaluator = self.document.evaluator
        if evaluator is None:
            return
        names = [n for n in self.quantities_in_use() if not n.startswith("file:")]

        def work(token: Token) -> Path:
            save_flow(path, flow_data(evaluator.flow, _values(evaluator, names, token)))
            return path

        self.document.jobs.submit(Slot("export"), f"Saving {path.name}", work, self._saved, self._tell)

    def save_card(self, layer_id: str, path: Path) -> None:
        """Save the surface or lines of a card with the quantities that are in use."""
        evaluator, result = self.document.evaluator, self.document.asking.results.get(layer_id)
        if evaluator is None or result is None:
            self._tell(TidalLensError("The card has nothing to save yet.", "", "Wait for it, or press F5."))
            return
        names = self.quantities_in_use()

        def work(token: Token) -> Path:
            save_geometry(path, geometry_of(result, _values(evaluator, names, token)))
            return path

        self.document.jobs.submit(Slot("export"), f"Saving {path.name}", work, self._saved, self._tell)

    def save_table(self, layer_id: str, path: Path) -> None:
        """Save what a card tells in rows and columns."""
        result = self.document.asking.results.get(layer_id)
        tables = result.unmasked.tables if result is not None else ()
        if not tables:
            self._tell(TidalLensError("The card has nothing to tell yet.", "", "Wait for it, or press F5."))
            return

        def work(_token: Token) -> Path:
            write_table(path, tables[0].whole)
            return path

        self.document.jobs.submit(Slot("export"), f"Saving {path.name}", work, self._saved, self._tell)

    def _saved(self, path: Path) -> None:
        self.document.noticed.emit(Notice("note", f"Saved {path.name} in {path.parent}."))


def _values(evaluator: Evaluator, names: list[str], token: Token) -> dict[str, NDArray[np.float64]]:
    """Node values by the titles of quantities."""
    out: dict[str, NDArray[np.float64]] = {}
    for name in names:
        out[evaluator.store.describe(name).title] = evaluator.store.values(name, token)
        token.check()
    return out


def geometry_of(result: Evaluated, values: dict[str, NDArray[np.float64]]) -> Geometry:
    """What a card came to, with node quantities brought to its points."""
    geometry = result.geometry
    own = {name: geometry.stencil.apply(v) for name, v in values.items()}
    if isinstance(geometry, Lines):
        return Geometry(geometry.points, None, geometry.offsets, {"time": geometry.time, **own})
    assert isinstance(geometry, Surface)
    return Geometry(geometry.points, geometry.faces, None, own)
