"""Pictures without a window: of any size in parts, on a transparent ground, as PNG, SVG and PDF."""

import subprocess
import sys
import xml.etree.ElementTree as ET
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from tidal_lens.errors import StudyError
from tidal_lens.scene.camera import first_camera, setting_of
from tidal_lens.scene.canvas import Canvas
from tidal_lens.scene.marks import Dot, Path, Plate, Tint, Words
from tidal_lens.scene.scene import LinesItem, Scene, SurfaceItem
from tidal_lens.scene.themes import CHART
from tidal_lens.study.opened import Opened
from tidal_lens.study.session import open_session
from tidal_lens.tell.lettering import measure
from tidal_lens.tell.printing import document, lettered, over
from tidal_lens.tell.studio import Look, Studio, without_ground


@pytest.fixture(scope="module")
def session(demo_path):
    session = open_session(demo_path)
    flow = session.flow
    camera = setting_of(first_camera(*flow.stage, 1.6, flow.normal))
    return replace(session, study=session.study.with_(camera=camera))


@pytest.fixture(scope="module")
def studio(session):
    with Studio(Opened.of(session)) as own:
        yield own


def pixels_of(path):
    with Image.open(path) as image:
        return np.asarray(image.convert("RGBA")).astype(int)


def test_a_picture_has_its_size_and_its_keys_and_no_qt(session, studio, tmp_path):
    shot = studio.shot(session.study, Look(700, 420))
    shot.save(tmp_path / "a.png")
    own = pixels_of(tmp_path / "a.png")
    assert own.shape == (420, 700, 4)
    assert (own[..., 3] == 255).all()
    panel = np.abs(own[30:120, 12:60, :3] - np.array([251, 249, 244])).max(axis=-1) < 8
    assert panel.mean() > 0.3, "the key's panel stands at the left"
    plain = studio.shot(session.study, Look(700, 420, keys=False))
    assert not plain.marks
    assert (plain.pixels[..., :3].astype(int) == shot.raster[..., :3]).all()
    ran = subprocess.run([sys.executable, "-c", "import sys, tidal_lens.tell.studio, tidal_lens.tell.filming; "
                          "sys.exit(any(m.startswith('PyQt6') for m in sys.modules))"], check=False, env=None)
    assert ran.returncode == 0, "nothing of it knows Qt"


def square(colour, corners, opacity=1.0, name="square"):
    return SurfaceItem(name, np.array(corners, float), np.array([[0, 1, 2, 3]]), None, None, colour, opacity, False, False)


def flat_scene(*items, ground="#336699"):
    return Scene(items, ground, np.array([-1.0, -1, -1]), np.array([1.0, 1, 1]))


@pytest.fixture
def canvas():
    own = Canvas()
    yield own
    own.close()


@pytest.mark.parametrize("span", [0.0, 1.3])
def test_a_picture_in_parts_is_the_picture_in_one(canvas, monkeypatch, span):
    camera = replace(first_camera(np.full(3, -1.0), np.full(3, 1.0), 1.5), span=span)
    line = np.array([[-1.0, -1, 1], [1.0, 0.3, -1], [0.2, 1.0, 0.4]])
    scene = flat_scene(square("#C04020", [[-1, -1, -0.5], [1, -1, -0.5], [1, 1, 0.7], [-1, 1, 0.7]]),
                       LinesItem("line", line, np.array([0, 3]), None, None, "#102030", 4.0))
    whole, deep = (a.copy() for a in canvas.draw_large(scene, camera, 600, 400, 1.0))
    monkeypatch.setattr("tidal_lens.scene.canvas._TILE", 170)
    parts, own = canvas.draw_large(scene, camera, 600, 400, 1.0)
    off = np.abs(whole.astype(int) - parts).max(axis=-1)
    assert (off > 12).mean() < 2e-4, "but for single pixels at edges"
    both = np.isfinite(deep) & np.isfinite(own)
    assert (np.isfinite(deep) != np.isfinite(own)).mean() < 1e-3
    assert (np.abs(deep[both] / own[both] - 1.0) > 5e-3).mean() < 1e-3


def test_solidity_is_that_of_what_is_drawn(canvas):
    """A surface of opacity a over any ground is that of a sheet of it: closed form of one layer."""
    camera = replace(first_camera(np.full(3, -1.0), np.full(3, 1.0), 1.0), span=1.5).along(np.array([0.0, 1.0, 0.0]))
    half = square("#FF0000", [[-1, 0, -1], [1, 0, -1], [1, 0, 1], [-1, 0, 1]], 0.4)
    dark = canvas.draw_large(flat_scene(half, ground="#000000"), camera, 200, 200, 1.0)[0].copy()
    light = canvas.draw_large(flat_scene(half, ground="#FFFFFF"), camera, 200, 200, 1.0)[0]
    clear = without_ground(dark, light)
    assert np.abs(clear[100, 100].astype(int) - [255, 0, 0, 102]).max() <= 4
    assert (clear[3, 3] == 0).all()
    blue = np.full_like(clear, 0)
    blue[:] = (51, 102, 153, 255)
    direct = canvas.draw_large(flat_scene(half), camera, 200, 200, 1.0)[0]
    assert np.abs(over(blue, clear).astype(int)[..., :3] - direct[..., :3]).max() <= 4, "laid over a ground it is the picture with it"


def test_svg_and_pdf_hold_shapes_over_a_raster(session, studio, tmp_path):
    shot = studio.shot(session.study, Look(500, 320, clear=True))
    shot.save(tmp_path / "a.svg")
    shot.save(tmp_path / "a.pdf")
    root = ET.parse(tmp_path / "a.svg").getroot()
    space = {"s": "http://www.w3.org/2000/svg"}
    assert len(root.findall(".//s:image", space)) == 1
    assert len(root.findall(".//s:path", space)) > 50
    assert float(root.get("width").removesuffix("pt")) == pytest.approx(500 / 320 * 640, abs=1.0)
    body = (tmp_path / "a.pdf").read_bytes()
    assert body.startswith(b"%PDF")
    assert b"SourceSans3" in body, "our own font comes along"
    assert shot.file("pdf") == body, "the same file again"
    assert shot.file("svg") == (tmp_path / "a.svg").read_bytes()
    with pytest.raises(StudyError, match=r"\.bmp"):
        shot.save(tmp_path / "a.bmp")
    with pytest.raises(StudyError, match="cannot be written"):
        shot.save(tmp_path / "none" / "a.png")


def test_marks_stand_where_they_say():
    marks = (Plate((10, 20, 30, 40), Tint("#FF0000")), Dot((80, 30), 6, Tint("#00FF00")),
             Path(((100, 10), (120, 10), (120, 30)), Tint("#0000FF")),
             Words((10, 90), "Hxg", 20, Tint("#000000"), bold=True))
    own = lettered(marks, 300, 240, 2.0, CHART)
    assert own.shape == (240, 300, 4)
    red = np.argwhere((own == (255, 0, 0, 255)).all(axis=-1))
    assert (red.min(axis=0), red.max(axis=0)) == (pytest.approx([40, 20], abs=1), pytest.approx([119, 79], abs=1))
    assert (own[60, 160] == (0, 255, 0, 255)).all()
    assert (own[24, 230] == (0, 0, 255, 255)).all()
    black = np.argwhere((own[..., 3] > 128) & (own[..., :3].max(axis=-1) < 60))
    wide = measure("Hxg", 20, True)
    assert black[:, 1].min() == pytest.approx(20, abs=6)
    assert black[:, 1].max() == pytest.approx(20 + 2 * wide, abs=6)
    assert black[:, 0].min() > 140, "letters stand above their base line, by less than their size"
    assert 181 <= black[:, 0].max() <= 195, "and the g goes below it"
    assert lettered((), 40, 30, 1.0, CHART)[..., 3].max() == 0
    assert b"<svg" in document(own, (), 2.0, CHART, "svg")


def test_letters_have_the_width_of_the_font():
    """Advance widths of the shipped font, by another reader of it."""
    from fontTools.ttLib import TTFont

    from tidal_lens.tell.lettering import files

    with TTFont(files()[0]) as font:
        table, widths = font.getBestCmap(), font["hmtx"]
        told = sum(widths[table[ord(c)]][0] for c in "Mach number") / font["head"].unitsPerEm * 12.5
    assert measure("Mach number", 12.5, False) == pytest.approx(told, rel=0.04), "but for kerning and the sides of the outer letters"


@pytest.mark.parametrize("size", [(8, 300), (300, 13_000)])
def test_sizes_that_cannot_be_are_refused(session, studio, size):
    with pytest.raises(StudyError, match="cannot be drawn"):
        studio.shot(session.study, Look(*size))
