"""The rows of a plan on their way: row-by-row steps batch by batch on any thread or machine,
whole-table steps between them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.engine import RowStage
from gravel.engine.evaluate import run
from gravel.engine.external import OUT
from gravel.engine.frame import Frame
from gravel.engine.hashing import combined
from gravel.engine.memory import DEFAULT_MEMORY
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
from gravel.plans.trail import Seen, Trail
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
class WholeSeen:
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


@dataclass
class Worked:
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
            Content().add(batch.texts().columns) if self.content else None,
        )


@dataclass(frozen=True)
class RowSteps:
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
    _whole: dict[int, WholeSeen] = field(default_factory=dict)

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
        stages = self._stages()
        last = 2 * (len(stages) - 1)
        table = self.plan.table
        for done in table.engine.run_stages(table, stages, self._splits(), self._take, self.memory):
            self._absorb(last, done)
            self.rows_out += done.rows_out
            yield done.finished
        for step in self.steps:
            if step.number in self._whole:
                seen, count = self._whole[step.number], self.counts[step.number - 1]
                self.trail.step(step, seen.before, seen.after, seen.gone, count)

    def _stages(self) -> list[RowStage[Worked]]:
        plan = self.plan
        start = RowStart(
            tuple(column.type for column in plan.source),
            plan.key,
            tuple(index for index, _ in plan.untouched),
            plan.keeps_arrow,
            self.sample,
            self.content is not None,
        )
        results: list[RowStage[Worked]] = []
        steps: list[BoundStep] = []
        whole: BoundStep | None = None
        for step in (*self.steps, None):
            if step is not None and isinstance(step.action, RowAction):
                steps.append(step)
                continue
            work = RowSteps(
                tuple(steps),
                plan.totals,
                None if whole else start,
                whole,
                step,
                self.finish,
                self.pack,
                self.wanted,
            )
            then = None
            if step is not None:
                assert isinstance(step.action, TableAction)
                then = step.action.arrangement(step, self._context(step, 2 * len(results) + 1))
            results.append(RowStage(work, then))
            steps, whole = [], step
        return results

    def _context(self, step: BoundStep, stage: int) -> Context:
        """What a step that has all rows at one place tells goes straight to the ledger."""
        count = self.counts[step.number - 1]

        def left(value: Left) -> None:
            if self.wanted is not None:
                self._whole.setdefault(step.number, WholeSeen()).gone.append(value)
            count.gone = [*count.gone, *examples_of([value])][:SAMPLES]
            _add(self.left_totals, totals_left(self.plan.totals, step, value))
            if self.pack is not None and self.left is not None:
                self.left(stage, self.pack([value], ()))

        return Context(self.memory, left, count, len(self.plan.untouched), self._made)

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

    def _take(self, stage: int, told: Worked | tuple[int, StepCount]) -> None:
        """What a stage tells, or the arrangement of a whole-table step behind it."""
        if isinstance(told, Worked):
            self._absorb(2 * stage, told)
        else:
            number, count = told
            self.counts[number - 1].add(count)

    def _absorb(self, stage: int, done: Worked) -> None:
        if done.read is not None:
            self.rows_read += done.read.rows
            self.malformed += done.read.malformed
            self.breaks += done.read.breaks
            if self.content is not None and done.read.content is not None:
                self.content.merge(done.read.content)
            if done.read.key is not None:
                self.keys.add(done.read.key)
            _add(self.totals[0], done.read.totals)
        for number, count in done.counts:
            self.counts[number - 1].add(count)
        for number, parts in done.totals:
            _add(self.totals[number], parts)
        for parts in done.left_totals:
            _add(self.left_totals, parts)
        if done.trail is not None:
            self.trail.add(done.trail)
        for number, seen in done.whole.items():
            self._whole.setdefault(number, WholeSeen()).add(seen)
        if self.left is not None and done.packed is not None:
            self.left(stage, done.packed)

    def _made(self, count: int) -> int:
        first = self.made_rows + 1
        self.made_rows += count
        return first


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
