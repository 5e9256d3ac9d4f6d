"""What becomes of rows for which a step's expressions fail."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.inspecting.attempt import ErrorKind, error_kinds
from gravel.language import nodes
from gravel.language.errors import ErrorPolicy, sqlstate
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Left, left

# What failed: the column it is for ('' for none), its text, the expression if it is one, its
# vector.
Made = tuple[str, str, nodes.Expression | None, Vector]


def settle(
    step: BoundStep, rows: TrackedRows, result: Sequence[Made], count: StepCount, gone: list[Left]
) -> np.ndarray:
    """Count the row errors of a step, and decide as its on_error says; which rows stay. Errors that
    are to be NULL stay."""
    failed = np.zeros(rows.count, bool)
    frame = rows.frame()
    for name, _, expression, vector in result:
        if vector.errors is None:
            continue
        failed |= vector.errors != 0
        kinds = (
            _kinds(vector, rows)
            if expression is None
            else error_kinds(expression, vector, frame, rows.numbers)
        )
        for kind in kinds:
            count.errors[name, kind.sqlstate] = kind
    if not failed.any():
        return np.ones(rows.count, bool)
    if step.on_error is ErrorPolicy.NULL:
        count.errors_to_null += int(failed.sum())
        return np.ones(rows.count, bool)
    if step.on_error is ErrorPolicy.STOP:
        count.failed += int(failed.sum())
    else:
        count.set_aside += int(failed.sum())
        gone.append(failed_rows(step, rows, failed, result))
    return ~failed


def _kinds(vector: Vector, rows: TrackedRows) -> list[ErrorKind]:
    results = []
    errors = vector.errors if vector.errors is not None else np.zeros(0, np.uint8)
    for code in distinct_values(errors[errors != 0]):
        index = np.flatnonzero(errors == code)
        results.append(
            ErrorKind(
                sqlstate(int(code)),
                len(index),
                vector_example(vector, int(index[0])),
                int(rows.numbers[index[0]]),
            )
        )
    return results


def vector_example(vector: Vector, index: int) -> str | None:
    """What stands behind an error, where a step keeps the text there."""
    value = vector.values[index].as_py()
    return value if isinstance(value, str) else None


def failed_rows(
    step: BoundStep, rows: TrackedRows, failed: np.ndarray, result: Sequence[Made]
) -> Left:
    """The rows set aside, each with the first of its expressions that failed."""
    where = np.flatnonzero(failed)
    states: list[str | None] = [None] * len(where)
    reasons = [""] * len(where)
    columns: list[str | None] = [None] * len(where)
    for name, text, _, vector in result:
        if vector.errors is None:
            continue
        for index, row in enumerate(where):
            if states[index] is None and vector.errors[row]:
                states[index] = sqlstate(int(vector.errors[row]))
                reasons[index], columns[index] = text, name or None
    message = [pa.array(texts, pa.string()) for texts in (reasons, states, columns)]
    return left(step, rows, where, ExitKind.SET_ASIDE, *message)
