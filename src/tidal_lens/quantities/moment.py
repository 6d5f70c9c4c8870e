"""One moment of a flow as formulas see it: at all nodes, or at a sample of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import CancelledError, MissingQuantityError, TidalLensError
from tidal_lens.flow.case import Field, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.quantities import gradients
from tidal_lens.quantities.cell_gradients import cell_gradient
from tidal_lens.quantities.formula.evaluate import Range, Source, evaluate, in_ranges
from tidal_lens.quantities.gradient_parts import from_gradient
from tidal_lens.quantities.names import CONST, constant
from tidal_lens.quantities.nodes import cell_values, node_values
from tidal_lens.quantities.smoothing import node_volumes, smoothed
from tidal_lens.quantities.stored import Stored
from tidal_lens.work import Token

Values = NDArray[Any]
_SAMPLE = 120_000
_CASES = ("first", "second", "third", "fourth")


def sample_ranges(flow: Flow) -> list[Range]:
    """Runs of nodes that together show what is in a flow: layers of structured blocks, short runs of others."""
    if flow.n_points <= 2 * _SAMPLE:
        return [(0, flow.n_points)]
    out: list[Range] = []
    for block in flow.blocks:
        n = block.grid.n_points
        wanted = max(_SAMPLE * n // flow.n_points, 1)
        if isinstance(block.grid, StructuredGrid):
            run = block.grid.dims[0] * block.grid.dims[1]
            count = min(max(wanted // run, 2), block.grid.dims[2])
            begins = distinct(np.linspace(0, block.grid.dims[2] - 1, 2 * count + 1).astype(int)[1::2]) * run
        else:
            run = min(2048, n)
            begins = distinct(np.linspace(0, n - run, max(wanted // run, 1)).astype(int))
            begins = begins[np.append(True, np.diff(begins) >= run)]
        out += [(block.first_point + int(b), block.first_point + int(b) + run) for b in begins]
    return out


class Moment:
    """A :class:`tidal_lens.quantities.formula.evaluate.Source` on a store.

    Parameters
    ----------
    store : Stored
        Where quantities are kept.
    token : Token, optional
        Progress and cancel.
    ranges : sequence of (int, int), optional
        Nodes at which values are wanted; all of them if nothing is said.
    """

    def __init__(self, store: Stored, token: Token | None = None, ranges: Sequence[Range] | None = None) -> None:
        self.store, self.token = store, token
        self._ranges = ranges
        self._sampled: dict[str, Values] = {}

    @property
    def flow(self) -> Flow:
        """The flow."""
        return self.store.flow

    @property
    def n_points(self) -> int:
        """Number of nodes."""
        return self.flow.n_points

    @property
    def ranges(self) -> Sequence[Range]:
        """Nodes at which values are wanted."""
        return self._ranges if self._ranges is not None else [(0, self.n_points)]

    def whole(self) -> Source:
        """The same for all nodes."""
        return self if self._ranges is None else Moment(self.store, self.token)

    def get(self, key: str) -> Values | float:
        """Node values of a quantity, or a constant."""
        if key.startswith(CONST):
            found = constant(key[len(CONST):], self.flow, self.store.reference, self.store.methods)
            if found is None:
                raise MissingQuantityError(f"{key[len(CONST):]} is not known.", "reference state", "Type it in the Case station.")
            return found[0] if len(found) == 1 else np.array([found])
        kept = self.store.kept(key)
        if kept is not None or self._ranges is None:
            return kept if kept is not None else self.store.values(key, self.token)
        for one in (*self.store.below(key), key):  # what a formula rests on first: chains of them may be long, and meet again
            if one not in self._sampled:
                self._sampled[one] = self._sample(one)
        return self._sampled[key]

    def _sample(self, key: str) -> Values:
        """Values of a quantity at the wanted nodes only, where that is less work."""
        if key == "velocity-gradient":
            between = self.store.cell_field("velocity") is not None
            return self.store.values(key, self.token) if between else self.gradient(self.store.values("velocity", self.token))
        if key in ("vorticity", "q"):
            return self.turning(key)
        tree = self.store.tree(key)
        return evaluate(tree, self, self.token) if tree is not None else self.store.values(key, self.token)

    def vector(self, name: str) -> tuple[float, float, float]:
        """A constant vector."""
        x, y, z = np.asarray(self.get(CONST + name)).ravel()
        return float(x), float(y), float(z)

    def place(self, axis: int) -> Values:
        """One coordinate of all nodes."""
        return self.flow.points[:, axis]

    def gradient(self, values: Values) -> Values:
        """Gradient of node values, shape (n, components, 3)."""
        methods = self.store.methods
        found = gradients.flow_gradient(self.flow, values, self.token, fourth_order=methods.fourth_order,
                                        ranges=None if self._ranges is None else self.ranges)
        return self._completed(found, values)

    def _completed(self, gradient: Values, values: Values) -> Values:
        """With what turning the plane of an axisymmetric flow adds to the gradient of a vector."""
        turned = self.flow.turned
        if turned is None or values.ndim != 2 or values.shape[1] != 3:
            return gradient
        for a, b in self.ranges:
            gradient[a:b] = turned.completed(gradient[a:b].astype(np.float64), values[a:b].astype(np.float64), self.flow.points[a:b])
        return gradient

    def cell_gradient(self, key: str) -> Values | None:
        """Gradient of a quantity taken between cells, at the nodes, shape (n, components, 3); None where that is not the choice."""
        cells = self.store.cell_field(key)
        if cells is None:
            return None
        found = cell_gradient(self.flow, cells, self.token)
        field = Field(key, "cell", found.reshape(len(found), -1))
        return node_values(self.flow, field, self.store.methods.averaging).reshape(self.n_points, -1, 3)

    def velocity_gradient(self) -> Values:
        """∂u_i/∂x_j, shape (n, 3, 3)."""
        between = self.cell_gradient("velocity")
        velocity = self.store.values("velocity", self.token)
        return self.gradient(velocity) if between is None else self._completed(between, velocity)

    def turning(self, name: str) -> Values:
        """The vorticity or Q: they are worked out together and both kept."""
        store = self.store
        kept = store.kept("velocity-gradient")
        plain = store.cell_field("velocity") is None and self.flow.turned is None
        if self._ranges is not None:
            vorticity, q = gradients.vorticity_and_q(np.asarray(self.get("velocity-gradient")), self.token, self.ranges)
            return vorticity if name == "vorticity" else q
        found = None
        if kept is None and plain:
            found = gradients.flow_vortices(self.flow, store.values("velocity", self.token), self.token,
                                            fourth_order=store.methods.fourth_order)
        if found is None:
            found = gradients.vorticity_and_q(np.asarray(self.get("velocity-gradient")), self.token)
        for other, values in zip(("vorticity", "q"), found, strict=True):
            store.keep(other, values)
        return found[name == "q"]

    def from_velocity_gradient(self, of: Callable[..., Values]) -> Values:
        """What follows node by node from the velocity gradient, which is not kept for it."""
        store, found = self.store, None
        plain = store.cell_field("velocity") is None and self.flow.turned is None
        if self._ranges is None and store.kept("velocity-gradient") is None and plain:
            found = from_gradient(self.flow, store.values("velocity", self.token), lambda part: of(part, self.token), self.token,
                                  fourth_order=store.methods.fourth_order)
        if found is not None:
            return found
        grad = np.asarray(self.get("velocity-gradient"))
        return of(grad, self.token) if self._ranges is None else in_ranges(self, lambda a, b: of(grad[a:b], self.token))

    def smoothed(self, values: Values, passes: int) -> Values:
        """Values averaged with their neighbours."""
        return smoothed(self.flow, values, passes, self.token)

    def over_cells(self, values: Values) -> Values:
        """Values brought to cells, and back by the chosen mean."""
        return node_values(self.flow, Field("", "cell", cell_values(self.flow, values)), self.store.methods.averaging)

    def in_time(self, compute: Callable[[Source], Values]) -> Values:
        """Derivative in time, of second order on uneven steps, one-sided at the ends."""
        times, step, moments = self.flow.times, self.flow.step, self.store.moments
        if len(times) < 2 or moments is None:
            raise MissingQuantityError("A derivative in time needs a time series.", self.flow.title, "Open all its steps together.")
        first = min(max(step - 1, 0), max(len(times) - 3, 0))
        near = list(range(first, min(first + 3, len(times))))
        weights = _time_weights([times[n] for n in near], times[step])
        parts: list[tuple[float, Values]] = []
        for n, weight in zip(near, weights, strict=True):
            if weight == 0.0:
                continue
            try:
                other = self if n == step else Moment(moments(n, self.store.reference, self.store.methods), self.token, self._ranges)
            except CancelledError:
                raise
            except TidalLensError as error:
                raise MissingQuantityError(f"A derivative in time needs step {n + 1}, which cannot be read.", self.flow.title,
                                           error.hint) from error
            if other.n_points != self.n_points or not np.array_equal(other.flow.points, self.flow.points):
                raise MissingQuantityError("A derivative in time at a fixed place needs a mesh that does not move.", self.flow.title)
            parts.append((weight, compute(other)))
        return in_ranges(self, lambda a, b: np.asarray(sum(weight * values[a:b] for weight, values in parts)))

    def over_steps(self, compute: Callable[[Source], Values], *, about_mean: bool) -> Values:
        """Mean over all steps, by the time between them, or the root of the mean square about it; a step that cannot be read fails it."""
        times, step, moments = self.flow.times, self.flow.step, self.store.moments
        if len(times) < 2 or moments is None:
            raise MissingQuantityError("A mean over time needs a time series.", self.flow.title, "Open all its steps together.")
        t = np.array(times)
        share = np.zeros(len(t))
        share[:-1] += 0.5 * np.diff(t)
        share[1:] += 0.5 * np.diff(t)
        share /= share.sum()
        sums: tuple[Values, Values, Values] | None = None
        for n, weight in enumerate(share):
            if self.token is not None:
                self.token.check()
            other = self if n == step else Moment(moments(n, self.store.reference, self.store.methods), self.token, self._ranges)
            if other.n_points != self.n_points or not np.array_equal(other.flow.points, self.flow.points):
                raise MissingQuantityError("A mean over time at a fixed place needs a mesh that does not move.", self.flow.title)
            values = np.asarray(compute(other), np.float64)
            if sums is None:
                sums = values, np.zeros_like(values), np.zeros_like(values)
            off = values - sums[0]  # about the first step: large means lose no digits of small swings
            sums[1][:] += weight * off
            sums[2][:] += weight * off**2
        assert sums is not None
        first, mean, square = sums
        with np.errstate(all="ignore"):  # at nodes that are not wanted there may be anything
            return np.asarray(np.sqrt(np.maximum(square - mean**2, 0.0)) if about_mean else first + mean)

    def elsewhere(self, case: int, compute: Callable[[Source], Values]) -> Values:
        """What is computed from another case, brought to these nodes."""
        found = self.store.others[case - 1] if case <= len(self.store.others) else None
        if found is None:
            raise MissingQuantityError(f"It needs a {_CASES[case]} case.", self.flow.title, "Open one beside this, in the Measure station.")
        return found.bring(compute(Moment(found.store, self.token)), self.token)

    def average(self, what: str, values: Values) -> float:
        """``mean`` over the volume, ``least`` or ``greatest``, of finite values."""
        least: list[float] = []
        weighted = total = 0.0
        volumes = node_volumes(self.flow, self.token) if what == "mean" else None
        for a, b in self.ranges:
            own = values[a:b]
            good = np.isfinite(own)
            if not good.any():
                continue
            if volumes is not None:
                weighted += float((own * volumes[a:b])[good].sum(dtype=np.float64))
                total += float(volumes[a:b][good].sum())
            else:
                least.append(float(own[good].min() if what == "least" else own[good].max()))
        if volumes is not None:
            return weighted / total if total > 0.0 else float("nan")
        return (min if what == "least" else max)(least, default=float("nan"))


def _time_weights(times: list[float], at: float) -> list[float]:
    """Weights of values at times whose sum is the derivative at one of them: that of the parabola, or line, through them."""
    out: list[float] = []
    for n, own in enumerate(times):
        others = [t for m, t in enumerate(times) if m != n]
        below = float(np.prod([own - t for t in others]))
        if below == 0.0:
            raise MissingQuantityError("Two steps of the series have the same time.", f"t = {own:g}",
                                       "A derivative in time needs them apart.")
        above = sum(float(np.prod([at - t for k, t in enumerate(others) if k != drop])) for drop in range(len(others)))
        out.append(above / below)
    return out
