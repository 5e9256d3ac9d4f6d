"""Stages of work on rows, in the order of the tasks that make them; where the records of tasks are,
and who runs them, is not for here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from itertools import pairwise
from typing import Any, Protocol, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from gravel.engine.arrangement import PLACE, GatheredRows, GroupedRows, SortedRows, with_columns
from gravel.engine.engine import RowStage
from gravel.engine.external import OUT
from gravel.engine.threads import go_on_here
from gravel.kernels.arrays import to_arrow
from gravel.spark.row_tasks import (
    SAMPLE,
    CutTask,
    DecideTask,
    GoOnTask,
    SortTask,
    run_cut,
    run_decide,
    run_go_on,
    run_sort,
)
from gravel.spark.tasks import PART
from gravel.spark.travel import packed

T = TypeVar("T")
Run = Callable[[bytes, Iterable[pa.RecordBatch]], Iterator[pa.RecordBatch]]


class Records(Protocol):
    """The records that tasks have made."""

    def told(self, key: int, count: int) -> Iterator[Any]:
        """The values of one key by their places, which are below a count, put together. Raises what
        a task has failed with."""

    def worked(self, count: int) -> Iterator[tuple[Any, pa.RecordBatch | None]]:
        """What was told of the batch at each place, with its rows, likewise."""

    def then(self, run: Callable[..., Any], ranges: int | None) -> Records:
        """What becomes of the slices of rows; `ranges`: those of a range come together, and there
        are so many of these; None: they stay where they are."""


def go_on(
    stages: Sequence[RowStage[T]],
    begin: Callable[[RowStage[T]], Records],
    splits: int,
    take: Callable[[int, Any], None],
    ranges: int,
    memory: int,
) -> Iterator[T]:
    """See `Engine.run_stages`; `begin` makes the records of the first of several stages. What is
    made of all rows is made here, and so is what comes after it."""
    gathering = [isinstance(stage.then, GatheredRows) for stage in stages]
    last = gathering.index(True) if any(gathering) else len(stages) - 1
    there = [*stages[:last], replace(stages[last], then=GatheredRows(iter))]
    records, count = _made_there(there, begin(there[0]), splits, take, ranges)
    return go_on_here(stages[last:], records.worked(count), take, memory, last)


def _made_there(
    stages: Sequence[RowStage[T]],
    records: Records,
    count: int,
    take: Callable[[int, Any], None],
    ranges: int,
) -> tuple[Records, int]:
    """The records of the last of some stages, from those of the first on, and how many places they
    have."""
    for number, (stage, following) in enumerate(pairwise(stages)):
        sizes = []
        for part, rows in records.told(PART, count):
            take(number, part)
            sizes.append(rows)
        firsts = np.cumsum([0, *sizes])
        batches = -(-int(firsts[-1]) // OUT)
        if isinstance(stage.then, GroupedRows):
            decide = DecideTask(stage.then.decide, firsts)
            arranged = records.then(partial(run_decide, packed(decide)), ranges)
            for part in arranged.told(PART, ranges):
                take(number, part)
        else:
            assert isinstance(stage.then, SortedRows)
            arranged = _sorted(stage.then, records, firsts, ranges)
        task = GoOnTask(following, ranges)
        records, count = arranged.then(partial(run_go_on, packed(task)), max(1, batches)), batches
    return records, count


def _sorted(then: SortedRows, records: Records, firsts: np.ndarray, ranges: int) -> Records:
    """Rows by the batches that they will be in: cut at some of those that were sampled, then each
    range is sorted by itself."""
    count = len(firsts) - 1
    samples = [
        with_columns(keys.drop_columns([PLACE]), {PLACE: pc.add(keys.column(PLACE), firsts[batch])})
        for batch, keys in records.told(SAMPLE, count)
    ]
    if not samples:
        return records
    (keys,) = pa.Table.from_batches(samples).combine_chunks().to_batches()
    chosen = np.linspace(0, keys.num_rows, ranges + 1).astype(np.int64)[1:-1]
    order = then.order(pa.Table.from_batches([keys]))
    bounds = keys.take(to_arrow(order[np.unique(chosen)]))
    cut = records.then(partial(run_cut, packed(CutTask(then, bounds, firsts))), None)
    sizes = np.zeros(bounds.num_rows + 1, np.int64)
    for part in cut.told(PART, count):
        sizes += part
    task = SortTask(then, np.cumsum([0, *sizes]))
    return cut.then(partial(run_sort, packed(task)), len(sizes))
