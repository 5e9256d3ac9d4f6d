"""Tables of stores that know their types: Parquet, Arrow IPC, and what is kept as Arrow in a
temporary file.

A column's values are handed on as the store has them, beside the type that the language has for
them. Only the columns asked for are read, part by part.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import accumulate
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.arrow_values import is_binary, is_finest, plain, plain_type, type_of
from gravel.engine.sets import without
from gravel.language.types import TEXT, TIMESTAMP, ZONED, Type
from gravel.problems import TableProblem
from gravel.sources.csv.splitter import Take
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Malformed, Source, bundles
from gravel.words import number_of

_PART = 1 << 16  # rows of a part
_GROUPS_HELD = 2
_PLACE, _FEW_BYTES = 4, 1 << 12  # bytes of a place in a dictionary, and of a small one
Part = Callable[[int, list[str]], Any]  # (number, columns) -> a record batch or table


class StoredSplit(Struct, frozen=True):
    """Some parts of a stored table: the number of the first, its first source row, their rows with
    those that are malformed; how many parts."""

    number: int
    first_row: int
    records: int
    parts: int = 1


class StoredSource(Source):
    """A table in parts that are read by number. `kinds`: the type that the store gives a column,
    None where its values decide; `counted`: its rows by the store's own count; `bad`: malformed
    records by part; `encoded`: what of a part that was just read the store has as dictionaries."""

    def __init__(
        self,
        path: Path,
        name: str,
        columns: Sequence[str],
        kinds: Sequence[Type | None],
        sizes: Sequence[int],
        part: Part,
        counted: int,
        *,
        texts: frozenset[str] = frozenset(),
        declared: dict[str, Type] | None = None,
        bad: dict[int, tuple[Malformed, ...]] | None = None,
        notes: Sequence[str] = (),
        encoded: Callable[[int], dict[str, pa.DictionaryArray]] | None = None,
    ) -> None:
        super().__init__(path, name, tuple(columns), texts=texts, declared=declared)
        self.notes += notes
        self.counted = counted
        self._sizes, self._part, self._bad = list(sizes), part, bad or {}
        self._encoded = encoded
        for index, (column, kind) in enumerate(zip(columns, kinds, strict=True)):
            supplied = self.declared.get(column) or (TEXT if column in texts else kind)
            if supplied is not None:
                self._types[index] = supplied

    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Any]:
        """The parts in order; `take` is given the bytes of the file first."""
        self.refuse_changed()
        self._give(take)
        # What parts of a server's table take is not known: they stay apart.
        size = float("inf") if self.server else self.path.stat().st_size
        rows = max(1, sum(self._sizes))
        starts = accumulate(self._sizes, initial=1)
        every = map(StoredSplit, range(len(self._sizes)), starts, self._sizes)
        for group in bundles(
            every, lambda split: (split.records, size * max(1, split.records) / rows)
        ):
            if self.progress is not None:
                share = len(group) / len(self._sizes)
                self.progress(1 if self.server else max(1, int(size * share)))
            records = sum(split.records for split in group)
            yield replace(group[0], records=records, parts=len(group))
        self.refuse_changed()

    def read(self, piece: StoredSplit, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of a part. Raises TableProblem where the store cannot be read."""
        chosen = list(range(len(self.columns)) if wanted is None else wanted)
        names = [self.columns[index] for index in chosen]
        numbers = range(piece.number, piece.number + piece.parts)
        try:
            parts = [self._part(number, names) for number in numbers]
            values = [_one_array([part.column(name) for part in parts]) for name in names]
        except (OSError, pa.ArrowException) as error:
            raise TableProblem(
                f"{self.name} cannot be read: {str(error).splitlines()[0][:200]}"
            ) from None
        columns: list[Any] = [None] * len(self.columns)
        for position, array in zip(chosen, values, strict=True):
            columns[position] = plain(array)
        encoded = {}
        if self._encoded is not None and piece.parts == 1:
            known = self._encoded(piece.number)
            encoded = {
                place: known[self.columns[place]]
                for place in chosen
                if self.columns[place] in known
            }
        bad = tuple(item for number in numbers for item in self._bad.get(number, ()))
        rows = np.arange(piece.first_row, piece.first_row + piece.records)
        if bad:
            rows = without(rows, np.array([item.row for item in bad]))
        self._refuse_guesses(columns)
        return Batch(rows, columns, bad, encoded)

    def _give(self, take: Take | None) -> None:
        if take is None or self.snapshot:
            return
        try:
            with open(self.path, "rb") as file:
                while data := file.read(1 << 22):
                    take(data)
            self.refuse_changed()
        except OSError as error:
            raise TableProblem(
                f"{self.name} cannot be read: {(error.strerror or str(error)).lower()}"
            ) from None

    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """The rows read against the store's own count."""
        self._give(take)
        message = rows + len(malformed)
        bad = f" + {len(malformed):,} malformed" if malformed else ""
        return (
            "every row of the store is accounted for",
            message == self.counted,
            f"{self.counted:,} by the store = {number_of(rows)}{bad}",
        )


def counted_only(path: Path, name: str, shape: Any, counted: int) -> StoredSource:
    """A table of a database of which only the columns and the count are known, by the database
    itself."""
    result = StoredSource(
        path,
        name,
        shape.columns,
        [TEXT] * len(shape.columns),
        [counted],
        lambda _number, _columns: None,
        counted,
    )
    result.snapshot, result.store_key, result.not_null = True, shape.key, shape.not_null
    result.computed = shape.computed
    return result


def open_parquet(path: Path, name: str, reading: ReadOptions) -> StoredSource:
    """A Parquet file, a row group a part. Raises TableProblem."""
    import pyarrow.parquet as pq

    with _opened(lambda: pq.ParquetFile(path), name, "Parquet") as file:
        metadata, schema = file.metadata, file.schema_arrow
    dictionaries = _encoded_columns(metadata, schema)
    open_again = partial(pq.ParquetFile, path, metadata=metadata, read_dictionary=dictionaries)
    # Large groups are handed on in several parts, so that several threads have work.
    parts = [
        (group, start, min(_PART, metadata.row_group(group).num_rows - start))
        for group in range(metadata.num_row_groups)
        for start in range(0, metadata.row_group(group).num_rows, _PART)
    ]
    lock = Lock()

    # The columns of the groups that were read last; texts of a dictionary are there by the rows of
    # their parts too.
    held: dict[int, dict[Any, Any]] = {}
    sound: set[tuple[int, str]] = set()  # parts and columns whose texts have been looked at

    def part(number: int, columns: list[str]) -> pa.Table:
        group, start, length = parts[number]
        with lock:  # a reader is not for several threads
            if group not in held and len(held) == _GROUPS_HELD:
                del held[next(iter(held))]
            known = held.setdefault(group, {})
            missing = [column for column in columns if column not in known]
            if missing:
                fresh = _OPEN.file(open_again).read_row_group(group, columns=missing)
                known.update((column, fresh.column(column)) for column in missing)
            chosen = [known[column].slice(start, length) for column in columns]
        for index, (column, values) in enumerate(zip(columns, chosen, strict=True)):
            if (number, column) not in sound:
                _refuse_bad_text(values, f"{name}: {column}", sum(sizes[:number]))
                sound.add((number, column))
            if column in dictionaries:
                if (column, start) not in known:
                    known[column, start] = plain(_one_array([values]))
                chosen[index] = known[column, start]
        return pa.table(chosen, names=columns)

    def of_dictionaries(number: int) -> dict[str, pa.DictionaryArray]:
        group, start, length = parts[number]
        with lock:
            known = held.get(group, {})
            arrays = {column: known[column] for column in dictionaries if column in known}
        return {
            column: values.slice(start, length).chunk(0)
            for column, values in arrays.items()
            if values.num_chunks == 1
        }

    sizes = [length for _, _, length in parts]
    result = StoredSource(
        path,
        name,
        _names(schema, name),
        _kinds(schema),
        sizes,
        part,
        metadata.num_rows,
        texts=frozenset(reading.texts),
        declared=dict(reading.declared),
        encoded=of_dictionaries,
    )
    _know(result, schema)
    return result


class _OpenFiles:
    """The files that were read last, open: a process may have some hundreds only. One that is read
    by a thread is closed when that is done."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, Lock()
        self._files: dict[Callable[[], Any], Any] = {}

    def file(self, open_it: Callable[[], Any]) -> Any:
        """What `open_it` has opened before, or opens now."""
        with self._lock:
            file = self._files.pop(open_it, None) or open_it()
            if len(self._files) == self._most:
                del self._files[next(iter(self._files))]
            self._files[open_it] = file
            return file


_OPEN = _OpenFiles(64)


def _encoded_columns(metadata: Any, schema: pa.Schema) -> list[str]:
    """The columns of texts that a Parquet file has as dictionaries throughout: not those of which
    it writes the values where there are too many of them. Places in a dictionary take 4 bytes at
    most."""
    groups = [metadata.row_group(index) for index in range(metadata.num_row_groups)]
    chunks = {
        position: [group.column(position) for group in groups]
        for position in range(metadata.num_columns)
    }
    return [
        every[0].path_in_schema
        for every in chunks.values()
        if every
        and every[0].path_in_schema in schema.names
        and "." not in every[0].path_in_schema  # which may be the path of a nested one
        and pa.types.is_string(schema.field(every[0].path_in_schema).type)
        and all(
            "RLE_DICTIONARY" in chunk.encodings
            and chunk.total_uncompressed_size <= _PLACE * chunk.num_values + _FEW_BYTES
            for chunk in every
        )
    ]


def _refuse_bad_text(values: pa.ChunkedArray, column: str, before: int) -> None:
    """Raises TableProblem where a column of texts holds bytes that are no UTF-8, which a Parquet
    file may do; `before` rows stand before these."""
    kind = values.type.value_type if pa.types.is_dictionary(values.type) else values.type
    if not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
        return
    try:
        values.validate(full=True)
    except pa.ArrowInvalid:
        texts = pa.chunked_array([plain(chunk) for chunk in values.chunks], pa.string())
        for row, value in enumerate(texts.cast(pa.large_binary()).to_pylist(), before + 1):
            try:
                (value or b"").decode("utf-8")
            except UnicodeDecodeError as error:
                raise TableProblem(
                    f"{column} is not UTF-8 in row {row:,}: byte {value[error.start]:#04x}",
                    hint="write the file anew with the column as texts, or as bytes (BINARY)",
                ) from None
        raise


def _one_array(parts: Sequence[Any]) -> pa.Array:
    """A column of several parts as one array. Raises ArrowInvalid where its texts exceed 2 GB."""
    if len(parts) == 1 and isinstance(parts[0], pa.Array):
        return parts[0]
    chunks = [
        chunk
        for part in parts
        for chunk in (part.chunks if isinstance(part, pa.ChunkedArray) else [part])
    ]
    column = pa.chunked_array(chunks, parts[0].type).combine_chunks()
    if isinstance(column, pa.ChunkedArray):
        if column.num_chunks > 1:
            raise pa.ArrowInvalid("a column has more than 2 GB of text in one part")
        return column.chunk(0)
    return column


def _know(table: StoredSource, schema: pa.Schema) -> None:
    """Keep what the store says of its columns."""
    table.fields = dict(enumerate(schema))
    table.binary = _binary(schema)
    table.fallback = {
        field.name: TIMESTAMP if plain_type(field.type).tz is None else ZONED
        for field in schema
        if is_finest(field.type)
    }
    table.nested = frozenset(field.name for field in schema if pa.types.is_nested(field.type))


def _binary(schema: pa.Schema) -> frozenset[str]:
    return frozenset(field.name for field in schema if is_binary(field.type))


def open_arrow(path: Path, name: str, reading: ReadOptions) -> StoredSource:
    """An Arrow IPC file, a record batch a part. Raises TableProblem."""
    file = _opened(lambda: pa.ipc.open_file(path), name, "Arrow IPC")
    schema = file.schema
    sizes = [_sound_batch(file, index, name).num_rows for index in range(file.num_record_batches)]

    def part(number: int, columns: list[str]) -> pa.RecordBatch:
        with pa.OSFile(str(path)) as source:
            return pa.ipc.open_file(source).get_batch(number)

    result = StoredSource(
        path,
        name,
        _names(schema, name),
        _kinds(schema),
        sizes,
        part,
        sum(sizes),
        texts=frozenset(reading.texts),
        declared=dict(reading.declared),
    )
    _know(result, schema)
    return result


def _sound_batch(file: Any, index: int, name: str) -> pa.RecordBatch:
    """A record batch, looked through before anything reads it: offsets that point elsewhere would
    end the process. Raises TableProblem."""
    try:
        batch = file.get_batch(index)
        batch.validate(full=True)
    except (pa.ArrowException, OSError) as error:
        raise TableProblem(
            f"{name} is not a sound Arrow IPC file: {str(error).splitlines()[0][:200]}"
        ) from None
    return batch


def _opened(work: Callable[[], Any], name: str, what: str) -> Any:
    try:
        return work()
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    except pa.ArrowException as error:
        raise TableProblem(
            f"{name} is not a sound {what} file: {str(error).splitlines()[0][:200]}"
        ) from None


def _kinds(schema: pa.Schema) -> list[Type | None]:
    """The types that columns have by their store; moments of nanoseconds have one by their
    values."""
    return [None if is_finest(field.type) else type_of(field.type) for field in schema]


def _names(schema: pa.Schema, name: str) -> list[str]:
    names = list(schema.names)
    twice = next((item for index, item in enumerate(names) if item in names[:index]), None)
    if twice is not None or not names:
        raise TableProblem(f"{name} has two columns {twice}" if names else f"{name} has no columns")
    return names
