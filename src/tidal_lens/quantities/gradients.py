"""Gradients of node values on the grids of a flow."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Flow
from tidal_lens.flow.grid import COLLAPSE, OWN_CORNERS, Grid, StructuredGrid, UnstructuredGrid
from tidal_lens.quantities import fourth_order_kernels as kernels4
from tidal_lens.quantities import kernels, links_kernels
from tidal_lens.work import WORKERS, Token, read_only, run_chunks

Ranges = Sequence[tuple[int, int]] | None
_HEX_EDGES = ((0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7))
_KINDS = tuple(OWN_CORNERS)


def _edge_tables() -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Place of each kind of cell; its own corners and their number; what each corner is joined to and by how many edges."""
    place = np.zeros(256, np.uint8)
    own, many = np.zeros((len(_KINDS), 8), np.int64), np.zeros(len(_KINDS), np.int64)
    near, joined = np.zeros((len(_KINDS), 8, 4), np.int64), np.zeros((len(_KINDS), 8), np.int64)
    for n, kind in enumerate(_KINDS):
        place[kind] = n
        mine, order = OWN_CORNERS[kind], COLLAPSE[kind]
        many[n] = len(mine)
        own[n, :len(mine)] = mine
        for corner in mine:
            others = {order[b if order[a] == order[corner] else a] for a, b in _HEX_EDGES
                      if order[a] != order[b] and order[corner] in (order[a], order[b])}
            joined[n, corner] = len(others)
            near[n, corner, :len(others)] = sorted(mine[other] for other in others)
    return place, own, many, near, joined


_PLACE, _OWN, _MANY, _NEAR, _JOINED = _edge_tables()


class NodeLinks:
    """Which nodes are joined by edges of cells, and which nodes are on the outside.

    Attributes
    ----------
    starts : ndarray, shape (n + 1,), int64
        First link of each node.
    links : ndarray, int32
        Nodes at the other end.
    outer : ndarray, shape (n,), bool
        Nodes that the cells round them do not enclose.
    """

    def __init__(self, grid: UnstructuredGrid, token: Token | None = None) -> None:
        n, corners = grid.n_points, read_only(grid.corners)
        kinds = read_only(_PLACE[grid.types])
        starts, cells = _cells_round_nodes(corners, kinds, n, token)
        sizes = np.zeros(n + 1, np.int64)
        self.outer = np.ones(n, dtype=bool)
        found: dict[int, NDArray[np.int32]] = {}

        def link(begin: int, end: int) -> None:
            found[begin] = links_kernels.link_nodes(corners, kinds, _NEAR, _JOINED, starts, cells, sizes[1:], self.outer, begin, end)

        run_chunks(link, n, 16384, token)
        self.starts = np.cumsum(sizes)
        self.links = np.concatenate([found[begin] for begin in sorted(found)]) if found else np.empty(0, np.int32)


def _cells_round_nodes(corners: NDArray[np.int32], kinds: NDArray[np.uint8], n: int,
                       token: Token | None) -> tuple[NDArray[np.int64], NDArray[Any]]:
    """Cells round each node: where each node's begin, shape (n + 1,), and the cells, each as cell · 8 + corner."""
    part = -(-len(corners) // WORKERS)
    counts = np.zeros((WORKERS, n), np.int32)
    run_chunks(lambda a, b: links_kernels.count_cells(corners, kinds, _OWN, _MANY, counts[a // part], a, b), len(corners), part, token)
    starts = np.concatenate([[0], np.cumsum(counts.sum(axis=0, dtype=np.int64))])
    # Each worker enters its cells behind those of the workers before it: no two write to one place.
    places = np.cumsum(counts, axis=0, dtype=np.int64) - counts + starts[:-1]
    cells: NDArray[Any] = np.empty(int(starts[-1]), np.int32 if len(corners) < 2**28 else np.int64)
    run_chunks(lambda a, b: links_kernels.list_cells(corners, kinds, _OWN, _MANY, places[a // part], cells, a, b), len(corners), part,
               token)
    return starts, cells


def links_of(grid: UnstructuredGrid, token: Token | None = None) -> NodeLinks:
    """Links of a grid, built at the first call and kept with it."""
    ready = grid.__dict__.get("_links")
    if ready is None:
        ready = NodeLinks(grid, token)
        grid.__dict__["_links"] = ready
    return ready


def _columns(grid: Grid, points: NDArray[np.float64], values: NDArray[Any]) -> NDArray[Any]:
    columns = np.ascontiguousarray(values[:, None] if values.ndim == 1 else values)
    if points.shape != (grid.n_points, 3) or len(columns) != grid.n_points or columns.shape[1] not in (1, 3):
        raise ValueError(f"{grid.n_points} points, {points.shape} coordinates and {values.shape} values do not fit")
    return columns


def _stepper(grid: Grid, points: NDArray[np.float64], columns: NDArray[Any], result: NDArray[Any],
             token: Token | None, *, fourth_order: bool = False) -> tuple[Callable[[int, int], None], int, int]:
    """What computes a range of the gradient, the number of its steps, and steps a chunk."""
    if isinstance(grid, StructuredGrid):
        dims = np.array(grid.dims, np.int64)
        layer = grid.dims[0] * grid.dims[1]
        if fourth_order:
            return (lambda a, b: kernels4.gradient_fourth_order(points, dims, columns, result, a, b), grid.dims[2],
                    max(1, 65536 // layer))
        return (lambda a, b: kernels.gradient_structured(points, dims, columns, result, a, b), grid.dims[2],
                max(1, 65536 // layer))
    near = links_of(grid, token)
    return (lambda a, b: kernels.gradient_unstructured(points, columns, near.starts, near.links, near.outer, result, a, b),
            grid.n_points, 8192)


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
    Structured blocks: second-order metric differences, one-sided at the ends. Unstructured: inverse-distance weighted
    least squares over edge neighbours, with a quadratic fit over two rings at outer and lopsided nodes.
    """
    columns = _columns(grid, points, values)
    result = np.empty((len(columns), columns.shape[1], 3), columns.dtype) if out is None else out
    step, count, chunk = _stepper(grid, points, columns, result, token, fourth_order=fourth_order)
    if ranges is not None:
        per = grid.dims[0] * grid.dims[1] if isinstance(grid, StructuredGrid) else 1
        for begin, end in ranges:
            run_chunks(lambda a, b, first=begin // per: step(first + a, first + b), -(-end // per) - begin // per,  # type: ignore[misc]
                       chunk, token)
        return result
    run_chunks(step, count, chunk, token)
    if isinstance(grid, StructuredGrid) and not _sound(result):
        kernels.mend_gradient(np.array(grid.dims, np.int64), result)
    return result


def _sound(result: NDArray[Any]) -> bool:
    sound: list[bool] = []
    run_chunks(lambda a, b: sound.append(kernels.all_finite(result, a, b)), len(result), 65536)
    return all(sound)


def block_turning(grid: Grid, points: NDArray[np.float64], velocity: NDArray[Any], token: Token | None = None,
                  out: tuple[NDArray[Any], NDArray[Any], NDArray[Any]] | None = None) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """Velocity gradient, vorticity and Q of one block in one pass through memory.

    Parameters
    ----------
    grid, points, token
        As in :func:`block_gradient`.
    velocity : ndarray, shape (n, 3)
        Node values.
    out : tuple of ndarray, optional
        Where to write.

    Returns
    -------
    tuple of ndarray, shapes (n, 3, 3), (n, 3), (n,)
        As :func:`block_gradient` and :func:`vorticity_and_q` give them.
    """
    columns = _columns(grid, points, velocity)
    n, dtype = len(columns), columns.dtype
    grad, vorticity, q = (np.empty((n, 3, 3), dtype), np.empty((n, 3), dtype), np.empty(n, dtype)) if out is None else out
    if isinstance(grid, StructuredGrid):
        dims = np.array(grid.dims, np.int64)
        sound: list[bool] = []
        # Chunks of several large pages: two threads that first write to one page would both clear it.
        run_chunks(lambda a, b: sound.append(kernels.turning_structured(points, dims, columns, grad, vorticity, q, a, b)),
                   grid.dims[2], max(1, min(262144 // (grid.dims[0] * grid.dims[1]), grid.dims[2] // 8)), token)
        if not all(sound):
            kernels.mend_gradient(dims, grad)
            kernels.from_velocity_gradient(grad, vorticity, q, 0, n)
    else:
        step, count, chunk = _stepper(grid, points, columns, grad, token)

        def both(begin: int, end: int) -> None:
            step(begin, end)
            kernels.from_velocity_gradient(grad, vorticity, q, begin, end)

        run_chunks(both, count, chunk, token)
    return grad, vorticity, q


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


def flow_turning(flow: Flow, velocity: NDArray[Any], token: Token | None = None, *,
                 fourth_order: bool = False) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    """Velocity gradient, vorticity and Q over all blocks: across seams of unstructured ones, else averaged on the seams."""
    if fourth_order:
        grad = flow_gradient(flow, velocity, token, fourth_order=True)
        return (grad, *vorticity_and_q(grad, token))
    n, dtype = flow.n_points, velocity.dtype
    grad, vorticity, q = np.empty((n, 3, 3), dtype), np.empty((n, 3), dtype), np.empty(n, dtype)
    joined = _joined(flow)
    for block in flow.blocks:
        part = block.points
        if joined is None or isinstance(block.grid, StructuredGrid):
            block_turning(block.grid, flow.points[part], velocity[part], token, (grad[part], vorticity[part], q[part]))
    if joined is not None:
        answers = block_turning(joined.grid, flow.points[joined.first], velocity[joined.first], token)
        for whole, own in zip((grad, vorticity, q), answers, strict=True):
            whole[joined.members] = own[joined.place]
    seam = flow.seams.nodes
    if len(seam):
        flow.seams.average(grad.reshape(n, -1))
        vorticity[seam], q[seam] = vorticity_and_q(grad[seam])
    return grad, vorticity, q


def flow_gradient(flow: Flow, values: NDArray[Any], token: Token | None = None, *, fourth_order: bool = False,
                  ranges: Ranges = None) -> NDArray[Any]:
    """Gradient of node values over all blocks, shape (n, components, 3); seams as for :func:`flow_turning`.

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
    flow.seams.average(result.reshape(flow.n_points, -1))
    return result


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
    for begin, end in ranges or [(0, len(grad_u))]:
        run_chunks(lambda a, b, first=begin: kernels.from_velocity_gradient(grad_u, vorticity, q, first + a,  # type: ignore[misc]
                                                                            first + b), end - begin, 65536, token)
    return vorticity, q
