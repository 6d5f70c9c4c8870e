"""Kills the program in the middle of edits and sees how much of the work is lost.

    python tests/kills/run.py --kills 20

A child opens the demo, moves a slice every 0.3 s and writes down when; it is killed at a random moment, and the study that autosave
kept tells how old the last edit in it is. At most 3 s may be lost, and nothing half written may be left after the next start.
"""

import argparse
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
MOST = 3.0  # seconds


def child(log):
    """Edit for ever."""
    sys.path.insert(0, str(HERE.parent))
    from driving import settle, spin
    from tidal_lens.app.start import application
    from tidal_lens.app.window import Window

    app = application("chart")  # held: without it there are no widgets
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.autosave.offer_leftovers()
    window.open_demo("kittiwake coarse.vtm")
    settle(window)
    layer = next(x for x in window.document.study.layers if x.kind == "slice")
    with open(log, "a", encoding="utf-8") as out:
        for number in range(1, 100_000):
            position = round(-0.1 + number * 1e-4, 6)
            window.document.edit_layer(layer.with_(shape=layer.shape.with_(position=position)), "Move slice")
            out.write(json.dumps({"position": position, "at": time.time()}) + "\n")
            out.flush()
            spin(0.3)
            app.processEvents()


def one_kill(folder, number):
    """Seconds of work lost, and what was left behind."""
    log = folder / f"edits-{number}.jsonl"
    state = folder / "state"
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": str(state), "XDG_CONFIG_HOME": str(folder / "config"),
                   "PYTHONPATH": str(HERE.parent.parent / "src")}
    process = subprocess.Popen([sys.executable, __file__, "--child", str(log)], env=environment, stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL)
    while not log.exists() or not log.read_text():
        time.sleep(0.05)
        if process.poll() is not None:
            raise SystemExit("the child ended by itself")
    time.sleep(random.uniform(1.5, 7.0))
    killed = time.time()
    process.send_signal(signal.SIGKILL)
    process.wait()
    edits = [json.loads(line) for line in log.read_text().splitlines() if line.endswith("}")]
    kept = max(state.rglob("autosave-*.tidal"), key=lambda p: p.stat().st_mtime, default=None)
    if kept is None:
        return killed - edits[0]["at"], len(edits)
    study = json.loads(kept.read_text())
    position = next(x["shape"]["position"] for x in study["layers"] if x["shape"]["kind"] == "slice")
    lost = [e["at"] for e in edits if e["position"] > position + 1e-9]
    kept.unlink()
    return (killed - lost[0] if lost else 0.0), len(edits)


def main():
    """Run from the command line; exit status 1 where too much was lost."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--kills", type=int, default=20)
    options.add_argument("--child")
    chosen = options.parse_args()
    if chosen.child:
        child(chosen.child)
    worst = 0.0
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        for number in range(chosen.kills):
            lost, edits = one_kill(folder, number)
            worst = max(worst, lost)
            print(f"kill {number + 1}: {edits} edits, {lost:.2f} s lost", flush=True)
        half = [p.name for p in (folder / "state").rglob(".*") if p.is_file()]
    print(f"At most {worst:.2f} s lost in {chosen.kills} kills; half written files left by the last one: {half or 'none'}.")
    return 1 if worst > MOST else 0


if __name__ == "__main__":
    sys.exit(main())
