"""The parts underneath: places in a plan, records of a broken file, order of threads, precedence, one error of two."""

from __future__ import annotations

import ast
import graphlib
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import gravel
from conftest import parsed, shown, write
from gravel.querying.examples import outcome
from gravel.sources.read_options import ReadOptions

PLANS = [
    'table = "a"\nwrite = "b"\n[[step]]\nset = { x = "1", "y z" = \'2\' }\n[[step]]\nkeep_rows = "x"\n',
    '# note\n[types]\na = "TEXT"   # here\n"b.c" = "DATE"\n[[step]]\nnote = "n"\n[step.set]\nx = """\nline one\nline two"""\n',
    'key = [\n  "a", # first\n  "b",\n]\nstep = [\n  { keep_rows = "a = \'x\'" },\n  { set = { q = "[1]", r = "{2}" } },\n]\n',
    "params.low = 1\nparams.high = 2.5\n[[step]]\n  rows = 12\n  drop_rows = '''a\n = b'''\n",
    '[[step]]\nset = { "a\\"b" = "1" }\n[[step]]\n[[step]]\nnote = \'last # no comment\'\n',
]


def _leaves(data: Any, path: tuple[Any, ...] = ()) -> list[tuple[tuple[Any, ...], Any]]:
    if isinstance(data, dict):
        return [leaf for key, value in data.items() for leaf in _leaves(value, (*path, key))]
    if isinstance(data, list):
        return [leaf for at, value in enumerate(data) for leaf in _leaves(value, (*path, at))]
    return [(path, data)]


@pytest.mark.parametrize("text", PLANS)
def test_every_value_of_a_plan_has_its_line(text: str) -> None:
    """The value that the TOML library reads at a path stands on the line that is told for it."""
    from gravel.plans.places import places

    found, lines = places(text), text.splitlines()
    for path, value in _leaves(tomllib.loads(text)):
        escaped = tuple(
            part.replace('"', '\\"') if isinstance(part, str) else part for part in path
        )
        place = found.get(path) or found[escaped]
        first = str(value).splitlines()[0]
        assert first in lines[place.text_line - 1], (path, place)


def test_a_step_is_added_to_whatever_form_a_plan_has(gravel: Any, figures: Any) -> None:
    write("t.csv", "a,n\n x ,1\ny,2\n")
    for plan in (
        'table = "t.csv"\nwrite = "o.csv"\n',
        'table = "t.csv"\nwrite = "o.csv"\nstep = [\n  { keep_rows = "n > 0" },  # all\n]\n',
        'table = "t.csv"\nwrite = "o.csv"\n[types]\na = "TEXT"\n\n[[step]]\nset = { a = "UPPER(a)" }\n# the end\n',
        'table = "t.csv"\r\nwrite = "o.csv"\r\n',
    ):
        write("p.toml", plan)
        before = len(tomllib.loads(plan).get("step", []))
        gravel(
            "try", "t.csv", "a = TRIM(a)", "b = n + 1", "--add", "p.toml", "--note", "two at once"
        )
        made = tomllib.loads(Path("p.toml").read_bytes().decode())
        assert len(made["step"]) == before + 1
        assert made["step"][-1] == {"note": "two at once", "set": {"a": "TRIM(a)", "b": "n + 1"}}
        assert made["types"] == {"a": "TEXT", "n": "INTEGER"}
        for comment in ("# all", "# the end"):
            assert (comment in plan) == (comment in Path("p.toml").read_text())
        assert figures("clean", "p.toml", "--dry-run")["rows_out"] == 2
    write("p.toml", "table = [\n")
    assert (
        "not valid TOML" in gravel("try", "t.csv", "a = TRIM(a)", "--add", "p.toml", status=2).err
    )


def _faults(text: str) -> list[str]:
    """The fault of each record after the header, or '', by a reader that knows one rule after the other."""
    found, rest = [], text.split("\n", 1)[1]
    while rest:
        fields, at, fault = 1, 0, ""
        while True:
            if rest[at : at + 1] == '"':
                end = at + 1
                while (end := rest.find('"', end)) >= 0 and rest[end + 1 : end + 2] == '"':
                    end += 2
                if end < 0:
                    fault = "a quote is not closed"
                    at = rest.find("\n") if "\n" in rest else len(rest)
                    break
                at = end + 1
                if rest[at : at + 1] not in ("", ",", "\n"):
                    return [
                        *found,
                        "?",
                    ]  # what such a record costs is a rule of its own, tested elsewhere
            else:
                while at < len(rest) and rest[at] not in ",\n":
                    at += 1
            if rest[at : at + 1] != ",":
                break
            fields, at = fields + 1, at + 1
        record = rest[:at]
        found.append(
            fault or ("an empty line" if not record else "" if fields == 2 else f"{fields} field")
        )
        rest = rest[at + 1 :]
    return found


@settings(max_examples=300)
@given(body=st.text(st.sampled_from('ab,"\n'), max_size=24), block=st.sampled_from([5, 11, 4096]))
def test_malformed_records_are_those_of_the_rules(
    body: str, block: int, tmp_path_factory: Any
) -> None:
    from gravel.sources.csv import reader, splitter

    path = tmp_path_factory.mktemp("records") / "t.csv"
    write(path, "x,y\n" + body)
    expected = _faults("x,y\n" + body)
    before, splitter.BLOCK = splitter.BLOCK, block
    try:
        table = reader.CsvSource(path, reading=ReadOptions(",", header=1))
        batches = [table.read(piece) for piece in table.pieces()]
    finally:
        splitter.BLOCK = before
    told = {bad.row: bad.fault for batch in batches for bad in batch.malformed}
    rows = [int(row) for batch in batches for row in batch.rows]
    # Every record is a row or malformed, once, in order.
    assert sorted([*rows, *told]) == list(range(1, len(rows) + len(told) + 1))
    for number, fault in enumerate(expected, 1):
        if fault == "?":
            break
        assert told.get(number, "").startswith(fault) if fault else number in rows, (
            body,
            expected,
            told,
        )


def test_bad_bytes_are_told_with_line_and_column_in_every_encoding(gravel: Any) -> None:
    rows = "".join(f"{n},ok\n" for n in range(3000))
    write("t.csv", b"a,b\n" + rows.encode() + b"3000,caf\xe9 x\n")
    assert "t.csv:3002:9: byte 0xE9 is not valid in UTF-8" in gravel("count", "t.csv", status=3).err
    write("t.csv", b'a,b\n1,"two\nlines"\n2,\xff\n')
    assert "t.csv:4:3: byte 0xFF" in gravel("count", "t.csv", status=3).err
    write("t.csv", b"a,b\n1,x\n2,\x81\n")
    told = gravel("count", "t.csv", "--encoding", "cp1252", status=3).err
    assert "t.csv:3:3: byte 0x81 is not valid in CP1252" in told
    assert (
        "there is no encoding klingon"
        in gravel("count", "t.csv", "--encoding", "klingon", status=3).err
    )
    assert (
        "a delimiter is one character"
        in gravel("count", "t.csv", "--delimiter", "ab", status=2).err
    )


def test_threads_keep_the_order_and_tell_the_first_failure() -> None:
    import time

    from gravel.engine.parallel import ordered_map

    def slow(n: int) -> int:
        time.sleep(0.002 * (7 - n % 7))
        return n * n

    for threads in (1, 2, 4):
        assert list(ordered_map(slow, range(40), threads)) == [n * n for n in range(40)]

    def failing(n: int) -> int:
        if n in (5, 3):
            raise ValueError(n)
        return n

    got = ordered_map(failing, range(10), 2)
    assert [next(got) for _ in range(3)] == [0, 1, 2]
    with pytest.raises(ValueError, match="3"):
        next(got)


PRECEDENCE = [
    ("1 + 2 * 3", "7"), ("(1 + 2) * 3", "9"), ("-2 - -3", "1"), ("10 - 4 - 3", "3"), ("2 * 7 % 4", "2"), ("- 5 + 3", "-2"),
    ("NOT TRUE OR TRUE", "TRUE"), ("NOT (TRUE OR TRUE)", "FALSE"), ("TRUE OR FALSE AND FALSE", "TRUE"), ("NOT 1 = 2", "TRUE"),
    ("1 = 1 IS TRUE", "TRUE"), ("NULL IS NULL AND TRUE", "TRUE"), ("'a' || 'b' = 'ab'", "TRUE"), ("1 + 1 BETWEEN 1 AND 2 AND FALSE", "FALSE"),
    ("2 IN (1, 1 + 1)", "TRUE"), ("NOT 2 IN (1, 3)", "TRUE"), ("'a' NOT LIKE 'b' AND TRUE", "TRUE"), ("1 < 2 AND 2 < 3", "TRUE"),
    ("'x' || 1 + 2", "'x3'"), ("CASE WHEN 1 = 2 THEN 'a' ELSE 'b' END || 'c'", "'bc'"), ("1 IS DISTINCT FROM NULL", "TRUE"),
    ("'it''s' -- a comment", "'it''s'"), ("1 /* not * this */ + 1", "2"), (".5 + 1.", "1.5"), ("1e2", "100"), ("'a'\n||\t'b'", "'ab'"),
    ("upper('a')", "'A'"), ("Left('abc', 2)", "'ab'"), ("9223372036854775808", "9223372036854775808"),
    ("-9223372036854775808", "-9223372036854775808"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), PRECEDENCE, ids=[case[0] for case in PRECEDENCE])
def test_operators_bind_as_the_standard_has_them(text: str, expected: str) -> None:
    assert outcome(text) == expected


ERRORS = [
    ("1 / 0 + CAST('x' AS INTEGER)", "error 22012"), ("CAST('x' AS INTEGER) + 1 / 0", "error 22018"), ("NULL + 1 / 0", "error 22012"),
    ("1 / 0 = NULL", "error 22012"), ("FALSE AND 1 / 0 = 1", "FALSE"), ("1 / 0 = 1 AND FALSE", "error 22012"), ("TRUE OR 1 / 0 = 1", "TRUE"),
    ("NULL AND 1 / 0 = 1", "error 22012"), ("NULL OR 1 / 0 = 1", "error 22012"), ("1 IN (1, 1 / 0)", "TRUE"), ("2 IN (1, 1 / 0)", "error 22012"),
    ("1 IN (1 / 0, 1)", "error 22012"), ("NULL IN (1, 1 / 0)", "error 22012"), ("0 BETWEEN 1 AND 1 / 0", "FALSE"),
    ("2 BETWEEN 1 AND 1 / 0", "error 22012"), ("COALESCE(1, 1 / 0)", "1.0000000000000000"), ("COALESCE(1 / 0, 1)", "error 22012"),
    ("COALESCE(NULL, 1 / 0)", "error 22012"), ("IF_BLANK('a', CAST(1 / 0 AS TEXT))", "'a'"), ("CASE WHEN 1 / 0 = 1 THEN 1 ELSE 2 END", "error 22012"),
    ("CASE WHEN TRUE THEN 1 ELSE 1 / 0 END", "1.0000000000000000"), ("FITS(1 / 0 AS TEXT)", "error 22012"),
    ("CAST_OR_NULL(CAST('x' AS INTEGER) AS TEXT)", "error 22018"), ("(1 / 0) IS NULL", "error 22012"), ("NOT (1 / 0 = 1)", "error 22012"),
    ("NULLIF(1 / 0, 1)", "error 22012"), ("GREATEST(1, 1 / 0)", "error 22012"), ("CONCAT('a', 1 / 0)", "error 22012"),
    ("CASE 1 / 0 WHEN 1 THEN 'a' ELSE 'b' END", "error 22012"), ("LENGTH(CAST(1 / 0 AS TEXT))", "error 22012"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), ERRORS, ids=[case[0] for case in ERRORS])
def test_an_error_is_data_and_follows_the_order_of_evaluation(
    text: str, expected: str, figures: Any
) -> None:
    """As constants, and as the rows of a column."""
    assert outcome(text) == expected
    write("t.csv", "zero\n0\n0\n")
    view = shown(figures("look", "t.csv", "--show", text.replace("/ 0", "/ zero") + " AS made"))
    told = [f"error {row[2]['error']}" if isinstance(row[2], dict) else row[2] for row in view]
    values = {"TRUE": True, "FALSE": False, "'a'": "a", "1.0000000000000000": "1.0000000000000000"}
    assert told == [values.get(expected, expected)] * 2


def test_columns_may_be_called_as_keywords_are(figures: Any) -> None:
    names = [
        "date",
        "value",
        "first",
        "last",
        "rows",
        "format",
        "position",
        "start",
        "second",
        "time",
        "trim",
        "nulls",
        "flag",
        "interval",
    ]
    write("t.csv", ",".join(names) + "\n" + ",".join(str(n) for n in range(len(names))) + "\n")
    view = figures(
        "look",
        "t.csv",
        "--show",
        " + ".join(names) + " AS total",
        "--sort",
        "first, last DESC NULLS LAST",
    )
    assert shown(view)[0][-1] == sum(range(len(names)))
    assert shown(
        figures("look", "t.csv", "--show", "DATE '2024-05-31' AS d", "--show", "date + 1 AS e")
    )[0][1:3] == [0, 1]


def test_vectors_put_together_from_parts_are_whole() -> None:
    from gravel.engine.vector import Vector, assemble, first_error, vector

    dice = np.random.default_rng(3)
    for _ in range(30):
        count = int(dice.integers(1, 40))
        owner = dice.integers(0, 4, count)
        values = dice.integers(0, 9, count)
        errors = np.where(dice.random(count) < 0.2, 3, 0).astype(np.uint8)
        pieces = []
        for part in range(4):
            rows = np.flatnonzero(owner == part)
            pieces.append(
                (rows, vector(pa.array(values[rows]), errors[rows] if part % 2 else None))
            )
        made = assemble(count, pieces, pa.int64())
        expected = np.where(owner % 2, errors, 0)
        assert made.failed(count).tolist() == (expected != 0).tolist()
        assert [
            None if bad else int(value) for bad, value in zip(expected, values, strict=True)
        ] == made.values.to_pylist()
    left, right = (
        Vector(pa.nulls(3, pa.int64()), np.array(codes, np.uint8))
        for codes in ([0, 1, 0], [2, 2, 0])
    )
    merged = first_error([left, right], 3)
    assert merged is not None
    assert merged.tolist() == [2, 1, 0]


@settings(max_examples=60)
@given(
    rows=st.lists(
        st.tuples(st.none() | st.sampled_from(["a", "B", "é", ""]), st.none() | st.integers(-3, 3)),
        min_size=1,
        max_size=25,
    ),
    sort=st.sampled_from(
        [
            "t",
            "t DESC",
            "n NULLS FIRST, t",
            "n DESC NULLS LAST",
            "t DESC NULLS LAST, n DESC",
            "UPPER(t), n",
        ]
    ),
    limit=st.integers(1, 8),
)
def test_look_sorts_as_it_is_told_and_keeps_ties_in_source_order(
    rows: Any, sort: str, limit: int, tmp_path_factory: Any
) -> None:
    from gravel.inspecting.look import look
    from gravel.sources.csv import reader

    path = tmp_path_factory.mktemp("sort") / "t.csv"
    write(
        path,
        "t,n\n"
        + "".join(
            f"{'' if t is None else chr(34) + t + chr(34)},{'' if n is None else n}\n"
            for t, n in rows
        ),
    )
    view = look(
        reader.CsvSource(path, reading=ReadOptions(texts=tuple("t"), header=1)),
        sort=sort,
        rows=limit,
    )
    order = list(range(len(rows)))
    for key in reversed(sort.split(", ")):
        column, descending = key.split(" ")[0], "DESC" in key
        nulls_first = "FIRST" in key or (descending and "LAST" not in key)
        value = (
            [(t.upper() if column == "UPPER(t)" else t) if t is not None else None for t, _ in rows]
            if "t" in column
            else [n for _, n in rows]
        )
        known = [row for row in order if value[row] is not None]
        groups = sorted({value[row] for row in known}, reverse=descending)  # type: ignore[type-var]
        ranked = [row for one in groups for row in known if value[row] == one]
        missing = [row for row in order if value[row] is None]
        order = missing + ranked if nulls_first else ranked + missing
    assert [row - 1 for row in view.row_numbers] == order[:limit]


def test_left_behind_rows_are_found_again_by_their_number(figures: Any) -> None:
    """What a plan rejected, looked up by gravel_row, is the source's row as it came into its step."""
    write("t.csv", "id,v\n" + "".join(f"{n},{n % 7 - 3}\n" for n in range(1, 200)))
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { w = "12 / v" }\non_error = "set aside"\n[[step]]\ndrop_rows = "v > 1"\n',
    )
    done = figures("clean", "p.toml")
    left = parsed(Path("o-rejects.csv").read_text())
    head, rows = left[0], [dict(zip(left[0], row, strict=True)) for row in left[1:]]
    assert [row["gravel_row"] for row in rows] == sorted(
        (row["gravel_row"] for row in rows), key=lambda text: int(str(text))
    )
    for row in rows:
        source = int(str(row["gravel_row"]))
        assert row["id"] == str(source)
        assert int(str(row["v"])) == source % 7 - 3
        assert row["gravel_step"] == ("1" if row["v"] == "0" else "2")
    assert head[-1] == "w"
    assert done["rows_out"] + len(rows) == 199
    assert (
        sum(row["gravel_outcome"] == "set aside" for row in rows) == done["steps"][1]["set_aside"]
    )


def test_imports_go_from_the_command_line_down_without_circles() -> None:
    """ARCHITECTURE.md: the tiers, the terminal's libraries in cli and render alone, and no module that needs itself."""
    package = Path(gravel.__file__).parent
    tiers = [
        "cli __main__ api",
        "render",
        "demo results",
        "plans profiling duplicates comparing querying inspecting",
        "spark",
        "sinks stores sources ledger",
    ]
    tiers += [
        "engine",
        "language",
        "kernels",
        "problems hidden lazily library_imports packaged words version figures __init__",
    ]
    tier_of = {name: rank for rank, names in enumerate(tiers) for name in names.split()}
    modules = {
        ".".join(path.relative_to(package.parent).with_suffix("").parts).removesuffix(
            ".__init__"
        ): path
        for path in package.rglob("*.py")
    }
    needs: dict[str, set[str]] = {}
    for module, path in modules.items():
        if module == "gravel":
            continue  # the public face, whose names are loaded when they are used
        part = [*module.split("."), "__init__"][1]
        assert part in tier_of, f"{module} has no tier"
        tree = ast.parse(path.read_text("utf-8"))
        froms = [node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)]
        named = {
            alias.name
            for node in ast.walk(tree)
            if isinstance(node, ast.Import)
            for alias in node.names
        }
        named |= {f"{node.module}.{alias.name}" for node in froms for alias in node.names}
        outside = {"rich", "typer"} & {name.split(".")[0] for name in named}
        assert outside <= {"cli": {"rich", "typer"}, "render": {"rich"}}.get(part, set()), module
        inside = {
            name if name in modules else name.rpartition(".")[0]
            for name in named
            if name.split(".")[0] == "gravel"
        }
        upward = [
            name for name in inside if tier_of[[*name.split("."), "__init__"][1]] < tier_of[part]
        ]
        assert not upward, f"{module} imports {upward}"
        needs[module] = inside - {"gravel"}
    assert len(tuple(graphlib.TopologicalSorter(needs).static_order())) == len(
        needs
    )  # a circle is raised by its names
