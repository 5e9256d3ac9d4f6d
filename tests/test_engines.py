"""The engines: what a command says is the same however a table is cut into tasks and its hashes into ranges, as states, work and
questions go elsewhere and come back as bytes."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import gravel as library
from conftest import Ran, write
from gravel.engine.engine import Question
from gravel.sources.opening import open_table
from gravel.spark.row_tasks import ROWS, BeginTask, rows_of, run_begin
from gravel.spark.stages import go_on
from gravel.spark.tasks import (
    BESIDE,
    FAILURE,
    GROUPS,
    PART,
    ExchangeTask,
    FinishTask,
    MapTask,
    MatchTask,
    RangeTask,
    ReduceTask,
    Reference,
    run_exchange,
    run_finish,
    run_map,
    run_match,
    run_ranges,
    run_reduce,
)
from gravel.spark.travel import packed, unpacked

CASES = {
    "profile of text": "profile boats.csv",
    "profile of Parquet": "profile boats.parquet --memory 1MB",
    "profile of several files": "profile part-*.csv --delimiter ,",
    "profile of a sample": "profile boats.csv --sample 2000",
    "profile of chosen rows": "profile boats.csv --where fee>300\0OR\0name='Tern'\0OR\x001/(boat_id-7)<0",
    "count of chosen rows": "count boats.parquet --where name=:n --param n=Tern --key mail --total boat_id",
    "check of chosen rows": "check part-b.csv fee>100 COUNT(*)>10 --where boat_id%2=0",
    "duplicates of chosen rows": "duplicates boats.csv --on name --where fee>20 --rows 3 --level case",
    "count": "count boats.csv boats.parquet --key boat_id,name --distinct UPPER(name),day --total boat_id",
    "check": "check boats.parquet fee>100 COUNT(DISTINCT\0mail)>1500 SUM(DISTINCT\0fee)>1 AVG(fee)>1 1/(boat_id-7)<2",
    "check with rows set aside": "check boats.csv fee>100 name='Tern' COUNT(DISTINCT\0mail)>1500 --set-aside aside.csv",
    "check that sets nothing aside": "check boats.parquet boat_id>0 --set-aside aside.csv",
    "duplicates": "duplicates boats.csv --on name --on day --rows 3",
    "duplicates by words": "duplicates boats.parquet --on mail --level words --key boat_id --memory 1MB",
    "nearly equal": "duplicates boats.csv --near name --within 1 --block day --key boat_id --where fee>900 --rows 5",
    "look": "look boats.csv --where fee>900 --show UPPER(name)\0AS\0upper --rows 400",
    "look in order": "look boats.csv --sort fee\0/\0(boat_id\0%\09)\0DESC,\0name --where fee>300 --rows 40",
    "look in the order of ties": "look boats.parquet --sort name --rows 30",
    "try": "try boats.csv mail=UPPER(mail) fee=fee/(boat_id-7) --rows 12",
    "compare": "compare boats.csv boats.parquet --key boat_id --map fee=paid --map paid=fee --within 9.5 --memory 1MB",
    "compare by a key that repeats": "compare part-b.csv boats.csv --key name",
    "compare without a key": "compare part-b.csv boats.parquet --ignore-case --where fee>20",
    "compare with nothing": "compare boats.parquet boats.csv --key mail --where fee<0",
    "query": "query SELECT\0name,\0COUNT(*),\0MAX(12/(boat_id-7))\0FROM\0'boats.csv'\0WHERE\0fee>99\0OR\0name='Tern'\0OR\x001/(boat_id-9)>0\0GROUP\0BY\0name --on-error null",
    "query of groups": "query SELECT\0paid%3,\0COUNT(*),\0COUNT(mail),\0COUNT(DISTINCT\0name),\0SUM(fee),\0AVG(1/(boat_id-7)),\0CORR(fee,paid)\0FROM\0'boats.csv'\0WHERE\0fee>99\0GROUP\0BY\x001\0HAVING\0COUNT(*)>3\0ORDER\0BY\0MAX(fee)\0DESC --on-error null",
    "query of many groups": "query SELECT\0UPPER(mail),\0day,\0COUNT(*),\0COUNT(DISTINCT\0name),\0STDDEV_SAMP(fee),\0MAX(fee/(boat_id-7))\0FROM\0'boats.csv'\0WHERE\0fee>9\0GROUP\0BY\0UPPER(mail),\0day\0HAVING\0COUNT(*)>1\0OR\0SUM(boat_id)/(MIN(boat_id)-24)<9 --on-error null",
    "query of groups of several partners": "query SELECT\0p.fee,\0MIN(b.mail),\0MAX(name),\0COUNT(*)\0FROM\0'boats.csv'\0AS\0b\0JOIN\0(SELECT\0paid,\0fee\0FROM\0'part-b.csv'\0LIMIT\x0090)\0AS\0p\0USING\0(paid)\0GROUP\0BY\0p.fee",
    "query of all rows": "query SELECT\0COUNT(*)\0AS\0n,\0MIN(fee),\0COUNT(DISTINCT\0(day,paid)),\0SUM(DISTINCT\0paid)\0FROM\0'boats.parquet'\0AS\0b\0WHERE\0b.day>='2010'",
    "query in order": "query SELECT\0*,\0paid\0AS\0p\0FROM\0'boats.csv'\0WHERE\0fee>99\0ORDER\0BY\0p\0DESC\0NULLS\0LAST\0OFFSET\x003\0ROWS\0FETCH\0FIRST\x004\0ROWS\0WITH\0TIES",
    "query in the order of a column whose name a result has too": 'query SELECT\0boat_id\0AS\0"Paid",\0day\0FROM\0\'boats.parquet\'\0ORDER\0BY\0"paid"\0DESC,\0fee\0LIMIT\x005',
    "query of different rows": "query SELECT\0DISTINCT\0name,\0b.paid\0FROM\0'boats.csv'\0AS\0b\0WHERE\0fee>99\0ORDER\0BY\x001\0LIMIT\x0020",
    "query of several tables": "query SELECT\0b.name,\0p.*\0FROM\0'boats.parquet'\0AS\0b\0JOIN\0'part-b.csv'\0AS\0p\0USING\0(boat_id)\0WHERE\0b.fee>500\0ORDER\0BY\0b.fee,\x002\0LIMIT\x0050",
    "query of joined groups": "query SELECT\0n.share,\0COUNT(*),\0COUNT(DISTINCT\0b.day),\0SUM(p.fee\0/\0(b.boat_id\0-\x007))\0FROM\0'boats.csv'\0AS\0b\0LEFT\0JOIN\0(SELECT\0name,\0COUNT(*)\0AS\0share\0FROM\0'boats.parquet'\0WHERE\0fee\0>\x0099\0GROUP\0BY\0name)\0AS\0n\0ON\0TRIM(b.name)\0=\0n.name\0AND\x0012\0/\0(b.boat_id\0-\x009)\0<\x005\0CROSS\0JOIN\0(SELECT\0AVG(fee)\0AS\0fee\0FROM\0'part-a.csv'\0WHERE\0fee\0IS\0NOT\0NULL)\0AS\0p\0WHERE\0n.share\0>\x003\0GROUP\0BY\0n.share --on-error null",
    "query of groups of rows before a table": "query SELECT\0n.name,\0n.share,\0COUNT(b.boat_id),\0SUM(b.fee\0/\0(b.boat_id\0-\x007)),\0MAX(p.fee)\0FROM\0(SELECT\0name,\0COUNT(*)\0AS\0share\0FROM\0'part-b.csv'\0WHERE\0fee\0>\x0099\0GROUP\0BY\0name)\0AS\0n\0LEFT\0JOIN\0'boats.parquet'\0AS\0b\0ON\0TRIM(b.name)\0=\0n.name\0AND\x0012\0/\0(b.boat_id\0-\x009)\0<\x005\0LEFT\0JOIN\0'part-a.csv'\0AS\0p\0USING\0(boat_id)\0WHERE\0n.share\0>\x003\0GROUP\0BY\0n.name,\0n.share --on-error null",
    "query of rows before a table": "query SELECT\0DISTINCT\0n.name,\0b.paid\0FROM\0(SELECT\0name,\0boat_id\0FROM\0'part-b.csv'\0LIMIT\x009)\0AS\0n\0JOIN\0'boats.csv'\0AS\0b\0ON\0UPPER(b.name)\0=\0n.name\0ORDER\0BY\0b.paid\0DESC\0LIMIT\x0050",
    "query of items of lists": "query SELECT\0u.part,\0COUNT(*),\0SUM(fee)\0FROM\0'boats.parquet'\0AS\0b,\0UNNEST(LIST_ITEMS(mail,\0'.'))\0AS\0u(part)\0WHERE\0b.boat_id\0%\x007\0<\x005\0GROUP\0BY\0u.part\0ORDER\0BY\x002,\x001",
    "query of a list of tables": "query SELECT\0p.*,\0u.*\0FROM\0'part-b.csv'\0AS\0p,\0'boats.csv'\0AS\0b\0LEFT\0JOIN\0UNNEST(LIST_ITEMS(b.name,\0'\0'))\0WITH\0ORDINALITY\0AS\0u(word,\0nth)\0ON\0TRUE\0WHERE\0p.boat_id\0=\0b.boat_id\0AND\0'Tern'\0=\0p.name",
    "query of NULL in keys": "query SELECT\0COUNT(*),\0COUNT(b.boat_id)\0FROM\0(SELECT\0NULLIF(paid,\0boat_id\0%\x007)\0AS\0paid\0FROM\0'part-b.csv')\0AS\0n\0LEFT\0JOIN\0'boats.parquet'\0AS\0b\0ON\0n.paid\0=\0NULLIF(b.paid,\0b.boat_id\0%\x008)",
    "query of the first rows before a table": "query SELECT\0n.name,\0b.boat_id\0FROM\0(SELECT\0name\0FROM\0'part-b.csv'\0WHERE\0boat_id\0%\x00500\0=\x001)\0AS\0n\0JOIN\0'boats.parquet'\0AS\0b\0ON\0b.name\0=\0n.name\0LIMIT\x007",
    "query of lists without items": "query SELECT\0COUNT(*)\0FROM\0'boats.parquet'\0AS\0b,\0UNNEST(LIST_ITEMS(NULLIF(name,\0'Tern'),\0'\0'))\0AS\0u(part)",
    "query of rows without a partner": "query SELECT\0COUNT(*)\0FROM\0'boats.parquet'\0AS\0b\0LEFT\0JOIN\0'part-a.csv'\0AS\0p\0USING\0(boat_id)\0WHERE\0p.fee\0IS\0NULL",
    "query of a list that a query makes": "query SELECT\0u.x,\0COUNT(*)\0FROM\0'boats.parquet'\0AS\0b,\0UNNEST((SELECT\0ARRAY_AGG(DISTINCT\0paid)\0FROM\0'part-a.csv'))\0AS\0u(x)\0GROUP\0BY\0u.x",
    "query of the first rows": "query SELECT\0mail\0FROM\0'boats.parquet'\0WHERE\0fee>900\0LIMIT\x007",
    "query that fails": "query SELECT\0name\0FROM\0'boats.csv'\0WHERE\0fee/(boat_id-7)>1",
    "check by another table": "check boats.csv name\0IN\0(SELECT\0name\0FROM\0'boats.parquet'\0WHERE\0fee>950)",
    "a mistake": "check boats.csv name+1>2",
    "check of text": "check boats.csv name='Tern' STDDEV_SAMP(boat_id)>1 --unknown fails",
}
MISTAKES = ("a mistake", "query that fails")


class Values:
    """Slices of distinct values, or of rows."""

    def __init__(
        self, engine: Elsewhere, slices: list[dict[str, Any]], merged: bool, others: int = 0
    ) -> None:
        self.engine, self.slices, self.merged, self.others = engine, slices, merged, others

    def __len__(self) -> int:
        return self.engine.ask([Question(self, size_of, sum)])[0]

    def batches(self) -> list[pa.RecordBatch]:
        ordered = sorted(self.slices, key=lambda record: (record["range"], record["place"]))
        return [pa.RecordBatch.from_pylist([record | {"key": 0}]) for record in ordered]


def size_of(piece: Any) -> int:
    return len(piece.first)


class Made:
    """Records that tasks have made."""

    def __init__(self, records: list[dict[str, Any]]) -> None:
        self.records = records

    def told(self, key: int, count: int) -> Iterator[Any]:
        mine = [record for record in self.records if record["key"] in (key, FAILURE)]
        for _, parts in groupby(
            sorted(mine, key=itemgetter("place", "range")), itemgetter("place")
        ):
            first, *others = parts
            if first["key"] == FAILURE:
                raise unpacked(first["data"])
            yield unpacked(first["data"] + b"".join(record["data"] for record in others))

    def worked(self, count: int) -> Iterator[Any]:
        for place, (part, _) in enumerate(self.told(PART, count)):
            mine = [item for item in self.records if (item["key"], item["place"]) == (ROWS, place)]
            yield part, rows_of([item["data"] for item in mine])

    def then(self, run: Any, ranges: int | None) -> Made:
        slices = [record for record in self.records if record["key"] == ROWS]
        by = ("place", "range") if ranges is None else ("range", "place")
        slices.reverse()
        ordered = sorted(slices, key=itemgetter(*by))
        made = []
        for part in reversed([list(part) for _, part in groupby(ordered, itemgetter(by[0]))]):
            batches = [pa.RecordBatch.from_pylist([record]) for record in part]
            made += [row for batch in run(batches) for row in batch.to_pylist()]
        return Made(made)


def finished(task: FinishTask, records: list[Any]) -> list[Any]:
    """The records of groups, finished range by range."""
    made = []
    records = sorted(records, key=itemgetter("range", "key", "place"))
    for _, of_range in groupby(records, itemgetter("range")):
        batch = pa.RecordBatch.from_pylist(list(of_range))
        made += [row for one in run_finish(packed(task), [batch]) for row in one.to_pylist()]
    return made


class Elsewhere:
    """An engine of tasks that share nothing: each gets bytes and gives bytes, in this process."""

    address, description = "there", "elsewhere"

    def __init__(self, table: Reference, tasks: int, ranges: int) -> None:
        self.table, self.tasks, self.ranges = table, tasks, ranges

    def _records(self, task: MapTask | ReduceTask, run: Any = run_map) -> Iterator[dict[str, Any]]:
        """The records of all tasks, each on some splits in a row; the last one is run first."""
        numbers = range(len(task.splits))
        size = -(-len(numbers) // self.tasks)
        cut = [numbers[start : start + size] for start in range(0, len(numbers), size)]
        every = []
        for part in reversed(cut):
            batch = pa.record_batch([pa.array(part, pa.int64())], ["id"])
            every.append([row for made in run(packed(task), [batch]) for row in made.to_pylist()])
        for records in reversed(every):
            for record in records:
                if record["key"] == FAILURE:
                    raise unpacked(record["data"])
                yield record

    def choosing(self, choice: Any) -> Elsewhere:
        return Elsewhere(replace(self.table, choice=choice), self.tasks, self.ranges)

    def map_splits(
        self, table: Any, work: Any, wanted: Any = None, splits: Iterable[Any] | None = None
    ) -> Iterator[Any]:
        chosen = table.pieces() if splits is None else splits
        outlines = tuple(table.outline(split) for split in chosen)
        if outlines:
            records = self._records(MapTask(self.table, outlines, work=work))
            for _, slices in groupby(records, itemgetter("place")):
                yield unpacked(b"".join(record["data"] for record in slices))

    def run(
        self, state: Any, table: Any, wanted: Sequence[int] | None = None, beside: Any = None
    ) -> None:
        splits = tuple(table.outline(split) for split in table.pieces())
        columns = None if wanted is None else tuple(wanted)
        records = list(
            self._records(
                MapTask(self.table, splits, None, state, columns, self.ranges, beside is not None)
            )
        )
        parts = [record for record in records if record["key"] == PART]
        for _, slices in groupby(parts, itemgetter("place")):
            state.merge(unpacked(b"".join(record["data"] for record in slices)))
        if beside is not None:
            for told in Made(records).told(BESIDE, len(splits)):
                beside(told)
        for number, (key, empty) in enumerate(list(state.distinct.items())):
            mine = [record for record in records if record["key"] == number]
            state.distinct[key] = Values(self, mine, True, getattr(empty, "others", 0))

    def run_stages(
        self, table: Any, stages: Any, splits: Iterable[Any], take: Any, memory: int
    ) -> Iterator[Any]:
        outlines = tuple(table.outline(split) for split in splits)
        batch = pa.record_batch([pa.array(range(len(outlines)), pa.int64())], ["id"])

        def begin(stage: Any) -> Made:
            task = packed(BeginTask(stage, self.table, outlines, self.ranges))
            return Made([row for made in run_begin(task, [batch]) for row in made.to_pylist()])

        return go_on(stages, begin, len(outlines), take, self.ranges, memory)

    def reduce(self, tables: Any, reduction: Any, take: Any) -> Iterator[Any]:
        last, count = self.ranges if reduction.ranged else 1, 0
        ranges = last if reduction.again is None else self.ranges
        records: list[Any] = []
        for table, work in zip(tables, reduction.works, strict=True):
            splits = tuple(table.outline(split) for split in table.pieces())
            task = ReduceTask(table.engine.table, splits, work, ranges, count)
            records += self._records(task, run_reduce) if splits else []
            count += len(splits)
        if reduction.again is not None:
            records = finished(FinishTask(reduction.finish, last), records)
        made = Made(finished(FinishTask(reduction.again or reduction.finish), records))
        for part in (*made.told(PART, count), *made.told(BESIDE, ranges)):
            take(part, None)
        yield from made.told(GROUPS, last)

    def exchange(self, values: Values, rekeyed: Any) -> Values:
        task = packed(ExchangeTask(rekeyed, self.ranges))
        made = run_exchange(task, values.batches())
        return Values(self, [record for batch in made for record in batch.to_pylist()], False)

    def match(self, before: Values, after: Values, work: Any, ranges: int) -> Iterator[Any]:
        sides = [(0, record) for record in before.slices] + [(1, record) for record in after.slices]
        slices = [record | {"key": side} for side, record in sides]
        ordered = sorted(slices, key=itemgetter("range", "key", "place"))
        task = packed(MatchTask(work, before.others))
        batches = [pa.RecordBatch.from_pylist(ordered)] if ordered else []
        made = [row for batch in run_match(task, batches) for row in batch.to_pylist()]
        for _, parts in groupby(made, itemgetter("place")):
            yield unpacked(b"".join(record["data"] for record in parts))

    def ask(self, questions: Sequence[Question[Any, Any]], threads: int | None = None) -> list[Any]:
        answers = []
        for question in questions:
            assert isinstance(question.of, Values)
            task = packed(RangeTask({0: {0: question.figures}}, question.of.merged))
            ranges = [
                row for made in run_ranges(task, question.of.batches()) for row in made.to_pylist()
            ]
            answers.append(question.together(unpacked(record["data"]) for record in ranges))
        return answers


PLAN = """table = "{table}"
write = "{write}"
malformed = "set aside"
on_error = "set aside"
key = "boat_id"
totals = {totals}
read.delimiter = ","

[[step]]
set = {{ name = "UPPER(name)", mail = "NULLIF(mail, '')", share = "fee / (boat_id - 7)" }}

[[step]]
only = "boat_id % 3 = 0"
set = {{ fee = "fee * CASE WHEN fee > 500 THEN 2 WHEN fee > 900 THEN 3 END" }}
on_error = "null"

[[step]]
split = {{ column = "mail", on = ".", into = "rows", as = "part", number = "part_no" }}

[[step]]
drop_rows = "fee < 40"
rows = "fewer"

[[step]]
check = {{ cheap = "fee < 5000" }}
allow = "50%"

{whole}[[step]]
columns = ["boat_id", "name AS boat", "day", "fee", "share", "part"]
"""
WHOLE = """[[step]]
only = "fee > 100"
deduplicate = {{ by = ["name", "12 / (boat_id % 5)"], prefer = "day DESC", fill = ["share"], conflicts = "{conflicts}" }}

[[step]]
set = {{ fee = "fee + 1" }}

[[step]]
sort = ["day", "fee / (boat_id % 11) DESC NULLS FIRST"]

[[step]]
drop_rows = "fee < 60"
rows = "fewer"

"""
QUERY = """[[step]]
query = "SELECT i.*, b.mail AS other FROM input AS i JOIN 'boats.parquet' AS b ON b.boat_id = i.boat_id + 1"
rows = "fewer"

[[step]]
set = { part = "COALESCE(part, other)" }

[[step]]
drop_rows = "boat_id NOT IN (SELECT boat_id FROM 'boats.csv' WHERE fee < 700)"

"""
PLANS = {
    "text": ("boats.csv", "clean.csv", "COUNT(mail)"),
    "several files": ("part-*.csv", "clean.csv", "MAX(day)"),
    "Parquet": ("boats.parquet", "clean.parquet", "COUNT(mail)"),
    "Parquet to text": ("boats.parquet", "clean.tsv", "COUNT(mail)"),
    "a query": ("boats.csv", "clean.parquet", "COUNT(mail)"),
    "a proof that fails": ("boats.csv", "clean.csv", "fee"),
}


def plan_of(case: str) -> tuple[str, str]:
    """Write plan.toml; its table and its control total."""
    table, write_to, total = PLANS[case]
    conflicts = "set aside" if case == "Parquet" else "count"
    whole = "" if case == "text" else WHOLE.format(conflicts=conflicts)
    whole = QUERY + whole if case == "a query" else whole
    plan = PLAN.format(table=table, write=write_to, totals=[total], whole=whole)
    if total == "fee":  # a proof that fails, and another: keys are looked up by value
        plan = plan.replace('key = "boat_id"', 'key = "name"')
    write("plan.toml", plan)
    return table, total


def written(folder: Path) -> dict[str, Any]:
    """What a run has written, a record without what it says of when and where it was made, and of DECIMALs that were given
    room; gone afterwards."""
    result: dict[str, Any] = {}
    for path in sorted(folder.glob("clean*")):
        result[path.name] = path.read_bytes()
        if path.name == "clean.record.json":
            result[path.name] = json.loads(result[path.name])
            for name in ("engine", "begun", "ended"):
                del result[path.name][name]
            del result[path.name]["output"]["columns"]
        path.unlink()
    return result


def set_aside() -> bytes:
    """The rows that a check has set aside; they are gone afterwards."""
    path = Path("aside.csv")
    result = path.read_bytes() if path.exists() else b""
    path.unlink(missing_ok=True)
    return result


def read_elsewhere(monkeypatch: pytest.MonkeyPatch, tasks: int, ranges: int) -> None:
    """Whatever engine is asked for is this one, of so many tasks and ranges."""

    def opened(reference: str, reading: Any, address: str, folder: Path | None = None) -> Any:
        table = open_table(reference, reading, folder)
        files = tuple(source.state for source in table.sources)
        where = Reference(reference, str(folder or Path.cwd()), reading, files)
        table.engine = Elsewhere(where, tasks, ranges)
        return table

    monkeypatch.setattr("gravel.spark.open_table", opened)


@pytest.fixture
def elsewhere(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """See read_elsewhere; batches and slices are small."""
    read_elsewhere(monkeypatch, *request.param)
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 30_000)
    monkeypatch.setattr("gravel.spark.tasks._MOST_OF_ONE", 35_000)
    monkeypatch.setattr("gravel.spark.tasks._MOST_GROUPS", 300)
    monkeypatch.setattr("gravel.spark.row_tasks._MOST_OF_ONE", 35_000)
    for module in (
        "engine.arrangement",
        "engine.external",
        "plans.row_steps",
        "spark.row_tasks",
        "spark.stages",
    ):
        monkeypatch.setattr(f"gravel.{module}.OUT", 500)


OTHER_CUTS = [
    (case, cut) for case in ("profile of text", "duplicates", "compare") for cut in ((1, 1), (3, 4))
]


@pytest.mark.parametrize(
    ("case", "elsewhere"),
    [*((case, (40, 16)) for case in CASES), *OTHER_CUTS],
    ids=str,
    indirect=["elsewhere"],
)
def test_what_a_command_says_does_not_depend_on_who_reads_the_table(
    tables: Path, gravel: Callable[..., Ran], elsewhere: None, case: str
) -> None:
    words = [word.replace("\0", " ") for word in CASES[case].split(" ")]
    here, aside = gravel(*words, "--format", "json", status=None), set_aside()
    assert here.status < 2 or case in MISTAKES, here.err
    there = gravel(*words, "--format", "json", "--engine", "elsewhere", status=None)
    assert (there, set_aside()) == (here, aside)


@pytest.mark.parametrize(
    ("case", "elsewhere"),
    zip(PLANS, [(40, 16), (3, 4), (40, 16), (3, 4), (40, 4), (40, 16)], strict=True),
    ids=str,
    indirect=["elsewhere"],
)
def test_what_a_plan_writes_does_not_depend_on_who_does_its_steps(
    tables: Path, gravel: Callable[..., Ran], elsewhere: None, case: str
) -> None:
    table, total = plan_of(case)
    after: list[tuple[str, ...]] = [
        ("look", "plan.toml", "--after", "4", "--where", "fee > 900", "--sort", "share, day"),
        ("try", "--plan", "plan.toml", "part = UPPER(part)"),
    ]
    for words in (
        ("clean", "plan.toml"),
        ("clean", "plan.toml", "--sample", "3000"),
        ("clean", "plan.toml", "--until", "2"),
        ("try", "--plan", "plan.toml", "--step", "3"),
        ("try", table, "--step", "drop_rows = 'fee > 990'", "--delimiter", ","),
        ("trace", "plan.toml", "--row", "7", "--where", "fee > 990", "--rows", "20"),
        *(after if case.endswith("text") else ()),
    ):
        here, files = gravel(*words, "--format", "json", status=None), written(tables)
        whole = words[0] == "clean" and "--sample" not in words
        if words[0] == "clean":
            told = json.loads(here.out)
            for step in told["steps"]:
                failed = [item["rows"] for item in told["errors"] if item["step"] == step["step"]]
                assert step["verb"] != "sort" or sum(failed) == step["set_aside"] > 0
        assert here.status == (total == "fee" and whole), here.err
        assert len(files) == (3 if here.status == 0 and words == ("clean", "plan.toml") else 0)
        there = gravel(*words, "--format", "json", "--engine", "elsewhere", status=None)
        assert (there, written(tables)) == (here, files)


CAME = {
    "SELECT paid, COUNT(*) FROM 'boats.csv' WHERE fee > 99 GROUP BY paid": "7 groups",  # where fee is NULL, paid is
    "SELECT boat_id FROM 'boats.csv' WHERE boat_id > 5990": "9 rows",
    "SELECT DISTINCT paid FROM 'boats.parquet' AS b": "24 rows",  # 8 of each of 3 batches
    "SELECT boat_id FROM 'boats.parquet' ORDER BY fee DESC NULLS LAST LIMIT 4": "12 rows",
    "SELECT b.name FROM 'boats.parquet' AS b JOIN 'part-a.csv' AS p USING (boat_id)": "1,500 rows",
    "SELECT b.name FROM 'boats.parquet' AS b JOIN 'part-a.csv' AS p USING (boat_id) LIMIT 5": "500 rows",
    "SELECT p.paid, COUNT(*) FROM 'boats.parquet' AS b LEFT JOIN 'part-a.csv' AS p USING (boat_id) WHERE b.fee > 9 GROUP BY p.paid": "8 groups",
}


@pytest.mark.parametrize("elsewhere", [(40, 16)], ids=str, indirect=True)
def test_only_what_a_query_needs_comes_from_elsewhere(
    tables: Path, gravel: Callable[..., Ran], elsewhere: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    for text, came in CAME.items():
        told = gravel("query", text, "--explain", "--engine", "elsewhere").out
        assert came in told.partition("what came from Spark")[2].splitlines()[-1], text
    monkeypatch.setattr("gravel.querying.scanning._LARGE", 0)
    joined = "FROM 'boats.csv' AS b FULL JOIN 'part-a.csv' AS p USING (boat_id) WHERE boat_id < 40"
    for item, came in (("b.name", "  40 rows"), ("COUNT(*)", "1 group")):
        told = gravel("query", f"SELECT {item} {joined}", "--explain", "--engine", "elsewhere").out
        assert told.count(came) > 1, told
    for bound in ("_ROOM", "DEFAULT_MEMORY"):
        monkeypatch.setattr(f"gravel.querying.joining.{bound}", 1000)
    text = "SELECT COUNT(*) FROM 'boats.csv' AS b JOIN 'boats.parquet' AS p ON b.paid = p.paid"
    told = gravel("query", text, "--engine", "elsewhere", status=1).err
    assert "join on what is a key of one side" in told
    assert "--memory" not in told


PAIRS = {
    "further joins": "SELECT b.name, p.fee, n.share, u.word FROM 'boats.csv' AS b LEFT JOIN 'part-b.csv' AS p"
    " USING (boat_id) LEFT JOIN (SELECT name, COUNT(*) AS share FROM 'boats.parquet' WHERE fee > 99 GROUP BY name)"
    " AS n ON TRIM(b.name) = n.name CROSS JOIN UNNEST(LIST_ITEMS(b.name, ' ')) AS u(word) WHERE b.fee > 900",
    "a list": "SELECT p.*, b.day FROM 'part-b.csv' AS p, 'boats.csv' AS b"
    " WHERE p.boat_id = b.boat_id AND 'Tern' = p.name ORDER BY p.fee DESC",
    "the same names": "SELECT DISTINCT name, paid FROM 'boats.csv' NATURAL JOIN 'part-a.csv' ORDER BY name LIMIT 9",
    "itself": "SELECT a.boat_id, b.mail FROM 'boats.parquet' AS a FULL JOIN 'boats.parquet' AS b"
    " ON a.boat_id = b.boat_id + 5990",
    "a third large one": "SELECT COUNT(*), MIN(c.day) FROM 'boats.csv' AS a JOIN 'boats.parquet' AS b USING (boat_id)"
    " JOIN (SELECT * FROM 'part-a.csv' ORDER BY boat_id) AS c USING (boat_id)",
    "groups": "SELECT p.paid, b.name, COUNT(*) AS n, PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY b.fee), LISTAGG(p.mail, ' ')"
    " FROM 'part-b.csv' AS p RIGHT JOIN 'boats.parquet' AS b ON b.name = p.name AND b.paid % 9 = p.boat_id % 9"
    " GROUP BY p.paid, b.name HAVING COUNT(*) > 2",
    "one group": "SELECT COUNT(DISTINCT b.name), ARRAY_AGG(p.boat_id) FROM 'part-b.csv' AS p"
    " LEFT JOIN 'boats.csv' AS b ON b.boat_id = p.boat_id + 5900",
    "no rows": "SELECT COUNT(*), MAX(p.fee) FROM 'boats.csv' AS b JOIN 'part-b.csv' AS p ON b.boat_id = p.boat_id - 99999",
    "keys that fail": "SELECT p.boat_id, b.boat_id AS other FROM 'part-a.csv' AS p JOIN 'boats.csv' AS b"
    " ON 840 / (p.boat_id - 9) = b.boat_id AND 1 / (b.boat_id - 7) < 2",
}  # fmt: skip


@pytest.mark.parametrize(
    ("case", "elsewhere"),
    zip(PAIRS, [(40, 16), (3, 4), (1, 300)] * 3, strict=True),
    ids=str,
    indirect=["elsewhere"],
)
def test_two_large_tables_are_joined_alike_whoever_does_it(
    tables: Path,
    gravel: Callable[..., Ran],
    elsewhere: None,
    case: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("gravel.querying.scanning._LARGE", 0)
    for policy in ("stop", "null", "set-aside"):
        words = ("query", PAIRS[case], "--on-error", policy, "--format", "json")
        here = gravel(*words, status=None)
        assert (here.status == 0) == (case != "keys that fail" or policy != "stop"), here.err
        there = gravel(*words, "--engine", "elsewhere", status=None)
        assert there.status == here.status
        if case == "itself":  # it is read once here, and twice there
            assert json.loads(there.out)["rows"] == json.loads(here.out)["rows"]
        else:
            assert there.out == here.out
        assert sorted(there.err.splitlines()) == sorted(here.err.splitlines())


ROWS_OF_GROUPS = st.lists(
    st.tuples(
        st.sampled_from(["a", "A", "a ", "", None, "9", "10", "ß"]),
        st.none() | st.integers(-3, 3),
        st.none() | st.decimals(-99, 99, places=2),
        st.none() | st.sampled_from(["x", "9", "10", "-1"]),
    ),
    min_size=1,
    max_size=60,
)


@settings(max_examples=25)
@given(
    rows=ROWS_OF_GROUPS,
    cut=st.tuples(st.integers(1, 4), st.sampled_from([1, 2, 7, 300])),
    least=st.integers(1, 3),
)
def test_groups_of_parts_of_a_table_are_those_of_plain_python(
    rows: list[tuple[Any, ...]],
    cut: tuple[int, int],
    least: int,
    folder: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """In the order in which they are first met, whatever hash brought their parts together."""
    text, number, amount, other = zip(*rows, strict=True)
    table = pa.table(
        {
            "text": pa.array(text, pa.string()),
            "number": pa.array(number, pa.int64()),
            "amount": pa.array(amount, pa.decimal128(12, 2)),
            "other": pa.array(other, pa.string()),
        }
    )
    pq.write_table(table, "t.parquet", row_group_size=7)

    read_elsewhere(monkeypatch, *cut)
    monkeypatch.setattr("gravel.spark.tasks._MOST_GROUPS", 5)
    expected: dict[tuple[Any, Any], list[tuple[Any, Any]]] = {}
    for key, second, value, beside in rows:
        expected.setdefault((key, second), []).append((value, beside))
    query = (
        "SELECT text, number, COUNT(*) AS n, SUM(amount) AS total, MIN(other) AS least,"
        " COUNT(DISTINCT other) AS others, LISTAGG(other, ';') AS listed,"
        " ARRAY_AGG(amount ORDER BY other DESC NULLS LAST) AS amounts"
        " FROM 't.parquet' GROUP BY text, number"
        f" HAVING COUNT(*) >= {least}"
    )
    result = library.query(query, engine="there").to_arrow().to_pylist()
    assert [tuple(row.values()) for row in result] == [
        (
            *key,
            len(values),
            sum(amounts) if (amounts := [one for one, _ in values if one is not None]) else None,
            min((one for _, one in values if one is not None), default=None),
            len({one for _, one in values} - {None}),
            ";".join(one for _, one in values if one is not None) or None,
            [one for one, by in sorted(values, key=lambda item: item[1] or "", reverse=True)],
        )
        for key, values in expected.items()
        if len(values) >= least
    ]


ROWS_OF_SIDE = st.lists(
    st.tuples(
        st.sampled_from(["a", "A ", "09", "9", "ß", None]), st.sampled_from([-1, 0, 1, None])
    ),
    max_size=12,
)
EQUALITIES: dict[str, Callable[[Any, Any], bool]] = {
    "l.text = r.text": lambda left, right: left[0] == right[0] is not None,
    "l.number = r.number AND l.text <> r.text": lambda left, right: (
        left[1] == right[1] is not None and None not in (left[0], right[0]) and left[0] != right[0]
    ),
    "r.number + 1 = l.number AND r.text = l.text": lambda left, right: (
        None not in (left[1], right[1])
        and left[1] == right[1] + 1
        and left[0] == right[0] is not None
    ),
}


@settings(max_examples=60)
@given(
    lefts=ROWS_OF_SIDE,
    rights=ROWS_OF_SIDE,
    kind=st.sampled_from(["INNER", "LEFT", "RIGHT", "FULL"]),
    on=st.sampled_from(sorted(EQUALITIES)),
    cut=st.tuples(st.integers(1, 4), st.sampled_from([1, 7, 300])),
)
def test_a_join_of_two_large_tables_is_that_of_plain_python(
    lefts: list[Any],
    rights: list[Any],
    kind: str,
    on: str,
    cut: tuple[int, int],
    folder: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Its rows stand in the order of the left, and those of its groups likewise, whatever hash has
    brought them together; its account is that of a join on this machine."""
    fields = [("text", pa.string()), ("number", pa.int64()), ("place", pa.int64())]
    for name, side in (("l", lefts), ("r", rights)):
        columns = zip(*((*row, place) for place, row in enumerate(side, 1)), strict=True)
        values = list(columns) or [()] * 3
        pq.write_table(pa.table(values, pa.schema(fields)), f"{name}.parquet", row_group_size=4)
    read_elsewhere(monkeypatch, *cut)
    monkeypatch.setattr("gravel.querying.scanning._LARGE", 0)
    monkeypatch.setattr("gravel.spark.tasks._MOST_GROUPS", 5)
    expected: list[tuple[int | None, int | None]] = []
    for left, row in enumerate(lefts, 1):
        met = [j for j, other in enumerate(rights, 1) if EQUALITIES[on](row, other)]
        expected += [(left, right) for right in met]
        expected += [(left, None)] if not met and kind in ("LEFT", "FULL") else []
    met = [right for _, right in expected]
    if kind in ("RIGHT", "FULL"):
        expected += [(None, right) for right in range(1, len(rights) + 1) if right not in met]
    joined = f"FROM 'l.parquet' AS l {kind} JOIN 'r.parquet' AS r ON {on}"
    pairs = f"SELECT l.place AS a, r.place AS b {joined}"
    listed = "LISTAGG(COALESCE(l.text, '') || CAST(r.place AS TEXT), ' ')"
    groups = f"SELECT r.text, l.number, COUNT(*), {listed} {joined} GROUP BY r.text, l.number"
    result = library.query(pairs, engine="there")
    assert [tuple(row.values()) for row in result.to_arrow().to_pylist()] == expected
    for text in (pairs, f"{pairs} WHERE r.place IS NULL OR l.number > 0", groups):
        here, there = library.query(text), library.query(text, engine="there")
        assert there.to_dict() == here.to_dict()
