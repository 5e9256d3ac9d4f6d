"""Whatever an analyst is sent: the count is right, or the refusal names the option that opens it; with that option every cell
is what an independent reader has."""

from __future__ import annotations

import bz2
import contextlib
import csv
import gzip
import io
import json
import lzma
import zipfile
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write

ROWS = [["id", "name", "fee"], ["1", "Skua", "2.50"], ["2", "Blå Tern", "3"], ["3", "Gull", "4.25"]]
TABLE = "".join(",".join(row) + "\n" for row in ROWS)
XLSX = "book.xlsx"


def zipped(**files: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, text in files.items():
            archive.writestr(name.replace("_", "."), text)
    return out.getvalue()


def workbook(*sheets: list[list[Any]]) -> bytes:
    import openpyxl

    book = openpyxl.Workbook()
    book.remove(book.active)
    for number, rows in enumerate(sheets, 1):
        sheet = book.create_sheet(f"Sheet{number}")
        for row in rows:
            sheet.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


NUMBERS = [["id", "name", "fee"], [1, "Skua", 2.5], [2, None, 3], [3, "Gull", 4.25]]
# A file, the words of the refusal ('' where it is read at once), the options that it names or that read it, and its cells.
KINDS: dict[str, tuple[str, bytes | str, str, list[str], list[list[str | None]]]] = {
    "plain": ("t.csv", TABLE, "", [], ROWS),
    "BOM": ("t.csv", "\ufeff" + TABLE, "", [], ROWS),
    "CRLF": ("t.csv", TABLE.replace("\n", "\r\n"), "", [], ROWS),
    "CR": ("t.csv", TABLE.replace("\n", "\r"), "", [], ROWS),
    "semicolons": ("t.csv", TABLE.replace(",", ";"), "", [], ROWS),
    "tabs": ("t.tsv", TABLE.replace(",", "\t"), "", [], ROWS),
    "bars": ("t.txt", TABLE.replace(",", "|"), "", [], ROWS),
    "another sign": ("t.csv", TABLE.replace(",", "^"), "", ["--delimiter", "^"], ROWS),
    "sep=": ("t.csv", "sep=;\n" + TABLE.replace(",", ";"), "", [], ROWS),
    "no header": ("t.csv", TABLE.partition("\n")[2], "--header none", ["--header", "none"], [["c1", "c2", "c3"], *ROWS[1:]]),
    "no header, days": ("t.csv", "2024-01-01,a\n2024-01-02,b\n", "--header none", ["--header", "none"], [["c1", "c2"], ["2024-01-01", "a"], ["2024-01-02", "b"]]),
    "no header, rows that come again": ("t.csv", "2.5,.9\n2.5,.9\n", "--header none", ["--header", "none"], [["c1", "c2"], ["2.5", ".9"], ["2.5", ".9"]]),
    "no header, words": ("t.csv", "open,Bay\nshut,Bay\nopen,Nes\n", "--header none", ["--header", "none"], [["c1", "c2"], ["open", "Bay"], ["shut", "Bay"], ["open", "Nes"]]),
    "numbers for names": ("t.csv", "1,2,x\n5,6,a\n7,8,b\n", "--header 1", ["--header", "1"], [["1", "2", "x"], ["5", "6", "a"], ["7", "8", "b"]]),
    "years for names": ("t.csv", "town,2019,2020\nBay,1,2\nNes,3,4\n", "", [], [["town", "2019", "2020"], ["Bay", "1", "2"], ["Nes", "3", "4"]]),
    "files put together": ("t.csv", "a,b\nx,y\na,b\nz,w\n", "", [], [["a", "b"], ["x", "y"], ["a", "b"], ["z", "w"]]),
    "a title": ("t.csv", "Harbour list\n" + TABLE, "--skip 1", ["--skip", "1"], ROWS),
    "a title and an empty line": ("t.csv", "Harbour list 2024\n\n" + TABLE, "--skip 2", ["--skip", "2"], ROWS),
    "a title, by the header's line": ("t.csv", "Harbour list\n\n" + TABLE, "--skip 2", ["--header", "3"], ROWS),
    "two lines of a report": ("t.csv", "made,Monday\nby,Ines\n" + TABLE, "--skip 2", ["--skip", "2"], ROWS),
    "comments": ("t.csv", "# by hand\n" + TABLE + "# end\n", "--comment '#'", ["--comment", "#"], ROWS),
    "comments inside": ("t.csv", TABLE.replace("2,B", "#no\n2,B") + '4,"a\n#b",5\n', "", ["--comment", "#"], [*ROWS, ["4", "a\n#b", "5"]]),
    "another quote": ("t.csv", "id,name\n1,'a,b'\n2,'say \"hi\"'\n3,'it''s'\n", "", ["--quote", "'"], [["id", "name"], ["1", "a,b"], ["2", 'say "hi"'], ["3", "it's"]]),
    "no quote": ("t.csv", 'id,name\n1,"Skua" x\n2,5"\n3,"a\n', "", ["--quote", "none"], [["id", "name"], ["1", '"Skua" x'], ["2", '5"'], ["3", '"a']]),
    "NA": ("t.csv", "id,age\n1,NA\n2,33\n3,NA\n4,35\n5,\"NA\"\n", "", ["--null", "NA"], [["id", "age"], ["1", None], ["2", "33"], ["3", None], ["4", "35"], ["5", "NA"]]),
    "NULL and \\N": ("t.csv", "id,age\n1,NULL\n2,\\N\n3,7\n", "", ["--null", "NULL", "--null", "\\N"], [["id", "age"], ["1", None], ["2", None], ["3", "7"]]),
    "empty in quotes": ("t.csv", 'id,name\n1,""\n2,\n', "", ["--empty", "null"], [["id", "name"], ["1", None], ["2", None]]),
    "decimal commas": ("t.csv", "id;fee\n1;1.234,50\n2;12,5\n3;7\n", "", ["--decimal", ",", "--group", "."], [["id", "fee"], ["1", "1234.50"], ["2", "12.5"], ["3", "7"]]),
    "grouped": ("t.csv", 'id,fee\n1,"1,234.50"\n2,"12,000"\n', "", ["--group", ","], [["id", "fee"], ["1", "1234.50"], ["2", "12000"]]),
    "days": ("t.csv", "id,day\n1,31.12.2024\n2,01.02.2024\n", "", ["--dates", "DD.MM.YYYY"], [["id", "day"], ["1", "2024-12-31"], ["2", "2024-02-01"]]),
    "days of two templates": ("t.csv", "a,b\n31.12.2024,12/31/2024\n,01/02/2024\n", "", ["--dates", "DD.MM.YYYY", "--dates", "MM/DD/YYYY"], [["a", "b"], ["2024-12-31", "2024-12-31"], [None, "2024-01-02"]]),
    "blanks": ("t.txt", "id name fee\n1 Skua 2.5\n2 Tern 3\n", "--delimiter space", ["--delimiter", "space"], [["id", "name", "fee"], ["1", "Skua", "2.5"], ["2", "Tern", "3"]]),
    "blanks and quotes": ("t.txt", '"id" "name"\n1 "Sea Bird"\n2 "Tern"\n', "--delimiter space", ["--delimiter", "space"], [["id", "name"], ["1", "Sea Bird"], ["2", "Tern"]]),
    "fixed width": ("t.txt", "id    name     fee\n1     Sea Bird 2.5\n2     Tern     3\n", "--delimiter 1,7,16", ["--delimiter", "1,7,16"], [["id", "name", "fee"], ["1", "Sea Bird", "2.5"], ["2", "Tern", "3"]]),
    "a header short by one": ("t.csv", "speed,dist\nr1,4,2\nr2,7,4\n", "--header none --skip 1", ["--header", "none", "--skip", "1"], [["c1", "c2", "c3"], ["r1", "4", "2"], ["r2", "7", "4"]]),
    "a nameless column": ("t.csv", ",speed\n1,4\n2,4\n", "", [], [["c1", "speed"], ["1", "4"], ["2", "4"]]),
    "a name twice": ("t.csv", "a,a,a_2\n1,2,3\n", "", [], [["a", "a_3", "a_2"], ["1", "2", "3"]]),
    "blanks around names": ("t.csv", "id , name\n1,2\n", "", [], [["id", "name"], ["1", "2"]]),
    "a long name": ("t.csv", "id," + "x" * 300 + "\n1,2\n", "", [], [["id", "x" * 60 + "…"], ["1", "2"]]),
    "latin-1": ("t.csv", TABLE.encode("latin-1"), "--encoding cp1252", ["--encoding", "latin-1"], ROWS),
    "UTF-16": ("t.csv", TABLE.encode("utf-16"), "", [], ROWS),
    "UTF-16 without BOM": ("t.csv", TABLE.encode("utf-16-le"), "--encoding utf-16-le", ["--encoding", "utf-16-le"], ROWS),
    "UTF-16 BE without BOM": ("t.csv", TABLE.encode("utf-16-be"), "--encoding utf-16-be", ["--encoding", "utf-16-be"], ROWS),
    "gzip": ("t.csv.gz", gzip.compress(TABLE.encode()), "", [], ROWS),
    "bzip2": ("t.csv.bz2", bz2.compress(TABLE.encode()), "", [], ROWS),
    "xz": ("t.csv.xz", lzma.compress(TABLE.encode()), "", [], ROWS),
    "zip": ("t.zip", zipped(t_csv=TABLE), "", [], ROWS),
    "zip, skipped": ("t.zip", zipped(t_csv="x\n\n" + TABLE), "--skip 2", ["--skip", "2"], ROWS),
    "two in a zip": ("t.zip", zipped(t_csv=TABLE, u_csv=TABLE), "holds 2 files", [], []),
    "cut xz": ("t.csv.xz", lzma.compress(TABLE.encode())[:-9], "cannot be read", [], []),
    "JSON array": ("t.json", '[{"id":1,"name":"Skua","x":[1,{"a":2.50}]},\n {"id":2,"name":null}]', "", [], [["id", "name", "x"], ["1", "Skua", '[1, {"a": 2.50}]'], ["2", None, None]]),
    "empty JSON array": ("t.json", "[]", "has no object", [], []),
    "JSON Lines in .json": ("t.json", '{"id":1}\n{"id":2}\n', "", [], [["id"], ["1"], ["2"]]),
    "JSON Lines": ("t.jsonl", '{"id":1}\n{"id":2}\n', "", [], [["id"], ["1"], ["2"]]),
    "ndjson": ("t.ndjson", '{"id":1}\n', "", [], [["id"], ["1"]]),
    "a JSON object": ("t.json", '{\n "rows": [1]\n}', "is not an array of objects", [], []),
    "a broken array": ("t.json", '[{"id":1},\n{"id":', "t.json:2", [], []),
    "JSON as CSV": ("t.csv", '[{"id":1},{"id":2}]', "name it .json", [], []),
    "JSON Lines as CSV": ("t.csv", '{"id":1}\n{"id":2}\n', "name it .jsonl", [], []),
    "HTML": ("t.csv", "<!DOCTYPE html><table></table>", "an HTML page", [], []),
    "XML": ("t.csv", "<?xml version='1.0'?><a/>", "is XML", [], []),
    "a workbook as CSV": ("t.csv", workbook(NUMBERS), "as Excel workbooks are", [], []),
    "an old workbook": ("t.csv", b"\xd0\xcf\x11\xe0" + b"\0" * 600, ".xls", [], []),
    "PDF": ("t.csv", b"%PDF-1.7\n", "a PDF document", [], []),
    "Parquet as CSV": ("t.csv", b"PAR1" + b"\0" * 99, "name it .parquet", [], []),
    "SQLite as CSV": ("t.csv", b"SQLite format 3\0" + b"\0" * 99, "name it .db", [], []),
    "gzip as CSV": ("t.csv", gzip.compress(TABLE.encode()), "name it .csv.gz", [], []),
    "a workbook": (XLSX, workbook(NUMBERS), "", [], [["id", "name", "fee"], ["1", "Skua", "2.5"], ["2", None, "3"], ["3", "Gull", "4.25"]]),
    "a workbook with a title": (XLSX, workbook([["Boats"], [], *NUMBERS]), "", ["--skip", "2"], [["id", "name", "fee"], ["1", "Skua", "2.5"], ["2", None, "3"], ["3", "Gull", "4.25"]]),
    "a sheet": (f"{XLSX}#Sheet2", workbook([["x"], [1]], NUMBERS), "", [], [["id", "name", "fee"], ["1", "Skua", "2.5"], ["2", None, "3"], ["3", "Gull", "4.25"]]),
    "a range": (f"{XLSX}#Sheet1!B2:C4", workbook([["x", "y", "z"], *NUMBERS]), "", [], [["name", "fee"], ["Skua", "2.5"], [None, "3"]]),
    "a sheet that is not there": (f"{XLSX}#Shet1", workbook(NUMBERS), "did you mean Sheet1?", [], []),
    "not a workbook": (XLSX, b"PK\x03\x04nothing", "is not a workbook", [], []),
}  # fmt: skip


def cells(gravel: Any, reference: str, options: list[str]) -> list[list[str | None]]:
    """What is read, as texts; None for NULL: told apart by what is_null says."""
    told = gravel("look", reference, "--rows", "all", "--format", "json", *options).json
    names = list(told["types"])
    return [names, *([_text(row["values"][name]) for name in names] for row in told["shown"])]


def _text(value: Any) -> str | None:
    return None if value is None else str(value)


@pytest.mark.parametrize("kind", KINDS)
def test_every_table_opens_or_says_how(kind: str, gravel: Any, folder: Path) -> None:
    reference, content, refusal, options, expected = KINDS[kind]
    write(reference.partition("#")[0], content)
    if refusal:
        told = gravel("count", reference, status=None)
        assert told.status in (2, 3), (told.out, told.err)
        assert refusal in told.err
    if expected:
        counted = gravel("count", reference, "--format", "json", *options).json["tables"][0]
        assert (counted["rows"], counted["columns"], counted["malformed"]) == (
            len(expected) - 1,
            len(expected[0]),
            0,
        )
        found = cells(gravel, reference, options)
        numbers = [[_plain(cell) for cell in row] for row in found]
        assert numbers == [[_plain(cell) for cell in row] for row in expected]


def _plain(cell: str | None) -> Any:
    """Numbers by value: 2.50 is 2.5."""
    try:
        return float(cell) if cell is not None else None
    except ValueError:
        return cell


def test_reading_is_the_same_in_a_plan_a_query_the_record_and_from_python(
    gravel: Any, figures: Any, folder: Path
) -> None:
    import gravel as library

    text = "Boats\n\nid;fee;day;note\n1;1.234,50;31.12.2024;NA\n# no\n2;12,5;01.02.2024;x\n"
    write("t.csv", text)
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\n[read]\nskip = 2\ncomment = "#"\ndecimal = ","\ngroup = "."\n'
        'dates = "DD.MM.YYYY"\nnull = ["NA"]\ndelimiter = ";"\n[[step]]\nset = { fee = "fee * 2" }\n',
    )
    gravel("clean", "p.toml")
    with open("o.csv", newline="", encoding="utf-8") as file:
        assert list(csv.reader(file, delimiter=";")) == [
            ["id", "fee", "day", "note"],
            ["1", "2469.00", "2024-12-31", ""],
            ["2", "25.00", "2024-02-01", "x"],
        ]
    reading = json.loads(Path("o.record.json").read_text())["inputs"][0]["reading"]
    assert {"skip": 2, "comment": "#", "decimal": ",", "null": ["NA"]}.items() <= reading.items()
    gravel("verify", "o.record.json", "--rerun")
    table = (
        "b=t.csv;skip=2;comment=#;decimal=,;group=.;dates=DD.MM.YYYY;null=NA;delimiter=semicolon"
    )
    told = figures(
        "query", "SELECT SUM(fee) AS s, MAX(day) AS d, COUNT(note) AS n FROM b", "--table", table
    )
    assert told["rows"] == [["1247.00", "2024-12-31", 1]]
    options = {
        "skip": 2,
        "comment": "#",
        "decimal": ",",
        "group": ".",
        "dates": "DD.MM.YYYY",
        "null": "NA",
    }
    read = library.open_table("t.csv", **options)
    assert read.check("fee > 12", "day < DATE '2025-01-01'").to_dict()["checks"][0]["passed"]
    asked = [word for name, value in options.items() for word in (f"--{name}", str(value))]
    see = figures("profile", "t.csv", *asked)["findings"]
    assert all("--skip 2" in one["see"] for one in see if one["see"])
    # Keys that stood outside [read] once are read, with a note; what is wrong has its line.
    write(
        "q.toml",
        'table = "t.csv"\nwrite = "q.csv"\ndelimiter = ";"\nempty = "null"\n[read]\nskip = 2\n',
    )
    told = gravel("clean", "q.toml", "--dry-run", status=None)
    assert "q.toml:3: delimiter stands in [read] now" in told.err
    write("q.toml", 'table = "t.csv"\nwrite = "q.csv"\n[read]\nskipp = 2\n')
    assert "did you mean skip?" in gravel("clean", "q.toml", status=2).err
    for option, value, words in (
        ("--header", "x", "line of the names"), ("--skip", "-1", "a number of lines"), ("--quote", "ab", "one sign"),
        ("--delimiter", "ab", "is one character"), ("--delimiter", "9,3", "one after another"), ("--decimal", "3", "one sign"),
        ("--group", ".", "group digits too"), ("--dates", "DD.QQ", "template"), ("--skip", "99", "fewer than 99 lines"), ("--empty", "x", "text or null"),
    ):  # fmt: skip
        told = gravel("count", "t.csv", option, value, status=None)
        assert told.status in (2, 3), (option, value, told.out)
        assert words in told.err, (option, told.err)


FIELDS = st.text(st.sampled_from("ab,;'\"#\n \té0"), max_size=5)


@settings(max_examples=60, deadline=None)
@given(
    rows=st.lists(st.lists(FIELDS, min_size=2, max_size=2), min_size=1, max_size=6),
    quote=st.sampled_from("'\""),
    end=st.sampled_from(["\n", "\r\n"]),
)
def test_delimited_text_is_read_as_pythons_csv_reads_it(
    tmp_path_factory: Any, rows: list[list[str]], quote: str, end: str
) -> None:
    from gravel.sources.opening import open_table
    from gravel.sources.read_options import ReadOptions
    from gravel.sources.source import scan

    path = tmp_path_factory.mktemp("csv") / "t.csv"
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, quotechar=quote, quoting=csv.QUOTE_ALL, lineterminator=end)
        writer.writerows([["x", "y"], *rows])
    source = open_table(str(path), ReadOptions(",", quote=quote, header=1, texts=("x", "y")))
    batches = list(scan(source, lambda batch: batch))
    found = [
        list(row)
        for batch in batches
        for row in zip(*(c.to_pylist() for c in batch.columns), strict=True)
    ]
    with open(path, newline="", encoding="utf-8") as file:
        assert found == list(csv.reader(file, quotechar=quote))[1:]
    assert not any(batch.malformed for batch in batches)


VALUES = (
    st.none()
    | st.integers(-(10**9), 10**9)
    | st.floats(-1e6, 1e6).map(lambda x: round(x, 3))
    | st.booleans()
    | st.text(st.characters(min_codepoint=32, max_codepoint=0x2FF), max_size=8)
)


@settings(max_examples=40, deadline=None)
@given(rows=st.lists(st.tuples(VALUES, VALUES), max_size=8), cut=st.integers(0, 400))
def test_json_and_workbooks_are_read_as_their_own_readers_read_them(
    tmp_path_factory: Any, rows: list[tuple[Any, Any]], cut: int
) -> None:
    import openpyxl

    from gravel.problems import Problem
    from gravel.sources.opening import open_table
    from gravel.sources.source import scan

    folder = tmp_path_factory.mktemp("stores")
    rows = [(1, "a"), *rows]
    (folder / "t.json").write_text(
        json.dumps(
            [dict(zip("xy", row, strict=True)) for row in rows], indent=1 if cut % 2 else None
        )
    )
    (folder / "t.xlsx").write_bytes(workbook([["x", "y"], *map(list, rows)]))

    def read(name: str) -> list[tuple[str | None, ...]]:
        parts = scan(
            open_table(str(folder / name)),
            lambda batch: [c.to_pylist() for c in batch.texts().columns],
        )
        return [row for part in parts for row in zip(*part, strict=True)]

    def text(value: Any) -> str | None:
        return (
            None
            if value is None
            else str(value).lower()
            if isinstance(value, bool)
            else value
            if isinstance(value, str)
            else json.dumps(value)
        )

    assert read("t.json") == [tuple(map(text, row)) for row in rows]
    sheet = openpyxl.load_workbook(folder / "t.xlsx")["Sheet1"]
    expected = [list(row) for row in sheet.iter_rows(min_row=2, values_only=True)]
    while expected and not any(cell is not None for cell in expected[-1]):
        expected.pop()
    found = [[_plain(cell) for cell in row] for row in read("t.xlsx")]
    assert found == [
        [_plain(None if cell in (None, "") else text(cell)) for cell in row] for row in expected
    ]
    # Cut anywhere: read as it is, or refused; never a traceback.
    for name in ("t.json", "t.xlsx"):
        whole = (folder / name).read_bytes()
        (folder / name).write_bytes(whole[: cut * len(whole) // 400])
        with contextlib.suppress(Problem):
            read(name)


def test_numbers_of_json_may_have_exponents(gravel: Any, figures: Any) -> None:
    write(
        "t.jsonl",
        '{"a": 1e-5, "b": 2E3, "c": 1, "d": 1e5}\n{"a": 0.5, "b": 7, "c": true, "d": "x"}\n{"a": null, "c": 3e1}\n',
    )
    assert figures("look", "t.jsonl")["types"] == {
        "a": "DOUBLE PRECISION",
        "b": "DOUBLE PRECISION",
        "c": "TEXT",
        "d": "TEXT",
    }
    assert figures("look", "t.jsonl", "--where", "a < 0.1 AND b = 2000")["matching"] == 1
    write("p.toml", 'table = "t.jsonl"\nwrite = "o.jsonl"\n[[step]]\nkeep_rows = "b IS NOT NULL"\n')
    gravel("clean", "p.toml")
    assert [json.loads(line) for line in Path("o.jsonl").read_text().splitlines()] == [
        {"a": 1e-5, "b": 2000.0, "c": "1", "d": "1e5"}, {"a": 0.5, "b": 7, "c": "true", "d": "x"},
    ]  # fmt: skip


def test_a_workbook_is_written_proved_and_refused_where_it_would_lose(
    gravel: Any, figures: Any, folder: Path
) -> None:
    import datetime

    import openpyxl

    write(
        "t.csv",
        "id,code,fee,day,seen,open,text\n1,007,2.50,2024-05-01,2024-05-01 10:00:00,true,=1+1\n2,,,,,, a\u00e4  b \n3,12345678901234567,0.1,1850-01-01,2024-05-01 00:00:00,false,http://harbour.example\n",
    )
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.xlsx"\n[types]\ncode = "TEXT"\n[[step]]\nset = { n = "id * 1234567890123456789" }\n',
    )
    gravel("clean", "p.toml")
    sheet = openpyxl.load_workbook("o.xlsx").active
    rows = [list(row) for row in sheet.iter_rows(values_only=True)]
    assert rows[0] == ["id", "code", "fee", "day", "seen", "open", "text", "n"]
    assert rows[1] == [
        1,
        "007",
        2.5,
        datetime.datetime(2024, 5, 1),
        datetime.datetime(2024, 5, 1, 10),
        True,
        "=1+1",
        "1234567890123456789",
    ]
    assert rows[2] == [2, None, None, None, None, None, " a\u00e4  b ", "2469135780246913578"]
    assert rows[3][3:5] == ["1850-01-01", datetime.datetime(2024, 5, 1)]
    assert sheet["G2"].data_type == "s"  # no formula, no link
    gravel("verify", "o.record.json", "--rerun")
    first = Path("o.xlsx").read_bytes()
    gravel("clean", "p.toml")
    assert Path("o.xlsx").read_bytes() == first
    gravel("query", "SELECT id, code FROM 't.csv' ORDER BY id", "--write", "q.xlsx")
    assert cells(gravel, "q.xlsx", [])[1] == ["1", "007"]
    # Numbers are numbers however small, and with zeros behind; what has too many digits is told.
    write("n.csv", "n,far\n0.0000960,1.25\n2.50000000000000000,0.1234567890123456\n")
    gravel("query", "SELECT * FROM 'n.csv'", "--write", "n.xlsx")
    rows = list(openpyxl.load_workbook("n.xlsx").active.iter_rows(min_row=2, values_only=True))
    assert rows == [(0.000096, 1.25), (2.5, "0.1234567890123456")]
    assert figures("look", "n.xlsx")["types"] == {"n": "DECIMAL", "far": "TEXT"}
    assert cells(gravel, "n.xlsx", [])[1:] == [["0.000096", "1.25"], ["2.5", "0.1234567890123456"]]
    long = f"1.{'0' * 31}1"
    write("l.csv", f"n,m\n{long},1\n")
    gravel("query", "SELECT * FROM 'l.csv'", "--write", "l.xlsx")
    assert cells(gravel, "l.xlsx", [])[1:] == [[long, "1"]]
    write("n.toml", 'table = "n.csv"\nwrite = "m.xlsx"\n')
    assert "1 number of far has more than 15 digits" in gravel("clean", "n.toml").err
    for text, words in (
        ('id,a\n1,""\n', "does not tell from NULL"),
        (f"id,a\n1,{'x' * 32_768}\n", "32,768 characters"),
        ("id,a\n1,x\n,\n,\n", "2 rows at the end have none"),
    ):
        write("t.csv", text)
        write("p.toml", 'table = "t.csv"\nwrite = "no.xlsx"\n')
        assert words in gravel("clean", "p.toml", status=None).err
        assert not Path("no.xlsx").exists()


def test_metadata_beside_a_file_says_how_it_is_read(
    gravel: Any, figures: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(
        "t.csv", "Boats\n# no\nid;fee;day;code\n1;1.234,50;31.12.2024;007\n2;n/a;01.02.2024;n/a\n"
    )
    place = Path("t.csv-metadata.json")
    column = [
        {"titles": "id", "datatype": "integer"}, {"titles": "fee", "datatype": {"base": "decimal", "format": {"decimalChar": ",", "groupChar": "."}}},
        {"titles": ["day", "date"], "datatype": {"base": "date", "format": "dd.MM.yyyy"}}, {"name": "code", "datatype": "string"},
    ]  # fmt: skip
    document = {
        "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}], "url": "t.csv", "null": "n/a", "tableSchema": {"columns": column, "foreignKeys": []},
        "dialect": {"delimiter": ";", "skipRows": 1, "commentPrefix": "#", "trim": "start"},
    }  # fmt: skip
    write(place, json.dumps(document))
    told = gravel("look", "t.csv", "--format", "json")
    assert [row["values"] for row in told.json["shown"]] == [
        {"id": 1, "fee": "1234.50", "day": "2024-12-31", "code": "007"}, {"id": 2, "fee": None, "day": "2024-02-01", "code": None},
    ]  # fmt: skip
    assert "read as t.csv-metadata.json says" in told.err
    assert "not used: trim, foreignKeys" in told.err
    # What is asked for at the prompt wins.
    assert figures("look", "t.csv", "--null", "x")["shown"][1]["values"]["code"] == "n/a"
    assert figures("look", "t.csv", "--decimal", ".")["shown"][0]["values"]["fee"] == "1.234,50"
    assert "--skip 1" in gravel("look", "t.csv", "--skip", "0", status=3).err
    assert "already" in gravel("count", "t.csv", "--write-metadata", status=2).err
    # A value that does not fit what they say is an error, not NULL, in little memory too.
    write("u.csv", "id\n1\nnone\n3\n")
    write("u.csv-metadata.json", json.dumps(document | {"url": "u.csv", "dialect": {}, "tableSchema": {"columns": column[:1]}}))  # fmt: skip
    for room in (True, False):
        monkeypatch.setattr("gravel.engine.mapped.Store.has_room", lambda _, size, room=room: room)
        for text in ("SELECT SUM(id) FROM 'u.csv'", "SELECT id FROM 'u.csv' WHERE id > 1"):
            assert "1 row, first in source row 2: 22018" in gravel("query", text, status=1).err
    # What is written is read again, with nothing more asked for.
    place.unlink()
    options = [
        "--skip",
        "1",
        "--comment",
        "#",
        "--null",
        "n/a",
        "--decimal",
        ",",
        "--group",
        ".",
        "--dates",
        "DD.MM.YYYY",
        "--text",
        "code",
    ]
    before = figures("look", "t.csv", *options)
    gravel("count", "t.csv", "--write-metadata", *options)
    again = figures("look", "t.csv")
    assert again["read"] | before["read"] == again["read"]
    assert again == before | {"read": again["read"]}
    for text in (
        "{",
        "[]",
        '{"@context": "http://www.w3.org/ns/csvw", "dialect": {"skipRows": "x"}}',
    ):
        write(place, text)
        told = gravel("count", "t.csv", *options, status=None)
        assert told.status in (0, 3)
        assert told.status == 0 or "is not metadata of a table" in told.err


REAL = [
    *(("numpy", f"random/tests/data/{name}-testset-{at}.csv") for name in ("mt19937", "pcg64", "philox") for at in (1, 2)),
    *(("numpy", f"_core/tests/data/umath-validation-set-{name}.csv") for name in ("exp", "log", "sin", "cos", "cbrt", "log2")),
    *(("pyarrow", f"tests/data/parquet/v0.7.1{name}.parquet") for name in ("", ".all-named-index", ".some-named-index")),
]  # fmt: skip


@pytest.mark.parametrize(("package", "name"), REAL)
def test_real_exports_are_read_as_by_another_reader(
    package: str, name: str, gravel: Any, folder: Path
) -> None:
    """Files that installed packages bring, under licences that allow it (BSD, Apache)."""
    path = Path(__import__(package).__file__).parent / name
    if not path.exists():
        pytest.skip(f"this version of {package} has no {name}")
    if path.suffix == ".parquet":
        told = pq.read_table(path)
        rows = [
            [str(value).removesuffix(".0") for value in row.values()] for row in told.to_pylist()
        ]
        expected = [told.column_names, *rows]
    else:
        lines = [line for line in path.read_text().splitlines() if not line.startswith("#")]
        expected = [[*map(str.strip, next(csv.reader(lines)))], *list(csv.reader(lines))[1:]]
    options = [] if path.suffix == ".parquet" else ["--comment", "#"]
    result = gravel("look", path, "--rows", "all", "--format", "csv", *options)
    assert "malformed" not in result.err
    found = list(csv.reader(result.out.splitlines()))
    assert [found[0][1:], *(row[1:] for row in found[1:])] == expected


def test_days_times_and_durations_of_a_sheet(gravel: Any, figures: Any, folder: Path) -> None:
    import datetime

    import openpyxl
    from openpyxl.utils.datetime import CALENDAR_MAC_1904

    book = openpyxl.Workbook()
    book.epoch = CALENDAR_MAC_1904
    day, lasted = datetime.datetime(2024, 5, 1, 12, 0, 30), datetime.timedelta(hours=30, seconds=1)
    for row in (
        ["d", "t", "at", "b", "share", "lasted"],
        [day.date(), day.time(), day, True, 0.25, lasted],
    ):
        book.active.append(row)
    book.save("d.xlsx")
    found = gravel("look", "d.xlsx", "--format", "csv").out.splitlines()[1]
    assert found == "1,2024-05-01,12:00:30,2024-05-01 12:00:30,true,0.25,30:00:01"
    # A column in which one day has a time of day is timestamps; a title is not the names; a sheet keeps 15 digits.
    title, midnight = book.create_sheet("Stays"), datetime.datetime(2024, 5, 2)
    for row in (["Stays of May"], [], ["at", "code", "share"], [day, 123456789012345, 0.1 * 3], [midnight, 1234567890123456, 1 / 3]):  # fmt: skip
        title.append(row)
    book.save("d.xlsx")
    assert "the table begins in row 3" in gravel("look", "d.xlsx#Stays", status=3).err
    read = gravel("look", "d.xlsx#Stays", "--skip", "2", "--format", "csv")
    assert read.out.splitlines()[1:] == ["1,2024-05-01 12:00:30,123456789012345,0.3",
        "2,2024-05-02 00:00:00,1234567890123456,0.333333333333333",
    ]  # fmt: skip
    write("p.toml", 'table = "d.xlsx#Stays"\nwrite = "o.xlsx"\nread.skip = 2\n')
    gravel("clean", "p.toml")
    sheet = openpyxl.load_workbook("o.xlsx").active
    assert [cell.value for cell in sheet["A"]] == ["at", day, midnight]
    assert [cell.value for cell in sheet["C"]] == ["share", 0.3, 0.333333333333333]
    gravel(
        "query",
        "SELECT CAST(x AS DOUBLE PRECISION) AS x FROM (VALUES ('NaN'), ('1e300')) AS v(x)",
        "--write",
        "n.xlsx",
    )
    assert gravel("look", "n.xlsx", "--format", "csv").out == "gravel_row,x\n1,NaN\n2,1e+300\n"
    assert "1 whole number" in read.err
    assert "it has another sheet: #Stays" in gravel("count", "d.xlsx").err
    for lines, begins in (
        ("Berths,,\n,,\nname,at,fee\na,b,c\n", 3),
        ("Berths,,\nname,at,fee\nx,2024-01-01,7\n", 2),
        ("name,,\nred,blue,green\nblue,red,green\n", 0),
        ("name,,\nTern,7,8\nGull,9,9\n", 0),
    ):
        write("t.csv", lines)
        ran = gravel("count", "t.csv", status=3 if begins else 0)
        assert (f"t.csv: the table begins in line {begins}" in ran.err) == bool(begins)
        assert (
            not begins or figures("count", "t.csv", "--skip", begins - 1)["tables"][0]["rows"] == 1
        )


def test_midnights_are_written_as_they_are_read(gravel: Any, folder: Path) -> None:
    """Also beside a moment that a cell does not hold: none is left that says that the days have a time."""
    moments = "(TIMESTAMP '2024-05-01 00:00:00'), (TIMESTAMP '2024-05-01 10:00:00.5')"
    gravel("query", f"SELECT x FROM (VALUES {moments}) AS v(x)", "--write", "m.xlsx")
    read = gravel("look", "m.xlsx", "--format", "csv").out.splitlines()
    assert read[1] == "1,2024-05-01 00:00:00"


def test_cells_with_an_error_are_their_text(
    gravel: Any, monkeypatch: pytest.MonkeyPatch, folder: Path
) -> None:
    import openpyxl

    from gravel.sources import excel

    book = openpyxl.Workbook()
    sheet = book.create_sheet("Fees & Co")
    for row in (
        ["Boat", None, "Fee"],
        ["Skua", "sloop", 2.5],
        ["Tern", "#REF!", "#N/A"],
        [None, None, "#DIV/0!"],
    ):
        sheet.append(row)
    sheet.merge_cells("A1:B1")
    book.save("m.xlsx")
    for block in (1 << 20, 37):
        monkeypatch.setattr(excel, "_BLOCK", block)
        found = gravel("look", "m.xlsx#Fees & Co", "--format", "csv")
        assert (
            found.out
            == "gravel_row,Boat,c2,Fee\n1,Skua,sloop,2.5\n2,Tern,#REF!,#N/A\n3,,,#DIV/0!\n"
        )
        assert "3 cells with an error such as #N/A, read as that text" in found.err
        assert "1 column without a name" in found.err
    spaces = " ".join(
        f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
        for name in ("office", "table", "text")
    )
    made = (
        '<table:table-cell office:value-type="string" {1}><text:p>{0}</text:p></table:table-cell>'
    )
    rows = (
        [made.format("a", ""), made.format("b", 'table:number-columns-repeated="2"')],
        [made.format("x", ""), "<table:table-cell/>", made.format("Err:508", 'c:value-type="error" office:string-value=""')],
    )  # fmt: skip
    lines = "".join(f"<table:table-row>{''.join(row)}</table:table-row>" for row in rows)
    with zipfile.ZipFile("e.ods", "w") as package:
        package.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        package.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>',
        )
        package.writestr(
            "content.xml",
            f'<office:document-content {spaces} xmlns:c="urn:org:documentfoundation:names:experimental:calc:xmlns:calcext:1.0"><office:body>'
            f'<office:spreadsheet><table:table table:name="S">{lines}</table:table></office:spreadsheet></office:body></office:document-content>',
        )  # fmt: skip
    found = gravel("look", "e.ods", "--format", "csv")
    assert found.out == "gravel_row,a,b,b_2\n1,x,,Err:508\n"
    assert "1 cell with an error" in found.err
    part = gravel("look", "m.xlsx#Fees & Co!B3:C3", "--header", "none", "--format", "csv")
    assert part.out == "gravel_row,c1,c2\n1,#REF!,#N/A\n"
    assert "2 cells with an error" in part.err


def test_a_plan_writes_metadata_of_its_output(gravel: Any, figures: Any, folder: Path) -> None:
    write("t.csv", "id;fee;day;code\n1;2.50;2024-12-31;007\n2;;2024-02-01;x\n")
    plan = 'table = "t.csv"\nwrite = "o.csv"\nmetadata = true\n[[step]]\nset = { n = "LENGTH(code)" }\n'
    write("p.toml", plan)
    gravel("clean", "p.toml")
    place = Path("o.csv-metadata.json")
    columns = json.loads(place.read_text())["tableSchema"]["columns"]
    assert {item["titles"]: item["datatype"] for item in columns} == {
        "id": "integer", "fee": "decimal", "day": "date", "code": "string", "n": "integer",
    }  # fmt: skip
    assert "read as o.csv-metadata.json says" in gravel("look", "o.csv").err
    # The standard's own form of a timestamp has a T; with a space it is said how it is written.
    write(
        "s.csv",
        "a,b,c\n2024-05-01 12:00:30,2024-05-01T12:00:30,2024-05-01T12:00:30\n2024-05-01 12:00:30.5,2024-05-02T12:00:30,2024-05-01 12:00:30\n",
    )
    gravel("count", "s.csv", "--write-metadata")
    kinds = [
        item["datatype"]
        for item in json.loads(Path("s.csv-metadata.json").read_text())["tableSchema"]["columns"]
    ]
    assert kinds == [
        {"base": "dateTime", "format": "yyyy-MM-dd HH:mm:ss.SSSSSS"},
        "dateTime",
        "string",
    ]
    read = figures("look", "s.csv")["types"]
    assert [read[name] for name in "abc"] == ["TIMESTAMP", "TIMESTAMP", "TEXT"]
    assert json.loads(Path("o.record.json").read_text())["metadata"]["path"] == place.name
    gravel("verify", "o.record.json")
    gravel("clean", "p.toml")
    write(place, place.read_text() + " ")
    assert f"{place}: bytes" in gravel("verify", "o.record.json", status=1).out
    assert "is there already" in gravel("clean", "p.toml", status=2).err
    gravel("clean", "p.toml", "--replace")
    write("p.toml", plan.replace("metadata = true\n", ""))
    gravel("clean", "p.toml")
    assert not place.exists()
    write("p.toml", plan.replace("o.csv", "o.parquet"))
    assert "p.toml:2" in (told := gravel("clean", "p.toml", status=2).err)
    assert "o.parquet is none" in told


def test_a_file_under_two_names_is_read_as_each_name_says(figures: Any) -> None:
    write("t.csv", "id,v\n1,NA\n2,q\n")
    told = figures(
        "query", "SELECT a.v, b.v AS w FROM a JOIN b ON a.id = b.id ORDER BY a.id",
        "--table", "a=t.csv;null=NA", "--table", "b=t.csv",
    )  # fmt: skip
    assert told["rows"] == [[None, "NA"], ["q", "q"]]
    assert [how.get("null") for how in told["tables"].values()] == [["NA"], None]


def test_results_say_how_their_tables_were_read(gravel: Any, figures: Any, folder: Path) -> None:
    write("t.csv", "a;b\n1;NA\n2;x\n")
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[read]\nnull = ["NA"]\n')
    asked = {"delimiter": ";", "encoding": "utf-8", "empty": "text", "null": ["NA"]}
    how = ("t.csv", "--null", "NA")
    for command in (
        ("look", *how), ("check", *how, "a > 0"), ("duplicates", *how), ("profile", *how), ("try", *how, "b = UPPER(b)"),
        ("duplicates", *how, "--near", "b"), ("clean", "p.toml", "--dry-run"), ("trace", "p.toml", "--row", "1"), ("try", *how, "--step", "drop_rows = 'a = 1'"),
    ):  # fmt: skip
        result = gravel(*command, "--format", "json", status=None)
        assert result.status in (0, 1), result.err
        assert result.json["read"] == asked, command
    assert figures("count", *how)["tables"][0]["read"] == asked
    assert figures("compare", "t.csv", *how, "--key", "a")["after"]["read"] == asked
    query = ("query", "SELECT * FROM t", "--table", "t=t.csv;null=NA")
    assert figures(*query)["tables"] == {"t.csv": asked}
    Path("few.csv").write_bytes("a\nMöwe\nÅl\n".encode() + b"M\xf6we\n")
    assert "2 characters before it are UTF-8" in gravel("count", "few.csv", status=3).err
    Path("latin.csv").write_bytes(b"a\nM\xf6we\n")
    told = gravel("query", "SELECT * FROM 'latin.csv'", status=3).err
    assert "--encoding cp1252, which reads Möwe; in a query: --table" in told
    for command in (("look", "p.toml", "--after", "0"), ("try", "--plan", "p.toml", "b = a")):
        assert "[read] of the plan" in gravel(*command, "--null", "x", status=2).err
    assert "b = UPPER(b)" in gravel("try", "t.csv", "UPPER(b)").out


def test_long_rows_go_to_the_pager(folder: Path) -> None:
    import os
    import pty

    from conftest import PROGRAM

    write("t.csv", "a\n" + "".join(f"{at}\n" for at in range(200)))
    for pager, rows, lines in (("head -n 3", "all", 4), ("head -n 3", "5", 7), ("", "all", 202)):
        process, screen = pty.fork()
        if not process:
            os.environ.update(PAGER=pager, TERM="xterm", LINES="24", COLUMNS="80")
            os.execvp(PROGRAM[0], [*PROGRAM, "look", "t.csv", "--rows", rows])
        shown = b""
        with contextlib.suppress(OSError):
            while more := os.read(screen, 4096):
                shown += more
        os.close(screen)
        assert os.waitpid(process, 0)[1] == 0
        assert len(shown.splitlines()) == lines, shown


def test_standard_input_is_what_its_first_bytes_say() -> None:
    import subprocess

    from conftest import PROGRAM

    for content, rows in (
        (TABLE.encode(), 3), (gzip.compress(TABLE.encode()), 3), (bz2.compress(TABLE.encode()), 3), (lzma.compress(TABLE.encode()), 3),
        (b'[{"a": 1}, {"a": 2}]', 2), (b'{"a": 1}\n{"a": 2}\n', 2),
    ):  # fmt: skip
        ran = subprocess.run(
            [*PROGRAM, "count", "-", "--format", "json"],
            input=content,
            capture_output=True,
            check=True,
        )
        assert json.loads(ran.stdout)["tables"][0]["rows"] == rows
    ran = subprocess.run([*PROGRAM, "count", "-"], input=workbook(NUMBERS), capture_output=True)
    assert ran.returncode == 3
    assert b"as Excel workbooks are" in ran.stderr


def test_every_command_reads_what_is_laid_out_and_converted_anew(
    gravel: Any, figures: Any, folder: Path
) -> None:
    write("w.txt", "id    name     fee\n1     Sea Bird 2,5\n2     Tern     3\n3     Tern     3\n")
    options = ["--delimiter", "1,7,16", "--decimal", ","]
    assert figures("profile", "w.txt", *options)["columns"][2]["type"] == "DECIMAL"
    assert figures("try", "w.txt", "fee = fee * 2", *options)["assignments"][0]["changed"] == 3
    assert figures("check", "w.txt", "fee > 2", *options)["checks"][0]["passed"]
    found = figures("duplicates", "w.txt", "--on", "name", "--on", "fee", *options)
    assert (found["groups"], found["extra_rows"]) == (1, 1)
    assert figures("compare", "w.txt", "w.txt", "--key", "id", *options)["status"] == "same"
    assert (
        figures("look", "w.txt", "--sort", "fee DESC", "--where", "fee < 3", *options)["matching"]
        == 1
    )
    table = "w=w.txt;delimiter=1,7,16;decimal=,"
    assert figures("query", "SELECT SUM(fee) AS s FROM w", "--table", table)["rows"] == [["8.5"]]
    told = figures("try", "w.txt", "--step", "drop_rows = 'fee = 3'", *options)
    assert told["step"]["dropped"] == 2
    for command, hint in (
        (("query", "SELECT * FROM 'w.txt'"), "in a query: --table 't=w.txt;OPTION=VALUE'"), (("clean", "p.toml"), 'in [read]: delimiter = "space"'),
    ):  # fmt: skip
        write("p.toml", 'table = "w.txt"\nwrite = "o.csv"\n')
        assert hint in gravel(*command, status=3).err


@pytest.mark.parametrize(
    ("encoding", "text"),
    [
        ("cp1252", "Möwe, Jürgen, Straße"), ("cp1252", "café d’Été l’été"), ("cp1252", "3 € – “Möwe”"), ("cp1250", "Żółw łódź Gdańsk"),
        ("cp1251", "Чайка и моряк"), ("cp1253", "Θάλασσα γλάρος"), ("cp850", "Möwe für Ærø"), ("cp1252", "MÖWE 20 °C"),
    ],
)  # fmt: skip
def test_a_hint_shows_how_a_text_reads_in_the_encoding_it_is_in(
    gravel: Any, encoding: str, text: str
) -> None:
    """The first encoding of the hint is the one the text was written in, and it opens the file."""
    table = "id;name\n" + "".join(f"{number};{text}\n" for number in range(3000))
    Path("t.csv").write_bytes(table.encode(encoding))
    hint = gravel("count", "t.csv", status=3).err.partition("hint: ")[2]
    assert hint.startswith(f"--encoding {encoding}, which reads ")
    assert hint.partition("which reads ")[2].split(";")[0].split()[0] in text
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n')
    assert f'in [read]: encoding = "{encoding}", which reads' in gravel("clean", "p.toml", status=3).err  # fmt: skip
    assert text in gravel("look", "t.csv", "--encoding", encoding, "--format", "csv").out.replace('"', "")  # fmt: skip


def test_a_parquet_column_of_texts_that_are_no_utf8_is_refused_with_its_row(gravel: Any) -> None:
    offsets = pa.array([0, 2, 4, 4], pa.int32()).buffers()[1]
    texts = pa.StringArray.from_buffers(3, offsets, pa.py_buffer("é".encode() + b"x\xff"))
    pq.write_table(pa.table({"id": [1, 2, 3], "t": texts}), "bad.parquet")
    for command in (
        ("profile",),
        ("look",),
        ("count", "--distinct", "t"),
        ("check", "UPPER(t) = 'X'"),
    ):
        told = gravel(command[0], "bad.parquet", *command[1:], status=3).err
        assert "bad.parquet: t is not UTF-8 in row 2: byte 0xff" in told
    assert gravel("count", "bad.parquet", "--distinct", "id").out


def test_malformed_records_stand_as_in_the_file_whatever_the_quote(gravel: Any) -> None:
    write("t.csv", "id,text\n1,'a \"b\"'\n2,'bad'x\"\n")
    told = gravel("count", "t.csv", "--quote", "'").err
    assert "2,'bad'x\"" in told
    assert "--quote none" in told
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\nmalformed = "set aside"\n[read]\nquote = "\'"\n[[step]]\nset = { text = "UPPER(text)" }\n',
    )
    gravel("clean", "p.toml")
    assert parsed(Path("o.csv").read_text("utf-8"))[1:] == [["1", 'A "B"']]
    assert "2,'bad'x\"" in parsed(Path("o-rejects.csv").read_text("utf-8"))[1]
    write("j.jsonl", '{"a":1}\n{a:2}\n')
    told = gravel("count", "j.jsonl").err
    assert "in double quotes" in told
    assert "--quote" not in told
