"""Each verb as its documentation has it, at the prompt; rows followed; totals; records verified; what stops a run."""

from __future__ import annotations

import json
import shutil
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from conftest import parsed, write

BOATS = (
    'id,name,owner,list,fee\n1,Gull,a,x;y,10\n2,gull,b,,20\n3,Tern,a," x ; ;z",30.5\n4,Lark,,y,\n'
)
OWNERS = "id,town\na,Holm\na,Vik\nc,Skerry\n"


def _plan(steps: str, head: str = "") -> None:
    write("p.toml", f'table = "b.csv"\nwrite = "o.csv"\n{head}\n{steps}')


def _out() -> list[list[str | None]]:
    return parsed(Path("o.csv").read_text())


@pytest.fixture(autouse=True)
def _tables(folder: Path) -> None:
    write("b.csv", BOATS)
    write("owners.csv", OWNERS)


def test_a_split_into_rows_numbers_its_pieces_and_loses_no_row(figures: Any) -> None:
    split = 'split = { column = "list", on = ";", into = "rows", as = "item", number = "no" }'
    _plan(f"[[step]]\n{split}\n", 'key = ["id"]\nkey_after = ["id", "no"]')
    failed = figures("clean", "p.toml", status=1)
    assert [one["detail"] for one in failed["proofs"] if not one["holds"]] == [
        "1 row with NULL in the key"
    ]  # row 2 has no piece
    _plan(f"[[step]]\n{split}\n", 'key = ["id"]')
    done = figures("clean", "p.toml")
    assert [row[3:5] for row in _out()] == [
        ["item", "no"],
        ["x", "1"],
        ["y", "2"],
        [None, None],
        ["x", "1"],
        ["z", "2"],
        ["y", "1"],
    ]
    step = done["steps"][1]
    assert (step["in"], step["added"], step["out"]) == (4, 2, 6)
    assert step["notes"] == {
        "blank pieces dropped": 1, "rows with one piece": 1, "rows split into several": 2, "rows without a piece stay, with NULL": 1,
    }  # fmt: skip
    assert "there is no key to prove after" in {one["proof"] for one in done["proofs"]}
    way = figures("trace", "p.toml", "--row", 2, "--row", 3)["rows"]
    assert [[path["path"] for path in row["paths"]] for row in way] == [["2"], ["3.1", "3.2"]]
    assert way[1]["paths"][1]["events"][0]["changes"][0] == {
        "column": "item",
        "before": None,
        "after": "z",
        "kind": "new",
    }
    tried = figures("try", "b.csv", "--step", split.replace(", number", ', empty = "drop", number'))
    assert (tried["step"]["dropped"], tried["left"][0]["reason"], tried["step"]["out"]) == (
        1,
        "no piece in list",
        5,
    )
    assert figures("try", "--plan", "p.toml", "--step", 1)["step"]["out"] == 6


@pytest.mark.parametrize("policy", ["stop", "null", "set aside"])
@pytest.mark.parametrize("stored", ["jsonl", "parquet"])
def test_a_list_of_json_or_parquet_is_split_counted_and_read_by_its_places(
    figures: Any, gravel: Any, stored: str, policy: str
) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    lists: list[Any] = [["a", "b;c"], [], None, ["z", None, " "], ["q"] * 5]
    if stored == "jsonl":
        lists += ["a;b", {"a": 1}]
        write(
            "t.jsonl",
            "".join(json.dumps({"id": at, "l": value}) + "\n" for at, value in enumerate(lists)),
        )
    else:
        pq.write_table(pa.table({"id": range(len(lists)), "l": pa.array(lists)}), "t.parquet")
    bad = sum(not isinstance(value, list) and value is not None for value in lists)
    step = 'split = { column = "l", array = true, into = "rows", as = "item", number = "no" }'
    write(
        "p.toml",
        f'table = "t.{stored}"\nwrite = "o.csv"\n[[step]]\non_error = "{policy}"\n{step}\n',
    )
    stopped = bad and policy == "stop"
    run = figures("clean", "p.toml", status=1 if stopped else 0)
    count = run["steps"][1]
    assert count["set_aside"] == bad * (policy == "set aside")
    assert count["errors_to_null"] == bad * (policy == "null")
    assert sum(one["rows"] for one in count["errors"]) == bad
    assert Path("o.csv").exists() != stopped
    if not stopped:
        expected = []
        for at, value in enumerate(lists):
            known = (
                [one for one in value or [] if one and one.strip()]
                if not isinstance(value, str | dict)
                else []
            )
            if isinstance(value, str | dict) and policy == "set aside":
                continue
            expected += [[str(at), one, str(n + 1)] for n, one in enumerate(known)] or [
                [str(at), None, None]
            ]
        assert parsed(Path("o.csv").read_text())[1:] == expected
    # The same in queries, of the rows that are lists.
    text = f"FROM 't.{stored}' AS t LEFT JOIN UNNEST (CAST_OR_NULL(l AS TEXT ARRAY)) WITH ORDINALITY AS u (x, n) ON TRUE"
    rows = figures("query", f"SELECT id, x, n {text}", "--rows", "all")["rows"]
    flat = []
    for at, value in enumerate(lists):
        flat += [
            [at, one, n + 1] for n, one in enumerate(value if isinstance(value, list) else [])
        ] or [[at, None, None]]
    assert rows == flat
    items = "CARDINALITY(CAST_OR_NULL(l AS TEXT ARRAY)), CAST_OR_NULL(l AS TEXT ARRAY)[2]"
    rows = figures("query", f"SELECT {items} FROM 't.{stored}'", "--rows", "all")["rows"]
    assert rows == [
        [len(one), one[1] if len(one) > 1 else None] if isinstance(one, list) else [None, None]
        for one in lists
    ]
    if stored == "parquet":
        told = gravel("query", "SELECT x FROM 't.parquet', UNNEST (l) AS u (x)", status=2).err
        assert "CAST(x AS TEXT ARRAY)" in told
        assert "CAST(l AS TEXT ARRAY) makes an array" in " ".join(
            gravel("look", "t.parquet", "--where", "l IS NULL").err.split()
        )


@pytest.mark.parametrize("ending", ["parquet", "arrow"])
def test_arrays_that_steps_and_queries_make_are_lists_in_the_file(
    figures: Any, gravel: Any, ending: str
) -> None:
    import pyarrow.feather as feather
    import pyarrow.parquet as pq

    made = {
        "a": ("LIST_ITEMS(l, ';')", [["x", "y"], None]), "b": ("ARRAY[id, NULL]", [[1, None], [2, None]]),
        "c": ("CASE WHEN id = 1 THEN ARRAY[1.50] END", [[Decimal("1.50")], None]), "d": ("ARRAY[DATE '2024-01-05']", [[date(2024, 1, 5)]] * 2),
        "e": ("ARRAY[CAST(id AS DOUBLE PRECISION)]", [[1.0], [2.0]]), "f": ("LIST_ITEMS(l, ';') || ARRAY['z']", [["x", "y", "z"], None]),
        "g": ("CAST('[true]' AS BOOLEAN ARRAY)", [[True]] * 2), "h": ("ARRAY[TIMESTAMP '2024-01-05 10:00:00']", [[datetime(2024, 1, 5, 10)]] * 2),
    }  # fmt: skip
    write("t.csv", "id,l\n1,x;y\n2,\n")
    items = ", ".join(f"{name} = {json.dumps(text)}" for name, (text, _) in made.items())
    write(
        "p.toml",
        f'table = "t.csv"\nwrite = "o.{ending}"\n[[step]]\nset = {{ {items} }}\n[[step]]\nsort = "id"\n',
    )
    assert all(proof["holds"] for proof in figures("clean", "p.toml")["proofs"])
    assert "everything matches" in gravel("verify", "o.record.json").out
    texts = ", ".join(f"{text} AS {name}" for name, (text, _) in made.items())
    gravel("query", f"SELECT {texts} FROM 't.csv' ORDER BY id", "--write", f"q.{ending}")
    for target in (f"o.{ending}", f"q.{ending}"):
        stored = (pq if ending == "parquet" else feather).read_table(target)
        for name, (_, values) in made.items():
            assert stored.column(name).to_pylist() == values, (target, name)


def test_a_split_into_columns_counts_what_is_too_much_and_too_little(figures: Any) -> None:
    write("b.csv", 'who\n"Aa, Bo"\n"Cc, Di, Ed"\nFf\n" , Gg"\n')
    for more, rows, noted in (
        (
            "",
            [["Aa", "Bo"], ["Cc", "Di, Ed"], ["Ff", None], [None, "Gg"]],
            "rows with more than 2 pieces, the rest kept together",
        ),
        (
            ', surplus = "drop"',
            [["Aa", "Bo"], ["Cc", "Di"], ["Ff", None], [None, "Gg"]],
            "rows with more than 2 pieces, the rest dropped",
        ),
        (
            ', from = "end"',
            [["Aa", "Bo"], ["Cc, Di", "Ed"], [None, "Ff"], [None, "Gg"]],
            "rows with more than 2 pieces, the rest kept together",
        ),
    ):
        _plan(
            f'[[step]]\nsplit = {{ column = "who", on = ",", into = ["surname", "given"]{more} }}\n'
        )
        notes = figures("clean", "p.toml")["steps"][1]["notes"]
        assert _out() == [["surname", "given"], *rows]
        assert (notes[noted], notes["rows with fewer than 2 pieces"]) == (1, 1)
    _plan(
        '[[step]]\nsplit = { column = "who", on_regex = "[,;]", into = ["a", "b"], surplus = "error", short = "error" }\non_error = "set aside"\n'
    )
    done = figures("clean", "p.toml")
    assert [(one["sqlstate"], one["rows"], one["row"]) for one in done["errors"]] == [
        ("2202E", 1, 3),
        ("2202F", 1, 2),
    ]
    assert figures(
        "try", "b.csv", "--step", 'split = { column = "who", on = ",", into = ["a", "b"] }'
    )["samples"] == {
        "rows with more than 2 pieces, the rest kept together": [
            {"path": "2", "before": "Cc, Di, Ed", "after": None}
        ],
        "rows with fewer than 2 pieces": [{"path": "3", "before": "Ff", "after": None}],
    }


def test_unique_keeps_the_preferred_row_fills_it_and_says_what_disagrees(figures: Any) -> None:
    write(
        "b.csv",
        "id,name,fee,phone\n1,Gull,10,\n2,gull,20,\n3,Tern,5,7\n4,GULL,15,9\n5,,1,1\n6,,1,2\n",
    )
    step = "[[step]]\nunique = { by = ['UPPER(name)'], prefer = 'fee DESC', fill = true%s }\n"
    _plan(step % "", 'key = ["id"]')
    made = figures("clean", "p.toml")["steps"][1]
    assert _out()[1:] == [
        ["2", "gull", "20", "9"],
        ["3", "Tern", "5", "7"],
        ["5", None, "1", "1"],
        ["6", None, "1", "2"],
    ]
    assert (
        made["merged"],
        made["changed"],
        made["notes"]["rows with NULL in what they are grouped by stay"],
    ) == (2, 1, 2)
    left = parsed(Path("o-rejects.csv").read_text())[1:]
    assert [(row[0], row[3], row[4], row[7]) for row in left] == [
        ("1", "merged", "UPPER(name) = GULL", "2"), ("4", "merged", "UPPER(name) = GULL", "2"),
    ]  # fmt: skip
    write("b.csv", "id,name,fee,phone\n1,Gull,10,8\n2,gull,20,\n3,GULL,15,9\n")
    _plan(step % ", conflicts = 'set aside'", 'key = ["id"]')
    done = figures("clean", "p.toml")
    assert (done["steps"][1]["set_aside"], done["steps"][1]["conflicts"], done["rows_out"]) == (
        3,
        {"phone": 1},
        0,
    )
    assert "disagree in phone" in Path("o-rejects.csv").read_text()
    _plan(step % ", conflicts = 'error'", 'key = ["id"]')
    assert figures("clean", "p.toml", status=1)["steps"][1]["failed"] == 3


def test_a_query_carries_paths_on_or_says_that_they_end(figures: Any, gravel: Any) -> None:
    join = "SELECT b.id, b.fee, o.town FROM input AS b {} JOIN 'owners.csv' AS o ON o.id = b.owner"
    _plan(f'[[step]]\nquery = "{join.format("LEFT")}"\nrows = "more"\n', "totals = ['id']")
    done = figures("clean", "p.toml", status=1)  # copies count twice
    assert [one["detail"] for one in done["proofs"] if not one["holds"]] == [
        "10 at the start, 14 in the output, none in the rejects (4 too many)"
    ]
    _plan(f'[[step]]\nquery = "{join.format("FULL")}"\nrows = "more"\n')
    done = figures("clean", "p.toml")
    assert (done["steps"][1]["added"], done["steps"][1]["dropped"]) == (3, 0)
    assert _out()[1:] == [
        ["1", "10", "Holm"], ["1", "10", "Vik"], ["2", "20", None], ["3", "30.5", "Holm"], ["3", "30.5", "Vik"], ["4", None, None],
        [None, None, "Skerry"],
    ]  # fmt: skip
    assert [
        one["path"]
        for row in figures("trace", "p.toml", "--row", 3)["rows"]
        for one in row["paths"]
    ] == ["3.1", "3.2"]
    _plan(
        '[[step]]\nquery = "SELECT owner, SUM(fee) AS fees FROM input GROUP BY owner ORDER BY owner"\nrows = 3\n'
    )
    done = figures("clean", "p.toml")
    assert "the paths of all rows end here" in done["steps"][1]["words"]
    assert (done["steps"][1]["dropped"], done["steps"][1]["added"]) == (4, 3)
    assert _out()[1:] == [["a", "40.5"], ["b", "20.0"], [None, None]]
    _plan('[[step]]\nquery = "SELECT 10 / (id - 2) AS x FROM input"\nrows = "at most 4"\n')
    assert "22012" in gravel("clean", "p.toml", status=1).err
    _plan(
        '[[step]]\nquery = "SELECT id, 10 / (id - 2) AS x FROM input"\nrows = "fewer"\non_error = "set aside"\n'
    )
    assert figures("clean", "p.toml")["steps"][1]["set_aside"] == 1
    assert parsed(Path("o-rejects.csv").read_text())[1][:6] == [
        "2",
        "2",
        "1",
        "set aside",
        "x",
        "22012",
    ]


def test_control_totals_are_kept_or_the_run_is_not_good(figures: Any, gravel: Any) -> None:
    _plan(
        '[[step]]\ndrop_rows = "fee > 15"\n', 'totals = ["fee", "COUNT(DISTINCT owner)", "fee * 2"]'
    )
    done = figures("clean", "p.toml")
    assert [step["totals"] for step in done["steps"]] == [
        {"fee": "60.5", "COUNT(DISTINCT owner)": 2, "fee * 2": "121.0"}, {"fee": "10.0", "COUNT(DISTINCT owner)": 1, "fee * 2": "20.0"},
    ]  # fmt: skip
    assert "60.5 at the start, 10.0 in the output, 50.5 in the rejects" in {
        one["detail"] for one in done["proofs"]
    }
    _plan('[[step]]\nset = { fee = "fee * 1.1" }\n', 'totals = ["fee"]')
    assert "the control total of fee reconciles" in gravel("clean", "p.toml", status=1).err
    _plan("", 'totals = ["name"]')
    assert "SUM takes a number" in gravel("clean", "p.toml", status=2).err


def test_a_check_stops_the_run_unless_few_rows_fail(gravel: Any, figures: Any) -> None:
    check = '[[step]]\ncheck = { "owner known" = "owner IS NOT NULL", "paid" = "fee > 10" }\n'
    _plan(check)
    told = gravel("clean", "p.toml", status=1).err
    assert "'owner known' does not hold in 1 of 4 rows (1 false; allowed 0), first in 4" in told
    assert not Path("o.csv").exists()
    _plan(check + 'allow = "30%"\n')
    done = figures("clean", "p.toml")
    assert [(one["check"], one["bad"], one["unknown"]) for one in done["steps"][1]["checks"]] == [
        ("owner known", 1, 0),
        ("paid", 1, 1),
    ]
    _plan(check + 'allow = "30%"\nunknown = "fails"\n')
    assert "'paid' does not hold in 2 of 4" in gravel("clean", "p.toml", status=1).err


def test_only_concerns_some_rows_and_the_others_pass_unchanged(figures: Any) -> None:
    _plan(
        '[[step]]\nset = { fee = "fee / 0", note = "\'seen\'" }\nonly = "name = \'Lark\'"\n[[step]]\ndrop_rows = "TRUE"\nonly = "id = 1"\n'
    )
    done = figures("clean", "p.toml")
    assert [step["not_concerned"] for step in done["steps"]] == [0, 3, 3]
    assert [(row[0], row[4], row[5]) for row in _out()[1:]] == [
        ("2", "20", None),
        ("3", "30.5", None),
        ("4", None, "seen"),
    ]


def test_a_record_verifies_until_something_is_not_as_it_was(
    figures: Any, gravel: Any, folder: Path
) -> None:
    _plan(
        "[[step]]\nquery = \"SELECT * FROM input WHERE owner IN (SELECT id FROM 'owners.csv') AND fee > :floor\"\nrows = 'fewer'\n",
        "[params]\nfloor = 5",
    )
    done = figures("clean", "p.toml", "--today", "2024-05-31")
    record = json.loads(Path("o.record.json").read_text())
    assert (done["record"], record["today"], record["parameters"]) == (
        "o.record.json",
        "2024-05-31",
        {"floor": "5"},
    )
    assert [one["path"] for one in record["inputs"]] == ["b.csv", "owners.csv"]
    assert figures("verify", "o.record.json")["status"] == "same"
    moved = shutil.copytree(folder, folder / "elsewhere", dirs_exist_ok=False)
    assert figures("verify", moved / "o.record.json")["status"] == "same"
    write(moved / "owners.csv", OWNERS + "d,Holm\n")
    write(moved / "o.csv", Path("o.csv").read_text() + "9,Auk,a,,1\n")
    (moved / "o-rejects.csv").unlink()
    found = figures("verify", moved / "o.record.json", status=1)
    assert found["status"] == "differs"
    told = {one["what"]: (one["then"], one["now"]) for one in found["findings"]}
    assert told["o.csv: rows"] == ("2", "3")
    assert told["o-rejects.csv: the file"] == ("there", "not there")
    assert {"owners.csv: bytes", "owners.csv: SHA-256"} <= set(told)
    write("x.json", "{}")
    for name, status in (("x.json", 2), ("p.toml", 2), ("none.record.json", 3)):
        gravel("verify", name, status=status)


def test_the_page_of_a_run_tells_what_the_terminal_tells(gravel: Any) -> None:
    steps = '[[step]]\nset = { name = "UPPER(name)" }\n[[step]]\nnote = "no <gulls>"\ndrop_rows = "name = \'GULL\'"\n'
    _plan(steps, 'totals = ["fee"]')
    gravel("clean", "p.toml", "--report", "r.html")
    page = Path("r.html").read_text()
    for text in (
        "2 rows written to o.csv",
        "2 dropped",
        "no &lt;gulls&gt;",
        "the control total of fee reconciles",
        "Changed columns, before and after",
    ):
        assert text in page
    assert "http" not in page
    gravel("clean", "p.toml", "--report", "b.csv", status=2)
    assert Path("b.csv").read_text() == BOATS
    _plan(steps + 'rows = "same"\n')
    gravel("clean", "p.toml", "--report", "r.html", status=1)
    assert "a proof fails" in Path("r.html").read_text()


def test_a_quick_look_never_writes_and_mistakes_are_told_before_any_row(
    gravel: Any, figures: Any, folder: Path
) -> None:
    _plan(
        '[[step]]\nset = { fee = "1 / (id - 2)" }\non_error = "null"\n[[step]]\nset = { fee = "1 / (id - 3)" }\n'
    )
    before = sorted(path.name for path in folder.iterdir())
    assert figures("clean", "p.toml", "--until", 1)["status"] == "good"
    assert figures("clean", "p.toml", "--sample", 2)["rows_in"] == 2
    assert figures("clean", "p.toml", "--dry-run", "--sample", 0)["rows_in"] == 0
    gravel("clean", "p.toml", "--dry-run", status=1)
    assert sorted(path.name for path in folder.iterdir()) == before
    for step, told in {
        'split = { column = "list", on = ";", into = "rows", short = "null" }': "short is for a split into columns",
        'split = { column = "list", into = "rows" }': "say one of on",
        'split = { column = "list", array = true, into = ["a", "b"] }': "array is for a split into rows",
        'split = { column = "list", on = ";", into = ["id", "x"] }': "there would be two columns id",
        'split = { column = "list", on_regex = "x*", into = "rows" }': "matches the empty text",
        'deduplicate = { by = ["nme"] }': "did you mean name?",
        'deduplicate = { by = ["name"], fill = ["phone"] }': "there is no column phone",
        'columns = ["UPPER(name)"]': "is an expression",
        'sort = "fee DESC"\nonly = "id = 1"': "sort concerns all rows",
        'check = { all = "COUNT(*) > 1" }': "about the table as a whole",
        'query = "SELECT id FROM input"': "does not state its rows",
        "query = \"SELECT id FROM 'owners.csv'\"\nrows = 3": "does not read the rows under way",
        'query = "SELECT idd FROM input"\nrows = 3': "did you mean id?",
        'set = { fee = "name" }\nonly = "id = 1"': "would be TEXT in some rows",
        'keep_rows = "id = 1"\nallow = 3': "which is for a check",
    }.items():
        _plan(f"[[step]]\n{step}\n")
        ran = gravel("clean", "p.toml", "--dry-run", "--sample", "0", status=2)
        assert told in ran.err, (step, ran.err)
        assert "p.toml:" in ran.err
    for call in (
        ("trace", "p.toml"),
        ("try", "b.csv"),
        ("try", "--plan", "p.toml"),
        ("try", "--step", "sort = 'id'"),
    ):
        gravel(*call, status=2)
    _plan("")
    assert "has no row 5" in gravel("trace", "p.toml", "--row", 5, status=2).err
    assert figures("trace", "p.toml", "--where", "fee > 15", "--rows", 1)["matching"] == 2


def test_an_input_that_changes_and_a_folder_that_goes_stop_the_run(
    gravel: Any, folder: Path, monkeypatch: Any
) -> None:
    from gravel.sources.csv.reader import CsvSource

    _plan("")
    count_lines = CsvSource.count_lines

    def changed(table: Any, take: Any = None) -> int:
        write("b.csv", BOATS.replace("Tern", "Term"))
        return count_lines(table, take)

    monkeypatch.setattr(CsvSource, "count_lines", changed)
    told = gravel("clean", "p.toml", status=1).err
    assert "a proof fails: the input did not change while it was read" in told
    assert not Path("o.csv").exists()
    monkeypatch.undo()
    monkeypatch.chdir(folder)
    write("p.toml", 'table = "b.csv"\nwrite = "gone/o.csv"\n')
    assert "cannot be written" in gravel("clean", "p.toml", status=3).err
    _plan("")
    write(".o.csv.gravel-999999.csv", "half")
    assert "cleared .o.csv.gravel-999999.csv" in gravel("clean", "p.toml").err
    assert not Path(".o.csv.gravel-999999.csv").exists()


@pytest.mark.parametrize("rows", ["", 'x;y,1\n,2\nX;Y,\n"",3\n'])
def test_values_of_every_kind_go_through_every_step(rows: str, figures: Any) -> None:
    write("b.csv", "a,n\n" + rows)
    kinds = '''z = "NULL", y = "DATE '2024-01-01'", w = "LIST_ITEMS(a, ';')", d = "CAST(n AS DOUBLE PRECISION) / 4", i = "INTERVAL '1' DAY"'''
    _plan(
        f"[[step]]\nset = {{ {kinds} }}\n[[step]]\nunique = {{ by = ['UPPER(a)'], prefer = 'n DESC', fill = true }}\n"
        "[[step]]\nquery = \"SELECT *, COUNT(*) OVER () AS many FROM input\"\nrows = 'same'\n[[step]]\nsort = ['d DESC']\n"
        "[[step]]\ndrop_rows = 'TRUE'\n[[step]]\nsort = 'a'\n[[step]]\nquery = \"SELECT a, many FROM input GROUP BY a, many\"\nrows = 'same'\n"
    )
    done = figures("clean", "p.toml", "--memory", "1MB")
    assert done["rows_out"] == 0
    assert [step["out"] for step in done["steps"][2:6]] == ([3, 3, 3, 0] if rows else [0, 0, 0, 0])


def test_a_query_step_keeps_what_it_reads_and_tells_what_is_no_row(
    figures: Any, gravel: Any
) -> None:
    write("owners.csv", OWNERS + "d\n")
    query = "[[step]]\nquery = \"SELECT b.*, o.town FROM input AS b LEFT JOIN 'owners.csv' AS o ON o.id = b.owner\"\nrows = 'more'\n"
    _plan(query)
    assert (
        figures("clean", "p.toml")["steps"][1]["notes"][
            "malformed records of owners.csv are skipped"
        ]
        == 1
    )
    for command in (
        ("look", "b.csv", "--where", "owner IN (SELECT id FROM 'owners.csv')"),
        ("check", "b.csv", "id IN (SELECT 1 FROM 'owners.csv')"),
    ):
        assert "1 malformed record" in gravel(*command, status=None).err
    _plan("[[step]]\nkeep_rows = \"owner IN (SELECT id FROM 'owners.csv')\"\n")
    assert "owners.csv has 1 malformed records" in gravel("clean", "p.toml").err
    for target in ("owners.csv", "b.csv"):
        write("p.toml", f'table = "b.csv"\nwrite = "{target}"\n{query}')
        assert "over its own input" in gravel("clean", "p.toml", status=2).err
    # The file of rows left behind, the record and the page are written too.
    shutil.copy("owners.csv", "x-rejects.csv")
    write(
        "p.toml",
        f'table = "b.csv"\nwrite = "x.csv"\n{query.replace("owners.csv", "x-rejects.csv")}',
    )
    assert "over its own input" in gravel("clean", "p.toml", status=2).err
    _plan(query)
    gravel("clean", "p.toml", "--report", "owners.csv", status=2)
    assert Path("owners.csv").read_text() == OWNERS + "d\n"
    # What fails without a row of the plan's own stops the run too.
    write("z.csv", "k,n\na,0\n")
    failing = "SELECT b.id, z.k FROM input AS b LEFT JOIN (SELECT k FROM 'z.csv' WHERE 1 / n > 0) AS z ON z.k = b.owner"
    _plan(f"[[step]]\ndrop_rows = 'TRUE'\n[[step]]\nquery = \"{failing}\"\nrows = 'same'\n")
    assert (
        "step 2 fails in 0 rows: WHERE: 1 / n > 0 fails in 1 row"
        in gravel("clean", "p.toml", status=1).err
    )
    assert figures("clean", "p.toml", status=1)["output"] is None


def test_what_a_record_signs_includes_every_table_that_is_read(figures: Any, gravel: Any) -> None:
    import sqlite3

    base = sqlite3.connect("h.db")
    base.execute("CREATE TABLE owners AS SELECT 'a' AS id, 'Holm' AS town")
    base.commit()
    base.close()
    _plan(
        "[[step]]\nkeep_rows = \"owner IN (SELECT id FROM 'h.db#owners') OR owner IN (SELECT id FROM 'own*.csv')\"\n"
    )
    figures("clean", "p.toml")
    assert [one["path"] for one in json.loads(Path("o.record.json").read_text())["inputs"]] == [
        "b.csv",
        "h.db",
        "owners.csv",
    ]
    write("owners.csv", OWNERS + "e,Vik\n")
    assert [one["what"] for one in figures("verify", "o.record.json", status=1)["findings"]] == [
        "owners.csv: bytes",
        "owners.csv: SHA-256",
    ]


def test_rows_after_a_step_are_those_of_the_plan_that_ends_there(gravel: Any, figures: Any) -> None:
    steps = [
        "split = { column = 'list', on = ';', into = 'rows', as = 'item' }",
        "set = { name = 'UPPER(name)', fee = 'CAST(fee AS DECIMAL(8,2)) * 2' }",
        "drop_rows = 'fee IS NULL'",
        "deduplicate = { by = ['name'] }",
    ]
    for number in range(len(steps) + 1):
        _plan("".join(f"[[step]]\n{step}\n" for step in steps[:number]), "replace = true")
        gravel("clean", "p.toml", status=None)
        plain = _out()
        _plan("".join(f"[[step]]\n{step}\n" for step in steps))
        shown = parsed(
            gravel("look", "p.toml", "--after", number, "--rows", "all", "--format", "csv").out
        )
        assert [row[2:] for row in shown] == plain
        assert shown[0][:2] == ["gravel_row", "gravel_path"]
    assert [row[1] for row in shown[1:]] == ["1.1", "3.1"]
    tried = figures("try", "--plan", "p.toml", "name = LOWER(name)", "--rows", "1")["assignments"][
        0
    ]
    assert (tried["changed"], len(tried["changes"])) == (2, 1)
    gravel("try", "--plan", "p.toml", "name = LOWER(name)", "--add", "p.toml", "--note", "small")
    assert "small" in Path("p.toml").read_text()
    gravel("try", "b.csv", "--step", "keep_rows = 'owner IS NOT NULL'", "--add", "p.toml")
    gravel("clean", "p.toml", "--replace", status=None)
    assert [row[1] for row in _out()] == ["name", "gull", "tern"]
    for wrong in (("look", "p.toml", "--after", 9), ("look", "b.csv", "--after", 1), ("try", "--plan", "p.toml"),
                  ("try", "--plan", "p.toml", "x = 1", "--add", "q.toml")):  # fmt: skip
        assert "hint: " in gravel(*wrong, status=2).err
    # What a run would stop at, and what is no row, is told and not lost unseen.
    write("b.csv", "id,v,gravel_path\n1,5,x\n2,oops,y\n3,7\n4,9,z\n")
    _plan("[[step]]\nset = { v = 'CAST(v AS INTEGER)' }\n")
    shown = gravel("look", "p.toml", "--after", 1, "--format", "csv")
    assert [row[1:3] for row in parsed(shown.out)] == [
        ["gravel_path_", "id"],
        ["1", "1"],
        ["4", "4"],
    ]
    assert "1 malformed record is left out of b.csv" in shown.err
    assert 'step 1 would stop the run here: 1 row fails, and on_error is "stop"' in shown.err
    assert figures("try", "--plan", "p.toml", "id = id + 1")["assignments"][0]["changed"] == 2
    assert "instead of b.csv" in gravel("try", "b.csv", "--plan", "p.toml", status=2).err


def test_a_query_step_says_the_same_in_little_memory(gravel: Any, folder: Path) -> None:
    rows = [f"{at},{'' if at % 7 == 0 else at * 3},Boat {at % 90},{at % 5}" for at in range(70_000)]
    write("t.csv", "id,fee,boat,pier\n" + "\n".join(rows) + "\n")
    write("k.csv", "pier,name\n0,A\n1,B\n1,C\n9,D\n")
    for number, query in enumerate(
        (
            "SELECT * FROM input WHERE fee > 30",
            "SELECT i.id, k.name, i.fee + 1 AS more FROM input AS i RIGHT JOIN 'k.csv' AS k ON k.pier = i.pier",
            "SELECT boat, SUM(fee) AS fees FROM input GROUP BY boat ORDER BY boat",
            "SELECT id, fee FROM input ORDER BY fee DESC, id LIMIT 9",
            "SELECT id FROM input WHERE id < 0",
        )
    ):
        write(
            "p.toml",
            f'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nquery = "{query}"\nrows = "at least 0"\n',
        )
        told = [
            gravel("clean", "p.toml", *options, "--format", "json")
            for options in ((), ("--memory", "1MB"))
        ]
        results = [run.json["steps"] for run in told]
        assert results[0] == results[1], number
        outputs = [Path("o.csv").read_bytes()]
        gravel("clean", "p.toml")
        assert outputs == [Path("o.csv").read_bytes()], number
