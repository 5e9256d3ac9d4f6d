"""Several files as one table: a pattern such as stays-*.csv, or a folder. Columns are matched by
name; the file of each row is kept, or what its name says of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.arrow_values import plain_type, text_of
from gravel.language.types import TEXT
from gravel.problems import CallProblem, TableProblem
from gravel.sources.arrow import StoredSource
from gravel.sources.csv.dialect import line_breaks
from gravel.sources.csv.reader import CsvSource
from gravel.sources.csv.splitter import Take
from gravel.sources.dialect import Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Malformed, Source, bundles
from gravel.words import number_of

FILE = "gravel_file"
OpenFile = Callable[[Path, str, ReadOptions], Source]


class FileSplit(Struct, frozen=True):
    """A piece of one of the files: which, and how many rows stand before that file."""

    file: int
    before: int
    inner: Any
    first_row: int
    records: int


class FileSplits(Struct, frozen=True):
    """Pieces that are read together."""

    parts: tuple[FileSplit, ...]
    first_row: int
    records: int


class MultiFileSource(Source):
    """Files one after another, in order; row numbers go on from file to file. A column that a file
    does not have is NULL in its rows. `constants`: by file, the columns whose one value its name
    says; `meets`: whether a file at a path would be one of them."""

    def __init__(
        self,
        name: str,
        files: Sequence[Source],
        constants: Sequence[dict[str, str | None]],
        meets: Callable[[Path], bool],
        reading: ReadOptions,
    ) -> None:
        names = tuple(dict.fromkeys(column for file in files for column in file.columns))
        texts, declared = frozenset(reading.texts), dict(reading.declared)
        self._constants, self._meets, self._files = list(constants), meets, list(files)
        columns = (*names, *constants[0])
        if twice := [column for column in constants[0] if column in names]:
            raise CallProblem(
                f"{name} has a column {twice[0]} already", hint="read the files one by one"
            )
        first = files[0].dialect
        dialect = Dialect(first.delimiter, "utf-8", columns, 0, 0, 0, first.line_end)
        super().__init__(
            files[0].path, name, columns, texts=texts, declared=declared, dialect=dialect
        )
        if FILE in constants[0]:
            self._types[columns.index(FILE)] = TEXT
        for position, column in enumerate(names):
            # Where every file's store gives one type, that is it; else the values decide.
            kinds = {
                file._types.get(file.columns.index(column))
                for file in files
                if column in file.columns
            }
            kind = declared.get(column) or (
                kinds.pop() if len(kinds) == 1 and column not in texts else None
            )
            if kind is not None:
                self._types[position] = kind
            fields = [
                file.fields.get(file.columns.index(column))
                for file in files
                if column in file.columns
            ]
            known = [field for field in fields if field is not None]
            if (
                known
                and len(known) == len(fields)
                and all(field.type == known[0].type for field in known)
            ):
                self.fields[position] = known[0].with_nullable(
                    len(fields) < len(files) or any(field.nullable for field in known)
                )
        self.binary = _in_each(files, [file.binary for file in files])
        self.nested = _in_each(files, [file.nested for file in files])
        message = [
            f"{file.name} has no {', '.join(lost)}"
            for file in files
            if (lost := [column for column in names if column not in file.columns])
        ]
        self.notes += message

    @classmethod
    def of(
        cls,
        parts: Sequence[tuple[Path, str, dict[str, str | None]]],
        name: str,
        reading: ReadOptions,
        open_file: OpenFile,
        meets: Callable[[Path], bool],
    ) -> MultiFileSource:
        """The files at paths, each with its name and what that gives. Raises TableProblem,
        CallProblem."""
        plain = replace(reading, texts=(), declared={})
        files = [open_file(path, file, plain) for path, file, _ in parts]
        return cls(name, files, [constants for _, _, constants in parts], meets, reading)

    @property
    def sources(self) -> list[Source]:
        """See Source."""
        return self._files

    def reads(self, path: Path) -> bool:
        """See Source: a file that the pattern meets would be read the next time."""
        there = path.resolve()
        return there in self.files or self._meets(there)

    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Any]:
        """The pieces of each file in turn."""
        for parts in bundles(self._each(take), self._size_of):
            records = sum(part.records for part in parts)
            yield FileSplits(tuple(parts), parts[0].first_row, records)

    def _each(self, take: Take | None) -> Iterator[FileSplit]:
        before = 0
        for number, file in enumerate(self._files):
            rows = 0
            for piece in file.pieces(take):
                if self.progress is not None:
                    self.progress(len(getattr(piece, "data", b"")))
                yield FileSplit(number, before, piece, before + piece.first_row, piece.records)
                rows += piece.records
            before += rows

    def _size_of(self, part: FileSplit) -> tuple[int, float]:
        size = len(getattr(part.inner, "data", b"")) or self._files[part.file].path.stat().st_size
        return part.records, size

    def outline(self, split: FileSplits) -> FileSplits:
        """See Source."""
        parts = (
            replace(part, inner=self._files[part.file].outline(part.inner)) for part in split.parts
        )
        return replace(split, parts=tuple(parts))

    def read(self, piece: FileSplits, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of pieces, with the columns of all files."""
        batches = [self._read(part, wanted) for part in piece.parts]
        columns = [
            None if parts[0] is None else parts[0] if len(parts) == 1 else pa.concat_arrays(parts)
            for parts in zip(*(batch.columns for batch in batches), strict=True)
        ]
        self._refuse_guesses(columns)
        rows = np.concatenate([batch.rows for batch in batches])
        return Batch(rows, columns, tuple(bad for batch in batches for bad in batch.malformed))

    def _read(self, piece: FileSplit, wanted: Sequence[int] | None) -> Batch:
        item, constants = self._files[piece.file], self._constants[piece.file]
        chosen = list(range(len(self.columns)) if wanted is None else wanted)
        theirs = {
            position: item.columns.index(self.columns[position])
            for position in chosen
            if self.columns[position] in item.columns
        }
        batch = item.read(piece.inner, sorted(theirs.values()))
        columns: list[Any] = [None] * len(self.columns)
        for place in chosen:
            if place in theirs:
                # Files that keep a column in other types than one another have it as texts.
                columns[place] = (
                    batch.columns[theirs[place]]
                    if place in self.fields
                    else text_of(batch.columns[theirs[place]])
                )
            elif self.columns[place] in constants:
                value = pa.scalar(constants[self.columns[place]], pa.string())
                columns[place] = pa.repeat(value, batch.count)
            else:
                columns[place] = pa.nulls(
                    batch.count,
                    plain_type(self.fields[place].type) if place in self.fields else pa.string(),
                )
        bad = tuple(
            replace(record, row=record.row + piece.before, fault=f"{item.name}: {record.fault}")
            for record in batch.malformed
        )
        return Batch(batch.rows + piece.before, columns, bad)

    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """Lines or rows of all files together."""
        if isinstance(self._files[0], StoredSource):
            counted = 0
            for entry in self._files:
                entry.account(0, (), 0, take)
                counted += entry.counted if isinstance(entry, StoredSource) else 0
            message = rows + len(malformed)
            return (
                "every row of the store is accounted for",
                message == counted,
                f"{counted:,} in {len(self._files)} files = {number_of(message)}",
            )
        lines = sum(file.count_lines(take) for file in self._files if isinstance(file, CsvSource))
        headers = sum(file.dialect.lines for file in self._files)
        inside = breaks + sum(line_breaks(item.text.encode()) for item in malformed)
        message = headers + rows + len(malformed) + inside
        detail = (
            f"{lines:,} lines in {len(self._files)} files = {headers:,} of headers +"
            f" {number_of(rows)}"
        )
        detail += f" + {len(malformed):,} malformed" if malformed else ""
        detail += f" + {inside:,} line breaks inside values" if inside else ""
        return "every line of the file is accounted for", message == lines, detail


def files_called(pattern: Path) -> list[Path]:
    """The files that a pattern of names meets, in their order."""
    return sorted(path for path in pattern.parent.glob(pattern.name) if path.is_file())


def open_several(
    pattern: Path, name: str, reading: ReadOptions, open_file: OpenFile
) -> MultiFileSource:
    """The files that a pattern of names meets, in their order. Raises TableProblem where there is
    none."""
    paths = files_called(pattern)
    if not paths:
        raise TableProblem(f"no file is called as {name} says")
    names = [str(Path(name).parent / path.name) for path in paths]
    folder = pattern.parent.resolve()
    return MultiFileSource.of(
        [(path, file, {FILE: file}) for path, file in zip(paths, names, strict=True)],
        name,
        reading,
        open_file,
        lambda path: path.parent == folder and fnmatch(path.name, pattern.name),
    )


def _in_each(files: Sequence[Source], marked: Sequence[frozenset[str]]) -> frozenset[str]:
    """Columns that are marked in each file that has them."""
    pairs = list(zip(files, marked, strict=True))
    others = {column for file, own in pairs for column in {*file.columns} - own}
    return frozenset(column for own in marked for column in own if column not in others)
