"""From a checked formula to values at the nodes, chunk by chunk: no part of it is ever held for all nodes at once.

Only what a derivative, a smoothing or an average is taken of is worked out as a whole.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from tidal_lens.quantities.formula.functions import ELSEWHERE, FUNCTIONS, IN_TIME, WHOLE
from tidal_lens.quantities.formula.tree import Node
from tidal_lens.work import Token, run_chunks

Values = NDArray[Any]
Range = tuple[int, int]
_CHUNK = 8192
_OF_MOMENTS = IN_TIME | ELSEWHERE.keys()
_SIZES = {"scalar": (), "vector": (3,), "tensor": (3, 3), "condition": ()}


class Source(Protocol):
    """Where a formula gets what it names."""

    @property
    def n_points(self) -> int:
        """Number of nodes."""

    @property
    def ranges(self) -> Sequence[Range]:
        """Nodes at which values are wanted; arrays need not hold anything elsewhere."""

    def whole(self) -> Source:
        """The same for all nodes."""

    def get(self, key: str) -> Values | float:
        """Node values of a quantity, shape (n,), (n, 3) or (n, 3, 3); a number or a vector (1, 3) for a constant."""

    def place(self, axis: int) -> Values:
        """One coordinate of all nodes, shape (n,)."""

    def gradient(self, values: Values) -> Values:
        """Gradient of values known at all nodes, shape (n, components, 3)."""

    def cell_gradient(self, key: str) -> Values | None:
        """The same of a quantity taken between cells, where that is the choice; else None."""

    def smoothed(self, values: Values, passes: int) -> Values:
        """Values known at all nodes, averaged with their neighbours."""

    def over_cells(self, values: Values) -> Values:
        """Values known at all nodes, brought to cells and back."""

    def in_time(self, compute: Callable[[Source], Values]) -> Values:
        """Derivative in time of what is computed from a moment."""

    def over_steps(self, compute: Callable[[Source], Values], *, about_mean: bool) -> Values:
        """Mean over all steps of what is computed from a moment, or the root of the mean square about it."""

    def average(self, what: str, values: Values) -> float:
        """``mean``, ``least`` or ``greatest`` of node values."""

    def elsewhere(self, case: int, compute: Callable[[Source], Values]) -> Values:
        """What is computed from another case, brought to these nodes."""


def evaluate(root: Node, source: Source, token: Token | None = None) -> Values:
    """Node values of a formula.

    Parameters
    ----------
    root : Node
        Its tree.
    source : Source
        Where it gets what it names.
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    ndarray, shape (n,), (n, 3) or (n, 3, 3)
        A condition is 1 where it holds and 0 elsewhere. Only the source's ranges are filled.
    """
    steps, bound = _program(root, source, token)
    n = source.n_points
    last = _last_uses(steps)
    found: list[Values] = []

    def run(begin: int, end: int) -> None:
        with np.errstate(all="ignore"):  # what is not finite stays visible as such in the result
            out[begin:end] = _at(steps, bound, last, begin, end)

    with np.errstate(all="ignore"):
        begin, end = source.ranges[0]
        found.append(_at(steps, bound, last, begin, min(end, begin + 2)))
    dtype = np.float32 if found[0].dtype == np.float32 else np.float64
    out = np.empty((n, *_SIZES[root.shape]), dtype)
    for begin, end in source.ranges:
        run_chunks(lambda a, b, first=begin: run(first + a, first + b), end - begin, _CHUNK, token)  # type: ignore[misc]
    return out


Step = tuple[Node, tuple[int, ...]]


def _program(root: Node, source: Source, token: Token | None) -> tuple[list[Step], dict[int, Any]]:
    """The parts of a tree in the order of computing, each once; and what those that are not computed point by point are."""
    steps: list[Step] = []
    place: dict[Node, int] = {}
    bound: dict[int, Any] = {}
    gradients: dict[Node, Values] = {}

    def visit(node: Node) -> int:
        if node in place:
            return place[node]
        whole = node.what in WHOLE
        parts = () if whole else tuple(visit(p) for p in node.parts)
        steps.append((node, parts))
        at = place[node] = len(steps) - 1
        if whole:
            bound[at] = _whole(node, source, token, gradients)
        elif node.what == "number":
            bound[at] = node.value
        elif node.leaf is not None:
            bound[at] = _leaf(node, source)
        return at

    visit(root)
    return steps, bound


def _leaf(node: Node, source: Source) -> Any:
    leaf = node.leaf
    assert leaf is not None
    if leaf.value:
        return leaf.value[0] if len(leaf.value) == 1 else np.array([leaf.value])
    return source.place(leaf.axis) if leaf.axis >= 0 else source.get(leaf.key)


def _whole(node: Node, source: Source, token: Token | None, gradients: dict[Node, Values]) -> Any:
    """Values of a part that needs the whole flow."""
    inner = node.parts[0]
    if token is not None:
        token.check()
    if node.what in _OF_MOMENTS:
        return _of_moments(node.what, source, lambda moment: evaluate(inner, moment, token))
    if node.what in ("mean", "least", "greatest"):
        return source.average(node.what, evaluate(inner, source, token))
    whole = source.whole()
    if node.what == "smooth":
        return whole.smoothed(evaluate(inner, whole, token), int(node.parts[1].fixed or 1))
    if node.what == "over_cells":
        return whole.over_cells(evaluate(inner, whole, token))
    if node.what == "laplacian":
        first = np.ascontiguousarray(_gradient(inner, whole, whole, token)[:, 0, :])
        second = source.gradient(first)
        return in_ranges(source, lambda a, b: np.einsum("nii->n", second[a:b]))
    if inner not in gradients:
        gradients[inner] = _gradient(inner, source, whole, token)
    grad = gradients[inner]
    if node.what == "grad":
        return grad if inner.shape == "vector" else grad[:, 0, :]
    return in_ranges(source, lambda a, b: _derived(node.what, inner.shape, grad[a:b]))


def _of_moments(what: str, source: Source, compute: Callable[[Source], Values]) -> Values:
    """What is computed from other steps, or from another case."""
    if what in ELSEWHERE:
        return source.elsewhere(ELSEWHERE[what], compute)
    return source.in_time(compute) if what == "rate" else source.over_steps(compute, about_mean=what == "rms_over_time")


def _gradient(inner: Node, source: Source, whole: Source, token: Token | None) -> Values:
    """Gradient of a part, shape (n, components, 3)."""
    key = inner.leaf.key if inner.leaf is not None else ""
    if key == "velocity":
        return np.asarray(source.get("velocity-gradient"))
    between = whole.cell_gradient(key) if key else None
    return source.gradient(_held(inner, whole, token)) if between is None else between


def in_ranges(source: Source, compute: Callable[[int, int], Values]) -> Values:
    """What is computed from runs of nodes, at the nodes that are wanted."""
    out: Values | None = None
    with np.errstate(all="ignore"):
        for begin, end in source.ranges:
            part = compute(begin, end)
            if out is None:
                if (begin, end) == (0, source.n_points):
                    return part
                out = np.empty((source.n_points, *part.shape[1:]), part.dtype)
            out[begin:end] = part
    assert out is not None
    return out


def _held(inner: Node, whole: Source, token: Token | None) -> Values:
    """What a derivative is taken of: the quantity itself where it is one, not a copy."""
    if inner.leaf is not None and inner.leaf.key:
        kept = whole.get(inner.leaf.key)
        if isinstance(kept, np.ndarray) and len(kept) == whole.n_points:
            return kept
    return evaluate(inner, whole, token)


def _derived(what: str, shape: str, grad: Values) -> Values:
    if what == "div":
        return grad[:, 0, 0] + grad[:, 1, 1] + grad[:, 2, 2]
    if what == "curl":
        return np.stack([grad[:, 2, 1] - grad[:, 1, 2], grad[:, 0, 2] - grad[:, 2, 0], grad[:, 1, 0] - grad[:, 0, 1]], axis=1)
    axis = "xyz".index(what[-1])
    return grad[:, :, axis] if shape == "vector" else grad[:, 0, axis]


def _last_uses(steps: list[Step]) -> list[int]:
    """At which step each value is needed for the last time."""
    last = list(range(len(steps)))
    for at, (_, parts) in enumerate(steps):
        for p in parts:
            last[p] = at
    last[-1] = len(steps)
    return last


def _at(steps: list[Step], bound: dict[int, Any], last: list[int], begin: int, end: int) -> Values:
    """Values of the last step at nodes begin..end."""
    held: list[Any] = [None] * len(steps)
    for at, (node, parts) in enumerate(steps):
        if at in bound:
            value = bound[at]
            held[at] = value[begin:end] if isinstance(value, np.ndarray) and len(value) > 1 else value
        else:
            held[at] = _apply(node, [held[p] for p in parts])
        for p in parts:
            if last[p] == at:
                held[p] = None
    result = np.asarray(held[-1])
    return result.astype(np.float64) if result.dtype.kind not in "f" else result


def _rank(shape: str) -> int:
    return len(_SIZES[shape])


def _spread(value: Any, by: int) -> Any:
    """A scalar made to multiply things of a higher rank."""
    return value.reshape(value.shape + (1,) * by) if isinstance(value, np.ndarray) and by else value


def _apply(node: Node, given: list[Any]) -> Any:
    what = node.what
    simple = _NODEWISE.get(what)
    if simple is not None:
        ranks = [_rank(p.shape) for p in node.parts]
        return simple(*(_spread(v, max(ranks) - r) for v, r in zip(given, ranks, strict=True)))
    if what == "part":
        axis = int(node.value)
        return given[0][:, axis] if node.parts[0].shape == "vector" else given[0][:, axis // 3, axis % 3]
    compute = FUNCTIONS[what].compute
    assert compute is not None
    if what not in ("where", "vector") and any(_rank(p.shape) for p in node.parts):
        given = _alike(given)
    return compute(*given)


def _alike(given: list[Any]) -> list[Any]:
    """Fixed vectors as long as what they meet."""
    most = max((len(v) for v in given if isinstance(v, np.ndarray)), default=1)
    return [np.broadcast_to(v, (most, *v.shape[1:])) if isinstance(v, np.ndarray) and len(v) != most else v for v in given]


def _power(a: Any, b: Any) -> Any:
    if isinstance(b, float) and b in (2.0, 3.0) and isinstance(a, np.ndarray):  # many times faster than the general power
        return a * a if b == 2.0 else a * a * a
    return np.power(np.asarray(a, dtype=float) if isinstance(a, float) else a, b)


def _quotient(a: Any, b: Any) -> Any:
    return np.divide(a, b)


_NODEWISE: dict[str, Callable[..., Any]] = {
    "+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b, "/": _quotient, "**": _power, "neg": lambda a: -a,
    "<": np.less, "<=": np.less_equal, "==": np.equal, "!=": np.not_equal, ">=": np.greater_equal, ">": np.greater,
    "and": lambda *all_: np.logical_and.reduce(np.broadcast_arrays(*all_)), "or": lambda *all_: np.logical_or.reduce(
        np.broadcast_arrays(*all_)), "not": np.logical_not,
}
