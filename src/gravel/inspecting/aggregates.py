"""Aggregates over a whole table: a state a batch, an associative merge, one value."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.distinct import Distinct, counted
from gravel.engine.evaluate import run
from gravel.engine.exact_sum import ExactSum, Units
from gravel.engine.frame import Frame
from gravel.engine.vector import Vector
from gravel.language import nodes, parse, tree
from gravel.language.bind import Scope, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.ordering import one_zero, span
from gravel.language.types import BOOLEAN, DOUBLE, INTEGER, NUMBERS, Kind, Type
from gravel.problems import DataProblem
from gravel.querying.groups import finished, mean_type, ordered, sum_type
from gravel.words import words

KNOWN = words("COUNT SUM AVG MIN MAX STDDEV_SAMP STDDEV_POP VAR_SAMP VAR_POP")


@dataclass(frozen=True)
class BoundAggregate:
    """An aggregate with its argument and FILTER bound to the table; `at` is its place in the text."""

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
        raise Diagnostic(f"{name} is no aggregate of a check", text, node.start, node.name_end, hint=", ".join(sorted(KNOWN)))
    if (node.star and name != "COUNT") or len(node.arguments) != 1 - node.star:
        raise Diagnostic(f"{name} takes one expression", text, node.start, node.end, hint="only COUNT takes *")
    argument = None if node.star else bind(node.arguments[0], scope, text)
    condition = None if node.filter is None else bind(node.filter, scope, text)
    if condition is not None and condition.type.kind not in (Kind.BOOLEAN, Kind.NULL):
        raise Diagnostic(f"a condition is needed here, this is {condition.type}", text, condition.start, condition.end)
    if argument is not None and name not in ("COUNT", "MIN", "MAX") and argument.type.kind not in (*NUMBERS, Kind.NULL):
        raise Diagnostic(f"{name} takes a number, this is {argument.type}", text, argument.start, argument.end,
                         hint=f"write CAST({text[argument.start : argument.end]} AS DECIMAL)")  # fmt: skip
    return BoundAggregate((node.start, node.end), name, node.distinct, argument, condition, _type(name, argument))


def _type(name: str, argument: nodes.Expression | None) -> Type:
    if name == "COUNT" or argument is None:
        return INTEGER
    kind = argument.type
    if name in ("MIN", "MAX"):
        return kind
    if kind.kind is Kind.DOUBLE or name.startswith(("STDDEV", "VAR")):
        return DOUBLE
    return sum_type(kind) if name == "SUM" else mean_type(kind)


@dataclass
class AggregateState:
    """One aggregate so far. `nulls` are rows it passed over; `failed` has the rows in which its input has an error, by SQLSTATE's code: how
    many, and the first ones."""

    bound: BoundAggregate
    rows: int = 0
    nulls: int = 0
    total: ExactSum = field(default_factory=ExactSum)
    least: Any = None
    most: Any = None
    distinct: Distinct = field(default_factory=Distinct)
    values: list[Any] = field(default_factory=list)
    failed: dict[int, tuple[int, list[int]]] = field(default_factory=dict)

    def add(self, part: AggregatePartial) -> None:
        """Take in a batch, in the order of the table."""
        self.rows += part.rows
        self.nulls += part.nulls
        for code, rows in part.failed.items():
            count, first = self.failed.get(code, (0, []))
            self.failed[code] = (count + len(rows), (first + rows.tolist())[:3])
        if part.total is not None:
            self.total = self.total.merge(part.total)
        for value in part.bounds:
            self.least = value if self.least is None or _place(value) < _place(self.least) else self.least
            self.most = value if self.most is None or _place(value) > _place(self.most) else self.most
        if part.distinct is not None:
            if self.bound.name == "COUNT":
                self.distinct.add(part.distinct)
            else:
                self.values.append(part.values)

    def result(self) -> Any:
        """The value, None for NULL. Raises DataProblem where it is out of range."""
        name = self.bound.name
        if self.values:
            whole = pa.chunked_array(self.values).combine_chunks()
            once = pc.unique(one_zero(whole) if pa.types.is_floating(whole.type) else whole)
            self.rows, self.total = len(once), ExactSum.of(once, _squared(name))
        if name == "COUNT":
            return len(self.distinct) if self.bound.distinct else self.rows
        if name in ("MIN", "MAX"):
            return self.least if name == "MIN" else self.most
        if self.total.count < (2 if name.endswith("SAMP") else 1):
            return None
        made = self._sum(name) if name in ("SUM", "AVG") else self.total.spread(name)
        if made is None:
            raise DataProblem(f"{name} is out of range: 22003")
        return made

    def _sum(self, name: str) -> Any:
        if self.bound.type.kind is Kind.DOUBLE:
            return self.total.sum_as_double() if name == "SUM" else self.total.mean_as_double()
        kind = self.bound.argument.type if self.bound.argument is not None else INTEGER
        units = Units(np.array([int(self.total.total * 10**kind.scale)], object), 10, -kind.scale)
        made = finished(units.whole, np.array([self.total.count]), units, kind, name, {})
        return None if made.errors is not None else made.values[0].as_py()


@dataclass(frozen=True)
class AggregatePartial:
    """One aggregate over one batch."""

    rows: int
    nulls: int = 0
    total: ExactSum | None = None
    bounds: tuple[Any, ...] = ()
    distinct: Any = None
    values: Any = None
    failed: dict[int, np.ndarray] = field(default_factory=dict)


def _squared(name: str) -> bool:
    return name.startswith(("STDDEV", "VAR"))


def part_of(bound: BoundAggregate, frame: Frame, rows: np.ndarray) -> AggregatePartial:
    """An aggregate's part of a batch whose rows have these numbers."""
    failed: dict[int, np.ndarray] = {}
    if bound.filter is not None:
        decided = run(bound.filter, frame)
        failed |= _by_code(decided, rows)
        kept = np.flatnonzero(decided.true(frame.count))
        frame, rows = frame.part(kept), rows[kept]
    if bound.argument is None:
        return AggregatePartial(frame.count, failed=failed)
    made = run(bound.argument, frame)
    for code, bad in _by_code(made, rows).items():
        failed[code] = np.concatenate([failed[code], bad]) if code in failed else bad
    nulls = made.values.null_count - int(made.failed(frame.count).sum())
    if made.values.null_count:
        rows = rows[pc.is_valid(made.values).to_numpy(zero_copy_only=False)]
    known = made.values.drop_null()
    if not len(known):
        return AggregatePartial(0, nulls, failed=failed)
    if bound.name in ("MIN", "MAX"):
        order = ordered(known)
        return AggregatePartial(len(known), nulls, bounds=(known[int(order[0])].as_py(), known[int(order[-1])].as_py()), failed=failed)
    if bound.distinct:
        values = None if bound.name == "COUNT" else pc.unique(known)
        return AggregatePartial(len(known), nulls, distinct=counted([known], rows), values=values, failed=failed)
    if bound.name == "COUNT":
        return AggregatePartial(len(known), nulls, failed=failed)
    return AggregatePartial(len(known), nulls, total=ExactSum.of(known, _squared(bound.name)), failed=failed)


def _by_code(made: Vector, rows: np.ndarray) -> dict[int, np.ndarray]:
    """The rows with an error, by its code."""
    if made.errors is None:
        return {}
    return {int(code): rows[made.errors == code] for code in np.unique(made.errors[made.errors != 0])}


def _place(value: Any) -> tuple[bool, Any]:
    """What values are compared by: NaN is the greatest number."""
    return (value != value, span(value) if isinstance(value, pa.MonthDayNano) else value)


def one_row(states: Iterable[AggregateState]) -> list[Any]:
    """The results as columns of one row. Raises DataProblem for a sum that its type cannot hold."""
    columns = []
    for state in states:
        value = state.result()
        if state.bound.type == BOOLEAN and value is not None:
            value = bool(value)
        try:
            columns.append(pa.array([value], state.bound.type.arrow))
        except pa.ArrowInvalid:
            raise DataProblem(f"{state.bound.name} has more digits than {state.bound.type} holds: 22003") from None
    return columns
