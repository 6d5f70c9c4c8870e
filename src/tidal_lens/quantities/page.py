"""The catalogue and the formula language as a page of the user guide."""

from __future__ import annotations

from tidal_lens.quantities.catalogue import CATALOGUE, HIDDEN, Definition
from tidal_lens.quantities.formula.functions import FUNCTIONS
from tidal_lens.quantities.names import CONSTANTS, ROLES, constant_word, word_of

_HEAD = """# Quantities

This page is made from the catalogue (`tidal-lens quantities`). Units are SI; a result in other units gives other ones. All values stand
at nodes. Values of cells are brought there first, by the mean that is chosen in the Derive station.

Gradients: on structured blocks metric differences of second order, one-sided of the same order at the ends; on choice of fourth order,
which rings at shocks and on rough grids. On unstructured blocks least squares over the nodes joined by edges, weighted by one over the
distance squared; a quadratic fit over two rings at outer and lopsided nodes. Where blocks meet, the fit sees the nodes on all sides. On
choice, derivatives of cell values are taken between the cells themselves by the same ways, and brought to nodes then: they are those at
the middles of cells, also next to walls.
"""

_LANGUAGE = """## Formulas

A formula is a Python expression of names, numbers, `+ - * / **`, comparisons, `and`, `or`, `not`, `a if condition else b`, components
such as `velocity.x` or `grad(velocity).xy`, `(a, b, c)` for vectors and the functions below. Nothing else passes, and nothing is
executed but the checked tree.

Names: the study's formulas; `x y z` and `time`; roles (below), where an array plays them; arrays of the file by their own names, in
backticks if these hold spaces or stand for something else; quantities as they are called on
screen, with `_` for blanks; constants. Scalars, vectors and
tensors are checked before anything is computed. Units are carried where they are known; where they contradict one another, it is told.
"""


def page() -> str:
    """The page as Markdown."""
    parts = [_HEAD]
    groups = list(dict.fromkeys(d.group for d in CATALOGUE if d.group != HIDDEN))
    for group in groups:
        parts.append(f"\n## {group}\n")
        parts += [_entry(d) for d in CATALOGUE if d.group == group]
    parts.append("\n" + _LANGUAGE)
    parts.append("\n| role | unit |\n|---|---|\n")
    parts += [f"| `{role}` | {unit or '1'} |\n" for role, (_, unit) in ROLES.items()]
    parts.append("\nWhere no array plays a role, temperature is p / (ρ R), density p / (R T) or that of the free stream (an\n"
                 "incompressible flow: then what rests on gas laws or on derivatives of the density cannot be had), pressure follows\n"
                 "from the total energy, and viscosity is the typed one, or that of air by Sutherland's law (U.S. Standard Atmosphere\n"
                 "1976) in SI units.\n")
    parts.append("\n| constant | what it is | unit |\n|---|---|---|\n")
    parts += [f"| `{constant_word(name)}` | {about} | {unit or '1'} |\n" for name, (_, unit, about) in CONSTANTS.items()]
    parts.append("\n| function | what it gives |\n|---|---|\n")
    parts += [f"| `{f.takes}` | {f.about} |\n" for f in FUNCTIONS.values()]
    return "".join(parts)


def _entry(d: Definition) -> str:
    told = d.told.replace("|", "\\|")
    lines = [f"\n**{d.title}** {d.symbol} [{d.unit or '1'}], in formulas `{word_of(d)}`  \n{told}"]
    lines += [f"  \nFormula: `{d.formula}`"] if d.formula else []
    lines += [f"  \nSign: {d.sign}."] if d.sign else []
    lines += [f"  \nMind: {d.misleads}"] if d.misleads else []
    lines += [f"  \nSource: {d.source}."] if d.source else []
    return "".join(lines) + "\n"
