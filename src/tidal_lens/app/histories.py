"""The history that the study names, read anew when it changes, and the folder of a running solution that is watched."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import read_table
from tidal_lens.measures.history import History, history_of
from tidal_lens.study.follow import Run, look_into
from tidal_lens.work import Token

_PERIOD = 1000  # milliseconds between two looks into a watched folder


class Histories(QObject):
    """Keeps the history of the study's choice at hand.

    Signals
    -------
    changed
        Another history is there, or none, or another folder is followed.
    """

    changed = pyqtSignal()

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.document = document
        self.history: History | None = None
        self.path: Path | None = None
        self.folder: Path | None = None
        self.steps_seen = 0
        self._mark: tuple[object, ...] = ()
        self._timer = QTimer(self)
        self._timer.setInterval(_PERIOD)
        self._timer.timeout.connect(self.look)
        document.study_changed.connect(self._follow_study)

    # -- history ---------------------------------------------------------------------------------------------

    def _follow_study(self) -> None:
        wanted = Path(self.document.study.history) if self.document.study.history else None
        if wanted == self.path:
            return
        self.path = wanted
        if wanted is None:
            self.history = None
            self.changed.emit()
        else:
            self._read(wanted)

    def _read(self, path: Path, *, quietly: bool = False) -> None:
        def done(history: History) -> None:
            if self.path == path:
                self.history = history
                self.changed.emit()

        def failed(error: TidalLensError) -> None:
            if not quietly:
                self.document.noticed.emit(Notice("bad", str(error)))

        def work(_token: Token) -> History:
            return history_of(read_table(path))

        self.document.jobs.submit(Slot("history"), f"Reading {path.name}", work, done, failed)

    # -- a running solution ----------------------------------------------------------------------------------

    def follow(self, folder: Path) -> None:
        """Watch a folder: its history is drawn as it grows, and its newest step is shown."""
        self.folder, self._mark, self.steps_seen = folder, (), 0
        self._timer.start()
        self.changed.emit()
        self.look()

    def stop(self) -> None:
        """Watch no longer; what is open stays."""
        self._timer.stop()
        self.folder = None
        self.changed.emit()

    def look(self) -> None:
        """Look into the folder now."""
        folder = self.folder
        if folder is None:
            return

        def failed(error: TidalLensError) -> None:
            self.document.noticed.emit(Notice("warn", f"The run is followed no longer. {error}"))
            self.stop()

        self.document.jobs.submit(Slot("follow"), f"Looking into {folder.name}", lambda _token: look_into(folder), self._take, failed)

    def _take(self, run: Run) -> None:
        if self.folder is None or run.mark == self._mark:
            return
        self._mark = run.mark
        document = self.document
        if run.history is not None:
            if self.path == run.history:
                self._read(run.history, quietly=True)
            else:
                document.edit(document.study.with_(history=str(run.history)), "Follow a run")
        if run.result is not None:
            self._take_steps(run)
        self.changed.emit()

    def _take_steps(self, run: Run) -> None:
        document, flow = self.document, self.document.flow
        assert run.result is not None
        newest = run.steps[-1][1] if run.steps else run.result
        ours = flow is not None and flow.path in (run.result, *(p for _, p in run.steps))
        times = run.times[document.study.reading.steps]
        self.steps_seen = max(len(run.times), 1)
        if not ours:
            document.openings.open_again(newest) if len(run.steps) > 1 else document.open_path(newest, anyway=True)
        elif len(run.steps) > 1 and flow is not None and not flow.all_times:
            document.openings.open_again(newest)
        elif len(times) > max(len(document.clock.times), 1):
            document.clock.take_steps(times) if document.clock.times else document.open_path(newest, anyway=True)
