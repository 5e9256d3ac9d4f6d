"""Groups and their match levels against a plain grouping in Python; nearly equal pairs against all pairs; what is shown and proposed."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import parsed, write
from gravel.sources.read_options import ReadOptions

OWNERS = (
    "id,name,town,phone,since\n1,Orla Ness,Holm,0555-12,2020-01-01\n2,orla  ness,Holm,,2021-01-01\n3,Ørla Ness,Vik,0555 12,\n"
    "4,Ness Orla,Holm,055512,2019-01-01\n5,,Holm,1,\n6,Runa Dahl,Holm,2,2020-02-02\n7,Runa Dahl,Holm,2,2020-02-02\n"
)


def _tidy(text: str) -> str:
    return " ".join(text.split())


def _match(text: str, ordered: bool = False) -> str | None:
    plain = unicodedata.normalize(
        "NFKD", text.replace("ø", "o").replace("Ø", "O").replace("ß", "ss")
    ).casefold()
    plain = "".join(char for char in plain if not unicodedata.combining(char))
    found = re.findall(r"[^\W_]+", plain)
    return " ".join(sorted(found) if ordered else found) or None


def _fourth(text: str) -> Any:
    return _match(text) or ("tidy", _tidy(text).upper())


def _fifth(text: str) -> Any:
    return _match(text, True) or ("tidy", _tidy(text).upper())


MATCH_LEVELS: list[Any] = [
    lambda text: text, _tidy, lambda text: _tidy(text).upper(), _fourth, _fifth,
    lambda text: "".join(char for char in text if char.isdigit()) or _fifth(text),
]  # fmt: skip
VALUE = st.none() | st.sampled_from(
    ["Orla", "orla ", " Orla", "ÖRLA", "Orla-Ness", "ness orla", "Ness  Orla", "", " ", "--", "-", "0555 12", "0555-12", "055512",
     "Straße", "STRASSE", "7"]
)  # fmt: skip


def _cell(value: str | None) -> str:
    return "" if value is None else f'"{value}"'


@settings(max_examples=80)
@given(
    rows=st.lists(st.tuples(VALUE, VALUE), min_size=1, max_size=30), null_equal=st.booleans(), several=st.booleans(),
    match_level=st.integers(0, 5), block=st.sampled_from([16, 70, 4096]), memory=st.sampled_from([2000, 1 << 28]),
)  # fmt: skip
def test_groups_equal_a_plain_grouping_on_every_rung(
    rows: Any,
    null_equal: bool,
    several: bool,
    match_level: int,
    block: int,
    memory: int,
    tmp_path_factory: Any,
) -> None:
    from gravel.duplicates import groups
    from gravel.duplicates.match_levels import NAMES
    from gravel.sources.csv import splitter
    from gravel.sources.csv.reader import CsvSource

    path = tmp_path_factory.mktemp("groups") / "b.csv"
    write(
        path,
        "id,a,b\n" + "".join(f"{n},{_cell(a)},{_cell(b)}\n" for n, (a, b) in enumerate(rows, 1)),
    )
    before, splitter.BLOCK = splitter.BLOCK, block
    try:
        table = CsvSource(path, "b.csv", ReadOptions(texts=tuple("ab"), header=1))
        found = groups.duplicates(
            table,
            ["a", "b"] if several else ["a"],
            match_level=NAMES[match_level],
            null_equal=null_equal,
            shown=None,
            memory=memory,
        )
    finally:
        splitter.BLOCK = before
    asked = [row if several else row[:1] for row in rows]
    kept = {n: row for n, row in enumerate(asked, 1) if null_equal or None not in row}
    assert found.null_rows == sum(None in row for row in asked)

    def grouped(spell: Any, some: Any) -> list[list[int]]:
        made = defaultdict(list)
        for n, row in some.items():
            made[tuple(None if value is None else spell(value) for value in row)].append(n)
        return [members for members in made.values() if len(members) > 1]

    for step, spell in zip(found.levels, MATCH_LEVELS, strict=True):
        expected = grouped(spell, kept)
        assert (step.groups, step.extra_rows) == (
            len(expected),
            sum(map(len, expected)) - len(expected),
        ), step.level
    expected = grouped(MATCH_LEVELS[match_level], kept)
    assert sorted([row.row for row in group.rows] for group in found.shown) == sorted(expected)
    assert (found.groups, found.rows_in_groups, found.largest) == (
        len(expected), sum(map(len, expected)), max(map(len, expected), default=0),
    )  # fmt: skip
    for step, spell, loose in zip(found.levels[1:], MATCH_LEVELS, MATCH_LEVELS[1:], strict=False):
        new = sum(
            len({tuple(None if v is None else spell(v) for v in asked[n - 1]) for n in group}) > 1
            for group in grouped(loose, kept)
        )
        assert step.new_groups == new
    if several:
        for one, left in zip(found.left_out, (1, 0), strict=True):
            some = {
                n: (row[left],)
                for n, row in enumerate(rows, 1)
                if null_equal or row[left] is not None
            }
            assert one.groups == len(grouped(MATCH_LEVELS[0], some)) - found.levels[0].groups


def _edits(a: str, b: str) -> int:
    """The Damerau-Levenshtein distance by its recurrence, transpositions of any neighbours left by deletions included."""
    last: dict[str, int] = {}
    most = len(a) + len(b)
    table = [[most] * (len(b) + 2), [most, *range(len(b) + 1)]]
    for i, x in enumerate(a, 1):
        row, match = [most, i], 0
        for j, y in enumerate(b, 1):
            k, m = last.get(y, 0), match
            match = j if x == y else match
            row.append(
                min(
                    table[i][j] + (x != y),
                    row[j] + 1,
                    table[i][j + 1] + 1,
                    table[k][m] + (i - k - 1) + 1 + (j - m - 1),
                )
            )
        last[x] = i
        table.append(row)
    return table[-1][-1]


@settings(max_examples=80)
@given(
    values=st.lists(st.none() | st.text("abcö", max_size=7), min_size=1, max_size=24), within=st.integers(1, 3), blocked=st.booleans(),
    long=st.booleans(),
)  # fmt: skip
def test_no_pair_within_the_bound_is_missed(
    values: Any, within: int, blocked: bool, long: bool, tmp_path_factory: Any
) -> None:
    from rapidfuzz.distance import JaroWinkler

    from gravel.duplicates.near import near
    from gravel.sources.csv.reader import CsvSource

    values = [None if value is None else value + "x" * 50 * long for value in values]
    path = tmp_path_factory.mktemp("near") / "b.csv"
    write(path, "id,a\n" + "".join(f"{n},{_cell(value)}\n" for n, value in enumerate(values, 1)))
    table = CsvSource(path, "b.csv", ReadOptions(texts=tuple("a"), header=1))
    block = "LEFT(a, 1)" if blocked else None

    def alike(a: str, b: str) -> bool:
        return a != b and (not blocked or a[:1] == b[:1])

    rows = [(n, value) for n, value in enumerate(values, 1) if value is not None]
    pairs = {(m, n): (a, b) for m, a in rows for n, b in rows if m < n and alike(a, b)}
    found = near(table, "a", within=within, block=block, shown=None)
    expected = {pair: _edits(*texts) for pair, texts in pairs.items()}
    expected = {pair: distance for pair, distance in expected.items() if distance <= within}
    assert {(one.a, one.b): one.measure for one in found.pairs} == expected
    assert found.pair_count == len(expected)
    reached: list[set[int]] = []
    for a, b in expected:
        joined = [some for some in reached if a in some or b in some]
        reached = [some for some in reached if some not in joined] + [{a, b}.union(*joined)]
    values_of = dict(rows)
    # Rows with a value that is equal to a member's belong to its cluster.
    whole = {
        tuple(n for n, value in rows if value in {values_of[m] for m in some}) for some in reached
    }
    assert set(found.clusters) == whole
    likely = near(table, "a", alike=0.85, block=block or "'all'", shown=None)
    expected_alike = {
        pair for pair, (a, b) in pairs.items() if JaroWinkler.similarity(a, b) >= 0.85
    }
    assert {(one.a, one.b) for one in likely.pairs} == expected_alike


def test_duplicates_are_shown_with_their_keys_and_a_step_is_proposed(
    figures: Any, gravel: Any, folder: Path
) -> None:
    write("o.csv", OWNERS)
    found = figures("duplicates", "o.csv", "--on", "name", "--level", "words")
    assert (
        found["groups"],
        found["rows_in_groups"],
        found["extra_rows"],
        found["largest"],
        found["null_rows"],
    ) == (2, 6, 4, 4, 1)
    assert found["key"] == ["id"]
    first = found["shown"][0]
    assert [row["row"] for row in first["rows"]] == [1, 2, 3, 4]
    assert first["differs"] == ["name", "town", "phone", "since"]
    assert [(one["level"], one["groups"], one["extra_rows"]) for one in found["levels"]] == [
        ("equal", 1, 1), ("spaces", 1, 1), ("case", 2, 2), ("accents", 2, 3), ("words", 2, 4), ("digits", 2, 4),
    ]  # fmt: skip
    assert found["proposal"]["prefer"] == "since DESC NULLS LAST"
    assert (found["proposal"]["rescued"], found["proposal"]["disagree"]["phone"]) == (
        {"phone": 1},
        1,
    )
    # What the first rows suggest of a column's type a later one refutes: nothing tells the newest then.
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("gravel.sources.csv.splitter.BLOCK", 60)
        late = "".join(f"{at},Tern,2026-01-{at:02}\n" for at in range(1, 29))
        for last, prefer in (("2026-02-01", "seen DESC NULLS LAST"), ("soon", None)):
            write("late.csv", f"id,name,seen\n{late}29,Tern,{last}\n")
            told = figures("duplicates", "late.csv", "--on", "name")
            assert (told["proposal"]["prefer"], told["proposal"]["disagree"]["seen"]) == (prefer, 1)
    # The proposed step does to a plan what is said of it.
    told = gravel("duplicates", "o.csv", "--on", "name", "--level", "words", "--add", "p.toml").err
    assert "step 1 added to p.toml" in told
    assert 'conflicts = "set aside"' in Path("p.toml").read_text()
    assert (
        figures("clean", "p.toml")["steps"][1]["set_aside"] == 6
    )  # both groups disagree in a known value
    write("p.toml", Path("p.toml").read_text().replace(', conflicts = "set aside"', ""))
    done = figures("clean", "p.toml")
    assert (done["steps"][1]["merged"], done["steps"][1]["changed_columns"]) == (4, {"phone": 1})
    # A match_level's expression pasted into --on gives the same groups.
    for step in found["levels"]:
        pasted = figures("duplicates", "o.csv", "--on", step["expression"])
        assert (pasted["groups"], pasted["extra_rows"]) == (step["groups"], step["extra_rows"])
    whole = figures("duplicates", "o.csv")
    assert (whole["groups"], {one["column"]: one["groups"] for one in whole["left_out"]}["id"]) == (
        0,
        1,
    )
    assert figures("duplicates", "o.csv", "--on", "town", "--min", 7)["shown"] == []
    assert figures(
        "duplicates", "o.csv", "--on", "town, UPPER(name)", "--key", "id, town"
    ) == figures(
        "duplicates", "o.csv", "--on", "town", "--on", "UPPER(name)", "--key", "id", "--key", "town"
    )
    assert gravel("duplicates", "o.csv", "--on", "id", "--fail").status == 0
    gravel("duplicates", "o.csv", "--on", "town", "--fail", status=1)
    for call, hint in (
        (["--on", "nme"], "did you mean name?"), (["--on", "name", "--level", "cse"], "did you mean case?"), (["--within", "2"], "are for --near"),
        (["--near", "name", "--within", "1", "--similarity", "0.9"], "say one of them"), (["--near", "name", "--similarity", "2"], "from 0.5 to 1"),
        (["--near", "name", "--on", "town"], "by itself"), (["--add", "p.toml"], "only where --on names"), (["--report", "o.csv"], "which is read"),
        (["--on", "name", "--key", "idd"], "did you mean id?"),
    ):  # fmt: skip
        assert hint in gravel("duplicates", "o.csv", *call, status=2).err, call
    close = figures("duplicates", "o.csv", "--near", "phone", "--within", 1)
    assert [(one["a"], one["b"], one["measure"]) for one in close["pairs"]] == [
        (1, 3, 1),
        (1, 4, 1),
        (3, 4, 1),
        (5, 6, 1),
        (5, 7, 1),
    ]
    assert close["clusters"] == [[1, 3, 4], [5, 6, 7]]
    for options in (["--on", "name", "--level", "case"], ["--near", "name"]):
        gravel("duplicates", "o.csv", *options, "--report", "r.html")
        assert ("Ørla Ness" if "--near" in options else "orla··ness") in re.sub(
            r"<[^>]*>", "", Path("r.html").read_text()
        )
    assert len(parsed(gravel("duplicates", "o.csv", "--on", "name", "--format", "csv").out)) == 3


@pytest.mark.parametrize("rows", [3000])
def test_pairs_of_many_names_equal_all_pairs(rows: int, folder: Path) -> None:
    """The index against every pair compared, on names with slips."""
    import random

    from rapidfuzz import process
    from rapidfuzz.distance import DamerauLevenshtein

    from gravel.duplicates.near import near
    from gravel.sources.csv.reader import CsvSource

    dice = random.Random(3)
    names = [
        "".join(dice.choice(["al", "bre", "cor", "dun", "els", "fjo"]) for _ in range(3))
        for _ in range(rows)
    ]
    slips = ["".join(char for char in name if dice.random() > 0.05) for name in names]
    write("b.csv", "a\n" + "".join(f"{name}\n" for name in slips if name))
    found = near(CsvSource(folder / "b.csv", "b.csv"), "a", within=2)
    values = sorted(set(filter(None, slips)))
    matrix = process.cdist(values, values, scorer=DamerauLevenshtein.distance, score_cutoff=2)
    assert found.value_pairs == int((matrix <= 2).sum() - len(values)) // 2


def test_whole_rows_are_compared_without_the_key(figures: Any, gravel: Any) -> None:
    write("t.csv", "berth no,name,day\n1,Tern,\n2,Skua,\n3,Tern,\n4,Tern,5\n")
    whole = figures("duplicates", "t.csv")
    assert (whole["groups"], whole["left_out"][0]) == (0, {"column": '"berth no"', "groups": 1})
    assert '--key "berth no" shows them' in gravel("duplicates", "t.csv").out
    for name in ("berth no", '"berth no"'):
        told = figures("duplicates", "t.csv", "--key", name)
        assert [[row["row"] for row in group["rows"]] for group in told["shown"]] == [[1, 3]]
        assert (told["key"], told["on"]) == (["berth no"], ["name", "day"])
    assert (
        "equal in all columns but berth no"
        in gravel("duplicates", "t.csv", "--key", "berth no").out
    )
    assert (
        "nothing is left"
        in gravel("duplicates", "t.csv", "--key", "berth no, name, day", status=2).err
    )
    # Numbers and days have one spelling, in whole rows too: what is told is an expression.
    write(
        "t.csv", "name,fee,day\nTern,1.50,2026-01-02\nTERN,1.50,2026-01-02\nTern,150,2026-01-02\n"
    )
    told = figures("duplicates", "t.csv")["levels"]
    assert [(step["groups"], step["extra_rows"]) for step in told] == [(0, 0)] * 2 + [(1, 1)] * 4
    for step in told:
        pasted = figures("duplicates", "t.csv", "--on", step["expression"])
        assert (pasted["groups"], pasted["extra_rows"]) == (step["groups"], step["extra_rows"])
    # Rows that differ in nothing are told in one line.
    write("t.csv", "name,day\n" + "Tern,5\n" * 14 + "Skua,5\n")
    assert (
        "rows 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12 and 2 more" in gravel("duplicates", "t.csv").out
    )
    gravel("duplicates", "t.csv", "--report", "r.html")
    assert "<div>rows 1, 2," in Path("r.html").read_text()
