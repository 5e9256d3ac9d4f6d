"""Temporary files that are gone when the program ends."""

from __future__ import annotations

import atexit
import tempfile
from pathlib import Path


def temporary_file(suffix: str) -> tuple[int, Path]:
    """An open file descriptor and the path of a new file, for nobody else to read."""
    handle, name = tempfile.mkstemp(prefix="gravel-", suffix=suffix)
    path = Path(name)
    atexit.register(path.unlink, missing_ok=True)
    return handle, path
