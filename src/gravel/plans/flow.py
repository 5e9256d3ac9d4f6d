"""The rows of a plan on their way, and what has been counted of them: runs of row-by-row steps,
whole-table steps between them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct, field

from gravel.engine.engine import RowStage
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.inspecting.aggregates import AggregateState
from gravel.ledger.checksum import ChecksumStream
from gravel.ledger.fingerprint import Content
from gravel.plans.keys import KeyState
from gravel.plans.ledger import SAMPLES, StepCount
from gravel.plans.row_steps import (
    Pack,
    RowStart,
    RowSteps,
    Totals,
    WholeSeen,
    Worked,
    examples_of,
    totals_left,
)
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundPlan, BoundStep, Context, Left, RowAction, TableAction
from gravel.plans.trail import Trail
from gravel.sources.source import Malformed


class Flow(Struct):
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


def _add(states: Sequence[AggregateState | None], parts: Totals) -> None:
    for state, part in zip(states, parts, strict=False):
        if state is not None and part is not None:
            state.add(part)
