"""Measures Gravel beside pandas and SQLite in one run, as ratios: `python benchmarks/run.py [--rows N] [PART …]`.

Every job is a process of its own, start included. The jobs take turns, and each counts with its median, so that
what else the machine does hits all of them alike; ratios are of CPU seconds. The table goes to docs/benchmarks.md where
--write is given.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median
from typing import NamedTuple

HERE = Path(__file__).parent
PYTHON = sys.executable
GRAVEL = [PYTHON, "-m", "gravel"]
TURNS = 5
# As on a person's machine, where compiled modules are kept between runs.
ENVIRONMENT = {
    name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"
}


class Measured(NamedTuple):
    """What a process took: seconds by the clock, CPU seconds of all its threads, peak resident bytes."""

    wall: float
    cpu: float
    memory: int

    def __str__(self) -> str:
        return f"{self.cpu:.2f} CPU s, {self.wall:.2f} s, {self.memory / 2**20:.0f} MiB"


def measure(command: list[str], folder: Path) -> Measured:
    """A process, whose output is thrown away."""
    begun = time.perf_counter()
    process = subprocess.Popen(
        command, cwd=folder, env=ENVIRONMENT, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{' '.join(command)} ended with {os.waitstatus_to_exitcode(status)}")
    wall = time.perf_counter() - begun
    return Measured(wall, usage.ru_utime + usage.ru_stime, usage.ru_maxrss * 1024)


def race(jobs: dict[str, list[str]], folder: Path, turns: int = TURNS) -> dict[str, Measured]:
    """The median times and the greatest memory of each job over some turns."""
    found: dict[str, list[Measured]] = {name: [] for name in jobs}
    for _ in range(turns):
        for name, command in jobs.items():
            found[name].append(measure(command, folder))
    return {
        name: Measured(
            median(each.wall for each in every),
            median(each.cpu for each in every),
            max(each.memory for each in every),
        )
        for name, every in found.items()
    }


def with_pandas(job: str, file: str, engine: str) -> list[str]:
    """The command of a job done with pandas."""
    return [PYTHON, str(HERE / "with_pandas.py"), job, file, engine]


def start(folder: Path, rows: int) -> list[str]:
    """Start-up, beyond that of Python itself."""
    (folder / "ten.csv").write_bytes(b"a,b\n" + b"1,x\n" * 10)
    jobs = {
        "python": [PYTHON, "-c", "pass"], "version": [*GRAVEL, "--version"], "help": [*GRAVEL, "--help"],
        "count of ten rows": [*GRAVEL, "count", "ten.csv"], "import of pyarrow.compute": [PYTHON, "-c", "import pyarrow.compute"],
        "query of ten rows": [*GRAVEL, "query", "SELECT a FROM 'ten.csv'"], "profile of ten rows": [*GRAVEL, "profile", "ten.csv"],
    }  # fmt: skip
    found = race(jobs, folder, 7)
    bare = found["python"].cpu
    aims = {
        "version": "at most 40 ms beyond Python",
        "help": "at most 150 ms",
        "import of pyarrow.compute": "",
        "count of ten rows": "at most 300 ms",
        "query of ten rows": "at most 400 ms",
        "profile of ten rows": "at most 400 ms",
    }
    return [
        f"| start: {name} | {found[name].cpu * 1000:.0f} CPU ms, {found[name].cpu / bare:.1f} times `python -c pass` | {aims[name]} |"
        for name in aims
    ]


def profile(folder: Path, rows: int) -> list[str]:
    """The whole profile of a table, beside pandas and SQLite that find the first figures only: NULLs, blanks, padded and
    distinct values, least and greatest, lengths, the most frequent."""
    file = _table(folder, rows)
    subprocess.run([PYTHON, str(HERE / "with_sqlite.py"), "load", file], cwd=folder, check=True)
    jobs = {
        "gravel": [*GRAVEL, "profile", file], "pandas": with_pandas("profile", file, "c"),
        "pandas with the pyarrow reader": with_pandas("profile", file, "pyarrow"),
        "SQLite, loaded": [PYTHON, str(HERE / "with_sqlite.py"), "profile", file],
    }  # fmt: skip
    aims = {"pandas": 1.3, "pandas with the pyarrow reader": 0.0, "SQLite, loaded": 5.0}
    return _ratios(
        f"whole profile of {rows:,} rows, the others the first figures of it",
        race(jobs, folder),
        aims,
    )


def clean(folder: Path, rows: int) -> list[str]:
    """Five steps with all proofs, beside pandas without any."""
    file = _table(folder, rows)
    _plan(folder, file)
    jobs = {
        "gravel": [*GRAVEL, "clean", "clean.toml"], "pandas": with_pandas("clean", file, "c"),
        "pandas with the pyarrow reader": with_pandas("clean", file, "pyarrow"),
    }  # fmt: skip
    return _ratios(
        f"clean of {rows:,} rows, five steps",
        race(jobs, folder),
        {"pandas": 4.0, "pandas with the pyarrow reader": 1.0},
    )


def memory(folder: Path, rows: int) -> list[str]:
    """The peak memory of a clean at one and at four million rows."""
    peaks = []
    for count in (rows, 4 * rows):
        _plan(folder, _table(folder, count))
        peaks.append(measure([*GRAVEL, "clean", "clean.toml"], folder).memory / 2**20)
    told = f"{peaks[0]:.0f} MiB at {rows:,} rows, {peaks[1]:.0f} MiB at {4 * rows:,} ({peaks[1] / peaks[0]:.2f} times)"
    return [f"| memory of clean | {told} | under 600 MB, at most 1.25 times |"]


QUERIES = {
    "group": "SELECT status, COUNT(*) AS stays, COUNT(DISTINCT boat) AS boats FROM stays GROUP BY status",
    "distinct": "SELECT COUNT(*) AS pairs FROM (SELECT DISTINCT boat, berth FROM stays) AS q",
    "join": "SELECT COUNT(*) AS stays, MIN(k.owner) AS owner FROM stays JOIN k ON stays.stay_id = k.stay_id",
    "window": "SELECT MAX(c) AS most FROM (SELECT COUNT(*) OVER (PARTITION BY boat, berth) AS c FROM stays) AS q",
    "unnest": "SELECT item, COUNT(*) AS times FROM stays, UNNEST(LIST_ITEMS(services, ';')) AS u(item) GROUP BY item",
}  # fmt: skip
TITLES = {
    "group": "GROUP BY with COUNT DISTINCT", "distinct": "DISTINCT of two columns", "join": "JOIN with a tenth of the keys",
    "window": "window count by two columns", "unnest": "UNNEST with count",
}  # fmt: skip


def query(folder: Path, rows: int) -> list[str]:
    """Queries from CSV, beside pandas from CSV and SQLite with the data already loaded."""
    file = _table(folder, rows)
    keys = folder / file.replace("stays-", "keys-")
    if not keys.exists():
        keys.write_text(
            "stay_id,owner\n" + "".join(f"{at},o{at}\n" for at in range(1, rows + 1, 10))
        )
    for job in ("load", "keys"):
        subprocess.run([PYTHON, str(HERE / "with_sqlite.py"), job, file], cwd=folder, check=True)
    lines = []
    for name, text in QUERIES.items():
        jobs = {
            "gravel": [*GRAVEL, "query", text, "--table", f"stays={file}", "--table", f"k={keys.name}"],
            "pandas": with_pandas(name, file, "c"), "pandas with the pyarrow reader": with_pandas(name, file, "pyarrow"),
            "SQLite, loaded": [PYTHON, str(HERE / "with_sqlite.py"), name, file],
        }  # fmt: skip
        aims = {"pandas": 1.5, "pandas with the pyarrow reader": 1.5, "SQLite, loaded": 2.0}
        lines += _ratios(f"query: {TITLES[name]}, {rows:,} rows", race(jobs, folder), aims)
    order = f"SELECT boat, skipper, stay_id FROM '{file}' ORDER BY boat, skipper"
    jobs = {
        "gravel": [*GRAVEL, "query", order, "--write", "order.csv", "--replace"],
        "pandas": with_pandas("order", file, "c"), "pandas with the pyarrow reader": with_pandas("order", file, "pyarrow"),
        "SQLite, loaded": [PYTHON, str(HERE / "with_sqlite.py"), "order", file],
    }  # fmt: skip
    aims = {"pandas": 1.5, "pandas with the pyarrow reader": 1.5, "SQLite, loaded": 2.0}
    return lines + _ratios(
        f"query: ORDER BY two columns, written, {rows:,} rows", race(jobs, folder), aims
    )


def formats(folder: Path, rows: int) -> list[str]:
    """A profile of the same table as Parquet; and what the small commands take of a smaller one."""
    file, small = _table(folder, rows), _table(folder, rows * 3 // 10)
    parquet = folder / f"{file}.parquet"
    if not parquet.exists():
        copy = "import sys, pyarrow.csv as c, pyarrow.parquet as p; p.write_table(c.read_csv(sys.argv[1]), sys.argv[2])"
        subprocess.run([PYTHON, "-c", copy, file, parquet.name], cwd=folder, check=True)
    jobs = {
        "CSV": [*GRAVEL, "profile", file], "Parquet": [*GRAVEL, "profile", parquet.name],
        "start": [*GRAVEL, "count", "ten.csv"], "count": [*GRAVEL, "count", small], "look": [*GRAVEL, "look", small],
        "check": [*GRAVEL, "check", small, "stay_id > 0"],
    }  # fmt: skip
    (folder / "ten.csv").write_bytes(b"a,b\n" + b"1,x\n" * 10)
    found = race(jobs, folder)
    ratio = found["Parquet"].cpu / found["CSV"].cpu
    lines = [
        f"| profile of {rows:,} rows of Parquet | {found['Parquet']}, **{ratio:.1f} times** the CSV's | at most 0.8 |"
    ]
    for name in ("count", "look", "check"):
        more = found[name].cpu - found["start"].cpu
        lines.append(
            f"| {name} of {rows * 3 // 10:,} rows | {found[name]}, {more:.2f} CPU s over the start | at most 0.4 |"
        )
    return lines


def profile_memory(folder: Path, rows: int) -> list[str]:
    """The peak memory of a profile at one and at ten million rows."""
    peaks = [
        measure([*GRAVEL, "profile", _table(folder, count)], folder) for count in (rows, 10 * rows)
    ]
    told = "; ".join(
        f"{count:,} rows: {peak}" for peak, count in zip(peaks, (rows, 10 * rows), strict=True)
    )
    return [
        f"| memory of profile | {told} | what a quarter of the machine's memory does not hold goes to a file |"
    ]


def _table(folder: Path, rows: int) -> str:
    name = f"stays-{rows}.csv"
    # By a process of its own: what one has held at most, those that it begins count as theirs.
    command = [PYTHON, str(HERE / "data.py"), str(folder / name), str(rows)]
    subprocess.run(command, check=True)
    return name


def _plan(folder: Path, file: str) -> None:
    (folder / "clean.toml").write_text(
        (HERE / "clean.toml").read_text().replace("stays-1m", file.removesuffix(".csv"))
    )


def _ratios(title: str, found: dict[str, Measured], aims: dict[str, float]) -> list[str]:
    lines = [f"| {title} | {found['gravel']} | |"]
    for other, aim in aims.items():
        ratio = found[other].cpu / found["gravel"].cpu
        told = (
            f"**{ratio:.1f} times** as long"
            if ratio >= 1
            else f"**ahead of Gravel**, {ratio:.1f} times as long"
        )
        lines.append(
            f"| – {other}: {found[other]} | {told} | {f'at least {aim:.1f}' if aim else ''} |"
        )
    return lines


TEN = """table = "{file}"
write = "{file}-ten.csv"
key = ["stay_id"]
[[step]]
set = {{ boat = "TIDY_SPACES(boat)" }}
[[step]]
set = {{ skipper = "TIDY_SPACES(skipper)" }}
[[step]]
set = {{ status = "LOWER(TRIM(status))" }}
[[step]]
set = {{ status = "NULLIF(status, 'n/a')" }}
[[step]]
set = {{ berth = "NULLIF(TRIM(berth), '')" }}
[[step]]
keep_rows = "COALESCE(status, 'open') <> 'cancelled'"
[[step]]
set = {{ boat = "UPPER(boat)" }}
[[step]]
set = {{ services = "COALESCE(services, 'none')" }}
[[step]]
drop_rows = "services = 'mail'"
[[step]]
set = {{ pier = "LEFT(berth, 1)" }}
"""
WHOLE = {
    "deduplicate": "deduplicate = { by = ['UPPER(TRIM(boat))', 'berth'], prefer = 'from_day DESC', fill = ['status'] }",
    "sort": "sort = ['boat', 'from_day DESC']",
    "split": "split = { column = 'services', on = ';', into = 'rows', as = 'service' }",
}


def plan(folder: Path, rows: int) -> list[str]:
    """Ten row-by-row steps with all proofs, beside reading the CSV with Arrow and writing it back."""
    file = _table(folder, rows)
    (folder / "ten.toml").write_text(TEN.format(file=file))
    copy = "import sys, pyarrow.csv as c; o = c.ConvertOptions(column_types={{}}); t = c.read_csv(sys.argv[1]); c.write_csv(t, sys.argv[1] + '.copy')"
    jobs = {
        "gravel": [*GRAVEL, "clean", "ten.toml"],
        "read and write": [PYTHON, "-c", copy.replace("{{}}", "{}"), file],
    }
    found = race(jobs, folder)
    own, other = found["gravel"], found["read and write"]
    return [
        f"| plan of ten steps, {rows:,} rows, with proofs | {own} | |",
        f"| – Arrow reads and writes the CSV: {other} | **{own.cpu / other.cpu:.1f} times** that | at most 2.5 |",
    ]


def whole(folder: Path, rows: int) -> list[str]:
    """Steps that need all rows, with 256 MB to hold, beside pandas and SQLite doing the same with all they want."""
    file = _table(folder, rows)
    subprocess.run([PYTHON, str(HERE / "with_sqlite.py"), "load", file], cwd=folder, check=True)
    lines = []
    for name, step in WHOLE.items():
        (folder / f"{name}.toml").write_text(
            f'table = "{file}"\nwrite = "{file}-{name}.csv"\n[[step]]\n{step}\n'
        )
        jobs = {
            "gravel": [*GRAVEL, "clean", f"{name}.toml", "--memory", "256MB"], "pandas": with_pandas(name, file, "c"),
            "SQLite, loaded": [PYTHON, str(HERE / "with_sqlite.py"), name, file],
        }  # fmt: skip
        title = f"{name} of {rows:,} rows, with proofs, in 256 MB"
        lines += _ratios(title, race(jobs, folder, 3), {"pandas": 0, "SQLite, loaded": 0})
    return lines


def duplicates(folder: Path, rows: int) -> list[str]:
    """Groups by two text expressions with their rows and the whole match levels, beside scripts that find one match level's groups."""
    file = _table(folder, rows)
    subprocess.run([PYTHON, str(HERE / "with_sqlite.py"), "load", file], cwd=folder, check=True)
    jobs = {
        "gravel": [*GRAVEL, "duplicates", file, "--on", "skipper", "--on", "berth", "--level", "case"],
        "pandas": with_pandas("groups", file, "c"), "SQLite, loaded": [PYTHON, str(HERE / "with_sqlite.py"), "groups", file],
    }  # fmt: skip
    return _ratios(
        f"duplicates of {rows:,} rows by two texts, all match levels",
        race(jobs, folder),
        {"pandas": 2.5, "SQLite, loaded": 4.0},
    )


def near(folder: Path, rows: int) -> list[str]:
    """Nearly equal names, and how many made slips each way finds."""
    from slips import recall

    lines = []
    for values in (20_000, 200_000):
        (folder / f"names-{values}.csv").write_text(recall.names(values))
        took = measure(
            [*GRAVEL, "duplicates", f"names-{values}.csv", "--near", "name", "--within", "2"],
            folder,
        )
        lines.append(f"| nearly equal: {values:,} names within 2 edits | {took} | within 60 s |")
    return [*lines, "", "## How many made slips are found", *recall.table(folder, GRAVEL)]


def compare(folder: Path, rows: int) -> list[str]:
    """A table beside what a plan made of it, by key."""
    file = _table(folder, rows)
    (folder / "ten.toml").write_text(TEN.format(file=file))
    subprocess.run(
        [*GRAVEL, "clean", "ten.toml"],
        cwd=folder,
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    command = f"{' '.join(GRAVEL)} compare {file} {file}-ten.csv --key stay_id; test $? -eq 1"
    jobs = {"gravel": ["sh", "-c", command], "pandas": with_pandas("compare", file, "c")}
    return _ratios(f"compare of two tables of {rows:,} rows", race(jobs, folder), {"pandas": 4.0})


def stores(folder: Path, rows: int) -> list[str]:
    """A table on a server beside its bare fetch and the same in files; a change in place."""
    import stores as servers

    (_, found), (_, changed) = servers.main(folder / _table(folder, rows), GRAVEL, race)
    took = {name: each.wall for name, each in found.items()}
    bare = took["bare fetch by ADBC"] + took["gravel profile, Parquet"]
    ratio = took["gravel profile, PostgreSQL"] / bare
    lines = [
        f"| profile of {rows:,} rows: {name} | {seconds:.2f} s | |"
        for name, seconds in took.items()
    ]
    lines.append(
        f"| – PostgreSQL beside fetch and Parquet together | **{ratio:.1f} times** as long | at most 1.5 |"
    )
    return lines + [f"| {name} | {each} | |" for name, each in changed.items()]


PARTS = {
    "start": start, "profile": profile, "clean": clean, "memory": memory, "profile-memory": profile_memory, "query": query, "formats": formats,
    "plan": plan, "whole": whole, "duplicates": duplicates, "compare": compare, "stores": stores, "near": near,
}  # fmt: skip
HEAD = """# Benchmarks

Made by `python benchmarks/run.py --write`, each job a process of its own with its start, the median of five turns
beside its peers on {cores} cores. Ratios are of CPU seconds, and say more than seconds: the machine is shared. The
table has nine text columns, about 98 bytes a row: a third of the names have accents, 1% of the rows a remark of 120 to
500 characters, two columns nearly as many values as rows. The scripts beside it are in `benchmarks/`.
`GRAVEL_NATIVE=0` measures the references instead of the compiled kernels.

| job | measured | aim |
| --- | --- | --- |
"""
TAIL = """
`others` are pairs that were not made so: names that are alike by chance.

Each function by itself, a million values: [function benchmarks](function-benchmarks.md); ten million rows in 256 MB: [in little memory](little-memory.md).
"""


def main() -> None:
    """Run the parts asked for (all if none is) and print the table."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("parts", nargs="*", choices=[*PARTS, []], help="which parts to run")
    options.add_argument("--rows", type=int, default=1_000_000)
    options.add_argument(
        "--folder", type=Path, default=Path(tempfile.gettempdir(), "gravel-benchmarks")
    )
    options.add_argument("--write", action="store_true", help="write docs/benchmarks.md")
    chosen = options.parse_args()
    chosen.folder.mkdir(parents=True, exist_ok=True)
    lines = []
    for name in chosen.parts or PARTS:
        for line in PARTS[name](chosen.folder, chosen.rows):
            print(line, flush=True)
            lines.append(line)
    if chosen.write:
        text = HEAD.format(cores=len(os.sched_getaffinity(0))) + "\n".join(lines) + "\n" + TAIL
        (HERE.parent / "docs" / "benchmarks.md").write_text(text, "utf-8")


if __name__ == "__main__":
    main()
