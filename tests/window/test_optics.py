"""Optics: pictures along the line of sight, by real events."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import click, drag, keys, pick, settle, type_into, wait
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.quantities.names import OWN
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


@pytest.fixture
def begun(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    count = len(empty.document.study.layers)
    click(empty.bench.pages["look"].tiles["add-optics"])
    wait(lambda: len(empty.document.study.layers) > count, "the card")
    settle(empty)
    return empty


def result(window):
    return window.document.asking.results[window.document.chosen]


def picture(window):
    """Values of the picture."""
    (name, values), = result(window).geometry.own.items()
    return name, values


def test_a_shadowgraph_from_the_side_stands_behind_the_flow(begun):
    layer = begun.document.chosen_layer
    assert layer.shape.shows == "shadowgraph"
    assert layer.look.colour_by == OWN + "shadowgraph"
    assert "whole flow" in begun.deck.cards[layer.id].toolTip(), "it says which of the two it is"
    points = result(begun).geometry.points
    assert np.ptp(points[:, 1]) < 1e-9, "across the sight"
    assert points[:, 1].min() >= begun.document.flow.stage[1][1] - 1e-9, "behind what is seen"
    name, values = picture(begun)
    assert name == "shadowgraph"
    assert np.isfinite(values).all()
    assert begun.document.evaluator.store.describe(OWN + name).scale == "paper", "ink on paper"


def test_what_is_shown_is_chosen_and_its_name_and_key_go_with_it(begun):
    controls = begun.bench.card.controls["optics"]
    seen = {}
    for text, shows in (("Schlieren", "schlieren"), ("Interferogram", "interferogram"), ("Direction of bending", "bending"),
                        ("Shadow on a screen", "screen")):
        pick(controls.shows, text)
        settle(begun)
        layer = begun.document.chosen_layer
        assert layer.shape.shows == shows
        assert layer.name == text
        name, seen[shows] = picture(begun)
        assert layer.look.colour_by == OWN + name
        assert not begun.document.asking.failures
    assert seen["interferogram"].min() >= 0.0
    assert seen["interferogram"].max() <= 1.0
    assert np.nanmax(np.abs(seen["bending"])) <= np.pi
    assert np.nanmedian(seen["screen"]) == pytest.approx(1.0, abs=0.05)
    pick(controls.shows, "Greatest along the sight")
    settle(begun)
    pick(controls.quantity, "Pressure coefficient")
    settle(begun)
    _, greatest = picture(begun)
    cp = begun.document.evaluator.store.values("cp")
    assert np.nanmax(greatest) <= np.nanmax(cp) * (1 + 1e-6)
    assert np.nanmax(greatest) > 0.9 * np.nanmax(cp)
    keys(begun.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    keys(begun.view, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(begun)
    assert begun.document.chosen_layer.shape.shows == "screen"


def test_the_knife_edge_turns_the_light(begun):
    controls = begun.bench.card.controls["optics"]
    pick(controls.shows, "Schlieren")
    settle(begun)
    _, across = picture(begun)
    slider = controls.knife
    drag(slider, QPointF(slider.width() / 2, slider.height() / 2), QPointF(0.75 * slider.width(), slider.height() / 2))
    settle(begun)
    assert begun.document.chosen_layer.shape.knife == pytest.approx(90.0, abs=12.0)
    assert np.abs(picture(begun)[1] - across).max() > 0.2
    type_into(controls.strength, "1")
    settle(begun)
    assert np.nanquantile(np.abs(picture(begun)[1] - 0.5), 0.9) < 0.05, "an edge for strong bending shows little of weak"


def test_the_sight_is_turned_by_its_bead_by_numbers_and_as_i_look(begun, tmp_path):
    document, controls = begun.document, begun.bench.card.controls["optics"]
    bead = document.chosen_layer.shape.handles(document.flow, result(begun).made).beads[0]
    pixels, _ = begun.view.shown_camera.project(bead.place[None], begun.view.width(), begun.view.height())
    at = QPointF(*pixels[0])
    drag(begun.view, at, at + QPointF(60, 0))
    settle(begun)
    turned = np.array(document.chosen_layer.shape.direction)
    assert 0.3 < abs(turned[1]) < 0.9999
    assert not result(begun).draft, "the true picture follows the draft"
    normal = np.cross(*(result(begun).geometry.points[[1, 700]] - result(begun).geometry.points[0]))
    assert abs(normal @ turned) / np.linalg.norm(normal) == pytest.approx(1.0, abs=1e-3)
    type_into(controls.direction, "0 0 -1")
    settle(begun)
    assert document.chosen_layer.shape.direction == (0.0, 0.0, -1.0)
    before = document.study
    for text, why in (("-1", "Three numbers"), ("a b c", "no numbers"), ("0 0 0", "")):
        type_into(controls.direction, text)
        settle(begun)
        assert document.study is before
        assert why in controls.direction.toolTip()
        assert bool(controls.direction.property("bad")) == bool(why)
    type_into(controls.direction, "1 0 0")
    settle(begun)
    assert document.chosen_layer.shape.direction == (1.0, 0.0, 0.0)
    assert not controls.direction.property("bad")
    click(controls.as_i_look)
    settle(begun)
    way = document.camera.focus - document.camera.eye
    assert np.array(document.chosen_layer.shape.direction) == pytest.approx(way / np.linalg.norm(way), abs=1e-3)
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layers == document.study.layers


def test_without_a_density_the_mean_of_what_there_is_is_shown(empty, tmp_path):
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter

    from making import cube_points
    from vtk_data import add, structured, write

    points = cube_points(9)
    data = structured(points, (9, 9, 9))
    add(data.GetPointData(), "Velocity", np.column_stack([1 + points[:, 2], 0 * points[:, 0], 0 * points[:, 0]]))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "bare.vts")
    empty.document.open_path(tmp_path / "bare.vts")
    settle(empty)
    empty.act("add-optics")
    wait(lambda: any(x.kind == "optics" for x in empty.document.study.layers), "the card")
    settle(empty)
    layer = empty.document.chosen_layer
    assert layer.shape.shows == "mean"
    assert not empty.document.asking.failures
    _, values = picture(empty)
    z = result(empty).geometry.points[:, 2]
    assert values == pytest.approx(1 + z, abs=0.01), "along y the speed is its own mean"
