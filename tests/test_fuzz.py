"""Cut, doubled and flipped bytes for every reader; random plans, expressions, arguments and environments: an end that is told, never a
traceback, never a count that is not true."""

from __future__ import annotations

import gzip
import os
import random
import sqlite3
import subprocess
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

from conftest import PROGRAM, program, write

TURNS = int(os.environ.get("GRAVEL_FUZZ", "40"))
TABLE = pa.table(
    {
        "id": list(range(40)),
        "name": ["Möwe", "gull", None, 'say "ah"'] * 10,
        "fee": [1.5, None, -0.0, 1e300] * 10,
    }
)


def _made(ending: str) -> bytes:
    import pyarrow.csv as pa_csv
    import pyarrow.parquet as pq

    path = Path(f"base{ending}")
    if ending == ".parquet":
        pq.write_table(TABLE, path)
    elif ending == ".arrow":
        with pa.ipc.new_file(path, TABLE.schema) as writer:
            writer.write_table(TABLE, 10)
    elif ending == ".jsonl":
        write(
            path,
            "".join(
                f'{{"id": {n}, "name": "M\\u00f6we", "fee": 1.50, "tags": ["a", {{"b": null}}]}}\n'
                for n in range(40)
            ),
        )
    elif ending == ".db":
        path.unlink(missing_ok=True)
        base = sqlite3.connect(path)
        base.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, name TEXT, fee REAL)")
        base.executemany("INSERT INTO t VALUES (?, ?, ?)", [(n, "Möwe", n / 7) for n in range(400)])
        base.commit()
        base.close()
    else:
        pa_csv.write_csv(TABLE, path)
        if ending == ".csv.gz":
            path.write_bytes(gzip.compress(path.read_bytes()))
    return path.read_bytes()


def _damaged(data: bytes, dice: random.Random) -> bytes:
    made = bytearray(data)
    for _ in range(dice.choice([1, 1, 3, 10])):
        at, kind = dice.randrange(len(made) or 1), dice.randrange(4)
        if kind == 0 and made:
            made[at] = dice.randrange(256)
        elif kind == 1:
            del made[at : at + dice.choice([1, 2, 50, len(made)])]
        elif kind == 2:
            made[at:at] = made[at : at + dice.choice([1, 3, 100])]
        else:
            made[at:at] = dice.choice(
                [b'"', b"\n", b"\r", b"\x00", b"\xff", b",", b'""', b"\xf0\x9f", b"{", b"1e999"]
            )
    return bytes(made)


@pytest.mark.parametrize("ending", [".csv", ".csv.gz", ".parquet", ".jsonl", ".db"])
def test_damaged_files_end_in_a_count_or_a_message(ending: str, gravel: Any) -> None:
    data = _made(ending)
    for turn in range(TURNS):
        dice = random.Random(f"{ending} {turn}")
        name = f"t{ending}"
        Path(name).write_bytes(_damaged(data, dice))
        told = []
        for call in (
            ["count"],
            ["look", "--rows", "all", "--format", "csv"],
            ["profile"],
            ["duplicates"],
        ):
            ran = gravel(
                call[0],
                name,
                *call[1:],
                *(["--format", "json"] if call[0] == "count" else []),
                status=None,
            )
            assert ran.status in (0, 1, 2, 3), (turn, call, ran.err)
            told.append(ran)
        if told[0].status == 0 and told[1].status == 0:
            rows = told[0].json["tables"][0]["rows"]
            assert f"{rows:,} row" in told[1].err or rows == 0, (turn, told[1].err)


def test_damaged_arrow_files_never_end_the_process(folder: Path) -> None:
    """In a process of its own: a wrong offset would end this one."""
    data = _made(".arrow")
    for turn in range(max(4, TURNS // 8)):
        dice = random.Random(f"arrow {turn}")
        Path("t.arrow").write_bytes(_damaged(data, dice))
        ran = program("profile", "t.arrow", cwd=folder)
        assert ran.returncode in (0, 1, 3), (turn, ran.returncode, ran.stderr)


WORDS = ["SELECT", "FROM", "WHERE", "(", ")", ",", "'a'", '"b"', "a", "b", "1", "1.5", "1e5", "NULL", "AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "CASE", "WHEN",
         "THEN", "ELSE", "END", "CAST", "AS", "INTEGER", "DECIMAL(3,1)", "DATE", "'2024-01-01'", "INTERVAL", "'1'", "DAY", "SUM", "COUNT", "*", "OVER", "ORDER", "BY",
         "ROWS", "PRECEDING", "UNBOUNDED", "GROUP", "HAVING", "UNION", "JOIN", "ON", "LEFT", "EXISTS", "VALUES", "ARRAY", "[", "]", "+", "-", "/", "||", "=", "<>",
         "<", "IS", "DISTINCT", "UPPER", "TRIM", "SUBSTRING", "FOR", "ANY", "ALL", "WITH", "RECURSIVE", "LIMIT", "FETCH", "FIRST", "ONLY", "UNNEST", "LATERAL",
         "'t.csv'", "t", ".", ":p", "U&'\\0041'", "X'00'", "--", "/*", "*/", ";", "é", "\u200b", "9223372036854775808", "0x1F", "%", "'", '"']  # fmt: skip


def test_random_words_are_a_value_or_a_diagnostic(gravel: Any) -> None:
    write("t.csv", "a,b\n1,x\n2,\n,'\n")
    dice = random.Random(3)
    for _ in range(TURNS * 6):
        text = " ".join(dice.choice(WORDS) for _ in range(dice.randint(1, 14)))
        call = dice.choice([["query", "SELECT " + text], ["query", text], ["look", "t.csv", "--where", text], ["check", "t.csv", text], ["try", "t.csv", f"a = {text}"],
                            ["look", "t.csv", "--show", text], ["look", "t.csv", "--sort", text], ["count", "t.csv", "--distinct", text], ["count", "t.csv", "--total", text],
                            ["duplicates", "t.csv", "--on", text], ["query", "SELECT a, " + text + " FROM 't.csv'"]])  # fmt: skip
        ran = gravel(*call, status=None)
        assert ran.status in (0, 1, 2, 3), (call, ran.err)


PLAN = """table = "t.csv"
write = "o.csv"
key = ["a"]
[types]
b = "TEXT"
[[step]]
note = "n"
set = { b = "UPPER(b)" }
[[step]]
split = { column = "b", delimiter = ";", into = "rows" }
[[step]]
deduplicate = { by = ["a"], fill = true, prefer = "a DESC" }
[[step]]
check = { "a known" = "a IS NOT NULL" }
"""


def test_random_plans_are_run_or_their_mistakes_told(gravel: Any, folder: Path) -> None:
    write("t.csv", "a,b\n1,x\n2,\n3,y;z\n")
    for turn in range(TURNS * 2):
        dice = random.Random(f"plan {turn}")
        text = (
            _damaged(PLAN.encode(), dice)
            if turn % 2
            else "\n".join(dice.sample(PLAN.splitlines(), dice.randint(1, 12))).encode()
        )
        write("p.toml", text)
        ran = gravel("clean", "p.toml", "--dry-run", status=None)
        assert ran.status in (0, 1, 2, 3), (text, ran.err)
    assert sorted(path.name for path in folder.iterdir()) == ["p.toml", "t.csv"]


def test_odd_arguments_and_environments(folder: Path, gravel: Any) -> None:
    write("t.csv", "a,b\n1,Möwe\n2,x\n")
    for call in (["look", "t.csv", "--encoding", "idna"], ["look", "t.csv", "--encoding", "utf-16"], ["look", "t.csv", "--delimiter", "\r"],
                 ["look", "t.csv", "--delimiter", ""], ["look", "t.csv", "--rows", "-1"], ["count", ""], ["count", "."],
                 ["look", "t.csv", "--where", "a = 1", "--where", "a = 2"], ["check", "t.csv", "NULL"], ["look", "t.csv", "--where", "NULL"], ["profile", "t.csv", "--memory", "-1"],
                 ["clean", "t.csv"], ["verify", "t.csv"], ["query", ""], ["functions", "["]):  # fmt: skip
        assert gravel(*call, status=None).status in (0, 1, 2, 3), call
    raw = [os.fsencode(one) for one in (*PROGRAM, "look", "t.csv", "--where", "b = '\udcff'")]
    ran = subprocess.run(raw, cwd=folder, capture_output=True, check=False)
    assert (ran.returncode, b"Traceback" in ran.stderr) == (2, False), ran.stderr
    for environment in ({"PYTHONIOENCODING": "ascii"}, {"PYTHONIOENCODING": "latin-1"}, {"COLUMNS": "1"}, {"COLUMNS": "x"}, {"TERM": "dumb"}, {"HOME": "/nowhere"},
                        {"TMPDIR": "/nowhere"}, {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}):  # fmt: skip
        ran = subprocess.run(
            [*PROGRAM, "look", "t.csv"],
            cwd=folder,
            capture_output=True,
            env={**os.environ, **environment},
            check=False,
        )
        assert ran.returncode in (0, 3), (environment, ran.stderr)
        assert b"Traceback" not in ran.stderr, environment
    for closed in (">&-", "2>&-", "<&-"):
        ran = subprocess.run(
            f"{' '.join(PROGRAM)} look t.csv {closed}",
            shell=True,
            cwd=folder,
            capture_output=True,
            check=False,
        )
        assert ran.returncode in (0, 3), (closed, ran.stderr)
        assert b"Traceback" not in ran.stderr, closed


def test_little_memory_is_told_and_leaves_nothing(folder: Path) -> None:
    write("t.csv", "a,b\n1,x\n2,y\n")
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n')
    for limit in (100_000, 250_000, 400_000):
        for call in ("count t.csv", "profile t.csv", "compare t.csv t.csv --key a", "clean p.toml"):
            command = f"ulimit -v {limit}; {' '.join(PROGRAM)} {call}"
            ran = subprocess.run(
                command,
                shell=True,
                executable="/bin/bash",
                cwd=folder,
                capture_output=True,
                text=True,
                check=False,
            )
            assert (ran.returncode, "of memory here" in ran.stderr, "Traceback" in ran.stderr) == (
                3,
                True,
                False,
            ), (limit, call, ran.stderr)
    assert sorted(path.name for path in folder.iterdir()) == ["p.toml", "t.csv"]
