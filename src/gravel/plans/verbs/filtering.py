"""`keep_rows` and `drop_rows`: rows by a condition. What is unknown is not kept by the one and not
dropped by the other."""

from __future__ import annotations

import numpy as np

from gravel.engine.evaluate import run
from gravel.inspecting.cautions import Watch
from gravel.language import nodes
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.errors import settle
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Left, Outcome, PlanColumn, RowAction, left
from gravel.plans.verbs.kind import StepKind


class FilterStep(StepKind):
    """`keep_rows` and `drop_rows`: rows by a condition."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The condition."""
        return [SqlFragment((step.verb,), "expression", getattr(step, step.verb))]

    def columns_read(self, step: Step) -> list[str]:
        """None beside the condition's."""
        return []

    def bind(self, binder: Binder) -> tuple[FilterAction, tuple[PlanColumn, ...], Watch]:
        """The condition bound."""
        verb = binder.step.verb
        text = getattr(binder.step, verb)
        condition = binder.condition(text, verb)
        watch = Watch([] if condition is None else [(condition, text)])
        return FilterAction(verb == "keep_rows", condition, text), binder.columns, watch


class FilterAction(RowAction, frozen=True):
    """A condition to decide; `keeps` the rows for which it is true, or drops them."""

    keeps: bool
    condition: nodes.Expression | None
    text: str

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        assert self.condition is not None
        count = StepCount(rows_in=rows.count)
        gone: list[Left] = []
        frame = rows.frame()
        decided = run(self.condition, frame)
        stays = settle(step, rows, [("", self.text, self.condition, decided)], count, gone)
        true, false = decided.true(rows.count), decided.false(rows.count)
        unknown = ~(true | false) & stays
        count.seen = step.watch.count(frame)
        text = " ".join(self.text.split())
        if self.keeps:
            dropped = [(false, f"false: {text}"), (unknown, f"unknown: {text}")]
            count.dropped_false, count.dropped_unknown = int(false.sum()), int(unknown.sum())
            going = true
        else:
            dropped = [(true, f"true: {text}")]
            count.dropped_true = int(true.sum())
            going = ~true & stays
        for mask, reason in dropped:
            if mask.any():
                gone.append(left(step, rows, np.flatnonzero(mask), ExitKind.DROPPED, reason))
        rows.keep(going)
        count.rows_out = rows.count
        return Outcome(rows, count, gone)
