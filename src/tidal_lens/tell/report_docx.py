"""A report as a DOCX document, with the same content; the model stands in it as a picture."""

from __future__ import annotations

import io
from typing import Any

from docx import Document
from docx.enum.table import WD_TABLE_ALIGNMENT
from docx.oxml.ns import qn
from docx.shared import Cm, Pt, RGBColor

from tidal_lens.scene.themes import THEMES, Theme
from tidal_lens.study.shown import InUnits
from tidal_lens.study.tables import Table
from tidal_lens.tell.charts import chart_file
from tidal_lens.tell.report import Block, Curves, Facts, Figure, Model, Paragraph, Report, Rows, said_number

_WIDE, _CHART = Cm(16.0), Cm(13.0)
_FACE = "Source Sans 3"


def docx(report: Report) -> bytes:
    """The file."""
    theme, document = THEMES[report.theme], Document()
    _style(document, THEMES["chart"])
    document.core_properties.title = report.title
    document.core_properties.author = "Tidal Lens"
    document.add_heading(report.title, 0)
    document.add_paragraph(report.made)
    for text in report.words:
        document.add_paragraph(text)
    for section in report.sections:
        document.add_heading(section.title, 1)
        for one in section.blocks:
            _block(document, one, theme, report.units)
        for inner in section.sections:
            document.add_heading(inner.title, 2)
            for one in inner.blocks:
                _block(document, one, theme, report.units)
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


def _style(document: Any, theme: Theme) -> None:
    section = document.sections[0]
    section.page_width, section.page_height = Cm(21.0), Cm(29.7)
    section.left_margin = section.right_margin = Cm(2.5)
    section.top_margin = section.bottom_margin = Cm(2.2)
    for name, size, colour in (("Normal", 10.5, theme.ink), ("Title", 22, theme.ink), ("Heading 1", 15, theme.sea),
                               ("Heading 2", 12, theme.ink), ("Caption", 9, theme.soft)):
        style = document.styles[name]
        style.font.name, style.font.size = _FACE, Pt(size)
        style.font.color.rgb = RGBColor.from_string(colour.lstrip("#"))
        fonts = style.element.get_or_add_rPr().get_or_add_rFonts()
        for kind in ("w:ascii", "w:hAnsi", "w:cs", "w:eastAsia"):
            fonts.set(qn(kind), _FACE)
        for kind in ("w:asciiTheme", "w:hAnsiTheme", "w:cstheme", "w:eastAsiaTheme"):
            fonts.attrib.pop(qn(kind), None)


def _block(document: Any, one: Block, theme: Theme, units: InUnits) -> None:
    if isinstance(one, Paragraph):
        document.add_paragraph(one.text)
    elif isinstance(one, Facts):
        if one.title:
            document.add_paragraph(one.title, style="Caption")
        _grid(document, None, [(a, b) for a, b in one.rows])
    elif isinstance(one, Rows):
        more = f", the first {len(one.table.rows)} rows of {len(one.table.rows) + one.left_out}" if one.left_out else ""
        document.add_paragraph(f"{one.table.title}{more}", style="Caption")
        _rows(document, one.table, units)
    elif isinstance(one, Figure):
        _picture(document, one.png, one.told, one.caption, _WIDE)
    elif isinstance(one, Curves):
        _picture(document, chart_file(one.chart, theme, "png"), one.told, one.caption, _CHART)
    elif isinstance(one, Model):
        _picture(document, one.poster.png, one.poster.told, "In the HTML report it can be turned.", _WIDE)


def _picture(document: Any, png: bytes, told: str, caption: str, wide: Any) -> None:
    drawn = document.add_picture(io.BytesIO(png), width=wide)
    said = drawn._inline.docPr
    said.set("descr", told)
    said.set("title", caption or told[:80])
    if caption:
        document.add_paragraph(caption, style="Caption")


def _rows(document: Any, table: Table, units: InUnits) -> None:
    cells = [tuple(c if isinstance(c, str) else said_number(float(c), units) for c in row) for row in table.rows]
    _grid(document, table.heads, cells)


def _grid(document: Any, heads: tuple[str, ...] | None, rows: list[tuple[str, ...]]) -> None:
    width = len(heads) if heads is not None else (len(rows[0]) if rows else 0)
    if width == 0:
        return
    grid = document.add_table(rows=0, cols=width)
    grid.style, grid.alignment, grid.autofit = "Light List", WD_TABLE_ALIGNMENT.LEFT, True
    small = Pt(9 if width < 8 else 7)
    for n, row in enumerate(([heads] if heads is not None else []) + rows):
        cells = grid.add_row().cells
        for cell, text in zip(cells, row, strict=True):
            run = cell.paragraphs[0].add_run(text)
            run.font.size = small
            run.font.bold = heads is not None and n == 0
    if heads is not None:
        properties = grid.rows[0]._tr.get_or_add_trPr()
        properties.append(properties.makeelement(qn("w:tblHeader"), {qn("w:val"): "true"}))
    document.add_paragraph()
