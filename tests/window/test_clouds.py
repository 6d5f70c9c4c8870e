"""Particles laid into the flow: from files, sized and coloured by their own values, step by step."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF
from PyQt6.QtWidgets import QFileDialog

from driving import click, fill_in, move, pick, settle, slide, spin, type_into, wait
from tidal_lens.formats.clouds import read_cloud
from tidal_lens.formats.export import save_geometry
from tidal_lens.formats.written import Geometry
from tidal_lens.quantities.names import OWN
from tidal_lens.study.files import load_study


def spray(flow, path, n=60, shift=0.0):
    low, high = flow.bounds
    places = low + (high - low) * (0.2 + 0.6 * np.random.default_rng(8).random((n, 3))) + shift
    speed = np.column_stack([np.ones(n), np.linspace(0, 1, n), np.zeros(n)])
    save_geometry(path, Geometry(places, None, None, {"diameter": np.linspace(1e-6, 1e-4, n), "T": 300.0 + np.arange(n), "U": speed}))
    return places


def texts(window):
    return [strip.text.text() for strip in window.strips.live()]


def result(window):
    return window.document.asking.results[window.document.chosen]


@pytest.mark.gui
def test_particles_are_balls_of_their_own_values(window, tmp_path):
    flow = window.document.flow
    places = spray(flow, tmp_path / "spray.vtp")
    window.show_station("look")
    click(window.bench.pages["look"].tiles["add-cloud"])
    wait(lambda: window.findChildren(QFileDialog), "the dialog", 5)
    fill_in(window.findChildren(QFileDialog)[0], tmp_path / "spray.vtp")
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == "cloud", "the card")
    settle(window)
    layer = window.document.chosen_layer
    assert (layer.look.colour_by, layer.look.size_by, layer.look.sized) == (f"{OWN}T", f"{OWN}diameter", "share")
    np.testing.assert_allclose(result(window).geometry.points, places)
    np.testing.assert_allclose(result(window).colours, 300.0 + np.arange(60))
    np.testing.assert_allclose(result(window).sizes, np.linspace(1e-6, 1e-4, 60))
    shown = window.view.keys.keys()
    face = next(f for f in shown if f.quantity.name == f"{OWN}T")
    assert face.title == "T"
    assert (face.low, face.high) == pytest.approx((300.0, 359.0), abs=0.5)
    controls = window.bench.card.controls["cloud"]
    assert controls.source.text() == "From spray.vtp: 60 particles"

    # The flow's quantities colour them as well, and are told by name.
    offered = [controls.chooser.itemText(n) for n in range(controls.chooser.count())]
    pick(controls.chooser, next(t for t in offered if t.startswith("Speed")))
    settle(window)
    speed = window.document.evaluator.store.values("speed")
    np.testing.assert_allclose(result(window).colours, result(window).geometry.stencil.apply(speed))

    # A click, a drag and a list for size; each is a step of undo.
    click(controls.sized.button("even"))
    assert window.document.chosen_layer.look.sized == "even"
    before = window.document.chosen_layer.look.size
    slide(controls.size_slider, 0.8)
    assert window.document.chosen_layer.look.size > before
    settle(window)
    for _ in range(3):
        window.act("undo")
    settle(window)
    assert window.document.chosen_layer.look == layer.look

    # Saved and opened it is the same; so is what is saved of it.
    assert window.document.save(tmp_path / "deep" / "a.tidal")
    assert load_study(tmp_path / "deep" / "a.tidal").layer(layer.id) == layer
    window.act("save-card", str(tmp_path / "out.vtp"))
    wait(lambda: any("Saved out.vtp" in t for t in texts(window)), "the saving")
    back = read_cloud(tmp_path / "out.vtp")
    np.testing.assert_array_equal(back.values["diameter"], np.linspace(1e-6, 1e-4, 60))
    window.document.open_path(tmp_path / "deep" / "a.tidal")
    settle(window)
    assert window.document.study.layer(layer.id) == layer


@pytest.mark.gui
def test_masks_arrows_and_the_pointer_know_them(window, tmp_path):
    flow = window.document.flow
    places = spray(flow, tmp_path / "spray.vtp")
    window.act("add-cloud", str(tmp_path / "spray.vtp"))
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == "cloud", "the card")
    settle(window)
    card, controls = window.document.chosen, window.bench.card.controls["cloud"]
    click(controls.arrows.on, QPoint(8, 8))
    settle(window)
    assert window.document.chosen_layer.look.arrows.of == f"{OWN}U"
    click(controls.arrows.at.button("all"))
    settle(window)
    dressed = result(window).dressed[0]
    starts = dressed.points[dressed.offsets[:-1]]
    nearest = np.abs(starts[:, None] - places[None]).max(axis=2).min(axis=1)
    assert (nearest < 1e-9).sum() >= 60, "an arrow at each"
    shaft = dressed.points[1] - dressed.points[0]
    np.testing.assert_allclose(shaft / np.linalg.norm(shaft), [1.0, 0.0, 0.0], atol=1e-9)

    middle = float(np.median(places[:, 0]))
    window.act("add-mask")
    wait(lambda: window.document.chosen_layer.kind == "mask", "the mask")
    mask = window.document.chosen_layer
    first = mask.shape.conditions[0].with_(quantity="place-x", keep="below", value=middle)
    window.document.edit_layer(mask.with_(shape=mask.shape.with_(conditions=(first,))), "Mask")
    settle(window)
    np.testing.assert_allclose(window.document.asking.results[card].geometry.points, places[places[:, 0] <= middle])
    window.document.choose(card)

    told = []
    window.view.pointed.connect(told.append)
    camera, kept = window.view.shown_camera, places[places[:, 0] <= middle]
    pixels, depth = camera.project(kept, window.view.width(), window.view.height())
    for x, y in pixels[np.argsort(depth)][:30]:
        move(window.view, QPointF(float(x), float(y)))
        spin(0.3)
        if any("diameter" in t for t in told):
            break
    assert any(t.startswith("Point ") and "diameter" in t for t in told)


@pytest.mark.gui
def test_particles_without_a_flow_and_without_what_colours_them_are_told(empty, tmp_path):
    (tmp_path / "a.csv").write_text("x,y,z,d\n0,0,0,1\n")
    save_geometry(tmp_path / "a.vtp", Geometry(np.zeros((2, 3)), None, None, {"d": np.ones(2)}))
    empty.document.open_path(tmp_path / "a.vtp")
    wait(lambda: any("Particles are laid into a flow" in t for t in texts(empty)), "the message")


@pytest.mark.gui
def test_another_file_in_its_place_may_lack_the_values(window, tmp_path):
    spray(window.document.flow, tmp_path / "spray.vtp")
    window.act("add-cloud", str(tmp_path / "spray.vtp"))
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == "cloud", "the card")
    settle(window)
    save_geometry(tmp_path / "spray.vtp", Geometry(window.document.flow.points[:5] + 0.0, None, None, {"other": np.ones(5)}))
    window.act("again")
    settle(window)
    card = window.document.chosen
    wait(lambda: "no T" in window.document.asking.failures.get(card, ""), "the trouble on the card")
    assert len(result(window).geometry.points) == 5, "they are shown all the same"


@pytest.mark.gui
def test_particles_go_with_the_steps_of_a_series(window, tmp_path):
    window.open_demo("kittiwake gust.cgns")
    settle(window)
    flow = window.document.flow
    steps = len(window.document.clock.times)
    for n in range(steps):
        spray(flow, tmp_path / f"spray_{n:02}.vtp", n=20 + n)
    window.document.open_path(tmp_path / "spray_00.vtp")
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == "cloud", "the card")
    settle(window)
    for n in (0, steps - 1, 1):
        window.document.go_to_step(n)
        settle(window)
        assert len(result(window).geometry.points) == 20 + n
        assert f"step {n + 1} of {steps}" in window.bench.card.controls["cloud"].source.text()
    key = window.document.key(f"{OWN}diameter")
    assert key is None, "what sizes has no key"
    assert window.document.key(f"{OWN}T")[1:] == (300.0, 319.0), "all steps are coloured by the range that was seen first"


@pytest.mark.gui
def test_steps_of_particles_in_steady_flow_are_chosen(window, tmp_path):
    for n in range(3):
        spray(window.document.flow, tmp_path / f"spray_{n}.vtp", n=10 + n)
    sets = "".join(f'<DataSet timestep="{n}" file="spray_{n}.vtp"/>' for n in range(3))
    (tmp_path / "all.pvd").write_text(f'<VTKFile type="Collection"><Collection>{sets}</Collection></VTKFile>')
    window.act("add-cloud", str(tmp_path / "all.pvd"))
    wait(lambda: window.document.chosen_layer is not None and window.document.chosen_layer.kind == "cloud", "the card")
    settle(window)
    assert len(result(window).geometry.points) == 10
    type_into(window.bench.card.controls["cloud"].moment, "2")
    settle(window)
    assert len(result(window).geometry.points) == 12
