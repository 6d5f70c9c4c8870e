"""Autosave to the user's state folder, and the offer to take it up again after a crash."""

from __future__ import annotations

import threading
from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, QTimer

from tidal_lens.app.document import Document
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError
from tidal_lens.scratch import clean, is_alive, own_mark
from tidal_lens.study.files import SUFFIX, save_study
from tidal_lens.study.model import Study

_DELAY = 1000  # milliseconds from the first change that is not saved yet; later ones do not put it off


def state_folder() -> Path:
    """Where autosaved studies are kept."""
    return Path(platformdirs.user_state_dir("tidal-lens"))


def _own_file() -> Path:
    return state_folder() / f"autosave-{own_mark()}{SUFFIX}"


def _is_orphan(path: Path) -> bool:
    parts = path.stem.split("-")
    return len(parts) != 3 or not is_alive(parts[1], parts[2])


def leftovers() -> list[Path]:
    """Autosaved studies of sessions that did not end well, the newest first."""
    found = [p for p in state_folder().glob(f"autosave-*{SUFFIX}") if _is_orphan(p)]
    return sorted(found, key=lambda p: p.stat().st_mtime, reverse=True)


class Autosave(QObject):
    """Saves the study a second after a change, in a thread of its own: no other work can keep it waiting.

    A clean end removes the file.
    """

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._document = document
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_DELAY)
        self._timer.timeout.connect(self.save_now)
        self._wish: Study | None = None
        self._condition = threading.Condition()
        self._thread: threading.Thread | None = None
        self._over = False
        self._trouble = ""
        document.study_changed.connect(self._changed)

    def _changed(self) -> None:
        if not self._timer.isActive():
            self._timer.start()

    def save_now(self) -> None:
        """Save in the background if there is anything unsaved."""
        if self._trouble:
            text = f"The study could not be kept safe in the background. {self._trouble}"
            self._document.noticed.emit(Notice("warn", text, lasting=True))
            self._trouble = ""
        if not self._document.is_changed:
            _own_file().unlink(missing_ok=True)
            return
        with self._condition:
            self._wish = self._document.study
            if self._thread is None:
                self._thread = threading.Thread(target=self._serve, name="autosave", daemon=True)
                self._thread.start()
            self._condition.notify()

    def _serve(self) -> None:
        path = _own_file()
        while True:
            with self._condition:
                while self._wish is None and not self._over:
                    self._condition.wait()
                if self._over:
                    return
                study, self._wish = self._wish, None
            try:
                if study is not None:
                    save_study(study, path)
            except TidalLensError as error:
                self._trouble = str(error)

    def offer_leftovers(self) -> None:
        """Offer to take up what a crash left behind, and clean away what it left half written."""
        clean(state_folder())
        found = leftovers()
        if not found:
            return
        newest = found[0]

        def drop() -> None:
            for path in found:
                path.unlink(missing_ok=True)

        def take_up() -> None:
            self._document.openings.take_up(newest, None)
            self._document.case_changed.connect(drop)

        self._document.noticed.emit(Notice("note", "Tidal Lens did not end properly last time. The study was kept.",
                                           (("Take it up again", take_up), ("Discard it", drop)), lasting=True))

    def end(self) -> None:
        """A clean end: nothing is left behind."""
        self._timer.stop()
        with self._condition:
            self._over = True
            self._condition.notify()
        if self._thread is not None:
            self._thread.join(2.0)
        _own_file().unlink(missing_ok=True)
