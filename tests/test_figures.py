"""count, look, profile and try: every figure against plain Python on the same rows, however they are cut into batches."""

from __future__ import annotations

from collections import Counter
from decimal import Decimal
from functools import partial
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import shown, write
from gravel.sources.read_options import ReadOptions

WHITE = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2000\u2009\u2028\u202f\u205f\u3000\u200b\u2060\ufeff"
VALUES = (
    st.none()
    | st.sampled_from(
        ["", " ", "\t\u200b", " a", "a ", "\xa0a", "A", "a", "é", "7", "12.50", "Gull", "😀x"]
    )
    | st.text(st.sampled_from("ab \u3000é"), max_size=4)
)
KINDS = {
    "text": VALUES,
    "integer": st.none() | st.integers(-(2**63), 2**63 - 1).map(str) | st.integers(-9, 9).map(str),
    "decimal": st.none() | st.sampled_from(["12", "12.0", "12.50", "-0.5", "3", "100.25"]),
    "date": st.none() | st.dates().map(str),
}


def _csv(columns: dict[str, list[str | None]]) -> str:
    def field(value: str | None) -> str:
        return "" if value is None else '"' + value.replace('"', '""') + '"'

    rows = zip(*columns.values(), strict=True)
    return "\n".join([",".join(columns), *(",".join(map(field, row)) for row in rows)]) + "\n"


def _expected(name: str, values: list[str | None]) -> dict[str, Any]:
    """One column's profile by its definition."""
    known = [value for value in values if value is not None]
    read = {"integer": int, "decimal": Decimal}.get(name.split("_")[0], str) if known else str
    ranked = Counter(map(read, known))
    first = {key: at for at, key in reversed(list(enumerate(map(read, known))))}
    top = sorted(ranked.items(), key=lambda item: (-item[1], first[item[0]]))[:5]
    lengths = [len(value) for value in known]
    return {
        "nulls": len(values) - len(known),
        "empty": known.count(""),
        "blank": sum(value != "" and not value.strip(WHITE) for value in known),
        "padded": sum(bool(value.strip(WHITE)) and value != value.strip(WHITE) for value in known),
        "distinct": len(ranked),
        "min": min(map(read, known), default=None),
        "max": max(map(read, known), default=None),
        "length": (
            min(lengths, default=None),
            max(lengths, default=None),
            sum(lengths) / len(lengths) if lengths else None,
        ),
        "top": [(key, rows) for key, rows in top],
    }


def _read(kind: Any, value: Any) -> Any:
    return None if value is None else kind(value)


@settings(max_examples=60)
@given(data=st.data())
def test_profile_equals_its_definition(data: Any, tmp_path_factory: Any) -> None:
    from gravel.profiling.profile import profile
    from gravel.sources.csv import reader, splitter

    names = [*KINDS, "text_2"]
    count = data.draw(st.integers(0, 30))
    columns = {
        name: data.draw(st.lists(KINDS[name.split("_")[0]], min_size=count, max_size=count))
        for name in names
    }
    path = tmp_path_factory.mktemp("profile") / "t.csv"
    write(path, _csv(columns))
    before, splitter.BLOCK = splitter.BLOCK, data.draw(st.sampled_from([17, 64, 4096]))
    try:
        found = profile(
            reader.CsvSource(path, reading=ReadOptions(texts=("text", "text_2"), header=1))
        )
    finally:
        splitter.BLOCK = before
    assert found.rows == count
    whole = list(zip(*columns.values(), strict=True))
    assert found.to_dict()["empty_rows"] == sum(set(row) == {None} for row in whole)
    for one in found.columns:
        expected, told = _expected(one.name, columns[one.name]), one.to_dict()
        for figure in ("nulls", "empty", "blank", "padded", "distinct"):
            assert told[figure] == expected[figure], (one.name, figure)
        same = partial(_read, {"INTEGER": int, "DECIMAL": Decimal}.get(told["type"], str))
        assert (same(told["min"]), same(told["max"])) == (expected["min"], expected["max"]), (
            one.name
        )
        assert tuple(told["length"].values())[:3] == pytest.approx(expected["length"])
        assert [(same(item["value"]), item["rows"]) for item in told["top"]] == expected["top"], (
            one.name
        )


@settings(max_examples=80)
@given(data=st.data())
def test_count_and_look_equal_their_definitions(data: Any, tmp_path_factory: Any) -> None:
    from gravel.inspecting.count import count_table
    from gravel.inspecting.look import look
    from gravel.sources.csv import reader, splitter

    count = data.draw(st.integers(1, 30))
    a, b, n = (
        data.draw(st.lists(kind, min_size=count, max_size=count))
        for kind in (VALUES, VALUES, KINDS["integer"])
    )
    path = tmp_path_factory.mktemp("count") / "t.csv"
    write(path, _csv({"a": a, "b": b, "n": n}))
    before, splitter.BLOCK = splitter.BLOCK, data.draw(st.sampled_from([17, 64, 4096]))
    try:
        found = count_table(
            reader.CsvSource(path, reading=ReadOptions(texts=tuple("ab"), header=1)),
            ["a, b"],
            ["a"],
            ["n"] if any(n) else [],
        )
        view = look(
            reader.CsvSource(path, reading=ReadOptions(texts=tuple("ab"), header=1)),
            where="a < b OR b IS NULL",
            sort="a DESC, b",
            rows=None,
        )
    finally:
        splitter.BLOCK = before
    pairs = [(x, y) for x, y in zip(a, b, strict=True) if x is not None and y is not None]
    assert (found.distinct[0].distinct, found.distinct[0].null_rows) == (
        len(set(pairs)),
        count - len(pairs),
    )
    keys = Counter(x for x in a if x is not None)
    (counted,) = found.keys
    assert (counted.null_rows, counted.repeated_rows) == (
        a.count(None),
        sum(rows for rows in keys.values() if rows > 1),
    )
    if any(n):
        assert found.totals[0].value == sum(int(value) for value in n if value is not None)
    match = [
        row
        for row, (x, y) in enumerate(zip(a, b, strict=True), 1)
        if y is None or (x is not None and x < y)
    ]
    unknown = sum(y is not None and x is None for x, y in zip(a, b, strict=True))
    assert (view.matching, view.unknown) == (len(match), unknown)
    # A stable sort by the last key; then by the first, descending, where NULL comes first.
    match.sort(key=lambda row: (b[row - 1] is None, b[row - 1] or ""))
    order = [row for row in match if a[row - 1] is None]
    groups: dict[str, list[int]] = {}
    for row in match:
        if (value := a[row - 1]) is not None:
            groups.setdefault(value, []).append(row)
    order += [row for value in sorted(groups, reverse=True) for row in groups[value]]
    assert list(view.row_numbers) == order


def test_a_shown_column_stands_after_the_last_it_reads_and_may_read_those_before(
    figures: Any, gravel: Any
) -> None:
    write("b.csv", "id,name,fee\n1, Gull ,10\n2,,20\n3,Tern,0\n")
    view = figures(
        "look",
        "b.csv",
        "--show",
        "UPPER(TRIM(name)) AS tidy",
        "--show",
        "LENGTH(tidy) AS size",
        "--show",
        "100 / fee AS share",
    )
    assert list(view["types"]) == ["id", "name", "tidy", "size", "fee", "share"]
    assert shown(view)[1] == [2, 2, None, None, None, 20, "5.0000000000000000"]
    assert view["shown"][2]["values"]["share"] == {"error": "22012"}
    view = figures("look", "b.csv", "--where", "100 / fee > 5 OR name IS NULL")
    assert (view["rows"], view["matching"], view["unknown"], view["errors"]) == (3, 2, 0, 1)
    assert "did you mean name?" in gravel("look", "b.csv", "--where", "nme = 'x'", status=2).err
    drawn = gravel("look", "b.csv").out
    assert "·Gull·" in drawn
    assert "∅" in drawn
    assert (
        gravel("look", "b.csv", "--columns", "id, name", "--format", "csv").out
        == "gravel_row,id,name\n1,1, Gull \n2,2,\n3,3,Tern\n"
    )


def test_control_characters_never_reach_the_terminal(gravel: Any) -> None:
    write("c.csv", "a\n\x1b[31mred\nno\xa0break\nzero\u200bwidth\nx\ty\n∅\n''\n")
    for command in (
        ("look", "c.csv"),
        ("profile", "c.csv"),
        ("try", "c.csv", "a = LOWER(a) || 'x'"),
    ):
        drawn = gravel(*command).out
        assert "\x1b[31mred" not in drawn
        assert "\u200b" not in drawn
        assert "␛" in drawn
    drawn = gravel("look", "c.csv").out
    assert "no⍽break" in drawn
    assert "x⇥y" in drawn
    assert "'∅'" in drawn


def test_try_accounts_for_every_row_and_adds_the_step_to_a_plan(
    figures: Any, gravel: Any, folder: Any
) -> None:
    write("b.csv", "id,name,fee\n1, Gull ,10\n2,,20\n3,Tern,0\n4, Gull ,5\n5,-,1\n")
    one, two, three = figures(
        "try", "b.csv", "name = NULLIF(TRIM(name), '-')", "share = 100 / fee", "fee = COALESCE(NULLIF(fee, 0), 1)"
    )["assignments"]  # fmt: skip
    assert (one["changed"], one["unchanged"], one["errors"], one["filled"], one["emptied"]) == (
        3,
        2,
        0,
        0,
        1,
    )
    assert one["changes"][0] == {"before": " Gull ", "after": "Gull", "rows": 2}
    assert (two["changed"], two["errors"], two["filled"]) == (4, 1, 4)
    assert two["error_kinds"] == [{"sqlstate": "22012", "rows": 1, "example": "0", "row": 3}]
    assert three["changes"] == [{"before": "0", "after": "1", "rows": 1}]
    write(
        "p.toml",
        '# my plan\ntable = "b.csv"   # the boats\nwrite = "o.csv"\n\n[[step]]\nkeep_rows = "fee > 0"\n',
    )
    gravel("try", "b.csv", "name = TRIM(name)", "--add", "p.toml", "--note", "Trim")
    text = (folder / "p.toml").read_text()
    assert text.startswith('# my plan\ntable = "b.csv"   # the boats\n')
    assert text.endswith('[[step]]\nnote = "Trim"\nset = {name = "TRIM(name)"}\n')
    assert 'name = "TEXT"' in text
    done = figures("clean", "p.toml")
    assert [step["out"] for step in done["steps"]] == [5, 4, 4]
    gravel("try", "b.csv", "fee = fee * 2", "--add", "new.toml")
    assert figures("clean", "new.toml", "--dry-run")["steps"][1]["changed"] == 4
