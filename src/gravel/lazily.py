"""Imports that are made when a module is first used.

The command line says at its top what it works with, and answers `--help` and mistakes in a call
without loading any of it.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from importlib.machinery import ModuleSpec, PathFinder
from importlib.util import LazyLoader
from types import ModuleType


class _LazyFinder:
    """Finds modules as usual, and puts off running them. Packages are run at once."""

    @staticmethod
    def find_spec(
        name: str, path: Sequence[str] | None = None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        """The module's spec."""
        spec = PathFinder.find_spec(name, path, target)
        if spec is not None and spec.loader is not None and spec.submodule_search_locations is None:
            spec.loader = LazyLoader(spec.loader)
        return spec


@contextmanager
def lazily() -> Iterator[None]:
    """Modules imported inside are run when something of them is first asked for."""
    sys.meta_path.insert(0, _LazyFinder)  # type: ignore[arg-type]
    try:
        yield
    finally:
        sys.meta_path.remove(_LazyFinder)  # type: ignore[arg-type]
