"""Wall shear, skin friction, heat flux, wall distance, stream functions and derivatives in time on exact flows.

Sources: Schlichting, Boundary-Layer Theory (Blasius' flat plate: cf √Re_x = 0.664; plane Poiseuille and Couette flow);
Lamb, Hydrodynamics (stream functions of the cylinder in a stream and of pipe flow).
"""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial import Delaunay
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonCore import reference, vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkCellLocator, vtkPolyData

from making import cells_of, cube_flow, cube_points, flow_of
from plates import bed, blasius, plate, with_wall
from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.grid import TETRA, StructuredGrid, UnstructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.quantities.gradients import block_gradient
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.store import QuantityStore

KINDS = ["structured", "hexahedra", "tetrahedra", "wedges"]


@pytest.mark.parametrize("kind", KINDS)
def test_plane_poiseuille_flow(kind):
    """τw = 2 μ Umax / h for u = Umax (1 − (1 − z/h)²) (Schlichting, ch. 5)."""
    top, h, mu, rho = 3.0, 1.0, 0.02, 1.5
    flow = cube_flow(9, kind, velocity=lambda p: np.column_stack([top * (1 - (1 - p[:, 2] / h) ** 2), 0 * p[:, 0], 0 * p[:, 0]]),
                     Density=lambda p: np.full(len(p), rho))
    flow = with_wall(flow, bed)
    store = QuantityStore(flow, ReferenceState(density=rho, velocity=(top, 0, 0), viscosity=mu))
    on = bed(flow.points)
    tau = store.values("wall-shear")
    assert np.isnan(tau[~on]).all()
    assert np.allclose(tau[on], [2 * mu * top / h, 0, 0], rtol=1e-6, atol=1e-9)
    assert np.allclose(store.values("skin-friction")[on], 2 * mu * top / h / (0.5 * rho * top**2), rtol=1e-6)
    assert np.allclose(store.values("wall-normal")[on], [0, 0, 1])
    assert np.allclose(store.values("first-height")[on], 1 / 8)
    speed = np.sqrt(2 * mu * top / h / rho)
    assert np.allclose(store.values("friction-velocity")[on], speed, rtol=1e-6)
    assert np.allclose(store.values("y-plus")[on], rho * speed / 8 / mu, rtol=1e-6)
    assert np.allclose(store.values("wall-distance"), flow.points[:, 2])
    described = store.describe("y-plus")
    assert (described.place, described.made) == ("wall", "on walls")
    assert store.distribution("y-plus").not_finite == 0


def test_couette_flow_conducts_heat():
    """q = k dT/dn with k = μ cp / Pr in a layer whose temperature rises evenly (Schlichting, ch. 12)."""
    flow = cube_flow(7, "tetrahedra", velocity=lambda p: np.column_stack([p[:, 2], 0 * p[:, 0], 0 * p[:, 0]]),
                     Temperature=lambda p: 300 + 40 * p[:, 2])
    flow = with_wall(flow, bed)
    store = QuantityStore(flow, ReferenceState(viscosity=1.8e-5, gas_constant=287.0, prandtl=0.7))
    cp = 1.4 / 0.4 * 287.0
    assert np.allclose(store.values("heat-flux")[bed(flow.points)], 40 * 1.8e-5 * cp / 0.7)


@pytest.mark.parametrize(("kind", "within"), [("structured", 0.01), ("hexahedra", 0.02)])
def test_the_flat_plate_of_blasius(kind, within):
    """cf = 0.664 / √Re_x on a stretched grid, from x = 0.5 to 1.5 (Schlichting, ch. 7)."""
    assert blasius()(12)[1] == pytest.approx(1.0, abs=1e-4)
    nu, stream, rho = 1e-4, 2.0, 1.2
    flow = plate(kind)
    points, xx = flow.points, flow.points[:, 0]
    store = QuantityStore(flow, ReferenceState(density=rho, velocity=(stream, 0, 0), viscosity=rho * nu))
    on = bed(points) & (xx > 0.55) & (xx < 1.45)
    wanted = 0.6641 / np.sqrt(stream * xx[on] / nu)
    assert np.abs(store.values("skin-friction")[on] / wanted - 1).max() < within


def test_the_distance_from_a_round_wall():
    """To the flat faces of a cylinder of radius 1: within the depth of its chords of r − 1 (common practice, no source)."""
    n = 73
    r, a, z = np.linspace(1, 4, 12), np.linspace(0, 2 * np.pi, n), np.linspace(0, 1, 4)
    zz, aa, rr = (q.ravel() for q in np.meshgrid(z, a, r, indexing="ij"))
    points = np.column_stack([rr * np.cos(aa), rr * np.sin(aa), zz])
    flow = flow_of([(points, StructuredGrid((12, n, 4)))], {"Velocity": points})
    flow = with_wall(flow, lambda p: np.abs(np.hypot(p[..., 0], p[..., 1]) - 1) < 1e-9)
    sag = 1 - np.cos(np.pi / (n - 1))
    found = QuantityStore(flow, flow.reference).values("wall-distance")
    assert (found >= rr - 1 - 1e-9).all()
    assert (found <= rr - 1 + sag + 1e-9).all()


def test_the_distance_from_walls_of_very_different_faces():
    """VTK's cell locator as second opinion, on a mesh whose faces differ in length by hundreds: the nearest point is far from all nodes."""
    rng = np.random.default_rng(11)
    points = np.concatenate([rng.uniform(-1, 1, (150, 3)), 0.01 * rng.normal(size=(150, 3)) + 0.9])
    corners = Delaunay(points).simplices
    volumes = np.einsum("ij,ij->i", np.cross(points[corners[:, 1]] - points[corners[:, 0]], points[corners[:, 2]] - points[corners[:, 0]]),
                        points[corners[:, 3]] - points[corners[:, 0]])
    corners[volumes < 0] = corners[volumes < 0][:, [1, 0, 2, 3]]
    corners = corners[np.abs(volumes) > 1e-12]
    grid = UnstructuredGrid(len(points), np.ascontiguousarray(corners[:, [0, 1, 2, 2, 3, 3, 3, 3]], np.int32),
                            np.full(len(corners), TETRA, np.uint8))
    flow = with_wall(flow_of([(points, grid)], {"Velocity": points}), lambda p: np.ones(p.shape[:-1], bool))
    found = QuantityStore(flow, flow.reference).values("wall-distance")

    surface, holder, polygons = vtkPolyData(), vtkPoints(), vtkCellArray()
    holder.SetData(numpy_to_vtk(points))
    for face in flow.outside.faces:
        polygons.InsertNextCell(3, [int(k) for k in face[:3]])
    surface.SetPoints(holder)
    surface.SetPolys(polygons)
    locator = vtkCellLocator()
    locator.SetDataSet(surface)
    locator.BuildLocator()
    cell, part, squared, at = reference(0), reference(0), reference(0.0), [0.0, 0.0, 0.0]
    for n, p in enumerate(points):
        locator.FindClosestPoint(p, at, cell, part, squared)
        assert found[n] == pytest.approx(np.sqrt(squared.get()), abs=1e-9)
    assert (found > 0).sum() > 60


def test_without_walls_or_viscosity_it_is_said():
    flow = cube_flow(4, velocity=lambda p: p)
    assert QuantityStore(flow, flow.reference).describe("skin-friction").missing == "viscosity, walls, free stream"
    flow = with_wall(flow, bed, "symmetry")
    with pytest.raises(MissingQuantityError, match="needs viscosity, walls"):
        QuantityStore(flow, flow.reference).values("wall-shear")


# -- stream functions ------------------------------------------------------------------------------------------


def layer(points2, dims, velocity):
    """One layer of cells in the x-y plane."""
    n = len(points2)
    points = np.vstack([np.column_stack([points2, np.full(n, h)]) for h in (0.0, 0.1)])
    flow = flow_of([(points, StructuredGrid((*dims, 2)))], {"Velocity": np.vstack([velocity, velocity])})
    return replace(flow, normal=(0.0, 0.0, 1.0), depth=0.1)


def ring(n=61):
    a, r = (q.ravel() for q in np.meshgrid(np.linspace(0.02, np.pi - 0.02, n), np.linspace(1, 4, n), indexing="ij"))
    return r * np.cos(a), r * np.sin(a), (n, n)


def test_stream_function_of_a_cylinder_in_a_stream():
    """ψ = U (r − a²/r) sin θ (Lamb, Hydrodynamics, art. 68)."""
    x, y, dims = ring()
    r2 = x**2 + y**2
    velocity = 2.0 * np.column_stack([1 - (x**2 - y**2) / r2**2, -2 * x * y / r2**2, 0 * x])
    flow = layer(np.column_stack([x, y]), dims, velocity)
    found = QuantityStore(flow, flow.reference).values("stream-function")[: len(x)]
    wanted = 2.0 * (1 - 1 / r2) * y
    assert np.abs((found - found.min()) - (wanted - wanted.min())).max() < 0.004 * np.ptp(wanted)


@pytest.mark.parametrize("axis", [(1.0, 0.0, 0.0), (-1.0, 0.0, 0.0)])
def test_stokes_stream_function_of_pipe_flow(axis):
    """Ψ = U (r²/2 − r⁴/4R²) for u = U (1 − r²/R²) (Lamb, Hydrodynamics; Hagen and Poiseuille)."""
    n = 41
    y, x = (q.ravel() for q in np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 2, 9), indexing="ij"))
    flow = layer(np.column_stack([x, y]), (9, n), np.column_stack([3 * (1 - y**2), 0 * x, 0 * x]))
    store = QuantityStore(flow, flow.reference, Methods(axis=axis))
    found = store.values("stokes-stream-function")[: len(x)]
    wanted = 3 * (y**2 / 2 - y**4 / 4) * axis[0]
    assert np.abs(found - (wanted - wanted.min())).max() < 1e-3
    across = QuantityStore(flow, flow.reference, Methods(axis=(0, 0, 1)))
    with pytest.raises(MissingQuantityError, match="does not lie in the plane"):
        across.values("stokes-stream-function")


def test_a_stream_function_is_of_plane_flows_only():
    flow = cube_flow(4, velocity=lambda p: p)
    assert QuantityStore(flow, flow.reference).describe("stream-function").missing == "plane flow"


# -- time ------------------------------------------------------------------------------------------------------


def moments(times, field):
    """A store for each step of a series on one mesh."""
    points = cube_points(5)
    grid = StructuredGrid((5, 5, 5))
    stores = {}

    def store(step, reference, methods):
        if step not in stores:
            flow = flow_of([(points, grid)], field(points, times[step]))
            stores[step] = QuantityStore(replace(flow, times=times, step=step), reference, methods, moments=store)
        return stores[step]

    return [store(n, ReferenceState(), Methods()) for n in range(len(times))]


def test_derivatives_in_time_are_exact_for_parabolas_on_uneven_steps():
    times = (0.0, 0.3, 1.0, 1.2)
    stores = moments(times, lambda p, t: {"Velocity": np.outer(1 + t + 2 * t**2, [1.0, 0, 0]) * np.ones((len(p), 1)),
                                          "Pressure": p[:, 0] + 3 * t - t**2})
    for n, t in enumerate(times):
        assert np.allclose(stores[n].values("pressure-rate"), 3 - 2 * t), n
        assert np.allclose(stores[n].evaluate(stores[n].check("rate(velocity)")), [1 + 4 * t, 0, 0])
        assert np.allclose(stores[n].evaluate(stores[n].check("time * 2")), 2 * t)


def test_means_and_rms_over_all_steps_go_by_the_time_between_them():
    """By the trapezoid: of 1000 + 3t over uneven steps the mean is that at the middle; the same at every step; of vectors too."""
    times = (0.0, 0.3, 1.0, 1.2)
    stores = moments(times, lambda p, t: {"Velocity": np.outer(np.ones(len(p)) * t, [1.0, 2.0, 0]), "Pressure": 1000 + 3 * t + 0 * p[:, 0]})
    share = np.array([0.15, 0.5, 0.45, 0.1]) / 1.2
    t = np.array(times)
    spread = np.sqrt(share @ (t - 0.6) ** 2)
    for store in stores:
        assert np.allclose(store.evaluate(store.check("mean_over_time(pressure)")), 1001.8, rtol=1e-12)
        assert np.allclose(store.evaluate(store.check("rms_over_time(pressure)")), 3 * spread, rtol=1e-9)
        assert np.allclose(store.evaluate(store.check("mean_over_time(velocity)")), [0.6, 1.2, 0.0])
    alone = QuantityStore(cube_flow(4, velocity=lambda p: p), ReferenceState(), Methods(formulas=(("m", "mean_over_time(speed)"),)))
    assert alone.describe("formula:m").missing == "a time series"


def test_what_moves_with_the_flow_does_not_change_along_its_path():
    """p = g(x − c t) in a stream of speed c: Dp/Dt = 0 while ∂p/∂t is not; an even turning accelerates towards its axis."""
    times, c = (0.0, 0.01, 0.02), 2.0
    stores = moments(times, lambda p, t: {"Velocity": np.tile([c, 0.0, 0.0], (len(p), 1)), "Pressure": 5 * (p[:, 0] - c * t)})
    assert np.allclose(stores[1].values("pressure-rate"), -10.0)
    assert np.allclose(stores[1].values("pressure-rate-moving"), 0.0, atol=1e-9)
    stores = moments(times, lambda p, _t: {"Velocity": np.cross([0.0, 0.0, 3.0], p)})
    assert np.allclose(stores[0].values("acceleration"), 9 * np.hypot(*stores[0].flow.points[:, :2].T))


def test_two_steps_give_a_line_and_a_moving_mesh_is_refused():
    stores = moments((1.0, 3.0), lambda p, t: {"Velocity": p, "Pressure": np.full(len(p), 4 * t)})
    assert np.allclose(stores[0].values("pressure-rate"), 4.0)
    stores = moments((1.0, 3.0), lambda p, t: {"Velocity": p, "Pressure": np.full(len(p), 4 * t)})
    stores[1].flow.points[0, 0] += 0.1
    stores[0].flow.__dict__["points"] = cube_points(5)
    with pytest.raises(MissingQuantityError, match="mesh that does not move"):
        stores[0].values("pressure-rate")


# -- order -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("warp", [0.0, 0.04])
def test_fourth_order_differences_are_of_fourth_order(warp):
    """Errors fall by 2⁴ with half the spacing where grid and field are smooth, at the ends too."""
    wrong = []
    for n in (17, 33):
        p = cube_points(n, warp)
        grad = block_gradient(StructuredGrid((n, n, n)), p, np.sin(3 * p[:, 0]) * np.cos(2 * p[:, 1]) + p[:, 2] ** 2, fourth_order=True)
        exact = np.column_stack([3 * np.cos(3 * p[:, 0]) * np.cos(2 * p[:, 1]), -2 * np.sin(3 * p[:, 0]) * np.sin(2 * p[:, 1]),
                                 2 * p[:, 2]])
        wrong.append(np.abs(grad[:, 0] - exact).max())
    assert np.log2(wrong[0] / wrong[1]) > 3.3
    assert wrong[1] < 2e-4


@pytest.mark.parametrize("n", [2, 3, 4, 5, 6])
def test_short_lines_get_what_they_allow(n):
    p = cube_points(n)
    power = min(n - 1, 4) if n != 4 else 2
    grad = block_gradient(StructuredGrid((n, n, n)), p, p[:, 0] ** power, fourth_order=True)
    assert np.allclose(grad[:, 0, 0], power * p[:, 0] ** (power - 1) if power > 1 else 1.0)


def test_the_choice_reaches_what_is_derived():
    flow = cube_flow(12, velocity=lambda p: np.column_stack([np.sin(4 * p[:, 1]), 0 * p[:, 0], 0 * p[:, 0]]))
    wanted = -4 * np.cos(4 * flow.points[:, 1])
    robust, fine = (QuantityStore(flow, flow.reference, Methods(fourth_order=f)) for f in (False, True))
    assert np.abs(fine.values("vorticity-z") - wanted).max() < 0.2 * np.abs(robust.values("vorticity-z") - wanted).max()
    taken = robust.with_context(flow.reference, Methods(fourth_order=True))
    assert taken.kept("vorticity-z") is None
    assert np.allclose(taken.values("vorticity-z"), fine.values("vorticity-z"))
    for name in ("vorticity-z", "lambda2", "divergence", "helicity", "q"):
        assert (robust.describe(name).made, fine.describe(name).made) == ("node values", "node values, fourth order")
    assert fine.describe("speed").made == "node values"
    hexahedra = QuantityStore(cube_flow(5, "hexahedra"), flow.reference, Methods(fourth_order=True))
    assert hexahedra.describe("q").made == "node values"  # there is no such choice on unstructured blocks


@pytest.mark.parametrize("kind", ["structured", "hexahedra", "tetrahedra"])
@pytest.mark.parametrize("averaging", ["count", "volume", "distance"])
def test_cells_come_to_nodes_by_the_chosen_mean(kind, averaging):
    """A constant stays; a linear field is met inside an even mesh; the mean over the volume is that of the cells."""
    n = 7
    grid = StructuredGrid((n, n, n)) if kind == "structured" else UnstructuredGrid(n**3, *cells_of(kind, n))
    p = cube_points(n)
    corners = grid.corners if kind != "structured" else cells_of("hexahedra", n)[0]
    middle = p[corners[:, [0, 1, 2, 4]] if kind == "tetrahedra" else corners].mean(axis=1)
    flow = flow_of([(p, grid)], {"one@cell": np.full(len(corners), 2.5), "line@cell": middle @ [1.0, 2.0, -1.0]})
    store = QuantityStore(flow, flow.reference, Methods(averaging=averaging))
    assert np.allclose(store.values("file:one"), 2.5)
    inside = ((p > 0.2) & (p < 0.8)).all(axis=1)
    assert np.allclose(store.values("file:line")[inside], (p @ [1.0, 2.0, -1.0])[inside], atol=0.06 if kind == "tetrahedra" else 1e-9)
    assert store.describe("file:one").made == {"count": "cell values, plain mean", "volume": "cell values, weighted by volume",
                                               "distance": "cell values, weighted by nearness"}[averaging]
