"""gravel check: counts and rows against plain Python, aggregates against Python's own, subqueries, set-aside, mistakes."""

from __future__ import annotations

import statistics
from collections import Counter
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write
from gravel.sources.read_options import ReadOptions

NUMBERS = st.none() | st.integers(-3, 30) | st.sampled_from([0, 0, 10])


@settings(max_examples=60)
@given(
    rows=st.lists(
        st.tuples(NUMBERS, NUMBERS, st.sampled_from(["a", "b", ""])), min_size=1, max_size=30
    ),
    data=st.data(),
)
def test_counts_equal_their_definitions(rows: list[Any], data: Any, tmp_path_factory: Any) -> None:
    from gravel.inspecting.check import Allowed, check
    from gravel.language.types import INTEGER, TEXT
    from gravel.sources.csv import reader, splitter

    path = tmp_path_factory.mktemp("check") / "t.csv"
    write(
        path,
        "n,d,k\n"
        + "".join(f"{'' if n is None else n},{'' if d is None else d},{k}\n" for n, d, k in rows),
    )
    block = data.draw(st.sampled_from([17, 4096]))
    unknown_fails, percent = (
        data.draw(st.booleans()),
        data.draw(st.sampled_from(["0", "12.5", "100"])),
    )
    known = [n for n, _, _ in rows if n is not None]
    aggregates = {
        "COUNT(*)": len(rows), "COUNT(n)": len(known), "COUNT(DISTINCT n)": len(set(known)), "COUNT(DISTINCT k)": len({k for _, _, k in rows if k}),
        "SUM(n)": sum(known) if known else None, "SUM(DISTINCT n)": sum(set(known)) if known else None, "MIN(n)": min(known, default=None),
        "MAX(n)": max(known, default=None), "COUNT(*) FILTER (WHERE d > 3)": sum(d is not None and d > 3 for _, d, _ in rows),
        "AVG(n)": (Decimal(sum(known)) / len(known)).quantize(Decimal("1e-16"), ROUND_HALF_UP) if known else None,
        "VAR_POP(DISTINCT n)": statistics.pvariance(set(known)) if known else None,
        "VAR_SAMP(n)": statistics.variance(known) if len(known) > 1 else None,
    }  # fmt: skip
    conditions = [("rule", "n / d >= 1")]
    for text, value in aggregates.items():
        close = (
            f"ABS({text} - {float(value) if value is not None else 0}e0) < 1e-9"
            if text.startswith("VAR")
            else f"{text} = {value}"
        )
        conditions.append((text, close if value is not None else f"{text} IS NULL"))
    put: list[bytes] = []
    before, splitter.BLOCK = splitter.BLOCK, block
    try:
        table = reader.CsvSource(
            path, reading=ReadOptions(header=1, declared={"n": INTEGER, "d": INTEGER, "k": TEXT})
        )
        found = check(
            table,
            conditions,
            unknown_fails=unknown_fails,
            allowed=Allowed(0, Decimal(percent)),
            aside=put.append,
        )
    finally:
        splitter.BLOCK = before
    outcomes = [
        "unknown"
        if n is None or d is None
        else "error"
        if d == 0
        else "holds"
        if Decimal(n) / Decimal(d) >= 1
        else "fails"
        for n, d, _ in rows
    ]
    rule, counts = found.checks[0], Counter(outcomes)
    assert (rule.holds, rule.fails, rule.unknown, rule.errors) == tuple(
        counts[kind] for kind in ("holds", "fails", "unknown", "error")
    )
    bad = [
        row
        for row, kind in enumerate(outcomes, 1)
        if kind in ("fails", "error") or (kind == "unknown" and unknown_fails)
    ]
    assert rule.passed == (len(bad) <= int(Decimal(percent) * len(rows) / 100))
    assert [int(row[0]) for row in parsed(b"".join(put).decode())] == bad
    for example in rule.examples:
        n, d, _ = rows[example.row - 1]
        assert dict(example.values) == {
            "n": None if n is None else str(n),
            "d": None if d is None else str(d),
        }
        assert example.outcome == outcomes[example.row - 1]
    assert [(one.name, one.holds) for one in found.checks[1:]] == [(name, 1) for name in aggregates]


def test_orphans_named_checks_files_and_what_is_left(figures: Any, gravel: Any) -> None:
    write("boats.csv", "boat_id,name\n1,Gull\n2,Tern\n,Lark\n")
    write("stays.csv", "stay_id,boat_id,nights\n1,1,3\n2,7,\n3,,2\n4,2,x\n")
    told = figures(
        "check",
        "stays.csv",
        "known boat: boat_id IN (SELECT boat_id FROM 'boats.csv' WHERE boat_id IS NOT NULL)",
        status=1,
    )
    assert {name: told["checks"][0][name] for name in ("name", "holds", "fails", "unknown", "errors", "passed")} == {
        "name": "known boat", "holds": 2, "fails": 1, "unknown": 1, "errors": 0, "passed": False,
    }  # fmt: skip
    # With a NULL among the subquery's values nothing is known to be missing.
    told = figures(
        "check",
        "stays.csv",
        "boat_id NOT IN (SELECT boat_id FROM 'boats.csv')",
        "boat_id IN (SELECT boat_id FROM 'boats.csv' WHERE name = '')",
        status=1,
    )
    assert [(one["holds"], one["fails"], one["unknown"]) for one in told["checks"]] == [
        (0, 2, 2),
        (0, 4, 0),
    ]
    write(
        "c.toml",
        'unknown = "fails"\nallow = "50%"\n[check]\n"nights said" = "CAST(nights AS INTEGER) > 0"\n"all of them" = "COUNT(*) = 4"\n',
    )
    told = figures("check", "stays.csv", "--from", "c.toml", "--set-aside", "left.csv")
    assert [
        (one["holds"], one["unknown"], one["errors"], one["passed"]) for one in told["checks"]
    ] == [(2, 1, 1, True), (1, 0, 0, True)]
    assert parsed(Path("left.csv").read_text("utf-8")) == [
        ["gravel_row", "gravel_checks", "stay_id", "boat_id", "nights"], ["2", "nights said", "2", "7", None], ["4", "nights said", "4", "2", "x"],
    ]  # fmt: skip
    assert "FAILS" in gravel("check", "stays.csv", "boat_id = 1", status=1).out
    for call, hint in (
        (["COUNT(*) > nights"], "has many values"), (["COUNT(x) > 1"], "no column x"), (["nights"], "a condition is needed"), ([], "no condition"),
        (["SUM(nights) > 1"], "CAST(nights AS DECIMAL)"), (["SUM(CAST(nights AS INTEGER)) > 1"], "row 4"), (["SUM(COUNT(*)) > 1"], "inside another"),
        (["boat_id IN (SELECT name FROM 'boats.csv')"], "cannot mix"), (["boat_id IN (SELECT name FROM 'none.csv')"], "none.csv"),
        (["boat_id = 1", "--allow", "lots"], "--allow takes"), (["boat_id = 1", "--from", "c.csv"], "c.csv cannot be read"),
        (["boat_id = 1", "--set-aside", "stays.csv"], "which is read"),
    ):  # fmt: skip
        assert hint in gravel("check", "stays.csv", *call, status=None).err, call
    assert "gravel check" in gravel("look", "stays.csv", "--where", "COUNT(*) > 1", status=2).err
    for text in (
        "boat_id >",
        "boat_id IS NULL AND\nnights > 1.5",
    ):  # the line of a mistake in a file
        write("c.toml", f'\ufeff[check]\n"a \\"b\\"" = """\n{text}"""\n')
        told = gravel("check", "stays.csv", "--from", "c.toml", status=2).err
        assert f"  c.toml:{3 + text.count(chr(10))}\n  {text.splitlines()[-1]}\n" in told
