"""Runs over cases and steps: files, summary, failures, going on after a break, processes and a cluster."""

import csv
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import tidal_lens
from small_series import DIMS, box, series, state
from tidal_lens.errors import CancelledError, StudyError
from tidal_lens.formats.cgns_write import Zone, write_series
from tidal_lens.study.files import save_study
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.plates import with_plate
from tidal_lens.study.session import open_session
from tidal_lens.study.telling import PictureSetting
from tidal_lens.tell import crews
from tidal_lens.tell.batch import Plan, run
from tidal_lens.tell.crews import Cluster, Here
from tidal_lens.tell.steps import chosen_steps
from tidal_lens.tell.tasks import Done, Task, as_json, do, from_json
from tidal_lens.work import Token

ENV = {**os.environ, "PYTHONPATH": str(Path(tidal_lens.__file__).parent.parent)}


@pytest.fixture
def study(tmp_path):
    """Two plates and a probe, on a series of three steps."""
    path, _ = series(tmp_path)
    session = open_session(path)
    probe = next(k for k in KINDS if k.name == "volume").begin(session.evaluator.store, "")
    own = session.study.adding(session.study.layer_of(probe)).with_(picture=PictureSetting(wide=120, tall=80))
    own = with_plate(own, "All")
    return with_plate(own.with_(outline=False), "Bare")


def second(folder):
    """Another case with the same quantities, steady."""
    path = folder / "other.cgns"
    zones = [Zone("left", DIMS, box(), ())]
    write_series(path, zones, (0.0,), [[state(z.points, 0.3) for z in zones]], {})
    return path


def rows(out):
    with (out / "summary.csv").open() as file:
        return list(csv.DictReader(file))


def contents(out):
    return {str(p.relative_to(out)): p.read_bytes() for p in sorted(out.rglob("*")) if p.is_file() and ".done" not in p.parts}


@pytest.mark.parametrize(("text", "steps"), [("all", (0, 1, 2, 3)), ("last", (3,)), ("2", (2,)), ("1-", (1, 2, 3)), ("0-3:2, 3", (0, 2, 3)),
                                             ("-1", (0, 1)), ("2,9", (2,))])
def test_steps_are_named(text, steps):
    assert chosen_steps(text, 4) == steps


@pytest.mark.parametrize("text", ["x", "3-1", "0-3:0", "7", ""])
def test_steps_that_are_not_are_told(text):
    with pytest.raises(StudyError, match="steps"):
        chosen_steps(text, 4)


def test_all_steps_of_two_cases_are_made_and_summed_up(study, tmp_path):
    out, told = tmp_path / "out", []
    plan = Plan(study, out, (Path(study.case), second(tmp_path), tmp_path / "gone.cgns"), "all", workers=2)
    assert run(plan, told.append) == 1
    assert sorted(p.name for p in (out / "run").iterdir())[:3] == ["All 0000.png", "All 0001.png", "All 0002.png"]
    assert {p.name for p in (out / "other").glob("*.png")} == {"All.png", "Bare.png"}, "a steady case has no numbers of steps"
    table = rows(out)
    assert [(r["case"], r["step"]) for r in table] == [("run", "0"), ("run", "1"), ("run", "2"), ("other", ""), ("gone", "")]
    assert [float(r["time"]) for r in table[:3]] == [0.0, 0.5, 1.5]
    assert "does not exist" in table[4]["not had"]
    assert [t.number for t in told] == [1, 2, 3, 4, 5]
    mean = next(name for name in table[0] if "mean" in name.lower() or "volume" in name.lower())
    assert all(r[mean] for r in table[:4])


def test_it_goes_on_where_it_broke_and_makes_what_changed(study, tmp_path):
    out, told, token = tmp_path / "out", [], Token()

    def stop(one):
        told.append(one)
        token.cancel()

    plan = Plan(study, out, (), "all", tables=False)
    with pytest.raises(CancelledError):
        run(plan, stop, token)
    assert 1 <= len(told) <= 2
    (out / "run" / "Bare 0000.png").unlink(missing_ok=True)
    again = []
    assert run(plan, again.append) == 0
    assert [t.before for t in sorted(again, key=lambda t: t.task.step)].count(True) <= 1
    assert len(list((out / "run").glob("*.png"))) == 6
    once = []
    assert run(plan, once.append) == 0
    assert all(t.before for t in once)
    other = Plan(study.with_(ground="ink"), out, (), "all", tables=False)
    changed = []
    run(other, changed.append)
    assert not any(t.before for t in changed)
    (out / ".done" / f"{changed[0].task.digest}.json").write_text("{broken")
    assert [t.before for t in _told(other)].count(False) == 1, "a broken record is no record"


def _told(plan):
    out = []
    run(plan, out.append)
    return out


def test_the_same_comes_of_one_worker_of_two_and_of_a_cluster_with_one_worker_killed(study, tmp_path):
    """Bit for bit; the scheduler and its workers are processes on this machine."""
    outs = [tmp_path / name for name in ("one", "two", "cluster")]
    for out, workers in zip(outs, (1, 2), strict=False):
        assert run(Plan(study, out, (), "all", report=False, workers=workers)) == 0
    assert contents(outs[0]) == contents(outs[1])
    dask = [sys.executable, "-m", "distributed.cli.dask_scheduler"], [sys.executable, "-m", "distributed.cli.dask_worker"]
    told = tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": {**ENV, "TIDAL_LENS_THREADS": "1", "LP_NUM_THREADS": "1"}}
    running = [subprocess.Popen([*dask[0], "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", str(told)], **quiet)]
    try:
        work = [*dask[1], "--scheduler-file", str(told), "--nthreads", "1", "--no-dashboard", "--no-nanny"]
        running += [subprocess.Popen([*work, "--name", f"w{n}", "--local-directory", str(tmp_path / f"w{n}")], **quiet) for n in range(2)]
        end = time.monotonic() + 60
        while not told.exists():
            assert time.monotonic() < end
            time.sleep(0.1)
        import json

        from distributed import Client

        address = json.loads(told.read_text())["address"]
        with Client(address, timeout="60s", set_as_default=False) as client:
            client.wait_for_workers(2, timeout=60)
        seen = []

        def kill(one):
            seen.append(one)
            if len(seen) == 1:
                running[1].send_signal(signal.SIGKILL)

        assert run(Plan(study, outs[2], (), "all", cluster=address), kill) == 0
        assert len(seen) == 3
    finally:
        for process in reversed(running):
            process.kill()
            process.wait(20)
    assert contents(outs[2]) == contents(outs[0])


def test_a_scheduler_that_does_not_answer_is_told(study, tmp_path, monkeypatch):
    monkeypatch.setattr(crews, "_ANSWERS_WITHIN", "2s")
    with pytest.raises(StudyError, match="No scheduler answers"):
        run(Plan(study, tmp_path / "o", cluster="tcp://127.0.0.1:9"))
    with pytest.raises(StudyError, match="No scheduler answers"):
        Cluster("nonsense://here")


def test_a_process_that_is_lost_stops_no_other(study, tmp_path, monkeypatch):
    """One task ends its process each time: the others are done all the same, and it is told."""
    tasks = [Task(study.model_dump_json(), str(tmp_path / "o"), name, step, True, tables=False) for step, name in
             enumerate(("good", "deadly", "fine"))]
    monkeypatch.setattr(crews, "do", deadly)
    found = {}
    crew = Here(2)
    crew.do(tasks, lambda task, done: found.update({task.name: done}), Token())
    crew.close()
    assert set(found) == {"good", "deadly", "fine"}
    assert not found["good"].failed
    assert not found["fine"].failed
    assert "was lost" in found["deadly"].failed


def deadly(task):
    """A task of that name ends the process that works on it."""
    if task.name == "deadly":
        time.sleep(0.3)
        os.kill(os.getpid(), signal.SIGKILL)
    return Done(files=(task.name,))


def test_what_fails_within_a_task_is_told(study, tmp_path, monkeypatch):
    assert "does not exist" in do(Task(study.with_(case="/none.cgns").model_dump_json(), str(tmp_path), "x", 0)).failed
    assert "went wrong inside" in do(Task("{broken", str(tmp_path), "x", 0)).failed
    done = Done(("a.png",), {"m: x": 1.5}, 0.25, ("t",), "", 2.0)
    assert from_json(as_json(done)) == done
    steady = from_json(as_json(Done()))
    assert np.isnan(steady.time)
    for wrong in ("[]", "{}", "{", '{"files": 3}'):
        with pytest.raises(ValueError, match=r"not|Expecting"):
            from_json(wrong)


def test_plates_of_one_name_are_files_of_their_own(study, tmp_path):
    same = study.with_(plates=tuple(p.with_(name=name) for p, name in zip(study.plates, ("a/b", "a_b"), strict=True)))
    done = do(Task(same.model_dump_json(), str(tmp_path / "o"), "run", 0, tables=False))
    assert done.files == ("a_b.png", "a_b (2).png")
    assert (tmp_path / "o" / "a_b.png").read_bytes() != (tmp_path / "o" / "a_b (2).png").read_bytes()


def test_nothing_and_nowhere_are_refused(study, tmp_path):
    with pytest.raises(StudyError, match="Nothing is to be made"):
        run(Plan(study, tmp_path / "o", pictures=False, tables=False))
    (tmp_path / "file").write_text("")
    with pytest.raises(StudyError, match="Nothing can be written"):
        run(Plan(study, tmp_path / "file"))


def command(*arguments):
    return subprocess.run([sys.executable, "-m", "tidal_lens", "run", *map(str, arguments)], env=ENV, capture_output=True, text=True,
                          timeout=300, check=False)


def test_the_command_makes_all_and_says_so(study, tmp_path):
    save_study(study, tmp_path / "s.tidal")
    done = command(tmp_path / "s.tidal", "--steps", "last", "--pictures", "--report", "--workers", 1, "--out", tmp_path / "o")
    assert done.returncode == 0, done.stderr
    assert "[1/1] run, step 2: 4 files" in done.stdout
    assert {p.name for p in (tmp_path / "o" / "run").iterdir()} == {"All 0002.png", "Bare 0002.png", "run 0002.html", "run 0002.docx"}
    assert "from before" in command(tmp_path / "s.tidal", "--steps", "last", "--pictures", "--report", "--workers", 1, "--out",
                                    tmp_path / "o").stdout
    lost = command(tmp_path / "s.tidal", "--cases", tmp_path / "no.cgns", "--out", tmp_path / "p")
    assert lost.returncode == 1
    assert "does not exist" in lost.stdout
    wrong = command(tmp_path / "none.tidal", "--out", tmp_path / "p")
    assert wrong.returncode == 2
    assert "cannot be read" in wrong.stderr
