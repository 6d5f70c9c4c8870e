"""The difference of a quantity between two cases, as a formula of the study."""

from __future__ import annotations

import re

from tidal_lens.errors import StudyError
from tidal_lens.quantities.catalogue import BY_NAME
from tidal_lens.quantities.formula.functions import ELSEWHERE
from tidal_lens.quantities.names import FILE, FORMULA, OWN, word_of
from tidal_lens.study.formulas import free_name, with_formula
from tidal_lens.study.model import Study

_BEGINS = "difference_in_"
_PARTS = (".x", ".y", ".z")


def spelt(quantity: str) -> str:
    """How a quantity is written in formulas.

    Raises
    ------
    StudyError
        It is brought along by a card, and no quantity of the flow.
    """
    if quantity.startswith(OWN):
        raise StudyError(f"{quantity[len(OWN):]} is a value of the card, and not known elsewhere.", "",
                         "Colour the card by another quantity.")
    base, part = (quantity[:-2], quantity[-2:]) if quantity[-2:] in _PARTS else (quantity, "")
    if base.startswith(FILE):
        return f"`{base[len(FILE):]}`{part}"
    if base.startswith(FORMULA):
        return f"{base[len(FORMULA):]}{part}"
    return f"{word_of(BY_NAME[base]) if base in BY_NAME else base}{part}"


def with_difference(study: Study, quantity: str, case: int = 1) -> tuple[Study, str]:
    """The study with the formula of a difference, another case less the first; and the quantity that it is.

    Parameters
    ----------
    study : Study
        What is on the table.
    quantity : str
        Of which the difference is taken.
    case : int
        The other case.

    Raises
    ------
    TidalLensError
        It cannot be taken, or there are too many formulas.
    """
    if is_difference(study, quantity):
        raise StudyError("It is a difference already.", quantity[len(FORMULA):], "Colour the card by a quantity of the flow.")
    word = spelt(quantity)
    function = next(name for name, number in ELSEWHERE.items() if number == case)
    text = f"{function}({word}) - {word}"
    there = next((f.name for f in study.formulas if f.text == text), None)
    if there is not None:
        return study, FORMULA + there
    plainly = re.sub(r"\W+", "_", word).strip("_")
    name = free_name(study, f"{_BEGINS}{plainly}"[:50] if case == 1 else f"{_BEGINS}{plainly}"[:42] + function[2:])
    return with_formula(study, name, text), FORMULA + name


def is_difference(study: Study, quantity: str) -> bool:
    """Whether a quantity is such a difference."""
    return any(FORMULA + f.name == quantity and f.text.startswith(tuple(ELSEWHERE)) for f in study.formulas)
