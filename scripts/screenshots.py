"""Make the pictures in docs/screenshots anew from the demo: ``python scripts/screenshots.py`` with src on the path."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtWidgets import QApplication, QScrollArea

from tidal_lens.app import theme
from tidal_lens.app.start import application, complete
from tidal_lens.app.stations.derive import DeriveStation
from tidal_lens.app.window import Window
from tidal_lens.demo.kittiwake import ASSETS, demo_file
from tidal_lens.demo.shipped import demo_path
from tidal_lens.formats.export import save_geometry
from tidal_lens.formats.written import Geometry
from tidal_lens.quantities.names import OWN
from tidal_lens.study.conditions import Condition
from tidal_lens.study.dressings import Arrows, Ribbons, Texture
from tidal_lens.study.kinds.seeds import LineSeeds
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import KeySetting, Subject
from tidal_lens.study.noted import with_note

OUT = Path(__file__).parent.parent / "docs" / "screenshots"


def settle(window: Window) -> None:
    end = time.monotonic() + 120
    quiet = 0
    while quiet < 20 and time.monotonic() < end:
        QApplication.processEvents()
        quiet = quiet + 1 if complete(window) else 0
        time.sleep(0.01)


def shoot(window: Window, name: str) -> None:
    settle(window)
    window.status.pointer.setText("")
    window.grab().save(str(OUT / f"{name}.png"))


def shoot_forms(window: Window) -> None:
    """A region and sized slices behind the body; then a texture with arrows across the wake."""
    document = window.document
    before = document.study
    for layer in before.layers[1:]:
        document.edit_layer(layer.with_(shown=False), "Hide")
    window.act("add-slice-set")
    settle(window)
    slices = document.chosen_layer
    assert slices is not None
    shape = slices.shape.with_(first=0.3, last=1.5, count=5)
    document.edit_layer(slices.with_(shape=shape, look=slices.look.with_(colour_by="total-pressure-loss", opacity=0.75)), "Slices")
    window.act("add-mask")
    settle(window)
    mask = document.chosen_layer
    assert mask is not None
    conditions = (Condition(quantity="place-y", keep="below", value=0.4), Condition(quantity="place-y", value=-0.4),
                  Condition(quantity="place-z", keep="below", value=0.5), Condition(quantity="place-z", value=-0.25))
    document.edit_layer(mask.with_(shape=mask.shape.with_(conditions=conditions), subject=Subject(card=slices.id)), "Mask")
    window.act("add-region")
    settle(window)
    window.cards.colour_by("helicity")
    settle(window)
    shoot(window, "forms")
    document.edit(before, "Back")
    for layer in before.layers[1:]:
        document.edit_layer(layer.with_(shown=False), "Hide")
    window.act("add-slice-x")
    settle(window)
    cut = document.chosen_layer
    assert cut is not None
    arrows = Arrows(of="velocity", spacing=0.022, part="along", bent=True)
    document.edit_layer(cut.with_(shape=cut.shape.with_(position=1.15), look=cut.look.with_(texture=Texture(), arrows=arrows)), "Texture")
    camera = document.camera
    window.act("look-plus-x")
    for _ in range(6):
        window.view.eye.zoom(0.85)
    shoot(window, "texture")
    if camera is not None:
        document.move_camera(camera)
    document.edit(before, "Back")
    settle(window)


def shoot_cloud(window: Window) -> None:
    """Made-up droplets about the body."""
    document, before = window.document, window.document.study
    random = np.random.default_rng(7)
    places = np.array([-0.1, -0.45, -0.2]) + np.array([1.9, 0.9, 0.55]) * random.random((1500, 3))
    values = {"diameter": 2e-5 * np.exp(0.5 * random.normal(size=1500)), "temperature": 290.0 + 60.0 * places[:, 0]}
    with tempfile.TemporaryDirectory() as folder:
        save_geometry(Path(folder) / "droplets.vtp", Geometry(places, None, None, values))
        window.act("add-cloud", str(Path(folder) / "droplets.vtp"))
        while document.chosen_layer is None or document.chosen_layer.kind != "cloud":
            settle(window)
        shoot(window, "cloud")
    document.edit(before, "Back")
    settle(window)


def shoot_series(window: Window) -> None:
    """A gust: the wake over time, and streaklines."""
    document = window.document
    window.open_demo("kittiwake gust.cgns")
    while not document.clock.times:
        settle(window)
    window.act("add-slice-x")
    settle(window)
    across = document.chosen_layer
    assert across is not None
    document.edit_layer(across.with_(shape=across.shape.with_(position=1.0)), "Position")
    window.cards.colour_by("vorticity-x")
    settle(window)
    document.edit(document.study.with_key("vorticity-x", KeySetting(low=-8000.0, high=8000.0)), "Range")
    first = document.study.layers[1]
    document.edit_layer(first.with_(shown=False), "Hide")
    document.go_to_step(9)
    window.show_station("look")
    window.act("over-time")
    while not all(moment.image for moment in window.over_time.moments):
        settle(window)
    shoot(window, "time")
    shoot_streaks(window)


def shoot_streaks(window: Window) -> None:
    """Streaklines of the gust, from a line of seeds before the nose."""
    document = window.document
    window.act("over-time")
    document.go_to_step(23)
    settle(window)
    for layer in document.study.layers:
        if layer.kind == "slice":
            document.edit_layer(layer.with_(shown=False), "Hide")
    window.act("add-streamlines")
    settle(window)
    layer = document.chosen_layer
    assert layer is not None
    seeds = LineSeeds(start=(-0.04, -0.12, -0.05), end=(-0.04, 0.12, -0.05), count=40)
    shape = layer.shape.with_(seeds=(seeds,), in_time="streaklines")
    document.edit_layer(layer.with_(name="Streaklines", shape=shape, look=LineLook(colour_by=f"{OWN}time from the seed", width=1.6)), "Streaklines")
    window.show_station("trace")
    settle(window)
    window.bench.scroller.ensureWidgetVisible(window.bench.card.controls["streamlines"].every)
    shoot(window, "streaklines")


def shoot_wall_lines(window: Window) -> None:
    """An oil film over the body."""
    document, before = window.document, window.document.study
    for layer in before.layers[1:]:
        document.edit_layer(layer.with_(shown=False), "Hide")
    window.act("add-wall-lines")
    while document.chosen_layer is None or not document.chosen_layer.shape.lying:
        settle(window)
    camera = document.camera
    for _ in range(3):
        window.view.eye.zoom(0.8)
    shoot(window, "wall-lines")
    if camera is not None:
        document.move_camera(camera)
    document.edit(before, "Back")
    settle(window)


def shoot_finds(window: Window) -> None:
    """All four, a vortex cut across with ribbons round it, and schlieren from the side."""
    document, before, camera = window.document, window.document.study, window.document.camera
    for layer in before.layers[1:]:
        document.edit_layer(layer.with_(shown=False), "Hide")
    window.act("find-all")
    settle(window)
    shocks = next(x for x in document.study.layers if x.kind == "shocks")
    document.edit_layer(shocks.with_(look=shocks.look.with_(opacity=0.12)), "Opacity")
    document.choose(document.study.layers[-4].id)
    shoot(window, "find")
    first = window.view.findings.cards()[0]
    for layer in document.study.layers:
        if layer.kind in ("separation", "shocks", "recirculation"):
            document.edit_layer(layer.with_(shown=False), "Hide")
    window.view.findings.choose(first.layer.id, first.shown[2].number)
    for act in ("cut", "seed", "curve", "go"):
        window.act(f"finding-{act}")
        settle(window)
    shoot(window, "find-vortex")
    document.edit(before, "Back")
    window.act("add-optics")
    while document.chosen_layer is None or document.chosen_layer.kind != "optics":
        settle(window)
    layer = document.chosen_layer
    shape = layer.shape.with_(shows="schlieren")
    document.edit_layer(layer.with_(name="Schlieren", shape=shape, look=layer.look.with_(colour_by=OWN + shape.title)), "Schlieren")
    settle(window)
    window.view.eye.fill()
    shoot(window, "optics")
    document.edit(before, "Back")
    if camera is not None:
        document.move_camera(camera)
    settle(window)


def shoot_measures(window: Window) -> None:
    """A section with taps."""
    document, before = window.document, window.document.study
    window.show_station("measure")
    window.act("add-section")
    while document.chosen_layer is None or document.chosen_layer.kind != "section":
        settle(window)
    window.act("lay-taps", str(ASSETS / "pressure taps (simulated).csv"))
    shoot(window, "measure")
    document.edit(before, "Back")
    settle(window)


def write_formula(window: Window) -> None:
    """A formula, taken up, tried and put on the slice."""
    derive = window.bench.pages["derive"]
    assert isinstance(derive, DeriveStation)
    panel = derive.formula
    panel.take_up("turning_angle", "angle(velocity, free_stream_velocity) * 180 / pi")
    panel.keep.click()
    settle(window)
    document = window.document
    document.choose(document.study.layers[1].id)
    window.cards.colour_by("formula:turning_angle")
    bar = window.bench.scroller.verticalScrollBar()
    assert bar is not None
    settle(window)
    bar.setValue(bar.maximum())
    shoot(window, "derive")
    bar.setValue(0)
    window.act("undo")


def shoot_tell(window: Window) -> None:
    """Three plates, the last of them shown."""
    document, before, camera = window.document, window.document.study, window.document.camera
    window.show_station("tell")
    window.act("plate-add", "The whole")
    settle(window)
    document.edit(document.study.with_(alone=document.study.layers[0].id), "Alone")
    settle(window)
    window.act("plate-add", "The body alone")
    settle(window)
    document.edit(document.study.with_(alone=None), "All")
    window.view.eye.zoom(0.45)
    window.view.redraw()
    settle(window)
    window.act("note-title")
    window.act("note-add", "Leeward vortices")
    settle(window)
    note = document.study.notes[-1].with_(at=(0.86, 0.1, 0.16), place=(0.12, 0.2))
    document.edit(with_note(document.study, note), "Note")
    document.note("")
    window.act("plate-add", "Behind it")
    window.show_notes()
    settle(window)
    shoot(window, "tell")
    document.edit(before, "Back")
    if camera is not None:
        document.move_camera(camera)
    settle(window)


def shoot_beside(window: Window) -> None:
    """The glider on two meshes, with its section and their numbers beside one another."""
    document = window.document
    document.open_path(demo_file())
    settle(window)
    window.show_station("measure")
    window.act("beside", str(demo_path("kittiwake coarse.vtm")))
    settle(window)
    window.act("add-section")
    settle(window)
    window.ledger.beside.study.click()
    settle(window)
    for bar in (s.verticalScrollBar() for s in window.ledger.findChildren(QScrollArea)):
        bar.setValue(330)
    shoot(window, "beside")


def shoot_machine(window: Window) -> None:
    """The rotor: three passages, lines through their sides, the mean on the meridional plane and its charts."""
    document = window.document
    document.open_path(demo_path("dipper.cgns"))
    settle(window)
    window.show_station("measure")
    cut = document.study.layers[1]
    document.edit_layer(cut.with_(shown=False), "Hide")
    walls = document.study.layers[0]
    document.edit_layer(walls.with_(shape=walls.shape.with_(boundaries=("Dipper hub", "Dipper blade")),
                                    look=walls.look.with_(opacity=1.0, colour_by="file:Pressure")), "Walls")
    document.edit(document.study.with_(passages_shown=9, outline=False), "Passages")
    window.act("add-streamlines")
    while document.chosen_layer is None or document.chosen_layer.kind != "streamlines":
        settle(window)
    layer = document.chosen_layer
    seeds = LineSeeds(start=(-0.035, 0.0665, 0.0315), end=(-0.035, 0.0465, 0.022), count=7)
    document.edit_layer(layer.with_(shape=layer.shape.with_(seeds=(seeds,), of="relative-velocity"),
                                    look=LineLook(colour_by="relative-mach", width=2.0)), "Lines")
    window.act("add-round-axis")
    settle(window)
    chosen = document.chosen_layer
    assert chosen is not None
    shape = chosen.shape.with_(quantity="total-pressure", stations=(0.05, 0.5, 0.95))
    document.edit_layer(chosen.with_(shape=shape), "Of the total pressure")
    document.edit_layer(document.study.layers[-1].with_(shown=True), "Show")
    window.act("frame")
    shoot(window, "machine")


def main() -> None:
    app = application("chart")  # noqa: F841  (must stay alive)
    window = Window()
    window.resize(1280, 800)
    window.show()
    document = window.document
    document.open_path(demo_file())
    settle(window)
    window.show_station("case")
    window.act("history", str(ASSETS / "kittiwake history.csv"))
    while not window.ledger.isVisible():
        settle(window)
    shoot(window, "case")
    window.act("undo")
    while window.ledger.isVisible():
        settle(window)
    window.act("add-isosurface", "q")
    while document.chosen_layer is None or document.chosen_layer.kind != "isosurface":
        settle(window)
    first = document.study.layers[1]
    document.edit_layer(first.with_(look=first.look.with_(opacity=0.55)), "Opacity")
    window.show_station("look")
    shoot(window, "look")
    iso = document.chosen
    shoot_forms(window)
    shoot_cloud(window)
    document.choose(iso)
    window.act("add-streamlines")
    while document.chosen_layer is None or document.chosen_layer.kind != "streamlines":
        settle(window)
    layer = document.chosen_layer
    assert layer is not None
    shape = layer.shape.with_(seeds=(LineSeeds(start=(0.8, -0.19, 0.1), end=(0.8, 0.19, 0.1), count=44),))
    document.edit_layer(layer.with_(shape=shape, look=LineLook(colour_by="mach", ribbons=Ribbons(wide=0.004))), "Seed line")
    window.show_station("trace")
    shoot(window, "trace")
    shoot_wall_lines(window)
    shoot_finds(window)
    shoot_measures(window)
    window.show_station("derive")
    write_formula(window)
    document.choose(first.id)
    window.show_station("look")
    shoot(window, "main-chart")
    theme.use("night")
    shoot(window, "main-night")
    theme.use("chart")
    shoot_tell(window)
    shoot_series(window)
    shoot_beside(window)
    shoot_machine(window)
    window.hide()
    window.close()


if __name__ == "__main__":
    sys.exit(main())
