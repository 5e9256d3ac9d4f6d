"""The engine of a Spark cluster: Gravel's own work on its executors, on batches of Arrow."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gravel.problems import CallProblem
from gravel.sources import opening
from gravel.sources.read_options import ReadOptions

if TYPE_CHECKING:
    from gravel.sources.source import Source


def open_table(
    reference: str, reading: ReadOptions, address: str, folder: Path | None = None
) -> Source:
    """The table that a reference names, relative to a folder, read by Spark at an address. Raises
    CallProblem for a table that executors cannot read in parts, TableProblem where there is no
    Spark, or no such table."""
    try:
        from gravel.spark import engine
    except ImportError:
        raise CallProblem(
            "an engine needs the library pyspark", hint="pip install 'gravel[spark]'"
        ) from None
    return engine.open_table(reference, reading, address, folder or Path.cwd())


def open_by(
    address: str | None, reference: str, reading: ReadOptions | None, folder: Path | None = None
) -> Source:
    """The table that a reference names, relative to a folder, read by Spark at an address; by this
    machine where there is none. Raises CallProblem, TableProblem."""
    if address is None:
        return opening.open_table(reference, reading, folder)
    return open_table(reference, reading or ReadOptions(), address, folder)
