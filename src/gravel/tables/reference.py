"""What a table reference names, and how to open it."""

from __future__ import annotations

import atexit
import os
import shutil
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from gravel.language.types import Type
from gravel.problems import CallProblem
from gravel.tables.csv import CsvTable


@dataclass(frozen=True)
class Reading:
    """How a text file is to be read."""

    delimiter: str | None = None
    encoding: str | None = None
    empty_null: bool = False
    texts: tuple[str, ...] = ()
    declared: dict[str, Type] = field(default_factory=dict)


def open_table(reference: str, reading: Reading | None = None, base: Path | None = None) -> CsvTable:
    """The table a reference names, relative to `base`; `-` is standard input. Raises TableProblem, CallProblem."""
    how = reading or Reading()
    if how.delimiter is not None and len(how.delimiter.encode()) != 1:
        raise CallProblem(f"a delimiter is one character, not {how.delimiter!r}", hint="for a tab: --delimiter tab")
    if reference == "-":
        path, name = _spooled(), "standard input"
    else:
        path, name = Path(base or ".", reference), reference
    table = CsvTable(path, name, delimiter=how.delimiter, encoding=how.encoding, empty_null=how.empty_null,
                     texts=frozenset(how.texts), declared=how.declared)  # fmt: skip
    for column in (*how.texts, *how.declared):
        if column not in table.columns:
            from gravel.problems import nearest

            near = nearest(column, list(table.columns))
            raise CallProblem(f"{name} has no column {column}", hint=f"did you mean {near}?" if near else "")
    return table


def _spooled() -> Path:
    """Standard input in a temporary file, since tables are read more than once."""
    handle, path = tempfile.mkstemp(prefix="gravel-", suffix=".csv")
    atexit.register(Path(path).unlink, missing_ok=True)
    with os.fdopen(handle, "wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file, 1 << 20)
    return Path(path)
