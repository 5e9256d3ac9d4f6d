"""Spark as the engine: it schedules, shuffles and tries again; what is done with a batch is
Gravel's own."""

from __future__ import annotations

import atexit
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial, reduce
from itertools import groupby
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import pyarrow as pa
from msgspec.structs import replace
from py4j.protocol import Py4JError
from pyspark import StorageLevel
from pyspark.errors import PySparkException
from pyspark.sql import DataFrame, functions

from gravel.engine.distinct import Counted, range_size
from gravel.engine.engine import (
    BatchWork,
    DistinctValues,
    Question,
    Reduction,
    RowChoice,
    RowStage,
    State,
)
from gravel.engine.hashed_rows import HashedRows, RowRange
from gravel.engine.threads import THREADS
from gravel.problems import CallProblem, TableProblem
from gravel.sources import opening
from gravel.sources.arrow import StoredSource
from gravel.sources.csv.reader import CsvSource
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import FileState, Source
from gravel.spark.catalogue import write_snapshot
from gravel.spark.row_tasks import ROWS, BeginTask, rows_of, run_begin
from gravel.spark.session import open_session, reason
from gravel.spark.stages import Run, go_on
from gravel.spark.tasks import (
    BESIDE,
    FAILURE,
    GROUPS,
    PART,
    SCHEMA,
    ExchangeTask,
    FinishTask,
    MapTask,
    MatchTask,
    RangeTask,
    ReduceTask,
    Reference,
    run_exchange,
    run_finish,
    run_map,
    run_match,
    run_ranges,
    run_reduce,
    versions,
)
from gravel.spark.travel import packed, unpacked

T = TypeVar("T")
Result = TypeVar("Result")
RANGES = 16  # of hashes that distinct values are cut into, at most, below _RANGE bytes for each
_BYTES_OF_RANGE = 4 << 20  # of a table; each range is a task, which takes a while to begin
_SPLITS = 16  # of a task, once there are tasks for many executors
_AT_ONCE = 16  # splits of which the results are here at one time, where they may be rows
_TOLD_AT_ONCE = 32  # of what several stages made: all that is kept of them is read each time
_AT_ONCE_BYTES = 64 << 20
_TASKS = 8
_RANGE = 64 << 20  # bytes of a table for each range of its rows
_RANGES_OF_TASK = 4
_PART = 1 << 28  # bytes of a table for each part of the figures of its distinct values
_MOST_SENT = 64 << 20  # bytes that go to each task
_READS = (".parquet", ".arrow")


def open_table(reference: str, reading: ReadOptions, address: str, folder: Path) -> Source:
    """A table that Spark at an address reads. Raises CallProblem for one that executors cannot read
    in parts, TableProblem where there is no Spark, or no such table."""
    if reference.startswith(opening.CATALOGUE):
        local = address.startswith("local")
        path, notes = write_snapshot(open_session(address), reference, folder, local)
        table = opening.open_table(str(path), reading)
        table.server, _, table.part = reference.partition(":")
        table.notes += notes
        for source in (table, *table.sources):
            source.name, source.snapshot = reference, True
        files = Reference(reference, str(path), reading, _states(table), str(path))
    else:
        table = opening.open_table(reference, reading, folder)
        _refuse(table, reference)
        files = Reference(reference, str(folder.absolute()), reading, _states(table))
    size = sum(source.state[1] for source in table.sources if source.state)
    ranges = max(1, min(RANGES, size // _BYTES_OF_RANGE), size // _RANGE)
    table.engine = SparkEngine(address, files, ranges)
    return table


def _states(table: Source) -> tuple[FileState, ...]:
    return tuple(source.state for source in table.sources)


def _refuse(table: Source, reference: str) -> None:
    for source in table.sources:
        how = source.reading
        if reference == "-" or source.server or source.snapshot:
            why = "it is not a file of its own"
        elif isinstance(source, CsvSource) and source.origin != source.path:
            why = "it is unpacked, or written anew, before it is read"
        elif how.decimal != "." or how.group or how.dates:
            why = "its numbers or days are converted as it is opened"
        elif isinstance(source, CsvSource) or (
            isinstance(source, StoredSource) and source.path.suffix.lower() in _READS
        ):
            continue
        else:
            why = "it is not CSV, Parquet or Arrow IPC"
        raise _unread(source, why)


def _unread(source: Source, why: str) -> CallProblem:
    return CallProblem(
        f"{source.name} cannot be read in parts by Spark's executors: {why}",
        hint="gravel query \"SELECT * FROM '…'\" --write t.parquet writes what they can read",
    )


class TaskRecord(NamedTuple):
    """A record of a task; see `tasks`."""

    key: int
    range: int
    place: int
    data: pa.Buffer


class ShuffledValues:
    """The distinct values of a key of a state, or its rows, where the executors keep them.
    `merged`: equal values are put together before anything is asked of them; `others`: the arrays
    of rows beside their hashes and numbers."""

    def __init__(
        self, engine: SparkEngine, frame: DataFrame, key: int, merged: bool = True, others: int = 0
    ) -> None:
        self.engine, self.frame, self.key, self.merged = engine, frame, key, merged
        self.others = others
        self.beside: list[ShuffledValues] = []
        self._length: int | None = None

    def __len__(self) -> int:
        if self._length is None:
            # One job for all of a state: another will be asked for next.
            sizes = self.engine.ask([Question(item, range_size, sum) for item in self.beside])
            for item, size in zip(self.beside, sizes, strict=True):
                item._length = size
        assert self._length is not None
        return self._length


class KeptRecords:
    """The records of tasks on the executors' disks; see Records."""

    def __init__(self, frame: DataFrame) -> None:
        self.frame = frame.persist(StorageLevel.DISK_ONLY)
        atexit.register(_let_go, self.frame)

    def told(self, key: int, count: int) -> Iterator[Any]:
        """See Records. What it tells may be as large as the table: it comes some places at a
        time."""
        for start in range(0, count, _TOLD_AT_ONCE):
            places = f"place BETWEEN {start} AND {start + _TOLD_AT_ONCE - 1}"
            chosen = self.frame.where(f"key IN ({key}, {FAILURE}) AND {places}")
            yield from _values(_sorted(chosen))

    def told_by_size(self, key: int) -> Iterator[Any]:
        """Likewise, of all places, so many at a time as have _AT_ONCE_BYTES together."""
        chosen = self.frame.where(f"key IN ({key}, {FAILURE})")
        sizes = chosen.groupBy("place").agg(functions.sum(functions.length("data")))
        with _telling():
            places, lengths = (column.to_pylist() for column in sizes.toArrow().columns)
        first, held = 0, 0
        for place, size in sorted(zip(places, lengths, strict=True)):
            if held and held + size > _AT_ONCE_BYTES:
                yield from _values(_sorted(chosen.where(f"place >= {first} AND place < {place}")))
                first, held = place, 0
            held += size
        yield from _values(_sorted(chosen.where(f"place >= {first}")))

    def worked(self, count: int) -> Iterator[tuple[Any, pa.RecordBatch | None]]:
        """See Records."""
        for start in range(0, count, _TOLD_AT_ONCE):
            places = f"place BETWEEN {start} AND {start + _TOLD_AT_ONCE - 1}"
            chosen = self.frame.where(f"key IN ({ROWS}, {PART}, {FAILURE}) AND {places}")
            for _, records in groupby(_sorted(chosen), lambda record: record.place):
                of_place = list(records)
                ((part, _),) = _values(record for record in of_place if record.key != ROWS)
                yield part, rows_of([item.data for item in of_place if item.key == ROWS])

    def then(self, run: Callable[..., Any], ranges: int | None) -> KeptRecords:
        """See Records."""
        rows = self.frame.where(f"key = {ROWS}")
        if ranges is not None:
            parts = min(ranges, max(_TASKS, ranges // _RANGES_OF_TASK))
            rows = rows.repartition(parts, "range").sortWithinPartitions("range", "place")
        return KeptRecords(rows.mapInArrow(run, SCHEMA))


class SparkEngine:
    """The engine at an address, for the table of a reference; see Engine. `ranges`: into how many
    ranges of hashes distinct values are cut."""

    def __init__(self, address: str, table: Reference, ranges: int) -> None:
        self.address = address
        self.session, self.table, self.ranges = open_session(address), table, ranges
        self.description = f"Spark {self.session.version}" + "".join(
            f", {name} {version}" for name, version in versions().items() if name != "gravel"
        )
        self._splits: tuple[Any, ...] | None = None

    def choosing(self, choice: RowChoice) -> SparkEngine:
        """See Engine."""
        return SparkEngine(self.address, replace(self.table, choice=choice), self.ranges)

    def map_splits(
        self,
        table: Source,
        work: Callable[[Any, Any], T],
        wanted: Sequence[int] | None = None,
        splits: Iterable[Any] | None = None,
    ) -> Generator[T, None, None]:
        """See Engine. What the executors make may be as large as the table: it comes some splits at
        a time."""
        outlines = self._outlines(table) if splits is None else self._outlined(table, splits)
        for start in range(0, len(outlines), _AT_ONCE):
            task = MapTask(self.table, outlines[start : start + _AT_ONCE], work=work)
            yield from self._collected(self._mapped(run_map, task, 1), table)

    def run(
        self,
        state: State[Any],
        table: Source,
        wanted: Sequence[int] | None = None,
        beside: Callable[[Any], None] | None = None,
    ) -> None:
        """See Engine."""
        splits = self._outlines(table)
        if not splits:
            return THREADS.run(state, table, wanted)  # there is no batch
        columns = None if wanted is None else tuple(wanted)
        # Rows are matched with those of another table, range by range: both are cut alike, whatever
        # their sizes.
        rows = any(isinstance(values, HashedRows) for values in state.distinct.values())
        ranges = RANGES if rows else self.ranges
        task = MapTask(self.table, splits, None, state, columns, ranges, beside is not None)
        frame = self._mapped(run_map, task)
        if state.distinct:
            frame = frame.repartition(ranges, "range")
        if state.distinct or beside is not None:
            # Made once, whatever is asked of it.
            records = KeptRecords(frame)
            frame = records.frame
        for part in self._collected(frame.where(f"key IN ({PART}, {FAILURE})"), table):
            state.merge(part)
        if beside is not None:
            for told in records.told(BESIDE, len(splits)):
                beside(told)
        others = [getattr(values, "others", 0) for values in state.distinct.values()]
        shuffled = [
            ShuffledValues(self, frame, key, others=count) for key, count in enumerate(others)
        ]
        for key, values in zip(list(state.distinct), shuffled, strict=True):
            values.beside = shuffled
            state.distinct[key] = values

    def run_stages(
        self,
        table: Source,
        stages: Sequence[RowStage[T]],
        splits: Iterable[Any],
        take: Callable[[int, Any], None],
        memory: int,
    ) -> Iterator[T]:
        """See Engine."""
        outlines = self._outlined(table, splits)
        if not outlines:
            yield from THREADS.run_stages(table, stages, outlines, take, memory)
            return
        if len(stages) == 1:
            work = partial(_begun, stages[0].work)
            yield from self.map_splits(table, work, splits=outlines)
            return
        size = sum(source.state[1] for source in table.sources if source.state)
        ranges = max(self.ranges, size // _RANGE)

        def begin(stage: RowStage[T]) -> KeptRecords:
            task = BeginTask(stage, self.table, outlines, ranges)
            return KeptRecords(self._mapped(run_begin, task, 1))

        yield from go_on(stages, begin, len(outlines), take, ranges, memory)
        _refuse_changed(table)

    def reduce(
        self,
        tables: Sequence[Source],
        reduction: Reduction[T, Any, Result],
        take: Callable[[T, int | None], None],
    ) -> Iterator[Result]:
        """See Engine."""
        last = self.ranges if reduction.ranged else 1
        ranges = last if reduction.again is None else self.ranges
        frames, count = [], 0
        for table, work in zip(tables, reduction.works, strict=True):
            engine = table.engine
            assert isinstance(engine, SparkEngine)
            splits = engine._outlines(table)
            if splits:
                task = ReduceTask(engine.table, splits, work, ranges, count)
                frames.append(self._mapped(run_reduce, task))
            count += len(splits)
        if not frames:
            yield from THREADS.reduce(tables, reduction, take)
            return
        frame = reduce(DataFrame.unionAll, frames)
        if reduction.again is not None:
            frame = _finished(frame, FinishTask(reduction.finish, last), ranges)
        end = FinishTask(reduction.finish if reduction.again is None else reduction.again)
        records = KeptRecords(_finished(frame, end, last))
        for part in records.told(PART, count):
            take(part, None)
        if reduction.again is not None:
            for told in records.told(BESIDE, ranges):
                take(told, None)
        for table in tables:
            _refuse_changed(table)
        yield from records.told_by_size(GROUPS)

    def exchange(self, values: Any, rekeyed: Callable[[Counted], Counted]) -> DistinctValues:
        """See Engine."""
        if not isinstance(values, ShuffledValues):
            return THREADS.exchange(values, rekeyed)  # of a table without a batch
        task = ExchangeTask(rekeyed, self.ranges)
        frame = (
            values.frame.where(f"key = {values.key}")
            .sortWithinPartitions("range", "place")
            .mapInArrow(partial(run_exchange, packed(task)), SCHEMA)
            .repartition(self.ranges, "range")
        )
        return ShuffledValues(self, frame, 0, merged=False)

    def match(
        self, before: Any, after: Any, work: Callable[[RowRange, RowRange], T], ranges: int
    ) -> Iterator[T]:
        """See Engine."""
        frames = [
            values.frame.where(f"key = {values.key}").selectExpr(
                f"{side} AS key", "range", "place", "data"
            )
            for side, values in enumerate((before, after))
            if isinstance(values, ShuffledValues)
        ]
        if not frames:  # of tables without a batch
            yield from THREADS.match(before, after, work, 1)
            return
        frame = frames[0] if len(frames) == 1 else frames[0].unionByName(frames[1])
        task = MatchTask(work, before.others)
        results = (
            frame.repartition(RANGES, "range")
            .sortWithinPartitions("range", "key", "place")
            .mapInArrow(partial(run_match, packed(task)), SCHEMA)
        )
        yield from _values(_sorted(results))

    def ask(
        self, questions: Sequence[Question[Any, Result]], threads: int | None = None
    ) -> list[Result]:
        """See Engine."""
        answers: dict[int, Result] = {}
        by_frame: dict[int, list[tuple[int, ShuffledValues]]] = {}
        for number, question in enumerate(questions):
            if isinstance(question.of, ShuffledValues):
                by_frame.setdefault(id(question.of.frame), []).append((number, question.of))
            else:
                answers[number] = THREADS.ask([question])[0]  # of a table without a batch
        for group in by_frame.values():
            asked: dict[int, dict[int, Callable[[Counted], Any]]] = {}
            for number, values in group:
                asked.setdefault(values.key, {})[number] = questions[number].figures
            task = RangeTask(asked, values.merged)
            figures = (
                values.frame.where(f"key IN ({', '.join(map(str, asked))})")
                .sortWithinPartitions("key", "range", "place")
                .mapInArrow(partial(run_ranges, packed(task)), SCHEMA)
            )
            ordered = self._in_order(figures, [number for number, _ in group])
            with _telling():
                for number, of_number in groupby(ordered.toLocalIterator(), lambda row: row.key):
                    ranges = (unpacked(record.data) for record in of_number)
                    answers[number] = questions[number].together(ranges)
        # A key of which no batch has a value has no range.
        return [
            answers[number] if number in answers else question.together(())
            for number, question in enumerate(questions)
        ]

    def _in_order(self, figures: DataFrame, numbers: Sequence[int]) -> DataFrame:
        """Figures of ranges, of one question after another, in parts of which one is in memory at a
        time: of a small table all are one, since each is a job of its own, of a large one those of
        a question are several."""
        parts = min(self.ranges, 1 + sum(state[1] for state in self.table.files if state) // _PART)
        place = f"(array_position(array({', '.join(map(str, numbers))}), key) - 1) * {parts}"
        part = f"CAST({place} + LEAST({parts - 1}, range * {parts} DIV {self.ranges}) AS INT)"
        count = 1 if self.ranges == 1 else len(numbers) * parts
        ordered = figures.repartitionById(count, functions.expr(part))
        return ordered.sortWithinPartitions("key", "range")

    def _outlines(self, table: Source) -> tuple[Any, ...]:
        """The table's splits without their bytes; a text file is read once for them."""
        if self._splits is None:
            self._splits = self._outlined(table, table.pieces())
        return self._splits

    def _outlined(self, table: Source, splits: Iterable[Any]) -> tuple[Any, ...]:
        outlines = tuple(table.outline(split) for split in splits)
        if len(packed(outlines)) > _MOST_SENT:
            why = "it is not UTF-8, or has quotes out of place, so that its text would be sent"
            raise _unread(table, why)
        return outlines

    def _mapped(
        self, run: Run, task: MapTask | BeginTask | ReduceTask, size: int = _SPLITS
    ) -> DataFrame:
        """The records of a task on all of its splits, which are parted in their order, `size` of
        them together where there are many."""
        count = len(task.splits)
        parts = min(count, max(_TASKS, count // size))
        numbers = self.session.range(0, count, 1, parts)
        return numbers.mapInArrow(partial(run, packed(task)), SCHEMA)

    def _collected(self, frame: DataFrame, table: Source) -> Iterable[Any]:
        """The values of its records in the order of the table. Raises what a task has failed with,
        and DataProblem where the file was changed meanwhile."""
        yield from _values(_sorted(frame))
        _refuse_changed(table)


def _finished(frame: DataFrame, task: FinishTask, ranges: int) -> DataFrame:
    """The records of groups, finished range by range."""
    by_range = frame.repartition(ranges, "range").sortWithinPartitions("range", "key", "place")
    return by_range.mapInArrow(partial(run_finish, packed(task)), SCHEMA)


def _begun(work: BatchWork[T], table: Source, split: Any) -> T:
    return work.begin(table, split)[0]


def _sorted(frame: DataFrame) -> list[TaskRecord]:
    """All records of a frame by their places, the slices of each in order. They come as Arrow: by
    rows each byte of a slice would be a character on the way."""
    with _telling():
        keys, ranges, places, data = frame.toArrow().columns
    records = [
        TaskRecord(key.as_py(), number.as_py(), place.as_py(), item.as_buffer())
        for key, number, place, item in zip(keys, ranges, places, data, strict=True)
    ]
    return sorted(records, key=lambda record: (record.place, record.key, record.range))


def _values(records: Iterable[Any]) -> Iterator[Any]:
    """The values of records, the slices of each put together. Raises what a task has failed
    with."""
    for (_, key), slices in groupby(records, lambda record: (record.place, record.key)):
        data = b"".join(record.data for record in slices)
        if key == FAILURE:
            raise unpacked(data)
        yield unpacked(data)


def _refuse_changed(table: Source) -> None:
    for source in table.sources:
        source.refuse_changed()


def _let_go(frame: DataFrame) -> None:
    """Free what a server would keep for its session."""
    with suppress(PySparkException, Py4JError, ConnectionError, EOFError):
        frame.unpersist()


@contextmanager
def _telling() -> Iterator[None]:
    """Raises TableProblem where Spark gives up."""
    try:
        yield
    except (PySparkException, Py4JError, ConnectionError, EOFError) as error:
        raise TableProblem("Spark has given up", detail=reason(error)) from None
