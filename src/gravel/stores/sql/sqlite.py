"""Tables of SQLite files, read in one transaction. SQLite lets any column hold any value: a column
whose values do not all fit what it declares is read as text, and those values are told."""

from __future__ import annotations

import base64
import os
import re
import secrets
import sqlite3
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from gravel.engine.arrow_values import type_of
from gravel.engine.frame import view
from gravel.kernels.arrays import to_arrow
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
from gravel.sources.kept_parts import KeptParts
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
    about = base.execute(f"PRAGMA table_xinfo({_quoted(table)})").fetchall()
    kinds = {row[1]: str(row[2] or "").upper() for row in about}
    names = list(shape.columns) if subset is None else subset
    columns = [_Column(item, kinds[item], spelt=_keeps_text(kinds[item])) for item in names]
    parts = KeptParts()
    for rows in _fetched(base, f"SELECT {', '.join(map(_quoted, names))} FROM {_quoted(table)}"):
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
        column.name: column.declared for column in columns if column.declared not in ("", _UNSAID)
    }
    result.part, result.snapshot = table, True
    result.store_key, result.not_null = shape.key, shape.not_null
    result.computed = shape.computed
    result.fallback = {
        column.name: kind for column in columns if (kind := _fallback(column.declared)) is not None
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


class _Column(Struct):
    """A column as it is read: what it is declared as, and what its values are so far. `mismatches`:
    those that do not match the declaration, `example` one of them; `spelt`: whether another
    spelling is another value."""

    name: str
    declared: str
    spelt: bool
    mismatches: int = 0
    example: str = ""
    binary: bool = False
    classes: Counter[str] = field(default_factory=Counter)

    def take(self, values: Sequence[Any]) -> pa.Array:
        """The next values."""
        kind, seen = self.declared, set(map(type, values))
        result = _array(values, seen, kind)
        truth = kind.startswith("BOOL")
        self.binary |= bytes in seen or _NoText in seen
        self.spelt |= str in seen and not (_number(kind) or truth)
        if len(seen) > 1 or truth:
            for own, count in Counter(map(type, values)).items():
                if own is not type(None):
                    self.classes[_CLASSES[own]] += count
        if not seen <= _fitting(kind):
            if kind in _MOMENTS and seen <= {str, type(None)}:
                fits = matches(result, f"^(?:{_MOMENTS[kind]})$")
                odd = result.filter(to_arrow(~fits & valid(result))).to_pylist()
            else:
                odd = [value for value in values if _mismatch(value, kind)]
            self.mismatches += len(odd)
            if odd and not self.example:
                self.example = str(odd[0])
        return result

    def type(self, kept: pa.DataType) -> Type | None:
        """Its type, once all values are kept in one of Arrow's; None: they decide."""
        if self.binary:
            return TEXT
        if not pa.types.is_string(kept):
            return type_of(kept)
        return _type(self.declared, not self.mismatches)

    @property
    def mixed(self) -> bool:
        """Whether its values are of several types. Integers and doubles are numbers both: SQLite
        itself keeps 12.0 as 12 where a column is NUMERIC."""
        several = self.classes.keys() - {"INTEGER" if self.classes["REAL"] else ""}
        return len(several) > 1 or (self.declared.startswith("BOOL") and self.mismatches > 0)


def _fetched(base: sqlite3.Connection, sql: str) -> Iterator[list[Any]]:
    """Rows in parts. Texts are read by the driver itself as long as they are UTF-8, which is
    quicker."""
    base.text_factory = str
    done = 0
    try:
        try:
            cursor = base.execute(sql)
            while rows := cursor.fetchmany(_ROWS):
                yield rows
                done += len(rows)
        except sqlite3.OperationalError as error:
            if "decode to UTF-8" not in str(error):
                raise
            base.text_factory = _text_of
            cursor = base.execute(sql)
            for _ in range(0, done, _ROWS):
                cursor.fetchmany(_ROWS)
            while rows := cursor.fetchmany(_ROWS):
                yield rows
    finally:
        base.text_factory = _text_of


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


def _array(values: Sequence[Any], seen: set[type], declared: str) -> pa.Array:
    """The values of a column in a part: numbers and truth as such where all are, else texts.
    `seen`: their types."""
    seen = seen - {type(None)}
    truth, scale = declared.startswith("BOOL"), _declared_scale(declared)
    if seen <= {str}:
        return pa.array(values, pa.string())
    if truth and seen == {int} and set(values) <= {0, 1, None}:
        return pa.array(values, pa.int64()).cast(pa.bool_())
    if scale and seen <= {int, float}:
        numbers = _decimals(values, declared, scale)
        return numbers if numbers is not None else _scaled_texts(values, scale)
    if seen == {int} and not truth:
        whole = pa.array(values, pa.int64())
        return whole if _type(declared, True) is None else whole.cast(pa.string())
    if seen == {float}:
        numbers = pa.array(values, pa.float64())
        return numbers if _type(declared, True) == DOUBLE else to_text(numbers, DOUBLE)
    return pa.array([_text(value, truth) for value in values], pa.string())


def _decimals(values: Sequence[Any], declared: str, scale: int) -> pa.Array | None:
    """Numbers as the DECIMAL that their column is declared as; None where that does not say all of
    them exactly. A double is the DECIMAL that is nearest to it where that has 15 digits at most
    (IEEE 754)."""
    known = np.array([value is not None for value in values])
    try:
        doubles = np.array([0 if value is None else value for value in values], np.float64)
    except OverflowError:
        return None
    whole = np.rint(doubles * 10**scale)
    if not (np.abs(whole) < 10**_EXACT_DIGITS).all() or (whole / 10**scale != doubles).any():
        return None
    match = _SCALED.fullmatch(declared)
    assert match is not None
    most = int(np.abs(whole).max(initial=0))
    if most >= 10 ** int(match[1]):
        return None
    # Whole hundredths, or what the scale is, are the DECIMAL's own bytes.
    words = np.zeros((len(whole), 2), np.int64)
    words[:, 0] = whole.astype(np.int64)
    words[:, 1] = words[:, 0] >> 63
    validity = pa.py_buffer(np.packbits(known, bitorder="little").tobytes())
    kind = pa.decimal128(int(match[1]), scale)
    return pa.Array.from_buffers(kind, len(whole), [validity, pa.py_buffer(words)])


def _scaled_texts(values: Sequence[Any], scale: int) -> pa.Array:
    return pa.array([_scaled(value, scale) for value in values], pa.string())


def _scaled(value: float | None, scale: int) -> str | None:
    """A number with so many places after the point, if these say it exactly."""
    if isinstance(value, float):
        text = f"{value:.{scale}f}"
        return text if float(text) == value else double_text(value)
    return _text(value) if not isinstance(value, int) else f"{value}.{'0' * scale}"


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
