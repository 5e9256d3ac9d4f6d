"""Every proof fails when what it claims is not so: a run is sabotaged between what it does and what it proves, and just that
proof must say so, the run be no good, and the target stand as it was. scripts/mutations forces each verdict and sees these fail."""

from __future__ import annotations

import math
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pytest

from conftest import write
from gravel.plans.claims import CLAIMS, claim_of
from gravel.sources.arrow import open_parquet
from gravel.sources.opening import READERS

ROWS = [(n, "ABC"[n % 3], f"boat {n}", n * 10, n % 4) for n in range(1, 41)]
HEAD = "id,pier,name,fee,berths\n"
DROP = '[[step]]\nkeep_rows = "berths > 0"\n'
NAME = '[[step]]\nset = { name = "UPPER(name)" }\n'
FILE = 'table = "b.csv"\nwrite = "o.csv"\nkey = ["id"]\ntotals = ["fee"]\n' + DROP + NAME
BARE = 'table = "b.csv"\nwrite = "o.csv"\n' + NAME
ALL_SET = (
    'table = "b.csv"\nwrite = "o.csv"\n[[step]]\n'
    'set = { id = "id + 1", pier = "LOWER(pier)", name = "UPPER(name)", fee = "fee + 1", berths = "berths + 1" }\n'
)
PARQUET = 'table = "b.parquet"\nwrite = "o.parquet"\n' + NAME
STORED = 'table = "b.csv"\nwrite = "h.db#o"\nreplace = true\nkey = "id"\n' + DROP + NAME
IN_PLACE = 'table = "h.db#b"\nwrite = "in place"\nkey = ["id"]\n' + DROP + NAME
APART = STORED.replace('key = "id"\n', 'key = "id"\nrejects = "h.db#left"\n')

Patch = pytest.MonkeyPatch


def _after(patch: Patch, place: str, name: str, then: Callable[..., Any]) -> None:
    """Let `then(result, *arguments)` make the result of a function or method."""
    module, _, owner = place.rpartition(":")
    target = __import__(module or owner, fromlist=["x"])
    target = getattr(target, owner) if module else target
    before = getattr(target, name)
    patch.setattr(target, name, lambda *given, **named: then(before(*given, **named), *given))


def _one_line_more(patch: Patch) -> None:
    _after(patch, "gravel.sources.csv.reader", "count_lines", lambda lines, *_: lines + 1)


def _one_row_more_in_the_store(patch: Patch) -> None:
    def open_one_more(*arguments: Any) -> Any:
        table = open_parquet(*arguments)
        table.counted = 41
        return table

    patch.setitem(READERS, ".parquet", open_one_more)


def _input_changes(patch: Patch) -> None:
    from gravel.plans.flow import Flow

    before = Flow.run

    def run(self: Flow) -> Iterator[Any]:
        yield from before(self)
        path = Path("b.csv")
        was, text = path.stat(), path.read_bytes()
        with open(path, "r+b") as file:  # the same file, size and time of change
            file.write(text.replace(b"boat 7", b"goat 7"))
        os.utime(path, ns=(was.st_atime_ns, was.st_mtime_ns))

    patch.setattr(Flow, "run", run)


def _a_row_is_lost(patch: Patch) -> None:
    def lose(outcome: Any, step: Any, rows: Any) -> Any:
        outcome.rows = outcome.rows.slice(0, outcome.rows.count - 1)
        outcome.count.rows_out = outcome.rows.count
        return outcome

    _after(patch, "gravel.plans.row_steps", "applied", lose)


def _a_row_is_not_written(patch: Patch) -> None:
    def short(data: bytes) -> bytes:
        return data[: data[:-1].rfind(b"\n") + 1] if data.count(b"\n") > 5 else data

    _laid_down(patch, short)


def _laid_down(patch: Patch, change: Callable[[bytes], bytes]) -> None:
    """Let other bytes be laid down than those of the rows."""
    place = "gravel.plans.result_rows:TextLayout"
    _after(patch, place, "__call__", lambda laid, *_: (change(laid[0]), laid[1]))


def _a_row_is_written_twice(patch: Patch) -> None:
    _laid_down(patch, lambda data: data + data[data[:-1].rfind(b"\n") + 1 :])


def _a_null_is_written_as_what_it_was(patch: Patch) -> None:
    _laid_down(patch, lambda data: data.replace(b",,", b",boat 7,"))


def _the_disk_keeps_another_byte(patch: Patch) -> None:
    from gravel.sinks.atomic_file import Output

    before = Output.close

    def close(self: Output) -> None:
        before(self)
        path = Path(self.path)
        path.write_bytes(path.read_bytes().replace(b"BOAT 7", b"GOAT 7"))

    patch.setattr(Output, "close", close)


def _a_left_row_is_not_written(patch: Patch) -> None:
    _after(
        patch,
        "gravel.plans.execution",
        "packed",
        lambda data, *_: data[: data[:-1].rfind(b"\n") + 1],
    )


def _an_untouched_cell_changes(patch: Patch) -> None:
    _laid_down(patch, lambda data: data.replace(b'7,"B"', b'7,"X"').replace(b"7,B", b"7,X"))


def _written_otherwise(change: Callable[[pa.Table], pa.Table]) -> Callable[[Patch], None]:
    def sabotage(patch: Patch) -> None:
        def change_file(result: Any, path: Path, *_: Any) -> Any:
            pq.write_table(change(pq.read_table(path)), path)
            return result

        from gravel.sinks import arrow

        before = arrow.write

        def written(path: Path, rows: Any, fields: Any, put: Any, forms: Any = None) -> Any:
            with open(path, "ab") as file:
                made = before(path, rows, fields, file.write, forms)
            return change_file(made, path)

        patch.setattr(arrow, "write", written)

    return sabotage


def _replaced(table: pa.Table, name: str, values: Any) -> pa.Table:
    return table.set_column(table.column_names.index(name), name, values)


def _wider(table: pa.Table) -> pa.Table:
    return _replaced(table, "berths", table["berths"].cast(pa.int64()))


def _other(table: pa.Table) -> pa.Table:
    return _replaced(table, "name", pc.replace_substring(table["name"], "BOAT 7", "GOAT 7"))


def _database_counts(where: Callable[[int, str], int]) -> Callable[[Patch], None]:
    return lambda patch: _after(
        patch,
        "gravel.stores.sql.sqlite:SQLite",
        "count",
        lambda rows, base, table: where(rows, table),
    )


def _runs_beside(method: str, sql: str) -> Callable[[Patch], None]:
    """A statement of somebody else's, inside the transaction, once the table that it names is written."""

    def sabotage(patch: Patch) -> None:
        def then(result: Any, base: Any, table: str, *_: Any) -> Any:
            if f'"{table}"' in sql or method != "insert":
                base.run(sql)
            return result

        _after(patch, "gravel.stores.sql.sqlite:SQLite", method, then)

    return sabotage


def _one_update_more(patch: Patch) -> None:
    _after(patch, "gravel.stores.sql.sqlite:SQLite", "update", lambda rows, *_: rows + 1)


def _in_vain(patch: Patch) -> None:
    """Nothing: the plan itself breaks what it claims."""


@dataclass(frozen=True)
class Case:
    """A plan, what is done to its run, and the claims that must fail."""

    plan: str
    sabotage: Callable[[Patch], None]
    failing: tuple[str, ...]
    more: tuple[str, ...] = ()


SAME, MADE, ROWS_OUT, HOLDS = (
    "columns that no step touched hold the same values",
    "columns that steps made hold what they made",
    "the output has the rows the ledger says",
    "{target} holds what was proved",
)
KEY, TABLE_ROWS = (
    "the key ({columns}) is unique and not null {when}",
    "the table has the rows the ledger says",
)
CASES = {
    "a line the reader did not see": Case(FILE, _one_line_more, ("every line of the file is accounted for",)),
    "a row the reader did not see": Case(PARQUET, _one_row_more_in_the_store, ("every row of the store is accounted for",)),
    "an input that changes": Case(FILE, _input_changes, ("the input did not change while it was read",)),
    "a row that a step loses": Case(BARE, _a_row_is_lost, ("every step balances",)),
    "expected rows that are missed": Case(FILE.replace(DROP, DROP + 'rows = "same"\n'), _in_vain, ("every step meets its expected rows",)),
    "a key that repeats before": Case('table = "twice.csv"\nwrite = "o.csv"\nkey = ["id"]\n[[step]]\nunique = { by = ["id"] }\n', _in_vain, (KEY,)),
    "a key that a step breaks": Case(FILE + '[[step]]\nset = { id = "CASE WHEN id = 3 THEN 5 ELSE id END" }\n', _in_vain, (KEY,)),
    "a key that a step empties": Case(FILE + '[[step]]\nset = { id = "NULLIF(id, 3)" }\n', _in_vain, (KEY,)),
    "a row that is not written": Case(ALL_SET, _a_row_is_not_written, (ROWS_OUT, MADE)),
    "a row that is written twice": Case(ALL_SET, _a_row_is_written_twice, (ROWS_OUT, MADE)),
    "a NULL that is written as what it was": Case(BARE.replace("UPPER(name)", "NULLIF(name, 'boat 7')"), _a_null_is_written_as_what_it_was, (MADE,)),
    "another byte on the disk": Case(BARE, _the_disk_keeps_another_byte, (ROWS_OUT, MADE)),
    "a rejected row that is not written": Case(FILE, _a_left_row_is_not_written, ("the rejects are all there",)),
    "an untouched cell that changes": Case(FILE, _an_untouched_cell_changes, (SAME,)),
    "a total that a step breaks": Case(FILE + '[[step]]\nset = { fee = "fee * 2" }\n', _in_vain, ("the control total of {expression} reconciles",)),
    "an untouched type that changes": Case(PARQUET, _written_otherwise(_wider), ("columns that no step touched have the same types",)),
    "another value in the file": Case(PARQUET, _written_otherwise(_other), (HOLDS,)),
    "rows fewer in the file": Case(PARQUET, _written_otherwise(lambda table: table.slice(1)), (HOLDS,)),
    "a database that miscounts": Case(STORED, _database_counts(lambda rows, table: rows + 1), (TABLE_ROWS,)),
    "another value in the table": Case(STORED, _runs_beside("insert", "UPDATE \"o\" SET name = 'GOAT 7' WHERE name = 'BOAT 7'"), (HOLDS,)),
    "a row taken from the table": Case(STORED, _runs_beside("insert", 'DELETE FROM "o" WHERE id = 7'), (TABLE_ROWS, HOLDS)),
    "a rejected row taken from its table": Case(
        APART, _runs_beside("insert", "DELETE FROM \"left\" WHERE gravel_row = '4'") , ("the table of rejects has them all",)),
    "an update that did more": Case(IN_PLACE, _one_update_more, ("only what differs was changed",)),
    "another's value after ours": Case(IN_PLACE, _runs_beside("update", "UPDATE b SET pier = 'X' WHERE id = 7"), (HOLDS,)),
    "a table that miscounts itself": Case(IN_PLACE, _database_counts(lambda rows, table: rows - (table == "b")), (TABLE_ROWS,)),
    "a copy that is not one": Case(
        IN_PLACE, _runs_beside("copy", "UPDATE kept SET fee = 1 WHERE id = 7"), ("{backup} holds the rows as they were",), ("--backup", "kept")),
    "rows that others lose": Case(IN_PLACE.replace("h.db#b", "h.db#parent"), _in_vain, ("tables that refer to it are as they were",)),
}  # fmt: skip


def _tables() -> None:
    rows = "".join(",".join(map(str, row)) + "\n" for row in ROWS)
    write("b.csv", HEAD + rows)
    write("twice.csv", HEAD + rows + "7,A,again,70,1\n")
    kinds = {
        "id": pa.int64(),
        "pier": pa.string(),
        "name": pa.string(),
        "fee": pa.int64(),
        "berths": pa.int16(),
    }
    pq.write_table(pa.table({name: pa.array(values, kind) for (name, kind), values in zip(kinds.items(), zip(*ROWS, strict=True), strict=True)}),
                   "b.parquet")  # fmt: skip
    columns = "id INTEGER PRIMARY KEY, pier TEXT, name TEXT, fee INTEGER, berths INTEGER"
    with closing(sqlite3.connect("h.db")) as base:
        for name in ("b", "parent"):
            base.execute(f"CREATE TABLE {name} ({columns})")
            base.executemany(f"INSERT INTO {name} VALUES (?, ?, ?, ?, ?)", ROWS)
        base.execute("CREATE TABLE child (id INTEGER REFERENCES parent (id) ON DELETE CASCADE)")
        base.execute("INSERT INTO child SELECT id FROM parent")
        base.commit()


def _state() -> dict[str, Any]:
    """What stands: the targets' bytes, and every table of the database."""
    found: dict[str, Any] = {path.name: path.read_bytes() for path in Path().glob("o*")}
    with closing(sqlite3.connect("h.db")) as base:
        for (name,) in base.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table'"
        ).fetchall():
            found[f"#{name}"] = base.execute(f'SELECT * FROM "{name}" ORDER BY 1').fetchall()
    return found


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_a_sabotaged_run_fails_in_just_that_proof(
    case: Case, figures: Any, monkeypatch: Patch
) -> None:
    _tables()
    if case.plan.startswith('table = "b.csv"') or case.plan.startswith('table = "b.parquet"'):
        write("first.toml", case.plan.split("key = ")[0] if "key = " in case.plan else case.plan)
        figures("clean", "first.toml")  # an older result, which must stand
    write("p.toml", case.plan)
    before = _state()
    with monkeypatch.context() as patch:
        case.sabotage(patch)
        run = figures("clean", "p.toml", *case.more, status=1)
    assert sorted(
        {claim_of(one["proof"]).text for one in run["proofs"] if not one["holds"]}
    ) == sorted(case.failing)
    assert _state() == before
    # The same without sabotage is a good run, unless the plan itself is the saboteur.
    if case.sabotage is not _in_vain:
        run = figures("clean", "p.toml", *case.more)
        assert all(one["holds"] for one in run["proofs"])
        assert _state() != before


def test_every_claim_can_fail(figures: Any) -> None:
    """But those that are only told, and the one without which nothing is proved: another state of a table is a conflict."""
    failing = {claim for case in CASES.values() for claim in case.failing}
    told = {
        "there is no key to prove after",
        "the total {expression}, told only",
        "the table is as it was when it was read",
    }
    assert failing | told == {claim.text for claim in CLAIMS}
    with pytest.raises(ValueError, match="no claim"):
        claim_of("all is well")


def test_control_totals_of_doubles_are_compared_before_they_are_rounded(figures: Any) -> None:
    """0.3 and 0.30000000000000004 are 0.6000000000000001 as doubles, and 0.6 before rounding."""
    for values, status in (
        ([0.1, 0.2, 0.3], "good"),
        ([1e300, 1.0, 0.5], "good"),
        ([math.inf, 0.2, 0.3], "failed"),
        ([math.nan, 0.2, 0.3], "failed"),
    ):
        pq.write_table(pa.table({"id": [1, 2, 3], "x": values}), "t.parquet")
        head = "table = 't.parquet'\nwrite = 'o.parquet'\ntotals = ['x']\nreplace = true\n"
        write("p.toml", head + "[[step]]\ndrop_rows = 'id = 3'\n")
        run = figures("clean", "p.toml", status=0 if status == "good" else 1)
        assert run["status"] == status, (values, run["proofs"])
        counts = figures("count", "t.parquet", "--total", "x")["tables"][0]["totals"]
        wanted = (
            math.fsum(values)
            if status == "good"
            else "NaN"
            if math.isnan(values[0])
            else "Infinity"
        )
        assert counts[0]["value"] == wanted


def test_proofs_tell_their_figures(figures: Any, monkeypatch: Patch) -> None:
    write("b.csv", "id,fee,note,name\n1,2.50,,a\n2,,,b\n3,4.00,,c\n4,1.25,,d\n")
    head = (
        'table = "b.csv"\nwrite = "{0}"\nkey = ["id"]\ntotals = ["fee", "MAX(fee)", "MIN(note)"]\n'
    )
    steps = '[[step]]\ndrop_rows = "id = 3"\n' + NAME
    for target, counted in (
        ("o.csv", "the written file"),
        ("o.parquet", "the result before it is stored"),
    ):
        write("p.toml", head.format(target) + steps)
        proofs = {item["proof"]: item["detail"] for item in figures("clean", "p.toml")["proofs"]}
        assert proofs["the input did not change while it was read"].startswith(
            "53 bytes, SHA-256 6c02cbba4441"
        )
        assert {name: detail for name, detail in proofs.items() if "SHA-256" not in detail and "what was proved" not in name} == {
            "every line of the file is accounted for": "5 lines = 1 header + 4 rows",
            "every step balances": "4 in - 1 dropped - 0 set aside = 3 out",
            "the key (id) is unique and not null before": "4 rows, 4 different keys",
            "the output has the rows the ledger says": f"3 rows counted in {counted}, 3 in the ledger",
            "the rejects are all there": "1 row counted in the file of rejects, 1 in the ledger",
            "the key (id) is unique and not null after": "3 rows, 3 different keys",
            "columns that no step touched hold the same values": "3 columns (id, fee, note), 3 rows",
            "columns that steps made hold what they made": "1 column (name), 3 rows",
            "the control total of fee reconciles": "7.75 at the start, 3.75 in the output, 4.00 in the rejects",
            "the total MAX(fee), told only": "4.00 at the start, 2.50 in the output",
            "the total MIN(note), told only": "NULL at the start, NULL in the output",
        }  # fmt: skip
    write("p.toml", head.format("o.csv") + "[[step]]\nset = { name = \"id || 'x'\" }\n")
    told = figures("clean", "p.toml", "--dry-run")["proofs"]
    details = [item["detail"] for item in told]
    assert "4 in - 0 dropped - 0 set aside = 4 out" in details
    assert "4 rows counted in the file that would be written, 4 in the ledger" in details
    write("k.csv", "id,fee\n1,2\n1,3\n,4\n5,5\n")
    write(
        "p.toml",
        'table = "k.csv"\nwrite = "o.csv"\nreplace = true\nkey = "id"\n'
        + "[[step]]\nset = { fee = 'fee + 1' }\n",
    )
    told = {
        item["proof"]: item["detail"] for item in figures("clean", "p.toml", status=1)["proofs"]
    }
    start = "1 row with NULL in the key; 1 key in 2 rows, such as 1 in rows "
    assert told["the key (id) is unique and not null before"] == f"{start}1, 2"
    assert told["the key (id) is unique and not null after"] == f"{start}of the output 1, 2"
    assert told["columns that no step touched hold the same values"] == "1 column (id), 4 rows"
    _tables()
    write("p.toml", BARE)
    with monkeypatch.context() as patch:
        _input_changes(patch)
        told = figures("clean", "p.toml", "--replace", status=1)["proofs"]
    size = f"{Path('b.csv').stat().st_size:,} bytes"
    changed = f"{size} when it was read, {size.removesuffix(' bytes')} now, and others"
    assert [item["detail"] for item in told if not item["holds"]] == [changed]
