"""Named parameters: a name and a literal, typed as the literal is and never pasted into an
expression's text."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

from gravel.hidden import restored
from gravel.language import nodes, parse, tree
from gravel.language.bind import literal
from gravel.language.types import BOOLEAN, DOUBLE, INTEGER, TEXT
from gravel.problems import CallProblem


def parameter(text: str) -> nodes.Constant:
    """The value of a parameter: a number, true, false, null, DATE '…', TIMESTAMP '…' or a 'quoted'
    text; any other text stands for itself. Raises CallProblem for a literal that is wrong in
    itself."""
    if re.match(
        r"\s*([-+.\d']|(true|false|null)\s*$|(date|timestamp|time|interval)\s*')",
        text,
        re.IGNORECASE,
    ):
        try:
            node = parse.expression(text)
        except CallProblem:
            node = None
        if isinstance(node, tree.Literal):
            try:
                kind, value = literal(node.kind, node.text, node.unit)
            except ValueError as error:
                raise CallProblem(f"{text} is not a value for a parameter: {error}") from None
            return nodes.Constant(kind, 0, 0, value)
    return nodes.Constant(TEXT, 0, 0, restored(text))


def from_command_line(supplied: Iterable[str]) -> dict[str, nodes.Constant]:
    """Parameters of the form name=value. Raises CallProblem."""
    results = {}
    for item in supplied:
        name, sign, text = item.partition("=")
        if not sign or not re.fullmatch(r"[^\W\d]\w*", name.strip()):
            raise CallProblem(
                f"--param takes name=value, not {item!r}", hint="--param floor=10 is read as :floor"
            )
        results[name.strip()] = parameter(text)
    return results


def from_plan(supplied: Mapping[str, Any]) -> dict[str, nodes.Constant]:
    """Parameters of a plan's [params]: TOML's numbers, booleans and dates as such; texts as on the
    command line."""
    results = {}
    for name, value in supplied.items():
        if isinstance(value, bool):
            results[name] = nodes.Constant(BOOLEAN, 0, 0, value)
        elif isinstance(value, int):
            results[name] = nodes.Constant(INTEGER, 0, 0, value)
        elif isinstance(value, float):
            results[name] = nodes.Constant(DOUBLE, 0, 0, value)
        else:
            results[name] = parameter(str(value))
    return results
