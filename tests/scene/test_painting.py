"""Painter are painted by our own kernels; the drawing library is the second opinion, pixel by pixel."""

from dataclasses import replace

import numpy as np
import pytest

from tidal_lens.scene import canvas as canvases
from tidal_lens.scene import painting
from tidal_lens.scene.camera import first_camera
from tidal_lens.scene.canvas import Canvas
from tidal_lens.scene.painting import can_paint, doubled, is_compiled
from tidal_lens.scene.scene import BallsItem, ColourMap, LinesItem, Scene, SurfaceItem
from tidal_lens.warm import PARTS

LOW, HIGH = np.full(3, -1.0), np.full(3, 1.0)
CAMERA = first_camera(LOW, HIGH, 1.5)
SIZE = 600, 400
N = 25
Y, X = (a.ravel() for a in np.mgrid[-1:1:N * 1j, -1:1:N * 1j])
QUADS = np.array([[N * j + i, N * j + i + 1, N * j + i + N + 1, N * j + i + N] for j in range(N - 1) for i in range(N - 1)])
TRIANGLES = np.concatenate([QUADS[:, [0, 1, 2, 2]], QUADS[:, [0, 2, 3, 3]]])
TABLE = np.linspace([10, 60, 200, 255], [250, 160, 20, 255], 512).astype(np.uint8)


def sheet(height, values=None, colours=None, **other):
    said = {"colour": "#C04020", "opacity": 1.0, "mesh_lines": False, "shaded": False, **other}
    return SurfaceItem(said.pop("id", "sheet"), np.column_stack([X, Y, np.broadcast_to(height, X.shape)]), said.pop("faces", QUADS), values,
                       colours, **said)


HILL = 0.8 * np.cos(2 * X) * np.cos(2 * Y)


def both(monkeypatch, items, camera=CAMERA, *, draft=True, **other):
    """(pixels, depths) as painted here, and as the library draws them."""
    scene = Scene(items, "#F4F1E8", LOW, HIGH, **other)
    drawn = []
    for ours in (True, False):
        canvas = Canvas()
        if not ours:
            monkeypatch.setattr(canvases, "can_paint", lambda _items: False)
        drawn.append([a.copy() for a in canvas.draw(scene, camera, *SIZE, 1.0, draft=draft)])
        assert ("_library" in vars(canvas)) is not ours
        canvas.close()
        monkeypatch.undo()
    return drawn


def differ(ours, true, by=6):
    """Shares of pixels whose colours and whose depths differ."""
    colours = (np.abs(ours[0][..., :3].astype(int) - true[0][..., :3]).max(axis=-1) > by).mean()
    there = np.isfinite(true[1])
    assert (true[0] != true[0][0, 0]).any(axis=-1).mean() > 0.005, "something is seen"
    if not there.any():  # the library tells no depths of what is seen through
        return colours, 0.0
    depths = (np.isfinite(ours[1]) != there).mean() + (np.abs(ours[1][there] - true[1][there]) > 2e-3).mean()
    return colours, depths


VALUES = X + 0.3 * np.sin(5 * Y)
SURFACES = {
    "plain": sheet(HILL),
    "lit": sheet(HILL, shaded=True),
    "triangles, lit": sheet(HILL, shaded=True, faces=TRIANGLES),
    "coloured": sheet(HILL, VALUES, ColourMap(TABLE, -0.8, 0.9)),
    "coloured and lit": sheet(HILL, VALUES, ColourMap(TABLE, -0.8, 0.9), shaded=True),
    "grey beyond": sheet(HILL, VALUES, ColourMap(TABLE, -0.5, 0.5, beyond="grey")),
    "hidden beyond": sheet(0.1, VALUES, ColourMap(TABLE, -0.5, 0.5, beyond="hidden")),
    "logarithmic": sheet(HILL, np.exp(3 * VALUES), ColourMap(TABLE, 0.2, 9.0, log=True)),
    "without values here and there": sheet(HILL, np.where(X > 0.51, np.nan, VALUES), ColourMap(TABLE, -0.8, 0.9)),
    "seen through": sheet(-0.2, opacity=0.4),
    "of one colour": sheet(HILL, VALUES, ColourMap(np.tile(TABLE[:1], (512, 1)), 0.0, 0.0)),
}


@pytest.mark.parametrize("name", SURFACES)
@pytest.mark.parametrize("camera", [CAMERA, CAMERA.toggled()], ids=["perspective", "parallel"])
def test_surfaces(monkeypatch, name, camera):
    colours, depths = differ(*both(monkeypatch, (SURFACES[name],), camera))
    assert colours < 2e-3
    assert depths < 2e-3


@pytest.mark.parametrize("name", SURFACES)
def test_surfaces_at_rest(monkeypatch, name):
    colours, depths = differ(*both(monkeypatch, (SURFACES[name],), draft=False))
    assert colours < 2e-3
    assert depths < 2e-3


PANES = (sheet(0.6 * X, id="rising", opacity=0.4, colour="#2040C0"), sheet(-0.6 * X, id="falling", opacity=0.6, colour="#C0A020"),
         sheet(HILL, id="hill", opacity=0.3, shaded=True), sheet(-0.3, VALUES, ColourMap(TABLE, -0.5, 0.5, beyond="hidden"), id="holed",
                                                                 opacity=0.5), sheet(0.5 * Y, id="wall", colour="#209040"))


@pytest.mark.parametrize("camera", [CAMERA, CAMERA.toggled()], ids=["perspective", "parallel"])
def test_what_is_seen_through_is_sorted_pixel_by_pixel(monkeypatch, camera):
    """Panes that go through one another and through a wall: whatever their order, as the library has them."""
    ours, true = both(monkeypatch, PANES, camera, draft=False)
    assert differ(ours, true)[0] < 4e-3
    again, _ = both(monkeypatch, PANES[::-1], camera, draft=False)
    assert differ(ours, again, 2)[0] < 2e-3
    draft, _ = both(monkeypatch, PANES, camera)
    enlarged = doubled(draft[0], SIZE[1], SIZE[0])
    assert (np.abs(enlarged[..., :3].astype(int) - ours[0][..., :3]).max(axis=-1) > 40).mean() < 0.02, "a draft has them in order too"


@pytest.mark.parametrize(("count", "most"), [(3, 3_000_000), (60, 3_000_000), (60, 90_000)])
def test_many_panes_one_behind_another(monkeypatch, count, most):
    """More than there was room for at first, or may be sorted at a time; seen from above what is highest comes last."""
    monkeypatch.setattr(painting, "_MOST_PUT_DOWN", most)
    heights = np.random.default_rng(count).permutation(np.linspace(-0.9, 0.9, count))
    colours = [f"#{n:02X}{255 - n:02X}80" for n in np.linspace(0, 255, count).astype(int)]
    panes = tuple(sheet(h, id=f"{n}", opacity=0.2, colour=colours[n]) for n, h in enumerate(heights))
    above = replace(CAMERA, eye=np.array([0.0, 0.0, 9.0]), focus=np.zeros(3), up=np.array([0.0, 1.0, 0.0]))
    canvas = Canvas()
    pixels, depth = canvas.draw(Scene(panes, "#F4F1E8", LOW, HIGH), above, *SIZE, 1.0, draft=False)
    expected = np.array([0xF4, 0xF1, 0xE8], float)
    for n in np.argsort(heights):
        expected += 0.2 * (np.array([int(colours[n][k:k + 2], 16) for k in (1, 3, 5)]) - expected)
    assert np.abs(pixels[SIZE[1] // 2, SIZE[0] // 2 + 7, :3] - expected).max() <= 1.0
    assert not np.isfinite(depth).any(), "the place that is pointed at is not that of a pane"


def test_the_library_is_let_go_of_when_it_is_not_needed_any_more():
    canvas = Canvas()
    glass, wall = (Scene((one,), "#F4F1E8", LOW, HIGH) for one in (replace(SURFACES["seen through"], mesh_lines=True), SURFACES["lit"]))
    first = canvas.draw(glass, CAMERA, *SIZE, 1.0, draft=False)[0].copy()
    canvas.draw(wall, CAMERA, *SIZE, 1.0, draft=True)
    assert "_library" in vars(canvas), "it may be wanted again when the drag ends"
    canvas.draw(wall, CAMERA, *SIZE, 1.0, draft=False)
    assert "_library" not in vars(canvas)
    assert (canvas.draw(glass, CAMERA, *SIZE, 1.0, draft=False)[0] == first).all()
    canvas.close()


def test_a_picture_in_parts_is_the_picture():
    way = LinesItem("way", np.array([[-0.9, -0.9, 0.1], [0.9, 0.8, 0.9]]), np.array([0, 2]), None, None, "#000000", 3.0)
    scene = Scene((SURFACES["coloured and lit"], way), "#F4F1E8", LOW, HIGH)
    for camera in (CAMERA, CAMERA.toggled()):
        canvas = Canvas()
        whole = canvas.draw(scene, camera, 1700, 900, 1.0, draft=False)
        parts = canvas.draw_large(scene, camera, 1700, 900, 1.0)
        assert "_library" not in vars(canvas)
        assert (np.abs(whole[0].astype(int) - parts[0]).max(axis=-1) > 3).mean() < 1e-4
        assert (np.isfinite(whole[1]) != np.isfinite(parts[1])).mean() < 1e-4


def test_what_is_pointed_at_is_what_the_library_finds(monkeypatch):
    t = np.linspace(-0.9, 0.9, 60)
    lines = LinesItem("lines", np.column_stack([t, 0 * t, 0.2 * t + 0.7]), np.array([0, 60]), None, None, "#101010", 5.0)
    idle = LinesItem("idle", np.column_stack([t, t, 0.0 * t + 0.9]), np.array([0, 60]), None, None, "#101010", 5.0, pickable=False)
    scene = Scene((SURFACES["lit"], sheet(-0.4, id="glass", opacity=0.4), lines, idle), "#F4F1E8", LOW, HIGH)
    places = [(x, y) for x in np.linspace(0.1, 0.9, 23) for y in np.linspace(0.1, 0.9, 17)]
    found = []
    for ours in (True, False):
        canvas = Canvas()
        if not ours:
            monkeypatch.setattr(canvases, "can_paint", lambda _items: False)
        canvas.draw(scene, CAMERA, *SIZE, 1.0, draft=True)
        found.append([canvas.item_at(x, y) for x, y in places])
        canvas.close()
    assert {"sheet", "glass", "lines", None} <= set(found[1])
    assert np.mean([a != b for a, b in zip(*found, strict=True)]) < 0.02, "but for edges"


def test_until_it_is_compiled_the_library_draws(monkeypatch):
    """At the very first start nobody waits for a compiler to see a picture."""
    there = [False]
    monkeypatch.setattr(canvases, "is_compiled", lambda: there[0])
    monkeypatch.setattr(canvases, "_PAUSE", 0.0)
    canvas = Canvas(patient=False)
    scene = Scene((SURFACES["lit"],), "#F4F1E8", LOW, HIGH)
    first = canvas.draw(scene, CAMERA, *SIZE, 1.0, draft=False)[0].copy()
    assert vars(canvas).pop("_library") is not None
    there[0] = True
    second = canvas.draw(Scene((SURFACES["lit"],), "#F4F1E8", LOW, HIGH), replace(CAMERA), *SIZE, 1.0, draft=False)[0]
    assert "_library" not in vars(canvas)
    assert (np.abs(first.astype(int) - second).max(axis=-1) > 6).mean() < 2e-3


def test_what_is_painted_with_is_compiled_beforehand():
    dict(PARTS)["painting"]()
    assert is_compiled()


def test_the_lamp_shines_from_its_side(monkeypatch):
    pictures = [both(monkeypatch, (sheet(HILL, shaded=True),), lamp=lamp) for lamp in (20.0, 200.0)]
    for ours, true in pictures:
        assert differ(ours, true)[0] < 2e-3
    assert differ(pictures[0][0], pictures[1][0], 20)[0] > 0.05


def test_from_within_and_near_the_eye_faces_are_cut_off(monkeypatch):
    large = SurfaceItem("floor", np.array([[-1.0, -1, -0.4], [1, -1, -0.4], [1, 1, -0.4], [-1, 1, -0.4]]), np.array([[0, 1, 2, 3]]),
                        np.array([0.0, 1.0, 2.0, 3.0]), ColourMap(TABLE, 0.0, 3.0), "#FFFFFF", 1.0, False, True)
    way = LinesItem("way", np.array([[-0.9, -0.9, 0.1], [0.9, 0.8, -0.2]]), np.array([0, 2]), None, None, "#000000", 4.0)
    within = replace(CAMERA, eye=np.array([0.1, -0.5, -0.2]), focus=np.array([0.0, 0.6, -0.25]))
    ours, true = both(monkeypatch, (large, way), within)
    assert np.isfinite(true[1]).mean() > 0.3
    assert max(differ(ours, true)) < 1e-2


def test_what_is_nearer_hides_the_rest_and_what_is_seen_through_comes_last(monkeypatch):
    items = (sheet(0.1, id="glass", opacity=0.5, colour="#2040C0"), sheet(HILL, shaded=True), sheet(-0.4, id="low", colour="#209040"))
    ours, true = both(monkeypatch, items)
    assert differ(ours, true)[0] < 4e-3


def test_lines_lie_before_their_surface(monkeypatch):
    ground = sheet(HILL, VALUES, ColourMap(TABLE, -0.8, 0.9))
    t = np.linspace(-0.9, 0.9, 200)
    path = np.column_stack([t, 0.5 * t, 0.8 * np.cos(2 * t) * np.cos(t)])
    for lying in (True, False):
        line = LinesItem("line", path, np.array([0, 120, 200]), None, None, "#101010", 2.0, lying=lying)
        ours, true = both(monkeypatch, (ground, line))
        dark = [(p[0][..., :3].max(axis=-1) < 40).sum() for p in (ours, true)]
        assert dark[1] > 50
        assert abs(dark[0] - dark[1]) < 0.2 * dark[1]
        assert differ(ours, true)[0] < 4e-3


def test_lines_leave_out_gaps_and_take_colours(monkeypatch):
    t = np.linspace(-0.9, 0.9, 60)
    gaps = (np.arange(60) // 6) % 2 == 1
    points = np.column_stack([t, -t, 0.2 * t])
    line = LinesItem("line", points, np.array([0, 60]), t, ColourMap(TABLE, -0.9, 0.9), "#101010", 4.0, gaps=gaps)
    ours, true = both(monkeypatch, (line, sheet(-0.9)))
    assert differ(ours, true)[0] < 2e-3
    whole, _ = both(monkeypatch, (replace(line, gaps=None), sheet(-0.9)))
    assert 80 < differ(ours, whole)[0] * ours[1].size < 300, "half of the line"


def test_balls_and_copies(monkeypatch):
    turn = np.eye(4)
    turn[:2, :2] = [[0.6, -0.8], [0.8, 0.6]]
    turn[:3, 3] = [0.1, 0.0, -0.3]
    spots = np.array([[-0.6, -0.5, 0.2], [-0.4, 0.3, 0.5], [-0.2, 0.6, -0.5]])
    radii, values = np.array([0.1, 0.2, 0.15]), np.array([0.0, 0.5, 1.0])
    some = BallsItem("balls", spots, radii, values, ColourMap(TABLE, 0.0, 1.0), "#FFFFFF", 1.0, (turn,))
    narrow = sheet(HILL).points * np.array([0.4, 1.0, 1.0]) - np.array([0.5, 0.0, 0.0])
    half = SurfaceItem("half", narrow, QUADS, None, None, "#30A0A0", 1.0, False, True, None, (turn,))
    ours, true = both(monkeypatch, (some, half))
    assert max(differ(ours, true)) < 4e-3


def test_a_mirrored_copy_is_lit_as_the_first(monkeypatch):
    mirror = np.diag([-1.0, 1.0, 1.0, 1.0])
    own = sheet(HILL, shaded=True)
    (alone, _), (twice, _) = (both(monkeypatch, (one,)) for one in (own, replace(own, copies=(mirror,))))
    assert differ(alone, twice)[0] < 2e-3, "the hill is its own mirror image"


def test_what_is_hidden_lets_what_is_behind_be_seen(monkeypatch):
    holed = sheet(-0.3, VALUES, ColourMap(TABLE, -0.5, 0.5, beyond="hidden"))
    ours, _ = both(monkeypatch, (holed, sheet(-0.4, id="low", colour="#209040")))
    green = (np.abs(ours[0][..., :3].astype(int) - [0x20, 0x90, 0x40]).max(axis=-1) < 4).mean()
    whole, _ = both(monkeypatch, (sheet(-0.3), sheet(-0.4, id="low", colour="#209040")))
    assert green > 1.2 * (np.abs(whole[0][..., :3].astype(int) - [0x20, 0x90, 0x40]).max(axis=-1) < 4).mean()


def test_what_is_not_painted_here():
    plain = sheet(0.0)
    assert can_paint((plain,))
    assert not can_paint((replace(plain, mesh_lines=True),))
    assert not can_paint((replace(plain, faces=np.repeat(QUADS, 2000, axis=0)),)), "a graphics card draws very many sooner"


def test_nothing_finite_draws_nothing(monkeypatch):
    far = sheet(np.full(len(X), np.nan), shaded=True)
    wild = sheet(np.where(X > 0, np.inf, 0.1), id="wild")
    ours, true = both(monkeypatch, (far, wild, sheet(-0.5, id="low")))
    half = ours[0][..., :3] != true[0][..., :3]
    assert half.mean() < 0.3, "and nothing breaks"


def test_a_draft_is_enlarged_smoothly():
    small = np.zeros((4, 6, 4), np.uint8)
    small[:, 3:] = 200
    small[..., 3] = 255
    out = doubled(small, 9, 13)  # one more each way than twice
    assert out.shape == (9, 13, 4)
    assert out[4, :, 0].tolist() == [0, 0, 0, 0, 0, 50, 150, 200, 200, 200, 200, 200, 200]
    assert (out[..., 3] == 255).all()


def test_the_painter_sees_new_values_of_the_same_surface(monkeypatch):
    """What was laid out is kept by what it is made of."""
    canvas = Canvas()
    ground = sheet(HILL, VALUES, ColourMap(TABLE, -0.8, 0.9))
    other = replace(ground, values=-VALUES)
    scenes = [Scene((one,), "#FFFFFF", LOW, HIGH) for one in (ground, other, ground)]
    pictures = [canvas.draw(one, CAMERA, *SIZE, 1.0, draft=True)[0].copy() for one in scenes]
    canvas.close()
    assert (pictures[0] == pictures[2]).all()
    assert (pictures[0] != pictures[1]).any(axis=-1).mean() > 0.1
