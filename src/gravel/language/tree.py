"""Syntax nodes: what was written, with its place in the text. Meaning comes with binding."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Node:
    """Any piece of syntax; `start` and `end` are character offsets into the text."""

    start: int
    end: int


@dataclass(frozen=True)
class Name(Node):
    """A column's name; a quoted one matches exactly."""

    text: str
    quoted: bool = False


@dataclass(frozen=True)
class Literal(Node):
    """A literal: `kind` is one of integer, decimal, double, text, boolean, null, date, time, timestamp, interval."""

    kind: str
    text: str
    unit: str = ""


@dataclass(frozen=True)
class Parameter(Node):
    """A named parameter, `:name`."""

    name: str


@dataclass(frozen=True)
class Call(Node):
    """A function or operator applied to arguments; `name_end` is where the name ends."""

    name: str
    arguments: tuple[Node, ...]
    name_end: int = 0
    operator: bool = False


@dataclass(frozen=True)
class Logic(Node):
    """AND or OR over two or more operands."""

    operator: str
    operands: tuple[Node, ...]


@dataclass(frozen=True)
class Not(Node):
    """NOT."""

    operand: Node


@dataclass(frozen=True)
class Is(Node):
    """IS [NOT] NULL, TRUE, FALSE or UNKNOWN."""

    operand: Node
    test: str
    negated: bool


@dataclass(frozen=True)
class In(Node):
    """x [NOT] IN (a, b, …)."""

    operand: Node
    items: tuple[Node, ...]
    negated: bool


@dataclass(frozen=True)
class Between(Node):
    """x [NOT] BETWEEN low AND high."""

    operand: Node
    low: Node
    high: Node
    negated: bool


@dataclass(frozen=True)
class Case(Node):
    """CASE [operand] WHEN … THEN … [ELSE …] END; `otherwise` is None where ELSE is missing."""

    operand: Node | None
    branches: tuple[tuple[Node, Node], ...]
    otherwise: Node | None


@dataclass(frozen=True)
class TypeName(Node):
    """A type as written: its words in upper case and its numbers."""

    words: tuple[str, ...]
    numbers: tuple[int, ...] = field(default=())


@dataclass(frozen=True)
class Cast(Node):
    """CAST, FITS or CAST_OR_NULL."""

    function: str
    operand: Node
    target: TypeName
    format: Literal | None


@dataclass(frozen=True)
class Named(Node):
    """An expression with a name: `EXPR AS name`, or `name = EXPR` of an assignment."""

    name: str
    name_start: int
    expression: Node


@dataclass(frozen=True)
class SortKey(Node):
    """An expression to sort by. `nulls_first` is None where it was not said."""

    expression: Node
    descending: bool
    nulls_first: bool | None


@dataclass(frozen=True)
class Query(Node):
    """SELECT expression FROM table [WHERE condition]; `table` is a reference or a name, with its place."""

    expression: Node
    table: str
    table_start: int
    table_end: int
    where: Node | None


@dataclass(frozen=True)
class InQuery(Node):
    """x [NOT] IN (SELECT …)."""

    operand: Node
    query: Query
    negated: bool


@dataclass(frozen=True)
class Aggregate(Node):
    """An aggregate's call: over all rows where `argument` is None, over those for which `filter` is true if given."""

    name: str
    argument: Node | None
    distinct: bool
    filter: Node | None
    name_end: int
