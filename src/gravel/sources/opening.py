"""What a table reference names, and how to open it."""

from __future__ import annotations

import bz2
import lzma
import os
import re
import shutil
import sys
import zipfile
from pathlib import Path
from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from gravel.lazily import lazily
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sources.arrow import open_arrow, open_parquet
from gravel.sources.csv.dialect import no_file
from gravel.sources.csv.reader import CsvSource
from gravel.sources.folder import open_folder, parts_in
from gravel.sources.jsonl import open_json_array, open_json_lines
from gravel.sources.laying_out import laid_out
from gravel.sources.metadata import with_metadata
from gravel.sources.multi_file import OpenFile, files_called, open_several
from gravel.sources.read_options import SPACE, ReadOptions
from gravel.sources.source import Source, scan
from gravel.sources.temporary import temporary_file
from gravel.stores.sql import POSTGRESQL, SQLITE, is_database, is_server, parted
from gravel.words import number_of

with lazily():
    from gravel.sources import excel

ENDINGS = (".csv", ".tsv", ".txt", ".parquet", ".arrow", ".jsonl", ".ndjson", ".json", ".xlsx")
CATALOGUE = "spark:"  # begins a reference to a table of Spark's catalogue
PACKED = {".gz": "gzip", ".zst": "zstd", ".bz2": "bz2", ".xz": "xz", ".zip": "zip"}
_STREAMS = (
    (b"\x1f\x8b", "gzip"),
    (b"\x28\xb5\x2f\xfd", "zstd"),
    (b"BZh", "bz2"),
    (b"\xfd7zXZ\0", "xz"),
)


def open_table(
    reference: str, reading: ReadOptions | None = None, base: Path | None = None
) -> Source:
    """The table a reference names, relative to `base`; `-` is standard input. Raises TableProblem,
    CallProblem."""
    how = reading or ReadOptions()
    if reference.startswith(CATALOGUE):
        raise CallProblem(
            f"{reference} is a table of Spark's catalogue, which only Spark reads",
            hint="--engine sc://host:15002, where the command has that",
        )
    if is_server(reference):
        table: Source = _of_server(reference, how)
    elif reference == "-":
        path = _of_stream(_spooled())
        name = "standard input"
        if _is_json(path):
            table = open_json_array(path, name, how)
        else:
            table = _opened(path, name, how)
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
    declared = dict(how.declared)
    if POSTGRESQL.match(address):
        from gravel.stores.sql.postgresql_reading import open_postgresql

        return open_postgresql(address, part, texts, declared, how.bare)
    from gravel.stores.sql.generic import open_other

    return open_other(address, part, texts, declared, how.bare)


def _opened(path: Path, name: str, how: ReadOptions) -> Source:
    """The table by its ending. Raises TableProblem, CallProblem."""
    if path.is_dir():
        return open_folder(path, name, how, _opened)
    if is_database(str(path)):
        return _of_sqlite(path, name, how)
    if _is_pattern(path):
        return open_several(path, name, how, _opened)
    if _book(str(path)):
        return _of_workbook(path, name, how)
    if not path.exists():
        raise no_file(path, name)
    return READERS.get(path.suffix.lower(), _text)(path, name, how)


def _is_pattern(path: Path) -> bool:
    return any(sign in path.name for sign in "*?[") and not path.exists()


def files_named(reference: str, base: Path) -> list[Path]:
    """The files that a folder or a pattern of names has now; none for what names one table. Raises
    TableProblem."""
    path = Path(base, reference)
    if path.is_dir():
        return [part for part, _ in parts_in(path, reference, {})]
    return files_called(path) if not is_server(reference) and _is_pattern(path) else []


def _of_sqlite(path: Path, name: str, how: ReadOptions) -> Source:
    from gravel.stores.sql.sqlite import open_sqlite

    file, table = parted(str(path))
    texts, declared = frozenset(how.texts), dict(how.declared)
    return open_sqlite(Path(file), parted(name)[0], table, texts, declared, how.bare)


def _of_workbook(path: Path, name: str, how: ReadOptions) -> Source:
    book = _book(str(path))
    assert book is not None
    return excel.open_workbook(*book, name, how)


def _of_packed(path: Path, name: str, how: ReadOptions) -> Source:
    """What is compressed is laid out in a temporary file, and opened by the ending that is left."""
    result = _opened(_unpacked(path, name, PACKED[path.suffix.lower()]), name, how)
    result.origin = path
    return result


def _of_tabs(path: Path, name: str, how: ReadOptions) -> Source:
    return _text(path, name, how if how.delimiter is not None else replace(how, delimiter="\t"))


def _text(path: Path, name: str, how: ReadOptions) -> CsvSource:
    """A text file, written anew first where its options ask for that; metadata beside it says what
    is not asked for."""
    how, notes = with_metadata(path, how)
    if not how.lays_out:
        table = CsvSource(path, name, how)
    else:
        if not path.is_file():
            CsvSource(path, name, how)  # tells what is wrong with it
        result, dropped = laid_out(path, name, how)
        commas = "," if how.starts or how.delimiter == SPACE else how.delimiter
        table = CsvSource(result, name, replace(how, delimiter=commas, encoding=None))
        table.origin, table.reading = path, how
        if dropped:
            lines = "1 line of comment is" if dropped == 1 else f"{dropped:,} lines of comment are"
            table.notes.append(f"{lines} left out")
    table.notes += notes
    if how.decimal != "." or how.group or how.dates:
        from gravel.sources.csv.conversions import Conversions

        conversions = Conversions(
            how, [table.columns.index(text) for text in how.texts if text in table.columns]
        )
        conversions.settle(scan(table, lambda batch: batch.columns))
        table.conversions = conversions
    return table


def _book(reference: str) -> tuple[Path, str] | None:
    """A workbook and the sheet that a reference names of it; None for anything else."""
    match = re.fullmatch(r"(.*\.(?:xlsx|xlsm|ods))(?:#(.*))?", reference, re.IGNORECASE | re.DOTALL)
    return None if match is None else (Path(match[1]), match[2] or "")


def _of_plan(path: Path, name: str, how: ReadOptions) -> Source:
    raise CallProblem(
        f"{name} is a plan, not a table",
        hint=f"gravel clean {name}, gravel try --plan {name} --step 1,"
        f" gravel look {name} --after 1",
    )


# Readers of files by their ending; any other is a text file.
READERS: dict[str, OpenFile] = {
    ".parquet": open_parquet,
    ".arrow": open_arrow,
    ".jsonl": open_json_lines,
    ".ndjson": open_json_lines,
    ".json": open_json_array,
    ".tsv": _of_tabs,
    ".toml": _of_plan,
    **dict.fromkeys(PACKED, _of_packed),
}


def _unpacked(path: Path, name: str, codec: str) -> Path:
    """A compressed file's content in a temporary one with the ending that is left. Raises
    TableProblem."""
    suffix = path.with_suffix("").suffix
    try:
        if codec == "zip":
            return _of_zip(path, name)
        handle, result = temporary_file(suffix)
        with os.fdopen(handle, "wb") as sink, _stream(path, codec) as source:
            while data := source.read(1 << 22):
                sink.write(data)
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except (OSError, EOFError, lzma.LZMAError, zipfile.BadZipFile) as error:
        message = str(error).splitlines()[0].lower() if str(error) else "it is cut short"
        raise TableProblem(f"{name} cannot be read: {message}") from None
    return result


def _stream(path: Path, codec: str) -> Any:
    if codec == "xz":
        return lzma.open(path)
    if codec == "bz2":
        return bz2.open(path)
    return pa.CompressedInputStream(pa.OSFile(str(path)), codec)


def _of_zip(path: Path, name: str) -> Path:
    """The only file in a zip archive. Raises TableProblem where it has several."""
    with zipfile.ZipFile(path) as archive:
        members = [item for item in archive.infolist() if not item.is_dir()]
        members = [item for item in members if not item.filename.startswith("__MACOSX/")]
        if len(members) != 1:
            raise TableProblem(
                f"{name} holds {number_of(len(members), 'file')}, and a table is one",
                detail=", ".join(item.filename for item in members[:5]),
                hint="take it out of the archive",
            )
        if members[0].flag_bits & 1:
            raise TableProblem(f"{name} is encrypted", hint="take its file out of the archive")
        handle, result = temporary_file(Path(members[0].filename).suffix)
        with archive.open(members[0]) as source, os.fdopen(handle, "wb") as sink:
            shutil.copyfileobj(source, sink, 1 << 22)
    return result


def expanded(reference: str, base: Path | None = None) -> list[str]:
    """The references that one stands for: a database without a table is all its tables."""
    if is_server(reference) and not parted(reference)[1]:
        if POSTGRESQL.match(reference):
            from gravel.stores.sql import postgresql_reading

            return [f"{reference}#{table}" for table in postgresql_reading.tables_of(reference)]
        from gravel.stores.sql import generic as other

        return [f"{reference}#{table}" for table in other.tables_of(reference)]
    path = Path(base or ".", reference)
    if path.suffix.lower() in SQLITE and path.is_file():
        from gravel.stores.sql.sqlite import tables_of

        return [f"{reference}#{table}" for table in tables_of(path, reference)]
    return [reference]


def _of_stream(path: Path) -> Path:
    """A compressed stream as what it holds; it is told by its first bytes."""
    with open(path, "rb") as file:
        begin = file.read(6)
    codec = next((codec for magic, codec in _STREAMS if begin.startswith(magic)), None)
    return path if codec is None else _unpacked(path, "standard input", codec)


def _is_json(path: Path) -> bool:
    """Whether a stream is JSON, by its first signs."""
    with open(path, "rb") as file:
        return re.match(rb'\s*(\[\s*\{|\{\s*")', file.read(4096)) is not None


def _spooled() -> Path:
    """Standard input in a temporary file, since tables are read more than once."""
    handle, path = temporary_file(".csv")
    with os.fdopen(handle, "wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file, 1 << 20)
    return path
