"""The harbour demo: a small-boat harbour's tables, messy on purpose, and a plan for one of them."""

from __future__ import annotations

import csv
from contextlib import closing
from importlib import resources
from pathlib import Path

from gravel.problems import CallProblem, TableProblem

FILES = (
    "boats.csv",
    "owners.csv",
    "stays.csv",
    "services.csv",
    "boats.toml",
    "owners.toml",
    "boat-services.toml",
    "stays.toml",
)
DATABASE = "harbour.db"
# The same stays and services as a database has them: a key, declared types, and values that SQLite
# lets in although they do not match.
_TABLES = {
    "stays": (
        "stay_id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL, berth TEXT, from_day DATE, to_day"
        " DATE, nights INTEGER, amount NUMERIC(9, 2)"
    ),
    "services": (
        "booking_id INTEGER PRIMARY KEY, stay_id INTEGER, service TEXT, booked_on DATE, quantity"
        " INTEGER, price NUMERIC(9, 2), paid BOOLEAN"
    ),
}

Walk = tuple[tuple[str, tuple[str, ...]], ...]
WALK: Walk = (
    ("How much is there, and is every record a row?",
     ("count", "boats.csv", "stays.csv")),
    ("What is in each column, what is wrong with it, and how to fix it?",
     ("profile", "boats.csv", "--findings", "1")),
    ("The rows of a finding, by its number:",
     ("look", "boats.csv", "--finding", "1", "--rows", "2", "--columns",
      "boat_id, name, remark")),
    ("An expression tried before anything is changed:",
     ("try", "boats.csv", "status = COALESCE(LOWER(TRIM(status)), 'unknown')", "--rows", "3")),
    ("From which towns are the owners? The row counts show what the join did.",
     ("query", "SELECT town, COUNT(*) AS boats FROM boats LEFT JOIN owners USING (owner_id) "
      "GROUP BY town ORDER BY boats DESC, town LIMIT 2", "--in", ".", "--explain")),
    ("The plan, run and proved:", ("clean", "boats.toml")),
    ("The rows it rejected, each with its reason:",
     ("look", "boats-clean-rejects.csv", "--columns",
      "gravel_row, gravel_step, gravel_outcome, name, status, length_m", "--rows", "2")),
)  # fmt: skip
# What the walk leaves for another day.
MORE: Walk = (
    ("does all match the record?", ("verify", "boats-clean.record.json")),
    ("do conditions hold?", ("check", "stays.csv", "nights > 0", "amount IS NOT NULL")),
    ("what the plan did to cells", ("compare", "boats.csv", "boats-clean.csv", "--key", "boat_id")),
    ("duplicates", ("duplicates", "owners.csv", "--on", "name", "--on", "town")),
    ("a list split into rows", ("clean", "boat-services.toml")),
    ("owners merged", ("clean", "owners.toml")),
    ("the history of one row", ("trace", "owners.toml", "--where", "owner_id = '0300'")),
    ("a database, fixed in place", ("clean", "stays.toml", "--backup", "stays_before")),
)  # fmt: skip


def write_demo(folder: Path, replace: bool = False) -> list[Path]:
    """Write the demo's files into a folder, made if need be; files of other content are written
    over only to `replace` them. Raises TableProblem, CallProblem."""
    written = []
    try:
        if not replace:
            _refuse_others(folder)
        folder.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            target = folder / name
            target.write_bytes(resources.files(__package__).joinpath("data", name).read_bytes())
            written.append(target)
        written.append(_database(folder))
    except OSError as error:
        raise TableProblem(
            f"{folder} cannot be written: {(error.strerror or str(error)).lower()}"
        ) from None
    return written


def _refuse_others(folder: Path) -> None:
    """Files of the demo's names that hold something else are somebody's work."""
    data = resources.files(__package__).joinpath("data")
    others = [
        name
        for name in FILES
        if (folder / name).exists()
        and (folder / name).read_bytes() != data.joinpath(name).read_bytes()
    ]
    if (folder / DATABASE).exists() and not all((folder / name).exists() for name in FILES):
        others.append(DATABASE)
    if others:
        raise CallProblem(
            f"{folder / others[0]} is there already, and is not as the demo has it",
            hint="another folder, or --replace",
        )


def _database(folder: Path) -> Path:
    """A SQLite file with two of the tables, each key once."""
    import sqlite3

    target = folder / DATABASE
    target.unlink(missing_ok=True)
    with closing(sqlite3.connect(target)) as base, base:
        for name, columns in _TABLES.items():
            base.execute(f"CREATE TABLE {name} ({columns})")
            with open(folder / f"{name}.csv", encoding="utf-8", newline="") as file:
                head, *rows = csv.reader(file)
            whole = {row[0]: row for row in reversed(rows) if len(row) == len(head)}
            truth = {"true": 1, "false": 0}
            values = [
                [truth.get(cell, cell or None) for cell in row] for row in reversed(whole.values())
            ]
            base.executemany(f"INSERT INTO {name} VALUES ({', '.join('?' * len(head))})", values)
    return target
