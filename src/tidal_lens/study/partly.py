"""A case opened as its study says: in part, at a step, one of a numbered series."""

from __future__ import annotations

from pathlib import Path

from tidal_lens.flow.case import Flow
from tidal_lens.formats.reading import Reading
from tidal_lens.formats.registry import open_flow
from tidal_lens.study.model import ReadingSetting
from tidal_lens.work import Token


def reading_of(setting: ReadingSetting) -> Reading:
    """What the readers are told."""
    return Reading(frozenset(setting.without_blocks), frozenset(setting.without_quantities), setting.every, setting.low, setting.high,
                   setting.steps, setting.in_space)


def open_as(path: Path, setting: ReadingSetting, token: Token | None = None, *, anyway: bool = True, step: int | None = None,
            numbered: bool = False) -> Flow:
    """Open a result; parameters and errors as of :func:`tidal_lens.formats.registry.open_flow`."""
    return open_flow(path, token, anyway=anyway, step=step, numbered=numbered, reading=reading_of(setting))
