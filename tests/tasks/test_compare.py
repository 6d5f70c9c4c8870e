"""Tasks on two results, by real events; an action is a click, a drag, or a number typed. Files' names in dialogs are not counted."""

import numpy as np
import pytest

from driving import settle, wait
from hands import Hands
from tasks.test_measure import name_it, to_measure
from tidal_lens.demo.shipped import demo_path

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(demo_path("dipper medium.cgns"))
    settle(empty)
    return empty


def both(window):
    wait(lambda: all(c.flow is not None for c in window.document.beside.cases.values()), "the second case")
    settle(window)


def test_coarse_beside_fine_with_one_key_takes_three_actions(opened):
    hands = Hands()
    hands.click(to_measure(opened, hands)["beside"])
    name_it(opened, demo_path("dipper coarse.cgns"))
    both(opened)
    (other,) = opened.views.others.values()
    drawn = [view.scenery.scene(view.case.asking.table(), "#FFFFFF", "#000000") for view in (opened.view, other)]
    keyed = [{i.id: (i.colours.low, i.colours.high) for i in scene.items if getattr(i, "colours", None) is not None} for scene in drawn]
    assert keyed[0] == keyed[1] != {}
    points = [{i.id: len(i.points) for i in scene.items} for scene in drawn]
    assert all(points[0][name] > points[1][name] for name in keyed[0]), "each of its own mesh"
    assert hands.actions <= 3


def test_the_difference_of_pressure_on_the_wall_takes_three_actions(opened):
    opened.act("beside", str(demo_path("dipper coarse.cgns")))
    both(opened)
    document = opened.document
    walls = next(x for x in document.study.layers if x.kind == "wall")
    document.edit_layer(walls.with_(look=walls.look.with_(colour_by="cp", opacity=1.0)), "Cp")
    settle(opened)
    hands = Hands()
    hands.click(opened.deck.cards[walls.id])
    hands.click(to_measure(opened, hands)["difference"])
    settle(opened)
    layer = document.chosen_layer
    assert layer.id == walls.id
    result = document.asking.results[layer.id]
    assert document.evaluator.store.describe(layer.look.colour_by).title.startswith("Δ ")
    known = np.isfinite(result.colours)
    assert known.mean() > 0.97, "walls of both meshes meet, though neither lies on the other"
    assert np.median(np.abs(result.colours[known])) < 0.05
    assert hands.actions <= 3
