"""Tasks of Look, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import pytest

from driving import click, pick, settle, type_into
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
