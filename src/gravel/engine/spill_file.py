"""Temporary files for what does not fit into memory."""

from __future__ import annotations

import errno
import os
import tempfile
from contextlib import suppress
from functools import lru_cache
from typing import IO

from gravel.problems import TableProblem

try:
    import resource
except ImportError:  # on Windows
    resource = None  # type: ignore[assignment]

_WITHOUT_LIMIT = 10_240  # files: what macOS allows where it names no limit
_FOR_OTHERS = 64  # files: those that are read and written, and modules that load meanwhile


def open_spill_file() -> IO[bytes]:
    """A temporary file, which goes with the object or with the process. Raises TableProblem where
    too few more could be opened after it."""
    most = _most_files()
    try:
        file = tempfile.TemporaryFile(prefix="gravel-")  # noqa: SIM115
        if most is not None and file.fileno() > most - _FOR_OTHERS:
            file.close()
            raise OSError(errno.EMFILE, os.strerror(errno.EMFILE))
    except OSError as error:
        raise spill_problem(error) from None
    return file


def spill_problem(error: OSError) -> TableProblem:
    """What to say where a temporary file cannot be opened or written."""
    hint = "give more memory with --memory, or another folder with the environment's TMPDIR"
    if error.errno in (errno.EMFILE, errno.ENFILE):
        hint = "give more memory with --memory, or allow more open files: ulimit -n 65536"
    return TableProblem(
        f"what does not fit in memory cannot be kept in {tempfile.gettempdir()}:"
        f" {(error.strerror or str(error)).lower()}",
        hint=hint,
    )


@lru_cache(maxsize=1)
def _most_files() -> int | None:
    """How many files the process may have open, once it may have as many as it can: a column of a
    table is one or two. None: as many as there are."""
    if resource is None:
        return None
    now, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if now == resource.RLIM_INFINITY:
        return None
    most = _WITHOUT_LIMIT if hard == resource.RLIM_INFINITY else hard
    with suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_NOFILE, (max(now, most), hard))
    return resource.getrlimit(resource.RLIMIT_NOFILE)[0]
