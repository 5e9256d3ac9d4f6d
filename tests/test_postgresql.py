"""The language against a real PostgreSQL: value by value and error by error, over a table of nasty values."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterator
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import nasty
from conftest import postgresql_connection

HERE = Path(__file__).parent
STATES = {"22P02": "22018", "22P05": "22018", "2201B": "2201B", "54000": "22011", "22001": "22001"}
DIFFERENCES = tomllib.loads((HERE.parent / "docs" / "differences.toml").read_text("utf-8"))[
    "difference"
]


EACH_ROW = """
CREATE FUNCTION each_row(expression text) RETURNS TABLE (value text, state text) LANGUAGE plpgsql AS $$
DECLARE number int;
BEGIN
    FOR number IN SELECT row FROM nasty ORDER BY row LOOP
        BEGIN
            state := NULL;
            EXECUTE 'SELECT (' || expression || ')::text FROM nasty WHERE row = $1' INTO value USING number;
        EXCEPTION WHEN OTHERS THEN value := NULL; state := SQLSTATE;
        END;
        RETURN NEXT;
    END LOOP;
END $$;
CREATE FUNCTION held(x bigint) RETURNS bigint LANGUAGE plpgsql VOLATILE AS $$ BEGIN RETURN x; END $$;
CREATE FUNCTION held(x numeric) RETURNS numeric LANGUAGE plpgsql VOLATILE AS $$ BEGIN RETURN x; END $$;
CREATE FUNCTION held(x boolean) RETURNS boolean LANGUAGE plpgsql VOLATILE AS $$ BEGIN RETURN x; END $$;
CREATE FUNCTION held(x text) RETURNS text LANGUAGE plpgsql VOLATILE AS $$ BEGIN RETURN x; END $$;
"""


@pytest.fixture(scope="module")
def server() -> Iterator[Any]:
    """A connection to a server of this test's own, with the nasty table loaded."""
    with postgresql_connection() as connection:
        kinds = ", ".join(f"{name} {there}" for name, (_, there, *_) in nasty.COLUMNS.items())
        connection.execute(f"CREATE TABLE nasty (row int, {kinds})")
        marks = ", ".join("%s::" + there for _, there, *_ in nasty.COLUMNS.values())
        with connection.cursor() as cursor:
            cursor.executemany(
                f"INSERT INTO nasty VALUES (%s, {marks})",
                [
                    (row, *(nasty.value(name, row) for name in nasty.COLUMNS))
                    for row in range(nasty.ROWS)
                ],
            )
        connection.execute(EACH_ROW)
        yield connection


def theirs(server: Any, expression: str) -> list[str | None]:
    """The text, NULL or error of an expression in every row, as PostgreSQL has it."""
    import psycopg

    try:
        return [
            row[0]
            for row in server.execute(
                f"SELECT ({expression})::text FROM nasty ORDER BY row".encode()
            ).fetchall()
        ]
    except (psycopg.errors.DataError, psycopg.errors.ProgramLimitExceeded):
        rows = server.execute("SELECT * FROM each_row(%s)", [expression]).fetchall()
        return [
            value if state is None else f"error {STATES.get(state, state)}" for value, state in rows
        ]


def ours(expression: str, scope: Any, frame: Any) -> list[str | None]:
    """The same of Gravel."""
    from gravel.engine.evaluate import run
    from gravel.inspecting.cells import RowError, cells
    from gravel.language.bind import bind_text

    bound = bind_text(expression, scope)
    return [
        f"error {cell.sqlstate}" if isinstance(cell, RowError) else cell
        for cell in cells(run(bound, frame), bound.type)
    ]


def same(a: str | None, b: str | None) -> bool:
    """Whether both tell one value: numbers by value, doubles but for their last digit."""
    if a == b:
        return True
    if a is None or b is None or a.startswith("error") or b.startswith("error"):
        return False
    try:
        x, y = Decimal(a), Decimal(b)
    except ArithmeticError:
        return False
    if not (x.is_finite() and y.is_finite()):
        return x.is_nan() == y.is_nan() and (x.is_nan() or x == y)
    return x == y or (
        ("e" in (a + b).lower() or max(len(a), len(b)) > 15)
        and abs(x - y) <= abs(y) * Decimal("4e-16")
    )


def chosen(expression: str, mine: str | None, other: str | None) -> bool:
    """Whether a difference is one of those that we chose, told in docs/differences.toml."""
    pair = f"{mine} | {other}"
    return any(
        re.search(one["expression"], expression) and re.search(one["outcomes"], pair)
        for one in DIFFERENCES
    )


def compare(server: Any, expression: str, there: str) -> list[str]:
    """What differs, a line a row, the differences that we chose left out."""
    scope, frame = nasty.frame()
    told = []
    for row, (mine, other) in enumerate(
        zip(ours(expression, scope, frame), theirs(server, there), strict=True)
    ):
        if not same(mine, other) and not chosen(expression, mine, other):
            values = {
                name: nasty.value(name, row)
                for name in nasty.COLUMNS
                if re.search(rf"\b{name}\b", expression)
            }
            told.append(f"{expression}  {values}: {mine!r}, PostgreSQL {other!r}")
    return told


def _cases() -> list[tuple[str, str]]:
    lines = (HERE / "cases" / "shared.sql").read_text("utf-8").splitlines()
    pairs = [line.split(" ~~> ") for line in lines if line.strip() and not line.startswith("--")]
    return [(pair[0], pair[-1].replace("CHAR_LENGTH", "char_length")) for pair in pairs]


def test_fixed_cases(server: Any) -> None:
    told = [line for mine, there in _cases() for line in compare(server, mine, _translated(there))]
    assert not told, f"{len(told)} differences\n" + "\n".join(told[:60])


def _translated(expression: str) -> str:
    """What is spelt otherwise there: an integer is 64 bits."""
    return re.sub(r"AS INTEGER\)", "AS bigint)", expression)


TEXT, NUMBER, TRUTH = "text", "number", "truth"


def _expressions() -> Any:
    """Typed expressions that both sides understand, built upwards from columns and literals."""
    leaves = {
        TEXT: st.sampled_from(["t", "u", "n", "'a'", "'Gull'", "''", "' '", "NULL"]),
        NUMBER: st.sampled_from(["i", "j", "k", "d", "e", "0", "1", "2.5", "-7"]),
        TRUTH: st.sampled_from(["b", "c", "TRUE", "FALSE", "t IS NULL", "i IS NULL"]),
    }

    @cache
    def grow(kind: str, depth: int) -> Any:
        if depth == 0:
            return leaves[kind]
        text, number, truth = (
            lambda kind=kind: grow(kind, depth - 1) for kind in (TEXT, NUMBER, TRUTH)
        )
        made = {
            TEXT: [
                st.builds("({} || {})".format, text(), text()), st.builds("TRIM({})".format, text()),
                st.builds("REPLACE({}, {}, {})".format, text(), text(), text()), st.builds("COALESCE({}, {})".format, text(), text()),
                st.builds("CASE WHEN {} THEN {} ELSE {} END".format, truth(), text(), text()), st.builds("NULLIF({}, {})".format, text(), text()),
                st.builds("LEFT({}, 3)".format, text()), st.builds("REVERSE({})".format, text()),
            ],
            NUMBER: [
                st.builds("({} {} {})".format, number(), st.sampled_from(["+", "-", "*"]), number()), st.builds("ABS({})".format, number()),
                st.builds("CAST(LENGTH({}) AS DECIMAL)".format, text()), st.builds("CASE WHEN {} THEN {} END".format, truth(), number()),
                st.builds("COALESCE({}, {})".format, number(), number()), st.builds("NULLIF({}, {})".format, number(), number()),
                st.builds("MOD({}, {})".format, number(), number()),
            ],
            TRUTH: [
                st.builds("({} {} {})".format, number(), st.sampled_from(["=", "<>", "<", "<=", ">", ">="]), number()),
                st.builds("({} {} {})".format, text(), st.sampled_from(["=", "<>", "<", ">="]), text()),
                st.builds("({} AND {})".format, truth(), truth()), st.builds("({} OR {})".format, truth(), truth()),
                st.builds("(NOT {})".format, truth()), st.builds("({} IN ({}, {}))".format, number(), number(), number()),
                st.builds("({} BETWEEN {} AND {})".format, number(), number(), number()), st.builds("({} IS UNKNOWN)".format, truth()),
                st.builds("({} IS DISTINCT FROM {})".format, text(), text()),
            ],
        }  # fmt: skip
        return st.one_of(leaves[kind], *made[kind])

    return st.sampled_from([TEXT, NUMBER, TRUTH]).flatmap(lambda kind: grow(kind, 3))


@settings(
    max_examples=int(os.environ.get("GRAVEL_EXPRESSIONS", "800")),
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(expression=_expressions())
def test_made_expressions(expression: str, server: Any) -> None:
    import psycopg

    from gravel.language.diagnostics import Diagnostic

    try:
        told = compare(server, expression, _typed_there(expression))
    except Diagnostic as problem:
        # A mix of types that we refuse; PostgreSQL may guess one.
        told = (
            []
            if "cannot mix" in problem.message or "takes" in problem.message
            else [problem.message]
        )
    except psycopg.errors.ProgrammingError:
        return  # PostgreSQL cannot tell the type of a NULL
    assert not told, "\n".join(told[:5])


def _typed_there(expression: str) -> str:
    """The expression for PostgreSQL, its literals hidden in functions: a constant part would be computed, and fail, before
    any row and whatever guards it."""
    hidden = re.sub(
        r"'[^']*'|\b(?:TRUE|FALSE)\b|(?<!IS )\bNULL\b|(?<![\w.])-?\d+(?:\.\d+)?(?![\w.])",
        lambda found: f"held({found[0]}{_kind(found[0])})",
        expression,
    )
    return re.sub(r"AS DECIMAL\)", "AS numeric(38,10))", hidden).replace("held(3::bigint)", "3")


def _kind(literal: str) -> str:
    if literal in ("TRUE", "FALSE", "NULL"):
        return "" if literal != "NULL" else "::text"
    return "::text" if literal.startswith("'") else "::numeric" if "." in literal else "::bigint"
