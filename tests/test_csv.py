"""ReadOptions and writing CSV: NULL beside '', malformed records by row and line, types as a view on the texts."""

from __future__ import annotations

import random
import re
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, shown, write
from gravel.sources.read_options import ReadOptions

MALFORMED = 'a,b\n1,2\n3\n4,5,6\n"x"y,2\n"open,3\n7,8\n\n9,"q""r"\n10,"two\nlines"\n'


def test_malformed_records_are_counted_with_row_and_line_and_are_no_rows(
    gravel: Any, figures: Any
) -> None:
    write("m.csv", MALFORMED)
    assert figures("count", "m.csv")["tables"] == [
        {
            "table": "m.csv",
            "rows": 4,
            "columns": 2,
            "malformed": 5,
            "read": {"delimiter": ",", "encoding": "utf-8", "empty": "text"},
            "distinct": [],
            "keys": [],
            "totals": [],
            "store_key": None,
            "not_null": [],
            "where": None,
        }
    ]
    for command in (
        ("count", "m.csv"),
        ("look", "m.csv"),
        ("profile", "m.csv"),
        ("try", "m.csv", "b = UPPER(b)"),
    ):
        told = gravel(*command).err
        for line in (
            "row 2, line 3: 1 field where the header has 2",
            "row 3, line 4: 3 fields where the header has 2",
            "row 4, line 5: text after a closing quote",
            "row 5, line 6: a quote is not closed",
            "row 7, line 8: an empty line",
        ):
            assert line in told
    assert shown(figures("look", "m.csv")) == [
        [1, 1, "2"],
        [6, 7, "8"],
        [8, 9, 'q"r'],
        [9, 10, "two\nlines"],
    ]


@pytest.mark.parametrize("block", [7, 16, 64, 4096])
def test_pieces_do_not_change_what_is_read(block: int, figures: Any, monkeypatch: Any) -> None:
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", block)
    write("m.csv", MALFORMED)
    view = figures("look", "m.csv")
    assert (view["rows"], view["malformed"]) == (4, 5)
    assert shown(view) == [[1, 1, "2"], [6, 7, "8"], [8, 9, 'q"r'], [9, 10, "two\nlines"]]


@pytest.mark.parametrize(
    ("text", "options", "rows"),
    [
        ("a;b\n1,5;x\n2,5;y\n", (), [[1, "1,5", "x"], [2, "2,5", "y"]]),
        ("a\tb\n1\t2\n", (), [[1, 1, 2]]),
        ("a|b\n1|2\n", (), [[1, 1, 2]]),
        ("a~b\n1~2\n", ("--delimiter", "~"), [[1, 1, 2]]),
        ("\ufeffa,b\r\n1,\r\n2,\"\"\r\n", (), [[1, 1, None], [2, 2, ""]]),
        ("a,b\r1,x\r2,y", (), [[1, 1, "x"], [2, 2, "y"]]),
        ('a\n1\n\n""\nx\n', (), [[1, "1"], [2, None], [3, ""], [4, "x"]]),
        ('a,b\n1,""\n2,\n', ("--empty", "null"), [[1, 1, None], [2, 2, None]]),
        ("a,b\n1,Möwe\n".encode("latin-1"), ("--encoding", "latin-1"), [[1, 1, "Möwe"]]),
        ("a,b\n1,ü\n".encode("utf-16"), (), [[1, 1, "ü"]]),
        ("a,b\n", (), []),
        ("a,b", (), []),
    ],
)  # fmt: skip
def test_dialects(
    text: str | bytes, options: tuple[str, ...], rows: list[Any], figures: Any
) -> None:
    write("t.csv", text)
    assert shown(figures("look", "t.csv", *options)) == rows


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "has no header line"),
        ("\n", "has no header line"),
        ('"a,b\n1,2\n', "header line"),
        ("a,b\n1,x\n2,Möwe\n".encode("latin-1"), "t.csv:3:4: byte 0xF6 is not valid in UTF-8"),
    ],
)
def test_what_cannot_be_read_is_told_with_its_place(
    text: str | bytes, told: str, gravel: Any
) -> None:
    write("t.csv", text)
    assert told in gravel("count", "t.csv", status=3).err


def test_a_folder_a_missing_file_and_a_near_name(gravel: Any, folder: Path) -> None:
    write("boats.csv", "a\n1\n")
    (folder / "sub").mkdir()
    assert "is a folder" in gravel("count", "sub", status=3).err
    write("boats.toml", "")
    assert "did you mean boats.csv?" in gravel("look", "boat.csv", status=3).err
    assert "did you mean sub/../boats.csv?" in gravel("count", "sub/../boat.parquet", status=3).err
    assert "did you mean" not in gravel("look", "owners.csv", status=3).err


def test_types_are_a_view_found_from_all_rows(figures: Any) -> None:
    columns = {
        "i": "1 -7 0", "code": "007 8 9", "plus": "+5 6 7", "minus_zero": "-0 1 2", "exponent": "1e3 2 3", "phone": "0555 1 2",
        "mixed": "12 12.50 -3.1", "date": "2024-02-29 0001-01-01 9999-12-31", "no_day": "2023-02-29 2024-01-01 2024-01-02",
        "time": "2024-01-01T10:00:00 2024-01-01T11:00:00.5 2024-01-01T12:00:00", "truth": "true false true", "cased": "True false TRUE", "odd": "tRUE false true",
        "grouped": "1.000.000 2 3", "long": "9223372036854775808 1 2", "void": "  ",
    }  # fmt: skip
    rows = zip(*(values.split(" ") for values in columns.values()), strict=True)
    write("t.csv", ",".join(columns) + "\n" + "\n".join(",".join(row) for row in rows) + "\n")
    assert figures("look", "t.csv")["types"] == {
        "i": "INTEGER", "code": "TEXT", "plus": "TEXT", "minus_zero": "TEXT", "exponent": "TEXT", "phone": "TEXT", "mixed": "DECIMAL",
        "date": "DATE", "no_day": "TEXT", "time": "TIMESTAMP", "truth": "BOOLEAN", "cased": "BOOLEAN", "odd": "TEXT", "grouped": "TEXT", "long": "DECIMAL",
        "void": "TEXT",
    }  # fmt: skip
    cased = [row["values"]["cased"] for row in figures("look", "t.csv")["shown"]]
    assert cased == [True, False, True]
    assert figures("look", "t.csv", "--text", "i")["types"]["i"] == "TEXT"
    write("space.csv", "s\n 7\n8\n")
    assert figures("look", "space.csv")["types"] == {"s": "TEXT"}


FIELDS = (
    st.none()
    | st.text(st.sampled_from("ab \",;\n\r\t'é😀\x00\u200b"), max_size=6)
    | st.sampled_from(["1", "1.50", "007", "NULL", "2024-01-01"])
)


@settings(max_examples=150)
@given(data=st.data())
def test_a_plan_without_steps_gives_back_every_value_exactly(
    data: Any, tmp_path_factory: Any
) -> None:
    """Any table, written by this test's own rule, is read and written back value by value, NULL and '' included."""
    from gravel.plans.loading import read_plan
    from gravel.plans.run import clean

    width = data.draw(st.integers(1, 4))
    rows = data.draw(st.lists(st.lists(FIELDS, min_size=width, max_size=width), max_size=12))
    end, delimiter = (
        data.draw(st.sampled_from(["\n", "\r\n"])),
        data.draw(st.sampled_from([",", ";", "\t"])),
    )

    def field(value: str | None) -> str:
        if value is None:
            return ""
        must = value == "" or any(sign in value for sign in f'"\r\n{delimiter}')
        return '"' + value.replace('"', '""') + '"' if must or random.random() < 0.3 else value

    text = (
        end.join(
            delimiter.join(map(field, row)) for row in [[f"c{at}" for at in range(width)], *rows]
        )
        + end
    )
    folder = tmp_path_factory.mktemp("round")
    write(folder / "t.csv", text)
    write(
        folder / "p.toml",
        f'table = "t.csv"\nwrite = "o.csv"\ndelimiter = "{"tab" if delimiter == chr(9) else delimiter}"\n',
    )
    run = clean(read_plan(folder / "p.toml"))
    assert run.good, run
    written = (folder / "o.csv").read_bytes().decode("utf-8")
    assert parsed(written, delimiter)[1:] == rows


def test_a_guessed_type_that_a_later_row_refutes_is_found_out(
    gravel: Any, figures: Any, monkeypatch: Any
) -> None:
    """A plan binds to the types of the first rows; a value further on that has another begins the run anew."""
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 40)
    rows = [f"{n},{n}.5" for n in range(1, 60)]
    write("t.csv", "id,x\n" + "\n".join([*rows, "60,7.125"]) + "\n")
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\nkey = ["id"]\n[[step]]\nset = { y = "x * 2" }\n',
    )
    assert figures("clean", "p.toml")["rows_out"] == 60
    made = parsed(Path("o.csv").read_text())
    assert made[1] == ["1", "1.5", "3.000"]
    assert made[60] == ["60", "7.125", "14.250"]
    write("t.csv", "id,x\n" + "\n".join([*rows, "60,seven"]) + "\n")
    told = gravel("clean", "p.toml", status=2).err
    assert "p.toml:5" in told
    assert "write CAST(x AS DECIMAL)" in told


PIECES = st.sampled_from(['a', '1', ',', ',', '\n', '\n', '\r\n', '\r', '"', '"', '""', '5" nail', '"x\ny"', '"p,\n\nq"', 'é'])  # fmt: skip


def _read(path: Path) -> list[tuple[Any, ...]]:
    """Rows by number, their values; malformed records by number, line, fault."""
    from gravel.sources.csv.reader import CsvSource
    from gravel.sources.source import scan

    table, made = CsvSource(path, "t.csv", ReadOptions(",", header=1)), []
    for batch in scan(table, lambda batch: batch):
        made += [
            (int(row), *values)
            for row, *values in zip(
                batch.rows, *(column.to_pylist() for column in batch.columns), strict=True
            )
        ]
        made += [(one.row, one.line, one.fault) for one in batch.malformed]
    return sorted(made, key=lambda one: one[0])


@settings(max_examples=300)
@given(parts=st.lists(PIECES, max_size=30), width=st.integers(1, 3), block=st.integers(1, 40))
def test_where_blocks_end_does_not_matter_whatever_the_quotes(
    parts: list[str], width: int, block: int, tmp_path_factory: Any
) -> None:
    import csv
    import io

    path = tmp_path_factory.mktemp("blocks") / "t.csv"
    text = "".join(parts)
    write(path, ",".join(f"c{at}" for at in range(width)) + "\n" + text)
    with pytest.MonkeyPatch.context() as patch:
        whole = _read(path)
        patch.setattr("gravel.sources.csv.splitter.BLOCK", block)
        assert _read(path) == whole
    assert [one[0] for one in whole] == list(range(1, len(whole) + 1))
    # Python's csv, where every quote stands as RFC 4180 has it, every record is as wide and none is empty.
    plain = re.fullmatch(r'(?:(?:"(?:[^"]|"")*"|[^",\r\n]*)(?:,|\r\n|\n|\r|\Z))*', text)
    rows = list(csv.reader(io.StringIO(text, newline=""))) if plain else []
    if (
        plain
        and all(len(row) == width for row in rows)
        and (width > 1 or "" not in [row[0] for row in rows])
    ):
        assert [[value or "" for value in one[1:]] for one in whole] == rows


def test_a_field_beyond_the_limit_is_told_and_never_read_as_records(
    gravel: Any, figures: Any, monkeypatch: Any
) -> None:
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 64)
    monkeypatch.setattr("gravel.sources.csv.splitter.FIELD_LIMIT", 1000)
    write("t.csv", 'a,b\n1,"' + "x\n" * 2000 + '"\n2,y\n')
    assert "the quoted field in line 2" in gravel("count", "t.csv", status=3).err
    write(
        "t.csv", 'a,b\n1,"5 inch\n' + "2,x\n" * 2000
    )  # a quote that is never closed costs one record
    counted = figures("count", "t.csv")["tables"][0]
    assert (counted["rows"], counted["malformed"]) == (2000, 1)


def test_one_column_keeps_its_rows_apart_beside_malformed_ones(figures: Any) -> None:
    write("t.csv", 'a\nx\r"b"c\n\ny\n')
    assert figures("count", "t.csv")["tables"][0]["rows"] == 3
    assert shown(figures("look", "t.csv")) == [[1, "x"], [3, None], [4, "y"]]
    assert figures("profile", "t.csv")["rows"] == 3
