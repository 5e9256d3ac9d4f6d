"""Aggregates over a whole table: a state a batch, an associative merge, one value."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.distinct import Distinct, counted
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.inspecting.figures import Sum, sum_of
from gravel.language import nodes, parse, tree
from gravel.language.bind import Scope, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.types import BOOLEAN, DOUBLE, INTEGER, NUMBERS, Kind, Type, decimal, room
from gravel.problems import DataProblem
from gravel.words import words

KNOWN = words("COUNT SUM AVG MIN MAX STDDEV_SAMP STDDEV_POP VAR_SAMP VAR_POP")


@dataclass(frozen=True)
class Bound:
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


def bind_aggregate(node: tree.Aggregate, scope: Scope, text: str) -> Bound:
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
    return Bound((node.start, node.end), name, node.distinct, argument, condition, _type(name, argument))


def _type(name: str, argument: nodes.Expression | None) -> Type:
    if name == "COUNT" or argument is None:
        return INTEGER
    kind = argument.type
    if name in ("MIN", "MAX"):
        return kind
    if kind.kind is Kind.DOUBLE or name.startswith(("STDDEV", "VAR")):
        return DOUBLE
    scale = kind.scale if kind.kind is Kind.DECIMAL else 0
    return decimal(38, scale) if name == "SUM" else room(22, max(scale, 16))


@dataclass
class State:
    """One aggregate so far. `nulls` are rows it passed over; error: (row, code) of the first row that fails."""

    bound: Bound
    rows: int = 0
    nulls: int = 0
    total: Sum = field(default_factory=Sum)
    squares: list[tuple[int, float, float]] = field(default_factory=list)
    least: Any = None
    most: Any = None
    distinct: Distinct = field(default_factory=Distinct)
    values: list[Any] = field(default_factory=list)
    error: tuple[int, int] | None = None

    def add(self, part: Part) -> None:
        """Take in a batch, in the order of the table."""
        self.rows += part.rows
        self.nulls += part.nulls
        self.error = self.error or part.error
        if part.total is not None:
            self.total = self.total.merge(part.total)
        if part.squares is not None:
            self.squares.append(part.squares)
        for value in part.bounds:
            self.least = value if self.least is None or _place(value) < _place(self.least) else self.least
            self.most = value if self.most is None or _place(value) > _place(self.most) else self.most
        if part.distinct is not None:
            if self.bound.name == "COUNT":
                self.distinct.add(part.distinct)
            else:
                self.values.append(part.values)

    def result(self) -> Any:
        """The value, None for NULL."""
        name = self.bound.name
        if self.values:
            once = pc.unique(pa.chunked_array(self.values))
            self.rows, self.total, self.squares = len(once), sum_of(once), [_squares(once)]
        if name == "COUNT":
            return len(self.distinct) if self.bound.distinct else self.rows
        if name in ("MIN", "MAX"):
            return self.least if name == "MIN" else self.most
        if name in ("SUM", "AVG"):
            return self._sum(name)
        return self._spread(name)

    def _sum(self, name: str) -> Any:
        value = self.total.value
        if value is None:
            return None
        if self.bound.type.kind is Kind.DOUBLE:
            return float(value) / (self.rows if name == "AVG" else 1)
        exact = Decimal(value)
        if name == "AVG":
            from decimal import ROUND_HALF_UP, localcontext

            with localcontext() as context:
                context.prec = 80
                exact = (exact / self.rows).quantize(Decimal(1).scaleb(-self.bound.type.scale), ROUND_HALF_UP)
        return exact

    def _spread(self, name: str) -> float | None:
        """Variance from (rows, mean, sum of squared differences) of each batch, merged as Chan, Golub and LeVeque do (1979)."""
        rows, mean, squares = 0, 0.0, 0.0
        for count, part_mean, part_squares in self.squares:
            delta, together = part_mean - mean, rows + count
            squares += part_squares + delta * delta * rows * count / together
            mean += delta * count / together
            rows = together
        divisor = rows - 1 if name.endswith("SAMP") else rows
        if divisor <= 0:
            return None
        return math.sqrt(squares / divisor) if name.startswith("STDDEV") else squares / divisor


@dataclass(frozen=True)
class Part:
    """One aggregate over one batch."""

    rows: int
    nulls: int = 0
    total: Sum | None = None
    squares: tuple[int, float, float] | None = None
    bounds: tuple[Any, ...] = ()
    distinct: Any = None
    values: Any = None
    error: tuple[int, int] | None = None


def part_of(bound: Bound, frame: Frame, rows: np.ndarray) -> Part:
    """An aggregate's part of a batch whose rows have these numbers."""
    if bound.filter is not None:
        decided = run(bound.filter, frame)
        failed = np.flatnonzero(decided.failed(frame.count))
        if len(failed) and decided.errors is not None:
            return Part(0, error=(int(rows[failed[0]]), int(decided.errors[failed[0]])))
        kept = np.flatnonzero(decided.true(frame.count))
        frame, rows = frame.part(kept), rows[kept]
    if bound.argument is None:
        return Part(frame.count)
    made = run(bound.argument, frame)
    failed = np.flatnonzero(made.failed(frame.count))
    if len(failed) and made.errors is not None:
        return Part(0, error=(int(rows[failed[0]]), int(made.errors[failed[0]])))
    nulls = made.values.null_count
    if nulls:
        rows = rows[pc.is_valid(made.values).to_numpy(zero_copy_only=False)]
    known = made.values.drop_null()
    if not len(known):
        return Part(0, nulls)
    if bound.name in ("MIN", "MAX"):
        low, high = (value.as_py() for value in pc.min_max(_ordered(known)).values())
        nan = (float("nan"),) if pa.types.is_floating(known.type) and pc.any(pc.is_nan(known)).as_py() else ()
        return Part(len(known), nulls, bounds=(*(one for one in (low, high) if one is not None), *nan))
    if bound.distinct:
        return Part(len(known), nulls, distinct=counted([known], rows), values=None if bound.name == "COUNT" else pc.unique(known))
    if bound.name == "COUNT":
        return Part(len(known), nulls)
    if bound.name in ("SUM", "AVG"):
        return Part(len(known), nulls, total=sum_of(known))
    return Part(len(known), nulls, squares=_squares(known))


def _squares(known: Any) -> tuple[int, float, float]:
    """(rows, mean, sum of squared differences) of some numbers."""
    numbers = pc.cast(known, pa.float64()).to_numpy()
    mean = float(numbers.mean())
    return len(numbers), mean, float(((numbers - mean) ** 2).sum())


def _place(value: Any) -> tuple[bool, Any]:
    """What values are compared by: NaN is the greatest number."""
    return (value != value, value)


def _ordered(known: Any) -> Any:
    return pc.cast(known, pa.int8()) if pa.types.is_boolean(known.type) else known


def one_row(states: Iterable[State]) -> list[Any]:
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
