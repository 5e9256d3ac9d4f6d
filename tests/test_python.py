"""Gravel as a library: the page docs/python.md, and the same figures as the command line."""

from __future__ import annotations

import datetime
import html
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import gravel as library
from conftest import write

PAGE = Path(__file__).resolve().parent.parent / "docs" / "python.md"


@pytest.fixture
def harbour(gravel: Any, folder: Path, monkeypatch: Any) -> Path:
    """A folder with the demo in it, which is the current one."""
    gravel("demo", "--quiet")
    monkeypatch.chdir(folder / "gravel-demo")
    return folder / "gravel-demo"


def test_every_block_of_the_page_runs(harbour: Path) -> None:
    blocks = re.findall(r"```python\n(.*?)```", PAGE.read_text("utf-8"), re.DOTALL)
    assert len(blocks) > 5
    names: dict[str, Any] = {}
    for block in blocks:
        exec(compile(block, str(PAGE), "exec"), names)


def test_importing_it_loads_nothing_else() -> None:
    code = "import gravel, sys; print([name for name in sys.modules if name.split('.')[0] in ('numpy', 'pyarrow', 'pydantic', 'typer', 'rich', 'lark')])"
    assert (
        subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        ).stdout.strip()
        == "[]"
    )
    assert {"open_table", "query", "Plan", "Problem"} <= set(dir(library))
    with pytest.raises(AttributeError, match="no attribute opne"):
        library.opne  # noqa: B018


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [
        (["--help"], "numpy pyarrow rich.console jinja2 sqlalchemy lark gravel.cli.count"),
        (["query", "--help"], "numpy pyarrow rich.console jinja2 sqlalchemy gravel.cli.count"),
        (["count", "--nope"], "numpy pyarrow jinja2 sqlalchemy lark gravel.cli.query"),
        (["count", "t.csv"], "jinja2 sqlalchemy lark pandas gravel.language.lalr"),
        (
            ["look", "t.csv", "--where", "a > 0"],
            "numpy.ma jinja2 sqlalchemy lark gravel.querying.session",
        ),
        (
            ["query", "SELECT a, COUNT(*) FROM 't.csv' WHERE a > 0 GROUP BY a ORDER BY 2"],
            "numpy.ma jinja2 sqlalchemy lark gravel.plans.model",
        ),
        (["check", "t.csv", "a > 0"], "numpy.ma jinja2 lark tomllib gravel.sinks.files"),
        (["try", "t.csv", "a = a + 1"], "numpy.ma jinja2 lark gravel.sinks.files"),
        (["clean", "p.toml"], "numpy.ma jinja2 sqlalchemy lark gravel.querying.session"),
    ],
)
def test_a_command_loads_what_it_needs_and_nothing_else(
    folder: Path, arguments: list[str], absent: str
) -> None:
    Path("t.csv").write_text("a\n1\n")
    Path("p.toml").write_text('table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { a = "a + 1" }\n')
    code = f"import sys, atexit; from gravel.__main__ import main; sys.argv[1:] = {arguments}\n"
    code += "loaded = lambda: [name for name, module in sys.modules.items() if type(module).__name__ != '_LazyModule']\n"
    code += "made = lambda: [f'pyarrow.compute.{name}' for name in vars(sys.modules.get('pyarrow.compute', sys))]\n"
    code += "atexit.register(lambda: print(*loaded(), *made(), file=sys.stderr)); main()"
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    modules = set(ran.stderr.split())
    assert "gravel.cli.main" in modules
    assert ("pyarrow.compute.take" in modules) == ("pyarrow" in modules)
    # What libraries would load and make for others: library_imports.
    absent += " pandas dateutil pydoc numpy._typing._char_codes pyarrow.compute.acosh"
    assert not modules & set(absent.split())


def test_figures_are_those_of_the_command_line(harbour: Path, figures: Any) -> None:
    boats, owners = (
        library.open_table("boats.csv"),
        library.open_table(Path("owners.csv"), text=["owner_id"]),
    )

    def same(result: Any, *command: str) -> None:
        told = figures(*command)
        told.pop("gravel")
        assert result.to_dict() == told

    assert boats.count(key=["boat_id"], distinct=["UPPER(name)"], totals=["fee"]).to_dict() == figures(
        "count", "boats.csv", "--key", "boat_id", "--distinct", "UPPER(name)", "--total", "fee")["tables"][0]  # fmt: skip
    same(boats.look(where="fee > 900", show=["fee * 2 AS twice"], sort="fee", rows=4),
         "look", "boats.csv", "--where", "fee > 900", "--show", "fee * 2 AS twice", "--sort", "fee", "--rows", "4")  # fmt: skip
    same(boats.profile(), "profile", "boats.csv")
    same(boats.try_("name = TIDY_SPACES(name)"), "try", "boats.csv", "name = TIDY_SPACES(name)")
    same(
        boats.check("fee > 0", "COUNT(*) = 420", allow="5%"),
        "check",
        "boats.csv",
        "fee > 0",
        "COUNT(*) = 420",
        "--allow",
        "5%",
    )
    same(owners.duplicates(on=["name"], level="words", groups=3, memory="1MB"),
         "duplicates", "owners.csv", "--text", "owner_id", "--on", "name", "--level", "words", "--rows", "3")  # fmt: skip
    same(library.Plan.load("boats.toml").run(dry=True), "clean", "boats.toml", "--dry-run")
    library.Plan.load("boats.toml").run()
    done = figures("compare", "boats.csv", "boats-clean.csv", "--key", "boat_id", status=1)
    assert boats.compare("boats-clean.csv", key=["boat_id"]).to_dict() == {
        key: value for key, value in done.items() if key != "gravel"
    }
    compared = boats.compare("boats-clean.csv", key=["boat_id"])
    assert (compared.before.rows, compared.only_before, compared.repeated_keys.after) == (
        done["before"]["rows"], done["only_before"], done["repeated_keys"]["after"],
    )  # fmt: skip
    cell = compared.examples[0]
    assert boats.look(where=f"boat_id = {cell.key['boat_id']}").shown[0].row == cell.before_row


def test_notebooks_show_every_result(folder: Path) -> None:
    write("t.csv", 'id,name\n1,"<b>Gull</b> "\n2,\n3,Tern\n')
    table = library.open_table("t.csv")
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n[[step]]\nset = { name = "TRIM(name)" }\n')
    seen = '&lt;b&gt;Gull&lt;/b&gt;<span class="hidden">·</span>'
    result = library.query(
        "SELECT name, CASE WHEN 1 / (id - 2) < 9 THEN id END AS x FROM t",
        tables={"t": table},
        on_error="null",
    )
    for shown, parts in (
        (
            table.look(where="id < 3", show="1 / (id - 2) AS x"),
            [seen, "error 22012", "<b>2</b>match"],
        ),
        (
            table.count(key="name", totals="id"),
            ["<b>3</b>rows", "no key: 1 row with NULL in it", '<td class="n">6</td>'],
        ),
        (
            table.try_("name = TRIM(name)", "id = 1 / (id - 2)"),
            [seen, "1 changed, 2 unchanged", "division by zero"],
        ),
        (result, [seen, "read t", "3 rows shown"]),
        (library.Plan.load("p.toml").run(dry=True), ["A dry run: 3 rows"]),
    ):
        page = html.unescape(shown._repr_html_().removeprefix('<iframe srcdoc="'))
        for part in parts:
            assert part in page, (part, page)
        assert "<b>Gull" not in page
    assert result.to_dict()["rows"] == [["<b>Gull</b> ", 1], [None, None], ["Tern", 3]]
    assert result.to_dict()["row_count"] == 3
    write("bad.csv", "id,name\n1\n2,Gull\n")
    bad = library.open_table("bad.csv")
    for shown in (bad.look(), bad.try_("name = TRIM(name)")):
        assert "&lt;b&gt;1&lt;/b&gt;malformed records skipped" in shown._repr_html_()


def test_figures_are_values_that_every_reader_of_json_takes() -> None:
    """Beyond what a double holds exactly, or at all, and beyond what JSON has: as texts."""
    from gravel.figures import plain

    assert plain([2**53, -(2**53) - 1, 2**53 + 1]) == [2**53, str(-(2**53) - 1), str(2**53 + 1)]
    assert plain((1.5, float("inf"), float("-inf"), float("nan"))) == [
        1.5,
        "Infinity",
        "-Infinity",
        "NaN",
    ]
    assert plain({"a": Decimal("1E+3"), "b": (None, True, {"c": datetime.date(2024, 2, 29)})}) == {
        "a": "1000", "b": [None, True, {"c": "2024-02-29"}],
    }  # fmt: skip


def test_arrow_in_and_out_and_parameters_as_python_has_them() -> None:
    day = datetime.date(2024, 2, 29)
    table = pa.table(
        {
            "code": ["072", "72", None],
            "n": [1, 2, 3],
            "day": [day, None, day],
            "tags": [["a"], [], None],
        }
    )
    mine = library.open_table(table)
    kept = table.append_column("kind", pa.array(["a", "b", "a"]).dictionary_encode())
    kept = kept.append_column("raw", pa.array([b"\xff", None, b""]))
    kept = kept.append_column("small", pa.array([1, None, 3], pa.int8()))
    assert library.open_table(kept).to_arrow().equals(kept)
    as_text = library.open_table(kept, text=["small"]).to_arrow()
    assert as_text.drop_columns("small").equals(kept.drop_columns("small"))
    assert as_text["small"].to_pylist() == ["1", None, "3"]
    asked = "SELECT n FROM t WHERE {} ORDER BY n"
    for condition, value, rows in (
        ("code = :v", "072", [(1,)]), ("n >= :v", 2, [(2,), (3,)]), ("day = :v", day, [(1,), (3,)]), ("n > :v", Decimal("1.5"), [(2,), (3,)]),
        ("COALESCE(n > :v, TRUE)", None, [(1,), (2,), (3,)]), ("n < :v", 2.5, [(1,), (2,)]), ("(n > 1) = :v", True, [(2,), (3,)]),
        ("CAST(day AS TIMESTAMP) < :v", datetime.datetime(2024, 3, 1, 12), [(1,), (3,)]),
        ("n < :v", 10**30, [(1,), (2,), (3,)]), ("day = :v", Decimal("NaN"), None), ("day < :v", datetime.datetime(2024, 3, 1, tzinfo=datetime.UTC), None),
    ):  # fmt: skip
        text = asked.format(condition)
        if rows is None:
            with pytest.raises(library.CallProblem, match=r"^v is "):
                library.query(text, tables={"t": table}, params={"v": value})
        else:
            outcome = library.query(text, tables={"t": table}, params={"v": value})
            assert outcome.rows() == rows, condition
    twice = library.query("SELECT n, n FROM t", tables={"t": mine})
    assert twice.to_arrow().column_names == ["n", "n_2"]
    assert pa.table(twice).num_rows == pa.table(mine).num_rows == 3
    again = library.query(
        "SELECT COUNT(*) FROM first JOIN t USING (n)", tables={"first": twice, "t": mine}
    )
    assert again.rows() == [(3,)]
    for wrong in (lambda: library.open_table(7), lambda: library.query("SELECT 1", on_error="skip"), lambda: mine.profile(memory="much"),
                  lambda: library.query("SELECT :v", params={"v": object()}), lambda: mine.look(rows=-1), lambda: mine.profile(sample=0),
                  lambda: mine.duplicates(on="n", groups=-1), lambda: mine.profile(memory=-1), lambda: mine.check("n > 0", allow="150%")):  # fmt: skip
        with pytest.raises(library.CallProblem):
            wrong()
    one, several = mine.count(key="code", totals="n"), mine.count(key=["code"], totals=["n"])
    assert one.to_dict() == several.to_dict()


def test_parameters_of_a_plan_have_the_types_that_toml_gives_them(folder: Path) -> None:
    write("t.csv", "n,day\n1,2024-02-28\n2,2024-03-01\n")
    for value, condition, rows in (
        ("2024-02-29", "day > :v", 1),
        ("2024-02-28T12:00:00", "CAST(day AS TIMESTAMP) > :v", 1),
        (str(10**30), "n < :v", 2),
        ('"2024-02-29"', "CAST(day AS TEXT) > :v", 1),
    ):
        head = f"table = 't.csv'\nwrite = 'o.csv'\nparams.v = {value}\n"
        write("p.toml", f"{head}[[step]]\nkeep_rows = '{condition}'\n")
        run = library.Plan.load("p.toml").run(dry=True).to_dict()
        assert (run["status"], run["steps"][-1]["out"]) == ("good", rows), value


def test_threads_share_tables_and_keep_their_results(folder: Path) -> None:
    write("t.csv", "id,name,n\n" + "".join(f"{at},name {at % 50},{at % 7}\n" for at in range(3000)))
    table = library.open_table("t.csv")

    def work(number: int) -> bool:
        rows = library.query(
            f"SELECT COUNT(*) AS c{number} FROM t WHERE n = {number % 7}", tables={"t": table}
        )
        checked = table.check(f"id >= {number}")
        return (rows.columns, rows.rows(), checked.checks[0].fails, table.profile(sample=100).sample.of) == (
            (f"c{number}",), [(3000 // 7 + (number % 7 < 3000 % 7),)], number, 3000)  # fmt: skip

    with ThreadPoolExecutor(4) as pool:
        assert all(pool.map(work, range(40)))
