"""Another number of threads for kernels."""

import contextlib
from concurrent.futures import ThreadPoolExecutor

from tidal_lens import work


@contextlib.contextmanager
def threads(count):
    """While this lasts, chunks are worked on by so many threads."""
    was = work._pool, work.WORKERS
    with ThreadPoolExecutor(count, thread_name_prefix="chunk") as pool:
        work._pool, work.WORKERS = pool, count
        try:
            yield
        finally:
            work._pool, work.WORKERS = was
