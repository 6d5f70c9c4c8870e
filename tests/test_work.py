"""Chunks of work on all cores."""

import threading
import time

import pytest

from threads import threads
from tidal_lens.work import run_chunks


@pytest.mark.parametrize("count", [1, 2, 5])
def test_every_item_is_in_one_chunk(count):
    seen = []
    with threads(count):
        run_chunks(lambda a, b: seen.append((a, b)), 103, 10)
    assert sorted(seen) == [(n, min(n + 10, 103)) for n in range(0, 103, 10)]


def test_a_chunk_may_run_chunks_of_its_own():
    inner = []
    with threads(2):
        run_chunks(lambda a, _b: run_chunks(lambda c, d: inner.append((a, c, d)), 4, 1), 6, 1)
    assert len(set(inner)) == len(inner) == 24


def test_an_error_of_a_chunk_is_told_whoever_worked_on_it_and_nothing_begins_after_it():
    for where in ("here", "beside"):
        begun, main = [], threading.get_ident()

        def task(begin, _end, where=where, begun=begun, main=main):
            begun.append(begin)
            time.sleep(0.002)
            if (threading.get_ident() == main) == (where == "here"):
                raise ValueError(where)

        with threads(2), pytest.raises(ValueError, match=where):
            run_chunks(task, 1000, 1)
        assert len(begun) < 1000


def test_other_work_under_way_holds_nobody_up():
    go = threading.Event()
    done = []
    with threads(2):
        long = threading.Thread(target=run_chunks, args=(lambda _a, _b: go.wait(20), 8, 1))
        long.start()
        try:
            run_chunks(lambda a, _b: done.append(a), 5, 1)
            assert done == [0, 1, 2, 3, 4]
            assert long.is_alive()
        finally:
            go.set()
            long.join()
