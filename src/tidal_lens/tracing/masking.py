"""What is left of lines where values at their points are hidden."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from tidal_lens.tracing.streamlines import Lines


def kept_lines(lines: Lines, values: NDArray[np.float64]) -> Lines:
    """The parts of lines where values at their points are not negative, each a line of its own; they end where the value is nought."""
    v = np.where(np.isfinite(values), values, -np.inf)
    inside = v >= 0.0
    source: list[tuple[int, int, float]] = []  # a point, the next one of its line, and how far towards it
    offsets, seeds, error = [0], [], []
    for line in range(lines.n_lines):
        begin, end = int(lines.offsets[line]), int(lines.offsets[line + 1])
        run: list[tuple[int, int, float]] = []
        for at in range(begin, end + 1):
            over = at == end
            if not over and at > begin and inside[at] != inside[at - 1] and np.isfinite(v[at]) and np.isfinite(v[at - 1]):
                run.append((at - 1, at, float(v[at - 1] / (v[at - 1] - v[at]))))
            if not over and inside[at]:
                run.append((at, at, 0.0))
                continue
            if len(run) > 1:
                source += run
                offsets.append(len(source))
                seeds.append(int(lines.seeds[line]))
                error.append(float(lines.error[line]))
            run = []
    if not source:
        none = np.empty(0)
        return replace(lines, points=np.empty((0, 3)), offsets=np.zeros(1, np.int64), time=none,
                       places=lambda: lines.stencil.take(np.empty(0, np.int64)), seeds=np.empty(0, np.int64),
                       more=dict.fromkeys(lines.more, none), ends=np.empty((0, 2), np.int64), error=none, so_far=None)
    a, b = (np.array([s[k] for s in source], np.int64) for k in (0, 1))
    t = np.array([s[2] for s in source])
    points = lines.points[a] + t[:, None] * (lines.points[b] - lines.points[a])
    time = lines.time[a] + t * (lines.time[b] - lines.time[a])
    more = {name: own[a] + t * (own[b] - own[a]) for name, own in lines.more.items()}
    so_far = None if lines.so_far is None else lines.so_far[a] + t * (lines.so_far[b] - lines.so_far[a])
    return replace(lines, more=more, points=points, so_far=so_far,
                   offsets=np.array(offsets, np.int64), time=time, places=lambda: lines.stencil.mixed(a, b, t),
                   seeds=np.array(seeds, np.int64), ends=np.zeros((len(seeds), 2), np.int64), error=np.array(error))
