"""Rings of garbage go on the window's thread, and nowhere else."""

import gc
import threading
import weakref

import pytest
from PyQt6.QtCore import QEventLoop, QTimer

from driving import spin, wait
from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.app.sweeping import sweep
from windows import qapp

__all__ = ["qapp"]
pytestmark = pytest.mark.gui


class Ring:
    """Holds itself; tells on which thread it goes."""

    def __init__(self, told):
        self.self, self.told = self, told

    def __del__(self):
        self.told.append(threading.current_thread().name)


def test_what_threads_leave_behind_goes_on_the_windows_thread(qapp):
    told = []

    def leave():
        for _ in range(20_000):
            Ring(told)

    others = [threading.Thread(target=leave, name=f"other {n}") for n in range(2)]
    for one in others:
        one.start()
    for one in others:
        one.join()
    wait(lambda: len(told) == 40_000, "all rings")
    assert set(told) == {threading.main_thread().name}


def test_nothing_is_swept_in_a_loop_of_events_within_another(qapp):
    """There, widgets that are to be deleted later are still to be clicked."""
    told, within, outer, inner = [], [], QEventLoop(), QEventLoop()

    def go_in():
        for _ in range(20_000):
            Ring(told)
        QTimer.singleShot(900, inner.quit)
        inner.exec()
        within.append(len(told))
        outer.quit()

    QTimer.singleShot(0, go_in)
    outer.exec()
    assert within == [0]
    wait(lambda: len(told) == 20_000, "all rings")


def test_it_goes_by_pythons_thresholds_and_not_through_all_in_a_drag(qapp):
    usual = gc.get_threshold()
    told, keep = [], []
    try:
        gc.set_threshold(10, 2, 2)
        gc.collect()
        assert sweep() == -1, "there is nothing new"
        ring = Ring(told)
        seen = []
        for _ in range(40):
            keep += [[] for _ in range(100)]
            seen.append(sweep(whole=False))
        assert set(seen) == {0, 1}
        del ring
        seen = []
        while 2 not in seen:
            assert told == [], "it is old"
            keep += [[] for _ in range(100)]
            seen.append(sweep(whole=True))
        assert len(seen) <= 4
        assert told == [threading.main_thread().name]
    finally:
        gc.set_threshold(*usual)


def test_a_job_that_is_over_is_gone_at_once(qapp):
    """What it worked on, and one that was overtaken, too: no ring of them waits to be swept."""

    class Load:
        pass

    jobs, gate, loads, done = Jobs(), threading.Event(), [Load() for _ in range(3)], []
    for load in loads:
        jobs.submit(Slot("a"), "work", lambda token, load=load: (gate.wait(20), token.report(0.5), id(load)), done.append, done.append)
    left = [weakref.ref(load) for load in loads]
    del load
    gc.disable()
    loads.clear()
    gate.set()
    wait(lambda: not jobs.is_busy(), "the end")
    spin(0.05)
    assert len(done) == 2
    assert [ref() for ref in left] == [None] * 3
    jobs.close()
