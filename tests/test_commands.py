"""The commands as a person meets them: formats, notes, exit statuses, the demo from end to end."""

from __future__ import annotations

import csv
import io
import json
import os
import re
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from conftest import parsed, program, shown, write
from gravel.demo import DATABASE, FILES, MORE, WALK
from gravel.inspecting.commands import shell_word

DEMO = Path(__file__).parent.parent / "src" / "gravel" / "demo" / "data"


def demo_rows(name: str) -> list[dict[str, Any]]:
    """A demo table's well-formed rows, read independently."""
    head, *rows = parsed((DEMO / name).read_text("utf-8"))
    return [dict(zip(head, row, strict=True)) for row in rows if len(row) == len(head)]  # type: ignore[arg-type]


@pytest.fixture
def harbour(gravel: Any) -> Any:
    """The demo's files in the current folder."""
    gravel("demo", ".", "--quiet")
    return gravel


def test_the_demo_is_made_by_its_generator_and_written_whole(harbour: Any) -> None:
    from gravel.demo.generate import tables

    for name, data in tables().items():
        assert (DEMO / name).read_bytes() == data, f"{name} is not what the generator makes"
        assert Path(name).read_bytes() == data
    assert {path.name for path in Path().iterdir()} == {*FILES, DATABASE}


def test_the_demo_walks_through_the_whole_job(gravel: Any) -> None:
    walk = gravel("demo", "harbour")
    told = walk.out
    for _, words in (*WALK, *MORE):
        assert f"$ gravel {words[0]} {shell_word(words[1])}" in told
    assert "362 rows written" in told
    assert "FAILS" not in told
    assert (walk.out + walk.err).count("\n") <= 150, "the walk is read in two minutes"
    made = {f"boats-clean{more}" for more in (".csv", "-rejects.csv", ".record.json")}
    assert {path.name for path in Path("harbour").iterdir()} == {*FILES, DATABASE, *made}
    # What it names to try runs as it stands there.
    os.chdir("harbour")
    for _, words in MORE:
        gravel(*words, status=1 if words[0] in ("compare", "check") else 0)


def test_the_demo_has_what_an_analyst_looks_for(harbour: Any, figures: Any) -> None:
    boats, stays = demo_rows("boats.csv"), demo_rows("stays.csv")
    counted = figures("count", "boats.csv", "owners.csv", "stays.csv", "services.csv")["tables"]
    assert [(one["rows"], one["malformed"]) for one in counted] == [
        (420, 0),
        (310, 0),
        (884, 2),
        (400, 0),
    ]
    known = {row["boat_id"] for row in boats}
    orphans = sum(row["boat_id"] not in known for row in stays)
    assert orphans > 0
    low = min(int(row["boat_id"]) for row in stays if row["boat_id"] not in known)
    assert figures("look", "stays.csv", "--where", f"boat_id >= {low}")["matching"] == orphans
    repeated = Counter(row["stay_id"] for row in stays)
    key = figures("count", "stays.csv", "--key", "stay_id")["tables"][0]["keys"][0]
    assert key["repeated_rows"] == sum(rows for rows in repeated.values() if rows > 1) > 0
    total = figures("count", "boats.csv", "--total", "fee")["tables"][0]["totals"][0]
    assert Decimal(total["value"]) == sum(Decimal(row["fee"]) for row in boats if row["fee"])
    assert total["null_rows"] == sum(row["fee"] is None for row in boats)


def test_the_demo_plan_gives_what_an_independent_run_gives(harbour: Any, figures: Any) -> None:
    done = figures("clean", "boats.toml")
    assert (done["status"], done["rows_in"], done["rows_out"]) == ("good", 420, 362)
    statuses = Counter(
        (row["status"] or "unknown").strip(" ").lower() for row in demo_rows("boats.csv")
    )
    assert done["steps"][4]["dropped"] == statuses["scrapped"]
    head, *rows = parsed(Path("boats-clean.csv").read_text("utf-8"))
    left = parsed(Path("boats-clean-rejects.csv").read_text("utf-8"))[1:]
    assert len(rows) + len(left) == 420
    numbers = {int(str(row[0])) for row in left} | {
        int(str(row[head.index("boat_id")])) for row in rows
    }
    assert numbers == set(range(1, 421))  # the demo's boat_id is its row number
    place = {name: head.index(name) for name in ("fee", "length_m", "fee_per_metre", "status")}
    for row in rows:
        fee, length, made = (
            row[place["fee"]],
            Decimal(str(row[place["length_m"]])),
            row[place["fee_per_metre"]],
        )
        assert made == (
            None
            if fee is None
            else str((Decimal(fee) / length).quantize(Decimal("0.01"), "ROUND_HALF_UP"))
        )
        assert row[place["status"]] in (None, "afloat", "ashore")


@pytest.mark.parametrize(
    "command",
    [
        ["count", "t.csv"],
        ["look", "t.csv"],
        ["profile", "t.csv"],
        ["try", "t.csv", "a = UPPER(a)"],
        ["clean", "p.toml"],
    ],
)
def test_every_command_has_four_formats_with_the_same_figures(
    command: list[str], gravel: Any
) -> None:
    write("t.csv", 'a,n\n"x, y",1\n"b|c",2\n,3\n')
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { a = "UPPER(a)" }\n')
    told = json.loads(gravel(*command, "--format", "json").out)
    assert next(iter(told.items())) == ("gravel", f"{command[0]}/2")
    rows = list(csv.reader(io.StringIO(gravel(*command, "--format", "csv").out)))
    assert len({len(row) for row in rows}) == 1
    lines = gravel(*command, "--format", "markdown").out.splitlines()
    assert lines[1].replace(" ", "").replace("|", "").strip("-") == ""
    assert len(lines) == len(rows) + 1
    table = gravel(*command).out
    assert "\x1b[" not in table
    assert "\x1b[" not in gravel(*command, "--no-color").out


def test_json_has_values_as_they_are_and_large_numbers_as_strings(figures: Any) -> None:
    write(
        "t.csv",
        't,i,d,b,day\n"a\tb ""é",9007199254740992,1.50,true,2024-05-31\n,9007199254740993,2,false,\n',
    )
    view = figures(
        "look", "t.csv", "--show", "CAST('NaN' AS DOUBLE PRECISION) AS x", "--show", "1.5e0 AS y"
    )
    one, two = shown(view)
    assert one == [1, 'a\tb "é', 9007199254740992, "1.50", True, "2024-05-31", "NaN", 1.5]
    assert two == [2, None, "9007199254740993", "2", False, None, "NaN", 1.5]
    column = figures("profile", "t.csv")["columns"][1]
    assert (column["min"], column["max"]) == (9007199254740992, "9007199254740993")
    assert (
        figures("count", "t.csv", "--total", "i", "--total", "d")["tables"][0]["totals"][0]["value"]
        == "18014398509481985"
    )


def test_a_file_in_which_all_is_quoted_gets_a_note(gravel: Any, figures: Any) -> None:
    write("q.csv", '"a","b"\n"1",""\n"2","x"\n')
    assert "--empty null reads the empty ones as NULL" in gravel("look", "q.csv").err
    assert "--empty null" not in gravel("look", "q.csv", "--empty", "null").err
    assert figures("profile", "q.csv")["columns"][1]["empty"] == 1
    assert figures("profile", "q.csv", "--empty", "null")["columns"][1]["nulls"] == 1


def test_shares_never_lie_at_the_ends() -> None:
    from gravel.render.screen import percent

    assert [percent(*pair) for pair in ((1, 100_000), (99_999, 100_000), (0, 7), (7, 7), (1, 8), (0, 0))] == [
        "<0.1%", ">99.9%", "0.0%", "100.0%", "12.5%", "",
    ]  # fmt: skip


def test_what_is_written_is_a_change_only_if_its_text_is_another(figures: Any) -> None:
    write("t.csv", "id,a,b\n1,7,1.50\n2,+8,2\n3,x,\n")
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { a = "CAST(a AS INTEGER)", b = "b", c = "b" }\non_error = "null"\n',
    )
    step = figures("clean", "p.toml")["steps"][1]
    assert step["changed_columns"] == {"a": 2, "b": 0}  # '+8' is written 8; 'x' is emptied
    assert parsed(Path("o.csv").read_text())[1:] == [
        ["1", "7", "1.50", "1.50"],
        ["2", "8", "2", "2"],
        ["3", None, None, None],
    ]


def test_a_step_reads_the_row_as_it_came_and_the_next_what_it_made(figures: Any) -> None:
    write("t.csv", "a,b\n1,2\n")
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { a = "b", b = "a" }\n[[step]]\nset = { c = "a * 10 + b" }\n',
    )
    figures("clean", "p.toml")
    assert parsed(Path("o.csv").read_text()) == [["a", "b", "c"], ["2", "1", "21"]]


@pytest.mark.parametrize(
    ("rows", "holds"),
    [
        ("3", True),
        ('"at most 3"', True),
        ('"at least 4"', False),
        ('"fewer"', True),
        ('"same"', False),
        ('"more"', False),
        ('"-1"', True),
        ('"-2"', False),
    ],
)
def test_stated_rows(rows: str, holds: bool, figures: Any) -> None:
    write("t.csv", "n\n1\n2\n3\n4\n")
    write(
        "p.toml",
        f'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nkeep_rows = "n < 4"\nrows = {rows}\n',
    )
    done = figures("clean", "p.toml", status=0 if holds else 1)
    proof = next(one for one in done["proofs"] if "expected" in one["proof"])
    assert (proof["holds"], "4 in, 3 out (-1)" in proof["detail"]) == (holds, True)


def test_a_plan_reads_its_table_as_it_says(figures: Any) -> None:
    write("t.csv", 'a;b\n"Möwe";""\n'.encode("latin-1"))
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\nencoding = "latin-1"\ndelimiter = ";"\nempty = "null"\n',
    )
    assert figures("clean", "p.toml")["rows_out"] == 1
    assert Path("o.csv").read_text("utf-8") == "a;b\nMöwe;\n"
    Path("sub").mkdir()
    write("sub/p.toml", 'table = "../t.csv"\nwrite = "o.csv"\nencoding = "latin-1"\n')
    figures("clean", "sub/p.toml")
    assert Path("sub/o.csv").read_text("utf-8") == 'a;b\nMöwe;""\n'


def test_wide_and_deep_tables(figures: Any, gravel: Any) -> None:
    write(
        "wide.csv",
        ",".join(f"c{n}" for n in range(2000)) + "\n" + (",".join("1" * 2000) + "\n") * 20,
    )
    assert figures("count", "wide.csv")["tables"][0]["columns"] == 2000
    assert len(figures("profile", "wide.csv")["columns"]) == 2000
    assert shown(figures("look", "wide.csv", "--columns", "c1999", "--rows", "1")) == [[1, 1]]
    write("deep.csv", 'a,b\n1,"' + "x" * 5_000_000 + '"\n2,y\n')
    assert figures("profile", "deep.csv")["columns"][1]["length"]["max"] == 5_000_000
    assert "5,000,000 characters" in gravel("look", "deep.csv").out
    write("odd.csv", 'select,"a b","c""d",Ä\n1,2,3,4\n')
    odd = figures(
        "look", "odd.csv", "--where", '"select" = 1 AND "a b" = 2 AND "c""d" = 3 AND ä = 4'
    )
    assert odd["matching"] == 1
    # A result shows the columns that fit, whole lines of them, texts cut before one is left out.
    long = "SELECT 'a long text about a boat in the harbour' AS text"
    numbers = ", ".join(f"{at} AS n{at}" for at in range(19))
    told = gravel("query", f"{long}, {numbers}")
    assert told.out.splitlines()[1].startswith("a long text about a")
    assert "boat in the harbour" not in told.out
    assert len(told.out.splitlines()) == 2
    told = gravel("query", f"{long}, {numbers}, {numbers.replace('n', 'm')}")
    assert len(told.out.splitlines()) == 2
    assert "more columns do not fit: " in told.err
    wide = f"SELECT * FROM (SELECT {numbers}, {numbers.replace('n', 'm')}, 7 AS last) AS t"
    assert "last" not in gravel("query", wide).out.split()
    assert "last" in gravel("query", f"{wide} WHERE last > 5").out.split()
    assert "(--format csv has all)" in told.err


def test_what_is_asked_for_is_shown_first_and_accents_apart_are_seen(
    gravel: Any, figures: Any
) -> None:
    apart = ["cafe\u0301"] * 9 + ["caf\u00e9"] * 4 + ["Mo\u0308we", "M\u00f6we"]
    names = [f"column_{number:02}" for number in range(20)]
    rows = [f"{'7,' * 20}{text},{number}" for number, text in enumerate(apart)]
    write("t.csv", "\n".join([",".join([*names, "place", "day"]), *rows, ""]))
    seen = gravel(
        *("look", "t.csv", "--where", "place <> 'x'", "--sort", "day DESC"),
        *("--show", "day + 1 AS next", "--rows", 2),
    )
    row, *beside, place, day, computed = seen.out.splitlines()[0].split()
    assert (row, place, day, computed) == ("row", "place", "day", "next")
    assert beside == names[: len(beside)]
    left = len(names) - len(beside)
    assert f"{left} more columns do not fit: {names[-left]}" in seen.err
    found = figures("profile", "t.csv")["findings"]
    (variants,) = (item for item in found if item["finding"] == "variants")
    assert (variants["rows"], variants["fix"]) == (10, "place = NORMALIZE(place)")
    assert "cafe\\u0301" in variants["detail"]
    tried = gravel("try", "t.csv", variants["fix"])
    assert "cafe⟨0301⟩" in tried.out
    assert "10 changed + 5 unchanged" in tried.out


def test_columns_are_found_without_regard_to_case_but_exactly_where_quoted(
    gravel: Any, figures: Any
) -> None:
    write("t.csv", "Name,name,FEE\na,b,1\n")
    assert figures("look", "t.csv", "--where", "fee = 1")["matching"] == 1
    assert figures("look", "t.csv", "--where", "name = 'b'")["matching"] == 1
    assert (
        'NAME could be "Name" and "name"'
        in gravel("look", "t.csv", "--where", "NAME = 'b'", status=2).err
    )
    assert "there is no column fee" in gravel("look", "t.csv", "--where", '"fee" = 1', status=2).err
    assert (
        "there is a column name already"
        in gravel("look", "t.csv", "--show", "1 AS name", status=2).err
    )
    assert "assigned twice" in gravel("try", "t.csv", "FEE = 1", "fee = 2", status=2).err
    # Without a name it stands beside the one column that it reads, or is a new one.
    told = figures(
        "try", "t.csv", "fee * 2", "fee IS NULL", "fee + 1.5", '"Name" || "name"', "x = 1"
    )
    columns = [item["column"] for item in told["assignments"]]
    assert columns == ["FEE", "result", "result_2", "result_3", "x"]
    # A list of columns takes a name as it is called, be it no SQL name.
    write("n.csv", "berth no,group,a-b\n2,x,1\n1,x,5\n2,x,3\n")
    (told,) = figures(
        "count", "n.csv", "--key", "berth no", "--distinct", "berth no,group", "--total", "a-b"
    )["tables"]
    assert told["keys"][0]["repeated_rows"] == 2
    assert (told["distinct"][0]["distinct"], told["totals"][0]["value"]) == (2, 9)
    assert figures("duplicates", "n.csv", "--on", "berth no, group")["groups"] == 1
    told = figures(
        "look", "n.csv", "--columns", "a-b,group", "--sort", "berth no DESC, a-b desc nulls last"
    )
    assert [[*row["values"].values()] for row in told["shown"]] == [[3, "x"], [1, "x"], [5, "x"]]
    assert figures("duplicates", "n.csv", "--near", "berth no")["value_pairs"] == 1
    gravel("look", "n.csv", "--columns", "group,,a-b", status=2)


def test_the_readme_has_the_two_commands_and_its_links_lead_somewhere(folder: Path) -> None:
    root = Path(__file__).parent.parent
    text = (root / "README.md").read_text("utf-8")
    assert "gravel demo" in text.split("<!-- demo -->")[1].split("```")[1]
    assert "-m pytest" in text.split("<!-- test -->")[1].split("```")[1]
    for link in re.findall(r"\]\(([^)#]+)\)", text):
        assert (root / link).exists(), link
    for example in re.findall(r"`gravel ([a-z]+)", text):
        assert program(example, "--help", cwd=folder).returncode == 0


def test_equal_hashes_never_make_two_values_one() -> None:
    """Rows are told apart by two hashes of 64 bits; combinations that mirror or repeat each other stay apart."""
    import numpy as np
    import pyarrow as pa

    from gravel.engine.distinct import Distinct, counted
    from gravel.engine.hashing import combined

    values = ["", "a", "b", "ab", "ba", "aa", None]
    pairs = [(x, y) for x in values for y in values]
    columns = [pa.array([pair[at] for pair in pairs], pa.string()) for at in (0, 1)]
    for second in (False, True):
        assert len(set(combined(columns, second=second).tolist())) == len(pairs)
    whole = Distinct()
    for start in range(0, len(pairs), 5):
        part = [column.slice(start, 5) for column in columns]
        whole.add(counted(part, np.arange(start, start + len(part[0]))))
        whole.add(counted(part, np.arange(start, start + len(part[0]))))
    assert len(whole) == len(pairs)
    assert set(whole.result.counts.tolist()) == {2}


def test_an_output_takes_quotes_only_where_a_value_needs_them() -> None:
    import pyarrow as pa

    from gravel.sinks.csv import encode

    values = [
        "plain",
        "",
        None,
        "a,b",
        'say "ah"',
        "two\nlines",
        "cr\r",
        " padded ",
        "'",
        "é😀",
        '"',
        '""',
        ",",
        "\n",
    ]
    made = encode([pa.array(values, pa.string()), pa.array(values[::-1], pa.string())]).decode()
    out = io.StringIO()
    for x, y in zip(values, values[::-1], strict=True):
        fields = []
        for value in (x, y):
            must = value == "" or (value is not None and any(sign in value for sign in ',"\r\n'))
            fields.append(
                "" if value is None else '"' + value.replace('"', '""') + '"' if must else value
            )
        out.write(",".join(fields) + "\n")
    assert made == out.getvalue()


def test_rows_are_drawn_at_random_and_shown_one_below_the_other(gravel: Any, folder: Path) -> None:
    write("t.csv", "id,name\n" + "".join(f"{at},boat {at}\n" for at in range(200)))
    drawn = set()
    for _ in range(5):
        told = gravel(
            "look", "t.csv", "--random", "9", "--where", "id >= 100", "--format", "json"
        ).json
        rows = [row["row"] for row in told["shown"]]
        assert rows == sorted(set(rows))
        assert (len(rows), told["matching"]) == (9, 100)
        assert all(row["values"]["id"] == row["row"] - 1 >= 100 for row in told["shown"])
        drawn |= set(rows)
    assert len(drawn) > 15
    assert len(gravel("look", "t.csv", "--random", "900", "--format", "json").json["shown"]) == 200
    out = gravel("look", "t.csv", "--rows", "1", "--vertical").out
    assert out.split() == ["row", "1", "id", "0", "name", "boat", "0"]
    assert (
        "at random, or sorted"
        in gravel("look", "t.csv", "--random", "2", "--sort", "id", status=2).err
    )


def test_a_parameter_without_quotes_is_what_it_is_beside(
    gravel: Any, figures: Any, folder: Path
) -> None:
    write(
        "t.csv",
        "code,n,day,seen\n072,72,2024-05-01,2024-05-01 10:00:00\n72,7,2024-06-01,2024-06-01 10:00:00\nx,1,,\n",
    )
    for condition, params, rows in (
        ("code = :p", ["p=072"], 1), ("n = :p", ["p=072"], 1), ("code IN (:p, :q)", ["p=072", "q=x"], 2),
        ("day > :p", ["p=2024-05-15"], 1), ("day BETWEEN :p AND :q", ["p=2024-05-01", "q=2024-06-01"], 2),
        ("seen < :p", ["p=2024-05-01 11:00:00"], 1), ("LEFT(:p, 1) = '0'", ["p=072"], 3), ("code = :p", ["p='072'"], 1),
        ("n > :p", ["p=6.5"], 2), ("CASE WHEN code = :p THEN :p ELSE 'n' END = '072'", ["p=072"], 1), ("COALESCE(day, :p) = DATE '2020-01-01'", ["p=2020-01-01"], 1),
    ):  # fmt: skip
        options = [word for item in params for word in ("--param", item)]
        told = figures("look", "t.csv", "--where", condition, *options)
        assert told["matching"] == rows, condition
        asked = figures("query", f"SELECT COUNT(*) AS n FROM 't.csv' WHERE {condition}", *options)
        assert asked["rows"] == [[rows]], condition
    for condition, param in (
        ("day > :p", "p=2024-13-01"),
        ("day > :p", "p=7"),
        ("n > :p", "p=x"),
        ("n > :p", "p='7'"),
    ):
        assert (
            "cannot mix"
            in gravel("look", "t.csv", "--where", condition, "--param", param, status=2).err
        )
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[params]\nkept = "072"\n[[step]]\nkeep_rows = "code = :kept"\nrows = 1\n',
    )
    gravel("clean", "p.toml")
    gravel("verify", "o.record.json", "--rerun")


def test_words_of_other_programs_are_told_by_what_they_are_called_here(gravel: Any) -> None:
    from gravel.cli import main, other_words

    write("t.csv", "id,fee\n1,2\n")
    for words, told in {
        "profile t.csv fee": "--column fee", "duplicates t.csv fee": "--on fee", "look t.csv --limit 5": "--rows?",
        "look t.csv -n 5": "--rows?", "look t.csv --sort fee --desc": '--sort "column DESC"?', "look t.csv --json": "--format json?",
        "compare t.csv t.csv --id id": "--key?", "clean p.toml --force": "--replace?",
        "look t.csv 9": "--rows 9", "look t.csv a = 1": '--where "a = 1"', "look t.csv a": "--columns a", "count t.csv --filter a=1": "--where?",
        "count t.csv --by a": "GROUP BY status", "look t.csv --row 5": "OFFSET 4", "check t.csv --not-null id": "IS NOT NULL'",
        "check t.csv --unique id": "COUNT(DISTINCT", "compare t.csv t.csv --columns id": "all columns are compared", "help look": "gravel look --help", "head t.csv": "gravel look?",
        "query t.csv": "\"SELECT * FROM 't.csv'\"", "clean t.csv": "gravel profile t.csv --suggest plan.toml", "verify t.csv": "gravel clean PLAN",
    }.items():  # fmt: skip
        assert told in gravel(*words.split(" "), status=2).err, words
    commands = [main._loaded(name) for name in main.SUMMARIES]
    options = {name for command in commands for param in command.params for name in param.opts}
    assert {name for names in other_words._OPTIONS for name in names} <= options
    assert set(other_words._COMMANDS) <= set(main.SUMMARIES)
    for command, words in other_words._INSTEAD:
        options = {name for param in main._loaded(command).params for name in param.opts}
        assert not options & {f"--{word}" for word in words.split()}
    assert not other_words.COMMANDS.keys() & set(main.SUMMARIES)
