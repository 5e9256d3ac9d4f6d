"""`set`: columns get the values of expressions, all of which read the row as it came into the step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import text_of
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.vector import Vector
from gravel.inspecting.attempt import target_column
from gravel.inspecting.cautions import Watch
from gravel.language import nodes
from gravel.language.functions.buffers import valid
from gravel.language.functions.operators import distinct
from gravel.language.types import TEXT, Kind, common
from gravel.plans.binder import Binder, Written, touched
from gravel.plans.errors import settle
from gravel.plans.ledger import StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, samples
from gravel.plans.steps import BoundStep, Left, Outcome, PlanColumn, RowAction, names_of


@dataclass(frozen=True)
class Assignment:
    """One column of a `set`: its position after the step, its name, its expression as text and bound; `new` if the
    table did not have it."""

    index: int
    name: str
    text: str
    expression: nodes.Expression
    new: bool


def written(step: Step) -> list[Written]:
    """The assigned expressions."""
    return [Written(("set", name), "expression", text) for name, text in (step.set or {}).items()]


def names(step: Step) -> list[str]:
    """None beside the expressions', but for columns of which some rows keep what they have."""
    return [] if step.only is None else list(step.set or {})


def bind(binder: Binder) -> tuple[SetAction, tuple[PlanColumn, ...], Watch]:
    """Every assignment bound to the columns as the step finds them."""
    columns = list(binder.columns)
    before = names_of(columns)
    made: list[Assignment] = []
    for name, text in (binder.step.set or {}).items():
        at, found = target_column(name, before)
        new = at is None
        if at is None:
            at, found = len(columns), name
            if not name.strip():
                binder.wrong("a column needs a name", "set", name)
            columns.append(PlanColumn(name, TEXT))
        if any(one.index == at for one in made):
            binder.wrong(f"{found} is set twice in one step", "set", name)
        bound = binder.expression(text, "set", name)
        if bound is None:
            continue
        kind = bound.type
        if binder.step.only is not None and not new:
            both = common(kind, columns[at].type)
            if both is None:
                binder.wrong(f"{found} would be {kind} in some rows and {columns[at].type} in others", "set", name,
                             hint=f"CAST(… AS {columns[at].type})")  # fmt: skip
            kind = both or kind
        columns[at] = touched(columns[at], type=TEXT if kind.kind is Kind.NULL else kind)
        if not isinstance(bound, nodes.Column):
            binder.declared -= {found}
        made.append(Assignment(at, found, text, bound, new))
    targets = [None if one.new else nodes.Column(binder.columns[one.index].type, 0, 0, one.index, one.name) for one in made]
    return SetAction(tuple(made)), tuple(columns), Watch([(one.expression, one.text) for one in made], targets=targets)


@dataclass(frozen=True)
class SetAction(RowAction):
    """Assignments to run."""

    assignments: tuple[Assignment, ...]

    def run(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        count = StepCount(rows_in=rows.count)
        gone: list[Left] = []
        frame = rows.frame()
        made = [(one, *_assigned(one.expression, frame)) for one in self.assignments]
        going = settle(step, rows, [(one.name, one.text, one.expression, vector) for one, vector, _ in made], count, gone)
        count.seen = step.watch.count(frame)
        changed = np.zeros(rows.count, bool)
        ready = []
        for one, vector, stored in made:
            if vector.errors is not None:
                # An error that becomes NULL is a change too.
                stored = pc.if_else(pa.array(vector.errors == 0), stored, pa.scalar(None, stored.type))
            after = text_of(stored, one.expression.type)
            ready.append((one.index, after if pa.types.is_null(stored.type) else stored, after))
            if not one.new:
                differs = distinct(rows.text(one.index), after).to_numpy(zero_copy_only=False) & going
                count.changed_columns[one.name] = int(differs.sum())
                changed |= differs
                if differs.any():
                    count.changes[one.name] = samples(rows, differs, rows.text(one.index), after)
            else:
                count.changes[one.name] = samples(rows, going & valid(after), pa.nulls(rows.count, pa.string()), after)
        count.changed = int(changed.sum())
        for column in ready:
            rows.put(*column)
        rows.keep(going)
        count.rows_out = rows.count
        return Outcome(rows, count, gone)


def _assigned(expression: nodes.Expression, frame: Frame) -> tuple[Vector, Any]:
    """The vector of an assigned expression, and what is stored: a column as it stands keeps its texts."""
    vector = run(expression, frame)
    if isinstance(expression, nodes.Column):
        return vector, frame.stored[expression.index]
    return vector, vector.values
