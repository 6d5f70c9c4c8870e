"""Facts of a card: unfolded when they are wanted, true, kept up, and gone to."""

import numpy as np
import pytest

from driving import click, settle
from tidal_lens.study.facts import facts_of

pytestmark = pytest.mark.gui


def told(window):
    return {f.name: f.value for f in window.bench.card.facts._shown}


def test_facts_are_those_of_what_is_drawn(window):
    document = window.document
    layer = next(x for x in document.study.layers if x.kind == "slice")
    document.choose(layer.id)
    settle(window)
    panel = window.bench.card.facts
    assert panel.isVisible()
    assert panel.table is None, "nothing is worked out before it is wanted"
    click(panel.section.head)
    settle(window)
    result = document.asking.results[layer.id]
    assert told(window)["Faces"] == f"{len(result.geometry.faces):,}"
    low, high = document.flow.bounds
    box = float(np.prod(np.delete(high - low, layer.shape.axis)))
    assert 0.9 * box < float(told(window)["Area"]) < box, "the tank, but for what stands in it"
    assert float(told(window)["Least"]) == pytest.approx(result.colours.min(), rel=1e-3)
    least = next(f for f in facts_of(result) if f.name == "Least")
    button = next(b for b in panel.table.findChildren(type(panel.section.head)) if b.text() == "Go to the least")
    click(button)
    settle(window)
    assert window.view.pin.place == least.place
    area = told(window)["Area"]
    window.act("add-mask")
    settle(window)
    document.choose(layer.id)
    settle(window)
    assert float(told(window)["Area"]) < float(area), "of what the mask left"
    window.act("undo")
    settle(window)
    document.choose(layer.id)
    settle(window)
    assert told(window)["Area"] == area


def test_facts_of_lines_and_of_what_has_none(window):
    window.act("add-streamlines")
    settle(window)
    click(window.bench.card.facts.section.head)
    settle(window)
    lines = window.document.asking.results[window.document.chosen].geometry
    assert told(window)["Lines"] == str(lines.n_lines)
    assert float(told(window)["Length of all"]) == pytest.approx(lines.lengths.sum(), rel=1e-3)
    window.act("add-mask")
    settle(window)
    assert not window.bench.card.facts.isVisible()
