"""What scripts use: open a result, lay cards, work them out, and write pictures, tables and data. No interface is needed for it.

This module keeps its promises by semantic versioning: what is described here changes its meaning with the first number of the version
only. Everything else in the package may change with any version.

Examples
--------
>>> from tidal_lens import api
>>> with api.demo("mooring") as case:                                             # doctest: +SKIP
...     slice_z = case.add("slice", {"direction": (0, 0, 1), "position": 0.05})
...     case.change(slice_z, look={"colour_by": "vorticity.z"})
...     case.picture("wake.png", size=(1600, 900))
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.points import Points
from tidal_lens.demo.shipped import demo_path
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.flow.case import Flow
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.formats.export import save_flow, save_geometry
from tidal_lens.formats.written import flow_data
from tidal_lens.quantities.names import FILE
from tidal_lens.scene.renderer import prefer_headless
from tidal_lens.study.charts import Chart
from tidal_lens.study.evaluate import Evaluated, Evaluator, tables_of
from tidal_lens.study.files import SUFFIX, load_study, save_study
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.looks import LineLook
from tidal_lens.study.model import Layer, Study
from tidal_lens.study.opened import Opened
from tidal_lens.study.others import open_all
from tidal_lens.study.plates import at_plate
from tidal_lens.study.saving import geometry_of, quantities_in_use, values_of
from tidal_lens.study.session import Session, open_session
from tidal_lens.study.tables import Table
from tidal_lens.tell.film import Film
from tidal_lens.tell.filming import film_to
from tidal_lens.tell.studio import Look, Studio
from tidal_lens.tracing.streamlines import Lines
from tidal_lens.work import Token

__all__ = ["Case", "Result", "Table", "TidalLensError", "demo", "open"]
PathLike = str | Path
Fields = Mapping[str, Any]


@dataclass(frozen=True, eq=False)
class Result:
    """What a card came to.

    Attributes
    ----------
    points : ndarray, shape (n, 3)
        Vertices of its surface, points of its lines, or its points.
    faces : ndarray, shape (m, 4), or None
        Vertices of each face of a surface; the last twice for triangles.
    offsets : ndarray, shape (k + 1,), or None
        Where each of k lines begins, and the end of the last.
    values : ndarray, shape (n,), or None
        Values of the quantity that colours it.
    tables : tuple of Table
        What it tells in rows and columns.
    charts : tuple of Chart
        What it tells as curves.
    told : str
        What it came to, in a few words.
    trouble : str
        What of it could not be had, and why; empty where all is there.
    """

    points: NDArray[np.float64]
    faces: NDArray[np.int64] | None
    offsets: NDArray[np.int64] | None
    values: NDArray[np.float64] | None
    tables: tuple[Table, ...]
    charts: tuple[Chart, ...]
    told: str
    trouble: str


class Case:
    """An open result with what lies on the table. Close it, or use it in a ``with`` statement.

    Attributes
    ----------
    study : Study
        What is on the table: a value, made anew by each change.
    """

    def __init__(self, session: Session) -> None:
        self.study = session.study
        self._session = session
        self._opened = open_all(session) if session.study.others else Opened.of(session)
        self._studio: Studio | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of what pictures are drawn with."""
        if self._studio is not None:
            self._studio.close()
            self._studio = None

    # -- what there is ---------------------------------------------------------------------------------------

    @property
    def flow(self) -> Flow:
        """The flow at the step that is looked at."""
        return self._evaluator().flow

    @property
    def times(self) -> tuple[float, ...]:
        """Times of the steps of a series; empty for steady flow."""
        return self._opened.series.times if self._opened.series is not None else ()

    @property
    def cards(self) -> tuple[str, ...]:
        """Ids of all cards, in the order of the deck."""
        return tuple(layer.id for layer in self.study.layers)

    @property
    def plates(self) -> tuple[str, ...]:
        """Names of all plates, in their order."""
        return tuple(plate.name for plate in self.study.plates)

    @property
    def quantities(self) -> tuple[str, ...]:
        """Names of all quantities that can be had."""
        return tuple(q.name for q in self._evaluator().store.quantities() if not q.missing)

    def values(self, quantity: str) -> NDArray[Any]:
        """Node values of a quantity: (n,) of a scalar, (n, 3) of a vector.

        Raises
        ------
        TidalLensError
            It cannot be had.
        """
        return self._evaluator().store.values(quantity, Token())

    # -- what is on the table --------------------------------------------------------------------------------

    def add(self, kind: str, shape: Fields | None = None, *, look: Fields | None = None, **more: Any) -> str:
        """Lay a card.

        Parameters
        ----------
        kind : str
            Its kind, as ``tidal-lens layers`` lists them.
        shape : mapping, optional
            All settings of the kind that are not as usual; without them it begins where the flow is interesting, as a tile does.
        look : mapping, optional
            Settings of how it is drawn, in the place of those that it begins with.
        more
            ``id``, ``name``, ``shown``, ``subject``, ``case``, ``stack``, ``expected``: see :class:`tidal_lens.study.model.Layer`.

        Returns
        -------
        str
            Its id.

        Raises
        ------
        StudyError
            There is no such kind or setting, or it makes no sense.
        """
        found = next((k for k in KINDS if k.name == kind), None)
        if found is None:
            raise StudyError(f"There is no kind of card called {kind!r}.", "", f"There are {', '.join(k.name for k in KINDS)}.")
        try:
            if shape is None:
                if found.begin is None:
                    raise StudyError(f"A {kind} has no first values.", "", "Give its settings.")
                begun: Begun = found.begin(self._evaluator().store, found.tiles[0].argument if found.tiles else "")
            else:
                begun = Begun(found.tiles[0].name if found.tiles else kind, found.shape.model_validate(dict(shape)),
                              _first_look(found.shape.geometry))
            layer = self.study.layer_of(begun)
            changed = {**layer.model_dump(), **({"look": {**layer.look.model_dump(), **look}} if look else {}), **more}
            layer = Layer.model_validate({**changed, "shape": layer.shape})
            self._take(self.study.adding(layer))
        except ValueError as why:
            raise StudyError(f"A {kind} cannot be laid so: {_said(why)}", "", "See 'tidal-lens layers' for its settings.") from why
        return layer.id

    def change(self, card: str, shape: Fields | None = None, *, look: Fields | None = None, **more: Any) -> None:
        """Change settings of a card; what is not named stays.

        Raises
        ------
        StudyError
            There is no such card or setting, or it makes no sense.
        """
        layer = self._layer(card)
        try:
            if shape:
                layer = layer.with_(shape=layer.shape.with_(**shape))
            if look:
                layer = layer.with_(look=layer.look.with_(**look))
            self._take(self.study.replacing(layer.with_(**more) if more else layer))
        except ValueError as why:
            raise StudyError(f"{layer.name} cannot be changed so: {_said(why)}", "", "See 'tidal-lens layers' for its settings.") from why

    def remove(self, card: str) -> None:
        """Take a card off the table."""
        self._take(self.study.without(self._layer(card).id))

    def set(self, **fields: Any) -> None:
        """Change what belongs to the whole study: ``step``, ``camera``, ``keys``, ``formulas``, ``choices``, ``reference``, and so on.

        See :class:`tidal_lens.study.model.Study` for all of them.

        Raises
        ------
        StudyError
            There is no such setting, or it makes no sense.
        """
        try:
            self._take(self.study.with_(**fields))
        except ValueError as why:
            raise StudyError(f"The study cannot be changed so: {_said(why)}") from why

    # -- what comes of it ------------------------------------------------------------------------------------

    def evaluate(self, card: str) -> Result:
        """Work out a card at the step that is looked at.

        Raises
        ------
        TidalLensError
            It cannot be had.
        """
        result = self._evaluated(card)
        geometry = result.geometry
        return Result(geometry.points, None if isinstance(geometry, Lines | Points) else geometry.faces,
                      geometry.offsets if isinstance(geometry, Lines) else None, result.colours, tables_of(result, self.study),
                      result.unmasked.charts, result.unmasked.told, result.trouble)

    def table(self, card: str, path: PathLike | None = None) -> tuple[Table, ...]:
        """What a card tells in rows and columns; written as CSV too where a path is given, the second and following with their titles.

        Raises
        ------
        TidalLensError
            It cannot be had, tells nothing, or cannot be written.
        """
        tables = tables_of(self._evaluated(card), self.study)
        if path is not None and not tables:
            raise StudyError("The card tells nothing in rows and columns.", self._layer(card).name, "Choose a measure.")
        for n, table in enumerate(tables if path is not None else ()):
            target = Path(path or "")
            write_table(target if n == 0 else target.with_stem(f"{target.stem}, {table.title.lower()}"), table.whole)
        return tables

    def picture(self, path: PathLike | None = None, *, size: tuple[int, int] | None = None, plate: str | None = None,
                clear: bool | None = None, theme: str = "chart") -> NDArray[np.uint8]:
        """Draw what is on the table, or what a plate shows.

        Parameters
        ----------
        path : path, optional
            Where to write it: PNG, SVG or PDF by its ending.
        size : tuple of int, optional
            Pixels across and up; as the study says if not given.
        plate : str, optional
            Name of a plate.
        clear : bool, optional
            Whether its ground is transparent; as the study says if not given.
        theme : str
            ``chart`` or ``night``.

        Returns
        -------
        ndarray, shape (h, w, 4), uint8
            Red, green, blue, and how solid.

        Raises
        ------
        TidalLensError
            It cannot be drawn or written; what a single card cannot do is passed over, see :meth:`evaluate`.
        """
        said = self.study.picture
        wide, tall = size or (said.wide, said.tall)
        shown = self.study if plate is None else at_plate(self.study, self._plate(plate), self._opened.steps)
        shot = self._own_studio().shot(shown, Look(wide, tall, theme, said.clear if clear is None else clear))
        self.study = self.study.model_copy(update={"ranges": shot.seen.study.ranges})
        if path is not None:
            shot.save(Path(path))
        return shot.pixels

    def animation(self, path: PathLike, **film: Any) -> None:
        """Write an animation: MP4, GIF, WebP, or numbered PNG files, by the ending.

        Parameters
        ----------
        path : path
            Where to write it.
        film
            What moves and so on, in the place of what the study says: see :class:`tidal_lens.study.telling.FilmSetting`.

        Raises
        ------
        TidalLensError
            It cannot be made of this study, or not be written.
        """
        try:
            said = self.study.film.with_(**film)
        except ValueError as why:
            raise StudyError(f"An animation cannot be made so: {_said(why)}") from why
        film_to(self._own_studio(), self.study, Film(said.what, said.seconds, said.rate, Look(said.wide, said.tall), said.card, said.way,
                                                     said.first, said.last), Path(path))

    def save(self, path: PathLike, card: str | None = None) -> None:
        """Write the study (``.tidal``), the flow with the quantities in use, or a card's geometry with them; the ending says as what.

        Raises
        ------
        TidalLensError
            It cannot be written so.
        """
        target, evaluator = Path(path), self._evaluator()
        if target.suffix.lower() == SUFFIX:
            save_study(self.study, target)
            return
        names = quantities_in_use(self.study)
        if card is not None:
            save_geometry(target, geometry_of(self._evaluated(card), values_of(evaluator, names, Token())))
            return
        own = [n for n in names if not n.startswith(FILE)]
        save_flow(target, flow_data(evaluator.flow, values_of(evaluator, own, Token())))

    # -- within ----------------------------------------------------------------------------------------------

    def _take(self, study: Study) -> None:
        """Another value; what is said of the case itself has it taken anew."""
        old, self.study = self.study, study
        said = ("roles", "kinds", "reading", "turned", "case", "numbered")
        anew = any(getattr(old, name) != getattr(study, name) for name in said)
        if anew or old.others != study.others:
            self.close()
            if anew:
                self._session = open_session(Path(study.case), study, anyway=True)
            self._opened = open_all(Session(self._session.raw, self._session.flow, self._session.evaluator, study))

    def _evaluator(self) -> Evaluator:
        return self._opened.evaluator(self.study, Token())

    def _evaluated(self, card: str) -> Evaluated:
        return self._evaluator().evaluate(self._layer(card), Token(), self.study)

    def _layer(self, card: str) -> Layer:
        layer = self.study.layer(card)
        if layer is None:
            raise StudyError(f"There is no card {card!r}.", "", f"There are {_listed(self.cards)}.")
        return layer

    def _plate(self, name: str) -> Any:
        found = next((p for p in self.study.plates if p.name == name), None)
        if found is None:
            raise StudyError(f"There is no plate {name!r}.", "", f"There are {_listed(self.plates)}.")
        return found

    def _own_studio(self) -> Studio:
        if self._studio is None:
            prefer_headless()
            self._studio = Studio(self._opened)
        self._evaluator()  # other cases of the study are opened with it
        return self._studio


def open(path: PathLike, *, study: Study | None = None, numbered: bool = False) -> Case:
    """Open a result, or a study (``.tidal``) with the result that it looks at.

    Parameters
    ----------
    path : path
        The file.
    study : Study, optional
        What is on the table, in the place of what a result first shows.
    numbered : bool
        Whether files that differ from it in a number only are the steps of one series.

    Raises
    ------
    TidalLensError
        It cannot be opened.
    """
    target = Path(path).expanduser()
    if target.suffix.lower() == SUFFIX:
        read = load_study(target)
        if not read.case:
            raise StudyError("The study names no case.", str(target), "Open a result instead.")
        return Case(open_session(Path(read.case), read, anyway=True))
    given = None if study is None else study.model_copy(update={"case": str(target.resolve())})
    return Case(open_session(target, given, anyway=True, numbered=numbered))


def demo(name: str = "kittiwake") -> Case:
    """Open a case that comes along: ``kittiwake``, ``mooring``, ``dipper``.

    Raises
    ------
    TidalLensError
        There is none of that name.
    """
    files = {"kittiwake": "kittiwake.vtm", "mooring": "mooring.vtm", "dipper": "dipper.cgns"}
    if name not in files:
        raise StudyError(f"There is no demo {name!r}.", "", f"There are {_listed(files)}.")
    return open(demo_path(files[name]))


def _first_look(sort: str) -> Any:
    from tidal_lens.study.looks import BallLook, NoLook, SurfaceLook

    return {"surface": SurfaceLook, "lines": LineLook, "points": BallLook}.get(sort, NoLook)()


def _said(why: ValueError) -> str:
    """What is wrong, in one line."""
    from pydantic import ValidationError

    if isinstance(why, ValidationError):
        return "; ".join(f"{'.'.join(map(str, e['loc'])) or 'it'}: {e['msg']}" for e in why.errors()[:3]) + "."
    return f"{why}."


def _listed(names: Iterable[str]) -> str:
    found: Sequence[str] = list(names)
    return ", ".join(found) if found else "none"
