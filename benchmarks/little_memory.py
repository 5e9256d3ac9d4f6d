"""Ten million rows in little memory: `python benchmarks/little_memory.py [--rows N] [--memory 256MB] [--write]`.

Each job is a process of its own; its seconds and its peak are measured, and what it gives is compared with SQLite, which has the same rows
loaded. --write puts the table into docs/little-memory.md."""

from __future__ import annotations

import argparse
import csv
import re
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from itertools import islice
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv

from run import GRAVEL, measure

TARGET = Path(__file__).parent.parent / "docs" / "little-memory.md"
PART = 1_000_000
QUERIES = {
    "GROUP BY, a million groups": "SELECT boat, COUNT(*) AS c, SUM(fee) AS s FROM ten GROUP BY boat",
    "ORDER BY": "SELECT id, fee FROM ten ORDER BY fee, id",
    "JOIN, a million keys": "SELECT t.id, b.owner FROM ten AS t JOIN boats AS b ON b.boat = t.boat",
    "window": "SELECT id, ROW_NUMBER() OVER (PARTITION BY boat ORDER BY id) AS n FROM ten",
    "DISTINCT": "SELECT DISTINCT boat, berth FROM ten",
    "WHERE and LIMIT": "SELECT id FROM ten WHERE fee > 5 ORDER BY id LIMIT 5",
}
PLANS = {
    "deduplicate": 'deduplicate = { by = ["boat"], prefer = ["fee DESC", "id"] }',
    "sort": 'sort = ["fee", "id"]',
}


def tables(folder: Path, rows: int) -> None:
    """ten.csv of so many rows by eight columns, with accents and many different values, and boats.csv."""
    dice = np.random.default_rng(5)
    boats = max(10, rows // 10)
    writer = None
    for start in range(0, rows, PART):
        some = min(PART, rows - start)
        part = pa.table({
            "id": np.arange(start, start + some), "berth": dice.choice(["A-01", "B-02", "Ö-03", "D-4"], some),
            "name": np.char.add("båt ", dice.integers(0, boats, some).astype(str)), "fee": dice.integers(0, 100_000, some),
            "length": np.round(dice.normal(9, 2, some), 2), "day": pa.array(dice.integers(15_000, 20_000, some).astype("i4")).cast(pa.date32()),
            "afloat": dice.random(some) > 0.5, "boat": dice.integers(0, boats, some),
        })  # fmt: skip
        writer = writer or pa_csv.CSVWriter(folder / "ten.csv", part.schema)
        writer.write(part)
    assert writer is not None
    writer.close()
    owners = np.char.add("owner ", dice.integers(0, boats // 5, boats).astype(str))
    pa_csv.write_csv(pa.table({"boat": np.arange(boats), "owner": owners}), folder / "boats.csv")


def loaded(folder: Path) -> sqlite3.Connection:
    """The same rows in SQLite."""
    base = sqlite3.connect(folder / "beside.db")
    base.execute(
        "CREATE TABLE ten (id INTEGER, berth TEXT, name TEXT, fee INTEGER, length REAL, day TEXT, afloat TEXT, boat INTEGER)"
    )
    base.execute("CREATE TABLE boats (boat INTEGER PRIMARY KEY, owner TEXT)")
    for name, columns in (("ten", 8), ("boats", 2)):
        with open(folder / f"{name}.csv", newline="", encoding="utf-8") as file:
            rows = csv.reader(file)
            next(rows)
            base.executemany(f"INSERT INTO {name} VALUES ({', '.join('?' * columns)})", rows)
    base.execute("CREATE INDEX by_boat ON ten (boat, id)")
    base.commit()
    return base


def same(path: Path, rows: Iterator[tuple[object, ...]], ordered: bool) -> bool:
    """Whether a written file has these rows: in this order, or as often."""
    with open(path, newline="", encoding="utf-8") as file:
        mine = csv.reader(file)
        next(mine)
        theirs = (tuple(str(value) for value in row) for row in rows)
        if ordered:
            return all(tuple(one) == other for one, other in zip(mine, theirs, strict=True))
        count = total = 0
        for one in mine:
            count, total = count + 1, total + hash(tuple(one))
        for other in theirs:
            count, total = count - 1, total - hash(other)
        return (count, total) == (0, 0)


def main() -> None:
    """Make the tables, run every job, compare, print."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--rows", type=int, default=10_000_000)
    asked.add_argument("--memory", default="256MB")
    asked.add_argument("--write", action="store_true")
    how = asked.parse_args()
    lines = [
        f"| {how.rows:,} rows by 8 columns, CSV, in {how.memory} | seconds | CPU seconds | peak | as SQLite has it |",
        "| --- | ---: | ---: | ---: | --- |",
    ]
    with tempfile.TemporaryDirectory(prefix="gravel-bench-") as name:
        folder = Path(name)
        # By a process of its own: what one has held at most, those that it begins count as theirs.
        maker = get_context("spawn").Process(target=tables, args=(folder, how.rows))
        maker.start()
        maker.join()
        base = loaded(folder)

        def told(job: str, command: list[str], right: Callable[[], bool] | None) -> None:
            took = measure([*GRAVEL, *command, "--memory", how.memory], folder)
            lines.append(
                f"| {job} | {took.wall:.1f} | {took.cpu:.1f} | {took.memory / 2**20:.0f} MiB | {'' if right is None else 'yes' if right() else 'NO'} |"
            )
            print(lines[-1], flush=True)

        for job, query in QUERIES.items():
            command = ["query", query, "--in", ".", "--write", "out.csv", "--replace"]
            told(
                job,
                command,
                lambda query=query: same(
                    folder / "out.csv",
                    base.execute(query),
                    "ORDER BY" in re.sub(r"OVER \(.*?\)", "", query),
                ),
            )  # type: ignore[misc]
        for job, step in PLANS.items():
            Path(folder, "p.toml").write_text(
                f'table = "ten.csv"\nwrite = "out.csv"\nreplace = true\n[[step]]\n{step}\n', "utf-8"
            )
            picked = "SELECT id FROM (SELECT id, ROW_NUMBER() OVER (PARTITION BY boat ORDER BY fee DESC, id) AS n FROM ten) WHERE n = 1 ORDER BY id"
            theirs = picked if job == "deduplicate" else "SELECT id FROM ten ORDER BY fee, id"

            def right(theirs: str = theirs) -> bool:
                with open(folder / "out.csv", newline="", encoding="utf-8") as file:
                    return all(
                        int(mine[0]) == other
                        for mine, (other,) in zip(
                            islice(csv.reader(file), 1, None), base.execute(theirs), strict=True
                        )
                    )

            told(job, ["clean", "p.toml"], right)
        told(
            "duplicates by two columns",
            ["duplicates", "ten.csv", "--on", "boat", "--on", "berth", "--rows", "2"],
            None,
        )
        told("profile", ["profile", "ten.csv"], None)
        told("compare with itself by a key", ["compare", "ten.csv", "ten.csv", "--key", "id"], None)
        base.close()
    if how.write:
        head = (
            "# In little memory\n\nMade by `python benchmarks/little_memory.py --write`, on two cores; "
            "a process each, its start and its output included.\n\n"
        )
        tail = (
            "\n`--memory` bounds what a command holds of the table at a time; the interpreter, the libraries"
            " and what is being worked on come on top.\n"
        )
        TARGET.write_text(head + "\n".join(lines) + "\n" + tail, "utf-8")


if __name__ == "__main__":
    main()
