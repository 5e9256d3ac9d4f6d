"""Two tables compared, against the same comparison in plain Python."""

from __future__ import annotations

import csv
import re
from collections import Counter
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write
from gravel.sources.csv.reader import CsvSource
from gravel.sources.read_options import ReadOptions

TEXT = st.none() | st.sampled_from(["Gull", "gull", " Gull", "Gull  x", "Gull x", ""])
LONG = "9" * 34  # more than 64 bits hold
NUMBER = st.none() | st.sampled_from(
    ["1", "1.0", "1.004", "2", "-1.5", f"{LONG}.5", f"{LONG}.504", f"-{LONG}", f"{2**62 - 1}", f"-{2**62 - 1}"]
)  # fmt: skip
ROW = st.tuples(st.none() | st.integers(1, 6), TEXT, NUMBER)


def _csv(rows: Any) -> str:
    quoted = lambda value: "" if value is None else f'"{value}"'  # noqa: E731
    return "id,a,n\n" + "".join(
        f"{'' if key is None else key},{quoted(a)},{number or ''}\n" for key, a, number in rows
    )


@settings(max_examples=100)
@given(
    before=st.lists(ROW, max_size=12), after=st.lists(ROW, max_size=12), case=st.booleans(), spaces=st.booleans(),
    within=st.sampled_from([None, "0.01", "0.5", "0.0000001", "1E+40"]), keyed=st.booleans(), block=st.sampled_from([16, 4096]),
    memory=st.sampled_from([300, 2000, 1 << 30]),
)  # fmt: skip
def test_a_comparison_equals_one_in_plain_python(
    before: Any,
    after: Any,
    case: bool,
    spaces: bool,
    within: str | None,
    keyed: bool,
    block: int,
    memory: int,
    tmp_path_factory: Any,
) -> None:
    from gravel.comparing.compare import How, compare
    from gravel.language.types import INTEGER, decimal
    from gravel.sources.csv import splitter
    from gravel.sources.csv.reader import CsvSource

    folder = tmp_path_factory.mktemp("compare")
    tables = []
    for name, rows in (("x.csv", before), ("y.csv", after)):
        write(folder / name, _csv(rows))
        tables.append(
            CsvSource(
                folder / name,
                name,
                ReadOptions(header=1, declared={"id": INTEGER, "n": decimal(38, 3)}, texts=("a",)),
            )
        )
    distance = Decimal(within) if within and keyed else None
    kept, splitter.BLOCK = splitter.BLOCK, block
    try:
        found, every = compare(
            *tables, ["id"] if keyed else [], How(case, spaces, distance), memory=memory
        )
        cells = list(every)
    finally:
        splitter.BLOCK = kept

    def spelled(text: str | None) -> Any:
        made = None if text is None else " ".join(text.split()) if spaces else text
        return made.upper() if made is not None and case else made

    def plain(row: Any) -> tuple[Any, ...]:
        return (row[0], spelled(row[1]), None if row[2] is None else Decimal(row[2]))

    if not keyed:
        a, b = Counter(map(plain, before)), Counter(map(plain, after))
        assert (found.both, found.only_before, found.only_after) == (
            (a & b).total(),
            (a - b).total(),
            (b - a).total(),
        )
        return
    queues: dict[int, list[int]] = {}
    for place, row in enumerate(after):
        queues.setdefault(row[0], []).append(place)
    pairs = []
    for place, row in enumerate(before):
        if row[0] is not None and queues.get(row[0]):
            pairs.append((place, queues[row[0]].pop(0)))
    known = [sum(row[0] is not None for row in rows) for rows in (before, after)]
    assert (found.both, found.only_before, found.only_after) == (
        len(pairs),
        known[0] - len(pairs),
        known[1] - len(pairs),
    )
    for side, rows in (("before", before), ("after", after)):
        counts = Counter(row[0] for row in rows if row[0] is not None)
        assert (getattr(found.repeated_keys, side), getattr(found.null_keys, side)) == (
            sum(many > 1 for many in counts.values()),
            sum(row[0] is None for row in rows),
        )
    expected = {"id": Counter(equal=len(pairs)), "a": Counter(), "n": Counter()}
    different = []
    for one, two in pairs:
        for at, column in ((1, "a"), (2, "n")):
            x, y = plain(before[one])[at], plain(after[two])[at]
            same = x == y or (
                at == 2
                and distance is not None
                and None not in (x, y)
                and abs(Fraction(x) - Fraction(y)) <= distance
            )
            expected[column][
                "equal"
                if same
                else "filled"
                if x is None
                else "emptied"
                if y is None
                else "changed"
            ] += 1
            if not same:
                different.append((column, one + 1, two + 1, before[one][at], after[two][at]))
    for cells_of in found.columns:
        told = {name: getattr(cells_of, name) for name in ("equal", "changed", "filled", "emptied")}
        assert told == {name: expected[cells_of.column][name] for name in told}
        assert sum(told.values()) == found.both
    assert sorted(
        (one.column, one.before_row, one.after_row, str(one.before), str(one.after))
        for one in cells
    ) == sorted((*some[:3], str(some[3]), str(some[4])) for some in different)
    assert found.same is (not different and len(before) == len(after) == len(pairs))


def test_differences_are_shown_written_and_told_by_the_exit_status(
    figures: Any, gravel: Any, folder: Path
) -> None:
    write("x.csv", "id,name,fee,old\n1,Gull,10,a\n2,Tern,20.50,b\n3,,30,c\n4,Auk,40,d\n")
    write("y.csv", "id,boat,fee,new\n1,GULL,10.00,a\n2,,20.51,b\n3,Ruff,30,c\n5,Teal,50,d\n")
    found = figures("compare", "x.csv", "y.csv", "--key", "id", "--map", "name=boat", status=1)
    assert (found["both"], found["only_before"], found["only_after"], found["changed_rows"]) == (
        3,
        1,
        1,
        3,
    )
    assert [tuple(one.values()) for one in found["columns"]] == [
        ("id", 3, 0, 0, 0),
        ("name", 0, 1, 1, 1),
        ("fee", 2, 1, 0, 0),
    ]
    assert (found["only_before_columns"], found["only_after_columns"], found["status"]) == (
        ["old"],
        ["new"],
        "differs",
    )
    assert found["examples"][0] == {
        "key": {"id": "1"},
        "column": "name",
        "before": "Gull",
        "after": "GULL",
        "before_row": 1,
        "after_row": 1,
    }
    loose = [
        "--key",
        "id",
        "--map",
        "name=boat",
        "--ignore-case",
        "--within",
        "0.01",
        "--where",
        "id < 4",
    ]
    found = figures("compare", "x.csv", "y.csv", *loose, status=1)
    assert [one["changed"] for one in found["columns"]] == [0, 0, 0]
    told = gravel(
        "compare",
        "x.csv",
        "y.csv",
        *loose,
        "--differences",
        "d.csv",
        "--report",
        "r.html",
        status=1,
    )
    assert "case and differences up to 0.01 ignored" in told.out
    assert parsed(Path("d.csv").read_text()) == [
        ["id", "gravel_column", "gravel_before", "gravel_after", "gravel_before_row", "gravel_after_row"], ["2", "name", "Tern", None, "2", "2"],
        ["3", "name", None, "Ruff", "3", "3"],
    ]  # fmt: skip
    assert "Columns only before: old" in Path("r.html").read_text()
    assert "no difference" in gravel("compare", "x.csv", "x.csv", "--key", "id").out
    write("z.csv", "id,name,fee,old\n3,,30,c\n1,Gull,10,a\n4,Auk,40,d\n2,Tern,20.50,b\n")
    assert figures("compare", "x.csv", "z.csv")["status"] == "same"
    for call, hint in (
        (["--key", "idd"], "did you mean id?"), (["--map", "nme=boat"], "did you mean name?"), (["--map", "name"], "OLD=NEW"),
        (["--within", "much"], "takes a number"), (["--within", "1"], "have a key"), (["--key", "old"], "not among the columns of both"),
        (["--differences", "x.csv"], "is read"), (["--key", "id", "--where", "fe = 1"], "did you mean fee?"),
    ):  # fmt: skip
        assert hint in gravel("compare", "x.csv", "y.csv", *call, status=2).err, call
    assert Path("x.csv").read_text().startswith("id,name,fee,old\n1,Gull")


def test_without_a_key_one_of_both_is_proposed_and_columns_have_headings(gravel: Any) -> None:
    write("a.csv", "name,berth id,pier\ngull,1,A\ntern,2,A\n")
    write("b.csv", "name,berth id,pier\ngull,1,B\ntern,2,A\n")
    ran = gravel("compare", "a.csv", "b.csv", status=1)
    assert "berth id is a key of both" in ran.err
    assert '--key "berth id"' in " ".join(ran.err.split())
    several = ("compare", "a.csv", "b.csv", "--key")
    assert gravel(*several, "berth id, name", status=1) == gravel(
        *several, "berth id", "--key", "name", status=1
    )
    assert ran.out.count("row  name  berth id  pier") == 2
    write("b.csv", "name,berth id,pier\ngull,1,B\ntern,1,A\ntern,,A\n")
    assert "key of both" not in gravel("compare", "a.csv", "b.csv", status=1).err
    write("g.csv", "berth id,pier\n1,A\n1,B\n")
    told = gravel("compare", "a.csv", "g.csv", "--key", "berth id", status=1).out
    assert 'see gravel duplicates g.csv --on "berth id"\n' in told
    # What differs in writing only is told with the option that takes it as equal.
    write("d.csv", 'id,pier,town,owner,note\n1,A,Vik,Ada,""\n2,B,Holm,Bo,x\n')
    write("e.csv", "id,pier,town,owner,note\n1,A ,VIK, ADA,\n2,B,Holm,Bo,x\n")
    told = gravel("compare", "d.csv", "e.csv", "--key", "id", status=1).out
    assert re.findall("as far as shown, (.*)", told) == [
        "pier differs in spaces only (--ignore-spaces)",
        "town differs in case only (--ignore-case)",
        "owner differs in case and spaces only (--ignore-case --ignore-spaces)",
    ]
    write("c.csv", "x,y\n1,2\n")
    told = gravel("compare", "a.csv", "c.csv", status=2).err
    assert "a.csv and c.csv have no column in common" in told
    assert "--map" in told


def test_a_wide_table_is_read_as_often_as_a_narrow_one(
    gravel: Any, monkeypatch: pytest.MonkeyPatch, folder: Path
) -> None:
    passes: list[int] = []
    read = CsvSource.read
    monkeypatch.setattr(CsvSource, "read", lambda *more: passes.append(1) or read(*more))
    times = []
    for width in (2, 90):
        header = ",".join(["id", *(f"n{at}" for at in range(width))])
        for name, values in (("a.csv", "xyz"), ("b.csv", "xzy")):
            lines = [f"{row},{','.join([value] * width)}" for row, value in enumerate(values)]
            write(name, "\n".join([header, *lines, ""]))
        told = gravel("compare", "a.csv", "b.csv", "--key", "id", status=1).out
        times.append(len(passes))
        gravel(
            "compare", "a.csv", "b.csv", "--key", "id", "--differences", f"d{width}.csv", status=1
        )
        passes.clear()
    assert times[0] == times[1]
    assert "the first 60 of 90 columns; --format csv has all" in told
    assert "of the first 20 of 90 columns; --differences FILE has all" in told
    with open("d90.csv", encoding="utf-8", newline="") as file:
        cells = [row[1:4] for row in csv.reader(file)][1:]
    assert [tuple(cell) for cell in cells] == [
        (f"n{at}", *pair) for at in range(90) for pair in (("y", "z"), ("z", "y"))
    ]
