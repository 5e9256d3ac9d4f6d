"""What a table reference names, and how to open it."""

from __future__ import annotations

import atexit
import os
import shutil
import sys
import tempfile
from dataclasses import dataclass, field, replace
from pathlib import Path

import pyarrow as pa

from gravel.language.types import Type
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sources.csv.reader import CsvSource
from gravel.sources.source import Source
from gravel.stores.sql import POSTGRESQL, SQLITE, is_server, parted


@dataclass(frozen=True)
class ReadOptions:
    """How a text file is to be read."""

    delimiter: str | None = None
    encoding: str | None = None
    empty_null: bool = False
    texts: tuple[str, ...] = ()
    declared: dict[str, Type] = field(default_factory=dict)
    bare: bool = (
        False  # only its columns and how many rows it has: a database need not hand the rows over
    )


def open_table(
    reference: str, reading: ReadOptions | None = None, base: Path | None = None
) -> Source:
    """The table a reference names, relative to `base`; `-` is standard input. Raises TableProblem,
    CallProblem."""
    how = reading or ReadOptions()
    if how.delimiter is not None and len(how.delimiter.encode()) != 1:
        raise CallProblem(
            f"a delimiter is one character, not {how.delimiter!r}",
            hint="for a tab: --delimiter tab",
        )
    if is_server(reference):
        table: Source = _of_server(reference, how)
    elif reference == "-":
        table = _opened(_unpacked(_spooled()), "standard input", how)
    else:
        table = _opened(Path(base or ".", reference), reference, how)
    for column in (*how.texts, *how.declared):
        if column not in table.columns:
            near = nearest(column, list(table.columns))
            raise CallProblem(
                f"{table.name} has no column {column}", hint=f"did you mean {near}?" if near else ""
            )
    return table


def _of_server(reference: str, how: ReadOptions) -> Source:
    (address, part), texts = parted(reference), frozenset(how.texts)
    if POSTGRESQL.match(address):
        from gravel.stores.sql.postgresql import open_postgresql

        return open_postgresql(address, part, texts, how.declared, how.bare)
    from gravel.stores.sql.generic import open_other

    return open_other(address, part, texts, how.declared, how.bare)


def _opened(path: Path, name: str, how: ReadOptions) -> Source:
    """The table by its ending; what is compressed is laid out in a temporary file first."""
    texts, declared = frozenset(how.texts), how.declared
    file, part = parted(str(path))
    if file.lower().endswith(SQLITE):
        from gravel.stores.sql.sqlite import open_sqlite

        return open_sqlite(Path(file), parted(name)[0], part, texts, declared, how.bare)
    if any(sign in path.name for sign in "*?[") and not path.exists():
        from gravel.sources.multi_file import open_several

        plain = replace(how, texts=(), declared={})
        return open_several(
            path, name, texts, declared, lambda item, shown: _opened(item, shown, plain)
        )
    ending = path.suffix.lower()
    if ending in (".gz", ".zst"):
        result = _opened(_laid_out(path, name, "gzip" if ending == ".gz" else "zstd"), name, how)
        result.origin = path
        return result
    if ending in (".parquet", ".arrow"):
        from gravel.sources import arrow as stored

        return (stored.open_parquet if ending == ".parquet" else stored.open_arrow)(
            path, name, texts, declared
        )
    if ending == ".jsonl":
        from gravel.sources.jsonl import open_jsonl

        return open_jsonl(path, name, texts, declared)
    delimiter = how.delimiter or ("\t" if ending == ".tsv" else None)
    return CsvSource(
        path,
        name,
        delimiter=delimiter,
        encoding=how.encoding,
        empty_null=how.empty_null,
        texts=texts,
        declared=declared,
    )


def _laid_out(path: Path, name: str, codec: str) -> Path:
    """A compressed file's content in a temporary one with the ending that is left. Raises
    TableProblem."""
    handle, result = tempfile.mkstemp(prefix="gravel-", suffix=path.with_suffix("").suffix)
    atexit.register(Path(result).unlink, missing_ok=True)
    try:
        with (
            pa.CompressedInputStream(pa.OSFile(str(path)), codec) as source,
            os.fdopen(handle, "wb") as sink,
        ):
            while data := source.read(1 << 22):
                sink.write(data)
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except OSError as error:
        raise TableProblem(f"{name} cannot be read: {str(error).splitlines()[0].lower()}") from None
    return Path(result)


def expanded(reference: str, base: Path | None = None) -> list[str]:
    """The references that one stands for: a database without a table is all its tables."""
    if is_server(reference) and not parted(reference)[1]:
        if POSTGRESQL.match(reference):
            from gravel.stores.sql import postgresql

            return [f"{reference}#{table}" for table in postgresql.tables_of(reference)]
        from gravel.stores.sql import generic as other

        return [f"{reference}#{table}" for table in other.tables_of(reference)]
    path = Path(base or ".", reference)
    if path.suffix.lower() in SQLITE and path.is_file():
        from gravel.stores.sql.sqlite import tables_of

        return [f"{reference}#{table}" for table in tables_of(path, reference)]
    return [reference]


def _unpacked(path: Path) -> Path:
    """A compressed stream as what it holds; it is told by its first bytes."""
    with open(path, "rb") as file:
        begin = file.read(4)
    codec = "gzip" if begin[:2] == b"\x1f\x8b" else "zstd" if begin == b"\x28\xb5\x2f\xfd" else None
    return path if codec is None else _laid_out(path, "standard input", codec)


def _spooled() -> Path:
    """Standard input in a temporary file, since tables are read more than once."""
    handle, path = tempfile.mkstemp(prefix="gravel-", suffix=".csv")
    atexit.register(Path(path).unlink, missing_ok=True)
    with os.fdopen(handle, "wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file, 1 << 20)
    return Path(path)
