"""The Case station: roles, kinds of boundaries and the reference state are shown with their reasons and can be corrected."""

import csv

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

from driving import click, keys, settle, spin, type_into, wait
from making import cube_points
from tidal_lens.app.stations.rows import Row
from vtk_data import add, structured, write

N = 9


def texts(window):
    return [strip.text.text() for strip in window.strips.live()]


def pick(picker, text):
    """Open a list, go to an entry and press Return."""
    at = [picker.itemText(n) for n in range(picker.count())].index(text)
    picker.showPopup()
    spin()
    view = picker.view()
    view.setCurrentIndex(picker.model().index(at, 0))
    QTest.keyClick(view, Qt.Key.Key_Return)
    spin()


@pytest.fixture
def odd(tmp_path):
    """A channel whose arrays have names that nobody could know."""
    points = cube_points(N)
    data = structured(points, (N, N, N))
    z = points[:, 2]
    for name, values in (("flux_1", 40 * z * (1 - z)), ("flux_2", 0 * z), ("flux_3", 0 * z), ("alpha", 1.2 + 0 * z),
                         ("beta", 1e5 - 100 * points[:, 0])):
        add(data.GetPointData(), name, values)
    path = tmp_path / "odd.vts"
    write(vtkXMLStructuredGridWriter(), data, path)
    return path


def opened(window, path, *, anyway=False):
    window.document.open_path(path, anyway=anyway)
    wait(lambda: window.document.flow is not None and window.document.flow.path == path, "the case")
    click(window.rail.buttons["case"])
    settle(window)
    return window.bench.pages["case"]


@pytest.mark.gui
def test_a_file_without_velocity_says_what_could_make_it(window, odd):
    before = window.document.flow
    window.document.open_path(odd)
    wait(lambda: any("flux_1, flux_2, flux_3" in text for text in texts(window)), "the strip")
    assert window.document.flow is before, "what was open stays"


@pytest.mark.gui
def test_roles_can_be_said_and_unsaid(window, odd):
    case = opened(window, odd, anyway=True)
    document = window.document
    assert "not recognised" in case.roles.reasons["velocity"].text()
    assert {b.kind for b in document.flow.boundaries} == {"open"}
    pick(case.roles.pickers["velocity"], "flux_1, flux_2, flux_3")
    wait(lambda: document.flow.roles.velocity == ("flux_1", "flux_2", "flux_3"), "the correction")
    settle(window)
    # What follows from velocity follows at once: kinds of boundaries, the free stream, quantities on offer.
    assert sorted(b.kind for b in document.flow.boundaries) == ["inlet", "outlet", "symmetry", "symmetry", "wall", "wall"]
    assert 5.0 < document.flow.reference.velocity[0] <= 10.0
    assert not document.evaluator.store.describe("speed").missing
    assert case.roles.reasons["velocity"].text() == "you said so"
    pick(case.roles.pickers["density"], "alpha")
    wait(lambda: document.flow.roles.density == "alpha", "the density")
    window.act("undo")
    wait(lambda: document.flow.roles.density is None, "undo")
    window.act("undo")
    wait(lambda: document.flow.roles.velocity == (), "undo")
    window.act("redo")
    wait(lambda: document.flow.roles.velocity == ("flux_1", "flux_2", "flux_3"), "redo")
    settle(window)


@pytest.mark.gui
def test_said_roles_and_kinds_are_kept_in_the_study(window, odd, tmp_path):
    case = opened(window, odd, anyway=True)
    document = window.document
    pick(case.roles.pickers["velocity"], "flux_1, flux_2, flux_3")
    wait(lambda: document.flow.roles.has_velocity, "the correction")
    pick(case.boundaries.pickers["inlet (found)"], "far field")
    wait(lambda: any(b.kind == "far field" for b in document.flow.boundaries), "the kind")
    assert document.save(tmp_path / "kept.tidal")
    document.open_path(odd, anyway=True)
    wait(lambda: not document.flow.roles.has_velocity, "the plain case")
    document.open_path(tmp_path / "kept.tidal")
    wait(lambda: document.flow.roles.has_velocity, "the study")
    kinds = {b.name: (b.kind, b.reason) for b in document.flow.boundaries}
    assert kinds["inlet (found)"] == ("far field", "you said so")
    settle(window)
    pick(case.boundaries.pickers["inlet (found)"], "As found")
    wait(lambda: all(b.kind != "far field" for b in document.flow.boundaries), "the guess again")


@pytest.mark.gui
def test_the_reference_state_from_a_boundary_and_from_a_point(window, odd):
    case = opened(window, odd, anyway=True)
    document = window.document
    for role, text in (("velocity", "flux_1, flux_2, flux_3"), ("density", "alpha"), ("pressure", "beta")):
        pick(case.roles.pickers[role], text)
        wait(lambda r=role: document.flow.roles.fields(r), role)
    settle(window)
    reference = case.reference
    pick(reference.source, "average over inlet (found)")
    wait(lambda: document.study.reference is not None, "the average")
    state = document.evaluator.store.reference
    # The mean of 40 z (1 − z) is 20/3; trapezia over eight steps give 6.5625.
    assert state.velocity == pytest.approx((6.5625, 0.0, 0.0))
    assert state.pressure == pytest.approx(1e5)
    assert state.density == pytest.approx(1.2)
    assert "inlet" in reference.origin.text()
    pick(reference.source, "a point…")
    type_into(reference.point, "0.5, 0.5, 0.5")
    wait(lambda: document.evaluator.store.reference.velocity[0] == pytest.approx(10.0), "the point")
    assert document.evaluator.store.reference.pressure == pytest.approx(1e5 - 50)
    told = len(texts(window))
    type_into(reference.point, "5, 5, 5")
    wait(lambda: len(texts(window)) > told, "the message")
    assert any("outside the flow" in text for text in texts(window))
    type_into(reference.point, "5, five")
    assert any("three numbers" in text for text in texts(window))


@pytest.mark.gui
def test_a_look_into_a_block_a_boundary_and_a_quantity(window, odd):
    case = opened(window, odd, anyway=True)
    one = case.blocks.rows["odd"]
    assert isinstance(one, Row)
    click(one)
    wait(lambda: one.more is not None, "the report")
    told = [w.text() for w in one.more.findChildren(type(case.facts))]
    assert "512" in told
    assert "729" in told
    assert "1" in told[told.index("volume") + 1]
    assert told[told.index("negative cells") + 1] == "0"
    assert told[told.index("skewness") + 1].startswith("up to 0.000")
    keys(one, Qt.Key.Key_Return)
    assert one.more is None
    field = case.fields.rows["beta"]
    click(field)
    wait(lambda: field.more is not None, "the extremes")
    told = [w.text() for w in field.more.findChildren(type(case.facts))]
    assert told[told.index("least") + 1].startswith("99900\nat 1,")
    assert told[told.index("greatest") + 1].startswith("100000\nat 0,")
    buttons = {b.text(): b for b in field.more.findChildren(type(window.bench.pages["case"].blocks.head))}
    click(buttons["Go to the least"])
    np.testing.assert_allclose(window.document.camera.focus[0], 1.0)
    assert window.view.pin.place[0] == pytest.approx(1.0)
    name = window.document.flow.boundaries[0].name
    row = case.boundaries._rows[name]
    click(row, row.rect().topLeft() + row.rect().center() / 8)
    assert row.more is not None


@pytest.mark.gui
def test_the_balance_is_saved_as_a_table(window, odd, tmp_path):
    case = opened(window, odd, anyway=True)
    document = window.document
    for role, text in (("velocity", "flux_1, flux_2, flux_3"), ("density", "alpha"), ("pressure", "beta")):
        pick(case.roles.pickers[role], text)
        wait(lambda r=role: document.flow.roles.fields(r), role)
    settle(window)
    click(case.balance.button)
    wait(lambda: case.balance.balances, "the balance")
    assert "Mass: net" in case.balance.verdict.text()
    assert "Energy: net" in case.balance.verdict.text()
    case.balance.save_to(tmp_path / "balance")
    rows = list(csv.reader((tmp_path / "balance.csv").read_text().splitlines()))
    assert rows[0] == ["boundary", "kind", "area", "mass in", "mass out", "mass net", "energy in", "energy out", "energy net"]
    inlet = next(r for r in rows if r[1] == "inlet")
    assert float(inlet[3]) == pytest.approx(1.2 * 6.5625)
    assert float(rows[-1][5]) == pytest.approx(0.0, abs=1e-9)
    # Total enthalpy: γ/(γ−1) p u + ½ ρ u³, averaged over the nodes of the inlet.
    z = np.linspace(0, 1, N)
    u = 40 * z * (1 - z)
    assert float(inlet[6]) == pytest.approx(np.trapezoid(3.5 * 1e5 * u + 0.6 * u**3, z), rel=1e-9)


@pytest.mark.gui
def test_a_part_is_read_and_the_whole_again(window):
    case = window.bench.pages["case"]
    click(window.rail.buttons["case"])
    settle(window)
    document, reading = window.document, case.reading
    layers, whole = document.study.layers, document.flow.n_points
    click(reading.section.head)
    assert set(reading.quantities) == {"Density", "Pressure", "Velocity"}
    assert not reading.again.isEnabled()
    click(reading.quantities["Pressure"], reading.quantities["Pressure"].rect().topLeft() + QPoint(8, 8))
    click(reading.blocks["upstream"], reading.blocks["upstream"].rect().topLeft() + QPoint(8, 8))
    type_into(reading.every, "2")
    assert reading.again.isEnabled()
    assert "read the case again" in reading.state.text()
    click(reading.again)
    wait(lambda: len(document.flow.blocks) == 2, "the part")
    settle(window)
    assert document.flow.roles.pressure is None
    assert document.flow.n_points < whole / 8
    assert document.study.layers == layers
    assert reading.section.title == "What is read: a part"
    assert not reading.blocks["upstream"].isChecked()
    window.act("undo")
    wait(lambda: document.flow.n_points == whole, "undo")
    window.act("redo")
    wait(lambda: document.flow.n_points < whole, "redo")
    settle(window)
    click(reading.everything)
    wait(lambda: document.flow.n_points == whole, "the whole")
    click(reading.region, QPoint(8, 8))
    type_into(reading.corners["low"][0], "1.0")
    click(reading.again)
    wait(lambda: document.flow.bounds[0][0] > 0.5, "the region")
    settle(window)


@pytest.mark.gui
def test_a_case_that_does_not_fit_says_what_would(window, tmp_path, monkeypatch):
    """In the room for its points, velocity and half of the rest the other arrays must stay out, or every second point is read."""
    points = cube_points(21)
    data = structured(points, (21, 21, 21))
    add(data.GetPointData(), "Velocity", np.ones((len(points), 3)))
    for n in range(8):
        add(data.GetPointData(), f"species {n}", np.arange(float(len(points))))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "large.vts")

    class Memory:
        available = len(points) * (24 + 24 + 4 * 8) / 0.8
        percent = 50.0
        used = total = 1

    monkeypatch.setattr("tidal_lens.formats.reading.psutil.virtual_memory", Memory)
    before = window.document.flow
    window.document.open_path(tmp_path / "large.vts")
    wait(lambda: any("GB of memory" in t for t in texts(window)), "the refusal")
    assert window.document.flow is before
    buttons = {b.text(): b for strip in window.strips.live() for b in strip.buttons}
    assert set(buttons) >= {"Read it without 8 arrays that play no role", "Read every 2nd point"}
    click(buttons["Read it without 8 arrays that play no role"])
    wait(lambda: window.document.flow.title == "large", "the part")
    settle(window)
    assert set(window.document.flow.fields) == {"Velocity"}
    assert len(window.document.flow.offered[1]) == 9


@pytest.mark.gui
def test_a_part_that_cannot_be_read_leaves_what_is_shown(window):
    """A region beside the flow: a message, and the study says again what is on the table."""
    document, reading = window.document, window.bench.pages["case"].reading
    click(window.rail.buttons["case"])
    click(reading.section.head)
    shown = document.flow
    click(reading.region, QPoint(8, 8))
    type_into(reading.corners["low"][0], "900")
    type_into(reading.corners["high"][0], "901")
    click(reading.again)
    wait(lambda: any("nothing of the flow" in t for t in texts(window)), "the message")
    assert document.flow is shown
    assert document.study.reading.low is None
    assert not reading.region.isChecked()
    window.act("outline")
    spin(0.1)
    assert sum("nothing of the flow" in t for t in texts(window)) == 1, "no later edit tries again"
    settle(window)


@pytest.mark.gui
def test_an_incompressible_result_counts_its_pressure_from_the_free_stream(window, tmp_path):
    """No density in it and a pressure of zero upstream: both are typed, and Bernoulli's total pressure is the same everywhere."""
    points = cube_points(N)
    data = structured(points, (N, N, N))
    u = np.column_stack([2 + points[:, 0], -points[:, 1], 0 * points[:, 2]])
    add(data.GetPointData(), "velocity", u)
    add(data.GetPointData(), "p", 0.5 * 1.2 * (4.0 - (u**2).sum(axis=1)))
    path = tmp_path / "water.vts"
    write(vtkXMLStructuredGridWriter(), data, path)
    case = opened(window, path)
    document = window.document
    for field, text in ((case.reference.pressure, "0"), (case.reference.density, "1.2"),
                        (case.reference.velocity[0], "2"), (case.reference.velocity[1], "0")):
        type_into(field, text)
        settle(window)
    state = document.evaluator.store.reference
    assert (state.pressure, state.density, state.velocity[0], state.mach) == (0.0, 1.2, 2.0, None)
    click(window.rail.buttons["derive"])
    window.bench.pages["derive"].show_quantity("bernoulli-coefficient")
    settle(window)
    assert np.allclose(document.evaluator.store.values("bernoulli-coefficient"), 1.0)
    assert "density of the free stream" in window.bench.pages["derive"].notes.text()
    window.bench.pages["derive"].show_quantity("mach")
    assert "Needs absolute pressure" in window.bench.pages["derive"].span.text()
    click(window.rail.buttons["case"])
    type_into(case.reference.pressure, "-3")
    settle(window)
    assert np.allclose(document.evaluator.store.values("bernoulli-coefficient"), 1.0 + 3 / 2.4)
    keys(window, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    wait(lambda: document.evaluator.store.reference.pressure == 0.0, "undo")
