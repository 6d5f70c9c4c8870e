"""Files made of a study on other threads: pictures, animations, reports."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from tidal_lens.app import theme
from tidal_lens.app.asking import CaseHere
from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.scratch import writing
from tidal_lens.study.model import Study
from tidal_lens.study.opened import Opened
from tidal_lens.study.series import Series
from tidal_lens.tell.beside import SUMMARY, run_beside
from tidal_lens.work import WORKERS, Token

MAKING = "make"  # the purpose of its jobs
SMALL = (168, 106)  # pixels of the small pictures of an animation
FEW = 6


class Makers(QObject):
    """Makes files of what is on the table now; what is edited meanwhile is not in them. On the window's thread.

    Signals
    -------
    drawn(int, ndarray, int)
        A picture (h, w, 4) of an animation is there, or one of its preview: its number, and how many there will be.
    """

    drawn = pyqtSignal(int, object, int)

    def __init__(self, document: Holder, here: CaseHere, series: Callable[[], Series | None],
                 others: Callable[[], dict[int, Opened]]) -> None:
        super().__init__(document)
        self._document, self._here, self._series, self._others = document, here, series, others

    def is_busy(self, what: str) -> bool:
        """Whether a sort of file is being made."""
        return self._document.jobs.is_busy(Slot(MAKING, what))

    @property
    def under_way(self) -> list[str]:
        """Titles of what is being made, but for previews."""
        return [job.title for job in self._document.jobs.running(MAKING) if job.slot.key != "preview"]

    def cancel(self, what: str) -> None:
        """Give up what is being made."""
        self._document.jobs.cancel(Slot(MAKING, what))

    def picture(self, path: Path) -> None:
        """A picture of what is seen."""
        def work(opened: Opened, study: Study, colours: str, token: Token) -> tuple[str, Sequence[str]]:
            from tidal_lens.tell.studio import Look, Studio

            with Studio(opened) as studio:
                shot = studio.shot(study, Look.of(study, colours), token)
                shot.save(path)
            names = study.card_names()
            troubles = [f"{names.get(one, one)}: {why}" for one, why in shot.seen.troubles.items()]
            return f"{path.name}: {study.picture.wide} × {study.picture.tall} pixels.", troubles

        self._make("picture", f"Picture {path.name}", work)

    def film(self, path: Path) -> None:
        """The animation that the study asks for."""
        def work(opened: Opened, study: Study, colours: str, token: Token) -> tuple[str, Sequence[str]]:
            from tidal_lens.tell.film import film_of
            from tidal_lens.tell.filming import film_to
            from tidal_lens.tell.studio import Studio

            film = film_of(study, colours)
            with Studio(opened) as studio:
                troubles = film_to(studio, study, film, path, token, lambda n, pixels: self.drawn.emit(n, pixels, film.count))
            return f"{path.name}: {film.count} pictures, {film.count / film.rate:.3g} s.", troubles

        self._make("film", f"Animation {path.name}", work)

    def report(self, path: Path) -> None:
        """The report that the study asks for."""
        def work(opened: Opened, study: Study, colours: str, token: Token) -> tuple[str, Sequence[str]]:
            from tidal_lens.tell.report_files import write_report

            troubles = write_report(opened, study, [path], token, theme=colours)
            return f"{path.name}: {path.stat().st_size / 1e6:,.1f} MB.", troubles

        self._make("report", f"Report {path.name}", work)

    def run(self, folder: Path) -> None:
        """The study over cases and steps, by a process of its own."""
        def work(_opened: Opened, study: Study, colours: str, token: Token) -> tuple[str, Sequence[str]]:
            lost = run_beside(study, folder, study.run.workers or WORKERS, colours, token)
            return f"{folder.name}: all that was to be made is there, and {SUMMARY}.", lost

        self._make("run", f"Running into {folder.name}", work)

    def script(self, path: Path) -> None:
        """The study as Python."""
        def work(_opened: Opened, study: Study, _colours: str, _token: Token) -> tuple[str, Sequence[str]]:
            from tidal_lens.tell.script import script_of

            with writing(path, "script", "Choose another folder.") as scratch:
                scratch.write_text(script_of(study), encoding="utf-8")
            return f"{path.name}: run it with the Python that Tidal Lens runs with.", ()

        self._make("script", f"Script {path.name}", work)

    def preview(self) -> None:
        """A few small pictures of the animation."""
        def work(opened: Opened, study: Study, colours: str, token: Token) -> tuple[str, Sequence[str]]:
            from tidal_lens.tell.film import film_of
            from tidal_lens.tell.filming import glimpses
            from tidal_lens.tell.studio import Studio

            with Studio(opened) as studio:
                glimpses(studio, study, film_of(study, colours), FEW, SMALL, token, lambda n, p: self.drawn.emit(n, p, FEW))
            return "", ()

        self._make("preview", "Preview", work)

    def _make(self, what: str, title: str, work: Callable[[Opened, Study, str, Token], tuple[str, Sequence[str]]]) -> None:
        document, evaluator = self._document, self._here.evaluator
        if evaluator is None:
            return
        study, colours = document.study, theme.current().name
        opened = Opened(evaluator.apart(), self._series(), self._others())

        def done(told: tuple[str, Sequence[str]]) -> None:
            text, troubles = told
            if text:
                more = f" Not shown: {'; '.join(troubles)}" if troubles else ""
                document.noticed.emit(Notice("bad" if troubles else "note", f"{text}{more}"))

        document.jobs.submit(Slot(MAKING, what), title, lambda token: work(opened, study, colours, token), done, document.tell)
