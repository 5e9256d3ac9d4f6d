"""Spelling and shape: what is left of a text when what people write differently is taken off."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels import rules, texts
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import (
    HIGH,
    ByteSet,
    body,
    by_value,
    is_ascii,
    on_rows,
    rows_with,
    valid,
    with_buffers,
)
from gravel.language.functions.casing import tidy_spaces
from gravel.language.functions.catalogue import function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant

_DIGITS, _LETTERS = ByteSet(b"0123456789"), ByteSet(bytes(range(65, 91)) + bytes(range(97, 123)))


def _beyond_ascii(
    ascii_kernel: Callable[[Any], Any],
    convert: Callable[[str], str | None],
    compiled: Callable[[Any], Any] = lambda _: None,
) -> Callable[[Any], Any]:
    """A compiled kernel, or one for ASCII values beside a Python function for the others, once a
    distinct value."""

    def change(x: pa.Array) -> pa.Array:
        if (result := compiled(x)) is not None:
            return result
        if is_ascii(x):
            return ascii_kernel(x)
        high = to_arrow(rows_with(x, HIGH))
        result = ascii_kernel(pc.if_else(high, pa.scalar("", pa.string()), x))
        return pc.replace_with_mask(result, high, by_value(x.filter(high), convert))

    return change


@function(
    "WITHOUT_ACCENTS(x TEXT) TEXT",
    meaning=(
        "x with the marks off Latin and Greek letters, and ø ł đ ð þ ß æ œ ı as plain letters;"
        " other scripts as they are"
    ),
    examples={"WITHOUT_ACCENTS('Blå Möwe')": "'Bla Mowe'", "WITHOUT_ACCENTS('Ærø')": "'AEro'"},
)
def without_accents(x: pa.Array) -> pa.Array:
    if (plain := texts.without_accents(x)) is not None:
        return plain
    return on_rows(x, rows_with(x, HIGH), lambda subset: by_value(subset, rules.unaccented))


def _only(x: pa.Array, wanted: ByteSet) -> pa.Array:
    """ASCII values with only the wanted bytes."""
    return _kept(x, wanted.within(body(x)[1]))


def _kept(x: pa.Array, keep: np.ndarray) -> pa.Array:
    """The values with only the bytes to keep."""
    offsets, data = body(x)
    if keep.all():
        return x
    before = np.zeros(len(data) + 1, np.int32)
    np.cumsum(keep, out=before[1:])
    return with_buffers(x, before[offsets], data[keep])


_only_digits = _beyond_ascii(lambda x: _only(x, _DIGITS), rules.only_digits, texts.only_digits)


@function(
    "ONLY_DIGITS(x TEXT) TEXT",
    meaning="the decimal digits of x, of any script, and nothing else",
    examples={"ONLY_DIGITS('0555/12-34')": "'05551234'", "ONLY_DIGITS('none')": "''"},
)
def only_digits(x: pa.Array) -> pa.Array:
    return _only_digits(x)


_only_letters = _beyond_ascii(lambda x: _only(x, _LETTERS), rules.only_letters, texts.only_letters)


@function(
    "ONLY_LETTERS(x TEXT) TEXT",
    meaning="the letters of x with their marks, and nothing else",
    examples={"ONLY_LETTERS('HB 007 K')": "'HBK'", "ONLY_LETTERS('Möwe 2')": "'Möwe'"},
)
def only_letters(x: pa.Array) -> pa.Array:
    return _only_letters(x)


_SHAPE = bytes(
    65 if 65 <= byte <= 90 else 97 if 97 <= byte <= 122 else 57 if 48 <= byte <= 57 else byte
    for byte in range(256)
)


def _translated(x: pa.Array, signs: bytes) -> pa.Array:
    offsets, data = body(x)
    return with_buffers(x, offsets, np.frombuffer(data.tobytes().translate(signs), np.uint8))


_shaped = _beyond_ascii(lambda x: _translated(x, _SHAPE), rules.shape, texts.shape)


@function(
    "SHAPE(x TEXT) TEXT",
    meaning=(
        "x with every capital as A, every other letter as a, every decimal digit as 9; letters with"
        " their marks"
    ),
    examples={"SHAPE('HB 007 k')": "'AA 999 a'", "SHAPE('2024-05-31')": "'9999-99-99'"},
)
def shape(x: pa.Array) -> pa.Array:
    return _shaped(x)


_KEY = bytes(
    byte + 32 if 65 <= byte <= 90 else byte if 97 <= byte <= 122 or 48 <= byte <= 57 else 32
    for byte in range(256)
)


def _key_ascii(x: pa.Array) -> pa.Array:
    result = _translated(x, _KEY)
    offsets, data = body(result)
    space = data == 32
    # A space that follows another, or begins a value, goes; one at the end is trimmed after that.
    gone = space.copy()
    gone[1:] &= space[:-1]
    starts = offsets[:-1][offsets[:-1] < len(data)]
    gone[starts] = space[starts]
    result = pc.ascii_rtrim(_kept(result, ~gone), " ")
    return pc.if_else(pc.equal(result, ""), pa.scalar(None, pa.string()), result)


_keyed = _beyond_ascii(_key_ascii, rules.match_key, texts.match_key)


@function(
    "MATCH_KEY(x TEXT [, order TEXT]) TEXT",
    meaning=(
        "one spelling for what people write in many: without case, accents and punctuation, words"
        " joined by one space; with 'sorted' the words are sorted too; NULL if nothing is left"
    ),
    examples={
        "MATCH_KEY(' O''Brannock,  JORUN ')": "'o brannock jorun'",
        "MATCH_KEY('Jorun Brannock', 'sorted')": "'brannock jorun'",
        "MATCH_KEY('--')": "NULL",
        "MATCH_KEY('a', 'b')": "error 22023",
    },
    errors=("22023",),
)
def match_key(x: pa.Array, order: pa.Scalar | None = None) -> Any:
    result = _keyed(x)
    if order is None:
        return result
    if constant(order) and order.as_py() == "sorted":
        return _words_sorted(result)
    return by_row(_ordered, x, order)


def _words_sorted(texts: pa.Array) -> pa.Array:
    """Texts with their words in order; two of them are only exchanged, which is what most names
    need."""
    spaces = pc.fill_null(pc.count_substring(texts, " "), 0).to_numpy(zero_copy_only=False)
    for mask, change in ((spaces == 1, _two_sorted), (spaces > 1, _many_sorted)):
        if mask.any():
            chosen = to_arrow(mask)
            texts = pc.replace_with_mask(texts, chosen, change(texts.filter(chosen)))
    return texts


def _two_sorted(texts: pa.Array) -> pa.Array:
    words = pc.split_pattern(texts, " ")
    first, second = pc.list_element(words, 0), pc.list_element(words, 1)
    return pc.if_else(
        pc.less(second, first), pc.binary_join_element_wise(second, first, " "), texts
    )


def _many_sorted(texts: pa.Array) -> pa.Array:
    return by_value(texts, lambda text: " ".join(sorted(text.split(" "))))


def _ordered(text: str, order: str) -> str | None:
    if order != "sorted":
        raise RowFailure("22023")
    key = rules.match_key(text)
    return key and " ".join(sorted(key.split(" ")))


@function(
    "WORD_COUNT(x TEXT) INTEGER",
    meaning="how many runs of characters without white space x has",
    examples={"WORD_COUNT('Lady of the Quay')": "4", "WORD_COUNT('  ')": "0"},
)
def word_count(x: pa.Array) -> pa.Array:
    tidy = tidy_spaces(x)
    offsets, data = body(tidy)
    spaces = np.zeros(len(data) + 1, np.int64)
    np.cumsum(data == 32, out=spaces[1:])
    counts = spaces[offsets[1:]] - spaces[offsets[:-1]] + (offsets[1:] > offsets[:-1])
    return to_arrow(counts, pa.int64(), mask=~valid(x))


@function(
    "MASK(x TEXT, first INTEGER, last INTEGER, symbol TEXT) TEXT",
    meaning=(
        "x with all but the first and the last so many characters replaced by the symbol; a text"
        " that would be shown whole is masked whole"
    ),
    examples={
        "MASK('0555123456', 4, 2, '*')": "'0555****56'",
        "MASK('0555', 4, 2, '*')": "'****'",
        "MASK('0555', -1, 2, '*')": "error 22023",
    },
    errors=("22023",),
)
def mask(x: pa.Array, first: pa.Scalar, last: pa.Scalar, symbol: pa.Scalar) -> Any:
    if (
        constant(first, last, symbol)
        and min(first.as_py(), last.as_py()) >= 0
        and isinstance(x, pa.Array)
    ):
        return _mask_all(x, first.as_py(), last.as_py(), symbol)
    return by_row(_masked, x, first, last, symbol)


def _mask_all(x: pa.Array, first: int, last: int, symbol: pa.Scalar) -> pa.Array:
    """All values at once: what is shown at each end, and as many symbols as are left between."""
    length = pc.utf8_length(x)
    whole = pc.less_equal(length, first + last)
    hidden = pc.if_else(whole, length, pc.subtract(length, first + last))
    between = pc.binary_repeat(symbol, pc.cast(hidden, pa.int64()))
    start = pc.if_else(whole, "", pc.utf8_slice_codeunits(x, 0, first))
    end = pc.if_else(whole, "", pc.utf8_slice_codeunits(x, -last) if last else "")
    return pc.binary_join_element_wise(start, between, end, "")


def _masked(text: str, first: int, last: int, symbol: str) -> str:
    if first < 0 or last < 0:
        raise RowFailure("22023")
    if first + last >= len(text):
        return symbol * len(text)
    return text[:first] + symbol * (len(text) - first - last) + text[len(text) - last :]
