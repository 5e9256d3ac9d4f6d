"""Typed, immutable expressions: what the engine runs. Every node knows its type and its place in
the text."""

from __future__ import annotations

from functools import cached_property
from typing import Any

from msgspec import Struct

from gravel.language.functions.catalogue import Function
from gravel.language.types import Target, Type


class Shape:
    """What an expression computes, wherever it is written: equal expressions have equal shapes."""

    __slots__ = ("_hash", "_parts")

    def __init__(self, *parts: Any) -> None:
        self._parts, self._hash = parts, hash(parts)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, Shape) or self._hash != other._hash:
            return False
        return self._parts == other._parts


def _shape_of(part: Any) -> Any:
    if isinstance(part, Expression):
        return part.shape
    return tuple(map(_shape_of, part)) if isinstance(part, tuple) else part


class Expression(Struct, frozen=True, dict=True):
    """A typed expression; `start` and `end` are offsets into the text it was written in."""

    type: Type
    start: int
    end: int

    @property
    def children(self) -> tuple[Expression, ...]:
        """The operands, in the order they are decided."""
        return ()

    @cached_property
    def fails(self) -> bool:
        """Whether some row could have an error; a guard is only needed where this is so."""
        return any(child.fails for child in self.children)

    @cached_property
    def searches(self) -> bool:
        """Whether it searches texts by a pattern."""
        return any(child.searches for child in self.children)

    @cached_property
    def shape(self) -> Shape:
        """What it computes, without its place in the text."""
        names = (name for name in self.__struct_fields__ if name not in ("start", "end"))
        return Shape(type(self), *(_shape_of(getattr(self, name)) for name in names))

    @cached_property
    def columns(self) -> dict[int, Column]:
        """By position the columns that it reads."""
        results: dict[int, Column] = {}
        for child in self.children:
            results |= child.columns
        return results


class Column(Expression, frozen=True):
    """A column of the row, by its position in the table; one that `carries_errors` has rows without
    a value: texts that do not fit a declared type, or what an expression before it came to."""

    index: int
    name: str
    carries_errors: bool = False

    @cached_property
    def fails(self) -> bool:
        return self.carries_errors

    @cached_property
    def columns(self) -> dict[int, Column]:
        return {self.index: self}


class Constant(Expression, frozen=True):
    """A literal or parameter: a Python value (None is NULL). `raw`: a parameter as it was given,
    without quotes: what it is beside others is theirs to say."""

    value: Any
    raw: str | None = None

    @cached_property
    def shape(self) -> Shape:
        # 0.0 and -0.0 are equal, and no two NaN are.
        return Shape(Constant, self.type, type(self.value), repr(self.value))


class Moment(Constant, frozen=True):
    """CURRENT_DATE and its like, by name: one value for the whole run."""

    name: str = ""


class BoundCall(Expression, frozen=True):
    """A function or operator of the catalogue; its kernel sees arguments already of the signature's
    types."""

    function: Function
    arguments: tuple[Expression, ...]

    @property
    def children(self) -> tuple[Expression, ...]:
        return self.arguments

    @cached_property
    def fails(self) -> bool:
        return bool(self.function.errors) or any(child.fails for child in self.children)

    @cached_property
    def searches(self) -> bool:
        return self.function.family == "patterns" or any(child.searches for child in self.children)


class BooleanOp(Expression, frozen=True):
    """AND or OR, decided left to right."""

    conjunction: bool
    operands: tuple[Expression, ...]

    @property
    def children(self) -> tuple[Expression, ...]:
        return self.operands


class IsTest(Expression, frozen=True):
    """IS [NOT] NULL, TRUE, FALSE, UNKNOWN."""

    operand: Expression
    test: str
    negated: bool

    @property
    def children(self) -> tuple[Expression, ...]:
        return (self.operand,)


class InList(Expression, frozen=True):
    """x IN (…): stops at the first match."""

    operand: Expression
    items: tuple[Expression, ...]

    @property
    def children(self) -> tuple[Expression, ...]:
        return (self.operand, *self.items)


class InSubquery(Expression, frozen=True):
    """x IN (SELECT …): the subquery's distinct known values as an Arrow array, and whether a NULL
    is among them."""

    operand: Expression
    values: Any
    has_null: bool

    @cached_property
    def shape(self) -> Shape:
        return Shape(InSubquery, self.operand.shape, id(self.values))

    @property
    def children(self) -> tuple[Expression, ...]:
        return (self.operand,)


class BoundCase(Expression, frozen=True):
    """CASE: the first branch whose condition is true; `otherwise` is NULL where ELSE is missing."""

    branches: tuple[tuple[Expression, Expression], ...]
    otherwise: Expression
    has_else: bool

    @property
    def children(self) -> tuple[Expression, ...]:
        return (*(part for branch in self.branches for part in branch), self.otherwise)


class Coalesce(Expression, frozen=True):
    """COALESCE (`blank` False: the first that is not NULL) and IF_BLANK (the first not blank, else
    the last)."""

    arguments: tuple[Expression, ...]
    blank: bool

    @property
    def children(self) -> tuple[Expression, ...]:
        return self.arguments


class BoundCast(Expression, frozen=True):
    """CAST, FITS or CAST_OR_NULL; `implicit` where binding widened a value."""

    operand: Expression
    target: Target
    mode: str = "CAST"
    implicit: bool = False

    @property
    def children(self) -> tuple[Expression, ...]:
        return (self.operand,)

    @cached_property
    def fails(self) -> bool:
        return self.operand.fails or (self.mode == "CAST" and not self.implicit)


class RaisesError(Expression, frozen=True):
    """Whether the operand has an error in a row; cautions ask it."""

    operand: Expression

    @property
    def children(self) -> tuple[Expression, ...]:
        return (self.operand,)

    @cached_property
    def fails(self) -> bool:
        return False


def columns_read(expression: Expression) -> list[Column]:
    """The columns an expression reads, all unique, in table order."""
    return [column for _, column in sorted(expression.columns.items())]
