"""The engine of a Spark cluster: Gravel's own work on its executors, on batches of Arrow."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from gravel.problems import CallProblem

if TYPE_CHECKING:
    from gravel.language.scope import Given
    from gravel.sources.read_options import ReadOptions
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


def not_yet(what: str, hint: str) -> CallProblem:
    """That something does not run on executors yet, by its name."""
    return CallProblem(f"{what} does not run on Spark yet", hint=hint)


def without_queries(given: Given) -> Given:
    """What a call gives its expressions, where they may have no query in them: it would be run
    here."""

    def refuse(query: Any, text: str) -> Any:
        raise not_yet("a query inside an expression", "take out the query, or the engine")

    return replace(given, members=refuse)
