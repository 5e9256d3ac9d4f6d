"""Aggregates over a whole table: a state a batch, an associative merge, one value."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from gravel.engine.aggregates import (
    CountState,
    GroupedValues,
    GroupState,
    SumState,
    result_type,
    state_of,
)
from gravel.engine.distinct import Counted, Distinct, counted
from gravel.engine.engine import DistinctValues
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.language import nodes, parse, tree
from gravel.language.bind import bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.ordering import one_zero
from gravel.language.scope import Scope
from gravel.language.types import BOOLEAN, INTEGER, NUMBERS, Kind, Type
from gravel.problems import DataProblem
from gravel.words import words

KNOWN = words("COUNT SUM AVG MIN MAX STDDEV_SAMP STDDEV_POP VAR_SAMP VAR_POP")


class BoundAggregate(Struct, frozen=True):
    """An aggregate with its argument and FILTER bound to the table; `at` is its place in the
    text."""

    at: tuple[int, int]
    name: str
    distinct: bool
    argument: nodes.Expression | None
    filter: nodes.Expression | None
    type: Type


def aggregates_in(node: tree.Node) -> list[tree.Aggregate]:
    """The aggregates of an expression, in no special order."""
    return [child for child in parse.walk(node, queries=False) if isinstance(child, tree.Aggregate)]


def bind_aggregate(node: tree.Aggregate, scope: Scope, text: str) -> BoundAggregate:
    """Bind an aggregate's argument. Raises Diagnostic."""
    name = node.name.upper()
    if name not in KNOWN or node.over is not None:
        raise Diagnostic(
            f"{name} is not an aggregate of a check",
            text,
            node.start,
            node.name_end,
            hint=", ".join(sorted(KNOWN)),
        )
    if (node.star and name != "COUNT") or len(node.arguments) != 1 - node.star:
        raise Diagnostic(
            f"{name} takes one expression", text, node.start, node.end, hint="only COUNT takes *"
        )
    argument = None if node.star else bind(node.arguments[0], scope, text)
    condition = None if node.filter is None else bind(node.filter, scope, text)
    if condition is not None and condition.type.kind not in (Kind.BOOLEAN, Kind.NULL):
        raise Diagnostic(
            f"a condition is needed here, this is {condition.type}",
            text,
            condition.start,
            condition.end,
        )
    if (
        argument is not None
        and name not in ("COUNT", "MIN", "MAX")
        and argument.type.kind not in (*NUMBERS, Kind.NULL)
    ):
        raise Diagnostic(
            f"{name} takes a number, this is {argument.type}",
            text,
            argument.start,
            argument.end,
            hint=f"write CAST({text[argument.start : argument.end]} AS DECIMAL)",
        )
    kind = INTEGER if argument is None else result_type(name, argument.type)
    return BoundAggregate((node.start, node.end), name, node.distinct, argument, condition, kind)


class AggregateState(Struct):
    """One aggregate of a whole table so far. `nulls` are rows it passed over; `failed` has the rows
    in which its input has an error, by SQLSTATE's code: how many, and the first ones."""

    bound: BoundAggregate
    state: GroupState | None = None
    nulls: int = 0
    distinct: DistinctValues = field(default_factory=Distinct)
    values: list[Any] = field(default_factory=list)
    failed: dict[int, tuple[int, list[int]]] = field(default_factory=dict)

    def add(self, part: AggregatePartial) -> None:
        """Take in a batch, in the order of the table."""
        self.nulls += part.nulls
        for code, rows in part.failed.items():
            count, first = self.failed.get(code, (0, []))
            self.failed[code] = (count + len(rows), (first + rows.tolist())[:3])
        if part.state is not None:
            self.state = part.state if self.state is None else self.state.merge(part.state)
        if part.distinct is not None:
            assert isinstance(self.distinct, Distinct)
            self.distinct.add(part.distinct)
        if part.values is not None:
            self.values.append(part.values)

    def merge(self, later: AggregateState) -> None:
        """Take in the state of the rows that follow, but for its distinct values."""
        self.nulls += later.nulls
        for code, (count, rows) in later.failed.items():
            known, first = self.failed.get(code, (0, []))
            self.failed[code] = (known + count, (first + rows)[:3])
        if later.state is not None:
            self.state = later.state if self.state is None else self.state.merge(later.state)
        self.values += later.values

    def result(self) -> Any:
        """The value, None for NULL. Raises DataProblem where it is out of range."""
        bound = self.bound
        if bound.name == "COUNT" and bound.distinct:
            return len(self.distinct)
        if self.values:
            whole = pa.chunked_array(self.values).combine_chunks()
            self.state = _state(
                bound.name,
                pc.unique(one_zero(whole) if pa.types.is_floating(whole.type) else whole),
            )
        if self.state is None:
            return 0 if bound.name == "COUNT" else None
        value = self.state.finish(
            bound.name, INTEGER if bound.argument is None else bound.argument.type
        )
        if value.errors is not None:
            raise DataProblem(f"{bound.name} is out of range: 22003")
        return value.values[0].as_py()

    def exact_sum(self) -> Fraction | None:
        """The sum before it is rounded, 0 of no values; None where one of them is not finite."""
        if self.state is None:
            return Fraction(0)
        assert isinstance(self.state, SumState)
        return None if self.state.special else self.state.total()


class AggregatePartial(Struct, frozen=True):
    """One aggregate over one batch."""

    nulls: int = 0
    state: GroupState | None = None
    distinct: Counted | None = None
    values: Any = None
    failed: dict[int, np.ndarray] = field(default_factory=dict)


def _state(name: str, known: pa.Array) -> GroupState:
    """The state of one group of values, of which none is NULL."""
    return state_of(
        name, GroupedValues(np.zeros(len(known), np.int64), 1, known, np.ones(len(known), bool))
    )


def part_of(bound: BoundAggregate, frame: Frame, rows: np.ndarray) -> AggregatePartial:
    """An aggregate's part of a batch whose rows have these numbers."""
    failed: dict[int, np.ndarray] = {}
    if bound.filter is not None:
        decided = run(bound.filter, frame)
        failed |= _by_code(decided, rows)
        kept = np.flatnonzero(decided.true(frame.count))
        frame, rows = frame.part(kept), rows[kept]
    if bound.argument is None:
        return AggregatePartial(state=CountState(np.array([frame.count])), failed=failed)
    result = run(bound.argument, frame)
    for code, bad in _by_code(result, rows).items():
        failed[code] = np.concatenate([failed[code], bad]) if code in failed else bad
    nulls = result.values.null_count - int(result.failed(frame.count).sum())
    if result.values.null_count:
        rows = rows[pc.is_valid(result.values).to_numpy(zero_copy_only=False)]
    known = result.values.drop_null()
    if not len(known):
        return AggregatePartial(nulls, failed=failed)
    if bound.distinct and bound.name == "COUNT":
        return AggregatePartial(nulls, distinct=counted([known], rows), failed=failed)
    if bound.distinct and bound.name not in ("MIN", "MAX"):
        return AggregatePartial(nulls, values=pc.unique(known), failed=failed)
    return AggregatePartial(nulls, _state(bound.name, known), failed=failed)


def _by_code(vector: Vector, rows: np.ndarray) -> dict[int, np.ndarray]:
    """The rows with an error, by its code."""
    if vector.errors is None:
        return {}
    return {
        int(code): rows[vector.errors == code]
        for code in distinct_values(vector.errors[vector.errors != 0])
    }


def one_row(states: Iterable[AggregateState]) -> list[pa.Array]:
    """The results as columns of one row. Raises DataProblem for a sum that its type cannot hold."""
    columns = []
    for state in states:
        value = state.result()
        if state.bound.type == BOOLEAN and value is not None:
            value = bool(value)
        try:
            columns.append(pa.array([value], state.bound.type.arrow))
        except pa.ArrowInvalid:
            raise DataProblem(
                f"{state.bound.name} has more digits than {state.bound.type} holds: 22003"
            ) from None
    return columns
