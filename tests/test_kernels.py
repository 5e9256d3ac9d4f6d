"""The compiled kernels beside their references in plain Python and Arrow, and inside their bounds."""

from __future__ import annotations

import csv
import random
import unicodedata
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gravel.engine import hashing
from gravel.engine.hashing import mixed
from gravel.kernels import rules, texts
from gravel.kernels.hashes import HashTable, ascending, distinct_hashes
from gravel.kernels.native import compiling, machine, source
from gravel.kernels.records import join_columns, scan_records
from gravel.language.functions import casing, spelling
from gravel.language.functions.buffers import matches
from gravel.profiling import marks
from gravel.sinks import csv as csv_sink
from gravel.sources.csv import reader, splitter
from gravel.sources.read_options import ReadOptions

FUNCTIONS: dict[str, Callable[[Any], Any]] = {
    "upper": casing.upper,
    "lower": casing.lower,
    "tidy_spaces": casing.tidy_spaces,
    "capitalize_words": casing.capitalize_words,
    "without_accents": spelling.without_accents,
    "match_key": spelling.match_key,
    "shape": spelling.shape,
    "only_digits": spelling.only_digits,
    "only_letters": spelling.only_letters,
}
ODD = "Ã¶Â �ðŸ\t\n \u00a0\u200b\u3000-'’.,12²ßİıΣσςŉǆǅﬁ½Å\u0301\u0308가ᄀ\u1161\u11a8aBc😀"
SPACED = [
    "  a",
    "a  ",
    "a  b",
    " a",
    "a ",
    "  ",
    "\u00a0  \u00a0",
    " \n a",
    "a\n",
    "\u200b",
    "a\u200bb",
    "a \t b",
    "\u00a0a",
    "é  ",
]
MESSY = st.text(st.one_of(st.sampled_from(ODD), st.characters(codec="utf-8")), max_size=12)


def references(monkeypatch: pytest.MonkeyPatch, work: Callable[[], Any]) -> Any:
    """What the references give."""
    with monkeypatch.context() as patch:
        patch.setenv(machine.SWITCH, "0")
        return work()


def with_hidden(values: list[str | None]) -> pa.Array:
    """Texts, with others behind each NULL, as `if_else` leaves them there."""
    full = pa.array(['hidden "é;\n' if value is None else value for value in values], pa.string())
    known = np.packbits(
        np.array([value is not None for value in values], bool), bitorder="little"
    ).tobytes()
    nulls = values.count(None)
    return pa.StringArray.from_buffers(len(values), *full.buffers()[1:], pa.py_buffer(known), nulls)


def compare_all(array: pa.Array, monkeypatch: pytest.MonkeyPatch) -> None:
    """Every kernel beside its reference."""
    monkeypatch.setenv(machine.SWITCH, "1")
    for name, function in FUNCTIONS.items():
        compiled = getattr(texts, name)(array)
        if not len(array):
            continue
        compiled.validate(full=True)
        assert (
            compiled.to_pylist() == references(monkeypatch, lambda f=function: f(array)).to_pylist()
        ), name
    tidy = references(monkeypatch, lambda: casing.tidy_spaces(array)).to_pylist()
    assert [each if each is None else rules.tidied(each) for each in array.to_pylist()] == tidy
    # What a later Unicode has added is a capital to one library and nothing to another.
    known = [
        each
        for each in array.to_pylist()
        if each is not None and not any(unicodedata.category(sign) == "Cn" for sign in each)
    ]
    known = pa.array(known, pa.string())
    bits, doubtful, characters = marks._characters(known)
    plain = references(monkeypatch, lambda: marks._characters(known))
    assert (bits.tolist(), characters.tolist()) == (plain[0].tolist(), plain[2].tolist())
    damaged = matches(known, f"{marks.MISDECODED}|{marks.REPLACEMENT}")
    assert (doubtful <= plain[1]).all()
    assert (damaged <= doubtful).all()
    for second in (False, True):
        made = hashing.hashes(array, second)
        assert (made == references(monkeypatch, lambda s=second: hashing.hashes(array, s))).all()
        assert (hashing.both_hashes(array)[second] == made).all()


@given(st.lists(st.one_of(st.none(), MESSY), max_size=12), st.integers(0, 4), st.integers(0, 3))
def test_kernels_give_what_their_references_do(
    values: list[str | None], start: int, end: int
) -> None:
    with pytest.MonkeyPatch.context() as monkeypatch:
        for array in (pa.array(values, pa.string()), with_hidden(values)):
            compare_all(array[start : max(start, len(values) - end)], monkeypatch)


def test_every_character_by_itself_and_among_others(monkeypatch: pytest.MonkeyPatch) -> None:
    codes = [*range(0x3200), *range(0x3200, 0x110000, 61), *range(0xFB00, 0xFE00)]
    characters = [chr(code) for code in codes if not 0xD800 <= code < 0xE000]
    dice = random.Random(7)
    around = [dice.choice(ODD) + each + dice.choice(ODD) for each in characters]
    # A text too long for the room that is first made, and one that is hashed another way.
    compare_all(
        pa.array([*characters, *around, *SPACED, "\ufdfa" * 900, "é" * 3000], pa.string()),
        monkeypatch,
    )


@cache
def checked() -> dict[str, Any]:
    """The kernels compiled anew, so that every index is checked."""
    return compiling.functions(boundscheck=True)


def test_kernels_stay_inside_their_arrays() -> None:
    """On outputs of every size down to too small."""
    functions = checked()
    native = machine._loaded()
    assert native is not None
    # The second half is no UTF-8: characters cut short, code points beyond the last.
    pieces = [
        b"",
        b" a  b ",
        "ÉA\u0301 'o\ufdfa".encode(),
        b"\xf7\xbf\xbf\xbf\xc3",
        b"\xff\xe0\x80",
        b"x\xf4\x90\x80\x80\xf0\x9f",
    ]
    offsets = np.cumsum([0, *map(len, pieces)]).astype(np.int32)
    data = np.frombuffer(b"".join(pieces), np.uint8)
    known = {"letters": texts._KEY, "index": native.tables["key_index"], "blocks": native.tables["key_blocks"],
             "mixing": np.array([*hashing._FIRST, *hashing._SECOND]), "class_index": native.tables["classes_index"],
             "class_blocks": native.tables["classes_blocks"], **native.tables}  # fmt: skip
    for kernel in (*source.texts.KERNELS, source.hashes.hash_texts):
        names = [name for name in kernel.__annotations__ if name != "return"]
        kinds = source.signature(kernel)
        for size in (*range(0, 200, 3), 4000):
            fresh = {"offsets": offsets, "data": data, "first": 0, "longest": 30, "wanted": 3, "with_marks": 1, "ends": np.zeros(7, np.int32),
                     "left": np.zeros(7, np.int64), "bits": np.zeros(6, np.uint64), "other": np.zeros(6, np.uint64), "characters": np.zeros(6, np.int32), "output": np.zeros(6 if "mixing" in names else size, kinds[names.index("output")] if "output" in names else "uint8")}  # fmt: skip
            row = functions[kernel.__name__](*({**known, **fresh}[name] for name in names))
            assert 0 <= row <= 6
            assert row == 6 or size < 4000
            if "ends" in names:
                assert (np.diff(fresh["ends"][: row + 1]) >= 0).all()

    dice = random.Random(4)
    for _ in range(3000):
        text = b"".join(
            dice.choices(
                [b"a", b'"', b",", b"\n", "é".encode(), b"\xf0"],
                [9, 4, 5, 4, 2, 0.3],
                k=dice.randint(1, 30),
            )
        )
        buffer, rows, width = np.frombuffer(text, np.uint8), dice.randint(1, 4), dice.randint(1, 3)
        functions["scan_records"](buffer, 44, dice.randint(0, 1), np.zeros(6, np.int64))
        starts, ends, quoted = (
            np.zeros(rows * width, kind) for kind in (np.int32, np.int32, np.uint8)
        )
        functions["split_fields"](
            buffer, 44, np.arange(width, dtype=np.int32), rows, starts, ends, quoted
        )
        output, valid = np.zeros(dice.randint(0, 30), np.uint8), np.zeros(2, np.uint8)
        functions["gather_fields"](
            buffer, starts, ends, quoted, 0, output, np.zeros(rows * width + 1, np.int32), valid
        )


@given(
    st.lists(st.tuples(st.sampled_from([0, 1, 7, 2**11, 2**31, 2**63, 2**64 - 1]), st.integers(0, 200))),
    st.sampled_from([1, 0, 2**33 + 1]),
    st.integers(0, 3),
)  # fmt: skip
def test_hashes_are_sorted_and_told_apart(
    parts: list[tuple[int, int]], factor: int, seconds: int
) -> None:
    first = np.array([(high ^ low * factor) % 2**64 for high, low in parts], np.uint64)
    second = np.array([low % (seconds + 1) for _, low in parts], np.uint64)
    counts, rows = np.arange(1, len(first) + 1), np.arange(len(first))[::-1].copy()
    groups: dict[tuple[int, int], tuple[int, int]] = {}
    for place, pair in enumerate(zip(first.tolist(), second.tolist(), strict=True)):
        times, row = groups.get(pair, (0, len(first)))
        groups[pair] = (times + int(counts[place]), min(row, int(rows[place])))
    mixing: list[list[int]] = []
    with pytest.MonkeyPatch.context() as monkeypatch:
        for switch in "10":
            monkeypatch.setenv(machine.SWITCH, switch)
            mixing.append(mixed([first, second, first]).tolist())
            assert ascending(first).tolist() == np.argsort(first, kind="stable").tolist()
            *found, places = distinct_hashes(first, second, counts, rows)
            columns = [column.tolist() for column in found]
            assert columns[0] == sorted(columns[0])
            assert (first[places] == found[0]).all()
            assert (second[places] == found[1]).all()
            table = HashTable(found[0], found[1])
            there = table.find(first, second)
            assert (np.flatnonzero(there < 0).size == 0) or len({*first.tolist()}) < len(groups)
            assert (found[1][there] == second)[there >= 0].all()
            assert (table.find(first, second + np.uint64(9)) < 0).all()
            made = {(a, b): (times, row) for a, b, times, row in zip(*columns, strict=True)}
            assert made == groups
            assert len(columns[0]) == len(groups)
    assert mixing[0] == mixing[1]
    assert checked()["mix_hashes"](first.copy(), second, np.ones(3, np.uint64)) == len(first)
    keys, order, spare = first.copy(), np.arange(len(first), dtype=np.int32), first.copy()
    checked()["sort_hashes"](keys, order, spare, order.copy(), np.zeros(2048, np.int64))
    output = [np.zeros(len(groups), kind) for kind in (np.uint64, np.uint64, np.int64, np.int64)]
    places = np.zeros(len(groups), np.int32)
    made = checked()["reduce_hashes"](keys, order, second, counts, rows, *output, places)
    assert made == len(groups)
    slots = np.full(2 << len(first).bit_length(), -1, np.int32)
    checked()["index_hashes"](first, slots)
    found_rows = checked()["find_hashes"](slots, first, second, first, second, order)
    assert found_rows == len(first)
    assert not len(first) or (first[order] == first).all()


@given(
    st.lists(
        st.lists(st.one_of(st.none(), st.text(st.sampled_from('a",;\n\r é日\0'), max_size=20)), min_size=4, max_size=4),
        min_size=1, max_size=3,
    ),
    st.integers(0, 3), st.sampled_from([",", ";", "\t"]), st.sampled_from(["\n", "\r\n"]),
)  # fmt: skip
def test_records_are_written_as_by_their_reference(
    columns: list[list[str | None]], start: int, delimiter: str, ending: str
) -> None:
    arrays = [pa.array(values, pa.string())[start:] for values in columns]
    hidden = [with_hidden(values)[start:] for values in columns]
    with pytest.MonkeyPatch.context() as monkeypatch:
        monkeypatch.setenv(machine.SWITCH, "1")
        written = join_columns(arrays, delimiter, ending)
        assert written == join_columns(hidden, delimiter, ending)
        assert written == csv_sink._joined(arrays, delimiter, ending)
        assert written == csv_sink._joined(hidden, delimiter, ending)
    texts = [value or "" for values in columns for value in values]
    data = np.frombuffer("".join(texts).encode(), np.uint8)
    ends = np.cumsum([len(text.encode()) for text in texts]).reshape(len(columns), 4)
    offsets = np.column_stack([np.roll(ends[:, -1:], 1), ends]).astype(np.int64)
    offsets[0, 0] = 0
    known = np.array([value is not None for values in columns for value in values], np.uint8)
    for room in range(len(written) + 30):
        output = np.zeros(room, np.uint8)
        size = checked()["join_fields"](
            data, offsets.reshape(-1), known, 4, ord(delimiter), np.frombuffer(ending.encode(), np.uint8), output
        )  # fmt: skip
        assert size == -1 or start or output[:size].tobytes() == written


def test_records_are_found_as_by_counting_quotes(monkeypatch: pytest.MonkeyPatch) -> None:
    dice = random.Random(1)
    parts = [
        b"a",
        b'"',
        b"\n",
        b",",
        b'""',
        b'","',
        b'"\n"',
        b"abcdefghij",
        "é日😀".encode(),
        b"\xff",
        b"\xc0\x80",
        b"\xed\xa0\x80",
        b"\n\n",
        b"\r",
    ]
    used = 0
    for _ in range(8000):
        buffer = b"".join(
            dice.choices(
                parts, [30, 6, 12, 15, 3, 6, 4, 10, 5, 0.3, 0.3, 0.3, 1, 0.2], k=dice.randint(0, 30)
            )
        )
        last = dice.random() < 0.5
        monkeypatch.setenv(machine.SWITCH, "1")
        scanned = scan_records(buffer, b",", last)
        whole = references(monkeypatch, lambda b=buffer, end=last: splitter._whole(b, b",", end))
        if scanned is None:
            continue
        used += 1
        text = buffer[: whole.end]
        assert whole.found is None
        assert scanned[:4] == (whole.end, whole.records, whole.quoted, whole.lines)
        assert scanned.blank == (text.startswith(b"\n") or b"\n\n" in text)
        assert scanned.sound == (text.decode("utf-8", "replace").encode() == text)
    assert used > 1000


def test_fields_are_read_as_by_arrow_and_by_python(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    dice = random.Random(2)
    parts = [
        "a",
        '"x"',
        '"a,b"',
        '""',
        '"l\nm"',
        '"q""q"',
        "abcdefghij",
        "é日😀",
        "",
        " ",
        'b"c',
        "\n",
        "a,b",
    ]
    read: list[bool] = []
    split = reader.split_columns

    def watched(*arguments: Any) -> Any:
        columns = split(*arguments)
        read.append(columns is not None)
        return columns

    monkeypatch.setattr(reader, "split_columns", watched)

    def content(name: str, empty: bool) -> Any:
        source = reader.CsvSource(Path(name), name, ReadOptions(",", empty_null=empty))
        batches = [
            source.read(piece, wanted)
            for wanted in (None, [1], [2, 0], [])
            for piece in source.pieces()
        ]
        return [
            (
                batch.rows.tolist(),
                batch.malformed,
                [column and column.to_pylist() for column in batch.columns],
            )
            for batch in batches
        ]

    for turn in range(600):
        rows = [
            ",".join(dice.choices(parts, [20, 10, 6, 9, 3, 3, 10, 5, 14, 3, 0.03, 0.03, 0.1], k=3))
            for _ in range(dice.randint(1, 25))
        ]
        Path("t.csv").write_text("h1,h2,h3\n" + "\n".join(rows) + "\n" * (turn % 2), "utf-8")
        empty = turn % 3 == 0
        monkeypatch.setenv(machine.SWITCH, "1")
        compiled = content("t.csv", empty)
        assert compiled == references(monkeypatch, lambda e=empty: content("t.csv", e))
        if not compiled[0][1]:
            with open("t.csv", newline="", encoding="utf-8") as file:
                plain = [list(column) for column in zip(*list(csv.reader(file))[1:], strict=True)]
            assert [[text or "" for text in column] for column in compiled[0][2]] == plain
    assert read.count(True) > 1500


def test_commands_say_the_same_with_kernels_and_without(
    gravel: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    dice = random.Random(3)
    names = ["".join(dice.choice(ODD) for _ in range(dice.randint(0, 6))) for _ in range(300)]
    for file, seed in (("a.csv", 1), ("b.csv", 2)):
        dice.seed(seed)
        with open(file, "w", newline="", encoding="utf-8") as sink:
            csv.writer(sink).writerows([("id", "name", "note"), *((i, dice.choice(names), dice.choice(names)) for i in range(2000))])  # fmt: skip
    Path("p.toml").write_text(
        'table = "a.csv"\nwrite = "-"\n[[step]]\nset = { name = "CAPITALIZE_WORDS(TIDY_SPACES(name))", note = "MATCH_KEY(NULLIF(note, name))" }\n'
        '[[step]]\nset = { note = "CASE WHEN LENGTH(note) > 2 THEN NULL ELSE note END" }\n'
        '[[step]]\ndrop_rows = "SHAPE(name) = UPPER(LOWER(WITHOUT_ACCENTS(name)))"\n', "utf-8",
    )  # fmt: skip
    asked = (
        ("profile", "a.csv", "--format", "json"),
        ("duplicates", "a.csv", "--on", "name", "--format", "json"),
        ("compare", "a.csv", "b.csv", "--key", "id", "--ignore-case", "--format", "json"),
        ("query", "SELECT name, COUNT(*), COUNT(DISTINCT MATCH_KEY(note)) FROM 'a.csv' GROUP BY name ORDER BY name", "--format", "csv"),
        ("clean", "p.toml"),
    )  # fmt: skip
    for command in asked:
        monkeypatch.setenv(machine.SWITCH, "1")
        compiled = gravel(*command, status=None)
        plain = references(monkeypatch, lambda c=command: gravel(*c, status=None))
        assert compiled == plain
        assert compiled.status in (0, 1)


def test_what_cannot_be_compiled_is_read_by_the_references(
    gravel: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    """No kernels, no tables or those of another Unicode, no folder for machine code."""
    monkeypatch.setenv(machine.SWITCH, "1")

    def fresh() -> bool:
        machine._loaded.cache_clear()
        return machine._loaded() is not None

    assert machine.CODE.read_text("utf-8").splitlines()[0] == f"; {compiling.checksum()}", (
        "python -m gravel.kernels.native.compiling"
    )
    assert fresh()
    assert [path.suffix for path in machine.cache_folder().iterdir()].count(".o") == 1
    assert "kernels: compiled" in gravel("--version", "--verbose").out
    Path("file").write_text("")
    for target, name, value in (
        (machine, "CODE", Path("none.ll")),
        (machine, "TABLES", Path("none.npz")),
        (machine.unicodedata, "unidata_version", "1.1.0"),
    ):
        with monkeypatch.context() as patch:
            patch.setattr(target, name, value)
            assert not fresh()
            assert casing.upper(pa.array(["é"])).to_pylist() == ["É"]
            assert "kernels: none" in gravel("--version", "--verbose").out
    with monkeypatch.context() as patch:
        patch.setenv("XDG_CACHE_HOME", "file")  # where no folder can be made
        assert fresh()
        assert texts.upper(pa.array(["é"])).to_pylist() == ["É"]
    assert fresh()
