"""Tables of SQLite files, read in one transaction. SQLite lets any column hold any value: a column whose values do not all fit
what it declares is read as text, with a note."""

from __future__ import annotations

import base64
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pyarrow as pa

from gravel.language.types import TEXT, Type
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.tables.stored import StoredTable

_ROWS = 50_000


def tables_of(path: Path, name: str) -> list[str]:
    """The tables and views of a file. Raises TableProblem."""
    with closing(_connected(path, name)) as base:
        return _tables(base, name)


def _tables(base: sqlite3.Connection, name: str) -> list[str]:
    try:
        found = base.execute(
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY name"
        )
        return [row[0] for row in found]
    except sqlite3.DatabaseError as error:
        raise TableProblem(f"{name} cannot be read: {error}") from None


def _connected(path: Path, name: str) -> sqlite3.Connection:
    """A connection that can only read. Raises TableProblem."""
    if not path.is_file():
        raise TableProblem(f"there is no file {name}")
    try:
        return sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, isolation_level=None, check_same_thread=False, timeout=10)
    except sqlite3.Error as error:
        raise TableProblem(f"{name} cannot be opened: {error}") from None


def open_sqlite(path: Path, name: str, table: str | None, texts: frozenset[str], declared: dict[str, Type]) -> StoredTable:
    """A table of a SQLite file, the only one if none is named. Raises TableProblem, CallProblem."""
    with closing(_connected(path, name)) as base:
        known = _tables(base, name)
        if table is None:
            if len(known) != 1:
                raise CallProblem(f"{name} has {len(known)} tables: {', '.join(known[:20])}", hint=f"{name}#{known[0]}" if known else "")
            table = known[0]
        elif table not in known:
            near = nearest(table, known)
            raise CallProblem(f"{name} has no table {table}", hint=f"did you mean {near}?" if near else "tables: " + ", ".join(known[:20]))
        shown = f"{name}#{table}"
        try:
            base.execute("BEGIN")  # one snapshot for the count and the rows
            counted = base.execute(f"SELECT COUNT(*) FROM {_quoted(table)}").fetchone()[0]
            return _loaded(base, path, shown, table, counted, texts, declared)
        except sqlite3.DatabaseError as error:
            raise TableProblem(f"{shown} cannot be read: {error}") from None


def _loaded(
    base: sqlite3.Connection, path: Path, name: str, table: str, counted: int, texts: frozenset[str], declared: dict[str, Type]
) -> StoredTable:  # fmt: skip
    about = base.execute(f"PRAGMA table_info({_quoted(table)})").fetchall()
    columns, kinds = [row[1] for row in about], [str(row[2] or "").upper() for row in about]
    cursor = base.execute(f"SELECT {', '.join(_quoted(column) for column in columns)} FROM {_quoted(table)}")
    sink = pa.BufferOutputStream()
    schema = pa.schema([(column, pa.string()) for column in columns])
    sizes: list[int] = []
    misfits = [0] * len(columns)
    with pa.ipc.new_file(sink, schema) as writer:
        while rows := cursor.fetchmany(_ROWS):
            made = []
            for at, values in enumerate(zip(*rows, strict=True)):
                made.append(pa.array([_text(value) for value in values], pa.string()))
                if _number(kinds[at]):
                    misfits[at] += sum(isinstance(value, (str, bytes)) for value in values)
            writer.write_batch(pa.record_batch(made, schema=schema))
            sizes.append(len(rows))
    file = pa.ipc.open_file(pa.BufferReader(sink.getvalue()))
    types = [TEXT if _is_text(kind) else None for kind in kinds]
    notes = [
        f"{count:,} text values in {column}, which is declared {kind}: it is read as text"
        for column, kind, count in zip(columns, kinds, misfits, strict=True) if count
    ]  # fmt: skip
    # In memory already; a reader is not for several threads.
    batches = [file.get_batch(at) for at in range(file.num_record_batches)]
    found = StoredTable(path, name, columns, types, sizes, lambda at, _: batches[at], counted, texts=texts, declared=declared, notes=notes)
    found.part = table
    return found


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _is_text(kind: str) -> bool:
    """SQLite's rule of affinity: a declared type with one of these in its name holds texts."""
    return any(part in kind for part in ("CHAR", "CLOB", "TEXT")) and "INT" not in kind


def _number(kind: str) -> bool:
    return any(part in kind for part in ("INT", "REAL", "FLOA", "DOUB", "NUM", "DEC"))


def _text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return base64.b64encode(value).decode() if isinstance(value, bytes) else repr(value) if isinstance(value, float) else str(value)
