"""Tables of PostgreSQL servers, to be written to."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any, ClassVar

import pyarrow as pa
from sqlalchemy import create_engine
from sqlalchemy.pool import NullPool

from gravel.hidden import restored
from gravel.language.types import Kind, Type
from gravel.problems import Problem
from gravel.sinks.csv import encode
from gravel.sources.arrow import StoredSource
from gravel.sources.source import Source
from gravel.stores.sql.postgresql_reading import (
    KINDS,
    SESSION,
    WAIT,
    address,
    columns_of,
    count_rows,
    load_driver,
    read_rows,
    schema_of,
    tables_in,
)
from gravel.stores.sql.transaction import Database, Dependent, TableSchema, grouped, masked

_BULK = 1 << 16  # rows of a part of a COPY
# How the server tells which of a statement's values it does not take.
_PARAMETER = re.compile(r"\s+CONTEXT:\s+unnamed portal parameter \$(\d+) = .*", re.DOTALL)
_WHOLE = ("smallint", "integer", "bigint")


class PostgreSQL(Database):
    """A PostgreSQL server, to be written to."""

    names: ClassVar[dict[Kind, str]] = {
        Kind.INTEGER: "bigint",
        Kind.DECIMAL: "numeric",
        Kind.DOUBLE: "double precision",
        Kind.BOOLEAN: "boolean",
        Kind.DATE: "date",
        Kind.TIME: "time",
        Kind.TIMESTAMP: "timestamp",
        Kind.ZONED: "timestamptz",
        Kind.BINARY: "bytea",
        Kind.TEXT: "text",
    }

    def __init__(self, url: str) -> None:
        self.driver = load_driver()
        self.raw_errors = (self.driver.Error,)
        super().__init__(masked(url), restored(url))
        self._schema = ""
        self._bound: list[str] = []  # the columns of the statement's values, in its order
        self.run(SESSION + f"; SET lock_timeout = '{WAIT}s'")

    def connect(self) -> Any:
        """See Database."""

        def connection() -> Any:
            result = self.driver.connect(
                address(self.url),
                connect_timeout=WAIT,
                application_name="gravel",
                client_encoding="utf8",
            )
            # Each statement sees what is there now, so that what is read under the lock is what the
            # lock holds.
            result.isolation_level = self.driver.IsolationLevel.READ_COMMITTED
            return result

        return create_engine("postgresql+psycopg://", creator=connection, poolclass=NullPool)

    @property
    def raw(self) -> Any:
        """The driver's connection."""
        return self.connection.connection.driver_connection

    def problem(self, error: BaseException) -> Problem:
        """See Database: a value that is not taken, with its column."""
        result = super().problem(error)
        match = _PARAMETER.search(result.message)
        if match is not None and self._bound:
            column = self._bound[int(match[1]) - 1]
            result.message = f"{result.message[: match.start()]}, in column {column}"
        return result

    def transaction_number(self) -> str:
        """See Database."""
        with self.told():
            number = self.connection.exec_driver_sql("SELECT txid_current()").scalar()
        return (
            f"on the server, SELECT txid_status({number}) says what became of it: committed or"
            " aborted"
        )

    def refused(self, error: BaseException) -> bool:
        """See Database: the server answers with a SQLSTATE; 08 and 57P are of connections that
        end."""
        state = getattr(error, "sqlstate", None)
        return state is not None and not state.startswith(("08", "57P"))

    def tables(self) -> list[str]:
        """See Database."""
        with self.told():
            return tables_in(self.raw)

    def has(self, table: str) -> bool:
        """See Database."""
        return ".".join(self.place(table)) in self.tables()

    def place(self, table: str) -> tuple[str, str]:
        """See Database; without a schema it is the one where new tables go."""
        schema, dot, name = table.partition(".")
        if dot:
            return schema, name
        if not self._schema:
            self._schema = str(self.run("SELECT current_schema()").scalar() or "public")
        return self._schema, table

    def read(self, table: str) -> StoredSource:
        """See Database."""
        with self.told():
            place = ".".join(self.place(table))
            counted = count_rows(self.raw, place)
            return read_rows(self.raw, place, self.shown, frozenset(), {}, counted)

    def lock(self, table: str) -> None:
        """Others may read, not write."""
        self.run(f"LOCK TABLE {self.quoted(table)} IN SHARE ROW EXCLUSIVE MODE")

    def shape(self, table: str) -> TableSchema:
        """See Database."""
        with self.told():
            return schema_of(self.raw, *self.place(table))

    def declared(self, table: str) -> dict[str, str]:
        """See Database: those of whole numbers."""
        with self.told():
            about = columns_of(self.raw, *self.place(table))
        return {row[0]: row[1] for row in about if row[1] in _WHOLE}

    def values(self, texts: pa.Array, kind: Type, declared: str = "") -> list[Any]:
        """See Database: the server reads a text as its column's type, but for a whole number: it
        takes no text with decimals, be they zeros."""
        if kind.kind is Kind.BINARY:
            return [None if text is None else base64.b64decode(text) for text in texts.to_pylist()]
        values: list[Any] = texts.to_pylist()
        if declared and kind.kind in (Kind.DECIMAL, Kind.DOUBLE):
            # Of one that is not whole, what is read back is another number: its proof tells the
            # column.
            return [None if text is None else Decimal(text) for text in values]
        return values

    def bound(
        self, table: str, columns: Sequence[tuple[str, Type]], texts: Sequence[pa.Array]
    ) -> Iterator[list[tuple[Any, ...]]]:
        """See Database."""
        self._bound = [name for name, _ in columns]
        return super().bound(table, columns, texts)

    def each(self, sql: str, rows: Iterator[list[tuple[Any, ...]]]) -> int:
        """See Database."""
        numbers = dict.fromkeys(re.findall("\0v([0-9]+)", sql))
        self._bound = [self._bound[int(number)] for number in numbers]
        count = super().each(sql, rows)
        self._bound = []
        return count

    def goes_with(self, table: str) -> list[str]:
        """See Database."""
        sql = (
            "SELECT tgname FROM pg_trigger WHERE tgrelid = to_regclass(%s) AND NOT tgisinternal"
            " ORDER BY 1"
        )
        with self.told():
            return super().goes_with(table) + [
                f"trigger {row[0]}" for row in self.raw.execute(sql, (self.quoted(table),))
            ]

    def dependents(self, table: str) -> list[Dependent]:
        """See Database."""
        rules = {
            "a": "NO ACTION",
            "r": "RESTRICT",
            "c": "CASCADE",
            "n": "SET NULL",
            "d": "SET DEFAULT",
        }
        sql = (
            "SELECT n.nspname || '.' || c.relname, a.attname, k.confupdtype, k.confdeltype FROM"
            " pg_constraint AS k JOIN pg_class AS c ON c.oid = k.conrelid JOIN pg_namespace AS n ON"
            " n.oid = c.relnamespace CROSS JOIN unnest(k.confkey) AS u (number) JOIN pg_attribute"
            " AS a ON a.attrelid = k.confrelid AND a.attnum = u.number WHERE k.contype = 'f' AND"
            " k.conparentid = 0 AND k.confrelid = to_regclass(%s) AND k.conrelid <> k.confrelid"
            " ORDER BY 1, 2"
        )
        with self.told():
            rows = self.raw.execute(sql, (self.quoted(table),)).fetchall()
        return grouped(
            (
                name,
                column,
                [rules[rule.decode() if isinstance(rule, bytes) else rule] for rule in on],
            )
            for name, column, *on in rows
        )

    def hold(self, tables: Sequence[Dependent]) -> None:
        """See Database."""
        for item in tables:
            self.run(f"LOCK TABLE {self.quoted(item.table)} IN SHARE ROW EXCLUSIVE MODE")

    def forms(self, table: str) -> dict[str, Callable[[Any], Any]]:
        """See Database: read as the column's type and written again."""
        sql = self.driver.sql

        def through(kind: str) -> Callable[[Any], Any]:
            # The name of a type comes from the catalogue, which has quoted it where need be.
            ask = sql.SQL(
                "SELECT CAST(v AS {})::text FROM unnest(%s::text[]) WITH ORDINALITY AS t (v, n)"
                " ORDER BY n"
            ).format(sql.SQL(kind))

            def form(texts: pa.Array) -> pa.Array:
                with self.told():
                    return pa.array(
                        [row[0] for row in self.raw.execute(ask, (texts.to_pylist(),))], pa.string()
                    )

            return form

        # A real has fewer digits than the language's doubles: what it makes of one is what it can
        # hold.
        with self.told():
            about = columns_of(self.raw, *self.place(table))
        own = {*KINDS, "numeric", "text", "character varying", "bytea"} - {"real"}
        return {row[0]: through(row[6]) for row in about if row[1] not in own}

    def declared_as(self, source: Source, names: Mapping[str, int]) -> dict[str, str]:
        """See Database: types of another table of PostgreSQL that this base knows, and numbers of a
        file that are as wide here."""
        if source.store_kind == "postgresql":
            supplied = {
                name: source.store_types[source.columns[index]]
                for name, index in names.items()
                if source.columns[index] in source.store_types
            }
            with self.told():
                known = {
                    kind
                    for kind in set(supplied.values())
                    if self.raw.execute("SELECT to_regtype(%s)", (kind,)).fetchone()[0] is not None
                }
            return {name: kind for name, kind in supplied.items() if kind in known}
        return {
            name: kind
            for name, index in names.items()
            if (kind := _of_arrow(source.fields.get(index))) is not None
        }

    def insert(
        self, table: str, columns: Sequence[tuple[str, Type]], texts: Sequence[pa.Array]
    ) -> int:
        """See Database; by COPY."""
        sql = self.driver.sql
        into = sql.SQL("COPY {} ({}) FROM STDIN (FORMAT csv)").format(
            sql.Identifier(*self.place(table)),
            sql.SQL(", ").join(sql.Identifier(name) for name, _ in columns),
        )
        declared = self.declared(table)
        supplied = [
            _as_copied(text, kind, name in declared)
            for text, (name, kind) in zip(texts, columns, strict=True)
        ]
        with self.told(), self.raw.cursor() as cursor:
            with cursor.copy(into) as sink:
                for start in range(0, len(supplied[0]), _BULK):
                    sink.write(encode([item.slice(start, _BULK) for item in supplied]))
            return int(cursor.rowcount)


def _as_copied(texts: pa.Array, kind: Type, whole: bool) -> pa.Array:
    """Texts as COPY reads them."""
    if whole and kind.kind in (Kind.DECIMAL, Kind.DOUBLE):
        return pa.array(map(_as_whole, texts.to_pylist()), pa.string())
    if kind.kind is not Kind.BINARY:
        return texts
    bytes_of = (None if text is None else base64.b64decode(text) for text in texts.to_pylist())
    return pa.array(
        [None if cell is None else f"\\x{cell.hex()}" for cell in bytes_of], pa.string()
    )


def _as_whole(text: str | None) -> str | None:
    """A whole number without decimals and exponent; any other as it is written."""
    if text is None or (number := Decimal(text)) != number.to_integral_value():
        return text
    return str(int(number)) if number.is_finite() else text


def _of_arrow(field: pa.Field) -> str | None:
    """The type for a file's column, where it says more than the language's own."""
    if field is None:
        return None
    kind = field.type
    if pa.types.is_decimal(kind) and 0 <= kind.scale <= kind.precision:
        return f"numeric({kind.precision},{kind.scale})"
    narrow = {
        "int8": "smallint",
        "uint8": "smallint",
        "int16": "smallint",
        "uint16": "integer",
        "int32": "integer",
    }
    return narrow.get(str(kind))
