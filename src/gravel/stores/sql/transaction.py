"""A database in one transaction: what its tables are, and how they are changed. Names are quoted,
values are bound.

SQLAlchemy knows how each kind of database quotes, binds, describes its tables and ends a
transaction; what is peculiar to a kind is in its class.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import SplitResult, parse_qsl, unquote, urlencode, urlsplit, urlunsplit

from msgspec import Struct

from gravel.hidden import restored
from gravel.language.types import Kind, Type
from gravel.problems import CallProblem, DataProblem, Problem, TableProblem, nearest
from gravel.sources.source import Source

if TYPE_CHECKING:
    import pyarrow as pa


_ROWS = 20_000  # rows bound at a time


class CommitUnknown(TableProblem):
    """A commit was sent and no answer came: the changes stand, or none of them does."""


class TableSchema(Struct, frozen=True):
    """A table as its database describes it: columns, those that may not be NULL, those that the
    database computes, the primary key's columns (none for a view), whether it is a view."""

    columns: tuple[str, ...]
    not_null: tuple[str, ...]
    computed: tuple[str, ...]
    key: tuple[str, ...]
    view: bool


class Dependent(Struct, frozen=True):
    """A table that refers to another by foreign keys: its name; the columns that it refers to;
    whether one of the keys changes its rows with those of the other (CASCADE, SET NULL, SET
    DEFAULT)."""

    table: str
    referenced: frozenset[str]
    acts: bool


def grouped(rows: Iterable[tuple[str, str, Sequence[str]]]) -> list[Dependent]:
    """The tables of foreign keys, given as (table, column referred to, rules on UPDATE and
    DELETE)."""
    results: dict[str, Dependent] = {}
    for table, column, rules in rows:
        known = results.get(table, Dependent(table, frozenset(), False))
        acts = any(rule.upper() not in ("NO ACTION", "RESTRICT") for rule in rules)
        results[table] = Dependent(table, known.referenced | {column}, known.acts or acts)
    return list(results.values())


def masked(url: str) -> str:
    """A URL without its password, to be shown. Raises CallProblem for what is none."""
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError:
        # What is wrong with it may be a part of the password.
        raise CallProblem(
            "a database's URL is not as one is written",
            hint="postgresql://user@host:5432/base#table",
        ) from None
    if restored(parts.netloc).count("@") > 1:
        # Drivers do not agree where such a password ends, and a part of it would be taken for the
        # host.
        raise CallProblem(
            "a database's URL is not as one is written: two @ in it",
            hint="in a password @ is written %40, / is %2F",
        )
    _refuse_options(parts)
    if parts.password is not None:
        host = parts.netloc.rpartition("@")[2]
        parts = parts._replace(netloc=f"{parts.username or ''}@{host}")
    options = [
        item
        for item in parse_qsl(parts.query, keep_blank_values=True)
        if item[0].lower() not in _SECRETS
    ]
    return (
        urlunsplit(parts._replace(query=urlencode(options, safe="/:")))
        if parts.query
        else urlunsplit(parts)
    )


_SECRETS = ("password", "passwd", "pwd", "passphrase", "sslpassword", "ssl_passphrase")
# What an address may say beside where the server is: nothing that runs a statement, loads code or
# reads another file's settings.
_OPTIONS = {
    *_SECRETS,
    "user",
    "host",
    "hostaddr",
    "port",
    "dbname",
    "database",
    "unix_socket",
    "connect_timeout",
    "read_timeout",
    "write_timeout",
    "application_name",
    "target_session_attrs",
    "channel_binding",
    "gssencmode",
    "krbsrvname",
    "charset",
    "sslmode",
    "sslrootcert",
    "sslcert",
    "sslkey",
    "sslcrl",
    "ssl_ca",
    "ssl_cert",
    "ssl_key",
    "ssl_verify_cert",
    "ssl_verify_identity",
    "driver",
    "encrypt",
    "trustservercertificate",
    "service_name",
}


_SETTINGS = "statement_timeout|lock_timeout|idle_in_transaction_session_timeout|search_path"


def _refuse_options(parts: SplitResult) -> None:
    if parts.scheme.partition("+")[0].lower() == "sqlite":
        raise CallProblem("a SQLite file is named by its path", hint="FILE.db#table")
    for name, value in parse_qsl(parts.query, keep_blank_values=True):
        if name.lower() == "options" and re.fullmatch(rf"(\s*-c\s*({_SETTINGS})=[\w.,]*)+", value):
            continue
        if name.lower() not in _OPTIONS:
            raise CallProblem(
                f"{name} is not an option that an address may have",
                hint="known are those of the connection: sslmode, connect_timeout …",
            )


def without_secret(text: str, url: str) -> str:
    """What a database says, in one line and without the URL's password."""
    message = " ".join(text.split())
    secret = urlsplit(url).password
    for item in {secret, unquote(secret)} if secret else ():
        message = message.replace(item, "…")
    return message[:300]


def password_hint(message: str) -> str:
    """Where a password may come from, if a database asks for one."""
    return (
        "a password may come from PGPASSWORD or ~/.pgpass, MYSQL_PWD or ~/.my.cnf"
        if "password" in message.lower()
        else ""
    )


def not_utf8(count: int, column: str) -> str:
    """The note on texts of a column that are not UTF-8."""
    verb = "is not UTF-8: it is" if count == 1 else "are not UTF-8: they are"
    return f"{count:,} of the texts in {column} {verb} told as base64"


def chosen(known: list[str], wanted: str, shown: str) -> str:
    """The table that is meant, the only one if none is named. Raises CallProblem."""
    if not wanted:
        if len(known) != 1:
            raise CallProblem(
                f"{shown} has {len(known)} tables: {', '.join(known[:20])}",
                hint=f"{shown}#{known[0]}" if known else "",
            )
        return known[0]
    if wanted not in known:
        same = [item for item in known if item.partition(".")[2] == wanted]
        if len(same) > 1:
            raise CallProblem(
                f"{wanted} could be {' and '.join(same[:3])}", hint="write it with its schema"
            )
        if same:
            return same[0]
        bare = {item.partition(".")[2] or item: item for item in known}
        near = nearest(wanted, known) or bare.get(nearest(wanted, list(bare)), "")
        raise CallProblem(
            f"{shown} has no table {wanted}",
            hint=f"did you mean {near}?" if near else "tables: " + ", ".join(known[:20]),
        )
    return wanted


class Database(ABC):
    """A database, connected to. Nothing of what is done to it stands before `commit`; `close`
    undoes the rest."""

    names: ClassVar[
        dict[Kind, str]
    ]  # what a column of each kind is declared as; the others are TEXT
    one_row: ClassVar[str] = "LIMIT 1"
    raw_errors: tuple[
        type[Exception], ...
    ] = ()  # the driver's own, where it is asked without SQLAlchemy
    whole_ddl: ClassVar[bool] = True  # whether tables are made and dropped within a transaction

    def __init__(self, shown: str, url: str = "", reads_only: bool = False) -> None:
        self.shown, self.url, self.reads_only = shown, url, reads_only
        with self.told():
            self.engine = self.connect()
            self.connection = self.engine.connect()

    # -- what is peculiar to a kind
    @abstractmethod
    def connect(self) -> Any:
        """A SQLAlchemy engine."""

    @abstractmethod
    def tables(self) -> list[str]:
        """Its tables and views."""

    @abstractmethod
    def place(self, table: str) -> tuple[str | None, str]:
        """A table's schema (None: it has none) and name."""

    @abstractmethod
    def read(self, table: str) -> Source:
        """A table as the transaction sees it. Raises TableProblem."""

    @abstractmethod
    def lock(self, table: str) -> None:
        """Keep others from changing a table until the end. Raises TableProblem where it cannot be
        had."""

    @abstractmethod
    def shape(self, table: str) -> TableSchema:
        """What a table is."""

    @abstractmethod
    def values(self, texts: Any, kind: Type, declared: str = "") -> list[Any]:
        """Texts of a type as the values to be bound."""

    def declared(self, table: str) -> dict[str, str]:
        """The types that columns are declared with, where the values to be bound depend on them."""
        return {}

    def dependents(self, table: str) -> list[Dependent]:
        """The other tables that refer to one by a foreign key."""
        return []

    def goes_with(self, table: str) -> list[str]:
        """What goes with a table when it is dropped: its indexes and foreign keys, and its triggers
        where they are known."""
        from sqlalchemy import inspect

        schema, name = self.place(table)
        with self.told():
            about = inspect(self.connection)
            results = [f"index {index['name']}" for index in about.get_indexes(name, schema)]
            return results + [
                f"foreign key ({', '.join(key['constrained_columns'])})"
                for key in about.get_foreign_keys(name, schema)
            ]

    def hold(self, tables: Sequence[Dependent]) -> None:
        """Keep others from changing tables until the end, so that their rows can be counted before
        and after; nothing to do where a transaction that writes holds all of them."""
        return None

    def forms(self, table: str) -> dict[str, Callable[[Any], Any]]:
        """For columns of types that only the database knows: texts as it writes them, {"a":1} as
        {"a": 1}."""
        return {}

    # -- the same for all
    @contextmanager
    def told(self) -> Iterator[None]:
        """What goes wrong is told in our form, without a password."""
        import sqlalchemy.exc as failures

        try:
            yield
        except failures.NoSuchModuleError as error:
            raise TableProblem(f"{self.shown} is of no kind that is known: {error}") from None
        except ModuleNotFoundError as error:
            extra = {"pymysql": "'gravel[mysql]'", "psycopg": "'gravel[postgresql]'"}.get(
                str(error.name), error.name
            )
            raise TableProblem(
                f"{self.shown} needs a driver that is not installed: {error.name}",
                hint=f"pip install {extra}",
            ) from None
        except failures.DBAPIError as error:
            raise self.problem(error.orig or error) from None
        except failures.SQLAlchemyError as error:
            raise self.problem(error) from None
        except self.raw_errors as error:
            raise self.problem(error) from None

    def problem(self, error: BaseException) -> Problem:
        """A failure of the database: data that it does not take, or trouble with the database
        itself."""
        message = without_secret(str(error), self.url) or type(error).__name__
        if self.reads_only:
            return TableProblem(
                f"{self.shown} cannot be read: {message}", hint=password_hint(message)
            )
        if type(error).__name__ in ("IntegrityError", "DataError") or any(
            base.__name__ in ("IntegrityError", "DataError") for base in type(error).__mro__
        ):
            return DataProblem(
                f"{self.shown} does not take what the plan makes: {message}",
                detail="nothing was written; the table is as it was",
            )
        return TableProblem(
            f"{self.shown} cannot be written: {message}",
            detail="nothing was written; the database is as it was",
            hint=password_hint(message),
        )

    def quoted(self, table: str) -> str:
        """A table's name as it stands in SQL."""
        schema, name = self.place(table)
        return (f"{self.column(schema)}." if schema else "") + self.column(name)

    def column(self, name: str) -> str:
        """A column's name as it stands in SQL."""
        how = self.engine.dialect.identifier_preparer
        escaped = name.replace(how.escape_quote, how.escape_to_quote)
        return f"{how.initial_quote}{escaped}{how.final_quote}"

    def run(self, sql: str, rows: Sequence[dict[str, Any]] | dict[str, Any] | None = None) -> Any:
        """A statement with values, or for each of some rows of values; they stand as \\0name in
        it."""
        from sqlalchemy import text

        with self.told():
            return self.connection.execute(text(sql.replace(":", "\\:").replace("\0", ":")), rows)

    def count(self, table: str) -> int:
        """Rows, by the database's own count."""
        return int(self.run(f"SELECT COUNT(*) FROM {self.quoted(table)}").scalar())

    def has(self, table: str) -> bool:
        """Whether there is such a table or view."""
        return table in self.tables()

    def type_name(self, kind: Type) -> str:
        """What a column of a type is declared as."""
        return self.names.get(kind.kind, self.names[Kind.TEXT])

    def declared_as(self, source: Source, names: Mapping[str, int]) -> dict[str, str]:
        """The types that columns of a new table are declared as for those of a source (by their
        places) that no step touches, where the language's own would say less."""
        return {}

    def create(
        self,
        table: str,
        columns: Sequence[tuple[str, Type]],
        key: Sequence[str],
        declared: Mapping[str, str] | None = None,
    ) -> None:
        """A new table; `key` is its primary key; `declared`: types that stand for the language's.
        Raises CallProblem for names that are one to the database."""
        self.refuse_namesakes(name for name, _ in columns)
        types = {name: (declared or {}).get(name) or self.type_name(kind) for name, kind in columns}
        parts = [
            f"{self.column(name)} {types[name]}" + (" NOT NULL" if name in key else "")
            for name, kind in columns
        ]
        if key:
            parts.append(f"PRIMARY KEY ({', '.join(map(self.column, key))})")
        self.run(f"CREATE TABLE {self.quoted(table)} ({', '.join(parts)})")

    def folded(self, name: str) -> str:
        """What the database tells a column's name by."""
        return name

    def refuse_namesakes(self, names: Iterable[str]) -> None:
        """Raises CallProblem for names of columns that are one to the database."""
        seen: dict[str, str] = {}
        for name in names:
            other = seen.setdefault(self.folded(name), name)
            if other != name:
                raise CallProblem(
                    f"{self.shown} does not tell the columns {other} and {name} apart",
                    hint="give one of them another name: AS in a query, columns in a plan",
                )

    def drop(self, table: str) -> None:
        """Take a table away."""
        self.run(f"DROP TABLE {self.quoted(table)}")

    def copy(self, table: str, to: str) -> int:
        """A table's rows in a new one; how many."""
        self.run(f"CREATE TABLE {self.quoted(to)} AS SELECT * FROM {self.quoted(table)}")
        return self.count(to)

    def insert(
        self, table: str, columns: Sequence[tuple[str, Type]], texts: Sequence[pa.Array]
    ) -> int:
        """Rows, added; how many the database says they are."""
        names = ", ".join(self.column(name) for name, _ in columns)
        binds = ", ".join(f"\0v{index}" for index in range(len(columns)))
        return self.each(
            f"INSERT INTO {self.quoted(table)} ({names}) VALUES ({binds})",
            self.bound(table, columns, texts),
        )

    def update(
        self,
        table: str,
        key: Sequence[tuple[str, Type]],
        columns: Sequence[tuple[str, Type]],
        texts: Sequence[pa.Array],
    ) -> int:
        """Cells of rows that have a key: `texts` has the key's columns first. How many rows the
        database says."""
        sets = ", ".join(
            f"{self.column(name)} = \0v{len(key) + index}"
            for index, (name, _) in enumerate(columns)
        )
        return self.each(
            f"UPDATE {self.quoted(table)} SET {sets} WHERE {self._with_key(key)}",
            self.bound(table, [*key, *columns], texts),
        )

    def repeat(
        self,
        table: str,
        key: Sequence[tuple[str, Type]],
        columns: Sequence[tuple[str, Type]],
        texts: Sequence[pa.Array],
        every: Sequence[str],
    ) -> int:
        """Copies of rows that have a key, other than them in some columns; `every`: the columns
        that a row is made of. The cells that are not given never leave the database, so that they
        are what they were."""
        supplied = {name: f"\0v{len(key) + index}" for index, (name, _) in enumerate(columns)}
        names = ", ".join(map(self.column, every))
        cells = ", ".join(supplied.get(name) or self.column(name) for name in every)
        sql = (
            f"INSERT INTO {self.quoted(table)} ({names}) SELECT {cells} FROM {self.quoted(table)}"
            f" WHERE {self._with_key(key)} {self.one_row}"
        )
        return self.each(sql, self.bound(table, [*key, *columns], texts))

    def delete(self, table: str, key: Sequence[tuple[str, Type]], texts: Sequence[pa.Array]) -> int:
        """Rows that have a key, taken away; how many the database says."""
        return self.each(
            f"DELETE FROM {self.quoted(table)} WHERE {self._with_key(key)}",
            self.bound(table, key, texts),
        )

    def _with_key(self, key: Sequence[tuple[str, Type]]) -> str:
        return " AND ".join(
            f"{self.column(name)} = \0v{index}" for index, (name, _) in enumerate(key)
        )

    def bound(
        self, table: str, columns: Sequence[tuple[str, Type]], texts: Sequence[pa.Array]
    ) -> Iterator[list[tuple[Any, ...]]]:
        """Rows of values to be bound, some at a time."""
        declared = self.declared(table)
        for start in range(0, len(texts[0]), _ROWS):
            cells = [
                self.values(text.slice(start, _ROWS), kind, declared.get(name, ""))
                for text, (name, kind) in zip(texts, columns, strict=True)
            ]
            yield list(zip(*cells, strict=True))

    def each(self, sql: str, rows: Iterator[list[tuple[Any, ...]]]) -> int:
        """A statement for all rows, whose values stand as \\0v0, \\0v1 … in it; how many rows the
        database says it concerned."""
        count = 0
        for subset in rows:
            names = [f"v{index}" for index in range(len(subset[0]))]
            count += int(
                self.run(sql, [dict(zip(names, row, strict=True)) for row in subset]).rowcount
            )
        return count

    def commit(self) -> None:
        """Let it stand. Raises TableProblem, and then nothing stands; CommitUnknown where no answer
        came."""
        import sqlalchemy.exc as failures

        number = self.transaction_number()
        kinds: tuple[type[Exception], ...] = (failures.DBAPIError, *self.raw_errors)
        try:
            self._commit()
        except kinds as error:
            cause = getattr(error, "orig", None) or error
            if self.refused(cause):
                raise self.problem(cause) from None
            message = without_secret(str(cause), self.url) or type(cause).__name__
            raise CommitUnknown(
                f"{self.shown}: the connection broke at the commit ({message}); whether the changes"
                " stand is not known",
                detail=(
                    "rejected rows are kept in their file; the next run of the plan asks the"
                    " database before it begins"
                ),
                hint=number or "look at the table: the changes are all there, or none of them is",
            ) from None

    def _commit(self) -> None:
        self.connection.commit()

    def transaction_number(self) -> str:
        """How to find out later what became of the transaction, '' where the database has no
        way."""
        return ""

    def refused(self, error: BaseException) -> bool:
        """Whether a commit's failure is the database's own answer, so that nothing stands."""
        return False

    def close(self) -> None:
        """Undo what was not committed, and let go."""
        from sqlalchemy.exc import SQLAlchemyError

        # A connection that is gone has undone it by itself.
        with suppress(SQLAlchemyError):
            self.connection.rollback()
        with suppress(SQLAlchemyError):
            self.connection.close()
        self.engine.dispose()
