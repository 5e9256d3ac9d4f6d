"""Plans: every row traced, every count proved, every mistake told at its line; nothing half done."""

from __future__ import annotations

import random
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write

BOATS = 'id,name,fee\n1, Gull ,10\n2,,20\n3,Tern,0\n4,"L""ark",5\n5,"",\n'


def _plan(text: str, name: str = "p.toml") -> None:
    write(name, 'table = "b.csv"\nwrite = "o.csv"\n' + text)


def test_the_ledger_the_proofs_and_the_rows_left_behind(figures: Any, gravel: Any, folder: Path) -> None:
    write("b.csv", BOATS)
    _plan("""key = ["id"]
[[step]]
note = "tidy"
[step.set]
name = "TRIM(name)"
size = "LENGTH(name)"
[[step]]
keep_rows = "fee < 20"
rows = "fewer"
[[step]]
set = { fee = "100 / fee" }
on_error = "set aside"
""")
    done = figures("clean", "p.toml")
    assert (done["status"], done["rows_in"], done["rows_out"], done["malformed"]) == ("good", 5, 2, 0)
    read, tidy, keep, share = done["steps"]
    assert (read["in"], read["out"]) == (5, 5)
    assert (tidy["changed"], tidy["changed_columns"], tidy["new_columns"]) == (1, {"name": 1}, ["size"])
    assert (keep["dropped"], keep["dropped_false"], keep["dropped_unknown"], keep["out"]) == (2, 1, 1, 3)
    assert (share["changed"], share["set_aside"], share["out"]) == (2, 1, 2)
    assert all(proof["holds"] for proof in done["proofs"])
    assert {proof["proof"] for proof in done["proofs"]} == {
        "every line of the file is accounted for", "every step balances", "every step meets its stated rows",
        "the key (id) is unique and not null before", "the output has the rows the ledger says",
        "the key (id) is unique and not null after", "columns that no step touched hold the same values",
    }  # fmt: skip
    # size was read as it came into the step: before TRIM.
    assert parsed(Path("o.csv").read_text()) == [
        ["id", "name", "fee", "size"], ["1", "Gull", "10.0000000000000000", "6"], ["4", 'L"ark', "20.0000000000000000", "5"],
    ]  # fmt: skip
    assert parsed(Path("o-left-behind.csv").read_text()) == [
        ["gravel_row", "gravel_path", "gravel_step", "gravel_outcome", "gravel_reason", "gravel_sqlstate", "gravel_column", "gravel_into",
         "id", "name", "fee", "size"],
        ["2", "2", "2", "dropped", "false: fee < 20", None, None, None, "2", None, "20", None],
        ["3", "3", "3", "set aside", "100 / fee", "22012", "fee", None, "3", "Tern", "0", "4"],
        ["5", "5", "2", "dropped", "unknown: fee < 20", None, None, None, "5", "", None, "0"],
    ]  # fmt: skip
    _plan("")
    gravel("clean", "p.toml")
    assert Path("o.csv").read_text() == BOATS
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "o.csv", "p.toml"]  # the old left-behind file is gone


@pytest.mark.parametrize(
    ("steps", "told"),
    [
        ('[[step]]\nset = { fee = "100 / fee" }', 'step 1 fails in 1 row, and its on_error is "stop"'),
        ('[[step]]\nkeep_rows = "fee > 5"\nrows = "same"', "every step meets its stated rows"),
        ('[[step]]\ndrop_rows = "fee > 5"\nrows = "-3"', "every step meets its stated rows"),
        ('[[step]]\ndrop_rows = "fee > 5"\nrows = "at most 2"', "every step meets its stated rows"),
        ('key = ["name"]', "the key (name) is unique and not null before"),
        ('key = ["id"]\n[[step]]\nset = { id = "1" }', "the key (id) is unique and not null after"),
    ],
)
def test_what_does_not_hold_stops_the_run_and_leaves_the_target(steps: str, told: str, gravel: Any, figures: Any, folder: Path) -> None:
    write("b.csv", BOATS)
    write("o.csv", "as it was\n")
    _plan(steps)
    assert told in gravel("clean", "p.toml", status=1).err
    assert figures("clean", "p.toml", status=1)["status"] == "failed"
    assert Path("o.csv").read_text() == "as it was\n"
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "o.csv", "p.toml"]


def test_malformed_records_stop_a_run_unless_its_plan_sets_them_aside(gravel: Any, figures: Any, folder: Path) -> None:
    write("b.csv", 'id,name\n1,a\n2\n3,"b"c\n4,d\n')
    _plan("")
    assert "2 malformed records" in gravel("clean", "p.toml", status=1).err
    assert not Path("o.csv").exists()
    _plan('malformed = "set aside"\n')
    done = figures("clean", "p.toml")
    assert (done["rows_in"], done["rows_out"], done["malformed"]) == (2, 2, 2)
    assert (done["steps"][0]["in"], done["steps"][0]["set_aside"], done["steps"][0]["out"]) == (4, 2, 2)
    left = parsed(Path("o-left-behind.csv").read_text())
    assert [row[:5] for row in left[1:]] == [["2", "2", "0", "set aside", "2"], ["3", "3", "0", "set aside", '3,"b"c']]
    gravel("clean", "p.toml", "--dry-run")


def test_every_mistake_of_a_plan_is_told_at_once_with_its_line(gravel: Any, folder: Path) -> None:
    write("b.csv", BOATS)
    _plan("""key = ["idd"]
[[step]]
set = { name = "UPPER(nme)", fee = "fee + name" }
[[step]]
keep_rows = \"\"\"
fee >
  length(name) + naem\"\"\"
[[step]]
keep_rows = "name"
""")
    told = gravel("clean", "p.toml", status=2).err
    for line in ("p.toml:3\n", "p.toml:5\n", "p.toml:9\n", "p.toml:11\n", "write CAST(name AS DECIMAL)", "did you mean id?"):
        assert line in told
    write("p.toml", 'tabel = "b.csv"\nwrite = "o.csv"\n[[step]]\nsett = { a = "1" }\n[[step]]\nset = { a = "1" }\nkeep_rows = "a"\n')
    told = gravel("clean", "p.toml", status=2).err
    for line in ("p.toml:1\n", "did you mean table?", "p.toml:4\n", "did you mean set?"):
        assert line in told
    write("p.toml", 'table = "b.csv"\nwrite = "b.csv"\n')
    assert "over its own input" in gravel("clean", "p.toml", status=2).err
    write("p.toml", "table = \n")
    assert "p.toml:1" in gravel("clean", "p.toml", status=2).err
    gravel("clean", "none.toml", status=3)


def test_declared_types_win_and_a_misfit_is_a_row_error_of_that_cell(figures: Any, gravel: Any) -> None:
    write("b.csv", "id,built,code\n1,1999,7\n2,1990?,8\n3,,9\n")
    _plan(
        '[types]\nbuilt = "INTEGER"\ncode = "TEXT"\n[[step]]\nset = { built = "built + 1", code = "code || \'x\'" }\non_error = "set aside"\n'
    )
    done = figures("clean", "p.toml")
    assert (done["rows_out"], done["errors"][0]["sqlstate"], done["errors"][0]["example"]) == (2, "22018", "1990?")
    assert parsed(Path("o.csv").read_text())[1:] == [["1", "2000", "7x"], ["3", None, "9x"]]
    _plan('[types]\nbilt = "INTEGER"\n')
    assert "did you mean built?" in gravel("clean", "p.toml", status=2).err
    _plan('[types]\ncode = "VARCHAR(3)"\n')
    assert "declare TEXT" in gravel("clean", "p.toml", status=2).err


class Failure(Exception):
    """A row error of the independent run."""


def _divided(row: dict[str, Any]) -> Any:
    if row["n"] is None:
        return None
    if row["n"] == 0:
        raise Failure
    return int((Decimal(100) / row["n"]).to_integral_value(ROUND_HALF_UP))


def _number(row: dict[str, Any]) -> Any:
    if row["a"] is None:
        return None
    if not row["a"].strip(" ").isascii() or not row["a"].strip(" ").lstrip("+-").isdigit():
        raise Failure
    return int(row["a"].strip(" "))


SETS: list[tuple[str, str, Any]] = [
    ("a", "TRIM(a)", lambda row: None if row["a"] is None else row["a"].strip(" ")),
    ("a", "COALESCE(NULLIF(a, 'x'), 'none')", lambda row: "none" if row["a"] in (None, "x") else row["a"]),
    ("a", "UPPER(a)", lambda row: None if row["a"] is None else row["a"].upper()),
    ("n", "CAST(ROUND(100 / n) AS INTEGER)", _divided),
    ("n", "CASE WHEN n <> 0 THEN CAST(ROUND(100 / n) AS INTEGER) END", lambda row: None if not row["n"] else _divided(row)),
    ("n", "CAST(a AS INTEGER)", _number),
    ("b", "LENGTH(a)", lambda row: None if row["a"] is None else len(row["a"])),
]


def _known(test: Any) -> Any:
    return lambda row: None if row["n"] is None else test(row["n"])


def _over(row: dict[str, Any]) -> Any:
    made = _divided(row)
    return None if made is None else made > 10


def _either(row: dict[str, Any]) -> Any:
    if row["a"] == "x" or (row["n"] is not None and row["n"] < 3):
        return True
    return None if None in (row["a"], row["n"]) else False


CONDITIONS: list[tuple[str, Any]] = [
    ("n > 1", _known(lambda n: n > 1)),
    ("a IS NOT NULL", lambda row: row["a"] is not None),
    ("a = 'x' OR n < 3", _either),
    ("ROUND(100 / n) > 10", _over),
]  # fmt: skip
ROWS = st.lists(
    st.tuples(st.none() | st.sampled_from(["x", " x", "", "7", " 8 ", "y z"]), st.none() | st.integers(-3, 9)), min_size=1, max_size=25
)
STEP = st.tuples(st.sampled_from(["set", "keep_rows", "drop_rows"]), st.integers(0, 99), st.sampled_from(["stop", "null", "set aside"]))


def _independently(rows: list[tuple[int, dict[str, Any]]], steps: list[Any]) -> tuple[list[Any], dict[int, tuple[int, str]], bool]:
    """(rows out, step and outcome of each that left, whether a step stops) by a run of one row after the other."""
    left: dict[int, tuple[int, str]] = {}
    stops = False
    for number, (verb, pick, on_error) in enumerate(steps, 1):
        going = []
        for source, row in rows:
            made = dict(row)
            try:
                if verb == "set":
                    column, _, function = SETS[pick % len(SETS)]
                    made[column] = function(row)
                else:
                    decided = CONDITIONS[pick % len(CONDITIONS)][1](row)
                    if (decided is not True) if verb == "keep_rows" else (decided is True):
                        left[source] = (number, "dropped")
                        continue
            except Failure:
                if on_error == "null" and verb != "keep_rows":
                    if verb == "set":
                        made[SETS[pick % len(SETS)][0]] = None
                else:
                    stops |= on_error == "stop"
                    left[source] = (number, "dropped" if on_error == "null" else "set aside" if on_error == "set aside" else "failed")
                    continue
            going.append((source, made))
        rows = going
    return rows, left, stops


@settings(max_examples=120)
@given(rows=ROWS, steps=st.lists(STEP, max_size=4), block=st.sampled_from([24, 60, 4096]))
def test_any_plan_equals_an_independent_run_and_every_row_ends_once(rows: Any, steps: Any, block: int, tmp_path_factory: Any) -> None:
    from gravel.plans.model import read_plan
    from gravel.plans.run import clean
    from gravel.tables.csv import pieces

    folder = tmp_path_factory.mktemp("plan")
    quoted = lambda value: "" if value is None else '"' + value + '"'  # noqa: E731
    lines = [f"{n},{quoted(a)},{'' if number is None else number}" for n, (a, number) in enumerate(rows, 1)]
    write(folder / "b.csv", "\n".join(["id,a,n", *lines]) + "\n")
    text = 'table = "b.csv"\nwrite = "o.csv"\nkey = ["id"]\n[types]\nid = "INTEGER"\na = "TEXT"\nn = "INTEGER"\n'
    new = False
    for verb, pick, on_error in steps:
        what = (
            f'{{ {SETS[pick % len(SETS)][0]} = "{SETS[pick % len(SETS)][1]}" }}'
            if verb == "set"
            else f'"{CONDITIONS[pick % len(CONDITIONS)][0]}"'
        )
        text += f'[[step]]\n{verb} = {what}\non_error = "{on_error}"\n'
        new |= verb == "set" and SETS[pick % len(SETS)][0] == "b"
    write(folder / "p.toml", text)
    before, pieces.BLOCK = pieces.BLOCK, block
    try:
        done = clean(read_plan(folder / "p.toml"))
    finally:
        pieces.BLOCK = before
    start = [(n, {"id": n, "a": a, "n": number, **({"b": None} if new else {})}) for n, (a, number) in enumerate(rows, 1)]
    expected, left, stops = _independently(start, steps)
    for line in done.steps:
        assert line.count.balances
    assert done.good is not stops
    assert (done.rows_in, done.rows_out) == (len(rows), len(expected))
    if stops:
        assert not (folder / "o.csv").exists()
        return
    written = parsed((folder / "o.csv").read_bytes().decode())[1:]
    assert written == [[None if value is None else str(value) for value in row.values()] for _, row in expected]
    behind = parsed((folder / "o-left-behind.csv").read_bytes().decode())[1:] if left else []
    assert {int(str(row[0])): (int(str(row[2])), row[3]) for row in behind} == left
    assert sorted([*left, *(source for source, _ in expected)]) == list(range(1, len(rows) + 1))


def test_a_large_plan_balances_to_the_last_row(figures: Any) -> None:
    """The counts of a large plan against those of the generator that made its rows."""
    dice = random.Random(7)
    kinds = [dice.choice("abc") for _ in range(200_000)]
    write("b.csv", "id,kind\n" + "".join(f"{n},{kind}\n" for n, kind in enumerate(kinds, 1)))
    _plan('key = ["id"]\n[[step]]\ndrop_rows = "kind = \'a\'"\n[[step]]\nset = { kind = "UPPER(NULLIF(kind, \'b\'))" }\n')
    done = figures("clean", "p.toml")
    assert done["steps"][1]["dropped"] == kinds.count("a")
    assert done["steps"][2]["changed"] == done["rows_out"] == 200_000 - kinds.count("a")
