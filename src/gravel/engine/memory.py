"""How the process's allocator treats freed memory."""

from __future__ import annotations

from functools import lru_cache

_MMAP_THRESHOLD, _TRIM_THRESHOLD, _ARENAS = -3, -1, -8  # mallopt's names for them, from malloc.h


@lru_cache(maxsize=1)
def keep_freed_blocks() -> None:
    """Let glibc keep freed blocks of some megabytes for the next batch instead of giving each back to the system.

    The pieces a table is read in are of that size, and fetching fresh zeroed pages for every temporary array took a
    third of the time of reading. Where the C library is another, nothing is done.
    """
    import ctypes

    try:
        mallopt = ctypes.CDLL(None).mallopt
        mallopt(_MMAP_THRESHOLD, 1 << 26)
        mallopt(_TRIM_THRESHOLD, 1 << 27)
        mallopt(_ARENAS, 1)  # each thread's own would keep what the others could use
    except (OSError, AttributeError):
        return


def give_back_freed_blocks() -> None:
    """Give freed memory back to the system, where little of it may be held: between two parts of what is worked on part by part."""
    import ctypes

    import pyarrow as pa

    pa.default_memory_pool().release_unused()
    try:
        ctypes.CDLL(None).malloc_trim(0)
    except (OSError, AttributeError):
        return
