"""How long a film, a report, a run over steps and the start of the window take."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.demo.shipped import demo_path
from tidal_lens.scene.camera import first_camera, setting_of
from tidal_lens.scene.renderer import prefer_headless
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.opened import Opened
from tidal_lens.study.plates import with_plate
from tidal_lens.study.session import Session, open_session
from tidal_lens.study.telling import PictureSetting
from tidal_lens.tell.batch import Plan, run
from tidal_lens.tell.film import Film
from tidal_lens.tell.filming import film_to
from tidal_lens.tell.report_files import write_report
from tidal_lens.tell.studio import Look, Studio
from tidal_lens.work import Token


def telling() -> None:
    prefer_headless()
    session = framed(open_session(demo_file()))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with Studio(Opened.of(session)) as studio:
            studio.shot(session.study, Look(640, 400))  # kernels are there
            began = time.perf_counter()
            film_to(studio, session.study, Film("turn", 6.0, 20.0, Look(1280, 720)), folder / "turn.mp4")
            took = time.perf_counter() - began
            print(f"   a turn-table of 120 pictures 1280x720 of the demo as MP4: {took:.1f} s (wanted 60 s)", flush=True)
        reported(session, folder)
        batch(folder)
    starts()


def framed(session: Session) -> Session:
    """Seen from where the window would see it."""
    flow = session.flow
    camera = setting_of(first_camera(*flow.stage, 1.6, flow.normal))
    return replace(session, study=session.study.model_copy(update={"camera": camera}))


def reported(session: Session, folder: Path) -> None:
    """With all four finds, forces, a section, three plates: opened anew, so that nothing is worked out before."""
    fresh = framed(open_session(demo_file()))
    study = fresh.study
    for name in ("vortices", "separation", "shocks", "recirculation", "forces", "section"):
        kind = next(k for k in KINDS if k.name == name)
        assert kind.begin is not None
        study = study.adding(study.layer_of(kind.begin(session.evaluator.store, "")))
    for _ in range(3):
        study = with_plate(study)
    began = time.perf_counter()
    write_report(Opened.of(fresh), study, [folder / "report.html"], Token())
    took = time.perf_counter() - began
    print(f"   a report of the demo, all four finds, forces, a section and three plates: {took:.1f} s (wanted 20 s), "
          f"{(folder / 'report.html').stat().st_size / 1e6:.1f} MB (30 at most)", flush=True)


def batch(folder: Path) -> None:
    """24 steps with three pictures each, by one worker and by two, in turn, twice."""
    session = framed(open_session(demo_path("kittiwake gust.cgns")))
    study = session.study.with_(picture=PictureSetting(wide=1280, tall=800))
    for n in range(3):
        study = with_plate(study.with_(ground=("water", "paper", "white")[n]))
    took: dict[int, list[float]] = {1: [], 2: []}
    for turn in range(2):
        for workers in took:
            began = time.perf_counter()
            lost = run(Plan(study, folder / f"out {workers} {turn}", (), "all", tables=False, workers=workers))
            assert lost == 0
            took[workers].append(time.perf_counter() - began)
    one, two = (min(took[n]) for n in (1, 2))
    print(f"   24 steps of the gust, three pictures 1280x800 each: one worker {one:.1f} s, two {two:.1f} s: {one / two:.2f}x (wanted 1.7x)",
          flush=True)


def starts(count: int = 3) -> None:
    """From the start of the process to the window, kernels compiled before."""
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(Path(__file__).resolve().parent.parent / "src")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)  # warm: modules were compiled by an earlier start
    best: list[float] = []
    for number in range(count + 1):
        began = time.time()
        process = subprocess.Popen([sys.executable, "-m", "tidal_lens"], env={**environment, "TIDAL_LENS_TELL_START": str(began)},
                                   stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        told: dict[str, float] = {}
        for line in process.stdout:
            words = line.split()
            if words[-1:] == ["s"]:
                told[" ".join(words[:-2])] = float(words[-2])
            if "first picture" in told:
                break
        process.kill()
        process.wait()
        if number == 0:
            continue
        best.append(told["window"])
        print(f"   start: window after {told['window']:.2f} s (wanted 2 s), first picture after {told['first picture']:.2f} s", flush=True)
