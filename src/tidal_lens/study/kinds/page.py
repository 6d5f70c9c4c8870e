"""All kinds of layers as a page of the user guide."""

from __future__ import annotations

from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.kind import Kind

_HEAD = """# Layers

This page is made from the list of kinds (`tidal-lens layers`). A layer has a card in the deck. Its *shape* says what is worked out,
its *look* how that is drawn; a surface or lines can be coloured by any quantity, and changing the look works nothing out again.
"""


def page() -> str:
    """The page as Markdown."""
    return "\n".join([_HEAD, *(_entry(kind) for kind in KINDS)])


def _entry(kind: Kind) -> str:
    shape = kind.shape
    lines = [f"## {kind.name.replace('-', ' ').capitalize()}", "", kind.help, ""]
    where = f"Tiles of the {kind.station.capitalize()} station" if kind.station else f"Begun by {kind.begun_by}"
    lines.append(f"- {where}{': ' + ', '.join(f'*{t.name}* (`{t.id}`)' for t in kind.tiles) if kind.tiles else '.'}")
    comes = {"lines": "Comes to lines", "surface": "Comes to a surface", "points": "Comes to points",
             "none": "Comes to nothing of its own: it shows in other cards"}
    exact = ", drawn in the exact colours of its key" if shape.geometry == "surface" and not shape.lit else ""
    lines.append(f"- {comes[shape.geometry]}{exact}.")
    settings = [name for name, info in shape.model_fields.items() if name != "kind" and not info.exclude]
    lines.append(f"- Settings: {', '.join(f'`{name}`' for name in settings)}.")
    return "\n".join([*lines, ""])


