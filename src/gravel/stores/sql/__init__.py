"""Tables of databases, a file a kind: `sqlite`, `postgresql`, and `other` for what SQLAlchemy
reaches by its URL."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, urlsplit

from gravel.problems import CallProblem, TableProblem

if TYPE_CHECKING:
    from gravel.stores.sql.transaction import Database

SQLITE = (".db", ".sqlite", ".sqlite3")
URL = re.compile(r"[a-z][a-z0-9]*(\+[a-z0-9_]+)?://", re.IGNORECASE)
POSTGRESQL = re.compile(r"postgres(ql)?(\+psycopg)?://", re.IGNORECASE)


def is_server(reference: str) -> bool:
    """Whether a reference is the URL of a database server."""
    return URL.match(reference) is not None


def is_database(reference: str) -> bool:
    """Whether a reference names a table of a database, or a database."""
    return is_server(reference) or parted(reference)[0].lower().endswith(SQLITE)


def parted(reference: str) -> tuple[str, str]:
    """A reference as the database and the table in it ('' if none is named)."""
    if not is_server(reference):
        for ending in SQLITE:  # a table may have a # in its name, and so may a folder
            index = reference.lower().find(ending + "#")
            if index >= 0:
                return reference[: index + len(ending)], reference[index + len(ending) + 1 :]
        return reference, ""
    address, _, table = reference.partition("#")
    return address, table


def same_server(text: str, other: str) -> bool:
    """Whether two URLs name one database: kind, host, port, name and options, whoever connects."""
    parts = []
    for url in (text, other):
        try:
            cut = urlsplit(url)
            _ = cut.port
        except ValueError:
            return False  # it is no URL, which is told where it is opened
        kind = cut.scheme.partition("+")[0].lower()
        kind = {"postgres": "postgresql", "mariadb": "mysql"}.get(kind, kind)
        host = {"127.0.0.1": "localhost", "::1": "localhost"}.get(
            cut.hostname or "localhost", cut.hostname or "localhost"
        )
        port = cut.port or {"postgresql": 5432, "mysql": 3306}.get(kind)
        parts.append((kind, host, port, cut.path, sorted(parse_qsl(cut.query))))
    return parts[0] == parts[1]


def open_database(reference: str, base: Path) -> Database:
    """The database that a reference names, to be written to in one transaction. Raises
    TableProblem."""
    address, _ = parted(reference)
    try:
        import sqlalchemy  # noqa: F401
    except ModuleNotFoundError:
        raise TableProblem(
            "writing to a database needs SQLAlchemy, which is not installed",
            hint="pip install sqlalchemy",
        ) from None
    if POSTGRESQL.match(address):
        from gravel.stores.sql.postgresql import PostgreSQL

        return PostgreSQL(address)
    if is_server(address):
        from gravel.stores.sql.generic import Other

        return Other(address)
    if not address.lower().endswith(SQLITE):
        raise CallProblem(f"{reference} names no database")
    from gravel.stores.sql.sqlite import SQLite

    return SQLite(base / address, address)
