"""Text: parts, places, lengths. Lengths and positions are characters, from 1."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import HIGH, by_value, is_ascii, rows_with
from gravel.language.functions.catalogue import function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant


@function(
    "LENGTH(x TEXT) INTEGER",
    meaning="the number of characters (not bytes); CHAR_LENGTH is the same",
    examples={"LENGTH('Möwe')": "4", "LENGTH('')": "0"},
)
def length(x: pa.Array) -> pa.Array:
    return pc.cast(pc.utf8_length(x), pa.int64())


@function(
    "LEFT(x TEXT, n INTEGER) TEXT",
    meaning="the first n characters; for n below 0 all but the last -n",
    examples={"LEFT('Gull', 2)": "'Gu'", "LEFT('Gull', -1)": "'Gul'"},
)
def left(x: pa.Array, n: pa.Array | pa.Scalar) -> pa.Array:
    if constant(n):
        return pc.utf8_slice_codeunits(x, 0, _near(n.as_py()))
    return by_row(lambda text, count: text[:count], x, n)


@function(
    "RIGHT(x TEXT, n INTEGER) TEXT",
    meaning="the last n characters; for n below 0 all but the first -n",
    examples={"RIGHT('Gull', 2)": "'ll'", "RIGHT('Gull', -1)": "'ull'"},
)
def right(x: pa.Array, n: pa.Array | pa.Scalar) -> pa.Array:
    if constant(n):
        count = _near(n.as_py())
        return pc.utf8_slice_codeunits(x, -count) if count else pc.utf8_slice_codeunits(x, 0, 0)
    return by_row(lambda text, count: text[-count:] if count else "", x, n)


@function(
    "SUBSTRING(x TEXT, start INTEGER [, length INTEGER]) TEXT",
    meaning=(
        "the characters from `start` on, `length` of them; SUBSTRING(x FROM start FOR length) is"
        " the standard's form; places before the first count but are empty"
    ),
    examples={
        "SUBSTRING('Gull', 2, 2)": "'ul'",
        "SUBSTRING('Gull' FROM 0 FOR 2)": "'G'",
        "SUBSTRING('Gull', 3)": "'ll'",
    },
    errors=("22011",),
)
def substring(
    x: pa.Array, start: pa.Array | pa.Scalar, length: pa.Array | pa.Scalar | None = None
) -> Any:
    if constant(start, length):
        first = _near(start.as_py()) - 1
        if length is None:
            return pc.utf8_slice_codeunits(x, max(first, 0))
        if length.as_py() >= 0:
            # The end is counted from the start as it was given: one far before the first character
            # leaves nothing.
            stop = max(min(start.as_py() - 1 + length.as_py(), _FAR), 0)
            return pc.utf8_slice_codeunits(x, min(max(first, 0), stop), stop)
    return by_row(_part, x, start, *(() if length is None else (length,)))


def _part(text: str, start: int, length: int | None = None) -> str:
    if length is not None and length < 0:
        raise RowFailure("22011")
    first = start - 1
    stop = None if length is None else max(first + length, 0)
    return text[max(first, 0) : stop]


@function(
    "POSITION(part TEXT, x TEXT) INTEGER",
    meaning=(
        "where the part first stands in x, from 1; 0 where it does not; the standard's form is"
        " POSITION(part IN x)"
    ),
    examples={
        "POSITION('l' IN 'Gull')": "3",
        "POSITION('x' IN 'Gull')": "0",
        "POSITION('' IN 'Gull')": "1",
    },
)
def position(part: pa.Array | pa.Scalar, x: pa.Array | pa.Scalar) -> pa.Array:
    if constant(part) and isinstance(x, pa.Array):
        result = pc.add(pc.find_substring(x, part.as_py()), 1)
        if is_ascii(x):
            return pc.cast(result, pa.int64())
        # Arrow counts bytes: where there are others than ASCII before the part, characters are
        # counted.
        exact = rows_with(x, HIGH)
        output = pc.cast(result, pa.int64())
        convert = lambda text: text.find(part.as_py()) + 1  # noqa: E731
        return pc.replace_with_mask(
            output, to_arrow(exact), by_value(x.filter(to_arrow(exact)), convert, pa.int64())
        )
    return by_row(lambda piece, text: text.find(piece) + 1, part, x, to=pa.int64())


@function(
    "REPLACE(x TEXT, old TEXT, new TEXT) TEXT",
    meaning=(
        "every `old` in x replaced by `new`, also inside longer words; an empty `old` changes"
        " nothing"
    ),
    examples={"REPLACE('B-4', '-', '')": "'B4'", "REPLACE('Gull', '', 'x')": "'Gull'"},
    errors=("22001",),
)
def replace(
    x: pa.Array | pa.Scalar, old: pa.Array | pa.Scalar, new: pa.Array | pa.Scalar
) -> pa.Array:
    if constant(old, new) and len(new.as_py()) <= max(1, len(old.as_py())):
        return pc.replace_substring(x, old.as_py(), new.as_py()) if old.as_py() else x
    return by_row(_replaced, x, old, new)


def _replaced(text: str, old: str, new: str) -> str:
    if not old:
        return text
    if len(text) + text.count(old) * max(0, len(new) - len(old)) > LONGEST:
        raise RowFailure("22001")
    return text.replace(old, new)


@function(
    "CONCAT(x AS TEXT [, y AS TEXT]...) TEXT",
    meaning="all arguments as texts, joined; NULL is passed over",
    examples={
        "CONCAT('B', 4)": "'B4'",
        "CONCAT('B', NULL, '4')": "'B4'",
        "CONCAT(NULL, NULL)": "''",
    },
)
def concat(*columns: Any) -> pa.Array:
    # Arrow's own way to pass over NULL loses the rows in which every argument is NULL.
    return pc.binary_join_element_wise(*(pc.fill_null(column, "") for column in columns), "")


@function(
    "CONCAT_WS(delimiter TEXT, x AS TEXT [, y AS TEXT]...) TEXT",
    meaning=(
        "the other arguments as texts with the delimiter between them; NULL is passed over with its"
        " delimiter"
    ),
    examples={
        "CONCAT_WS(', ', 'Ines', NULL, 'B4')": "'Ines, B4'",
        "CONCAT_WS('-', NULL)": "''",
        "CONCAT_WS(NULL, 'B')": "NULL",
    },
)
def concat_ws(delimiter: pa.Array, *columns: Any) -> pa.Array:
    result: Any = None
    for column in columns:
        texts = (
            column
            if result is None
            else pc.if_else(
                pc.is_valid(result), pc.binary_join_element_wise(result, column, delimiter), column
            )
        )
        result = texts if result is None else pc.coalesce(texts, result)
    return pc.if_else(
        pc.is_valid(delimiter),
        pc.coalesce(result, pa.scalar("", pa.string())),
        pa.scalar(None, pa.string()),
    )


_FAR = 2**31 - 2  # no text has so many characters; Arrow's positions end there


def _near(place: int) -> int:
    return max(-_FAR, min(place, _FAR))


LONGEST = 10_000_000  # characters that REPEAT, LPAD and RPAD make at most


def _padded(x: pa.Array, n: pa.Scalar, fill: pa.Array | pa.Scalar, left: bool) -> pa.Array:
    if constant(n, fill) and len(fill.as_py()) == 1 and 0 < n.as_py() <= 10_000:
        wide = (pc.utf8_lpad if left else pc.utf8_rpad)(x, n.as_py(), fill.as_py())
        return pc.utf8_slice_codeunits(wide, 0, n.as_py())

    def pad(text: str, width: int, subset: str) -> str:
        if width > LONGEST:
            raise RowFailure("22011")
        missing = max(width, 0) - len(text)
        if missing <= 0 or not subset:
            return text[: max(width, 0)]
        filled = (subset * (missing // len(subset) + 1))[:missing]
        return filled + text if left else text + filled

    return by_row(pad, x, n, fill)


@function(
    "LPAD(x TEXT, n INTEGER [, fill TEXT]) TEXT",
    meaning=(
        "x filled up at its start to n characters with `fill` (a space if not given); a longer x is"
        " cut after n"
    ),
    examples={"LPAD('7', 3, '0')": "'007'", "LPAD('Gull', 2)": "'Gu'"},
    errors=("22011",),
)
def lpad(x: pa.Array, n: pa.Scalar, fill: pa.Array | pa.Scalar | None = None) -> pa.Array:
    return _padded(x, n, pa.scalar(" ") if fill is None else fill, True)


@function(
    "RPAD(x TEXT, n INTEGER [, fill TEXT]) TEXT",
    meaning=(
        "x filled up at its end to n characters with `fill` (a space if not given); a longer x is"
        " cut after n"
    ),
    examples={"RPAD('7', 3, '.-')": "'7.-'"},
    errors=("22011",),
)
def rpad(x: pa.Array, n: pa.Scalar, fill: pa.Array | pa.Scalar | None = None) -> pa.Array:
    return _padded(x, n, pa.scalar(" ") if fill is None else fill, False)


@function(
    "OCTET_LENGTH(x TEXT) INTEGER",
    meaning="the number of bytes of x in UTF-8",
    examples={"OCTET_LENGTH('Möwe')": "5"},
)
def octet_length(x: pa.Array) -> pa.Array:
    return pc.cast(pc.binary_length(x), pa.int64())


@function(
    "REVERSE(x TEXT) TEXT",
    meaning="the characters of x from the last to the first",
    examples={"REVERSE('Gull')": "'lluG'"},
)
def reverse(x: pa.Array) -> pa.Array:
    return pc.utf8_reverse(x)


@function(
    "REPEAT(x TEXT, n INTEGER) TEXT",
    meaning="x so many times; '' for n below 1",
    examples={"REPEAT('ab', 3)": "'ababab'", "REPEAT('ab', -1)": "''"},
    errors=("22011",),
)
def repeat(x: pa.Array, n: pa.Array | pa.Scalar) -> pa.Array:
    if constant(n) and isinstance(x, pa.Array) and len(x):
        count = max(n.as_py(), 0)
        longest = pc.max(pc.binary_length(x)).as_py() or 0
        if longest * count <= LONGEST and longest * count * len(x) < 2**31:
            return pc.binary_repeat(x, count)
    return by_row(_times, x, n)


def _times(text: str, count: int) -> str:
    if len(text) * count > LONGEST:
        raise RowFailure("22011")
    return text * count


@function(
    "OVERLAY(x TEXT, y TEXT, start INTEGER [, length INTEGER]) TEXT",
    meaning=(
        "OVERLAY(x PLACING y FROM start FOR length): x with `length` characters from `start` on (as"
        " many as y has if not given) replaced by y"
    ),
    examples={
        "OVERLAY('HB 007 K' PLACING 'XX' FROM 1)": "'XX 007 K'",
        "OVERLAY('Gull' PLACING 'aa' FROM 2 FOR 1)": "'Gaall'",
    },
    errors=("22011",),
)
def overlay(
    x: pa.Array,
    y: pa.Array | pa.Scalar,
    start: pa.Array | pa.Scalar,
    length: pa.Scalar | None = None,
) -> Any:
    if (
        constant(y, start)
        and (length is None or constant(length))
        and start.as_py() >= 1
        and isinstance(x, pa.Array)
    ):
        first = _near(start.as_py()) - 1
        count = len(y.as_py()) if length is None else _near(length.as_py())
        if count >= 0:
            return pc.utf8_replace_slice(x, first, first + count, y.as_py())
    return by_row(_overlaid, x, y, start, *(() if length is None else (length,)))


def _overlaid(text: str, new: str, start: int, length: int | None = None) -> str:
    if start < 1:
        raise RowFailure("22011")
    return (
        text[: start - 1]
        + new
        + text[max(start - 1 + (len(new) if length is None else length), 0) :]
    )


@function(
    "NORMALIZE(x TEXT, form TEXT) TEXT",
    meaning=(
        "NORMALIZE(x, NFC): x in a Unicode normalization form, one of NFC (if not given), NFD,"
        " NFKC, NFKD"
    ),
    check=lambda values: (
        None
        if values[1] in ("NFC", "NFD", "NFKC", "NFKD")
        else f"{values[1]} is not a normalization form: NFC, NFD, NFKC, NFKD"
    ),
    examples={"LENGTH(NORMALIZE('Mo\u0308we', NFC))": "4"},
)
def normalize(x: pa.Array, form: pa.Scalar) -> pa.Array:
    return x if is_ascii(x) else pc.utf8_normalize(x, form.as_py())


@function(
    "POSITION_OF(part TEXT, x TEXT [, occurrence INTEGER] [, start INTEGER]) INTEGER",
    meaning=(
        "where the part stands in x for the nth time, looked for from `start` on, counted from 1; 0"
        " where it does not; occurrences do not overlap"
    ),
    examples={
        "POSITION_OF('-', 'A-07-b', 2)": "5",
        "POSITION_OF('a', 'banana', 1, 3)": "4",
        "POSITION_OF('a', 'b', 0)": "error 22023",
    },
    errors=("22023",),
)
def position_of(
    part: pa.Array,
    x: pa.Scalar,
    occurrence: pa.Scalar | None = None,
    start: pa.Scalar | None = None,
) -> Any:
    if occurrence is None:
        return position(part, x)
    return by_row(_nth, part, x, occurrence, *(() if start is None else (start,)), to=pa.int64())


def _nth(part: str, text: str, occurrence: int, start: int = 1) -> int:
    if occurrence < 1 or start < 1:
        raise RowFailure("22023")
    index = start - 1
    for turn in range(occurrence):
        result = text.find(part, index)
        if result < 0 or (not part and turn):
            return 0
        index = result + len(part)
    return result + 1


@function(
    "TRANSLATE(x TEXT, from TEXT, to TEXT) TEXT",
    meaning=(
        "each sign of x that stands in `from` replaced by the one at its place in `to`; without one"
        " there it is taken out"
    ),
    examples={"TRANSLATE('B-4/7', '-/', '  ')": "'B 4 7'", "TRANSLATE('1,5', ',', '')": "'15'"},
)
def translate(x: pa.Array, old: pa.Scalar, new: pa.Scalar) -> pa.Array:
    def translated(text: str, signs: str, others: str) -> str:
        table: dict[int, str | None] = {}
        for index, sign in enumerate(signs):
            table.setdefault(ord(sign), others[index] if index < len(others) else None)
        return text.translate(table)

    return by_row(translated, x, old, new)
