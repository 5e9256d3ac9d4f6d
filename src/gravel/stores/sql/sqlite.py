"""Tables of SQLite files, read in one transaction. SQLite lets any column hold any value: a column
whose values do not all fit what it declares is read as text, and those values are told."""

from __future__ import annotations

import base64
import os
import re
import secrets
import sqlite3
from collections import Counter
from collections.abc import Mapping
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

import pyarrow as pa

from gravel.engine.frame import view
from gravel.language.functions.buffers import matches, valid
from gravel.language.functions.casts import double_text, to_text
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    TEXT,
    TIME,
    TIMESTAMP,
    ZONED,
    Kind,
    Type,
    decimal,
)
from gravel.problems import TableProblem
from gravel.sinks.atomic_file import mode_of, problem_of, sync_folder
from gravel.sources.arrow import StoredSource, counted_only
from gravel.sources.source import Source
from gravel.stores.sql.column_cache import SqlSource
from gravel.stores.sql.transaction import (
    Database,
    Dependent,
    TableSchema,
    chosen,
    grouped,
    not_utf8,
)

_ROWS = 50_000
_WAIT = 10.0  # seconds to wait for another's lock
# A DECIMAL must not be stored as SQLite's NUMERIC, which makes a double of it; a name with TEXT in
# it keeps its digits.
_NAMES = {
    Kind.INTEGER: "INTEGER",
    Kind.DECIMAL: "DECIMAL_TEXT",
    Kind.DOUBLE: "REAL",
    Kind.BOOLEAN: "BOOLEAN",
    Kind.DATE: "DATE",
    Kind.TIME: "TIME",
    Kind.TIMESTAMP: "TIMESTAMP",
    Kind.ZONED: "TIMESTAMP WITH TIME ZONE",
    Kind.BINARY: "BLOB",
    Kind.TEXT: "TEXT",
}
# SQLite keeps numbers of so many digits exactly, in a column whose type has the affinity NUMERIC;
# longer ones are texts.
_EXACT_DIGITS = 15
_SCALED = re.compile(r"(?:DECIMAL|NUMERIC)\(([0-9]+), *([0-9]+)\)")
_UNSAID = "NUM"  # what CREATE TABLE AS makes of a DATE and of much else: nobody declared that


class _NoText(bytes):
    """A value that SQLite calls a text and that is not UTF-8."""


_CLASSES = {
    int: "INTEGER",
    float: "REAL",
    str: "TEXT",
    bytes: "BLOB",
    _NoText: "TEXT that is not UTF-8",
}
_TRUTH = {0: "false", 1: "true"}
_DAY, _CLOCK = r"\d{4}-\d{2}-\d{2}", r"\d{2}:\d{2}:\d{2}(\.\d{1,6})?"
_MOMENTS = {
    "DATE": _DAY,
    "TIME": _CLOCK,
    "TIMESTAMP": f"{_DAY}([ T]{_CLOCK})?",
    "DATETIME": f"{_DAY}([ T]{_CLOCK})?",
    "TIMESTAMP WITH TIME ZONE": f"{_DAY}[ T]{_CLOCK}(Z|[+-]\\d{{2}}(:?\\d{{2}})?)",
}


class SQLite(Database):
    """A SQLite file, to be written to; one that is not there is made beside its place, and linked
    there when all is committed, so that two runs that make it never share a file."""

    names: ClassVar[dict[Kind, str]] = _NAMES
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

    def _begun(self) -> None:
        with self.told():
            self.connection.exec_driver_sql("BEGIN IMMEDIATE")

    def connect(self) -> Any:
        """See Database. Transactions are begun and ended by us alone."""
        from sqlalchemy import create_engine
        from sqlalchemy.pool import NullPool

        def connection() -> sqlite3.Connection:
            result = sqlite3.connect(self.path, isolation_level=None, timeout=_WAIT)
            result.text_factory = _text_of
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
                for row in self.raw.execute(f"PRAGMA foreign_key_list({_quoted(name)})").fetchall():
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
            f"{_quoted(name)} {kind.removesuffix('GENERATED ALWAYS')}"
            for name, kind in self.declared(table).items()
        )
        self.run(f"CREATE TABLE {_quoted(to)} ({columns})")
        self.run(f"INSERT INTO {_quoted(to)} SELECT * FROM {_quoted(table)}")
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
                for row in self.raw.execute(f"PRAGMA table_xinfo({_quoted(table)})")
            }

    def type_name(self, kind: Type) -> str:
        """See Database: a DECIMAL of few digits is a number."""
        if kind.kind is Kind.DECIMAL and kind.precision <= _EXACT_DIGITS:
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
            if 0 <= kind.scale <= kind.precision <= _EXACT_DIGITS
        }

    def values(self, texts: pa.Array, kind: Type, declared: str = "") -> list[Any]:
        """See Database: integers, doubles and bytes as such, truth as 0 and 1 where the column is
        declared so."""
        if kind.kind is not Kind.BINARY and _keeps_text(declared):
            same: list[Any] = texts.to_pylist()
            return same
        if kind.kind in (Kind.INTEGER, Kind.DOUBLE):
            result = view(texts, kind)
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
            return [None if text is None else back.get(text, text) for text in texts.to_pylist()]
        if kind.kind is Kind.DECIMAL and not _number(declared):
            return [_as_number(text) for text in texts.to_pylist()]
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
        result.text_factory = _text_of
        return result
    except sqlite3.Error as error:
        raise TableProblem(f"{name} cannot be opened: {error}") from None


def _text_of(raw: bytes) -> str | bytes:
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return _NoText(raw)


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
        counted = self.base.execute(f"SELECT COUNT(*) FROM {_quoted(self.table)}").fetchone()[0]
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
                counted = base.execute(f"SELECT COUNT(*) FROM {_quoted(table)}").fetchone()[0]
                return counted_only(path, shown, _shape(base, table), counted)
            return _Columns(path, name, table).opened(texts, declared)
        except sqlite3.DatabaseError as error:
            raise TableProblem(f"{shown} cannot be read: {error}") from None


def _shape(base: sqlite3.Connection, table: str) -> TableSchema:
    about = [
        row for row in base.execute(f"PRAGMA table_xinfo({_quoted(table)})") if row[6] != 1
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
    counted = base.execute(f"SELECT COUNT(*) FROM {_quoted(table)}").fetchone()[0]
    shape = _shape(base, table)
    columns = list(shape.columns) if subset is None else subset
    message = {
        row[1]: str(row[2] or "").upper()
        for row in base.execute(f"PRAGMA table_xinfo({_quoted(table)})")
    }
    kinds = [message[column] for column in columns]
    cursor = base.execute(f"SELECT {', '.join(map(_quoted, columns))} FROM {_quoted(table)}")
    schema = pa.schema([(column, pa.string()) for column in columns])
    batches: list[Any] = []
    mismatches, binary, spelt = (
        [0] * len(columns),
        [False] * len(columns),
        [_keeps_text(kind) for kind in kinds],
    )
    examples: dict[int, str] = {}
    classes: list[Counter[str]] = [Counter() for _ in columns]
    while rows := cursor.fetchmany(_ROWS):
        results = []
        for position, values in enumerate(zip(*rows, strict=True)):
            seen = set(map(type, values))
            shown = _texts(
                values, seen, kinds[position].startswith("BOOL"), _declared_scale(kinds[position])
            )
            results.append(shown)
            binary[position] = binary[position] or bytes in seen or _NoText in seen
            if len(seen) > 1 or kinds[position].startswith("BOOL"):
                classes[position].update(
                    _CLASSES[type(value)] for value in values if value is not None
                )
            spelt[position] = spelt[position] or (
                str in seen and not (_number(kinds[position]) or kinds[position].startswith("BOOL"))
            )
            if not seen <= _fitting(kinds[position]):
                if kinds[position] in _MOMENTS and seen <= {str, type(None)}:
                    odd = shown.filter(
                        pa.array(
                            ~matches(shown, f"^(?:{_MOMENTS[kinds[position]]})$") & valid(shown)
                        )
                    ).to_pylist()
                else:
                    odd = [value for value in values if _mismatch(value, kinds[position])]
                mismatches[position] += len(odd)
                if odd:
                    examples.setdefault(position, str(odd[0]))
        batches.append(pa.record_batch(results, schema=schema))
    types = [
        TEXT if bytes_in else _type(kind, not mismatch)
        for kind, bytes_in, mismatch in zip(kinds, binary, mismatches, strict=True)
    ]
    # In memory already; a reader is not for several threads.
    sizes = [batch.num_rows for batch in batches]
    result = StoredSource(
        path,
        name,
        columns,
        types,
        sizes,
        lambda index, _: batches[index],
        counted,
        texts=texts,
        declared=declared,
    )
    result.store_kind, result.store_types = (
        "sqlite",
        {
            column: kind
            for column, kind in zip(columns, kinds, strict=True)
            if kind not in ("", _UNSAID)
        },
    )
    result.part, result.snapshot, result.store_key, result.not_null = (
        table,
        True,
        shape.key,
        shape.not_null,
    )
    result.fallback = {
        column: kind
        for column, name in zip(columns, kinds, strict=True)
        if (kind := _fallback(name)) is not None
    }
    result.binary = frozenset(
        column for column, bytes_in in zip(columns, binary, strict=True) if bytes_in
    )
    result.spelt = frozenset(column for column, text in zip(columns, spelt, strict=True) if text)
    for position, column in enumerate(columns):
        truth = kinds[position].startswith("BOOL") and mismatches[position]
        # Integers and doubles are numbers both: SQLite itself keeps 12.0 as 12 where a column is
        # NUMERIC.
        if (
            len(classes[position].keys() - {"INTEGER" if classes[position]["REAL"] else ""}) > 1
            or truth
        ):
            result.mixed[column] = ", ".join(
                f"{count:,} {name}" for name, count in classes[position].most_common()
            )
        if classes[position]["TEXT that is not UTF-8"]:
            result.notes.append(not_utf8(classes[position]["TEXT that is not UTF-8"], column))
    result.mismatches = {
        columns[index]: (kinds[index], count, examples[index])
        for index, count in enumerate(mismatches)
        if count
    }
    result.notes += [
        f"{count:,} of the values in {column} {'does' if count == 1 else 'do'} not match its"
        f" declared type {kind}, such as {example!r}"
        for column, (kind, count, example) in result.mismatches.items()
    ]
    return result


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _is_text(kind: str) -> bool:
    """SQLite's rule of affinity: a declared type with one of these in its name holds texts."""
    return (
        any(part in kind for part in ("CHAR", "CLOB", "TEXT"))
        and "INT" not in kind
        and kind != _NAMES[Kind.DECIMAL]
    )


def _keeps_text(kind: str) -> bool:
    """Whether a text that is written into a column stays the text that it is."""
    return _is_text(kind) or kind == _NAMES[Kind.DECIMAL] or kind in _MOMENTS


def _number(kind: str) -> bool:
    return any(
        part in kind for part in ("INT", "REAL", "FLOA", "DOUB", "NUM", "DEC")
    ) and kind not in (_NAMES[Kind.DECIMAL], _UNSAID)


def _type(kind: str, fits: bool) -> Type | None:
    """The type that a declaration gives a column; None: its values decide."""
    if kind in ("TIME", _NAMES[Kind.ZONED]):  # which no text shows by itself
        return (TIME if kind == "TIME" else ZONED) if fits else TEXT
    return (
        TEXT
        if _is_text(kind)
        else (
            DOUBLE
            if fits and any(part in kind for part in ("REAL", "FLOA", "DOUB")) and "INT" not in kind
            else None
        )
    )


def _fallback(kind: str) -> Type | None:
    """The type of a declared column that holds no value."""
    for part, result in (
        ("INT", INTEGER),
        ("BOOL", BOOLEAN),
        ("TIME ZONE", ZONED),
        ("TIMESTAMP", TIMESTAMP),
        ("DATETIME", TIMESTAMP),
    ):
        if part in kind:
            return result
    return {"DATE": DATE, "TIME": TIME}.get(kind) or (
        decimal(18, 2) if "DEC" in kind or "NUM" in kind else None
    )


def _as_number(text: str | None) -> float | str | None:
    """In a column of no declared type, a number where it holds the text's value exactly, as it was
    when it was read."""
    if text is None or not re.fullmatch(r"-?[0-9]*\.?[0-9]+", text):
        return text
    number = float(text) if "." in text else int(text)
    return number if Decimal(repr(number)) == Decimal(text) and abs(number) < 1 << 63 else text


def _fitting(kind: str) -> set[type]:
    """The types of values that need no second look in a column that is declared so."""
    if "INT" in kind:
        return {int, type(None)}
    if _number(kind):
        return {int, float, type(None)}
    if kind.startswith("BOOL") or kind in _MOMENTS:
        return {type(None)}
    return {int, float, str, bytes, _NoText, type(None)}


def _mismatch(value: Any, kind: str) -> bool:
    """Whether a value does not match what its column is declared as."""
    if value is None:
        return False
    if kind.startswith("BOOL"):
        return value not in _TRUTH
    if kind in _MOMENTS:
        return not isinstance(value, str) or re.fullmatch(_MOMENTS[kind], value) is None
    return type(value) not in _fitting(kind)


def _declared_scale(kind: str) -> int | None:
    """The places after the point that a column's declaration gives its numbers."""
    match = _SCALED.fullmatch(kind)
    return int(match[2]) if match and int(match[1]) <= _EXACT_DIGITS else None


def _scaled(value: float | None, scale: int) -> str | None:
    """A number with so many places after the point, if these say it exactly."""
    if isinstance(value, float):
        text = f"{value:.{scale}f}"
        return text if float(text) == value else double_text(value)
    return _text(value) if scale == 0 or not isinstance(value, int) else f"{value}.{'0' * scale}"


def _texts(values: Any, result: set[type], truth: bool, scale: int | None = None) -> pa.Array:
    if result <= {str, type(None)}:
        return pa.array(values, pa.string())
    if scale is not None:
        return pa.array([_scaled(value, scale) for value in values], pa.string())
    if result <= {int, type(None)} and not truth:
        return pa.array(values, pa.int64()).cast(pa.string())
    if result <= {float, type(None)}:
        return to_text(pa.array(values, pa.float64()), DOUBLE)
    return pa.array([_text(value, truth) for value in values], pa.string())


def _text(value: Any, truth: bool = False) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if truth and value in _TRUTH:
        return _TRUTH[value]
    return (
        base64.b64encode(value).decode()
        if isinstance(value, bytes)
        else double_text(value)
        if isinstance(value, float)
        else str(value)
    )
