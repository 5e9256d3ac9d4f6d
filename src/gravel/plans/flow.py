"""The rows of a plan on their way: row-by-row steps batch by batch on several threads, whole-table
steps between them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial
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
from gravel.ledger.checksum import ChecksumStream
from gravel.ledger.fingerprint import Content
from gravel.plans.errors import settle
from gravel.plans.keys import KeyPart, KeyState, key_part, key_values
from gravel.plans.ledger import SAMPLES, Gone, StepCount
from gravel.plans.rows import TrackedRows, together
from gravel.plans.steps import BoundPlan, BoundStep, Context, Left, Outcome, RowAction, TableAction
from gravel.plans.trail import Trail
from gravel.sources.source import Malformed


@dataclass
class Worked:
    """What became of one batch in a run of row-by-row steps: its counts, the rows that left, those
    that go on, what was finally made of them."""

    rows: TrackedRows
    counts: list[StepCount] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)
    totals: list[list[AggregatePartial | None]] = field(default_factory=list)
    trail: Trail | None = None
    made: Any = None
    packed: Any = None
    read: int = 0
    malformed: tuple[Malformed, ...] = ()
    breaks: int = 0
    key: KeyPart | None = None
    start: list[AggregatePartial | None] = field(default_factory=list)
    content: Content | None = None


@dataclass
class Flow:
    """A plan's rows under way, and what has been counted of them so far. `finish` is done to each
    batch that comes out, on its thread; `pack` to the rows that leave and the malformed records,
    and `left` takes what it made, in order. `until`: the last step to run; `sample`: how many rows
    to read; `last`: the last source row that matters; `wanted`: source rows to follow.
    """

    plan: BoundPlan
    pack: Callable[[list[Left], tuple[Malformed, ...]], Any]
    left: Callable[[Any], None]
    finish: Callable[[TrackedRows], Any] = lambda rows: None
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
        places = range(len(self.steps) + 1)
        self.left_totals = [
            AggregateState(total.places[0])
            for total in self.plan.totals
            if total.places[0] is not None
        ]
        self.totals = [
            [
                None if (bound := total.places[place]) is None else AggregateState(bound)
                for total in self.plan.totals
            ]
            for place in places
        ]

    @property
    def steps(self) -> tuple[BoundStep, ...]:
        """The steps that run."""
        return self.plan.steps[: self.until]

    def run(self) -> Iterator[tuple[TrackedRows, Any]]:
        """The batches that come out, each with what `finish` made of it."""
        segments: list[list[BoundStep]] = [[]]
        for step in self.steps:
            segments[-1].append(step)
            if isinstance(step.action, TableAction):
                segments.append([])
        stream: Iterator[TrackedRows] | None = None
        for number, segment in enumerate(segments):
            final = number == len(segments) - 1
            steps = [step for step in segment if isinstance(step.action, RowAction)]
            worked = self._worked(stream, steps, final)
            if final:
                for done in worked:
                    self.rows_out += done.rows.count
                    yield done.rows, done.made
            else:
                stream = self._table(segment[-1], (done.rows for done in worked))

    # -- runs of row-by-row steps
    def _worked(
        self, stream: Iterable[TrackedRows] | None, steps: list[BoundStep], final: bool
    ) -> Iterator[Worked]:
        work = partial(self._work, steps, final)
        source: Iterable[Any] = self._pieces() if stream is None else stream
        for done in ordered_map(
            work if stream is not None else lambda piece: work(self.plan.table.read(piece)), source
        ):
            self._absorb(done, steps)
            yield done

    def _pieces(self) -> Iterator[Any]:
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

    def _work(self, steps: list[BoundStep], final: bool, supplied: Any) -> Worked:
        done = Worked(supplied) if isinstance(supplied, TrackedRows) else self._begun(supplied)
        for step in steps:
            before = (
                None if self.wanted is None else Trail.seen(done.rows, step.before, self.wanted)
            )
            outcome = applied(step, done.rows)
            done.rows = outcome.rows
            done.counts.append(outcome.count)
            done.left += outcome.left
            if self.plan.totals:
                done.totals.append(self._sums(step.number, done.rows))
            if before is not None and self.wanted is not None:
                done.trail = done.trail or Trail()
                done.trail.step(
                    step,
                    before,
                    Trail.seen(done.rows, step.after, self.wanted),
                    outcome.left,
                    outcome.count,
                )
        if final:
            done.made = self.finish(done.rows)
        if done.left or done.malformed:
            done.packed = self.pack(done.left, done.malformed)
        return done

    def _begun(self, batch: Any) -> Worked:
        plan = self.plan
        stored, numbers = list(batch.columns), batch.rows
        if self.sample is not None and len(numbers) and numbers[-1] > self.sample:
            keep = numbers <= self.sample
            numbers, stored = numbers[keep], [column.filter(pa.array(keep)) for column in stored]
        types = tuple(column.type for column in plan.source)
        rows = TrackedRows(numbers, stored, types)
        if plan.untouched:
            # As they will be read again: as values from a file that keeps them, as texts from any
            # other.
            rows.seals = combined(
                [
                    stored[index] if plan.keeps_arrow else rows.text(index)
                    for index, _ in plan.untouched
                ]
            )
        done = Worked(rows, read=len(numbers), malformed=batch.malformed)
        if self.content is not None:
            done.content = Content().add(batch.columns)
        done.breaks = sum(
            _breaks(column) for column in batch.columns if pa.types.is_string(column.type)
        )
        if plan.key:
            done.key = key_part(
                [key_values(stored[index], plan.source[index].type) for index in plan.key]
            )
        if plan.totals:
            done.start = self._sums(0, done.rows)
        return done

    def _absorb(self, done: Worked, steps: list[BoundStep]) -> None:
        self.rows_read += done.read
        self.malformed += done.malformed
        self.breaks += done.breaks
        if self.content is not None and done.content is not None:
            self.content.merge(done.content)
        if done.key is not None:
            self.keys.add(done.key)
        self._add_sums(0, done.start)
        for step, count in zip(steps, done.counts, strict=True):
            self.counts[step.number - 1].add(count)
        for step, parts in zip(steps, done.totals, strict=False):
            self._add_sums(step.number, parts)
        if done.trail is not None:
            self.trail.add(done.trail)
        self._leave(done.left, done.malformed, done.packed)

    def _leave(self, left: list[Left], malformed: tuple[Malformed, ...], result: Any) -> None:
        for item in left:
            known = self.counts[item.step - 1].gone
            for index in range(min(SAMPLES - len(known), len(item.numbers))):
                why, state, into = (
                    part[index].as_py() for part in (item.reasons, item.states, item.into)
                )
                known.append(Gone(item.paths[index].as_py(), item.outcome, why, state, into))
        for item in left if self.plan.totals else ():
            frame = Frame(len(item.numbers), item.values, self.plan.steps[item.step - 1].types)
            for state, total in zip(self.left_totals, self.plan.totals, strict=True):
                if (bound := total.places[item.step - 1]) is not None:
                    state.add(part_of(bound, frame, item.numbers))
        if left or malformed:
            self.left(result)

    # -- whole-table steps
    def _table(self, step: BoundStep, stream: Iterator[TrackedRows]) -> Iterator[TrackedRows]:
        count = self.counts[step.number - 1]
        assert isinstance(step.action, TableAction)
        gone: list[Left] = []

        def left(value: Left) -> None:
            if self.wanted is not None:
                gone.append(value)
            self._leave([value], (), self.pack([value], ()))

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
                self._add_sums(step.number, self._sums(step.number, rows))
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

    # -- control totals
    def _sums(self, place: int, rows: TrackedRows) -> list[AggregatePartial | None]:
        frame = rows.frame()
        return [
            None if (bound := total.places[place]) is None else part_of(bound, frame, rows.numbers)
            for total in self.plan.totals
        ]

    def _add_sums(self, place: int, parts: list[AggregatePartial | None]) -> None:
        for state, part in zip(self.totals[place], parts, strict=False):
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
