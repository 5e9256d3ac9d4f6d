"""`set`: columns get the values of expressions, all of which read the row as it came into the
step."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.arrow_values import text_of
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.vector import Vector
from gravel.inspecting.attempt import target_column
from gravel.inspecting.cautions import Watch
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.buffers import valid
from gravel.language.functions.operators import distinct
from gravel.language.types import TEXT, Kind, common
from gravel.plans.binder import Binder, SqlFragment, touched
from gravel.plans.errors import settle
from gravel.plans.ledger import StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, samples
from gravel.plans.steps import BoundStep, Left, Outcome, PlanColumn, RowAction, names_of
from gravel.plans.verbs.kind import StepKind


class Assignment(Struct, frozen=True):
    """One column of a `set`: its position after the step, its name, its expression as text and
    bound; `new` if the table did not have it."""

    index: int
    name: str
    text: str
    expression: nodes.Expression
    new: bool


def _explain_earlier(binder: Binder, new_columns: list[str]) -> None:
    """Say of a column that is not there that the same step makes it, where it does."""
    problem = binder.mistakes[-1]
    if isinstance(problem, Diagnostic) and problem.message.startswith("there is no column"):
        name = problem.text[problem.start : problem.end]
        if name in new_columns:
            problem.hint = f"this step makes {name}: the next step can read it"


class SetStep(StepKind):
    """`set`: columns get the values of expressions."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The assigned expressions."""
        return [
            SqlFragment(("set", name), "expression", text)
            for name, text in (step.set or {}).items()
        ]

    def columns_read(self, step: Step) -> list[str]:
        """None beside the expressions', but for columns of which some rows keep what they have."""
        return [] if step.only is None else list(step.set or {})

    def bind(self, binder: Binder) -> tuple[SetAction, tuple[PlanColumn, ...], Watch]:
        """Every assignment bound to the columns as the step finds them."""
        columns = list(binder.columns)
        before = names_of(columns)
        results: list[Assignment] = []
        for name, text in (binder.step.set or {}).items():
            position, result = target_column(name, before)
            new = position is None
            if position is None:
                position, result = len(columns), name
                if not name.strip():
                    binder.wrong("a column needs a name", "set", name)
                columns.append(PlanColumn(name, TEXT))
            if any(item.index == position for item in results):
                binder.wrong(f"{result} is set twice in one step", "set", name)
            bound = binder.expression(text, "set", name)
            if bound is None:
                _explain_earlier(binder, [item.name for item in results if item.new])
                continue
            kind = bound.type
            if binder.step.only is not None and not new:
                both = common(kind, columns[position].type)
                if both is None:
                    binder.wrong(
                        f"{result} would be {kind} in some rows and {columns[position].type} in"
                        " others",
                        "set",
                        name,
                        hint=f"CAST(… AS {columns[position].type})",
                    )
                kind = both or kind
            columns[position] = touched(
                columns[position], type=TEXT if kind.kind is Kind.NULL else kind
            )
            if not isinstance(bound, nodes.Column):
                binder.declared -= {result}
            results.append(Assignment(position, result, text, bound, new))
        targets = [
            (
                None
                if item.new
                else nodes.Column(binder.columns[item.index].type, 0, 0, item.index, item.name)
            )
            for item in results
        ]
        return (
            SetAction(tuple(results)),
            tuple(columns),
            Watch([(item.expression, item.text) for item in results], targets=targets),
        )


class SetAction(RowAction, frozen=True):
    """Assignments to run."""

    assignments: tuple[Assignment, ...]

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        count = StepCount(rows_in=rows.count)
        gone: list[Left] = []
        frame = rows.frame()
        results = [
            (assignment, *_assigned(assignment.expression, frame))
            for assignment in self.assignments
        ]
        going = settle(
            step,
            rows,
            [(item.name, item.text, item.expression, vector) for item, vector, _ in results],
            count,
            gone,
        )
        count.seen = step.watch.count(frame)
        changed = np.zeros(rows.count, bool)
        ready = []
        for entry, vector, stored in results:
            if vector.errors is not None:
                # An error that becomes NULL is a change too.
                stored = pc.if_else(
                    to_arrow(vector.errors == 0), stored, pa.scalar(None, stored.type)
                )
            after = text_of(stored, entry.expression.type)
            ready.append((entry.index, after if pa.types.is_null(stored.type) else stored, after))
            if not entry.new:
                differs = (
                    distinct(rows.text(entry.index), after).to_numpy(zero_copy_only=False) & going
                )
                count.changed_columns[entry.name] = int(differs.sum())
                changed |= differs
                if differs.any():
                    count.changes[entry.name] = samples(
                        rows, differs, rows.text(entry.index), after
                    )
            else:
                count.changes[entry.name] = samples(
                    rows, going & valid(after), pa.nulls(rows.count, pa.string()), after
                )
        count.changed = int(changed.sum())
        for column in ready:
            rows.put(*column)
        rows.keep(going)
        count.rows_out = rows.count
        return Outcome(rows, count, gone)


def _assigned(expression: nodes.Expression, frame: Frame) -> tuple[Vector, Any]:
    """The vector of an assigned expression, and what is stored: a column as it stands keeps its
    texts."""
    vector = run(expression, frame)
    if isinstance(expression, nodes.Column):
        return vector, frame.stored[expression.index]
    return vector, vector.values
