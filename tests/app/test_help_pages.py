"""The help: pages there are, words found in them, licences of all that comes along."""

from importlib import metadata

import pytest

from tidal_lens.app.help_pages import Page, about, docs_folder, libraries, pages, search

COMMANDS = [("Save the study", "Ctrl+S", "Save | it.")]


def test_all_guides_are_pages_and_their_pictures_are_there():
    found = {p.name: p for p in pages(COMMANDS)}
    assert next(iter(found)) == "keys"
    assert list(found)[-1] == "about"
    guides = {p.stem for p in (docs_folder() / "guide").glob("*.md")}
    assert guides <= set(found), "none is left out"
    import re

    for page in found.values():
        for picture in re.findall(r"!\[[^\]]*\]\(([^)]+)\)", page.text):
            assert (page.folder / picture).is_file(), picture


@pytest.mark.parametrize(("text", "pages_found"), [
    ("amber", ["a"]), ("AMBER bead", ["a"]), ("bead", ["b", "a"]), ("amber lamp", []), ("", [])])
def test_words_are_found_those_in_headings_first(text, pages_found):
    both = [Page("a", "A", "# A\n\nThe *amber* bead is `held`.\n\nA lamp."), Page("b", "B", "# B\n\n## The bead\n\ntext")]
    assert [h.page for h in search(both, text)] == pages_found


def test_a_hit_tells_its_heading_and_the_words_round_it():
    (hit,) = search([Page("a", "A", "# A\n\n## Part\n\nSome [linked](x.md) words.\n")], "linked words")
    assert (hit.heading, hit.words) == ("Part", "Some linked words.")


def test_every_library_that_comes_along_has_a_licence():
    """What is imported while the program runs is told of."""
    told = {name.lower().replace("_", "-"): licence for name, _, licence in libraries()}
    for name in ("PyQt6", "numpy", "scipy", "numba", "vtk", "matplotlib", "Jinja2", "python-docx", "distributed", "llvmlite", "PyQt6-Qt6"):
        assert told[name.lower()], name
    assert "GPL" in told["pyqt6"]
    assert len(told) > 30
    assert all(metadata.distribution(name) for name in told)
    text = about().text
    for words in ("SIL Open Font", "ISC License", "three.js authors"):
        assert words in text
