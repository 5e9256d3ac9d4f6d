"""Every function on a million rows beside the same expression in pandas and in SQLite: `python benchmarks/functions.py`.

Times are seconds of one process, the best of two; the table of docs/function-benchmarks.md is made with --write.
"""

from __future__ import annotations

import sqlite3
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa

import data
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language.bind import bind_text
from gravel.language.scope import Scope
from gravel.language.types import DATE, DOUBLE, INTEGER, TEXT, decimal

ROWS = 1_000_000
NAMES = ["stay_id", "boat", "skipper", "berth", "from_day", "status", "services", "amount", "real"]
TYPES = [INTEGER, TEXT, TEXT, TEXT, DATE, TEXT, TEXT, decimal(9, 2), DOUBLE]
# (function, ours, pandas: a function of the frame or None, SQLite or None)
CASES: list[tuple[str, str, Callable[[Any], Any] | None, str | None]] = [
    ("=", "boat = 'Gull'", lambda f: f.boat == "Gull", "boat = 'Gull'"),
    ("<", "skipper < boat", lambda f: f.skipper < f.boat, "skipper < boat"),
    ("IN", "status IN ('paid', 'open')", lambda f: f.status.isin(["paid", "open"]), "status IN ('paid', 'open')"),
    ("CASE", "CASE WHEN status = 'paid' THEN berth ELSE boat END", lambda f: f.berth.where(f.status == "paid", f.boat),
     "CASE WHEN status = 'paid' THEN berth ELSE boat END"),
    ("COALESCE", "COALESCE(skipper, 'none')", lambda f: f.skipper.fillna("none"), "COALESCE(skipper, 'none')"),
    ("NULLIF", "NULLIF(status, 'n/a')", lambda f: f.status.mask(f.status == "n/a"), "NULLIF(status, 'n/a')"),
    ("IS_BLANK", "IS_BLANK(berth)", lambda f: f.berth.isna() | (f.berth.str.strip() == ""), "berth IS NULL OR TRIM(berth) = ''"),
    ("IF_BLANK", "IF_BLANK(berth, 'none')", lambda f: f.berth.mask(f.berth.isna() | (f.berth.str.strip() == ""), "none"), None),
    ("GREATEST", "GREATEST(boat, skipper)", None, "MAX(boat, skipper)"),
    ("UPPER", "UPPER(boat)", lambda f: f.boat.str.upper(), "UPPER(boat)"),
    ("LOWER", "LOWER(boat)", lambda f: f.boat.str.lower(), "LOWER(boat)"),
    ("TRIM", "TRIM(boat)", lambda f: f.boat.str.strip(" "), "TRIM(boat)"),
    ("TIDY_SPACES", "TIDY_SPACES(boat)", lambda f: f.boat.str.strip().str.replace(r"\s+", " ", regex=True), None),
    ("CAPITALIZE_WORDS", "CAPITALIZE_WORDS(boat)", lambda f: f.boat.str.title(), None),
    ("LENGTH", "LENGTH(boat)", lambda f: f.boat.str.len(), "LENGTH(boat)"),
    ("LEFT", "LEFT(boat, 3)", lambda f: f.boat.str[:3], "SUBSTR(boat, 1, 3)"),
    ("RIGHT", "RIGHT(boat, 3)", lambda f: f.boat.str[-3:], "SUBSTR(boat, -3)"),
    ("SUBSTRING", "SUBSTRING(boat FROM 2 FOR 4)", lambda f: f.boat.str[1:5], "SUBSTR(boat, 2, 4)"),
    ("POSITION", "POSITION('al' IN boat)", lambda f: f.boat.str.find("al") + 1, "INSTR(boat, 'al')"),
    ("POSITION_OF", "POSITION_OF('a', boat, 2)", None, None),
    ("REPLACE", "REPLACE(boat, 'al', 'el')", lambda f: f.boat.str.replace("al", "el", regex=False), "REPLACE(boat, 'al', 'el')"),
    ("CONCAT", "CONCAT(boat, ', ', berth)", lambda f: f.boat.fillna("") + ", " + f.berth.fillna(""), None),
    ("||", "boat || berth", lambda f: f.boat + f.berth, "boat || berth"),
    ("LPAD", "LPAD(boat, 30, '.')", lambda f: f.boat.str.rjust(30, ".").str[:30], None),
    ("REVERSE", "REVERSE(boat)", lambda f: f.boat.str[::-1], None),
    ("REPEAT", "REPEAT(boat, 2)", lambda f: f.boat.str.repeat(2), None),
    ("OVERLAY", "OVERLAY(boat PLACING 'xx' FROM 2)", lambda f: f.boat.str.slice_replace(1, 3, "xx"), None),
    ("OCTET_LENGTH", "OCTET_LENGTH(boat)", None, "LENGTH(CAST(boat AS BLOB))"),
    ("LIKE", "boat LIKE '%al%'", lambda f: f.boat.str.contains("al", regex=False), "boat LIKE '%al%'"),
    ("LIKE_REGEX", "boat LIKE_REGEX '^[A-M].*e'", lambda f: f.boat.str.contains("^[A-M].*e"), None),
    ("OCCURRENCES_REGEX", "OCCURRENCES_REGEX('[aeiou]' IN boat)", lambda f: f.boat.str.count("[aeiou]"), None),
    ("SUBSTRING_REGEX", "SUBSTRING_REGEX('[aeiou][a-z]' IN boat)", lambda f: f.boat.str.extract("([aeiou][a-z])")[0], None),
    ("TRANSLATE_REGEX", "TRANSLATE_REGEX('[aeiou]' IN boat WITH '.')", lambda f: f.boat.str.replace("[aeiou]", ".", regex=True), None),
    ("WITHOUT_ACCENTS", "WITHOUT_ACCENTS(boat)", lambda f: f.boat.str.normalize("NFD"), None),
    ("ONLY_DIGITS", "ONLY_DIGITS(berth)", lambda f: f.berth.str.replace("[^0-9]", "", regex=True), None),
    ("ONLY_LETTERS", "ONLY_LETTERS(boat)", lambda f: f.boat.str.replace("[^A-Za-z]", "", regex=True), None),
    ("SHAPE", "SHAPE(boat)", lambda f: f.boat.str.replace("[A-Z]", "A", regex=True).str.replace("[a-z]", "a", regex=True), None),
    ("MATCH_KEY", "MATCH_KEY(skipper)", lambda f: f.skipper.str.lower().str.replace("[^a-z0-9]+", " ", regex=True).str.strip(), None),
    ("WORD_COUNT", "WORD_COUNT(skipper)", lambda f: f.skipper.str.split().str.len(), None),
    ("MASK", "MASK(skipper, 2, 2, '*')", None, None),
    ("LIST_ITEM", "LIST_ITEM(services, ';', 2)", lambda f: f.services.str.split(";").str[1], None),
    ("LIST_SIZE", "LIST_SIZE(services, ';')", lambda f: f.services.str.count(";") + 1, None),
    ("LIST_ITEMS", "LIST_ITEMS(services, ';')", lambda f: f.services.str.split(";"), None),
    ("CAST integer", "CAST(CAST(stay_id AS TEXT) AS INTEGER)", lambda f: f.stay_id.astype("str").astype("int64"),
     "CAST(CAST(stay_id AS TEXT) AS INTEGER)"),
    ("CAST text", "CAST(amount AS TEXT)", lambda f: f.amount.astype("str"), "CAST(amount AS TEXT)"),
    ("FITS", "FITS(berth AS INTEGER)", lambda f: f.berth.str.fullmatch(r" *[+-]?\d+ *"), None),
    ("CAST FORMAT", "CAST(CAST(from_day AS TEXT) AS DATE FORMAT 'YYYY-MM-DD')",
     lambda f: pd.to_datetime(f.from_day.astype("str"), format="%Y-%m-%d"), None),
    ("+", "stay_id + 1", lambda f: f.stay_id + 1, "stay_id + 1"),
    ("*", "real * 2", lambda f: f.real * 2, "real * 2"),
    ("* decimal", "amount * 3", None, "amount * 3"),
    ("/", "real / 7", lambda f: f.real / 7, "real / 7.0"),
    ("/ decimal", "amount / 7", None, "amount / 7.0"),
    ("MOD", "stay_id % 7", lambda f: f.stay_id % 7, "stay_id % 7"),
    ("ROUND", "ROUND(real)", lambda f: f.real.round(), "ROUND(real)"),
    ("ROUND decimal", "ROUND(amount, 1)", None, "ROUND(amount, 1)"),
    ("FLOOR", "FLOOR(real)", lambda f: np.floor(f.real), None),
    ("SQRT", "SQRT(real)", lambda f: np.sqrt(f.real), None),
    ("POWER", "POWER(real, 2)", lambda f: f.real**2, None),
    ("GROUP_DIGITS", "GROUP_DIGITS(amount, 2)", lambda f: f.amount.map("{:,.2f}".format), None),
    ("EXTRACT", "EXTRACT(YEAR FROM from_day)", lambda f: f.from_day.dt.year, None),
    ("+ of dates", "from_day + INTERVAL '1' MONTH", lambda f: f.from_day + pd.DateOffset(months=1), None),
    ("FULL_YEARS", "FULL_YEARS(from_day, DATE '2026-01-01')", None, None),
    ("CAST date to text", "CAST(from_day AS TEXT FORMAT 'DD.MM.YYYY')", lambda f: f.from_day.dt.strftime("%d.%m.%Y"), None),
]  # fmt: skip


def best(work: Callable[[], Any]) -> float:
    """The shorter of two runs, in seconds."""
    times = []
    for _ in range(2):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)


def _ours(bound: Any, pieces: list[Frame]) -> None:
    for piece in pieces:
        run(bound, piece)


def _sqlite(base: Any, sql: str) -> None:
    base.execute(f"SELECT COUNT({sql}) FROM t").fetchone()


HEAD = """# Functions on a million rows

Made by `python benchmarks/functions.py --write`: seconds for a million rows on one thread, and how many times as long the
same expression takes in pandas and in SQLite (whose amounts are doubles). Batches of 50,000 rows, as a plan has them.

"""


def main() -> None:
    """Measure and print the table."""
    texts = data.columns(ROWS, 1, np.random.default_rng(5))
    stored = [*texts, pa.array(np.random.default_rng(6).random(ROWS) * 1000)]
    pieces = [
        Frame(50_000, [column.slice(at, 50_000) for column in stored], TYPES)
        for at in range(0, ROWS, 50_000)
    ]
    for piece in pieces:
        for index in range(len(NAMES)):
            piece.column(index)
    frame = pd.DataFrame(
        {name: column.to_pandas() for name, column in zip(NAMES, stored, strict=True)}
    )
    frame["stay_id"], frame["amount"] = (
        frame["stay_id"].astype("int64"),
        frame["amount"].astype("float64"),
    )
    frame["from_day"] = pd.to_datetime(frame["from_day"])
    base = sqlite3.connect(":memory:")
    base.execute(
        "CREATE TABLE t (stay_id INTEGER, boat, skipper, berth, from_day, status, services, amount REAL, real REAL)"
    )
    base.executemany(
        "INSERT INTO t VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        zip(*(column.to_pylist() for column in stored), strict=True),
    )
    scope = Scope(tuple(NAMES), tuple(TYPES))
    lines = [
        "| function | expression | seconds | pandas | SQLite |",
        "| --- | --- | --- | --- | --- |",
    ]
    for name, ours, theirs, sql in CASES:
        bound = bind_text(ours, scope)
        own = best(partial(_ours, bound, pieces))
        others = [
            best(partial(theirs, frame)) if theirs else None,
            best(partial(_sqlite, base, sql)) if sql else None,
        ]
        shown = ["" if other is None else f"{other / own:.1f} times" for other in others]
        shown_name, shown_ours = (text.replace("|", "\\|") for text in (name, ours))
        lines.append(f"| {shown_name} | `{shown_ours}` | {own:.3f} | {shown[0]} | {shown[1]} |")
        print(lines[-1], flush=True)
    if "--write" in sys.argv:
        Path(__file__).parent.parent.joinpath("docs", "function-benchmarks.md").write_text(
            HEAD + "\n".join(lines) + "\n", "utf-8"
        )


if __name__ == "__main__":
    main()
