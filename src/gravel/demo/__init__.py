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

WALK: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("How much is there, and is every record a row?", ("count", "boats.csv", "owners.csv",
    "stays.csv", "services.csv")),
    ("Is boat_id a key? How many names are there, and how many once case and spaces are ignored?",
     ("count", "boats.csv", "--key", "boat_id", "--distinct", "name", "--distinct",
     "UPPER(TIDY_SPACES(name))")),
    ("Boats without a skipper, with a tidier name beside the name as it is:",
     ("look", "boats.csv", "--where", "IS_BLANK(skipper)", "--show",
     "UPPER(TRIM(name)) AS tidy_name",
      "--columns", "boat_id, name, skipper, berth, status", "--rows", "10")),
    ("What is in each column, what is wrong with it, and what would mend it? "
     "The five findings that cost most:",
     ("profile", "boats.csv", "--findings", "5")),
    ("One column in depth:", ("profile", "boats.csv", "--column", "status")),
    ("Do conditions hold, in every row and for the table as a whole?",
     ("check", "stays.csv", "known boat: boat_id IN (SELECT boat_id FROM 'boats.csv')",
     "nights > 0",
      "COUNT(DISTINCT stay_id) = COUNT(*)")),
    ("An expression tried before anything is changed:", ("try", "boats.csv",
    "name = CAPITALIZE_WORDS(TIDY_SPACES(name))")),
    ("A cast that does not fit everywhere: one bad value never sinks the rest.",
     ("try", "boats.csv", "length_m = CAST(length_m AS DECIMAL(6,2))")),
    ("How many nights did the boats of each pier stay? "
     "The account says what the join did to the rows.",
     ("query",
     "SELECT b.pier, COUNT(DISTINCT b.boat_id) AS boats, SUM(s.nights) AS nights "
      "FROM boats AS b LEFT JOIN stays AS s USING (boat_id) "
      "GROUP BY b.pier ORDER BY nights DESC", "--in", ".", "--explain")),
    ("The plan, run and proved:", ("clean", "boats.toml")),
    ("The rows it left behind, each with its reason:",
     ("look", "boats-clean-left-behind.csv", "--columns",
     "gravel_row, gravel_step, gravel_outcome, gravel_reason, name, status, length_m",
      "--rows", "8")),
    ("What did the plan do to the cells of the boats that are left?",
     ("compare", "boats.csv", "boats-clean.csv", "--key", "boat_id")),
    ("Owners written down more than once: what case, spaces and commas hide.",
     ("duplicates", "owners.csv", "--on", "name", "--on", "town", "--rows", "2")),
    ("Names that are nearly equal:",
     ("duplicates", "owners.csv", "--near", "TIDY_SPACES(name)", "--within", "1", "--key",
     "owner_id", "--rows", "4")),
    ("A field with a list in it, split into rows: what would become of them?",
     ("try", "boats.csv", "--step",
     "split = { column = 'services', on = ';', into = 'rows', as = 'service' }")),
    ("Owners written down twice, merged:", ("clean", "owners.toml")),
    ("The way of one of them through the plan:", ("follow", "owners.toml", "--where",
    "owner_id = '0300'")),
    ("Tables where they live: what is in a database?", ("count", "harbour.db")),
    ("A database lets values in that are not what it declares:", ("profile", "harbour.db#stays",
    "--findings", "3")),
    ("A table mended in place: only cells that differ are written, in one transaction, "
     "proved before it is committed.",
     ("clean", "stays.toml", "--backup", "stays_before")),
    ("Later: is all as it was signed?", ("verify", "boats-clean.record.json")),
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
