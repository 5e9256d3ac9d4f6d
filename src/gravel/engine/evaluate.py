"""Evaluation: every row gets a value or an error, branches run only for the rows that reach them.

Where no operand can fail, whole columns are combined at once; where one can, the rows that do not
reach it are left out before it runs, so that nothing an expression guards against is ever computed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.frame import Frame
from gravel.engine.vector import Vector, assemble, first_error, vector
from gravel.kernels.arrays import repeated, to_arrow
from gravel.language import nodes
from gravel.language.functions import casts
from gravel.language.functions.catalogue import KernelResult
from gravel.language.functions.nulls import blank
from gravel.language.functions.operators import compared
from gravel.language.functions.ordering import sortable
from gravel.language.types import TEXT


def evaluate(node: nodes.Expression, frame: Frame) -> Vector:
    """The expression's values and errors for the frame's rows, as a constant vector where it reads
    no column."""
    result = frame.known(node)
    if result is None:
        result = frame.remember(node, _RULES[type(node)](node, frame))
    return result


def run(node: nodes.Expression, frame: Frame) -> Vector:
    """The expression's values and errors, one a row, in the Arrow type of the expression's type.

    A dear expression over one text column of few values is evaluated once a value instead of once a
    row.
    """
    result = frame.known(node)
    if result is None:
        few = _once_a_value(node, frame)
        result = evaluate(node, frame) if few is None else frame.remember(node, few)
    result = result.spread(frame.count)
    if result.values.type != node.type.arrow:
        result = Vector(casts.widened(result.values, node.type.arrow), result.errors)
    return result


_DEAR = ("spelling", "patterns", "lists")
_SAMPLE = 2000


def _once_a_value(node: nodes.Expression, frame: Frame) -> Vector | None:
    if frame.count <= _SAMPLE or not _is_dear(node):
        return None
    read = nodes.columns_read(node)
    if len(read) != 1 or read[0].type != TEXT:
        return None
    column = frame.column(read[0].index)
    if (
        not pa.types.is_string(column.values.type)
        or pc.count_distinct(column.values.slice(0, _SAMPLE)).as_py() > _SAMPLE // 20
    ):
        return None
    coded = column.values.dictionary_encode()
    if len(coded.dictionary) > frame.count // 10:
        return None
    # NULL is a value of its own here, the last.
    values = pa.concat_arrays([coded.dictionary, pa.nulls(1, pa.string())])
    stored: list[Any] = [None] * (read[0].index + 1)
    stored[-1] = values
    few = evaluate(node, Frame(len(values), stored, frame.types)).spread(len(values))
    where = coded.indices.fill_null(len(values) - 1)
    return Vector(
        few.values.take(where), None if few.errors is None else few.errors[where.to_numpy()]
    )


def _is_dear(node: nodes.Expression) -> bool:
    """Whether an expression costs more than telling the few values of a column apart."""
    calls, stack = 0, [node]
    while stack:
        item = stack.pop()
        if isinstance(item, nodes.BoundCall) and item.function.family in _DEAR:
            return True
        calls += isinstance(item, (nodes.BoundCall, nodes.BoundCast, nodes.BoundCase))
        if calls > 3:
            return True
        stack.extend(item.children)
    return False


def _column(node: nodes.Column, frame: Frame) -> Vector:
    return frame.column(node.index)


def _constant(node: nodes.Constant, frame: Frame) -> Vector:
    return Vector(pa.array([node.value], node.type.arrow), constant=True)


def _call(node: nodes.BoundCall, frame: Frame) -> Vector:
    operands = [evaluate(argument, frame) for argument in node.arguments]
    return _apply(node, operands, frame.count)


def _apply(node: nodes.BoundCall, operands: list[Vector], count: int) -> Vector:
    constant = all(operand.constant for operand in operands)
    rows = 1 if constant else count
    # A kernel always gets one array at least, so that it need not ask how many rows there are.
    arguments = [operand.argument for operand in operands]
    if constant and operands:
        arguments[0] = operands[0].values
    extra = {"to": node.type} if node.function.wants_type else {}
    result = node.function.kernel(*arguments, **extra)  # type: ignore[misc]
    values, errors = result if isinstance(result, KernelResult) else (result, None)
    if isinstance(values, pa.Scalar):
        values = repeated(values, rows)
    elif isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks()
    if len(values) != rows:
        raise AssertionError(f"{node.function.name} gave {len(values)} values for {rows} rows")
    before = first_error(operands, rows)
    if before is not None:
        errors = before if errors is None else np.where(before != 0, before, errors)
    return vector(values, errors, constant)


def _cast(node: nodes.BoundCast, frame: Frame) -> Vector:
    operand = evaluate(node.operand, frame)
    result = casts.cast(operand.values, node.operand.type, node.target)
    errors = None if result.errors is None or not result.errors.any() else result.errors
    if node.mode == "FITS":
        fits = to_arrow(np.ones(len(operand), bool) if errors is None else errors == 0)
        known = pc.is_valid(operand.values)
        return vector(
            pc.if_else(known, fits, pa.scalar(None, pa.bool_())), operand.errors, operand.constant
        )
    if node.mode == "CAST_OR_NULL":
        errors = None
    if operand.errors is not None:
        errors = (
            operand.errors
            if errors is None
            else np.where(operand.errors != 0, operand.errors, errors)
        )
    return vector(result.values, errors, operand.constant)


def _fails(node: nodes.RaisesError, frame: Frame) -> Vector:
    operand = evaluate(node.operand, frame)
    count = len(operand)
    return Vector(
        to_arrow(np.zeros(count, bool) if operand.errors is None else operand.errors != 0),
        None,
        operand.constant,
    )


def _is(node: nodes.IsTest, frame: Frame) -> Vector:
    operand = evaluate(node.operand, frame)
    values = operand.values
    if node.test in ("NULL", "UNKNOWN"):
        output = pc.is_valid(values) if node.negated else pc.is_null(values)
    else:
        result = pc.fill_null(values if node.test == "TRUE" else pc.invert(values), False)
        output = pc.invert(result) if node.negated else result
    return vector(output, operand.errors, operand.constant)


def _logic(node: nodes.BooleanOp, frame: Frame) -> Vector:
    """Left to right: a row that an operand decides (FALSE for AND, TRUE for OR, or an error)
    reaches no later one that may fail, or that costs more than to leave rows out."""
    combine = pc.and_kleene if node.conjunction else pc.or_kleene
    if not any(operand.fails or operand.searches for operand in node.operands[1:]):
        return _logic_at_once(node, frame, combine)
    count = frame.count
    pieces: list[tuple[np.ndarray, Vector]] = []
    rows, part, so_far = np.arange(count), frame, evaluate(node.operands[0], frame).spread(count)
    for operand in node.operands[1:]:
        decided = so_far.failed(len(rows)) | (
            so_far.false(len(rows)) if node.conjunction else so_far.true(len(rows))
        )
        if decided.any():
            pieces.append((rows[decided], _some(so_far, decided)))
            so_far = _some(so_far, ~decided)
            rows = rows[~decided]
            part = frame.part(rows)
        if not len(rows):
            break
        right = evaluate(operand, part).spread(len(rows))
        so_far = vector(combine(so_far.values, right.values), right.errors)
    return assemble(count, [*pieces, (rows, so_far)], pa.bool_())


def _logic_at_once(node: nodes.BooleanOp, frame: Frame, combine: Any) -> Vector:
    first = evaluate(node.operands[0], frame)
    errors, result, constant = first.errors, first.argument, first.constant
    for operand in node.operands[1:]:
        right = evaluate(operand, frame)
        constant = constant and right.constant
        result = combine(result, right.argument)
    if isinstance(result, pa.Scalar):
        result = (
            pa.array([result.as_py()], pa.bool_()) if constant else pa.repeat(result, frame.count)
        )
    if errors is not None and first.constant and not constant:
        errors = np.repeat(errors, frame.count)
    return vector(result, errors, constant)


def _some(vector: Vector, mask: np.ndarray) -> Vector:
    return Vector(
        vector.values.filter(to_arrow(mask)), None if vector.errors is None else vector.errors[mask]
    )


def _in(node: nodes.InList, frame: Frame) -> Vector:
    """x = a OR x = b …, so that it stops at the first match; a list of constants is looked up at
    once."""
    operand = evaluate(node.operand, frame)
    if all(isinstance(item, nodes.Constant) for item in node.items):
        values = [item.value for item in node.items if isinstance(item, nodes.Constant)]
        known = pa.array([value for value in values if value is not None], node.operand.type.arrow)
        result = _among(operand.values, known)
        unknown = pc.is_null(operand.values)
        if len(known) < len(values):
            unknown = pc.or_(unknown, pc.invert(result))
        return vector(
            pc.if_else(unknown, pa.scalar(None, pa.bool_()), result),
            operand.errors,
            operand.constant,
        )
    count = frame.count
    whole = operand.spread(count)
    pieces: list[tuple[np.ndarray, Vector]] = []
    rows, part, so_far = (
        np.arange(count),
        frame,
        vector(pa.repeat(pa.scalar(False), count), whole.errors),
    )
    for item in node.items:
        decided = so_far.failed(len(rows)) | so_far.true(len(rows))
        if decided.any():
            pieces.append((rows[decided], _some(so_far, decided)))
            so_far, rows = _some(so_far, ~decided), rows[~decided]
            part = frame.part(rows)
        if not len(rows):
            break
        right = evaluate(item, part).spread(len(rows))
        same = _EQUAL(whole.values.take(to_arrow(rows)), right.values)
        so_far = vector(pc.or_kleene(so_far.values, same), right.errors)
    return assemble(count, [*pieces, (rows, so_far)], pa.bool_())


_EQUAL = compared("=")


def _among(values: pa.Array, known: pa.Array) -> pa.Array:
    """Which values equal one of the known ones, as = has it."""
    both = sortable(
        pa.concat_arrays(
            [values, known.combine_chunks() if isinstance(known, pa.ChunkedArray) else known]
        )
    )
    return pc.and_(
        pc.is_in(both.slice(0, len(values)), both.slice(len(values))), pc.is_valid(values)
    )


def _in_set(node: nodes.InSubquery, frame: Frame) -> Vector:
    """Not in an empty set: FALSE, even for NULL; else unknown for NULL, and where nothing matches
    but a NULL is there."""
    operand = evaluate(node.operand, frame)
    result = _among(operand.values, node.values)
    if not len(node.values) and not node.has_null:
        return vector(result, operand.errors, operand.constant)
    unknown = pc.is_null(operand.values)
    if node.has_null:
        unknown = pc.or_(unknown, pc.invert(result))
    return vector(
        pc.if_else(unknown, pa.scalar(None, pa.bool_()), result), operand.errors, operand.constant
    )


def _case(node: nodes.BoundCase, frame: Frame) -> Vector:
    if not node.fails:
        return _case_at_once(node, frame)
    count = frame.count
    pieces: list[tuple[np.ndarray, Vector]] = []
    rows, part = np.arange(count), frame
    for condition, result in node.branches:
        decision = evaluate(condition, part).spread(len(rows))
        failed, taken = decision.failed(len(rows)), decision.true(len(rows))
        if failed.any():
            nothing = pa.nulls(int(failed.sum()), node.type.arrow)
            pieces.append(
                (
                    rows[failed],
                    Vector(
                        nothing, decision.errors[failed] if decision.errors is not None else None
                    ),
                )
            )
        if taken.any():
            pieces.append((rows[taken], _typed(evaluate(result, frame.part(rows[taken])), node)))
        if failed.any() or taken.any():
            rows = rows[~failed & ~taken]
            part = frame.part(rows)
        if not len(rows):
            break
    if len(rows):
        pieces.append((rows, _typed(evaluate(node.otherwise, part), node)))
    return assemble(count, pieces, node.type.arrow)


def _typed(vector: Vector, node: nodes.Expression) -> Vector:
    if vector.values.type == node.type.arrow:
        return vector
    return Vector(casts.widened(vector.values, node.type.arrow), vector.errors, vector.constant)


def _case_at_once(node: nodes.BoundCase, frame: Frame) -> Vector:
    output: Any = _typed(evaluate(node.otherwise, frame), node).argument
    for condition, result in reversed(node.branches):
        chosen = evaluate(condition, frame).spread(frame.count).values
        output = pc.if_else(
            pc.fill_null(chosen, False), _typed(evaluate(result, frame), node).argument, output
        )
    return Vector(output)


def _first_of(node: nodes.Coalesce, frame: Frame) -> Vector:
    """Argument by argument, each only for the rows that all before it left open."""
    text = node.type == TEXT
    if not node.fails and not node.blank:
        return _first_known(node.arguments, node, frame)
    count = frame.count
    pieces: list[tuple[np.ndarray, Vector]] = []
    rows, part = np.arange(count), frame
    for position, argument in enumerate(node.arguments):
        made_here = _typed(evaluate(argument, part), node).spread(len(rows))
        if position == len(node.arguments) - 1:
            pieces.append((rows, made_here))
            break
        open_rows = (
            blank(made_here.values)
            if node.blank and text
            else pc.is_null(made_here.values).to_numpy(zero_copy_only=False)
        )
        open_rows &= ~made_here.failed(len(rows))
        if not open_rows.all():
            pieces.append(
                (rows[~open_rows], _some(made_here, ~open_rows) if open_rows.any() else made_here)
            )
        if not open_rows.any():
            break
        rows = rows[open_rows]
        part = frame.part(rows) if len(rows) < count else frame
    return assemble(count, pieces, node.type.arrow)


def _first_known(
    arguments: Sequence[nodes.Expression], node: nodes.Coalesce, frame: Frame
) -> Vector:
    """What is not NULL, of arguments that cannot fail. Those that cost something are evaluated for
    the rows that need them only."""
    first = _typed(evaluate(arguments[0], frame), node)
    others = arguments[1:]
    if not others or (not first.constant and first.values.null_count == 0):
        return first
    cheap = all(isinstance(item, nodes.Column | nodes.Constant) for item in others)
    if cheap or first.constant or first.values.null_count * 2 > frame.count:
        results = [first, *(_typed(evaluate(argument, frame), node) for argument in others)]
        if all(item.constant for item in results):
            return next((item for item in results if item.values.null_count == 0), results[-1])
        return Vector(pc.coalesce(*(item.argument for item in results)))
    missing = pc.is_null(first.values)
    rows = np.flatnonzero(missing.to_numpy(zero_copy_only=False))
    rest = _first_known(others, node, frame.part(rows)).spread(len(rows))
    return Vector(pc.replace_with_mask(first.values, missing, rest.values))


_RULES: dict[type, Callable[[Any, Frame], Vector]] = {
    nodes.Column: _column,
    nodes.Constant: _constant,
    nodes.Moment: _constant,
    nodes.BoundCall: _call,
    nodes.BoundCast: _cast,
    nodes.IsTest: _is,
    nodes.BooleanOp: _logic,
    nodes.InList: _in,
    nodes.BoundCase: _case,
    nodes.Coalesce: _first_of,
    nodes.RaisesError: _fails,
    nodes.InSubquery: _in_set,
}
