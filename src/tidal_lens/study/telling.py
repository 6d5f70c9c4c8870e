"""What a study says of the pictures, animations, reports and runs that are made of it."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import Field

from tidal_lens.study.value import LayerId, StudyPath, Value

Pixels = Annotated[int, Field(ge=16, le=12_000)]
Part = Literal["facts", "model", "plates", "findings", "measures", "balance", "history", "made"]
PARTS: tuple[Part, ...] = get_args(Part)
PART_TITLES: dict[Part, str] = {
    "facts": "Case and reference state", "model": "Model to turn", "plates": "Plates", "findings": "Findings", "measures": "Measures",
    "balance": "Balance", "history": "History of the run", "made": "How it was made"}


class PictureSetting(Value):
    """Pictures: pixels across and up, and whether their ground is transparent."""

    wide: Pixels = 1920
    tall: Pixels = 1200
    clear: bool = False


class FilmSetting(Value):
    """Animations: see :class:`tidal_lens.tell.film.Film`."""

    what: Literal["turn", "steps", "sweep", "running", "plates"] = "turn"
    seconds: Annotated[float, Field(gt=0.0, le=3600.0)] = 6.0
    rate: Annotated[float, Field(ge=0.1, le=120.0)] = 20.0
    wide: Pixels = 1280
    tall: Pixels = 720
    card: LayerId = ""
    way: Literal["once", "fro"] = "once"
    first: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    last: Annotated[int, Field(ge=-1, le=10_000_000)] = -1


class RunSetting(Value):
    """Runs over cases and steps: see :class:`tidal_lens.tell.batch.Plan`; the study's own case comes first.

    ``workers`` is 0 for as many as there are processors.
    """

    cases: Annotated[tuple[StudyPath, ...], Field(max_length=10_000)] = ()
    steps: Annotated[str, Field(max_length=200)] = "all"
    pictures: bool = True
    tables: bool = True
    report: bool = False
    workers: Annotated[int, Field(ge=0, le=256)] = 0


class ReportSetting(Value):
    """Reports: their title, that of the case where there is none, what stands in them, in which order, and what is said first."""

    title: Annotated[str, Field(max_length=200)] = ""
    words: Annotated[str, Field(max_length=20_000)] = ""
    parts: Annotated[tuple[Part, ...], Field(max_length=len(PARTS))] = PARTS
