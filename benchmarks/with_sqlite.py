"""The first profile's figures asked of a loaded SQLite table with SQL: `python with_sqlite.py load|profile FILE`."""

from __future__ import annotations

import csv
import sqlite3
import sys
from pathlib import Path


def load(path: str) -> None:
    """Load the table; this is not timed."""
    target = Path(path + ".db")
    if target.exists():
        return
    base = sqlite3.connect(target)
    with open(path, newline="", encoding="utf-8") as file:
        rows = csv.reader(file)
        names = next(rows)
        base.execute(f"CREATE TABLE t ({', '.join(f'{name} TEXT' for name in names)})")
        base.executemany(
            f"INSERT INTO t VALUES ({', '.join('?' * len(names))})",
            ([value or None for value in row] for row in rows),
        )
    base.commit()


def profile(path: str) -> None:
    """Every column's figures, one statement for the counts and one for the most frequent."""
    base = sqlite3.connect(path + ".db")
    names = [row[1] for row in base.execute("PRAGMA table_info(t)")]
    for name in names:
        bare = f"TRIM({name}, ' ' || char(9, 10, 11, 12, 13, 160))"
        print(name, *base.execute(
            f"SELECT COUNT(*), COUNT(*) - COUNT({name}), SUM({name} = ''), SUM({name} <> '' AND {bare} = ''), SUM({bare} <> '' AND {bare} <> {name}),"
            f" COUNT(DISTINCT {name}), MIN({name}), MAX({name}), MIN(LENGTH({name})), MAX(LENGTH({name})), AVG(LENGTH({name})),"
            f" SUM({name} NOT GLOB '*[^0-9]*'), SUM({name} GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]') FROM t"
        ).fetchone())  # fmt: skip
        print(
            base.execute(
                f"SELECT {name}, COUNT(*) AS n FROM t WHERE {name} IS NOT NULL GROUP BY {name} ORDER BY n DESC LIMIT 5"
            ).fetchall()
        )


QUERIES = {
    "group": "SELECT status, COUNT(*), COUNT(DISTINCT boat) FROM t GROUP BY status",
    "distinct": "SELECT COUNT(*) FROM (SELECT DISTINCT boat, berth FROM t)",
    "join": "SELECT COUNT(*), MIN(k.owner) FROM t JOIN k ON t.stay_id = k.stay_id",
    "window": "SELECT MAX(c) FROM (SELECT COUNT(*) OVER (PARTITION BY boat, berth) AS c FROM t)",
    "unnest": "WITH RECURSIVE piece(item, rest) AS (SELECT NULL, services || ';' FROM t WHERE services IS NOT NULL UNION ALL "
    "SELECT substr(rest, 1, instr(rest, ';') - 1), substr(rest, instr(rest, ';') + 1) FROM piece WHERE rest <> '') "
    "SELECT item, COUNT(*) FROM piece WHERE item IS NOT NULL GROUP BY item",
}  # fmt: skip


def ask(name: str, path: str) -> None:
    """One of the queries."""
    print(sqlite3.connect(path + ".db").execute(QUERIES[name]).fetchall())


QUERIES["groups"] = (
    "SELECT COUNT(*), SUM(n), MAX(n) FROM (SELECT COUNT(*) AS n FROM t WHERE skipper IS NOT NULL AND berth IS NOT NULL"
    " GROUP BY upper(trim(replace(skipper, '  ', ' '))), upper(trim(replace(berth, '  ', ' '))) HAVING COUNT(*) > 1)"
)
WRITES = {
    "deduplicate": "WITH r AS (SELECT *, row_number() OVER (PARTITION BY upper(trim(boat)), berth ORDER BY from_day DESC, rowid) AS n,"
    " first_value(status) OVER (PARTITION BY upper(trim(boat)), berth ORDER BY status IS NULL, from_day DESC, rowid) AS filled FROM t)"
    " SELECT stay_id, boat, skipper, berth, from_day, coalesce(status, filled), services, amount, remark FROM r WHERE n = 1 OR berth IS NULL",
    "order": "SELECT boat, skipper, stay_id FROM t ORDER BY boat NULLS LAST, skipper NULLS LAST",
    "sort": "SELECT * FROM t ORDER BY boat NULLS LAST, from_day DESC, rowid",
    "split": "WITH RECURSIVE piece(at, item, rest) AS (SELECT rowid, NULL, services || ';' FROM t UNION ALL "
    "SELECT at, substr(rest, 1, instr(rest, ';') - 1), substr(rest, instr(rest, ';') + 1) FROM piece WHERE rest <> '') "
    "SELECT t.*, p.item FROM piece AS p JOIN t ON t.rowid = p.at WHERE p.item IS NOT NULL",
}  # fmt: skip


def write(name: str, path: str) -> None:
    """One of the plans' steps, its result written as CSV."""
    with open(f"{path}.sqlite-{name}.csv", "w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(sqlite3.connect(path + ".db").execute(WRITES[name]))


def load_keys(path: str) -> None:
    """The table of keys beside the loaded one; this is not timed."""
    base = sqlite3.connect(path + ".db")
    if not base.execute("SELECT 1 FROM sqlite_master WHERE name = 'k'").fetchone():
        base.execute("CREATE TABLE k (stay_id TEXT, owner TEXT)")
        with open(path.replace("stays-", "keys-"), newline="", encoding="utf-8") as file:
            rows = csv.reader(file)
            next(rows)
            base.executemany("INSERT INTO k VALUES (?, ?)", rows)
        base.commit()


if __name__ == "__main__":
    job, file = sys.argv[1:3]
    if job in QUERIES:
        ask(job, file)
    elif job in WRITES:
        write(job, file)
    else:
        {"load": load, "profile": profile, "keys": load_keys}[job](file)
