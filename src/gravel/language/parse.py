"""From text to syntax nodes. The grammar file is the definition."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from functools import lru_cache, partial
from typing import Any

from gravel.language import tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.lalr import END, Parser, UnexpectedToken, UnknownCharacter
from gravel.language.queries import Build
from gravel.language.syntax_mistakes import (
    bad_character,
    bad_token,
    misspelt_keyword,
    reserved_name,
)
from gravel.language.tables import tables

NESTING = 200
CHAIN = 2000
_ASSIGNED = re.compile(r'\s*(?:\w+|"(?:[^"]|"")*")\s*=')
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
        if not is_assignment(text):
            expression(text)  # its own mistake, where it has one, says more
            problem.hint = f"a column's name stands before it: result = {text.strip()}"
        raise


def is_assignment(text: str) -> bool:
    """Whether a text begins as an assignment does."""
    return _ASSIGNED.match(text) is not None


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
        raise bad_character(text, error.place) from None
    except UnexpectedToken as error:
        failure_at = partial(_failure_at, start=start)
        raise (
            reserved_name(text, error, failure_at)
            or misspelt_keyword(text, error, failure_at)
            or bad_token(text, error, start == "query_only")
        ) from None
    _refuse_deep_trees(result, text)
    return result


def _failure_at(text: str, start: str) -> int:
    """The place of a text where it cannot be read on; beyond its end where it can be read."""
    try:
        _parser(text).parse(_without_comments(text), start=start)
    except UnknownCharacter as error:
        return error.place
    except UnexpectedToken as error:
        return len(text) if error.token.type == END else error.token.start_pos
    except Diagnostic as problem:
        return problem.start  # it is read so far, and means nothing
    return len(text) + 1


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
