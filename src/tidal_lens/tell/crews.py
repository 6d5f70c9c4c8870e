"""Who does the tasks of a run: processes on this machine, or workers of a cluster. The same tasks come to the same files by either."""

from __future__ import annotations

import multiprocessing
import os
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from typing import Any, Protocol

from tidal_lens.errors import StudyError
from tidal_lens.tell.tasks import Done, Task, do
from tidal_lens.work import THREADS, Token

_BEAT = 0.2  # seconds between two looks at whether all is still wanted
_ANSWERS_WITHIN = "15s"  # a scheduler
_TRIES = 2  # of a task whose process was lost
_LOST = "The process that worked on it was lost, more than once: is there memory enough? Take fewer workers."
Take = Callable[[Task, Done], object]


@contextmanager
def single_threads() -> Iterator[None]:
    """What is started within works with one thread, kernels and drawing: workers share the processors, and none depends on how many."""
    said = {THREADS: "1", "LP_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    before = {name: os.environ.get(name) for name in said}
    os.environ.update(said)
    try:
        yield
    finally:
        for name, old in before.items():
            if old is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = old


class Crew(Protocol):
    """Does tasks."""

    def do(self, tasks: Sequence[Task], take: Take, token: Token) -> None:
        """Do tasks; ``take`` is given each with what came of it, as it is there. Cancelled, it gives up what is under way."""


class Here:
    """Processes of this machine, kept from one call to the next: each knows the case that it worked on last.

    Where a process is lost, all that were under way are done again, one at a time the second time, so that the one that fails is known.
    """

    def __init__(self, workers: int) -> None:
        self._workers = workers
        self._pool: ProcessPoolExecutor | None = None

    def close(self) -> None:
        """Wait for nothing that is not wanted."""
        pool, self._pool = self._pool, None
        if pool is None:
            return
        processes = list((getattr(pool, "_processes", None) or {}).values())
        pool.shutdown(wait=False, cancel_futures=True)
        for process in processes:
            process.terminate()
        for process in processes:
            process.join(5.0)

    def do(self, tasks: Sequence[Task], take: Take, token: Token) -> None:
        """See :class:`Crew`."""
        waiting, lost = list(tasks), Counter[Task]()
        while waiting:
            doubtful = [t for t in waiting if lost[t] > 0]
            now = doubtful[:1] if len(doubtful) == len(waiting) else [t for t in waiting if not lost[t]]
            left = self._work(now, take, token)
            for task in left:
                lost[task] += 1
                if lost[task] >= _TRIES:
                    take(task, Done(failed=_LOST))
            waiting = [t for t in waiting if (t in left and lost[t] < _TRIES) or t not in now]

    def _work(self, tasks: Sequence[Task], take: Take, token: Token) -> list[Task]:
        """Do tasks until all are done or a process is lost; those that were not done."""
        left = dict.fromkeys(tasks)
        if self._pool is None:
            self._pool = ProcessPoolExecutor(self._workers, mp_context=multiprocessing.get_context("spawn"))
        broken = True
        try:
            with single_threads():  # processes begin as they are needed
                under_way: dict[Future[Done], Task] = {self._pool.submit(do, task): task for task in tasks}
                while under_way:
                    done, _ = wait(under_way, _BEAT, FIRST_COMPLETED)
                    token.check()
                    for future in done:
                        task = under_way.pop(future)
                        try:
                            answer = future.result()
                        except BrokenProcessPool:
                            continue
                        del left[task]
                        take(task, answer)
            broken = bool(left)
        except BrokenProcessPool:
            pass
        finally:
            if broken:
                self.close()
        return list(left)


class Cluster:
    """Workers of a Dask scheduler; they see the same files and have the same version.

    Raises
    ------
    StudyError
        No scheduler answers at the address.
    """

    def __init__(self, address: str) -> None:
        from distributed import Client

        try:
            self._client: Any = Client(address, timeout=_ANSWERS_WITHIN, set_as_default=False)
        except (OSError, ValueError, TimeoutError) as why:
            raise StudyError(f"No scheduler answers: {why}.", address,
                             "Start one with 'dask scheduler', and workers with 'dask worker'.") from why

    def close(self) -> None:
        """Leave it."""
        self._client.close()

    def do(self, tasks: Sequence[Task], take: Take, token: Token) -> None:
        """See :class:`Crew`."""
        from distributed import as_completed

        futures = {self._client.submit(do, task, pure=False, retries=_TRIES, key=f"tidal-lens-{task.digest}"): task for task in tasks}
        for future in as_completed(futures, loop=self._client.loop):
            token.check()
            task, error = futures[future], future.exception()
            take(task, Done(failed=f"{_LOST} ({type(error).__name__})") if error is not None else future.result())
