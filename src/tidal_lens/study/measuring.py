"""All measures of a study without a window: their tables as files."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.study.evaluate import tables_of
from tidal_lens.study.session import open_study
from tidal_lens.work import Token

_UNFIT = re.compile(r"[^\w .,()+=-]+")


def write_measures(study: Path, folder: Path, tell: Callable[[str], object]) -> int:
    """Work out all cards of a study that measure, and write what they tell as CSV; the number of those that could not be had.

    Parameters
    ----------
    study : Path
        The study's file.
    folder : Path
        Where tables are written: a file for each, named as its card.
    tell : callable
        Given a line about each card.

    Raises
    ------
    TidalLensError
        The study or its case cannot be opened, or the folder not be written to.
    """
    session = open_study(study)
    series = session.series()  # noqa: F841  (steps are read through it)
    lost, used = 0, set()
    for layer in session.study.layers:
        if not (layer.shape.measures or layer.shape.finds):
            continue
        try:
            result = session.evaluator.evaluate(layer, Token(), session.study)
        except TidalLensError as error:
            tell(f"{layer.name}: {error}")
            lost += 1
            continue
        told = result.unmasked.told
        tell(f"{layer.name}: {told}" if told else layer.name)
        for n, table in enumerate(tables_of(result, session.study)):
            name = _UNFIT.sub("_", layer.name if n == 0 else f"{layer.name}, {table.title.lower()}").strip() or layer.id
            name = name if name not in used else f"{name} ({layer.id})"
            used.add(name)
            write_table(folder / f"{name}.csv", table.whole)
    return lost
