"""Tasks of Look, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF

from driving import settle
from hands import Hands
from tidal_lens.demo.kittiwake import ASSETS

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    return empty


def test_two_mach_numbers_as_translucent_isosurfaces_take_four_actions(opened):
    hands = Hands()
    hands.click(opened.bench.pages["look"].tiles["add-isosurface"])
    settle(opened)
    controls = opened.bench.card.controls["isosurface"]
    hands.pick(controls.quantity, "Mach number")
    settle(opened)
    hands.type(controls.more, "1.2")
    settle(opened)
    layer = opened.document.chosen_layer
    assert (layer.shape.quantity, layer.shape.values) == ("mach", (1.0, 1.2))
    assert layer.look.opacity < 1.0
    geometry = opened.document.asking.results[layer.id].geometry
    taken = geometry.stencil.apply(opened.document.evaluator.store.values("mach"))
    assert {round(float(v), 3) for v in taken} == {1.0, 1.2}
    assert hands.actions <= 4


def test_six_slices_from_nose_to_tail_by_total_pressure_loss_take_four_actions(opened):
    hands = Hands()
    hands.click(opened.bench.pages["look"].tiles["add-slice-set"])
    settle(opened)
    controls = opened.bench.card.controls["slice-set"]
    hands.pick(controls.chooser, "Total-pressure loss")
    settle(opened)
    layer, flow = opened.document.chosen_layer, opened.document.flow
    assert opened.document.evaluator.store.describe(layer.look.colour_by).title.startswith("Total-pressure loss")
    places = np.unique(np.round(opened.document.asking.results[layer.id].geometry.points[:, 0], 9))
    assert len(places) == 6
    low, high = flow.body[0][0], flow.body[1][0]
    assert places[0] == pytest.approx(low, abs=0.05 * (high - low))
    assert places[-1] == pytest.approx(high, abs=0.05 * (high - low))
    assert hands.actions <= 4


def test_cells_with_q_above_a_dragged_value_by_helicity_take_four_actions(opened):
    hands, document = Hands(), opened.document
    hands.click(opened.bench.pages["look"].tiles["add-region"])
    settle(opened)
    layer = document.chosen_layer
    before, skin = layer.shape.levels()[0], document.asking.results[layer.id].geometry.area
    assert before[0] == "q"
    bead = opened.view.keys.grip_at("q", layer.id)
    hands.drag(opened.view, bead, bead + QPointF(0, 30))
    settle(opened)
    hands.pick(opened.bench.card.controls["region"].chooser, "Helicity")
    settle(opened)
    layer = document.chosen_layer
    result = document.asking.results[layer.id]
    assert layer.look.colour_by == "helicity"
    assert layer.shape.levels()[0][1] < before[1]
    assert result.geometry.area > skin
    q = result.geometry.stencil.apply(document.evaluator.store.values("q"))
    assert q.min() >= layer.shape.levels()[0][1] * (1 - 1e-9) - 1e-6 * abs(q).max()
    assert result.colours == pytest.approx(result.geometry.stencil.apply(document.evaluator.store.values("helicity")))
    assert "of the flow" in opened.deck.cards[layer.id].toolTip()
    assert hands.actions <= 4


def test_arrows_along_the_mid_plane_then_plain_lines_off_take_four_actions(opened):
    hands, document = Hands(), opened.document
    hands.click(opened.bench.pages["look"].tiles["add-slice-y"])
    settle(opened)
    controls = opened.bench.card.controls["slice"]
    opened.bench.scroller.ensureWidgetVisible(controls.arrows.on)
    settle(opened)
    hands.tick(controls.arrows.on)
    settle(opened)
    hands.click(controls.arrows.part.button("along"))
    settle(opened)
    layer = document.chosen_layer
    flow, dressed = document.flow, document.asking.results[layer.id].dressed[0]
    middle = 0.5 * (flow.bounds[0][1] + flow.bounds[1][1])
    assert layer.shape.position == pytest.approx(middle, abs=0.02 * flow.size)
    assert np.allclose(dressed.points[:, 1], layer.shape.position), "they lie in the plane"
    starts = dressed.points[::5]
    gaps = np.sort(np.linalg.norm(starts[:, None] - starts, axis=2), axis=1)[:, 1]
    assert np.median(gaps) == pytest.approx(layer.look.arrows.spacing * flow.size, rel=0.5), "on an even grid"
    hands.key(opened.view, "o")
    settle(opened)
    assert not document.study.outline
    assert hands.actions <= 4


def test_all_walls_but_one_by_cp_in_bands_with_labelled_lines_take_five_actions(empty, demo_path):
    empty.document.open_path(demo_path)
    settle(empty)
    hands, document = Hands(), empty.document
    walls = next(x for x in document.study.layers if x.kind == "wall")
    document.choose(walls.id)
    settle(empty)
    controls = empty.bench.card.controls["wall"]
    shown = [name for name, box in controls.boxes.items() if box.isChecked()]
    assert len(shown) >= 1
    hands.pick(controls.chooser, "Pressure coefficient")
    settle(empty)
    empty.bench.scroller.ensureWidgetVisible(controls.key.bands)
    hands.type(controls.key.bands, "10")
    settle(empty)
    empty.bench.scroller.ensureWidgetVisible(controls.contours.on)
    hands.tick(controls.contours.on)
    settle(empty)
    empty.bench.scroller.ensureWidgetVisible(controls.boxes[shown[0]])
    hands.tick(controls.boxes[shown[0]])
    settle(empty)
    layer = document.study.layer(walls.id)
    assert shown[0] not in layer.shape.boundaries
    assert layer.look.colour_by == "cp"
    assert document.study.keys["cp"].bands == 10
    assert layer.look.contours.of == "cp"
    assert layer.look.contours.labels
    assert hands.actions <= 5


def test_a_shadowgraph_from_the_side_over_the_view_takes_two_actions(opened):
    hands, document = Hands(), opened.document
    hands.click(opened.bench.pages["look"].tiles["add-optics"])
    settle(opened)
    hands.click(opened.bench.card.controls["optics"].fill)
    settle(opened)
    layer = document.chosen_layer
    assert layer.shape.shows == "shadowgraph"
    assert document.study.alone == layer.id
    way = document.camera.focus - document.camera.eye
    assert way / np.linalg.norm(way) == pytest.approx(layer.shape.direction, abs=1e-6)
    assert document.camera.span > 0, "parallel rays"
    geometry = document.asking.results[layer.id].geometry
    pixels, _ = document.camera.project(geometry.points[[0, -1]], opened.view.width(), opened.view.height())
    assert np.ptp(pixels[:, 0]) > 0.7 * opened.view.width() or np.ptp(pixels[:, 1]) > 0.7 * opened.view.height()
    assert hands.actions <= 2
