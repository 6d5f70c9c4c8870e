"""Tasks of Look, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF

from driving import click, drag, pick, settle, type_into
from tidal_lens.demo.kittiwake import ASSETS

pytestmark = pytest.mark.gui


class Hands:
    """Does what a user does, and counts it."""

    def __init__(self):
        self.actions = 0

    def click(self, widget):
        self.actions += 1
        click(widget)

    def pick(self, box, text):
        self.actions += 2  # the list is opened, an entry is clicked
        pick(box, text)

    def drag(self, widget, begin, end):
        self.actions += 1
        drag(widget, begin, end)

    def type(self, field, text):
        self.actions += 1
        type_into(field, text)


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
