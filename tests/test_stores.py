"""Tables of other stores: the same rows whatever they are kept in, types as the store has them, nothing altered."""

from __future__ import annotations

import base64
import datetime
import gzip
import json
import random
import shutil
import sqlite3
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import write
from gravel.engine.engine import OfBatch

# Each Arrow type with values of it; what they look like as texts is told beside by Python's own means.
DAY = st.dates(datetime.date(1, 1, 1))
KINDS: dict[str, tuple[pa.DataType, Any, Any]] = {
    "tiny": (pa.int8(), st.integers(-128, 127), str),
    "large": (pa.int64(), st.integers(-(2**63), 2**63 - 1), str),
    "unsigned": (pa.uint64(), st.integers(0, 2**64 - 1), str),
    "exact": (
        pa.decimal128(20, 3),
        st.decimals(-(10**16), 10**16, places=3),
        lambda value: f"{value:.3f}",
    ),
    "truth": (pa.bool_(), st.booleans(), lambda value: str(value).lower()),
    "day": (pa.date32(), DAY, str),
    "text": (
        pa.string(),
        st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=6),
        str,
    ),
    "long": (pa.large_string(), st.sampled_from(["a", "", "n/a", "007"]), str),
    "coded": (pa.dictionary(pa.int32(), pa.string()), st.sampled_from(["Open", "OPEN"]), str),
    "raw": (pa.binary(), st.binary(max_size=5), lambda value: base64.b64encode(value).decode()),
    "list": (pa.list_(pa.int64()), st.lists(st.integers(0, 9), max_size=3), json.dumps),
}


# Every type that Arrow has, with three values of each, the second NULL.
MOMENT = [1, None, 1_700_000_000]
EVERY: dict[str, Any] = {
    **{f"i{bits}": pa.array([1, None, 100], f"int{bits}") for bits in (8, 16, 32, 64)},
    **{f"u{bits}": pa.array([1, None, 2**bits - 1], f"uint{bits}") for bits in (8, 16, 32, 64)},
    "half": pa.array([1.5, None, 2.25], pa.float16()), "single": pa.array([1.1, None, -0.5], pa.float32()), "double": pa.array([1.1, None, 1e300]),
    "exact": pa.array([Decimal("1.10"), None, Decimal("2.20")], pa.decimal128(12, 2)), "wide": pa.array([Decimal(1), None, 10**50], pa.decimal256(60, 0)),
    **{name: pa.array(["a", None, "a text of more than twelve bytes"], name) for name in ("string", "large_string", "string_view")},
    **{name: pa.array([b"a", None, b"\xff"], name) for name in ("binary", "large_binary", "binary_view")}, "fixed": pa.array([b"ab", None, b"\xff\0"], pa.binary(2)),
    "truth": pa.array([True, None, False]), "day": pa.array([datetime.date(2024, 1, 2), None, datetime.date(1, 1, 1)]),
    "clock_ms": pa.array([1, None, 3], pa.time32("ms")), "clock_us": pa.array([1, None, 3], pa.time64("us")), "clock_ns": pa.array([1, None, 3], pa.time64("ns")),
    **{f"moment_{unit}": pa.array(MOMENT, pa.timestamp(unit)) for unit in ("ms", "us", "ns")},
    **{f"zoned_{unit}": pa.array(MOMENT, pa.timestamp(unit, "Europe/Oslo")) for unit in ("ms", "us", "ns")},
    **{f"span_{unit}": pa.array(MOMENT, pa.duration(unit)) for unit in ("s", "ms", "us", "ns")},
    "list": pa.array([[1, None], None, []], pa.list_(pa.int32())), "long_list": pa.array([["a"], None, []], pa.large_list(pa.string())),
    "pair": pa.array([[1, 2], None, [3, 4]], pa.list_(pa.int16(), 2)), "record": pa.array([{"a": 1, "b": "x"}, None, {"a": None, "b": "y"}]),
    "map": pa.array([[("k", 1)], None, []], pa.map_(pa.string(), pa.int32())), "deep": pa.array([[{"a": [1]}], None, []]), "finest": pa.array([[1], None, []], pa.list_(pa.timestamp("ns"))), "nothing": pa.nulls(3),
    "coded": pa.array(["a", None, "b"]).dictionary_encode(), "coded8": pa.DictionaryArray.from_arrays(pa.array([0, None, 1], pa.int8()), pa.array(["a", "b"])),
}  # fmt: skip
# Parquet has none of these.
ARROW_ALONE: dict[str, Any] = {
    "clock_s": pa.array([1, None, 3], pa.time32("s")), "moment_s": pa.array(MOMENT, pa.timestamp("s")), "zoned_s": pa.array(MOMENT, pa.timestamp("s", "UTC")),
    "day_ms": pa.array([datetime.date(2024, 1, 2), None, datetime.date(1970, 1, 1)], pa.date64()), "interval": pa.array([pa.MonthDayNano([1, 2, 3]), None, None]),
    "runs": pa.RunEndEncodedArray.from_arrays([2, 3], pa.array(["a", None])),
}  # fmt: skip


def _stored(path: str, table: Any) -> None:
    if path.endswith(".parquet"):
        pq.write_table(table, path, row_group_size=4)
        return
    with pa.OSFile(path, "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table, max_chunksize=4)


def _read(path: str) -> Any:
    return pq.read_table(path) if path.endswith(".parquet") else pa.ipc.open_file(path).read_all()


def _same(one: Any, other: Any) -> bool:
    return one.type == other.type and (
        one.equals(other) or str(one.to_pylist()) == str(other.to_pylist())
    )


@pytest.mark.parametrize(
    ("source", "target"),
    [
        ("t.parquet", "o.parquet"),
        ("t.arrow", "o.arrow"),
        ("t.parquet", "o.arrow"),
        ("t.arrow", "o.parquet"),
    ],
)
def test_types_survive(
    source: str, target: str, figures: Any, gravel: Any, monkeypatch: Any
) -> None:
    """A plan without a step gives the schema and the values that were there, and makes no text of a value."""
    columns = EVERY | (
        ARROW_ALONE if source.endswith(".arrow") and target.endswith(".arrow") else {}
    )
    table = pa.table({name: pa.concat_arrays([values] * 3) for name, values in columns.items()})
    _stored(source, table)
    table = _read(source)
    write("p.toml", f'table = "{source}"\nwrite = "{target}"\n')
    with monkeypatch.context() as patched:
        patched.setattr(
            "gravel.engine.arrow_values.to_text",
            lambda *given: pytest.fail("a value was made a text"),
        )
        run = figures("clean", "p.toml")
    assert {one["proof"] for one in run["proofs"]} >= {
        "columns that no step touched have the same types"
    }
    made = _read(target)
    assert made.schema.equals(table.schema)
    assert [name for name in columns if not _same(made.column(name), table.column(name))] == []
    # So does a query, with the rows that it leaves and in its order.
    chosen = "SELECT * FROM 't' WHERE i64 IS NOT NULL ORDER BY i64 DESC".replace(
        "'t'", f"'{source}'"
    )
    figures("query", chosen, "--write", f"q-{target}")
    made = _read(f"q-{target}")
    assert made.schema.equals(table.schema)
    order = [
        row
        for value in (100, 1)
        for row, has in enumerate(table["i64"].to_pylist())
        if has == value
    ]
    for name in columns:
        rows = [table.column(name).slice(row, 1).combine_chunks() for row in order]
        assert _same(made.column(name), pa.chunked_array(rows)), name
    # Steps of every kind leave what they do not touch; what is set keeps its type where the values fit.
    steps = """[[step]]
set = { i32 = "i32 + 1", exact = "exact * 2", coded = "UPPER(coded)", large_string = "large_string || '!'" }
only = "i64 = 100"
[[step]]
set = { i8 = "i8 * 2", fresh = "i16 + 0.5" }
[[step]]
keep_rows = "i64 IS NOT NULL"
[[step]]
deduplicate = { by = ["i64"], fill = ["u8"] }
[[step]]
sort = "i64 DESC"
"""
    write("p.toml", f'table = "{source}"\nwrite = "{target}"\n{steps}')
    run = figures("clean", "p.toml")
    made = _read(target)
    wider = {"i8": pa.int64()}
    for name, field in zip(columns, table.schema, strict=True):
        assert made.schema.field(name).type == wider.get(name, field.type), name
        if name not in ("i32", "exact", "coded", "large_string", "i8"):
            assert _same(
                made.column(name),
                pa.chunked_array(
                    [table.column(name).slice(row, 1).combine_chunks() for row in (2, 0)]
                ),
            ), name
    assert made.select(["i32", "exact", "coded", "large_string", "i8", "fresh"]).to_pylist() == [
        {"i32": 101, "exact": Decimal("4.40"), "coded": "B", "large_string": "a text of more than twelve bytes!", "i8": 200, "fresh": Decimal("100.5")},
        {"i32": 1, "exact": Decimal("1.10"), "coded": "a", "large_string": "a", "i8": 2, "fresh": Decimal("1.5")},
    ]  # fmt: skip
    assert "i8 was int8 and is int64" in gravel("clean", "p.toml").err
    assert (
        figures("look", source, "--columns", "finest", "--rows", "1")["shown"][0]["values"][
            "finest"
        ]
        == '["1970-01-01 00:00:00.000000001"]'
    )
    # A file of a text has what it always had; what the language has no type for is read as its text.
    assert [
        one["values"]["record"]
        for one in figures("look", source, "--columns", "record", "--rows", "1")["shown"]
    ] == ['{"a": 1, "b": "x"}']
    assert figures("look", source, "--where", "LENGTH(list) = 9 AND span_s = '1'")["matching"] == 3
    assert (
        "span_s is duration[s]: the language has no such type"
        in gravel("check", source, "LENGTH(span_s) > 0").err
    )


@pytest.mark.parametrize("name", ["t.parquet", "t.arrow"])
def test_moments_of_nanoseconds_are_read_as_timestamps_where_they_are_whole_microseconds(
    name: str, figures: Any, gravel: Any, folder: Path
) -> None:
    hours = [3_600_000_000_000 * at for at in range(40)]
    columns = {
        "seen": pa.array(hours, pa.timestamp("ns")), "zone": pa.array(hours, pa.timestamp("ns", "Europe/Oslo")),
        "late": pa.array([*hours[:-1], hours[-1] + 1], pa.timestamp("ns")), "none": pa.nulls(40, pa.timestamp("ns")),
    }  # fmt: skip
    table = pa.table({"id": range(40), **columns})
    if name == "t.parquet":
        pq.write_table(table, name, row_group_size=10)
    else:
        with pa.ipc.new_file(name, table.schema) as writer:
            writer.write_table(table, max_chunksize=10)
    kinds = {
        "id": "INTEGER",
        "seen": "TIMESTAMP",
        "zone": "TIMESTAMP WITH TIME ZONE",
        "late": "TEXT",
        "none": "TIMESTAMP",
    }
    assert figures("look", name)["types"] == kinds
    assert {
        column["name"]: column["type"] for column in figures("profile", name)["columns"]
    } == kinds
    assert (
        figures("look", name, "--where", "seen > TIMESTAMP '1970-01-02 00:00:00'")["matching"] == 15
    )
    told = gravel("look", name, "--where", "late > '1970-01-02' AND EXTRACT(HOUR FROM seen) = 15")
    assert "late is timestamp[ns]: the language has no such type" in told.err
    assert "seen is" not in told.err
    (last,) = figures("look", name, "--where", "id = 39")["shown"]
    assert [*last["values"].values()] == [
        39, "1970-01-02 15:00:00", "1970-01-02 15:00:00+00", "1970-01-02 15:00:00.000000001", None,
    ]  # fmt: skip
    # Types survive, also of what a step sets.
    step = (
        """set = { seen = "seen + INTERVAL '1' DAY", late = "CAST(LEFT(late, 19) AS TIMESTAMP)" }"""
    )
    for to in ("o.parquet", "o.csv"):
        write(
            "p.toml",
            f'table = "{name}"\nwrite = "{to}"\n[[step]]\n{step}\n[[step]]\nkeep_rows = "seen > TIMESTAMP \'1970-01-03 00:00:00\'"\n',
        )
        assert figures("clean", "p.toml")["rows_out"] == 15
    kept = pq.read_table("o.parquet")
    assert [field.type for field in kept.schema][1:] == [column.type for column in columns.values()]
    assert kept.column("zone").to_pylist() == table.column("zone").to_pylist()[25:]
    assert (
        Path("o.csv").read_text().splitlines()[1]
        == "25,1970-01-03 01:00:00,1970-01-02 01:00:00+00,1970-01-02 01:00:00,"
    )
    gravel(
        "query",
        f"SELECT late, seen FROM '{name}' WHERE seen < TIMESTAMP '1970-01-01 03:00:00'",
        "--write",
        "q.parquet",
    )
    assert pq.read_table("q.parquet").equals(table.select(["late", "seen"]).slice(0, 3))


def test_a_number_in_sqlite_is_a_number_there(figures: Any, gravel: Any) -> None:
    prices = ["49.99", "50.00", "50.01", "120.5", "9", "-3.25", ""]
    write(
        "t.csv",
        "id,price,wide\n"
        + "".join(f"{n},{price},{n}2345678901234567.5\n" for n, price in enumerate(prices)),
    )
    write("p.toml", 'table = "t.csv"\nwrite = "h.db#t"\n')
    figures("clean", "p.toml")
    with sqlite3.connect("h.db") as base:
        assert base.execute("SELECT id FROM t WHERE price > 50 ORDER BY price").fetchall() == [
            (2,),
            (3,),
        ]
        assert base.execute(
            "SELECT DISTINCT typeof(price) FROM t WHERE price IS NOT NULL ORDER BY 1"
        ).fetchall() == [("integer",), ("real",)]
        assert base.execute("SELECT DISTINCT typeof(wide) FROM t").fetchall() == [("text",)]
    base.close()
    # It is read back with the places that it was declared with, and goes on into a new table as it is.
    scaled = ["49.99", "50.00", "50.01", "120.50", "9.00", "-3.25", None]
    assert [row["values"]["price"] for row in figures("look", "h.db#t")["shown"]] == scaled
    write("q.toml", 'table = "h.db#t"\nwrite = "h.db#u"\n')
    figures("clean", "q.toml")
    with sqlite3.connect("h.db") as base:
        declared = [
            base.execute(f"SELECT name, type FROM pragma_table_info('{table}')").fetchall()
            for table in "tu"
        ]
        assert declared[0] == declared[1]
        assert base.execute("SELECT * FROM t EXCEPT SELECT * FROM u").fetchall() == []
    base.close()
    # SQLite reads some texts as the double beside the nearest one.
    with sqlite3.connect("near.db") as base:
        base.execute("CREATE TABLE t (lat DECIMAL(10,8), far DECIMAL(10,8))")
        base.executemany(
            "INSERT INTO t VALUES (?, ?)", [(51.565440100000004, 1.5), (-0.5, 2.123456784)]
        )
    base.close()
    told = [tuple(row["values"].values()) for row in figures("look", "near.db#t")["shown"]]
    assert told == [("51.56544010", "1.50000000"), ("-0.50000000", "2.123456784")]
    lats = [f"{at % 90}.{at * 7919 % 10**8:08}" for at in range(30_000)]
    write("lat.csv", "lat\n" + "\n".join(lats) + "\n")
    gravel("query", "SELECT * FROM 'lat.csv'", "--write", "near.db#lat")
    assert figures("compare", "lat.csv", "near.db#lat")["status"] == "same"
    write("names.csv", "a,A,É,é\n1,2,3,4\n")
    told = gravel("query", "SELECT * FROM 'names.csv'", "--write", "near.db#names", status=2).err
    assert "near.db does not tell the columns a and A apart" in told
    gravel("query", "SELECT a, É, é FROM 'names.csv'", "--write", "near.db#names")
    # What SQLite would make NULL is told before it does.
    _stored("n.parquet", pa.table({"x": [1.5, float("nan")]}))
    write("n.toml", 'table = "n.parquet"\nwrite = "h.db#n"\n')
    assert "holds NaN, which SQLite has not" in gravel("clean", "n.toml", status=3).err
    tables = [table["table"] for table in figures("count", "h.db")["tables"]]
    assert tables == ["h.db#t", "h.db#u"]


def test_a_query_over_every_kind_of_store_gives_the_rows_of_one_over_text(
    figures: Any, gravel: Any, postgresql: str
) -> None:
    """A text file joined with Parquet, JSON Lines, SQLite and PostgreSQL: the same rows and types as of five text files."""
    import psycopg

    dice = random.Random(7)
    tables = {
        "boats": ("boat BIGINT, owner TEXT, pier TEXT, fee NUMERIC(8,2)",
                  [(n, f"O{dice.randrange(30):03d}", dice.choice("ABC") or None, f"{dice.randrange(1, 9999) / 100:.2f}") for n in range(300)]),
        "owners": ("owner TEXT, name TEXT, since DATE",
                   [(f"O{n:03d}", dice.choice(["Ægir", "Øst", "Ann", ""]), f"20{dice.randrange(10, 25)}-0{dice.randrange(1, 10)}-01") for n in range(28)]),
        "stays": ("boat BIGINT, nights BIGINT, paid BOOLEAN",
                  [(dice.randrange(320), dice.randrange(1, 9) if n % 11 else None, dice.choice(["true", "false"])) for n in range(400)]),
        "piers": ("pier TEXT, depth NUMERIC(4,1)", [("A", "3.5"), ("B", "2.0"), ("D", "9.9")]),
        "marks": ("nights BIGINT, word TEXT", [(n, f"{n} nights") for n in range(1, 7)]),
    }  # fmt: skip
    for name, (columns, rows) in tables.items():
        names = [column.split()[0] for column in columns.split(", ")]
        lines = [
            "" if cell is None else f'"{cell}"' if cell == "" else str(cell)
            for row in rows
            for cell in row
        ]
        width = len(names)
        body = "".join(
            ",".join(lines[at : at + width]) + "\n" for at in range(0, len(lines), width)
        )
        write(f"{name}.csv", ",".join(names) + "\n" + body)
    for source, target in (
        ("owners", "owners.parquet"),
        ("marks", "marks.jsonl"),
        ("stays", "h.db#stays"),
    ):
        write("p.toml", f'table = "{source}.csv"\nwrite = "{target}"\n')
        gravel("clean", "p.toml")
    with psycopg.connect(postgresql, autocommit=True) as server:
        server.execute(f"DROP TABLE IF EXISTS piers; CREATE TABLE piers ({tables['piers'][0]})")
        for row in tables["piers"][1]:
            server.execute("INSERT INTO piers VALUES (%s, %s)", row)
    stored = {
        "owners": "owners.parquet",
        "marks": "marks.jsonl",
        "stays": "h.db#stays",
        "piers": f"{postgresql}#piers",
    }
    for query in (
        "SELECT b.boat, o.name, o.since, p.depth, s.nights, s.paid, m.word FROM boats b LEFT JOIN owners o USING (owner) "
        "JOIN piers p ON p.pier = b.pier FULL JOIN stays s ON s.boat = b.boat LEFT JOIN marks m ON m.nights = s.nights "
        "ORDER BY b.boat, s.nights, o.name, s.paid",
        "SELECT p.pier, o.name, COUNT(*) AS n, SUM(b.fee * s.nights) AS total, MIN(o.since) AS first, AVG(p.depth) AS depth "
        "FROM stays s JOIN boats b USING (boat) JOIN owners o USING (owner) JOIN piers p ON p.pier = b.pier "
        "WHERE s.paid AND b.fee > 5 GROUP BY p.pier, o.name HAVING COUNT(*) > 1 ORDER BY 1, 2",
        "SELECT b.boat, RANK() OVER (PARTITION BY b.pier ORDER BY s.nights DESC NULLS LAST, b.fee) AS place FROM boats b "
        "JOIN stays s USING (boat) WHERE b.pier IN (SELECT pier FROM piers) AND NOT EXISTS "
        "(SELECT 1 FROM marks m WHERE m.nights = s.nights AND m.nights > 4) ORDER BY 1, 2",
        "SELECT owner FROM owners EXCEPT SELECT owner FROM boats UNION SELECT word FROM marks ORDER BY 1",
    ):  # fmt: skip
        plain = [part for name in tables for part in ("--table", f"{name}={name}.csv")]
        mixed = [
            part
            for name in tables
            for part in ("--table", f"{name}={stored.get(name, name + '.csv')}")
        ]
        ours, theirs = (
            figures("query", query, *plain),
            figures("query", query, *mixed, "--memory", "1MB"),
        )
        assert ours["row_count"] > 3, query
        assert (theirs["rows"], theirs["row_count"]) == (ours["rows"], ours["row_count"]), query
        kinds = [[one["type"].split("(")[0] for one in told["columns"]] for told in (ours, theirs)]
        assert kinds[0] == kinds[1], query


def test_a_type_that_parquet_lacks_is_told_before_the_run(gravel: Any, figures: Any) -> None:
    _stored("t.arrow", pa.table({"wait": ARROW_ALONE["interval"], "n": [1, 2, 3]}))
    write("p.toml", 'table = "t.arrow"\nwrite = "o.parquet"\n')
    assert "CAST(wait AS TEXT)" in gravel("clean", "p.toml", status=2).err
    assert not Path("o.parquet").exists()
    _stored("t.arrow", pa.table({"at": ARROW_ALONE["moment_s"]}))
    proofs = figures("clean", "p.toml")["proofs"]
    assert "at is timestamp[ms] for timestamp[s], which Parquet has not" in proofs[-1]["detail"]


@settings(max_examples=60)
@given(data=st.data(), rows=st.integers(0, 9), group=st.integers(1, 4))
def test_every_type_of_parquet_and_arrow_is_read_as_it_is(
    data: Any, rows: int, group: int, tmp_path_factory: Any
) -> None:
    from gravel.language.types import TEXT
    from gravel.sources.opening import open_table
    from gravel.sources.source import scan

    folder = tmp_path_factory.mktemp("stores")
    columns = {
        name: data.draw(st.lists(st.none() | values, min_size=rows, max_size=rows))
        for name, (_, values, _) in KINDS.items()
    }
    table = pa.table({name: pa.array(values, KINDS[name][0]) for name, values in columns.items()})
    pq.write_table(table, folder / "t.parquet", row_group_size=group)
    with (
        pa.OSFile(str(folder / "t.arrow"), "wb") as sink,
        pa.ipc.new_file(sink, table.schema) as writer,
    ):
        writer.write_table(table, max_chunksize=group)
    expected = {
        name: [None if value is None else KINDS[name][2](value) for value in values]
        for name, values in columns.items()
    }
    for name in ("t.parquet", "t.arrow"):
        found = open_table(str(folder / name))
        batches = list(scan(found, lambda batch: batch.texts()))
        assert [row for batch in batches for row in batch.rows] == list(range(1, rows + 1))
        for at, column in enumerate(found.columns):
            assert [
                value for batch in batches for value in batch.columns[at].to_pylist()
            ] == expected[column], column
        kinds = {
            column: str(kind)
            for column, kind in zip(
                found.columns, found.types(list(range(len(KINDS)))).values(), strict=True
            )
        }
        assert (kinds["tiny"], kinds["exact"], kinds["truth"], kinds["day"]) == (
            "INTEGER",
            "DECIMAL(20,3)",
            "BOOLEAN",
            "DATE",
        )
        assert all(
            kinds[column] == str(TEXT) for column in ("text", "long", "coded", "raw", "list")
        )


ROWS = [
    ("1", "Gull", "10.50", None),
    ("2", ' "Tern",\n', "7.00", "x"),
    ("3", "", None, "y"),
    ("4", None, "1.25", "ä"),
]


def _stores() -> None:
    """The same rows in every kind of file, 'code' a text everywhere."""
    quoted = lambda value: "" if value is None else '"' + value.replace('"', '""') + '"'  # noqa: E731
    lines = [f"{a},{quoted(b)},{c or ''},{quoted(d)}\n" for a, b, c, d in ROWS]
    write("t.csv", "id,name,fee,code\n" + "".join(lines))
    write(
        "t.tsv",
        ("id,name,fee,code\n" + "".join(lines)).replace(",", "\t").replace('"Tern""\t', '"Tern"",'),
    )
    Path("t.csv.gz").write_bytes(gzip.compress(Path("t.csv").read_bytes()))
    with pa.CompressedOutputStream("t.csv.zst", "zstd") as sink:
        sink.write(Path("t.csv").read_bytes())
    table = pa.table({
        "id": pa.array([int(row[0]) for row in ROWS]), "name": pa.array([row[1] for row in ROWS]),
        "fee": pa.array([row[2] and Decimal(row[2]) for row in ROWS], pa.decimal128(8, 2)), "code": pa.array([row[3] for row in ROWS]),
    })  # fmt: skip
    pq.write_table(table, "t.parquet", row_group_size=3)
    with pa.OSFile("t.arrow", "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    objects = [
        f'{{"id": {a}, "name": {json.dumps(b)}, "fee": {c or "null"}, "code": {json.dumps(d)}}}\n'
        for a, b, c, d in ROWS
    ]
    write("t.jsonl", "".join(objects))
    base = sqlite3.connect("t.db")
    base.execute("CREATE TABLE t (id INTEGER, name TEXT, fee TEXT, code TEXT)")
    base.executemany("INSERT INTO t VALUES (?, ?, ?, ?)", ROWS)
    base.commit()
    base.close()


FILES = (
    "t.tsv",
    "t.csv.gz",
    "t.csv.zst",
    "t.parquet",
    "t.arrow",
    "t.jsonl",
    "t.db",
    "t.db#t",
    "postgresql",
    "mariadb",
)


@pytest.mark.parametrize("name", FILES)
def test_rows_are_the_same_whatever_they_are_kept_in(
    name: str, figures: Any, gravel: Any, request: Any, monkeypatch: Any
) -> None:
    _stores()
    if name in ("postgresql", "mariadb"):
        name = request.getfixturevalue(name) + "#same"
        write("s.toml", f'table = "t.parquet"\nwrite = "{name}"\nreplace = true\n')
        gravel("clean", "s.toml")
    if name == "t.tsv":
        write(
            "t.tsv",
            'id\tname\tfee\tcode\n1\tGull\t10.50\t\n2\t" ""Tern"",\n"\t7.00\tx\n3\t""\t\ty\n4\t\t1.25\tä\n',
        )
    expected = figures("look", "t.csv", "--text", "fee")
    found = figures("look", name, "--text", "fee")
    assert found["shown"] == expected["shown"]
    assert figures("compare", "t.csv", name, "--key", "id", "--text", "fee")["status"] == "same"
    assert figures("count", name, "--key", "id")["tables"][0]["rows"] == 4
    asked = f"SELECT code, COUNT(*) AS n FROM '{name}' WHERE id > 1 GROUP BY code ORDER BY code"
    assert figures("query", asked)["rows"] == [["x", 1], ["y", 1], ["ä", 1]]
    assert figures("duplicates", name, "--on", "UPPER(name)")["null_rows"] == 1
    write(
        "p.toml",
        f'table = "{name}"\nwrite = "o.csv"\nkey = ["id"]\n[[step]]\nset = {{ name = "TRIM(name)" }}\n[[step]]\ndrop_rows = "id = 3"\n',
    )
    done = figures("clean", "p.toml")
    assert (done["status"], done["rows_out"]) == ("good", 3)
    assert [row["values"]["id"] for row in figures("look", "o.csv")["shown"]] == [1, 2, 4]
    assert figures("verify", "o.record.json")["status"] == "same"
    assert figures("profile", name)["rows"] == 4
    assert [one["nulls"] for one in figures("profile", name)["columns"]] == [0, 1, 1, 1]
    pairs = figures("duplicates", name, "--near", "code", "--within", "1", "--key", "id")["pairs"]
    assert {(one["a"], one["b"]) for one in pairs} == {(2, 3), (2, 4), (3, 4)}
    assert figures("look", name, "--sort", "id DESC", "--columns", "id")["shown"][0]["values"] == {
        "id": 4
    }
    assert figures("trace", "p.toml", "--where", "id = 2")["rows"][0]["paths"][0]["ends"] == "kept"
    assert gravel("try", name, "name = UPPER(name)", "--add", "n.toml").status == 0
    if name.startswith("mysql"):  # the plan that was begun has no password in it
        assert "may come from" in gravel("clean", "n.toml", "--dry-run", status=3).err
        monkeypatch.setenv("MYSQL_PWD", "hush!")
    assert gravel("clean", "n.toml", "--dry-run").status == 0


def test_parts_of_a_database_that_are_kept_in_several_ways_are_one_column(
    figures: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Numbers and truth are values where all of a part are; a column whose parts differ is its texts."""
    monkeypatch.setattr("gravel.stores.sql.sqlite_values._ROWS", 2)
    monkeypatch.setattr("gravel.sources.kept_parts._IN_MEMORY", 64)
    with sqlite3.connect("p.db") as base:
        base.execute("CREATE TABLE t (id INTEGER, fee DECIMAL(6,2), pay DECIMAL(6,2), ok BOOLEAN, big INTEGER, berth TEXT)")  # fmt: skip
        fees, pays = [1, 2.5, None, -0.25, 1234.56], [1, 2, 3, 0.125, None]
        oks, bigs = [1, None, 0, 1, 0], [-(2**63), 2**63 - 1, None, None, None]
        rows = zip(range(5), fees, pays, oks, bigs, ["A", None, "B ", "", "Ö"], strict=True)
        base.executemany("INSERT INTO t VALUES (?, ?, ?, ?, ?, ?)", rows)
        base.execute("INSERT INTO t VALUES (5, 3, 4, 2, NULL, CAST(x'ff41' AS TEXT))")
    base.close()
    shown = [list(row["values"].values()) for row in figures("look", "p.db#t")["shown"]]
    assert shown == [
        [0, "1.00", "1.00", "true", "-9223372036854775808", "A"],
        [1, "2.50", "2.00", None, "9223372036854775807", None],
        [2, None, "3.00", "false", None, "B "],
        [3, "-0.25", "0.125", "true", None, ""],
        [4, "1234.56", None, "false", None, "Ö"],
        [5, "3.00", "4.00", "2", None, "/0E="],
    ]
    write(
        "p.toml", 'table = "p.db#t"\nwrite = "t.parquet"\ntypes = { ok = "TEXT", berth = "TEXT" }\n'
    )
    figures("clean", "p.toml")
    kinds = ["int64", "decimal128(6, 2)", "decimal128(4, 3)", "string", "int64", "string"]
    assert [str(kind) for kind in pq.read_schema("t.parquet").types] == kinds
    assert pq.read_table("t.parquet").column("berth").to_pylist() == [row[5] for row in shown]


def test_databases_list_their_tables_and_say_what_does_not_fit(figures: Any, gravel: Any) -> None:
    _stores()
    base = sqlite3.connect("h.db")
    base.execute('CREATE TABLE "odd ""name" (built INTEGER, day DATE, raw BLOB)')
    base.executemany(
        'INSERT INTO "odd ""name" VALUES (?, ?, ?)',
        [(1999, "2024-01-01", b"\0a"), ("1990?", None, None), (2, "2024-02-01", b"")],
    )
    base.execute('CREATE VIEW few AS SELECT built FROM "odd ""name" WHERE day IS NOT NULL')
    base.commit()
    base.close()
    before = Path("h.db").read_bytes()
    assert [(one["table"], one["rows"]) for one in figures("count", "h.db")["tables"]] == [
        ("h.db#few", 2),
        ('h.db#odd "name', 3),
    ]
    told = gravel("look", 'h.db#odd "name')
    assert (
        "1 of the values in built does not match its declared type INTEGER, such as '1990?'"
        in told.err
    )
    assert [row["values"]["raw"] for row in figures("look", 'h.db#odd "name')["shown"]] == [
        "AGE=",
        None,
        "",
    ]
    assert figures("look", 'h.db#odd "name', "--where", "day > DATE '2024-01-15'")["matching"] == 1
    assert figures("query", "SELECT COUNT(*) FROM few", "--in", "h.db")["rows"] == [[2]]
    assert "h.db has 2 tables: few, odd" in gravel("look", "h.db", status=2).err
    assert "did you mean few?" in gravel("look", "h.db#fwe", status=2).err
    assert Path("h.db").read_bytes() == before


def test_what_cannot_be_read_is_told_without_a_traceback(gravel: Any, figures: Any) -> None:
    _stores()
    for name in ("x.parquet", "x.arrow", "x.db", "x.csv.gz", "x.csv.zst"):
        write(name, "no such thing, only text\n" * 9)
        assert gravel("count", name, status=3).err
        assert gravel("count", f"none-{name}", status=3).err
    write("x.jsonl", '{"a": 1}\nnonsense\n[1]\n\n{"a": "2", "b": {"c": [1.50]}}\n')
    found = figures("look", "x.jsonl")
    assert [list(row["values"].values()) for row in found["shown"]] == [
        ["1", None],
        ["2", '{"c": [1.50]}'],
    ]
    assert [row["row"] for row in found["shown"]] == [1, 4]
    assert "no JSON" in gravel("look", "x.jsonl").err
    write("e.jsonl", "\n")
    assert "no object in it" in gravel("count", "e.jsonl", status=3).err


def test_several_files_are_one_table(figures: Any, gravel: Any) -> None:
    write("s-1.csv", "id,name\n1,Gull\n2\n3,Tern\n")
    write("s-2.csv", 'name,id,fee\n"a\nb",4,1.50\n')
    found = figures("look", "s-*.csv")
    assert [[row["row"], *row["values"].values()] for row in found["shown"]] == [
        [1, 1, "Gull", None, "s-1.csv"], [3, 3, "Tern", None, "s-1.csv"], [4, 4, "a\nb", "1.50", "s-2.csv"],
    ]  # fmt: skip
    told = gravel("count", "s-*.csv", "--total", "fee")
    assert "s-1.csv has no fee" in told.err
    assert "row 2, line 3: s-1.csv: 1 field where the header has 2" in told.err
    write(
        "p.toml",
        'table = "s-*.csv"\nwrite = "o.csv"\nkey = ["id"]\nmalformed = "set aside"\n[[step]]\nset = { name = "UPPER(name)" }\n',
    )
    done = figures("clean", "p.toml")
    assert (done["rows_in"], done["rows_out"], done["malformed"]) == (3, 3, 1)
    detail = {one["proof"]: one["detail"] for one in done["proofs"]}[
        "every line of the file is accounted for"
    ]
    assert (
        detail
        == "7 lines in 2 files = 2 of headers + 3 rows + 1 malformed + 1 line breaks inside values"
    )
    assert figures("verify", "o.record.json")["status"] == "same"
    write("s-2.csv", "name,id,fee\nc,4,1.50\n")
    assert figures("verify", "o.record.json", status=1)["findings"][0]["what"] == "s-2.csv: bytes"
    write("s-3.csv", "name,id,fee\nd,5,1.50\n")
    added = figures("verify", "o.record.json", status=1)["findings"][-1]
    assert (added["what"], added["then"]) == ("s-3.csv: the file", "not there")
    Path("s-3.csv").unlink()
    asked = "SELECT gravel_file, COUNT(*) AS n FROM 's-*.csv' GROUP BY gravel_file ORDER BY n DESC"
    assert figures("query", asked)["rows"] == [["s-1.csv", 2], ["s-2.csv", 1]]
    # A file by itself is another table than the pattern that meets it.
    both = "SELECT (SELECT COUNT(*) FROM 's-*.csv' AS a) AS every, (SELECT COUNT(*) FROM 's-1.csv' AS b) AS one"
    assert figures("query", both)["rows"] == [[3, 2]]
    for call in (
        ("duplicates", "s-*.csv", "--report", "s-2.csv"), ("check", "s-*.csv", "id > 0", "--set-aside", "s-2.csv"),
        ("compare", "s-*.csv", "s-1.csv", "--differences", "s-2.csv"), ("query", "SELECT id FROM 's-*.csv'", "--write", "s-2.csv"),
    ):  # fmt: skip
        gravel(*call, status=2)
    assert Path("s-2.csv").read_text() == "name,id,fee\nc,4,1.50\n"
    assert "no file is called as x-*.csv says" in gravel("count", "x-*.csv", status=3).err
    for target in ("s-2.csv", "s-3.csv"):  # the pattern would meet it the next time
        write("p.toml", f'table = "s-*.csv"\nwrite = "{target}"\n')
        assert "over its own input" in gravel("clean", "p.toml", status=2).err
    gravel("try", "s-*.csv", "name = UPPER(name)", "--add", "sub.toml")
    assert Path("sub.toml").read_text().startswith('table = "s-*.csv"\nwrite = "clean-s.csv"\n')


@pytest.mark.parametrize("kind", ["csv", "parquet", "row groups"])
def test_many_small_parts_are_read_together_and_give_the_same(
    kind: str, gravel: Any, figures: Any, monkeypatch: pytest.MonkeyPatch, folder: Path
) -> None:
    rows = [{"id": at, "name": f"boat {at % 7}", "fee": at / 4} for at in range(600)]
    every = pa.Table.from_pylist(rows)
    Path("parts").mkdir()
    if kind == "row groups":
        pq.write_table(every, "parts/p.parquet", row_group_size=10)
    for at in range(0 if kind == "row groups" else 60):
        part = every.slice(10 * at, 10)
        if kind == "csv":
            lines = [",".join(map(str, row.values())) for row in part.to_pylist()]
            broken = ["9,too,many,fields"] if at == 30 else []
            write(f"parts/p{at:02}.csv", "\n".join(["id,name,fee", *lines, *broken, ""]))
        else:
            pq.write_table(part, f"parts/p{at:02}.parquet")
    pattern = f"parts/p*.{'csv' if kind == 'csv' else 'parquet'}"
    write("p.toml", f"table = '{pattern}'\nwrite = 'o.csv'\nkey = ['id']\nmalformed = 'set aside'\n"
          "[[step]]\ndrop_rows = 'id = 305'\n[[step]]\nsort = ['fee DESC']\n")  # fmt: skip
    calls = [
        ["profile", pattern], ["look", pattern, "--where", "id > 303", "--rows", "9"], ["look", pattern, "--sort", "fee DESC"],
        ["duplicates", pattern, "--on", "name"], ["count", pattern, "--key", "id"], ["clean", "p.toml"], ["trace", "p.toml", "--row", "311"],
    ]  # fmt: skip
    batches: list[int] = []
    run = OfBatch.__call__
    monkeypatch.setattr(OfBatch, "__call__", lambda *more: batches.append(1) or run(*more))

    def told() -> list[str]:
        every = [gravel(*call, "--format", "json", status=None) for call in calls]
        return [*(ran.out + ran.err for ran in every), Path("o.csv").read_text()]

    monkeypatch.setattr("gravel.sources.source._FEW_ROWS", 1 << 16)
    together = told()
    assert len(batches) < 30
    monkeypatch.setattr("gravel.sources.source._FEW_ROWS", 1)
    assert told() == together
    assert len(batches) > 300
    # A shell has put the names in place of a pattern.
    names = sorted(map(str, Path("parts").iterdir()))
    if kind != "row groups":
        mistake = gravel("profile", *names, status=2).err
        assert "a word too many: /" in gravel("profile", pattern, "/", status=2).err
        assert f"59 words too many: {names[1]} {names[2]} {names[3]} …" in mistake
        assert f"a pattern in quotes: 'parts/*.{kind}'" in mistake


@pytest.mark.parametrize(
    "target",
    ["o.csv", "o.csv.gz", "o.parquet", "o.arrow", "o.jsonl", "o.jsonl.gz", "o.xlsx", "o.db#t"],
)
def test_a_result_without_rows_is_written_and_verified(
    target: str, gravel: Any, figures: Any
) -> None:
    """As what it is: JSON Lines without a line have no columns to be read back."""
    write("t.csv", "id,name\n1,a\n2,b\n")
    write("p.toml", f'table = "t.csv"\nwrite = "{target}"\n[[step]]\nkeep_rows = "id > 2"\n')
    done = figures("clean", "p.toml")
    assert (done["status"], done["rows_in"], done["rows_out"]) == ("good", 2, 0)
    for more in ((), ("--rerun",)):
        assert figures("verify", done["record"], *more)["status"] == "same"
    gravel("query", "SELECT id FROM 't.csv' WHERE id > 2", "--write", target.replace("o.", "q."))
    if "jsonl" not in target:
        counted = figures("count", target)["tables"][0]
        assert (counted["rows"], counted["columns"]) == (0, 2)


def test_texts_that_a_file_has_as_dictionaries_are_profiled_as_others(
    figures: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Row groups with dictionaries of their own, values without a row, NULLs, repeated values, many values."""
    monkeypatch.setattr("gravel.sources.arrow._PART", 700)
    dice = random.Random(3)
    words = [
        *(f"Möwe {number}" for number in range(300)),
        "tern",
        "Tern ",
        " TERN",
        "",
        "n/a",
        None,
    ]
    rows = {
        "name": dice.choices(words, k=9000),
        "few": dice.choices(["open", "Open", "shut", None], [90, 5, 4, 1], k=9000),
        "null": pa.nulls(9000, pa.string()),
        "many": [f"HB {number:05}" for number in range(9000)],
        "a.b": dice.choices(["1", "2", "x"], k=9000),
    }
    table = pa.table(rows)
    pq.write_table(table, "plain.parquet", use_dictionary=False)
    pq.write_table(table, "coded.parquet", row_group_size=2500)
    found = [
        figures("profile", name) | {"table": "", "findings": []}
        for name in ("plain.parquet", "coded.parquet")
    ]
    assert found[0] == found[1]
    assert figures("compare", "plain.parquet", "coded.parquet", "--key", "many")["status"] == "same"


def test_a_folder_of_part_files_is_one_table(
    figures: Any, gravel: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As cluster engines and data frames write it; pyarrow's own writer is the reference."""
    monkeypatch.setattr("gravel.sources.arrow._OPEN._most", 2)  # of four files at a time
    days = ["2024-05-01", None] * 50
    rows = pa.table({"id": list(range(100)), "berth": ["Möwe=1", "A b/c"] * 50, "day": days})
    by = ds.partitioning(pa.schema([("day", pa.string()), ("berth", pa.string())]), flavor="hive")
    ds.write_dataset(rows, "divided", format="parquet", partitioning=by)
    ds.write_dataset(rows, "parts", format="csv", max_rows_per_file=40, max_rows_per_group=40)
    write("parts/_SUCCESS", "")
    write("parts/part-3.csv", "")  # of a task without a row
    pq.write_table(rows, "rows.parquet")
    for table in ("divided", "parts/"):
        compared = figures("compare", table, "rows.parquet", "--key", "id")
        assert (compared["both"], compared["changed_rows"]) == (100, 0), table
    found = figures("profile", "divided")["columns"]
    assert [(item["name"], item["type"]) for item in found] == [
        ("id", "INTEGER"), ("day", "DATE"), ("berth", "TEXT"),
    ]  # fmt: skip
    write("p.toml", 'table = "divided"\nwrite = "o.parquet"\n')
    assert figures("clean", "p.toml")["rows_out"] == 100
    assert figures("verify", "o.record.json")["status"] == "same"
    shutil.copy("rows.parquet", "divided/day=2024-05-01/part-9.parquet")
    added = figures("verify", "o.record.json", status=1)["findings"]
    assert [item["what"] for item in added] == ["divided/day=2024-05-01/part-9.parquet: the file"]
    Path("divided/day=2024-05-01/part-9.parquet").unlink()
    write("p.toml", 'table = "divided"\nwrite = "divided/day=2024-05-01/part-9.parquet"\n')
    assert "over its own input" in gravel("clean", "p.toml", status=2).err
    # What would be read wrong is told.
    for name, said in {
        "parts/other.csv": "differ by a number alone",
        "parts/day=1/part-0.csv": "in folders of other columns",
        "parts/old/part-0.csv": "not called column=value",
        "parts/_delta_log/0.json": "old rows would be among them",
        "parts/_temporary/part-0.csv": "not committed",
    }.items():
        Path(name).parent.mkdir(exist_ok=True)
        write(name, "id,berth,day\n1,,\n")
        assert said in gravel("count", "parts", status=3).err, name
        shutil.rmtree(Path(name).parent) if name.count("/") > 1 else Path(name).unlink()
    assert figures("count", "parts")["tables"][0]["rows"] == 100
