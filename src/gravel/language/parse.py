"""From text to syntax nodes. The grammar file is the definition; `lark` parses, its tables are kept between starts."""

from __future__ import annotations

import dataclasses
import hashlib
import os
import sys
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from gravel.language import tree
from gravel.language.diagnostics import Diagnostic
from gravel.problems import nearest
from gravel.words import words

AGGREGATES = words(
    "COUNT SUM AVG MIN MAX STDDEV_SAMP STDDEV_POP VAR_SAMP VAR_POP LISTAGG ANY_VALUE PERCENTILE_CONT PERCENTILE_DISC GROUPING"
)
WINDOWS = words("ROW_NUMBER RANK DENSE_RANK PERCENT_RANK CUME_DIST NTILE LAG LEAD FIRST_VALUE LAST_VALUE")
NESTING = 200
CHAIN = 2000
_STARTS = ["expression_only", "assignment", "named", "named_list", "expression_list", "sort_list", "query_only"]
_PUNCTUATION = {"LPAR", "RPAR", "COMMA", "EQUAL"}
# Chains of operators are as deep as they are long; binding and evaluating recurse over them in Python frames only.
sys.setrecursionlimit(max(sys.getrecursionlimit(), 12 * CHAIN))


def expression(text: str) -> tree.Node:
    """One expression. Raises Diagnostic."""
    return _parse(text, "expression_only")


def assignment(text: str) -> tree.Named:
    """`column = EXPR`. Raises Diagnostic."""
    return _parse(text, "assignment")  # type: ignore[no-any-return]


def named(text: str) -> tree.Named:
    """`EXPR [AS name]`; without a name the expression's own text is its name. Raises Diagnostic."""
    return _parse(text, "named")  # type: ignore[no-any-return]


def expression_list(text: str) -> list[tree.Node]:
    """`EXPR, EXPR, …`. Raises Diagnostic."""
    return _parse(text, "expression_list")  # type: ignore[no-any-return]


def sort_list(text: str) -> list[tree.SortKey]:
    """`EXPR [ASC|DESC] [NULLS FIRST|LAST], …`. Raises Diagnostic."""
    return _parse(text, "sort_list")  # type: ignore[no-any-return]


def query(text: str) -> tree.Query:
    """A query. Raises Diagnostic."""
    return _parse(text, "query_only")  # type: ignore[no-any-return]


def column_names(node: Any) -> Iterator[tree.Name]:
    """Every column name below a node, in no special order; those within a subquery are its table's."""
    for child in walk(node, queries=False):
        if isinstance(child, tree.Name):
            yield child


def walk(node: Any, queries: bool = True) -> Iterator[tree.Node]:
    """Every node below and including `node`, without recursion; unless `queries`, nothing of the subqueries in it."""
    stack = [node]
    while stack:
        item = stack.pop()
        if isinstance(item, (tuple, list)):
            stack.extend(item)
        elif isinstance(item, tree.Node) and (queries or not isinstance(item, tree.Query)):
            yield item
            stack.extend(_fields(item))


def _fields(node: tree.Node) -> list[Any]:
    return [getattr(node, field.name) for field in dataclasses.fields(node) if isinstance(getattr(node, field.name), (tuple, tree.Node))]


def _parse(text: str, start: str) -> Any:
    from lark.exceptions import UnexpectedCharacters, UnexpectedInput

    _refuse_deep_parentheses(text)
    if not text.strip():
        raise Diagnostic("the expression is empty", text or " ", 0, 1)
    try:
        result = _parser(text).parse(text, start=start)
    except UnexpectedCharacters as error:
        raise _bad_character(text, error.pos_in_stream or 0) from None
    except UnexpectedInput as error:
        raise _bad_token(text, error) from None
    _refuse_deep_trees(result, text)
    return result


def _bad_character(text: str, at: int) -> Diagnostic:
    char = text[at]
    if char == "'":
        return Diagnostic("the text is not closed", text, at, len(text), hint="close it with ' (a quote inside is written twice: '')")
    if char == '"':
        return Diagnostic("the quoted name is not closed", text, at, len(text), hint='close it with "')
    hints = {
        "‘": "write a plain quote: 'text'", "’": "write a plain quote: 'text'", "`": 'a column name is quoted with "name"',
        "“": 'write a plain quote: "name"', "”": 'write a plain quote: "name"', "[": 'a column name is quoted with "name"',
        "&": "write AND", "|": "write OR, or || to join texts", "!": "write NOT, or <> for unequal", ";": "leave it out: it is one expression",
        ".": "a file stands in quotes: FROM 'boats.csv'",
    }  # fmt: skip
    return Diagnostic(f"unexpected character {char!r}", text, at, at + 1, hint=hints.get(char, ""))


def _bad_token(text: str, error: Any) -> Diagnostic:
    token = getattr(error, "token", None)
    if token is None or token.type == "$END":
        end = len(text.rstrip())
        return Diagnostic("the expression ends too early", text, end, end + 1, hint=_expected(error))
    start, word = token.start_pos, str(token)
    hint = _expected(error)
    if word == "=" and text[start - 1 : start] == "=":
        hint = "equality is written with one ="
    elif token.type in ("NAME", "STRING") and error.accepts and {"AND", "OR"} & set(error.accepts):
        near = "" if len(word) < 2 else nearest(word, ["AND", "OR", "LIKE", "BETWEEN", "IS", "THEN", "ELSE", "END", "WHEN", "AS", "ESCAPE"])
        hint = f"did you mean {near}?" if near else "an operator or a comma is missing before it"
    elif word.upper() in ("SELECT", "FROM", "WHERE"):
        hint = "this takes one expression, not a whole statement"
    return Diagnostic(f"syntax error at {word[:40]!r}", text, start, start + len(word), hint=hint)


def _expected(error: Any) -> str:
    accepts = set(getattr(error, "accepts", None) or ())
    for token, hint in (("END", "a CASE ends with END"), ("THEN", "WHEN is followed by THEN"), ("AS", "the type is missing: AS type")):
        if token in accepts and not ({"NAME"} & accepts):
            return hint
    if "END" in accepts:
        return "a CASE ends with END"
    if "NAME" in accepts or "STRING" in accepts:
        return "a value, a column or a function is missing here"
    if "RPAR" in accepts:
        return "a closing parenthesis is missing"
    return ""


def _refuse_deep_parentheses(text: str) -> None:
    if text.count("(") <= NESTING:
        return
    depth, quote = 0, ""
    for at, char in enumerate(text):
        if quote:
            quote = "" if char == quote else quote
        elif char in "'\"":
            quote = char
        elif char in "()":
            depth += 1 if char == "(" else -1
            if depth > NESTING:
                raise Diagnostic(f"more than {NESTING} levels of nesting", text, at, at + 1)


def _refuse_deep_trees(node: Any, text: str) -> None:
    stack: list[tuple[Any, int, int]] = [(node, 0, 0)]
    while stack:
        item, nested, chained = stack.pop()
        if isinstance(item, (tuple, list)):
            stack.extend((child, nested, chained) for child in item)
            continue
        if not isinstance(item, tree.Node):
            continue
        if nested > NESTING:
            raise Diagnostic(f"more than {NESTING} levels of nesting", text, item.start, item.end)
        if chained > CHAIN:
            raise Diagnostic(f"more than {CHAIN} operators in a row", text, item.start, item.end)
        if isinstance(item, tree.Call) and item.operator and len(item.arguments) == 2:
            # The left operand of a chain (a + b + c) is no deeper nesting, only a longer chain.
            stack.append((item.arguments[0], nested, chained + 1))
            stack.append((item.arguments[1], nested + 1, chained))
        else:
            stack.extend((child, nested + 1, chained) for child in _fields(item))


@lru_cache(maxsize=1)
def _tables() -> Any:
    import lark

    grammar = Path(__file__).with_name("grammar.lark").read_text("utf-8")
    build = _Build()
    options: dict[str, Any] = {
        "parser": "lalr", "start": _STARTS, "keep_all_tokens": True, "maybe_placeholders": False,
        "transformer": build,
    }  # fmt: skip
    key = hashlib.sha256(f"{lark.__version__} {sys.version_info[:3]} {grammar}".encode()).hexdigest()[:16]
    kept = _cache_folder()
    if kept:
        path = kept / f"grammar-{key}.bin"
        try:
            return lark.Lark(grammar, cache=str(path), **options), build
        except OSError:
            pass
    return lark.Lark(grammar, **options), build


def _cache_folder() -> Path | None:
    base = os.environ.get("XDG_CACHE_HOME") or os.environ.get("LOCALAPPDATA") or os.path.expanduser("~/.cache")
    folder = Path(base) / "gravel"
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError:
        return None
    return folder if os.access(folder, os.W_OK) and (not hasattr(os, "getuid") or folder.stat().st_uid == os.getuid()) else None


def _parser(text: str) -> Any:
    lark_parser, build = _tables()
    build.source = text
    return lark_parser


def _start(item: Any) -> int:
    return item.start if isinstance(item, tree.Node) else item.start_pos  # type: ignore[no-any-return]


def _end(item: Any) -> int:
    return item.end if isinstance(item, tree.Node) else item.end_pos  # type: ignore[no-any-return]


def _rule(method: Callable[..., Any]) -> Callable[..., Any]:
    """A grammar rule's action: gets (start, end) of all it covers, then its children without punctuation."""

    def action(self: _Build, children: list[Any]) -> Any:
        flat = [child for child in children if child is not None]
        start, end = _start(flat[0]), _end(flat[-1])
        kept = [child for child in flat if isinstance(child, tree.Node) or child.type not in _PUNCTUATION]
        return method(self, (start, end), kept)

    action.__name__ = method.__name__
    return action


def _word(items: list[Any], kind: str) -> bool:
    return any(not isinstance(item, tree.Node) and item.type == kind for item in items)


def _nodes(items: list[Any]) -> list[Any]:
    return [item for item in items if isinstance(item, tree.Node)]


def _after(items: list[Any], kind: str) -> Any:
    """The node that follows the keyword, or None."""
    for at, item in enumerate(items):
        if not isinstance(item, tree.Node) and item.type == kind:
            return items[at + 1]
    return None


Span = tuple[int, int]
_ONE, _ZERO = ("integer", "1"), ("integer", "0")


class _Build:
    """The grammar's actions, one a rule (the names are the grammar's)."""

    source = ""

    # -- starts
    def expression_only(self, children: list[Any]) -> Any:
        return children[0]

    def expression_list(self, children: list[Any]) -> Any:
        return _nodes(children)

    named_list = expression_list
    sort_list = expression_list

    @_rule
    def assignment(self, span: Span, items: list[Any]) -> Any:
        return tree.Named(*span, items[0].text, items[0].start, items[1])

    @_rule
    def named(self, span: Span, items: list[Any]) -> Any:
        given = _after(items, "AS") or (self.name([items[1]]) if len(items) > 1 else None)
        name = given.text if given else self.source[items[0].start : items[0].end]
        return tree.Named(*span, name, given.start if given else items[0].start, items[0])

    @_rule
    def sort_key(self, span: Span, items: list[Any]) -> Any:
        nulls = _word(items, "FIRST") if _word(items, "NULLS") else None
        return tree.SortKey(*span, items[0], _word(items, "DESC"), nulls)

    # -- conditions
    @_rule
    def logic_or(self, span: Span, items: list[Any]) -> Any:
        return tree.Logic(*span, "OR", tuple(_nodes(items)))

    @_rule
    def logic_and(self, span: Span, items: list[Any]) -> Any:
        return tree.Logic(*span, "AND", tuple(_nodes(items)))

    @_rule
    def negation(self, span: Span, items: list[Any]) -> Any:
        return tree.Not(*span, items[1])

    @_rule
    def is_test(self, span: Span, items: list[Any]) -> Any:
        return tree.Is(*span, items[0], items[-1].type, _word(items, "NOT"))

    @_rule
    def is_distinct(self, span: Span, items: list[Any]) -> Any:
        call = tree.Call(*span, "IS DISTINCT FROM", (items[0], items[-1]), items[-1].start, True)
        return tree.Not(*span, call) if _word(items, "NOT") else call

    @_rule
    def compare(self, span: Span, items: list[Any]) -> Any:
        name = "<>" if items[1] == "!=" else str(items[1])
        return tree.Call(*span, name, (items[0], items[2]), items[1].end_pos, True)

    @_rule
    def compare_equal(self, span: Span, items: list[Any]) -> Any:
        return tree.Call(*span, "=", (items[0], items[1]), items[1].start, True)

    @_rule
    def in_list(self, span: Span, items: list[Any]) -> Any:
        operand, *values = _nodes(items)
        return tree.In(*span, operand, tuple(values), _word(items, "NOT"))

    # -- queries
    def query_only(self, children: list[Any]) -> Any:
        return children[0]

    @_rule
    def query(self, span: Span, items: list[Any]) -> Any:
        withs = next((item.items for item in items if isinstance(item, _Bag) and item.kind == "withs"), ())
        rest = [item for item in items if not isinstance(item, _Bag) or item.kind == "operator"]
        blocks = [item for item in rest if isinstance(item, (tree.Select, tree.Values, tree.Query))]
        operators = [item for item in rest if isinstance(item, _Bag)]
        order = tuple(item for item in items if isinstance(item, tree.SortKey))
        offset, fetch, ties = 0, None, False
        for limit in (item for item in items if isinstance(item, _Limit)):
            if limit.kind == "OFFSET":
                offset = limit.count or 0
            else:
                fetch, ties = limit.count, limit.ties
        return tree.Query(*span, withs, _combined(blocks, operators), order, offset, fetch, ties)

    @_rule
    def with_list(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "withs", tuple(_nodes(items)))

    @_rule
    def with_item(self, span: Span, items: list[Any]) -> Any:
        name, *rest = _nodes(items)
        return tree.With(*span, name.text, _names(rest), rest[-1])

    @_rule
    def names(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "names", tuple(_nodes(items)))

    @_rule
    def nested(self, span: Span, items: list[Any]) -> Any:
        return items[0]

    @_rule
    def set_operator(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "operator", (), items[0].type, _word(items, "ALL"))

    @_rule
    def limit(self, span: Span, items: list[Any]) -> Any:
        number = next((int(item) for item in items if item.type == "INTEGER_NUMBER"), None)
        if items[0].type == "FETCH" and number is None:
            number = 1
        return _Limit(*span, items[0].type, number, _word(items, "TIES"))

    @_rule
    def select(self, span: Span, items: list[Any]) -> Any:
        bags = {item.kind: item.items for item in items if isinstance(item, _Bag)}
        chosen = tuple(item for item in items if isinstance(item, (tree.Named, tree.AllColumns)))
        return tree.Select(
            *span, any(not isinstance(item, tree.Node) and item.type == "DISTINCT" for item in items), chosen, bags.get("from", ()),
            bags.get("where", (None,))[0], bags.get("group"), bags.get("having", (None,))[0], bags.get("windows", ()),
        )  # fmt: skip

    @_rule
    def all_columns(self, span: Span, items: list[Any]) -> Any:
        return tree.AllColumns(*span)

    @_rule
    def table_columns(self, span: Span, items: list[Any]) -> Any:
        return tree.AllColumns(*span, items[0].text)

    @_rule
    def from_list(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "from", tuple(_nodes(items)))

    @_rule
    def where(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "where", (items[1],))

    @_rule
    def group_by(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "group", tuple(_nodes(items)))

    @_rule
    def having(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "having", (items[1],))

    @_rule
    def windows(self, span: Span, items: list[Any]) -> Any:
        found = _nodes(items)
        return _Bag(*span, "windows", tuple((name.text, window) for name, window in zip(found[::2], found[1::2], strict=True)))

    @_rule
    def grouping_none(self, span: Span, items: list[Any]) -> Any:
        return tree.GroupingSets(*span, ((),))

    @_rule
    def grouping_sets(self, span: Span, items: list[Any]) -> Any:
        sets = [
            item.sets[0] if isinstance(item, tree.GroupingSets) else item.items if isinstance(item, tree.Row) else (item,)
            for item in _nodes(items)
        ]
        return tree.GroupingSets(*span, tuple(sets))

    @_rule
    def grouping_steps(self, span: Span, items: list[Any]) -> Any:
        steps = [item.items if isinstance(item, tree.Row) else (item,) for item in _nodes(items)]
        if items[0].type == "ROLLUP":
            chosen = [steps[:count] for count in range(len(steps), -1, -1)]
        else:
            chosen = [[step for at, step in enumerate(steps) if not mask >> (len(steps) - 1 - at) & 1] for mask in range(1 << len(steps))]
        return tree.GroupingSets(*span, tuple(tuple(one for step in some for one in step) for some in chosen))

    @_rule
    def values(self, span: Span, items: list[Any]) -> Any:
        return tree.Values(*span, tuple(_nodes(items)))

    @_rule
    def value_row(self, span: Span, items: list[Any]) -> Any:
        return tree.Row(*span, tuple(_nodes(items)))

    row = value_row

    @_rule
    def join(self, span: Span, items: list[Any]) -> Any:
        left, kind, right, last = _nodes(items)
        using = _names([last]) if isinstance(last, _Bag) else ()
        return tree.Join(*span, kind.kind, left, right, None if using else last, using)

    def join_kind(self, children: list[Any]) -> Any:
        first = next(iter(children), None)
        at = (first.start_pos, first.end_pos) if first is not None else (0, 0)
        return _Bag(at[0], at[1], first.type if first is not None else "INNER", ())

    @_rule
    def cross_join(self, span: Span, items: list[Any]) -> Any:
        left, right = _nodes(items)
        return tree.Join(*span, "CROSS", left, right, None, ())

    @_rule
    def table(self, span: Span, items: list[Any]) -> Any:
        named = isinstance(items[0], tree.Node)
        reference = items[0].text if named else str(items[0])[1:-1].replace("''", "'")
        return tree.Table(*span, reference, named, *_alias(items[1:]))

    @_rule
    def derived(self, span: Span, items: list[Any]) -> Any:
        return tree.Derived(*span, items[0], *_alias(items[1:]))

    @_rule
    def unnest(self, span: Span, items: list[Any]) -> Any:
        return tree.Unnest(*span, items[1], _word(items, "ORDINALITY"), *_alias(items[2:]))

    @_rule
    def alias(self, span: Span, items: list[Any]) -> Any:
        name, *rest = _nodes(items)
        return _Bag(*span, "alias", (name.text, _names(rest)))

    @_rule
    def in_query(self, span: Span, items: list[Any]) -> Any:
        operand, query = _nodes(items)
        return tree.InQuery(*span, operand, query, _word(items, "NOT"))

    @_rule
    def exists(self, span: Span, items: list[Any]) -> Any:
        return tree.Exists(*span, items[1])

    @_rule
    def scalar(self, span: Span, items: list[Any]) -> Any:
        return tree.Scalar(*span, items[0])

    # -- functions of many rows
    @_rule
    def within(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "within", tuple(_nodes(items)))

    @_rule
    def filter(self, span: Span, items: list[Any]) -> Any:
        return _Bag(*span, "filter", tuple(_nodes(items)))

    @_rule
    def over(self, span: Span, items: list[Any]) -> Any:
        named = items[1]
        return _Bag(
            *span, "over", (tree.Window(named.start, named.end, (), (), None, named.text) if isinstance(named, tree.Name) else named,)
        )

    def window(self, children: list[Any]) -> Any:
        frame = next((item.frame for item in children if isinstance(item, _Frame)), None)
        order = tuple(item for item in children if isinstance(item, tree.SortKey))
        partition = tuple(item for item in children if isinstance(item, tree.Node) and not isinstance(item, (tree.SortKey, _Frame)))
        return tree.Window(_start(children[0]), _end(children[-1]), partition, order, frame)

    @_rule
    def frame(self, span: Span, items: list[Any]) -> Any:
        bounds = [item.bound for item in items if isinstance(item, _Bound)]
        first, last = bounds if len(bounds) == 2 else (bounds[0], 0)
        return _Frame(*span, (items[0].type, first, last))

    @_rule
    def bound(self, span: Span, items: list[Any]) -> Any:
        if items[0].type == "CURRENT":
            return _Bound(*span, 0)
        if items[0].type == "UNBOUNDED":
            return _Bound(*span, None if items[1].type == "PRECEDING" else _LAST)
        return _Bound(*span, -int(items[0]) if items[1].type == "PRECEDING" else int(items[0]))

    @_rule
    def aggregate(self, span: Span, items: list[Any]) -> Any:
        name, *rest = items
        return self._aggregate(span, name, rest, _word(rest, "STAR"), _word(rest, "DISTINCT"))

    def _aggregate(self, span: Span, name: Any, rest: list[Any], star: bool, distinct: bool) -> Any:
        bags = {item.kind: item.items for item in rest if isinstance(item, _Bag)}
        arguments = tuple(item for item in _nodes(rest) if not isinstance(item, _Bag))
        over = bags.get("over", (None,))[0]
        return tree.Aggregate(
            *span, name.text, arguments, star, distinct, bags.get("filter", (None,))[0], bags.get("within", ()), over, name.end
        )

    @_rule
    def between(self, span: Span, items: list[Any]) -> Any:
        operand, low, high = _nodes(items)
        return tree.Between(*span, operand, low, high, _word(items, "NOT"))

    def _maybe_not(self, span: Span, items: list[Any], name: str) -> Any:
        call = tree.Call(*span, name, tuple(_nodes(items)), _nodes(items)[1].start, True)
        return tree.Not(*span, call) if _word(items, "NOT") else call

    @_rule
    def like(self, span: Span, items: list[Any]) -> Any:
        return self._maybe_not(span, items, "LIKE")

    @_rule
    def like_regex(self, span: Span, items: list[Any]) -> Any:
        return self._maybe_not(span, items, "LIKE_REGEX")

    # -- values
    @_rule
    def binary(self, span: Span, items: list[Any]) -> Any:
        return tree.Call(*span, str(items[1]), (items[0], items[2]), items[1].end_pos, True)

    @_rule
    def unary(self, span: Span, items: list[Any]) -> Any:
        inner = items[1]
        if isinstance(inner, tree.Literal) and inner.kind in ("integer", "decimal", "double") and inner.text[0] not in "+-":
            return tree.Literal(*span, inner.kind, f"{items[0]}{inner.text}")
        return tree.Call(*span, str(items[0]), (inner,), items[0].end_pos, True)

    @_rule
    def parenthesis(self, span: Span, items: list[Any]) -> Any:
        inner = items[0]
        # `-(5)` stays a negation and a name in parentheses no call: only the span widens.
        return dataclasses.replace(inner, start=span[0], end=span[1])

    @_rule
    def parameter(self, span: Span, items: list[Any]) -> Any:
        return tree.Parameter(*span, str(items[0])[1:])

    @_rule
    def call(self, span: Span, items: list[Any]) -> Any:
        name, *arguments = items
        if name.text.upper() in AGGREGATES or any(isinstance(item, _Bag) for item in arguments):
            return self._aggregate(span, name, arguments, False, False)
        return tree.Call(*span, name.text, tuple(arguments), name.end)

    @_rule
    def column(self, span: Span, items: list[Any]) -> Any:
        if len(items) == 1:
            return items[0]
        table, _, column = items
        return tree.Name(*span, column.text, column.quoted, table.text)

    @_rule
    def name(self, span: Span, items: list[Any]) -> Any:
        item = items[0]
        if isinstance(item, tree.Name):
            return item
        text = str(item)
        quoted = text.startswith('"')
        return tree.Name(*span, text[1:-1].replace('""', '"') if quoted else text, quoted)

    not_reserved = name
    function_name = name

    def _literal(kind: str) -> Any:  # type: ignore[misc]  # noqa: N805
        @_rule
        def action(self: Any, span: Span, items: list[Any]) -> Any:
            text = str(items[0])
            return tree.Literal(*span, kind, text[1:-1].replace("''", "'") if kind == "text" else text)

        return action

    integer = _literal("integer")
    decimal = _literal("decimal")
    double = _literal("double")
    string = _literal("text")
    boolean = _literal("boolean")
    null = _literal("null")

    @_rule
    def moment(self, span: Span, items: list[Any]) -> Any:
        return tree.Literal(*span, str(items[0]).lower(), str(items[1])[1:-1])

    @_rule
    def interval(self, span: Span, items: list[Any]) -> Any:
        sign = "-" if _word(items, "MINUS") else ""
        return tree.Literal(*span, "interval", sign + str(items[-2])[1:-1], str(items[-1]))

    @_rule
    def case(self, span: Span, items: list[Any]) -> Any:
        otherwise = _after(items, "ELSE")
        operand = items[1] if not isinstance(items[1], _When) else None
        branches = tuple((item.condition, item.result) for item in items if isinstance(item, _When))
        return tree.Case(*span, operand, branches, otherwise)

    @_rule
    def when(self, span: Span, items: list[Any]) -> Any:
        return _When(*span, items[1], items[3])

    # -- functions with a syntax of their own
    @_rule
    def cast(self, span: Span, items: list[Any]) -> Any:
        form = next((item for item in items if not isinstance(item, tree.Node) and item.type == "STRING"), None)
        given = tree.Literal(form.start_pos, form.end_pos, "text", form[1:-1].replace("''", "'")) if form else None
        operand, target = _nodes(items)
        return tree.Cast(*span, str(items[0]).upper(), operand, target, given)

    def _call(self, span: Span, items: list[Any], name: str, *arguments: Any) -> Any:
        return tree.Call(*span, name, tuple(argument for argument in arguments if argument is not None), items[0].end_pos)

    @_rule
    def trim_side(self, span: Span, items: list[Any]) -> Any:
        name = {"LEADING": "LTRIM", "TRAILING": "RTRIM", "BOTH": "BTRIM"}[items[1].type]
        *chars, value = _nodes(items)
        return self._call(span, items, name, value, *chars)

    @_rule
    def trim_from(self, span: Span, items: list[Any]) -> Any:
        chars, value = _nodes(items)
        return self._call(span, items, "BTRIM", value, chars)

    @_rule
    def trim_plain(self, span: Span, items: list[Any]) -> Any:
        return self._call(span, items, "BTRIM", *_nodes(items))

    @_rule
    def substring_from(self, span: Span, items: list[Any]) -> Any:
        return self._call(span, items, "SUBSTRING", *_nodes(items))

    substring_comma = substring_from

    @_rule
    def position(self, span: Span, items: list[Any]) -> Any:
        return self._call(span, items, "POSITION", *_nodes(items))

    @_rule
    def overlay(self, span: Span, items: list[Any]) -> Any:
        return self._call(span, items, "OVERLAY", *_nodes(items))

    @_rule
    def extract(self, span: Span, items: list[Any]) -> Any:
        unit = next(item for item in items if not isinstance(item, tree.Node) and item.type == "NAME")
        field = tree.Literal(unit.start_pos, unit.end_pos, "text", str(unit).upper())
        return self._call(span, items, "EXTRACT", field, *_nodes(items))

    @_rule
    def normalize(self, span: Span, items: list[Any]) -> Any:
        form = next((item for item in items if not isinstance(item, tree.Node) and item.type == "NAME"), None)
        given = tree.Literal(form.start_pos, form.end_pos, "text", str(form).upper()) if form else tree.Literal(*span, "text", "NFC")
        return self._call(span, items, "NORMALIZE", items[1], given)

    @_rule
    def current_date(self, span: Span, items: list[Any]) -> Any:
        return self._call(span, items, "CURRENT_DATE")

    def _regex(self, span: Span, items: list[Any], name: str, **clauses: tuple[str, str]) -> Any:
        """The call of a regular expression function; `clauses` have the kind and text of what stands for a missing one."""
        pattern = next(item for item in items if isinstance(item, tree.Node))
        arguments = [pattern, _after(items, "FLAG") or tree.Literal(*span, "text", ""), _after(items, "IN")]
        given = [_after(items, clause) or tree.Literal(*span, *default) for clause, default in clauses.items()]
        return self._call(span, items, name, *arguments, *given)

    @_rule
    def substring_regex(self, span: Span, items: list[Any]) -> Any:
        return self._regex(span, items, "SUBSTRING_REGEX", FROM=_ONE, OCCURRENCE=_ONE, GROUP=_ZERO)

    @_rule
    def occurrences_regex(self, span: Span, items: list[Any]) -> Any:
        return self._regex(span, items, "OCCURRENCES_REGEX", FROM=_ONE)

    @_rule
    def position_regex(self, span: Span, items: list[Any]) -> Any:
        call = self._regex(span, items, "POSITION_REGEX", FROM=_ONE, OCCURRENCE=_ONE, GROUP=_ZERO)
        side = tree.Literal(*span, "text", "AFTER" if _word(items, "AFTER") else "START")
        return dataclasses.replace(call, arguments=(*call.arguments, side))

    @_rule
    def translate_regex(self, span: Span, items: list[Any]) -> Any:
        return self._regex(span, items, "TRANSLATE_REGEX", WITH=("text", ""), FROM=_ONE, OCCURRENCE=_ZERO)

    @_rule
    def type_name(self, span: Span, items: list[Any]) -> Any:
        words = [item.text for item in _nodes(items)]
        numbers = tuple(int(item) for item in items if not isinstance(item, tree.Node) and item.type == "INTEGER_NUMBER")
        zone = [str(item).upper() for item in items if not isinstance(item, tree.Node) and item.type != "INTEGER_NUMBER"]
        return tree.TypeName(*span, (*words, *zone), numbers)

    @_rule
    def type_word(self, span: Span, items: list[Any]) -> Any:
        return tree.Name(*span, str(items[0]).upper())


@dataclasses.dataclass(frozen=True)
class _When(tree.Node):
    condition: tree.Node
    result: tree.Node


@dataclasses.dataclass(frozen=True)
class _Bag(tree.Node):
    """Some items of one kind on their way to the node they belong to."""

    kind: str
    items: tuple[Any, ...]
    operator: str = ""
    all: bool = False


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
    return next((tuple(name.text for name in item.items) for item in items if isinstance(item, _Bag) and item.kind == "names"), ())


def _alias(items: list[Any]) -> tuple[str, tuple[str, ...]]:
    return next((item.items for item in items if isinstance(item, _Bag) and item.kind == "alias"), ("", ()))


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
