"""A study run over many cases and steps: tasks, what was done before, a summary."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tidal_lens.errors import StudyError
from tidal_lens.scratch import clean, writing
from tidal_lens.study.model import Study, title_of
from tidal_lens.tell.beside import SUMMARY
from tidal_lens.tell.crews import Cluster, Crew, Here
from tidal_lens.tell.steps import chosen_steps
from tidal_lens.tell.tasks import Done, Task, as_json, from_json, plain
from tidal_lens.work import Token

_KEPT = ".done"


@dataclass(frozen=True)
class Plan:
    """What is run.

    Attributes
    ----------
    study : Study
        What is on the table.
    cases : tuple of Path
        Results; that of the study where none is named.
    steps : str
        Of series: ``all``, ``last``, numbers and ranges such as ``0-10:2, 15``; the study's own step where nothing is said.
    out : Path
        The folder.
    pictures, tables, report : bool
        What is made of each.
    workers : int
        Processes on this machine.
    cluster : str
        Address of a scheduler, in their place.
    theme : str
        ``chart`` or ``night``.
    """

    study: Study
    out: Path
    cases: tuple[Path, ...] = ()
    steps: str = ""
    pictures: bool = True
    tables: bool = True
    report: bool = False
    workers: int = 1
    cluster: str = ""
    theme: str = "chart"


@dataclass(frozen=True)
class Told:
    """How far a run is: a task that ended, as the how-manieth of how many, and whether it was done before."""

    task: Task
    done: Done
    number: int
    count: int
    before: bool


def run(plan: Plan, tell: Callable[[Told], object] = lambda _told: None, token: Token | None = None) -> int:
    """Run a study over cases and steps; what was done before, and would come to the same, is not done again.

    Returns
    -------
    int
        How many tasks came to nothing.

    Raises
    ------
    StudyError
        The folder cannot be written to, or nothing is to be done.
    CancelledError
        The token was cancelled; what was done stays, and is not done again.
    """
    token = token or Token()
    if not (plan.pictures or plan.tables or plan.report):
        raise StudyError("Nothing is to be made.", "", "Choose pictures, tables or reports.")
    kept = plan.out / _KEPT
    try:
        kept.mkdir(parents=True, exist_ok=True)
    except OSError as why:
        raise StudyError(f"Nothing can be written there: {why.strerror}.", str(plan.out), "Choose another folder.") from why
    if not os.access(kept, os.W_OK):
        raise StudyError("Nothing can be written there.", str(plan.out), "Choose another folder.")
    crew: Here | Cluster = Cluster(plan.cluster) if plan.cluster else Here(max(1, plan.workers))
    try:
        return _all(plan, crew, kept, tell, token)
    finally:
        crew.close()


def _all(plan: Plan, crew: Crew, kept: Path, tell: Callable[[Told], object], token: Token) -> int:
    surveys = _cases(plan)
    found: dict[Task, Done] = {}
    _do(crew, surveys, kept, lambda task, done, _before: found.update({task: done}), token)
    tasks: list[Task] = []
    failed: dict[Task, Done] = {}
    for survey in surveys:
        tasks += _steps(plan, survey, found[survey], failed)
    for folder in {Path(t.folder) for t in tasks if Path(t.folder).is_dir()}:
        clean(folder)  # what processes that were lost left half written
    results = dict(failed)
    count = len(tasks)
    done_so_far = 0
    for n, (task, done) in enumerate(failed.items(), 1):
        tell(Told(task, done, n, count, False))
        done_so_far = n

    def take(task: Task, done: Done, before: bool) -> None:
        nonlocal done_so_far
        done_so_far += 1
        results[task] = done
        token.report(done_so_far / count)
        tell(Told(task, done, done_so_far, count, before))

    try:
        _do(crew, [t for t in tasks if t not in failed], kept, take, token)
    finally:
        _summary(plan.out / SUMMARY, [(t, results[t]) for t in tasks if t in results])
    return sum(bool(done.failed) for done in results.values())


def _cases(plan: Plan) -> list[Task]:
    """A search for steps for each case, under names of their own."""
    paths = [str(p.expanduser().resolve()) for p in plan.cases] or [plan.study.case]
    names: list[str] = []
    for path in paths:
        name = plain(title_of(path))
        names.append(name if name not in names else next(f"{name} ({n})" for n in range(2, len(paths) + 2) if f"{name} ({n})" not in names))
    studies = [plan.study if path == plan.study.case else plan.study.model_copy(update={"case": path, "step": 0}) for path in paths]
    return [Task(study.model_dump_json(), str(plan.out / name), name, -1, theme=plan.theme)
            for study, name in zip(studies, names, strict=True)]


def _steps(plan: Plan, survey: Task, found: Done, failed: dict[Task, Done]) -> list[Task]:
    """A task for each step of a case; one that is known to fail where it cannot be opened."""
    what: dict[str, Any] = {"pictures": plan.pictures, "tables": plan.tables, "report": plan.report, "theme": plan.theme}
    if found.failed:
        task = Task(survey.study, survey.folder, survey.name, 0, **what)
        failed[task] = found
        return [task]
    own = Study.model_validate_json(found.study).step
    count = len(found.times)
    if count < 2:
        return [Task(found.study, survey.folder, survey.name, own, **what)]
    steps = chosen_steps(plan.steps, count) if plan.steps.strip() else (min(own, count - 1),)
    return [Task(found.study, survey.folder, survey.name, step, True, **what) for step in steps]


def _do(crew: Crew, tasks: Sequence[Task], kept: Path, take: Callable[[Task, Done, bool], object], token: Token) -> None:
    """Do tasks, but for those that were done before."""
    open_tasks: list[Task] = []
    for task in tasks:
        before = _done_before(task, kept)
        if before is None:
            open_tasks.append(task)
        else:
            take(task, before, True)

    def keep(task: Task, done: Done) -> None:
        if not done.failed:
            with writing(kept / f"{task.digest}.json", "record", "Choose another folder.") as scratch:
                scratch.write_text(as_json(done), encoding="utf-8")
        take(task, done, False)

    if open_tasks:
        crew.do(open_tasks, keep, token)


def _done_before(task: Task, kept: Path) -> Done | None:
    """What came of a task, if it was kept and all its files are there still."""
    try:
        done = from_json((kept / f"{task.digest}.json").read_text(encoding="utf-8"))
    except (OSError, ValueError, TypeError):
        return None
    return done if all((Path(task.folder) / name).is_file() for name in done.files) else None


def _summary(path: Path, results: Sequence[tuple[Task, Done]]) -> None:
    """A row for each task, in their order: numbers of measures, and what could not be had."""
    heads = list(dict.fromkeys(name for _, done in results for name in done.numbers))
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["case", "step", "time", *heads, "not had"])
    for task, done in results:
        when = "" if done.time != done.time else repr(done.time)
        table.writerow([task.name, task.step if task.many else "", when,
                        *(repr(done.numbers[h]) if h in done.numbers else "" for h in heads),
                        done.failed or "; ".join(done.troubles)])
    with writing(path, "summary", "Choose another folder.") as scratch:
        scratch.write_text(out.getvalue(), encoding="utf-8")
