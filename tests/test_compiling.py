"""The first start: kernels are compiled in processes beside, and who needs one waits for it or compiles it himself."""

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import numba
import numpy as np
import pytest

from tidal_lens import compiling, jit, light_compiling
from tidal_lens.errors import CancelledError
from tidal_lens.jit import folded, making, piece, summing
from tidal_lens.work import Token, working_for

SRC = Path(__file__).parent.parent / "src"
LINES = """
import os
from tidal_lens.tracing.streamlines import TraceSettings, trace_lines
from tidal_lens.sampling.mesh import mesh_of
from tidal_lens.warm import tiny_flow
flow = tiny_flow()
trace_lines(flow, mesh_of(flow), flow.fields["U"].values, flow.points[13:14], TraceSettings("both")).stencil.apply(flow.points[:, 0])
"""


def kernels(folder):
    return {p.name.split("-")[0] for p in folder.rglob("*.nbi")}


def test_a_process_compiles_the_parts_that_it_is_told(tmp_path):
    """Its answer comes when the part is in the cache; what it does not know does no harm."""
    env = {**os.environ, "PYTHONPATH": str(SRC), "NUMBA_CACHE_DIR": str(tmp_path)}
    done = subprocess.run([sys.executable, "-m", "tidal_lens", "--compile"], input="welding\nnonsense\n", capture_output=True, text=True,
                          check=True, env=env, timeout=120)
    assert done.stdout.split() == ["welding", "nonsense"]
    assert "welding_kernels.first_alike" in kernels(tmp_path)
    assert not any("tracing" in name for name in kernels(tmp_path))


PROGRAM = """
import sys
import numba
import numpy as np
from tidal_lens.jit import folded, inlined, kernel, making, piece
from tidal_lens.light_compiling import compile_lightly
if sys.argv[1] == "light":
    assert compile_lightly()

@making
def mean(values):
    out = np.zeros(2)
    fill(out, values)
    return out[0]

@piece
def fill(out, values):
    out[0] = values.sum() / len(values)

@folded
def cubed(x):
    return x * x * x

@inlined
def limited(x, most):
    return min(x, most)

@kernel
def work(values, most):
    total = 0.0
    for i in range(len(values)):
        total += limited(cubed(values[i] - mean(values)), most)
    return total, np.cbrt(total)

for values in (np.arange(5.0) ** 2, np.arange(7, dtype=np.float32)):
    print(work(values, 40.0), work(values, 3))
print(len(work.overloads), sorted(work.stats.cache_hits.values()))
"""


def test_what_is_compiled_lightly_computes_the_same_and_is_loaded_by_others(tmp_path):
    """All kinds of pieces, several forms; the cache that the light way fills serves who compiles as usual."""
    said = {}
    (tmp_path / "program.py").write_text(PROGRAM)
    for folder, ways in (("a", ["light", "usual"]), ("b", ["usual"])):
        env = {**os.environ, "PYTHONPATH": str(SRC), "NUMBA_CACHE_DIR": str(tmp_path / folder)}
        for way in ways:
            done = subprocess.run([sys.executable, "program.py", way], cwd=tmp_path, capture_output=True, text=True, check=True, env=env,
                                  timeout=120)
            said[folder, way] = done.stdout.splitlines()
    assert said["a", "light"][:2] == said["a", "usual"][:2] == said["b", "usual"][:2]
    assert len(set(said["b", "usual"])) == 3
    assert said["a", "light"][2] == said["b", "usual"][2] == "4 []"
    assert said["a", "usual"][2] == "4 [1, 1, 1, 1]"


def test_another_compiler_is_left_alone(monkeypatch):
    """What the light way changes was read in one version; in another nothing is touched."""
    monkeypatch.setattr(light_compiling.numba, "__version__", "99.0")
    before = light_compiling.BaseFunction.get_call_type
    assert not light_compiling.compile_lightly()
    assert light_compiling.BaseFunction.get_call_type is before


@pytest.fixture
def small(tmp_path, monkeypatch):
    """A cache of its own, and few parts in two lists."""
    named = dict(compiling.PARTS)
    lists = tuple(tuple((n, named[n]) for n in own) for own in (("welding", "reading"), ("walls",)))
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    monkeypatch.setenv("PYTHONPATH", str(SRC))
    monkeypatch.setattr(compiling, "LISTS", lists)
    monkeypatch.setattr(compiling, "PARTS", sum(lists, ()))
    monkeypatch.setattr(compiling, "load_kernels", lambda _token: None)
    return tmp_path


def test_all_parts_are_compiled_once(small):
    told = []
    assert not compiling.all_compiled()
    compiling.prepare_kernels(Token(), lambda done, total: told.append((done, total)))
    assert compiling.all_compiled()
    assert {"welding_kernels.first_alike", "walls_kernels.nearest_on_triangles"} <= kernels(small)
    assert told[0] == (0, 3)
    assert [d for d, _ in told] == sorted(d for d, _ in told)
    told.clear()
    compiling.prepare_kernels(Token(), lambda done, total: told.append((done, total)))
    assert not told, "what is there is only loaded"


def test_a_cancel_ends_the_processes(small):
    token = Token()
    before = set(threading.enumerate())

    def stop(_done, _total):
        token.cancel()

    with pytest.raises(CancelledError):
        compiling.prepare_kernels(token, stop)
    assert not compiling.all_compiled()
    end = time.monotonic() + 5.0
    while set(threading.enumerate()) - before and time.monotonic() < end:
        time.sleep(0.02)
    assert not set(threading.enumerate()) - before
    assert not jit._meanwhile, "nobody waits for them any more"


def fresh_kernel():
    def plus_one(values):
        for n in range(values.shape[0]):
            values[n] += 1.0

    return jit.kernel(plus_one)


def test_who_needs_a_kernel_waits_while_others_compile(monkeypatch):
    monkeypatch.setattr(jit, "is_there", lambda _dispatcher, _signature: False)
    kernel, values = fresh_kernel(), np.zeros(3)
    going = threading.Event()
    going.set()

    def others():
        time.sleep(0.01)
        return going.is_set()

    jit.wait_while(others)
    try:
        thread = threading.Thread(target=lambda: kernel(values))
        thread.start()
        thread.join(0.3)
        assert thread.is_alive(), "it waits"
        assert values[0] == 0.0
        going.clear()
        thread.join(60)
        assert values[0] == 1.0, "then it goes on by itself"
    finally:
        jit.wait_while(None)


def test_a_wait_for_a_kernel_is_given_up(monkeypatch):
    monkeypatch.setattr(jit, "is_there", lambda _dispatcher, _signature: False)
    others = compiling._Others(lambda _d, _t: None)
    jit.wait_while(others._still)
    kernel, values, token, ended = fresh_kernel(), np.zeros(3), Token(), []

    def run():
        try:
            with working_for(token):
                kernel(values)
        except CancelledError:
            ended.append("cancelled")

    try:
        thread = threading.Thread(target=run)
        thread.start()
        time.sleep(0.2)
        token.cancel()
        thread.join(0.5)
        assert ended == ["cancelled"]
        kernel(values)  # the thread that answers the user does not wait: it compiles
        assert values[0] == 1.0
    finally:
        others._over.set()
        jit.wait_while(None)


def test_lines_need_nothing_that_is_not_compiled_beforehand(tmp_path):
    """A kernel that the parts forget would be waited for until all of them are done."""
    env = {**os.environ, "PYTHONPATH": str(SRC), "NUMBA_CACHE_DIR": os.environ["NUMBA_CACHE_DIR"]}
    code = f"""
from tidal_lens import jit
from tidal_lens.warm import load_kernels
load_kernels()
def late():
    raise AssertionError("it would be compiled late")
jit.wait_while(late)
{LINES}
"""
    subprocess.run([sys.executable, "-c", code], check=True, env=env, timeout=240)


@pytest.mark.parametrize("decorated", [piece, folded, summing])
def test_a_piece_that_hands_an_array_back_is_refused(decorated):
    """Nobody counts who holds it: its caller would give it back to the system while others work on it."""
    back = decorated(lambda values: values)
    use = numba.njit(lambda values: back(values)[0])
    with pytest.raises(TypeError, match="hands an array back"):
        use(np.ones(3))
    kept = making(lambda values: values)
    assert numba.njit(lambda values: kept(values)[0])(np.full(3, 2.0)) == 2.0
