"""Work on pieces by a few threads, with results in the order of the pieces and few of them in
memory at once.

Arrow's kernels and NumPy's sorts release the interpreter lock, so threads are enough.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

from gravel.engine.memory import keep_freed_blocks

A = TypeVar("A")
B = TypeVar("B")


def workers() -> int:
    """How many threads to use: as many as the process may run on, at most 4."""
    count = (
        len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)
    )
    return max(1, min(count, 4))


def ordered_map(
    work: Callable[[A], B], items: Iterable[A], threads: int | None = None
) -> Generator[B, None, None]:
    """`work` of every item, in order, a few ahead of the reader. The first failure is raised in its
    place."""
    keep_freed_blocks()
    count = threads or workers()
    if count == 1:
        yield from map(work, items)
        return
    with ThreadPoolExecutor(count) as pool:
        waiting: deque[Future[B]] = deque()
        try:
            for item in items:
                waiting.append(pool.submit(work, item))
                if len(waiting) > count + 1:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()
