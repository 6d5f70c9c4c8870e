from pathlib import Path

from tidal_lens.cli import main
from tidal_lens.quantities.catalogue import CATALOGUE, HIDDEN
from tidal_lens.quantities.page import page

DOCS = Path(__file__).resolve().parents[2] / "docs" / "quantities.md"


def test_the_page_is_that_of_the_catalogue(capsys):
    assert DOCS.read_text(encoding="utf-8") == page()
    assert main(["quantities"]) == 0
    assert capsys.readouterr().out == page()


def test_every_quantity_is_on_it():
    text = page()
    for d in CATALOGUE:
        assert (f"**{d.title}**" in text) == (d.group != HIDDEN), d.name
