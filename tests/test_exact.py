"""Wrong results that were found once, each at its root: doubles, sums, errors in aggregates, frames, names, literals."""

from __future__ import annotations

import math
import pickle
import random
import re
import shlex
import sqlite3
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import gravel as library
from conftest import write
from gravel.engine.aggregates import STATES, GroupedValues
from gravel.language.types import DOUBLE, Kind, Type, decimal
from gravel.problems import Problem
from gravel.querying.text_extremes import TextExtremeState

VALUES = {
    "INTEGER": ["1", "-7", "9007199254740993"], "DECIMAL(20,2)": ["1.50", "-0.01", "999999999999999999.99"], "DOUBLE PRECISION": ["1.5e0", "-0e0", "1e300"],
    "BOOLEAN": ["TRUE", "FALSE", "TRUE"], "TEXT": ["'a'", "'B'", "''"], "DATE": ["DATE '2024-02-29'", "DATE '0001-01-01'", "DATE '9999-12-31'"],
    "TIME": ["TIME '10:00:00'", "TIME '00:00:00'", "TIME '23:59:59'"], "TIMESTAMP": ["TIMESTAMP '2024-02-29 10:00:00'", "TIMESTAMP '1969-12-31 23:59:59'"],
    "ZONED": ["TIMESTAMP '2024-01-01 00:00:00' AT TIME ZONE 'UTC'"], "INTERVAL": ["INTERVAL '1' DAY", "INTERVAL '1' MONTH", "INTERVAL '25' HOUR"],
    "ARRAY": ["ARRAY[1, 2]", "ARRAY[1]", "ARRAY[1, NULL]"], "NULL": ["NULL"],
}  # fmt: skip
PLAIN = ["COUNT({})", "MIN({})", "MAX({})", "ANY_VALUE({})", "ARRAY_AGG({})", "SUM({})", "AVG({})", "STDDEV_SAMP({})", "VAR_POP({})", "EVERY({})",
         "LISTAGG({}, ';')", "CORR({0}, {0})", "REGR_COUNT({0}, {0})", "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY {})",
         "PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY {})"]  # fmt: skip
WINDOWS = [
    "LAG({})",
    "LEAD({}, 1, NULL)",
    "FIRST_VALUE({})",
    "LAST_VALUE({})",
    "NTH_VALUE({}, 2)",
    "LAG({}) IGNORE NULLS",
    "RANK()",
    "NTILE(2)",
]
FRAMES = [
    "",
    "ORDER BY x",
    "ORDER BY x ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE TIES",
    "PARTITION BY x",
    "ORDER BY x GROUPS 1 PRECEDING",
]


@pytest.fixture
def asked(figures: Any) -> Any:
    """The rows of a query."""
    return lambda text, *options, status=0: figures("query", text, *options, status=status)["rows"]


@pytest.mark.parametrize("kind", VALUES)
def test_every_aggregate_and_window_with_every_type(kind: str) -> None:
    """A value, or a diagnostic that says what it takes: no other end."""
    rows = ", ".join(
        f"({value}, {at % 2})" for at, value in enumerate([*VALUES[kind], "NULL", VALUES[kind][0]])
    )
    source = f"(VALUES {rows}) AS v(x, g)"
    calls = [one.format("x") for one in PLAIN]
    texts = [f"SELECT {call} AS r FROM {source}" for call in calls] + [
        f"SELECT g, {call} AS r FROM {source} GROUP BY g" for call in calls
    ]
    texts += [f"SELECT {call} FILTER (WHERE g = 1) AS r FROM {source}" for call in calls[:6]]
    texts += [
        f"SELECT {call.replace('(x', '(DISTINCT x', 1)} AS r FROM {source}" for call in calls[:9]
    ]
    texts += [
        f"SELECT {call} OVER ({frame}) AS r FROM {source}"
        for call in [*calls[:10], *(one.format("x") for one in WINDOWS)]
        for frame in FRAMES
    ]
    texts += [f"SELECT x FROM {source} {tail}" for tail in ("ORDER BY x", "GROUP BY x", "WHERE x = x", "WHERE x IN (SELECT x FROM (VALUES (1)) AS w)",
                                                           "UNION SELECT x FROM " + source, "WHERE x = ANY (SELECT v2.x FROM " + source.replace("v(", "v2(") + ")")]  # fmt: skip
    texts += [
        f"SELECT a.g FROM {source.replace('v(', 'a(')} JOIN {source.replace('v(', 'b(')} ON a.x = b.x",
        f"SELECT NULLIF(x, x) AS r FROM {source}",
    ]
    for text in texts:
        told = ""
        try:
            library.query(text).to_dict()
        except Problem as problem:
            told = "" if problem.status == 2 else problem.message
        assert not told or "22003" in told, text


def test_a_decimal_becomes_the_nearest_double(asked: Any, figures: Any) -> None:
    from gravel.language.functions.casts import cast
    from gravel.language.literals import literal
    from gravel.language.types import DOUBLE, TEXT, Target, decimal

    dice = random.Random(15)
    texts = [
        f"{whole}.{part:0{digits}d}"
        for digits in (1, 2, 3)
        for whole in range(10 ** (4 - digits))
        for part in range(10**digits)
    ]
    texts += [
        f"{dice.randrange(10 ** dice.randint(1, 18))}.{dice.randrange(10**9):09d}"
        for _ in range(100_000)
    ]
    expected = [float(text) for text in texts]
    assert cast(pa.array(texts), TEXT, Target(DOUBLE)).values.to_pylist() == expected
    exact = pa.array([Decimal(text) for text in texts], pa.decimal128(38, 9))
    assert cast(exact, decimal(38, 9), Target(DOUBLE)).values.to_pylist() == expected
    assert literal("double", "42.48e0")[1] == 42.48
    assert asked(
        "SELECT CAST(42.48 AS DOUBLE PRECISION) = 42.48 AS same, CAST(42.48 AS DOUBLE PRECISION) AS x, 1e15 AS y"
    ) == [[True, 42.48, 1e15]]
    base = sqlite3.connect("h.db")
    base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, fee REAL)")
    base.executemany(
        "INSERT INTO t VALUES (?, ?)", [(at, float(f"{at / 100:.2f}")) for at in range(1, 2001)]
    )
    base.commit()
    write("t.csv", "fee\n" + "".join(f"{at / 100:.2f}\n" for at in range(1, 2001)))
    assert asked("SELECT COUNT(*) AS n FROM 't.csv' AS a JOIN 'h.db#t' AS b ON a.fee = b.fee") == [
        [2000]
    ]
    assert figures("look", "h.db#t", "--where", "fee = 19.99")["matching"] == 1


@settings(max_examples=200)
@given(
    st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=1, max_size=30), st.data()
)
def test_sums_of_doubles_are_exact_whoever_adds_them(numbers: list[float], data: Any) -> None:
    from gravel.engine.exact_sum import double_of
    from gravel.querying.windows import ResolvedFrame, Sorted

    def rounded(value: Fraction) -> float | None:
        return double_of(value.numerator, value.denominator, 0)

    exact = sum(map(Fraction, numbers), Fraction(0))
    mean = exact / len(numbers)
    cut = data.draw(st.integers(0, len(numbers)))
    expected = {
        "SUM": exact,
        "AVG": mean,
        "VAR_POP": sum((Fraction(one) - mean) ** 2 for one in numbers) / len(numbers),
    }
    for name, value in expected.items():
        parts = [
            _one_group(name, pa.array(some, pa.float64()))
            for some in (numbers[:cut], numbers[cut:])
        ]
        assert parts[0].merge(parts[1]).finish(name, DOUBLE).values.to_pylist() == [
            rounded(Fraction(value))
        ]
    values, every = pa.array(numbers, pa.float64()), np.ones(len(numbers), bool)
    running = Sorted([], [], (), len(numbers)).totals(
        values, every, ResolvedFrame("ROWS", -1, 0), DOUBLE, "SUM"
    )
    assert running.values.to_pylist() == [
        rounded(sum(map(Fraction, numbers[max(0, at - 1) : at + 1]), Fraction(0)))
        for at in range(len(numbers))
    ]


def _one_group(name: str, values: Any) -> Any:
    return STATES[name].of(
        GroupedValues(np.zeros(len(values), np.int64), 1, values, np.ones(len(values), bool)), name
    )


KINDS = {
    "INTEGER": (pa.int64(), st.integers(-(2**63), 2**63 - 1)), "DECIMAL": (pa.decimal128(38, 2), st.decimals(-(10**30), 10**30, places=2)),
    "DOUBLE": (pa.float64(), st.floats() | st.sampled_from([1e16, -1e16, 0.1])), "BOOLEAN": (pa.bool_(), st.booleans()),
    "TEXT": (pa.string(), st.text(max_size=3) | st.sampled_from(["9", "10", "-1", " 3.5"])), "DATE": (pa.date32(), st.dates()),
}  # fmt: skip


@pytest.mark.parametrize("name", list(STATES))
@settings(max_examples=40)
@given(data=st.data())
def test_a_state_is_that_of_all_rows_however_they_are_cut(name: str, data: Any) -> None:
    """Cut anywhere, merged in either order or in other pairs, and pickled, a state finishes as that of all rows does; so it does
    where its groups have other numbers, some of them those of no row or of several, and for some of the groups."""
    kinds = (
        ["BOOLEAN"]
        if name == "EVERY"
        else list(KINDS)
        if name in ("COUNT", "MIN", "MAX")
        else ["INTEGER", "DECIMAL", "DOUBLE"]
    )
    kind = data.draw(st.sampled_from(kinds))
    arrow, one = KINDS[kind]
    many = data.draw(st.integers(1, 4))
    rows = data.draw(
        st.lists(
            st.tuples(st.integers(0, many - 1), one | st.none(), one, st.booleans()), max_size=25
        )
    )
    groups, mask = (
        np.array([row[0] for row in rows], np.int64),
        np.array([row[3] and row[1] is not None for row in rows], bool),
    )
    values = [pa.array([row[at] for row in rows], arrow) for at in (1, 2)]
    own = {"DECIMAL": decimal(38, 2), "DOUBLE": DOUBLE}.get(kind, Type(Kind[kind]))

    def state(start: int, end: int, numbers: Any = groups, many: int = many) -> Any:
        part = GroupedValues(numbers, many, values[0], mask, (values[1],)).slice(start, end - start)
        kept_as = TextExtremeState if kind == "TEXT" and name != "COUNT" else STATES[name]
        return pickle.loads(pickle.dumps(kept_as.of(part, name)))

    def finished(made: Any) -> tuple[Any, Any]:
        vector = made.finish(name, own)
        beyond = made.groups_beyond() if isinstance(made, TextExtremeState) else 0
        return (
            repr(vector.values.to_pylist()),
            beyond,
            vector.spread(len(made)).failed(len(made)).tolist(),
        )

    a, b = sorted((data.draw(st.integers(0, len(rows))), data.draw(st.integers(0, len(rows)))))
    whole, (x, y, z) = (
        finished(state(0, len(rows))),
        (state(0, a), state(a, b), state(b, len(rows))),
    )
    assert (
        finished(x.merge(y).merge(z))
        == finished(x.merge(y.merge(z)))
        == finished(z.merge(x).merge(y))
        == whole
    )
    other = np.arange(many)[::-1] + 1
    assert finished(y.renumbered(other, many + 2).merge(x.renumbered(other, many + 2))) == finished(
        state(0, b, other[groups], many + 2)
    )
    few = np.arange(many) // 2
    assert finished(
        type(x).end_to_end([x, y]).renumbered(np.concatenate([few, few]), many)
    ) == finished(state(0, b, few[groups], many))
    some = np.array(data.draw(st.permutations(range(many)))[: many // 2 + 1])
    every, chosen = state(0, b).finish(name, own), state(0, b).of_some(some).finish(name, own)
    assert repr(chosen.values.to_pylist()) == repr(every.values.take(pa.array(some)).to_pylist())
    if name in ("MIN", "MAX", "COUNT") and kind != "DOUBLE":
        pick = {"MIN": min, "MAX": max, "COUNT": len}[name]
        taken = [
            [row[1] for row, counts in zip(rows, mask, strict=True) if counts and row[0] == group]
            for group in range(many)
        ]
        if isinstance(x, TextExtremeState):
            number = re.compile(r" *-?[0-9]+(\.[0-9]+)? *", re.ASCII)
            among = [
                [float(one) for one in of_group if number.fullmatch(one)] for of_group in taken
            ]
            assert whole[1] == sum(
                bool(number.fullmatch(pick(of_group))) and pick(numbers) != float(pick(of_group))
                for of_group, numbers in zip(taken, among, strict=True)
                if numbers
            )
        assert whole[0] == repr([pick(one) if one or name == "COUNT" else None for one in taken])


def test_check_and_query_give_one_sum(asked: Any, gravel: Any) -> None:
    write(
        "t.csv",
        "x,n\n1e16,4999999999999999999999999999999\n1,5000000000000000000000000000001\n-1e16,1\n",
    )
    x = "CAST(x AS DOUBLE PRECISION)"
    assert asked(f"SELECT SUM({x}) AS s, AVG({x}) AS a, MAX(SUM({x})) OVER () AS m FROM 't.csv'")[
        0
    ][:2] == [1, 1 / 3]
    gravel(
        "check",
        "t.csv",
        "--text",
        "x",
        f"SUM({x}) = 1e0",
        f"AVG({x}) = 1e0 / 3",
        "AVG(n) = 3333333333333333333333333333333.6666667",
    )
    assert asked("SELECT AVG(n) AS a FROM 't.csv'") == [
        ["3333333333333333333333333333333.6666667000000000"]
    ]
    assert (
        gravel("count", "t.csv", "--text", "x", "--total", x, "--format", "json").json["tables"][0][
            "totals"
        ][0]["value"]
        == 1
    )


def test_an_error_in_an_aggregate_is_one_of_its_source_row(
    figures: Any, gravel: Any, asked: Any
) -> None:
    write("t.csv", "g,n\na,0\na,5\nb,0\nb,0\nb,10\n")
    for text in ("SELECT COALESCE(MAX(10 / n), 0) AS m FROM 't.csv'", "SELECT COALESCE(SUM(10 / n) OVER (ORDER BY n), 0) AS m FROM 't.csv'",
                 "SELECT COUNT(10 / n) AS m FROM 't.csv'", "SELECT LISTAGG(g, ',') WITHIN GROUP (ORDER BY 10 / n) AS m FROM 't.csv'",
                 "SELECT SUM(n) FILTER (WHERE 10 / n > 1) AS m FROM 't.csv'", "SELECT LAG(g, 1, CAST(10 / n AS TEXT)) OVER (ORDER BY n) AS m FROM 't.csv'"):  # fmt: skip
        told = gravel("query", text, status=1).err
        assert "22012" in told, text
        assert "source rows 1, 3, 4" in told, told
    done = figures(
        "query",
        "SELECT g, SUM(10 / n) AS s, COUNT(*) AS c FROM 't.csv' GROUP BY g ORDER BY g",
        "--on-error",
        "set-aside",
    )
    assert done["rows"] == [["a", "2.0000000000000000", 1], ["b", "1.0000000000000000", 1]]
    assert [one["detail"] for one in done["account"] if "set aside" in one["stage"]] == [
        "rows with an error: 1 of g a; 2 of g b"
    ]
    assert asked("SELECT COUNT(10 / n) AS c, COUNT(*) AS r FROM 't.csv'", "--on-error", "null") == [
        [2, 5]
    ]
    assert (
        "3 rows of t.csv, first in 1, 3, 4: 22012"
        in gravel("check", "t.csv", "SUM(10 / n) > 0", status=1).err
    )
    done = figures("query", "SELECT SUM(10 / NULLIF(n, 0)) AS s FROM 't.csv'")
    assert [
        one["rows"] for one in done["cautions"] if one["caution"] == "aggregate passes over NULL"
    ] == [3]
    told = gravel(
        "query",
        "SELECT a.n FROM 't.csv' AS a JOIN 't.csv' AS b ON a.n >= b.n AND 10 / a.n > 1",
        status=1,
    ).err
    assert "ON: 10 / a.n > 1 fails in 9 rows, first in source rows 1, 3, 4" in told
    # What no row reads costs nothing, wherever it stands.
    assert asked(
        "SELECT CASE WHEN n > 99 THEN CAST((SELECT SUM(10 / z.n) FROM 't.csv' AS z) AS INTEGER) ELSE n END AS m FROM 't.csv' WHERE g = 'a'"
    ) == [[0], [5]]
    told = gravel(
        "query",
        "SELECT COALESCE((SELECT SUM(10 / z.n) FROM 't.csv' AS z), 0) AS m FROM 't.csv'",
        status=1,
    ).err
    assert "22012" in told


@pytest.mark.parametrize(
    ("text", "rows"),
    [
        ("SELECT SUM(p * q) OVER (ORDER BY d) FROM (VALUES (1, 10.50, 2), (2, 6.50, 2), (3, 3.50, 2)) AS v(d, p, q)", [["21.00"], ["34.00"], ["41.00"]]),
        ("SELECT COUNT(*) FROM (SELECT 1 AS i) LEFT JOIN (VALUES (2)) AS b(id) ON i = b.id", [[1]]),
        ("SELECT COUNT(*) FROM (VALUES (1), (2)) AS a(i) RIGHT JOIN (SELECT 9 AS j) ON i = j", [[1]]),
        ("SELECT x IN (0e0) AS a, x NOT IN (1e0) AS b FROM (VALUES (-0e0)) AS v(x)", [[True, True]]),
        ("SELECT x IN (x, 1e0) AS a FROM (VALUES (CAST('NaN' AS DOUBLE PRECISION))) AS v(x)", [[True]]),
        ("SELECT 0x1F AS a, 0b101 AS b, 0o17 AS c, 1_000 AS d, U&'caf\\00e9' AS e, 'a'\n 'b' AS f", [[31, 5, 15, 1000, "café", "ab"]]),
        ("SELECT (SELECT SUM(a.id) FROM (VALUES (1)) AS t(id) WHERE t.id = 1) AS s FROM (VALUES (1), (2)) AS a(id)", [["3"]]),
        ("SELECT LAG(x, 1, 2.5) OVER (ORDER BY x) AS r FROM (VALUES (1), (2)) AS v(x)", [["2.5"], ["1.0"]]),
        ("SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY x) AS r FROM (VALUES (CAST('Infinity' AS DOUBLE PRECISION)), (CAST('Infinity' AS DOUBLE PRECISION))) AS v(x)",
         [["Infinity"]]),
        ("SELECT COUNT(*) OVER (ORDER BY x ROWS BETWEEN 9223372036854775807 PRECEDING AND CURRENT ROW) AS r FROM (VALUES (1), (2)) AS v(x)", [[1], [2]]),
        ("SELECT SUM(x) OVER (ORDER BY x RANGE BETWEEN 1 PRECEDING AND 1 FOLLOWING) AS r FROM (VALUES (1), (2), (4), (NULL)) AS v(x)",
         [["3"], ["3"], ["4"], [None]]),
        ("SELECT COUNT(DISTINCT (x, y)) AS r FROM (VALUES (1, NULL), (1, NULL), (NULL, NULL), (1, 2)) AS v(x, y)", [[3]]),
        ("SELECT x FROM (VALUES (1), (2)) AS v(x) WHERE EXISTS (SELECT 1 FROM (VALUES (1)) AS w(x) WHERE x = v.x)", [[1]]),
        ("SELECT * FROM (SELECT 1 AS a, 2 AS a) AS q ORDER BY 1", [[1, 2]]),
        ("SELECT 'rye ' = CAST('rye ' AS VARCHAR(4)) AS a, FITS('rye ' AS VARCHAR(3)) AS b, CAST_OR_NULL('rye ' AS VARCHAR(3)) AS c", [[True, False, None]]),
        ("SELECT FITS('999999999999999999999999999999999999999' AS DECIMAL(38,0)) AS a, CAST('0000000000000000000000000000000000000000000001' AS DECIMAL(3,0)) AS b",
         [[False, "1"]]),
        ("SELECT CAST('1' || REPEAT('0', 5000) AS DECIMAL(10,2)) IS NULL AS a FROM (VALUES (1)) AS v(x) WHERE FALSE", []),
        ("SELECT (VALUES (1)) + 1 AS a, ((SELECT 2)) AS b", [[2, 2]]),
        ("(SELECT 1 AS a ORDER BY a FETCH FIRST 1 ROWS ONLY) UNION (SELECT 2 UNION SELECT 3) ORDER BY a DESC", [[3], [2], [1]]),
        ("SELECT a.x, c.z FROM (VALUES (1), (2)) AS a(x) LEFT JOIN ((VALUES (1)) AS b(y) JOIN (VALUES (1)) AS c(z) ON b.y = c.z) ON a.x = b.y ORDER BY 1",
         [[1, 1], [2, None]]),
        ("SELECT x, y FROM (VALUES (1, 'a')) AS v(x, t) NATURAL JOIN (VALUES (1, 'b')) AS w(x, y)", [[1, "b"]]),
        ("SELECT (DATE '2024-01-01', DATE '2024-01-10') OVERLAPS (DATE '2024-01-10', DATE '2024-02-01') AS a, 2 BETWEEN SYMMETRIC 3 AND 1 AS b", [[False, True]]),
        ("SELECT INTERVAL '1-2' YEAR TO MONTH = INTERVAL '14 months' AS a, DATE '2024-01-31' + INTERVAL '1 week' AS b", [[True, "2024-02-07"]]),
        ("WITH RECURSIVE t(n) AS (VALUES (1) UNION SELECT n % 3 + 1 FROM t) SELECT COUNT(*) FROM t", [[3]]),
    ],
)  # fmt: skip
def test_what_was_wrong_once(text: str, rows: list[Any], asked: Any) -> None:
    assert asked(text) == rows


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("SELECT 1_000x", "neither a number nor a name"), ("SELECT 0x1G", "neither a number"), ("SELECT 1 AS a LIMIT 1 LIMIT 2", "a second LIMIT"),
        ("SELECT SUM(1) OVER (ROWS BETWEEN 1 FOLLOWING AND 1 PRECEDING)", "ends before it begins"), ("SELECT 1 FETCH FIRST 1 ROW WITH TIES", "WITH TIES needs"),
        ("WITH a AS (SELECT 1), A AS (SELECT 2) SELECT 1", "a second WITH query"), ("SELECT ROW_NUMBER() FILTER (WHERE TRUE) OVER () FROM (VALUES (1)) v(x)", "no FILTER"),
        ("SELECT 1 FROM (VALUES (1)) v(x) WINDOW w AS (ORDER BY nosuch)", "no column nosuch"), ("SELECT 1 FROM (VALUES (1)) a(x) JOIN (SELECT 2 WHERE FALSE) b(y) ON y", "a condition is needed"),
        ("SELECT 1 /* a /* b */", "the comment is not closed"), ("SELECT x LIKE 'a%' ESCAPE '' FROM (VALUES ('a')) v(x)", "one character"), ("SELECT CAST(1 AS BOOLEAN)", "write 1 <> 0"),
        ("SELECT TO_DATE('x')", "AS DATE FORMAT"), ("SELECT LEN('x')", "LENGTH"), ("SELECT 'a' ILIKE 'b'", "UPPER(x) LIKE"), ("SELECT EXTRACT(DOW FROM DATE '2024-01-01')", "ISODOW"),
        ("SELECT * FROM boats.csv", "a file stands in quotes"), ("SELECT a FROM (VALUES (1)) v(a) ORDER BY group", "reserved word"), ("SELECT CAST('a' AS VARCHAR(99999999999999999999))", "not a type"),
        ("SELECT [a] FROM (VALUES (1)) v(a)", 'quoted with "name"'), ("SELECT a->>'x' FROM (VALUES ('{}')) v(a)", "JSON_VALUE(x, '$.key')"), ("SELECT * FROM (VALUES (1)) v PIVOT (COUNT(*) FOR a IN (1))", "FILTER (WHERE"),
        ("SELECT a.x FROM (VALUES ('{}')) v(a)", "JSON_VALUE(a, '$.x')"), ("SELECT UNNEST(a) FROM (VALUES ('a')) v(a)", "stands in FROM"), ("SELECT 1 FROM (VALUES (1)) v LATERAL VIEW x", "a comma is missing"),
        ("SELECT 1 FORM 'x.csv'", "did you mean FROM?"), ("SELECT 1 FROM 'x.csv' WHER TRUE", "did you mean WHERE?"), ("SELECT 1, FROM 'x.csv'", "a comma too many"),
        ("SELECT 1 FROM 'x.csv' ORDER a", "ORDER is followed by BY"), ("SELECT left, right FROM 'x.csv'", 'as a name it is written "left"'), ("SELECT left FROM 'x.csv' LIMIT 1 LIMIT 2", "LEFT is a reserved word"), ("SELECT 1 WHERE TRUE FROM 'x.csv'", "the order is SELECT, FROM"),
        ("SELECT (1 FROM 'x.csv'", "a closing parenthesis"), ("UPDATE x SET a = 1", "a query only reads"), ("x", "begins with SELECT"),
        ("SELECT a AS b FROM (VALUES (1)) v(a) WHERE b > 0", "b is a name of the result, which is made later: write a here"),
        ("SELECT COUNT(*) AS n FROM (VALUES (1)) v(a) HAVING n > 0", "write COUNT(*) here"), ("SELECT * EXCEPT (a) FROM (VALUES (1)) v(a)", "one by one"),
        ("SELECT DISTINCT ON (a) a FROM (VALUES (1)) v(a)", "ROW_NUMBER() OVER"), ("SELECT 1; SELECT 2", "one query is taken"),
        ("SELECT 1 FROM 'x.csv' LIMIT 5, 10", "OFFSET"), ("SELECT 'it's' FROM 'x.csv'", "written twice"),
        ("SELECT (1, 2) = (1, 2, 3)", "beside 3"), ("SELECT DATE '2024-01-01' + INTERVAL '999999999' YEAR", "out of range"),
    ],
)  # fmt: skip
def test_a_mistake_is_no_longer_taken_in_silence(text: str, told: str, gravel: Any) -> None:
    ran = gravel("query", text, status=2)
    assert told in ran.err, ran.err


def test_bytes_stay_bytes_and_mixed_columns_are_told(gravel: Any, figures: Any) -> None:
    import pyarrow.parquet as pq

    pq.write_table(
        pa.table({"id": [1, 2], "b": pa.array([b"\x00\xff", None], pa.binary())}), "b.parquet"
    )
    write("p.toml", 'table = "b.parquet"\nwrite = "h.db#b"\n')
    gravel("clean", "p.toml")
    base = sqlite3.connect("h.db")
    assert base.execute("SELECT b, typeof(b) FROM b ORDER BY id").fetchall() == [
        (b"\x00\xff", "blob"),
        (None, "null"),
    ]
    base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, x, flag BOOLEAN, r REAL, name TEXT)")
    base.executemany(
        "INSERT INTO t VALUES (?, ?, ?, ?, ?)",
        [(1, "abcd", 1, 9.5, "a"), (2, b"\x01", 0, 1e300, ""), (3, 5, 1, -1.5, "b")],
    )
    base.execute("INSERT INTO t VALUES (4, NULL, NULL, 100.25, CAST(x'ff41' AS TEXT))")
    base.execute("CREATE VIEW broken AS SELECT no FROM nowhere")
    base.commit()
    write("q.toml", 'table = "h.db#t"\nwrite = "i.db#t"\n')
    assert "several types" in gravel("clean", "q.toml", status=1).err
    assert not Path("i.db").exists()
    assert "not UTF-8" in gravel("look", "h.db#t").err
    ran = gravel("count", "h.db", status=3)
    assert "h.db#t" in ran.out
    assert "broken cannot be read" in ran.err
    found = {one["name"]: one for one in figures("profile", "h.db#t")["columns"]}
    assert (found["r"]["min"], found["r"]["max"]) == (-1.5, 1e300)
    assert math.isfinite(found["r"]["numbers"]["stddev"])


def test_a_file_that_changes_under_way_is_told(
    gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.sources.csv import reader

    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n')
    for call in (["count", "t.csv", "--distinct", "a"], ["profile", "t.csv"], ["look", "t.csv", "--sort", "a"], ["compare", "t.csv", "t.csv", "--key", "a"],
                 ["duplicates", "t.csv", "--on", "a"], ["clean", "p.toml"]):  # fmt: skip
        write("t.csv", "a,b\n1,2\n3,4\n")
        seen: list[int] = []
        whole = reader.cut

        def changed(*arguments: Any, seen: list[int] = seen, whole: Any = whole) -> Any:
            for piece in whole(*arguments):
                if not seen:
                    write("t.csv", "a,b\n1,2\n3,4\n5,6\n")
                seen.append(1)
                yield piece

        monkeypatch.setattr(reader, "cut", changed)
        told = gravel(*call, status=1)
        monkeypatch.setattr(reader, "cut", whole)
        assert "was changed while it was read" in told.err, call
    assert not Path("o.csv").exists()


def test_merged_rows_that_disagree_are_counted_in_every_column(figures: Any) -> None:
    write(
        "r.csv",
        "id,owner,born,phone\n"
        + "".join(f"{n},{n // 2},19{50 + n % 40},{'' if n % 3 else n}\n" for n in range(40)),
    )
    for more, expected in (
        ("", {"born": 20, "phone": 0}),
        (", fill = ['phone']", {"born": 20, "phone": 0}),
        (", fill = true", {"born": 20, "phone": 0}),
    ):
        write(
            "p.toml",
            f"table = 'r.csv'\nwrite = 'o.csv'\nreplace = true\nkey = ['id']\n[[step]]\nunique = {{ by = ['owner']{more} }}\n",
        )
        step = figures("clean", "p.toml")["steps"][1]
        told = step["conflicts"]
        assert {name: told.get(name, 0) for name in expected} == expected, (more, step)


def test_what_a_finding_counts_is_what_its_fix_changes(figures: Any) -> None:
    write("t.csv", "name\n" + "Ines \n" * 2 + "Ines\n" + "other\n" * 9)
    (finding,) = [
        one for one in figures("profile", "t.csv")["findings"] if one["finding"] == "spaces"
    ]
    seen = figures(*shlex.split(finding["see"])[1:])["matching"]
    changed = figures("try", "t.csv", finding["fix"])["assignments"][0]["changed"]
    assert (finding["rows"], seen, changed) == (2, 2, 2)


def test_keys_of_two_columns_are_found_whatever_the_second_holds(figures: Any) -> None:
    rows = [(boat, day) for boat in range(300) for day in range(300)]
    write("t.csv", "boat,day\n" + "".join(f"{boat},{20_000 + day}\n" for boat, day in rows))
    assert figures("profile", "t.csv")["keys"] == [["boat", "day"]]


def test_an_address_shows_no_password_and_runs_no_statement(gravel: Any) -> None:
    for name in ("password", "passwd"):
        told = gravel(
            "count", f"postgresql://ann@127.0.0.1:1/harbour?{name}=hush21#boats", status=None
        )
        assert told.status in (2, 3)
        assert "hush21" not in told.err + told.out
    write(
        "p.toml",
        'table = "postgresql://ann@127.0.0.1:1/harbour?password=hush21#boats"\nwrite = "o.csv"\n',
    )
    assert "hush21" not in gravel("clean", "p.toml", status=3).err
    assert (
        "not an option"
        in gravel(
            "count",
            "mysql://ann@127.0.0.1:1/harbour?init_command=DROP%20TABLE%20boats#boats",
            status=2,
        ).err
    )
    assert "FILE.db#table" in gravel("count", "sqlite:///none.db#t", status=2).err
    assert not Path("none.db").exists()


def test_files_that_nobody_else_reads_make_files_that_nobody_else_reads(gravel: Any) -> None:
    write("t.csv", "id,n\n1,2\n2,3\n")
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\nreplace = true\n[[step]]\ndrop_rows = "id = 1"\n',
    )
    write("o.csv", "mine\n")
    Path("o.csv").chmod(0o600)
    gravel("clean", "p.toml")
    assert {path.name: path.stat().st_mode & 0o777 for path in Path().glob("o*")} == {
        "o.csv": 0o600,
        "o-rejects.csv": 0o600,
        "o.record.json": 0o600,
    }


def test_names_cannot_steer_the_terminal(gravel: Any) -> None:
    name = "a\x1b[31m.csv"
    write(name, "id,n\x1b[31m\u009bame\n1,x\u009b31m\n2,y\n")
    write(
        "p.toml",
        'table = "a\\u001b[31m.csv"\nwrite = "o.csv"\n[[step]]\nnote = "n\\u001b[31mote"\nset = { id = "id + 1" }\n',
    )
    for call in (["count", name], ["look", name], ["profile", name], ["duplicates", name], ["check", name, "c\x1b[31m: id > 1"], ["clean", "p.toml"],
                 ["look", name, "--format", "json"], ["profile", name, "--format", "json"], ["look", "nosuch\x1b[31m"], ["look", name, "--where", '"n\x1b" = 1']):  # fmt: skip
        ran = gravel(*call, status=None)
        assert not set("\x1b\u009b") & set(ran.out + ran.err), call


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ('set = "x"', 'set takes a table, not "x" p.toml:4 hint: set = { name = "TRIM(name)" }'),
        ("keep_rows = 5", 'keep_rows takes a text in quotes, not 5 p.toml:4 hint: keep_rows = "fee > 0"'),
        ('split = { column = "n", on = ";", into = 5 }', 'split: into takes "rows" or a list, not 5'),
        ('deduplicate = { by = [] }', "deduplicate: by is empty"),
        ('filter = "n > 1"', "a step has no key filter p.toml:4 hint: did you mean keep_rows?"), ('sql = "SELECT 1"', "a step has no key sql p.toml:4 hint: did you mean query?"),
        ('split = { column = "n", on = ";" }', 'the split does not say `into` p.toml:4 hint: into = "rows", or names of columns'),
        ('check = { table = 5 }', 'check: table takes a text in quotes, not 5 p.toml:4 hint: check = { "berth known" = "berth IS NOT NULL" }'),
        ('drop_rows = "n > 0"\n[params]\nn = [1]', "params: n takes a text in quotes, a number, true or false, a day or a moment, not [ … ]"),
        ('drop_rows = "n > 0"\n[read]\nskip = "2"', 'read: skip takes a whole number, not "2"'),
        ("keep_rows = 'n > 0'\nrows = -1", 'rows: -1 is not a row count; a difference stands in quotes: rows = "-1"'),
        ("deduplicate = { by = [5] }", "deduplicate: an item of by takes a text in quotes, not 5"),
        ("sort = { n = 1 }", "sort takes a text in quotes or a list, not { … }"),
        ("sort = [1]", "gravel: an item of sort takes a text in quotes, not 1"),
        ('set = { n = ["x"] }', "set: n takes a text in quotes, not [ … ]"),
        ('set = { n = "1" }\non_error = "zap"', """on_error takes "stop", "null" or "set aside", not "zap" p.toml:5"""),
        ('check = { good = "id > 1" }\nallow = true', "allow takes a whole number or a text in quotes, not true"),
    ],
)  # fmt: skip
def test_a_value_of_the_wrong_kind_is_told_with_what_the_key_takes(
    line: str, words: str, gravel: Any
) -> None:
    write("t.csv", "id,n\n1,2\n")
    write("p.toml", f'table = "t.csv"\nwrite = "o.csv"\n[[step]]\n{line}\n')
    told = gravel("clean", "p.toml", status=2).err
    assert words in " ".join(told.split())
    assert told.count("gravel: ") == 1


def test_all_mistakes_of_a_plan_and_what_failed_in_a_row_are_told(
    gravel: Any, figures: Any
) -> None:
    write("p.toml", 'tabel = "x"\n[[step]]\nnote = "only a note"\n')
    told = gravel("clean", "p.toml", status=2).err
    for line in (
        "no key tabel",
        "does not say `table`",
        "does not say `write`",
        "step 1 has no verb",
        "p.toml:2",
    ):
        assert line in told
    write("t.csv", "id,n\n1,2\n2,x\n")
    write(
        "q.toml",
        'table = "t.csv"\nwrite = "o.csv"\non_error = "set aside"\n[[step]]\nset = { n = "CAST(n AS INTEGER)" }\n',
    )
    event = figures("trace", "q.toml", "--row", 2)["rows"][0]["paths"][0]["events"][-1]
    assert (event["outcome"], event["sqlstate"], event["read"]) == (
        "set aside",
        "22018",
        {"n": "x"},
    )
    assert "22018" in gravel("trace", "q.toml", "--row", 2).out
    assert (
        "takes one value"
        in gravel("look", "t.csv", "--where", "id = 1", "--where", "id = 2", status=2).err
    )
    assert [
        one["columns"]
        for one in figures("count", "t.csv", "--key", "id", "--key", "n")["tables"][0]["keys"]
    ] == [["id"], ["n"]]
    assert "[check]" in gravel("check", "--help").out.replace("\n", "").replace("│", "")
    assert "that would be written" in gravel("clean", "q.toml", "--dry-run").out.replace("\n", " ")
