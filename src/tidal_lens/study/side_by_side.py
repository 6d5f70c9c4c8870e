"""What several cases tell, side by side: numbers, curves, findings, and what meshes of one flow say of a number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tidal_lens.features.finding import Finding
from tidal_lens.flow.case import Flow
from tidal_lens.measures.mesh_study import Convergence, convergence_of
from tidal_lens.quantities.smoothing import node_volumes
from tidal_lens.study.charts import Chart
from tidal_lens.study.tables import Amount, Cell, Table, numbers_of


def changed_by(first: float, other: float) -> float:
    """By how many per cent of the first another number differs; NaN where the first is nothing."""
    return 100.0 * (other - first) / abs(first) if first else float("nan")


def numbers_beside(tables: Sequence[Sequence[Table]], titles: Sequence[str]) -> Table | None:
    """Numbers of the same card in several cases: what, of each case, then the difference from the first and that in per cent.

    Parameters
    ----------
    tables : sequence of sequences of Table
        What each case tells, the first first.
    titles : sequence of str
        What the cases are called.

    Returns
    -------
    Table or None
        None where the first tells no numbers.
    """
    found = [numbers_of(own) for own in tables]
    if not found or not found[0]:
        return None
    heads = ["what", *titles]
    for title in titles[1:]:
        heads += [f"{title} less {titles[0]}", f"{title} [%]"]
    rows: list[tuple[Cell, ...]] = []
    for name, value in found[0].items():
        others = [own.get(name, float("nan")) for own in found[1:]]
        row: list[Cell] = [name, value, *others]
        for other in others:
            row += [other.less(value) if isinstance(other, Amount) else other - value, changed_by(value, other)]
        rows.append(tuple(row))
    return Table("Cases side by side", tuple(heads), tuple(rows))


def charts_beside(charts: Sequence[Sequence[Chart]], titles: Sequence[str]) -> tuple[Chart, ...]:
    """Curves of the same card in several cases over one another; dots of an experiment and laws are those of the first."""
    out = []
    for n, chart in enumerate(charts[0]):
        curves = [c if c.dots or c.dashed else replace(c, name=_named(c.name, titles[0])) for c in chart.curves]
        for case, (own, title) in enumerate(zip(charts[1:], titles[1:], strict=True), 1):
            if n < len(own):
                curves += [replace(c, name=_named(c.name, title), case=case) for c in own[n].curves if not c.dots and not c.dashed]
        out.append(replace(chart, curves=tuple(curves)))
    return tuple(out)


def _named(name: str, title: str) -> str:
    return f"{name}, {title}" if name else title


def cell_size(flow: Flow) -> float:
    """Of a flow's mesh: the cube root of the mean volume of its cells; of a plane flow the square root of their mean area."""
    volume = float(node_volumes(flow).sum())
    if flow.normal is not None and flow.depth:
        return float(np.sqrt(volume / flow.depth / flow.n_cells))
    return float(np.cbrt(volume / flow.n_cells))


def mesh_study(tables: Sequence[Sequence[Table]], titles: Sequence[str], sizes: Sequence[float]) -> Table | None:
    """What two or three meshes of one flow say of each number of a card; the finest first, whatever the order of the cases.

    Parameters
    ----------
    tables, titles
        As of :func:`numbers_beside`.
    sizes : sequence of float
        Of each case's cells: see :func:`cell_size`.

    Raises
    ------
    ValueError
        There are not two or three meshes of different sizes.
    """
    order = np.argsort(sizes)
    found = [numbers_of(tables[n]) for n in order]
    if not found or not found[0]:
        return None
    rows: list[tuple[Cell, ...]] = []
    for name in found[0]:
        values = [own.get(name, float("nan")) for own in found]
        told: Convergence = convergence_of([sizes[n] for n in order], values)
        rows.append((name, *values, told.order, told.extrapolated, 100.0 * told.index, told.verdict))
    return Table("Mesh study", ("what", *(titles[n] for n in order), "observed order", "extrapolated", "grid convergence index [%]",
                                "verdict"), tuple(rows))


def findings_beside(first: Sequence[tuple[str, Finding]], other: Sequence[tuple[str, Finding]], titles: Sequence[str]) -> Table:
    """Findings of two cases, each with the one of its sort that is nearest and most like it in strength.

    Parameters
    ----------
    first, other : sequence of (str, Finding)
        Names and findings of two cases.
    titles : sequence of 2 str
        What the cases are called.
    """
    pairs = []
    for n, (_, one) in enumerate(first):
        for m, (_, two) in enumerate(other):
            gap = _apart(one, two) if one.sort == two.sort else np.inf
            reach = max(one.reach + two.reach, 1e-300)
            if gap <= max(reach, 0.25 * max(one.size, two.size)):
                alike = abs(np.log(max(one.strength, 1e-300) / max(two.strength, 1e-300)))
                pairs.append((gap / reach + 0.5 * min(alike, 10.0), n, m, gap))
    partner: dict[int, tuple[int, float]] = {}
    taken: set[int] = set()
    for _, n, m, gap in sorted(pairs):
        if n not in partner and m not in taken:
            partner[n] = m, gap
            taken.add(m)
    rows: list[tuple[Cell, ...]] = []
    for n, (name, own) in enumerate(first):
        number = own.numbers[0] if own.numbers else None
        if n not in partner:
            rows.append((name, own.sort, "", number.name if number else "", number.value if number else float("nan"), float("nan"),
                         float("nan"), float("nan")))
            continue
        m, gap = partner[n]
        there = next((x for x in other[m][1].numbers if number is not None and x.name == number.name), None)
        a, b = number.value if number else float("nan"), there.value if there is not None else float("nan")
        rows.append((name, own.sort, other[m][0], number.name if number else "", a, b, changed_by(a, b), gap))
    for m, (name, own) in enumerate(other):
        if m not in taken:
            number = own.numbers[0] if own.numbers else None
            rows.append(("", own.sort, name, number.name if number else "", float("nan"), number.value if number else float("nan"),
                         float("nan"), float("nan")))
    return Table("Findings of two cases", (f"in {titles[0]}", "sort", f"in {titles[1]}", "number", titles[0], titles[1], "change [%]",
                                           "moved"), tuple(rows))


def _apart(one: Finding, two: Finding) -> float:
    """How far apart two findings are: their lines on the mean, the shorter from the longer; else their places."""
    from scipy.spatial import cKDTree

    if len(one.line) < 2 or len(two.line) < 2:
        return float(np.linalg.norm(one.place - two.place))
    short, long = sorted((one.line, two.line), key=lambda line: float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum()))
    return float(np.mean(cKDTree(long).query(short)[0]))
