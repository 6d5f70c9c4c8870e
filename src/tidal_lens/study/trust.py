"""How much a card's numbers change on a coarser mesh, or were other a step before."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from tidal_lens.errors import StudyError
from tidal_lens.flow.boundaries import boundary_of_faces
from tidal_lens.flow.case import Boundary, Flow
from tidal_lens.study.corrections import corrected
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.model import Study
from tidal_lens.study.partly import open_as
from tidal_lens.study.tables import numbers_of
from tidal_lens.work import Token

_SAME = 1e-7  # of the flow's size: points at one place


@dataclass(frozen=True)
class Doubt:
    """Numbers as they are, and as they would be.

    Attributes
    ----------
    against : str
        What they are compared with, in words.
    pairs : tuple of (str, float, float)
        Name, the number, and the other one.
    """

    against: str
    pairs: tuple[tuple[str, float, float], ...]


def on_half_the_mesh(evaluator: Evaluator, study: Study, layer_id: str, token: Token) -> Doubt:
    """A card made again with every other point of structured blocks left out: how much its numbers rest on the mesh.

    Raises
    ------
    StudyError
        There is no such card, the mesh has no structured blocks, or the card tells no numbers.
    TidalLensError
        The case cannot be read again, or the card cannot be made of it.
    """
    layer, fine = study.layer(layer_id), evaluator.flow
    if layer is None:
        raise StudyError("The card is gone.", "", "")
    every = 2 * study.reading.every
    if every > 1000:
        raise StudyError("So few points are read already that no others can be left out.", str(fine.path), "Read more of the case.")
    thin = study.with_(reading=study.reading.with_(every=every))
    read = open_as(fine.path, thin.reading, token, step=fine.step if len(fine.times) > 1 else None, numbered=study.numbered)
    if read.n_points >= fine.n_points:
        raise StudyError("Only structured blocks can be read with every other point left out, and this flow has none.", str(fine.path),
                         "Open a coarser solution beside it and compare.")
    flow = replace(corrected(read, thin), boundaries=_same_boundaries(fine, read))
    coarse = Evaluator(flow, evaluator.store.reference, evaluator.store.methods)
    return _compared(evaluator, coarse, study, layer_id, token, "on half the mesh")


def _same_boundaries(fine: Flow, coarse: Flow) -> tuple[Boundary, ...]:
    """The boundaries of a flow on the outer faces of one whose points are some of its: those whose corners all lie on one."""
    from scipy.spatial import cKDTree

    faces = coarse.outside.faces
    free = np.ones(len(faces), bool)
    out = []
    for boundary in fine.boundaries:
        if not len(boundary.points):
            continue
        near = np.asarray(cKDTree(boundary.points).query(coarse.points[faces.ravel()])[0]).reshape(faces.shape)
        own = free & (near <= _SAME * fine.size).all(axis=1)
        free &= ~own
        if own.any():
            out.append(boundary_of_faces(boundary.name, boundary.kind, coarse.points, faces[own]))
    return tuple(out)


def a_step_before(evaluator: Evaluator, study: Study, layer_id: str, token: Token) -> Doubt:
    """The same card at the step before the one that is shown.

    Raises
    ------
    StudyError
        There is none.
    """
    step, moments = evaluator.flow.step, evaluator.store.moments
    if step < 1 or moments is None:
        raise StudyError("There is no step before.", "", "Go to a later step.")
    store = moments(step - 1, evaluator.store.reference, evaluator.store.methods)
    before = Evaluator(store.flow, evaluator.store.reference, evaluator.store.methods, evaluator.answers)
    before.store = store
    return _compared(evaluator, before, study, layer_id, token, "a step before")


def _compared(evaluator: Evaluator, other: Evaluator, study: Study, layer_id: str, token: Token, against: str) -> Doubt:
    layer = study.layer(layer_id)
    assert layer is not None
    now = numbers_of(evaluator.evaluate(layer, token, study).unmasked.tables)
    then = numbers_of(other.evaluate(layer, token, study).unmasked.tables)
    pairs = tuple((name, value, then[name]) for name, value in now.items() if name in then)
    if not pairs:
        raise StudyError("The card tells no numbers.", "", "Choose a card that measures something.")
    return Doubt(against, pairs)
