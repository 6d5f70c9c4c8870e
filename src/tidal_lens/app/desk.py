"""What commands, bars and the command field may ask of the window."""

from __future__ import annotations

from typing import Protocol

from tidal_lens.app.cards import Cards
from tidal_lens.app.document import Document
from tidal_lens.app.file_dialogs import FileDialogs
from tidal_lens.app.histories import Histories
from tidal_lens.app.ledger import Ledger
from tidal_lens.app.plates_strip import PlatesStrip
from tidal_lens.app.view import FlowView
from tidal_lens.study.kinds.kind import Kind


class Desk(Protocol):
    """The window, as its parts see it: all of it is called on the window's thread, when the user does something."""

    document: Document
    cards: Cards
    files: FileDialogs
    view: FlowView
    histories: Histories
    ledger: Ledger
    plates: PlatesStrip

    def act(self, command: str, *given: object) -> None:
        """Carry out a command if it makes sense now; ``given`` as it takes."""

    def add(self, kind: Kind, argument: str = "") -> None:
        """Begin a layer."""

    def find_all(self) -> None:
        """Look for all features, and list them."""

    def show_station(self, name: str) -> None:
        """Go to a station; the bench unfolds."""

    def show_quantity(self, name: str) -> None:
        """Show a quantity in the Derive station."""

    def show_help(self, page: str = "") -> None:
        """Show the help, or a page of it; again: put it away."""

    def look_up(self) -> None:
        """Give the keyboard to the command field."""

    def fold_bench(self) -> None:
        """Hide or show the bench."""

    def change_theme(self) -> None:
        """Change between the themes, for good."""

    def choose_memory(self) -> None:
        """Offer how much may be kept that can be worked out again."""

    def play(self) -> None:
        """Play through the steps of a series, or pause."""

    def show_settings(self) -> None:
        """Show the settings; again: put them away."""

    def save_report(self, path: str = "") -> None:
        """Save a report for whoever looks into a fault."""

    def show_notes(self) -> None:
        """Show the notes in the Tell station."""

    def lift_charts(self) -> None:
        """Lift the chosen measure's charts to half of the view, or lay them back."""

    def show_over_time(self) -> None:
        """Show the chosen card at several steps, or put them away."""

    def open_demo(self, name: str = "kittiwake.vtm") -> None:
        """Open a case that comes along."""

    def close(self) -> bool:
        """Close the window."""
