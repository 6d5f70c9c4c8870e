"""What a station is: one module that ends in one of these, and one line in the bench's list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.document import Document

Act = Callable[..., None]


@dataclass(frozen=True)
class Station:
    """A station of the rail.

    Attributes
    ----------
    name : str
        Of its command, its icon, and as kinds name it.
    title, help : str
        On the rail; what is done there.
    page : callable
        Makes its page of the bench, from the document and what carries out commands by their ids; called once, at the latest before a
        case is there.
    cards : bool
        Whether the controls of the chosen card stand below its page.
    """

    name: str
    title: str
    help: str
    page: Callable[[Document, Act], QWidget]
    cards: bool = False
