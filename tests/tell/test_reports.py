"""Reports: what stands in them, HTML in a browser without a network, DOCX read back, the model as glTF."""

import io
import json
import re
import struct
from datetime import UTC, datetime
from itertools import pairwise

import numpy as np
import pytest
from docx import Document
from PIL import Image

from browser import opened
from tidal_lens import api
from tidal_lens.demo.shipped import demo_path
from tidal_lens.errors import StudyError
from tidal_lens.scene.scene import ColourMap, LinesItem, Scene, SurfaceItem
from tidal_lens.scene.themes import CHART
from tidal_lens.study.charts import Chart, Curve, Sheet
from tidal_lens.study.plates import with_plate
from tidal_lens.study.telling import PARTS, ReportSetting
from tidal_lens.tell.charts import chart_file
from tidal_lens.tell.gltf import glb, merged
from tidal_lens.tell.report import report_of
from tidal_lens.tell.report_docx import docx
from tidal_lens.tell.report_files import write_report
from tidal_lens.tell.report_html import html
from tidal_lens.work import Token

WHEN = datetime(2026, 1, 2, 3, 4, tzinfo=UTC)
EVIL = '<script>alert("x")</script> & {{ 7 * 7 }}'


@pytest.fixture(scope="module")
def report():
    with api.demo("mooring") as case:
        case.add("slice", {"direction": (0, 0, 1), "position": 0.0}, look={"colour_by": "speed"})
        case.add("forces", name=EVIL)
        case.add("recirculation")
        case.set(step=0)
        study = with_plate(case.study, "Wake")
        study = study.with_(plates=(study.plates[0].with_(notes=f"First.\n\n{EVIL}"),),
                            report=ReportSetting(title="The mooring", words="One.\n\nTwo."))
        return report_of(case._own_studio(), study, when=WHEN)


def titles(report):
    return [s.title for s in report.sections]


def test_it_holds_what_the_study_has(report):
    assert titles(report) == ["Case and reference state", "Model to turn", "Plates", "Findings", "Measures", "Balance", "How it was made"]
    assert report.title == "The mooring"
    assert report.words == ("One.", "Two.")
    assert "2026-01-02 03:04 UTC" in report.made
    assert [s.title for s in report.sections[2].sections] == ["Wake"]
    assert report.troubles == ()


@pytest.fixture(scope="module")
def page(report, tmp_path_factory):
    path = tmp_path_factory.mktemp("report") / "report.html"
    path.write_bytes(html(report))
    with opened(path) as own:
        yield own


@pytest.mark.gui
def test_the_page_asks_nothing_and_breaks_nothing(page):
    page.wait("document.querySelector('figure[data-model]').dataset.ready === 'yes'")
    assert [u for u in page.requests if not u.startswith(("file:", "data:", "blob:"))] == []
    assert page.errors == []
    assert page.ask("document.title") == "The mooring"
    assert page.ask("document.documentElement.lang") == "en-GB"
    assert page.ask("document.querySelectorAll('script').length") == 2, "only the model and what turns it"
    assert page.ask(f"document.body.innerText.includes({json.dumps('alert(' + chr(34))})"), "what was written is text"
    assert page.ask("document.body.innerText.includes('{{ 7 * 7 }}')")


@pytest.mark.gui
def test_the_page_is_accessible(page):
    page.wait("document.querySelector('figure[data-model]').dataset.ready === 'yes'")
    assert page.ask("[...document.querySelectorAll('img')].every(i => i.alt.length > 20)")
    assert page.ask("document.querySelectorAll('h1').length") == 1
    levels = page.ask("[...document.querySelectorAll('h1,h2,h3,h4')].map(h => +h.tagName[1])")
    assert all(b - a <= 1 for a, b in pairwise(levels)), "no level is left out"
    assert page.ask("[...document.querySelectorAll('nav a')].every(a => document.querySelector(a.getAttribute('href')))")
    assert page.ask("[...document.querySelectorAll('thead th')].every(t => t.scope === 'col')")
    assert page.ask("document.querySelector('canvas').getAttribute('aria-label')").startswith("Picture of")


@pytest.mark.gui
def test_the_model_turns_by_mouse_and_keys(page):
    page.wait("document.querySelector('figure[data-model]').dataset.ready === 'yes'")
    page.ask("document.querySelector('canvas').scrollIntoView({block: 'center'})")
    x, y, wide, tall = page.ask("(() => { const r = document.querySelector('canvas').getBoundingClientRect(); "
                                "return [r.x, r.y, r.width, r.height] })()")
    own = np.s_[int(y) + 4:int(y + tall) - 4, int(x) + 4:int(x + wide) - 4]
    first = page.shot()[own]
    assert len(np.unique(first.reshape(-1, 3), axis=0)) > 200, "the flow is drawn"
    assert np.abs(page.shot()[own] - first).max() == 0
    page.drag((x + wide / 2, y + tall / 2), (x + wide / 2 + 160, y + tall / 2 + 40))
    turned = page.shot()[own]
    assert (np.abs(turned - first).max(axis=-1) > 24).mean() > 0.02
    page.ask("document.querySelector('canvas').focus()")
    page.do("Input.dispatchKeyEvent", type="keyDown", key="ArrowLeft")
    again = page.shot()[own]
    assert (np.abs(again - turned).max(axis=-1) > 24).mean() > 0.005


def test_the_document_holds_the_same(report):
    body = docx(report)
    read = Document(io.BytesIO(body))
    heads = [p.text for p in read.paragraphs if p.style.name == "Heading 1"]
    assert heads == titles(report)
    assert read.core_properties.title == "The mooring"
    told = [s._inline.docPr.get("descr") for s in read.inline_shapes]
    assert len(told) >= 3
    assert all(len(t) > 20 for t in told)
    cells = {c.text for table in read.tables for row in table.rows for c in row.cells}
    page = html(report).decode()
    for text in ("mooring.vtm", "CD"):
        assert text in cells
        assert text in page
    drag = next(row for table in read.tables for row in table.rows if row.cells[0].text == "CD").cells[-1].text
    assert f'<td class="n">{drag}</td>' in page, "the same number"
    assert any(EVIL in p.text for p in read.paragraphs)


def test_parts_stand_as_chosen_and_files_as_named(tmp_path):
    with api.demo("mooring") as case:
        study = case.study.with_(report=ReportSetting(parts=("made", "facts")))
        assert titles(report_of(case._own_studio(), study)) == ["How it was made", "Case and reference state"]
        with pytest.raises(StudyError, match=r"\.txt"):
            write_report(case._opened, study, [tmp_path / "a.txt"], Token())
        write_report(case._opened, study, [tmp_path / "a.html", tmp_path / "a.docx"], Token())
        assert b"model.js" not in (tmp_path / "a.html").read_bytes()
        assert len((tmp_path / "a.html").read_bytes()) < 400_000, "nothing that it does not need"
        lost = study.with_(history=str(tmp_path / "none.csv"), report=ReportSetting(parts=PARTS))
        made = report_of(case._own_studio(), lost)
        assert "cannot be read" in made.sections[titles(made).index("History of the run")].blocks[0].text


def test_a_history_is_judged_in_it(tmp_path):
    rows = [f"{n},{10.0 ** (-n / 20):.6g},{1.0 + 0.0 * n}" for n in range(1, 121)]
    (tmp_path / "history.csv").write_text("\n".join(["iteration,res_rho,CD", *rows]))
    with api.demo("mooring") as case:
        study = case.study.with_(history=str(tmp_path / "history.csv"), report=ReportSetting(parts=("history",)))
        made = report_of(case._own_studio(), study)
    assert made.sections[0].blocks[0].text == "Converged."
    assert "fell" in dict(made.sections[0].blocks[1].rows)["1"]


# -- the model -------------------------------------------------------------------------------------------------


def test_numbers_stand_in_the_units_that_were_chosen():
    with api.open(demo_path("dipper coarse.cgns")) as case:
        out = tuple(b.name for b in case.flow.boundaries if b.kind == "outlet")
        case.add("over", {"quantity": "speed", "boundaries": out}, name="Mean")
        own = ReportSetting(parts=("facts", "measures"))
        plain = html(report_of(case._own_studio(), case.study.with_(report=own), when=WHEN)).decode()
        case.set(units={"system": "us", "notation": "powers"}, report=own)
        shown = report_of(case._own_studio(), case.study, when=WHEN)
    text = html(shown).decode()
    assert "m/s" in plain
    assert "ft/s" not in plain
    assert "m/s" not in text
    assert re.search(r"\de−?\d+ ft/s", text)
    words = " ".join(cell.text for grid in Document(io.BytesIO(docx(shown))).tables for r in grid.rows for cell in r.cells)
    assert "ft/s" in words


def unpacked(body):
    magic, version, length = struct.unpack("<4sII", body[:12])
    assert (magic, version, length) == (b"glTF", 2, len(body))
    size, kind = struct.unpack("<I4s", body[12:20])
    assert kind == b"JSON"
    return json.loads(body[20:20 + size]), body[28 + size:]


def array(told, raw, number):
    one = told["accessors"][number]
    view = told["bufferViews"][one["bufferView"]]
    kind = {5126: np.float32, 5125: np.uint32, 5121: np.uint8}[one["componentType"]]
    wide = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[one["type"]]
    return np.frombuffer(raw, kind, one["count"] * wide, view["byteOffset"]).reshape(-1, wide)


def test_a_model_holds_shapes_and_colours():
    table = np.array([[0, 0, 255, 255], [255, 0, 0, 255]], np.uint8)
    points = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [5, 5, 5]])
    surface = SurfaceItem("s", points, np.array([[0, 1, 2, 3], [0, 1, 2, 2]]), np.array([0.0, 1, 1, 0, np.nan]), ColourMap(table, 0.0, 1.0),
                          "#FFFFFF", 1.0, False, False)
    lines = LinesItem("l", points[:4], np.array([0, 4]), None, None, "#808080", 1.0)
    told, raw = unpacked(glb(Scene((surface, lines), "#000000", np.zeros(3), np.ones(3))))
    assert [n["name"] for n in told["nodes"]] == ["s", "l"]
    one = told["meshes"][0]["primitives"][0]
    places = array(told, raw, one["attributes"]["POSITION"])
    assert places.max(axis=0).tolist() == [1, 1, 0], "points of no face are left out"
    assert told["accessors"][one["attributes"]["POSITION"]]["max"] == [1, 1, 0]
    corners = places[array(told, raw, one["indices"]).reshape(-1, 3)]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
    assert area == pytest.approx(1.5), "a square and a half of it"
    colours = array(told, raw, one["attributes"]["COLOR_0"])
    assert colours[places[:, 0] == 1.0][:, :3].tolist() == [[255, 0, 0]] * 2
    assert told["materials"][0]["extensions"] == {"KHR_materials_unlit": {}}
    run = told["meshes"][1]["primitives"][0]
    assert (run["mode"], len(array(told, raw, run["indices"]))) == (1, 6)
    grey = array(told, raw, run["attributes"]["COLOR_0"])[0, 0]
    assert grey == round(255 * ((128 / 255 + 0.055) / 1.055) ** 2.4), "colours are linear in the format"


def test_a_fine_surface_is_merged_and_keeps_its_shape():
    n = 200
    u, v = np.meshgrid(np.linspace(0, np.pi, n), np.linspace(0, 2 * np.pi, n), indexing="ij")
    points = np.column_stack([(np.sin(u) * np.cos(v)).ravel(), (np.sin(u) * np.sin(v)).ravel(), np.cos(u).ravel()])
    at = np.arange(n * n).reshape(n, n)
    a, b, c, d = at[:-1, :-1].ravel(), at[1:, :-1].ravel(), at[1:, 1:].ravel(), at[:-1, 1:].ravel()
    triangles = np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    kept, few = merged(points, triangles, 4000)
    assert 1500 < len(few) <= 4000
    corners = points[kept][few]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
    assert area == pytest.approx(4 * np.pi, rel=0.05)
    assert merged(points, triangles, 10**6)[1] is triangles


# -- charts ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["png", "svg", "pdf"])
def test_charts_are_written(kind):
    at = np.linspace(1.0, 10.0, 20)
    curves = Curve("a", at, at**2), Curve("b", at, -at, dots=True), Curve("law", at, at, dashed=True)
    chart = Chart("x [m]", "$c_p$ & more", curves, down=True)
    body = chart_file(chart, CHART, kind)
    assert body == chart_file(chart, CHART, kind), "the same again"
    assert body[:4] in (b"\x89PNG", b"<?xm", b"%PDF")
    if kind == "png":
        with Image.open(io.BytesIO(body)) as image:
            assert image.size == (1024, 576)
            rgb = np.asarray(image.convert("RGB")).astype(int)
        rows, columns = np.nonzero(np.abs(rgb - [0x0E, 0x6E, 0x7E]).max(axis=-1) < 30)
        assert rows[columns > 700].mean() > rows[columns < 400].mean(), "the upper axis points down: the square falls"
    log = chart_file(Chart("x", "r", (Curve("a", at, 10.0 ** -at),), log_up=True), CHART, kind)
    assert log != body


def test_a_flat_chart_shows_values_lines_and_arrows():
    x, y = np.meshgrid(np.linspace(0, 2, 21), np.linspace(0, 1, 11))
    values = np.where(x < 0.5, np.nan, x)
    sheet = Sheet(x, y, values, "speed [m/s]", np.array([[[1.0, 0], [1, 1]]]), 0.5, np.array([[0.5, 0.5]]), np.array([[0.3, 0.0]]))
    with Image.open(io.BytesIO(chart_file(Chart("x", "r", (), sheet=sheet), CHART, "png"))) as image:
        rgb = np.asarray(image.convert("RGB"))
    assert len(np.unique(rgb.reshape(-1, 3), axis=0)) > 200
    assert re.search(rb"<image", chart_file(Chart("x", "r", (), sheet=sheet), CHART, "svg")), "colours as a raster, the rest as shapes"
