"""The rows of a plan on their way: row-by-row steps batch by batch on any thread or machine,
whole-table steps between them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.hashing import combined
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.parallel import ordered_map
from gravel.inspecting.aggregates import AggregatePartial, AggregateState, part_of
from gravel.language.functions.buffers import body
from gravel.language.types import Type
from gravel.ledger.checksum import ChecksumStream
from gravel.ledger.fingerprint import Content
from gravel.plans.errors import settle
from gravel.plans.keys import KeyPart, KeyState, key_part, key_values
from gravel.plans.ledger import SAMPLES, Gone, StepCount
from gravel.plans.rows import TrackedRows, together
from gravel.plans.steps import (
    BoundPlan,
    BoundStep,
    BoundTotal,
    Context,
    Left,
    Outcome,
    RowAction,
    TableAction,
)
from gravel.plans.trail import Trail
from gravel.sources.source import Batch, Malformed

Pack = Callable[[Sequence[Left], Sequence[Malformed]], Any]
Totals = list[AggregatePartial | None]


@dataclass(frozen=True)
class BatchRead:
    """What a batch was before the first step: its rows, malformed records, line breaks inside
    values, keys, control totals, and the content of a database's table."""

    rows: int
    malformed: tuple[Malformed, ...]
    breaks: int
    key: KeyPart | None
    totals: Totals
    content: Content | None


@dataclass
class Worked:
    """What a run of row-by-row steps made of one batch: the counts and control totals of each step,
    the rows that left, as they were packed, with the totals of what each step let go. `rows` go on
    to a whole-table step; of those that have come to the end there is what was finally made."""

    read: BatchRead | None = None
    counts: list[StepCount] = field(default_factory=list)
    totals: list[Totals] = field(default_factory=list)
    packed: Any = None
    left_totals: list[Totals] = field(default_factory=list)
    trail: Trail | None = None
    rows: TrackedRows | None = None
    rows_out: int = 0
    finished: Any = None


@dataclass(frozen=True)
class RowStart:
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
            numbers, stored = numbers[keep], [column.filter(pa.array(keep)) for column in stored]
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
            Content().add(batch.columns) if self.content else None,
        )


@dataclass(frozen=True)
class RowSteps:
    """A run of row-by-row steps. `start`: how the rows begin where it is the first, `finish`: what
    is made of them where it is the last; `pack`: what is made of rows that leave; `following`:
    source rows to follow."""

    steps: tuple[BoundStep, ...]
    totals: tuple[BoundTotal, ...]
    start: RowStart | None
    finish: Callable[[TrackedRows], Any] | None
    pack: Pack | None
    following: np.ndarray | None

    def __call__(self, table: Any, split: Any) -> Worked:
        """The steps on the rows of a split."""
        assert self.start is not None
        batch = table.read(split)
        rows = self.start.begin(batch)
        read = self.start.read(batch, rows, totals_of(self.totals, 0, rows))
        return self.work(rows, read)

    def work(self, rows: TrackedRows, read: BatchRead | None = None) -> Worked:
        """The steps on some rows."""
        done, left = Worked(read), list[Left]()
        for step in self.steps:
            before = None
            if self.following is not None:
                before = Trail.seen(rows, step.before, self.following)
            outcome = applied(step, rows)
            rows = outcome.rows
            done.counts.append(outcome.count)
            if outcome.left:
                left += outcome.left
                outcome.count.gone = examples_of(outcome.left)
                done.left_totals += map(self._totals_left, outcome.left)
            if self.totals:
                done.totals.append(totals_of(self.totals, step.number, rows))
            if before is not None and self.following is not None:
                done.trail = done.trail or Trail()
                after = Trail.seen(rows, step.after, self.following)
                done.trail.step(step, before, after, outcome.left, outcome.count)
        malformed = () if read is None else read.malformed
        if self.pack is not None and (left or malformed):
            done.packed = self.pack(left, malformed)
        done.rows_out = rows.count
        if self.finish is None:
            done.rows = rows
        else:
            done.finished = self.finish(rows)
        return done

    def _totals_left(self, left: Left) -> Totals:
        step = next(step for step in self.steps if step.number == left.step)
        return totals_left(self.totals, step, left)


@dataclass
class Flow:
    """A plan's rows under way, and what has been counted of them so far. `finish` is done to each
    batch that comes out, wherever it was worked on; `pack` to the rows that leave and the malformed
    records, and `left` takes what it made, in order, with the number of the stage (a run of row-by-
    row steps, or a whole-table step) that it is of. `until`: the last step to run; `sample`: how
    many rows to read; `last`: the last source row that matters; `wanted`: source rows to follow.
    """

    plan: BoundPlan
    finish: Callable[[TrackedRows], Any]
    pack: Pack | None = None
    left: Callable[[int, Any], None] | None = None
    memory: int = DEFAULT_MEMORY
    until: int | None = None
    sample: int | None = None
    last: int | None = None
    wanted: np.ndarray | None = None
    rows_read: int = 0
    rows_out: int = 0
    malformed: list[Malformed] = field(default_factory=list)
    breaks: int = 0
    keys: KeyState = field(default_factory=KeyState)
    counts: list[StepCount] = field(default_factory=list)
    totals: list[list[AggregateState | None]] = field(default_factory=list)
    left_totals: list[AggregateState] = field(default_factory=list)
    trail: Trail = field(default_factory=Trail)
    made_rows: int = 0
    signing: ChecksumStream | None = None
    content: Content | None = None  # of the source, where it is a table of a database

    def __post_init__(self) -> None:
        self.counts = [StepCount() for _ in self.steps]
        self.totals = [
            [
                None if (bound := total.places[place]) is None else AggregateState(bound)
                for total in self.plan.totals
            ]
            for place in range(len(self.steps) + 1)
        ]
        self.left_totals = [
            AggregateState(total.places[0])
            for total in self.plan.totals
            if total.places[0] is not None
        ]

    @property
    def steps(self) -> tuple[BoundStep, ...]:
        """The steps that run."""
        return self.plan.steps[: self.until]

    def run(self) -> Iterator[Any]:
        """What `finish` made of each batch that comes out."""
        segments: list[list[BoundStep]] = [[]]
        for step in self.steps:
            segments[-1].append(step)
            if isinstance(step.action, TableAction):
                segments.append([])
        stream: Iterator[TrackedRows] | None = None
        for number, segment in enumerate(segments):
            final = number == len(segments) - 1
            row_steps = self._row_steps(segment, stream is None, final)
            worked = self._worked(row_steps, stream, 2 * number)
            if final:
                for done in worked:
                    self.rows_out += done.rows_out
                    yield done.finished
            else:
                going = (_going(done) for done in worked)
                stream = self._table(segment[-1], going, 2 * number + 1)

    # -- runs of row-by-row steps
    def _row_steps(self, segment: list[BoundStep], first: bool, final: bool) -> RowSteps:
        plan = self.plan
        start = RowStart(
            tuple(column.type for column in plan.source),
            plan.key,
            tuple(index for index, _ in plan.untouched),
            plan.keeps_arrow,
            self.sample,
            self.content is not None,
        )
        return RowSteps(
            tuple(step for step in segment if isinstance(step.action, RowAction)),
            plan.totals,
            start if first else None,
            self.finish if final else None,
            self.pack,
            self.wanted,
        )

    def _worked(
        self, row_steps: RowSteps, stream: Iterable[TrackedRows] | None, stage: int
    ) -> Iterator[Worked]:
        table = self.plan.table
        for done in (
            table.engine.map_splits(table, row_steps, splits=self._splits())
            if stream is None
            else ordered_map(row_steps.work, stream)
        ):
            self._absorb(done, row_steps.steps)
            if self.left is not None and done.packed is not None:
                self.left(stage, done.packed)
            yield done

    def _splits(self) -> Iterator[Any]:
        seen = 0
        if self.sample == 0:
            return
        for piece in self.plan.table.pieces(None if self.signing is None else self.signing.take):
            yield piece
            seen += piece.records
            if (self.sample is not None and seen >= self.sample) or (
                self.last is not None and seen >= self.last
            ):
                return

    def _absorb(self, done: Worked, steps: Sequence[BoundStep]) -> None:
        if done.read is not None:
            self.rows_read += done.read.rows
            self.malformed += done.read.malformed
            self.breaks += done.read.breaks
            if self.content is not None and done.read.content is not None:
                self.content.merge(done.read.content)
            if done.read.key is not None:
                self.keys.add(done.read.key)
            _add(self.totals[0], done.read.totals)
        for step, count in zip(steps, done.counts, strict=True):
            self.counts[step.number - 1].add(count)
        for step, parts in zip(steps, done.totals, strict=False):
            _add(self.totals[step.number], parts)
        for parts in done.left_totals:
            _add(self.left_totals, parts)
        if done.trail is not None:
            self.trail.add(done.trail)

    # -- whole-table steps
    def _table(
        self, step: BoundStep, stream: Iterator[TrackedRows], stage: int
    ) -> Iterator[TrackedRows]:
        count = self.counts[step.number - 1]
        assert isinstance(step.action, TableAction)
        gone: list[Left] = []

        def left(value: Left) -> None:
            if self.wanted is not None:
                gone.append(value)
            count.gone = [*count.gone, *examples_of([value])][:SAMPLES]
            _add(self.left_totals, totals_left(self.plan.totals, step, value))
            if self.pack is not None and self.left is not None:
                self.left(stage, self.pack([value], ()))

        befores: list[Any] = []
        afters: list[Any] = []

        def entering() -> Iterator[TrackedRows]:
            for rows in stream:
                count.rows_in += rows.count
                if self.wanted is not None:
                    befores.append(Trail.seen(rows, step.before, self.wanted))
                yield rows

        context = Context(self.memory, left, count, len(self.plan.untouched), self._made)
        for rows in step.action.apply(step, entering(), context):
            count.rows_out += rows.count
            if self.plan.totals:
                _add(self.totals[step.number], totals_of(self.plan.totals, step.number, rows))
            if self.wanted is not None:
                afters.append(Trail.seen(rows, step.after, self.wanted))
            yield rows
        if self.wanted is not None:
            merged = (
                {path: row for part in befores for path, row in part.items()},
                {path: row for part in afters for path, row in part.items()},
            )
            self.trail.step(step, *merged, gone, count)

    def _made(self, count: int) -> int:
        first = self.made_rows + 1
        self.made_rows += count
        return first


def _going(done: Worked) -> TrackedRows:
    assert done.rows is not None
    return done.rows


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


def _add(states: Sequence[AggregateState | None], parts: Totals) -> None:
    for state, part in zip(states, parts, strict=False):
        if state is not None and part is not None:
            state.add(part)


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
