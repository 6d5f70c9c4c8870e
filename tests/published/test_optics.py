"""Light through flows whose sums along the sight are known in closed form; a dense march along rays as second opinion.

Definitions: Settles 2001, Schlieren and Shadowgraph Techniques. Gladstone & Dale 1863: n − 1 = K ρ.
"""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow
from shells import shell
from threads import threads
from tidal_lens.optics import projection_kernels as kernels
from tidal_lens.optics.light import Bench, across_knife, deflections, fringes, knife_edge, path, shadow, true_shadow
from tidal_lens.optics.projection import Aim, along_sight, walls_before
from tidal_lens.optics.through import seen_through
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import mesh_of

WIDTH = 0.4
UNIT = Bench(gladstone=1.0)
WAYS = [(0.0, 1.0, 0.0), (1.0, 0.6, 0.3)]


def ball(p):
    """A Gaussian ball of density: ∫ along any ray that passes its middle at a distance b is 0.5 w √π exp(−b²/w²)."""
    return 1 + 0.5 * np.exp(-(p**2).sum(axis=1) / WIDTH**2)


def given(kind, way, n=61, density=ball, columns=160):
    flow = cube_flow(n, kind, 0.04, None, -1.0, 1.0, Density=density)
    return flow, Aim.of(flow, np.array(way), columns)


def through_ball(aim):
    places = aim.places()
    off = places - (places @ aim.way)[:, None] * aim.way
    exact = 0.5 * WIDTH * np.sqrt(np.pi) * np.exp(-(off**2).sum(axis=1) / WIDTH**2)
    shape = aim.rows, aim.columns
    return exact.reshape(shape), (off @ aim.right).reshape(shape), (off @ aim.up).reshape(shape)


def open_to(aim):
    return np.full((aim.rows, aim.columns), np.inf)


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("kind", ["structured", "tetrahedra", "wedges"])
def test_a_gaussian_ball_delays_and_bends_light_as_it_should(kind, way):
    flow, aim = given(kind, way)
    density = flow.fields["Density"].values
    exact, x, y = through_ball(aim)
    assert np.abs(path(flow, density, aim, open_to(aim), replace(UNIT, around=1.0)) - exact).max() < 0.01 * exact.max()
    bent = deflections(flow, density, aim, open_to(aim), UNIT)
    for own, off in ((bent[:, :, 0], x), (bent[:, :, 1], y)):
        true = -2 * off / WIDTH**2 * exact
        assert np.abs(own - true).max() < 0.02 * np.abs(true).max(), "gradients err a little more than values"


def test_the_error_falls_at_second_order():
    errors = []
    for n in (21, 41):
        flow, aim = given("structured", WAYS[1], n)
        late = path(flow, flow.fields["Density"].values, aim, open_to(aim), replace(UNIT, around=1.0))
        errors.append(np.abs(late - through_ball(aim)[0]).max())
    assert np.log2(errors[0] / errors[1]) > 1.8


def test_the_shadow_of_a_ball_is_the_laplacian_of_its_delay():
    flow, aim = given("structured", WAYS[0])
    own = shadow(flow, QuantityStore(flow, flow.reference).values("density-laplacian"), aim, open_to(aim), UNIT)
    exact, x, y = through_ball(aim)
    true = -(4 * (x * x + y * y) / WIDTH**4 - 4 / WIDTH**2) * exact
    inner = np.hypot(x, y) < 0.8
    assert np.abs(own - true)[inner].max() < 0.03 * np.abs(true).max()


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_a_wedge_of_density_bends_all_light_alike(kind):
    """ρ = 2 + 0.3 z through a depth of 2: bent upwards by 0.6 K, exactly."""
    flow, aim = given(kind, (0.0, 1.0, 0.0), 17, lambda p: 2 + 0.3 * p[:, 2])
    bent = deflections(flow, flow.fields["Density"].values, aim, open_to(aim), Bench(gladstone=0.01))
    assert bent[:, :, 1] == pytest.approx(0.006, rel=1e-6)
    assert np.abs(bent[:, :, 0]).max() < 1e-9
    edge = [across_knife(flow, flow.fields["Density"].values, aim, open_to(aim), Bench(gladstone=0.01, knife=k)) for k in (0.0, 90.0, 30.0)]
    right, up, slanted = edge
    assert np.array_equal(right, bent[:, :, 0])
    assert np.array_equal(up, bent[:, :, 1])
    assert slanted == pytest.approx(np.cos(np.pi / 6) * right + 0.5 * up)
    light = knife_edge(up, Bench(strength=0.012))
    assert light == pytest.approx(0.75, rel=1e-6), "half of what the edge shows as full light"
    assert knife_edge(right, Bench(strength=0.012)) == pytest.approx(0.5)
    assert knife_edge(-up, Bench(strength=0.012), dark=True) == pytest.approx(0.5), "dark field: either way"
    far = true_shadow(bent, aim, open_to(aim), Bench(distance=10 * aim.pixel / 0.006))
    assert far[15:-5] == pytest.approx(1.0), "all rays go ten rows up"
    assert not far[:9].any()


def test_fringes_of_a_slab_are_counted():
    """A slab of Δρ = 1 and depth 2 with K = 1e-3 delays by 2e-3: four waves of 5e-4; the slope across gives one fringe a wave."""
    bench = Bench(gladstone=1e-3, wavelength=5e-4)
    flow, aim = given("structured", (0.0, 1.0, 0.0), 21, lambda p: 1 + 0.5 * (p[:, 0] + 1))
    late = path(flow, flow.fields["Density"].values, aim, open_to(aim), replace(bench, around=1.0))
    light = fringes(late, bench)[aim.rows // 2]
    assert late[0, -1] == pytest.approx(2e-3, rel=0.01)
    dark = (light[1:-1] < light[:-2]) & (light[1:-1] <= light[2:]) & (light[1:-1] < 0.1)
    assert dark.sum() == 4


@pytest.mark.parametrize("kind", ["structured", "tetrahedra", "wedges", "pyramids"])
def test_sums_means_and_extremes_agree_with_a_dense_march(kind):
    """Second opinion: 400 places along each of some rays, interpolated on the mesh."""
    def field(p):
        return np.sin(3 * p[:, 0]) + p[:, 1] * p[:, 2] + 2

    flow = cube_flow(15, kind, 0.0, None, -1.0, 1.0, f=field)
    values = flow.fields["f"].values
    aim = Aim.of(flow, np.array([1.0, 0.6, 0.3]), 40)
    some = aim.places().reshape(aim.rows, aim.columns, 3)[aim.rows // 4::7, aim.columns // 4::9][:3, :3].reshape(-1, 3)
    rows = np.arange(aim.rows)[aim.rows // 4::7][:3]
    columns = np.arange(aim.columns)[aim.columns // 4::9][:3]
    depths = np.linspace(-4.5, 0.5, 4001)
    for at, place in enumerate(some):
        stencil, inside = mesh_of(flow).locate(place + depths[:, None] * aim.way, slack=0.0)
        own = stencil.apply(values)[inside]
        length = inside.sum() * (depths[1] - depths[0])
        row, column = rows[at // len(columns)], columns[at % len(columns)]
        told = {name: seen_through(flow, values, name, aim, open_to(aim))[row, column]
                for name in ("sum", "mean", "greatest", "least", "attenuation")}
        assert told["mean"] == pytest.approx(own.mean(), rel=0.01)
        assert told["sum"] == pytest.approx(own.mean() * length, rel=0.01)
        assert told["greatest"] == pytest.approx(own.max(), abs=0.02)
        assert told["least"] == pytest.approx(own.min(), abs=0.02)
        assert told["attenuation"] == pytest.approx(np.exp(-told["sum"]))


def test_the_length_through_a_cube_is_exact_whatever_the_cells():
    for kind in ("structured", "tetrahedra", "wedges", "pyramids"):
        flow = cube_flow(9, kind, 0.0, None, -1.0, 1.0, one=lambda p: p[:, 0])
        aim = Aim.of(flow, np.array([1.0, 0.6, 0.3]), 80)
        own = along_sight(flow, np.ones((flow.n_points, 1)), aim, open_to(aim))[:, :, 0]
        low, high = (-1 - aim.places()) / aim.way, (1 - aim.places()) / aim.way
        exact = np.maximum(np.maximum(low, high).min(axis=1) - np.minimum(low, high).max(axis=1), 0).reshape(own.shape)
        assert own == pytest.approx(exact, abs=2e-6)


def test_nothing_is_lost_where_cells_are_smaller_than_pixels():
    flow = cube_flow(41, "structured", 0.0, None, -1.0, 1.0, one=lambda p: p[:, 0])
    aim = Aim.of(flow, np.array([0.2, 1.0, 0.1]), 20)
    own = along_sight(flow, np.ones((flow.n_points, 1)), aim, open_to(aim))[:, :, 0]
    assert own.sum() * aim.pixel**2 == pytest.approx(8.0, rel=0.02), "the volume of the cube, but for the rim"


def test_walls_hide_what_is_behind_them():
    """In a shell round a ball of radius 1, out to 1.3, a ray through the middle meets only the near side."""
    flow = shell(25)
    aim = Aim.of(flow, np.array([0.0, 1.0, 0.0]), 60)
    walls = walls_before(flow, aim)
    own = seen_through(flow, np.ones(flow.n_points), "sum", aim, walls)
    row, column = aim.rows // 2, aim.columns // 2
    assert walls[row, column] == pytest.approx(-1.0, abs=0.01)
    assert own[row, column] == pytest.approx(0.3, abs=0.01)
    through = seen_through(flow, np.ones(flow.n_points), "sum", aim, open_to(aim))
    assert through[row, column] == pytest.approx(0.6, abs=0.02)


def test_the_number_of_threads_changes_nothing():
    flow, aim = given("tetrahedra", WAYS[1], 21)
    values = flow.fields["Density"].values[:, None]
    told = set()
    for count in (1, 2, 5):
        with threads(count):
            told.add(along_sight(flow, values, aim, open_to(aim)).tobytes())
    assert len(told) == 1


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_the_quick_look_is_about_the_true_one(kind):
    flow, aim = given(kind, WAYS[1], 41, columns=60)
    density = flow.fields["Density"].values
    true = deflections(flow, density, aim, open_to(aim), UNIT)
    quick = deflections(flow, density, aim, open_to(aim), UNIT, quick=True)
    assert quick.sum() == pytest.approx(true.sum(), abs=1e-3 * np.abs(true).sum())
    assert np.abs(quick - true).max() < 0.1 * np.abs(true).max()
    half = np.where(np.arange(aim.columns)[None] < aim.columns / 2, -1e9, np.inf) + np.zeros((aim.rows, 1))
    assert not deflections(flow, density, aim, half, UNIT, quick=True)[:, :aim.columns // 2 - 8].any(), "walls hide what is behind them"


@pytest.mark.parametrize("kind", ["structured", "tetrahedra"])
def test_the_quick_look_at_any_quantity_is_about_the_true_one(kind):
    flow, aim = given(kind, WAYS[1], 41, columns=60)
    density = flow.fields["Density"].values
    for name, off in (("sum", 0.03), ("mean", 0.03), ("attenuation", 0.1), ("greatest", 0.1), ("least", 0.1)):
        true = seen_through(flow, density, name, aim, open_to(aim))
        quick = seen_through(flow, density, name, aim, open_to(aim), quick=True)
        both = np.isfinite(true) & np.isfinite(quick)
        assert both.mean() > 0.5
        assert np.median(np.abs(quick - true)[both]) < off * np.nanmax(np.abs(true)), name


def test_what_only_says_how_light_is_looked_at_needs_no_rays_again(monkeypatch):
    flow, aim = given("structured", WAYS[1], 21, columns=40)
    density = flow.fields["Density"].values
    cast = []
    monkeypatch.setattr(kernels, "deposit", lambda *a, own=kernels.deposit: (cast.append(0), own(*a)))
    bent = deflections(flow, density, aim, open_to(aim), UNIT)
    once = len(cast)
    assert once
    assert np.array_equal(deflections(flow, density, aim, open_to(aim), replace(UNIT, gladstone=2.0)), 2.0 * bent)
    assert len(cast) == once
    hidden = deflections(flow, density, aim, np.full((aim.rows, aim.columns), -1e9), UNIT)
    assert not hidden.any(), "other walls, another picture"
    assert len(cast) > once
    turned = Aim.of(flow, -np.array(WAYS[1]), 40)
    assert not np.array_equal(deflections(flow, density, turned, open_to(turned), UNIT), bent), "another sight, another picture"


def test_the_shock_round_a_ball_stands_where_a_slice_through_it_shows_it():
    """A density that jumps on a sphere of radius 0.6: its rim in the picture, where light is bent most, has that radius."""
    flow, aim = given("tetrahedra", WAYS[0], 61, lambda p: 1 + 0.5 / (1 + np.exp((np.linalg.norm(p, axis=1) - 0.6) / 0.02)), 200)
    bent = deflections(flow, flow.fields["Density"].values, aim, open_to(aim), UNIT)
    _, x, y = through_ball(aim)
    row = aim.rows // 2
    right = np.where(x[row] > 0.2, np.abs(bent[row, :, 0]), 0.0)
    assert x[row, right.argmax()] == pytest.approx(0.6, abs=2 / 60), "within a cell"
    assert abs(y[row, 0]) < aim.pixel
