"""What a run of row-by-row steps makes of a batch, on any thread or machine: rows that go on, rows
that leave, and what is counted of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.evaluate import run
from gravel.engine.external import OUT
from gravel.engine.frame import Frame
from gravel.engine.hashing import combined
from gravel.inspecting.aggregates import AggregatePartial, part_of
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import body
from gravel.language.types import Type
from gravel.ledger.fingerprint import Content
from gravel.plans.errors import settle
from gravel.plans.keys import KeyPart, key_part, key_values
from gravel.plans.ledger import SAMPLES, Gone, StepCount
from gravel.plans.rows import TrackedRows, together
from gravel.plans.steps import BoundStep, BoundTotal, Left, Outcome, RowAction, TableAction
from gravel.plans.trail import Seen, Trail
from gravel.sources.source import Batch, Malformed

Pack = Callable[[Sequence[Left], Sequence[Malformed]], Any]
Totals = list[AggregatePartial | None]


class BatchRead(Struct, frozen=True):
    """What a batch was before the first step: its rows, malformed records, line breaks inside
    values, keys, control totals, and the content of a database's table."""

    rows: int
    malformed: tuple[Malformed, ...]
    breaks: int
    key: KeyPart | None
    totals: Totals
    content: Content | None


class WholeSeen(Struct):
    """Of the rows that are followed: those that came to a whole-table step, those that left at it,
    those that went on."""

    before: Seen = field(default_factory=dict)
    gone: list[Left] = field(default_factory=list)
    after: Seen = field(default_factory=dict)

    def add(self, other: WholeSeen) -> None:
        """Take in another batch's."""
        self.before |= other.before
        self.gone += other.gone
        self.after |= other.after


class Worked(Struct):
    """What the steps made of one batch: by the number of each step its count, and the control
    totals after it; the rows that left, as they were packed, with the totals of what each step let
    go. Of rows that have come to the end there is what was finally made."""

    read: BatchRead | None = None
    counts: list[tuple[int, StepCount]] = field(default_factory=list)
    totals: list[tuple[int, Totals]] = field(default_factory=list)
    packed: Any = None
    left_totals: list[Totals] = field(default_factory=list)
    trail: Trail | None = None
    whole: dict[int, WholeSeen] = field(default_factory=dict)
    rows_out: int = 0
    finished: Any = None


class RowStart(Struct, frozen=True):
    """How the rows of a plan's table begin. `key`: its columns; `sealed`: those that no step
    touches, of which each row's seal is made; `by_value`: as values of their store, not as texts;
    `sample`: only so many rows; `content`: whether the content is taken."""

    types: tuple[Type, ...]
    key: tuple[int, ...]
    sealed: tuple[int, ...]
    by_value: bool
    sample: int | None
    content: bool

    def begin(self, batch: Batch) -> TrackedRows:
        """The rows of a batch."""
        stored, numbers = list(batch.columns), batch.rows
        if self.sample is not None and len(numbers) and numbers[-1] > self.sample:
            keep = numbers <= self.sample
            numbers, stored = numbers[keep], [column.filter(to_arrow(keep)) for column in stored]
        rows = TrackedRows(numbers, stored, self.types)
        if self.sealed:
            # As they will be read again: as values from a file that keeps them, as texts from any
            # other.
            rows.seals = combined(
                [stored[index] if self.by_value else rows.text(index) for index in self.sealed]
            )
        return rows

    def read(self, batch: Batch, rows: TrackedRows, totals: Totals) -> BatchRead:
        """What is told of a batch that the rows are of."""
        texts = (column for column in batch.columns if pa.types.is_string(column.type))
        key = [key_values(rows.stored[index], self.types[index]) for index in self.key]
        return BatchRead(
            rows.count,
            batch.malformed,
            sum(map(_breaks, texts)),
            key_part(key) if key else None,
            totals,
            Content().add(batch.texts().columns) if self.content else None,
        )


class RowSteps(Struct, frozen=True):
    """A run of row-by-row steps, from a whole-table step to the next. `start`: how the rows begin
    where it is the first; `concluding`: the whole-table step that they come from, else;
    `preparing`: the one that they go to; `finish`: what is made of them where it is the last;
    `pack`: what is made of rows that leave; `following`: source rows to follow."""

    steps: tuple[BoundStep, ...]
    totals: tuple[BoundTotal, ...]
    start: RowStart | None
    concluding: BoundStep | None
    preparing: BoundStep | None
    finish: Callable[[TrackedRows], Any]
    pack: Pack | None
    following: np.ndarray | None

    def begin(self, table: Any, split: Any) -> tuple[Worked, pa.RecordBatch | None]:
        """The steps on the rows of a split."""
        assert self.start is not None
        batch = table.read(split)
        rows = self.start.begin(batch)
        read = self.start.read(batch, rows, totals_of(self.totals, 0, rows))
        return self._work(rows, Worked(read), [])

    def go_on(self, number: int, rows: pa.RecordBatch) -> tuple[Worked, pa.RecordBatch | None]:
        """The steps on rows that the whole-table step before made."""
        step, done = self.concluding, Worked()
        assert step is not None
        assert isinstance(step.action, TableAction)
        outcome = step.action.conclude(step, rows, number * OUT)
        outcome.count.rows_out = outcome.rows.count
        self._told(step, outcome.count, outcome.left, done)
        self._add_totals(step, outcome.rows, done)
        if self.following is not None:
            after = Trail.seen(outcome.rows, step.after, self.following)
            done.whole[step.number] = WholeSeen(gone=outcome.left, after=after)
        return self._work(outcome.rows, done, outcome.left)

    def _work(
        self, rows: TrackedRows, done: Worked, left: list[Left]
    ) -> tuple[Worked, pa.RecordBatch | None]:
        for step in self.steps:
            before = self._seen(step, rows)
            outcome = applied(step, rows)
            rows = outcome.rows
            left = [*left, *outcome.left]
            self._told(step, outcome.count, outcome.left, done)
            self._add_totals(step, rows, done)
            if before is not None and self.following is not None:
                done.trail = done.trail or Trail()
                after = Trail.seen(rows, step.after, self.following)
                done.trail.step(step, before, after, outcome.left, outcome.count)
        going = None
        if self.preparing is not None:
            step, count = self.preparing, rows.count
            assert isinstance(step.action, TableAction)
            before = self._seen(step, rows)
            prepared = step.action.prepare(step, rows)
            prepared.count.rows_in = count
            left = [*left, *prepared.left]
            self._told(step, prepared.count, prepared.left, done)
            if before is not None:
                done.whole[step.number] = WholeSeen(before, prepared.left)
            going = prepared.rows
        else:
            done.rows_out = rows.count
            done.finished = self.finish(rows)
        malformed = () if done.read is None else done.read.malformed
        if self.pack is not None and (left or malformed):
            done.packed = self.pack(left, malformed)
        return done, going

    def _seen(self, step: BoundStep, rows: TrackedRows) -> Seen | None:
        following = self.following
        return None if following is None else Trail.seen(rows, step.before, following)

    def _told(self, step: BoundStep, count: StepCount, left: Sequence[Left], done: Worked) -> None:
        count.gone = examples_of(left)
        done.counts.append((step.number, count))
        done.left_totals += [totals_left(self.totals, step, item) for item in left]

    def _add_totals(self, step: BoundStep, rows: TrackedRows, done: Worked) -> None:
        if self.totals:
            done.totals.append((step.number, totals_of(self.totals, step.number, rows)))


def examples_of(left: Sequence[Left]) -> list[Gone]:
    """Some of the rows that left at a step."""
    results: list[Gone] = []
    for item in left:
        for index in range(min(SAMPLES - len(results), len(item.numbers))):
            why, state, into = (
                part[index].as_py() for part in (item.reasons, item.states, item.into)
            )
            results.append(Gone(item.paths[index].as_py(), item.outcome, why, state, into))
    return results


# -- control totals
def totals_of(totals: Sequence[BoundTotal], place: int, rows: TrackedRows) -> Totals:
    """Control totals of some rows as they are after a step (0: at the start)."""
    if not totals:
        return []
    return _parts(totals, place, rows.frame(), rows.numbers)


def totals_left(totals: Sequence[BoundTotal], step: BoundStep, left: Left) -> Totals:
    """Control totals of rows that left at a step, as they came into it."""
    frame = Frame(len(left.numbers), left.values, step.types)
    return _parts(totals, step.number - 1, frame, left.numbers)


def _parts(totals: Sequence[BoundTotal], place: int, frame: Frame, numbers: np.ndarray) -> Totals:
    return [
        None if (bound := total.places[place]) is None else part_of(bound, frame, numbers)
        for total in totals
    ]


def applied(step: BoundStep, rows: TrackedRows) -> Outcome:
    """A row-by-row step on some rows: on those it concerns."""
    assert isinstance(step.action, RowAction)
    rows.types = step.types
    if step.only is None:
        result = step.action.apply(step, rows)
        result.rows.types = tuple(column.type for column in step.after)
        return result
    count = StepCount(rows_in=rows.count)
    gone: list[Left] = []
    frame = rows.frame()
    decided = run(step.only, frame)
    stays = settle(step, rows, [("only", step.only_text, step.only, decided)], count, gone)
    concerned = decided.true(rows.count)
    count.seen = step.watch.count(frame)
    rows.marks = np.arange(rows.count)
    others = rows.take(np.flatnonzero(stays & ~concerned))
    result = step.action.apply(step, rows.take(np.flatnonzero(concerned)))
    result.rows.types = types = tuple(column.type for column in step.after)
    places = step.action.unconcerned(step)
    columns = []
    for place, like in zip(places, result.rows.stored, strict=True):
        columns.append(pa.nulls(others.count, like.type) if place is None else others.stored[place])
    others.arrange(columns, types)
    both = together([result.rows, others], types)
    assert both.marks is not None
    both = both.take(np.argsort(both.marks, kind="stable"))
    both.marks = None
    result.count.rows_in = 0
    count.seen, result.count.seen = count.seen, None
    count.add(result.count)
    count.not_concerned = others.count
    count.rows_out = both.count
    return Outcome(both, count, gone + result.left)


def _breaks(column: pa.Array) -> int:
    """Line breaks inside a text column's values; CRLF is one."""
    offsets, data = body(column)
    feed, back = data == 10, data == 13
    if not back.any():
        return int(np.count_nonzero(feed))
    pairs = back[:-1] & feed[1:]
    # A CR that ends one value and a LF that begins the next are no pair.
    starts = offsets[1:-1]
    pairs[starts[(starts > 0) & (starts < len(data))] - 1] = False
    return int(np.count_nonzero(feed) + np.count_nonzero(back) - np.count_nonzero(pairs))
