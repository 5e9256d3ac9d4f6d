"""What the executors do with rows on their way from one stage of work to the next. Records are as
in `tasks`; those of key ROWS are slices of rows, those of key SAMPLE some of the rows that they are
to be sorted with."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from operator import itemgetter
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.arrangement import (
    HASH,
    PLACE,
    Arrangement,
    GroupedRows,
    SortedRows,
    by_hash,
    by_place,
    with_columns,
)
from gravel.engine.engine import RowStage
from gravel.engine.external import OUT
from gravel.kernels.arrays import to_arrow
from gravel.problems import Problem
from gravel.sources.source import InferredTypeRefuted
from gravel.spark.tasks import FAILURE, PART, Reference, opened, record, slices_of
from gravel.spark.travel import edges_of, packed, read_stream, stream_of, unpacked

ROWS, SAMPLE = 0, 1
_AT = "at"  # the column that tells where a row will stand
_MOST_OF_ONE = 8 << 20  # bytes of a slice, before they are compressed
_SAMPLED = 64  # rows of a batch that a sort's ranges are cut by


class BeginTask(Struct, frozen=True):
    """The first stage, on splits of a table; rows that are to be grouped are cut into so many
    ranges of their hashes."""

    stage: RowStage[Any]
    table: Reference
    splits: tuple[Any, ...]
    ranges: int


def run_begin(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """The stage on the splits whose numbers come in."""
    task: BeginTask = unpacked(data)
    place = 0
    try:
        table = opened(packed(task.table))
        for batch in batches:
            for place in batch.column(0).to_pylist():
                part, rows = task.stage.work.begin(table, task.splits[place])
                yield from _worked(task.stage.then, place, part, rows, task.ranges)
    except (Problem, InferredTypeRefuted) as problem:
        yield record(FAILURE, 0, place, packed(problem))


class GoOnTask(Struct, frozen=True):
    """A later stage, on rows of which each range is a batch."""

    stage: RowStage[Any]
    ranges: int


def run_go_on(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """The stage on slices of rows, those of a batch one after another."""
    task: GoOnTask = unpacked(data)
    number = 0
    try:
        for number, group in groupby(_slices(batches), itemgetter(0)):
            rows = _joined([read_stream(stream) for *_, stream in group])
            rows = rows.take(pc.sort_indices(rows.column(_AT)))
            part, going = task.stage.work.go_on(number, rows)
            yield from _worked(task.stage.then, number, part, going, task.ranges)
    except Problem as problem:
        yield record(FAILURE, 0, number, packed(problem))


def _worked(
    then: Arrangement | None, place: int, part: Any, rows: pa.RecordBatch | None, ranges: int
) -> Iterator[pa.RecordBatch]:
    """What a stage tells of a batch, with how many rows go on; these, with their places in it."""
    yield from slices_of(PART, place, (part, 0 if rows is None else rows.num_rows))
    if rows is None or not rows.num_rows:
        return
    rows = with_columns(rows, {PLACE: to_arrow(np.arange(rows.num_rows))})
    if isinstance(then, GroupedRows):
        rows = rows.take(to_arrow(by_hash(rows)))
        cuts = np.searchsorted(rows.column(HASH).to_numpy(), edges_of(ranges))
        yield from _cut(rows, [0, *cuts.tolist(), rows.num_rows], range(ranges), place)
        return
    yield from _cut(rows, [0, rows.num_rows], [0], place)
    if not isinstance(then, SortedRows):
        return
    some = np.linspace(0, rows.num_rows - 1, min(_SAMPLED, rows.num_rows)).astype(np.int64)
    keys = rows.select([*then.columns, PLACE]).take(to_arrow(some))
    yield from slices_of(SAMPLE, place, (place, keys))


class DecideTask(Struct, frozen=True):
    """Groups to decide on; `firsts`: the place of the first row of each batch that rows come
    from."""

    decide: Callable[[pa.RecordBatch], tuple[pa.RecordBatch, Any]]
    firsts: np.ndarray


def run_decide(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """What becomes of slices of rows, those of a range of hashes one after another: slices by the
    batches that they will be in."""
    task: DecideTask = unpacked(data)
    for number, group in groupby(_slices(batches), itemgetter(0)):
        placed = [_placed(stream, task.firsts[place]) for _, place, stream in group]
        rows, part = task.decide(_joined(placed))
        yield from slices_of(PART, number, part)
        rows = rows.take(to_arrow(by_place(rows)))
        yield from _dealt(rows, rows.column(PLACE).to_numpy(), number)


class CutTask(Struct, frozen=True):
    """Rows to cut into ranges by others that begin a range each, sorted; `firsts` as in
    DecideTask."""

    then: SortedRows
    bounds: pa.RecordBatch
    firsts: np.ndarray


def run_cut(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Slices of rows by the ranges of the order that they are in, and how many are in each, from
    the slices of one batch after another."""
    task: CutTask = unpacked(data)
    many = task.bounds.num_rows
    for number, group in groupby(_slices(batches), itemgetter(1)):
        rows = _joined([_placed(stream, task.firsts[number]) for *_, stream in group])
        keys = rows.select(task.bounds.schema.names)
        order = task.then.order(pa.Table.from_batches([task.bounds, keys]))
        ends = np.flatnonzero(order < many) - np.arange(many)
        rows = rows.take(to_arrow(order[order >= many] - many))
        cuts = [0, *ends.tolist(), rows.num_rows]
        yield from slices_of(PART, number, np.diff(cuts))
        yield from _cut(rows, cuts, range(many + 1), number)


class SortTask(Struct, frozen=True):
    """Rows to sort; `firsts`: the place of the first row of each range once all are sorted."""

    then: SortedRows
    firsts: np.ndarray


def run_sort(data: bytes, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Slices of rows, those of a range one after another, in order: by the batches that they will
    be in."""
    task: SortTask = unpacked(data)
    for number, group in groupby(_slices(batches), itemgetter(0)):
        rows = _joined([read_stream(stream) for *_, stream in group])
        rows = rows.take(to_arrow(task.then.order(pa.Table.from_batches([rows]))))
        yield from _dealt(rows, task.firsts[number] + np.arange(rows.num_rows), number)


def _dealt(rows: pa.RecordBatch, places: np.ndarray, number: int) -> Iterator[pa.RecordBatch]:
    """Rows in order, by the batches that their places are in once all are."""
    rows = with_columns(rows, {_AT: to_arrow(places)})
    numbers = range(int(places[0]) // OUT, int(places[-1]) // OUT + 1)
    starts = np.searchsorted(places, np.array(numbers) * OUT)
    yield from _cut(rows, [*starts.tolist(), len(places)], numbers, number)


def _cut(
    rows: pa.RecordBatch, cuts: list[int], numbers: Iterable[int], place: int
) -> Iterator[pa.RecordBatch]:
    """Slices of rows between some cuts, each with its number as its range."""
    most = max(1, _MOST_OF_ONE // max(1, rows.nbytes // max(1, rows.num_rows)))
    for number, start, end in zip(numbers, cuts, cuts[1:], strict=False):
        for begin in range(start, end, most):
            part = rows.slice(begin, min(most, end - begin))
            yield record(ROWS, number, place, stream_of(part, "lz4"))


def _placed(stream: bytes, first: int) -> pa.RecordBatch:
    """Rows of a batch with their places among those of all."""
    rows = read_stream(stream)
    index = rows.schema.get_field_index(PLACE)
    return rows.set_column(index, PLACE, to_arrow(rows.column(index).to_numpy() + first))


def rows_of(streams: list[pa.Buffer]) -> pa.RecordBatch | None:
    """The rows of the slices of a place, as they came; None where there is none."""
    batches = [read_stream(stream).drop_columns([PLACE]) for stream in streams]
    return _joined(batches) if batches else None


def _joined(batches: list[pa.RecordBatch]) -> pa.RecordBatch:
    (rows,) = pa.Table.from_batches(batches).combine_chunks().to_batches()
    return rows


def _slices(batches: Iterable[pa.RecordBatch]) -> Iterator[tuple[int, int, bytes]]:
    """Slices of rows: the range, the place, the stream of each."""
    for batch in batches:
        yield from zip(*(batch.column(index).to_pylist() for index in (1, 2, 3)), strict=True)
