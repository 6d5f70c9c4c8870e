"""What a layer tells as curves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidal_lens.study.tables import Table

Vec = NDArray[np.float64]
SHARES = "share by unit of it"  # what distributions tell up their axis


@dataclass(frozen=True, eq=False)
class Curve:
    """Values (n,) over places (n,): joined, broken where one is not a number; or dots.

    Attributes
    ----------
    name : str
        What it is of.
    at, values : ndarray, shape (n,)
        Across and up.
    dots : bool
        Whether they are single points, as those of an experiment.
    places : ndarray, shape (n, 3), or None
        Where in the flow each is.
    dashed : bool
        Whether it is a law to compare with, not measured.
    case : int
        Of which case it is, the first being 0.
    """

    name: str
    at: Vec
    values: Vec
    dots: bool = False
    places: Vec | None = None
    dashed: bool = False
    case: int = 0


@dataclass(frozen=True, eq=False)
class Sheet:
    """A quantity over a plane, with lines of equal values and arrows.

    Attributes
    ----------
    across, up, values : ndarray, shape (m, n)
        Places of a lattice on the axes, and the value at each; NaN where there is none.
    told : str
        What the quantity is.
    lines : ndarray, shape (k, 2, 2)
        Pieces of lines of equal values.
    spacing : float
        From one line's value to the next one's.
    feet, arrows : ndarray, shape (a, 2)
        Where arrows begin, and how far they reach.
    """

    across: Vec
    up: Vec
    values: Vec
    told: str
    lines: Vec
    spacing: float
    feet: Vec
    arrows: Vec


@dataclass(frozen=True, eq=False)
class Chart:
    """Curves over one axis, or a quantity over a plane.

    Attributes
    ----------
    across, up : str
        What the axes are, with units.
    curves : tuple of Curve
        The curves.
    down : bool
        Whether the upper axis points down, as that of pressure coefficients does: common practice, no source.
    log_across, log_up : bool
        Whether axes are logarithmic at first.
    sheet : Sheet or None
        In the place of curves: both axes are lengths of one scale.
    """

    across: str
    up: str
    curves: tuple[Curve, ...]
    down: bool = False
    log_across: bool = False
    log_up: bool = False
    sheet: Sheet | None = None


def table_of(title: str, charts: tuple[Chart, ...]) -> Table:
    """All curves of some charts, one below another: which, where across, up, and where in the flow."""
    rows: list[tuple[str | float, ...]] = []
    for chart in charts:
        for curve in chart.curves:
            places = curve.places if curve.places is not None else np.full((len(curve.at), 3), np.nan)
            good = np.isfinite(curve.at) & np.isfinite(curve.values)
            rows += [(chart.up, curve.name, float(x), float(y), *(float(c) for c in p))
                     for x, y, p in zip(curve.at[good], curve.values[good], places[good], strict=True)]
    across = charts[0].across if charts else "across"
    return Table(title, ("quantity", "curve", across, "value", "x", "y", "z"), tuple(rows))


def summary_of(charts: tuple[Chart, ...], first: Sequence[tuple[str | float, ...]] = (), *, means: bool = True) -> Table:
    """Some rows, then mean over the axis, least and greatest of each curve that is joined, by its name."""
    rows = list(first)
    for chart in charts:
        for curve in chart.curves:
            good = np.isfinite(curve.at) & np.isfinite(curve.values)
            if curve.dots or curve.dashed or not good.any():
                continue
            at, values = curve.at[good], curve.values[good]
            span = float(at[-1] - at[0])
            mean = float(np.trapezoid(values, at) / span) if span != 0.0 else float(values.mean())
            named = chart.up if len(chart.curves) == 1 else f"{chart.up}, {curve.name}"
            if means:
                rows.append((f"{named}: mean", mean))
            rows += [(f"{named}: least", float(values.min())), (f"{named}: greatest", float(values.max()))]
    return Table("Curves in numbers", ("what", "value"), tuple(rows))
