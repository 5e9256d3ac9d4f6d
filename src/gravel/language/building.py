"""The tree of an expression, built rule by rule while the text is parsed."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from gravel.hidden import restored
from gravel.language import tree
from gravel.language.diagnostics import Diagnostic
from gravel.words import words

REGRESSIONS = words(
    "CORR COVAR_POP COVAR_SAMP REGR_AVGX REGR_AVGY REGR_COUNT REGR_INTERCEPT REGR_R2 REGR_SLOPE"
    " REGR_SXX REGR_SXY REGR_SYY"
)
AGGREGATES = REGRESSIONS | words(
    "COUNT SUM AVG MIN MAX STDDEV_SAMP STDDEV_POP VAR_SAMP VAR_POP LISTAGG ARRAY_AGG ANY_VALUE"
    " EVERY PERCENTILE_CONT PERCENTILE_DISC GROUPING"
)
WINDOWS = words(
    "ROW_NUMBER RANK DENSE_RANK PERCENT_RANK CUME_DIST NTILE LAG LEAD FIRST_VALUE LAST_VALUE"
    " NTH_VALUE"
)
PUNCTUATION = {"LPAR", "RPAR", "COMMA", "EQUAL"}


def start_of(item: Any) -> int:
    return int(item.start if isinstance(item, tree.Node) else item.start_pos)


def end_of(item: Any) -> int:
    return item.end if isinstance(item, tree.Node) else item.end_pos  # type: ignore[no-any-return]


def rule(method: Callable[..., Any]) -> Callable[..., Any]:
    """A grammar rule's action: gets (start, end) of all it covers, then its children without
    punctuation."""

    def action(self: Any, children: Parts) -> Any:
        flat = [child for child in children if child is not None]
        start, end = start_of(flat[0]), end_of(flat[-1])
        kept = [
            child for child in flat if isinstance(child, tree.Node) or child.type not in PUNCTUATION
        ]
        return method(self, (start, end), kept)

    action.__name__ = method.__name__
    return action


def has_word(items: Parts, kind: str) -> bool:
    return any(not isinstance(item, tree.Node) and item.type == kind for item in items)


def nodes_in(items: Parts) -> list[Any]:
    return [item for item in items if isinstance(item, tree.Node)]


def node_after(items: Parts, kind: str) -> tree.Node | None:
    """The node that follows the keyword, or None."""
    for index, item in enumerate(items):
        if not isinstance(item, tree.Node) and item.type == kind:
            return items[index + 1]
    return None


def string_value(token: Any) -> str:
    """What a string literal says: parts with a line break between them joined, doubled quotes
    single, escapes of U&'…' decoded.

    Raises ValueError."""
    text = str(token)
    escaped = text[:1] in "uU"
    value = "".join(re.findall(r"'((?:[^']|'')*)'", text)).replace("''", "'")
    return _unescaped(value) if escaped else value


def _unescaped(value: str) -> str:
    def character(result: re.Match[str]) -> str:
        if result[0] == "\\\\":
            return "\\"
        code = int(result[1] or result[2] or "-1", 16)
        if not 0 < code <= 0x10FFFF or 0xD800 <= code < 0xE000:
            raise ValueError(
                "an escape in U&'…' is \\ and four hexadecimal digits of a character, or \\+"
                " and six"
            )
        return chr(code)

    return re.sub(r"\\\\|\\([0-9a-fA-F]{4})|\\\+([0-9a-fA-F]{6})|\\", character, value)


Span = tuple[int, int]
Parts = list[Any]  # what a rule is made of: tokens, and the nodes that its parts became
_ONE, _ZERO = ("integer", "1"), ("integer", "0")


class Expressions:
    """The grammar's actions for expressions, one a rule (the names are the grammar's)."""

    def __init__(self) -> None:
        self._parsing = (
            threading.local()
        )  # one tree builder serves all threads, each with a text of its own

    @property
    def source(self) -> str:
        """The text that this thread parses."""
        return getattr(self._parsing, "source", "")

    @source.setter
    def source(self, text: str) -> None:
        self._parsing.source = text

    # -- starts
    def expression_only(self, children: Parts) -> tree.Node:
        return children[0]

    def expression_list(self, children: Parts) -> Any:
        return nodes_in(children)

    named_list = expression_list
    sort_list = expression_list

    @rule
    def assignment(self, span: Span, items: Parts) -> tree.Named:
        return tree.Named(*span, items[0].text, items[0].start, items[1])

    @rule
    def named(self, span: Span, items: Parts) -> tree.Named:
        supplied: Any = node_after(items, "AS") or (
            self.name([items[1]]) if len(items) > 1 else None
        )
        if isinstance(items[0], tree.Row):
            raise Diagnostic("several values where one is needed", self.source, *span)
        name = supplied.text if supplied else self.source[items[0].start : items[0].end]
        return tree.Named(*span, name, supplied.start if supplied else items[0].start, items[0])

    @rule
    def sort_key(self, span: Span, items: Parts) -> tree.SortKey:
        nulls = has_word(items, "FIRST") if has_word(items, "NULLS") else None
        return tree.SortKey(*span, items[0], has_word(items, "DESC"), nulls)

    # -- conditions
    @rule
    def logic_or(self, span: Span, items: Parts) -> tree.Logic:
        return tree.Logic(*span, "OR", tuple(nodes_in(items)))

    @rule
    def logic_and(self, span: Span, items: Parts) -> tree.Logic:
        return tree.Logic(*span, "AND", tuple(nodes_in(items)))

    @rule
    def negation(self, span: Span, items: Parts) -> tree.Not:
        return tree.Not(*span, items[1])

    @rule
    def is_test(self, span: Span, items: Parts) -> tree.Is:
        return tree.Is(*span, items[0], items[-1].type, has_word(items, "NOT"))

    @rule
    def is_distinct(self, span: Span, items: Parts) -> tree.Node:
        call = tree.Call(*span, "IS DISTINCT FROM", (items[0], items[-1]), items[-1].start, True)
        return tree.Not(*span, call) if has_word(items, "NOT") else call

    @rule
    def compare(self, span: Span, items: Parts) -> tree.Call:
        name = "<>" if items[1] == "!=" else str(items[1])
        return tree.Call(*span, name, (items[0], items[2]), items[1].end_pos, True)

    @rule
    def compare_equal(self, span: Span, items: Parts) -> tree.Call:
        return tree.Call(*span, "=", (items[0], items[1]), items[1].start, True)

    @rule
    def in_list(self, span: Span, items: Parts) -> tree.In:
        operand, *values = nodes_in(items)
        return tree.In(*span, operand, tuple(values), has_word(items, "NOT"))

    @rule
    def between(self, span: Span, items: Parts) -> tree.Between:
        operand, low, high = nodes_in(items)
        return tree.Between(
            *span, operand, low, high, has_word(items, "NOT"), has_word(items, "SYMMETRIC")
        )

    @rule
    def similar(self, span: Span, items: Parts) -> tree.Node:
        return self._maybe_not(span, items, "SIMILAR TO")

    @rule
    def overlaps(self, span: Span, items: Parts) -> tree.Call:
        left, right = nodes_in(items)
        for side in (left, right):
            if not isinstance(side, tree.Row) or len(side.items) != 2:
                raise Diagnostic(
                    "OVERLAPS compares two spans",
                    self.source,
                    side.start,
                    side.end,
                    hint="(from, to) OVERLAPS (from, to)",
                )
        return tree.Call(*span, "OVERLAPS", (*left.items, *right.items), right.start, True)

    @rule
    def at_time_zone(self, span: Span, items: Parts) -> tree.Call:
        return tree.Call(
            *span, "AT TIME ZONE", tuple(nodes_in(items)), nodes_in(items)[1].start, True
        )

    @rule
    def element(self, span: Span, items: Parts) -> tree.Call:
        array, place = nodes_in(items)
        return tree.Call(*span, "[]", (array, place), place.start, True)

    @rule
    def collate(self, span: Span, items: Parts) -> Any:
        text, last = items[0], items[-1]
        name = last.text if isinstance(last, tree.Name) else str(last)[1:-1]
        if name.upper() not in ("C", "POSIX", "UCS_BASIC"):
            hint = (
                'texts compare by code point, COLLATE "C"; UPPER(x) or MATCH_KEY(x) compare without'
                " regard to case"
            )
            raise Diagnostic(
                f"there is no collation {name}",
                self.source,
                start_of(last),
                end_of(last),
                hint=hint,
            )
        return replace(text, start=span[0], end=span[1])

    @rule
    def array(self, span: Span, items: Parts) -> tree.Call:
        return tree.Call(*span, "ARRAY", tuple(nodes_in(items)), items[0].end_pos)

    def _maybe_not(self, span: Span, items: Parts, name: str) -> tree.Node:
        call = tree.Call(*span, name, tuple(nodes_in(items)), nodes_in(items)[1].start, True)
        return tree.Not(*span, call) if has_word(items, "NOT") else call

    @rule
    def like(self, span: Span, items: Parts) -> tree.Node:
        return self._maybe_not(span, items, "LIKE")

    @rule
    def like_regex(self, span: Span, items: Parts) -> tree.Node:
        return self._maybe_not(span, items, "LIKE_REGEX")

    def _aggregate(
        self, span: Span, name: tree.Name, rest: Parts, star: bool, distinct: bool
    ) -> tree.Aggregate:
        bags = {item.kind: item.items for item in rest if isinstance(item, Bag)}
        arguments = tuple(item for item in nodes_in(rest) if not isinstance(item, Bag))
        over = bags.get("over", (None,))[0]
        return tree.Aggregate(
            *span,
            name.text,
            arguments,
            star,
            distinct,
            bags.get("filter", (None,))[0],
            bags.get("within", ()),
            over,
            name.end,
            bags.get("ordered", ()),
            bags.get("nulls", ("",))[0],
        )

    # -- values
    @rule
    def binary(self, span: Span, items: Parts) -> tree.Call:
        return tree.Call(*span, str(items[1]), (items[0], items[2]), items[1].end_pos, True)

    @rule
    def unary(self, span: Span, items: Parts) -> tree.Node:
        inner = items[1]
        if (
            isinstance(inner, tree.Literal)
            and inner.kind in ("integer", "decimal", "double")
            and inner.text[0] not in "+-"
        ):
            return tree.Literal(*span, inner.kind, f"{items[0]}{inner.text}")
        return tree.Call(*span, str(items[0]), (inner,), items[0].end_pos, True)

    @rule
    def parenthesis(self, span: Span, items: Parts) -> tree.Node:
        inner = items[0]
        # `-(5)` stays a negation and a name in parentheses no call: only the span widens.
        return replace(inner, start=span[0], end=span[1])

    @rule
    def parameter(self, span: Span, items: Parts) -> tree.Parameter:
        return tree.Parameter(*span, str(items[0])[1:])

    @rule
    def call(self, span: Span, items: Parts) -> tree.Node:
        name, *arguments = items
        if name.text.upper() in AGGREGATES or any(isinstance(item, Bag) for item in arguments):
            return self._aggregate(span, name, arguments, False, False)
        return tree.Call(*span, name.text, tuple(arguments), name.end)

    @rule
    def column(self, span: Span, items: Parts) -> tree.Name:
        if len(items) == 1:
            return items[0]
        table, _, column = items
        return tree.Name(*span, column.text, column.quoted, table.text)

    @rule
    def name(self, span: Span, items: Parts) -> tree.Name:
        item = items[0]
        if isinstance(item, tree.Name):
            return item
        text = str(item)
        quoted = text.startswith('"')
        return tree.Name(*span, text[1:-1].replace('""', '"') if quoted else text, quoted)

    not_reserved = name
    function_name = name
    label = name

    def _literal(kind: str) -> Any:  # type: ignore[misc]  # noqa: N805
        @rule
        def action(self: Any, span: Span, items: Parts) -> tree.Literal:
            return tree.Literal(*span, kind, str(items[0]))

        return action

    def _number(kind: str) -> Any:  # type: ignore[misc]  # noqa: N805
        @rule
        def action(self: Any, span: Span, items: Parts) -> tree.Literal:
            digits = str(items[0]).replace("_", "")
            return tree.Literal(
                *span,
                kind,
                str(int(digits, 0)) if digits[1:2].isalpha() and kind == "integer" else digits,
            )

        return action

    integer = _number("integer")
    decimal = _number("decimal")
    double = _number("double")

    @rule
    def string(self, span: Span, items: Parts) -> tree.Literal:
        try:
            return tree.Literal(*span, "text", restored(string_value(items[0])))
        except ValueError as error:
            raise Diagnostic(str(error), self.source, *span) from None

    @rule
    def binary_literal(self, span: Span, items: Parts) -> Any:
        digits = "".join(str(items[0])[2:-1].split())
        if len(digits) % 2:
            raise Diagnostic(
                "a binary literal has two hexadecimal digits a byte", self.source, *span
            )
        return tree.Literal(*span, "binary", digits)

    boolean = _literal("boolean")
    null = _literal("null")

    @rule
    def moment(self, span: Span, items: Parts) -> tree.Literal:
        return tree.Literal(*span, str(items[0]).lower(), str(items[1])[1:-1])

    @rule
    def interval(self, span: Span, items: Parts) -> tree.Literal:
        text = next(
            item for item in items if not isinstance(item, tree.Node) and item.type == "STRING"
        )
        unit = next((item.text for item in nodes_in(items)), "")
        return tree.Literal(
            *span, "interval", ("-" if has_word(items, "MINUS") else "") + string_value(text), unit
        )

    @rule
    def interval_unit(self, span: Span, items: Parts) -> tree.Name:
        return tree.Name(*span, " TO ".join(item.text for item in nodes_in(items)))

    @rule
    def time_unit(self, span: Span, items: Parts) -> tree.Name:
        return tree.Name(*span, str(items[0]).upper())

    @rule
    def case(self, span: Span, items: Parts) -> tree.Case:
        otherwise = node_after(items, "ELSE")
        operand = items[1] if not isinstance(items[1], _When) else None
        branches = tuple((item.condition, item.result) for item in items if isinstance(item, _When))
        return tree.Case(*span, operand, branches, otherwise)

    @rule
    def when(self, span: Span, items: Parts) -> _When:
        return _When(*span, items[1], items[3])

    # -- functions with a syntax of their own
    @rule
    def cast(self, span: Span, items: Parts) -> tree.Cast:
        form = next(
            (item for item in items if not isinstance(item, tree.Node) and item.type == "STRING"),
            None,
        )
        supplied = (
            tree.Literal(form.start_pos, form.end_pos, "text", string_value(form)) if form else None
        )
        operand, target = nodes_in(items)
        return tree.Cast(*span, str(items[0]).upper(), operand, target, supplied)

    def _call(self, span: Span, items: Parts, name: str, *arguments: Any) -> tree.Call:
        return tree.Call(
            *span,
            name,
            tuple(argument for argument in arguments if argument is not None),
            items[0].end_pos,
        )

    @rule
    def trim_side(self, span: Span, items: Parts) -> tree.Call:
        name = {"LEADING": "LTRIM", "TRAILING": "RTRIM", "BOTH": "BTRIM"}[items[1].type]
        *chars, value = nodes_in(items)
        return self._call(span, items, name, value, *chars)

    @rule
    def trim_from(self, span: Span, items: Parts) -> tree.Call:
        chars, value = nodes_in(items)
        return self._call(span, items, "BTRIM", value, chars)

    @rule
    def trim_plain(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "BTRIM", *nodes_in(items))

    @rule
    def substring_from(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "SUBSTRING", *nodes_in(items))

    substring_comma = substring_from

    @rule
    def position(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "POSITION", *nodes_in(items))

    @rule
    def overlay(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "OVERLAY", *nodes_in(items))

    @rule
    def extract(self, span: Span, items: Parts) -> tree.Call:
        unit, value = nodes_in(items)
        return self._call(
            span,
            items,
            "EXTRACT",
            tree.Literal(unit.start, unit.end, "text", unit.text.upper()),
            value,
        )

    @rule
    def normalize(self, span: Span, items: Parts) -> tree.Call:
        form = next(
            (item for item in items if not isinstance(item, tree.Node) and item.type == "NAME"),
            None,
        )
        supplied = (
            tree.Literal(form.start_pos, form.end_pos, "text", str(form).upper())
            if form
            else tree.Literal(*span, "text", "NFC")
        )
        return self._call(span, items, "NORMALIZE", items[1], supplied)

    @rule
    def current_date(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "CURRENT_DATE")

    @rule
    def current_timestamp(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "CURRENT_TIMESTAMP")

    @rule
    def localtimestamp(self, span: Span, items: Parts) -> tree.Call:
        return self._call(span, items, "LOCALTIMESTAMP")

    def _regex(self, span: Span, items: Parts, name: str, **clauses: tuple[str, str]) -> tree.Call:
        """The call of a regular expression function; `clauses` have the kind and text of what
        stands for a missing one."""
        pattern = next(item for item in items if isinstance(item, tree.Node))
        arguments = [
            pattern,
            node_after(items, "FLAG") or tree.Literal(*span, "text", ""),
            node_after(items, "IN"),
        ]
        if has_word(items, "ALL"):
            items = [
                item
                for item in items
                if isinstance(item, tree.Node) or item.type not in ("OCCURRENCE", "ALL")
            ]
        supplied = [
            node_after(items, clause) or tree.Literal(*span, *default)
            for clause, default in clauses.items()
        ]
        return self._call(span, items, name, *arguments, *supplied)

    @rule
    def substring_regex(self, span: Span, items: Parts) -> tree.Call:
        return self._regex(span, items, "SUBSTRING_REGEX", FROM=_ONE, OCCURRENCE=_ONE, GROUP=_ZERO)

    @rule
    def occurrences_regex(self, span: Span, items: Parts) -> tree.Call:
        return self._regex(span, items, "OCCURRENCES_REGEX", FROM=_ONE)

    @rule
    def position_regex(self, span: Span, items: Parts) -> tree.Call:
        call = self._regex(span, items, "POSITION_REGEX", FROM=_ONE, OCCURRENCE=_ONE, GROUP=_ZERO)
        side = tree.Literal(*span, "text", "AFTER" if has_word(items, "AFTER") else "START")
        return replace(call, arguments=(*call.arguments, side))

    @rule
    def translate_regex(self, span: Span, items: Parts) -> tree.Call:
        return self._regex(
            span, items, "TRANSLATE_REGEX", WITH=("text", ""), FROM=_ONE, OCCURRENCE=_ZERO
        )

    @rule
    def type_name(self, span: Span, items: Parts) -> tree.TypeName:
        words = [item.text for item in nodes_in(items)]
        numbers = tuple(
            int(item)
            for item in items
            if not isinstance(item, tree.Node) and item.type == "INTEGER_NUMBER"
        )
        zone = [
            str(item).upper()
            for item in items
            if not isinstance(item, tree.Node) and item.type != "INTEGER_NUMBER"
        ]
        return tree.TypeName(*span, (*words, *zone), numbers)

    @rule
    def type_word(self, span: Span, items: Parts) -> tree.Name:
        return tree.Name(*span, str(items[0]).upper())


class Bag(tree.Node, frozen=True):
    """Some items of one kind on their way to the node they belong to."""

    kind: str
    items: tuple[Any, ...]
    operator: str = ""
    all: bool = False


class _When(tree.Node, frozen=True):
    condition: tree.Node
    result: tree.Node
