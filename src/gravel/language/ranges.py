"""Ranges that conditions put an operand into: bands of a CASE that overlap or leave a gap, bounds
that a strict comparison leaves out."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from gravel.language import nodes
from gravel.language.conditions import bare, called
from gravel.language.types import NUMBERS, Kind

_MEASURED = (*NUMBERS, Kind.DATE, Kind.TIMESTAMP)
# A whole number or a day that is missing between two ends, at most.
_NARROW = {
    Kind.INTEGER: 2,
    Kind.DATE: datetime.timedelta(days=2),
    Kind.TIMESTAMP: datetime.timedelta(days=1),
}
_MIRRORED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}


class RangeEnd(Struct, frozen=True):
    """An end of a range: its value, the node that says it, and whether the value belongs to the
    range."""

    value: Any
    node: nodes.Expression
    included: bool


class Range(Struct, frozen=True):
    """The values of an operand for which a condition holds; an end that is None is open."""

    operand: nodes.Expression
    low: RangeEnd | None
    high: RangeEnd | None


def same_expression(left: nodes.Expression, right: nodes.Expression) -> bool:
    """Whether two expressions say the same, wherever they stand."""
    left, right = bare(left), bare(right)
    if type(left) is not type(right) or len(left.children) != len(right.children):
        return False
    if isinstance(left, nodes.Column) and isinstance(right, nodes.Column):
        return left.index == right.index
    if isinstance(left, nodes.Constant) and isinstance(right, nodes.Constant):
        return bool(left.value == right.value)
    if isinstance(left, nodes.BoundCall) and isinstance(right, nodes.BoundCall):
        same = left.function.name == right.function.name
    elif isinstance(left, nodes.BoundCast) and isinstance(right, nodes.BoundCast):
        same = left.target == right.target and left.mode == right.mode
    else:
        return False
    return same and all(
        same_expression(*pair) for pair in zip(left.children, right.children, strict=True)
    )


def range_of(condition: nodes.Expression) -> Range | None:
    """The range of a condition that is one: a comparison with a literal, BETWEEN, or two
    comparisons of the same with AND."""
    if (
        isinstance(condition, nodes.BooleanOp)
        and condition.conjunction
        and len(condition.operands) == 2
    ):
        first, second = map(range_of, condition.operands)
        if first is None or second is None or not same_expression(first.operand, second.operand):
            return None
        if (
            first.low is not None
            and second.high is not None
            and first.high is None
            and second.low is None
        ):
            return Range(first.operand, first.low, second.high)
        if (
            first.high is not None
            and second.low is not None
            and first.low is None
            and second.high is None
        ):
            return Range(first.operand, second.low, first.high)
        return None
    if not (
        isinstance(condition, nodes.BoundCall)
        and condition.function.name in _MIRRORED
        and len(condition.arguments) == 2
    ):
        return None
    operator = condition.function.name
    operand, bound = condition.arguments
    if isinstance(bare(operand), nodes.Constant):
        operand, bound, operator = bound, operand, _MIRRORED[operator]
    literal = bare(bound)
    if (
        not isinstance(literal, nodes.Constant)
        or literal.value is None
        or isinstance(bare(operand), nodes.Constant)
    ):
        return None
    if operand.type.kind not in _MEASURED:
        return None
    end = RangeEnd(literal.value, bound, operator in ("<=", ">=", "="))
    return Range(
        operand, None if operator in ("<", "<=") else end, None if operator in (">", ">=") else end
    )


def bands(conditions: Sequence[nodes.Expression]) -> list[tuple[int, Range]]:
    """The conditions of a CASE, by number, that are ranges of the operand of the first that is one;
    none if it is the only one."""
    ranges = [
        (number, band)
        for number, condition in enumerate(conditions)
        if (band := range_of(condition)) is not None
    ]
    alike = [
        (number, band)
        for number, band in ranges
        if same_expression(band.operand, ranges[0][1].operand)
    ]
    return alike if len(alike) > 1 else []


def overlapping(ranges: Sequence[tuple[int, Range]]) -> Iterator[tuple[int, int]]:
    """Numbers of conditions whose ranges have values in common, and each also some of its own: what
    lies within another is meant to be."""
    for place, (first, item) in enumerate(ranges):
        for second, other in ranges[place + 1 :]:
            if _meet(item, other) and not (_within(item, other) or _within(other, item)):
                yield first, second


def gaps(ranges: Sequence[Range], narrow: bool) -> Iterator[tuple[RangeEnd, RangeEnd]]:
    """The ends of what lies between the ranges and in none of them; if `narrow`, only what is
    narrow."""
    ordered = [band for band in ranges if band.low is None]
    ordered += sorted(
        (band for band in ranges if band.low is not None), key=lambda band: _place(band.low)
    )
    reached = ordered[0].high
    for band in ordered[1:]:
        if reached is None:
            return
        if band.low is not None and (
            band.low.value > reached.value
            or (band.low.value == reached.value and not (band.low.included or reached.included))
        ):
            most = _NARROW.get(band.operand.type.kind, 1)
            if not narrow or band.low.value - reached.value <= most:
                yield reached, band.low
        if band.high is None or (band.high.value, band.high.included) > (
            reached.value,
            reached.included,
        ):
            reached = band.high


def in_gap(
    operand: nodes.Expression, low: RangeEnd, high: RangeEnd
) -> tuple[nodes.Expression, nodes.Expression]:
    """The conditions of lying between two ends that belong to ranges, or not."""
    after = called(">=" if not low.included else ">", operand, low.node)
    return after, called("<=" if not high.included else "<", operand, high.node)


def strict_bound(condition: nodes.Expression) -> Range | None:
    """The range of a strict comparison of something measured with a literal."""
    band = range_of(condition) if isinstance(condition, nodes.BoundCall) else None
    if band is None or band.operand.type.kind not in _MEASURED or not _is_measure(band.operand):
        return None
    end = band.low or band.high
    return None if end is None or end.included else band


def _is_measure(operand: nodes.Expression) -> bool:
    """Whether it is a column, or figures made of columns: a position or a length that is 0 is no
    bound that somebody may have meant."""
    if isinstance(operand, nodes.BoundCall):
        signs = operand.function.name in (
            "+",
            "-",
            "*",
            "/",
            "MOD",
            "+ of dates",
            "- of dates",
            "FULL_YEARS",
            "EXTRACT",
            "NUMBER_OF",
            "ROUND",
        )
        return signs and all(map(_is_measure, operand.arguments))
    return isinstance(operand, (nodes.Column, nodes.Constant)) or (
        isinstance(operand, nodes.BoundCast) and _is_measure(operand.operand)
    )


def _place(bound: RangeEnd | None) -> tuple[Any, bool]:
    assert bound is not None
    return bound.value, not bound.included


def _meet(value: Range, other: Range) -> bool:
    """Whether some value lies in both."""
    return not (_before(value, other) or _before(other, value))


def _before(item: Range, other: Range) -> bool:
    """Whether all of one lies before all of the other."""
    if item.high is None or other.low is None:
        return False
    return bool(
        item.high.value < other.low.value
        or (item.high.value == other.low.value and not (item.high.included and other.low.included))
    )


def _within(item: Range, other: Range) -> bool:
    """Whether all of one lies in the other."""
    low = other.low is None or (item.low is not None and _place(item.low) >= _place(other.low))
    high = other.high is None or (
        item.high is not None
        and (item.high.value, item.high.included) <= (other.high.value, other.high.included)
    )
    return bool(low and high)


def literal_text(value: Any) -> str:
    """How a bound is written in a sentence."""
    return format(value, "f") if isinstance(value, Decimal) else str(value)
