"""What notes of a study may name, as it is known now."""

from __future__ import annotations

from collections.abc import Mapping

from tidal_lens.study.evaluate import Evaluated, Evaluator, sifting_of, tables_of
from tidal_lens.study.model import Study
from tidal_lens.study.notes import Known, Note
from tidal_lens.study.said import listing
from tidal_lens.study.tables import numbers_of
from tidal_lens.study.words import number_text


def known_now(study: Study, evaluator: Evaluator, results: Mapping[str, Evaluated]) -> Known:
    """Facts of the case, and numbers of cards and findings as far as they were worked out."""
    flow, reference = evaluator.flow, evaluator.store.reference
    facts = {"case": flow.title, "file": flow.path.name, "step": str(flow.step), "cells": f"{flow.n_cells:,}",
             "points": f"{flow.n_points:,}",
             "speed": f"{number_text(reference.speed)}{' m/s' if flow.si_units else ''}"}
    if len(flow.times) > flow.step:
        facts["time"] = number_text(float(flow.times[flow.step]))
    if reference.mach is not None:
        facts["mach"] = number_text(reference.mach, 3)

    def numbers(card: str, finding: str) -> Mapping[str, float] | None:
        layer = next((x for x in study.layers if x.name == card), None)
        result = results.get(layer.id) if layer is not None else None
        if layer is None or result is None:
            return None
        if not finding:
            return numbers_of(tables_of(result, study)) if layer.shape.measures else None
        if not layer.shape.finds:
            return None
        found = next((x for x in listing(result.unmasked.findings, sifting_of(layer, study)) if x.name == finding), None)
        return None if found is None else {n.name: n.value for n in found.finding.numbers}

    return Known(facts, numbers)


def offered(study: Study, results: Mapping[str, Evaluated]) -> list[str]:
    """Names of numbers of cards and findings that a text may hold, without braces."""
    out = []
    for layer in study.layers:
        result = results.get(layer.id)
        if result is None:
            continue
        if layer.shape.measures:
            out += [f"{layer.name}: {name}" for name in numbers_of(tables_of(result, study))]
        elif layer.shape.finds:
            out += [f"{layer.name} {x.name}: {n.name}" for x in listing(result.unmasked.findings, sifting_of(layer, study)) if x.shown
                    for n in x.finding.numbers]
    return out


def with_note(study: Study, note: Note) -> Study:
    """The study with a note more, or with that of the same id replaced."""
    if any(n.id == note.id for n in study.notes):
        return study.model_copy(update={"notes": tuple(note if n.id == note.id else n for n in study.notes)})
    return study.model_copy(update={"notes": (*study.notes, note)})


def without_note(study: Study, note_id: str) -> Study:
    """The study with a note less."""
    tail = note_id.rpartition("-")[2]
    counter = max(study.counter, int(tail) if tail.isdecimal() else 0)
    return study.model_copy(update={"notes": tuple(n for n in study.notes if n.id != note_id), "counter": counter})
