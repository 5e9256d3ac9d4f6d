"""Files that stand beside the modules, wherever the package is: in a folder or in an archive."""

from __future__ import annotations

from pathlib import Path
from typing import cast


def packaged(path: Path) -> bytes:
    """The bytes of a file of the package. Raises OSError where there is none."""
    # Every loader of modules that Python comes with has this; `importlib.resources` does the same
    # and takes as long to load as all the rest of a small command.
    return cast(bytes, __loader__.get_data(str(path)))  # type: ignore[name-defined]
