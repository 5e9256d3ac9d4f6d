"""Looking at syntax trees of queries."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from gravel.language import parse, tree

SUBQUERIES = (tree.Scalar, tree.Exists, tree.InQuery, tree.Quantified, tree.ArrayOf)


def top(
    node: Any,
    kinds: tuple[type, ...],
    windows: bool = False,
    stop: Callable[[tree.Node], bool] | None = None,
) -> list[Any]:
    """The outermost nodes of some kinds below a node, not looking into subqueries; with `windows`
    also what stands inside a window function's arguments and window; `stop` tells nodes not to look
    at."""
    results: list[Any] = []
    _visit(node, kinds, windows, stop, results)
    return results


def _visit(
    value: Any,
    kinds: tuple[type, ...],
    windows: bool,
    stop: Callable[[tree.Node], bool] | None,
    results: list[Any],
) -> None:
    # Not within `top`: a function that refers to itself, and to rows by `stop`, would hold these.
    if isinstance(value, tuple):
        for part in value:
            _visit(part, kinds, windows, stop, results)
        return
    if not isinstance(value, tree.Node) or (stop is not None and stop(value)):
        return
    if isinstance(value, kinds):
        results.append(value)
        if not (windows and isinstance(value, tree.Aggregate) and value.over is not None):
            return
    if isinstance(value, tree.Query):
        return
    for name in value.__struct_fields__:
        _visit(getattr(value, name), kinds, windows, stop, results)


def asked_names(query: tree.Query) -> frozenset[str]:
    """The columns, folded, that a query's conditions and its order name: of a wide result they are
    what is looked for."""
    body = query.body
    conditions = (body.where, body.having) if isinstance(body, tree.Select) else ()
    nodes = [*(key.expression for key in query.order), *filter(None, conditions)]
    return frozenset(name.text.casefold() for node in nodes for name in parse.column_names(node))


def name_of(item: tree.Named) -> str:
    """The name of a column of a result."""
    node, own = item.expression, item.name_start == item.start
    return node.text if own and isinstance(node, tree.Name) else item.name


def is_true(node: tree.Node) -> bool:
    return isinstance(node, tree.Literal) and node.kind == "boolean" and node.text.upper() == "TRUE"


def literal_text(node: tree.Node) -> str | None:
    return node.text if isinstance(node, tree.Literal) and node.kind == "text" else None


def literal_number(node: tree.Node) -> int | None:
    return int(node.text) if isinstance(node, tree.Literal) and node.kind == "integer" else None
