"""Opens thousands of broken files of every format: each must open or be refused with a message.

    python tests/fuzz/run.py --count 5000 --seed 1

Files are opened in child processes with a limit of memory and of time, so that a crash or a hang is found out and told.
"""

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections import Counter
from functools import partial
from pathlib import Path

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))
sys.path.insert(0, str(HERE.parent.parent / "src"))

_MEMORY = 6 << 30
_PATIENCE = 20.0


def _kept(path, read):
    """A record of a run is refused by a plain error of its value, and what it was of is made anew."""
    from tidal_lens.errors import TidalLensError

    try:
        read(path.read_text(encoding="utf-8"))
    except (ValueError, TypeError) as why:
        raise TidalLensError(str(why)) from why


def child(folder, begin, end, seed):
    """Break and open files; tells one line of each before and after."""
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    import warnings

    import numpy as np
    from mutate import mutated

    from tidal_lens.errors import TidalLensError
    from tidal_lens.formats.bodies import SUFFIXES, read_body
    from tidal_lens.formats.csv_tables import read_table
    from tidal_lens.formats.pictures import read_picture
    from tidal_lens.formats.registry import open_flow
    from tidal_lens.study.files import load_study
    from tidal_lens.tell.tasks import from_json

    warnings.simplefilter("error")
    samples = json.loads((folder / "samples.json").read_text())
    for number in range(begin, end):
        name = samples[number % len(samples)]
        random = np.random.default_rng([seed, number])
        good = folder / name
        bad = folder / f"broken-{begin}{good.suffix}"
        bad.write_bytes(mutated(good.read_bytes(), random))
        print(json.dumps({"number": number, "name": name}), flush=True)
        try:
            readers = {".csv": read_table, ".tidal": load_study, ".png": read_picture, ".jpg": read_picture, ".webp": read_picture,
                       ".json": lambda path: _kept(path, from_json)}
            read = read_body if good.suffix in SUFFIXES else readers.get(good.suffix) or partial(open_flow, anyway=True)
            read(bad)
            end_as = "opened"
        except TidalLensError:
            end_as = "refused"
        except Exception as error:  # noqa: BLE001  # that is what is looked for
            import traceback

            end_as = f"{type(error).__name__}: {str(error)[:200]} at {traceback.extract_tb(error.__traceback__)[-1]}"
        print(json.dumps({"number": number, "end": end_as}), flush=True)


def watch(folder, begin, end, seed):
    """Run a child from one file to the next; a file that kills it is told, and another child goes on after it."""
    found = Counter()
    bad = []
    at = begin
    while at < end:
        # What VTK itself prints of broken files is not wanted.
        process = subprocess.Popen([sys.executable, __file__, "--child", str(folder), str(at), str(end), str(seed)], stdout=subprocess.PIPE,
                                   stderr=subprocess.DEVNULL, env={**os.environ, "PYTHONPATH": str(HERE.parent.parent / "src")})
        last, name, since = at, "", time.monotonic()
        os.set_blocking(process.stdout.fileno(), False)
        rest = b""
        while True:
            rest += process.stdout.read() or b""
            *lines, rest = rest.split(b"\n")
            for line in lines:
                told = json.loads(line)
                since = time.monotonic()
                last, name = told["number"], told.get("name", name)
                if "end" in told:
                    found[told["end"] if told["end"] in ("opened", "refused") else "error"] += 1
                    if told["end"] not in ("opened", "refused"):
                        bad.append(f"file {last} of seed {seed} ({name}): {told['end']}")
                    at = last + 1
            if process.poll() is not None and not lines:
                break
            if time.monotonic() - since > _PATIENCE + 20.0 * (at == begin):
                process.kill()
                bad.append(f"file {last} of seed {seed} ({name}): no answer within {_PATIENCE:.0f} s")
                found["hang"] += 1
                at = last + 1
                break
            time.sleep(0.01)
        process.wait()
        process.stdout.close()
        if at < end and process.returncode not in (0, -9):
            bad.append(f"file {last} of seed {seed} ({name}): the process ended with {process.returncode}")
            found["crash"] += 1
            at = last + 1
    return found, bad


def fuzz(count, seed, say=print):
    """Counts of how files ended, and a line for each that did not end well."""
    with tempfile.TemporaryDirectory() as scratch:
        from samples import make_samples

        folder = Path(scratch)
        (folder / "samples.json").write_text(json.dumps([p.name for p in make_samples(folder)]))
        found, bad = Counter(), []
        for begin in range(0, count, 1000):
            part, lines = watch(folder, begin, min(begin + 1000, count), seed)
            found += part
            bad += lines
            for line in lines:
                say(line)
            say(f"{min(begin + 1000, count):,} files: {dict(found)}")
    return found, bad


def main():
    """Run from the command line."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--count", type=int, default=3000)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--child", nargs=4, metavar=("FOLDER", "BEGIN", "END", "SEED"))
    chosen = options.parse_args()
    if chosen.child:
        folder, begin, end, seed = chosen.child
        child(Path(folder), int(begin), int(end), int(seed))
        return 0
    _, bad = fuzz(chosen.count, chosen.seed)
    print("\n".join(bad) or "Every file opened or was refused with a message.")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
