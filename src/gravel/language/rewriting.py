"""Conditions that are written with others: rows of values compared, spans of time that overlap."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from gravel.language import tree


def compared(sign: str, left: tree.Node, right: tree.Node) -> tree.Call:
    """A comparison of two nodes."""
    return tree.Call(left.start, right.end, sign, (left, right), left.start, True)


def rows_compared(
    sign: str, pairs: Sequence[tuple[tree.Node, tree.Node]], node: tree.Call
) -> tree.Node:
    """Rows of values compared: (a, b) = (c, d) value by value, (a, b) < (c, d) by the first that
    differ. `node`: what is written."""
    index = (node.start, node.end)
    if sign in ("=", "<>", "IS DISTINCT FROM"):
        parts = tuple(tree.Call(*index, sign, pair, node.start, True) for pair in pairs)
        return (
            parts[0]
            if len(parts) == 1
            else tree.Logic(*index, "AND" if sign == "=" else "OR", parts)
        )
    (a, b), *rest = pairs
    if not rest:
        return tree.Call(*index, sign, (a, b), node.start, True)
    first = tree.Call(*index, sign.rstrip("="), (a, b), node.start, True)
    tied = tree.Logic(
        *index,
        "AND",
        (tree.Call(*index, "=", (a, b), node.start, True), rows_compared(sign, rest, node)),
    )
    return tree.Logic(*index, "OR", (first, tied))


def overlaps(node: tree.Call, is_interval: Callable[[tree.Node], bool]) -> tree.Node:
    """Two spans of time, each from its earlier end (the other is not part of it unless both are
    one) to a moment or for an interval."""
    index = (node.start, node.end)
    spans = []
    for first, second in (node.arguments[:2], node.arguments[2:]):
        if is_interval(second):
            second = tree.Call(*index, "+", (first, second), node.start, True)
        earlier = tree.Call(*index, "<=", (first, second), node.start, True)
        known = tree.Is(*index, second, "NULL", True)
        # A NULL end leaves the other as the beginning.
        begin = tree.Case(
            *index,
            None,
            (
                (earlier, first),
                (tree.Call(*index, ">", (first, second), node.start, True), second),
                (tree.Is(*index, first, "NULL", True), first),
                (known, second),
            ),
            None,
        )
        end = tree.Case(
            *index,
            None,
            ((earlier, second), (tree.Call(*index, ">", (first, second), node.start, True), first)),
            None,
        )
        spans.append((begin, end))
    (s1, e1), (s2, e2) = spans

    def test(sign: str, x: tree.Node, y: tree.Node) -> tree.Node:
        return tree.Call(*index, sign, (x, y), node.start, True)

    def both(*parts: tree.Node) -> tree.Node:
        return tree.Logic(*index, "AND", parts)

    # ISO/IEC 9075-2, <overlaps predicate>.
    return tree.Logic(
        *index,
        "OR",
        (
            both(test(">", s1, s2), tree.Not(*index, both(test(">=", s1, e2), test(">=", e1, e2)))),
            both(test(">", s2, s1), tree.Not(*index, both(test(">=", s2, e1), test(">=", e2, e1)))),
            both(
                test("=", s1, s2), tree.Logic(*index, "OR", (test("<>", e1, e2), test("=", e1, e2)))
            ),
        ),
    )
