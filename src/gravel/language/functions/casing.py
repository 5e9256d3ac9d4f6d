"""Case and spaces: capitals and small letters, white space at the ends and inside."""

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
from gravel.language.functions.buffers import (
    HIGH,
    ByteSet,
    body,
    by_value,
    is_ascii,
    maybe_untidy,
    on_rows,
    rows_with,
    with_buffers,
)
from gravel.language.functions.catalogue import function
from gravel.language.functions.row_by_row import by_row, constant


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
