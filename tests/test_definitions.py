"""Functions, casts and types against their definitions in plain Python, over random values: whatever fast path a kernel
takes, the result is that of the rule."""

from __future__ import annotations

import calendar
import datetime
import re
import unicodedata
from collections.abc import Callable
from decimal import ROUND_DOWN, ROUND_HALF_UP, Context, Decimal, localcontext
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from gravel.language.types import DATE, INTEGER, TEXT, TIMESTAMP, Type, decimal

WHITE = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u2028\u2029\u202f\u205f\u3000"
ZERO = "\u200b\u2060\ufeff"
SIGNS = st.sampled_from("aAbBzZ09 -'’.,;_\t\u00a0\u200béÉßæØıŁώ日אǆ😀\u0301")
TEXTS = (
    st.none() | st.text(SIGNS, max_size=9) | st.text(st.sampled_from("abAB 09-'.;\t"), max_size=12)
)


def evaluated(
    expression: str, kinds: dict[str, Type], columns: dict[str, list[Any]], parts: int = 1
) -> list[Any]:
    """Python values of an expression for each row, an error as its SQLSTATE in a tuple; evaluated in one part or several."""
    from gravel.engine.evaluate import run
    from gravel.engine.frame import Frame
    from gravel.language.bind import bind_text
    from gravel.language.errors import sqlstate
    from gravel.language.scope import Scope

    stored = [pa.array(values, kinds[name].arrow) for name, values in columns.items()]
    bound = bind_text(expression, Scope(tuple(columns), tuple(kinds[name] for name in columns)))
    count, found = len(stored[0]), []
    step = -(-count // parts) or 1
    for at in range(0, count, step):
        pieces = [column.slice(at, step) for column in stored]
        made = run(bound, Frame(len(pieces[0]), pieces, [kinds[name] for name in columns]))
        codes = made.errors if made.errors is not None else [0] * len(pieces[0])
        found += [
            (sqlstate(int(code)),) if code else one
            for one, code in zip(made.values.to_pylist(), codes, strict=True)
        ]
    return found


def _is_blank(text: str) -> bool:
    return not text.strip(WHITE + ZERO)


def _tidy(text: str) -> str:
    return re.sub(f"[{WHITE}]+", " ", re.sub(f"[{ZERO}]", "", text)).strip(" ")


def _capitalized(text: str) -> str:
    """Letter by letter: the first of a word is raised unless a digit stands before it, and that after an apostrophe which
    follows a single letter; all others are lowered."""
    out = ""
    for word in re.split(f"([{WHITE}-])", text):
        made, seen = "", False
        for char in word.lower():
            letter = char.isalpha()
            if letter and not seen and not made[-1:].isdigit():
                made += char.title() if len(char.title()) == 1 else char.upper()
            else:
                made += char
            seen |= letter
        made = re.sub(
            r"(?<![^\W\d_])([^\W\d_])(['’])([^\W\d_])", lambda m: m[1] + m[2] + m[3].upper(), made
        )
        out += made
    return out


def _digits(text: str) -> str:
    return "".join(char for char in text if char.isdecimal())


def _shape(text: str) -> str:
    made = ""
    for at, char in enumerate(text):
        mark = unicodedata.category(char).startswith("M")
        base = next(
            (one for one in reversed(text[:at]) if not unicodedata.category(one).startswith("M")),
            "",
        )
        if mark and base.isalpha():
            continue
        made += (
            ("A" if char.isupper() or char.istitle() else "a")
            if char.isalpha()
            else "9"
            if char.isdecimal()
            else char
        )
    return made


RULES: dict[str, Callable[[str], Any]] = {
    "TIDY_SPACES(x)": _tidy,
    "IS_BLANK(x)": _is_blank,
    "UPPER(x)": str.upper,
    "LOWER(x)": str.lower,
    "LENGTH(x)": len,
    "OCTET_LENGTH(x)": lambda text: len(text.encode()),
    "REVERSE(x)": lambda text: text[::-1],
    "TRIM(x)": lambda text: text.strip(" "),
    "LEFT(x, 3)": lambda text: text[:3],
    "RIGHT(x, -2)": lambda text: text[2:],
    "SUBSTRING(x FROM 2 FOR 3)": lambda text: text[1:4],
    "POSITION('b' IN x)": lambda text: text.find("b") + 1,
    "POSITION_OF('a', x, 2)": lambda text: next(
        (m.start() + 1 for at, m in enumerate(re.finditer("a", text)) if at == 1), 0
    ),
    "REPLACE(x, 'a', 'xy')": lambda text: text.replace("a", "xy"),
    "REPEAT(x, 3)": lambda text: text * 3,
    "LPAD(x, 6, '*')": lambda text: text[:6].rjust(6, "*"),
    "RPAD(x, 6)": lambda text: text[:6].ljust(6),
    "OVERLAY(x PLACING 'QQ' FROM 2 FOR 1)": lambda text: text[:1] + "QQ" + text[2:],
    "ONLY_DIGITS(x)": _digits,
    "SHAPE(x)": _shape,
    "WORD_COUNT(x)": lambda text: len(re.findall(f"[^{WHITE}]+", re.sub(f"[{ZERO}]", "", text))),
    "MASK(x, 1, 2, '*')": lambda text: (
        "*" * len(text) if len(text) <= 3 else text[0] + "*" * (len(text) - 3) + text[-2:]
    ),
    "LIST_SIZE(x, ';')": lambda text: len(text.split(";")) if text else 0,
    "LIST_ITEM(x, ';', 2)": lambda text: text.split(";")[1] if text.count(";") else None,
    "LIST_ITEM(x, ';', -1)": lambda text: text.split(";")[-1] if text else None,
    "LIST_ITEMS(x, ';')": lambda text: text.split(";") if text else [],
    "x LIKE '%a_b%'": lambda text: bool(re.search("a.b", text, re.DOTALL)),
    "x LIKE 'a%'": lambda text: text.startswith("a"),
    "x LIKE_REGEX '[0-9]+[a-b]'": lambda text: bool(re.search("[0-9]+[a-b]", text)),
    "OCCURRENCES_REGEX('[ab]+' IN x)": lambda text: len(re.findall("[ab]+", text)),
    "SUBSTRING_REGEX('[ab]+' IN x)": lambda text: m[0] if (m := re.search("[ab]+", text)) else None,
    "SUBSTRING_REGEX('([ab])([0-9])' IN x GROUP 2)": lambda text: (
        m[2] if (m := re.search("([ab])([0-9])", text)) else None
    ),
    "POSITION_REGEX('[0-9]' IN x)": lambda text: (
        m.start() + 1 if (m := re.search("[0-9]", text)) else 0
    ),
    "TRANSLATE_REGEX('[ab]' IN x WITH '<$0>')": lambda text: re.sub("[ab]", r"<\g<0>>", text),
    "TRANSLATE_REGEX('(a)(b)' IN x WITH '$2$1')": lambda text: re.sub("(a)(b)", r"\2\1", text),
    "NORMALIZE(x, NFD)": lambda text: unicodedata.normalize("NFD", text),
}


@pytest.mark.parametrize("expression", RULES)
@settings(max_examples=60)
@given(values=st.lists(TEXTS, min_size=1, max_size=12), parts=st.integers(1, 3))
def test_functions_of_text(expression: str, values: list[Any], parts: int) -> None:
    of_null = True if expression.startswith("IS_BLANK") else None
    expected = [of_null if value is None else RULES[expression](value) for value in values]
    assert evaluated(expression, {"x": TEXT}, {"x": values}, parts) == expected


@settings(max_examples=200)
@given(
    values=st.lists(
        st.none() | st.text(st.sampled_from("abAB19 -'.,(é\u00a0"), max_size=10),
        min_size=1,
        max_size=10,
    )
)
@example(values=["l'eSPADON", "o''neil", "x1b2c", "-a", "'a", "a'b", "1a"])
def test_capitals_are_the_rules(values: list[Any]) -> None:
    expected = [None if value is None else _capitalized(value) for value in values]
    assert evaluated("CAPITALIZE_WORDS(x)", {"x": TEXT}, {"x": values}) == expected


@settings(max_examples=200)
@given(values=st.lists(TEXTS, min_size=1, max_size=8))
def test_match_keys_fold_what_people_write_in_many_ways(values: list[Any]) -> None:
    keys = evaluated("MATCH_KEY(x)", {"x": TEXT}, {"x": values})
    for text, key in zip(values, keys, strict=True):
        if text is None:
            assert key is None
            continue
        # Spaces and the way accents are composed do not matter, and a key is its own key.
        others = [f"  {text} ", unicodedata.normalize("NFD", text), text.replace(" ", "  ")]
        assert set(evaluated("MATCH_KEY(x)", {"x": TEXT}, {"x": others})) == {key}
        assert key is None or evaluated("MATCH_KEY(x)", {"x": TEXT}, {"x": [key]}) == [key]
        assert key is None or key == " ".join(key.split(" "))


DECIMALS = st.none() | st.decimals(Decimal("-999999.9999"), Decimal("999999.9999"), places=4)
INTEGERS = st.none() | st.integers(-(2**63), 2**63 - 1) | st.integers(-12, 12)


def _exactly(work: Callable[..., Any], *values: Any) -> Any:
    if None in values:
        return None
    with localcontext() as context:
        context.prec = 100
        return work(*map(Decimal, values))


def _whole(number: Any) -> Any:
    return number if number is None or -(2**63) <= number < 2**63 else ("22003",)


@settings(max_examples=150)
@given(rows=st.lists(st.tuples(INTEGERS, INTEGERS), min_size=1, max_size=10))
def test_integers_are_exact_or_out_of_range(rows: list[Any]) -> None:
    kinds, columns = (
        {"a": INTEGER, "b": INTEGER},
        {"a": [a for a, _ in rows], "b": [b for _, b in rows]},
    )
    for sign, work in (("+", int.__add__), ("-", int.__sub__), ("*", int.__mul__)):
        expected = [None if None in row else _whole(work(*row)) for row in rows]
        assert evaluated(f"a {sign} b", kinds, columns) == expected
    expected = [
        None
        if None in row
        else ("22012",)
        if row[1] == 0
        else abs(row[0]) % abs(row[1]) * (1 if row[0] >= 0 else -1)
        for row in rows
    ]
    assert evaluated("a % b", kinds, columns) == expected
    assert evaluated("ABS(a)", kinds, columns) == [
        None if a is None else _whole(abs(a)) for a, _ in rows
    ]


@settings(max_examples=150)
@given(
    rows=st.lists(st.tuples(DECIMALS, DECIMALS), min_size=1, max_size=8), places=st.integers(-3, 6)
)
def test_decimals_are_exact_and_round_half_away(rows: list[Any], places: int) -> None:
    kinds = {"a": decimal(10, 4), "b": decimal(10, 4)}
    columns = {"a": [a for a, _ in rows], "b": [b for _, b in rows]}
    assert evaluated("a + b", kinds, columns) == [
        _exactly(lambda a, b: a + b, *row) for row in rows
    ]
    assert evaluated("a * b", kinds, columns) == [
        _exactly(lambda a, b: a * b, *row) for row in rows
    ]

    def quotient(a: Decimal, b: Decimal) -> Any:
        return (a / b).quantize(Decimal("1e-16"), ROUND_HALF_UP) if b else ("22012",)

    assert evaluated("a / b", kinds, columns) == [_exactly(quotient, *row) for row in rows]
    unit = Decimal(1).scaleb(-places)
    for name, mode in (("ROUND", ROUND_HALF_UP), ("TRUNC", ROUND_DOWN)):
        made = evaluated(f"{name}(a, {places})", kinds, columns)
        assert made == [_exactly(lambda a, mode=mode: a.quantize(unit, mode), a) for a, _ in rows]
    texts = evaluated("GROUP_DIGITS(a, 2)", kinds, columns)
    rounded = [_exactly(lambda a: a.quantize(Decimal("0.01"), ROUND_HALF_UP), a) for a, _ in rows]
    assert texts == [
        None if one is None else format(one if one else abs(one), ",.2f") for one in rounded
    ]


DAYS = (
    st.none()
    | st.dates(datetime.date(1, 1, 1), datetime.date(9999, 12, 31))
    | st.dates(datetime.date(2019, 12, 1), datetime.date(2024, 3, 31))
)


def _months_later(day: datetime.date, months: int) -> Any:
    at = day.year * 12 + day.month - 1 + months
    year, month = divmod(at, 12)
    if not 1 <= year <= 9999:
        return ("22008",)
    return datetime.date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


def _full_months(start: datetime.date, end: datetime.date) -> int:
    """The greatest n with start + n months <= end, looked for one by one near the guess."""
    guess = (end.year - start.year) * 12 + end.month - start.month
    for n in (guess + 1, guess, guess - 1):
        reached = _months_later(start, n)
        if isinstance(reached, datetime.date) and reached <= end:
            return n
    return guess - 1


@settings(max_examples=150)
@given(
    rows=st.lists(st.tuples(DAYS, DAYS), min_size=1, max_size=8),
    months=st.integers(-30, 30),
    days=st.integers(-800, 800),
)
def test_dates_follow_the_calendar(rows: list[Any], months: int, days: int) -> None:
    kinds, columns = {"a": DATE, "b": DATE}, {"a": [a for a, _ in rows], "b": [b for _, b in rows]}
    later = evaluated(f"a + INTERVAL '{months}' MONTH", kinds, columns)
    assert later == [None if a is None else _months_later(a, months) for a, _ in rows]

    def shifted(day: datetime.date) -> Any:
        try:
            return day + datetime.timedelta(days)
        except OverflowError:
            return ("22008",)

    assert evaluated(f"a + ({days})", kinds, columns) == [
        None if a is None else shifted(a) for a, _ in rows
    ]
    known = lambda work: [None if None in row else work(*row) for row in rows]  # noqa: E731
    assert evaluated("a - b", kinds, columns) == known(lambda a, b: (a - b).days)
    assert evaluated("FULL_MONTHS(a, b)", kinds, columns) == known(_full_months)
    assert evaluated("FULL_YEARS(a, b)", kinds, columns) == known(
        lambda a, b: _full_months(a, b) // 12
    )
    assert evaluated("EXTRACT(WEEK FROM a)", kinds, columns) == [
        None if a is None else a.isocalendar()[1] for a, _ in rows
    ]
    assert evaluated("EXTRACT(ISODOW FROM a)", kinds, columns) == [
        None if a is None else a.isoweekday() for a, _ in rows
    ]


@settings(max_examples=150)
@given(
    days=st.lists(DAYS, min_size=1, max_size=6),
    form=st.sampled_from(["DD.MM.YYYY", "MM/DD/YYYY", "YYYYMMDD", "FMDD-FMMM-YYYY", "YYYY;DD;MM"]),
)
def test_a_date_written_in_a_form_is_read_from_it(days: list[Any], form: str) -> None:
    texts = evaluated(f"CAST(a AS TEXT FORMAT '{form}')", {"a": DATE}, {"a": days})
    assert evaluated(f"CAST(x AS DATE FORMAT '{form}')", {"x": TEXT}, {"x": texts}) == days
    assert evaluated(f"FITS(x AS DATE FORMAT '{form}')", {"x": TEXT}, {"x": texts}) == [
        None if day is None else True for day in days
    ]


@settings(max_examples=100)
@given(
    moments=st.lists(
        st.none() | st.datetimes(datetime.datetime(1, 1, 1), datetime.datetime(9999, 12, 31)),
        min_size=1,
        max_size=6,
    )
)
def test_a_timestamp_is_its_text_and_its_text_the_timestamp(moments: list[Any]) -> None:
    texts = evaluated("CAST(a AS TEXT)", {"a": TIMESTAMP}, {"a": moments})
    assert evaluated("CAST(x AS TIMESTAMP)", {"x": TEXT}, {"x": texts}) == moments
    form = "YYYY-MM-DD HH12:MI:SS.FF6 AM"
    written = evaluated(f"CAST(a AS TEXT FORMAT '{form}')", {"a": TIMESTAMP}, {"a": moments})
    assert (
        evaluated(f"CAST(x AS TIMESTAMP FORMAT '{form}')", {"x": TEXT}, {"x": written}) == moments
    )


PLAIN = {
    "INTEGER": re.compile(r"0|-?[1-9][0-9]*"),
    "DECIMAL": re.compile(r"0|0?\.0+|-?(?:[1-9][0-9]*(?:\.[0-9]+)?|0?\.[0-9]*[1-9][0-9]*)"),
    "BOOLEAN": re.compile("true|false|TRUE|FALSE|True|False"),
}
LITERALS = st.sampled_from(
    ["0", "7", "-7", "007", "+7", "1.5", "-0.50", ".5", "0.0", "-0", "1.", "1e3", " 7", "true", "false", "True", "TRUE", "tRUE", "", "x", "2024-02-29", "2023-02-29",
     "9223372036854775807", "9223372036854775808", "1,000", "12345678901234567890.12"]
)  # fmt: skip


@settings(max_examples=300)
@given(values=st.lists(st.none() | LITERALS, min_size=1, max_size=6), cut=st.integers(0, 6))
def test_a_columns_type_is_that_of_which_every_value_is_a_plain_literal(
    values: list[Any], cut: int
) -> None:
    from gravel.sources.type_inference import fitting

    def day(text: str) -> bool:
        try:
            return len(text) == 10 and bool(datetime.date.fromisoformat(text))
        except ValueError:
            return False

    known = [value for value in values if value is not None]
    expected = "TEXT"
    if known and all(
        PLAIN["INTEGER"].fullmatch(one) and -(2**63) <= int(one) < 2**63 for one in known
    ):
        expected = "INTEGER"
    elif known and all(PLAIN["BOOLEAN"].fullmatch(one) for one in known):
        expected = "BOOLEAN"
    elif known and all(day(one) for one in known):
        expected = "DATE"
    elif known and all(
        PLAIN["DECIMAL"].fullmatch(one) or PLAIN["INTEGER"].fullmatch(one) for one in known
    ):
        expected = "DECIMAL"
    parts = [pa.array(part, pa.string()) for part in (values[:cut], values[cut:])]
    merged = fitting(parts[0]).merge(fitting(parts[1]))
    assert (
        merged.type.kind.value == fitting(pa.array(values, pa.string())).type.kind.value == expected
    )


DIGITS = st.integers(1, 38).flatmap(
    lambda precision: st.tuples(st.just(precision), st.integers(0, min(precision, 9)))
)


@settings(max_examples=250)
@given(left=DIGITS, right=DIGITS, data=st.data())
def test_quotients_of_any_precision_round_half_away(left: Any, right: Any, data: Any) -> None:
    """The scale is max(s1, s2, 16), less only where the digits before the point need the room."""

    def number(form: Any) -> Decimal:
        precision, scale = form
        size = data.draw(st.integers(1, precision))
        digits = data.draw(st.integers(-(10**size) + 1, 10**size - 1))
        return Decimal(digits).scaleb(-scale, Context(prec=40))  # not rounded to 28 digits

    rows = [(number(left), number(right)) for _ in range(4)]
    made = evaluated(
        "a / b",
        {"a": decimal(*left), "b": decimal(*right)},
        {"a": [a for a, _ in rows], "b": [b for _, b in rows]},
    )
    for (a, b), quotient in zip(rows, made, strict=True):
        if b == 0:
            assert quotient == ("22012",)
            continue
        with localcontext() as context:
            context.prec = 200
            exact = a / b
            room = min(max(left[1], right[1], 16), 38 - max(exact.adjusted() + 1, 0))
            assert quotient == (
                ("22003",) if room < 0 else exact.quantize(Decimal(1).scaleb(-room), ROUND_HALF_UP)
            ), (a, b)
