"""An argument may be a constant or a column: a kernel's quick way for constants and its way row by row give the same."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import nasty
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language.bind import bind_text
from gravel.language.errors import sqlstate
from gravel.language.functions.casts import python_literal
from gravel.language.scope import Scope
from gravel.language.types import DATE, DOUBLE, INTEGER, TEXT, Type, decimal

NUMBER = decimal(12, 3)
NUMBERS = [None if one is None else Decimal(one) for one in nasty.DECIMALS]
T, I = TEXT, INTEGER
# (expression over x and the arguments, the type of x, arguments: each with its type and the values to try)
CASES: list[tuple[str, Type, list[tuple[str, Type, list[Any]]]]] = [
    ("LEFT(x, {n})", T, [("n", I, [0, 2, -1, -50, 3_000_000_000, None])]),
    ("RIGHT(x, {n})", T, [("n", I, [0, 2, -1, -50, 3_000_000_000, None])]),
    ("SUBSTRING(x FROM {n})", T, [("n", I, [1, 3, 0, -2, 99, None])]),
    ("SUBSTRING(x FROM {n} FOR {m})", T, [("n", I, [1, 3, 0, -2, None]), ("m", I, [0, 2, 5, -1, None])]),
    ("LPAD(x, {n}, {s})", T, [("n", I, [0, 4, 9, -1, 20_000_000, None]), ("s", T, ["*", "ab", "", "é", None])]),
    ("RPAD(x, {n}, {s})", T, [("n", I, [0, 4, 9, -1, None]), ("s", T, ["*", "ab", "", None])]),
    ("REPEAT(x, {n})", T, [("n", I, [0, 1, 3, -1, 40_000_000, None])]),
    ("OVERLAY(x PLACING {s} FROM {n})", T, [("s", T, ["", "Q", "éé", None]), ("n", I, [1, 3, 99, 0, -1, None])]),
    ("OVERLAY(x PLACING {s} FROM {n} FOR {m})", T, [("s", T, ["", "Q"]), ("n", I, [1, 3, 99]), ("m", I, [0, 1, 50, -1, None])]),
    ("BTRIM(x, {s})", T, [("s", T, [" ", "a ", "", "Gl", "é", None])]),
    ("LTRIM(x, {s})", T, [("s", T, [" ", "Ga", "", None])]),
    ("RTRIM(x, {s})", T, [("s", T, [" ", "l ", "", None])]),
    ("REPLACE(x, {s}, {t})", T, [("s", T, ["l", "", "ll", "é", None]), ("t", T, ["", "X", "\\1", None])]),
    ("POSITION({s} IN x)", T, [("s", T, ["l", "", "é", "boat", "zz", None])]),
    ("POSITION_OF({s}, x, {n})", T, [("s", T, ["l", "", "a", None]), ("n", I, [1, 2, 0, None])]),
    ("POSITION_OF({s}, x, {n}, {m})", T, [("s", T, ["l", "a"]), ("n", I, [1, 2]), ("m", I, [1, 3, 99, 0, None])]),
    ("x LIKE {s}", T, [("s", T, ["%", "G%", "%l", "%u%", "_", "", "a\\_b", "%\n%", "100%%", None])]),
    ("x LIKE {s} ESCAPE {t}", T, [("s", T, ["a!_b", "%!%", "!", "!x", None]), ("t", T, ["!", "", "ab", None])]),
    ("x LIKE_REGEX {s} FLAG {t}", T, [("s", T, ["^g", "l+$", ".", "(", None]), ("t", T, ["", "i", "ms", "q", None])]),
    ("OCCURRENCES_REGEX({s} IN x)", T, [("s", T, ["l", "[a-z]+", "", "\\d", "(", "x*", None])]),
    ("SUBSTRING_REGEX({s} IN x)", T, [("s", T, ["l+", "[A-Z][a-z]*", "", "(", "zz", None])]),
    ("SUBSTRING_REGEX({s} IN x FROM {n} OCCURRENCE {m})", T, [("s", T, ["[a-z]"]), ("n", I, [1, 3, 0, 99, None]), ("m", I, [1, 2, 0, None])]),
    ("POSITION_REGEX({s} IN x)", T, [("s", T, ["l", "[0-9]", "é", "(", None])]),
    ("TRANSLATE_REGEX({s} IN x WITH {t})", T, [("s", T, ["[aeiou]", "l+", "(l)(l)", "(", None]), ("t", T, ["", "<$0>", "$1", "\\$", None])]),
    ("LIST_ITEM(x, {s}, {n})", T, [("s", T, [" ", "l", "; ", "", None]), ("n", I, [1, 2, -1, -3, 0, None])]),
    ("LIST_SIZE(x, {s})", T, [("s", T, [" ", "l", "ll", "", None])]),
    ("LIST_ITEMS(x, {s})", T, [("s", T, [" ", "l", "", None])]),
    ("MASK(x, {n}, {m}, {s})", T, [("n", I, [0, 1, 3, -1, None]), ("m", I, [0, 2, 99]), ("s", T, ["*", "", "ab", None])]),
    ("MATCH_KEY(x, {s})", T, [("s", T, ["sorted", "other", None])]),
    ("CONCAT(x, {s})", T, [("s", T, ["", "!", None])]),
    ("x || {s}", T, [("s", T, ["", "!", None])]),
    ("COALESCE(x, {s})", T, [("s", T, ["", "!", None])]),
    ("IF_BLANK(x, {s})", T, [("s", T, ["", "!", None])]),
    ("NULLIF(x, {s})", T, [("s", T, ["", "a", None])]),
    ("GREATEST(x, {s})", T, [("s", T, ["", "a", "z", None])]),
    ("x = {s}", T, [("s", T, ["", "a", None])]),
    ("x IN ({s}, {t})", T, [("s", T, ["", "a", None]), ("t", T, ["Gull", None])]),
    ("x IS DISTINCT FROM {s}", T, [("s", T, ["", "a", None])]),
    ("ROUND(x, {n})", NUMBER, [("n", I, [0, 1, -1, 5, -9, None])]),
    ("TRUNC(x, {n})", NUMBER, [("n", I, [0, 1, -1, 5, -9, None])]),
    ("GROUP_DIGITS(x, {n})", NUMBER, [("n", I, [0, 2, 5, 20, -1, None])]),
    ("MOD(x, {n})", NUMBER, [("n", NUMBER, [Decimal("7"), Decimal("-0.5"), Decimal("0"), None])]),
    ("x + {n}", NUMBER, [("n", NUMBER, [Decimal("0"), Decimal("0.001"), Decimal("-999999999.999"), None])]),
    ("x * {n}", NUMBER, [("n", NUMBER, [Decimal("0"), Decimal("1.5"), Decimal("999999999.999"), None])]),
    ("x / {n}", NUMBER, [("n", NUMBER, [Decimal("0"), Decimal("3"), Decimal("-0.001"), None])]),
    ("x % {n}", I, [("n", I, [7, -7, 0, -1, None])]),
    ("x * {n}", I, [("n", I, [2, -1, 0, None])]),
    ("x BETWEEN {n} AND {m}", I, [("n", I, [0, -7, None]), ("m", I, [7, 100, None])]),
    ("POWER(x, {n})", DOUBLE, [("n", DOUBLE, [2.0, 0.5, -1.0, 0.0, None])]),
    ("ROUND(x, {n})", DOUBLE, [("n", I, [0, 1, -2, None])]),
    ("x + {n}", DATE, [("n", I, [0, 1, -400, 5_000_000, None])]),
]  # fmt: skip
VALUES: dict[str, list[Any]] = {
    str(TEXT): nasty.TEXTS, str(NUMBER): NUMBERS, str(INTEGER): [None if one is None else int(one) for one in nasty.NUMBERS],
    str(DOUBLE): [None if one is None else float(one) for one in nasty.DOUBLES], str(DATE): [None, "2024-02-29", "0001-01-01", "9999-12-31"],
}  # fmt: skip


def _outcomes(expression: str, kinds: dict[str, Type], columns: dict[str, Any]) -> list[Any]:
    """Each row's value, or its error's SQLSTATE."""
    bound = bind_text(expression, Scope(tuple(kinds), tuple(kinds.values())))
    count = len(columns["x"])
    made = run(bound, Frame(count, list(columns.values()), list(kinds.values())))
    failed = made.failed(count)
    assert made.values.filter(pa.array(failed)).null_count == int(failed.sum())
    return [
        f"error {sqlstate(int(made.errors[row]))}" if failed[row] else str(made.values[row].as_py())
        for row in range(count)
    ]  # type: ignore[index]


def _numbers(rows: list[Any]) -> list[Any]:
    return [row if row == "None" or row.startswith("error") else Decimal(row) for row in rows]


def _choices(arguments: list[tuple[str, Type, list[Any]]]) -> list[dict[str, Any]]:
    """Every combination of the arguments' values."""
    made: list[dict[str, Any]] = [{}]
    for name, _, values in arguments:
        made = [{**one, name: value} for one in made for value in values]
    return made


@pytest.mark.parametrize(
    ("expression", "kind", "arguments"), CASES, ids=[f"{case[0]} {case[1]}" for case in CASES]
)
def test_constants_and_columns_give_the_same(expression: str, kind: Type, arguments: Any) -> None:
    from gravel.language.diagnostics import Diagnostic

    values = VALUES[str(kind)]
    column = (
        pa.array(values, pa.string()).cast(kind.arrow)
        if kind == DATE
        else pa.array(values, kind.arrow)
    )
    kinds = {"x": kind, **{name: own for name, own, _ in arguments}}
    for choice in _choices(arguments):
        columns = {
            "x": column,
            **{
                name: pa.array([choice[name]] * len(values), own.arrow)
                for name, own, _ in arguments
            },
        }
        by_column = _outcomes(expression.format(**{name: name for name in choice}), kinds, columns)
        literals = {
            name: "NULL" if choice[name] is None else python_literal(choice[name], own)
            for name, own, _ in arguments
        }
        try:
            constant = _outcomes(expression.format(**literals), {"x": kind}, {"x": column})
        except Diagnostic:
            # A constant that is wrong for every row is told when it is bound; as a column it is an error of the rows that meet it.
            known = [row for row, value in zip(by_column, values, strict=True) if value is not None]
            assert all(
                row.startswith("error") or row in ("True", "False", "None") for row in known
            ), (expression, choice)
            continue
        if kind == NUMBER and expression[:5] in ("ROUND", "TRUNC"):
            # A constant n decides the scale of the result's type, a column does not.
            by_column, constant = [_numbers(rows) for rows in (by_column, constant)]
        assert constant == by_column, (
            expression,
            choice,
            [pair for pair in zip(values, constant, by_column, strict=True) if pair[1] != pair[2]][
                :3
            ],
        )
