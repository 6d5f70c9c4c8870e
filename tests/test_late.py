"""Modules of kernels are loaded when they are used, once, whichever thread is first; and the window's start does not need them."""

import subprocess
import sys
from pathlib import Path

import tidal_lens
from tidal_lens.tracing import kernels
from tidal_lens.tracing.streamlines import End

SOURCES = Path(tidal_lens.__file__).parent
HEAD = f"import sys; sys.path.insert(0, {str(SOURCES.parent)!r})\n"


def run(code):
    return subprocess.run([sys.executable, "-c", HEAD + code], capture_output=True, text=True, check=True, timeout=120).stdout.split()


def test_the_window_is_there_without_the_compiler():
    assert run("import tidal_lens.app.window\nprint('numba' in sys.modules, 'tidal_lens.jit' in sys.modules)") == ["False", "False"]


def test_a_kernel_loads_its_module_and_no_other():
    told = run("from tidal_lens.flow import kernels\nfrom tidal_lens.tracing import kernels as other\n"
               "print('numba' in sys.modules)\nprint(kernels.__name__, hasattr(kernels, 'none_such'))\n"
               "print('numba' in sys.modules, type(kernels).__name__, type(other).__name__)")
    assert told == ["False", "tidal_lens.flow.kernels", "False", "True", "module", "_Late"]


def test_many_threads_load_it_once():
    told = run("""
import threading
from tidal_lens.tracing import kernels
found, begin = [], threading.Barrier(8)
def look():
    begin.wait()
    found.append(kernels.SLACK)
threads = [threading.Thread(target=look) for _ in range(8)]
[t.start() for t in threads]
[t.join() for t in threads]
print(len(found), set(found) == {kernels.SLACK})
""")
    assert told == ["8", "True"]


def test_what_fails_to_load_says_why_each_time(tmp_path):
    told = run(f"""
from pathlib import Path
import tidal_lens.flow
folder = Path({str(tmp_path)!r})
tidal_lens.flow.__path__.append(str(folder))
(folder / "broken_kernels.py").write_text("ONE = 1\\nraise ValueError('why')")
from tidal_lens.flow import broken_kernels
for _ in range(2):
    try:
        broken_kernels.ONE_MORE
    except ValueError as error:
        print(error)
""")
    assert told == ["why", "why"]


def test_numbers_of_ends_are_those_that_kernels_write():
    for name in ("LEFT", "STILL", "CLOSED", "LENGTH", "STEPS", "OUTSIDE", "TIME", "GONE"):
        assert End[name] == getattr(kernels, name)
