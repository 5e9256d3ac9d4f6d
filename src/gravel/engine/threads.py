"""The engine of this machine: a few threads, and files for what is larger than memory."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing
from functools import partial
from itertools import pairwise
from typing import Any, TypeVar

from gravel.engine.distinct import Counted, Distinct, RekeyedValues
from gravel.engine.engine import (
    BatchWork,
    DistinctValues,
    OfBatch,
    Question,
    Readable,
    Reduction,
    RowChoice,
    RowStage,
    State,
)
from gravel.engine.hashed_rows import HashedRows, RowRange
from gravel.engine.parallel import ordered_map
from gravel.engine.reduction import MergedGroups

T = TypeVar("T")
Result = TypeVar("Result")


class Threads:
    """Batches are read and mapped by threads, a few ahead of what takes them in."""

    address: str | None = None
    description = "local"

    def choosing(self, choice: RowChoice) -> Threads:
        """See Engine."""
        return self

    def map_splits(
        self,
        table: Readable,
        work: Callable[[Any, Any], T],
        wanted: Sequence[int] | None = None,
        splits: Iterable[Any] | None = None,
    ) -> Generator[T, None, None]:
        """See Engine."""
        splits = table.pieces(wanted=wanted) if splits is None else splits
        return ordered_map(lambda split: work(table, split), splits)

    def run(
        self,
        state: State[Any],
        table: Readable,
        wanted: Sequence[int] | None = None,
        beside: Callable[[Any], None] | None = None,
    ) -> None:
        """See Engine."""
        for part in self.map_splits(table, OfBatch(state.map, wanted), wanted):
            state.add(part)
            if beside is not None and part.beside is not None:
                beside(part.beside)

    def run_stages(
        self,
        table: Any,
        stages: Sequence[RowStage[T]],
        splits: Iterable[Any],
        take: Callable[[int, Any], None],
        memory: int,
    ) -> Iterator[T]:
        """See Engine."""
        # One arrangement hands rows on while the next one takes them in.
        memory //= min(2, max(1, len(stages) - 1))
        begin = partial(stages[0].work.begin, table)
        return go_on_here(stages, ordered_map(begin, splits), take, memory)

    def reduce(
        self,
        tables: Sequence[Readable],
        reduction: Reduction[T, Any, Result],
        take: Callable[[T, int | None], None],
    ) -> Iterator[Result]:
        """See Engine. All groups are held."""
        merged: MergedGroups[Any] = MergedGroups()
        for table, work in zip(tables, reduction.works, strict=True):
            with closing(self.map_splits(table, work, work.wanted)) as parts:
                for part, groups in parts:
                    merged.add(groups)
                    take(part, merged.size)
        groups = merged.finish()
        if groups is None:
            return
        result: Any = groups if reduction.finish is None else reduction.finish(groups)
        if reduction.again is not None:
            told, others = result
            take(told, merged.size)
            result = reduction.again(others)
        yield result

    def exchange(self, values: Distinct, rekeyed: Callable[[Counted], Counted]) -> RekeyedValues:
        """See Engine."""
        return RekeyedValues(values, rekeyed)

    def match(
        self,
        before: HashedRows,
        after: HashedRows,
        work: Callable[[RowRange, RowRange], T],
        ranges: int,
    ) -> Iterator[T]:
        """See Engine. One range after another: they are as large as memory allows."""
        yield from map(work, before.ranges(ranges), after.ranges(ranges))

    def ask(
        self, questions: Sequence[Question[Any, Result]], threads: int | None = None
    ) -> list[Result]:
        """See Engine. What is read from files takes memory for each thread."""
        in_memory = [_held(question.of).settled() for question in questions]
        return list(ordered_map(_answer, questions, threads if all(in_memory) else 1))


def go_on_here(
    stages: Sequence[RowStage[T]],
    worked: Iterator[tuple[T, Any]],
    take: Callable[[int, Any], None],
    memory: int,
    first: int = 0,
) -> Iterator[T]:
    """See `Engine.run_stages`, from what the first of some stages has made of its batches on;
    `first`: its number."""
    for number, (stage, following) in enumerate(pairwise(stages), first):
        assert stage.then is not None
        of_stage = partial(take, number)
        rows = stage.then.arranged(_going(worked, of_stage), of_stage, memory)
        worked = ordered_map(partial(_go_on, following.work), enumerate(rows))
    return (part for part, _ in worked)


def _going(worked: Iterable[tuple[Any, Any]], take: Callable[[Any], None]) -> Iterator[Any]:
    for part, rows in worked:
        take(part)
        if rows is not None:
            yield rows


def _go_on(work: BatchWork[T], numbered: tuple[int, Any]) -> tuple[T, Any]:
    return work.go_on(*numbered)


def _answer(question: Question[Any, Result]) -> Result:
    return question.together(map(question.figures, _held(question.of).pieces()))


def _held(values: DistinctValues) -> Distinct | RekeyedValues:
    assert isinstance(values, Distinct | RekeyedValues)
    return values


THREADS = Threads()
