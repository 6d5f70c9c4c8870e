"""Pages of the help: the guide, keys and commands, and what the program is made of; searched by words."""

from __future__ import annotations

import re
import sys
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib import metadata, resources
from pathlib import Path

from tidal_lens import __version__

_MOUSE = (("Turn the view", "left drag, arrows", "Double-click sets the point that it turns about."),
          ("Move the view", "middle drag, Shift+left", ""), ("Zoom", "wheel, + −", "Zooms to the pointer."),
          ("Magnify", "M and left drag", "Frames a rectangle."),
          ("Choose several cards", "Ctrl+click", "What is set is set on all of them."))
_GUIDES = ("first-hour", "case", "derive", "look", "trace", "find", "optics", "measure", "machines", "compare", "tell")
_OTHERS = ("quantities", "layers", "formats", "api")
_OURS = (("Source Sans 3, typeface", "fonts/SourceSans3-LICENSE.md"), ("Tidal Symbols, typeface", "fonts/TidalSymbols-LICENSE.txt"),
         ("Lucide, icons", "icons/LICENSE-lucide.txt"), ("three.js, models in reports", "report/LICENSE-three.txt"))
_ROUND = 70  # letters on each side of a hit


@dataclass(frozen=True)
class Page:
    """A page: its name, title, text as Markdown, and the folder that its pictures lie in."""

    name: str
    title: str
    text: str
    folder: Path | None = None


@dataclass(frozen=True)
class Hit:
    """Where words were found: the page, the heading above, and the words with what stands round them."""

    page: str
    heading: str
    words: str


def docs_folder() -> Path | None:
    """Where the documents are: beside the sources, or where they were installed."""
    for folder in (Path(__file__).parents[3] / "docs", Path(sys.prefix) / "share" / "tidal-lens" / "docs"):
        if (folder / "guide").is_dir():
            return folder
    return None


@lru_cache(maxsize=1)
def _documents() -> tuple[Page, ...]:
    folder = docs_folder()
    out: list[Page] = []
    for part, names in (("guide", _GUIDES), ("", _OTHERS)):
        for name in names if folder is not None else ():
            path = (folder or Path()) / part / f"{name}.md"
            if path.is_file():
                text = path.read_text(encoding="utf-8")
                title = text.partition("\n")[0].lstrip("# ").strip()
                out.append(Page(name, title or name, text, path.parent))
    return tuple(out)


def pages(commands: Sequence[tuple[str, str, str]]) -> tuple[Page, ...]:
    """All pages, keys and commands first."""
    rows = "\n".join(f"| {_cell(title)} | {_cell(keys)} | {_cell(text)} |" for title, keys, text in (*commands, *_MOUSE))
    keys = Page("keys", "Keys and commands", f"# Keys and commands\n\n| what | key | |\n|---|---|---|\n{rows}\n")
    return (keys, *_documents(), about())


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")


@lru_cache(maxsize=1)
def about() -> Page:
    """What the program is, and the licences of all that comes with it."""
    parts = ["# About Tidal Lens", "", f"Version {__version__}. See, locate and measure vortices, separation, shocks and recirculation "
             "in flow results. Licence: GPL-3.0-or-later; it comes without any warranty.", "", "## What it is made with", "",
             "| library | version | licence |", "|---|---|---|"]
    for name, version, licence in libraries():
        parts.append(f"| {_cell(name)} | {_cell(version)} | {_cell(licence)} |")
    for title, path in _OURS:
        text = resources.files("tidal_lens").joinpath(f"assets/{path}").read_text(encoding="utf-8")
        parts += ["", f"## {title}", "", *("    " + line for line in text.splitlines())]
    return Page("about", "About and licences", "\n".join(parts) + "\n")


def libraries() -> list[tuple[str, str, str]]:
    """Name, version and licence of each library that the program runs with, its own wants included."""
    waiting, found = ["tidal-lens"], {}
    try:
        metadata.distribution("tidal-lens")
    except metadata.PackageNotFoundError:
        wants = tomllib.loads((Path(__file__).parents[3] / "pyproject.toml").read_text(encoding="utf-8"))
        waiting = list(wants["project"]["dependencies"])
    while waiting:
        name = waiting.pop(0)
        key = name.lower().replace("_", "-")
        if key in found:
            continue
        try:
            one = metadata.distribution(name)
        except metadata.PackageNotFoundError:
            continue
        found[key] = (one.metadata["Name"], one.version, _licence(one))
        waiting += [re.split(r"[\s;<>=!~\[(]", want, maxsplit=1)[0] for want in one.requires or () if "extra ==" not in want]
    return sorted((v for k, v in found.items() if k != "tidal-lens"), key=lambda v: v[0].lower())


def _licence(one: metadata.Distribution) -> str:
    fields = one.metadata.json
    said = str(fields.get("license_expression") or "")
    if not said:
        classed = [c.rpartition(" :: ")[2] for c in one.metadata.get_all("Classifier") or () if c.startswith("License ::")]
        said = ", ".join(c for c in classed if c != "OSI Approved")
    if not said:
        said = str(fields.get("license") or "").strip().partition("\n")[0][:60]
    return said or "see its own files"


def search(found_in: Sequence[Page], text: str, most: int = 60) -> list[Hit]:
    """Where all words of a text stand in one paragraph, those in headings first."""
    words = [w.lower() for w in text.split()]
    if not words:
        return []
    first: list[Hit] = []
    rest: list[Hit] = []
    for page in found_in:
        heading = page.title
        for block in re.split(r"\n(?=\s*\n|#|\||- |\d+\. )", page.text):
            plain = " ".join(_plain(block).split())
            if block.lstrip().startswith("#"):
                heading = plain
            low = plain.lower()
            if plain and all(w in low for w in words):
                at = low.index(words[0])
                begin = plain.rfind(" ", 0, max(0, at - _ROUND)) + 1 if at > _ROUND else 0
                told = plain[begin:at + _ROUND].strip()
                (first if block.lstrip().startswith("#") else rest).append(Hit(page.name, heading, told))
    return [*first, *rest][:most]


def _plain(block: str) -> str:
    """A piece of Markdown without its marks."""
    text = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", block)
    return re.sub(r"[*`#|]+|^\s*[-:]+\s*$", " ", text)
