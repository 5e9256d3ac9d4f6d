"""What the pages and the help say to type runs when it is pasted, in the folder that the demo has written, page by page in its order."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import PROGRAM, program, write
from gravel.results import RESULTS

ROOT = Path(__file__).resolve().parent.parent
PAGES = [*sorted((ROOT / "docs").glob("*.md")), ROOT / "README.md"]
COMMANDS = ("count", "look", "profile", "try", "check", "duplicates", "query", "clean", "trace", "compare", "verify", "functions")  # fmt: skip


def _shell(folder: Path, line: str) -> subprocess.CompletedProcess[str]:
    """A line as a shell runs it, `gravel` being this program."""
    beside = folder.parent / "bin"
    if not beside.exists():
        beside.mkdir()
        (beside / "gravel").write_text(f'#!/bin/sh\nexec {" ".join(PROGRAM)} "$@"\n')
        (beside / "gravel").chmod(0o755)
    path = f"{beside}{os.pathsep}{os.environ['PATH']}"
    return subprocess.run(
        ["sh", "-c", line], cwd=folder, env={**os.environ, "PATH": path}, capture_output=True, text=True, check=False
    )  # fmt: skip


@pytest.fixture(scope="module")
def harbour(tmp_path_factory: Any) -> Path:
    """The demo's folder, its first plan run."""
    folder = tmp_path_factory.mktemp("docs")
    assert program("demo", cwd=folder).returncode == 0
    return folder / "gravel-demo"


def _lines(page: Path) -> list[str]:
    blocks = re.findall(r"```sh\n(.*?)```", page.read_text("utf-8"), re.DOTALL)
    return [
        line.strip()
        for block in blocks
        for line in block.splitlines()
        if line.strip() and not line.startswith(("#", "python", "source"))
    ]


@pytest.mark.parametrize(
    "page",
    [page for page in PAGES if any("gravel " in line for line in _lines(page))],
    ids=lambda page: page.name,
)
def test_commands_of_a_page_run_when_pasted(page: Path, harbour: Path, tmp_path: Path) -> None:
    if page.name == "spark.md":
        pytest.importorskip("pyspark", reason="pyspark is not installed")
    folder = tmp_path / "gravel-demo"
    shutil.copytree(harbour, folder)
    for line in _lines(page):
        if line.startswith((".venv", "pip", "git", "scripts", ".ci")):
            continue
        ran = _shell(folder, line)
        # 1: a check that fails or tables that differ, which is what these commands are to say.
        assert ran.returncode in (0, 1), f"{line}\n{ran.stderr}"
        assert "internal error" not in ran.stderr, line


@pytest.mark.parametrize("command", COMMANDS)
def test_examples_of_the_help_run_when_pasted(command: str, harbour: Path, tmp_path: Path) -> None:
    folder = tmp_path / "gravel-demo"
    shutil.copytree(harbour, folder)
    told = subprocess.run(
        [*PROGRAM, command, "--help"], env={**os.environ, "COLUMNS": "240"}, capture_output=True, text=True, check=True
    ).stdout  # fmt: skip
    examples = [
        line.strip() for line in told.splitlines() if line.strip().startswith(f"gravel {command} ")
    ]
    assert examples, f"gravel {command} --help shows no example"
    for line in examples:
        ran = _shell(folder, line)
        assert ran.returncode in (0, 1), f"{line}\n{ran.stderr}"


def test_links_lead_somewhere_and_every_page_is_linked() -> None:
    linked = set()
    for page in [
        *PAGES,
        *(ROOT / name for name in ("ARCHITECTURE.md", "CHANGELOG.md", "CONTRIBUTING.md")),
    ]:
        for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text("utf-8")):
            if "://" not in target:
                place = (page.parent / target).resolve()
                assert place.exists(), f"{page.name} links {target}"
                linked.add(place)
    assert {page for page in PAGES if page.parent.name == "docs"} - linked == set()
    assert set((ROOT / "docs" / "screenshots").glob("*.png")) - linked == set()


def test_pages_say_the_words_of_today() -> None:
    """Words that were given up are in no page, no help and no plan of the demo."""
    given_up = r"\bmend|\brungs?\b|\bladder\b|left[- _]behind|\bmisfits?\b|\blikeness\b|\bcommonest\b|gravel follow|is no (?!longer|more)[a-z]|unique = \{"
    texts = {page.name: page.read_text("utf-8") for page in PAGES}
    texts |= {command: program(command, "--help", cwd=ROOT).stdout for command in COMMANDS}
    texts |= {
        path.name: path.read_text("utf-8") for path in (ROOT / "src/gravel/demo").glob("*.toml")
    }
    for name, text in texts.items():
        hits = [
            hit
            for hit in re.findall(rf".*(?:{given_up}).*", text)
            if "there is no " not in hit.lower()
        ]
        assert not hits, (name, hits[:3])


def test_plans_of_the_pages_are_plans(
    figures: Any, harbour: Path, tmp_path: Path, monkeypatch: Any
) -> None:
    """A block of TOML with a table and a target is bound, where it is shown, to the demo's tables."""
    plans = 0
    for page in PAGES:
        for block in re.findall(r"```toml\n(.*?)```", page.read_text("utf-8"), re.DOTALL):
            tomllib.loads(block)
            if "table =" not in block or "write =" not in block or "://" in block:
                continue
            folder = tmp_path / f"{page.stem}{plans}"
            shutil.copytree(harbour, folder)
            monkeypatch.chdir(folder)
            Path("shown.toml").write_text(block, "utf-8")
            told = program("clean", "shown.toml", "--dry-run", "--sample", "0", cwd=folder)
            assert told.returncode == 0, (page.name, told.stderr)
            plans += 1
    assert plans


def test_json_documents_are_what_their_schemas_say(
    harbour: Path, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every command's JSON begins with its name and version, is the same for the same call, and has just the keys of its schema."""
    calls = {
        "count": [["boats.csv", "--key", "boat_id", "--distinct", "name", "--total", "fee"], ["harbour.db"]],
        "look": [["boats.csv", "--rows", "9", "--show", "CASE WHEN fee > 5 THEN 1 END AS x", "--where", "boat_id > 5"], ["stays.csv", "--rows", "all"]],
        "profile": [["boats.csv"], ["owners.csv", "--column", "since"], ["services.csv"], ["stays.csv", "--sample", "50"]],
        "try": [["boats.csv", "fee = CAST(fee AS INTEGER)", "name = UPPER(name)"], ["boats.csv", "--step", "split = { column = 'services', on = ';', into = 'rows' }"]],
        "check": [["boats.csv", "boat_id > 5", "dear: fee < 500", "COUNT(*) > 10"]],
        "duplicates": [["owners.csv", "--on", "name", "--key", "owner_id"], ["owners.csv", "--near", "name", "--within", "1"]],
        "query": [["SELECT 1 AS n, 'a' AS t, NULL AS x, DATE '2024-01-01' AS d"], ["SELECT pier, COUNT(fee) FROM 'boats.csv' GROUP BY pier"], ["SELECT 1 / boat_id FROM 'boats.csv' WHERE fee = 1", "--on-error", "null"]],
        "clean": [["boats.toml", "--dry-run"], ["owners.toml", "--dry-run"], ["stays.toml", "--dry-run"]],
        "trace": [["boats.toml", "--row", "6"], ["owners.toml", "--where", "owner_id = '0300'"]],
        "compare": [["boats.csv", "boats-clean.csv", "--key", "boat_id"]],
        "verify": [["boats-clean.record.json"]],
        "functions": [["ABS"], []],
    }  # fmt: skip
    assert calls.keys() == RESULTS.keys()
    monkeypatch.chdir(harbour)
    for command, several in calls.items():
        schema = json.loads((ROOT / "docs" / "schemas" / f"{command}.json").read_text("utf-8"))
        for number, arguments in enumerate(several):
            ran = [
                gravel(command, *arguments, "--format", "json", status=None)
                for _ in range(1 if number else 2)
            ]
            runs = [one.out for one in ran]
            assert runs[0] == runs[-1] != "", (command, arguments, ran[0].err)
            document = json.loads(runs[0])
            assert next(iter(document.items())) == ("gravel", f"{command}/2")
            jsonschema.validate(document, schema)
            with pytest.raises(jsonschema.ValidationError):
                jsonschema.validate({**document, "more": 1}, schema)
    assert sys.executable in PROGRAM


ODD = {
    "empty": "a,b,c\n",
    "nulls": "a,b,c\n,,\n,,\n",
    "one": "k\n1\n",
    "same": "a,a,a\n1,2,3\n1,2,3\n",
    "days": "f,d\ntrue,2024-02-30\nfalse,2024-02-28\ntrue,0001-01-01\n,9999-12-31\n",
    "extremes": "id,x,y,t\n0,9007199254740993,1.5e308,=1\n1,-99999999999999999999999999999999999999,1.7e308,Ünï\n"
    "2,12345678901234567890123456789012345678901,-1e400,\n3,0,NaN,a;b\n4,1,inf,a; b ;b\n",
}  # fmt: skip


@pytest.mark.parametrize("name", ODD)
def test_documents_of_odd_tables_keep_to_their_schemas(name: str, gravel: Any) -> None:
    """No rows, only NULLs, columns of one name, numbers beyond 2^53 and beyond doubles: JSON that every reader takes."""
    table = f"{name}.csv"
    write(table, ODD[name])
    columns = list(dict.fromkeys(ODD[name].partition("\n")[0].split(",")))
    last = columns[-1]
    write(
        "p.toml",
        f'table = "{table}"\nwrite = "out.csv"\n[[step]]\nset = {{ z = "CHAR_LENGTH(CAST({columns[0]} AS TEXT)) / 0" }}\non_error = "null"\n',
    )
    double = f"CAST(CAST({last} AS TEXT) AS DOUBLE PRECISION)"
    calls = [
        ["count", table, "--key", last, "--distinct", last], ["count", table, "--total", f"LENGTH(CAST({last} AS TEXT))"],
        ["look", table, "--show", f"{double} AS q", "--show", "1 / 0 AS w"], ["profile", table], ["profile", table, "--column", last],
        ["profile", table, "--sample", "1"], ["profile", table, "--sample", "3"], ["try", table, f"{last} = CASE WHEN {last} IS NULL THEN '-' END"],
        ["try", table, "--step", f"split = {{ column = '{last}', on = ';', into = 'rows' }}"], ["try", "--plan", "p.toml", "--step", "1"],
        ["check", table, f"{last} IS NOT NULL", "COUNT(*) > 1", f"{double} > 1"], ["duplicates", table], ["duplicates", table, "--on", last],
        ["duplicates", table, "--near", f"CAST({last} AS TEXT)", "--within", "1"],
        ["query", f"SELECT *, {double} * 1e300 AS q FROM '{table}'", "--on-error", "null"], ["query", f"SELECT MIN({last}), COUNT({last}) FROM '{table}'"],
        ["clean", "p.toml", "--dry-run"], ["compare", table, table], ["compare", table, table, "--key", last],
        *([["trace", "p.toml", "--row", "1"]] if name != "empty" else []),
    ]  # fmt: skip

    def refuse(constant: str) -> None:
        raise AssertionError(f"{constant} is not JSON")

    for command, *arguments in calls:
        told = gravel(command, *arguments, "--format", "json", status=None)
        assert told.status in (0, 1), (command, arguments, told.err)
        schema = json.loads((ROOT / "docs" / "schemas" / f"{command}.json").read_text("utf-8"))
        jsonschema.validate(json.loads(told.out, parse_constant=refuse), schema)
