"""Tables of PostgreSQL servers, copied in one read-only snapshot. COPY writes CSV as we read it: NULL is nothing, '' is quoted."""

from __future__ import annotations

import atexit
import os
import re
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit, urlunsplit

from gravel.language.types import BOOLEAN, DOUBLE, Type
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.tables.csv.pieces import Take
from gravel.tables.csv.reader import CsvTable
from gravel.tables.table import Malformed

# What the values decide, as in a text file: all of them are written as its literals are. Everything else is text.
_OPEN = ("smallint", "integer", "bigint", "numeric", "date", "timestamp without time zone")
_DOUBLE = ("real", "double precision")


def masked(url: str) -> str:
    """A URL without its password, to be shown."""
    parts = urlsplit(url)
    if parts.password is None:
        return url
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit(parts._replace(netloc=f"{parts.username or ''}@{host}"))


def _driver() -> Any:
    try:
        import psycopg
    except ModuleNotFoundError:
        raise TableProblem("reading PostgreSQL needs a driver that is not installed", hint="pip install 'gravel[postgresql]'") from None
    return psycopg


class _Server:
    """A connection in one read-only snapshot; problems are told without the password."""

    def __init__(self, url: str) -> None:
        self.url, self.name = url, masked(url)
        self.driver = _driver()

    def __enter__(self) -> Any:
        try:
            self.connection = self.driver.connect(self.url, connect_timeout=10, application_name="gravel", client_encoding="utf8")
            self.connection.isolation_level = self.driver.IsolationLevel.REPEATABLE_READ
            self.connection.read_only = True
            self.connection.execute(
                "SET datestyle = 'ISO, YMD'; SET intervalstyle = 'iso_8601'; SET extra_float_digits = 1; SET timezone = 'UTC'"
            )
        except self.driver.Error as error:
            raise self.problem(error) from None
        return self.connection

    def __exit__(self, kind: Any, error: Any, trace: Any) -> None:
        # A transaction that only read has nothing to keep.
        self.connection.close()
        if isinstance(error, self.driver.Error):
            raise self.problem(error) from None

    def problem(self, error: Exception) -> TableProblem:
        """What the server says, in one line."""
        told = " ".join(str(error).split()) or type(error).__name__
        secret = urlsplit(self.url).password
        for one in {secret, unquote(secret)} if secret else ():
            told = told.replace(one, "…")
        return TableProblem(f"{self.name} cannot be read: {told[:300]}")


def tables_of(url: str) -> list[str]:
    """The tables and views of a base, `schema.table`. Raises TableProblem."""
    with _Server(url) as connection:
        return _tables(connection)


def _tables(connection: Any) -> list[str]:
    found = connection.execute(
        "SELECT n.nspname, c.relname FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f')"
        " AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%' ORDER BY 1, 2"
    ).fetchall()
    return [f"{schema}.{table}" for schema, table in found]


class ServerTable(CsvTable):
    """A table as it was copied, with the server's own count of its rows in the same snapshot."""

    counted = 0

    def account(self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None) -> tuple[str, bool, str]:
        """The rows read against the server's count."""
        self.count_lines(take)
        return "every row of the store is accounted for", rows == self.counted, f"{self.counted:,} by the server = {rows:,} rows"


def open_postgresql(reference: str, texts: frozenset[str], declared: dict[str, Type]) -> ServerTable:
    """A table of a server, `postgresql://…#schema.table`, the only one if none is named. Raises TableProblem, CallProblem."""
    url, _, wanted = reference.partition("#")
    shown = masked(url)
    with _Server(url) as connection:
        known = _tables(connection)
        table = _chosen(known, wanted, shown)
        schema, _, name = table.partition(".")
        columns = connection.execute(
            "SELECT a.attname, format_type(a.atttypid, NULL) FROM pg_attribute AS a JOIN pg_class AS c ON c.oid = a.attrelid"
            " JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE n.nspname = %s AND c.relname = %s AND a.attnum > 0"
            " AND NOT a.attisdropped ORDER BY a.attnum",
            (schema, name),
        ).fetchall()
        if not columns:
            raise TableProblem(f"{shown}#{table} has no columns")
        sql = _driver().sql
        source = sql.Identifier(schema, name)
        counted = connection.execute(sql.SQL("SELECT COUNT(*) FROM {}").format(source)).fetchone()[0]
        picked = sql.SQL(", ").join(_picked(sql, column, kind) for column, kind in columns)
        copy = sql.SQL("COPY (SELECT {} FROM {}) TO STDOUT (FORMAT csv, HEADER)").format(picked, source)
        path = _copied(connection, copy)
    return _made(path, f"{shown}#{table}", columns, counted, texts, declared)


def _chosen(known: list[str], wanted: str, shown: str) -> str:
    if not wanted:
        if len(known) != 1:
            raise CallProblem(f"{shown} has {len(known)} tables: {', '.join(known[:20])}", hint=f"{shown}#{known[0]}" if known else "")
        return known[0]
    if "." not in wanted:
        same = [one for one in known if one.partition(".")[2] == wanted]
        if len(same) > 1:
            raise CallProblem(f"{wanted} could be {' and '.join(same[:3])}", hint="write it with its schema")
        wanted = same[0] if same else wanted
    if wanted not in known:
        bare = {one.partition(".")[2]: one for one in known}
        near = nearest(wanted, known) or bare.get(nearest(wanted, list(bare)), "")
        raise CallProblem(f"{shown} has no table {wanted}", hint=f"did you mean {near}?" if near else "tables: " + ", ".join(known[:20]))
    return wanted


def _picked(sql: Any, column: str, kind: str) -> Any:
    """A column as COPY is to write it: as the language's literals are written."""
    name = sql.Identifier(column)
    if kind == "boolean":
        return sql.SQL("CASE WHEN {0} THEN 'true' WHEN NOT {0} THEN 'false' END AS {0}").format(name)
    if kind == "bytea":
        return sql.SQL("replace(encode({0}, 'base64'), E'\\n', '') AS {0}").format(name)
    return name if kind in (*_OPEN, *_DOUBLE) else sql.SQL("{0}::text AS {0}").format(name)


def _copied(connection: Any, copy: Any) -> Path:
    handle, made = tempfile.mkstemp(prefix="gravel-", suffix=".csv")
    atexit.register(Path(made).unlink, missing_ok=True)
    try:
        with os.fdopen(handle, "wb") as sink, connection.cursor() as cursor, cursor.copy(copy) as source:
            for data in source:
                sink.write(data)
    except OSError as error:
        raise TableProblem(f"the copy cannot be kept in {tempfile.gettempdir()}: {(error.strerror or str(error)).lower()}") from None
    return Path(made)


def _made(
    path: Path, name: str, columns: list[tuple[str, str]], counted: int, texts: frozenset[str], declared: dict[str, Type]
) -> ServerTable:  # fmt: skip
    plain = {column for column, kind in columns if kind not in (*_OPEN, *_DOUBLE, "boolean")}
    known: dict[str, Type] = {column: DOUBLE for column, kind in columns if kind in _DOUBLE}
    known |= {column: BOOLEAN for column, kind in columns if kind == "boolean"}
    table = ServerTable(path, name, delimiter=",", texts=texts | (plain - set(declared)), declared={**known, **declared})
    table.counted, table.server = counted, re.sub(r"#.*", "", name)
    return table
