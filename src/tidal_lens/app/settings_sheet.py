"""Settings: what is the user's, not the study's, kept from one start to the next."""

from __future__ import annotations

import os
from typing import Protocol

import psutil
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, Picker, label, row, rule
from tidal_lens.app.preferences import forget_recent, settings
from tidal_lens.app.sheet import Sheet
from tidal_lens.app.units_part import UnitsPart
from tidal_lens.memory import said_limit
from tidal_lens.work import WORKERS

_SIZES = (1, 2, 4, 8, 16, 32, 64, 128)


class Owner(Protocol):
    """Who carries settings out."""

    def change_theme(self) -> None:
        """Change between the themes, for good."""

    def keep_memory(self, nbytes: int | None) -> None:
        """So much may be kept, for good."""

    def save_report(self) -> None:
        """Save a report for whoever looks into a fault."""


class SettingsSheet(Sheet):
    """A small window; a control acts when it is moved."""

    def __init__(self, window: QWidget, owner: Owner, document: Document) -> None:
        super().__init__(window, "Settings")
        self.setFixedWidth(380)
        self._owner = owner
        self.theme = Choice([("chart", "Chart", "Pale paper and ink"), ("night", "Night", "Dark paper and pale ink")])
        self.theme.picked.connect(self._theme)
        whole = psutil.virtual_memory().total
        self._sizes: list[int | None] = [None, *(gb * 1_000_000_000 for gb in _SIZES if gb * 1e9 < whole)]
        self.memory = Picker("Memory", "How much may be kept that can be worked out again")
        self._words = [f"A third of the machine's ({whole / 3e9:.1f} GB)", *(f"{gb} GB" for gb in _SIZES if gb * 1e9 < whole)]
        self.memory.activated.connect(lambda at: self._owner.keep_memory(self._sizes[at]))
        self.threads = NumberField("Threads", "How many threads work at a time; 0: as many as there are processors", 1.0, 0.0, 256.0)
        self.threads.whole = True
        self.threads.edited.connect(self._threads)
        self.note = label("", "soft")
        self.forget = QPushButton("Forget recent files")
        self.forget.setToolTip("Remember no file that was opened or saved before now")
        self.forget.clicked.connect(forget_recent)
        self.report = QPushButton("Save an error report…")
        self.report.setToolTip("Write down versions, what is open without any of its data, and the faults of late")
        self.report.clicked.connect(owner.save_report)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(16, 14, 16, 14)
        inside.setSpacing(10)
        for line in (row("Theme", self.theme, stretch=1), row("Memory", self.memory, stretch=1), row("Threads", self.threads, stretch=1)):
            inside.addLayout(line)
        self.units = UnitsPart(document)
        for widget in (self.note, rule(), self.units, rule(), self.forget, self.report):
            inside.addWidget(widget)
        inside.addStretch(1)
        theme.hub().changed.connect(self.refresh)
        self.refresh()

    def _theme(self, name: str) -> None:
        if name != theme.current().name:
            self._owner.change_theme()

    def _threads(self, count: float) -> None:
        settings().setValue("threads", int(count) or "")
        self.refresh()

    def refresh(self) -> None:
        """Show what is in force."""
        self.units.refresh()
        self.theme.show_value(theme.current().name)
        said = said_limit()
        self.memory.offer(self._words, self._sizes.index(said) if said in self._sizes else 0)
        wanted = str(settings().value("threads", "") or "")
        self.threads.show_value(float(wanted) if wanted.isdecimal() else 0.0)
        count = int(wanted) if wanted.isdecimal() else os.cpu_count() or 1
        later = "" if min(count, 16 if not wanted else 256) == WORKERS else " It holds from the next start on."
        self.note.setText(f"{WORKERS} at work now.{later}")
