"""Vorticity, Q, divergence and gradients on exact flows: values, order of accuracy, and VTK as a second opinion.

Sources are named at each check. Definition of Q: Hunt, Wray & Moin 1988, CTR-S88.
"""

import numpy as np
import pytest
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkStructuredGrid
from vtkmodules.vtkFiltersGeneral import vtkGradientFilter

from making import KINDS, abc, cube_flow, cube_points, flow_of
from tidal_lens.flow.grid import HEXAHEDRON, StructuredGrid, UnstructuredGrid
from tidal_lens.quantities.gradients import block_gradient, block_vortices, flow_gradient, flow_vortices, vorticity_and_q
from tidal_lens.quantities.store import QuantityStore
from vortex_tank import CENTRE, RADIUS, STREAM
from vortex_tank import velocity as demo_velocity

OMEGA = np.array([0.3, -0.7, 1.1])


def derived(flow):
    grad = flow_gradient(flow, flow.fields["Velocity"].values)
    vorticity, q = vorticity_and_q(grad)
    return grad, vorticity, q


@pytest.mark.parametrize("kind", KINDS)
def test_solid_rotation(kind):
    """Solid rotation Ω: vorticity 2Ω, Q = Ω², divergence 0 (follows from the definition; any text on fluid dynamics)."""
    flow = cube_flow(6, kind, 0.06, velocity=lambda p: np.cross(OMEGA, p))
    grad, vorticity, q = derived(flow)
    assert np.abs(vorticity - 2 * OMEGA).max() < 1e-10
    assert np.abs(q - OMEGA @ OMEGA).max() < 1e-10
    assert np.abs(np.trace(grad, axis1=1, axis2=2)).max() < 1e-10


@pytest.mark.parametrize("kind", KINDS)
def test_plane_shear_is_no_vortex(kind):
    """Plane shear: vorticity −dU/dy, Q = 0 (Jeong & Hussain 1995, J. Fluid Mech. 285: a shear layer is no vortex)."""
    flow = cube_flow(6, kind, 0.06, velocity=lambda p: np.column_stack([3 * p[:, 1], 0 * p[:, 0], 0 * p[:, 0]]))
    _, vorticity, q = derived(flow)
    assert np.abs(vorticity - [0, 0, -3]).max() < 1e-10
    assert np.abs(q).max() < 1e-9


def errors(kind, sizes, warp):
    """Root mean square and greatest errors of the vorticity of an Arnold–Beltrami–Childress flow on ever finer grids."""
    out = []
    for n in sizes:
        flow = cube_flow(n, kind, warp, velocity=lambda p: abc(2 * np.pi * p))
        _, vorticity, _ = derived(flow)
        wrong = np.linalg.norm(vorticity - 2 * np.pi * flow.fields["Velocity"].values, axis=1)
        out.append((np.sqrt((wrong**2).mean()), wrong.max()))
    return np.array(out)


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra"])
@pytest.mark.parametrize("warp", [0.0, 0.05])
def test_second_order_on_smooth_grids(kind, warp):
    """curl U = U in the flow of Dombre et al. 1986 (J. Fluid Mech. 167); with wave number 2π, curl U = 2π U."""
    sizes = (13, 25, 49)
    found = errors(kind, sizes, warp)
    steps = np.log((sizes[-1] - 1) / (sizes[0] - 1))
    order = np.log(found[0] / found[-1]) / steps
    assert order[0] > 1.85, f"root mean square: {found[:, 0]}"
    assert order[1] > 1.6, f"greatest: {found[:, 1]}"


@pytest.mark.parametrize("kind", ["wedges", "pyramids"])
def test_errors_fall_on_other_cells(kind):
    found = errors(kind, (9, 17, 33), 0.05)
    order = np.log(found[0] / found[-1]) / np.log(4)
    assert order[0] > 1.0
    assert order[1] > 0.8


@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
def test_taylor_green_vortex(kind):
    """Taylor & Green 1937: u = cos x sin y sin z, v = −½ sin x cos y sin z, w = −½ sin x sin y cos z; divergence 0."""

    def velocity(p):
        x, y, z = p.T
        return np.column_stack([np.cos(x) * np.sin(y) * np.sin(z), -0.5 * np.sin(x) * np.cos(y) * np.sin(z),
                                -0.5 * np.sin(x) * np.sin(y) * np.cos(z)])

    flow = cube_flow(41, kind, velocity=velocity, high=np.pi)
    grad, vorticity, q = derived(flow)
    x, y, z = flow.points.T
    exact = np.column_stack([0 * x, 1.5 * np.cos(x) * np.sin(y) * np.cos(z), -1.5 * np.cos(x) * np.cos(y) * np.sin(z)])
    assert np.abs(vorticity - exact).max() < 0.015
    assert np.abs(np.trace(grad, axis1=1, axis2=2)).max() < 0.015
    d = np.empty((len(x), 3, 3))  # the exact gradient gives the exact Q
    s, c = (np.sin(x), np.sin(y), np.sin(z)), (np.cos(x), np.cos(y), np.cos(z))
    d[:, 0] = np.column_stack([-s[0] * s[1] * s[2], c[0] * c[1] * s[2], c[0] * s[1] * c[2]])
    d[:, 1] = -0.5 * np.column_stack([c[0] * c[1] * s[2], -s[0] * s[1] * s[2], s[0] * c[1] * c[2]])
    d[:, 2] = -0.5 * np.column_stack([c[0] * s[1] * c[2], s[0] * c[1] * c[2], -s[0] * s[1] * s[2]])
    assert np.abs(q + 0.5 * np.einsum("pij,pji->p", d, d)).max() < 0.015


def test_burgers_vortex():
    """Burgers 1948, Adv. Appl. Mech. 1: axial vorticity (Γα/4πν) exp(−αr²/4ν) under strain α; divergence 0."""
    alpha, nu, gamma = 1.0, 0.02, 1.0

    def velocity(p):
        x, y, z = p.T
        r2 = np.maximum(x * x + y * y, 1e-30)
        swirl = gamma / (2 * np.pi * r2) * -np.expm1(-alpha * r2 / (4 * nu))
        return np.column_stack([-alpha / 2 * x - swirl * y, -alpha / 2 * y + swirl * x, alpha * z])

    flow = cube_flow(65, "structured", 0.0, velocity=velocity, low=-1.0)
    grad, vorticity, _ = derived(flow)
    r2 = flow.points[:, 0] ** 2 + flow.points[:, 1] ** 2
    exact = gamma * alpha / (4 * np.pi * nu) * np.exp(-alpha * r2 / (4 * nu))
    assert np.abs(vorticity[:, 2] - exact).max() < 0.02 * exact.max()
    assert np.abs(np.trace(grad, axis1=1, axis2=2)).max() < 1e-6 + 0.02 * alpha


def test_vorticity_inside_hills_vortex(demo):
    """Hill 1894: inside the sphere the azimuthal vorticity is proportional to the distance from the axis, 15 U s / (2 a²)."""
    store = QuantityStore(demo, demo.reference)
    p = demo.points - CENTRE
    s = np.hypot(p[:, 1], p[:, 2])
    inside = (np.linalg.norm(p, axis=1) < 0.6 * RADIUS) & (s > 0.1 * RADIUS)
    exact = 15 * STREAM * s / (2 * RADIUS**2)
    found = store.values("vorticity-magnitude")
    assert inside.sum() > 150
    assert np.abs(found - exact)[inside].max() < 0.01 * exact[inside].max()


def test_the_demo_is_free_of_divergence_away_from_wall_and_sphere(demo):
    """Each part of the made-up flow is an exact field without divergence; only the wall layer is not."""
    store = QuantityStore(demo, demo.reference)
    p = demo.points
    away = (p[:, 2] > 0.7) & (np.linalg.norm(p - CENTRE, axis=1) > 1.6 * RADIUS) & (np.abs(p[:, 1]) < 0.45)
    assert away.sum() > 5000
    scale = store.values("vorticity-magnitude").max()
    assert np.abs(store.values("divergence")[away]).max() < 0.02 * scale
    assert np.abs(demo_velocity(p)[away][:, 0] / STREAM).max() < 1.6


def test_vtk_agrees_on_a_warped_grid():
    """Second opinion: VTK's gradient filter on the same nodes; ours must be the nearer to the exact field."""
    n = 25
    points = cube_points(n, 0.05)
    u = abc(2 * np.pi * points)
    grid = vtkStructuredGrid()
    grid.SetDimensions(n, n, n)
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(points))
    grid.SetPoints(holder)
    array = numpy_to_vtk(u)
    array.SetName("u")
    grid.GetPointData().AddArray(array)
    other = vtkGradientFilter()
    other.SetInputData(grid)
    other.SetInputArrayToProcess(0, 0, 0, 0, "u")
    other.SetResultArrayName("g")
    other.Update()
    theirs = vtk_to_numpy(other.GetOutput().GetPointData().GetArray("g")).reshape(-1, 3, 3)
    flow = cube_flow(n, "structured", 0.05, velocity=lambda p: abc(2 * np.pi * p))
    ours, vorticity, _ = derived(flow)
    inner = np.all((points > 0.1) & (points < 0.9), axis=1)
    assert np.abs(ours - theirs)[inner].max() < 0.12
    curl = np.column_stack([theirs[:, 2, 1] - theirs[:, 1, 2], theirs[:, 0, 2] - theirs[:, 2, 0], theirs[:, 1, 0] - theirs[:, 0, 1]])
    assert np.abs(vorticity - 2 * np.pi * u).max() <= np.abs(curl - 2 * np.pi * u).max()


@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
def test_gradient_and_laplacian_of_density(kind):
    """|∇ρ| and ∇²ρ (Settles 2001) of ρ = sin x sin y sin z are known in closed form."""

    def density(p):
        return 2 + np.prod(np.sin(p), axis=1)

    flow = cube_flow(41, kind, 0.0, rho=density, low=0.3, high=2.0)
    store = QuantityStore(flow, flow.reference)
    x, y, z = flow.points.T
    exact = np.sqrt((np.cos(x) * np.sin(y) * np.sin(z)) ** 2 + (np.sin(x) * np.cos(y) * np.sin(z)) ** 2
                    + (np.sin(x) * np.sin(y) * np.cos(z)) ** 2)
    assert np.abs(store.values("density-gradient-magnitude") - exact).max() < 2e-3
    inner = np.all((flow.points > 0.5) & (flow.points < 1.8), axis=1)
    assert np.abs(store.values("density-laplacian") + 3 * (flow.fields["rho"].values - 2))[inner].max() < 5e-3


def test_seam_between_blocks_shows_no_jump(demo):
    store = QuantityStore(demo, demo.reference)
    seams = demo.seams
    for name in ("vorticity-x", "q", "density-laplacian"):
        values = store.values(name)[seams.nodes].astype(float)
        mean = np.bincount(seams.groups, values) / np.bincount(seams.groups)
        assert np.abs(values - mean[seams.groups]).max() <= 1e-3 * np.abs(values).max()


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "structured"])
def test_partitions_leave_no_trace(kind):
    """A mesh cut into four parts has the gradient, Q and Laplacian of the whole mesh, to rounding, on the cuts too."""
    whole = cube_flow(8, kind, 0.06, velocity=abc, density=lambda p: 1.0 + p[:, 0] ** 2 + p[:, 1] * p[:, 2])
    grid, points = whole.blocks[0].grid, whole.points
    middle = points[grid.corners].mean(axis=1)
    owner = (middle[:, 0] > 0.45).astype(int) + 2 * (middle[:, 2] > 0.6)
    parts, where = [], []
    for n in range(4):
        nodes, compact = np.unique(grid.corners[owner == n], return_inverse=True)
        parts.append((points[nodes], UnstructuredGrid(len(nodes), compact.reshape(-1, 8).astype(np.int32), grid.types[owner == n])))
        where.append(nodes)
    ids = np.concatenate(where)
    cut = flow_of(parts, {name: f.values[ids] for name, f in whole.fields.items()})
    assert cut.seams.n_groups > 50
    for name in ("q", "vorticity-x", "divergence", "density-laplacian"):
        expected = QuantityStore(whole, whole.reference).values(name)[ids]
        found = QuantityStore(cut, cut.reference).values(name)
        assert np.abs(found - expected).max() < 1e-9 * np.abs(expected).max()


@pytest.mark.parametrize("stretched", [False, True])
@pytest.mark.parametrize("warp", [0.0, 0.06])
def test_structured_blocks_are_seen_across(warp, stretched):
    """Where two blocks meet inside the flow, the vorticity of an Arnold-Beltrami-Childress flow is as true as in the undivided block."""
    n = 17
    p = cube_points(n, warp)
    if stretched:
        p[:, 0] = np.expm1(2 * p[:, 0]) / np.expm1(2)
    index = np.arange(n**3).reshape(n, n, n)
    parts = [index[:, :, :9], index[:, :, 8:]]
    ids = np.concatenate([q.ravel() for q in parts])
    u = abc(2 * np.pi * p)
    whole = flow_of([(p, StructuredGrid((n, n, n)))], {"U": u})
    cut = flow_of([(p[q.ravel()], StructuredGrid((q.shape[2], n, n))) for q in parts], {"U": u[ids]})
    wrong = [np.abs(QuantityStore(f, f.reference).values("vorticity") - 2 * np.pi * f.fields["U"].values).max(axis=1) for f in (whole, cut)]
    seam = np.zeros(len(ids), dtype=bool)
    seam[cut.seams.nodes] = True
    inner = seam & ((cut.points[:, 1:] > 0.01) & (cut.points[:, 1:] < 0.99)).all(axis=1)
    assert wrong[1][inner].max() < 1.02 * wrong[0][ids][inner].max()
    assert wrong[1].max() < 1.3 * wrong[0].max()


def halves(n, ways):
    """A warped cube cut into two blocks at its middle, each structured or of hexahedra."""
    p = cube_points(n, 0.06)
    index = np.arange(n**3).reshape(n, n, n)
    blocks = []
    for q, way in zip((index[:, :, :n // 2 + 1], index[:, :, n // 2:]), ways, strict=True):
        own = StructuredGrid((q.shape[2], n, n))
        if way == "hexahedra":
            k, j, i = (a.ravel() for a in np.meshgrid(*(np.arange(m - 1) for m in q.shape), indexing="ij"))
            at = i + q.shape[2] * (j + n * k)
            steps = [0, 1, 1 + q.shape[2], q.shape[2]]
            corners = np.stack([at + a + b for b in (0, n * q.shape[2]) for a in steps], axis=1).astype(np.int32)
            own = UnstructuredGrid(q.size, corners, np.full(len(corners), HEXAHEDRON, np.uint8))
        blocks.append((p[q.ravel()], own))
    points = np.concatenate([b[0] for b in blocks])
    return flow_of(blocks, {"U": abc(2 * np.pi * points)})


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("ways", [("structured", "structured"), ("structured", "hexahedra"), ("hexahedra", "hexahedra")])
def test_vorticity_without_the_gradient_is_that_of_the_gradient(ways, dtype):
    """Two ways to the same numbers, on seams too; and one path only where the gradient has been asked for already."""
    flow = halves(11, ways)
    u = flow.fields["U"].values.astype(dtype)
    expected = vorticity_and_q(flow_gradient(flow, u))
    found = flow_vortices(flow, u)
    for mine, other in zip(found, expected, strict=True):
        assert mine.dtype == dtype
        assert np.abs(mine - other).max() < (3e-6 if dtype == np.float32 else 1e-12) * np.abs(other).max()
    store = QuantityStore(flow, flow.reference)
    first = store.values("q").copy()
    assert store.kept("velocity-gradient") is None
    again = QuantityStore(flow, flow.reference)
    again.values("velocity-gradient")
    assert np.allclose(again.values("q"), first, rtol=0, atol=1e-9 * np.abs(first).max())


def by_numpy(points, u, dims):
    """Metric differences written with numpy.gradient (second order, one-sided at the ends) and numpy.linalg.solve, in double precision."""
    def along(values):
        lattice = values.astype(float).reshape(*dims[::-1], -1)
        ways = [np.gradient(lattice, axis=2 - axis, edge_order=min(2, dims[axis] - 1)) for axis in range(3)]
        return np.stack(ways, axis=-1).reshape(len(values), -1, 3)

    return np.swapaxes(np.linalg.solve(np.swapaxes(along(points), 1, 2), np.swapaxes(along(u), 1, 2)), 1, 2)


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("width", [2, 3, 15, 66, 67, 150])
def test_rows_of_all_lengths_are_as_numpy_has_them(width, dtype):
    """Rows that fill no piece, just one, and several; vectors, their components, vorticity and Q: all by numpy.gradient's differences."""
    z, y, x = (a.ravel() for a in np.meshgrid(np.linspace(0, 1, 5), np.linspace(0, 1, 4), np.linspace(0, 3, width), indexing="ij"))
    points = np.column_stack([x + 0.1 * y * z, y + 0.05 * np.sin(x), z + 0.1 * x * y])
    grid, u = StructuredGrid((width, 4, 5)), abc(points).astype(dtype)
    expected = by_numpy(points, u, grid.dims)
    close = 1e-12 if dtype == np.float64 else 2e-6
    whole = block_gradient(grid, points, u)
    assert whole.dtype == dtype
    assert np.abs(whole - expected).max() < close
    for c in range(3):
        assert np.abs(block_gradient(grid, points, u[:, c])[:, 0] - expected[:, c]).max() < close
    vorticity, q, _ = block_vortices(grid, points, u)
    turning = vorticity_and_q(expected)
    assert np.abs(vorticity - turning[0]).max() < close
    assert np.abs(q - turning[1]).max() < 3 * close


@pytest.mark.parametrize("length", [1e-15, 1e-13, 3e-13, 1e-6, 1e6, 1e13, 1e15])
def test_single_precision_holds_at_all_lengths(length):
    """Velocities of four bytes on blocks whose cells' volumes do not fit into such numbers: worked out in eight then."""
    points = cube_points(9, 0.05)
    u = abc(2 * np.pi * points).astype(np.float32)
    found = block_gradient(StructuredGrid((9, 9, 9)), points * length, u)
    assert np.abs(found * length - by_numpy(points, u, (9, 9, 9))).max() < 1e-5


def test_single_precision_costs_less_than_rounding_the_velocity_did():
    """A pressed, leaning wall layer: what products of four bytes add to the error is a part of what rounding the velocity has done."""
    points = bad_points(33, "pressed")
    points[:, 0] += 3 * points[:, 2]
    u = np.column_stack([100 * np.tanh(40 * points[:, 2]), 5 * np.sin(3 * points[:, 0]), 2 * points[:, 1]])
    dims = (33, 33, 33)
    exactly, rounded = by_numpy(points, u, dims), by_numpy(points, u.astype(np.float32), dims)
    found = block_gradient(StructuredGrid(dims), points, u.astype(np.float32))
    assert np.abs(found - rounded).max() < 0.5 * np.abs(rounded - exactly).max()


def test_vorticity_and_q_of_fourth_order_are_those_of_the_gradient():
    """Two ways to the same numbers with the finer differences too."""
    flow = halves(11, ("structured", "structured"))
    u = flow.fields["U"].values
    expected = vorticity_and_q(flow_gradient(flow, u, fourth_order=True))
    found = flow_vortices(flow, u, fourth_order=True)
    for mine, other in zip(found, expected, strict=True):
        assert np.abs(mine - other).max() < 1e-12 * np.abs(other).max()
    assert np.abs(found[1] - flow_vortices(flow, u)[1]).max() > 1e-3 * np.abs(found[1]).max()


# -- cells of bad quality ------------------------------------------------------------------------------------------------


def bad_points(n, how):
    """A cube of nodes made bad: pressed to a thousandth at one side, leaning by 63°, or shaken by a third of the spacing."""
    p = cube_points(n)
    if how == "pressed":
        p[:, 2] = np.expm1(7 * p[:, 2]) / np.expm1(7) * 0.05
    elif how == "leaning":
        p[:, 0] += 2 * p[:, 2]
    else:
        inner = ((p > 0.01) & (p < 0.99)).all(axis=1)
        p += inner[:, None] * np.random.default_rng(4).uniform(-0.33, 0.33, p.shape) / (n - 1)
    return p


@pytest.mark.parametrize("how", ["pressed", "leaning", "shaken"])
@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra", "wedges"])
def test_bad_cells_still_meet_linear_fields(kind, how):
    """Whatever the cells, a linear field has its own gradient: the least that consistency asks for (common practice, no source)."""
    p = bad_points(9, how)
    flow = cube_flow(9, kind)
    slope = np.array([2.0, -1.0, 30.0])
    found = flow_gradient(flow_of([(p, flow.blocks[0].grid)], {"f": p @ slope}), p @ slope)
    assert np.abs(found[:, 0] / slope - 1).max() < 1e-6


@pytest.mark.parametrize("how", ["pressed", "leaning", "shaken"])
@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_bad_cells_are_no_worse_than_the_reference_library(kind, how):
    """Root mean square and greatest error against VTK's gradient filter on the same nodes and cells."""
    from vtk_data import to_unstructured

    p = bad_points(17, how)
    grid = cube_flow(17, kind).blocks[0].grid
    f = np.sin(2 * p[:, 0]) * np.cos(p[:, 1]) + (p[:, 2] / p[:, 2].max()) ** 2
    truth = np.column_stack([2 * np.cos(2 * p[:, 0]) * np.cos(p[:, 1]), -np.sin(2 * p[:, 0]) * np.sin(p[:, 1]),
                             2 * p[:, 2] / p[:, 2].max() ** 2])
    ours = flow_gradient(flow_of([(p, grid)], {"f": f}), f)[:, 0]
    data = to_unstructured(p, grid)
    array = numpy_to_vtk(f)
    array.SetName("f")
    data.GetPointData().AddArray(array)
    task = vtkGradientFilter()
    task.SetInputData(data)
    task.SetInputArrayToProcess(0, 0, 0, 0, "f")
    task.SetResultArrayName("g")
    task.Update()
    theirs = vtk_to_numpy(task.GetOutput().GetPointData().GetArray("g"))
    mine, other = np.linalg.norm(ours - truth, axis=1), np.linalg.norm(theirs - truth, axis=1)
    assert np.sqrt((mine**2).mean()) < np.sqrt((other**2).mean())
    assert mine.max() <= other.max()


@pytest.mark.parametrize("kind", ["hexahedra", "tetrahedra", "wedges"])
def test_cells_come_to_nodes_as_in_the_reference_library(kind):
    """VTK's filter from cells to points takes the plain mean too."""
    from vtkmodules.vtkFiltersCore import vtkCellDataToPointData

    from vtk_data import to_unstructured

    flow = cube_flow(6, kind)
    values = np.random.default_rng(1).random(flow.n_cells)
    data = to_unstructured(flow.points, flow.blocks[0].grid)
    array = numpy_to_vtk(values)
    array.SetName("c")
    data.GetCellData().AddArray(array)
    task = vtkCellDataToPointData()
    task.SetInputData(data)
    task.Update()
    ours = flow_of([(flow.points, flow.blocks[0].grid)], {"c@cell": values})
    assert np.allclose(QuantityStore(ours, ours.reference).values("file:c"), vtk_to_numpy(task.GetOutput().GetPointData().GetArray("c")))
