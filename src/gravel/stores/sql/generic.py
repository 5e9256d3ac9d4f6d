"""Tables of any other database that SQLAlchemy reaches by its URL, such as MySQL and MariaDB."""

from __future__ import annotations

import base64
import datetime
import json
import os
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar
from urllib.parse import urlsplit

import pyarrow as pa
from sqlalchemy import create_engine, inspect
from sqlalchemy.pool import NullPool

from gravel.engine.frame import view
from gravel.hidden import restored
from gravel.language.functions.casts import double_text
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    TIME,
    TIMESTAMP,
    Kind,
    Type,
    decimal,
)
from gravel.problems import CallProblem, TableProblem
from gravel.sources.arrow import StoredSource, counted_only
from gravel.sources.kept_parts import KeptParts
from gravel.sources.source import Source
from gravel.stores.sql.column_cache import SqlSource
from gravel.stores.sql.transaction import Database, Dependent, TableSchema, chosen, grouped, masked

_ROWS = 20_000
_DRIVERS = {"mysql": "mysql+pymysql", "mariadb": "mariadb+pymysql"}


class Other(Database):
    """A database of a kind that has no room of its own. MySQL and MariaDB end a transaction at each
    CREATE, DROP and RENAME: a new table is made under another name there and renamed at the end."""

    names: ClassVar[dict[Kind, str]] = {
        Kind.INTEGER: "BIGINT",
        Kind.DECIMAL: "DECIMAL",
        Kind.DOUBLE: "DOUBLE",
        Kind.BOOLEAN: "BOOLEAN",
        Kind.DATE: "DATE",
        Kind.TIME: "TIME(6)",
        Kind.TIMESTAMP: "DATETIME(6)",
        Kind.BINARY: "LONGBLOB",
        Kind.TEXT: "LONGTEXT",
    }

    def __init__(self, url: str, reads_only: bool = False) -> None:
        super().__init__(masked(url), restored(url), reads_only)
        self.mysql = self.engine.dialect.name in ("mysql", "mariadb")
        if self.mysql:
            self.run(
                "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE', time_zone"
                " = '+00:00', lock_wait_timeout = 10"
            )
            self.run("SET SESSION innodb_lock_wait_timeout = 10")
            self.connection.rollback()

    @property
    def whole_ddl(self) -> bool:  # type: ignore[override]
        """See Database."""
        return not self.mysql

    def folded(self, name: str) -> str:
        """See Database."""
        return name.casefold()

    def connect(self) -> Any:
        """See Database."""
        scheme, _, rest = self.url.partition("://")
        driver = _DRIVERS.get(scheme.lower(), scheme)
        arguments: dict[str, Any] = {}
        how: dict[str, Any] = (
            {"isolation_level": "REPEATABLE READ"}
            if scheme.lower().startswith(("mysql", "mariadb"))
            else {}
        )
        if driver.endswith("+pymysql"):
            arguments = {"connect_timeout": 10}
            if urlsplit(self.url).password is None:
                # The places where this server's own programs look.
                arguments["password"] = os.environ.get("MYSQL_PWD", "")
                if Path("~/.my.cnf").expanduser().is_file():
                    arguments["read_default_file"] = "~/.my.cnf"
        return create_engine(
            f"{driver}://{rest}", poolclass=NullPool, connect_args=arguments, **how
        )

    def refused(self, error: BaseException) -> bool:
        """See Database: errors of the server, but for those of MySQL's client that the connection
        is gone."""
        number = next(iter(getattr(error, "args", ())), None)
        return isinstance(number, int) and number not in (0, 2006, 2013, 2055, 4031)

    def _inspector(self) -> Any:
        return inspect(self.connection)

    def tables(self) -> list[str]:
        """See Database."""
        with self.told():
            about = self._inspector()
            return sorted([*about.get_table_names(), *about.get_view_names()])

    def place(self, table: str) -> tuple[str | None, str]:
        """See Database: a schema before the first point, where there is no such table by its whole
        name."""
        schema, dot, name = table.partition(".")
        if dot and table not in self.tables():
            return schema, name
        return None, table

    def has(self, table: str) -> bool:
        """See Database."""
        schema, name = self.place(table)
        with self.told():
            about = self._inspector()
            return name in [*about.get_table_names(schema), *about.get_view_names(schema)]

    def shape(self, table: str) -> TableSchema:
        """See Database."""
        schema, name = self.place(table)
        with self.told():
            about = self._inspector()
            columns = about.get_columns(name, schema)
            key = tuple(about.get_pk_constraint(name, schema).get("constrained_columns") or ())
            is_view = name in about.get_view_names(schema)
        # What a query calls its columns is sure; a description may have their quotes doubled.
        names = tuple(self.run(f"SELECT * FROM {self.quoted(table)} WHERE 1 = 0").keys())
        message = {column["name"]: name for column, name in zip(columns, names, strict=True)}
        computed = tuple(message[column["name"]] for column in columns if column.get("computed"))
        not_null = tuple(message[column["name"]] for column in columns if not column["nullable"])
        return TableSchema(
            names, not_null, computed, tuple(message.get(name, name) for name in key), is_view
        )

    def lock(self, table: str) -> None:
        """All rows, and the gaps between them."""
        if not self.mysql:
            raise CallProblem(
                f"{self.shown} is of a kind whose tables are not changed in place",
                hint="write a new table",
            )
        schema, name = self.place(table)
        sql = (
            "SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_NAME = \0n AND TABLE_SCHEMA ="
            " COALESCE(\0s, DATABASE())"
        )
        engine = self.run(sql, {"n": name, "s": schema}).scalar()
        if str(engine).lower() != "innodb":
            raise TableProblem(
                f"{self.shown}#{table} is kept by {engine}, which knows no transactions"
            )
        # What is read after the lock is what is there now: a snapshot that was taken before it
        # would not show what others did since.
        self.connection.rollback()
        self.run(f"SELECT COUNT(*) FROM (SELECT 1 FROM {self.quoted(table)} FOR UPDATE) AS held")

    def read(self, table: str) -> StoredSource:
        """See Database."""
        return self.load(table, frozenset(), {})

    def load(
        self,
        table: str,
        texts: frozenset[str],
        declared: dict[str, Type],
        subset: list[str] | None = None,
    ) -> StoredSource:
        """A table, or some of its columns, as the transaction sees it. Raises TableProblem."""
        shape = self.shape(table)
        if not shape.columns:
            raise TableProblem(f"{self.shown}#{table} has no columns")
        schema, name = self.place(table)
        with self.told():
            every = [_type(item["type"]) for item in self._inspector().get_columns(name, schema)]
        names = list(shape.columns) if subset is None else subset
        kinds = [every[shape.columns.index(column)] for column in names]
        picked = ", ".join(map(self.column, names))
        parts, binary = KeptParts(), [False] * len(names)
        counted = self.count(table)
        with self.told():
            cursor = self.connection.exec_driver_sql(
                f"SELECT {picked} FROM {self.quoted(table)}".replace("%", "%%")
            )
            while rows := cursor.fetchmany(_ROWS):
                results = []
                for at, values in enumerate(zip(*rows, strict=True)):
                    binary[at] = binary[at] or any(
                        isinstance(value, (bytes, bytearray, memoryview)) for value in values
                    )
                    truth = kinds[at] == BOOLEAN
                    if kinds[at] == TIME and any(
                        isinstance(value, datetime.timedelta) and not _DAY > value >= _NONE
                        for value in values
                    ):
                        kinds[at] = (
                            None  # a span of more than a day, or below zero, is no time of day
                        )
                    results.append(pa.array([_text(value, truth) for value in values], pa.string()))
                parts.write(pa.record_batch(results, names))
        # Only what no value contradicts is taken from the database; numbers and dates show
        # themselves by their values.
        types = [
            kind if kind in (DOUBLE, BOOLEAN, TIME) else None if kind is not None else _TEXT
            for kind in kinds
        ]
        result = StoredSource(
            Path(),
            f"{self.shown}#{table}",
            names,
            types,
            parts.sizes,
            parts.read,
            counted,
            texts=texts,
            declared=declared,
        )
        result.server, result.part, result.snapshot, result.store_key, result.not_null = (
            self.shown,
            table,
            True,
            shape.key,
            shape.not_null,
        )
        result.computed = shape.computed
        result.fallback = {
            column: kind for column, kind in zip(names, kinds, strict=True) if kind is not None
        }
        result.spelt = frozenset(
            column for column, kind in zip(names, kinds, strict=True) if kind is None
        )
        result.binary = frozenset(
            column for column, seen in zip(names, binary, strict=True) if seen
        )
        return result

    def declared(self, table: str) -> dict[str, str]:
        """See Database: the columns of texts."""
        schema, name = self.place(table)
        with self.told():
            about = self._inspector().get_columns(name, schema)
        names = self.shape(table).columns
        return {
            column: "TEXT"
            for column, item in zip(names, about, strict=True)
            if _type(item["type"]) is None
        }

    def dependents(self, table: str) -> list[Dependent]:
        """See Database."""
        if not self.mysql:
            return []
        schema, name = self.place(table)
        rows = self.run(
            "SELECT k.TABLE_SCHEMA, k.TABLE_NAME, k.REFERENCED_COLUMN_NAME, r.UPDATE_RULE,"
            " r.DELETE_RULE, k.TABLE_SCHEMA = DATABASE() FROM information_schema.KEY_COLUMN_USAGE"
            " AS k JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r ON r.CONSTRAINT_SCHEMA ="
            " k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME ="
            " k.TABLE_NAME WHERE k.REFERENCED_TABLE_NAME = \0n AND k.REFERENCED_TABLE_SCHEMA ="
            " COALESCE(\0s, DATABASE()) AND NOT (k.TABLE_NAME = k.REFERENCED_TABLE_NAME AND"
            " k.TABLE_SCHEMA = k.REFERENCED_TABLE_SCHEMA) ORDER BY 1, 2",
            {"n": name, "s": schema},
        ).fetchall()
        return grouped(
            (two if here else f"{item}.{two}", column, on) for item, two, column, *on, here in rows
        )

    def hold(self, tables: Sequence[Dependent]) -> None:
        """See Database."""
        for item in tables:
            self.run(
                f"SELECT COUNT(*) FROM (SELECT 1 FROM {self.quoted(item.table)} FOR UPDATE) AS held"
            )

    def type_name(self, kind: Type) -> str:
        """See Database: a DECIMAL with the digits that it has."""
        if kind.kind is Kind.DECIMAL:
            return f"DECIMAL({min(kind.precision, 38 if not self.mysql else 65)},{kind.scale})"
        return super().type_name(kind)

    def create(
        self,
        table: str,
        columns: Sequence[tuple[str, Type]],
        key: Sequence[str],
        declared: Mapping[str, str] | None = None,
    ) -> None:
        """See Database. A text in a key has a length in MySQL."""
        if not self.mysql:
            return super().create(table, columns, key, declared)
        self.refuse_namesakes(name for name, _ in columns)
        parts = []
        for name, kind in columns:
            result = (
                "VARCHAR(255)"
                if name in key and self.type_name(kind) == "LONGTEXT"
                else self.type_name(kind)
            )
            text = (
                " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
                if result.startswith(("VARCHAR", "LONGTEXT"))
                else ""
            )
            parts.append(
                f"{self.column(name)} {result}{text}" + (" NOT NULL" if name in key else " NULL")
            )
        if key:
            parts.append(f"PRIMARY KEY ({', '.join(map(self.column, key))})")
        self.run(f"CREATE TABLE {self.quoted(table)} ({', '.join(parts)}) ENGINE = InnoDB")
        return None

    def rename(self, pairs: Sequence[tuple[str, str]]) -> None:
        """Tables to other names, all at one moment."""
        self.run(
            "RENAME TABLE "
            + ", ".join(f"{self.quoted(old)} TO {self.quoted(new)}" for old, new in pairs)
        )

    def values(self, texts: pa.Array, kind: Type, declared: str = "") -> list[Any]:
        """See Database."""
        if kind.kind is Kind.BINARY:
            return [None if text is None else base64.b64decode(text) for text in texts.to_pylist()]
        if declared == "TEXT":
            kept: list[Any] = texts.to_pylist()
            return kept
        if kind.kind is Kind.BOOLEAN:
            back = {"false": 0, "true": 1}
            return [
                None if text is None else back.get(text.lower(), text) for text in texts.to_pylist()
            ]
        if kind.kind in (
            Kind.INTEGER,
            Kind.DECIMAL,
            Kind.DOUBLE,
            Kind.DATE,
            Kind.TIME,
            Kind.TIMESTAMP,
        ):
            result = view(texts, kind)
            if result.errors is None:
                values: list[Any] = result.values.to_pylist()
                return values
        same: list[Any] = texts.to_pylist()
        return same


def open_other(
    url: str, wanted: str, texts: frozenset[str], declared: dict[str, Type], bare: bool = False
) -> Source:
    """A table of a server; `bare`: without its rows. Raises TableProblem, CallProblem."""
    base, keep = _reading(url), False
    try:
        table = chosen(base.tables(), wanted, base.shown)
        if bare:
            return counted_only(
                Path(), f"{base.shown}#{table}", base.shape(table), base.count(table)
            )
        shape, counted, output = base.shape(table), base.count(table), base

        def fetch(chosen: list[int]) -> StoredSource:
            names = [shape.columns[index] for index in chosen]
            return output.load(
                table,
                texts & set(names),
                {key: kind for key, kind in declared.items() if key in names},
                names,
            )

        result = SqlSource(
            f"{base.shown}#{table}",
            shape,
            counted,
            fetch,
            base.close,
            texts=texts,
            declared=declared,
        )
        result.server, result.part = base.shown, table
        keep = True
        return result
    finally:
        if not keep:
            base.close()


def tables_of(url: str) -> list[str]:
    """The tables and views of a base. Raises TableProblem."""
    base = _reading(url)
    try:
        return base.tables()
    finally:
        base.close()


def _reading(url: str) -> Other:
    base = Other(url, reads_only=True)
    if base.mysql:
        base.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
    return base


_TEXT = Type(Kind.TEXT)
_NONE, _DAY = datetime.timedelta(0), datetime.timedelta(1)


def _type(kind: Any) -> Type | None:
    """The language's type for SQLAlchemy's; None for texts and what it has none for."""
    from sqlalchemy import types

    if isinstance(kind, types.Boolean) or (
        type(kind).__name__ == "TINYINT" and getattr(kind, "display_width", 0) == 1
    ):
        return BOOLEAN
    known = (
        (types.Integer, INTEGER),
        (types.Float, DOUBLE),
        (types.Numeric, None),
        (types.DateTime, TIMESTAMP),
        (types.Date, DATE),
        (types.Time, TIME),
    )
    for of, result in known:
        if isinstance(kind, of):
            return result or decimal(18, int(getattr(kind, "scale", 0) or 0))
    return None


def _text(value: Any, truth: bool) -> str | None:
    """A value as the language writes it."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool) or (truth and value in (0, 1)):
        return "true" if value else "false"
    if isinstance(value, float):
        return double_text(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, (bytes, bytearray, memoryview)):
        return base64.b64encode(bytes(value)).decode()
    if isinstance(value, datetime.timedelta):  # MySQL's TIME
        micros = abs(value) // datetime.timedelta(microseconds=1)
        seconds = micros // 1_000_000
        clock = f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
        rest = f".{micros % 1_000_000:06d}".rstrip("0") if micros % 1_000_000 else ""
        return ("-" if value < datetime.timedelta(0) else "") + clock + rest
    if isinstance(value, (datetime.datetime, datetime.time)):
        return re.sub(r"(\.\d*?)0+$", r"\1", str(value))
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False, default=str)
    return str(value)
