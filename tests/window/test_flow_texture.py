"""Flow texture on a card: ticked, changed, running, undone, saved; the paint below it shows through."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint

from driving import click, differing, pixels, settle, slide, spin, wait
from tidal_lens.study.files import load_study

pytestmark = pytest.mark.gui


def test_a_texture_is_ticked_changed_undone_and_saved(window, tmp_path):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(layer.id)
    settle(window)
    plain = pixels(window.view)
    texture = window.bench.card.controls["slice"].texture
    window.bench.scroller.ensureWidgetVisible(texture.on)
    click(texture.on, QPoint(8, 8))
    settle(window)
    streaked = pixels(window.view)
    changed = np.abs(streaked - plain).max(axis=-1) > 6
    assert 0.02 < changed.mean() < 0.9
    kept = abs(streaked[changed].mean(axis=0) - plain[changed].mean(axis=0))
    assert (kept < 25).all(), "the paint shows through"
    dressed = document.asking.results[layer.id].dressed[0]
    geometry = document.asking.results[layer.id].geometry
    assert dressed.vectors.shape == geometry.points.shape
    assert np.abs(dressed.vectors[:, 1]).max() < 1e-9 * np.abs(dressed.vectors).max() + 1e-12, "along the surface"
    window.bench.scroller.ensureWidgetVisible(texture.contrast)
    slide(texture.contrast, 0.05)
    settle(window)
    assert differing(pixels(window.view), plain) < differing(streaked, plain)
    look = document.study.layer(layer.id).look
    assert document.save(tmp_path / "a.tidal")
    assert load_study(tmp_path / "a.tidal").layer(layer.id).look == look
    window.act("undo")
    window.act("undo")
    settle(window)
    assert document.study.layer(layer.id).look.texture is None
    assert differing(pixels(window.view), plain) < 1e-3


def test_streaks_run_until_they_are_told_not_to(window):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(layer.id)
    settle(window)
    texture = window.bench.card.controls["slice"].texture
    window.bench.scroller.ensureWidgetVisible(texture.on)
    click(texture.on, QPoint(8, 8))
    settle(window)
    assert window.view.scenery.phase == 0.0
    window.bench.scroller.ensureWidgetVisible(texture.running)
    click(texture.running, QPoint(8, 8))
    wait(lambda: window.view.scenery.phase > 0.15, "the streaks to run")
    one = pixels(window.view)
    wait(lambda: window.view.scenery.phase > 0.4, "the streaks to run on")
    assert differing(pixels(window.view), one) > 0.005
    click(texture.running, QPoint(8, 8))
    settle(window)
    spin(0.2)
    phase = window.view.scenery.phase
    spin(0.3)
    assert window.view.scenery.phase == phase
    assert document.undo_what == "Running streaks"
