"""Tasks of Find, from the opened demo, by real events; an action is a click, a drag, or a number typed."""

import csv

import pytest
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QPushButton

from driving import settle, wait
from hands import Hands
from tidal_lens.demo.kittiwake import ASSETS

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(empty):
    empty.document.open_path(ASSETS / "kittiwake coarse.vtm")
    settle(empty)
    return empty


def test_the_list_of_all_four_takes_one_action(opened):
    hands = Hands()
    hands.click(opened.top.finder)
    settle(opened)
    cards = opened.view.findings.cards()
    assert [c.layer.kind for c in cards] == ["vortices", "separation", "shocks", "recirculation"]
    assert all(c.shown for c in cards)
    assert opened.ledger.found.list.isVisible()
    assert hands.actions <= 1


def test_to_the_strongest_vortex_a_cut_across_it_and_ribbons_round_it_take_three_actions(opened):
    opened.act("find-all")
    settle(opened)
    hands, ledger = Hands(), opened.ledger.found
    hands.click(ledger.list, ledger.list.place_of("V1"))
    settle(opened)
    hands.click(ledger.detail.buttons["cut"])
    settle(opened)
    hands.click(ledger.detail.buttons["seed"])
    settle(opened)
    cut, ribbons = opened.document.study.layers[-2:]
    assert (cut.kind, ribbons.kind) == ("slice", "streamlines")
    assert ribbons.look.ribbons is not None
    strongest = max(opened.view.findings.cards()[0].shown, key=lambda x: x.finding.strength)
    assert opened.view.findings.chosen[1] is strongest or strongest.name == "V1"
    assert not opened.document.asking.failures
    assert hands.actions <= 3


def test_circulation_along_the_vortex_as_csv_takes_three_actions(opened, tmp_path):
    opened.act("find-vortices")
    settle(opened)
    hands, ledger = Hands(), opened.ledger.found
    hands.click(ledger.list, ledger.list.place_of("V1"))
    settle(opened)
    hands.click(ledger.detail.buttons["curve"])
    hands.click(ledger.detail.save)
    wait(lambda: opened.findChildren(QFileDialog), "the dialog", 5)
    dialog = opened.findChildren(QFileDialog)[0]
    dialog.findChild(QLineEdit).setText(str(tmp_path / "v1.csv"))
    next(b for b in dialog.findChildren(QPushButton) if b.text().replace("&", "") in ("Save", "OK")).click()
    wait((tmp_path / "v1.csv").exists, "the file")
    with (tmp_path / "v1.csv").open() as file:
        assert "circulation" in next(csv.reader(file))
    assert hands.actions <= 3, "the name that the dialog asks for is not counted"
