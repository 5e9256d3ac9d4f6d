"""From text to syntax nodes. The grammar file is the definition."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from gravel.language import tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.lalr import END, Parser, UnexpectedToken, UnknownCharacter
from gravel.language.other_names import FUNCTIONS, OPERATORS
from gravel.language.queries import Build
from gravel.language.tables import tables
from gravel.problems import nearest

NESTING = 200
CHAIN = 2000
# Chains of operators are as deep as they are long; binding and evaluating recurse over them in
# Python frames only.
sys.setrecursionlimit(max(sys.getrecursionlimit(), 12 * CHAIN))


def expression(text: str) -> tree.Node:
    """One expression. Raises Diagnostic."""
    return _parse(text, "expression_only")


def assignment(text: str) -> tree.Named:
    """`column = EXPR`. Raises Diagnostic."""
    try:
        return _parse(text, "assignment")  # type: ignore[no-any-return]
    except Diagnostic as problem:
        if "=" not in text:
            problem.hint = f"a column's name stands before it: result = {text.strip()}"
        raise


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
    """Every column name below a node, in no special order; those within a subquery are its
    table's."""
    for child in walk(node, queries=False):
        if isinstance(child, tree.Name):
            yield child


def walk(node: Any, queries: bool = True) -> Iterator[tree.Node]:
    """Every node below and including `node`, without recursion; unless `queries`, nothing of the
    subqueries in it."""
    stack = [node]
    while stack:
        item = stack.pop()
        if isinstance(item, (tuple, list)):
            stack.extend(item)
        elif isinstance(item, tree.Node) and (queries or not isinstance(item, tree.Query)):
            yield item
            stack.extend(_fields(item))


def _fields(node: tree.Node) -> list[Any]:
    return [
        part
        for name in node.__struct_fields__
        if isinstance(part := getattr(node, name), (tuple, tree.Node))
    ]


def _parse(text: str, start: str) -> Any:
    _refuse_deep_parentheses(text)
    if not text.strip():
        raise Diagnostic("the expression is empty", text or " ", 0, 1)
    try:
        result = _parser(text).parse(_without_comments(text), start=start)
    except UnknownCharacter as error:
        raise _bad_character(text, error.place) from None
    except UnexpectedToken as error:
        raise _bad_token(text, error) from None
    _refuse_deep_trees(result, text)
    return result


def _bad_character(text: str, index: int) -> Diagnostic:
    char = text[index]
    number = re.match(r"[\w.]+", text[index:])
    if number and char.isdigit():
        return Diagnostic(
            f"{number[0][:40]} is neither a number nor a name",
            text,
            index,
            index + number.end(),
            hint="leave a space after a number; digits are grouped by single underscores: 1_000",
        )
    if char == "'":
        return Diagnostic(
            "the text is not closed",
            text,
            index,
            len(text),
            hint="close it with ' (a quote inside is written twice: '')",
        )
    if char == '"':
        return Diagnostic(
            "the quoted name is not closed", text, index, len(text), hint='close it with "'
        )
    hints = {
        "‘": "write a plain quote: 'text'",
        "’": "write a plain quote: 'text'",
        "`": 'a column name is quoted with "name"',
        "“": 'write a plain quote: "name"',
        "”": 'write a plain quote: "name"',
        "[": 'a column name is quoted with "name"',
        "&": "write AND",
        "|": "write OR, or || to join texts",
        "!": "write NOT, or <> for unequal",
        ":": "a parameter is :name, and x::type is written CAST(x AS type)",
        ";": "leave it out: it is one expression",
        ".": "a file stands in quotes: FROM 'boats.csv'",
    }
    return Diagnostic(
        f"unexpected character {char!r}", text, index, index + 1, hint=hints.get(char, "")
    )


def _bad_token(text: str, error: UnexpectedToken) -> Diagnostic:
    token = error.token
    if token.type == END:
        end = len(text.rstrip())
        hint = _expected(error.accepts)
        last = re.search(r"(\w+)$", text[:end])
        if last and not hint and "LPAR" in error.accepts:
            hint = f'a column of that name is written "{last[1]}"'
        return Diagnostic("the expression ends too early", text, end, end + 1, hint=hint)
    start, word = token.start_pos, str(token)
    if token.type == "NAME" and re.search(
        r"\bINTERVAL\s*[+-]?\s*'[^']*'\s*$", text[:start], re.IGNORECASE
    ):
        units = ["YEAR", "MONTH", "WEEK", "DAY", "HOUR", "MINUTE", "SECOND"]
        near = nearest(word, units)
        return Diagnostic(
            f"{word} is not a unit of an interval",
            text,
            start,
            start + len(word),
            hint=f"did you mean {near}?" if near else ", ".join(units),
        )
    hint = _expected(error.accepts)
    called = _call_around(text, start)
    if word.upper() == "AS" and called and called[1].upper() in FUNCTIONS:
        return Diagnostic(
            f"there is no function {called[1]}",
            text,
            *called.span(1),
            hint=FUNCTIONS[called[1].upper()],
        )
    before = re.search(r"(\w+)\s*$", text[:start])
    if before and before[1].upper() in OPERATORS:
        return Diagnostic(
            f"there is no operator {before[1].upper()}",
            text,
            before.start(),
            before.end(1),
            hint=OPERATORS[before[1].upper()],
        )
    if token.type == "NAME" and word.upper() in OPERATORS:
        return Diagnostic(
            f"there is no operator {word.upper()}",
            text,
            start,
            start + len(word),
            hint=OPERATORS[word.upper()],
        )
    if word == "=" and text[start - 1 : start] == "=":
        hint = "equality is written with one ="
    elif token.type in ("NAME", "STRING") and {"AND", "OR"} & error.accepts:
        near = (
            ""
            if len(word) < 2
            else nearest(
                word,
                [
                    "AND",
                    "OR",
                    "LIKE",
                    "BETWEEN",
                    "IS",
                    "THEN",
                    "ELSE",
                    "END",
                    "WHEN",
                    "AS",
                    "ESCAPE",
                ],
            )
        )
        hint = f"did you mean {near}?" if near else "an operator or a comma is missing before it"
    elif word.upper() in ("SELECT", "FROM", "WHERE"):
        hint = "this takes one expression, not a whole statement"
    elif (
        token.type not in ("NAME", "STRING", "QUOTED_NAME")
        and re.fullmatch(r"\w+", word)
        and "QUOTED_NAME" in error.accepts
    ):
        hint = f'{word.upper()} is a reserved word: a column of that name is written "{word}"'
    elif word == "." and re.search(
        r"\bFROM\s+[\w./-]*$|\bJOIN\s+[\w./-]*$", text[:start], re.IGNORECASE
    ):
        hint = "a file stands in quotes: FROM 'boats.csv'"
    return Diagnostic(f"syntax error at {word[:40]!r}", text, start, start + len(word), hint=hint)


def _call_around(text: str, place: int) -> re.Match[str] | None:
    """The name (group 1) of the call whose parenthesis is open at a place."""
    closed = 0
    for index in range(place - 1, -1, -1):
        if text[index] == ")":
            closed += 1
        elif text[index] == "(":
            if not closed:
                return re.search(r"(\w+)\s*$", text[:index])
            closed -= 1
    return None


def _expected(accepts: frozenset[str]) -> str:
    for token, hint in (
        ("END", "a CASE ends with END"),
        ("THEN", "WHEN is followed by THEN"),
        ("AS", "the type is missing: AS type"),
    ):
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
    for index, char in enumerate(text):
        if quote:
            quote = "" if char == quote else quote
        elif char in "'\"":
            quote = char
        elif char in "()":
            depth += 1 if char == "(" else -1
            if depth > NESTING:
                raise Diagnostic(f"more than {NESTING} levels of nesting", text, index, index + 1)


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
def _parser_and_actions() -> tuple[Parser, Build]:
    build = Build()
    return Parser(tables(), build), build


def _parser(text: str) -> Parser:
    parser, build = _parser_and_actions()
    build.source = text
    return parser


_COMMENT = re.compile(r"/\*|\*/|--[^\n]*|'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"")


def _without_comments(text: str) -> str:
    """The text with blanks for bracketed comments, which may stand within each other. Raises
    Diagnostic."""
    if "/*" not in text:
        return text
    out, opened, depth = list(text), 0, 0
    index = 0
    while match := _COMMENT.search(text, index):
        index = match.end()
        if match[0] == "/*":
            opened, depth = (match.start() if not depth else opened), depth + 1
        elif depth and match[0] == "*/":
            depth -= 1
            if not depth:
                out[opened:index] = [char if char == "\n" else " " for char in out[opened:index]]
        elif depth:
            index = match.start() + 1  # quotes and dashes mean nothing in a comment
    if depth:
        raise Diagnostic(
            "the comment is not closed", text, opened, opened + 2, hint="close it with */"
        )
    return "".join(out)
