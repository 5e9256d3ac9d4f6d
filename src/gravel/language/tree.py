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
    """A column's name; a quoted one matches exactly. `table` is what stands before a point, or
    ''."""

    text: str
    quoted: bool = False
    table: str = ""


@dataclass(frozen=True)
class Literal(Node):
    """A literal: `kind` is one of integer, decimal, double, text, binary, boolean, null, date,
    time, timestamp, interval."""

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
    """x [NOT] BETWEEN [SYMMETRIC] low AND high; symmetric: whichever of the two is the lower
    end."""

    operand: Node
    low: Node
    high: Node
    negated: bool
    symmetric: bool = False


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
class Row(Node):
    """(a, b, …): several values side by side."""

    items: tuple[Node, ...]


@dataclass(frozen=True)
class Bound(Node):
    """An end of a window frame: `side` is PRECEDING, FOLLOWING or CURRENT ROW; `distance` is None
    for UNBOUNDED and for CURRENT ROW."""

    side: str
    distance: Node | None

    @property
    def place(self) -> int:
        """Where it lies: -2 UNBOUNDED PRECEDING, -1 PRECEDING, 0 CURRENT ROW, 1 FOLLOWING, 2
        UNBOUNDED FOLLOWING."""
        if self.side == "CURRENT ROW":
            return 0
        return (-1 if self.side == "PRECEDING" else 1) * (2 if self.distance is None else 1)


@dataclass(frozen=True)
class WindowFrame(Node):
    """ROWS, RANGE or GROUPS between two bounds; `exclude` is '', CURRENT ROW, GROUP or TIES."""

    unit: str
    low: Bound
    high: Bound
    exclude: str = ""


@dataclass(frozen=True)
class Window(Node):
    """What OVER names: rows of one partition, in an order, within a frame; `name` stands for one of
    the WINDOW clause, which the rest adds to; `plain` where it stands without parentheses, so that
    it is that window, frame and all.
    """

    partition: tuple[Node, ...]
    order: tuple[SortKey, ...]
    frame: WindowFrame | None
    name: str = ""
    plain: bool = False


@dataclass(frozen=True)
class Aggregate(Node):
    """A function of many rows: an aggregate, or with `over` a window function. `star` for COUNT(*);
    `within` is the order of WITHIN GROUP, `order` that among the arguments; `nulls` is IGNORE,
    RESPECT or ''."""

    name: str
    arguments: tuple[Node, ...]
    star: bool
    distinct: bool
    filter: Node | None
    within: tuple[SortKey, ...]
    over: Window | None
    name_end: int
    order: tuple[SortKey, ...] = ()
    nulls: str = ""


@dataclass(frozen=True)
class Query(Node):
    """A query: named ones before it (`recursive` where they may name themselves), its body, order,
    rows passed over, rows kept (None: all), with those that tie."""

    withs: tuple[With, ...]
    body: Select | Values | SetOperation | Query
    order: tuple[SortKey, ...]
    offset: Node | None
    fetch: Node | None
    ties: bool
    recursive: bool = False


@dataclass(frozen=True)
class With(Node):
    """WITH name (columns) AS (query)."""

    name: str
    columns: tuple[str, ...]
    query: Query


@dataclass(frozen=True)
class SetOperation(Node):
    """UNION, INTERSECT or EXCEPT of two bodies."""

    operator: str
    all: bool
    left: Select | Values | SetOperation | Query
    right: Select | Values | SetOperation | Query


@dataclass(frozen=True)
class AllColumns(Node):
    """* or table.*."""

    table: str = ""


@dataclass(frozen=True)
class GroupingSets(Node):
    """GROUPING SETS, ROLLUP or CUBE: the sets of expressions that rows are grouped by, one after
    another."""

    sets: tuple[tuple[Node, ...], ...]


@dataclass(frozen=True)
class Select(Node):
    """SELECT … FROM … WHERE … GROUP BY … HAVING …; `groups` is None where there is no GROUP BY."""

    distinct: bool
    items: tuple[Node, ...]
    sources: tuple[Node, ...]
    where: Node | None
    groups: tuple[Node, ...] | None
    having: Node | None
    windows: tuple[tuple[str, Window], ...]


@dataclass(frozen=True)
class Values(Node):
    """VALUES (…), (…)."""

    rows: tuple[Row, ...]


@dataclass(frozen=True)
class TableReference(Node):
    """A table in FROM: a reference in quotes, or a name."""

    reference: str
    is_name: bool
    alias: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Derived(Node):
    """A query in FROM; a `lateral` one may read the tables before it."""

    query: Query
    alias: str
    columns: tuple[str, ...]
    lateral: bool = False


@dataclass(frozen=True)
class Unnest(Node):
    """UNNEST(array) [WITH ORDINALITY]."""

    expression: Node
    ordinality: bool
    alias: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Join(Node):
    """INNER, LEFT, RIGHT, FULL or CROSS JOIN; a `natural` one is USING all columns that both sides
    have."""

    kind: str
    left: Node
    right: Node
    on: Node | None
    using: tuple[str, ...]
    natural: bool = False


@dataclass(frozen=True)
class InQuery(Node):
    """x [NOT] IN (SELECT …)."""

    operand: Node
    query: Query
    negated: bool


@dataclass(frozen=True)
class Quantified(Node):
    """x = ANY (SELECT …), x < ALL (SELECT …): a comparison with each of a query's values."""

    operand: Node
    operator: str
    all: bool
    query: Query


@dataclass(frozen=True)
class ArrayOf(Node):
    """ARRAY (SELECT …): a query's values as one array."""

    query: Query


@dataclass(frozen=True)
class Exists(Node):
    """EXISTS (SELECT …)."""

    query: Query


@dataclass(frozen=True)
class Scalar(Node):
    """(SELECT …) as a value."""

    query: Query
