"""Tables written: into every kind of store and back, value by value; in place, only what differs, and never over another's change."""

from __future__ import annotations

import datetime
import gzip
import json
import os
import random
import re
import signal
import sqlite3
import subprocess
import threading
import time
from collections import Counter
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from conftest import PROGRAM, parsed, program, write

WORDS = st.text(
    st.characters(codec="utf-8", exclude_categories=["Cs"], exclude_characters="\0"), max_size=6
)
MOMENTS = st.datetimes(datetime.datetime(1900, 1, 1), datetime.datetime(2100, 1, 1))
ZONED = MOMENTS.map(lambda at: at.replace(tzinfo=datetime.UTC))
# What a column of each type may hold. Lengths and ranges are those that all stores have.
KINDS: dict[str, tuple[pa.DataType, Any]] = {
    "whole": (pa.int64(), st.integers(-(2**63), 2**63 - 1)),
    "exact": (pa.decimal128(38, 4), st.decimals(-(10**30), 10**30, places=4)),
    "fine": (pa.decimal128(20, 12), st.decimals(-1, 1, places=12)),
    "real": (pa.float64(), st.floats(-1e300, 1e300, allow_subnormal=False)),
    "truth": (pa.bool_(), st.booleans()),
    "day": (pa.date32(), st.dates(datetime.date(1000, 1, 1))),
    "clock": (pa.time64("us"), st.times()),
    "moment": (pa.timestamp("us"), MOMENTS),
    "zoned": (pa.timestamp("us", "UTC"), ZONED),
    'odd "name" %s `:x`': (
        pa.string(),
        WORDS
        | st.sampled_from(["", " a ", "007", "1.50", "true", "NULL", "2024-01-01", 'a,"b"\r\n']),
    ),
    "raw": (pa.binary(), st.binary(max_size=5)),
    "list": (pa.list_(pa.int64()), st.lists(st.integers(0, 9), max_size=3)),
}
STORES = (
    "t.parquet",
    "t.arrow",
    "t.jsonl",
    "t.csv",
    "t.csv.gz",
    "t.tsv.zst",
    "t.db#t",
    "postgresql",
    "mariadb",
)


def _plan(table: str, target: str, more: str = "", name: str = "p.toml") -> None:
    write(name, f"table = {json.dumps(table)}\nwrite = {json.dumps(target)}\n{more}")


@pytest.mark.parametrize("store", STORES)
def test_every_type_comes_back_as_it_was_from_every_store(
    store: str, request: Any, folder: Path
) -> None:
    """Parquet to the store, the store to Parquet: each value is what it was, and so is its type where the store keeps types."""
    from gravel.plans.loading import read_plan
    from gravel.plans.run import clean

    target = (
        request.getfixturevalue(store) + "#kept" if store in ("postgresql", "mariadb") else store
    )

    @settings(max_examples=6 if store == "mariadb" else 12, phases=[Phase.generate])
    @given(data=st.data(), rows=st.integers(0, 7))
    def holds(data: Any, rows: int) -> None:
        columns = {
            name: data.draw(st.lists(st.none() | values, min_size=rows, max_size=rows))
            for name, (_, values) in KINDS.items()
        }
        table = pa.table(
            {name: pa.array(values, KINDS[name][0]) for name, values in columns.items()}
        )
        table = table.append_column("id", pa.array(range(rows), pa.int64()))
        pq.write_table(table, "s.parquet")
        _plan("s.parquet", target, "key = ['id']\n" + ("replace = true\n" if "#" in target else ""))
        done = clean(read_plan(Path("p.toml")))
        assert done.good, [one for one in done.proofs if not one.holds] + list(done.stopped)
        if store == "t.jsonl" and not rows:
            return  # a file without a line has no columns
        kinds = {
            "clock": "TIME",
            "zoned": "TIMESTAMP WITH TIME ZONE",
            "exact": "DECIMAL(38,4)",
            "fine": "DECIMAL(20,12)",
            "real": "DOUBLE PRECISION",
        }
        if store.startswith(("t.csv", "t.tsv")):
            kinds |= dict.fromkeys(('odd "name" %s `:x`', "raw", "list"), "TEXT")
        plain = store.startswith(("t.p", "t.a"))
        types = (
            ""
            if plain
            else "[types]\n"
            + "".join(f"{json.dumps(name)} = '{kind}'\n" for name, kind in kinds.items())
        )
        _plan(target, "b.parquet", "key = ['id']\n" + types)
        again = clean(read_plan(Path("p.toml")))
        assert again.good, [one for one in again.proofs if not one.holds]
        found = pq.read_table("b.parquet")
        order = found.column("id").combine_chunks().cast(pa.int64()).to_pylist() if rows else []
        for name, values in columns.items():
            back = found.column(name).to_pylist()
            expected = [_told(value, name, found.schema.field(name).type) for value in values]
            assert [back[order.index(row)] for row in range(rows)] == expected, name

    holds()


def _told(value: Any, name: str, kind: Any) -> Any:
    """A value as it stands where a store has no type for it."""
    import base64

    if value is None or not pa.types.is_string(kind):
        return value
    if name == "list":
        return json.dumps(value)
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, bool):
        return str(value).lower()
    return (
        str(value).rstrip("0")
        if isinstance(value, datetime.datetime) and value.microsecond
        else str(value)
    )


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def harbour(request: Any, folder: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    """A database with nothing in it, and how to ask it."""
    monkeypatch.setenv("MYSQL_PWD", "hush!")
    return Harbour(
        request.param,
        "h.db" if request.param == "sqlite" else request.getfixturevalue(request.param),
    )


class Harbour:
    """A database asked by its own driver."""

    def __init__(self, kind: str, address: str) -> None:
        self.kind, self.address = kind, address
        if kind == "postgresql":  # whatever a test that failed has left
            self.run("DROP SCHEMA public CASCADE")
            self.run("CREATE SCHEMA public")
        for name in (
            "fresh",
            "few",
            "boats",
            "boats_before",
            "gone",
            "kept",
        ):  # those that refer to others first
            self.run(f"DROP TABLE IF EXISTS {name}")

    def connect(self) -> Any:
        if self.kind == "sqlite":
            return sqlite3.connect(self.address, isolation_level=None)
        if self.kind == "postgresql":
            import psycopg

            return psycopg.connect(self.address, autocommit=True)
        import pymysql
        from sqlalchemy import make_url

        url = make_url(self.address)
        return pymysql.connect(
            host=url.host,
            port=url.port,
            user=url.username,
            password=url.password,
            database=url.database,
            autocommit=True,
        )

    def run(self, sql: str, rows: Any = None) -> list[tuple[Any, ...]]:
        with closing(self.connect()) as base:
            cursor = base.cursor()
            if rows is not None:
                cursor.executemany(sql if self.kind != "sqlite" else sql.replace("%s", "?"), rows)
                return []
            cursor.execute(sql)
            return [tuple(row) for row in cursor.fetchall()] if cursor.description else []

    def table(self, name: str = "boats") -> str:
        return f"{self.address}#{name}"


def _boats(harbour: Harbour, rows: Any, key: str = "PRIMARY KEY") -> None:
    harbour.run(
        f"CREATE TABLE boats (id BIGINT {key}, name VARCHAR(60), fee DECIMAL(9,2), services VARCHAR(60), seen INT)"
    )
    harbour.run(
        "INSERT INTO boats VALUES (%s, %s, %s, %s, 0)",
        [(at, *row) for at, row in enumerate(rows, 1)],
    )


STEPS = [
    "set = { name = 'UPPER(TRIM(name))' }", "set = { fee = 'fee * 2', name = \"COALESCE(name, 'x')\", seen = 'COALESCE(fee, 7) * 1.0' }", "drop_rows = 'fee > 20'",
    "keep_rows = 'name IS NOT NULL'", "deduplicate = { by = ['UPPER(TRIM(name))'], fill = true }", "sort = 'name DESC'",
    "split = { column = 'services', on = ';', into = 'rows' }", "set = { services = 'services' }",
    "set = { fee = 'CAST(name AS INTEGER)' }\non_error = 'set aside'", "columns = ['fee', 'id', 'seen', 'services', 'name']",
]  # fmt: skip
NAMES = st.none() | st.sampled_from(
    ["Gull", " Gull", "GULL ", "", "7", "Blå Jungfrun", 'it\'s "so" %s :x \\']
)


def test_in_place_makes_of_a_table_what_the_plan_makes_of_it(
    harbour: Harbour, figures: Any
) -> None:
    """The same plan into a CSV file and in place: the same rows, and no other row is touched."""
    others = {
        "sqlite": "DELETE FROM boats",
        "postgresql": "TRUNCATE boats",
        "mariadb": "DELETE FROM boats",
    }[harbour.kind]
    _boats(harbour, [], key="NOT NULL")

    @settings(max_examples=8, phases=[Phase.generate])
    @given(
        rows=st.lists(
            st.tuples(
                NAMES,
                st.none() | st.integers(0, 40),
                st.none() | st.sampled_from(["a", "a;b", "c; d;c", ""]),
            ),
            max_size=8,
        ),
        steps=st.lists(st.sampled_from(STEPS), max_size=4),
    )
    def holds(rows: Any, steps: list[str]) -> None:
        harbour.run(others)
        harbour.run(
            "INSERT INTO boats VALUES (%s, %s, %s, %s, 0)",
            [(at, *row) for at, row in enumerate(rows, 1)],
        )
        text = "key = ['id']\n" + "".join(f"[[step]]\n{step}\n" for step in steps)
        _plan(harbour.table(), "o.csv", text)
        expected = figures("clean", "p.toml")
        before = sorted(harbour.run("SELECT id, name, fee, services, seen FROM boats"), key=str)
        _plan(harbour.table(), "in place", text)
        planned = figures("clean", "p.toml", "--dry-run")["changes"]
        done = figures("clean", "p.toml")
        assert (done["rows_in"], done["rows_out"]) == (expected["rows_in"], expected["rows_out"])
        assert done["changes"] == planned
        head, *lines = parsed(Path("o.csv").read_text())
        wanted = [dict(zip(head, line, strict=True)) for line in lines]
        after = harbour.run("SELECT id, name, fee, services, seen FROM boats")
        assert Counter(map(_row, after)) == Counter(
            _row([one["id"], one["name"], one["fee"], one["services"], one["seen"]])
            for one in wanted
        )
        # As many rows as differ, counted here by what was there before.
        changed = planned["updated"] + planned["deleted"]
        assert len(before) - len(set(map(_row, before)) & set(map(_row, after))) == changed
        assert planned["inserted"] - planned["deleted"] == len(after) - len(before)
        assert figures("verify", "p.record.json", "--connect")["status"] == "same"

    holds()


def _row(values: Any) -> tuple[Any, ...]:
    """A row to compare: numbers by value."""
    number, name, fee, services, seen = values
    return (
        int(number),
        name,
        None if fee is None else Decimal(str(fee)),
        services,
        Decimal(str(seen)),
    )


def test_a_new_table_its_key_a_backup_and_rows_left_behind(
    harbour: Harbour, figures: Any, gravel: Any, folder: Path
) -> None:
    _boats(harbour, [(f"boat {n} ", n, None) for n in range(1, 41)])
    more = f"key = ['id']\nrejects = {json.dumps(harbour.table('gone'))}\n[[step]]\nset = {{ name = 'TRIM(name)' }}\n"
    more += "[[step]]\ndrop_rows = 'fee > 30'\n"
    _plan(harbour.table(), harbour.table("fresh"), more)
    done = figures("clean", "p.toml", "--report", "r.html")
    for path in folder.iterdir():
        assert path.name in ("p.toml", "h.db") or "hush" not in path.read_text("utf-8"), path
    assert "30 rows written to" in Path("r.html").read_text("utf-8")
    assert (done["status"], done["rows_out"], done["output"].rpartition("#")[2]) == (
        "good",
        30,
        "fresh",
    )
    assert harbour.run("SELECT COUNT(*), MIN(name), SUM(fee) FROM fresh") == [(30, "boat 1", 465)]
    assert harbour.run("SELECT COUNT(*), MIN(gravel_step) FROM gone") == [(10, "2")]
    with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
        harbour.run("INSERT INTO fresh (id) VALUES (1)")
    listed = figures("count", harbour.address)["tables"]
    found = {
        one["table"].rpartition("#")[2].removeprefix("public."): (one["rows"], one["store_key"])
        for one in listed
    }
    assert {"boats": (40, ["id"]), "fresh": (30, ["id"]), "gone": (10, [])}.items() <= found.items()
    assert "is there already" in gravel("clean", "p.toml", status=2).err
    _plan(
        harbour.table(),
        harbour.table("fresh"),
        "replace = true\n" + more.replace("fee > 30", "fee > 35"),
    )
    harbour.run("CREATE INDEX by_name ON fresh (fee)")
    ran = gravel("clean", "p.toml", "--backup", "boats_before", "--format", "json")
    assert ran.json["rows_out"] == 35
    assert "the table that is replaced had index by_name; the new one has not" in " ".join(
        ran.err.split()
    )
    assert harbour.run("SELECT COUNT(*) FROM boats_before") == [(30,)]
    assert harbour.run("SELECT COUNT(*) FROM fresh") == [(35,)]
    assert harbour.run("SELECT COUNT(*) FROM gone") == [(5,)]
    assert (
        "a backup replaces nothing"
        in gravel("clean", "p.toml", "--backup", "boats_before", status=2).err
    )
    _plan(harbour.table(), "in place", "[[step]]\nset = { name = 'UPPER(TRIM(name))' }\n")
    assert figures("clean", "p.toml", "--backup", "few")["changes"] == {
        "updated": 40,
        "deleted": 0,
        "inserted": 0,
        "cells": {"name": 40},
    }
    assert harbour.run("SELECT MIN(name) FROM few") == [("boat 1 ",)]
    assert harbour.run("SELECT MIN(name) FROM boats") == [("BOAT 1",)]
    harbour.run("DROP TABLE few")
    # Nothing is written that the database does not take, and nothing of the rest stays.
    _plan(
        harbour.table(),
        "in place",
        "[[step]]\nset = { name = \"REPEAT('x', 61)\" }\n[[step]]\ndrop_rows = 'id = 1'\n",
    )
    if harbour.kind != "sqlite":  # which does not keep to a length
        ran = gravel("clean", "p.toml", "--backup", "few", status=1)
        assert "does not take what the plan makes" in ran.err
        assert "hush" not in ran.out + ran.err
        assert harbour.run("SELECT COUNT(*), MIN(name) FROM boats") == [(40, "BOAT 1")]
        _plan(harbour.table(), "in place", "[[step]]\nset = { fee = 'fee + 1', seen = 'name' }\n")
        assert re.search("column .*seen", gravel("clean", "p.toml", status=1).err)
        assert not [
            one
            for one in figures("count", harbour.address)["tables"]
            if one["table"].endswith("few")
        ]
        assert not list(folder.glob("*rejects*"))
    harbour.run("CREATE VIEW watch AS SELECT * FROM boats")
    try:
        _plan(harbour.table("watch"), "in place", "key = ['id']\n")
        assert "is a view" in gravel("clean", "p.toml", status=2).err
        assert figures("count", harbour.table("watch"))["tables"][0]["rows"] == 40
        for target, left, told in (
            ("boats", "", "over its own input"),
            ("watch", "replace = true\n", "is a view"),
            ("fresh", f"rejects = '{harbour.table('boats')}'\n", "own input"),
            ("new", f"rejects = '{harbour.table('boats_before')}'\n", "holds no rejected rows"),
            ("new", "rejects = 'x.db#t'\n", "same database"),
        ):
            _plan(harbour.table(), harbour.table(target), left)
            assert told in gravel("clean", "p.toml", status=2).err
    finally:
        harbour.run("DROP VIEW watch")
    # Whole decimals are whole numbers, in cells and in new rows.
    many = "SELECT id, name, fee, services, id * 1.0 AS seen FROM input UNION ALL SELECT id + 100, name, fee, services, 3.0 FROM input WHERE id = 2"
    _plan(harbour.table(), "in place", f"[[step]]\nquery = '{many}'\nrows = 'more'\n")
    figures("clean", "p.toml")
    assert harbour.run("SELECT seen FROM boats WHERE id IN (2, 102) ORDER BY id") == [(2,), (3,)]


def test_mistakes_of_a_plan_in_place_are_told_before_it_runs(gravel: Any, folder: Path) -> None:
    harbour = Harbour("sqlite", "h.db")
    harbour.run("CREATE TABLE boats (id INTEGER, name TEXT)")
    harbour.run("INSERT INTO boats VALUES (1, 'a'), (2, 'b')")
    write("b.csv", "id,name\n1,a\n")
    for table, target, more, status, told in (
        ("h.db#boats", "in place", "", 2, "by its key, and the plan states none"),
        (
            "h.db#boats",
            "in place",
            "key = ['id']\n[[step]]\nset = { more = 'id' }\n",
            2,
            "the steps make a column more",
        ),
        (
            "h.db#boats",
            "in place",
            "key = ['id']\n[[step]]\ncolumns = ['id']\n",
            2,
            "the steps take name away",
        ),
        (
            "h.db#boats",
            "in place",
            "key = ['id']\n[[step]]\nset = { id = 'id + 1' }\n",
            1,
            "a step changes id, which is the key",
        ),
        (
            "h.db#boats",
            "in place",
            "key = ['id']\nstore_sets = ['nmae']\n",
            2,
            "has no column nmae",
        ),
        ("b.csv", "in place", "key = ['id']\n", 2, "is not a table of a database"),
        ("b.csv", "h.db", "", 2, "does not say which table"),
        ("b.csv", "none/h.db#x", "", 3, "there is no folder none"),
        ("b.csv", "o.xls", "", 2, "its ending is not known"),
        ("h.db#boats", "In-Place", "", 2, "would be a file of that name"),
        ("h.db#boats", "in place", "replace = true\n", 2, "is not replaced"),
        ("b.csv", "o.csv", "rejects = 'o.csv'\n", 2, "to the file of the others"),
        ("b.csv", "o.csv", "rejects = 'h.db#x'\n", 2, "the same database"),
        ("b.csv", "oracle://x/y#t", "", 3, "needs a driver that is not installed"),
    ):
        _plan(table, target, more)
        ran = gravel("clean", "p.toml", status=status)
        assert told in ran.err, (target, ran.err)
    assert harbour.run("SELECT * FROM boats") == [(1, "a"), (2, "b")]
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "h.db", "p.toml"]


def test_values_that_a_store_cannot_hold_are_told_and_nothing_is_written(
    gravel: Any, figures: Any, folder: Path
) -> None:
    write("b.csv", "id,built,fee\n1,1999,1.5\n2,n/a,2\n")
    types = "key = ['id']\n[types]\nbuilt = 'INTEGER'\n"
    for target in ("o.parquet", "h.db#b"):
        _plan("b.csv", target, types)
        ran = gravel("clean", "p.toml", status=1 if target == "o.parquet" else 0)
        if target == "o.parquet":
            assert "built has a value that does not fit INTEGER: 'n/a'" in ran.err
    assert not Path("o.parquet").exists()
    # SQLite holds anything in any column, and says so when it is read.
    assert (
        "1 of the values in built does not match its declared type INTEGER"
        in gravel("look", "h.db").err
    )
    # A double is not every decimal: the proof finds it, and the table is as it was.
    base = Harbour("sqlite", "n.db")
    base.run("CREATE TABLE boats (id INTEGER PRIMARY KEY, fee NUMERIC(30,2))")
    base.run("INSERT INTO boats VALUES (1, 2.5)")
    _plan(
        "n.db#boats",
        "in place",
        "[[step]]\nset = { fee = \"CAST('12345678901234567890.12' AS DECIMAL(30,2))\" }\n",
    )
    done = figures("clean", "p.toml", status=1)
    assert next(one["detail"] for one in done["proofs"] if not one["holds"]).startswith(
        "fee does not hold '12345678901234567890.12' as it was"
    )
    assert base.run("SELECT fee FROM boats") == [(2.5,)]


def test_a_key_that_the_table_enforces_is_proved_after_a_split_in_place(
    harbour: Harbour, figures: Any
) -> None:
    """Before the database is asked, and in a dry run too: a key twice is found there, not in the middle of a write."""
    _boats(harbour, [("Gull", 1, "fuel;water"), ("Tern", 2, "crane")])
    split = "[[step]]\nsplit = { column = 'services', on = ';', into = 'rows' }\n"
    _plan(harbour.table(), "in place", split)
    for options in (("--dry-run",), ()):
        told = figures("clean", "p.toml", *options, status=1)
        assert [proof["proof"] for proof in told["proofs"] if not proof["holds"]] == [
            "the key (id) is unique and not null after"
        ]
    assert harbour.run("SELECT id, services FROM boats ORDER BY id") == [
        (1, "fuel;water"),
        (2, "crane"),
    ]
    _plan(harbour.table(), "in place", split + "[[step]]\ndeduplicate = { by = ['id'] }\n")
    assert figures("clean", "p.toml")["changes"]["updated"] == 1
    assert harbour.run("SELECT id, services FROM boats ORDER BY id") == [(1, "fuel"), (2, "crane")]
    # Rows that a query makes are inserted.
    query = "SELECT id, name, fee, services, seen FROM input WHERE id > 1 UNION ALL SELECT 3, 'Skua', 7.5, NULL, 0"
    step = f'key = ["id"]\n[[step]]\nquery = "{query}"\nrows = "at least 1"\n'
    _plan(harbour.table(), "in place", step)
    assert figures("clean", "p.toml")["changes"]["inserted"] == 2
    assert [tuple(map(str, row)) for row in harbour.run("SELECT id, name, fee FROM boats ORDER BY id")] == [
        ("2", "Tern", "2.00" if harbour.kind != "sqlite" else "2"), ("3", "Skua", "7.50" if harbour.kind != "sqlite" else "7.5")]  # fmt: skip


def test_values_of_several_types_and_columns_that_are_computed_stay_in_place(
    figures: Any, gravel: Any, folder: Path
) -> None:
    with closing(sqlite3.connect("h.db")) as database, database:
        database.execute(
            "CREATE TABLE b (no INT NOT NULL, x, services TEXT, n INT,"
            " twice INT GENERATED ALWAYS AS (n * 2) STORED)"
        )
        rows = [(1, 1, "a;b", 2), (2, "a", "c", 3), (3, 2.5, None, 4)]
        database.executemany("INSERT INTO b (no, x, services, n) VALUES (?, ?, ?, ?)", rows)
    split = "key = ['no']\nkey_after = []\n[[step]]\nsplit = { column = 'services', on = ';', into = 'rows' }\n"
    _plan("h.db#b", "in place", split)
    assert figures("clean", "p.toml")["status"] == "good"
    with closing(sqlite3.connect("h.db")) as database:
        found = database.execute("SELECT *, typeof(x) FROM b ORDER BY no, services").fetchall()
    assert found == [
        (1, 1, "a", 2, 4, "integer"), (1, 1, "b", 2, 4, "integer"),
        (2, "a", "c", 3, 6, "text"), (3, 2.5, None, 4, 8, "real"),
    ]  # fmt: skip
    # A plan may have the columns in another order than the table, which the record is of.
    with closing(sqlite3.connect("h.db")) as database, database:
        database.execute("CREATE TABLE c (id INTEGER PRIMARY KEY, n INT, t TEXT)")
        database.execute("INSERT INTO c VALUES (1, 2, 'a'), (2, 3, 'b')")
    _plan(
        "h.db#c",
        "in place",
        '[[step]]\ncolumns = ["t", "n", "id"]\n[[step]]\nset = { n = "n + 1" }\n',
    )
    figures("clean", "p.toml")
    gravel("verify", "p.record.json")
    _plan("h.db#b", "o.parquet")
    refused = gravel("clean", "p.toml", status=1).err
    assert "x holds values of several types (2 INTEGER, 1 TEXT, 1 REAL)" in refused


def test_what_the_database_sets_by_itself_is_not_held_against_it(
    postgresql: str, gravel: Any, figures: Any, folder: Path
) -> None:
    harbour = Harbour("postgresql", postgresql)
    harbour.run("""CREATE TABLE boats (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text, doc jsonb, tags text[], raw bytea,
        touched int DEFAULT 0, shout text GENERATED ALWAYS AS (upper(name)) STORED);
      CREATE OR REPLACE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql
        AS 'BEGIN NEW.touched = OLD.touched + 1; RETURN NEW; END';
      CREATE TRIGGER t BEFORE UPDATE ON boats FOR EACH ROW EXECUTE FUNCTION touch();
      INSERT INTO boats (name, doc, tags, raw) SELECT CASE n % 4 WHEN 0 THEN ' x' ELSE 'x' END, '{"a":  1}', '{a,"b c"}', '\\x00ff'
        FROM generate_series(1, 100) n""")
    step = "[[step]]\nset = { name = 'TRIM(name)' }\n"
    _plan(harbour.table(), "in place", step)
    ran = gravel("clean", "p.toml", status=1)
    assert "store_sets" in ran.err
    assert harbour.run("SELECT SUM(touched) FROM boats") == [(0,)]
    # What only the database knows how to write is compared as it writes it.
    odd = '[[step]]\nset = { doc = "\'{\\"b\\":[1,  2],\\"a\\":0}\'", tags = "\'{x, y}\'" }\nonly = \'id = 1\'\n'
    _plan(harbour.table(), "in place", "store_sets = ['touched']\n" + odd)
    assert figures("clean", "p.toml")["changes"]["cells"] == {"doc": 1, "tags": 1}
    assert harbour.run("SELECT doc::text, tags FROM boats WHERE id = 1") == [
        ('{"a": 0, "b": [1, 2]}', ["x", "y"])
    ]
    harbour.run("UPDATE boats SET doc = '{\"a\": 1}'")
    harbour.run(
        "ALTER TABLE boats DISABLE TRIGGER t; UPDATE boats SET touched = 0; ALTER TABLE boats ENABLE TRIGGER t"
    )
    _plan(harbour.table(), "in place", "store_sets = ['touched']\n" + step)
    done = gravel("clean", "p.toml")
    assert "not compared, since the database sets them: shout, touched" in " ".join(
        done.out.split()
    )
    assert harbour.run(
        "SELECT COUNT(*), SUM(touched), MIN(shout), MIN(doc::text), MIN(raw) FROM boats WHERE name = 'x'"
    ) == [(100, 25, "X", '{"a": 1}', b"\x00\xff")]


def test_rows_that_others_refer_to_do_not_take_those_along(
    harbour: Harbour, figures: Any, gravel: Any
) -> None:
    """A foreign key with ON DELETE CASCADE or SET NULL would lose rows or references of another table in silence."""
    _boats(harbour, [(f"boat {n} ", n, None) for n in range(1, 11)])
    for action, told in (
        ("CASCADE", "fresh had 3 rows, has 2"),
        ("SET NULL", "fresh had 3 rows, of which some are not as they were"),
        ("SET DEFAULT", "fresh had 3 rows, of which some are not as they were"),
        ("NO ACTION", ""),
    ):
        if action == "SET DEFAULT" and harbour.kind == "mariadb":
            continue  # which does not know it
        harbour.run("DROP TABLE IF EXISTS fresh")
        harbour.run(
            f"CREATE TABLE fresh (stay BIGINT PRIMARY KEY, boat BIGINT, FOREIGN KEY (boat) REFERENCES boats (id) ON DELETE {action})"
        )
        harbour.run("INSERT INTO fresh VALUES (%s, %s)", [(1, 3), (2, 4), (3, 4)])
        _plan(harbour.table(), "in place", "[[step]]\ndrop_rows = 'id = 3'\n")
        ran = gravel("clean", "p.toml", status=1)
        assert (
            told in " ".join(ran.out.split())
            if told
            else "does not take what the plan makes" in ran.err
        )
        assert harbour.run("SELECT COUNT(*) FROM boats") == [(10,)]
        assert harbour.run("SELECT COUNT(*), COUNT(boat) FROM fresh") == [(3, 3)]
    _plan(
        harbour.table(),
        "in place",
        "[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'id = 5'\n",
    )
    done = figures("clean", "p.toml")
    assert (
        {one["proof"]: one["holds"] for one in done["proofs"]}[
            "tables that refer to it are as they were"
        ]
        if action != "NO ACTION"
        else done["changes"]["deleted"] == 1
    )
    # A table that others refer to is not dropped either: what the key says of deletions would go for all of its rows.
    for action in ("CASCADE", "NO ACTION"):
        harbour.run("DROP TABLE fresh")
        harbour.run(
            f"CREATE TABLE fresh (stay BIGINT PRIMARY KEY, boat BIGINT, FOREIGN KEY (boat) REFERENCES boats (id) ON DELETE {action})"
        )
        harbour.run("INSERT INTO fresh VALUES (%s, %s)", [(1, 3)])
        write("b.csv", "id,name\n3,x\n")
        _plan("b.csv", harbour.table(), "key = ['id']\nreplace = true\n")
        assert "refers to it by a foreign key" in gravel("clean", "p.toml", status=2).err
        assert harbour.run("SELECT COUNT(*) FROM boats") == [(9,)]
        assert harbour.run("SELECT stay, boat FROM fresh") == [(1, 3)]
    # A name that others refer to takes them along where the key says so.
    harbour.run("DROP TABLE fresh")
    harbour.run("CREATE UNIQUE INDEX by_name ON boats (name)")
    harbour.run(
        "CREATE TABLE fresh (stay BIGINT PRIMARY KEY, boat VARCHAR(60), FOREIGN KEY (boat) REFERENCES boats (name) ON UPDATE CASCADE)"
    )
    harbour.run("INSERT INTO fresh VALUES (%s, %s)", [(1, "boat 3")])
    _plan(harbour.table(), "in place", "[[step]]\nset = { name = 'UPPER(name)' }\n")
    assert "of which some are not as they were" in " ".join(
        gravel("clean", "p.toml", status=1).out.split()
    )
    assert harbour.run("SELECT boat FROM fresh") == [("boat 3",)]
    harbour.run("DROP TABLE fresh")
    # A table that refers to itself is no other table.
    harbour.run(
        "CREATE TABLE few (id BIGINT PRIMARY KEY, tender BIGINT, FOREIGN KEY (tender) REFERENCES few (id) ON DELETE CASCADE)"
    )
    harbour.run("INSERT INTO few VALUES (%s, %s)", [(1, None), (2, 1), (3, None)])
    _plan(harbour.table("few"), "in place", "[[step]]\ndrop_rows = 'id = 2'\n")
    assert figures("clean", "p.toml")["changes"]["deleted"] == 1
    _plan(
        harbour.table("few"),
        "in place",
        f"rejects = '{harbour.table('gone')}'\n[[step]]\ndrop_rows = 'id = 3'\n",
    )
    if harbour.kind == "mariadb":
        assert "ends a transaction where a table is made" in gravel("clean", "p.toml", status=2).err
    else:
        assert figures("clean", "p.toml")["rejects"].endswith("#gone")
        assert harbour.run("SELECT id FROM gone") == [("3",)]
    _plan(harbour.table("few"), "in place", "[[step]]\ndrop_rows = 'id = 1'\n")
    assert figures("clean", "p.toml")["rows_out"] == len(harbour.run("SELECT id FROM few"))


def test_a_writer_beside_us_loses_nothing(harbour: Harbour, gravel: Any) -> None:
    """Another program counts up while a table is cleaned in place: all its changes are there at the end, and ours too or not at all."""
    ended: Counter[int] = Counter()
    for seed in range(10 if harbour.kind == "postgresql" else 6):
        harbour.run("DROP TABLE IF EXISTS boats")
        _boats(harbour, [(" gull ", n, None) for n in range(200)])
        _plan(
            harbour.table(),
            "in place",
            "[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'id > 190'\n",
        )
        stop, written = threading.Event(), Counter[int]()
        other = threading.Thread(
            target=_count_up, args=(harbour, random.Random(seed), stop, written)
        )
        other.start()
        ran = gravel("clean", "p.toml", status=None)
        stop.set()
        other.join()
        ended[ran.status] += 1
        rows = harbour.run("SELECT id, name, seen FROM boats")
        assert {number: seen for number, _, seen in rows if seen} == {
            number: times for number, times in written.items() if times
        }
        if ran.status == 0:
            assert (len(rows), {name for _, name, _ in rows}) == (190, {"gull"})
        else:
            assert (ran.status, "is not as it was when it was read" in ran.err) == (1, True), (
                ran.err
            )
            assert (len(rows), {name for _, name, _ in rows}) == (200, {" gull "})
    assert set(ended) == {0, 1}  # both were met


def _count_up(
    harbour: Harbour, draw: random.Random, stop: threading.Event, written: Counter[int]
) -> None:
    with closing(harbour.connect()) as base:
        cursor = base.cursor()
        for _ in range(draw.choice([0, 1, 3, 10_000])):
            time.sleep(draw.random() * 0.05)
            number = draw.randint(1, 190)
            cursor.execute(f"UPDATE boats SET seen = seen + 1 WHERE id = {number}")
            written[number] += cursor.rowcount
            if stop.is_set():
                return


def test_conflicts_say_which_rows_others_changed(
    harbour: Harbour, gravel: Any, figures: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.plans import in_place

    _boats(harbour, [(" gull ", n, None) for n in range(20)])
    more = "rejects = 'left.csv'\n[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'id = 7'\n"
    _plan(harbour.table(), "in place", more)
    real = in_place.changes_of

    def meanwhile(*given: Any) -> Any:
        harbour.run("UPDATE boats SET seen = 5 WHERE id = 3")
        harbour.run("DELETE FROM boats WHERE id IN (4, 5)")
        harbour.run("INSERT INTO boats (id) VALUES (77)")
        return real(*given)

    with monkeypatch.context() as patch:
        patch.setattr(in_place, "changes_of", meanwhile)
        done = figures("clean", "p.toml", status=1)
    assert done["conflict"] == "1 row changed (3), 1 row came (77), 2 rows went (4, 5)"
    assert (done["status"], done["output"], done["rejects"]) == ("failed", None, None)
    assert not Path("left.csv").exists()
    assert figures("clean", "p.toml")["changes"]["deleted"] == 1


def test_a_server_that_stops_leaves_the_data_as_it_was(
    postgresql: str, gravel: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The connection is cut in mid-read, in mid-write and before commit: a clear error, no transaction left, the rows as they were."""
    from gravel.plans.placing import Placed
    from gravel.stores.sql import postgresql as store
    from gravel.stores.sql import postgresql_reading

    harbour = Harbour("postgresql", postgresql)
    _boats(harbour, [(" gull ", n, None) for n in range(20)])
    _plan(
        harbour.table(),
        "in place",
        "[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'id = 7'\n",
    )
    write("p-rejects.csv", "old\n")

    def cut() -> None:
        harbour.run(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'gravel'"
        )

    def late(real: Any) -> Any:
        def call(*given: Any, **more: Any) -> Any:
            cut()
            return real(*given, **more)

        return call

    places = (
        (postgresql_reading, "copied"),
        (store.PostgreSQL, "update"),
        (store.PostgreSQL, "shape"),
        (store.PostgreSQL, "dependents"),
    )
    for of, name in (*places, (store.PostgreSQL, "forms"), (Placed, "commit")):
        with monkeypatch.context() as patch:
            patch.setattr(of, name, late(getattr(of, name)))
            ran = gravel("clean", "p.toml", status=3)
        assert "terminating connection" in ran.err or "closed" in ran.err
        assert "hush" not in ran.err
        assert harbour.run("SELECT COUNT(*), MIN(name) FROM boats") == [(20, " gull ")]
        assert harbour.run(
            "SELECT COUNT(*) FROM pg_stat_activity WHERE application_name = 'gravel'"
        ) == [(0,)]
        assert Path("p-rejects.csv").read_text() == "old\n"
        assert sorted(path.name for path in folder.iterdir()) == ["p-rejects.csv", "p.toml"]
    # A statement that takes too long, a run that is interrupted, and a lock that another holds.
    harbour.run(
        "CREATE FUNCTION nap(bigint) RETURNS text STABLE LANGUAGE plpgsql AS"
        " $$ BEGIN PERFORM pg_sleep(3); RETURN $1::text; END $$"
    )
    harbour.run("CREATE VIEW few AS SELECT id, nap(id) AS s FROM boats")
    assert (
        "statement timeout"
        in gravel("profile", postgresql + "&options=-c%20statement_timeout%3D300#few", status=3).err
    )
    running = subprocess.Popen(
        [*PROGRAM, "profile", f"{postgresql}#few"],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    while not harbour.run(
        "SELECT COUNT(*) FROM pg_stat_activity WHERE application_name = 'gravel' AND query LIKE 'COPY%'"
    )[0][0]:
        time.sleep(0.02)
    running.send_signal(signal.SIGINT)
    _, told = running.communicate(timeout=60)
    assert (running.returncode, b"Traceback" in told) == (130, False), told
    for _ in range(100):  # the server notices it when it next writes
        if not harbour.run(
            "SELECT COUNT(*) FROM pg_stat_activity WHERE application_name = 'gravel'"
        )[0][0]:
            break
        time.sleep(0.05)
    assert harbour.run(
        "SELECT COUNT(*) FROM pg_stat_activity WHERE application_name = 'gravel'"
    ) == [(0,)]
    harbour.run("DROP VIEW few")
    harbour.run("DROP FUNCTION nap")
    monkeypatch.setattr(store, "WAIT", 1)
    with closing(harbour.connect()) as other:
        other.autocommit = False
        other.execute("LOCK TABLE boats IN SHARE MODE")
        assert "lock timeout" in gravel("clean", "p.toml", status=3).err
    assert gravel("clean", "p.toml").status == 0
    assert harbour.run("SELECT COUNT(*), MIN(name) FROM boats") == [(19, "gull")]


def test_a_sqlite_file_that_is_locked_read_only_corrupt_or_in_use(
    folder: Path, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.stores.sql import sqlite as store

    harbour = Harbour("sqlite", "h.db")
    harbour.run("PRAGMA journal_mode = WAL")
    _boats(harbour, [(" gull ", n, None) for n in range(20)])
    _plan(
        "h.db#boats",
        "in place",
        "[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'id = 7'\n",
    )
    monkeypatch.setattr(store, "_WAIT", 0.2)
    with closing(harbour.connect()) as other:
        other.execute("BEGIN IMMEDIATE")
        other.execute("UPDATE boats SET seen = 9")
        assert gravel("count", "h.db#boats").status == 0  # a reader is not kept waiting
        assert "database is locked" in gravel("clean", "p.toml", status=3).err
        other.execute("ROLLBACK")
    _plan("h.db#boats", "new.db#boats", "")
    with closing(harbour.connect()) as other:
        other.execute("BEGIN")  # a reader beside us, and the log not yet in the file
        other.execute("SELECT COUNT(*) FROM boats").fetchall()
        assert gravel("clean", "p.toml").status == 0
    write("bad.db", Path("h.db").read_bytes()[:100] + b"no such thing" * 400)
    assert "cannot be read" in gravel("count", "bad.db", status=3).err
    _plan("h.db#boats", "bad.db#x", "")
    before = Path("bad.db").read_bytes()
    assert "cannot be" in gravel("clean", "p.toml", status=3).err
    assert Path("bad.db").read_bytes() == before
    if os.geteuid() == 0:
        os.chmod(folder, 0o755)
        for path in folder.iterdir():
            os.chmod(path, 0o644)
        _plan("new.db#boats", "in place", "key = ['id']\n[[step]]\nset = { name = 'TRIM(name)' }\n")
        before = Path("new.db").read_bytes()
        for above in folder.parents:
            if above != Path("/") and above.stat().st_mode & 0o055 != 0o055:
                os.chmod(above, above.stat().st_mode | 0o055)
        os.seteuid(65534)
        try:
            ran = gravel("clean", "p.toml", status=3)
        finally:
            os.seteuid(0)
        assert re.search("readonly|unable to open|permission denied", ran.err)
        assert Path("new.db").read_bytes() == before


def test_a_kill_at_any_moment_leaves_a_table_as_it_was_or_as_it_should_be(folder: Path) -> None:
    harbour = Harbour("sqlite", "h.db")
    _boats(harbour, [(f" gull {n} ", n % 50, "a;b") for n in range(3000)])
    _plan(
        "h.db#boats",
        "in place",
        "key = ['id']\n[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = 'fee > 40'\n",
    )
    before = harbour.run("SELECT COUNT(*), SUM(LENGTH(name)) FROM boats")
    write("copy.db", Path("h.db").read_bytes())
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    after = harbour.run("SELECT COUNT(*), SUM(LENGTH(name)) FROM boats")
    assert before != after
    draw, within = random.Random(8), 0
    for _ in range(6):
        for path in folder.glob("h.db*"):
            path.unlink()
        write("h.db", Path("copy.db").read_bytes())
        running = subprocess.Popen(
            [*PROGRAM, "clean", "p.toml"],
            cwd=folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        while not Path("h.db-journal").exists() and running.poll() is None:
            time.sleep(0.001)
        within += running.poll() is None
        time.sleep(draw.random() * 0.1)
        running.send_signal(signal.SIGKILL)
        running.wait()
        found = harbour.run("SELECT COUNT(*), SUM(LENGTH(name)) FROM boats")
        assert found in (before, after)
    assert within


def test_results_of_queries_become_tables_and_standard_output(
    harbour: Harbour, figures: Any, gravel: Any, folder: Path
) -> None:
    write("b.csv", 'id,name,fee,day\n1,"a,""b\nc",1.50,2024-05-01\n2,,2.25,\n3,"",,2024-05-03\n')
    asked = "SELECT id, name, fee * 2 AS fee, day, id > 1 AS more, id / (id - 9) AS q, name AS name FROM 'b.csv'"
    expected = figures("query", asked)["rows"]
    base = harbour.address
    if harbour.kind == "mariadb":
        assert (
            "ends a transaction" in gravel("query", asked, "--write", f"{base}#made", status=2).err
        )
        return
    told = gravel("query", asked, "--write", f"{base}#made").err
    assert "3 rows, written to" in told
    assert "name is written as name_2" in told
    assert "hush" not in told
    again = figures("query", f"SELECT * FROM '{base}#made' ORDER BY id")
    assert again["rows"] == expected
    assert harbour.run("SELECT COUNT(*), SUM(id), MAX(name_2) FROM made") == [(3, 6, 'a,"b\nc')]
    counts = f"SELECT COUNT(*) AS n FROM '{base}#made'"
    assert gravel("query", counts, "--write", f"{base}#counted").status == 0
    assert harbour.run("SELECT n FROM counted") == [(3,)]
    for call, status in (
        ((counts, "--write", f"{base}#made"), 2), ((counts, "--write", f"{base}#made", "--replace"), 2), ((counts, "--write", base), 2),
        (("SELECT id / (id - 2) AS q FROM 'b.csv'", "--write", f"{base}#none"), 1), ((counts, "--write", "-", "--format", "json"), 2),
    ):  # fmt: skip
        assert "hush" not in gravel("query", *call, status=status).err
    assert harbour.run("SELECT COUNT(*) FROM made") == [(3,)]
    harbour.run(
        "DROP TABLE made; DROP TABLE counted" if harbour.kind == "postgresql" else "SELECT 1"
    )

    told = gravel("query", "SELECT id, name FROM 'b.csv'", "--write", "-")
    assert told.out == 'id,name\n1,"a,""b\nc"\n2,\n3,""\n'
    assert "3 rows, written to standard output" in told.err
    plan = 'table = "b.csv"\nwrite = "OUT"\n[[step]]\nset = {name = "UPPER(name)"}\n[[step]]\nkeep_rows = "id <> 2"\n'
    for target in ("-", "/dev/stdout"):
        write("p.toml", plan.replace("OUT", target))
        with open("whole.csv", "wb") as file:
            ran = subprocess.run([*PROGRAM, "clean", "p.toml"], stdout=file, stderr=subprocess.PIPE, check=True)  # fmt: skip
        result = 'id,name,fee,day\n1,"A,""B\nC",1.50,2024-05-01\n3,"",,2024-05-03\n'
        assert Path("whole.csv").read_text() == result == gravel("clean", "p.toml").out
        assert b"2 rows written to standard output; 1 rejected in p-rejects.csv" in ran.stderr
        assert gravel("clean", "p.toml", "--format", "json", status=2).out == ""
    write("p.toml", plan.replace("OUT", "-").replace("id <> 2", "id / (id - 2) > 0"))
    assert gravel("clean", "p.toml", status=1).out == ""
    assert gravel("clean", "p.toml", "--dry-run", status=1).out == ""


def test_results_of_queries_are_written_in_every_form(
    figures: Any, gravel: Any, folder: Path
) -> None:
    write("b.csv", 'id,name,fee\n1,"a,""b",1.50\n2,,2.25\n3,"",\n')
    asked = "SELECT id, name, fee * 2 AS fee, CURRENT_DATE AS day, id > 1 AS more, CAST(fee AS DOUBLE PRECISION) / 3 AS third FROM 'b.csv'"
    expected = figures("query", asked)
    for target in ("o.csv", "o.tsv", "o.parquet", "o.arrow", "o.jsonl", "o.csv.gz", "o.jsonl.zst"):
        gravel("query", asked, "--write", target)
        again = figures("query", f"SELECT * FROM '{target}'")
        assert (again["row_count"], [row[:3] for row in again["rows"]]) == (
            3,
            [row[:3] for row in expected["rows"]],
        ), target
        if target in ("o.parquet", "o.arrow"):
            assert again["rows"] == expected["rows"]
            assert [one["type"] for one in again["columns"]][3:] == [
                "DATE",
                "BOOLEAN",
                "DOUBLE PRECISION",
            ]
    told = {"o.xls": "its ending is not known", "h.db": "names no table"}
    for target, why in told.items():
        assert why in gravel("query", asked, "--write", target, status=2).err
    assert (
        "written as CSV"
        in gravel("check", "b.csv", "fee > 2", "--set-aside", "o2.parquet", status=2).err
    )
    assert (
        "written as CSV"
        in gravel(
            "compare", "b.csv", "o.csv", "--key", "id", "--differences", "o2.jsonl", status=2
        ).err
    )
    assert {path.name for path in folder.iterdir()} == {
        "b.csv", "o.csv", "o.tsv", "o.parquet", "o.arrow", "o.jsonl", "o.csv.gz", "o.jsonl.zst",
    }  # fmt: skip


def test_a_database_is_the_same_whoever_asks_for_it(
    harbour: Harbour, gravel: Any, folder: Path
) -> None:
    """A table is not replaced by a plan that reads it under another spelling of its database."""
    _boats(harbour, [("a", 1, None)])
    if harbour.kind == "sqlite":
        (folder / "link.db").symlink_to("h.db")
        others = ["link.db", "./h.db", str(folder / "h.db")]
    else:
        kind, rest = harbour.address.split("://")
        others = [
            f"{kind}://other:pass@" + rest.partition("@")[2],
            harbour.address.replace("hush%21", ""),
        ]
        others.append({"postgresql": "postgres", "mysql": "mariadb"}[kind] + "://" + rest)
    for other in others:
        _plan(harbour.table(), f"{other}#boats", "replace = true\n")
        assert "over its own input" in gravel("clean", "p.toml", status=2).err
    assert len(harbour.run("SELECT * FROM boats")) == 1


def test_a_database_hands_over_only_the_columns_that_are_wanted(
    harbour: Harbour, figures: Any
) -> None:
    """Columns are fetched once each, in one order; what comes in another order is refused, not mixed up."""
    from gravel.sources.opening import open_table
    from gravel.sources.source import scan
    from gravel.stores.sql.column_cache import SqlSource

    _boats(harbour, [(f"boat {n}", n % 7, "a;b") for n in range(1, 200)])
    fetched: list[list[str]] = []
    real = SqlSource._with

    def watched(self: Any, wanted: Any) -> Any:
        before = set(self._places)
        made = real(self, wanted)
        if set(self._places) != before:
            fetched.append([self.columns[at] for at in sorted(self._places)])
        return made

    patch = pytest.MonkeyPatch()
    patch.setattr(SqlSource, "_with", watched)
    assert (
        figures("count", harbour.table(), "--key", "fee")["tables"][0]["keys"][0]["repeated_rows"]
        == 199
    )
    assert fetched == [["fee"]]
    fetched.clear()
    assert figures("check", harbour.table(), "fee < 7")["rows"] == 199
    assert fetched == [["fee"]]
    fetched.clear()
    assert figures("query", f"SELECT COUNT(*) AS n FROM '{harbour.table()}' WHERE fee = 3")[
        "rows"
    ] == [[29]]
    assert fetched == [["fee"]]
    fetched.clear()
    assert figures("count", harbour.table())["tables"][0]["rows"] == 199
    assert fetched == []
    patch.undo()
    table = open_table(harbour.table(), base=Path())
    narrow = [
        value
        for batch in scan(table, lambda batch: batch, [0])
        for value in batch.texts().columns[0].to_pylist()
    ]
    wide = [
        row
        for batch in scan(table, lambda batch: batch)
        for row in zip(*(one.to_pylist() for one in batch.texts().columns), strict=True)
    ]
    assert [row[0] for row in wide] == narrow
    assert (
        Counter(wide)
        == Counter(
            tuple(None if one is None else str(one) for one in row)
            for row in harbour.run("SELECT * FROM boats")
        )
        or harbour.kind == "sqlite"
    )
    # Another order: the columns would belong to other rows.
    mixed = open_table(harbour.table(), base=Path())
    assert isinstance(mixed, SqlSource)
    mixed._with([0])
    shuffled = mixed._fetch

    def backwards(chosen: list[int]) -> Any:
        made = shuffled(chosen)
        first = made.read

        def read(piece: Any, wanted: Any = None) -> Any:
            batch = first(piece, wanted)
            return type(batch)(
                batch.rows,
                [
                    None if one is None else one.take(pa.array(range(len(one) - 1, -1, -1)))
                    for one in batch.columns
                ],
            )

        made.read = read
        return made

    mixed._fetch = backwards
    with pytest.raises(Exception, match="in another order each time"):
        mixed.whole()


def test_what_is_read_back_is_compared_by_value(harbour: Harbour, figures: Any) -> None:
    """14 in a column with two decimals comes back as 14.00, and a zero may lose its sign."""
    harbour.run(
        "CREATE TABLE boats (id BIGINT PRIMARY KEY, fee DECIMAL(9,2), length_m DOUBLE PRECISION)"
    )
    harbour.run("INSERT INTO boats VALUES (%s, %s, %s)", [(1, None, 1.5), (2, None, None)])
    _plan(
        harbour.table(),
        "in place",
        "[[step]]\nset = { fee = 'id + 13', length_m = 'CAST(-0.0 AS DOUBLE PRECISION) * -1' }\n",
    )
    assert figures("clean", "p.toml")["changes"]["cells"] == {"fee": 2, "length_m": 2}
    assert harbour.run("SELECT id, fee, length_m FROM boats ORDER BY id") == [
        (1, 14, 0),
        (2, 15, 0),
    ]
    assert figures("verify", "p.record.json", "--connect")["status"] == "same"
    assert figures("clean", "p.toml")["changes"]["updated"] == 0


def test_another_spelling_is_another_value_where_a_text_is_kept(
    harbour: Harbour, figures: Any
) -> None:
    """A plan may take 007 for a number; the column keeps a text, and 7 has to be written."""
    harbour.run(
        "CREATE TABLE boats (id BIGINT PRIMARY KEY, code VARCHAR(20), day VARCHAR(30), price VARCHAR(20))"
    )
    harbour.run(
        "INSERT INTO boats VALUES (%s, %s, %s, %s)",
        [(1, "007", "2024-01-01T10:00:00", "1.50"), (2, "12", "2024-01-01 10:00:00", "2")],
    )
    types = "[types]\ncode = 'INTEGER'\nday = 'TIMESTAMP'\nprice = 'DECIMAL(9,2)'\n"
    step = "[[step]]\nset = { code = 'code + 0', day = \"REPLACE(CAST(day AS TEXT), 'T', ' ')\", price = 'price * 1' }\n"
    _plan(harbour.table(), "in place", types + step)
    assert figures("clean", "p.toml")["changes"]["cells"] == {"code": 1, "day": 1, "price": 1}
    assert harbour.run("SELECT * FROM boats ORDER BY id") == [
        (1, "7", "2024-01-01 10:00:00", "1.50"), (2, "12", "2024-01-01 10:00:00", "2.00"),
    ]  # fmt: skip
    assert figures("verify", "p.record.json", "--connect")["status"] == "same"
    assert figures("clean", "p.toml")["changes"]["updated"] == 0
    # A key of such a column finds its row.
    harbour.run("DROP TABLE boats")
    harbour.run("CREATE TABLE boats (code VARCHAR(20) PRIMARY KEY, name VARCHAR(20))")
    harbour.run("INSERT INTO boats VALUES (%s, %s)", [("007", "a "), ("7", "b ")])
    _plan(
        harbour.table(),
        "in place",
        "[types]\ncode = 'TEXT'\n[[step]]\nset = { name = 'TRIM(name)' }\n[[step]]\ndrop_rows = \"code = '7'\"\n",
    )
    assert figures("clean", "p.toml")["rows_out"] == 1
    assert harbour.run("SELECT * FROM boats") == [("007", "a")]


def test_sqlite_columns_keep_how_their_values_are_stored(figures: Any, folder: Path) -> None:
    """Texts stay texts, numbers numbers, in columns of every declaration; what is computed is left to SQLite."""
    harbour = Harbour("sqlite", "h.db")
    harbour.run("CREATE TABLE boats (id INTEGER PRIMARY KEY, plain, real REAL, num NUMERIC, moment TIMESTAMP, day DATE, ok BOOLEAN, raw BLOB,"
                " twice GENERATED ALWAYS AS (id * 2))")  # fmt: skip
    rows = [
        (1, 1.5, 2.5, "3.50", "2024-01-01T10:00:00", "2024-01-01", 1, b"\0a"),
        (2, 7, None, 4, "2024-01-01 10:00:00", None, 0, None),
    ]
    harbour.run("INSERT INTO boats VALUES (%s, %s, %s, %s, %s, %s, %s, %s)", rows)
    sets = "plain = 'plain * 2', real = 'real * 2', num = 'num * 2', moment = 'CAST(moment AS TIMESTAMP)', ok = 'NOT ok'"
    _plan("h.db#boats", "in place", f"[[step]]\nset = {{ {sets} }}\n")
    assert figures("clean", "p.toml", "--backup", "boats_before")["changes"]["cells"] == {
        "plain": 2,
        "real": 1,
        "num": 2,
        "moment": 1,
        "ok": 2,
    }
    assert harbour.run("SELECT * FROM boats ORDER BY id") == [
        (1, 3.0, 5.0, 7, "2024-01-01 10:00:00", "2024-01-01", 0, b"\0a", 2), (2, 14, None, 8, "2024-01-01 10:00:00", None, 1, None, 4),
    ]  # fmt: skip
    kinds = harbour.run(
        "SELECT typeof(plain), typeof(real), typeof(num), typeof(moment), typeof(ok), typeof(raw) FROM boats WHERE id = 1"
    )
    assert kinds == [("real", "real", "integer", "text", "integer", "blob")]
    assert harbour.run("SELECT COUNT(*), SUM(twice) FROM boats_before") == [(2, 6)]


def test_truth_is_read_as_programs_write_it_and_stays_so_in_text(
    figures: Any, gravel: Any, folder: Path
) -> None:
    text = "id,a,b,c,at\n1,TRUE,True,true,2024-01-01T10:00:00\n2,FALSE,False,TRUE,2024-01-02T10:00:00\n3,,True,False,\n"
    write("t.csv", text)
    told = figures("look", "t.csv", "--where", "a AND b OR NOT c")
    assert (told["types"]["a"], told["types"]["b"], told["types"]["c"]) == ("BOOLEAN",) * 3
    assert told["matching"] == 2
    columns = {column["name"]: column for column in figures("profile", "t.csv")["columns"]}
    assert [columns[name]["distinct"] for name in "abc"] == [2, 2, 2]
    assert figures("duplicates", "t.csv", "--on", "c")["groups"] == 1
    step = '\n[[step]]\nset = { d = "NOT a", y = "EXTRACT(YEAR FROM at)" }\n'
    for to in ("o.csv", "o.parquet", "o.jsonl", "o.db#t"):
        write(
            "p.toml",
            f'table = "t.csv"\nwrite = "{to}"\nmetadata = {json.dumps(to == "o.csv")}\n{step}',
        )
        figures("clean", "p.toml")
        if to != "o.csv":
            told = figures("compare", "t.csv", to, "--key", "id", status=1)
            assert (told["changed_rows"], told["only_after_columns"]) == (0, ["d", "y"])
    assert (
        Path("o.csv")
        .read_text()
        .startswith("id,a,b,c,at,d,y\n1,TRUE,True,true,2024-01-01T10:00:00,false,2024\n")
    )
    described = json.loads(Path("o.csv-metadata.json").read_text())["tableSchema"]["columns"]
    assert [column["datatype"] for column in described[1:6]] == [
        {"base": "boolean", "format": "TRUE|FALSE"}, {"base": "boolean", "format": "True|False"}, "string", "dateTime", "boolean",
    ]  # fmt: skip
    assert figures("look", "o.csv")["types"]["a"] == "BOOLEAN"
    with sqlite3.connect("o.db") as base:
        assert base.execute("SELECT a, b, c FROM t").fetchall() == [
            (1, 1, 1),
            (0, 0, 1),
            (None, 1, 0),
        ]
    base.close()


def test_truth_in_json_and_urls_that_are_none(figures: Any, gravel: Any, folder: Path) -> None:
    write("b.csv", "id,ok,half\n1,TRUE,.5\n2,false,1.0\n3,,\n")
    _plan("b.csv", "o.jsonl", "[types]\nok = 'BOOLEAN'\nhalf = 'DECIMAL(9,2)'\n")
    assert figures("clean", "p.toml")["status"] == "good"
    assert [json.loads(line) for line in Path("o.jsonl").read_text().splitlines()] == [
        {"id": 1, "ok": True, "half": ".5"}, {"id": 2, "ok": False, "half": 1.0}, {"id": 3, "ok": None, "half": None},
    ]  # fmt: skip
    for url in (
        "mysql://u:hush@h:abc/b",
        "postgresql://u:hush@h:abc/b",
        "postgresql://[x/y",
        "mysql://u@h:99999999/b",
    ):
        _plan("b.csv", f"{url}#t", f"rejects = '{url}#l'\n")
        for call in (
            ("count", f"{url}#t"),
            ("clean", "p.toml"),
            ("query", f"SELECT * FROM '{url}#t'"),
        ):
            ran = gravel(*call, status=2)
            assert "URL is not as one is written" in ran.err
            assert "hush" not in ran.err


@pytest.mark.parametrize("target", ["o.jsonl", "o.jsonl.gz"])
@pytest.mark.parametrize("source", ["b.jsonl", "b.json", "b.parquet", "b*.jsonl"])
def test_arrays_and_objects_stay_what_they_are_in_json(
    source: str, target: str, figures: Any, gravel: Any, folder: Path
) -> None:
    rows = [
        {"id": 1, "tags": ["é", 'a"b', None], "at": {"pier": "A", "places": [1, 2]}, "said": "[1]"},
        {"id": 2, "tags": [], "at": None, "said": '{"a": 1}'},
        {"id": 3, "tags": None, "at": {"pier": None, "places": []}, "said": "x;y"},
    ]
    lines = [json.dumps(row, ensure_ascii=False) + "\n" for row in rows]
    if source == "b.parquet":
        pq.write_table(pa.Table.from_pylist(rows), source)
    elif source == "b.json":
        write(source, "[" + ",".join(lines) + "]")
    elif source == "b.jsonl":
        write(source, "".join(lines))
    else:
        write("b1.jsonl", lines[0])
        write("b2.jsonl", "".join(lines[1:]))
    steps = "[[step]]\nset = { parts = \"LIST_ITEMS(said, ';')\" }\n"
    _plan(source, target, steps)
    figures("clean", "p.toml")
    data = Path(target).read_bytes()
    data = gzip.decompress(data) if target.endswith("gz") else data
    written = [json.loads(line) for line in data.decode().splitlines()]
    for before, after in zip(rows, written, strict=True):
        assert {key: after[key] for key in before} == before
        assert after["parts"] == before["said"].split(";")
    assert gravel("verify", "o.jsonl.record.json" if "gz" in target else "o.record.json", "--rerun")
    # Where a column has anything else, one value is not told apart from a text: it stays one.
    write("m.jsonl", '{"a": [1, 2.50]}\n{"a": "[1, 2.50]"}\n')
    _plan("m.jsonl", target, "replace = true\n")
    figures("clean", "p.toml")
    texts = f"SELECT COUNT(*) AS times FROM '{target}' WHERE a = '[1, 2.50]'"
    assert gravel("query", texts, "--format", "csv").out.split() == ["times", "2"]


def test_rows_that_left_a_table_in_place_stay_in_their_file(harbour: Any, gravel: Any) -> None:
    _boats(harbour, [(f"boat {n}", n, None) for n in range(9)])
    _plan(harbour.table("boats"), "in place", "key = ['id']\n[[step]]\ndrop_rows = 'fee < 3'\n")
    gravel("clean", "p.toml")
    first = Path("p-rejects.csv").read_text()
    assert len(first.splitlines()) == 4
    gravel("clean", "p.toml")  # nothing is left to be dropped: the file of the first run stays
    assert Path("p-rejects.csv").read_text() == first
    harbour.run("UPDATE boats SET fee = 0 WHERE id = 9")
    told = gravel("clean", "p.toml", "--format", "json").json
    assert told["rejects"] == "p-rejects-2.csv"
    assert Path("p-rejects.csv").read_text() == first
    assert len(Path("p-rejects-2.csv").read_text().splitlines()) == 2
    assert harbour.run("SELECT COUNT(*) FROM boats") == [(5,)]


def test_a_commit_without_an_answer_is_told_as_that(
    harbour: Any, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    import psycopg
    import sqlalchemy.exc

    from gravel.stores.sql.transaction import Database

    _boats(harbour, [(f"boat {n}", n, None) for n in range(9)])
    _plan(harbour.table("boats"), "in place", "key = ['id']\n[[step]]\ndrop_rows = 'fee < 3'\n")

    def broken(self: Any) -> None:
        self.connection.commit()
        gone = {
            "sqlite": sqlite3.OperationalError("disk I/O error"),
            "mariadb": OSError(2013, "Lost connection"),
        }
        raise sqlalchemy.exc.OperationalError(
            "COMMIT",
            None,
            gone.get(harbour.kind, psycopg.OperationalError("server closed the connection")),
        )

    monkeypatch.setattr(Database, "_commit", broken)
    ran = gravel("clean", "p.toml", status=3)
    assert "whether the changes stand is not known" in ran.err
    assert "nothing was written" not in ran.err
    assert ("txid_status(" in ran.err) == (harbour.kind == "postgresql")
    assert len(Path("p-rejects.csv").read_text().splitlines()) == 4
    assert not Path("p.record.json").exists()
    assert harbour.run("SELECT COUNT(*) FROM boats") == [(6,)]


def test_a_run_that_begins_leaves_the_folder_of_one_that_is_just_beginning(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.sinks import atomic_file

    lock = atomic_file._locked
    monkeypatch.setattr("tempfile.tempdir", str(folder))

    def later(handle: int) -> bool:
        monkeypatch.setattr(atomic_file, "_locked", lock)
        atomic_file._clear_private()  # of another run, before this one holds its folder
        return lock(handle)

    monkeypatch.setattr(atomic_file, "_locked", later)
    with atomic_file.private_folder() as own:
        assert own.is_dir()
        atomic_file._clear_private()
        assert own.is_dir()
    assert not own.exists()
