"""Named parameters: a name and a literal, typed as the literal is and never pasted into an
expression's text."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable, Mapping
from decimal import Decimal
from typing import Any

from gravel.hidden import restored
from gravel.language import nodes, parse, tree
from gravel.language.functions.casts import python_literal
from gravel.language.literals import literal
from gravel.language.types import BOOLEAN, DOUBLE, TEXT
from gravel.problems import CallProblem


def parameter(text: str) -> nodes.Constant:
    """The value of a parameter: a number, true, false, null, DATE '…', TIMESTAMP '…' or a 'quoted'
    text; any other text stands for itself. One without quotes takes the type of what it is beside:
    072 is the text '072' beside a text, 2024-05-01 a date beside a date. Raises CallProblem for a
    literal that is wrong in itself."""
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
            raw = None if "'" in text else text.strip()
            return nodes.Constant(kind, 0, 0, value, raw=raw)
    return nodes.Constant(TEXT, 0, 0, restored(text), raw=restored(text))


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
    command line. Raises CallProblem."""
    return {
        name: parameter(value) if isinstance(value, str) else typed(name, value)
        for name, value in supplied.items()
    }


def literal_text(value: nodes.Constant) -> str:
    """A parameter's value as the text of a literal, from which `parameter` makes it again."""
    if value.raw is not None:
        return value.raw
    text = python_literal(value.value, value.type)
    return f"{text}e0" if value.type == DOUBLE and re.fullmatch(r"-?[\d.]+", text) else text


def typed(name: str, value: Any) -> nodes.Constant:
    """A parameter of the type that its value has in Python; a text is one, whatever it looks like.
    Raises CallProblem for a value of no SQL type."""
    if isinstance(value, str):
        return nodes.Constant(TEXT, 0, 0, value)
    if value is None:
        return parameter("NULL")
    if isinstance(value, bool):
        return nodes.Constant(BOOLEAN, 0, 0, value)
    if isinstance(value, float):
        return nodes.Constant(DOUBLE, 0, 0, value)
    if isinstance(value, int) or (isinstance(value, Decimal) and value.is_finite()):
        return parameter(format(value, "f" if isinstance(value, Decimal) else "d"))
    if isinstance(value, datetime.datetime) and value.tzinfo is None:
        return parameter(f"TIMESTAMP '{value.isoformat(' ')}'")
    if isinstance(value, datetime.date) and not isinstance(value, datetime.datetime):
        return parameter(f"DATE '{value.isoformat()}'")
    if isinstance(value, datetime.datetime):
        raise CallProblem(
            f"{name} is a timestamp with a time zone, which is not a value for a parameter",
            hint="give it without the zone, as the table has it",
        )
    raise CallProblem(f"{name} is of type {type(value).__name__}, no value for a parameter")
