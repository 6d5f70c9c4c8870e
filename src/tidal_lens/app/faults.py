"""What to do about a fault of our own: it is written down and told, the study is kept safe, and work goes on."""

from __future__ import annotations

import faulthandler
import platform
import sys
import threading
import time
import traceback
from pathlib import Path
from types import TracebackType
from typing import TextIO

from PyQt6.QtCore import PYQT_VERSION_STR, QT_VERSION_STR, QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QWidget

from tidal_lens import __version__
from tidal_lens.app.autosave import Autosave, state_folder
from tidal_lens.app.document import Document
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError
from tidal_lens.scratch import writing

_LARGEST = 1_000_000  # bytes of the log that are kept
_TOLD = 20_000  # letters of it that a report holds


def log_file() -> Path:
    """Where faults are written down."""
    return state_folder() / "faults.log"


def _log_for_more() -> Path:
    """Where to write on; what was there is gone if it was too much."""
    path = log_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    if path.exists() and path.stat().st_size > _LARGEST:
        path.unlink()
    return path


class Faults(QObject):
    """Hears of exceptions that nobody caught, in slots, painters and threads."""

    _heard = pyqtSignal(str, str)

    def __init__(self, window: QWidget, document: Document, autosave: Autosave) -> None:
        super().__init__(window)
        self._window, self._document, self._autosave = window, document, autosave
        self._told: set[str] = set()
        self._last_words: TextIO | None = None
        self._heard.connect(self._tell)

    def install(self) -> None:
        """Hear of them from now on; without this Qt would end the program."""
        sys.excepthook = self.hear
        threading.excepthook = lambda args: self.hear(args.exc_type, args.exc_value, args.exc_traceback)

    def hear_of_crashes(self) -> None:
        """Have a crash in a library's code written down too, with what each thread was at: there is no going on after it."""
        try:
            path = _log_for_more()
            self._last_words = path.open("a", encoding="utf-8")  # kept open: at the end nothing can be opened any more
        except OSError:
            faulthandler.enable()
        else:
            faulthandler.enable(self._last_words)

    def remove(self) -> None:
        """Hear of them no longer."""
        if sys.excepthook == self.hear:
            sys.excepthook, threading.excepthook = sys.__excepthook__, threading.__excepthook__

    def hear(self, kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        """Take an exception; on any thread."""
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        text = "".join(traceback.format_exception(kind, error, trace))
        if text not in self._told:  # the same at each repaint is told once
            self._told.add(text)
            self._heard.emit(f"{kind.__name__}: {error}", text)

    def _tell(self, what: str, text: str) -> None:
        self._write_down(text)
        self._autosave.save_now()
        self._document.noticed.emit(Notice(
            "bad", f"Something went wrong inside Tidal Lens: {what[:200]}. The study was kept safe, and work goes on.",
            (("Save a report…", lambda: self.save_report(text)),), lasting=True))

    def _write_down(self, text: str) -> None:
        try:
            with _log_for_more().open("a", encoding="utf-8") as stream:
                stream.write(f"--- {time.strftime('%Y-%m-%d %H:%M:%S')}\n{text}\n")
        except OSError:
            sys.stderr.write(text)

    def report(self, text: str) -> str:
        """What a report holds: the fault, and what was open, without any of its data."""
        flow, study = self._document.flow, self._document.study
        facts = [f"Tidal Lens {__version__}", f"Python {platform.python_version()}, Qt {QT_VERSION_STR}, PyQt {PYQT_VERSION_STR}",
                 platform.platform()]
        if flow is not None:
            facts.append(f"{flow.n_points:,} points, {flow.n_cells:,} cells in {len(flow.blocks)} blocks, step {flow.step + 1} of "
                         f"{max(len(flow.times), 1)}")
        facts.append("Cards: " + (", ".join(layer.kind for layer in study.layers) or "none"))
        return "\n".join([*facts, "", text])

    def of_late(self) -> str:
        """The end of what was written down, without which a report says what is open only."""
        try:
            told = log_file().read_text(encoding="utf-8", errors="replace")[-_TOLD:]
        except OSError:
            told = ""
        return told or "No fault was written down."

    def save_report(self, text: str, path: Path | None = None) -> None:
        """Save a report, asking for a name where none is given."""
        if path is None:
            dialog = QFileDialog(self._window, "Save a report of what went wrong")
            dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
            dialog.setDefaultSuffix("txt")
            dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            dialog.selectFile("Tidal Lens report.txt")
            dialog.fileSelected.connect(lambda chosen: self.save_report(text, Path(chosen)))
            dialog.open()
            return
        try:
            with writing(path, "report") as scratch:
                scratch.write_text(self.report(text), encoding="utf-8")
        except TidalLensError as error:
            self._document.noticed.emit(Notice("bad", str(error)))
