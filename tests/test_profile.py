"""The profile: each statistic against plain Python or NumPy on the same rows, however they are cut; each finding's rows
against the rows that its own command shows; the plan that it suggests, run."""

from __future__ import annotations

import json
import math
import random
import re
import shlex
import sqlite3
import unicodedata
from collections import Counter
from datetime import date, datetime, timedelta
from decimal import Decimal
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import openpyxl
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write
from gravel.engine.arrow_values import text_of
from gravel.engine.distinct import counted_hashes
from gravel.engine.hashing import hashes
from gravel.profiling.marks import BIT, marked
from gravel.profiling.profile import profile
from gravel.profiling.typed_numbers import NumberTexts, marked_numbers
from gravel.sources.csv.reader import CsvSource
from gravel.sources.opening import open_table
from gravel.sources.read_options import ReadOptions
from gravel.sources.type_inference import Fitting, fitting

WHITE = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2000\u2009\u2028\u202f\u205f\u3000\u200b\u2060\ufeff"
ODD = WHITE.replace(" ", "")
TEXTS = st.none() | st.sampled_from([
    "", " ", "\t\u200b", " a", "a ", "a  b", "a\xa0b", "\tx", "x\x01", "\x7f", "Open", "OPEN", "open", "oPEN", "Open ", "ö", "Ö", "É tude", "A-53",
    "a-53", "A 53", "n/a", "N/A", "-", "--", "?", "Unknown", "none", "7", "007", "+7", " 42 ", "12.50", "1e3", "-0.5", "1e999", "NaN", "true",
    "FALSE", "2024-05-01", "2024-13-01", "01.05.2024", "1.5.2024", "03/04/2024", "13/04/2024", "04/13/2024", "2024-05-01 10:00:00", "20240501",
    "Ã©t", "Â°", "a\ufffd", "=SUM(A1)", "+a", "-5", "-5-3", "@x", "water;power", "water; power;", ";;", "power;power", "water", "1,5", "x/y", "ﬁ",
    "ß", "٣", "😀", "naïve cafe\u0301", "9223372036854775808", "a|b|a",
]) | st.text(st.sampled_from("aB 1.\u200b-ö;"), max_size=5)  # fmt: skip


def _csv(columns: dict[str, list[str | None]]) -> str:
    def field(value: str | None) -> str:
        return "" if value is None else '"' + value.replace('"', '""') + '"'

    rows = zip(*columns.values(), strict=True)
    return "\n".join([",".join(columns), *(",".join(map(field, row)) for row in rows)]) + "\n"


def _shape(text: str) -> str:
    plain = unicodedata.normalize("NFC", text)
    return "".join(
        "A" if c.isupper() else "a" if c.isalpha() else "9" if c.isdecimal() else c for c in plain
    )


def _key(text: str) -> str | None:
    plain = unicodedata.normalize("NFKD", unicodedata.normalize("NFKC", text).casefold())
    return (
        " ".join(
            "".join(
                c if c.isalnum() else "" if unicodedata.combining(c) else " " for c in plain
            ).split()
        )
        or None
    )


def _day(text: str, form: str) -> date | None:
    size = {
        "%d.%m.%Y": 10,
        "%d/%m/%Y": 10,
        "%m/%d/%Y": 10,
        "%Y-%m-%d": 10,
        "%Y-%m-%d %H:%M:%S": 19,
    }[form]
    try:
        return (
            datetime.strptime(text.strip(" "), form).date()
            if len(text.strip(" ")) == size
            else None
        )
    except ValueError:
        return None


def _fits(text: str) -> set[str]:
    value = text.strip(" ")
    found = set()
    if re.fullmatch(r"[+-]?[0-9]+", value) and -(2**63) <= int(value) < 2**63:
        found.add("INTEGER")
    if re.fullmatch(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)", value):
        found |= {"DECIMAL", "DOUBLE PRECISION"}
    if re.fullmatch(
        r"(?i)[+-]?(([0-9]+\.?[0-9]*|\.[0-9]+)e[+-]?[0-9]+|nan|inf(inity)?)", value
    ) and (not math.isinf(float(value)) or "i" in value.lower()):
        found.add("DOUBLE PRECISION")
    if value.lower() in ("true", "false"):
        found.add("BOOLEAN")
    forms = {"DATE": "%Y-%m-%d", "TIMESTAMP": "%Y-%m-%d %H:%M:%S", "DATE FORMAT 'DD.MM.YYYY'": "%d.%m.%Y",
             "DATE FORMAT 'DD/MM/YYYY'": "%d/%m/%Y", "DATE FORMAT 'MM/DD/YYYY'": "%m/%d/%Y"}  # fmt: skip
    return found | {name for name, form in forms.items() if _day(value, form)}


def _case(text: str) -> str:
    upper = any(unicodedata.category(c) in ("Lu", "Lt") for c in text)
    lower = any(unicodedata.category(c) == "Ll" for c in text)
    if not (upper and lower):
        return "upper" if upper else "lower" if lower else "none"
    # Words as CAPITALIZE_WORDS has them: the first letter after the start, white space or a hyphen, unless after a digit.
    words = re.findall(
        rf"[^{re.escape(WHITE.translate({0x200B: None, 0x2060: None, 0xFEFF: None}))}\-]+", text
    )
    for word in words:
        letters = [at for at, c in enumerate(word) if c.isalpha()]
        for at in letters:
            first = at == letters[0] and not (at and word[at - 1].isdigit())
            if word[at] != (word[at].title() if first else word[at].lower()):
                return "mixed"
    return "capitalised"


def _expected(values: list[str | None]) -> dict[str, Any]:
    """A text column's statistics by their definitions."""
    known = [value for value in values if value is not None]
    filled = [value for value in known if value.strip(WHITE)]
    rows: Counter[str] = Counter(known)
    shapes = Counter(map(_shape, known))
    keys: dict[str, set[str]] = {}
    for value in known:
        if (key := _key(value)) is not None:
            keys.setdefault(key, set()).add(value)
    words = {"n/a", "-", "--", "---", "?", "unknown", "none", "nan", ".", "..", "..."}
    return {
        "length": {
            "shortest": min(known, key=lambda value: (len(value), value), default=None),
            "longest": min(known, key=lambda value: (-len(value), value), default=None),
        },
        "spaces": {
            "leading": sum(value[0] == " " for value in filled), "trailing": sum(value[-1] == " " for value in filled),
            "runs": sum(bool(re.search("[^ ] {2,}[^ ]", value)) for value in known), "odd": sum(any(c in ODD for c in value) for value in known),
            "control": sum(any(unicodedata.category(c) == "Cc" and c not in "\t\n\x0b\x0c\r\x85" for c in value) for value in known),
        },
        "case": dict(Counter(map(_case, known))),
        "fits": Counter(name for value in known for name in _fits(value)),
        "shapes": dict(shapes),
        "spellings": sorted(sorted((value, rows[value]) for value in group) for group in keys.values() if len(group) > 1),
        "placeholders": {value: count for value, count in rows.items() if re.sub("[\u200b\u2060\ufeff]", "", value).strip(WHITE).lower() in words},
        "damage": {
            "misdecoded": sum(bool(re.search("[ÃÂ][\x80-\xbf]", value)) for value in known), "replacement": sum("\ufffd" in value for value in known),
            "formula": sum(bool(re.match(r"=.|@[A-Za-z]|[+-]([A-Za-z]|[0-9.]+([-+*/^][0-9.]+)+$)", value, re.S)) for value in known),
        },
    }  # fmt: skip


WHOLE = st.integers(-(10**22), 10**22).map(str)
DECIMALS = st.from_regex(r"(0|-?[1-9][0-9]{0,30})(\.[0-9]{1,12})?", fullmatch=True)
DAYS = st.dates().map(str)


@given(
    st.one_of(
        *(
            st.lists(each, min_size=1, max_size=6)
            for each in (WHOLE, st.one_of(WHOLE, DECIMALS), DAYS)
        )
    )
)
def test_a_batch_of_plain_numbers_or_days_is_marked_as_they_are_among_others(
    values: list[str],
) -> None:
    """What a value fits depends on it alone, whatever stands beside it in a batch."""
    array = pa.array(values)
    alone = [
        marked(array, how, hashes(array))
        for how in (fitting(array), Fitting(frozenset(), seen=True))
    ]
    for name in ("bits", "first", "shape", "shape_second", "characters", "number"):
        plain, others = (getattr(each, name) for each in alone)
        assert np.array_equal(plain, others, equal_nan=name == "number"), name


NUMBERS = {
    pa.int64(): st.integers(-(2**63), 2**63 - 1) | st.integers(-1000, 1000),
    pa.uint64(): st.integers(0, 2**64 - 1) | st.integers(2**53, 2**53 + 9),
    pa.float64(): st.floats() | st.integers(-(10**7), 10**7).map(lambda each: each / 100) | st.floats(-1e9, 1e9).map(lambda each: round(each, 5)),
    pa.decimal128(15, 4): st.decimals(-99_999_999_999, 99_999_999_999, places=4) | st.decimals(-9, 9, places=4),
}  # fmt: skip


@given(
    st.sampled_from(list(NUMBERS)).flatmap(
        lambda kind: st.lists(NUMBERS[kind], min_size=1, max_size=8).map(
            lambda values: pa.array(values, kind)
        )
    )
)
def test_numbers_that_a_store_has_are_told_of_as_their_texts_would_be(array: Any) -> None:
    if pa.types.is_floating(array.type):
        array = pc.add(array, 0.0)
    texts, plain = text_of(array), hashes(array)
    written = NumberTexts.of(array)
    mine = marked_numbers(written, plain)
    theirs = marked(texts, Fitting(frozenset(), seen=True), plain)
    assert np.array_equal(mine.characters, theirs.characters)
    assert np.array_equal(mine.number, theirs.number, equal_nan=True)
    rows = np.arange(3, 3 + len(array))
    for counts in (None, rows):
        shapes = counted_hashes(theirs.shape, theirs.shape_second, rows, counts)
        for one, other in zip(mine.shapes(rows, counts).arrays, shapes.arrays, strict=True):
            assert np.array_equal(one, other)
    told = BIT["number"] | BIT["DECIMAL"] | BIT["DOUBLE PRECISION"]
    assert ((mine.bits ^ theirs.bits) & told == 0).all()
    for end in (min, max):
        length = end(map(len, texts.to_pylist()))
        least = min(text for text in texts.to_pylist() if len(text) == length)
        assert written.end(mine.characters, length) == (length, least)


@settings(max_examples=80)
@given(data=st.data())
def test_text_statistics_equal_their_definitions(data: Any, tmp_path_factory: Any) -> None:
    from gravel.sources.csv import reader, splitter

    count = data.draw(st.integers(0, 40))
    some = data.draw(
        st.lists(TEXTS, min_size=1, max_size=12)
    )  # few values again and again, so that counts grow
    columns = {
        name: data.draw(
            st.lists(
                st.sampled_from(some) if name == "a" else TEXTS, min_size=count, max_size=count
            )
        )
        for name in "ab"
    }
    path = tmp_path_factory.mktemp("profile") / "t.csv"
    write(path, _csv(columns))
    before, splitter.BLOCK = splitter.BLOCK, data.draw(st.sampled_from([17, 64, 4096]))
    try:
        # Little memory: what is distinct goes to a file and comes back by ranges of hashes.
        found = profile(
            reader.CsvSource(path, reading=ReadOptions(texts=tuple("ab"), header=1)),
            memory=data.draw(st.sampled_from([1, 400, 1 << 28])),
            today=date(2024, 4, 20),
        )
    finally:
        splitter.BLOCK = before
    rows = list(zip(*columns.values(), strict=True))
    assert found.facts.repeated_rows == len(rows) - len(set(rows))
    for one in found.columns:
        values, told = columns[one.name], one.to_dict()
        known = [value for value in values if value is not None]
        expected = _expected(values)
        for figure in ("shortest", "longest"):
            assert told["length"][figure] == expected["length"][figure]
        for figure in ("spaces", "damage"):
            assert told[figure] == expected[figure]
        assert {name: n for name, n in told["case"].items() if n} == expected["case"]
        assert {
            fit["type"]: fit["rows"]
            for fit in told["fits"]
            if fit["rows"] and fit["type"] in expected["fits"]
        } == dict(expected["fits"])
        for fit in told["fits"]:
            mismatches = Counter(value for value in known if fit["type"] not in _fits(value))
            if fit["type"] in ("INTEGER", "DECIMAL", "DOUBLE PRECISION", "BOOLEAN", "DATE"):
                ranked = sorted(
                    mismatches.items(), key=lambda item: (-item[1], values.index(item[0]))
                )[:5]
                assert [(item["value"], item["rows"]) for item in fit["mismatches"]] == ranked, fit[
                    "type"
                ]
        assert {item["shape"]: item["rows"] for item in told["shapes"]} == expected["shapes"]
        assert all(
            item["example"] == next(v for v in known if _shape(v) == item["shape"])
            for item in told["shapes"]
        )
        assert (
            sorted(
                sorted((v["value"], v["rows"]) for v in group["values"])
                for group in told["variants"]
            )
            == expected["spellings"]
        )
        # What is no value anywhere is told unless in a key; of other words it depends on the column.
        words = {item["value"]: item["rows"] for item in told["placeholders"]}
        sure = {word for word in expected["placeholders"] if not re.search("(?i)none|nan", word)}
        key = len(set(known)) == len(known) > 1
        assert words.items() <= expected["placeholders"].items()
        assert words.keys() >= {word for word in sure if not (key and re.search("[a-zA-Z]", word))}
        numbers = [
            float(v) for v in known if "DOUBLE PRECISION" in _fits(v) and math.isfinite(float(v))
        ]
        _same_numbers(told["numbers"], numbers)
        days = [
            d
            for v in known
            for form in ("%Y-%m-%d", "%d.%m.%Y", "%Y-%m-%d %H:%M:%S")
            if (d := _day(v, form))
        ]
        days += [_fm(v) for v in known if re.fullmatch(r" *1\.5\.2024 *", v)]
        days += _slashed(known)
        assert (told["dates"] or {"fit": 0})["fit"] == len(days)
        if days:
            assert (told["dates"]["min"], told["dates"]["max"]) == (str(min(days)), str(max(days)))
            assert told["dates"]["future"] == sum(day > date(2024, 4, 20) for day in days)


def _fm(text: str) -> date:
    day, month, year = map(int, text.strip().split("."))
    return date(year, month, day)


def _slashed(known: list[str]) -> list[date]:
    """Days with slashes count where the column shows whether the day or the month comes first."""
    day_first, month_first = (
        [_day(value, form) for value in known] for form in ("%d/%m/%Y", "%m/%d/%Y")
    )
    only_day = any(a and not b for a, b in zip(day_first, month_first, strict=True))
    only_month = any(b and not a for a, b in zip(day_first, month_first, strict=True))
    if only_day == only_month:
        return [(a or b) for a, b in zip(day_first, month_first, strict=True) if bool(a) != bool(b)]  # type: ignore[misc]
    return [day for day in (day_first if only_day else month_first) if day]


def _same_numbers(told: Any, numbers: list[float]) -> None:
    assert (told or {"fit": 0})["fit"] == len(numbers)
    if not numbers:
        return
    array = np.array(numbers)
    q1, median, q3 = np.percentile(array, [25, 50, 75])
    expected = {
        "mean": array.mean(),
        "q1": q1,
        "median": median,
        "q3": q3,
        "zero": (array == 0).sum(),
        "negative": (array < 0).sum(),
    }
    assert {name: told[name] for name in expected} == pytest.approx(
        {name: float(value) for name, value in expected.items()}, rel=1e-12, abs=1e-12
    )
    assert told["stddev"] == (
        pytest.approx(array.std(ddof=1), rel=1e-9, abs=1e-12) if len(array) > 1 else None
    )
    reach = told["q3"] - told["q1"]
    assert (
        told["outside"]
        == ((array < told["q1"] - 1.5 * reach) | (array > told["q3"] + 1.5 * reach)).sum()
    )
    assert told["far_out"] == _far_out(numbers, told["q1"], told["median"], told["q3"])
    bars = told["histogram"]
    edges = [bars[0]["from"], *(bar["to"] for bar in bars)]
    if len(bars) > 1:
        assert [bar["rows"] for bar in bars] == np.histogram(array, edges)[0].tolist()
    assert sum(bar["rows"] for bar in bars) == len(numbers)
    if len(bars) > 1 and (array == np.round(array)).all() and np.abs(array).max() < 2**53:
        widths = {len(range(math.ceil(a), math.ceil(b))) for a, b in pairwise(edges)}
        assert len(widths) == 1  # as many whole numbers in each
        assert array.max() < edges[-1]
    assert edges[0] <= array.min()
    assert array.max() <= edges[-1]


def _far_out(numbers: list[float], q1: float, median: float, q3: float) -> int:
    """Far out as docs/profile.md has it, value by value."""
    if q1 == q3:
        return 0
    heavy = sum(
        value < q1 - 1.5 * (q3 - q1) or value > q3 + 1.5 * (q3 - q1) for value in numbers
    ) > 0.05 * len(numbers)
    right, most, rows = (
        q3 - median > median - q1 > 0 and q1 > 0,
        max(3, int(0.005 * len(numbers))),
        0,
    )
    skewness = (q1 + q3 - 2 * median) / (q3 - q1)
    for sign in (-1, 1):
        logs = right
        if right and sign < 0 and skewness <= 0.1:
            a, b, c = map(math.log, (q1, median, q3))
            logs = abs(a + c - 2 * b) / (c - a) <= skewness
        a, b, c = (math.log(value) if logs else value for value in (q1, median, q3))
        side = sorted(
            math.log(value) if logs else value for value in numbers if value > 0 or not logs
        )[::sign]
        fence = 3 * math.exp(3 * max(0.0, sign * (0.0 if logs else skewness))) * (c - a)
        share = 0.18 if logs else 0.44 if heavy else 0.22
        outer = len(numbers) - len(side) if sign < 0 else 0
        for at in range(1, len(side)):
            beyond = side[at] - c if sign > 0 else a - side[at]
            gap = abs(side[at] - side[at - 1])
            if (
                beyond > fence
                and gap >= max(0.75 * (c - a), share * abs(side[at] - b))
                and len(side) - at + outer <= most
            ):
                rows += len(side) - at + outer
                break
    return rows


@settings(max_examples=60)
@given(
    values=st.lists(
        st.none() | st.floats(-1e6, 1e6).map(lambda x: round(x, 2)) | st.integers(-50, 50),
        min_size=1,
        max_size=200,
    ),
    data=st.data(),
)
def test_numbers_equal_numpys(
    values: list[float | int | None], data: Any, tmp_path_factory: Any
) -> None:
    from gravel.sources.csv import reader

    texts = [
        None if value is None else str(value) if isinstance(value, int) else f"{value:.2f}"
        for value in values
    ]
    path = tmp_path_factory.mktemp("numbers") / "t.csv"
    write(path, "x,y\n" + "".join(f"{text or ''},1\n" for text in texts))
    memory = data.draw(st.sampled_from([1, 3000, 2**28]))
    found = profile(reader.CsvSource(path, reading=ReadOptions(header=1)), memory=memory)
    _same_numbers(
        found.columns[0].to_dict()["numbers"], [float(text) for text in texts if text is not None]
    )


KINDS = {
    "text": TEXTS,
    "code": st.sampled_from(["A-01", "A-02", "B-01", "b-01", "B-01 ", "n/a", "", "CC-1"]),
    "list": st.none() | st.sampled_from(["water", "power;mail", "water;power;water", "mail; power", ";mail", "mail;\t;power ", " mail", "crane;"]),
    "day": st.none() | st.sampled_from(["2024-01-01", "2024-05-01", "2199-01-01", "2024-01-02", "1900-01-01"]),
    "slash": st.sampled_from(["03/04/2024", "3/4/2024", "13/04/2024", "04/13/2024", "2024-05-01", "20.10.2024", "1.5.2024"]),
    "amount": st.none() | st.sampled_from(["1", "2", "3.5", "4", "5", "6", "7", "8", "9", "10", "11", "12", "900", "-900", "-1"]),
    "loose": st.sampled_from([*map(str, range(1, 13)), "9e9", "-9e9", "NaN", "Infinity", "-Infinity", "ca. 4", "4,5"]),
    "mail": st.sampled_from(["a@b.example", "c.d@e.example", "x@y", "n/a"]),
    "pier": st.sampled_from(["North", "South"]),
}  # fmt: skip


@settings(max_examples=120)
@given(data=st.data())
def test_the_rows_of_a_finding_are_those_its_command_shows(
    data: Any, tmp_path_factory: Any
) -> None:
    from gravel.inspecting.look import look
    from gravel.language.scope import Given
    from gravel.sources.csv import reader

    count = data.draw(st.integers(1, 40))
    names = data.draw(st.lists(st.sampled_from(sorted(KINDS)), min_size=1, max_size=4, unique=True))
    columns = {
        name: data.draw(st.lists(KINDS[name], min_size=count, max_size=count)) for name in names
    }
    columns["id"] = [
        None
        if n in data.draw(st.sets(st.integers(0, 40), max_size=2))
        else str(n // 2 if n < 2 else n)
        for n in range(count)
    ]
    path = tmp_path_factory.mktemp("findings") / "t.csv"
    write(path, _csv(columns))
    today = date(2024, 4, 20)
    for finding in profile(
        reader.CsvSource(path, reading=ReadOptions(header=1)), today=today
    ).findings:
        assert finding.rows > 0
        if finding.where:
            view = look(
                reader.CsvSource(path, reading=ReadOptions(header=1)),
                where=finding.where,
                rows=0,
                given=Given(today=today),
            )
            assert (view.matching, view.errors) == (finding.rows, 0), finding


def _good(at: int) -> dict[str, str]:
    return {
        "boat": f"Gull {chr(97 + at % 26)}{chr(97 + at // 26)}", "code": f"HB-{at:03d}", "berth": f"berth {chr(97 + at % 7)}",
        "pier": "ab"[at % 7 % 2], "state": ["OPEN", "SHUT"][at % 2],
        "day": f"2023-{at % 12 + 1:02d}-{at % 27 + 2:02d}", "length": str(5 + at % 30), "mail": f"m{at}@harbour.example",
        "extras": ["water", "water;power", "crane;mail;water"][at % 3], "remark": ["tidy", "painted"][at % 2],
        "depth": str(100 + at % 30), "postcode": f"{20000 + at * 37}",
    }  # fmt: skip


DEFECTS = {
    "blank": ("boat", "  "), "spaces": ("boat", "Gull x "), "inner spaces": ("boat", "Gull  x"), "control characters": ("remark", "tidy\x07"),
    "placeholders": ("remark", "N/A"), "variants": ("state", "Shut"), "misspelt": ("remark", "panted"), "zeros": ("depth", "0"),
    "type mismatches": ("length", "ca. 5"),
    "case": ("code", "hb-907"), "lost zeros": ("postcode", "1234"), "rare patterns": ("code", "HB-1"),
    "mojibake": ("remark", "SchÃ¤den"),
    "replacement characters": ("remark", "Sch\ufffdden"), "formulas": ("remark", "=1+1"), "empty list items": ("extras", "water;;power"),
    "padded list items": ("extras", "water; power"), "format mismatches": ("mail", "m@harbour"), "outliers": ("length", "9000"), "negative": ("length", "-1"),
    "future": ("day", "2150-03-05"), "1 January": ("day", "2023-01-01"), "nearly a key": ("code", "HB-199"), "functional dependency": ("pier", "c"),
    "ambiguous dates": ("day", "03/04/2023"),
}  # fmt: skip
ROWS = {
    "1 January": (40, 45),
    "functional dependency": (1,),
    "nearly a key": (1, 2),
    "misspelt": (1, 2),
}
ALL_TOO = (
    "blank",
    "spaces",
    "inner spaces",
    "control characters",
    "placeholders",
    "mojibake",
    "formulas",
)


@pytest.mark.parametrize("kind", DEFECTS)
def test_a_defect_is_found_in_just_the_rows_that_have_it(kind: str, figures: Any) -> None:
    """A table of 200 good rows in which none, one, some or all rows have one defect."""
    column, bad = DEFECTS[kind]
    for k in (0, *ROWS.get(kind, (1, 3)), *([200] if kind in ALL_TOO else [])):
        rows = [_good(at) for at in range(200)]
        places = (
            [at for at in range(200) if at % 7 == 3 or kind != "functional dependency"][:k]
            if kind != "nearly a key"
            else range(k)
        )
        for at in places:
            rows[at][column] = bad
        columns: dict[str, list[str | None]] = {
            name: [row[name] for row in rows] for name in rows[0]
        }
        write("t.csv", _csv(columns))
        told = figures("profile", "t.csv", "--today", "2024-06-01")
        # One day again and again is a sentinel value, be it a 1 January.
        kinds = (kind, "sentinel values")
        found = [
            one for one in told["findings"] if one["finding"] in kinds and one["column"] == column
        ]
        expected = len(places) + (1 if kind == "nearly a key" and k else 0)
        assert sum(one["rows"] for one in found) == expected, (k, found)
        for one in found:
            assert one["share"] == expected / 200
            view = figures(*shlex.split(one["see"])[1:], "--today", "2024-06-01", "--rows", "0")
            assert (view["matching"], view["errors"]) == (expected, 0)
            if one["fix"]:
                tried = figures("try", "t.csv", one["fix"])["assignments"][0]
                assert (tried["changed"], tried["errors"]) == (
                    expected if kind != "type mismatches" else tried["changed"],
                    0,
                )


def test_days_and_numbers_written_in_several_ways_are_told_with_each_way(figures: Any) -> None:
    days = ["2024-12-1{}", "1{}.12.2024", "12/2{}/24", "1{} Feb 2024"]
    fees = ["12{}.50", "1,2{}0.50", "1.2{}0,50", "12.{} EUR", "n/a"]
    codes = ["9{}.27.27", "83-2{}-64"]
    phones = ["0555 1234{}", "(0555) 1234-{}0", "+9955512{}4", "0", "05551234{}"]
    write("t.csv", "day,fee,code,phone\n" + "".join(
        f'{days[n % 4].format(n % 8)},"{fees[n % 5].format(n % 9)}",{codes[n % 2].format(n % 9)},{phones[n % 5].format(n % 10)}\n' for n in range(400)))  # fmt: skip
    told = figures("profile", "t.csv", "--today", "2025-06-01")
    found = {one["column"]: one for one in told["findings"] if one["finding"] == "mixed formats"}
    assert {name: one["rows"] for name, one in found.items()} == {
        "day": 300,
        "fee": 240,
        "phone": 320,
    }
    assert "4 ways: 80 as '0555 12340', 80 as '(0555) 1234-10'" in found["phone"]["detail"]
    assert "4 ways: 100 as '2024-12-10'" in found["day"]["detail"]
    assert "4 ways: 80 as '120.50', 80 as '1,210.50'" in found["fee"]["detail"]
    for one in found.values():
        assert figures(*shlex.split(one["see"])[1:], "--rows", "0")["matching"] == one["rows"]
    assert figures("try", "t.csv", found["day"]["fix"])["assignments"][0]["changed"] == 300


CLOCKS = [
    ("M/D/Y I:mm:ss p", "FMMM/FMDD/YYYY FMHH12:MI:SS AM"),
    ("M/D/Y H:mm", "FMMM/FMDD/YYYY FMHH24:MI"),
    ("DD/MM/Y HH:mm", "DD/MM/YYYY HH24:MI"),
    ("D.M.Y H:mm:ss", "FMDD.FMMM.YYYY FMHH24:MI:SS"),
    ("Y-MM-DDTHH:mm", 'YYYY-MM-DD"T"HH24:MI'),
    ("DD b Y HH:mm", "FMDD MON YYYY HH24:MI"),
    ("Y-M-D", "YYYY-FMMM-FMDD"),
    ("Y/MM/DD HH:mm:ss", "YYYY/MM/DD HH24:MI:SS"),
]


def test_times_are_told_by_how_they_are_written(figures: Any, folder: Path) -> None:
    def written(moment: datetime, form: str) -> str:
        parts = {
            "DD": f"{moment:%d}", "D": str(moment.day), "MM": f"{moment:%m}", "M": str(moment.month),
            "Y": f"{moment:%Y}", "HH": f"{moment:%H}", "H": str(moment.hour), "p": f"{moment:%p}",
            "I": str(moment.hour % 12 or 12), "mm": f"{moment:%M}", "ss": f"{moment:%S}", "b": f"{moment:%b}",
        }  # fmt: skip
        return re.sub("DD?|MM?|Y|HH?|I|mm|ss|p|b", lambda part: parts[part[0]], form)

    chance = random.Random(5)
    moments = [datetime(2020, 1, 1) + timedelta(seconds=chance.randrange(150_000_000)) for _ in range(600)]  # fmt: skip
    forms = [*(form for form, _ in CLOCKS), "Y-MM-DD HH:mm:ss"]
    rows = [
        [written(moment, form) for form in forms] + [written(moment, forms[at % 3 * 3])]
        for at, moment in enumerate(moments)
    ]
    write(
        "t.csv", "".join(f"{','.join(row)}\n" for row in [[*map(str, range(len(rows[0])))], *rows])
    )
    told = figures("profile", "t.csv", "--today", "2026-01-01")
    by_column = {one["column"]: one for one in told["findings"]}
    for at, (_, template) in enumerate(CLOCKS):
        fits = {fit["type"]: fit["rows"] for fit in told["columns"][at]["fits"]}
        kind = "TIMESTAMP" if "MI" in template else "DATE"
        assert fits[f"{kind} FORMAT '{template}'"] == 600
        for name, rows_that_fit in fits.items():
            if rows_that_fit:  # what it says of each type is what an expression says
                column = f'FITS("{at}" AS {name})'
                assert figures("look", "t.csv", "--where", column, "--rows", "0")["matching"] == rows_that_fit  # fmt: skip
        assert by_column[str(at)]["finding"] == "another format"
        fix = by_column[str(at)]["fix"].split(" = ", 1)[1]
        read = figures("query", f"SELECT {fix} FROM 't.csv' OFFSET 0 ROWS", "--rows", "all")["rows"]
        exact = "%Y-%m-%d %H:%M:%S" if "SS" in template else "%Y-%m-%d %H:%M:00" if "MI" in template else "%Y-%m-%d"  # fmt: skip
        assert [row[0] for row in read] == [f"{moment:{exact}}" for moment in moments]
    mixed = by_column[str(len(forms))]
    assert (mixed["finding"], mixed["rows"]) == ("mixed formats", 400)
    assert "timestamps written in 3 ways" in mixed["detail"]
    tried = figures("try", "t.csv", mixed["fix"])["assignments"][0]
    assert (tried["changed"], tried["errors"]) == (400, 0)
    # Whose order nothing tells.
    write(
        "u.csv",
        "t\n" + "".join(f"{at % 12 + 1}/{at % 11 + 1}/2024 {at % 24}:00\n" for at in range(200)),
    )
    (found,) = figures("profile", "u.csv")["findings"]
    assert (found["finding"], found["rows"]) == ("ambiguous dates", 200)
    assert figures(*shlex.split(found["see"])[1:], "--rows", "0")["matching"] == 200


def test_empty_rows_are_told_once(
    figures: Any, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 60)
    boats = [f"B{at},Tern {at},{at}.5" for at in range(30)]
    write("t.csv", "\n".join(["code,name,fee", *boats[:9], ",,", *boats[9:], ",,", ",,", ""]))
    told = figures("profile", "t.csv")
    (found,) = (item for item in told["findings"] if item["level"] != "note")
    assert (told["empty_rows"], told["repeated_rows"]) == (3, 2)
    assert (found["finding"], found["rows"]) == ("empty rows", 3)
    assert figures(*shlex.split(found["see"])[1:])["matching"] == 3
    assert "duplicate rows" not in gravel("profile", "t.csv", "--findings", "all").out


def test_rows_that_are_none_of_the_data_are_told_once_and_dropped_by_a_plan(
    figures: Any, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Header lines, units and totals, beside rows that only look like them."""
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 200)
    boats = [f"{at},{at * 7 % 40}.5,2026-05-{at % 28 + 1:02},P{at % 3}" for at in range(1, 61)]
    total = f",{sum(at * 7 % 40 + 0.5 for at in range(1, 61))},,Total:"
    head = "id,fee,seen,pier"
    lines = [
        head,
        "no.,EUR,day,code",
        *boats[:30],
        head,
        *boats[30:50],
        head,
        *boats[50:],
        total,
        ",,,",
    ]
    write("t.csv", "\n".join(lines) + "\n")
    told = {item["detail"]: item for item in figures("profile", "t.csv")["findings"]}
    assert [(item["finding"], item["rows"], item["drop_rows"] is not None, item["safe"]) for item in told.values()] == [
        ("header lines", 2, True, True), ("header lines", 1, True, False),
        ("total rows", 1, True, False), ("empty rows", 1, True, True), ("duplicate rows", 1, False, False)]  # fmt: skip
    assert "'no.', 'EUR', 'day' fit no other row's values" in list(told)[1]
    assert "its fee is the sum of all other rows" in list(told)[2]
    for item in list(told.values())[:-1]:
        assert figures(*shlex.split(item["see"])[1:])["matching"] == item["rows"]
    refused = gravel("try", "t.csv", "--finding", 1, status=2).err
    assert "hint: gravel profile t.csv --suggest plan.toml --choose 1 begins one" in refused
    gravel("profile", "t.csv", "--suggest", "safe.toml")
    gravel("profile", "t.csv", "--suggest", "all.toml", "--choose", "all")
    gravel("clean", "safe.toml")
    left = figures("profile", "t-clean.csv")["findings"]
    assert [(item["finding"], item["rows"]) for item in left] == [
        ("header lines", 1),
        ("total rows", 1),
    ]
    gravel("clean", "all.toml", "--replace")
    told = figures("profile", "t-clean.csv")
    assert (told["rows"], told["findings"]) == (60, [])
    # Of a workbook the columns are numbers and days again; a text below its table is a footer.
    book = openpyxl.Workbook()
    for line in (*lines[:2], *boats, total, ",,,", "Printed in the harbour office,,,"):
        cells = (cell or None for cell in line.split(","))
        book.active.append(
            [float(cell) if cell and re.fullmatch(r"[0-9.]+", cell) else cell for cell in cells]
        )
    book.save("t.xlsx")
    told = figures("profile", "t.xlsx")["findings"]
    assert [(item["finding"], item["level"], item["rows"]) for item in told] == [
        ("header lines", "wrong", 1), ("total rows", "wrong", 1), ("empty rows", "wrong", 1), ("footer lines", "suspect", 1)]  # fmt: skip
    assert figures(*shlex.split(told[3]["see"])[1:])["matching"] == 1
    gravel("profile", "t.xlsx", "--suggest", "book.toml", "--choose", "all")
    gravel("clean", "book.toml")
    told = figures("profile", "t-clean.xlsx")
    assert (told["rows"], told["findings"]) == (60, [])
    assert [column["type"] for column in told["columns"]] == ["INTEGER", "DECIMAL", "DATE", "TEXT"]
    # A category, an odd first row, and three rows of which one is the sum: nothing, or a note.
    sexes = [
        f"{year},{sex},{year % 7 + 1}" for year in range(1990, 2010) for sex in ("f", "m", "Total")
    ]
    write("t.csv", "\n".join(["year,sex,boats", *sexes]) + "\n")
    (found,) = figures("profile", "t.csv")["findings"]
    assert (found["finding"], found["level"], found["rows"]) == ("total rows", "note", 20)
    assert found["drop_rows"] is None  # a value like others, perhaps
    write(
        "t.csv",
        "\n".join(["id,fee,tax", "1,abc,xyz", *(f"{at},{at}.5,{at}.1" for at in range(2, 40))]),
    )
    assert {item["finding"] for item in figures("profile", "t.csv")["findings"]} == {
        "type mismatches"
    }
    parts = [f"{pier},B{at},{at}.5" for pier in "AB" for at in range(5)]
    write(
        "t.csv",
        "\n".join(
            [
                "pier,boat,fee",
                *parts[:5],
                "A,Subtotal,12.5",
                *parts[5:],
                "B,Subtotal,12.5",
                ",Total,25.0",
            ]
        )
        + "\n",
    )
    (found,) = figures("profile", "t.csv")["findings"]
    assert (found["finding"], found["level"], found["rows"]) == ("total rows", "wrong", 3)
    assert "in one of them fee is the sum of all other rows" in found["detail"]
    write("t.csv", "item,fee\nrope,3.5\nbuoy,4.5\nTotal,8.0\n")
    assert not figures("profile", "t.csv")["findings"]


def test_rules_between_columns_tell_the_rows_that_break_them(
    figures: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Days in order, their distance, sums and rounded products: counted in all rows, suggested by the first."""
    dice, rows = random.Random(4), []
    for at in range(1, 401):
        begin, nights, rate = (
            date(2026, 1, 1) + timedelta(dice.randint(0, 99)),
            dice.randint(1, 20),
            Decimal(dice.randint(900, 4000)) / 100,
        )
        net = (
            (nights * rate * Decimal("1.005")).quantize(Decimal("0.01"))
            if at in (380, 390)
            else nights * rate
        )
        spring, summer, autumn = (dice.randint(0, 50) for _ in "abc")
        year = spring + summer + autumn + (at == 399)
        rows.append(
            [
                at,
                begin,
                begin + timedelta(nights * (-1 if at == 7 else 1)),
                nights,
                rate,
                net,
                Decimal(3),
                net + 3 + (at == 250),
                spring,
                summer,
                autumn,
                year,
                dice.randint(0, 9),
            ]
        )
    rows[20][2] = rows[30][7] = None
    names = [
        "id",
        "begin",
        "end",
        "nights",
        "rate",
        "net",
        "tax",
        "gross",
        "spring",
        "summer",
        "autumn",
        "year",
        "crew",
    ]
    write(
        "t.csv",
        "\n".join(
            [
                ",".join(names),
                *(",".join("" if cell is None else str(cell) for cell in row) for row in rows),
            ]
        )
        + "\n",
    )
    pq.write_table(
        pa.Table.from_pylist([dict(zip(names, row, strict=True)) for row in rows]), "t.parquet"
    )
    doubles = [[float(cell) if isinstance(cell, Decimal) else cell for cell in row] for row in rows]
    pq.write_table(
        pa.Table.from_pylist([dict(zip(names, row, strict=True)) for row in doubles]),
        "doubles.parquet",
    )
    expected = {
        ("order", "begin", "end"): 1, ("span", "begin", "end", "nights"): 1, ("sum", "net", "tax", "gross"): 1,
        ("sum", "spring", "summer", "autumn", "year"): 1, ("product", "nights", "rate", "net"): 2,
    }  # fmt: skip
    for block in (1 << 22, 300):
        monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", block)
        for name in ("t.csv", "t.parquet", "doubles.parquet"):
            told = figures("profile", name)
            rules = {
                (rule["kind"], *rule["columns"]): (rule["holds"], rule["fails"])
                for rule in told["rules"]
            }
            unknown = {"end": 1, "gross": 1}
            assert rules == {
                rule: (400 - fails - sum(unknown.get(name, 0) for name in rule), fails)
                for rule, fails in expected.items()
            }
            broken = [
                item
                for item in told["findings"]
                if item["finding"] in ("arithmetic", "order of days")
            ]
            assert sorted(item["rows"] for item in broken) == [1, 1, 1, 1, 2]
            for item in broken:
                assert figures(*shlex.split(item["see"])[1:])["matching"] == item["rows"], item
    # A total may stand before its parts, of which further ones are zero; calculated numbers come
    # close to it.
    lines = [f"{a + b + c},{at % 7},{a},{b},{c},0,{a + b / 3 + c / 7:.16f},{b / 3:.16f},{c / 7:.16f}" for at in range(99)
             for a, b, c in [[dice.randint(1, 50) for _ in "abc"]]]  # fmt: skip
    write("t.csv", "\n".join(["all,n,a,b,c,none,sum,third,seventh", *lines]) + "\n")
    assert [(rule["columns"], rule["holds"]) for rule in figures("profile", "t.csv")["rules"]] == [
        (["a", "b", "c", "all"], 99)
    ]
    # What many rows break is no rule, be it all after the first ones, and neither is what constants or zeros make so.
    lines = [f"{at},{dice.randint(1, 99)},0,{dice.randint(1, 99)},1" for at in range(100)]
    write("t.csv", "\n".join(["n,a,zero,b,one", *lines]) + "\n")
    assert figures("profile", "t.csv")["rules"] == []
    lines = [f"{at % 9},{at % 7},{at % 9 + at % 7 + (at > 2500)}" for at in range(3000)]
    write("t.csv", "\n".join(["a,b,c", *lines]) + "\n")
    assert figures("profile", "t.csv")["rules"] == []


def test_a_few_numbers_below_zero_are_told_but_among_measures_of_both_signs(figures: Any) -> None:
    for signs, level in ((1, "suspect"), (-1, "note")):
        rows = [[f"{(at % 9 + 1) * (signs if at % 2 else 1)}.5" for _ in "abc"] + [f"{9 if at else -9}.5"] for at in range(60)]  # fmt: skip
        write("t.csv", "\n".join(["a,b,c,d", *(",".join(row) for row in rows)]) + "\n")
        told = [one for one in figures("profile", "t.csv")["findings"] if one["column"] == "d"]
        assert ("negative", level) in {(one["finding"], one["level"]) for one in told}


def test_spellings_keys_and_nulls_that_go_together(figures: Any, gravel: Any) -> None:
    rows = [f"{at},{name},{'' if at % 5 else 'x'},{'' if at % 5 else 'y'},{at // 8},{at % 8}" for at, name in enumerate(
        ["Old Rope"] * 20 + ["OLD ROPE"] * 3 + ["old-rope", "Óld  Rope"] + ["Tern"] * 10 + ["tern "] * 2 + ["Lark"] * 3)]  # fmt: skip
    write("t.csv", "id,name,a,b,tens,ones\n" + "\n".join(rows) + "\n")
    told = figures("profile", "t.csv")
    assert told["keys"] == [["id"], ["tens", "ones"]]
    assert told["null_together"] == [["a", "b"]]
    assert told["repeated_rows"] == 0
    (accents,) = [one for one in told["findings"] if one["finding"] == "accents"]
    assert (accents["level"], accents["rows"], "Óld" in accents["detail"]) == ("note", 1, True)
    assert figures(*shlex.split(accents["see"])[1:])["matching"] == 1
    (found,) = [one for one in told["findings"] if one["finding"] == "variants"]
    assert found["rows"] == 6
    assert figures(*shlex.split(found["see"])[1:])["matching"] == 6
    assert figures("try", "t.csv", found["fix"])["assignments"][0]["changed"] == 6
    # The plan with all mendings: each step stands on its own evidence, and the proofs hold.
    gravel("profile", "t.csv", "--suggest", "p.toml", "--choose", "all")
    assert "6 of 40 rows" in Path("p.toml").read_text("utf-8")
    run = figures("clean", "p.toml")
    assert all(proof["holds"] for proof in run["proofs"])
    names = Counter(
        line.split(",")[1] for line in Path("t-clean.csv").read_text("utf-8").splitlines()[1:]
    )
    assert names == {"Old Rope": 24, "Óld Rope": 1, "Tern": 12, "Lark": 3}
    assert "exists already" in gravel("profile", "t.csv", "--suggest", "p.toml", status=2).err
    # A key that is one by its spaces alone: told, and not asked of what the plan writes.
    numbers = [f"HB {number}" for number in range(40)]
    write("k.csv", "reg_no\n" + "\n".join([*numbers, "HB 5 ", "HB 9 "]) + "\n")
    (found,) = figures("profile", "k.csv")["findings"]
    assert found["detail"].endswith("2 values are there without them too, such as 'HB 5'")
    gravel("profile", "k.csv", "--suggest", "k.toml")
    assert figures("clean", "k.toml")["rows_out"] == 42
    # A plan of the same table writes over no result of another; where one is made to, its run says so before.
    gravel("profile", "t.csv", "--suggest", "other.toml", "--choose", "all")
    text = Path("other.toml").read_text("utf-8")
    assert 'write = "t-clean-2.csv"' in text
    assert 'note = "name: 6 of 40 rows' in text
    write("other.toml", text.replace("t-clean-2", "t-clean"))
    assert (
        "replaces t-clean.csv, which another plan wrote: p.toml"
        in gravel("clean", "other.toml").err
    )
    assert "another plan" not in gravel("clean", "other.toml").err
    # A column that gets NULLs is not a key any more, and a sentinel value has its place among the steps.
    write("n.csv", "code,no,wind\n" + "".join(f"{'n/a' if at == 9 else 700 + at},{at},{at}.5\n" for at in range(40))
          + "740,40,-999.0\n741,41,-999.0\n742,42,-999.0\n")  # fmt: skip
    gravel("profile", "n.csv", "--suggest", "n.toml", "--choose", "all")
    assert 'key = ["no"]' in Path("n.toml").read_text()
    told = figures("clean", "n.toml")["proofs"]
    assert all(proof["holds"] for proof in told)
    names = [line.split(",") for line in Path("n-clean.csv").read_text().splitlines()]
    assert (names[10], names[-1]) == (["", "9", "9.5"], ["742", "42", ""])
    write("j.jsonl", '{"a": " x"}\n')
    gravel("profile", "j.jsonl", "--suggest", "j.toml")
    assert 'write = "j-clean.jsonl"' in Path("j.toml").read_text("utf-8")
    assert (
        "not a number of a finding"
        in gravel("profile", "t.csv", "--suggest", "q.toml", "--choose", "1,99", status=2).err
    )


def test_the_page_escapes_what_it_shows_and_needs_nothing_from_outside(gravel: Any) -> None:
    from html.parser import HTMLParser

    evil = "<script>alert('x')</script>"
    write(
        "t.csv",
        f'id,"<b>name</b>",day\n1,"{evil}",2024-01-05\n2,"{evil}",2024-03-01\n3," a&b ",2199-01-01\n',
    )
    gravel("profile", "t.csv", "--report", "r.html", "--today", "2024-06-01")
    page = Path("r.html").read_text("utf-8")
    seen: dict[str, list[dict[str, str | None]]] = {}
    words: list[str] = []

    class Reader(HTMLParser):
        def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
            seen.setdefault(tag, []).append(dict(attrs))

        def handle_data(self, data: str) -> None:
            words.append(data)

    Reader().feed(page)
    assert len(seen["script"]) == 1, "the filter's own"
    assert evil in "".join(words), "shown as it is"
    assert {"img", "link", "iframe"}.isdisjoint(seen)
    assert not [
        one
        for tags in seen.values()
        for one in tags
        if (one.get("src") or one.get("href") or "#")[0] != "#"
    ]
    assert "http" not in page.replace("http-equiv", "")
    assert [one["data-name"] for one in seen["article"]] == ["id", "<b>name</b>", "day"]
    assert all(one.get("aria-label") for one in seen["svg"])
    assert seen["html"][0]["lang"] == "en"
    assert seen["label"][0]["for"] == seen["input"][0]["id"]
    assert "cannot be written" in gravel("profile", "t.csv", "--report", "no/r.html", status=3).err


def test_one_column_in_depth_and_a_sample_that_says_so(gravel: Any, figures: Any) -> None:
    rows = [
        f"{at},{'Open' if at % 3 else 'OPEN'},{at % 17}.50,2024-0{at % 9 + 1}-1{at % 9}"
        for at in range(3000)
    ]
    write("t.csv", "id,state,fee,day\n" + "\n".join(rows) + "\n")
    shown = gravel("profile", "t.csv", "--column", "STATE").out
    for part in (
        "state: TEXT",
        "Open",
        "2,000",
        "66.7%",
        "one value in several spellings",
        "gravel look t.csv --where",
        "capitals only",
    ):
        assert part in shown
    shown = gravel("profile", "t.csv", "--column", "fee").out
    assert "median 8.5" in shown
    assert "days (3,000 values)" in gravel("profile", "t.csv", "--column", "day").out
    told = figures("profile", "t.csv", "--column", "fee")
    assert [one["name"] for one in told["columns"]] == ["fee"]
    assert len(told["columns"][0]["top"]) == 17
    assert "did you mean state?" in gravel("profile", "t.csv", "--column", "stat", status=2).err
    told = figures("profile", "t.csv", "--sample", "500")
    assert (told["rows"], told["sample"]) == (500, {"rows": 500, "of": 3000})
    assert told == figures("profile", "t.csv", "--sample", "500"), "a sample repeats exactly"
    open_rows = next(item["rows"] for item in told["columns"][1]["top"] if item["value"] == "Open")
    assert 280 < open_rows < 390
    assert (
        "a sample of 500 of 3,000 rows: every figure is the sample's"
        in gravel("profile", "t.csv", "--sample", "500").out
    )
    assert figures("profile", "t.csv", "--sample", "9999")["sample"] == {"rows": 3000, "of": 3000}
    assert (
        "not from a sample"
        in gravel("profile", "t.csv", "--sample", "5", "--suggest", "p.toml", status=2).err
    )
    assert "--memory takes a size" in gravel("profile", "t.csv", "--memory", "lots", status=2).err
    # With little memory all goes through a file, and nothing is different.
    assert figures("profile", "t.csv", "--memory", "1MB") == figures("profile", "t.csv")


FORMS = {
    "E-MAIL": (["a@b.example", "a.b+c@d-e.example", "o'x@y.example"],
               ["a@b", "@b.example", "a@b..example", "a b@c.example", "a@-b.example", "a@b.example."]),
    "URL": (["https://harbour.example/a?b=c#d", "ftp://x:21/"], ["harbour.example", "http//x", "http:// x.example", "://x"]),
    "UUID": (["123e4567-e89b-12d3-a456-426614174000"], ["123e4567e89b12d3a456426614174000", "123e4567-e89b-12d3-a456-42661417400g"]),
    "IPV4": (["10.0.0.1", "255.255.255.255"], ["256.0.0.1", "10.0.0", "010.0.0.1"]),
    "IPV6": (["::1", "2001:db8::8:800:200c:417a"], ["2001:db8:::1", "12345::", "::1%eth0"]),
    "COUNTRY": (["DE", "NO"], ["de", "XX", "UK", ""]),
    "CURRENCY": (["EUR", "NOK"], ["eur", "EUA"]),
    "IBAN": (["GB82 WEST 1234 5698 7654 32", "DE89370400440532013000"], ["GB82WEST12345698765433", "de89370400440532013000"]),
    "ISBN": (["0-306-40615-2", "9780306406157", "080442957X"], ["0-306-40615-3", "9770306406157", "080442957x"]),
    "GTIN": (["4006381333931", "73513537", "036000291452"], ["4006381333932", "7351353", "400638133393x"]),
    "LUHN": (["4539 1488 0343 6467", "4111111111111111"], ["4111111111111112", "18", "4539a148803436467"]),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_well_known_forms(form: str, figures: Any) -> None:
    """Examples of the standards themselves, and near misses; the profile and the function agree."""
    right, wrong = FORMS[form]
    write(
        "t.csv",
        "id,x\n" + "".join(f'{at},"{value}"\n' for at, value in enumerate([*right * 6, *wrong])),
    )
    view = figures(
        "look",
        "t.csv",
        "--show",
        f"HAS_FORM(x, '{form.lower()}') AS has",
        "--rows",
        "all",
        "--text",
        "x",
    )
    assert [row["values"]["has"] for row in view["shown"]] == [True] * len(right) * 6 + [
        False
    ] * len(wrong)
    told = figures("profile", "t.csv", "--text", "x")["columns"][1]["formats"]
    if form not in ("COUNTRY", "GTIN", "LUHN"):  # so few might be of that form by chance
        assert (form, 6 * len(right), len(wrong)) in [
            (one["format"], one["rows"], one["fail"]) for one in told
        ]


def test_a_wide_table_and_one_of_nulls(
    figures: Any, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(
        "w.csv",
        ",".join(f"c{at}" for at in range(600)) + "\n" + (",".join(["x"] * 599) + ",\n") * 3,
    )
    told = figures("profile", "w.csv")
    assert [len(told["columns"]), told["repeated_rows"], told["columns"][599]["nulls"]] == [
        600,
        2,
        3,
    ]
    assert [one["column"] for one in told["findings"] if one["finding"] == "always null"] == [
        "c599"
    ]
    # However many columns need their values told apart by type, the file is read as often.
    passes = []
    pieces = CsvSource.pieces
    monkeypatch.setattr(
        CsvSource, "pieces", lambda *more, **how: passes.append(1) or pieces(*more, **how)
    )
    read = []
    for width in (2, 40):
        header = ",".join(f"n{at}" for at in range(width))
        lines = [",".join([number] * width) for number in ("1", "1.0", "2.50", "n/a", "n/a", "7")]
        write("n.csv", "\n".join([header, *lines, ""]))
        told = gravel("profile", "n.csv", "--null", "n/a", "--format", "json").json
        assert [column["distinct"] for column in told["columns"]] == [3] * width
        read.append(len(passes))
        passes.clear()
    assert read[0] == read[1]
    notes = gravel("count", "n.csv").err
    assert (
        "n/a stands 80 times in the first rows of 40 columns (n0, n1, n2, …): --null n/a is"
        in notes
    )
    write("e.csv", "a,b\n")
    told = figures("profile", "e.csv")
    assert (told["rows"], told["findings"], told["keys"]) == (0, [], [])
    assert told["columns"][0]["numbers"] is None


def test_dependencies_and_almost_keys_tell_their_exceptions(figures: Any) -> None:
    rows = [
        (at, f"A-{at % 20:02d}", "North" if at % 20 < 10 else "South", at % 3) for at in range(400)
    ]
    rows[7], rows[11] = (7, "A-07", "South", 1), (11, "A-11", "", 2)
    rows[300] = (299, "A-00", "North", 0)
    write("t.csv", "id,berth,pier,n\n" + "".join(f"{a},{b},{c},{d}\n" for a, b, c, d in rows))
    # Prices may be written with and without decimals, as long as each is written in one way.
    prices = ["12", "12.5", "7.25"]
    write(
        "p.csv",
        "item,price\n"
        + "".join(
            f"i{at % 30},{'99.9' if at == 77 else prices[at % 30 % 3]}\n" for at in range(600)
        ),
    )
    told = [one for one in figures("profile", "p.csv")["findings"] if one["column"] == "price"]
    assert [(one["finding"], one["rows"]) for one in told] == [("functional dependency", 1)]
    # What was calculated says nothing of other columns: numbers with exponents.
    write(
        "e.csv",
        "a,b\n"
        + "".join(f"{at % 40 + 1}.5e-12,{at % 40 // 9 + (at == 7)}.25e-9\n" for at in range(400)),
    )
    assert figures("profile", "e.csv")["functional_dependencies"] == []
    told = figures("profile", "t.csv")
    assert told["functional_dependencies"] == [{"by": "berth", "column": "pier", "rows": 1,
                                   "exceptions": [{"by": "A-07", "value": "South", "rows": 1, "usual": "North"}]}]  # fmt: skip
    assert told["almost_keys"] == [
        {"column": "id", "rows": 2, "nulls": 0, "values": [{"value": "299", "rows": 2}]}
    ]
    (found,) = [one for one in told["findings"] if one["finding"] == "functional dependency"]
    assert figures(*shlex.split(found["see"])[1:])["matching"] == 1
    assert not found["fix"]  # the rows are told; which of the two values is wrong is not


@pytest.mark.parametrize(("column", "values", "finding", "result"), [
    ("day", ["31.12.2024", "1.5.2024"], "another format", ["2024-12-31", "2024-05-01"]),
    ("day", ["31-12-2024", "01-05-2024"], "another format", ["2024-12-31", "2024-05-01"]),
    ("fee", ["1.234,50", "12,5", "3"], "another format", ["1234.50", "12.5", "3"]),
    ("fee", ["1,234.50", "12,000", "7,500"], "another format", ["1234.50", "12000", "7500"]),
    ("fee", ["1,234.50", "99", "-5", "7.5"], "another format", ["1234.50", "99", "-5", "7.5"]),
    ("fee", ["1'234.50", "12’000", "7"], "another format", ["1234.50", "12000", "7"]),
    ("fee", ["(1,234.50)", "12,000.00", "7.50"], "another format", ["-1234.50", "12000.00", "7.50"]),
    ("fee", ["1.234,50-", "12,5", "3", "7-"], "another format", ["-1234.50", "12.5", "3", "-7"]),
    ("fee", ["1 234,50", "-12 345 678,5", "3"], "another format", ["1234.50", "-12345678.5", "3"]),
    ("fee", ["$1,234.50", "($12,000.00)", "$7"], "another format", ["1234.50", "-12000.00", "7"]),
    ("fee", ["1.234,50 €", "12,5 €", "-3 €"], "another format", ["1234.50", "12.5", "-3"]),
    ("weight", ["12 kg", "7.5kg", "3 kg"], "another format", ["12", "7.5", "3"]), ("weight", ["12 kg", "7 lb"], "mixed formats", None),
    ("share", ["12%", "0.5", "7.5%"] * 3, "mixed formats", None), ("fee", ["12", "$5", "$7.50"], "another format", ["12", "5", "7.50"]),
    ("depth", ["1.5", "NaN", "2.25", "NA"] + [f"{at}.5" for at in range(9)], "placeholders", None),
    ("fee", ["7.5", "2,25", "3.75", "9,5", "4"] * 3, "mixed formats", ["7.5", "2.25", "3.75", "9.5", "4"]),
    ("wind", [f"{at}.5" for at in range(40)] + ["-999.0"] * 3, "sentinel values", None), ("wind", [f"{at}.5" for at in range(70)] + ["99.0"] * 3, None, None),
    ("course", [str(at * 9) for at in range(41)] * 2 + ["999"] * 3, "sentinel values", None), ("course", [str(1 + at % 360) for at in range(600)], None, None),
    ("phone", [f"0{at * 7919 % 99991:05}" for at in range(40)] + ["000000"] * 12, "sentinel values", None),
    ("paid", ["Yes", "no", "1", "0", "no", "Yes"], "mixed formats", ["true", "false", "true", "false", "false", "true"]),
    ("paid", ["Yes", "no"] * 5, None, None), ("grade", ["T", "F", "N"] * 9, None, None),
    ("licence", ["R-0001", "R-0002", "r-0003"] + [f"R-1{at:03}" for at in range(99)], "case", None),
    ("house", ["12 A", "7 B", "3 C"] * 9, None, None), ("berth", ["A 12", "B 7", "M 3"] * 9, None, None),
    ("course", ["170", "171a", "180b"] * 9, None, None), ("licence", ["S124529", "S903793", "903793"] * 9, None, None),
    ("title", [f"Song {chr(97 + at % 26)}{at}" for at in range(39)] + ["2055-09-30"], None, None),
    ("loss", ["(1,234.50)", "(12.00)"], "another format", ["-1234.50", "-12.00"]),
    ("parts", ["(100,200,300)", "(400,500,600)", "(700,800,900)"], None, None),
    ("stage", ["rope_y"] * 60 + ["rope_n"], None, None), ("stage", ["anchor_on"] * 60 + ["ancor_on"], "misspelt", None),
    ("tide", [f"2005-01-0{1 + at % 4}" for at in range(12)], None, None),
    ("room", ["5-", "12-", "7"] * 9, None, None), ("tax number", ["123 456 789", "22 333 444"] * 9, None, None),
    ("town", ["TÃ¤rna", "Ärö"], "mojibake", ["Tärna", "Ärö"]),
    ("town", ["Torsh\u00ef\u00bf\u00bdvn", "Nes"], "replacement characters", None),
    ("extras", ["water || power", "power || mail || water", "mail ||water", "water || mail"] + ["mail || power"] * 20, "padded list items",
     ["water || power", "power || mail || water", "mail || water", "water || mail"]),
    ("berth  name", ["B1", "B2"], "column name", None),
    ("seen", [f"2024-05-01T10:{at:02d}:00" for at in range(60)] * 2 + ["2024-05-02T10:00:00"], None, None),
    ("seen", [f"2024-05-{1 + at // 60:02d} 10:{at % 60:02d}:00" for at in range(300)] + ["2024-05-01 10:07:00"], "repeated timestamps", None),
    ("owner", ["Tamm, Ülo", "Sild, Mari", "Kask, Ene"] * 9 + ["Rebane"] * 400, None, None),
    ("link", ["boats/a/b", "boats/a/c", "boats/d/b"], None, None),
    ("age", ["< 20 years", "> 20 years"] * 8, None, None), ("unit", ["s", "S", "mW", "MW", "kHz"] * 4, None, None),
    ("town", ["San José"] * 9 + ["San Jose"] * 3, "accents", None), ("code", ["NA", "DE", "FR", "NO"] * 9, None, None),
    ("title", ["Missing", "Empty", "None"] + [f"Song {chr(97 + at)}" for at in range(20)], None, None),
])  # fmt: skip
def test_what_is_told_of_columns_and_what_is_not(
    column: str, values: list[str], finding: str | None, result: list[str] | None, figures: Any
) -> None:
    write("t.csv", _csv({"id": [str(at) for at in range(len(values))], column: values}))  # type: ignore[dict-item]
    told = [
        one
        for one in figures("profile", "t.csv")["findings"]
        if one["column"] == column and one["finding"] not in ("delimited list", "leading zeros")
    ]
    assert [one["finding"] for one in told] == ([finding] if finding else []), told
    if finding and told[0]["see"]:
        assert (
            figures(*shlex.split(told[0]["see"])[1:], "--rows", "0")["matching"] == told[0]["rows"]
        )
    if result:
        write(
            "p.toml",
            f'table = "t.csv"\nwrite = "o.csv"\n\n[[step]]\nset = {{ {json.dumps(column)} = {json.dumps(told[0]["fix"].split(" = ", 1)[1])} }}\n',
        )
        figures("clean", "p.toml")
        assert [row[1] for row in parsed(Path("o.csv").read_text("utf-8"))][
            1 : 1 + len(result)
        ] == result


@settings(max_examples=60)
@given(
    values=st.lists(
        TEXTS | st.sampled_from(["a  b", " x\ny ", "mW", "MW", "Open ", "OPEN", "\ta", "a\u00a0b"]),
        min_size=2,
        max_size=30,
    )
)
def test_the_safe_plan_takes_only_what_can_be_told_from_its_result(
    values: list[str | None], tmp_path_factory: Any
) -> None:
    """Plain spaces at the ends of single lines; and '' made NULL, where the column has neither NULLs nor other blanks."""
    from gravel.cli.main import run

    folder = tmp_path_factory.mktemp("safe")
    write(folder / "t.csv", _csv({"id": [str(at) for at in range(len(values))], "x": values}))
    if run(["profile", str(folder / "t.csv"), "--suggest", str(folder / "p.toml")]):
        return  # nothing is safe
    assert run(["clean", str(folder / "p.toml")]) == 0
    after = [row[1] for row in parsed((folder / "t-clean.csv").read_text("utf-8"))[1:]]
    one_blank = None not in values and not any(value and not value.strip(WHITE) for value in values)
    for before, now in zip(values, after, strict=True):
        trimmed = (
            before.strip(" ")
            if before and before.strip(WHITE) and not re.search("[\n\r]", before)
            else before
        )
        assert now in (before, trimmed) or (before == "" and now is None and one_blank), (
            before,
            now,
        )


def test_a_finding_is_seen_and_tried_by_its_number(figures: Any, gravel: Any, folder: Path) -> None:
    rows = [_good(at) for at in range(200)]
    for at, (kind, (column, bad)) in enumerate(DEFECTS.items()):
        rows[at * 7 % 200][column] = (
            bad if kind != "functional dependency" else rows[at * 7 % 200][column]
        )
    write("t.csv", _csv({name: [row[name] for row in rows] for name in rows[0]}))  # type: ignore[arg-type]
    told = figures("profile", "t.csv")["findings"]
    assert len(told) > 10
    for number, one in enumerate(told, 1):
        if one["see"]:
            ran = gravel("look", "t.csv", "--finding", number, "--format", "json")
            assert (ran.json["matching"], ran.json["errors"]) == (one["rows"], 0), one
            assert (
                f"finding {number} of {len(told)}, {one['column']}, {one['finding']}: "
                in " ".join(ran.err.split())
            )
        ran = gravel(
            "try", "t.csv", "--finding", number, "--format", "json", status=0 if one["fix"] else 2
        )
        assert not one["fix"] or f"finding {number} of {len(told)}" in ran.err
    (kept,) = folder.with_name(folder.name + "-cache").rglob("*.json")
    assert kept.stat().st_mode & 0o777 == 0o600
    figures("look", "t.csv", "--finding", 1, "--today", "2020-01-01")
    assert len(list(kept.parent.glob("*.json"))) == 1  # another day takes the place of the last
    write("t.csv", "a\nx\ny \n")  # another table of that name: its own findings count
    assert figures("look", "t.csv", "--finding", 1)["matching"] == 1
    assert "there is no finding 9" in gravel("look", "t.csv", "--finding", 9, status=2).err
    assert "leave out" in gravel("look", "t.csv", "--finding", 1, "--where", "TRUE", status=2).err
    kept.unlink()
    for path in kept.parent.glob("*.json"):
        path.write_text("{")  # damaged: found anew
    assert figures("look", "t.csv", "--finding", 1)["matching"] == 1


def test_dates_and_numbers_in_a_database_of_texts_are_told_with_a_fix(
    folder: Path, figures: Any
) -> None:
    with sqlite3.connect("t.db") as base:
        base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, day TEXT, size TEXT, code TEXT)")
        base.executemany(
            "INSERT INTO t VALUES (?, ?, ?, ?)",
            ((n, f"2024-05-{n:02d}", str(n * 3), f"{n:03d}") for n in range(1, 29)),
        )
    base.close()
    told = {
        one["column"]: one
        for one in figures("profile", "t.db#t")["findings"]
        if one["finding"] == "stored as text"
    }
    assert sorted(told) == ["day", "size"]
    assert [(told[name]["rows"], told[name]["level"]) for name in told] == [(28, "note")] * 2
    for name, kind in (("day", "DATE"), ("size", "INTEGER")):
        assert (
            figures("look", "t.db#t", "--show", f"{told[name]['fix'].split(' = ')[1]} AS x")[
                "types"
            ]["x"]
            == kind
        )


def test_more_variants_than_are_listed_are_the_same_ones_in_any_memory(figures: Any) -> None:
    names = [f"{chr(97 + n % 26)}{chr(97 + n // 26)}lark tern" for n in range(400)]
    rows = [name for name in names for name in (name, name, name.upper())]
    write("t.csv", _csv({"id": [str(n) for n in range(len(rows))], "name": rows}))
    told = figures("profile", "t.csv")
    (name,) = [column for column in told["columns"] if column["name"] == "name"]
    assert (name["variant_groups"], len(name["variants"])) == (400, 200)
    assert [group["key"] for group in name["variants"]] == names[:200]
    whole = profile(open_table("t.csv"))
    for memory in (500, 20_000):  # bytes, so that ranges of hashes are merged from files
        assert profile(open_table("t.csv"), memory=memory).columns == whole.columns


@settings(max_examples=40)
@given(
    values=st.lists(st.sampled_from(["a", "b ", "", "n/a", "12", "-3.5", "é", "2024-01-02"]), min_size=1, max_size=120),
    count=st.integers(1, 60), block=st.sampled_from([17, 64, 4096]), kind=st.sampled_from(["csv", "parquet"]),
)  # fmt: skip
def test_a_sample_is_profiled_as_a_table_of_its_rows(
    values: list[str], count: int, block: int, kind: str, tmp_path_factory: Any
) -> None:
    """The rows with the smallest hashes, whatever the pieces that they are read in."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    from gravel.sources.csv import splitter
    from gravel.sources.opening import open_table

    folder = tmp_path_factory.mktemp("sample")

    def hashed(row: int) -> int:
        mixed = row * 0x9E3779B97F4A7C15 % 2**64
        mixed = (mixed ^ mixed >> 31) * 0xD6E8FEB86659FD93 % 2**64
        return mixed ^ mixed >> 29

    chosen = sorted(sorted(range(1, len(values) + 1), key=hashed)[:count])
    rows = [(str(at), values[at - 1]) for at in range(1, len(values) + 1)]
    for name, lines in (("t", rows), ("s", [rows[at - 1] for at in chosen])):
        if kind == "csv":
            write(folder / f"{name}.csv", "k,x\n" + "".join(f"r{a},{b}\n" for a, b in lines))
        else:
            table = pa.table({"k": [f"r{a}" for a, _ in lines], "x": [b or None for _, b in lines]})
            pq.write_table(table.cast(pa.schema([("k", "string"), ("x", "string")])), folder / f"{name}.parquet", row_group_size=block)  # fmt: skip
    reading, before = ReadOptions(header=1), splitter.BLOCK
    splitter.BLOCK = block
    try:
        tables = [open_table(str(folder / f"{name}.{kind}"), reading) for name in "ts"]
        results = [profile(tables[0], sample=count), profile(tables[1])]
    finally:
        splitter.BLOCK = before
    assert results[0].sample is not None
    assert (results[0].sample.rows, results[0].sample.of) == (len(chosen), len(values))
    sampled, whole = (result.to_dict() for result in results)
    for one, other in zip(sampled["columns"], whole["columns"], strict=True):
        for key in ("nulls", "blank", "distinct", "min", "max", "top", "shapes", "type"):
            assert one.get(key) == other.get(key), key


def test_chosen_rows_are_profiled_as_a_table_of_them_would_be(figures: Any, gravel: Any) -> None:
    """The same rows in a file of their own are the reference; a column keeps the type it has in the whole table."""
    rows = [
        f"{number},{'Open' if number % 3 else ' open'},{number if number % 10 else 'none'},{number % 7}"
        for number in range(200)
    ]
    head = "id,status,fee,pier\n"
    write("t.csv", head + "\n".join(rows) + "\n")
    kept = [row for row in rows if int(row.split(",")[0]) > 50 and row.split(",")[3] != "2"]
    write("some.csv", head + "\n".join(kept) + "\n")
    where = ("--where", "id > :from AND 1 / (pier - 2) IS NOT NULL", "--param", "from=50")
    found, wanted = figures("profile", "t.csv", *where), figures("profile", "some.csv")
    assert found["columns"] == wanted["columns"]
    failing = sum(row.endswith(",2") for row in rows[51:])
    assert found["where"] == {"condition": where[1], "of": 200, "unknown": 0, "errors": failing}
    named = [(one["finding"], one["column"], one["rows"]) for one in found["findings"]]
    assert named == [(one["finding"], one["column"], one["rows"]) for one in wanted["findings"]]
    for item in found["findings"]:
        assert figures(*shlex.split(item["see"])[1:])["matching"] == item["rows"], item["see"]
    counted = figures("count", "t.csv", *where, "--distinct", "status", "--total", "id")["tables"][
        0
    ]
    (total,) = counted["totals"]
    assert (counted["rows"], total["value"]) == (
        len(kept),
        sum(int(row.split(",")[0]) for row in kept),
    )
    groups = figures("duplicates", "t.csv", *where, "--on", "status")
    assert groups["rows_in_groups"] == len(kept)
    checked = figures("check", "t.csv", f"COUNT(*) = {len(kept)}", "MIN(id) = 52", *where)
    assert all(one["passed"] for one in checked["checks"])
    whole = figures("profile", "t.csv", "--where", "FITS(fee AS INTEGER)")["columns"][2]
    assert whole["type"] == "TEXT"
    told = gravel("profile", "t.csv", "--where", "status = 'open'")
    assert "t.csv: 0 of 200 rows, where status = 'open'" in told.out
    assert "caution: 200 rows" in told.err
    for words in (
        ("profile", "--suggest", "p.toml"),
        ("duplicates", "--on", "id", "--add", "p.toml"),
    ):
        assert (
            "leave out --where"
            in gravel(words[0], "t.csv", *words[1:], "--where", "id > 3", status=2).err
        )
    with sqlite3.connect("t.db") as base:
        base.execute("CREATE TABLE days (id INTEGER, day DATE)")
        days = [(number, "2024-05-01" if number % 4 else "1.5.24") for number in range(80)]
        base.executemany("INSERT INTO days VALUES (?, ?)", days)
    for item in figures("profile", "t.db#days", "--where", "id < 40")["findings"]:
        assert figures(*shlex.split(item["see"])[1:])["matching"] == item["rows"], item["see"]
    import gravel as library

    table = library.open_table("t.csv").where("id > :from", params={"from": 50})
    both = table.where("pier = 1").count()
    assert (table.count().rows, both.rows, both.where.of) == (149, 21, 200)
    assert both.where.condition == "(id > :from) AND (pier = 1)"
