"""Gradients of node values on the grids of a flow."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import Grid, StructuredGrid, UnstructuredGrid
from tidal_lens.quantities import kernels, structured_kernels
from tidal_lens.quantities.links import links_of
from tidal_lens.quantities.seam_gradients import across_seams
from tidal_lens.work import Token, read_only, run_chunks

Turning = tuple[NDArray[Any], NDArray[Any]]
Ranges = Sequence[tuple[int, int]] | None
_NONE = np.empty(0, np.int64)
_CHUNK = 32768


def _columns(grid: Grid, points: NDArray[np.float64], values: NDArray[Any]) -> NDArray[Any]:
    columns = np.ascontiguousarray(values[:, None] if values.ndim == 1 else values)
    if points.shape != (grid.n_points, 3) or len(columns) != grid.n_points or columns.shape[1] not in (1, 3):
        raise ValueError(f"{grid.n_points} points, {points.shape} coordinates and {values.shape} values do not fit")
    return read_only(columns)


def _layers(grid: StructuredGrid) -> int:
    """Layers of a chunk: several large pages of memory, for two threads that first write to one page would both clear it."""
    return max(1, min(262144 // (grid.dims[0] * grid.dims[1]), grid.dims[2] // 8))


def _by_layers(grid: StructuredGrid, points: NDArray[np.float64], columns: NDArray[Any], out: NDArray[Any], turning: Turning,
               told: tuple[NDArray[np.int64], NDArray[Any]], *, fourth_order: bool) -> Callable[[int, int], bool]:
    """What works out a range of layers, in the precision of the values, or in double where that does not do."""
    dims = np.array(grid.dims, np.int64)
    per = grid.dims[0] * grid.dims[1]
    wanted = read_only(told[0])
    doubled: list[NDArray[np.float64]] = []
    several = threading.Lock()

    def run(values: NDArray[Any], to: tuple[NDArray[Any], ...], first: int, begin: int, end: int) -> bool:
        out, vorticity, q, own = to
        at = int(np.searchsorted(wanted, begin * per))
        return structured_kernels.gradient_structured(points, dims, values, np.empty(0, values.dtype), out, vorticity, q, wanted, at, own,
                                                      first, begin, end, fourth_order)

    def step(begin: int, end: int) -> bool:
        places = (out, *turning, told[1])
        if run(columns, places, 0, begin, end):
            return True
        if columns.dtype == np.float64:
            return False
        with several:
            if not doubled:
                doubled.append(read_only(columns.astype(np.float64)))
        here = slice(begin * per, end * per)
        finer = tuple(np.empty((len(a[here]), *a.shape[1:])) for a in places[:3])
        own = np.empty(told[1].shape)
        sound = run(doubled[0], (*finer, own), here.start, begin, end)
        some = slice(*np.searchsorted(wanted, (here.start, here.stop)))
        with np.errstate(over="ignore"):  # what is beyond the lesser precision is not finite in it
            for coarse, fine in zip(places[:3], finer, strict=True):
                coarse[here] = fine
            told[1][some] = own[some]
        return sound

    return step


def _stepper(grid: Grid, points: NDArray[np.float64], columns: NDArray[Any], result: NDArray[Any],
             token: Token | None, *, fourth_order: bool = False) -> tuple[Callable[[int, int], bool | None], int, int]:
    """What computes a range of the gradient and says whether it is finite, the number of its steps, and steps a chunk."""
    points = read_only(points)
    if isinstance(grid, StructuredGrid):
        none = np.empty((0, 3), result.dtype), np.empty(0, result.dtype)
        told = _NONE, np.empty((0, 3, 3), result.dtype)
        return _by_layers(grid, points, columns, result, none, told, fourth_order=fourth_order), grid.dims[2], _layers(grid)
    near = links_of(grid, token)
    return (lambda a, b: kernels.gradient_unstructured(points, columns, near.starts, near.links, near.outer, result, 0, a, b),
            grid.n_points, _CHUNK)


def block_gradient(grid: Grid, points: NDArray[np.float64], values: NDArray[Any], token: Token | None = None,
                   out: NDArray[Any] | None = None, *, fourth_order: bool = False, ranges: Ranges = None) -> NDArray[Any]:
    """Gradient of node values on one block.

    Parameters
    ----------
    grid : Grid
        The block's grid.
    points : ndarray, shape (n, 3), float64
        Its points.
    values : ndarray, shape (n,) or (n, 3)
        Node values.
    token : Token, optional
        Progress and cancel.
    out : ndarray, shape (n, components, 3), optional
        Where to write.
    fourth_order : bool
        On structured blocks take differences of fourth order, one-sided at the ends; they ring at shocks and on rough grids.
    ranges : sequence of (int, int), optional
        Only these nodes (of structured blocks, the layers in which they are) are worked out.

    Returns
    -------
    ndarray, shape (n, components, 3)
        [p, i, j] = ∂f_i/∂x_j at node p.

    Raises
    ------
    ValueError
        Shapes do not fit.

    Notes
    -----
    Structured blocks: second-order metric differences, one-sided at the ends, multiplied in the precision of the values (differences of
    coordinates are taken in double). Unstructured: inverse-distance weighted least squares over edge neighbours, with a quadratic fit
    over two rings at outer and lopsided nodes.
    """
    columns = _columns(grid, points, values)
    result = np.empty((len(columns), columns.shape[1], 3), columns.dtype) if out is None else out
    step, count, chunk = _stepper(grid, points, columns, result, token, fourth_order=fourth_order)
    sound: list[bool | None] = []
    if ranges is not None:
        per = grid.dims[0] * grid.dims[1] if isinstance(grid, StructuredGrid) else 1
        for begin, end in ranges:
            first = begin // per
            run_chunks(lambda a, b, first=first: sound.append(step(first + a, first + b)), -(-end // per) - first, chunk, token)  # type: ignore[misc]
        return result
    run_chunks(lambda a, b: sound.append(step(a, b)), count, chunk, token)
    if isinstance(grid, StructuredGrid) and not all(sound):
        structured_kernels.mend_gradient(np.array(grid.dims, np.int64), result)
    return result


def block_vortices(grid: Grid, points: NDArray[np.float64], velocity: NDArray[Any], token: Token | None = None,
                   out: tuple[NDArray[Any], NDArray[Any]] | None = None,
                   wanted: NDArray[np.int64] = _NONE, *,
                   fourth_order: bool = False) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]] | None:
    """Vorticity and Q of one block; the velocity gradient, twice as large as both, is never whole in memory.

    Parameters
    ----------
    grid, points, token, fourth_order
        As in :func:`block_gradient`.
    velocity : ndarray, shape (n, 3)
        Node values.
    out : tuple of ndarray, optional
        Where to write vorticity and Q.
    wanted : ndarray, shape (m,), int64
        Nodes, in rising order, of which the gradient is told.

    Returns
    -------
    tuple of ndarray, shapes (n, 3), (n,), (m, 3, 3), or None
        As :func:`vorticity_and_q` and :func:`block_gradient` give them; None where the gradient has to be mended as a whole first.
    """
    columns, points = _columns(grid, points, velocity), read_only(points)
    n, dtype = len(columns), columns.dtype
    vorticity, q = (np.empty((n, 3), dtype), np.empty(n, dtype)) if out is None else out
    told = np.empty((len(wanted), 3, 3), dtype)
    if isinstance(grid, StructuredGrid):
        sound: list[bool] = []
        step = _by_layers(grid, points, columns, np.empty((0, 3, 3), dtype), (vorticity, q), (wanted, told), fourth_order=fourth_order)
        run_chunks(lambda a, b: sound.append(step(a, b)), grid.dims[2], _layers(grid), token)
        return (vorticity, q, told) if all(sound) else None
    near = links_of(grid, token)
    rooms = threading.local()

    def fit(begin: int, end: int) -> None:
        if not hasattr(rooms, "grad"):
            rooms.grad = np.empty((_CHUNK, 3, 3), dtype)
        kernels.gradient_unstructured(points, columns, near.starts, near.links, near.outer, rooms.grad, begin, begin, end)
        kernels.from_velocity_gradient(read_only(rooms.grad), vorticity[begin:end], q[begin:end], 0, end - begin)
        first, last = np.searchsorted(wanted, (begin, end))
        told[first:last] = rooms.grad[wanted[first:last] - begin]

    run_chunks(fit, n, _CHUNK, token)
    return vorticity, q, told


@dataclass(frozen=True, eq=False)
class _Joined:
    """All unstructured blocks of a flow as one grid, coincident nodes made one: no seam is left in it.

    ``first`` (k,) is a node of the flow for each node of the grid; ``members`` (n,) are the blocks' nodes, ``place`` (n,) theirs.
    """

    grid: UnstructuredGrid
    first: NDArray[np.int64]
    members: NDArray[np.int64]
    place: NDArray[np.int64]


def _joined(flow: Flow) -> _Joined | None:
    """Built at the first call and kept with the flow; None where there is nothing to join."""
    blocks = [b for b in flow.blocks if isinstance(b.grid, UnstructuredGrid)]
    if len(blocks) < 2 or flow.seams.n_groups == 0:
        return None
    ready: _Joined | None = flow.__dict__.get("_joined")
    if ready is None:
        members = np.concatenate([np.arange(b.first_point, b.first_point + b.grid.n_points) for b in blocks])
        _, first, place = np.unique(flow.seams.labels(flow.n_points)[members], return_index=True, return_inverse=True)
        number = np.zeros(flow.n_points, np.int32)
        number[members] = place
        grids = [b.grid for b in blocks if isinstance(b.grid, UnstructuredGrid)]
        corners = np.concatenate([number[g.corners + b.first_point] for g, b in zip(grids, blocks, strict=True)])
        ready = _Joined(UnstructuredGrid(len(first), corners, np.concatenate([g.types for g in grids])), members[first], members, place)
        flow.__dict__["_joined"] = ready
    return ready


def prepare_gradients(flow: Flow, token: Token | None = None) -> None:
    """Build what gradients on unstructured blocks need, so that the first one does not wait for it."""
    joined = _joined(flow)
    for grid in [b.grid for b in flow.blocks] if joined is None else [joined.grid]:
        if isinstance(grid, UnstructuredGrid):
            links_of(grid, token)


def flow_vortices(flow: Flow, velocity: NDArray[Any], token: Token | None = None, *,
                  fourth_order: bool = False) -> tuple[NDArray[Any], NDArray[Any]] | None:
    """Vorticity (n, 3) and Q (n,) over all blocks, at seams from the nodes on all sides; None as for :func:`block_vortices`."""
    vorticity, q = np.empty((flow.n_points, 3), velocity.dtype), np.empty(flow.n_points, velocity.dtype)
    seam = flow.seams.nodes
    own = np.empty((len(seam), 3, 3), velocity.dtype)
    joined = _joined(flow)
    for block in flow.blocks:
        if joined is not None and isinstance(block.grid, UnstructuredGrid):
            continue
        part = block.points
        here = np.flatnonzero((seam >= part.start) & (seam < part.stop))
        here = here[np.argsort(seam[here], kind="stable")]
        answers = block_vortices(block.grid, flow.points[part], velocity[part], token, (vorticity[part], q[part]), seam[here] - part.start,
                                 fourth_order=fourth_order)
        if answers is None:
            return None
        own[here] = answers[2]
    if joined is not None:
        number = np.full(flow.n_points, -1, np.int64)
        number[joined.members] = joined.place
        here = np.flatnonzero(number[seam] >= 0)
        wanted, back = np.unique(number[seam[here]], return_inverse=True)
        answers = block_vortices(joined.grid, flow.points[joined.first], velocity[joined.first], token, None, wanted)
        if answers is None:
            return None
        vorticity[joined.members], q[joined.members] = answers[0][joined.place], answers[1][joined.place]
        own[here] = answers[2][back]
    if len(seam) and _any_structured(flow):
        across_seams(flow, velocity, own, token)
        vorticity[seam], q[seam] = vorticity_and_q(own)
    return vorticity, q


def flow_gradient(flow: Flow, values: NDArray[Any], token: Token | None = None, *, fourth_order: bool = False,
                  ranges: Ranges = None) -> NDArray[Any]:
    """Gradient of node values over all blocks, shape (n, components, 3); seams as for :func:`flow_vortices`.

    Of a sample of nodes (``ranges``) it is taken within blocks, and nothing is averaged on seams.
    """
    if ranges is not None:
        return _sampled(flow, values, token, fourth_order=fourth_order, ranges=ranges)
    components = 1 if values.ndim == 1 else values.shape[1]
    result = np.empty((flow.n_points, components, 3), values.dtype)
    joined = _joined(flow)
    for block in flow.blocks:
        if joined is None or isinstance(block.grid, StructuredGrid):
            block_gradient(block.grid, flow.points[block.points], values[block.points], token, result[block.points],
                           fourth_order=fourth_order)
    if joined is not None:
        result[joined.members] = block_gradient(joined.grid, flow.points[joined.first], values[joined.first], token)[joined.place]
    if _any_structured(flow) and flow.seams.n_groups:
        own = result[flow.seams.nodes]
        across_seams(flow, values, own, token)
        result[flow.seams.nodes] = own
    return result


def _any_structured(flow: Flow) -> bool:
    """Whether there is any block that is not joined with the others before gradients are taken."""
    return any(isinstance(b.grid, StructuredGrid) for b in flow.blocks)


def _sampled(flow: Flow, values: NDArray[Any], token: Token | None, *, fourth_order: bool,
             ranges: Sequence[tuple[int, int]]) -> NDArray[Any]:
    result = np.empty((flow.n_points, 1 if values.ndim == 1 else values.shape[1], 3), values.dtype)
    for block in flow.blocks:
        first, last = block.first_point, block.first_point + block.grid.n_points
        own = [(max(a, first) - first, min(b, last) - first) for a, b in ranges if a < last and b > first]
        if own:
            block_gradient(block.grid, flow.points[block.points], values[block.points], token, result[block.points],
                           fourth_order=fourth_order, ranges=own)
    return result


def vorticity_and_q(grad_u: NDArray[Any], token: Token | None = None, ranges: Ranges = None) -> tuple[NDArray[Any], NDArray[Any]]:
    """Vorticity and Q of a velocity gradient.

    Parameters
    ----------
    grad_u : ndarray, shape (n, 3, 3)
        [p, i, j] = ∂u_i/∂x_j [1/s].
    token : Token, optional
        Progress and cancel.
    ranges : sequence of (int, int), optional
        Only these nodes.

    Returns
    -------
    vorticity : ndarray, shape (n, 3)
        curl u [1/s].
    q : ndarray, shape (n,)
        Second invariant ½[(tr ∇u)² − tr(∇u²)] [1/s²]; ½(‖Ω‖² − ‖S‖²) where the flow is free of divergence [1]_.

    References
    ----------
    .. [1] Hunt, Wray & Moin 1988, Eddies, streams and convergence zones in turbulent flows, CTR-S88.
    """
    vorticity = np.empty((len(grad_u), 3), grad_u.dtype)
    q = np.empty(len(grad_u), grad_u.dtype)
    grad_u = read_only(grad_u)
    for begin, end in ranges or [(0, len(grad_u))]:
        run_chunks(lambda a, b, first=begin: kernels.from_velocity_gradient(grad_u, vorticity, q, first + a,  # type: ignore[misc]
                                                                            first + b), end - begin, 65536, token)
    return vorticity, q
