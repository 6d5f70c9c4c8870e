"""Histories of a solver run: which curves are residuals, how far they fell, and whether the rest has become steady.

That a run has converged when residuals fell by three orders and integral values no longer move is common practice, no source.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from tidal_lens.formats.csv_tables import Table

_COUNTERS = re.compile(r"^(it|iters?|iterations?|inner_?iter|outer_?iter|step|time_?step|time|t|n|cycle|#)$", re.IGNORECASE)
_RESIDUAL = re.compile(r"res|rms|continuity|momentum|conv|defect|error|l2|linf|^(rho[uvwe]?|nut|nutilda|tke|omega|epsilon)$",
                       re.IGNORECASE)
_UNITS = re.compile(r"\s*[\[(].*[\])]\s*$")
_TIMES = re.compile(r"^(time|t)$", re.IGNORECASE)
LAST = 100
STEADY = 0.005  # of its size: what a value may still move by at the end


@dataclass(frozen=True, eq=False)
class Curve:
    """Values of one column over the run; residuals are positive, as their logarithm is drawn."""

    name: str
    values: NDArray[np.float64]
    residual: bool


@dataclass(frozen=True, eq=False)
class History:
    """Curves over a counter (iterations or time), shape (rows,)."""

    counter: str
    at: NDArray[np.float64]
    curves: tuple[Curve, ...]

    @property
    def residuals(self) -> tuple[Curve, ...]:
        """Curves drawn by their logarithm."""
        return tuple(c for c in self.curves if c.residual)

    @property
    def others(self) -> tuple[Curve, ...]:
        """Coefficients and monitored values."""
        return tuple(c for c in self.curves if not c.residual)


@dataclass(frozen=True)
class Verdict:
    """What the curves say, one line each, and the sum of it: ``converged``, ``not converged``, ``rising`` or ``in time``."""

    state: str
    lines: tuple[str, ...]

    @property
    def text(self) -> str:
        """In words."""
        return "\n".join((f"{self.state.capitalize()}.", *self.lines))


def _bare(name: str) -> str:
    """A name without its unit."""
    return _UNITS.sub("", name).strip()


def history_of(table: Table) -> History:
    """Tell the counter, residuals and other curves of a table apart.

    Parameters
    ----------
    table : Table
        Columns as read. A column is a residual by its name, or as it is positive and falls by more than two orders; values that are
        logarithms already (all below 1, some below −1, by the name of a residual) are raised to powers of ten.
    """
    counter = next((n for n in table.names if _COUNTERS.match(_bare(n))), None)
    at = table.column(counter) if counter is not None else np.arange(1.0, len(table.columns) + 1)
    good = np.isfinite(at)
    curves: list[Curve] = []
    for name in table.names:
        if name == counter or _COUNTERS.match(_bare(name)):
            continue
        values = table.column(name)[good]
        known = values[np.isfinite(values)]
        if len(known) == 0:
            continue
        named = bool(_RESIDUAL.search(name))
        if named and known.min() < -1.0 and known.max() < 1.0:
            values, known = 10.0**values, 10.0**known
        positive = bool((known > 0.0).all())
        falls = positive and known.max() / known.min() > 100.0 and known[-1] < 0.1 * known[0]
        curves.append(Curve(name, values, positive and (named or falls)))
    return History(counter or "row", at[good], tuple(curves))


def early_greatest(curve: Curve) -> float:
    """The greatest positive value of the first fifth; 1 where there is none."""
    known = curve.values[np.isfinite(curve.values) & (curve.values > 0.0)]
    return float(known[: max(1, len(known) // 5)].max()) if len(known) else 1.0


def orders_fallen(curve: Curve) -> float:
    """Orders of magnitude between the greatest value of the first fifth and the mean of the last values."""
    known = curve.values[np.isfinite(curve.values) & (curve.values > 0.0)]
    if len(known) < 2:
        return 0.0
    last = float(np.exp(np.log(known[-max(1, min(LAST, len(known) // 10)):]).mean()))
    return float(np.log10(early_greatest(curve) / last))


def spread_at_the_end(curve: Curve) -> float:
    """Half the range of the last values over their mean's size; not a number where there are too few."""
    known = curve.values[np.isfinite(curve.values)][-LAST:]
    if len(known) < 5:
        return float("nan")
    size = max(abs(float(known.mean())), 1e-12 * max(1.0, float(np.abs(curve.values[np.isfinite(curve.values)]).max())))
    return 0.5 * float(np.ptp(known)) / size


def verdict(history: History, criterion: float = 1e-3, own: Mapping[str, float] = MappingProxyType({})) -> Verdict:
    """Whether the run has converged.

    Parameters
    ----------
    history : History
        Its curves.
    criterion : float
        Fraction of its early greatest value that a residual must have fallen to.
    own : mapping of str to float
        The same for single curves; of those that are no residuals, the share of their size that they may still move by.
    """
    if _TIMES.match(_bare(history.counter)):
        return _unsteady(history)
    lines: list[str] = []
    settled, rising = True, False
    for curve in history.residuals:
        orders, wanted = orders_fallen(curve), -np.log10(own.get(curve.name, criterion))
        if not np.isfinite(curve.values[-1]) or orders < -0.3:
            lines.append(f"{curve.name} rises" if np.isfinite(curve.values[-1]) else f"{curve.name} is no longer finite")
            settled, rising = False, True
            continue
        lines.append(f"{curve.name} fell {orders:.1f} orders" + ("" if orders >= wanted else f", {wanted:.1f} are wanted"))
        settled &= orders >= wanted
    for curve in history.others:
        spread = spread_at_the_end(curve)
        count = min(LAST, int(np.isfinite(curve.values).sum()))
        if not np.isfinite(spread):
            lines.append(f"{curve.name}: too few values to judge")
            continue
        told = "0.001 %" if spread < 1e-5 else f"{100 * spread:.2g} %" if spread < 10 else "more than its own size"
        counted = "rows" if history.counter == "row" else "iterations"
        if spread < own.get(curve.name, STEADY):
            lines.append(f"{curve.name} steady within {told} over the last {count} {counted}")
        else:
            lines.append(f"{curve.name} still moves by {told} over the last {count} {counted}")
            settled = False
    if not lines:
        return Verdict("not converged", ("there are no curves to judge by",))
    return Verdict("rising" if rising else "converged" if settled else "not converged", tuple(lines))


def _unsteady(history: History) -> Verdict:
    """A run in time does not converge: what its values range over, and whether their mean still drifts."""
    lines: list[str] = []
    for curve in history.others:
        known = curve.values[np.isfinite(curve.values)]
        if not np.isfinite(curve.values[-1]):
            return Verdict("rising", (f"{curve.name} is no longer finite",))
        late, before = known[len(known) // 2:], known[len(known) // 4:len(known) // 2]
        if len(before) < 2:
            lines.append(f"{curve.name}: too few values to judge")
            continue
        low, high, mean = float(late.min()), float(late.max()), float(late.mean())
        drift = abs(mean - float(before.mean())) / max(high - low, 1e-300)
        settled = "its mean holds" if drift < 0.1 else "its mean still drifts"
        lines.append(f"{curve.name} from {low:.4g} to {high:.4g}, mean {mean:.4g} over the second half; {settled}")
    return Verdict("in time", tuple(lines) or ("there are no curves to judge by",))
