"""Points of an experiment over curves: read from a table, and the difference in numbers."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import StudyError
from tidal_lens.formats.csv_tables import Table as Columns
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.study.charts import Curve

Vec = NDArray[np.float64]
Rows = list[tuple[str | float, ...]]


def bare(name: str) -> str:
    """A head without its unit, in small letters."""
    return name.split("[")[0].split("(")[0].strip().lower()


def column_for(table: Columns, said: str, names: set[str]) -> str | None:
    """The column that was said, else one that is called so."""
    if said:
        return said if said in table.names else None
    return next((n for n in table.names if bare(n) in names), None)


def on_a_line(path: str, across: str, up: str, quantity: str, title: str, start: Vec, end: Vec) -> Curve:
    """Points of a table beside a straight line.

    Parameters
    ----------
    path : str
        The table.
    across, up : str
        Its columns for the length along the line, or a coordinate of the places, and for the value; empty to find them by their names.
    quantity, title : str
        What is measured, as studies and people call it.
    start, end : ndarray, shape (3,)
        Of the line: coordinates are brought to lengths along it.

    Raises
    ------
    FileError, StudyError
        The table cannot be read, or its columns are not what was said.
    """
    table = read_table(Path(path))
    value = column_for(table, up, {quantity.lower(), quantity.split(":")[-1].lower(), title.split("[")[0].strip().lower()})
    if value is None and not up and len(table.names) == 2:
        value = table.names[1]
    if value is None:
        raise StudyError(f"The experiment's table has no column {up or title!r}: it has {', '.join(table.names[:8])}.", path,
                         "Choose the columns of the experiment below.")
    way = end - start
    size = float(np.linalg.norm(way))
    heads = [bare(n) for n in table.names]
    if not across and {"x", "y", "z"} <= set(heads):
        places = np.column_stack([table.columns[:, heads.index(a)] for a in "xyz"])
        along = (places - start) @ way / size
        return Curve(f"experiment, {Path(path).stem}", along, table.column(value), True, places)
    named = column_for(table, across, {"length", "length along it", "s", "distance", "r", "x", "y", "z"})
    named = named or next((n for n in table.names if n != value), None)
    if named is None:
        raise StudyError(f"The experiment's table has no column {across!r} for where its points are.", path,
                         "Choose the columns of the experiment below.")
    own = table.column(named)
    if bare(named) in ("x", "y", "z"):
        axis = "xyz".index(bare(named))
        if abs(way[axis]) < 1e-9 * size:
            raise StudyError(f"The experiment's points are given by {bare(named)}, along which this line does not go.", path,
                             "Choose another column for where its points are.")
        own = (own - start[axis]) / way[axis] * size
    return Curve(f"experiment, {Path(path).stem}", own, table.column(value), True, start + own[:, None] / size * way)


def differences(curves: tuple[Curve, ...], points: Curve) -> Rows:
    """How far curves lie from points, as rows of a table: mean, root of the mean square, greatest; nothing where they do not meet.

    Where both have places, each point is compared with the place of the curves that is nearest; else by where it stands across.
    """
    off = []
    for n in np.flatnonzero(np.isfinite(points.at) & np.isfinite(points.values)):
        found = _value_at(curves, points, int(n))
        if np.isfinite(found):
            off.append(found - points.values[n])
    if not off:
        return []
    gap, span = np.array(off), float(np.ptp(points.values[np.isfinite(points.values)]))
    rows: Rows = [("experiment: points compared", float(len(gap))), ("computed less measured, mean", float(gap.mean())),
                  ("its root mean square", float(np.sqrt((gap**2).mean()))), ("its greatest size", float(np.abs(gap).max()))]
    if span > 0.0:
        rows.append(("root mean square, share of the measured range", float(np.sqrt((gap**2).mean()) / span)))
    return rows


def _value_at(curves: tuple[Curve, ...], points: Curve, n: int) -> float:
    """What the curves have where a point stands."""
    best, least = float("nan"), np.inf
    for curve in curves:
        good = np.isfinite(curve.at) & np.isfinite(curve.values)
        if curve.dots or curve.dashed or good.sum() < 2:
            continue
        if points.places is not None and curve.places is not None:
            segments = np.flatnonzero(good[:-1] & good[1:])
            a, b = curve.places[segments], curve.places[segments + 1]
            edge = b - a
            share = np.clip(((points.places[n] - a) * edge).sum(axis=1) / np.maximum((edge * edge).sum(axis=1), 1e-300), 0.0, 1.0)
            off = ((a + share[:, None] * edge - points.places[n]) ** 2).sum(axis=1)
            if len(off) and off.min() < least:
                k = int(off.argmin())
                least = float(off[k])
                best = float((1.0 - share[k]) * curve.values[segments[k]] + share[k] * curve.values[segments[k] + 1])
        elif curve.at[good].min() <= points.at[n] <= curve.at[good].max() and not np.isfinite(best):
            order = np.argsort(curve.at[good])
            best = float(np.interp(points.at[n], curve.at[good][order], curve.values[good][order]))
    return best
