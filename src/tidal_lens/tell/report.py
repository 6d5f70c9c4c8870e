"""A report as values: what stands in it, whatever it is written as."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from tidal_lens import __version__
from tidal_lens.errors import TidalLensError
from tidal_lens.features.finding import Finding
from tidal_lens.flow.case import Flow
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.measures.balance import Balance, mass_balance
from tidal_lens.measures.history import history_of, verdict
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Scene
from tidal_lens.study.charts import Chart
from tidal_lens.study.evaluate import tables_of
from tidal_lens.study.model import Study
from tidal_lens.study.opened import Seen, seen
from tidal_lens.study.plates import at_plate
from tidal_lens.study.said import listing
from tidal_lens.study.shown import InUnits, in_units
from tidal_lens.study.tables import Table
from tidal_lens.study.telling import PART_TITLES, Part
from tidal_lens.study.words import Words, number_text
from tidal_lens.tell.studio import Look, Shot, Studio, camera_of
from tidal_lens.work import Token

LARGEST = 30_000_000  # bytes of a file
_ROWS = 60  # of a table; the rest is told to be left out
_PLATE, _POSTER = (1280, 800), (960, 600)


@dataclass(frozen=True)
class Paragraph:
    """A paragraph."""

    text: str


@dataclass(frozen=True)
class Facts:
    """Names and what they are."""

    rows: tuple[tuple[str, str], ...]
    title: str = ""


@dataclass(frozen=True)
class Rows:
    """A table, with what was left out of it."""

    table: Table
    left_out: int = 0


@dataclass(frozen=True)
class Figure:
    """A picture: as PNG, told in words for who does not see it, with a line below it."""

    png: bytes
    told: str
    caption: str


@dataclass(frozen=True, eq=False)
class Curves:
    """A chart, told in words."""

    chart: Chart
    told: str
    caption: str


@dataclass(frozen=True, eq=False)
class Model:
    """A scene that turns, with a picture of it for where it cannot."""

    scene: Scene
    camera: Camera
    poster: Figure


Block = Paragraph | Facts | Rows | Figure | Curves | Model


@dataclass(frozen=True, eq=False)
class Section:
    """A part of a report; sections in it have their own titles."""

    title: str
    blocks: tuple[Block, ...] = ()
    sections: tuple[Section, ...] = ()


@dataclass(frozen=True, eq=False)
class Report:
    """All of it.

    Attributes
    ----------
    title : str
        Its title.
    words : tuple of str
        Paragraphs that stand first.
    made : str
        When, and by what.
    sections : tuple of Section
        Its parts, in their order.
    theme : str
        Of its charts.
    """

    title: str
    words: tuple[str, ...]
    made: str
    sections: tuple[Section, ...]
    theme: str = "chart"
    troubles: tuple[str, ...] = field(default=())
    units: InUnits = field(default_factory=InUnits)


@dataclass(frozen=True, eq=False)
class _Work:
    """What parts are made of."""

    studio: Studio
    study: Study
    measured: Seen
    theme: str
    token: Token
    troubles: list[str]
    units: InUnits


def report_of(studio: Studio, study: Study, token: Token | None = None, *, theme: str = "chart", when: datetime | None = None) -> Report:
    """Make what a study asks for.

    Parameters
    ----------
    studio, study : Studio, Study
        Of what, and who draws it.
    token : Token, optional
        Progress and cancel.
    theme : str
        Of pictures and charts.
    when : datetime, optional
        What the report says of when it was made; now if not given.

    Raises
    ------
    TidalLensError
        The step that is looked at cannot be read.
    CancelledError
        The token was cancelled.
    """
    token = token or Token()
    measured = seen(studio.opened, study, token.part(0.0, 0.4), measures=True)
    names = study.card_names()
    troubles = [f"{names.get(one, one)}: {why}" for one, why in measured.troubles.items()]
    sections, units = [], in_units(study.units, measured.store)
    parts = study.report.parts
    for n, part in enumerate(parts):
        own = token.part(0.4 + 0.6 * n / len(parts), 0.4 + 0.6 * (n + 1) / len(parts))
        section = _PARTS[part](_Work(studio, measured.study, measured, theme, own, troubles, units))
        token.check()
        if section is not None:
            sections.append(section)
    flow = measured.evaluator.flow
    at = (when or datetime.now(UTC)).strftime("%Y-%m-%d %H:%M UTC")
    words = tuple(p.strip() for p in study.report.words.split("\n\n") if p.strip())
    return Report(study.report.title or flow.title, words, f"Made {at} by Tidal Lens {__version__} from {flow.path.name}.", tuple(sections),
                  theme, tuple(dict.fromkeys(troubles)), units)


def said_number(value: float, units: InUnits) -> str:
    """A number of a table: whole ones by thousands."""
    return f"{int(value):,}" if float(value).is_integer() and 1000 <= abs(value) < 1e9 else units.number(float(value), 5)


# -- parts -----------------------------------------------------------------------------------------------------


def _facts(work: _Work) -> Section:
    flow, reference = work.measured.evaluator.flow, work.measured.store.reference
    low, high = flow.bounds
    unit = " m" if flow.si_units else ""
    rows = [("File", flow.path.name), ("Points, cells", f"{flow.n_points:,}, {flow.n_cells:,} in {len(flow.blocks)} "
                                                        f"block{'s' if len(flow.blocks) > 1 else ''}"),
            *((f"{axis} from, to", f"{number_text(float(low[a]))}, {number_text(float(high[a]))}{unit}") for a, axis in enumerate("xyz"))]
    if len(flow.times) > 1:
        rows.append(("Step, time", f"{flow.step} of {len(flow.times)}, {number_text(float(flow.times[flow.step]))}"))
    if flow.normal is not None:
        rows.append(("Kind", "a plane flow"))
    blocks = tuple((b.name, b.grid.description, float(b.grid.n_cells)) for b in flow.blocks)
    walls = tuple((b.name, b.kind, float(len(b.faces))) for b in flow.boundaries)
    units = work.units
    speed = units.setting.of_unit("m/s" if flow.si_units else "")
    parts = ", ".join(units.number(speed.of(c)) for c in reference.velocity)
    state: list[tuple[str, str]] = [("Velocity", f"{parts} {speed.text}".strip())]
    for name, value, of in (
            ("Pressure", reference.pressure, "Pa"), ("Density", reference.density, "kg/m³"), ("Mach number", reference.mach, ""),
            ("Ratio of specific heats", reference.gamma, ""), ("Reference area", reference.area, "m²"),
            ("Reference length", reference.length, "m")):
        if value is not None:
            state.append((name, units.amount(float(value), of if flow.si_units else "")))
    state.append(("Where it came from", reference.origin))
    tables = (Table("Blocks", ("name", "kind", "cells"), blocks), Table("Boundaries", ("name", "kind", "faces"), walls))
    return Section(PART_TITLES["facts"], (Facts(tuple(rows), "Case"), Facts(tuple(state), "Reference state"),
                                          *(_cut(table, work.units) for table in tables if table.rows)))


def _model(work: _Work) -> Section:
    look = Look(*_POSTER, work.theme)
    study = work.study
    shot = work.studio.shot(study, look, work.token)
    scene = work.studio.scene_of(shot.seen, look)
    poster = Figure(shot.file("png"), f"{_told(study, shot)} It can be turned.", "")
    return Section(PART_TITLES["model"], (Model(scene, camera_of(study, shot.seen.evaluator.flow, look), poster),))


def _plates(work: _Work) -> Section | None:
    look = Look(*_PLATE, work.theme)
    plates = work.study.plates
    views = [(p.name, p.notes, at_plate(work.study, p, work.studio.opened.steps)) for p in plates] or [
        (work.measured.evaluator.flow.title, "", work.study)]
    sections = []
    for n, (name, notes, shown) in enumerate(views):
        shot = work.studio.shot(shown, look, work.token.part(n / len(views), (n + 1) / len(views)))
        names = work.study.card_names()
        work.troubles.extend(f"{names.get(one, one)}: {why}" for one, why in shot.seen.troubles.items())
        figure = Figure(shot.file("png"), _told(shown, shot), _lit(shown, shot))
        words = tuple(Paragraph(p.strip()) for p in notes.split("\n\n") if p.strip())
        sections.append(Section(name, (figure, *words)))
    return Section(PART_TITLES["plates"], (), tuple(sections))


def _findings(work: _Work) -> Section | None:
    sections = []
    for layer in work.study.layers:
        result = work.measured.results.get(layer.id)
        if result is None or not layer.shape.finds:
            continue
        found = [x for x in listing(result.unmasked.findings, work.measured.sifting(layer)) if x.shown]
        tables = tables_of(result, work.study) if found else ()
        blocks: list[Block] = [_cut(table, work.units) for table in tables] or [Paragraph("Nothing was found.")]
        reasons = tuple((x.name, _trust(x.finding)) for x in found[:_ROWS] if x.finding.reasons or x.finding.told)
        if reasons:
            blocks.append(Facts(reasons, "What trust rests on"))
        sections.append(Section(layer.name, tuple(blocks)))
    return Section(PART_TITLES["findings"], (), tuple(sections)) if sections else None


def _measures(work: _Work) -> Section | None:
    sections = []
    for layer in work.study.layers:
        result = work.measured.results.get(layer.id)
        if not layer.shape.measures:
            continue
        if result is None:
            sections.append(Section(layer.name, (Paragraph(f"It could not be had. {work.measured.troubles.get(layer.id, '')}"),)))
            continue
        blocks: list[Block] = [Paragraph(text) for text in (result.unmasked.told_in(work.units), layer.shape.reckoned) if text]
        blocks += [Curves(chart, _chart_told(layer.name, chart), f"{layer.name}: {chart.up} over {chart.across}.")
                   for chart in map(work.units.chart, result.unmasked.charts)]
        blocks += [_cut(table, work.units) for table in tables_of(result, work.study)]
        sections.append(Section(layer.name, tuple(blocks)))
    return Section(PART_TITLES["measures"], (), tuple(sections)) if sections else None


def _balance(work: _Work) -> Section | None:
    store, flow = work.measured.store, work.measured.evaluator.flow
    if not flow.boundaries:
        return None
    try:
        told = mass_balance(flow, store.values("density", work.token), store.values("velocity", work.token))
    except TidalLensError as why:
        return Section(PART_TITLES["balance"], (Paragraph(f"It could not be had. {why}"),))
    return Section(PART_TITLES["balance"], (Paragraph(told.verdict), _cut(balance_table(told), work.units)))


def balance_table(told: Balance) -> Table:
    """What flows through each boundary."""
    unit = f" [{told.unit}]" if told.unit else ""
    rows = tuple((s.name, s.kind, s.area, s.inward, s.outward, s.net) for s in told.shares)
    return Table(told.what.capitalize(), ("boundary", "kind", "area", f"in{unit}", f"out{unit}", f"net{unit}"), rows)


def _history(work: _Work) -> Section | None:
    study = work.study
    if not study.history:
        return None
    try:
        history = history_of(read_table(Path(study.history)))
    except TidalLensError as why:
        return Section(PART_TITLES["history"], (Paragraph(f"It cannot be read. {why}"),))
    said = verdict(history, study.criterion, study.criteria)
    blocks: list[Block] = [Paragraph(f"{said.state.capitalize()}."), Facts(tuple((f"{n + 1}", line) for n, line in enumerate(said.lines)))]
    from tidal_lens.study.charts import Curve

    for title, curves, logarithmic in (("Residuals", history.residuals, True), ("Coefficients and monitors", history.others, False)):
        if curves:
            chart = Chart(history.counter, title.lower(), tuple(Curve(c.name, np.asarray(history.at, float), c.values) for c in curves),
                          log_up=logarithmic)
            blocks.append(Curves(chart, _chart_told(title, chart), f"{title} over {history.counter}."))
    return Section(PART_TITLES["history"], tuple(blocks))


def _made(work: _Work) -> Section:
    words = Words(work.measured.store, work.study.card_names(), work.units.values)
    cards = tuple((layer.name, layer.kind, layer.tell(words), _painted(work, layer.look.colour_by)) for layer in work.study.layers)
    blocks: list[Block] = [_cut(Table("Cards", ("card", "kind", "made from", "coloured by"), cards), work.units)] if cards else []
    methods = work.measured.store.methods
    own = [("Gradients", "fourth order" if methods.fourth_order else "second order"), ("On cells", "yes" if methods.on_cells else "no"),
           ("Cell values to nodes by", methods.averaging)]
    if work.study.formulas:
        own += [(f.name, f.text) for f in work.study.formulas]
    blocks.append(Facts(tuple(own), "Methods and formulas"))
    flow: Flow = work.measured.evaluator.flow
    roles = tuple((str(role), ", ".join(names)) for role, names in work.study.roles.items())
    if roles:
        blocks.append(Facts(roles, "Roles of arrays, as said"))
    blocks.append(Paragraph(f"The case is {flow.path}."))
    if work.troubles:
        blocks.append(Facts(tuple(("not had", why) for why in dict.fromkeys(work.troubles)), "What could not be had"))
    return Section(PART_TITLES["made"], tuple(blocks))


_PARTS: dict[Part, Callable[[_Work], Section | None]] = {
    "facts": _facts, "model": _model, "plates": _plates, "findings": _findings, "measures": _measures, "balance": _balance,
    "history": _history, "made": _made}


def _trust(finding: Finding) -> str:
    """How far a finding is trusted, and why."""
    reasons = "; ".join(r.words for r in finding.reasons)
    return " ".join([f"Trust {finding.trust:.0%}{': ' if reasons else ''}{reasons}.", *(f"{t.rstrip('.')}." for t in finding.told)])


# -- words -----------------------------------------------------------------------------------------------------


def _painted(work: _Work, name: str | None) -> str:
    if name is None:
        return "plain"
    return next((q.title for q in work.measured.store.quantities() if q.name == name), name)


def _cut(table: Table, units: InUnits) -> Rows:
    """A table as it is shown, its first rows where it is long."""
    return Rows(units.table(Table(table.title, table.heads, table.rows[:_ROWS])), max(len(table.rows) - _ROWS, 0))


def _told(study: Study, shot: Shot) -> str:
    """What a picture shows, for who does not see it."""
    words = Words(shot.seen.store, study.card_names(), in_units(study.units, shot.seen.store).values)
    drawn = [layer for layer in study.layers if layer.id in shot.seen.results and study.is_drawn(layer)]
    if not drawn:
        return f"Picture of {shot.title}: nothing is lit."
    listed = "; ".join(f"{layer.name}, {layer.tell(words)}" + (f", coloured by {_title(shot, layer.look.colour_by)}" if layer.look.colour_by
                                                               else "") for layer in drawn[:12])
    return f"Picture of {shot.title}: {listed}."


def _lit(study: Study, shot: Shot) -> str:
    drawn = [layer.name for layer in study.layers if layer.id in shot.seen.results and study.is_drawn(layer)]
    flow = shot.seen.evaluator.flow
    when = f" Step {flow.step}, time {number_text(float(flow.times[flow.step]))}." if len(flow.times) > 1 else ""
    return f"{', '.join(drawn)}.{when}" if drawn else when.strip()


def _title(shot: Shot, name: str) -> str:
    return next((q.title for q in shot.seen.store.quantities() if q.name == name), name)


def _chart_told(name: str, chart: Chart) -> str:
    """What a chart shows, in words and numbers."""
    if chart.sheet is not None:
        return f"Chart of {name}: {chart.sheet.told} over {chart.across} and {chart.up}."
    out = []
    for curve in chart.curves[:12]:
        good = np.isfinite(curve.values) & np.isfinite(curve.at)
        if good.any():
            low, high = float(curve.values[good].min()), float(curve.values[good].max())
            out.append(f"{curve.name} from {number_text(low)} to {number_text(high)}")
    return f"Chart of {name}: {chart.up} over {chart.across}. {'; '.join(out)}."
