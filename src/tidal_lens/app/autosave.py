"""Autosave to the user's state folder, and the offer to take it up again after a crash."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs
import psutil
from PyQt6.QtCore import QObject, QTimer

from tidal_lens.app.document import Document, Notice
from tidal_lens.study.files import SUFFIX, save_study

_DELAY = 1500


def state_folder() -> Path:
    """Where autosaved studies are kept."""
    return Path(platformdirs.user_state_dir("tidal-lens"))


def _own_file() -> Path:
    # The start time tells a process of the same number after a restart of the machine apart.
    return state_folder() / f"autosave-{os.getpid()}-{int(psutil.Process().create_time())}{SUFFIX}"


def _is_orphan(path: Path) -> bool:
    try:
        _, pid, begun = path.stem.split("-")
        process = psutil.Process(int(pid))
        return int(process.create_time()) != int(begun)
    except (ValueError, psutil.Error):
        return True


def leftovers() -> list[Path]:
    """Autosaved studies of sessions that did not end well, the newest first."""
    found = [p for p in state_folder().glob(f"autosave-*{SUFFIX}") if _is_orphan(p)]
    return sorted(found, key=lambda p: p.stat().st_mtime, reverse=True)


class Autosave(QObject):
    """Saves the study a moment after each change; a clean end removes the file."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._document = document
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_DELAY)
        self._timer.timeout.connect(self.save_now)
        document.study_changed.connect(self._timer.start)

    def save_now(self) -> None:
        """Save in the background if there is anything unsaved."""
        study, path = self._document.study, _own_file()
        if self._document.is_changed:
            self._document.jobs.submit("autosave", "Autosave", lambda _token: save_study(study, path), lambda _a: None,
                                       self._document._tell)
        elif path.exists():
            path.unlink(missing_ok=True)

    def offer_leftovers(self) -> None:
        """Offer to take up what a crash left behind."""
        found = leftovers()
        if not found:
            return
        newest = found[0]

        def drop() -> None:
            for path in found:
                path.unlink(missing_ok=True)

        def take_up() -> None:
            self._document.take_up(newest, None)
            self._document.case_changed.connect(drop)

        self._document.noticed.emit(Notice("note", "Tidal Lens did not end properly last time. The study was kept.",
                                           (("Take it up again", take_up), ("Discard it", drop))))

    def end(self) -> None:
        """A clean end: nothing is left behind."""
        self._timer.stop()
        _own_file().unlink(missing_ok=True)
