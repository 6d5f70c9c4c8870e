"""Cases and studies are opened: what is open stays until the new one is there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from tidal_lens.app.holder import Holder
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.preferences import preferred_units
from tidal_lens.errors import DoubtfulFlowError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.flow.faces import split_sides
from tidal_lens.flow.roles import without_a_role
from tidal_lens.formats.beside import results_of
from tidal_lens.formats.bodies import SUFFIXES
from tidal_lens.formats.clouds import TABLES, is_cloud
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.reading import TooLargeError
from tidal_lens.quantities.gradients import prepare_gradients
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.study.files import SUFFIX, load_study
from tidal_lens.study.model import ReadingSetting, Study
from tidal_lens.study.session import Session, open_session
from tidal_lens.work import Token

_WHOLE = ReadingSetting()
_Ways = tuple[tuple[str, Callable[[], None]], ...]


@dataclass(frozen=True, eq=False)
class _Opened:
    session: Session
    belongs: list[Path]


class Openings:
    """Opens what it is given, and tells what could be done with it instead. On the window's thread."""

    def __init__(self, document: Holder) -> None:
        self._document = document

    def open_path(self, path: Path, *, anyway: bool = False, numbered: bool = False, reading: ReadingSetting = _WHOLE) -> None:
        """Open a result or a study; what is open stays until the new one is there.

        With ``reading`` only a part of it is read; with ``numbered``, files that differ from it in a number only are the steps of one
        series.
        """
        if path.suffix.lower() == SUFFIX:
            self.take_up(path, path)
        elif path.suffix.lower() in (*TABLES, *SUFFIXES):
            self._document.offered.emit(path)
        else:
            self._open(path, anyway, None, None, numbered=numbered, reading=reading)

    def open_again(self, path: Path) -> None:
        """Open a result in the place of the present one; what is on the table stays."""
        document = self._document
        keep = document.study if document.flow is not None else None
        study = None if keep is None else keep.model_copy(update={"numbered": True, "step": max(len(siblings(path)) - 1, 0)})
        self._open(path, True, study, document.file, numbered=True)

    def open_same(self, path: str | Path) -> None:
        """Open another result with what is on the table; it is a study of its own, not saved yet."""
        target = Path(path)
        study = self._document.study
        own = tuple(x for x in study.layers if x.is_of(0))
        study = study.model_copy(update={"case": str(target.resolve()), "step": 0, "numbered": False, "others": (), "layers": own})
        self._open(target, True, study, None)

    def take_up(self, path: Path, file: Path | None) -> None:
        """Open the study in a file; it will be saved to another file, or to none yet."""
        try:
            study = load_study(path)
        except TidalLensError as error:
            self._document.tell(error)
            return
        if not study.case:
            self._document.tell(TidalLensError("The study names no case.", str(path), "Open a result instead."))
            return
        self._open(Path(study.case), True, study, file)

    def _open(self, path: Path, anyway: bool, study: Study | None, file: Path | None, *, numbered: bool = False,
              reading: ReadingSetting = _WHOLE) -> None:
        document = self._document
        # A history that lies beside the result is that of its run.
        history = document.study.history if study is None and document.study.history else ""
        history = history if history and Path(history).parent == path.resolve().parent else ""
        wanted = preferred_units()

        def work(token: Token) -> _Opened:
            session = open_session(path, study, token, anyway=anyway, numbered=numbered, reading=reading)
            if study is None:
                own = session.study.model_copy(update={"history": history, "units": wanted})
                session = Session(session.raw, session.flow, session.evaluator, own)
            return _Opened(session, results_of(path) if study is None and not session.raw.times else [])

        def failed(error: TidalLensError) -> None:
            many = study.numbered if study is not None else numbered
            actions: _Ways = ()
            if isinstance(error, DoubtfulFlowError):
                actions = (("Open it anyway", lambda: self.open_path(path, anyway=True, numbered=many, reading=reading)),)
            if isinstance(error, TooLargeError):
                actions = self._ways_to_less(path, error, reading, numbered=many)

            def look_again(_token: Token) -> tuple[list[Path], bool]:
                return results_of(path), is_cloud(path)

            def tell(found: tuple[list[Path], bool]) -> None:
                belongs, particles = found
                if particles:
                    document.offered.emit(path)
                    return
                document.noticed.emit(Notice("bad", str(error), (*actions, *self._ways_to_whole(belongs))))

            document.jobs.submit(Slot("beside"), "Looking beside it", look_again, tell, lambda _error: tell(([], False)))

        document.jobs.submit(Slot("case"), f"Opening {path.name}", work, lambda opened: self._adopt(opened, file), failed)

    def _ways_to_whole(self, belongs: list[Path]) -> _Ways:
        """Results that a file is only a part of, to be opened instead."""
        return tuple((f"Open {index.name}", partial(self.open_path, index, anyway=True)) for index in belongs[:2])

    def _ways_to_less(self, path: Path, error: TooLargeError, reading: ReadingSetting, *,
                      numbered: bool) -> _Ways:
        """What can be done about a result that does not fit into memory."""
        ways: list[tuple[str, ReadingSetting]] = []
        spare = tuple(n for n in without_a_role(error.quantities) if n not in reading.without_quantities)
        if spare:
            ways.append((f"Read it without {len(spare)} arrays that play no role",
                         reading.with_(without_quantities=(*reading.without_quantities, *spare))))
        if error.structured:
            every = 2 * reading.every
            ways.append((f"Read every {every}{'nd' if every == 2 else 'th'} point", reading.with_(every=every)))
        return tuple((title, partial(self.open_path, path, anyway=True, numbered=numbered, reading=less)) for title, less in ways)

    def _adopt(self, opened: _Opened, file: Path | None) -> None:
        document, session = self._document, opened.session
        document.adopt(session, file)

        # Lines and the value under the pointer need it; the first picture does not.
        def prepare(token: Token) -> int:
            mesh_of(session.flow, token)
            prepare_gradients(session.flow, token)
            return sum(split_sides(block.grid) for block in session.flow.blocks)

        def prepared(split: int) -> None:
            if split and document.flow is session.flow:
                text = f"{session.flow.path.name}: {split:,} four-sided faces of cells meet two triangles each. "
                document.noticed.emit(Notice("warn", f"{text}The mesh does not match there: cuts have hairline gaps, and lines may end."))

        document.jobs.submit(Slot("prepare"), "Preparing searches and gradients", prepare, prepared, lambda _error: None)
        name = session.flow.path.name
        for text in session.flow.notices:
            document.noticed.emit(Notice("warn", f"{name}: {text}"))
        if opened.belongs:
            document.noticed.emit(Notice("note", f"{name} is a part of {opened.belongs[0].name}.", self._ways_to_whole(opened.belongs)))
        self._offer_series(session.flow)
        if session.flow.layer_found:
            reading = session.study.reading
            action = ("Take it as three-dimensional", lambda: document.edit(
                document.study.with_(reading=reading.with_(in_space=True)), "What is read"))
            document.noticed.emit(Notice("note", f"{name} is one layer of cells: it is taken for a plane flow.", (action,)))

    def _offer_series(self, flow: Flow) -> None:
        others = siblings(flow.path) if not flow.times else []
        if len(others) > 1:
            text = f"{others[0][1].name} to {others[-1][1].name}: {len(others)} files that differ in their number only."
            action = ("Open them as a time series", lambda: self.open_path(flow.path, anyway=True, numbered=True))
            self._document.noticed.emit(Notice("note", text, (action,)))
