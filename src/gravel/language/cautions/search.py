"""What to look for in expressions: cautions, strict bounds, the day that CURRENT_DATE is, and
the ways of a CASE."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import zip_longest

from msgspec.structs import replace

from gravel.language import nodes
from gravel.language.cautions.finder import Finder, ListItems, list_items
from gravel.language.cautions.probe import Branches, Position, Probe
from gravel.language.conditions import Reach, all_of, any_of, is_test, passed, ways

_OF_NULL = ("NULL operand", "ELSE because unknown")


def probes(
    expressions: Sequence[tuple[nodes.Expression, str]],
    counted: bool = False,
    beside: ListItems | None = None,
    targets: Sequence[nodes.Column | None] = (),
) -> list[Probe]:
    """The cautions to look for in bound expressions, each with what it was written as. Of those
    that are only `counted`, NULL is meant; `beside`: the items of lists that expressions beside
    them take too; `targets`: the columns that they are assigned to, in which a NULL that stays NULL
    is not a loss."""
    taken: ListItems = {key: set(numbers) for key, numbers in (beside or {}).items()}
    for expression, text in expressions:
        for key, number in list_items(expression, text):
            taken.setdefault(key, set()).add(number)
    result = []
    for (expression, text), target in zip_longest(expressions, targets):
        results = list(Finder(text, taken).find(expression, (), Position(told=counted)))
        if target is not None:
            filled = any_of(is_test(target, "NULL", True), is_test(expression, "NULL", True))
            results = [
                (
                    replace(item, condition=all_of(item.condition, filled))
                    if item.caution in _OF_NULL
                    else item
                )
                for item in results
            ]
        result += results
    return result


def bounds(expressions: Sequence[tuple[nodes.Expression, str]]) -> list[Probe]:
    """Strict comparisons with a literal: their condition is true of the rows that equal it, which
    they leave out."""
    return [
        probe
        for expression, text in expressions
        for probe in Finder(text, {}).bounds(expression, ())
    ]


def moments(expressions: Sequence[nodes.Expression]) -> dict[str, object]:
    """What CURRENT_DATE and its like are in expressions, by their names."""
    results: dict[str, object] = {}
    stack = list(expressions)
    while stack:
        node = stack.pop()
        if isinstance(node, nodes.Moment):
            results[node.name] = node.value
        stack.extend(node.children)
    return results


def branches(expression: nodes.Expression, text: str) -> list[Branches]:
    """The ways of every CASE in an expression, from the outermost in."""
    return list(_cases(expression, text, ()))


def _cases(node: nodes.Expression, text: str, reach: Reach) -> Iterator[Branches]:
    if isinstance(node, nodes.BoundCase):
        conditions = [condition for condition, _ in node.branches]
        before: list[Reach] = [()]
        for entry in conditions:
            before.append(passed(before[-1], is_test(entry, "TRUE", True)))
        taken = tuple(
            all_of(*reach, *before[index], is_test(item, "TRUE"))
            for index, item in enumerate(conditions)
        )
        left = all_of(*reach, *before[-1])
        whens = tuple(" ".join(text[item.start : item.end].split()) for item in conditions)
        unknown = all_of(left, any_of(*(is_test(item, "UNKNOWN") for item in conditions)))
        yield Branches(
            " ".join(text[node.start : node.end].split()),
            whens,
            taken,
            left,
            unknown,
            node.has_else,
            tuple(all_of(*reach, is_test(item, "TRUE")) for item in conditions),
        )
    for child, way in ways(node, reach):
        yield from _cases(child, text, way)
