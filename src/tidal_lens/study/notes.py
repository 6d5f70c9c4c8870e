"""Notes on the view: texts with numbers that stay true, arrows to places of the flow, bars of length, pictures."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from tidal_lens.study.value import Identity, StudyPath, Value, Vector
from tidal_lens.study.words import number_text

Sort = Literal["text", "bar", "picture"]
_BRACE = re.compile(r"\{([^{}\n]{1,300})\}")
FACTS = ("case", "file", "step", "time", "mach", "cells", "points", "speed")
UNKNOWN = "…"  # of what is not known, or not yet


class Note(Value):
    """One note.

    Attributes
    ----------
    id : str
        As of a layer.
    sort : str
        A text, a bar with a length beside it, or a picture.
    text : str
        What it says; ``{case}``, ``{time}`` and other facts, and ``{Forces: CL}`` or ``{Vortices V1: circulation}``, numbers of cards and
        findings, are put in as they are now.
    place : tuple of float
        Its left upper corner as shares of the view.
    size : float
        Of its letters [points].
    frame : bool
        Whether it stands on a plate with a frame.
    bold : bool
        Whether its letters are bold.
    at : tuple or None
        A place of the flow that an arrow goes to.
    hangs : bool
        Whether it moves with that place, rather than stay where it is in the view.
    off : tuple of float
        Where it then stands from that place, in units of the view (its height is 640 in saved pictures).
    path : str
        Of a picture.
    wide : float
        Width of a picture as a share of the view; of a bar its length, as the flow has it, or 0 for a round one that fits.
    shown : bool
        Whether it is to be seen.
    """

    id: Identity
    sort: Sort = "text"
    text: Annotated[str, Field(max_length=4000)] = ""
    place: tuple[Annotated[float, Field(ge=-1.0, le=2.0)], Annotated[float, Field(ge=-1.0, le=2.0)]] = (0.4, 0.1)
    size: Annotated[float, Field(ge=5.0, le=96.0)] = 13.0
    frame: bool = True
    bold: bool = False
    at: Vector | None = None
    hangs: bool = False
    off: tuple[Annotated[float, Field(ge=-1e4, le=1e4)], Annotated[float, Field(ge=-1e4, le=1e4)]] = (40.0, -60.0)
    path: StudyPath = ""
    wide: Annotated[float, Field(ge=0.0, le=1e9)] = 0.0
    shown: bool = True


@dataclass(frozen=True)
class Known:
    """What texts of notes may name.

    Attributes
    ----------
    facts : mapping
        Texts by the names of :data:`FACTS`.
    numbers : callable
        Numbers of a card, by its name and the finding's (empty for a measure); None where there are none yet.
    """

    facts: Mapping[str, str]
    numbers: Callable[[str, str], Mapping[str, float] | None]


def filled(text: str, known: Known) -> str:
    """A note's text with what it names put in; what is not known is three dots, what is none of it stays."""
    def put(found: re.Match[str]) -> str:
        name = found[1].strip()
        if name in FACTS:
            return known.facts.get(name, UNKNOWN)
        card, colon, what = name.rpartition(": ")
        if not colon:
            return found[0]
        whose, _, finding = card.rpartition(" ")
        for numbers in (known.numbers(card, ""), known.numbers(whose, finding) if whose else None):
            if numbers is not None and what in numbers:
                return number_text(numbers[what])
        return UNKNOWN

    return _BRACE.sub(put, text)


def names_card(note: Note, name: str) -> bool:
    """Whether a note's text asks for a number of a card of that name."""
    return f"{{{name}: " in note.text or f"{{{name} " in note.text


def renamed(notes: tuple[Note, ...], old: str, new: str) -> tuple[Note, ...]:
    """Notes whose texts call a card by its new name; the same where none names it."""
    def retell(note: Note) -> Note:
        text = _BRACE.sub(lambda m: f"{{{new}{m[1][len(old):]}}}" if m[1].startswith((f"{old}: ", f"{old} ")) else m[0], note.text)
        return note if text == note.text else note.model_copy(update={"text": text})

    out = tuple(map(retell, notes))
    return notes if all(a is b for a, b in zip(out, notes, strict=True)) else out
