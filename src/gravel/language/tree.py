"""Syntax nodes: what was written, with its place in the text. Meaning comes with binding."""

from __future__ import annotations

from msgspec import Struct, field


class Node(Struct, frozen=True):
    """Any piece of syntax; `start` and `end` are character offsets into the text."""

    start: int
    end: int


class Name(Node, frozen=True):
    """A column's name; a quoted one matches exactly. `table` is what stands before a point, or
    ''."""

    text: str
    quoted: bool = False
    table: str = ""


class Literal(Node, frozen=True):
    """A literal: `kind` is one of integer, decimal, double, text, binary, boolean, null, date,
    time, timestamp, interval."""

    kind: str
    text: str
    unit: str = ""


class Parameter(Node, frozen=True):
    """A named parameter, `:name`."""

    name: str


class Call(Node, frozen=True):
    """A function or operator applied to arguments; `name_end` is where the name ends."""

    name: str
    arguments: tuple[Node, ...]
    name_end: int = 0
    operator: bool = False


class Logic(Node, frozen=True):
    """AND or OR over two or more operands."""

    operator: str
    operands: tuple[Node, ...]


class Not(Node, frozen=True):
    """NOT."""

    operand: Node


class Is(Node, frozen=True):
    """IS [NOT] NULL, TRUE, FALSE or UNKNOWN."""

    operand: Node
    test: str
    negated: bool


class In(Node, frozen=True):
    """x [NOT] IN (a, b, …)."""

    operand: Node
    items: tuple[Node, ...]
    negated: bool


class Between(Node, frozen=True):
    """x [NOT] BETWEEN [SYMMETRIC] low AND high; symmetric: whichever of the two is the lower
    end."""

    operand: Node
    low: Node
    high: Node
    negated: bool
    symmetric: bool = False


class Case(Node, frozen=True):
    """CASE [operand] WHEN … THEN … [ELSE …] END; `otherwise` is None where ELSE is missing."""

    operand: Node | None
    branches: tuple[tuple[Node, Node], ...]
    otherwise: Node | None


class TypeName(Node, frozen=True):
    """A type as written: its words in upper case and its numbers."""

    words: tuple[str, ...]
    numbers: tuple[int, ...] = field(default=())


class Cast(Node, frozen=True):
    """CAST, FITS or CAST_OR_NULL."""

    function: str
    operand: Node
    target: TypeName
    format: Literal | None


class Named(Node, frozen=True):
    """An expression with a name: `EXPR AS name`, or `name = EXPR` of an assignment."""

    name: str
    name_start: int
    expression: Node


class SortKey(Node, frozen=True):
    """An expression to sort by. `nulls_first` is None where it was not said."""

    expression: Node
    descending: bool
    nulls_first: bool | None


class Row(Node, frozen=True):
    """(a, b, …): several values side by side."""

    items: tuple[Node, ...]


class Bound(Node, frozen=True):
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


class WindowFrame(Node, frozen=True):
    """ROWS, RANGE or GROUPS between two bounds; `exclude` is '', CURRENT ROW, GROUP or TIES."""

    unit: str
    low: Bound
    high: Bound
    exclude: str = ""


class Window(Node, frozen=True):
    """What OVER names: rows of one partition, in an order, within a frame; `name` stands for one of
    the WINDOW clause, which the rest adds to; `plain` where it stands without parentheses, so that
    it is that window, frame and all.
    """

    partition: tuple[Node, ...]
    order: tuple[SortKey, ...]
    frame: WindowFrame | None
    name: str = ""
    plain: bool = False


class Aggregate(Node, frozen=True):
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


class Query(Node, frozen=True):
    """A query: named ones before it (`recursive` where they may name themselves), its body, order,
    rows passed over, rows kept (None: all), with those that tie."""

    withs: tuple[With, ...]
    body: Select | Values | SetOperation | Query
    order: tuple[SortKey, ...]
    offset: Node | None
    fetch: Node | None
    ties: bool
    recursive: bool = False


class With(Node, frozen=True):
    """WITH name (columns) AS (query)."""

    name: str
    columns: tuple[str, ...]
    query: Query


class SetOperation(Node, frozen=True):
    """UNION, INTERSECT or EXCEPT of two bodies."""

    operator: str
    all: bool
    left: Select | Values | SetOperation | Query
    right: Select | Values | SetOperation | Query


class AllColumns(Node, frozen=True):
    """* or table.*."""

    table: str = ""


class GroupingSets(Node, frozen=True):
    """GROUPING SETS, ROLLUP or CUBE: the sets of expressions that rows are grouped by, one after
    another."""

    sets: tuple[tuple[Node, ...], ...]


class Select(Node, frozen=True):
    """SELECT … FROM … WHERE … GROUP BY … HAVING …; `groups` is None where there is no GROUP BY."""

    distinct: bool
    items: tuple[Node, ...]
    sources: tuple[Node, ...]
    where: Node | None
    groups: tuple[Node, ...] | None
    having: Node | None
    windows: tuple[tuple[str, Window], ...]


class Values(Node, frozen=True):
    """VALUES (…), (…)."""

    rows: tuple[Row, ...]


class TableReference(Node, frozen=True):
    """A table in FROM: a reference in quotes, or a name."""

    reference: str
    is_name: bool
    alias: str
    columns: tuple[str, ...]


class Derived(Node, frozen=True):
    """A query in FROM; a `lateral` one may read the tables before it."""

    query: Query
    alias: str
    columns: tuple[str, ...]
    lateral: bool = False


class Unnest(Node, frozen=True):
    """UNNEST(array) [WITH ORDINALITY]."""

    expression: Node
    ordinality: bool
    alias: str
    columns: tuple[str, ...]


class Join(Node, frozen=True):
    """INNER, LEFT, RIGHT, FULL or CROSS JOIN; a `natural` one is USING all columns that both sides
    have."""

    kind: str
    left: Node
    right: Node
    on: Node | None
    using: tuple[str, ...]
    natural: bool = False


class InQuery(Node, frozen=True):
    """x [NOT] IN (SELECT …)."""

    operand: Node
    query: Query
    negated: bool


class Quantified(Node, frozen=True):
    """x = ANY (SELECT …), x < ALL (SELECT …): a comparison with each of a query's values."""

    operand: Node
    operator: str
    all: bool
    query: Query


class ArrayOf(Node, frozen=True):
    """ARRAY (SELECT …): a query's values as one array."""

    query: Query


class Exists(Node, frozen=True):
    """EXISTS (SELECT …)."""

    query: Query


class Scalar(Node, frozen=True):
    """(SELECT …) as a value."""

    query: Query
