"""Random expressions come to the same by every way: in a query and in a plan, of a text file and of Parquet, into either, of a few
rows and of as many as the compiled kernels and several batches take."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
import pytest

import gravel as library
from conftest import Ran, write
from generated import KINDS, TABLES, Column, Expressions, here

COLUMNS = TABLES["p"]
ARROW: dict[str, tuple[pa.DataType, Callable[[str], Any]]] = {
    "INTEGER": (pa.int64(), int),
    "DECIMAL(10,2)": (pa.decimal128(10, 2), Decimal),
    "DOUBLE PRECISION": (pa.float64(), float),
    "TEXT": (pa.string(), str),
    "DATE": (pa.date32(), date.fromisoformat),
    "BOOLEAN": (pa.bool_(), lambda text: text == "true"),
}
DECLARED = (
    'types = { f = "DOUBLE PRECISION", t = "TEXT", i = "INTEGER", y = "DATE", b = "BOOLEAN" }\n'
)
MADE = "idfytb"
# What once came to one thing here and to another there.
KNOWN = ["(d / i) IN (d, id)", "NULLIF(t, 'a')", "CASE WHEN id > 3 THEN NULL ELSE 'x,' || t END", "d * d * d * d * d * d / 3"]  # fmt: skip
NAMES = [f"c{number}" for number in range(len(MADE) + len(KNOWN))]


def expressions(seed: int) -> list[str]:
    """One expression of each kind; some fail in some rows."""
    rng = random.Random(seed)
    some = Expressions(rng, [Column(name, KINDS[kind]) for name, (kind, *_) in COLUMNS.items()])
    return [*(here(some.make(kind, rng.choice([1, 2, 3]))) for kind in MADE), *KNOWN]


def tables(times: int) -> None:
    """The rows of p so many times, as Parquet and as text."""
    parts = {
        name: pa.array([None if value is None else ARROW[kind][1](value) for value in values] * times, ARROW[kind][0])
        for name, (kind, _, values) in COLUMNS.items()
    }  # fmt: skip
    pq.write_table(pa.table(parts), "p.parquet", row_group_size=30_000)
    lines = [
        ",".join(
            "" if value is None else f'"{value}"' if kind == "TEXT" else value
            for (kind, *_), value in zip(COLUMNS.values(), row, strict=True)
        )
        for row in zip(*(values for *_, values in COLUMNS.values()), strict=True)
    ]
    write("p.csv", "\n".join([",".join(COLUMNS), *lines * times, ""]))


def texts(target: str) -> pa.Table:
    """The made columns of a file, as texts."""
    if target.endswith("parquet"):
        casts = ", ".join(f"CAST({name} AS TEXT) AS {name}" for name in NAMES)
        return library.query(f"SELECT {casts} FROM '{target}'").to_arrow()
    options = pa_csv.ConvertOptions(
        column_types=dict.fromkeys(NAMES, pa.string()), include_columns=NAMES, null_values=[""],
        strings_can_be_null=True, quoted_strings_can_be_null=False,
    )  # fmt: skip
    return pa_csv.read_csv(target, convert_options=options)


def queried(gravel: Callable[..., Ran], made: list[str]) -> pa.Table:
    """What a query makes of each row, as texts; of what fails NULL."""
    chosen = ", ".join(f"{text} AS {name}" for name, text in zip(NAMES, made, strict=True))
    gravel("query", f"SELECT id, {chosen} FROM 'p.parquet'", "--on-error", "null", "--write", "q.csv", "--replace")  # fmt: skip
    return texts("q.csv")


def planned(gravel: Callable[..., Ran], made: list[str], table: str, target: str) -> pa.Table:
    """What a plan makes of each row."""
    lines = [f"{name} = {json.dumps(text)}" for name, text in zip(NAMES, made, strict=True)]
    head = f'table = "{table}"\nwrite = "{target}"\nreplace = true\non_error = "null"\n'
    head += DECLARED if table.endswith("csv") else ""
    write("plan.toml", "\n".join([head, "[[step]]", "[step.set]", *lines, ""]))
    gravel("clean", "plan.toml")
    return texts(target)


WAYS = [("p.csv", "o.csv"), ("p.parquet", "o.csv"), ("p.parquet", "o.parquet")]


@pytest.mark.parametrize("first", range(0, 24, 12))
def test_expressions_come_to_the_same_by_every_way(
    folder: Path, gravel: Callable[..., Ran], first: int
) -> None:
    tables(1)
    for seed in range(first, first + 12):
        made = expressions(seed)
        expected = queried(gravel, made)
        for table, target in WAYS:
            assert planned(gravel, made, table, target).equals(expected), (seed, made)


@pytest.mark.parametrize("native", ["1", "0"])
def test_expressions_come_to_the_same_of_many_rows(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch, native: str
) -> None:
    monkeypatch.setenv("GRAVEL_NATIVE", native)
    for seed in range(100, 102):
        made = expressions(seed)
        tables(1)
        expected = queried(gravel, made)
        tables(6_000)
        for table, target in WAYS[:2]:
            found = planned(gravel, made, table, target)
            assert found.equals(pa.concat_tables([expected] * 6_000)), (seed, made)


def test_numbers_of_any_width_are_told_by_their_digits(folder: Path, figures: Any) -> None:
    """Whole numbers of a DECIMAL or UINT64, DECIMALs of more than 38 digits, scales below zero: in profiles, plans and queries."""
    kinds = {"u": pa.uint64(), "w": pa.decimal128(20, 0), "x": pa.decimal256(50, 9), "d": pa.decimal128(30, 2)}  # fmt: skip
    values = {name: pa.array([Decimal("4"), None, Decimal("1200")], kind) for name, kind in kinds.items()}  # fmt: skip
    pq.write_table(pa.table(values), "n.parquet")
    columns = {column["name"]: column for column in figures("profile", "n.parquet")["columns"]}
    told = {name: (columns[name]["min"], columns[name]["max"]) for name in kinds}
    assert told == {
        "u": ("4", "1200"),
        "w": ("4", "1200"),
        "x": ("1200.000000000", "4.000000000"),  # which the language has not: texts
        "d": ("4.00", "1200.00"),
    }
    # What is made of them is a DECIMAL of 38 digits where its values fit, and is read as one.
    write("p.toml", 'table = "n.parquet"\nwrite = "o.parquet"\n[[step]]\nset = { a = "d * d / 3", b = "u * w", d = "d + 1" }\n')  # fmt: skip
    figures("clean", "p.toml")
    schema = pq.read_schema("o.parquet")
    assert {name: schema.field(name).type for name in "abdx"} == {
        "a": pa.decimal128(38, 16),
        "b": pa.decimal128(38, 0),
        "d": kinds["d"],
        "x": kinds["x"],
    }
    made = library.query("SELECT SUM(a) AS a, MAX(b) AS b FROM 'o.parquet'").to_arrow().to_pylist()
    assert made == [{"a": Decimal("480005.3333333333333333"), "b": 1_440_000}]


def test_a_plan_writes_the_same_whatever_memory_it_has(
    folder: Path, gravel: Callable[..., Ran]
) -> None:
    """Rows and rejects, in their order, with whole-table steps between others that reject rows."""
    tables(3_000)
    head = f'table = "p.csv"\nwrite = "o.csv"\non_error = "set aside"\n{DECLARED}'
    steps = [
        "drop_rows = \"y < DATE '1970-01-01'\"",
        'sort = ["d DESC", "t || 1 / i"]',
        'deduplicate = { by = ["t", "id % 5"], prefer = "d DESC", fill = ["y"] }',
        "set = { d = \"CASE WHEN i > 5 THEN NULL ELSE 7 / i END\" }",
        'deduplicate = { by = ["b", "y"], prefer = "id" }',
    ]  # fmt: skip
    write("p.toml", head + "".join(f"[[step]]\n{step}\n" for step in steps))
    written = []
    for memory in ("1MB", "1GB"):
        gravel("clean", "p.toml", "--memory", memory)
        written.append((Path("o.csv").read_bytes(), Path("o-rejects.csv").read_bytes()))
    assert written[0] == written[1]
    assert written[0][1].count(b"\n") > 30_000
