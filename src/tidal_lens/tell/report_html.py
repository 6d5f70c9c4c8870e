"""A report as one HTML file: pictures, charts, fonts and the model that turns are within it, and nothing is asked of a network."""

from __future__ import annotations

import base64
import io
import json
from collections.abc import Iterator
from functools import lru_cache
from importlib import resources

import numpy as np
from fontTools import subset
from fontTools.ttLib import TTFont
from jinja2 import Environment, StrictUndefined
from markupsafe import Markup
from PIL import Image

from tidal_lens.errors import StudyError
from tidal_lens.scene.themes import THEMES
from tidal_lens.study.charts import Chart
from tidal_lens.tell.charts import chart_file
from tidal_lens.tell.gltf import MOST, glb
from tidal_lens.tell.lettering import files
from tidal_lens.tell.report import LARGEST, Block, Curves, Facts, Figure, Model, Paragraph, Report, Rows, said_number

_KINDS = {Paragraph: "paragraph", Facts: "facts", Rows: "rows", Figure: "figure", Curves: "curves", Model: "model"}
_SHRINK = 0.75  # of what a try took, of the next


def html(report: Report) -> bytes:
    """The file; of too large a report models and pictures become coarser until it is small enough.

    Raises
    ------
    StudyError
        It is too large however coarse they are.
    """
    triangles, width = MOST, 0
    out = b""
    for _ in range(8):
        out = _written(report, triangles, width)
        if len(out) <= LARGEST:
            return out
        triangles = int(triangles * 0.5)
        width = int((width or 1280) * _SHRINK)
    raise StudyError(f"The report takes {len(out) / 1e6:,.0f} MB, more than {LARGEST / 1e6:,.0f}.", report.title,
                     "Leave out plates or measures.")


def _written(report: Report, triangles: int, width: int) -> bytes:
    theme = THEMES[report.theme]
    folder = resources.files("tidal_lens").joinpath("assets/report")
    names: dict[int, str] = {}

    def data(kind: str, body: bytes) -> str:
        smaller = _smaller(body, width) if width and kind == "image/png" else body
        return _data(kind, smaller)

    def model_name(one: Model) -> str:
        return names.setdefault(id(one), f"model-{len(names) + 1}")

    def chart(one: Chart) -> bytes:
        return chart_file(one, theme, "svg")

    letters = frozenset(_letters(report))
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.globals.update(kind_of=lambda one: _KINDS[type(one)], data=data, chart=chart, model_name=model_name,
                               number=lambda value: said_number(value, report.units),
                               model=lambda one: Markup(base64.b64encode(glb(one.scene, triangles)).decode()),
                               camera=camera_json)
    template = environment.from_string(folder.joinpath("report.html.j2").read_text(encoding="utf-8"))
    turns = any(isinstance(one, Model) for one in _blocks(report))
    script = folder.joinpath("model.js").read_text(encoding="utf-8").replace("</", "<\\/") if turns else ""
    regular, bold = files()[:2]
    text = template.render(report=report, theme=theme, turns=turns, script=Markup(script),
                           regular=_data("font/ttf", _part_of_font(regular, letters)),
                           bold=_data("font/ttf", _part_of_font(bold, letters)))
    return text.encode("utf-8")


def _data(kind: str, body: bytes) -> str:
    return f"data:{kind};base64,{base64.b64encode(body).decode()}"


def _blocks(report: Report) -> Iterator[Block]:
    for section in report.sections:
        yield from section.blocks
        for inner in section.sections:
            yield from inner.blocks


def _letters(report: Report) -> Iterator[str]:
    """All letters that a report is written with."""
    yield from map(chr, range(32, 127))
    yield from "−—…·×°²³≥≤“”‘’½±µρθλΔ∇"
    yield from f"{report.title}{report.made}{''.join(report.words)}"
    for section in report.sections:
        yield from section.title
        for inner in section.sections:
            yield from inner.title
    for one in _blocks(report):
        if isinstance(one, Paragraph):
            yield from one.text
        elif isinstance(one, Facts):
            yield from one.title + "".join(a + b for a, b in one.rows)
        elif isinstance(one, Rows):
            yield from one.table.title + "".join(one.table.heads)
            yield from "".join(c for row in one.table.rows for c in row if isinstance(c, str))
        elif isinstance(one, Figure | Curves):
            yield from one.caption


@lru_cache(maxsize=4)
def _part_of_font(path: str, letters: frozenset[str]) -> bytes:
    """A font with the letters that are used, and no others."""
    options = subset.Options(layout_features=["tnum"], hinting=False, notdef_outline=True)
    options.drop_tables += ["GPOS"]  # kerning takes longest, and is hardly seen
    out = io.BytesIO()
    with TTFont(path, recalcTimestamp=False, lazy=True) as font:
        own = subset.Subsetter(options)
        own.populate(unicodes=sorted(ord(c) for c in letters))
        own.subset(font)
        font.save(out)
    return out.getvalue()


def _smaller(body: bytes, width: int) -> bytes:
    """A picture of no more than a width."""
    with Image.open(io.BytesIO(body)) as image:
        if image.width <= width:
            return body
        small = image.resize((width, max(1, round(image.height * width / image.width))), Image.Resampling.LANCZOS)
        out = io.BytesIO()
        small.save(out, "png")
    return out.getvalue()


def camera_json(one: Model) -> str:
    """Where a model is seen from, as its script wants it; parallel rays become a narrow perspective."""
    camera, scene = one.camera, one.scene
    eye, angle = camera.eye, camera.angle
    if camera.span:
        angle = 10.0
        eye = camera.focus - camera.span / np.tan(np.radians(0.5 * angle)) * camera.basis()[2]
    size = float(np.linalg.norm(scene.high - scene.low)) + float(np.linalg.norm(eye - camera.focus))
    return json.dumps({"eye": [float(c) for c in eye], "focus": [float(c) for c in camera.focus], "up": [float(c) for c in camera.up],
                       "angle": angle, "near": 1e-3 * size, "far": 4.0 * size, "ground": scene.background})
