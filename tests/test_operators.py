"""Each operator on random rows, cut into batches anywhere, in memory of any size down to one byte:
what it gives is what SQLite, or a line of Python, gives."""

from __future__ import annotations

import gc
import sqlite3
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import write

GROUPS = (None, "a", "A", "å", "a b", "x" * 40)
ROWS = st.lists(
    st.tuples(
        st.sampled_from(GROUPS), st.none() | st.integers(-3, 3), st.integers(-(10**6), 10**6)
    ),
    max_size=40,
)
CUTS = st.integers(1, 300)
MEMORY = st.sampled_from([1, 100, 3_000, 100_000, 1 << 30])
OPERATORS = {
    "hash aggregate": "SELECT g, COUNT(*), COUNT(k), SUM(v), MIN(v), MAX(g) FROM l GROUP BY g",
    "aggregate of distinct": "SELECT k, COUNT(DISTINCT g), SUM(DISTINCT v) FROM l GROUP BY k",
    "distinct": "SELECT DISTINCT g, k FROM l",
    "sort": "SELECT g, k, v FROM l ORDER BY v DESC, g NULLS FIRST, k NULLS LAST",
    "limit": "SELECT v FROM l ORDER BY v LIMIT 5 OFFSET 2",
    "filter": "SELECT v FROM l WHERE k > 0 OR g = 'a'",
    "inner join": "SELECT l.v, r.v FROM l JOIN r ON l.k = r.k AND l.v < r.v",
    "join of two keys": "SELECT l.v, r.v FROM l JOIN r ON l.k = r.k AND l.g = r.g",
    "left join": "SELECT l.v, r.g FROM l LEFT JOIN r ON l.g = r.g",
    "right join": "SELECT l.v, r.v FROM l RIGHT JOIN r ON l.k = r.k AND l.g <> r.g",
    "full join": "SELECT l.v, r.v FROM l FULL JOIN r ON l.k = r.k",
    "groups of a join": "SELECT r.g, COUNT(*), SUM(l.v) FROM l JOIN r ON l.k = r.k WHERE l.v <> r.v GROUP BY r.g",
    "groups of a left join": "SELECT r.k, COUNT(l.v), MAX(l.v), COUNT(DISTINCT l.g) FROM r LEFT JOIN l ON l.k = r.k"
    " GROUP BY r.k",
    "rows without a partner": "SELECT l.v, r.v FROM l LEFT JOIN r ON l.k = r.k AND l.g = r.g WHERE r.v IS NULL",
    "distinct of a join": "SELECT DISTINCT l.g, k FROM l JOIN r USING (k) WHERE l.v > 0",
    "list of tables": "SELECT l.v, r.v FROM l, r WHERE l.k = r.k AND l.g = r.g AND l.v < r.v",
    "several joins": "SELECT l.v, s.most, m.n FROM (SELECT COUNT(*) AS n FROM r) AS m CROSS JOIN l"
    " LEFT JOIN (SELECT g, MAX(v) AS most FROM r GROUP BY g) AS s ON s.g = l.g AND s.most > l.v",
    "semi join": "SELECT v FROM l WHERE EXISTS (SELECT 1 FROM r WHERE r.k = l.k AND r.v > l.v)",
    "anti join": "SELECT v FROM l WHERE k NOT IN (SELECT k FROM r WHERE k IS NOT NULL)",
    "window": "SELECT v, ROW_NUMBER() OVER (PARTITION BY g ORDER BY v, k NULLS LAST) AS n,"
    " SUM(v) OVER (PARTITION BY k ORDER BY v, g NULLS LAST RANGE UNBOUNDED PRECEDING) AS s FROM l",
    "union": "SELECT g, k FROM l UNION SELECT g, k FROM r",
    "intersect": "SELECT g, k FROM l INTERSECT SELECT g, k FROM r",
    "except": "SELECT g, k FROM l EXCEPT SELECT g, k FROM r",
}


def lay(path: Path, rows: list[tuple[Any, ...]]) -> None:
    """The rows as a CSV file with a column of its own for their places."""
    lines = [
        ",".join(["" if cell is None else str(cell) for cell in row] + [str(place)])
        for place, row in enumerate(rows)
    ]
    write(path, "\n".join(["g,k,v,place", *lines]) + "\n")


def queried(folder: Path, text: str, memory: int) -> list[tuple[Any, ...]]:
    return accounted(folder, text, memory)[0]


def accounted(folder: Path, text: str, memory: int) -> tuple[list[tuple[Any, ...]], Any]:
    """The rows of a query, and its account."""
    from gravel.engine.mapped import Store
    from gravel.querying.account import Account
    from gravel.querying.context import QueryContext
    from gravel.querying.session import Session

    context = QueryContext(references={name: str(folder / f"{name}.csv") for name in "lr"})
    account = Account(store=Store(memory))
    result = Session(context, account).query(text)
    columns = [vector.values.to_pylist() for vector in result.vectors]
    return list(zip(*columns, strict=True)), account


@settings(max_examples=25, deadline=None)
@given(left=ROWS, right=ROWS, cut=CUTS, memory=MEMORY)
@pytest.mark.parametrize("operator", OPERATORS)
def test_an_operator_gives_the_rows_that_sqlite_gives(
    tmp_path_factory: Any, operator: str, left: Any, right: Any, cut: int, memory: int
) -> None:
    folder = tmp_path_factory.mktemp("rows")
    base = sqlite3.connect(":memory:")
    for name, rows in (("l", left), ("r", right)):
        # Types are found from values: a row that has them all stands first.
        every = [("a", 1, 1), *rows]
        lay(folder / f"{name}.csv", every)
        base.execute(f"CREATE TABLE {name} (g TEXT, k INTEGER, v INTEGER)")
        base.executemany(f"INSERT INTO {name} VALUES (?, ?, ?)", every)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("gravel.sources.csv.splitter.BLOCK", cut)
        patched.setattr("gravel.querying.joins.CHUNK", cut)
        mine = queried(folder, OPERATORS[operator], memory)
        assert mine == queried(folder, OPERATORS[operator], 1 << 30)
    theirs = base.execute(OPERATORS[operator]).fetchall()
    if "ORDER BY v" not in OPERATORS[operator] or "OVER" in OPERATORS[operator]:
        mine, theirs = sorted(mine, key=repr), sorted(theirs, key=repr)
    assert mine == theirs


@settings(max_examples=25, deadline=None)
@given(left=ROWS, right=ROWS, cut=CUTS, memory=MEMORY)
@pytest.mark.parametrize("kind", ["INNER", "LEFT"])
def test_the_account_of_a_join_counts_the_rows_of_both_sides(
    tmp_path_factory: Any, kind: str, left: Any, right: Any, cut: int, memory: int
) -> None:
    """Also where each batch of the larger side is joined by itself: the rows come in the order of
    the left side, and what is told of both sides is told of all of their rows."""
    folder = tmp_path_factory.mktemp("rows")
    sides = [[("a", 1, 1), *rows] for rows in (left, right)]
    for name, rows in zip("lr", sides, strict=True):
        lay(folder / f"{name}.csv", rows)
    partners = [
        [place for place, (_, k, _) in enumerate(sides[1]) if k is not None and k == mine]
        for _, mine, _ in sides[0]
    ]
    expected = [(place, other) for place, others in enumerate(partners) for other in others]
    if kind == "LEFT":
        expected = [
            (place, other) for place, others in enumerate(partners) for other in (others or [None])
        ]
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("gravel.sources.csv.splitter.BLOCK", cut)
        text = f"SELECT l.place, r.place FROM l {kind} JOIN r ON l.k = r.k"
        rows, account = accounted(folder, text, memory)
    assert rows == expected
    join = next(stage for stage in account.stages if stage.stage == f"{kind} JOIN")
    matched = sum(map(bool, partners))
    met = len({other for others in partners for other in others})
    assert (join.rows_in, join.rows_out) == (len(sides[0]), len(expected))
    assert f"{matched:,} row" in join.detail.partition(" on the left matched")[0]
    assert (
        f", {len(partners) - matched} without a partner; {len(sides[1]) - met} on the"
        in join.detail
    )
    told = {caution.caution: caution.rows for caution in account.cautions}
    assert told.get("a join multiplies rows", 0) == sum(len(others) > 1 for others in partners)
    assert told.get("a join loses rows", 0) == (kind == "INNER") * (len(partners) - matched)
    nulls = [sum(k is None for _, k, _ in rows) for rows in sides]
    assert told.get("NULL in join keys", 0) == (nulls[0] if nulls[1] else 0)


@settings(max_examples=25, deadline=None)
@given(rows=ROWS, cut=CUTS, memory=MEMORY)
@pytest.mark.parametrize("outer", [False, True], ids=["items alone", "with rows without items"])
def test_unnest_gives_the_items_that_python_gives(
    tmp_path_factory: Any, rows: Any, cut: int, memory: int, outer: bool
) -> None:
    folder = tmp_path_factory.mktemp("rows")
    every = [("a", 1, 1), *rows]
    lay(folder / "l.csv", every)
    expected = []
    for g, k, v in every:
        items = [] if g is None or k is None else g.split(" ")
        expected += [(v, item, place) for place, item in enumerate(items, 1)]
        if outer and not items:
            expected.append((v, None, None))
    lists = "UNNEST(LIST_ITEMS(CASE WHEN k IS NOT NULL THEN g END, ' ')) WITH ORDINALITY AS u(item, nth)"
    joined = f"l LEFT JOIN {lists} ON TRUE" if outer else f"l, {lists}"
    counted: dict[Any, int] = {}
    for _, item, _ in expected:
        counted[item] = counted.get(item, 0) + 1
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("gravel.sources.csv.splitter.BLOCK", cut)
        assert queried(folder, f"SELECT v, item, nth FROM {joined}", memory) == expected
        groups = queried(folder, f"SELECT item, COUNT(*) FROM {joined} GROUP BY item", memory)
    assert groups == list(counted.items())


def test_what_joins_make_of_a_large_table_is_counted_but_not_held_beyond_memory(
    gravel: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write("l.csv", "k,v\n" + "".join(f"{row % 2},{row}\n" for row in range(20_000)))
    write("r.csv", "k,w\n" + "".join(f"1,{row}\n" for row in range(300)))
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 20_000)
    monkeypatch.setattr("gravel.engine.mapped.Store.has_room", lambda _, size: size < 2_000)
    monkeypatch.setattr("gravel.querying.joining._ROOM", 1)
    call = partial(gravel, "query", *("--in", ".", "--memory", "1MB", "--format", "csv"))
    on = "FROM l JOIN r ON l.k = r.k"
    counted = call(f"SELECT COUNT(*) AS n, MAX(v + w) AS most {on}")
    assert counted.out.split() == ["n,most", "3000000,20298"]
    assert "that may be held" in call(f"SELECT l.v, r.w {on}", status=1).err
    # Items of a list are not pairs.
    items = "UNNEST(LIST_ITEMS('a;b;c;d', ';')) AS u(item)"
    listed = call(f"SELECT l.v, item FROM l JOIN (SELECT 1 AS k) AS o ON l.k = o.k, {items}").out
    assert len(listed.split()) == 40_001
    constant = "LIST_ITEMS('a;b', ';')"  # of no row
    assert call(f"SELECT {constant} || {constant} AS u FROM l WHERE v < 0").out.split() == ["u"]
    # No key chooses among the rows beside: 300 would stand beside each.
    assert "pairs of rows" in call("SELECT COUNT(*) FROM l CROSS JOIN r", status=1).err
    few = "(SELECT w FROM r WHERE w < 40) AS few"
    assert call(f"SELECT COUNT(*) FROM l CROSS JOIN {few}").out.split() == ["COUNT(*)", "800000"]


def test_pairs_beyond_memory_are_refused_and_nothing_is_held_that_is_not_asked_for(
    gravel: Any, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write("l.csv", "k,v\n" + "".join(f"1,{row}\n" for row in range(40)))
    once, beyond = "l AS a JOIN l AS b ON a.k = b.k", "a.v = b.v + 1"
    call = partial(gravel, "query", *("--in", ".", "--memory", "1MB", "--format", "csv"))
    monkeypatch.setattr("gravel.querying.joining._ROOM", 1)
    monkeypatch.setattr("gravel.querying.joining._PAIR", 1_000)
    for pairs in (once, "l AS a CROSS JOIN l AS b"):
        told = call(f"SELECT COUNT(*) FROM {pairs}", status=1).err
        assert "the join of 80 rows comes to 1,600 pairs of rows" in told
        assert "gravel count --key" in told
    # What a condition leaves counts, not the pairs that it is asked of.
    assert call(f"SELECT COUNT(*) FROM {once} AND {beyond}").out.split() == ["COUNT(*)", "39"]
    exists = f"SELECT COUNT(*) FROM l AS a WHERE EXISTS (SELECT 1 FROM l AS b WHERE a.k = b.k AND {beyond})"
    assert call(exists).out.split() == ["COUNT(*)", "39"]
    # Arrays in objects that refer to each other would stay until a collection.
    gc.collect()
    gc.disable()
    gc.set_debug(gc.DEBUG_SAVEALL)
    try:
        call(exists)
        gc.collect()
        held = [item for item in gc.garbage if isinstance(item, (pa.Array, np.ndarray))]
    finally:
        gc.set_debug(0)
        gc.enable()
        gc.garbage.clear()
    assert held == []


STEPS = {
    "sort": 'sort = ["v DESC", "place"]',
    "deduplicate": 'deduplicate = { by = ["g"], prefer = ["v", "place"] }',
    "explode": 'split = { column = "g", on = " ", into = "rows", as = "g" }',
    "query": 'query = "SELECT g, k, v, place FROM input ORDER BY v, place"\nrows = "same"',
}


def expected(step: str, rows: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    """The rows that a step makes of some, in plain Python."""
    placed = [(*row, place) for place, row in enumerate(rows)]
    if step == "sort":
        return sorted(placed, key=lambda row: (-row[2], row[3]))
    if step == "query":
        return sorted(placed, key=lambda row: (row[2], row[3]))
    if step == "explode":
        return [
            (piece, *row[1:])
            for row in placed
            for piece in (row[0].split(" ") if row[0] is not None else [None])
        ]
    best: dict[Any, Any] = {}
    for row in sorted(placed, key=lambda row: (row[2], row[3])):
        best.setdefault(row[0] if row[0] is not None else row[3], row)
    return sorted(best.values(), key=lambda row: row[3])


@settings(max_examples=25, deadline=None)
@given(rows=ROWS, cut=CUTS, memory=MEMORY)
@pytest.mark.parametrize("step", STEPS)
def test_a_step_gives_the_rows_that_python_gives(
    tmp_path_factory: Any, step: str, rows: Any, cut: int, memory: int
) -> None:
    import gravel

    folder = tmp_path_factory.mktemp("rows")
    every = [("a", 1, 1), *rows]
    lay(folder / "l.csv", every)
    plan = folder / "p.toml"
    write(plan, f'table = "l.csv"\nwrite = "out.parquet"\n[[step]]\n{STEPS[step]}\n')
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr("gravel.sources.csv.splitter.BLOCK", cut)
        patched.setattr("gravel.engine.external._SLICE", 1 + cut % 5)
        run = gravel.Plan.load(plan).run(memory=memory)
    assert run.good
    import pyarrow.parquet as pq

    table = pq.read_table(folder / "out.parquet")
    found = list(zip(*(column.to_pylist() for column in table.columns), strict=True))
    assert found == expected(step, every)
