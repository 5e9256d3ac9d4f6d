"""Reading tables of PostgreSQL servers, copied in one read-only snapshot. COPY writes CSV as we
read it: NULL is nothing, '' is quoted."""

from __future__ import annotations

import atexit
import logging
import os
import re
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa

from gravel.engine.arrow_values import type_of
from gravel.engine.frame import view
from gravel.hidden import restored
from gravel.language.types import DATE, TEXT, TIME, TIMESTAMP, ZONED, Type, decimal
from gravel.problems import TableProblem
from gravel.sources.arrow import StoredSource, counted_only
from gravel.sources.csv.reader import CsvSource
from gravel.sources.kept_parts import KeptParts
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Source, scan
from gravel.stores.sql.column_cache import SqlSource
from gravel.stores.sql.transaction import (
    TableSchema,
    chosen,
    masked,
    not_utf8,
    password_hint,
    without_secret,
)

# What a column of a type is read as; numeric has digits of its own, and everything else is text.
KINDS = {
    "smallint": pa.int16(),
    "integer": pa.int32(),
    "bigint": pa.int64(),
    "real": pa.float64(),
    "double precision": pa.float64(),
    "boolean": pa.bool_(),
    "date": DATE.arrow,
    "time without time zone": TIME.arrow,
    "timestamp without time zone": TIMESTAMP.arrow,
    "timestamp with time zone": ZONED.arrow,
}
# Types whose values show them: where some value is of no type of ours (infinity, NaN), all of them
# decide, as in a text file.
_SHOWN = ("smallint", "integer", "bigint", "numeric", "date", "timestamp without time zone")
_NUMERIC = re.compile(r"numeric\(([0-9]+),([0-9]+)\)")
SESSION = (
    "SET datestyle = 'ISO, YMD'; SET intervalstyle = 'iso_8601'; SET extra_float_digits = 1; SET"
    " timezone = 'UTC'; "
)
SESSION += (
    "SET quote_all_identifiers = off; SET bytea_output = 'hex'; SET standard_conforming_strings ="
    " on; SET backslash_quote = safe_encoding"
)
WAIT = 10  # seconds to wait for a connection, or for another's lock


def load_driver() -> Any:
    """The driver, psycopg. Raises TableProblem where it is not installed."""
    try:
        import psycopg
    except ModuleNotFoundError:
        raise TableProblem(
            "PostgreSQL needs a driver that is not installed",
            hint="pip install 'gravel[postgresql]'",
        ) from None
    # What it would log of a statement that failed is told as a problem.
    logging.getLogger(psycopg.__name__).addHandler(logging.NullHandler())
    return psycopg


def address(url: str) -> str:
    """The URL as the driver takes it."""
    return re.sub(r"^postgres(ql)?(\+psycopg)?://", "postgresql://", url, flags=re.IGNORECASE)


class Server:
    """A connection in one read-only snapshot; problems are told without the password."""

    def __init__(self, url: str) -> None:
        self.url, self.name = restored(url), masked(url)
        self.driver = load_driver()

    def __enter__(self) -> Any:
        try:
            self.connection = self.driver.connect(
                address(self.url),
                connect_timeout=WAIT,
                application_name="gravel",
                client_encoding="utf8",
            )
            self.connection.isolation_level = self.driver.IsolationLevel.REPEATABLE_READ
            self.connection.read_only = True
            self.connection.execute(SESSION)
        except self.driver.Error as error:
            raise self.problem(error) from None
        return self.connection

    def __exit__(self, kind: Any, error: Any, trace: Any) -> None:
        self.close()
        if isinstance(error, self.driver.Error):
            raise self.problem(error) from None

    def close(self) -> None:
        """Let go; a transaction that only read has nothing to keep."""
        self.connection.close()

    @contextmanager
    def told(self) -> Iterator[None]:
        """What goes wrong, in one line."""
        try:
            yield
        except self.driver.Error as error:
            self.close()
            raise self.problem(error) from None

    @contextmanager
    def kept(self) -> Iterator[Any]:
        """The connection, which stays open unless something goes wrong."""
        connection = self.__enter__()
        try:
            with self.told():
                yield connection
        except BaseException:
            self.close()
            raise

    def problem(self, error: Exception) -> TableProblem:
        """What the server says, in one line."""
        message = without_secret(str(error), self.url) or type(error).__name__
        return TableProblem(f"{self.name} cannot be read: {message}", hint=password_hint(message))


def tables_of(url: str) -> list[str]:
    """The tables and views of a base, `schema.table`. Raises TableProblem."""
    with Server(url) as connection:
        return tables_in(connection)


def tables_in(connection: Any) -> list[str]:
    """The tables and views of a connection's base, `schema.table`."""
    result = connection.execute(
        "SELECT n.nspname, c.relname FROM pg_class AS c JOIN pg_namespace AS n ON n.oid ="
        " c.relnamespace WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND n.nspname NOT IN"
        " ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg!_%' ESCAPE '!' ORDER BY"
        " 1, 2"
    ).fetchall()
    return [f"{schema}.{table}" for schema, table in result]


def columns_of(connection: Any, schema: str, name: str) -> list[Any]:
    """Each column: name, type, NOT NULL, whether it is computed, its place in the primary key or
    NULL, the kind of relation, the type with its length."""
    result: list[Any] = connection.execute(
        "SELECT a.attname, format_type(COALESCE(NULLIF(y.typbasetype, 0), a.atttypid), NULL),"
        " a.attnotnull, a.attgenerated <> '', array_position(i.indkey::int2[], a.attnum),"
        " c.relkind, format_type(a.atttypid, a.atttypmod) FROM pg_attribute AS a JOIN pg_class AS c"
        " ON c.oid = a.attrelid JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_type AS y"
        " ON y.oid = a.atttypid LEFT JOIN pg_index AS i ON i.indrelid = c.oid AND i.indisprimary"
        " WHERE n.nspname = %s AND c.relname = %s AND a.attnum > 0 AND NOT a.attisdropped ORDER BY"
        " a.attnum",
        (schema, name),
    ).fetchall()
    return result


def schema_of(connection: Any, schema: str, name: str) -> TableSchema:
    """What the server knows of a table's columns, its key, and whether it can be written to."""
    about = columns_of(connection, schema, name)
    key = tuple(
        row[0]
        for row in sorted((row for row in about if row[4] is not None), key=lambda row: row[4])
    )
    return TableSchema(
        tuple(row[0] for row in about),
        tuple(row[0] for row in about if row[2]),
        tuple(row[0] for row in about if row[3]),
        key,
        any(row[5] not in ("r", "p") for row in about),
    )


def open_postgresql(
    url: str, wanted: str, texts: frozenset[str], declared: dict[str, Type], bare: bool = False
) -> Source:
    """A table of a server, `schema.table`, the only one if none is named; `bare`: without its rows.
    Raises TableProblem, CallProblem."""
    shown = masked(url)
    server = Server(url)
    with server.kept() as connection:
        table = chosen(tables_in(connection), wanted, shown)
        if bare:
            schema, _, name = table.partition(".")
            counted, shape = count_rows(connection, table), schema_of(connection, schema, name)
            server.close()
            return counted_only(Path(), f"{shown}#{table}", shape, counted)
        return _fetched(server, table, shown, texts, declared)


def _fetched(
    server: Server, table: str, shown: str, texts: frozenset[str], declared: dict[str, Type]
) -> SqlSource:
    """A table whose columns are copied when they are wanted, in the transaction of a connection."""
    connection = server.connection
    schema, _, name = table.partition(".")
    shape = schema_of(connection, schema, name)
    if not shape.columns:
        raise TableProblem(f"{shown}#{table} has no columns")
    # Rows come in one order each time, so that columns copied at different times stand in the same
    # rows.
    connection.execute("SET synchronize_seqscans = off; SET max_parallel_workers_per_gather = 0")

    def fetch(chosen: list[int]) -> StoredSource:
        names = [shape.columns[index] for index in chosen]
        with server.told():
            return read_rows(
                connection,
                table,
                shown,
                texts & set(names),
                {key: kind for key, kind in declared.items() if key in names},
                counted,
                names,
            )

    counted = count_rows(connection, table)
    result = SqlSource(
        f"{shown}#{table}", shape, counted, fetch, server.close, texts=texts, declared=declared
    )
    result.server, result.part = shown, table
    return result


def count_rows(connection: Any, table: str) -> int:
    """The server's own count of a table's rows."""
    schema, _, name = table.partition(".")
    sql = load_driver().sql
    query = sql.SQL("SELECT COUNT(*) FROM {}").format(sql.Identifier(schema, name))
    counted: int = connection.execute(query).fetchone()[0]
    return counted


def read_rows(
    connection: Any,
    table: str,
    shown: str,
    texts: frozenset[str],
    declared: dict[str, Type],
    counted: int,
    subset: list[str] | None = None,
) -> StoredSource:
    """A table, or some of its columns, as a connection's transaction sees it, in which the server
    has counted its rows."""
    schema, _, name = table.partition(".")
    about = columns_of(connection, schema, name)
    columns = [(row[0], row[1]) for row in about if subset is None or row[0] in subset]
    if not columns:
        raise TableProblem(f"{shown}#{table} has no columns")
    sql = load_driver().sql
    source = sql.Identifier(schema, name)
    unchecked = connection.info.parameter_status("server_encoding") == "SQL_ASCII"
    picked = sql.SQL(", ").join(_picked(sql, column, kind, unchecked) for column, kind in columns)
    path = copied(
        connection,
        sql.SQL("COPY (SELECT {} FROM {}) TO STDOUT (FORMAT csv, HEADER)").format(picked, source),
    )
    names = [column for column, _ in columns]
    wholes = {row[0]: row[6] for row in about}
    kinds = [_kind(kind, wholes[column]) for column, kind in columns]
    parts = _kept(path, f"{shown}#{table}", names, kinds)
    types = [
        type_of(parts.type_of(column))
        if not pa.types.is_string(parts.type_of(column))
        else None
        if kind in _SHOWN
        else TEXT
        if arrow is None
        else type_of(arrow)
        for (column, kind), arrow in zip(columns, kinds, strict=True)
    ]
    result = StoredSource(
        Path(),
        f"{shown}#{table}",
        names,
        types,
        parts.sizes,
        parts.read,
        counted,
        texts=texts,
        declared=declared,
    )
    result.fields = parts.fields(names)
    result.server, result.part, result.snapshot = shown, table, True
    shape = schema_of(connection, schema, name)
    result.store_key, result.not_null = shape.key, shape.not_null
    result.computed = shape.computed
    result.fallback = {
        column: decimal(18, 2) if arrow is None else type_of(arrow)
        for (column, kind), arrow in zip(columns, kinds, strict=True)
        if kind in _SHOWN
    }
    plain = {column for column, kind in columns if kind not in KINDS and kind != "numeric"}
    result.binary = frozenset(column for column, kind in columns if kind == "bytea")
    result.spelt = frozenset(plain)
    result.store_kind, result.store_types = "postgresql", wholes
    texts_unchecked = sorted(plain - result.binary) if unchecked else []
    if texts_unchecked:
        counts = sql.SQL(", ").join(
            sql.SQL("COUNT(*) FILTER (WHERE NOT {})").format(_is_utf8(sql, column))
            for column in texts_unchecked
        )
        broken = connection.execute(sql.SQL("SELECT {} FROM {}").format(counts, source)).fetchone()
        for column, count in zip(texts_unchecked, broken, strict=True):
            if count:
                result.mixed[column] = f"{count:,} TEXT that is not UTF-8"
                result.notes.append(not_utf8(count, column))
    return result


def _kind(kind: str, whole: str) -> pa.DataType | None:
    """What the values of a type are kept as; None: as texts. `whole`: the type with its digits."""
    match = _NUMERIC.fullmatch(whole)
    if match and int(match[2]) <= int(match[1]) <= 38:
        return pa.decimal128(int(match[1]), int(match[2]))
    return KINDS.get(kind)


def _kept(
    path: Path, name: str, columns: Sequence[str], kinds: Sequence[pa.DataType | None]
) -> KeptParts:
    """What a COPY has written, each column as values of its kind where all of a part are."""
    copy = CsvSource(path, name, ReadOptions(",", texts=tuple(columns), own=True))

    def typed(batch: Batch) -> pa.RecordBatch:
        pairs = zip(batch.columns, kinds, strict=True)
        return pa.record_batch([_as_kind(*pair) for pair in pairs], names=list(columns))

    parts = KeptParts()
    for part in scan(copy, typed):
        parts.write(part)
    path.unlink()
    return parts


def _as_kind(texts: pa.Array, kind: pa.DataType | None) -> pa.Array:
    if kind is None:
        return texts
    result = view(texts, type_of(kind))
    if result.errors is not None and result.errors.any():
        return texts
    return result.values if result.values.type == kind else result.values.cast(kind)


# Well-formed byte sequences of UTF-8 (The Unicode Standard, table 3-7), without NUL.
_UTF8 = (
    r"^([\u0001-\u007f]|[\u00c2-\u00df][\u0080-\u00bf]|\u00e0[\u00a0-\u00bf][\u0080-\u00bf]"
    r"|[\u00e1-\u00ec\u00ee\u00ef][\u0080-\u00bf]{2}|\u00ed[\u0080-\u009f][\u0080-\u00bf]"
    r"|\u00f0[\u0090-\u00bf][\u0080-\u00bf]{2}|[\u00f1-\u00f3][\u0080-\u00bf]{3}"
    r"|\u00f4[\u0080-\u008f][\u0080-\u00bf]{2})*$"
)


def _is_utf8(sql: Any, column: str) -> Any:
    """Whether a text of a database without an encoding (SQL_ASCII, where a character is a byte) is
    UTF-8."""
    return sql.SQL("COALESCE({}::text ~ {}, TRUE)").format(
        sql.Identifier(column), sql.Literal(_UTF8)
    )


def _picked(sql: Any, column: str, kind: str, unchecked: bool) -> Any:
    """A column as COPY is to write it: as the language's literals are written; what of an unchecked
    text is not UTF-8 as base64."""
    name = sql.Identifier(column)
    if unchecked and kind not in KINDS and kind not in ("numeric", "bytea"):
        base64_of = sql.SQL(
            "replace(encode(convert_to({0}::text, 'SQL_ASCII'), 'base64'), E'\\n', '')"
        ).format(name)
        return sql.SQL("CASE WHEN {} THEN {}::text ELSE {} END AS {}").format(
            _is_utf8(sql, column), name, base64_of, name
        )
    if kind == "boolean":
        return sql.SQL("CASE WHEN {0} THEN 'true' WHEN NOT {0} THEN 'false' END AS {0}").format(
            name
        )
    if kind == "bytea":
        return sql.SQL("replace(encode({0}, 'base64'), E'\\n', '') AS {0}").format(name)
    return name if kind in KINDS or kind == "numeric" else sql.SQL("{0}::text AS {0}").format(name)


def copied(connection: Any, copy: Any) -> Path:
    """What a COPY gives, in a temporary file."""
    handle, result = tempfile.mkstemp(prefix="gravel-", suffix=".csv")
    atexit.register(Path(result).unlink, missing_ok=True)
    try:
        with (
            os.fdopen(handle, "wb") as sink,
            connection.cursor() as cursor,
            cursor.copy(copy) as source,
        ):
            for data in source:
                sink.write(data)
    except OSError as error:
        raise TableProblem(
            f"the copy cannot be kept in {tempfile.gettempdir()}:"
            f" {(error.strerror or str(error)).lower()}"
        ) from None
    return Path(result)
