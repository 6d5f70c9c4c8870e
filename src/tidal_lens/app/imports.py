"""Files that are laid onto the open flow: bodies, lists of points, histories; and data that are saved from it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.clouds import columns_of_points, moments_of, read_cloud
from tidal_lens.formats.csv_tables import Table, read_table, write_table
from tidal_lens.formats.export import save_flow, save_geometry
from tidal_lens.formats.written import flow_data
from tidal_lens.quantities.names import FILE
from tidal_lens.study.evaluate import Evaluated, tables_of
from tidal_lens.study.kinds.body import new_body
from tidal_lens.study.kinds.cloud import new_cloud
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.streamlines import new_seed_list
from tidal_lens.study.saving import geometry_of, quantities_in_use, values_of
from tidal_lens.study.tables import Cell
from tidal_lens.study.tables import Table as Told
from tidal_lens.work import Token

_MOST_SEEDS = 5000


@dataclass(frozen=True, eq=False)
class _Read:
    table: Table
    points: NDArray[np.float64] | None


class Imports(QObject):
    """Takes up and gives away what is not a result."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.document = document
        self.names_of: Callable[[str, Evaluated], Sequence[str]] = lambda _layer, _result: ()  # of findings

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
            columns = columns_of_points(table)
            points = np.column_stack([table.column(c) for c in columns]) if columns is not None else None
            return _Read(table, points[np.isfinite(points).all(axis=1)] if points is not None else None)

        def done(read: _Read) -> None:
            if read.points is None or self.document.flow is None:
                self._history(path)
                return
            text = f"{path.name} holds {len(read.points):,} points. What are they?"
            self.document.noticed.emit(Notice("note", text, (
                ("Seeds of streamlines", partial(self._take_seeds, read.points, path.name)),
                ("Points to show", partial(self.open_cloud, path)),
                ("A history", partial(self._history, path)))))

        self.document.jobs.submit(Slot("table"), f"Reading {path.name}", work, done, self._tell)

    def _history(self, path: Path) -> None:
        self.document.edit(self.document.study.with_(history=str(path.resolve())), "Open history")

    def open_cloud(self, path: Path) -> None:
        """Lay particles or points with values of their own into the flow."""
        evaluator = self.document.evaluator
        if evaluator is None:
            self._tell(TidalLensError("Particles are laid into a flow, and none is open.", str(path), "Open a result first."))
            return

        def work(token: Token) -> Begun:
            first = min(moments_of(path), key=lambda m: m[1].name != path.name)
            return new_cloud(evaluator.store, path.resolve(), read_cloud(first[1], token))

        def done(begun: Begun) -> None:
            if self.document.flow is evaluator.flow:
                self.document.add(begun)

        self.document.jobs.submit(Slot("cloud", str(path)), f"Reading {path.name}", work, done, self._tell)

    def _take_seeds(self, points: NDArray[np.float64], source: str) -> None:
        evaluator = self.document.evaluator
        if evaluator is None:
            return
        if len(points) > _MOST_SEEDS:
            # Evenly chosen: the whole list stays represented.
            points = points[np.linspace(0, len(points) - 1, _MOST_SEEDS).astype(int)]
            self.document.noticed.emit(Notice("warn", f"Of {source} every so many a point is taken, {_MOST_SEEDS:,} in all."))
        self.document.add(new_seed_list(evaluator.store, tuple((float(x), float(y), float(z)) for x, y, z in points), source))

    # -- saving ----------------------------------------------------------------------------------------------

    def quantities_in_use(self) -> list[str]:
        """Names of the quantities that colour or shape anything on the table, in the order of the deck."""
        return quantities_in_use(self.document.study)

    def save_flow(self, path: Path) -> None:
        """Save the flow with its own arrays and the derived quantities that are in use."""
        evaluator = self.document.evaluator
        if evaluator is None:
            return
        names = [n for n in self.quantities_in_use() if not n.startswith(FILE)]

        def work(token: Token) -> Path:
            save_flow(path, flow_data(evaluator.flow, values_of(evaluator, names, token)))
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
            save_geometry(path, geometry_of(result, values_of(evaluator, names, token)))
            return path

        self.document.jobs.submit(Slot("export"), f"Saving {path.name}", work, self._saved, self._tell)

    def save_table(self, layer_id: str, path: Path) -> None:
        """Save what a card tells in rows and columns."""
        result = self.document.asking.results.get(layer_id)
        names = self.names_of(layer_id, result) if result is not None and result.layer.shape.finds else ()
        tables = tables_of(result, self.document.study, names) if result is not None else ()
        if not tables:
            self._tell(TidalLensError("The card has nothing to tell yet.", "", "Wait for it, or press F5."))
            return

        self.save_several(tables, path)

    def save_several(self, tables: Sequence[Told], path: Path) -> None:
        """Save tables, the first under the name, others with their titles added to it."""
        self._save_tables([(path if n == 0 else path.with_stem(f"{path.stem}, {t.title.lower()}"), t.whole) for n, t in enumerate(tables)])

    def save_rows(self, rows: list[tuple[Cell, ...]], path: Path) -> None:
        """Save a table, its heads in the first row."""
        self._save_tables([(path, rows)])

    def _save_tables(self, tables: list[tuple[Path, list[tuple[Cell, ...]]]]) -> None:
        """Each under its own name: of curves, the numbers beside them too."""
        path = tables[0][0]

        def work(_token: Token) -> Path:
            for target, rows in tables:
                write_table(target, rows)
            return path

        self.document.jobs.submit(Slot("export"), f"Saving {path.name}", work, self._saved, self._tell)

    def _saved(self, path: Path) -> None:
        self.document.noticed.emit(Notice("note", f"Saved {path.name} in {path.parent}."))
