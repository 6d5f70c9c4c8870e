"""Tasks of Trace, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import settle, wait
from hands import Hands
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.sampling.mesh import mesh_of

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    empty.show_station("trace")
    settle(empty)
    return empty


def begun(opened, hands, tile):
    count = len(opened.document.study.layers)
    hands.click(opened.bench.pages["trace"].tiles[tile])
    wait(lambda: len(opened.document.study.layers) > count, "the card")
    settle(opened)
    return opened.bench.card.controls["streamlines"]


def made(opened):
    return opened.document.asking.results[opened.document.chosen]


def see(opened, widget):
    """Scrolling is no action."""
    opened.bench.scroller.ensureWidgetVisible(widget)
    settle(opened)


def test_a_hundred_lines_from_upstream_coloured_by_cp_take_four_actions(opened):
    hands = Hands()
    controls = begun(opened, hands, "add-streamlines")
    hands.type(controls.seeds.fields["count"][0], "100")
    settle(opened)
    see(opened, controls.chooser)
    hands.pick(controls.chooser, next(t for t in (controls.chooser.itemText(n) for n in range(controls.chooser.count())) if "Cp" in t
                                      or t.startswith("Pressure coefficient")))
    settle(opened)
    assert hands.actions == 4
    lines = made(opened).geometry
    assert lines.n_lines == lines.n_seeds == 100
    assert opened.document.chosen_layer.look.colour_by == "cp"
    flow = opened.document.flow
    wind = np.array(flow.reference.velocity) / flow.reference.speed
    body = next(b for b in flow.boundaries if b.kind == "wall").points @ wind
    assert (made(opened).made.began @ wind).max() < body.min() + 0.02 * flow.size, "upstream of the body"


def test_five_hundred_ribbons_from_the_rear_of_the_wall_take_four_actions(opened):
    hands = Hands()
    controls = begun(opened, hands, "add-seed-boundary")
    hands.type(controls.seeds.fields["count"][0], "500")
    hands.type(controls.seeds.fields["rear"][0], "0.2")
    settle(opened)
    see(opened, controls.drawn.drawn)
    hands.click(controls.drawn.drawn.button("ribbon"))
    settle(opened)
    assert hands.actions == 4
    result, flow = made(opened), opened.document.flow
    wall = next(b for b in flow.boundaries if b.kind == "wall").points
    wind = np.array(flow.reference.velocity) / flow.reference.speed
    began = result.made.began @ wind
    assert began.min() > (wall @ wind).max() - 0.25 * np.ptp(wall @ wind)
    assert result.geometry.n_lines > 450
    assert any(d.faces is not None and len(d.faces) > 5000 for d in result.dressed)


def test_wall_streamlines_like_an_oil_film_take_two_actions(opened):
    hands = Hands()
    begun(opened, hands, "add-wall-lines")
    card = opened.document.chosen
    cut = next(x for x in opened.document.study.layers if x.kind == "slice")
    hands.click(opened.deck.cards[cut.id], QPointF(opened.deck.cards[cut.id].lamp_rect().center()))
    settle(opened)
    assert hands.actions <= 3
    assert not opened.document.study.layer(cut.id).shown
    assert opened.document.asking.results[card].geometry.n_lines > 500


def dead_water(opened):
    """The middle of where the flow goes back, behind the body: what a user sees on a slice."""
    flow, store = opened.document.flow, opened.document.evaluator.store
    back = store.values("velocity-x") < -0.02 * flow.reference.speed
    wall = next(b for b in flow.boundaries if b.kind == "wall").points
    return np.median(flow.points[back & (flow.points[:, 0] > wall[:, 0].max() - 0.02 * flow.size)], axis=0)


def test_incoming_lines_dead_water_and_its_outline_take_at_most_twelve_actions(opened):
    """Nothing seeded upstream enters the dead water; what is seeded there stays, and the outline is traced backward."""
    hands = Hands()
    begun(opened, hands, "add-streamlines")
    incoming = opened.document.chosen
    controls = begun(opened, hands, "add-streamlines")
    place = dead_water(opened)
    for name, y in (("start", -0.03), ("end", 0.03)):
        for field, value in zip(controls.seeds.fields[name], (place[0], y, place[2]), strict=True):
            hands.type(field, f"{value:.3f}")
    settle(opened)
    inside = opened.document.chosen
    hands.key(opened.view, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    settle(opened)
    see(opened, controls.direction)
    hands.click(controls.direction.button("backward"))
    settle(opened)
    assert hands.actions <= 12
    results = opened.document.asking.results
    for card in (incoming, inside, opened.document.chosen):
        assert results[card].geometry.n_lines > 0
    assert len({x.look.colour_by for x in opened.document.study.layers if x.kind == "streamlines"}) == 1, "one key"
    store = opened.document.evaluator.store
    against = results[incoming].geometry.stencil.apply(store.values("velocity-x")) < 0.0
    assert against.mean() < 0.02, "the stream goes round the dead water"
    stays = results[inside].geometry
    assert (stays.stencil.apply(store.values("velocity-x")) < 0.0).mean() > 0.05, "what begins there has been carried back"


def test_the_base_bubble_is_filled_in_three_actions(opened):
    hands = Hands()
    controls = begun(opened, hands, "add-seed-fill")
    see(opened, controls.seeds.where)
    hands.pick(controls.seeds.where, next(t for t in (controls.seeds.where.itemText(n) for n in range(controls.seeds.where.count()))
                                          if t.startswith("Velocity x")))
    settle(opened)
    assert hands.actions == 3
    result, store, flow = made(opened), opened.document.evaluator.store, opened.document.flow
    assert result.geometry.n_lines > 10
    stencil, inside = mesh_of(flow).locate(result.made.began)
    assert inside.all()
    assert (stencil.apply(store.values("velocity-x")) <= 1e-9).all(), "all begin where the flow goes back"


def test_running_particles_under_gravity_take_three_actions(opened):
    hands = Hands()
    controls = begun(opened, hands, "add-particles")
    hands.type(controls.particle.diameter, "50")
    see(opened, controls.drawn.marks.running)
    hands.tick(controls.drawn.marks.running)
    wait(lambda: opened.view.scenery.phase > 0.1, "the marks to run")
    assert hands.actions <= 5
    own, wall = made(opened).made.began, next(b for b in opened.document.flow.boundaries if b.kind == "wall").points
    assert own[:, 2].min() > np.median(wall[:, 2]), "let go above the body"
    hands.tick(controls.drawn.marks.running)
    settle(opened)
