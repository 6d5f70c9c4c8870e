"""Plates: views of a study to come back to. Each edit gives another study."""

from __future__ import annotations

from tidal_lens.study.model import Plate, Study

_SEEN = ("alone", "keys", "camera", "step", "ground", "lamp", "outline", "passages_shown", "beside", "divider")


def seen_now(study: Study, plate: Plate) -> Plate:
    """A plate with what is seen now; its id, name and notes stay."""
    lit = tuple(layer.id for layer in study.layers if layer.shown)
    noted = tuple(note.id for note in study.notes if note.shown)
    return plate.model_copy(update={"lit": lit, "noted": noted, **{name: getattr(study, name) for name in _SEEN}})


def with_plate(study: Study, name: str = "") -> Study:
    """The study with a plate of what is seen now, after the others."""
    used = {p.name for p in study.plates}
    plain = name or "Plate"
    free = plain if name and name not in used else next(f"{plain} {n}" for n in range(1, len(used) + 3) if f"{plain} {n}" not in used)
    plate = seen_now(study, Plate(id=study.new_id("plate"), name=free))
    return study.model_copy(update={"plates": (*study.plates, plate)})


def at_plate(study: Study, plate: Plate, steps: int = 1) -> Study:
    """The study as a plate has it; what has come since is dark, what is gone is passed over, and so is a step that there is not."""
    layers = tuple(x if x.shown == (x.id in plate.lit) else x.with_(shown=x.id in plate.lit) for x in study.layers)
    changes = {name: getattr(plate, name) for name in _SEEN}
    changes["notes"] = tuple(n if n.shown == (n.id in plate.noted) else n.with_(shown=n.id in plate.noted) for n in study.notes)
    if plate.alone is not None and study.layer(plate.alone) is None:
        changes["alone"] = None
    changes["step"] = plate.step if plate.step < max(steps, 1) else study.step
    return study.model_copy(update={"layers": layers, **changes})


def changed(study: Study, plate: Plate) -> Study:
    """The study with a plate of the same id replaced."""
    return study.model_copy(update={"plates": tuple(plate if p.id == plate.id else p for p in study.plates)})


def without_plate(study: Study, plate_id: str) -> Study:
    """The study with a plate less."""
    counter = max(study.counter, int(plate_id.rpartition("-")[2]) if plate_id.rpartition("-")[2].isdecimal() else 0)
    return study.model_copy(update={"plates": tuple(p for p in study.plates if p.id != plate_id), "counter": counter})


def moved_plate(study: Study, plate_id: str, by: int) -> Study:
    """The study with a plate so many places further on."""
    at = next((n for n, p in enumerate(study.plates) if p.id == plate_id), None)
    if at is None:
        return study
    rest = [p for p in study.plates if p.id != plate_id]
    rest.insert(max(0, min(at + by, len(rest))), study.plates[at])
    return study.model_copy(update={"plates": tuple(rest)})
