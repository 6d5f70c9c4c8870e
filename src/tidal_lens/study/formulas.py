"""Edits of a study's formulas: each gives another study. Sets of formulas as files; ready examples."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tidal_lens.errors import FileError, TidalLensError
from tidal_lens.quantities.names import FORMULA, name_fault
from tidal_lens.scratch import writing
from tidal_lens.study.model import FormulaText, Study
from tidal_lens.study.value import retold, walk

ENDING = ".tidal-formulas"
_LARGEST = 2_000_000

# (name, text, what it shows)
EXAMPLES: tuple[tuple[str, str, str], ...] = (
    ("overpressure", "(pressure - free_stream_pressure) / free_stream_pressure", "Pressure above the free stream's, as a part of it"),
    ("turning_angle", "angle(velocity, free_stream_velocity) * 180 / pi", "How far the flow is turned from the free stream [degrees]"),
    ("pressure_loss_percent", "100 * (1 - total_pressure / free_stream_total_pressure)", "Total pressure lost [%]"),
    ("vortex_sense", "where(q > 0, normalised_helicity, 0)", "Which way vortices turn, nothing outside them"),
    ("shock_strength", "where(div(velocity) < 0 and mach_number > 1, length(grad(pressure)) / pressure, 0)",
     "Steep compressions of the supersonic part"),
    ("supersonic_pocket", "1 if mach_number > 1 else 0", "1 where the flow is supersonic"),
    ("baroclinic_torque", "length(cross(grad(density), grad(pressure))) / density**2", "Where density and pressure make vorticity"),
    ("vortex_stretching", "dot(dot(grad(velocity), vorticity), unit(vorticity))", "How fast vortices are stretched"),
    ("calm_q", "smooth(q, 3)", "Q averaged three times with its neighbours"),
    ("reversed_flow", "where(dot(velocity, free_stream_velocity) < 0, speed, 0)", "Speed of what flows against the free stream"),
)


class FormulaFile(BaseModel):
    """A set of formulas as it is saved."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    tidal_lens_formulas: int = Field(ge=1, le=1)
    formulas: tuple[FormulaText, ...] = Field(max_length=200)


def text_of(study: Study, name: str) -> str | None:
    """The text of a formula, None where there is none of that name."""
    return next((f.text for f in study.formulas if f.name == name), None)


def free_name(study: Study, like: str) -> str:
    """A name that no formula has."""
    taken = {f.name for f in study.formulas}
    return next(n for n in (like, *(f"{like}_{k}" for k in range(2, 1000))) if n not in taken)


def with_formula(study: Study, name: str, text: str) -> Study:
    """A study with another text of a formula, or with one more.

    Raises
    ------
    TidalLensError
        The name cannot be taken, or there are too many.
    """
    if text_of(study, name) is None:
        fault = name_fault(name, frozenset())
        if fault:
            raise TidalLensError(fault, name, "Choose another name.")
        if len(study.formulas) >= 200:
            raise TidalLensError("A study holds at most 200 formulas.", name, "Delete some first.")
        new: Study = study.with_(formulas=(*study.formulas, FormulaText(name=name, text=text)))
        return new
    changed: Study = study.with_(formulas=tuple(FormulaText(name=name, text=text) if f.name == name else f for f in study.formulas))
    return changed


def renamed(study: Study, old: str, new: str) -> Study:
    """A study in which a formula has another name, in all formulas, layers and keys that use it.

    Raises
    ------
    TidalLensError
        The name cannot be taken.
    """
    fault = name_fault(new, frozenset(f.name for f in study.formulas))
    if fault:
        raise TidalLensError(fault, new, "Choose another name.")
    word = re.compile(rf"`[^`]*`|(?<![\w.]){re.escape(old)}(?!\w)")

    def rewritten(text: str) -> str:
        return word.sub(lambda m: m.group(0) if m.group(0).startswith("`") else new, text)

    def moved(key: str) -> str:
        return FORMULA + new + key[len(FORMULA) + len(old):] if _names(key, old) else key

    formulas = tuple(FormulaText(name=new if f.name == old else f.name, text=rewritten(f.text)) for f in study.formulas)
    result: Study = retold(study, "quantity", moved).with_(formulas=formulas)
    return result


def removed(study: Study, name: str) -> Study:
    """A study without a formula; what used it says that it is missing."""
    result: Study = study.with_(formulas=tuple(f for f in study.formulas if f.name != name))
    return result


def used_by(study: Study, name: str, formulas: list[str]) -> list[str]:
    """What uses a formula: other formulas, as given, and cards, by their names."""
    return [*formulas, *(layer.name for layer in study.layers if any(_names(key, name) for key in walk(layer, "quantity")))]


def _names(key: str, formula: str) -> bool:
    """Whether a quantity is a formula, or a component of it."""
    return key == FORMULA + formula or key.startswith(f"{FORMULA}{formula}.")


def export_formulas(study: Study, path: Path) -> None:
    """Write all formulas of a study to a file.

    Raises
    ------
    FileError
        It cannot be written.
    """
    held: dict[str, Any] = {"tidal_lens_formulas": 1, "formulas": [f.model_dump() for f in study.formulas]}
    with writing(path, "formulas", "Choose another folder.") as scratch:
        scratch.write_text(json.dumps(held, ensure_ascii=False, indent=1) + "\n", encoding="utf-8")


def import_formulas(study: Study, path: Path) -> tuple[Study, int]:
    """A study with the formulas of a file added, and how many they are; those of the same name and another text get a new name.

    Raises
    ------
    FileError
        The file holds no formulas.
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise FileError("The file is too large to hold formulas.", str(path), "Choose another file.")
        read = FormulaFile.model_validate_json(path.read_text(encoding="utf-8"))
    except OSError as exc:
        raise FileError(f"The file cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    except (ValidationError, UnicodeDecodeError, RecursionError) as exc:
        raise FileError("This is not a set of formulas.", str(path), "Choose a file that was exported from the Derive station.") from exc
    new, count = study, 0
    waiting = [f for f in read.formulas if text_of(study, f.name) != f.text]
    for one in waiting:
        name = one.name
        if text_of(study, name) is not None:
            name = free_name(new, name)
        new = with_formula(new, name, one.text)
        count += 1
    return new, count
