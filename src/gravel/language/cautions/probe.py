"""What a caution is made of, and how an expression is written in it."""

from __future__ import annotations

import re

from msgspec import Struct

from gravel.language import nodes
from gravel.language.conditions import bare, span


class Probe(Struct, frozen=True):
    """A caution to look for: `condition` is true in the rows that deserve it, `detail` says what
    they are, `hint` how to avoid it. Some of the values of `example` there are shown; it is told
    only where `usual`, if any, is true of more rows.
    """

    caution: str
    condition: nodes.Expression
    detail: str
    hint: str = ""
    example: nodes.Expression | None = None
    usual: nodes.Expression | None = None


class Branches(Struct, frozen=True):
    """A CASE as written, with a condition for each of its ways: the branches in order, ELSE, and
    those rows of ELSE that came there only because a condition was unknown; `holding` are the
    branches' own conditions, whether an earlier one took the row or not.
    """

    text: str
    whens: tuple[str, ...]
    conditions: tuple[nodes.Expression, ...]
    otherwise: nodes.Expression
    unknown: nodes.Expression
    has_else: bool
    holding: tuple[nodes.Expression, ...]


class Position(Struct, frozen=True):
    """Where a node stands. told: that it is unknown or NULL is told of a node around it, or decided
    there; whole: the outermost condition that it is a part of, which may be known where it is not;
    negated: whether that says NOT of it; compared: its value is compared, and so is kept by
    nobody."""

    told: bool = False
    whole: nodes.Expression | None = None
    negated: bool = False
    compared: bool = False


class Writer:
    """Shows parts of an expression as they were written."""

    def __init__(self, text: str) -> None:
        self.text = text

    def written(self, node: nodes.Expression, most: int = 60) -> str:
        text = " ".join(self.text[node.start : node.end].split())
        return text if len(text) <= most else text[: most - 1] + "…"

    def plain(self, node: nodes.Expression) -> str:
        """How a text that is to be a number is written: a literal as the number itself."""
        literal = bare(node)
        if (
            isinstance(literal, nodes.Constant)
            and isinstance(literal.value, str)
            and re.fullmatch(r" *-?[0-9]+(\.[0-9]+)? *", literal.value)
        ):
            return literal.value.strip()
        return f"CAST({self.written(node)} AS DECIMAL)"


def between(node: nodes.Expression) -> nodes.Expression | None:
    """The operand of a BETWEEN, which is bound as two comparisons of the same place."""
    if not (isinstance(node, nodes.BooleanOp) and node.conjunction and len(node.operands) == 2):
        return None
    low, high = node.operands
    if not (
        isinstance(low, nodes.BoundCall)
        and isinstance(high, nodes.BoundCall)
        and span(low) == span(high) == span(node)
    ):
        return None
    names = (low.function.name, high.function.name)
    return (
        low.arguments[0]
        if names == (">=", "<=") and low.arguments[0] is high.arguments[0]
        else None
    )
