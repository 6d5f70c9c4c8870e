"""Surfaces that come from elsewhere, laid into the flow."""

from __future__ import annotations

from pathlib import Path

from tidal_lens.cutting.points import values_at
from tidal_lens.cutting.surface import Surface
from tidal_lens.flow.case import Flow
from tidal_lens.formats.bodies import read_body
from tidal_lens.work import Token


def body_surface(flow: Flow, path: Path, token: Token | None = None) -> Surface:
    """A body from a file; where it lies in or at the flow it takes the flow's values.

    Raises
    ------
    FileError
        The file cannot be read.
    """
    points, faces = read_body(path)
    return Surface(points, faces, values_at(flow, points, token))
