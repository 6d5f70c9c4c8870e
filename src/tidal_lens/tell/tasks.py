"""One piece of a run: what a study shows of one case at one step, as files. Done in whatever process, on whatever machine."""

from __future__ import annotations

import hashlib
import json
import re
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from tidal_lens import __version__
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.csv_tables import write_table
from tidal_lens.quantities.names import OWN
from tidal_lens.scene.renderer import prefer_headless
from tidal_lens.scratch import writing
from tidal_lens.study.evaluate import quantities_on_keys, tables_of
from tidal_lens.study.model import Study
from tidal_lens.study.opened import Opened, seen, with_ranges
from tidal_lens.study.others import open_all
from tidal_lens.study.plates import at_plate
from tidal_lens.study.session import Session, open_session, stamp_of
from tidal_lens.study.tables import numbers_of
from tidal_lens.tell.studio import Look, Studio
from tidal_lens.work import Token

_UNFIT = re.compile(r"[^\w .,()+=-]+")


@dataclass(frozen=True)
class Task:
    """What is to be done.

    Attributes
    ----------
    study : str
        The study as JSON; its case and step are those of the task.
    folder : str
        Where files are written.
    name : str
        What the case is called.
    step : int
        Of a series; -1 to find out what steps there are, and how their quantities are coloured.
    many : bool
        Whether files carry the number of their step.
    pictures, tables, report : bool
        What is made.
    theme : str
        ``chart`` or ``night``.
    """

    study: str
    folder: str
    name: str
    step: int
    many: bool = False
    pictures: bool = True
    tables: bool = True
    report: bool = False
    theme: str = "chart"

    @property
    def digest(self) -> str:
        """A name of its own: another for whatever else would come of it, the state of the case's file included."""
        said = json.dumps({**asdict(self), "version": __version__, "stamp": stamp_of(json.loads(self.study)["case"])}, sort_keys=True)
        return hashlib.sha256(said.encode()).hexdigest()[:32]

    @property
    def title(self) -> str:
        """What it is called."""
        return f"{self.name}, step {self.step}" if self.many else self.name


@dataclass(frozen=True)
class Done:
    """What came of a task.

    Attributes
    ----------
    files : tuple of str
        Paths within its folder.
    numbers : dict
        What measures told, by card and what it is.
    time : float
        Of the step; NaN for steady flow.
    troubles : tuple of str
        What could not be had, and why.
    failed : str
        Why nothing came of it; empty where something did.
    seconds : float
        How long it took.
    study, times
        Of the search for steps: the study with ranges, and their times.
    """

    files: tuple[str, ...] = ()
    numbers: dict[str, float] = field(default_factory=dict)
    time: float = float("nan")
    troubles: tuple[str, ...] = ()
    failed: str = ""
    seconds: float = 0.0
    study: str = ""
    times: tuple[float, ...] = ()


_open: dict[str, tuple[Session, Opened]] = {}  # the case that this process worked on last


def do(task: Task) -> Done:
    """Do a task; whatever goes wrong is told in what comes of it."""
    prefer_headless()
    began = time.monotonic()
    try:
        study = Study.model_validate_json(task.study)
        opened = _opened(study)
        done = _survey(study, opened) if task.step < 0 else _make(task, study.model_copy(update={"step": task.step}), opened)
    except TidalLensError as error:
        return Done(failed=str(error), seconds=time.monotonic() - began)
    except MemoryError:
        _open.clear()
        return Done(failed="There is not enough memory for it. Take fewer workers.", seconds=time.monotonic() - began)
    except Exception as error:  # noqa: BLE001  (one case must not stop the others)
        return Done(failed=f"Something went wrong inside Tidal Lens: {type(error).__name__}: {str(error)[:200]}.",
                    seconds=time.monotonic() - began)
    return Done(**{**asdict(done), "seconds": time.monotonic() - began})


def _opened(study: Study) -> Opened:
    """The case of a study; kept until another is wanted."""
    said = ("case", "others", "roles", "kinds", "reading", "turned", "numbered")
    key = json.dumps([str(getattr(study, name)) for name in said])
    if key not in _open:
        _open.clear()
        session = open_session(Path(study.case), study, anyway=True)
        _open[key] = session, open_all(session)
    return _open[key][1]


def _views(study: Study, steps: int) -> list[tuple[str, Study]]:
    """What pictures there are: all plates, each at the step of the study; or the table as it is."""
    if not study.plates:
        return [("", study)]
    return [(plate.name, at_plate(study, plate, steps).model_copy(update={"step": study.step})) for plate in study.plates]


def _survey(study: Study, opened: Opened) -> Done:
    """Which steps there are, and in which range each quantity of a picture is first seen."""
    evaluator = opened.evaluator(study, Token())
    if len(evaluator.flow.times) > 1:
        for _, shown in _views(study, opened.steps):
            for layer in shown.layers:
                for name in quantities_on_keys(layer) if shown.is_drawn(layer) and not evaluator.lacking(layer, shown) else ():
                    if not name.startswith(OWN) and name in {q.name for q in evaluator.store.quantities() if not q.missing}:
                        evaluator.store.distribution(name, Token())
            ranged = with_ranges(shown, evaluator)
            study = study.model_copy(update={"ranges": ranged.ranges})
    return Done(study=study.model_dump_json(), times=tuple(float(t) for t in evaluator.flow.times))


def _make(task: Task, study: Study, opened: Opened) -> Done:
    folder = Path(task.folder)
    folder.mkdir(parents=True, exist_ok=True)
    files: list[str] = []
    troubles: dict[str, None] = {}
    numbers: dict[str, float] = {}
    names, number = study.card_names(), f" {task.step:04d}" if task.many else ""

    def named(name: str, ending: str) -> Path:
        """A file of its own for each, however plates and cards are called."""
        own = next(f for n in range(1, len(files) + 2) if (f := f"{plain(name)}{f' ({n})' if n > 1 else ''}{number}.{ending}") not in files)
        files.append(own)
        return folder / own

    if task.pictures:
        with Studio(opened) as studio:
            for name, shown in _views(study, opened.steps):
                shot = studio.shot(shown, Look.of(shown, task.theme))
                with writing(named(name or task.name, "png"), "picture", "Choose another folder.") as scratch:
                    scratch.write_bytes(shot.file("png"))
                troubles.update(dict.fromkeys(f"{names.get(one, one)}: {why}" for one, why in shot.seen.troubles.items()))
    if task.tables:
        came = seen(opened, _without_lamps(study), Token(), measures=True)
        for layer in study.layers:
            result = came.results.get(layer.id)
            if layer.id in came.troubles:
                troubles[f"{layer.name}: {came.troubles[layer.id]}"] = None
            for n, table in enumerate(tables_of(result, study) if result is not None else ()):
                write_table(named(layer.name if n == 0 else f"{layer.name}, {table.title.lower()}", "csv"), table.whole)
            if result is not None:
                numbers.update({f"{layer.name}: {what}": value for what, value in numbers_of(tables_of(result, study)).items()}
                               if layer.shape.measures else {f"{layer.name}: found": float(_count(result, study))})
    if task.report:
        from tidal_lens.tell.report_files import write_report

        write_report(opened, study, [named(task.name, kind) for kind in ("html", "docx")], Token(), theme=task.theme)
    flow = opened.evaluator(study, Token()).flow
    when = float(flow.times[flow.step]) if flow.times else float("nan")
    return Done(tuple(files), numbers, when, tuple(troubles))


def _without_lamps(study: Study) -> Study:
    """Only what masks is lit: measures are worked out, nothing is drawn."""
    return study.model_copy(update={"alone": None, "layers": tuple(
        x if x.shape.geometry == "none" or not x.shown else x.with_(shown=False) for x in study.layers)})


def _count(result: Any, study: Study) -> int:
    return sum(len(table.rows) for table in tables_of(result, study))


def plain(name: str) -> str:
    """A name that a file may have."""
    return _UNFIT.sub("_", name).strip(" .") or "case"


def as_json(done: Done) -> str:
    """What came of a task, to be kept."""
    return json.dumps({**asdict(done), "time": None if np.isnan(done.time) else done.time})


def from_json(text: str) -> Done:
    """What was kept.

    Raises
    ------
    ValueError
        It is not what was written.
    """
    raw = json.loads(text)
    if not isinstance(raw, dict) or set(raw) != set(asdict(Done())):
        raise ValueError("not what came of a task")
    return Done(**{**raw, "time": float("nan") if raw["time"] is None else float(raw["time"]), "files": tuple(raw["files"]),
                   "troubles": tuple(raw["troubles"]), "times": tuple(raw["times"])})
