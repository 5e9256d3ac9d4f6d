"""The tree of a query, built rule by rule while the text is parsed."""

from __future__ import annotations

import dataclasses
from typing import Any

from gravel.language import tree
from gravel.language.building import Bag, Expressions, Span, end_of, has_word, nodes_in, rule, start_of


class Build(Expressions):
    """All of the grammar's actions."""

    # -- queries
    def query_only(self, children: list[Any]) -> Any:
        return children[0]

    @rule
    def query(self, span: Span, items: list[Any]) -> Any:
        withs = next((item.items for item in items if isinstance(item, Bag) and item.kind == "withs"), ())
        rest = [item for item in items if not isinstance(item, Bag) or item.kind == "operator"]
        blocks = [item for item in rest if isinstance(item, (tree.Select, tree.Values, tree.Query))]
        operators = [item for item in rest if isinstance(item, Bag)]
        order = tuple(item for item in items if isinstance(item, tree.SortKey))
        offset, fetch, ties = 0, None, False
        for limit in (item for item in items if isinstance(item, _Limit)):
            if limit.kind == "OFFSET":
                offset = limit.count or 0
            else:
                fetch, ties = limit.count, limit.ties
        return tree.Query(*span, withs, _combined(blocks, operators), order, offset, fetch, ties)

    @rule
    def with_list(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "withs", tuple(nodes_in(items)))

    @rule
    def with_item(self, span: Span, items: list[Any]) -> Any:
        name, *rest = nodes_in(items)
        return tree.With(*span, name.text, _names(rest), rest[-1])

    @rule
    def names(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "names", tuple(nodes_in(items)))

    @rule
    def nested(self, span: Span, items: list[Any]) -> Any:
        return items[0]

    @rule
    def set_operator(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "operator", (), items[0].type, has_word(items, "ALL"))

    @rule
    def limit(self, span: Span, items: list[Any]) -> Any:
        number = next((int(item) for item in items if item.type == "INTEGER_NUMBER"), None)
        if items[0].type == "FETCH" and number is None:
            number = 1
        return _Limit(*span, items[0].type, number, has_word(items, "TIES"))

    @rule
    def select(self, span: Span, items: list[Any]) -> Any:
        bags = {item.kind: item.items for item in items if isinstance(item, Bag)}
        chosen = tuple(item for item in items if isinstance(item, (tree.Named, tree.AllColumns)))
        return tree.Select(
            *span, any(not isinstance(item, tree.Node) and item.type == "DISTINCT" for item in items), chosen, bags.get("from", ()),
            bags.get("where", (None,))[0], bags.get("group"), bags.get("having", (None,))[0], bags.get("windows", ()),
        )  # fmt: skip

    @rule
    def all_columns(self, span: Span, items: list[Any]) -> Any:
        return tree.AllColumns(*span)

    @rule
    def table_columns(self, span: Span, items: list[Any]) -> Any:
        return tree.AllColumns(*span, items[0].text)

    @rule
    def from_list(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "from", tuple(nodes_in(items)))

    @rule
    def where(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "where", (items[1],))

    @rule
    def group_by(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "group", tuple(nodes_in(items)))

    @rule
    def having(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "having", (items[1],))

    @rule
    def windows(self, span: Span, items: list[Any]) -> Any:
        found = nodes_in(items)
        return Bag(*span, "windows", tuple((name.text, window) for name, window in zip(found[::2], found[1::2], strict=True)))

    @rule
    def grouping_none(self, span: Span, items: list[Any]) -> Any:
        return tree.GroupingSets(*span, ((),))

    @rule
    def grouping_sets(self, span: Span, items: list[Any]) -> Any:
        sets = [
            item.sets[0] if isinstance(item, tree.GroupingSets) else item.items if isinstance(item, tree.Row) else (item,)
            for item in nodes_in(items)
        ]
        return tree.GroupingSets(*span, tuple(sets))

    @rule
    def grouping_steps(self, span: Span, items: list[Any]) -> Any:
        steps = [item.items if isinstance(item, tree.Row) else (item,) for item in nodes_in(items)]
        if items[0].type == "ROLLUP":
            chosen = [steps[:count] for count in range(len(steps), -1, -1)]
        else:
            chosen = [[step for at, step in enumerate(steps) if not mask >> (len(steps) - 1 - at) & 1] for mask in range(1 << len(steps))]
        return tree.GroupingSets(*span, tuple(tuple(one for step in some for one in step) for some in chosen))

    @rule
    def values(self, span: Span, items: list[Any]) -> Any:
        return tree.Values(*span, tuple(nodes_in(items)))

    @rule
    def value_row(self, span: Span, items: list[Any]) -> Any:
        return tree.Row(*span, tuple(nodes_in(items)))

    row = value_row

    @rule
    def join(self, span: Span, items: list[Any]) -> Any:
        left, kind, right, last = nodes_in(items)
        using = _names([last]) if isinstance(last, Bag) else ()
        return tree.Join(*span, kind.kind, left, right, None if using else last, using)

    def join_kind(self, children: list[Any]) -> Any:
        first = next(iter(children), None)
        at = (first.start_pos, first.end_pos) if first is not None else (0, 0)
        return Bag(at[0], at[1], first.type if first is not None else "INNER", ())

    @rule
    def cross_join(self, span: Span, items: list[Any]) -> Any:
        left, right = nodes_in(items)
        return tree.Join(*span, "CROSS", left, right, None, ())

    @rule
    def table(self, span: Span, items: list[Any]) -> Any:
        named = isinstance(items[0], tree.Node)
        reference = items[0].text if named else str(items[0])[1:-1].replace("''", "'")
        return tree.Table(*span, reference, named, *_alias(items[1:]))

    @rule
    def derived(self, span: Span, items: list[Any]) -> Any:
        return tree.Derived(*span, items[0], *_alias(items[1:]))

    @rule
    def unnest(self, span: Span, items: list[Any]) -> Any:
        return tree.Unnest(*span, items[1], has_word(items, "ORDINALITY"), *_alias(items[2:]))

    @rule
    def alias(self, span: Span, items: list[Any]) -> Any:
        name, *rest = nodes_in(items)
        return Bag(*span, "alias", (name.text, _names(rest)))

    @rule
    def in_query(self, span: Span, items: list[Any]) -> Any:
        operand, query = nodes_in(items)
        return tree.InQuery(*span, operand, query, has_word(items, "NOT"))

    @rule
    def exists(self, span: Span, items: list[Any]) -> Any:
        return tree.Exists(*span, items[1])

    @rule
    def scalar(self, span: Span, items: list[Any]) -> Any:
        return tree.Scalar(*span, items[0])

    # -- functions of many rows
    @rule
    def within(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "within", tuple(nodes_in(items)))

    @rule
    def filter(self, span: Span, items: list[Any]) -> Any:
        return Bag(*span, "filter", tuple(nodes_in(items)))

    @rule
    def over(self, span: Span, items: list[Any]) -> Any:
        named = items[1]
        return Bag(
            *span, "over", (tree.Window(named.start, named.end, (), (), None, named.text) if isinstance(named, tree.Name) else named,)
        )

    def window(self, children: list[Any]) -> Any:
        frame = next((item.frame for item in children if isinstance(item, _Frame)), None)
        order = tuple(item for item in children if isinstance(item, tree.SortKey))
        partition = tuple(item for item in children if isinstance(item, tree.Node) and not isinstance(item, (tree.SortKey, _Frame)))
        return tree.Window(start_of(children[0]), end_of(children[-1]), partition, order, frame)

    @rule
    def frame(self, span: Span, items: list[Any]) -> Any:
        bounds = [item.bound for item in items if isinstance(item, _Bound)]
        first, last = bounds if len(bounds) == 2 else (bounds[0], 0)
        return _Frame(*span, (items[0].type, first, last))

    @rule
    def bound(self, span: Span, items: list[Any]) -> Any:
        if items[0].type == "CURRENT":
            return _Bound(*span, 0)
        if items[0].type == "UNBOUNDED":
            return _Bound(*span, None if items[1].type == "PRECEDING" else _LAST)
        return _Bound(*span, -int(items[0]) if items[1].type == "PRECEDING" else int(items[0]))

    @rule
    def aggregate(self, span: Span, items: list[Any]) -> Any:
        name, *rest = items
        return self._aggregate(span, name, rest, has_word(rest, "STAR"), has_word(rest, "DISTINCT"))


@dataclasses.dataclass(frozen=True)
class _Limit(tree.Node):
    kind: str
    count: int | None
    ties: bool


@dataclasses.dataclass(frozen=True)
class _Frame(tree.Node):
    frame: tuple[str, int | None, int | None]


@dataclasses.dataclass(frozen=True)
class _Bound(tree.Node):
    bound: int | None


_LAST = 2**62  # UNBOUNDED FOLLOWING


def _names(items: list[Any]) -> tuple[str, ...]:
    return next((tuple(name.text for name in item.items) for item in items if isinstance(item, Bag) and item.kind == "names"), ())


def _alias(items: list[Any]) -> tuple[str, tuple[str, ...]]:
    return next((item.items for item in items if isinstance(item, Bag) and item.kind == "alias"), ("", ()))


def _combined(blocks: list[Any], operators: list[Any]) -> Any:
    """Set operations from the left; INTERSECT binds first."""
    stack, waiting = [blocks[0]], []
    for operator, block in zip(operators, blocks[1:], strict=True):
        if operator.operator == "INTERSECT":
            stack[-1] = tree.SetOperation(stack[-1].start, block.end, "INTERSECT", operator.all, stack[-1], block)
        else:
            waiting.append(operator)
            stack.append(block)
    made = stack[0]
    for operator, block in zip(waiting, stack[1:], strict=True):
        made = tree.SetOperation(made.start, block.end, operator.operator, operator.all, made, block)
    return made
