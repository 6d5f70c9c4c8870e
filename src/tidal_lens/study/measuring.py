"""All measures of a study without a window: their tables as files."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.study.evaluate import tables_of
from tidal_lens.study.others import open_all
from tidal_lens.study.session import open_study
from tidal_lens.study.side_by_side import numbers_beside
from tidal_lens.study.tables import Table
from tidal_lens.work import Token

_UNFIT = re.compile(r"[^\w .,()+=-]+")


def write_measures(study: Path, folder: Path, tell: Callable[[str], object]) -> int:
    """Work out all cards of a study that measure, and write what they tell as CSV; the number of those that could not be had.

    Parameters
    ----------
    study : Path
        The study's file.
    folder : Path
        Where tables are written: a file for each, named as its card; of other cases with their names, and all side by side.
    tell : callable
        Given a line about each card.

    Raises
    ------
    TidalLensError
        The study or its case cannot be opened, or the folder not be written to.
    """
    session = open_study(study)
    opened, titles = open_all(session, tell), session.study.case_titles
    cases = {n: (titles[n], one.first) for n, one in {0: opened, **opened.others}.items()}
    lost = 0
    used: set[str] = set()
    for layer in session.study.layers:
        if not (layer.shape.measures or layer.shape.finds):
            continue
        told = []
        for number, (title, evaluator) in cases.items():
            if not layer.is_of(number):
                continue
            where = f"{layer.name}, {title}" if number else layer.name
            try:
                result = evaluator.evaluate(layer, Token(), session.study)
            except TidalLensError as error:
                tell(f"{where}: {error}")
                lost += 1
                continue
            words = result.unmasked.told
            tell(f"{where}: {words}" if words else where)
            told.append((title, tables_of(result, session.study)))
            _write(folder, where, layer.id, told[-1][1], used)
        if len(told) > 1 and layer.shape.measures:
            beside = numbers_beside([tables for _, tables in told], [title for title, _ in told])
            _write(folder, f"{layer.name}, side by side", layer.id, () if beside is None else (beside,), used)
    return lost


def _write(folder: Path, name: str, layer_id: str, tables: Sequence[Table], used: set[str]) -> None:
    """Each table as a file of its own, no name twice."""
    for n, table in enumerate(tables):
        plain = _UNFIT.sub("_", name if n == 0 else f"{name}, {table.title.lower()}").strip() or layer_id
        plain = plain if plain not in used else f"{plain} ({layer_id})"
        used.add(plain)
        write_table(folder / f"{plain}.csv", table.whole)
