"""What the executors do. Nothing here needs Spark: a task takes numbers of splits, or slices, in
batches of Arrow, and gives records.

A record is (key, range, place, data): of key PART a slice of what a split or a task came to, of key
BESIDE of what a split has beside a state, or a range beside its groups, of key FAILURE what it
failed with, of others a slice of distinct values. What a task gives depends on its rows alone, so
that one that is run again gives the same bytes.
"""

from __future__ import annotations

import platform
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.distinct import Counted
from gravel.engine.engine import OfBatch, RowChoice
from gravel.engine.hashed_rows import RowRange, no_rows
from gravel.engine.reduction import MergedGroups
from gravel.kernels.hashes import ascending
from gravel.problems import Problem, TableProblem
from gravel.sources.opening import open_table
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import FileState, InferredTypeRefuted, Source
from gravel.spark.travel import joined, joined_rows, packed, sliced, unpacked
from gravel.version import __version__

PART, FAILURE, BESIDE = -1, -2, -3
GROUPS = 0
_SLICE_BITS = 16  # of the place of a slice of groups: those of its number
_MOST_GROUPS = 1 << 16  # that a task puts together before they go on
_MOST_OF_ONE = 4 << 20  # bytes of a record
SCHEMA = "key int, range int, place bigint, data binary"
_FIELDS = pa.schema(
    [("key", pa.int32()), ("range", pa.int32()), ("place", pa.int64()), ("data", pa.binary())]
)


class Reference(Struct, frozen=True):
    """How a table is opened again anywhere: what names it, from a folder, how it is read, and which
    files it was: another file of the same name is another table. `snapshot`: the folder with the
    rows of a table that no file names; `choice`: which rows are read."""

    reference: str
    folder: str
    reading: ReadOptions
    files: tuple[FileState, ...]
    snapshot: str = ""
    choice: RowChoice | None = None

    def open(self) -> Source:
        """The table. Raises TableProblem where its files have another size here."""
        table = open_table(self.snapshot or self.reference, self.reading, Path(self.folder))
        table.name = self.reference
        sizes = [state[1] if state else 0 for state in self.files]
        mine = [source.state[1] if source.state else 0 for source in table.sources]
        if mine != sizes:
            raise TableProblem(
                f"the executors have another {self.reference}:"
                f" {sum(mine):,} bytes there, {sum(sizes):,} here",
                hint="put it where all of them see the same file",
            )
        return table if self.choice is None else self.choice.of(table)


class MapTask(Struct, frozen=True):
    """Work on splits of a table: of each, or as one state of all; then its distinct values are cut
    into so many ranges."""

    table: Reference
    splits: tuple[Any, ...]
    work: Callable[[Any, Any], Any] | None = None
    state: Any = None
    wanted: tuple[int, ...] | None = None
    ranges: int = 1
    beside: bool = False


def run_map(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Work on the splits whose numbers come in; the order of a task's splits is the table's."""
    task: MapTask = unpacked(data)
    place = 0
    try:
        table = opened(packed(task.table))
        for batch in batches:
            for place in batch.column(0).to_pylist():
                split = task.splits[place]
                if task.work is not None:
                    yield from slices_of(PART, place, task.work(table, split))
                else:
                    part = task.state.map(table.read(split, task.wanted))
                    task.state.add(part)
                    if task.beside and part.beside is not None:
                        yield from slices_of(BESIDE, place, part.beside)
        if task.state is not None:
            yield from _of_state(task.state, task.ranges, place)
    except (Problem, InferredTypeRefuted) as problem:
        yield record(FAILURE, 0, place, packed(problem))


class ReduceTask(Struct, frozen=True):
    """Work on splits of a table, whose groups are cut into so many ranges; `first`: the place of
    the first split among those of several tables."""

    table: Reference
    splits: tuple[Any, ...]
    work: OfBatch[tuple[Any, Any]]
    ranges: int
    first: int = 0


def run_reduce(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """What the splits whose numbers come in tell, and slices of their groups, put together, range
    by range."""
    task: ReduceTask = unpacked(data)
    place = 0
    groups: MergedGroups[Any] = MergedGroups()
    try:
        table = opened(packed(task.table))
        for batch in batches:
            for number in batch.column(0).to_pylist():
                place = task.first + number
                part, of_split = task.work(table, task.splits[number])
                yield from slices_of(PART, place, part)
                groups.add(of_split)
                if groups.size > _MOST_GROUPS:
                    yield from _of_groups(groups.finish(), task.ranges, place)
                    groups = MergedGroups()
        yield from _of_groups(groups.finish(), task.ranges, place)
    except (Problem, InferredTypeRefuted) as problem:
        yield record(FAILURE, 0, place, packed(problem))


def _of_groups(groups: Any, ranges: int, place: int) -> Iterator[pa.RecordBatch]:
    """Groups, if there are any, in slices, whose places tell their order too."""
    if groups is None:
        return
    for number, part in groups.cut(ranges) if ranges > 1 else [(0, groups)]:
        data = packed(part)
        for slice_number, start in enumerate(range(0, len(data), _MOST_OF_ONE)):
            piece = data[start : start + _MOST_OF_ONE]
            yield record(GROUPS, number, place << _SLICE_BITS | slice_number, piece)


class FinishTask(Struct, frozen=True):
    """What is done with all groups of a range; `ranges`: of the further groups that it gives; None:
    it is the end."""

    finish: Callable[[Any], Any] | None
    ranges: int | None = None


def run_finish(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """What slices of groups come to, those of a range one after another, put together, or further
    groups in slices; other records as they are."""
    task: FinishTask = unpacked(data)
    number = 0
    try:
        for (number, key), records in groupby(_records(batches), itemgetter(1, 0)):
            if key != GROUPS:
                yield from (record(*item) for item in records)
                continue
            first, *later = [
                unpacked(b"".join(stream for *_, stream in slices))
                for _, slices in groupby(records, lambda item: item[2] >> _SLICE_BITS)
            ]
            merged = first.merge(later)
            result = merged if task.finish is None else task.finish(merged)
            if task.ranges is None:
                yield from slices_of(GROUPS, number, result)
            else:
                told, further = result
                yield from slices_of(BESIDE, number, told)
                yield from _of_groups(further, task.ranges, number)
    except Problem as problem:
        yield record(FAILURE, 0, number, packed(problem))


def _of_state(state: Any, ranges: int, place: int) -> Iterator[pa.RecordBatch]:
    distinct, state.distinct = state.distinct, dict.fromkeys(state.distinct)
    for key, values in enumerate(distinct.values()):
        for number, data in sliced(values.pieces(), ranges):
            yield record(key, number, place, data)
    yield from slices_of(PART, place, state)


@lru_cache(maxsize=4)
def opened(reference: bytes) -> Source:
    """The table of a packed reference."""
    table: Source = unpacked(reference).open()
    return table


class RangeTask(Struct, frozen=True):
    """Figures of distinct values: by their key, what is asked of them by the question's number.
    `merged`: equal values are put together first."""

    figures: dict[int, dict[int, Callable[[Counted], Any]]]
    merged: bool = True


def run_ranges(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Figures of slices, those of a key and range one after another: a record of the question's
    number and the range for each."""
    task: RangeTask = unpacked(data)
    for key, number, values in _ranges(batches, task.merged):
        for question, figures in task.figures[key].items():
            yield record(question, number, 0, packed(figures(values)))


class ExchangeTask(Struct, frozen=True):
    """Other hashes for distinct values, which are cut into so many ranges of these."""

    rekeyed: Callable[[Counted], Counted]
    ranges: int


def run_exchange(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Slices of values by their new hashes, from those of one key by their old ones."""
    task: ExchangeTask = unpacked(data)
    for _, old, values in _ranges(batches, True):
        piece = task.rekeyed(values)
        order = ascending(piece.first)
        first, second, counts, rows, *extra = (array[order] for array in piece.arrays)
        piece = Counted(first, second, counts, rows, tuple(extra))
        for number, stream in sliced(iter([piece]), task.ranges):
            yield record(0, number, old, stream)


class MatchTask(Struct, frozen=True):
    """Work on the rows of two tables whose hashes are in one range; they have so many arrays beside
    hashes and numbers."""

    work: Callable[[RowRange, RowRange], Any]
    others: int


def run_match(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """The work on slices of rows, those of a range one after another: of key 0 those of the first
    table, of key 1 those of the second."""
    task: MatchTask = unpacked(data)
    for number, group in groupby(_records(batches), itemgetter(1)):
        sides: tuple[list[bytes], list[bytes]] = [], []
        for key, *_, stream in group:
            sides[key].append(stream)
        before, after = (
            joined_rows(streams) if streams else no_rows(task.others) for streams in sides
        )
        yield from slices_of(PART, number, task.work(before, after))


def _records(batches: Iterable[pa.RecordBatch]) -> Iterator[tuple[int, int, int, bytes]]:
    for batch in batches:
        yield from zip(*(column.to_pylist() for column in batch.columns), strict=True)


def _ranges(batches: Iterable[pa.RecordBatch], merged: bool) -> Iterator[tuple[int, int, Counted]]:
    """The key, the range and the values of slices that come one after another."""
    for (key, number), group in groupby(_records(batches), itemgetter(0, 1)):
        yield key, number, joined([stream for *_, stream in group], merged)


def run_versions(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """What this executor runs on."""
    for batch in batches:
        if batch.num_rows:
            yield record(PART, 0, 0, packed(versions()))


def versions() -> dict[str, str]:
    """What must be the same on every machine for figures to be the same."""
    python = ".".join(platform.python_version_tuple()[:2])
    return {
        "gravel": __version__,
        "Python": python,
        "pyarrow": pa.__version__,
        "numpy": np.__version__,
    }


def slices_of(key: int, place: int, value: Any) -> Iterator[pa.RecordBatch]:
    """A value in slices, which are put together where they come to."""
    data = packed(value)
    for number, start in enumerate(range(0, len(data), _MOST_OF_ONE)):
        yield record(key, number, place, data[start : start + _MOST_OF_ONE])


def record(key: int, number: int, place: int, data: bytes) -> pa.RecordBatch:
    """A record; `number`: of a range, or of a slice."""
    return pa.record_batch([[key], [number], [place], [data]], schema=_FIELDS)
