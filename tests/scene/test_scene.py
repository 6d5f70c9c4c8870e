import threading
from dataclasses import replace

import numpy as np
import pytest
from vtkmodules.vtkRenderingCore import vtkCamera

from tidal_lens.flow.periodic import turn_about
from tidal_lens.scene.camera import Camera, first_camera
from tidal_lens.scene.palettes import SIZE, from_oklab, palette, parse, to_oklab
from tidal_lens.scene.passages import box_of, shifted
from tidal_lens.scene.renderer import Listener, Renderer, prefer_headless
from tidal_lens.scene.scene import ColourMap, LinesItem, Scene, SurfaceItem

prefer_headless()
LOW, HIGH = np.zeros(3), np.ones(3)
FACES = np.array([[0, 1, 2, 3]])


def test_projection_is_that_of_the_drawing_library():
    camera = Camera(np.array([3.0, -4.0, 2.0]), np.array([0.2, 0.1, 0.0]), np.array([0.1, 0.2, 1.0]), 30.0)
    other = vtkCamera()
    other.SetPosition(*camera.eye)
    other.SetFocalPoint(*camera.focus)
    other.SetViewUp(*camera.up)
    other.SetViewAngle(camera.angle)
    m = other.GetCompositeProjectionTransformMatrix(800 / 600, -1, 1)
    matrix = np.array([[m.GetElement(i, j) for j in range(4)] for i in range(4)])
    points = np.random.default_rng(1).random((20, 3))
    clip = np.column_stack([points, np.ones(20)]) @ matrix.T
    expected = np.column_stack([(clip[:, 0] / clip[:, 3] + 1) * 400, (1 - clip[:, 1] / clip[:, 3]) * 300])
    pixels, depth = camera.project(points, 800, 600)
    assert np.abs(pixels - expected).max() < 1e-6
    for (x, y), d, p in zip(pixels, depth, points, strict=True):
        assert np.allclose(camera.at_depth(x, y, d, 800, 600), p)


def test_zoom_keeps_the_place_under_the_pointer():
    camera = first_camera(LOW, HIGH, 1.5)
    target = np.array([0.9, 0.2, 0.7])
    before, _ = camera.project(target[None], 900, 600)
    after, _ = camera.zoomed(0.4, target).project(target[None], 900, 600)
    assert np.allclose(before, after)


def test_orbit_keeps_the_pivot_and_the_horizon():
    camera = first_camera(LOW, HIGH, 1.5)
    pivot = np.array([0.9, 0.2, 0.7])
    turned = camera.orbited(0.7, 0.3, pivot)
    assert np.linalg.norm(turned.eye - pivot) == pytest.approx(np.linalg.norm(camera.eye - pivot))
    assert turned.basis()[0][2] == pytest.approx(0)
    over = camera.orbited(0, 9, pivot)
    assert np.isfinite(over.basis()[0]).all()


def test_framing_brings_all_into_the_picture_at_any_shape():
    for aspect in (0.4, 1.0, 3.0):
        camera = first_camera(LOW, np.array([5.0, 1.0, 0.3]), aspect)
        corners = np.array([[x, y, z] for x in (0, 5) for y in (0, 1) for z in (0, 0.3)])
        pixels, depth = camera.project(corners, 300 * aspect, 300)
        assert depth.min() > 0
        assert pixels.min() >= 0
        assert (pixels <= [300 * aspect, 300]).all()


def light(table):
    return to_oklab(table[:, :3] / 255.0)[:, 0]


def test_palettes_are_even_and_break_where_they_should():
    assert np.allclose(from_oklab(to_oklab(np.array([parse("#0E6E7E")]))), parse("#0E6E7E"), atol=1e-6)
    even = light(palette("even", 0, 1))
    assert (np.diff(even) > -2e-3).all(), "lightness rises all the way: readable in grey and for the colour-blind"
    assert even[-1] - even[0] > 0.6
    signed = light(palette("signed", -1, 1))
    assert signed.argmax() == pytest.approx(SIZE / 2, abs=2)
    lopsided = light(palette("signed", -1, 3))
    assert lopsided.argmax() == pytest.approx(SIZE / 4, abs=2)
    mach = palette("mach", 0, 2)[:, :3].astype(int)
    jumps = np.abs(np.diff(mach, axis=0)).sum(axis=1)
    assert jumps.argmax() == SIZE // 2 - 1, "the palette breaks at exactly 1"
    assert jumps.max() > 5 * np.sort(jumps)[-2]


def test_bands_and_the_other_way_round():
    table = palette("even", 0.0, 1.0, 4)
    edges = np.flatnonzero(np.abs(np.diff(table[:, :3].astype(int), axis=0)).sum(axis=1))
    assert edges.tolist() == [SIZE // 4 - 1, SIZE // 2 - 1, 3 * SIZE // 4 - 1]
    assert np.array_equal(palette("even", 0, 1, flipped=True), palette("even", 0, 1)[::-1])
    lopsided = palette("signed", -1.0, 3.0, flipped=True)
    assert light(lopsided).argmax() == pytest.approx(SIZE / 4, abs=2), "it is pale at zero all the same"
    assert np.array_equal(palette("mach", 0, 2, flipped=True), palette("mach", 0, 2)), "below and above stay what they are"


def test_angles_go_round():
    from tidal_lens.quantities.spread import distribution_of
    from tidal_lens.study.evaluate import key_range
    from tidal_lens.study.model import KeySetting

    table = palette("angle", -np.pi, np.pi)[:, :3].astype(int)
    assert np.abs(table[0] - table[-1]).max() <= 2
    assert np.abs(np.diff(table, axis=0)).max() <= 6
    spread = distribution_of(np.linspace(0.1, 0.4, 50))
    assert key_range("angle", spread, KeySetting()) == (-np.pi, np.pi)
    assert key_range("angle", spread, KeySetting(low=0.0, high=1.0)) == (0.0, 1.0)


@pytest.mark.parametrize("kind", ["protan", "deutan"])
def test_below_and_above_zero_are_told_apart_by_the_colour_blind(kind):
    """Machado, Oliveira & Fernandes 2009 (IEEE TVCG 15), full severity; matrices from memory."""
    matrix = {"protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
              "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]]}[kind]
    table = palette("signed", -1, 1)[:, :3] / 255.0
    seen = to_oklab(np.clip(table @ np.array(matrix).T, 0, 1))
    for share in (0.1, 0.25, 0.35):
        below, above = seen[int(share * SIZE)], seen[int((1 - share) * SIZE) - 1]
        assert np.linalg.norm(below - above) > 0.06


class Drawing:
    def __init__(self):
        self.frames, self.picks, self.small, self.wrong = [], [], [], []
        self.event = threading.Event()
        note = self.note
        self.renderer = Renderer(Listener(note(self.frames), note(self.picks), note(self.small), note(self.wrong)))

    def note(self, where):
        def take(*what):
            where.append(what)
            self.event.set()

        return take

    def wait(self, where):
        while not where:
            assert self.event.wait(60), self.wrong
            self.event.clear()
            assert not self.wrong, self.wrong
        return where.pop()


@pytest.fixture
def drawing():
    one = Drawing()
    yield one
    one.renderer.close()


def plate(**changes):
    corners = np.array([[0.0, 0, 0.5], [1, 0, 0.5], [1, 1, 0.5], [0, 1, 0.5]])
    look = {"id": "plate", "points": corners, "faces": FACES, "values": None, "colours": None, "colour": "#FF0000", "opacity": 1.0,
            "mesh_lines": False, "shaded": False} | changes
    return SurfaceItem(**look)


def above():
    return Camera(np.array([0.5, 0.5, 5.0]), np.array([0.5, 0.5, 0.5]), np.array([0.0, 1, 0]), 30.0)


def test_a_plate_is_drawn_where_the_camera_says(drawing):
    drawing.renderer.show(Scene((plate(),), "#FFFFFF", LOW, HIGH), above(), 200, 200)
    (frame,) = drawing.wait(drawing.frames)
    red = (np.abs(frame.pixels[:, :, :3].astype(int) - [255, 0, 0]).max(axis=-1) < 10)
    rows, columns = np.nonzero(red)
    corners, _ = above().project(plate().points, 200, 200)
    assert columns.min() == pytest.approx(corners[:, 0].min(), abs=1.5)
    assert rows.max() == pytest.approx(corners[:, 1].max(), abs=1.5)
    assert frame.depth[100, 100] == pytest.approx(4.5, rel=1e-3)
    assert np.isinf(frame.depth[2, 2])
    drawing.renderer.pick(1, 0.5, 0.5)
    assert drawing.wait(drawing.picks) == (1, "plate")
    drawing.renderer.pick(2, 0.01, 0.01)
    assert drawing.wait(drawing.picks) == (2, None)


def test_copies_stand_where_they_are_turned_and_shifted_to(drawing):
    """A plate, once more turned by a right angle about its corner and once shifted: a copy is picked as the item."""
    small = np.array([[0.5, 0.5, 0.5], [1, 0.5, 0.5], [1, 1, 0.5], [0.5, 1, 0.5]])
    moves = (turn_about((0.5, 0.5, 0.0), (0.0, 0.0, 2.0), np.pi / 2), shifted(np.array([-0.5, -0.5, 0.0])))
    item = plate(points=small)
    low, high = box_of(LOW, HIGH, moves)
    assert low == pytest.approx([-0.5, -0.5, 0.0])
    for copies, reds in (((), 1), (moves, 3), ((), 1)):
        drawing.renderer.show(Scene((replace(item, copies=copies),), "#FFFFFF", low, high), above(), 200, 200)
        (frame,) = drawing.wait(drawing.frames)
        places, _ = above().project(np.array([[0.75, 0.75, 0.5], [0.25, 0.75, 0.5], [0.25, 0.25, 0.5], [0.75, 0.25, 0.5]]), 200, 200)
        seen = [bool(np.abs(frame.pixels[int(y), int(x), :3].astype(int) - [255, 0, 0]).max() < 10) for x, y in places]
        assert seen == [True, reds == 3, reds == 3, False]
        drawing.frames.clear()
        if copies:
            x, y = places[1] / 200
            drawing.renderer.pick(5, float(x), float(y))
            assert drawing.wait(drawing.picks) == (5, "plate")


def test_colours_are_those_of_the_key(drawing):
    table = palette("mach", 0.0, 2.0)
    item = plate(values=np.full(4, 0.5), colours=ColourMap(table, 0.0, 2.0))
    drawing.renderer.show(Scene((item,), "#FFFFFF", LOW, HIGH), above(), 100, 100)
    (frame,) = drawing.wait(drawing.frames)
    assert np.abs(frame.pixels[50, 50, :3].astype(int) - table[SIZE // 4, :3]).max() <= 4
    other = plate(points=item.points, faces=item.faces, values=np.full(4, 1.5), colours=ColourMap(table, 0.0, 2.0))
    drawing.renderer.show(Scene((other,), "#FFFFFF", LOW, HIGH), above(), 100, 100)
    (frame,) = drawing.wait(drawing.frames)
    assert np.abs(frame.pixels[50, 50, :3].astype(int) - table[3 * SIZE // 4, :3]).max() <= 4


def test_a_logarithmic_key_colours_by_decades(drawing):
    table = palette("even", 1.0, 1e4)
    for value, share in ((10.0, 0.25), (100.0, 0.5), (1e3, 0.75)):
        item = plate(values=np.full(4, value), colours=ColourMap(table, 1.0, 1e4, log=True))
        drawing.renderer.show(Scene((item,), "#FFFFFF", LOW, HIGH), above(), 100, 100)
        (frame,) = drawing.wait(drawing.frames)
        assert np.abs(frame.pixels[50, 50, :3].astype(int) - table[int(SIZE * share), :3]).max() <= 5
        drawing.frames.clear()


def test_translucent_lines_and_nothing_at_all(drawing):
    line = LinesItem("line", np.array([[0.0, 0.5, 0.2], [1, 0.5, 0.2]]), np.array([0, 2]), None, None, "#0000FF", 5.0)
    drawing.renderer.show(Scene((plate(opacity=0.5), line), "#FFFFFF", LOW, HIGH), above(), 200, 200)
    (frame,) = drawing.wait(drawing.frames)
    over, behind = frame.pixels[70, 100, :3].astype(int), frame.pixels[100, 100, :3].astype(int)
    assert np.abs(over - [255, 128, 128]).max() < 8
    assert behind[2] > behind[1] + 60, "the line shows through the plate"
    drawing.renderer.show(Scene((), "#102030", LOW, HIGH), above(), 64, 64, draft=True)
    (frame,) = drawing.wait(drawing.frames)
    assert (frame.pixels.shape, frame.depth.shape) == ((64, 64, 4), (32, 32))
    assert frame.draft
    assert (frame.pixels[..., :3] == [0x10, 0x20, 0x30]).all()


def test_a_small_picture_of_one_item(drawing):
    drawing.renderer.small_picture(plate(), above(), "#FFFFFF")
    name, item, pixels = drawing.wait(drawing.small)
    assert (name, item.id) == ("plate", "plate")
    assert (np.abs(pixels[..., :3].astype(int) - [255, 0, 0]).max(axis=-1) < 10).mean() > 0.2


def test_a_picture_does_not_depend_on_what_was_drawn_before():
    """Lines that lie on surfaces once changed a setting of the whole library."""
    import numpy as np

    from tidal_lens.scene.camera import first_camera
    from tidal_lens.scene.canvas import Canvas
    from tidal_lens.scene.scene import LinesItem, Scene, SurfaceItem

    corners = np.array([[-1.0, -1, -0.3], [1, -1, 0.2], [1, 1, 0.4], [-1, 1, -0.1]])
    face = SurfaceItem("face", corners, np.array([[0, 1, 2, 3]]), None, None, "#C04020", 1.0, False, False)
    edge = LinesItem("edge", corners[[0, 1, 2, 3, 0]], np.array([0, 5]), None, None, "#102030", 1.0)
    lying = LinesItem("lying", corners[[0, 2]], np.array([0, 2]), None, None, "#102030", 1.0, lying=True)
    camera = first_camera(np.full(3, -1.0), np.full(3, 1.0), 1.5)

    def drawn(*items):
        canvas = Canvas()
        pixels = canvas.draw(Scene(items, "#FFFFFF", np.full(3, -1.0), np.full(3, 1.0)), camera, 300, 200, 1.0, draft=False)[0].copy()
        canvas.close()
        return pixels

    before = drawn(face, edge)
    drawn(face, lying)
    assert (drawn(face, edge) == before).all()


def test_a_draft_over_the_rest_is_the_draft_of_all():
    """While one thing is dragged only that is drawn anew: what is seen is the same."""
    from tidal_lens.scene.canvas import Canvas

    y, x = np.mgrid[-1:1:9j, -1:1:9j]
    quads = np.array([[9 * j + i, 9 * j + i + 1, 9 * j + i + 10, 9 * j + i + 9] for j in range(8) for i in range(8)])
    around = np.full(3, -1.0), np.full(3, 1.0)

    def sheet(name, height, colour, opacity=1.0):
        points = np.column_stack([x.ravel(), y.ravel(), np.broadcast_to(height, x.shape).ravel()])
        return SurfaceItem(name, points, quads, None, None, colour, opacity, False, True)

    hill, low = sheet("hill", 0.8 * np.cos(2 * x) * np.cos(2 * y), "#C04020"), sheet("low", -0.4, "#2040C0")
    line = LinesItem("line", np.array([[-1.0, -1, 1], [1, 1, -1]]), np.array([0, 2]), None, None, "#000000", 2.0)
    one, other = first_camera(*around, 1.5), first_camera(*around, 1.4)
    still, turned = (hill, low, line), (line, hill)
    drags = [(still, sheet("cut", z, "#30A040"), one) for z in (-0.6, -0.3, 0.0, 0.35)]
    drags += [(turned, sheet("cut", z, "#30A040"), one) for z in (0.35, 0.1)]  # something was removed meanwhile
    drags += [(turned, sheet("cut", z, "#30A040"), other) for z in (0.1, 0.2, 0.3)]
    drags += [(turned, sheet("cut", z, "#30A040", 0.5), other) for z in (0.3, 0.4, 0.5)]  # seen through
    glass = line, sheet("hill", hill.points[:, 2].reshape(x.shape), "#C04020", 0.5)
    drags += [(glass, sheet("cut", z, "#30A040"), one) for z in (0.5, 0.4, 0.3)]  # the rest is seen through
    canvas = Canvas()
    drawn = []
    for items, cut, camera in drags:
        scene = Scene((*items, cut), "#FFFFFF", *around)
        calls = []
        paint = canvas._painter.paint
        canvas._painter.paint = lambda own, *how, calls=calls, paint=paint: (calls.append({i.id for i in own}), paint(own, *how))[1]
        pixels, depth = (a.copy() for a in canvas.draw(scene, camera, 600, 400, 1.0, draft=True))
        canvas._painter.paint = paint
        drawn.append(calls[-1])
        fresh = Canvas()
        true, far = fresh.draw(scene, camera, 600, 400, 1.0, draft=True)
        fresh.close()
        assert (np.abs(pixels.astype(int) - true).max(axis=-1) > 8).mean() < 2e-4, "but for a pixel where two meet"
        there = np.isfinite(far)
        assert (np.isfinite(depth) == there).all()
        assert (np.abs(depth[there] - far[there]) > 1e-3).mean() < 2e-4
    assert drawn[1:4] == [{"cut"}] * 3, "only what is dragged"
    assert drawn[0] == {"hill", "low", "line", "cut"}
    assert drawn[10:12] == [{"cut"}] * 2, "it is painted over all that hides"
    assert drawn[4] == drawn[6] == drawn[-1] == {"line", "hill", "cut"}
    scene = Scene((*turned, drags[8][1]), "#FFFFFF", *around)
    canvas.draw(scene, other, 600, 400, 1.0, draft=True)
    assert canvas.item_at(0.5, 0.5) in ("hill", "cut"), "all can be pointed at"
    whole = canvas.draw(scene, other, 600, 400, 1.0, draft=False)[0]
    fresh = Canvas()
    assert (whole == fresh.draw(scene, other, 600, 400, 1.0, draft=False)[0]).all()
    fresh.close()
    canvas.close()
