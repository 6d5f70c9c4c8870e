"""Tests never touch the user's own folders, and never need a display."""

import gc
import os
import tempfile
from pathlib import Path

_SCRATCH = tempfile.mkdtemp(prefix="tidal-lens-tests-")
if "NUMBA_CACHE_DIR" not in os.environ:  # compiled kernels may be shared with the program: they are named by a digest
    from tidal_lens.jit import _cache_folder

    os.environ["NUMBA_CACHE_DIR"] = str(_cache_folder())
for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
    os.environ[name] = str(Path(_SCRATCH) / name.lower())
os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["QT_SCALE_FACTOR"] = "1"

import pytest  # noqa: E402

from tidal_lens.flow.case import Flow  # noqa: E402
from tidal_lens.formats.registry import open_flow  # noqa: E402
from tidal_lens.memory import say_limit  # noqa: E402
from vortex_tank import demo_file  # noqa: E402


def pytest_runtest_teardown():
    """Once there was a window, garbage is looked for where its events are, and nowhere else: also between tests that have none."""
    if not gc.isenabled():
        gc.collect(1)


@pytest.fixture
def memory_limit():
    """Chooses what may be kept, and forgets that choice."""
    yield say_limit
    say_limit(None)


@pytest.fixture(scope="session")
def demo_path() -> Path:
    return demo_file()


@pytest.fixture(scope="session")
def demo(demo_path: Path) -> Flow:
    return open_flow(demo_path)
