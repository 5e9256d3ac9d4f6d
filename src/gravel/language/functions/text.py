"""Text: case, spaces, parts, lengths. Lengths and positions are characters, from 1."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels import rules, texts
from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import WHITE, ZERO_WIDTH
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic
from gravel.language.functions.buffers import (
    HIGH,
    ByteSet,
    body,
    by_value,
    is_ascii,
    maybe_untidy,
    on_rows,
    rows_with,
    valid,
    with_buffers,
)
from gravel.language.functions.catalogue import KernelResult, function


def _full_case(
    compiled: Callable[[Any], Any], ascii_kernel: Any, convert: Callable[[str], str]
) -> Callable[[Any], Any]:
    """A case mapping: compiled, or Arrow's for ASCII and Python's full Unicode mapping (sharp s to
    SS) for the other values."""

    def change(x: pa.Array) -> pa.Array:
        if isinstance(x, pa.Scalar):
            return pa.scalar(None if x.as_py() is None else convert(x.as_py()), pa.string())
        if (mapped := compiled(x)) is not None:
            return mapped
        result = ascii_kernel(x)
        return (
            on_rows(result, rows_with(x, HIGH), lambda subset: by_value(subset, convert))
            if not is_ascii(x)
            else result
        )

    return change


# ascii_upper leaves other letters as they are; those values are mapped whole afterwards, so nothing
# is mapped twice wrongly.
_upper, _lower = (
    _full_case(texts.upper, pc.ascii_upper, str.upper),
    _full_case(texts.lower, pc.ascii_lower, str.lower),
)


@function(
    "UPPER(x TEXT) TEXT",
    meaning="all letters as capitals, by Unicode's full mapping",
    examples={"UPPER('Möwe')": "'MÖWE'", "UPPER('Straße')": "'STRASSE'"},
)
def upper(x: pa.Array) -> pa.Array:
    return _upper(x)


@function(
    "LOWER(x TEXT) TEXT",
    meaning="all letters as small ones, by Unicode's full mapping",
    examples={"LOWER('ÅSE')": "'åse'"},
)
def lower(x: pa.Array) -> pa.Array:
    # A text that the ASCII kernel has lowered gives the same full mapping as the text itself.
    return _lower(x)


def _trim(side: str) -> tuple[Any, Any]:
    return {
        "left": (pc.utf8_ltrim, str.lstrip),
        "right": (pc.utf8_rtrim, str.rstrip),
        "both": (pc.utf8_trim, str.strip),
    }[side]


def _trimmed(x: pa.Array, chars: pa.Array | pa.Scalar | None, side: str) -> pa.Array:
    kernel, convert = _trim(side)
    if chars is None:
        return kernel(x, " ")
    if isinstance(chars, pa.Scalar):
        if chars.as_py() is None:
            return pa.nulls(len(x) if isinstance(x, pa.Array) else 1, pa.string())
        return kernel(x, chars.as_py()) if chars.as_py() else x
    return by_row(lambda text, subset: convert(text, subset) if subset else text, x, chars)


@function(
    "BTRIM(x TEXT [, chars TEXT]) TEXT",
    meaning=(
        "x without the plain spaces, or any of the given characters, at both ends; TRIM(x),"
        " TRIM(chars FROM x), TRIM(LEADING|TRAILING|BOTH chars FROM x) are the standard's forms;"
        " see TIDY_SPACES for tabs and no-break spaces"
    ),
    examples={
        "TRIM('  Gull ')": "'Gull'",
        "TRIM(LEADING '0' FROM '007')": "'7'",
        "BTRIM('(B4)', '()')": "'B4'",
    },
)
def btrim(x: pa.Array, chars: pa.Array | pa.Scalar | None = None) -> pa.Array:
    return _trimmed(x, chars, "both")


@function(
    "LTRIM(x TEXT [, chars TEXT]) TEXT",
    meaning="x without the plain spaces, or any of the given characters, at its start",
    examples={"LTRIM('  Gull ')": "'Gull '"},
)
def ltrim(x: pa.Array, chars: pa.Array | pa.Scalar | None = None) -> pa.Array:
    return _trimmed(x, chars, "left")


@function(
    "RTRIM(x TEXT [, chars TEXT]) TEXT",
    meaning="x without the plain spaces, or any of the given characters, at its end",
    examples={"RTRIM('  Gull ')": "'  Gull'"},
)
def rtrim(x: pa.Array, chars: pa.Scalar | None = None) -> pa.Array:
    return _trimmed(x, chars, "right")


@function(
    "TIDY_SPACES(x TEXT) TEXT",
    meaning=(
        "ends trimmed, runs of white space inside made one plain space; tabs, no-break spaces and"
        " line breaks count as white space, zero width characters are removed"
    ),
    examples={"TIDY_SPACES('  Grey   Gull ')": "'Grey Gull'", "TIDY_SPACES(' ')": "''"},
)
def tidy_spaces(x: pa.Array) -> pa.Array:
    result = texts.tidy_spaces(x)
    return on_rows(x, maybe_untidy(x), _tidy) if result is None else result


def _tidy(subset: pa.Array) -> pa.Array:
    without = (
        subset if is_ascii(subset) else pc.replace_substring_regex(subset, f"[{ZERO_WIDTH}]+", "")
    )
    return pc.utf8_trim(pc.replace_substring_regex(without, f"{WHITE}+", " "), " ")


@function(
    "CAPITALIZE_WORDS(x TEXT [, kept TEXT]) TEXT",
    meaning=(
        "the first letter after the start, white space or a hyphen is raised, also that after an"
        " apostrophe that follows a single letter; not if a digit stands before it; all others are"
        " lowered; words of kept, with blanks between them, are written as they stand there, but"
        " small ones at the start"
    ),
    examples={
        "CAPITALIZE_WORDS('GREY GULL')": "'Grey Gull'",
        "CAPITALIZE_WORDS('o''malley-BRÜCK')": "'O''Malley-Brück'",
        "CAPITALIZE_WORDS('2nd skipper''s boat')": "'2nd Skipper''s Boat'",
        "CAPITALIZE_WORDS('THE LADY OF THE QUAY III', 'of the III')": "'The Lady of the Quay III'",
    },
)
def capitalize_words(x: pa.Array, kept: pa.Scalar | None = None) -> pa.Array:
    result = _with_capitals(x)
    if kept is None:
        return result
    if not constant(kept):
        return by_row(_keep_words, result, kept)
    words = (kept.as_py() or "").split()
    if not words:
        return result if kept.is_valid else by_row(_keep_words, result, kept)
    listed = pc.match_substring_regex(
        result, rf"(?i)(^|{WHITE}|-)({'|'.join(map(re.escape, words))})({WHITE}|-|$)"
    )
    return on_rows(
        result,
        pc.fill_null(listed, False).to_numpy(zero_copy_only=False),
        lambda subset: by_value(subset, _keeping(words)),
    )


def _keep_words(text: str, kept: str) -> str:
    return _keeping(kept.split())(text)


def _keeping(words: list[str]) -> Callable[[str], str]:
    """What writes these words as they stand here, small ones not at the start."""
    known = {word.lower(): word for word in words}

    def keep(text: str) -> str:
        def word(match: re.Match[str]) -> str:
            written = known.get(match.group().lower(), match.group())
            return match.group() if match.start() == 0 and written.islower() else written

        return rules.WORDS.sub(word, text)

    return keep


def _with_capitals(x: pa.Array) -> pa.Array:
    if (capitalized := texts.capitalize_words(x)) is not None:
        return capitalized
    result = on_rows(pc.ascii_title(x), _untitled(x), _capitalized_ascii)
    if is_ascii(x):
        return result
    high = rows_with(x, HIGH)
    return pc.replace_with_mask(
        result, to_arrow(high), by_value(x.filter(to_arrow(high)), rules.capitalized)
    )


_IS_UPPER, _IS_LOWER = ByteSet(bytes(range(65, 91))), ByteSet(bytes(range(97, 123)))
_BREAK, _DIGIT, _QUOTE = ByteSet(b"\t\n\x0b\x0c\r -"), ByteSet(b"0123456789"), ByteSet(b"'")


def _untitled(x: pa.Array) -> np.ndarray:
    """Mask of the values in which a letter follows what is neither a letter nor a break: Arrow's
    title case, which raises every such letter, differs there and only there."""
    offsets, data = body(x)
    mask = np.zeros(len(x), bool)
    letter = (data | np.uint8(32)) - np.uint8(97) < 26
    hits = np.flatnonzero(letter[1:] & ~(letter[:-1] | _BREAK.within(data[:-1]))) + 1
    rows = np.searchsorted(offsets, hits, side="right") - 1
    mask[rows[offsets[rows] != hits]] = True
    return mask


def _capitalized_ascii(x: pa.Array) -> pa.Array:
    """The rule on the bytes of all values at once; only ASCII values come out right."""
    offsets, data = body(x)
    if len(data) == 0:
        return x
    lowered = np.where(_IS_UPPER.within(data), data + 32, data).astype(np.uint8)
    letter = _IS_LOWER.within(lowered)
    starts = np.zeros(len(data) + 1, bool)
    starts[offsets[:-1]] = True
    starts = starts[:-1]
    index = np.arange(len(data), dtype=np.int32)
    # The word begins after the last break; a letter is the word's first if no other stands between.
    word = np.maximum.accumulate(
        np.where(starts, index, np.where(_BREAK.within(data), index + 1, 0))
    )
    earlier = np.empty_like(index)
    earlier[0] = -1
    earlier[1:] = np.maximum.accumulate(np.where(letter, index, -1))[:-1]
    first = letter & (earlier < word)
    after_digit = np.zeros(len(data), bool)
    after_digit[1:] = _DIGIT.within(data[:-1]) & ~starts[1:]
    raised = first & ~after_digit
    quote = np.flatnonzero(_QUOTE.within(data))
    quote = quote[(quote > 0) & (quote < len(data) - 1)]
    quote = quote[letter[quote - 1] & letter[quote + 1] & ~starts[quote] & ~starts[quote + 1]]
    single = (quote < 2) | starts[quote - 1] | ~letter[np.maximum(quote - 2, 0)]
    raised[quote[single] + 1] = True
    lowered[raised] -= 32
    return with_buffers(x, offsets, lowered)


@function(
    "LENGTH(x TEXT) INTEGER",
    meaning="the number of characters (not bytes); CHAR_LENGTH is the same",
    examples={"LENGTH('Möwe')": "4", "LENGTH('')": "0"},
)
def length(x: pa.Array) -> pa.Array:
    return pc.cast(pc.utf8_length(x), pa.int64())


class RowFailure(Exception):
    """Raised by a Python function for a row that has an error; the argument is its SQLSTATE."""


def by_row(convert: Callable[..., Any], *columns: Any, to: pa.DataType | None = None) -> Any:
    """A Python function over the rows of several columns: once for each distinct value where the
    others are constant, else once for each distinct combination. NULL in any gives NULL, a
    RowFailure that row's error.
    """
    spread = arithmetic.arrays(*columns)
    varying = [index for index, column in enumerate(columns) if not isinstance(column, pa.Scalar)]
    if len(varying) == 1 and len(spread[varying[0]]) > 1:
        coded = spread[varying[0]].dictionary_encode()
        keys = [
            (
                [column.as_py()] * len(coded.dictionary)
                if isinstance(column, pa.Scalar)
                else coded.dictionary.to_pylist()
            )
            for column in columns
        ]
        result, errors = _converted(convert, list(zip(*keys, strict=True)), to)
        if not errors.any():
            return result.take(coded.indices)
        known = valid(coded.indices)
        return KernelResult(
            result.take(coded.indices),
            np.where(known, errors[arithmetic.numpy_values(coded.indices)], 0).astype(np.uint8),
        )
    rows = list(zip(*(column.to_pylist() for column in spread), strict=True))
    distinct = list(dict.fromkeys(rows))
    result, errors = _converted(convert, distinct, to)
    place = {row: index for index, row in enumerate(distinct)}
    where = np.fromiter((place[row] for row in rows), np.int64, len(rows))
    values = result.take(to_arrow(where))
    return KernelResult(values, errors[where]) if errors.any() else values


def _converted(
    convert: Callable[..., Any], rows: list[tuple[Any, ...]], to: pa.DataType | None
) -> tuple[Any, np.ndarray]:
    out: list[Any] = []
    errors = np.zeros(len(rows), np.uint8)
    for index, row in enumerate(rows):
        try:
            out.append(None if None in row else convert(*row))
        except RowFailure as failure:
            out.append(None)
            errors[index] = CODES[str(failure)]
    return pa.array(out, to or pa.string()), errors


def constant(*values: Any) -> bool:
    """Whether the arguments given are constants other than NULL."""
    return all(
        value is None or (isinstance(value, pa.Scalar) and value.is_valid) for value in values
    )


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
