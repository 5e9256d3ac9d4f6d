"""What the language promises: examples, the order of evaluation, errors as data, diagnostics, cautions."""

from __future__ import annotations

import datetime
import pickle
import re
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import nasty
from conftest import shown, write
from gravel.language import parse
from gravel.language.functions.catalogue import catalogue
from gravel.language.tables import GRAMMAR


def value(expression: str) -> str:
    """An expression's result as SQL text."""
    from gravel.querying.examples import outcome

    return outcome(expression, datetime.date(2024, 5, 31))


@pytest.mark.parametrize("entry", list(catalogue().values()), ids=lambda entry: entry.name)
def test_every_example_of_the_catalogue_gives_its_result(entry: Any) -> None:
    assert entry.meaning
    assert entry.examples
    for text, expected in entry.examples.items():
        assert value(text) == expected, text


def test_threads_parse_side_by_side_and_what_is_bound_travels() -> None:
    """A text parsed on one thread has nothing of another's; a bound expression is the same after pickling, its entries by their names."""
    from gravel.language.bind import bind
    from gravel.language.scope import Scope
    from gravel.language.types import INTEGER

    def named(number: int) -> bool:
        text = f"n{number} + CASE WHEN a{number} > {number} THEN ABS(b{number}) END"
        node = parse.named(text)
        names = {one.text for one in parse.column_names(node)}
        bound = bind(node.expression, Scope(tuple(sorted(names)), (INTEGER,) * 3), text)
        return (
            node.name == text
            and names == {f"{letter}{number}" for letter in "nab"}
            and pickle.loads(pickle.dumps(bound)) == bound
        )

    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-5)
    try:
        with ThreadPoolExecutor(4) as pool:
            assert all(pool.map(named, range(400)))
    finally:
        sys.setswitchinterval(before)


CASES = [
    line.split(" => ")
    for line in (nasty.HERE / "cases" / "own.sql").read_text("utf-8").splitlines()
    if " => " in line and not line.startswith("--")
]


@pytest.mark.parametrize(("expression", "expected"), CASES, ids=[case[0] for case in CASES])
def test_what_is_ours_or_not_shared(expression: str, expected: str) -> None:
    assert value(expression) == expected


GUARDED = [
    "CASE WHEN n <> 0 THEN 100 / n END", "CASE n WHEN 0 THEN NULL ELSE 100 / n END", "COALESCE(CASE WHEN n = 0 THEN 1 END, 100 / n)",
    "n = 0 OR 100 / n > 1", "n <> 0 AND 100 / n > 1", "CASE WHEN n <> 0 AND 100 / n > 1 THEN 'a' ELSE 'b' END",
    "IF_BLANK(CASE WHEN n = 0 THEN 'none' END, CAST(100 / n AS TEXT))", "n IN (0, 100 / NULLIF(n, 0))", "0 IN (n, 100 / n)",
    "CASE WHEN n = 0 THEN 0 WHEN 100 / n > 5 THEN CASE WHEN n = 2 THEN 1 ELSE 10 / (n - 2) END ELSE 3 END",
    "n BETWEEN 1 AND 100 / n", "CASE WHEN t LIKE '%x%' THEN 0 ELSE CAST(t AS INTEGER) END", "FITS(t AS INTEGER) AND CAST(t AS INTEGER) > 3",
    "CASE WHEN :floor <> 0 THEN n / :floor END",
]  # fmt: skip


@pytest.mark.parametrize("expression", GUARDED)
def test_what_is_guarded_never_fails(expression: str, figures: Any) -> None:
    write("t.csv", "n,t\n0,x\n1,7\n2,0x\n5,9\n7,x\n")
    done = figures("try", "t.csv", f"made = {expression}", "--param", "floor=0", "--text", "t")
    assert done["assignments"][0]["errors"] == 0, done


def test_what_is_not_guarded_fails_in_its_rows_and_no_others(figures: Any) -> None:
    write("t.csv", "n,t\n0,x\n1,7\n2,0x\n,\n7,x\n")
    bare = figures(
        "try",
        "t.csv",
        "a = 100 / n",
        "b = CAST(t AS INTEGER)",
        "c = n > 0 AND 100 / (n - 1) > 0",
        "d = NOT (n / 0 = 1)",
    )
    told = [
        [(kind["sqlstate"], kind["rows"], kind["row"]) for kind in one["error_kinds"]]
        for one in bare["assignments"]
    ]
    assert told == [[("22012", 1, 1)], [("22018", 3, 1)], [("22012", 1, 2)], [("22012", 4, 1)]]


@settings(max_examples=150)
@given(data=st.data())
def test_a_result_does_not_depend_on_batches_order_or_dictionaries(data: Any) -> None:
    """Each row alone, and in any company, gives the same value or error."""
    import numpy as np
    import pyarrow as pa

    from gravel.engine.evaluate import run
    from gravel.engine.frame import Frame
    from gravel.language.bind import bind_text

    scope, whole = nasty.frame()
    lines = (nasty.HERE / "cases" / "shared.sql").read_text("utf-8").splitlines()
    ours = [line.split(" ~~> ")[0] for line in lines if line and not line.startswith("--")]
    own = ["SHAPE(t)", "MATCH_KEY(t)", "MATCH_KEY(t, 'sorted')", "WITHOUT_ACCENTS(t)", "ONLY_DIGITS(t)", "ONLY_LETTERS(u)", "TIDY_SPACES(t)",
           "CAPITALIZE_WORDS(t)", "WORD_COUNT(t)", "LIST_ITEM(t, ' ', 1)", "LIST_SIZE(t, 'l')", "MASK(t, 1, 1, '*')", "IS_BLANK(t)",
           "IF_BLANK(t, u, '-')", "POSITION_OF('l', t, 2)", "GROUP_DIGITS(d, 2)", "FULL_MONTHS(day, day2)", "FITS(n AS INTEGER)",
           "CAST_OR_NULL(m AS DATE)", "i / j", "d / e", "ROUND(d, k)"]  # fmt: skip
    expression = data.draw(st.sampled_from([*ours, *own]))
    rows = np.array(data.draw(st.lists(st.integers(0, nasty.ROWS - 1), min_size=1, max_size=12)))
    bound = bind_text(expression, scope)
    full = run(bound, whole)
    part = Frame(len(rows), [column.take(pa.array(rows)) for column in whole.stored], whole.types)
    alone = run(bound, part)
    assert alone.values.equals(full.values.take(pa.array(rows))) or str(alone.values) == str(
        full.values.take(pa.array(rows))
    ), expression
    assert alone.failed(len(rows)).tolist() == full.failed(nasty.ROWS)[rows].tolist()


@pytest.mark.parametrize("expression", ["MATCH_KEY(t)", "LIST_ITEM(t, ';', 2)", "UPPER(TIDY_SPACES(TRIM(REPLACE(t, 'a', 'b'))))",
                                        "CASE WHEN IS_BLANK(t) THEN CAST(LEFT(TRIM(t), 1) AS INTEGER) ELSE LENGTH(SHAPE(t)) END"])  # fmt: skip
def test_few_values_and_dictionaries_give_the_same_as_row_by_row(expression: str) -> None:
    """A dear expression is evaluated once a value where a column has few; a column may come dictionary-encoded."""
    import pyarrow as pa

    from gravel.engine.evaluate import evaluate, run
    from gravel.engine.frame import Frame
    from gravel.language.bind import bind_text
    from gravel.language.scope import Scope
    from gravel.language.types import TEXT

    texts = ["a;b", None, " ", "", "x y;a", "é; Z ", "7"]
    column = pa.array([texts[at * at % 11 % 7] for at in range(9000)])
    bound = bind_text(expression, Scope(("t",), (TEXT,)))
    frames = [
        Frame(9000, [stored], [TEXT])
        for stored in (column, column.dictionary_encode(), pa.concat_arrays([column]))
    ]
    one, two, whole = (
        run(bound, frames[0]),
        run(bound, frames[1]),
        evaluate(bound, frames[2]).spread(9000),
    )
    for other in (two, whole):
        assert one.values.equals(other.values)
        assert one.failed(9000).tolist() == other.failed(9000).tolist()


TYPES = ["INTEGER", "SMALLINT", "DECIMAL(6,2)", "DECIMAL", "DOUBLE PRECISION", "BOOLEAN", "DATE", "TIME", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE",
         "VARCHAR(3)", "DATE FORMAT 'DD.MM.YYYY'", "DATE FORMAT 'FMMM/FMDD/YY'", "TIMESTAMP FORMAT 'YYYYMMDD HH24:MI'"]  # fmt: skip


@settings(max_examples=300)
@given(
    text=st.text(st.sampled_from("0123456789.-+:/ eTZx"), max_size=20)
    | st.sampled_from(
        [
            one
            for one in (
                *nasty.NUMERALS,
                *nasty.DATES,
                "31.04.2024",
                "2/29/23",
                "20240531 23:59",
                "true",
            )
            if one
        ]
    ),
    kind=st.sampled_from(TYPES),
)
def test_fits_is_exactly_that_the_cast_gives_a_value(text: str, kind: str) -> None:
    literal = "'" + text.replace("'", "''") + "'"
    made = value(f"CAST({literal} AS {kind})")
    fits = value(f"FITS({literal} AS {kind})")
    assert fits == ("FALSE" if made.startswith("error") else "TRUE")
    assert value(f"CAST_OR_NULL({literal} AS {kind})") == (
        "NULL" if made.startswith("error") else made
    )
    assert value(f"FITS(NULL AS {kind})") == "NULL"


WORDS = ["name", "fee", "CASE", "WHEN", "THEN", "ELSE", "END", "AND", "OR", "NOT", "IN", "(", ")", ",", "'a'", "1", "2.5", "=", "<>", "||", "+", "-",
         "*", "/", "LIKE", "IS", "NULL", "UPPER(", "CAST(", "AS", "INTEGER", "DATE '2024-01-01'", "INTERVAL '1'", "DAY", "TRIM(", "FROM", "x'",
         '"', ":p", "LEFT(", "REPEAT('ab', 5)", "EXTRACT(", "YEAR", "LIKE_REGEX '('", "\n", "\t", "--", "/*", "é", "\x00", "1e999"]  # fmt: skip


@settings(max_examples=400)
@given(text=st.text(max_size=60) | st.lists(st.sampled_from(WORDS), max_size=25).map(" ".join))
def test_any_text_ends_in_a_value_or_a_diagnostic(text: str) -> None:
    import pyarrow as pa

    from gravel.engine.evaluate import run
    from gravel.engine.frame import Frame
    from gravel.language.bind import bind_text
    from gravel.language.diagnostics import Diagnostic
    from gravel.language.scope import Scope
    from gravel.language.types import INTEGER, TEXT

    frame = Frame(2, [pa.array(["a", None]), pa.array([1, None])], [TEXT, INTEGER])
    told = ""
    try:
        run(bind_text(text, Scope(("name", "fee"), (TEXT, INTEGER))), frame)
    except Diagnostic as problem:
        told = problem.message + problem.place
    assert "\x1b" not in told


@pytest.mark.parametrize(
    "text",
    ["(" * 100_000, "1" + " + 1" * 2400, "NOT " * 2000 + "TRUE", "UPPER(" * 150 + "'a'" + ")" * 150, "-" * 5000 + "1", "CASE WHEN TRUE THEN " * 400,
     "'a' || " * 1600 + "'b'", "1 IN (" + "1, " * 3000 + "1)", "a" * 10_000, "(" * 190 + "1" + ")" * 190],
)  # fmt: skip
def test_deep_and_long_texts_end_soon(text: str) -> None:
    from gravel.language.diagnostics import Diagnostic

    begun = time.process_time()
    try:
        told = value(text)
    except Diagnostic as problem:
        told = problem.message
    assert told
    assert time.process_time() - begun < 20  # a hang, not slowness, is what this looks for


DIAGNOSTICS = [
    ("UPPER(nme)", "there is no column nme", "UPPER(nme)\n      ^^^", "did you mean name?"),
    ("UPPR(name)", "there is no function UPPR", "^^^^", "did you mean UPPER?"),
    ("name + 1", "+ takes a number, name is TEXT", "^^^^", "write CAST(name AS DECIMAL)"),
    ("LEFT(name)", "LEFT does not take 1 argument", "^^^^^^^^^^", "LEFT(x TEXT, n INTEGER) TEXT"),
    ("name = ", "the expression ends too early", "^", "a value, a column or a function is missing here"),
    ("name == 'a'", "syntax error", "^", "equality is written with one ="),
    ("name = 'a", "the text is not closed", "^", "close it with '"),
    ("name LIKE_REGEX '(a'", "the pattern is not valid", "^", ""),
    ("DATE '2023-02-29'", "is not a date", "^", "DATE '2024-05-31'"),
    ("CASE WHEN fee > 1 THEN 'a'", "the expression ends too early", "^", "a CASE ends with END"),
    ("fee\n  > 1 AND\n\tnaem = 'x'", "there is no column naem", "line 3: \tnaem = 'x'\n        \t^^^^", "did you mean name?"),
    ("'日本' || nme", "there is no column nme", "'日本' || nme\n          ^^^", "did you mean name?"),
    ("fee = 'a'", "= cannot mix INTEGER and TEXT", "^", "CAST(fee AS TEXT)"),
    ("\"fee\" > \"x\"", "there is no column x", "^", "a text stands in single quotes: 'x'"),
    ("CAST(name AS INTEGR)", "there is no type INTEGR", "^", "did you mean INTEGER?"),
    ("CAST(name AS DATE FORMAT 'DD.QQ')", "is not a part of a template", "^", ""),
    ("fee > :flor", "there is no parameter :flor", "^^^^^", "--param flor="),
    ("EXTRACT(HOUR FROM DATE '2024-01-01')", "DATE has no HOUR", "^", ""),
    ("INTERVAL '1' DAYS", "DAYS is not a unit", "^", "DAY"),
    ("fee", "a condition is needed", "^^^", "compare it"),
    ("SAFE_CAST(TRIM(name) AS DATE)", "there is no function SAFE_CAST", "\n^^^^^^^^^", "CAST_OR_NULL(x AS type)"),
    ("DATEDIFF(day, fee) > 1", "there is no function DATEDIFF", "\n^^^^^^^^", "date - date"),
    ("fee::TEXT", "unexpected character ':'", "   ^", "CAST(x AS type)"),
    ("left", "the expression ends too early", "^", 'as a name it is written "left"'),
    ("COALESCE(left, 'a') = name", "LEFT is a reserved word", "\n         ^^^^", 'as a name it is written "left"'),
    ("fee = 1 ADN name = 'a'", "syntax error at 'ADN'", "\n        ^^^", "did you mean AND?"),
    ("fee IN (1, 2,)", "syntax error at ')'", "\n             ^", "a comma too many"),
    ("name NOT NULL", "syntax error at 'NULL'", "\n         ^^^^", "write IS NOT NULL"),
    ("fee > 1) AND name = 'a'", "syntax error at ')'", "\n       ^", "no parenthesis is open here"),
    ("CAST(fee DATE) > name", "syntax error at 'DATE'", "\n         ^^^^", "the type is missing"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "message", "place", "hint"), DIAGNOSTICS, ids=[case[0] for case in DIAGNOSTICS]
)
def test_a_mistake_is_told_with_its_place_and_a_hint(
    text: str, message: str, place: str, hint: str
) -> None:
    from gravel.language.bind import bind_condition
    from gravel.language.diagnostics import Diagnostic
    from gravel.language.scope import Scope
    from gravel.language.types import INTEGER, TEXT

    with pytest.raises(Diagnostic) as raised:
        bind_condition(text, Scope(("name", "fee"), (TEXT, INTEGER)))
    problem = raised.value
    assert message in problem.message + problem.hint
    assert place in problem.place
    assert hint in problem.hint + problem.message


def test_names_of_months_are_read_in_any_case_and_written_in_the_templates(figures: Any) -> None:
    import datetime

    first = datetime.date(2023, 11, 28)
    days = [first + datetime.timedelta(at * 11) for at in range(40)]
    forms = [(day, f"{day:%d %b %Y}", f"{day:%B} {day.day}, {day:%Y}", f"{day.day}-{day:%b-%y}".upper()) for day in days]  # fmt: skip
    write("t.csv", "day;a;b;c\n" + "".join(";".join(map(str, row)) + "\n" for row in forms))
    read = (
        "a AS DATE FORMAT 'DD MON YYYY'",
        "b AS DATE FORMAT 'MONTH FMDD, YYYY'",
        "c AS DATE FORMAT 'FMDD-Mon-YY'",
    )
    written = ("'DD Mon YYYY'", "'Month FMDD, YYYY'", "'FMDD-MON-YY'")
    items = [f"CAST({one})" for one in read] + [f"CAST(CAST(day AS DATE) AS TEXT FORMAT {one})" for one in written]  # fmt: skip
    rows = figures("query", f"SELECT {', '.join(items)} FROM 't.csv'", "--rows", "all")["rows"]
    assert rows == [[str(day)] * 3 + [a, b, c] for day, a, b, c in forms]
    for text in ("13 Fab 2024", "30 Feb 2024", "1 Feb 2024", "13 February 2024"):
        fits = f"SELECT FITS('{text}' AS DATE FORMAT 'DD MON YYYY') AS fits"
        assert figures("query", fits)["rows"] == [[False]], text


def test_what_other_systems_call_a_function_is_told_with_functions_that_there_are() -> None:
    from gravel.language.functions.catalogue import find
    from gravel.language.other_names import FUNCTIONS

    for name, hint in FUNCTIONS.items():
        assert find(name) is None, name
        assert all(find(word) for word in re.findall(r"(\w+)\(", hint)), hint


def test_a_text_beside_a_number_tells_how_many_rows_would_not_fit(gravel: Any) -> None:
    write("t.csv", "id,n\n1,7.5\n2,x\n3,\n4,8?\n")
    for command in (
        ("try", "t.csv", "m = n + 1"),
        ("look", "t.csv", "--where", "n > 5"),
        ("count", "t.csv", "--total", "n * 2"),
    ):
        told = gravel(*command, status=2).err
        assert "2 of 4 rows do not fit" in told
        assert "fit DECIMAL, such as 'x' in row 2" in told  # beside 5 too: 7.5 is a number
        assert "AS DECIMAL)" in told
        assert "CAST_OR_NULL makes NULL" in told
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { m = "n + 1" }\n')
    assert "2 of 4 rows do not fit" in gravel("clean", "p.toml", status=2).err
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { m = "id", o = "m + 1" }\n')
    assert "this step makes m: the next step can read it" in gravel("clean", "p.toml", status=2).err
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { m = 5 }\n')
    assert 'hint: m = "5"' in gravel("clean", "p.toml", status=2).err
    one = gravel("query", "SELECT COUNT(n) FROM 't.csv'").err
    assert "caution: 1 row: has NULL in n, which" in one


def test_a_value_beside_one_of_another_type_is_told_what_to_write(gravel: Any) -> None:
    write("t.csv", "id,n,t,w\n1,7.5,x,2024-01-02 x\n2,,y,\n")
    for expression, hint in {
        "COALESCE(n, 'none')": "write CAST(n AS TEXT) beside a text",
        "CASE WHEN id > 1 THEN 'x' ELSE 0 END": "write '0' beside a text",
        "n = ''": "write n IS NULL:",
        "'' <> n": "write n IS NOT NULL:",
        "NULLIF(n, '')": "write n: DECIMAL",
        "n IN ('5')": "write 5 without quotes",
        "t > 3.5": "write CAST(t AS DECIMAL), or '3.5' beside a text",
        "t = id": "write CAST(t AS INTEGER), or CAST(id AS TEXT) beside a text",
        "t ~ 'x'": "write x LIKE_REGEX 'pattern'",
        "CURRENT_DATE > '2024-01-01'": "write DATE '2024-01-01'",
        "w + INTERVAL '1' DAY": "write CAST(w AS DATE), or AS TIMESTAMP",
        "EXTRACT(YEAR FROM w)": "write CAST(w AS DATE), or AS TIMESTAMP",
        "w > 2024-01-01": "write DATE '2024-01-01' beside CAST(w AS DATE): 2024-01-01 is a subtraction",
        "CURRENT_DATE < 2024-1-1": "write DATE '2024-1-1': 2024-1-1 is a subtraction",
        "n > 2024-01-01": "write DATE '2024-01-01'",
        't = "xyz"': "a text stands in single quotes: 'xyz'",
        "t IN (xyz)": "a text stands in single quotes: 'xyz'",
        "COUNT(*) FILTER (id = 1)": "write FILTER (WHERE …)",
        "FIRST(n)": "write ANY_VALUE(x ORDER BY …)",
        "u.*": "tables: t",
        "COUNT(*) AS c FROM 't.csv' WHERE COUNT(*) > 1 OR 1 = 1": "an aggregate is filtered by HAVING, after GROUP BY: HAVING COUNT(*) …",
        "COUNT(*) AS c FROM 't.csv' WHERE c > 1 OR 1 = 1": "c is a name of the result, which is made later: write HAVING COUNT(*) … after GROUP BY",
        "LAG(n) OVER (ORDER BY id) AS l FROM 't.csv' WHERE l > 1 OR 1 = 1": "l is a name of the result, which is made later: select from (SELECT …) AS t WHERE l …",
        "1 FROM 't.csv' WHERE LAG(n) OVER (ORDER BY id) = 1": "name it in (SELECT …) AS t, and filter by that name in the WHERE around it",
        "COUNT(*) FROM 't.csv' GROUP BY ALL": "name what rows are grouped by",
        "COUNT(*) FROM 't.csv' GROUP BY t, w WITH ROLLUP": "write GROUP BY ROLLUP (a, b)",
        "1 FROM 't.csv' JOIN 't.csv' AS v USING id": "the columns stand in parentheses: USING (owner_id)",
    }.items():
        source = "" if " FROM 't.csv'" in expression else " FROM 't.csv' AS t"
        told = gravel("query", f"SELECT {expression}{source}", status=2).err
        assert f"hint: {hint}" in told, (expression, told)
    told = gravel("check", "t.csv", "w > 2024-01-01", status=2).err
    assert "1 of 2 rows does not fit DATE, such as '2024-01-02 x' in row 1" in told
    assert "single quotes: 'xyz'" in gravel("look", "t.csv", "--where", "t=xyz", status=2).err


# An expression, a caution that it earns in some rows, a part of its hint, and the expression once the hint is followed.
CAUTIONS = [
    ("a = NULL", "compared with NULL", 5, "a IS NULL", "a IS NULL"),
    ("a > 'A'", "unknown comparison", 1, "a IS NULL", "a > 'A' OR a IS NULL"),
    ("CASE a WHEN 'open' THEN 1 END", "CASE without ELSE", 4, "ELSE", "CASE LOWER(TRIM(COALESCE(a, ''))) WHEN 'open' THEN 1 ELSE 0 END"),
    ("CASE WHEN a = 'open' THEN 1 ELSE 0 END", "ELSE because unknown", 1, "IS NULL THEN",
     "CASE WHEN a IS NULL THEN 2 WHEN UPPER(TIDY_SPACES(a)) = 'OPEN' THEN 1 ELSE 0 END"),
    ("a NOT IN ('open', NULL)", "NOT IN beside NULL", 4, "NULL", "UPPER(TIDY_SPACES(a)) NOT IN ('OPEN') AND a IS NOT NULL"),
    ("a || '!'", "NULL operand", 1, "COALESCE(a, '')", "COALESCE(a, '') || '!'"),
    ("m + 1", "NULL operand", 1, "CASE WHEN m IS NULL THEN", "CASE WHEN m IS NULL THEN -1 ELSE m + 1 END"),
    ("CONCAT(a, '!')", "NULL passed over", 1, "||", "COALESCE(a || '!', '')"),
    ("a = 'open'", "case or spaces", 2, "UPPER(TIDY_SPACES(a)) = UPPER(TIDY_SPACES('open'))",
     "UPPER(TIDY_SPACES(a)) = UPPER(TIDY_SPACES('open')) OR a IS NULL"),
    ("a IN ('open', 'shut')", "case or spaces", 2, "UPPER(TIDY_SPACES(a))", "UPPER(TIDY_SPACES(a)) IN ('OPEN', 'SHUT') OR a IS NULL"),
    ("COALESCE(a, 'none')", "substitute occurs", 1, "substitute that no row has", "COALESCE(a, 'no entry')"),
    ("REPLACE(c, 'Sea', 'Lake')", "inside words", 1, r"TRANSLATE_REGEX('\bSea\b' IN c WITH 'Lake')", r"TRANSLATE_REGEX('\bSea\b' IN c WITH 'Lake')"),
    ("c < '5'", "numbers compared as texts", 2, "CAST(c AS DECIMAL) < 5", "CAST_OR_NULL(c AS DECIMAL) < 5 OR CAST_OR_NULL(c AS DECIMAL) IS NULL"),
    ("c BETWEEN '1' AND '50'", "numbers compared as texts", 1, "CAST(c AS DECIMAL) BETWEEN 1 AND 50",
     "CASE WHEN FITS(c AS DECIMAL) THEN CAST(c AS DECIMAL) BETWEEN 1 AND 50 ELSE FALSE END"),
    ("a BETWEEN 'a' AND 'z'", "unknown comparison", 1, "a IS NULL", "a BETWEEN 'a' AND 'z' OR a IS NULL"),
    ("a LIKE 'o%'", "unknown comparison", 1, "a IS NULL", "UPPER(TIDY_SPACES(a)) LIKE 'O%' OR a IS NULL"),
    ("a LIKE 'open'", "case or spaces", 2, "UPPER(TIDY_SPACES(a)) LIKE 'OPEN'", "UPPER(TIDY_SPACES(a)) LIKE 'OPEN' OR a IS NULL"),
    ("h > '01.02.2023'", "days compared as texts", 2, "CAST(h AS DATE FORMAT 'DD.MM.YYYY') >",
     "CAST(h AS DATE FORMAT 'DD.MM.YYYY') > CAST('01.02.2023' AS DATE FORMAT 'DD.MM.YYYY') OR h IS NULL"),
    ("n = 0 OR n = 1 AND m > 1", "AND before OR", 1, "n = 0 OR (n = 1 AND m > 1), or (n = 0 OR n = 1) AND m > 1", "n = 0 OR (n = 1 AND m IS NOT NULL)"),
    ("n = 5 AND n BETWEEN 0 AND 1 OR n = 7 OR n = 0", "AND before OR", 2, "(n BETWEEN 0 AND 1 OR n = 7 OR n = 0)", "(n = 5 OR n = 7) AND n > 1"),
    ("g <= DATE '2024-01-31'", "later that day", 2, "CAST(g AS DATE) <= DATE '2024-01-31'", "CAST(g AS DATE) <= DATE '2024-01-31'"),
    ("g IN (DATE '2024-01-31', DATE '1999-01-01')", "later that day", 2, "CAST(g AS DATE) IN (…)", "CAST(g AS DATE) IN (DATE '2024-01-31', DATE '1999-01-01')"),
    ("NOT DATE '2024-01-31' < g", "later that day", 2, "CAST(g AS DATE) > DATE '2024-01-31'", "NOT CAST(g AS DATE) > DATE '2024-01-31'"),
    ("a NOT LIKE '_pen'", "case or spaces", 1, "UPPER(TIDY_SPACES(a)) NOT LIKE '_PEN'", "UPPER(TIDY_SPACES(a)) NOT LIKE '_PEN' OR a IS NULL"),
    ("FITS(a AS INTEGER)", "unknown comparison", 1, "a IS NULL", "FITS(a AS INTEGER) OR a IS NULL"),
    ("a IN ('open', 'shut')", "unknown comparison", 1, "a IS NULL", "LOWER(TRIM(a)) IN ('open', 'shut') OR a IS NULL"),
    ("a <> 'open' AND c <> 'x'", "unknown comparison", 1, "a IS NULL", "(a <> 'open' OR a IS NULL) AND c <> 'x'"),
    ("a || c", "NULL operand", 1, "COALESCE(a, '')", "COALESCE(a, '') || c"),
    ("DATE '2024-01-01' - d", "NULL operand", 1, "CASE WHEN d IS NULL THEN", "CASE WHEN d IS NULL THEN -1 ELSE DATE '2024-01-01' - d END"),
    ("GREATEST(m, 2)", "NULL operand", 1, "CASE WHEN m IS NULL THEN", "GREATEST(COALESCE(m, -1), 2)"),
    ("LPAD(c, 3, '0')", "cut", 1, "LENGTH(c) > 3 THEN c", "CASE WHEN LENGTH(c) > 3 THEN c ELSE LPAD(c, 3, '0') END"),
    ("LEFT(c, 3)", "cut", 1, "LENGTH(c) > 3 THEN c", "CASE WHEN LENGTH(c) > 3 THEN c ELSE LEFT(c, 3) END"),
    ("LIST_ITEM(f, ';', 1)", "longer list", 3, "LIST_SIZE(f, ';') <= 1",
     "CASE WHEN LIST_SIZE(f, ';') <= 1 THEN LIST_ITEM(f, ';', 1) ELSE 'many' END"),
    ("LIST_ITEM(f, ';', 1) || LIST_ITEM(f, ';', -1)", "longer list", 1, "LIST_SIZE(f, ';') <= 2",
     "CASE WHEN LIST_SIZE(f, ';') <= 2 THEN LIST_ITEM(f, ';', 1) || LIST_ITEM(f, ';', -1) ELSE 'many' END"),
    ("LEFT(c, POSITION('s' IN c) - 1)", "nothing found", 4, "POSITION('s' IN c) > 0",
     "CASE WHEN POSITION('s' IN c) > 0 THEN LEFT(c, POSITION('s' IN c) - 1) ELSE c END"),
    ("CAPITALIZE_WORDS(e)", "small words", 2, "CAPITALIZE_WORDS(e, 'of", "CAPITALIZE_WORDS(e, 'van III')"),
    ("UPPER(LEFT(e, 1)) || LOWER(SUBSTRING(e FROM 2))", "first word only", 2, "CAPITALIZE_WORDS(e)",
     "CAPITALIZE_WORDS(e, 'van III')"),
    ("CASE WHEN n > 0 THEN 'some' WHEN n > 1 THEN 'more' ELSE '' END", "branch never reached", 3, "put it before",
     "CASE WHEN n > 1 THEN 'more' WHEN n > 0 THEN 'some' ELSE '' END"),
    ("CASE WHEN n = 0 THEN 0 ELSE 10 / n END", "zero for no ratio", 1, "NULLIF(n, 0)", "10 / NULLIF(n, 0)"),
    ("CASE WHEN a IS NULL THEN 'none' ELSE a END", "substitute occurs", 1, "substitute that no row has", "CASE WHEN a IS NULL THEN '?' ELSE a END"),
    ("(DATE '2024-02-29' - d) / 365", "days taken for years", 1, "FULL_YEARS(d, DATE '2024-02-29')", "FULL_YEARS(d, DATE '2024-02-29')"),
    ("CAST(n / 3.0 AS DECIMAL(9,1))", "cast that loses", 4, "ROUND(n / 3.0, 1)", "CAST(ROUND(n / 3.0, 1) AS DECIMAL(9,1))"),
    ("a NOT IN ('OPEN')", "case or spaces", 3, "NOT IN", "UPPER(TIDY_SPACES(a)) NOT IN ('OPEN') AND a IS NOT NULL"),
    ("CAST_OR_NULL(c AS INTEGER)", "cast that loses", 1, "stays a text", "c"),
    ("EXTRACT(YEAR FROM DATE '2024-03-01') - EXTRACT(YEAR FROM d)", "years subtracted", 2, "FULL_YEARS(d, DATE '2024-03-01')",
     "FULL_YEARS(d, DATE '2024-03-01')"),
    ("CASE WHEN n BETWEEN 0 AND 1 THEN 'a' WHEN n BETWEEN 1 AND 5 THEN 'b' ELSE 'c' END", "bands overlap", 1, "n > 1",
     "CASE WHEN n BETWEEN 0 AND 1 THEN 'a' WHEN n > 1 AND n <= 5 THEN 'b' ELSE 'c' END"),
    ("CASE WHEN n < 2 THEN 'a' WHEN n > 2 THEN 'b' END", "bands leave a gap", 1, "n >= 2",
     "CASE WHEN n < 2 THEN 'a' WHEN n >= 2 THEN 'b' ELSE 'c' END"),
    ("CASE WHEN 1 >= n THEN 'a' WHEN n BETWEEN 3 AND 9 THEN 'b' ELSE '' END", "bands leave a gap", 1, "n > 1",
     "CASE WHEN n <= 1 THEN 'a' WHEN n > 1 AND n <= 9 THEN 'b' ELSE '' END"),
    ("CASE WHEN n <> 0 THEN 100 / n END", "kept from an error", 1, "", ""), ("n = 0 OR 100 / n > 1", "kept from an error", 1, "", ""),
]  # fmt: skip


@pytest.mark.parametrize(
    ("expression", "caution", "rows", "hint", "followed"),
    CAUTIONS,
    ids=[f"{case[1]}: {case[0]}" for case in CAUTIONS],
)
def test_cautions_count_the_rows_that_deserve_them_and_are_silent_once_followed(
    expression: str,
    caution: str,
    rows: int,
    hint: str,
    followed: str,
    figures: Any,
    monkeypatch: Any,
) -> None:
    write(
        "t.csv",
        "a,n,m,c,d,e,f,g,h\nopen,0,0,007,2000-06-01,jan van dam,x;y,2024-01-31 00:00:00,01.01.2024\nOpen,1,1,Seaside,1999-12-01,ann,x,2024-01-31 09:30:00,15.01.2024\n"
        '"open ",2,2,Sea,2020-03-01,gull III,x;y;z,2024-02-01 08:00:00,03.12.2022\n,7,,10,,x,x,2024-01-31 23:59:59,\n'
        "none,5,5,x,2023-02-28,old rope,y;z,2024-03-01 00:00:00,28.02.2023\n",
    )
    for block in (10, 4096):
        monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", block)
        found = figures("try", "t.csv", f"made = {expression}")["cautions"]
        expected = [(rows, True)] if rows else []
        assert [
            (one["rows"], hint in one["hint"]) for one in found if one["caution"] == caution
        ] == expected, found
    left = figures("try", "t.csv", f"made = {followed}")["cautions"] if followed else []
    assert [one for one in left if one["caution"] != "kept from an error"] == []


DECIDED = [
    "n > 1 AND n IS NOT NULL", "(n > 1) IS NOT TRUE", "COALESCE(n > 1, FALSE)", "a <> 'done' OR a IS NULL", "NOT (n > 1) AND n IS NOT NULL",
    "CAST(c AS DECIMAL) < 5", "CASE WHEN n IS NULL THEN -1 WHEN n = 0 THEN 10 ELSE 10 / NULLIF(n, 0) END", "COALESCE(n + 1, -1)",
    "CASE WHEN POSITION('o' IN a) > 0 THEN LEFT(a, POSITION('o' IN a)) ELSE a END", "CAST(ROUND(n / 3.0, 1) AS DECIMAL(9,1))",
    "FULL_YEARS(d, DATE '2024-03-01')", "CASE WHEN LENGTH(a) > 3 THEN a ELSE LPAD(a, 3, '0') END", "CASE a WHEN 'open' THEN 'a' ELSE 'b' END",
]  # fmt: skip


@pytest.mark.parametrize("expression", DECIDED)
def test_what_is_decided_is_not_cautioned(expression: str, figures: Any) -> None:
    # NULL where the expression decides it, and nowhere else.
    null_in = (
        "a"
        if "a IS NULL" in expression
        else "n"
        if re.search(r"\bn\b", expression) and "ROUND" not in expression
        else ""
    )
    middle = {"a": ",1,8", "n": "shut,,8"}.get(null_in, "shut,1,8")
    write("t.csv", f"a,n,c,d\nopen,0,7,2000-06-01\n{middle},2001-06-01\nnone,2,9,2002-06-01\n")
    told = figures("try", "t.csv", f"made = {expression}")["cautions"]
    assert [one for one in told if one["caution"] != "kept from an error"] == []


def test_a_sound_expression_gets_no_caution_and_branches_are_counted(
    figures: Any, gravel: Any
) -> None:
    write("t.csv", "a,n\nopen,0\nshut,1\nshut,2\n,3\n")
    done = figures(
        "try", "t.csv", "b = CASE WHEN a IS NULL THEN 'none' WHEN a = 'open' THEN 'o' ELSE 's' END"
    )
    assert done["cautions"] == []
    assert done["branches"][0]["branches"] == [
        {"when": "a IS NULL", "rows": 1},
        {"when": "a = 'open'", "rows": 1},
    ]
    assert (done["branches"][0]["else"], done["branches"][0]["else_unknown"]) == (2, 0)
    view = figures("look", "t.csv", "--sort", "a", "--rows", "2")
    assert [(one["caution"], one["rows"]) for one in view["cautions"]] == [("ties", 2)]
    assert shown(view) == [[1, "open", 0], [2, "shut", 1]]
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { b = "CASE WHEN n > 1 THEN a END" }\n',
    )
    assert figures("clean", "p.toml")["cautions"][0]["step"] == 1
    assert "fell through" in gravel("clean", "p.toml").err


def test_what_is_to_be_known_of_an_expression_is_noted(figures: Any, gravel: Any) -> None:
    write(
        "t.csv",
        "id,hours,day,tags\n1,2,2024-05-01,a;b\n2,3,2024-05-02,\n3,2,2024-05-03,;\n4,1,2024-05-04,c\n",
    )
    bound = "2 rows: hours is exactly 2, which hours > 2 leaves out"
    assert figures("try", "t.csv", "late = hours > 2")["remarks"] == [bound]
    assert figures("check", "t.csv", "NOT hours > 2", "hours < 9", "LENGTH(tags) > 1", status=1)[
        "remarks"
    ] == [bound]
    day = "CURRENT_DATE is 2024-05-02"
    assert figures("look", "t.csv", "--where", "day < CURRENT_DATE", "--today", "2024-05-02")[
        "remarks"
    ] == [day]
    assert figures(
        "query", "SELECT id FROM 't.csv' WHERE day < CURRENT_DATE", "--today", "2024-05-02"
    )["remarks"] == [day]
    plan = 'table = "t.csv"\nwrite = "o.csv"\nkey = ["id"]\nkey_after = ["id", "no"]\n[[step]]\nkeep_rows = "day < CURRENT_DATE OR hours > 0"\n'
    write(
        "p.toml",
        plan
        + '[[step]]\nsplit = { column = "tags", on = ";", into = "rows", as = "tag", number = "no" }\n',
    )
    told = gravel("clean", "p.toml", "--today", "2024-05-02", status=1).err
    assert [
        part
        for part in ("2 rows of t.csv", "COALESCE(no, 0)", f"step 1: {day}")
        if part not in told
    ] == []
    write(
        "p.toml", Path("p.toml").read_text("utf-8") + '[[step]]\nset = { no = "COALESCE(no, 0)" }\n'
    )
    assert "before the run" not in gravel("clean", "p.toml").err
    write(
        "q.toml",
        'table = "t.csv"\nwrite = "q.csv"\n[[step]]\nunique = { by = ["EXTRACT(YEAR FROM day)"], prefer = "hours" }\n',
    )
    assert figures("clean", "q.toml")["cautions"] == []
    write(
        "q.toml",
        Path("q.toml")
        .read_text("utf-8")
        .replace('"hours"', '"hours DESC, EXTRACT(YEAR FROM day), id"'),
    )
    assert figures("clean", "q.toml")["cautions"] == []
    write(
        "q.toml", Path("q.toml").read_text("utf-8").replace("hours DESC, ", "").replace(", id", "")
    )
    assert [(one["caution"], one["rows"]) for one in figures("clean", "q.toml")["cautions"]] == [
        ("ties", 2)
    ]


def test_parameters_are_typed_by_their_literal_and_today_is_fixed(
    figures: Any, gravel: Any
) -> None:
    write("t.csv", "a,n,d\nx,1,2024-05-01\n1,2,2024-06-01\n")

    def where(text: str, *params: str) -> Any:
        named = [part for one in params for part in ("--param", one)]
        return shown(figures("look", "t.csv", "--where", text, *named))

    assert [row[0] for row in where("n > :low", "low=1")] == [2]
    assert [row[0] for row in where("a = :name", "name=x")] == [1]
    assert [row[0] for row in where("a = :name", "name='1'")] == [2]
    assert [row[0] for row in where("d < :day", "day=DATE '2024-05-31'")] == [1]
    assert where("a = :name", "name=x' OR 'a' = 'a") == []
    assert [row[0] for row in where(":none IS NULL", "none=null")] == [1, 2]
    assert [
        row[0]
        for row in shown(
            figures("look", "t.csv", "--where", "d < CURRENT_DATE", "--today", "2024-05-31")
        )
    ] == [1]
    assert "takes name=value" in gravel("look", "t.csv", "--param", "x", status=2).err
    assert "takes a date" in gravel("look", "t.csv", "--today", "soon", status=2).err
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[params]\nlow = 1\n[[step]]\nkeep_rows = "n > :low"\n',
    )
    assert figures("clean", "p.toml")["rows_out"] == 1
    assert figures("clean", "p.toml", "--param", "low=0")["rows_out"] == 2


def test_a_column_of_any_name_is_cleaned_as_suggested(gravel: Any) -> None:
    """Each word of the grammar as the name of a column: what is suggested quotes the words that the language keeps for itself."""
    names = sorted({word.lower() for word in re.findall(r"[A-Z_]{2,}", GRAMMAR.read_text("utf-8"))})
    write("t.csv", ",".join(names) + "\n" + 3 * (",".join(" x y" for _ in names) + "\n"))
    gravel("profile", "t.csv", "--suggest", "p.toml", "--choose", "all")
    gravel("clean", "p.toml")
    assert Path("t-clean.csv").read_text("utf-8").splitlines()[1:] == 3 * [
        ",".join("x y" for _ in names)
    ]


def test_functions_are_listed_and_looked_up(figures: Any, gravel: Any) -> None:
    every = figures("functions")["functions"]
    assert {one["name"] for one in every} == set(catalogue())
    one = figures("functions", "list_item")["functions"][0]
    assert one["examples"][0] == {
        "expression": "LIST_ITEM('water;power;mail', ';', 2)",
        "result": "'power'",
    }
    assert one["errors"] == [{"sqlstate": "22023", "meaning": "bad argument"}]
    lists = [name for name, entry in catalogue().items() if entry.family == "lists"]
    assert [one["name"] for one in figures("functions", "lists")["functions"]] == lists
    assert "did you mean LIST_ITEM?" in gravel("functions", "LIST_ITM", status=2).err
    assert "error 22023" in gravel("functions", "LIST_ITEM").out
    # Words of what a function does; names that other systems have.
    assert [one["name"] for one in figures("functions", "remove", "spaces")["functions"]] == [
        "TIDY_SPACES"
    ]
    assert "next: gravel functions NAME" in gravel("functions", "accents").out
    assert "write SUBSTRING(x, 2, 3)" in gravel("functions", "substr", status=2).err
    assert "lists them all" in gravel("functions", "qqq", status=2).err
