"""`check`: conditions that the rows under way must hold; one that fails stops the run."""

from __future__ import annotations

import numpy as np
from msgspec import field

from gravel.engine.evaluate import run
from gravel.inspecting.aggregates import aggregates_in
from gravel.inspecting.attempt import error_kinds
from gravel.inspecting.cautions import Watch
from gravel.inspecting.check import Allowed, allowance
from gravel.language import nodes
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.ledger import CheckCount, StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Outcome, PlanColumn, RowAction
from gravel.plans.verbs.kind import StepKind
from gravel.words import number_of


class CheckStep(StepKind):
    """`check`: conditions that rows are held to."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The conditions."""
        return [
            SqlFragment(("check", name), "expression", text)
            for name, text in (step.check or {}).items()
        ]

    def columns_read(self, step: Step) -> list[str]:
        """None beside the conditions'."""
        return []

    def bind(self, binder: Binder) -> tuple[CheckAction, tuple[PlanColumn, ...], Watch]:
        """The conditions bound."""
        results = []
        for name, text in (binder.step.check or {}).items():
            node = binder.node("check", name)
            if node is not None and aggregates_in(node):
                binder.wrong(
                    f"{name} is about the table as a whole, a step's check is about each row",
                    "check",
                    name,
                    hint="gravel check decides it on the output",
                )
                continue
            condition = binder.condition(text, "check", name)
            if condition is not None:
                results.append((name, text, condition))
        allowed = Allowed() if binder.step.allow is None else allowance(binder.step.allow)
        watch = Watch([(condition, text) for _, text, condition in results])
        return (
            CheckAction(tuple(results), allowed, binder.step.unknown == "fails"),
            binder.columns,
            watch,
        )


class CheckAction(RowAction, frozen=True):
    """Conditions to decide for each row; how many rows need not hold; whether an unknown one
    fails."""

    checks: tuple[tuple[str, str, nodes.Expression], ...]
    allowed: Allowed = field(default_factory=Allowed)
    unknown_fails: bool = False

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction. All rows go on: whether the run does is decided at its end."""
        count = StepCount(rows_in=rows.count, rows_out=rows.count)
        frame = rows.frame()
        for name, _, condition in self.checks:
            decided = run(condition, frame)
            false, failed = decided.false(rows.count), decided.failed(rows.count)
            unknown = ~(decided.true(rows.count) | false | failed)
            if decided.errors is not None:
                for kind in error_kinds(condition, decided, frame, rows.numbers):
                    count.errors[name, kind.sqlstate] = kind
            bad = false | failed | (unknown & self.unknown_fails)
            first = rows.numbers[np.flatnonzero(bad)[:5]].tolist()
            count.checked[name] = CheckCount(
                name,
                rows.count,
                int(false.sum()),
                int(unknown.sum()),
                int(failed.sum()),
                int(bad.sum()),
                first,
            )
        count.seen = step.watch.count(frame)
        return Outcome(rows, count)

    def finish(self, step: BoundStep, count: StepCount) -> str | None:
        """See RowAction."""
        message = []
        for name, result in count.checked.items():
            most = self.allowed.most(result.rows)
            if result.bad > most:
                rows = ", ".join(f"{row:,}" for row in result.first)
                message.append(
                    f"{name!r} does not hold in {result.bad:,} of {number_of(result.rows)}"
                    f" ({result.told}; allowed {most:,}), first in {rows}"
                )
        return f"step {step.number}: " + "; ".join(message) if message else None
