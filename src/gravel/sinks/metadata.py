"""Metadata of a text file, written beside it."""

from __future__ import annotations

from pathlib import Path

from gravel.problems import CallProblem
from gravel.sinks.atomic_file import write_whole
from gravel.sources.csv.reader import CsvSource
from gravel.sources.metadata import metadata_of, metadata_path, written_forms
from gravel.sources.source import Source


def write_metadata(table: Source) -> Path:
    """Write what was found of a text file beside it; where that stands. Raises CallProblem for what
    is no text file, or where metadata is there already."""
    if not isinstance(table, CsvSource) or table.server or table.name == "standard input":
        raise CallProblem(
            f"{table.name} is not a text file",
            hint="metadata is written beside .csv and .tsv files",
        )
    place = metadata_path(table.origin)
    if place.exists():
        raise CallProblem(f"{place} is there already", hint="take it away first")
    types = table.types(list(range(len(table.columns))))
    columns = {name: types[index] for index, name in enumerate(table.columns)}
    signs = {table.columns[at]: sign for at, sign in written_forms(table, types).items()}
    write_whole(place, metadata_of(table.origin.name, columns, table.dialect, table.reading, signs))
    return place
