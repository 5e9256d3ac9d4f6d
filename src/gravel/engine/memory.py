"""How the process's allocator treats freed memory."""

from __future__ import annotations

import os
import re
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

import pyarrow as pa

_BESIDE = 256 << 20
_USUAL = 4 << 30  # bytes of memory where the system does not tell
_MMAP_THRESHOLD, _TRIM_THRESHOLD, _ARENAS = -3, -1, -8  # mallopt's names for them, from malloc.h


@lru_cache(maxsize=1)
def keep_freed_blocks() -> None:
    """Let glibc keep freed blocks of some megabytes for the next batch instead of giving each back
    to the system.

    The pieces a table is read in are of that size, and fetching fresh zeroed pages for every
    temporary array took a third of the time of reading. Where the C library is another, nothing is
    done.
    """
    import ctypes

    try:
        mallopt = ctypes.CDLL(None).mallopt
        mallopt(_MMAP_THRESHOLD, 1 << 26)
        mallopt(_TRIM_THRESHOLD, 1 << 27)
        mallopt(_ARENAS, 1)  # each thread's own would keep what the others could use
    except (OSError, AttributeError):
        return


def size_of(text: str) -> int:
    """A size such as 256MB or 2GB in bytes. Raises ValueError."""
    match = re.fullmatch(r"(\d+) ?([KMG]?)i?B?", text.strip(), re.IGNORECASE)
    if not match or int(match[1]) == 0:
        raise ValueError(f"a size such as 256MB or 2GB, not {text!r}")
    return int(match[1]) * 1024 ** " KMG".index(match[2].upper() or " ")


def quarter_of_the_machine() -> int:
    """A quarter of the bytes of memory that the process may use: the machine's, or its control
    group's if that has fewer."""
    size = (
        os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
        if hasattr(os, "sysconf")
        else _USUAL
    )
    with suppress(OSError, ValueError):  # "max": no limit of its own
        size = min(size, int(Path("/sys/fs/cgroup/memory.max").read_text("ascii")))
    return size // 4


DEFAULT_MEMORY = quarter_of_the_machine()


def give_back_freed_blocks() -> None:
    """Give freed memory back to the system, where little of it may be held: between two parts of
    what is worked on part by part."""
    import ctypes

    pa.default_memory_pool().release_unused()
    try:
        ctypes.CDLL(None).malloc_trim(0)
    except (OSError, AttributeError):
        return


def default_memory(elsewhere: bool) -> int:
    """What may be held where nothing is said; little where other machines do the work, and this one
    puts their answers together."""
    return min(DEFAULT_MEMORY, _BESIDE) if elsewhere else DEFAULT_MEMORY
