"""The engine of a Spark cluster: Gravel's own work on its executors, on batches of Arrow."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gravel.problems import CallProblem

if TYPE_CHECKING:
    from gravel.sources.read_options import ReadOptions
    from gravel.sources.source import Source


def attach(table: Source, reference: str, reading: ReadOptions, address: str) -> None:
    """Have Spark at an address read a table. Raises CallProblem for a table that executors cannot
    read in parts, TableProblem where there is no Spark."""
    try:
        from gravel.spark import engine
    except ImportError:
        raise CallProblem(
            "an engine needs the library pyspark", hint="pip install 'gravel[spark]'"
        ) from None
    engine.attach(table, reference, reading, address)
