"""Which names in a subquery mean columns of the rows around it: the innermost block that has a
column of the name wins."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from gravel.language import tree

Columns = list[tuple[str, str]]  # (table, column), in lower case
Withs = dict[str, list[str]]


class Scopes:
    """Names by block. `names_of` gives the columns of a table in FROM; None for one that is not
    known."""

    def __init__(self, names_of: Callable[[tree.TableReference], Sequence[str] | None]) -> None:
        self.names_of = names_of

    def free(self, query: tree.Query, withs: Withs) -> list[tree.Name]:
        """The names in a query that no block in it has a column for."""
        withs = dict(withs)
        results: list[tree.Name] = []
        for item in query.withs:
            if query.recursive:
                withs[item.name.casefold()] = [
                    name.casefold() for name in item.columns
                ] or self.names(item.query, withs)
            results += self.free(item.query, withs)
            withs[item.name.casefold()] = [name.casefold() for name in item.columns] or self.names(
                item.query, withs
            )
        parts = (query.order, query.offset, query.fetch)
        return results + self._body(query.body, withs, parts)

    def names(self, query: tree.Query, withs: Withs) -> list[str]:
        """The columns of a query's result."""
        withs = dict(withs)
        for item in query.withs:
            withs[item.name.casefold()] = [name.casefold() for name in item.columns] or (
                [] if query.recursive else self.names(item.query, withs)
            )
        return self._names(query.body, withs)

    def _names(self, body: Any, withs: Withs) -> list[str]:
        if isinstance(body, tree.Query):
            return self.names(body, withs)
        if isinstance(body, tree.SetOperation):
            return self._names(body.left, withs)
        if isinstance(body, tree.Values):
            return [f"column{index + 1}" for index in range(len(body.rows[0].items))]
        results: list[str] = []
        for item in body.items:
            if isinstance(item, tree.AllColumns):
                table = item.table.casefold()
                results += [
                    name
                    for source in body.sources
                    for owner, name in self.columns(source, withs)
                    if not table or owner == table
                ]
            else:
                expression = item.expression
                plain = isinstance(expression, tree.Name) and item.name_start == item.start
                results.append((expression.text if plain else item.name).casefold())
        return results

    def columns(self, source: tree.Node, withs: Withs) -> Columns:
        """The columns of a table, a query or a join in FROM."""
        if isinstance(source, tree.Join):
            return self.columns(source.left, withs) + self.columns(source.right, withs)
        if isinstance(source, tree.TableReference):
            name = source.reference.casefold()
            own = (
                withs[name]
                if source.is_name and name in withs
                else [item.casefold() for item in self.names_of(source) or ()]
            )
            table = (source.alias or source.reference).casefold()
            if not source.alias and not source.is_name:
                table = source.reference.rsplit("/", 1)[-1].rsplit(".", 1)[0].casefold()
        elif isinstance(source, tree.Derived):
            own, table = self.names(source.query, withs), source.alias.casefold()
        elif isinstance(source, tree.Unnest):
            own, table = ["item", "ordinality"], source.alias.casefold()
        else:
            return []
        supplied = [column.casefold() for column in source.columns]
        return [(table, item) for item in (*supplied, *own[len(supplied) :])]

    def _body(self, body: Any, withs: Withs, outside: Any) -> list[tree.Name]:
        if isinstance(body, tree.Query):
            return self.free(body, withs) + self._unbound(
                outside, [("", entry) for entry in self.names(body, withs)], withs
            )
        if isinstance(body, tree.SetOperation):
            own = [("", entry) for entry in self._names(body, withs)]
            return (
                self._body(body.left, withs, ())
                + self._body(body.right, withs, ())
                + self._unbound(outside, own, withs)
            )
        if isinstance(body, tree.Values):
            return self._unbound((body.rows, outside), [], withs)
        local: Columns = []
        results: list[tree.Name] = []
        for source in body.sources:
            results += self._source(source, local, withs)
        results += self._unbound((body.items, body.where, body.having, body.windows), local, withs)
        aliases = [
            ("", item.name.casefold()) for item in body.items if isinstance(item, tree.Named)
        ]
        return results + self._unbound((body.groups or (), outside), local + aliases, withs)

    def _source(self, source: tree.Node, local: Columns, withs: Withs) -> list[tree.Name]:
        """Free names of a source; its columns are added to those of its block."""
        if isinstance(source, tree.Join):
            results = self._source(source.left, local, withs) + self._source(
                source.right, local, withs
            )
            return results + self._unbound(source.on, local, withs)
        results = []
        if isinstance(source, tree.Derived):
            results = [
                item
                for item in self.free(source.query, withs)
                if not (source.lateral and _bound(item, local))
            ]
        elif isinstance(source, tree.Unnest):
            results = self._unbound(source.expression, local, withs)
        local += self.columns(source, withs)
        return results

    def _unbound(self, node: Any, local: Columns, withs: Withs) -> list[tree.Name]:
        results = []
        for part in _parts(node):
            names = self.free(part, withs) if isinstance(part, tree.Query) else [part]
            results += [name for name in names if not _bound(name, local)]
        return results


def _bound(name: tree.Name, local: Columns) -> bool:
    table, text = name.table.casefold(), name.text.casefold()
    return (
        any(owner == table for owner, _ in local)
        if table
        else any(item == text for _, item in local)
    )


def _parts(node: Any) -> Iterator[Any]:
    """The names below a node, and the queries below it as they are."""
    if isinstance(node, tuple):
        for part in node:
            yield from _parts(part)
    elif isinstance(node, (tree.Name, tree.Query)):
        yield node
    elif isinstance(node, tree.Node):
        for name in node.__struct_fields__:
            yield from _parts(getattr(node, name))
