"""Something to tell the user."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Notice:
    """Something to tell the user in a strip: a grade (``bad``, ``warn``, ``note``), text, and what can be done.

    A ``lasting`` one is of no single file: it stays when another is opened.
    """

    grade: str
    text: str
    actions: tuple[tuple[str, Callable[[], None]], ...] = ()
    lasting: bool = False
