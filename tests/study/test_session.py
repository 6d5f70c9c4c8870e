"""A study with its flow, its results and its scene: without an interface."""

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from small_series import series
from tidal_lens.errors import CancelledError, StudyError
from tidal_lens.jit import cache_folder
from tidal_lens.study.files import save_study
from tidal_lens.study.kinds.slice import new_slice
from tidal_lens.study.kinds.streamlines import new_streamlines
from tidal_lens.study.model import KeySetting, Study
from tidal_lens.study.session import key_of, open_session, open_study, seen_range
from tidal_lens.study.words import number_text
from tidal_lens.work import Token
from vortex_tank import demo_file

WITHOUT_QT = """
import sys
from importlib.abc import MetaPathFinder

class NoQt(MetaPathFinder):
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] == "PyQt6":
            raise ImportError("no interface here")

sys.meta_path.insert(0, NoQt())
from pathlib import Path
from tidal_lens.scene.key_faces import key_faces
from tidal_lens.scene.marks import Words, rough_measure
from tidal_lens.scene.scenery import Key, Scenery, Table
from tidal_lens.study.session import key_of, open_study

session = open_study(Path(sys.argv[1]))
results = session.results()

def key(name):
    known = key_of(session.study, session.evaluator, name)
    return Key(known[1], known[2], session.evaluator.store.describe(name).scale)

table = Table(session.flow, session.study, results, key, session.evaluator.outline())
scene = Scenery().scene(table, "#ffffff", "#000000")
for item in scene.items:
    print(item.id, len(item.points), item.colours is not None)
def known(name):
    return key_of(session.study, session.evaluator, name)

for face in key_faces(session.study, session.evaluator, known, (900, 600), rough_measure):
    print("key", face.quantity.name, *(m.text for m in face.marks() if isinstance(m, Words)), sep="|")
for layer_id, result in results.items():
    for table in result.unmasked.tables:
        print("table", layer_id, len(table.rows), *table.heads, sep="|")
assert not any(name.startswith("PyQt6") for name in sys.modules)
"""


def test_a_study_is_evaluated_and_its_scene_made_without_an_interface(tmp_path):
    session = open_session(demo_file())
    study = session.study.adding(session.study.layer_of(new_slice(session.evaluator.store, 0)))
    study = study.adding(study.layer_of(new_streamlines(session.evaluator.store)))
    save_study(study, tmp_path / "a.tidal")
    root = Path(__file__).parent.parent.parent
    done = subprocess.run([sys.executable, "-c", WITHOUT_QT, str(tmp_path / "a.tidal")], capture_output=True, text=True, check=False,
                          cwd=root, env={"PYTHONPATH": str(root / "src"), "HOME": str(tmp_path), "PATH": "/usr/bin:/bin",
                                         "NUMBA_CACHE_DIR": str(cache_folder())})
    assert done.returncode == 0, done.stderr
    told = done.stdout.splitlines()
    rows = [line.split() for line in told if "|" not in line]
    assert [r[0] for r in rows] == [*(layer.id for layer in study.layers), "·outline"]
    assert all(int(r[1]) > 0 for r in rows)
    assert [r[2] for r in rows[-4:]] == ["True", "True", "True", "False"]
    _spread, low, high = key_of(session.study, session.evaluator, "mach")
    key = next(line.split("|") for line in told if line.startswith("key"))
    assert key[:3] == ["key", "mach", "Mach number"]
    assert key[4:6] == [number_text(high), number_text(low)]
    table = next(line.split("|") for line in told if line.startswith("table"))
    assert table == ["table", study.layers[-1].id, "30", "seed", "length", "time", "error estimate", "upstream end", "downstream end"]


def test_results_are_those_that_are_drawn(tmp_path):
    session = open_session(demo_file())
    assert set(session.results()) == {layer.id for layer in session.study.layers}
    hidden = session.study.layers[0]
    without = open_session(demo_file(), session.study.replacing(hidden.with_(shown=False)))
    assert hidden.id not in without.results()
    token = Token()
    token.cancel()
    with pytest.raises(CancelledError):
        open_session(demo_file(), token=token)


def test_a_study_without_a_case_says_so(tmp_path):
    save_study(Study(), tmp_path / "a.tidal")
    with pytest.raises(StudyError, match="names no case"):
        open_study(tmp_path / "a.tidal")


def test_ranges_of_a_series_are_those_first_seen(tmp_path):
    path, _ = series(tmp_path)
    first = open_session(path)
    name = "file:Density"
    assert key_of(first.study, first.evaluator, name) is None, "not worked out yet"
    spread = first.evaluator.store.distribution(name)
    seen = seen_range(first.study, first.evaluator, name, spread)
    study = first.study.with_(ranges={name: (seen,)}, step=2)
    later = open_session(path, study)
    own = later.evaluator.store.distribution(name)
    assert own.low > spread.high - 0.6
    _, low, high = key_of(study, later.evaluator, name)
    assert (low, high) == key_of(first.study.with_(ranges={name: (seen,)}), first.evaluator, name)[1:]
    said = study.with_(keys={name: KeySetting(low=-1.0, high=9.0)})
    assert key_of(said, later.evaluator, name)[1:] == (-1.0, 9.0)
    assert np.isfinite([low, high]).all()
