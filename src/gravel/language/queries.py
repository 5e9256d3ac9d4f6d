"""The tree of a query, built rule by rule while the text is parsed."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from gravel.language import tree
from gravel.language.building import (
    Bag,
    Expressions,
    Parts,
    Span,
    has_word,
    nodes_in,
    rule,
    string_value,
)
from gravel.language.diagnostics import Diagnostic


class Build(Expressions):
    """All of the grammar's actions."""

    # -- queries
    def query_only(self, children: Parts) -> tree.Query:
        return children[0]

    @rule
    def paren_query(self, span: Span, items: Parts) -> tree.Query:
        return replace(items[0], start=span[0], end=span[1])

    @rule
    def tail(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "tail", tuple(nodes_in(items)))

    @rule
    def query(self, span: Span, items: Parts) -> tree.Query:
        bags = {item.kind: item for item in items if isinstance(item, Bag)}
        body = next(item for item in items if not isinstance(item, Bag))
        tail = bags["tail"].items if "tail" in bags else ()
        order = tuple(item for item in tail if isinstance(item, tree.SortKey))
        supplied: dict[str, _Limit] = {}
        for limit in (item for item in tail if isinstance(item, _Limit)):
            kind = "OFFSET" if limit.kind == "OFFSET" else "LIMIT"
            if kind in supplied:
                raise Diagnostic(
                    f"a second {limit.kind}",
                    self.source,
                    limit.start,
                    limit.end,
                    hint="one of them says how many rows",
                )
            supplied[kind] = limit
        kept = supplied.get("LIMIT")
        if kept is not None and kept.ties and not order:
            raise Diagnostic("WITH TIES needs an ORDER BY", self.source, kept.start, kept.end)
        withs = bags.get("withs")
        return tree.Query(
            *span,
            withs.items if withs else (),
            body,
            order,
            supplied["OFFSET"].count if "OFFSET" in supplied else None,
            kept.count if kept else None,
            bool(kept and kept.ties),
            withs is not None and withs.operator == "RECURSIVE",
        )

    @rule
    def with_list(self, span: Span, items: Parts) -> Bag:
        result = nodes_in(items)
        _refuse_twice([(item.name, item) for item in result], "WITH query", self.source)
        return Bag(
            *span, "withs", tuple(result), "RECURSIVE" if has_word(items, "RECURSIVE") else ""
        )

    @rule
    def with_item(self, span: Span, items: Parts) -> tree.With:
        name, *rest = nodes_in(items)
        return tree.With(*span, name.text, _names(rest), rest[-1])

    @rule
    def names(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "names", tuple(nodes_in(items)))

    @rule
    def set_operation(self, span: Span, items: Parts) -> tree.SetOperation:
        left, right = nodes_in(items)
        return tree.SetOperation(*span, items[1].type, has_word(items, "ALL"), left, right)

    @rule
    def limit(self, span: Span, items: Parts) -> _Limit:
        count = next(iter(nodes_in(items)), None)
        number = next(
            (
                item
                for item in items
                if not isinstance(item, tree.Node) and item.type in ("INTEGER_NUMBER", "PARAMETER")
            ),
            None,
        )
        if number is not None:
            count = (
                self.integer([number])
                if number.type == "INTEGER_NUMBER"
                else self.parameter([number])
            )
        elif items[0].type == "FETCH" and count is None:
            count = tree.Literal(*span, "integer", "1")
        return _Limit(*span, items[0].type, count, has_word(items, "TIES"))

    @rule
    def select(self, span: Span, items: Parts) -> tree.Select:
        bags = {item.kind: item.items for item in items if isinstance(item, Bag)}
        chosen = tuple(item for item in items if isinstance(item, (tree.Named, tree.AllColumns)))
        return tree.Select(
            *span,
            any(not isinstance(item, tree.Node) and item.type == "DISTINCT" for item in items),
            chosen,
            bags.get("from", ()),
            bags.get("where", (None,))[0],
            bags.get("group"),
            bags.get("having", (None,))[0],
            bags.get("windows", ()),
        )

    @rule
    def all_columns(self, span: Span, items: Parts) -> tree.AllColumns:
        return tree.AllColumns(*span)

    @rule
    def table_columns(self, span: Span, items: Parts) -> tree.AllColumns:
        return tree.AllColumns(*span, items[0].text)

    @rule
    def from_list(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "from", tuple(nodes_in(items)))

    @rule
    def where(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "where", (items[1],))

    @rule
    def group_by(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "group", tuple(nodes_in(items)))

    @rule
    def having(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "having", (items[1],))

    @rule
    def windows(self, span: Span, items: Parts) -> Bag:
        result = nodes_in(items)
        _refuse_twice([(name.text, name) for name in result[::2]], "window", self.source)
        return Bag(
            *span,
            "windows",
            tuple(
                (name.text, window) for name, window in zip(result[::2], result[1::2], strict=True)
            ),
        )

    @rule
    def grouping_none(self, span: Span, items: Parts) -> tree.GroupingSets:
        return tree.GroupingSets(*span, ((),))

    @rule
    def grouping_sets(self, span: Span, items: Parts) -> tree.GroupingSets:
        sets = [
            (
                item.sets[0]
                if isinstance(item, tree.GroupingSets)
                else item.items
                if isinstance(item, tree.Row)
                else (item,)
            )
            for item in nodes_in(items)
        ]
        return tree.GroupingSets(*span, tuple(sets))

    @rule
    def grouping_steps(self, span: Span, items: Parts) -> tree.GroupingSets:
        steps = [item.items if isinstance(item, tree.Row) else (item,) for item in nodes_in(items)]
        if items[0].type == "ROLLUP":
            chosen = [steps[:count] for count in range(len(steps), -1, -1)]
        else:
            chosen = [
                [
                    step
                    for index, step in enumerate(steps)
                    if not mask >> (len(steps) - 1 - index) & 1
                ]
                for mask in range(1 << len(steps))
            ]
        return tree.GroupingSets(
            *span, tuple(tuple(entry for step in subset for entry in step) for subset in chosen)
        )

    @rule
    def values(self, span: Span, items: Parts) -> tree.Values:
        return tree.Values(*span, tuple(nodes_in(items)))

    @rule
    def value_row(self, span: Span, items: Parts) -> tree.Row:
        return tree.Row(*span, tuple(nodes_in(items)))

    row = value_row

    @rule
    def join(self, span: Span, items: Parts) -> tree.Join:
        left, kind, right, last = nodes_in(items)
        using = _names([last]) if isinstance(last, Bag) else ()
        return tree.Join(*span, kind.kind, left, right, None if using else last, using)

    def join_kind(self, children: Parts) -> Bag:
        first = next(iter(children), None)
        index = (first.start_pos, first.end_pos) if first is not None else (0, 0)
        return Bag(index[0], index[1], first.type if first is not None else "INNER", ())

    @rule
    def cross_join(self, span: Span, items: Parts) -> tree.Join:
        left, right = nodes_in(items)
        return tree.Join(*span, "CROSS", left, right, None, ())

    @rule
    def table(self, span: Span, items: Parts) -> tree.TableReference:
        named = isinstance(items[0], tree.Node)
        reference = items[0].text if named else string_value(items[0])
        return tree.TableReference(*span, reference, named, *_alias(items[1:]))

    @rule
    def natural_join(self, span: Span, items: Parts) -> tree.Join:
        left, kind, right = nodes_in(items)
        return tree.Join(*span, kind.kind, left, right, None, (), True)

    @rule
    def nested_join(self, span: Span, items: Parts) -> tree.Node:
        source, alias = nodes_in(items)[0], _alias(items)
        if not alias[0]:
            return replace(source, start=span[0], end=span[1])
        # With a name, only that name is seen outside: it is the query of all columns of what it
        # names.
        everything = tree.Select(
            *span, False, (tree.AllColumns(*span),), (source,), None, None, None, ()
        )
        return tree.Derived(*span, tree.Query(*span, (), everything, (), None, None, False), *alias)

    @rule
    def derived(self, span: Span, items: Parts) -> tree.Derived:
        return tree.Derived(*span, nodes_in(items)[0], *_alias(items), has_word(items, "LATERAL"))

    @rule
    def unnest(self, span: Span, items: Parts) -> tree.Unnest:
        return tree.Unnest(*span, nodes_in(items)[0], has_word(items, "ORDINALITY"), *_alias(items))

    @rule
    def alias(self, span: Span, items: Parts) -> Bag:
        name, *rest = nodes_in(items)
        return Bag(*span, "alias", (name.text, _names(rest)))

    @rule
    def in_query(self, span: Span, items: Parts) -> tree.Node:
        operand, query = nodes_in(items)
        return tree.InQuery(*span, operand, query, has_word(items, "NOT"))

    @rule
    def quantified(self, span: Span, items: Parts) -> tree.Node:
        operand, query = nodes_in(items)
        # "=" alone is punctuation to a rule, and left out.
        operator = next(
            (
                str(item)
                for item in items
                if not isinstance(item, tree.Node) and item.type == "COMPARE"
            ),
            "=",
        )
        if isinstance(operand, tree.Row) and operator not in ("=", "<>"):
            raise Diagnostic(
                "a row of values is compared with = ANY and <> ALL alone", self.source, *span
            )
        if (operator, has_word(items, "ALL")) in (("=", False), ("<>", True), ("!=", True)):
            return tree.InQuery(*span, operand, query, has_word(items, "ALL"))
        return tree.Quantified(
            *span, operand, "<>" if operator == "!=" else operator, has_word(items, "ALL"), query
        )

    @rule
    def exists(self, span: Span, items: Parts) -> tree.Exists:
        return tree.Exists(*span, items[1])

    @rule
    def scalar(self, span: Span, items: Parts) -> tree.Scalar:
        return tree.Scalar(*span, items[0])

    @rule
    def array_of(self, span: Span, items: Parts) -> Any:
        return tree.ArrayOf(*span, items[1])

    # -- functions of many rows
    @rule
    def within(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "within", tuple(nodes_in(items)))

    @rule
    def ordered(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "ordered", tuple(nodes_in(items)))

    @rule
    def partition(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "partition", tuple(nodes_in(items)))

    @rule
    def filter(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "filter", tuple(nodes_in(items)))

    @rule
    def nulls(self, span: Span, items: Parts) -> Bag:
        return Bag(*span, "nulls", (items[0].type,))

    @rule
    def over(self, span: Span, items: Parts) -> Bag:
        named = items[1]
        if isinstance(named, tree.Name):
            named = tree.Window(named.start, named.end, (), (), None, named.text, True)
        return Bag(*span, "over", (named,))

    @rule
    def window(self, span: Span, items: Parts) -> tree.Window:
        bags = {item.kind: item.items for item in items if isinstance(item, Bag)}
        frame = next((item for item in items if isinstance(item, tree.WindowFrame)), None)
        name = next((item.text for item in items if isinstance(item, tree.Name)), "")
        return tree.Window(*span, bags.get("partition", ()), bags.get("ordered", ()), frame, name)

    @rule
    def frame(self, span: Span, items: Parts) -> tree.WindowFrame:
        low, *rest = [item for item in items if isinstance(item, tree.Bound)]
        high = rest[0] if rest else tree.Bound(low.end, low.end, "CURRENT ROW", None)
        exclude = next((item.kind for item in items if isinstance(item, Bag)), "")
        if low.place == 2 or high.place == -2 or low.place > high.place:
            raise Diagnostic(
                "the frame ends before it begins",
                self.source,
                *span,
                hint="ROWS BETWEEN 1 PRECEDING AND CURRENT ROW",
            )
        return tree.WindowFrame(*span, items[0].type, low, high, exclude)

    @rule
    def exclude(self, span: Span, items: Parts) -> Bag:
        return Bag(
            *span, {"NO": "", "CURRENT": "CURRENT ROW"}.get(items[1].type, items[1].type), ()
        )

    @rule
    def bound(self, span: Span, items: Parts) -> tree.Bound:
        side = "CURRENT ROW" if has_word(items, "CURRENT") else items[-1].type
        return tree.Bound(*span, side, next(iter(nodes_in(items)), None))

    @rule
    def aggregate(self, span: Span, items: Parts) -> tree.Aggregate:
        name, *rest = items
        return self._aggregate(span, name, rest, has_word(rest, "STAR"), has_word(rest, "DISTINCT"))


class _Limit(tree.Node, frozen=True):
    kind: str
    count: tree.Node | None
    ties: bool


def _refuse_twice(named: list[tuple[str, tree.Node]], what: str, text: str) -> None:
    seen: set[str] = set()
    for name, node in named:
        if name.casefold() in seen:
            raise Diagnostic(f"a second {what} of the name {name}", text, node.start, node.end)
        seen.add(name.casefold())


def _names(items: Parts) -> tuple[str, ...]:
    return next(
        (
            tuple(name.text for name in item.items)
            for item in items
            if isinstance(item, Bag) and item.kind == "names"
        ),
        (),
    )


def _alias(items: Parts) -> tuple[str, tuple[str, ...]]:
    return next(
        (item.items for item in items if isinstance(item, Bag) and item.kind == "alias"), ("", ())
    )
