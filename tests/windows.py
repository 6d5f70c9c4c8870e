"""Windows for tests: made, and looked after when they are gone."""

import threading
import time

import pytest

from driving import settle, spin
from tidal_lens.app.start import application
from tidal_lens.app.window import Window
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.study.model import ReadingSetting


@pytest.fixture(scope="session")
def qapp():
    return application("chart")


@pytest.fixture
def empty(qapp):
    """A window with nothing open; afterwards no thread of it may be left."""
    before = set(threading.enumerate())
    window = Window()
    window.resize(1280, 800)
    window.show()
    spin()
    yield window
    window.hide()
    window.close()
    window.deleteLater()
    spin()
    end = time.monotonic() + 90.0  # what was given up ends when it can: a process that is just beginning hears late
    while (left := [t.name for t in set(threading.enumerate()) - before if not t.name.startswith("chunk")]) and time.monotonic() < end:
        spin(0.01)
    assert not left, f"threads left behind: {left}"


def open_short_gust(window):
    """Six moments of the gust, every other point: what goes through steps need not read all of it."""
    window.document.open_path(ASSETS / "kittiwake gust.cgns", reading=ReadingSetting(every=2, every_step=4))
    settle(window)
    assert len(window.document.flow.times) == 6


@pytest.fixture
def window(empty, demo_path):
    """A window with the demo open and its picture complete."""
    empty.document.open_path(demo_path)
    settle(empty)
    return empty
