"""Tables of SQLite files, read in one transaction. SQLite lets any column hold any value: a column
whose values do not all fit what it declares is read as text, and those values are told."""

from __future__ import annotations

import base64
import os
import re
import secrets
import sqlite3
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import Any, ClassVar

import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.frame import view
from gravel.language.types import Kind, Type
from gravel.problems import TableProblem
from gravel.sinks.atomic_file import mode_of, problem_of, sync_folder
from gravel.sources.arrow import StoredSource, counted_only
from gravel.sources.kept_parts import KeptParts
from gravel.sources.source import Source
from gravel.stores.sql.column_cache import SqlSource
from gravel.stores.sql.sqlite_values import (
    EXACT_DIGITS,
    TYPE_NAMES,
    UNSAID,
    DeclaredColumn,
    as_number,
    fallback_of,
    fetched,
    is_number,
    keeps_text,
    quoted,
    text_of_bytes,
)
from gravel.stores.sql.transaction import (
    Database,
    Dependent,
    TableSchema,
    chosen,
    grouped,
    not_utf8,
)

_WAIT = 10.0  # seconds to wait for another's lock


class SQLite(Database):
    """A SQLite file, to be written to; one that is not there is made beside its place, and linked
    there when all is committed, so that two runs that make it never share a file."""

    names: ClassVar[dict[Kind, str]] = TYPE_NAMES
    raw_errors = (sqlite3.Error,)

    def __init__(self, path: Path, name: str) -> None:
        self.target, self.path = path, path
        self._new = not path.exists()
        if self._new:
            self.path = path.with_name(f".{path.name}.gravel-{secrets.token_hex(8)}.db")
            try:
                os.close(os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))
            except OSError as error:
                raise problem_of(error, name) from None
        try:
            super().__init__(name)
            self._begun()
        except BaseException:
            self._clear()
            raise

    def folded(self, name: str) -> str:
        """See Database: without the case of ASCII."""
        return name.encode().lower().decode()

    def _begun(self) -> None:
        with self.told():
            self.connection.exec_driver_sql("BEGIN IMMEDIATE")

    def connect(self) -> Any:
        """See Database. Transactions are begun and ended by us alone."""
        from sqlalchemy import create_engine
        from sqlalchemy.pool import NullPool

        def connection() -> sqlite3.Connection:
            result = sqlite3.connect(self.path, isolation_level=None, timeout=_WAIT)
            result.text_factory = text_of_bytes
            result.execute(
                "PRAGMA foreign_keys = ON"
            )  # off unless asked for: rows that others refer to would go unnoticed
            return result

        return create_engine("sqlite://", creator=connection, poolclass=NullPool)

    @property
    def raw(self) -> sqlite3.Connection:
        """The driver's connection."""
        result: sqlite3.Connection = self.connection.connection.driver_connection
        return result

    def tables(self) -> list[str]:
        """See Database."""
        return _tables(self.raw, self.shown)

    def has(self, table: str) -> bool:
        """See Database; SQLite's names are the same in either case."""
        return table.lower() in {item.lower() for item in self.tables()}

    def place(self, table: str) -> tuple[str | None, str]:
        """See Database."""
        return None, table

    def read(self, table: str) -> StoredSource:
        """See Database."""
        with self.told():
            return _loaded(self.raw, self.path, f"{self.shown}#{table}", table, frozenset(), {})

    def dependents(self, table: str) -> list[Dependent]:
        """See Database."""
        results = []
        with self.told():
            key = self.shape(table).key
            for name in self.tables():
                for row in self.raw.execute(f"PRAGMA foreign_key_list({quoted(name)})").fetchall():
                    if str(row[2]).lower() == table.lower() != name.lower():
                        # Without a column it is the primary key's, in order.
                        results.append((name, row[4] or key[row[1]], (row[5], row[6])))
        return grouped(results)

    def goes_with(self, table: str) -> list[str]:
        """See Database."""
        with self.told():
            sql = (
                "SELECT name FROM sqlite_master WHERE type = 'trigger' AND LOWER(tbl_name) ="
                " LOWER(?)"
            )
            triggers = self.raw.execute(sql, (table,)).fetchall()
        return super().goes_with(table) + [f"trigger {row[0]}" for row in triggers]

    def copy(self, table: str, to: str) -> int:
        """See Database. CREATE TABLE AS would forget what the columns are declared as."""
        # A column that is computed is told as INTEGER GENERATED ALWAYS.
        columns = ", ".join(
            f"{quoted(name)} {kind.removesuffix('GENERATED ALWAYS')}"
            for name, kind in self.declared(table).items()
        )
        self.run(f"CREATE TABLE {quoted(to)} ({columns})")
        self.run(f"INSERT INTO {quoted(to)} SELECT * FROM {quoted(table)}")
        return self.count(to)

    def lock(self, table: str) -> None:
        """Nothing to do: the transaction began as one that writes."""

    def shape(self, table: str) -> TableSchema:
        """See Database."""
        with self.told():
            return _shape(self.raw, table)

    def declared(self, table: str) -> dict[str, str]:
        """See Database."""
        with self.told():
            return {
                row[1]: str(row[2] or "").upper()
                for row in self.raw.execute(f"PRAGMA table_xinfo({quoted(table)})")
            }

    def type_name(self, kind: Type) -> str:
        """See Database: a DECIMAL of few digits is a number."""
        if kind.kind is Kind.DECIMAL and kind.precision <= EXACT_DIGITS:
            return f"DECIMAL({kind.precision},{kind.scale})"
        return super().type_name(kind)

    def declared_as(self, source: Source, names: Mapping[str, int]) -> dict[str, str]:
        """See Database: what another table of SQLite declares, and numbers of a file that are exact
        here."""
        if source.store_kind == "sqlite":
            supplied = {
                name: source.store_types.get(source.columns[index], "")
                for name, index in names.items()
            }
            return {name: kind for name, kind in supplied.items() if kind}
        fields = {name: source.fields.get(index) for name, index in names.items()}
        kinds = {
            name: field.type
            for name, field in fields.items()
            if field is not None and pa.types.is_decimal(field.type)
        }
        return {
            name: f"DECIMAL({kind.precision},{kind.scale})"
            for name, kind in kinds.items()
            if 0 <= kind.scale <= kind.precision <= EXACT_DIGITS
        }

    def values(self, texts: pa.Array, kind: Type, declared: str = "") -> list[Any]:
        """See Database: integers, doubles and bytes as such, truth as 0 and 1 where the column is
        declared so."""
        if kind.kind is not Kind.BINARY and keeps_text(declared):
            same: list[Any] = texts.to_pylist()
            return same
        if kind.kind in (Kind.INTEGER, Kind.DOUBLE):
            result = view(texts, kind)
            if kind.kind is Kind.DOUBLE and pc.any(pc.is_nan(result.values)).as_py():
                raise TableProblem(
                    "a DOUBLE column holds NaN, which SQLite has not: it would be NULL there",
                    hint="make it NULL in a step: NULLIF(x, CAST('NaN' AS DOUBLE))",
                    detail="nothing was written; the database is as it was",
                )
            numbers = result.values.to_pylist()
            return (
                numbers
                if result.errors is None
                else [
                    b if a is None else a for a, b in zip(numbers, texts.to_pylist(), strict=True)
                ]
            )
        if kind.kind is Kind.BOOLEAN and declared.startswith("BOOL"):
            back = {"false": 0, "true": 1}
            return [
                None if text is None else back.get(text.lower(), text) for text in texts.to_pylist()
            ]
        if kind.kind is Kind.DECIMAL and not is_number(declared):
            return [as_number(text) for text in texts.to_pylist()]
        if kind.kind is Kind.BINARY:
            return [None if text is None else base64.b64decode(text) for text in texts.to_pylist()]
        values: list[Any] = texts.to_pylist()
        return values

    def each(self, sql: str, rows: Any) -> int:
        """See Database; the driver is faster by itself."""
        plain = re.sub("\0v([0-9]+)", lambda result: f"?{int(result[1]) + 1}", sql)
        count = 0
        for row in rows:
            with self.told():
                count += self.raw.executemany(plain, row).rowcount
        return count

    def refused(self, error: BaseException) -> bool:
        """See Database: a transaction that goes on was not committed."""
        return self.raw.in_transaction

    def close(self) -> None:
        """See Database."""
        super().close()
        self._clear()

    def _clear(self) -> None:
        """Take away a file that was made and is not in its place, with what SQLite keeps beside
        it."""
        if self._new:
            for ending in ("", "-journal", "-wal", "-shm"):
                self.path.with_name(self.path.name + ending).unlink(missing_ok=True)

    def commit(self) -> None:
        """See Database."""
        super().commit()
        if not self._new:
            return
        super().close()
        try:
            os.chmod(self.path, mode_of(self.target))
            os.link(self.path, self.target)  # never over a file that another has made meanwhile
        except FileExistsError:
            message = (
                f"{self.shown} was made by another while this run was under way: nothing was"
                " written to it"
            )
            raise TableProblem(message, hint="run it again") from None
        except OSError as error:
            raise problem_of(error, self.shown) from None
        sync_folder(self.target.parent)


def tables_of(path: Path, name: str) -> list[str]:
    """The tables and views of a file. Raises TableProblem."""
    with closing(_connected(path, name)) as base:
        return _tables(base, name)


def _tables(base: sqlite3.Connection, name: str) -> list[str]:
    try:
        result = base.execute(
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE"
            " 'sqlite!_%' ESCAPE '!' ORDER BY name"
        )
        return [row[0] for row in result]
    except sqlite3.DatabaseError as error:
        raise TableProblem(f"{name} cannot be read: {error}") from None


def _connected(path: Path, name: str) -> sqlite3.Connection:
    """A connection that can only read. Raises TableProblem."""
    if not path.is_file():
        raise TableProblem(f"there is no file {name}")
    try:
        result = sqlite3.connect(
            f"{path.resolve().as_uri()}?mode=ro",
            uri=True,
            isolation_level=None,
            check_same_thread=False,
            timeout=_WAIT,
        )
        result.text_factory = text_of_bytes
        return result
    except sqlite3.Error as error:
        raise TableProblem(f"{name} cannot be opened: {error}") from None


class _Columns:
    """Columns of a table, fetched some at a time. Between two fetches nothing is locked; that
    nobody wrote meanwhile is looked up."""

    def __init__(self, path: Path, name: str, table: str) -> None:
        self.path, self.name, self.table = path, name, table
        self.base = _connected(path, name)
        self.version: Any = None

    def opened(self, texts: frozenset[str], declared: dict[str, Type]) -> SqlSource:
        """The table."""
        shape = _shape(self.base, self.table)
        counted = self.base.execute(f"SELECT COUNT(*) FROM {quoted(self.table)}").fetchone()[0]
        shown = f"{self.name}#{self.table}"

        def fetch(chosen: list[int]) -> StoredSource:
            names = [shape.columns[index] for index in chosen]
            subset = {column: kind for column, kind in declared.items() if column in names}
            try:
                self.base.execute("BEGIN")
                result = _loaded(
                    self.base, self.path, shown, self.table, texts & set(names), subset, names
                )
                version = self.base.execute("PRAGMA data_version").fetchone()[0]
                self.base.execute("COMMIT")
            except sqlite3.DatabaseError as error:
                raise TableProblem(f"{shown} cannot be read: {error}") from None
            if self.version not in (None, version):
                raise TableProblem(f"{shown} was changed while it was read", hint="run it again")
            self.version = version
            return result

        matches = SqlSource(
            shown, shape, counted, fetch, self.base.close, texts=texts, declared=declared
        )
        matches.path = matches.origin = self.path
        matches.part = self.table
        return matches


def open_sqlite(
    path: Path,
    name: str,
    table: str,
    texts: frozenset[str],
    declared: dict[str, Type],
    bare: bool = False,
) -> Source:
    """A table of a SQLite file, the only one if none is named; `bare`: without its rows. Raises
    TableProblem, CallProblem."""
    with closing(_connected(path, name)) as base:
        table = chosen(_tables(base, name), table, name)
        shown = f"{name}#{table}"
        try:
            base.execute("BEGIN")  # one snapshot for the count and the rows
            if bare:
                counted = base.execute(f"SELECT COUNT(*) FROM {quoted(table)}").fetchone()[0]
                return counted_only(path, shown, _shape(base, table), counted)
            return _Columns(path, name, table).opened(texts, declared)
        except sqlite3.DatabaseError as error:
            raise TableProblem(f"{shown} cannot be read: {error}") from None


def _shape(base: sqlite3.Connection, table: str) -> TableSchema:
    about = [
        row for row in base.execute(f"PRAGMA table_xinfo({quoted(table)})") if row[6] != 1
    ]  # 1: hidden
    view = base.execute(
        "SELECT type FROM sqlite_master WHERE LOWER(name) = LOWER(?)", (table,)
    ).fetchone()
    key = tuple(row[1] for row in sorted(about, key=lambda row: row[5]) if row[5])
    return TableSchema(
        tuple(row[1] for row in about),
        tuple(row[1] for row in about if row[3] or row[1] in key),
        tuple(row[1] for row in about if row[6]),
        key,
        bool(view and view[0] == "view"),
    )


def _loaded(
    base: sqlite3.Connection,
    path: Path,
    name: str,
    table: str,
    texts: frozenset[str],
    declared: dict[str, Type],
    subset: list[str] | None = None,
) -> StoredSource:
    """A table, or some of its columns, as a connection's transaction sees it."""
    counted = base.execute(f"SELECT COUNT(*) FROM {quoted(table)}").fetchone()[0]
    shape = _shape(base, table)
    about = base.execute(f"PRAGMA table_xinfo({quoted(table)})").fetchall()
    kinds = {row[1]: str(row[2] or "").upper() for row in about}
    names = list(shape.columns) if subset is None else subset
    columns = [DeclaredColumn(item, kinds[item], spelt=keeps_text(kinds[item])) for item in names]
    parts = KeptParts()
    for rows in fetched(base, f"SELECT {', '.join(map(quoted, names))} FROM {quoted(table)}"):
        cells = zip(*rows, strict=True)
        arrays = [column.take(values) for column, values in zip(columns, cells, strict=True)]
        parts.write(pa.record_batch(arrays, names=names))
    types = [column.type(parts.type_of(column.name)) for column in columns]
    result = StoredSource(
        path, name, names, types, parts.sizes, parts.read, counted, texts=texts, declared=declared
    )
    result.fields = parts.fields(names)
    result.store_kind = "sqlite"
    result.store_types = {
        column.name: column.declared for column in columns if column.declared not in ("", UNSAID)
    }
    result.part, result.snapshot = table, True
    result.store_key, result.not_null = shape.key, shape.not_null
    result.computed = shape.computed
    result.fallback = {
        column.name: kind
        for column in columns
        if (kind := fallback_of(column.declared)) is not None
    }
    result.binary = frozenset(column.name for column in columns if column.binary)
    result.spelt = frozenset(column.name for column in columns if column.spelt)
    for column in columns:
        if column.mixed:
            result.mixed[column.name] = ", ".join(
                f"{count:,} {item}" for item, count in column.classes.most_common()
            )
        if broken := column.classes["TEXT that is not UTF-8"]:
            result.notes.append(not_utf8(broken, column.name))
    result.mismatches = {
        column.name: (column.declared, column.mismatches, column.example)
        for column in columns
        if column.mismatches
    }
    result.notes += [
        f"{count:,} of the values in {column} {'does' if count == 1 else 'do'} not match its"
        f" declared type {kind}, such as {example!r}"
        for column, (kind, count, example) in result.mismatches.items()
    ]
    return result
