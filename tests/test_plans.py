"""Plans: every row traced, every count proved, every mistake told at its line; nothing half done."""

from __future__ import annotations

import json
import os
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write
from plainplan import BYS, CONDITIONS, LABELS, QUERIES, SETS, SORTS, Plain

BOATS = 'id,name,fee\n1, Gull ,10\n2,,20\n3,Tern,0\n4,"L""ark",5\n5,"",\n'


def _plan(text: str, name: str = "p.toml") -> None:
    write(name, 'table = "b.csv"\nwrite = "o.csv"\n' + text)


def test_the_ledger_the_proofs_and_the_rows_left_behind(
    figures: Any, gravel: Any, folder: Path
) -> None:
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
    assert (done["status"], done["rows_in"], done["rows_out"], done["malformed"]) == (
        "good",
        5,
        2,
        0,
    )
    read, tidy, keep, share = done["steps"]
    assert (read["in"], read["out"]) == (5, 5)
    assert (tidy["changed"], tidy["changed_columns"], tidy["new_columns"]) == (
        1,
        {"name": 1},
        ["size"],
    )
    assert (keep["dropped"], keep["dropped_false"], keep["dropped_unknown"], keep["out"]) == (
        2,
        1,
        1,
        3,
    )
    assert (share["changed"], share["set_aside"], share["out"]) == (2, 1, 2)
    assert all(proof["holds"] for proof in done["proofs"])
    assert {proof["proof"] for proof in done["proofs"]} == {
        "every line of the file is accounted for", "every step balances", "every step meets its expected rows",
        "the input did not change while it was read",
        "the key (id) is unique and not null before", "the output has the rows the ledger says",
        "the key (id) is unique and not null after", "columns that no step touched hold the same values", "the rejects are all there", "columns that steps made hold what they made",
    }  # fmt: skip
    # size was read as it came into the step: before TRIM.
    assert parsed(Path("o.csv").read_text()) == [
        ["id", "name", "fee", "size"], ["1", "Gull", "10.0000000000000000", "6"], ["4", 'L"ark', "20.0000000000000000", "5"],
    ]  # fmt: skip
    assert parsed(Path("o-rejects.csv").read_text()) == [
        ["gravel_row", "gravel_path", "gravel_step", "gravel_outcome", "gravel_reason", "gravel_sqlstate", "gravel_column", "gravel_into",
         "id", "name", "fee", "size"],
        ["2", "2", "2", "dropped", "false: fee < 20", None, None, None, "2", None, "20", None],
        ["3", "3", "3", "set aside", "100 / fee", "22012", "fee", None, "3", "Tern", "0", "4"],
        ["5", "5", "2", "dropped", "unknown: fee < 20", None, None, None, "5", "", None, "0"],
    ]  # fmt: skip
    _plan("")
    gravel("clean", "p.toml")
    assert Path("o.csv").read_text() == BOATS
    assert sorted(path.name for path in folder.iterdir()) == [
        "b.csv",
        "o.csv",
        "o.record.json",
        "p.toml",
    ]  # the old left-behind file is gone


@pytest.mark.parametrize(
    ("steps", "told"),
    [
        (
            '[[step]]\nset = { fee = "100 / fee" }',
            'step 1 fails in 1 row, and its on_error is "stop"',
        ),
        ('[[step]]\nkeep_rows = "fee > 5"\nrows = "same"', "every step meets its expected rows"),
        ('[[step]]\ndrop_rows = "fee > 5"\nrows = "-3"', "every step meets its expected rows"),
        (
            '[[step]]\ndrop_rows = "fee > 5"\nrows = "at most 2"',
            "every step meets its expected rows",
        ),
        ('key = ["name"]', "the key (name) is unique and not null before"),
        ('key = ["id"]\n[[step]]\nset = { id = "1" }', "the key (id) is unique and not null after"),
    ],
)
def test_what_does_not_hold_stops_the_run_and_leaves_the_target(
    steps: str, told: str, gravel: Any, figures: Any, folder: Path
) -> None:
    write("b.csv", BOATS)
    write("o.csv", "as it was\n")
    _plan("replace = true\n" + steps)
    assert told in gravel("clean", "p.toml", status=1).err
    assert figures("clean", "p.toml", status=1)["status"] == "failed"
    assert Path("o.csv").read_text() == "as it was\n"
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "o.csv", "p.toml"]


def test_malformed_records_stop_a_run_unless_its_plan_sets_them_aside(
    gravel: Any, figures: Any, folder: Path
) -> None:
    write("b.csv", 'id,name\n1,a\n2\n3,"b"c\n4,d\n')
    _plan("")
    assert "2 malformed records" in gravel("clean", "p.toml", status=1).err
    assert not Path("o.csv").exists()
    _plan('malformed = "set aside"\n')
    done = figures("clean", "p.toml")
    assert (done["rows_in"], done["rows_out"], done["malformed"]) == (2, 2, 2)
    assert (done["steps"][0]["in"], done["steps"][0]["set_aside"], done["steps"][0]["out"]) == (
        4,
        2,
        2,
    )
    left = parsed(Path("o-rejects.csv").read_text())
    assert [row[:5] for row in left[1:]] == [
        ["2", "2", "0", "set aside", "2"],
        ["3", "3", "0", "set aside", '3,"b"c'],
    ]
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
    for line in (
        "p.toml:3\n",
        "p.toml:5\n",
        "p.toml:9\n",
        "p.toml:11\n",
        "write CAST(name AS DECIMAL)",
        "did you mean id?",
    ):
        assert line in told
    write(
        "p.toml",
        'tabel = "b.csv"\nwrite = "o.csv"\n[[step]]\nsett = { a = "1" }\n[[step]]\nset = { a = "1" }\nkeep_rows = "a"\n',
    )
    told = gravel("clean", "p.toml", status=2).err
    for line in ("p.toml:1\n", "did you mean table?", "p.toml:4\n", "did you mean set?"):
        assert line in told
    write("p.toml", 'table = "b.csv"\nwrite = "b.csv"\n')
    assert "over its own input" in gravel("clean", "p.toml", status=2).err
    write("p.toml", "table = \n")
    assert "p.toml:1" in gravel("clean", "p.toml", status=2).err
    gravel("clean", "none.toml", status=3)


def test_declared_types_win_and_a_misfit_is_a_row_error_of_that_cell(
    figures: Any, gravel: Any
) -> None:
    write("b.csv", "id,built,code\n1,1999,7\n2,1990?,8\n3,,9\n")
    _plan(
        '[types]\nbuilt = "INTEGER"\ncode = "TEXT"\n[[step]]\nset = { built = "built + 1", code = "code || \'x\'" }\non_error = "set aside"\n'
    )
    done = figures("clean", "p.toml")
    assert (done["rows_out"], done["errors"][0]["sqlstate"], done["errors"][0]["example"]) == (
        2,
        "22018",
        "1990?",
    )
    assert parsed(Path("o.csv").read_text())[1:] == [["1", "2000", "7x"], ["3", None, "9x"]]
    told = " ".join(gravel("clean", "p.toml", "--dry-run").out.split())
    assert "built: 22018 the text does not fit the type of the cast, 1 row, such as '1990?'" in told
    _plan('[types]\nbilt = "INTEGER"\n')
    assert "did you mean built?" in gravel("clean", "p.toml", status=2).err
    _plan('[types]\ncode = "VARCHAR(3)"\n')
    assert "declare TEXT" in gravel("clean", "p.toml", status=2).err


ROW = st.tuples(
    st.none() | st.sampled_from(["x", " x", "", "7", " 8 ", "y z"]), st.none() | st.integers(-3, 9),
    st.none() | st.sampled_from(["", "p", "p;q", " p ; q;r", ";", "p;;q", "p, q;r", "p::q;"]),
)  # fmt: skip
NAMES = ["id", "a", "n", "l"]


@st.composite
def _steps(draw: Any) -> list[dict[str, Any]]:
    """Steps of any verbs, with the columns that each leaves in mind."""
    names, steps = list(NAMES), []
    for number in range(1, draw(st.integers(1, 5)) + 1):
        pick = draw(st.integers(0, 99))
        verb = draw(
            st.sampled_from(
                [
                    "set",
                    "keep_rows",
                    "drop_rows",
                    "split",
                    "deduplicate",
                    "sort",
                    "columns",
                    "check",
                    "query",
                ]
            )
        )
        step: dict[str, Any] = {
            "verb": verb,
            "on_error": draw(st.sampled_from(["stop", "null", "set aside"])),
        }
        if verb not in ("sort", "columns", "query") and draw(st.booleans()):
            step["only"] = draw(st.integers(0, 3))
        if verb == "set":
            step["pick"] = pick % len(SETS)
            names += [] if (column := SETS[step["pick"]][0]) in names else [column]
        elif verb in ("keep_rows", "drop_rows"):
            step["pick"] = pick % len(CONDITIONS)
        elif verb == "check":
            step |= {
                "pick": pick % len(CONDITIONS),
                "allow": draw(st.sampled_from([0, 3, 99])),
                "unknown": draw(st.sampled_from(["passes", "fails"])),
            }
        elif verb == "split" and draw(st.booleans()):
            keep = draw(st.booleans())
            step |= {
                "into": "rows", "on": draw(st.sampled_from([";", "::", ";;"])), "trim": draw(st.booleans()), "keep_column": keep,
                "blanks": draw(st.sampled_from(["drop", "keep"])), "empty": draw(st.sampled_from(["keep", "drop"])),
                "number": draw(st.sampled_from([None, f"k{number}"])), "as": f"piece{number}" if keep else None,
            }  # fmt: skip
            at = names.index("l")
            names[at : at + 1] = [
                *(["l", f"piece{number}"] if keep else ["l"]),
                *([step["number"]] if step["number"] else []),
            ]
        elif verb == "split":
            step |= {
                "into": [f"s{number}", f"t{number}"], "on": draw(st.sampled_from([";", ",", "[;,]"])), "trim": draw(st.booleans()),
                "surplus": draw(st.sampled_from(["join", "drop", "error"])), "short": draw(st.sampled_from(["null", "error"])),
                "from": draw(st.sampled_from(["start", "end"])),
            }  # fmt: skip
            at = names.index("l")
            names[at + 1 : at + 1] = step["into"]
        elif verb == "deduplicate":
            step |= {"pick": pick % len(BYS), "sorts": draw(st.lists(st.integers(0, 3), max_size=2, unique=True)),
                     "fill": draw(st.sampled_from([[], ["l"], ["l", "a"]])), "conflicts": draw(st.sampled_from(["count", "set aside"]))}  # fmt: skip
            read = {"UPPER(a)": "a"}.get(BYS[step["pick"]][0], "n")
            read_too = {read, *(SORTS[one][0].split()[0] for one in step["sorts"])}
            step["compared"] = [name for name in names if name not in read_too | {"id"}]
        elif verb == "sort":
            step["sorts"] = draw(st.lists(st.integers(0, 3), min_size=1, max_size=2, unique=True))
        elif verb == "columns":
            names = [*NAMES[::-1], *(name for name in names if name not in NAMES and pick % 2)]
            step["names"] = list(names)
        else:
            step["pick"] = pick % len(QUERIES)
            names += {1: [f"label{number}"], 4: [f"many{number}"]}.get(step["pick"], [])
        steps.append(step)
    return steps


def _toml(number: int, step: dict[str, Any]) -> str:
    """A step of `_steps` as a plan has it."""
    verb, text = step["verb"], lambda value: json.dumps(value)
    if verb == "set":
        what = f"{{ {SETS[step['pick']][0]} = {text(SETS[step['pick']][1])} }}"
    elif verb in ("keep_rows", "drop_rows"):
        what = text(CONDITIONS[step["pick"]][0])
    elif verb == "check":
        what = f"{{ holds = {text(CONDITIONS[step['pick']][0])} }}\nallow = {step['allow']}\nunknown = {text(step['unknown'])}"
    elif verb == "split" and step["into"] == "rows":
        more = {
            name: step[name]
            for name in ("trim", "keep_column", "blanks", "empty", "number", "as")
            if step[name] is not None
        }
        what = (
            f"{{ column = 'l', on = {text(step['on'])}, into = 'rows', "
            + ", ".join(f"{name} = {text(value)}" for name, value in more.items())
            + " }"
        )
    elif verb == "split":
        on = "on_regex" if step["on"] == "[;,]" else "on"
        what = f"{{ column = 'l', {on} = {text(step['on'])}, into = {text(step['into'])}, trim = {text(step['trim'])}, keep_column = true, "
        what += (
            ", ".join(f"{name} = {text(step[name])}" for name in ("surplus", "short", "from"))
            + " }"
        )
    elif verb == "deduplicate":
        prefer = (
            f", prefer = {text([SORTS[one][0] for one in step['sorts']])}" if step["sorts"] else ""
        )
        fill = f", fill = {text(step['fill'])}" if step["fill"] else ""
        what = f"{{ by = [{text(BYS[step['pick']][0])}]{prefer}{fill}, conflicts = {text(step['conflicts'])} }}"
    elif verb == "sort":
        what = text([SORTS[one][0] for one in step["sorts"]])
    elif verb == "columns":
        what = text(step["names"])
    else:
        what = text(QUERIES[step["pick"]].format(n=number)) + '\nrows = "at most 99999"'
    only = f"only = {text(CONDITIONS[step['only']][0])}\n" if "only" in step else ""
    return f"[[step]]\n{verb} = {what}\non_error = {text(step['on_error'])}\n{only}"


@settings(max_examples=int(os.environ.get("GRAVEL_PLANS", "200")))
@given(
    rows=st.lists(ROW, min_size=1, max_size=20), steps=_steps(), block=st.sampled_from([24, 60, 4096]),
    memory=st.sampled_from([600, 3000, 1 << 30]),
)  # fmt: skip
def test_any_plan_equals_an_independent_run_and_every_path_ends_once(
    rows: Any, steps: Any, block: int, memory: int, tmp_path_factory: Any
) -> None:
    from gravel.engine import external
    from gravel.plans.loading import read_plan
    from gravel.plans.run import clean
    from gravel.plans.trace import trace
    from gravel.plans.verbs import querying
    from gravel.plans.wish import Wish
    from gravel.sources.csv import splitter

    folder = tmp_path_factory.mktemp("plan")
    shown = lambda value: "" if value is None else '"' + value + '"'  # noqa: E731
    lines = [
        f"{n},{shown(a)},{'' if number is None else number},{shown(l)}"
        for n, (a, number, l) in enumerate(rows, 1)
    ]
    write(folder / "b.csv", "\n".join(["id,a,n,l", *lines]) + "\n")
    write(folder / "k.csv", "n,label\n" + "".join(f"{n},{label}\n" for n, label in LABELS))
    text = 'table = "b.csv"\nwrite = "o.csv"\nkey = ["id"]\nkey_after = []\n[types]\nid = "INTEGER"\na = "TEXT"\nn = "INTEGER"\nl = "TEXT"\n'
    write(
        folder / "p.toml",
        text + "".join(_toml(number, step) for number, step in enumerate(steps, 1)),
    )
    expected = Plain([dict(zip(NAMES, (n, *row), strict=True)) for n, row in enumerate(rows, 1)])
    for number, step in enumerate(steps, 1):
        expected.step(number, step)
    before = splitter.BLOCK, external._SLICE, external.OUT, querying.OUT
    splitter.BLOCK, external._SLICE, external.OUT, querying.OUT = block, 3, 5, 5
    try:
        done = clean(read_plan(folder / "p.toml"), None, Wish(memory=memory))
        followed = trace(read_plan(folder / "p.toml"), range(1, len(rows) + 1), memory=memory)
    finally:
        splitter.BLOCK, external._SLICE, external.OUT, querying.OUT = before
    for line in done.steps:
        assert line.count.balances
    assert done.good is not expected.stops
    assert [line.count.rows_out for line in done.steps] == expected.sizes
    ends = {path.path: (path.ends, path.output_row) for row in followed.rows for path in row.paths}
    kept = {
        path: ("kept", at)
        for at, (path, _) in enumerate(expected.rows, 1)
        if not path.startswith("0.")
    }
    assert ends == kept | {
        path: (outcome, None)
        for path, (_, outcome, _) in expected.left.items()
        if not path.startswith("0.")
    }
    if expected.stops:
        assert not (folder / "o.csv").exists()
        return
    written = parsed((folder / "o.csv").read_bytes().decode())[1:]
    assert written == [
        [None if value is None else str(value) for value in row.values()]
        for _, row in expected.rows
    ]
    behind = parsed((folder / "o-rejects.csv").read_bytes().decode())[1:] if expected.left else []
    assert {row[1]: (int(str(row[2])), row[3], row[7]) for row in behind} == expected.left
    assert len(behind) == len(expected.left)


def test_a_large_plan_balances_to_the_last_row(figures: Any) -> None:
    """The counts of a large plan against those of the generator that made its rows."""
    dice = random.Random(7)
    kinds = [dice.choice("abc") for _ in range(200_000)]
    write("b.csv", "id,kind\n" + "".join(f"{n},{kind}\n" for n, kind in enumerate(kinds, 1)))
    _plan(
        'key = ["id"]\n[[step]]\ndrop_rows = "kind = \'a\'"\n[[step]]\nset = { kind = "UPPER(NULLIF(kind, \'b\'))" }\n'
    )
    done = figures("clean", "p.toml")
    assert done["steps"][1]["dropped"] == kinds.count("a")
    assert done["steps"][2]["changed"] == done["rows_out"] == 200_000 - kinds.count("a")
