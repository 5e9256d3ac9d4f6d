"""Conditions put together from bound expressions: what a caution asks of the rows, and what a row
has passed to reach a place."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from gravel.language import nodes
from gravel.language.functions.catalogue import catalogue
from gravel.language.types import BOOLEAN, TEXT, Type

Reach = tuple[nodes.Expression, ...]


def span(node: nodes.Expression) -> tuple[int, int]:
    return node.start, node.end


def is_test(node: nodes.Expression, test: str, negated: bool = False) -> nodes.Expression:
    return nodes.IsTest(BOOLEAN, *span(node), node, test, negated)


def all_of(*conditions: nodes.Expression) -> nodes.Expression:
    return (
        conditions[0] if len(conditions) == 1 else nodes.BooleanOp(BOOLEAN, 0, 0, True, conditions)
    )


def passed(before: Reach, more: nodes.Expression) -> Reach:
    """What a row has passed, as one condition that the next ones share: a list for each branch
    would grow with their square."""
    return (all_of(*before, more),)


def any_of(*conditions: nodes.Expression) -> nodes.Expression:
    return (
        conditions[0] if len(conditions) == 1 else nodes.BooleanOp(BOOLEAN, 0, 0, False, conditions)
    )


def called(name: str, *arguments: nodes.Expression, kind: object = BOOLEAN) -> nodes.Expression:
    start, end = span(arguments[0])
    entry = catalogue()[name]
    return nodes.BoundCall(kind, start, end, entry, arguments)  # type: ignore[arg-type]


def folded(node: nodes.Expression) -> nodes.Expression:
    """A text in capitals, with one space where there are several; of a column one expression for
    all conditions, so that it is computed once for them."""
    if isinstance(node, nodes.Column):
        return _folded_column(node.type, node.index, node.name, node.carries_errors)
    return _folded(node)


@lru_cache(maxsize=1000)
def _folded_column(kind: Type, index: int, name: str, carries_errors: bool) -> nodes.Expression:
    return _folded(nodes.Column(kind, 0, 0, index, name, carries_errors))


def _folded(node: nodes.Expression) -> nodes.Expression:
    return called("UPPER", called("TIDY_SPACES", node, kind=TEXT), kind=TEXT)


def constant(value: object, kind: object = TEXT) -> nodes.Expression:
    return nodes.Constant(kind, 0, 0, value)  # type: ignore[arg-type]


def is_null(node: nodes.Expression) -> bool:
    return isinstance(node, nodes.Constant) and node.value is None


def bare(node: nodes.Expression) -> nodes.Expression:
    """A node without the widening that binding put around it."""
    while isinstance(node, nodes.BoundCast) and node.implicit:
        node = node.operand
    return node


def same_column(expression: nodes.Expression, other: nodes.Expression) -> bool:
    """Whether both are the same column."""
    return (
        isinstance(expression, nodes.Column)
        and isinstance(other, nodes.Column)
        and expression.index == other.index
    )


def calls_in(node: nodes.Expression) -> Iterator[nodes.BoundCall]:
    if isinstance(node, nodes.BoundCall):
        yield node
    for child in node.children:
        yield from calls_in(child)


def matches(node: nodes.Expression, pattern: str) -> nodes.Expression:
    return called("LIKE_REGEX", node, constant(pattern), constant(""))


def ways(node: nodes.Expression, reach: Reach) -> Iterator[tuple[nodes.Expression, Reach]]:
    """The operands of a node, each with the conditions under which a row reaches it."""
    if isinstance(node, nodes.BoundCase):
        before: Reach = ()
        for condition, result in node.branches:
            yield condition, (*reach, *before)
            yield result, (*reach, *before, is_test(condition, "TRUE"))
            before = passed(before, is_test(condition, "TRUE", True))
        if node.has_else:
            yield node.otherwise, (*reach, *before)
    elif isinstance(node, nodes.BooleanOp):
        before = ()
        for operand in node.operands:
            yield operand, (*reach, *before)
            before = passed(before, is_test(operand, "FALSE" if node.conjunction else "TRUE", True))
    elif isinstance(node, nodes.Coalesce):
        before = ()
        for argument in node.arguments:
            yield argument, (*reach, *before)
            empty = called("IS_BLANK", argument) if node.blank else is_test(argument, "NULL")
            before = passed(before, empty)
    else:
        for child in node.children:
            yield child, reach
