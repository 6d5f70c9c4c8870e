"""Where particles went: a row for each, and how many came to each boundary."""

from __future__ import annotations

from collections import Counter

import numpy as np

from tidal_lens.flow.case import Flow
from tidal_lens.study.tables import Cell, Table
from tidal_lens.tracing.streamlines import End, Lines
from tidal_lens.tracing.walls_hit import boundaries_at

_AT = (End.LEFT, End.WALL)  # ends that are at a boundary


def fate_tables(flow: Flow, lines: Lines) -> tuple[Table, Table]:
    """Of each particle how it ended, at which boundary, where, when and how fast; and of each fate how many."""
    last = lines.offsets[1:] - 1
    ends = [End(int(e)) for e in lines.ends[:, 1]]
    there = np.flatnonzero([e in _AT for e in ends])
    named = dict(zip(there.tolist(), boundaries_at(flow, lines.points[last[there]]), strict=True))
    heads = ["seed", "end", "boundary", "x", "y", "z", "time", "length", "error estimate", *lines.more]
    rows: list[tuple[Cell, ...]] = []
    for n, (end, at) in enumerate(zip(ends, last.tolist(), strict=True)):
        place = (float(c) for c in lines.points[at])
        rows.append((float(lines.seeds[n] + 1), end.words, named.get(n, ""), *place, float(lines.time[at]), float(lines.lengths[n]),
                     float(lines.error[n]), *(float(values[at]) for values in lines.more.values())))
    counted = Counter((end.words, named.get(n, "")) for n, end in enumerate(ends))
    many = max(len(ends), 1)
    return (Table("Where each particle went", tuple(heads), tuple(rows)),
            Table("Where they went", ("end", "boundary", "particles", "share"),
                  tuple((words, name, float(n), n / many) for (words, name), n in counted.most_common())))


def lines_table(lines: Lines) -> Table:
    """Of each line its seed, length, time, error and ends."""
    first, last = lines.offsets[:-1], lines.offsets[1:] - 1
    spent = lines.time[last] - lines.time[first] if lines.n_lines else np.empty(0)
    words = [tuple(End(e).words if e else "not followed" for e in ends) for ends in lines.ends.tolist()]
    rows = zip((lines.seeds + 1).tolist(), lines.lengths.tolist(), spent.tolist(), lines.error.tolist(), words, strict=True)
    return Table("Lines", ("seed", "length", "time", "error estimate", "upstream end", "downstream end"),
                 tuple((float(seed), length, time, error, *ends) for seed, length, time, error, ends in rows))
