"""What is told of the texts of numbers that a store has as numbers, mostly without writing them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.arrow_values import text_of
from gravel.engine.distinct import Counted, counted_hashes
from gravel.engine.hashing import both_hashes
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Kind
from gravel.profiling.marks import BIT, Marked, marked
from gravel.sources.type_inference import Fitting

_POWERS = 10 ** np.arange(1, 20, dtype=np.uint64)
_MOST_DECIMALS = 6  # of a double that is looked at as a number
_EXACT_DIGITS = 15  # of a decimal that is a double, point apart
_PLAIN_DOUBLES = (1e-4, 1e9)  # outside they may be written with an exponent
_WIDTH = 32  # more than the digits of either side of a point
_NUMBER = BIT["number"] | BIT["DOUBLE PRECISION"] | BIT["DECIMAL"]


def has_numbers(arrow: pa.DataType) -> bool:
    """Whether values of an Arrow type are numbers whose texts need not be written."""
    kinds = pa.types
    return (
        kinds.is_integer(arrow)
        or kinds.is_floating(arrow)
        or (kinds.is_decimal128(arrow) and 0 <= arrow.scale <= arrow.precision <= _EXACT_DIGITS)
    )


class NumberTexts(Struct, frozen=True):
    """How numbers are written: a minus, so many digits, and so many decimals; `codes` has a number
    for each way, -1 for others; these stand in the places `others`, and are `texts`. `exact` has
    the order of the numbers, `values` the doubles that they are."""

    array: pa.Array
    exact: np.ndarray
    values: np.ndarray
    negative: np.ndarray
    whole: np.ndarray
    decimals: np.ndarray
    codes: np.ndarray
    others: np.ndarray
    texts: pa.Array

    @classmethod
    def of(cls, array: pa.Array) -> NumberTexts:
        """Of an array without NULLs, of a type that `has_numbers`; of floats doubles, no zero of
        which is negative."""
        decimals = np.zeros(len(array), np.int64)
        others = np.zeros(len(array), bool)
        if pa.types.is_floating(array.type):
            exact = values = array.to_numpy()
            size, decimals, others = _sizes_of_doubles(values)
        elif pa.types.is_decimal(array.type):
            exact = np.frombuffer(array.buffers()[1], np.int64)[::2]
            exact = exact[array.offset : array.offset + len(array)]
            scale = array.type.scale
            decimals += scale
            values, size = exact / 10.0**scale, np.abs(exact).astype(np.uint64)
        else:
            exact = array.to_numpy()
            values = exact.astype(np.float64)
            size = np.where(exact < 0, -exact.astype(np.uint64), exact.astype(np.uint64))
        digits = np.searchsorted(_POWERS, size, side="right") + 1
        places = np.flatnonzero(others)
        negative, whole = values < 0, np.maximum(digits - decimals, 1)
        codes = (negative * _WIDTH + whole) * _WIDTH + decimals
        codes[places] = -1
        return cls(
            array,
            exact,
            values,
            negative,
            whole,
            decimals,
            codes,
            places,
            text_of(array.take(to_arrow(places))),
        )

    def lengths(self) -> np.ndarray:
        """How many characters each has."""
        result = self.whole + self.negative + self.decimals + (self.decimals > 0)
        result[self.others] = pc.utf8_length(self.texts).to_numpy()
        return result.astype(np.int32)

    def end(self, lengths: np.ndarray, length: int) -> tuple[int, str]:
        """A length, and the least text that has it by code point."""
        places = np.flatnonzero(lengths == length)
        codes = self.codes[places]
        least = [places[codes == -1]]
        for code in np.flatnonzero(np.bincount(codes[codes >= 0])):
            # Numbers written in one way sort as their texts do, but for the minus.
            same = places[codes == code]
            numbers = self.exact[same]
            first = numbers.argmax() if self.negative[same[0]] else numbers.argmin()
            least.append(same[first : first + 1])
        texts = text_of(self.array.take(to_arrow(np.concatenate(least))))
        return length, pc.min(texts).as_py()


class MarkedNumbers(Struct, frozen=True):
    """What all numbers fit; of each its bits (uint64), itself as a double, how many characters it
    has, and a code of its shape; the marks of those that are written in another way."""

    fitting: Fitting
    bits: np.ndarray
    number: np.ndarray
    characters: np.ndarray
    codes: np.ndarray
    others: Marked

    def shapes(self, rows: np.ndarray, counts: np.ndarray | None) -> Counted:
        """The distinct shapes of numbers that stand in these source rows, ascending; each stands
        for as many as `counts` has (None: one)."""
        plain = self.codes >= 0
        codes, rows_of = self.codes[plain], rows[plain]
        many = np.bincount(codes, None if counts is None else counts[plain]).astype(np.int64)
        known = np.flatnonzero(many)
        first = np.zeros(len(many), np.int64)
        first[codes[::-1]] = rows_of[::-1]
        hashed = both_hashes(pa.array([_shape(code) for code in known.tolist()], pa.string()))
        rest = np.ones(int((~plain).sum()), np.int64) if counts is None else counts[~plain]
        shape, second, places, each = (
            np.concatenate(pair)
            for pair in zip(
                (*hashed, first[known], many[known]),
                (self.others.shape, self.others.shape_second, rows[~plain], rest),
                strict=True,
            )
        )
        return counted_hashes(shape, second, places, each)


def marked_numbers(written: NumberTexts, plain: np.ndarray) -> MarkedNumbers:
    """The marks of numbers of which `plain` has a hash each."""
    bits = np.where(written.decimals == 0, _NUMBER | BIT["INTEGER"], _NUMBER)
    number = written.values.copy()
    others = marked(written.texts, Fitting(frozenset(), seen=True), plain[written.others])
    bits[written.others], number[written.others] = others.bits, others.number
    kinds: frozenset[Kind] = frozenset()
    if not pa.types.is_floating(written.array.type):
        whole = pa.types.is_integer(written.array.type)
        kinds = frozenset({Kind.INTEGER, Kind.DECIMAL} if whole else {Kind.DECIMAL})
    digits, scale = int(written.whole.max()), int(written.decimals.max())
    fit = Fitting(kinds, digits, scale, frozenset({scale}), True)
    return MarkedNumbers(fit, bits, number, written.lengths(), written.codes, others)


def _shape(code: int) -> str:
    rest, decimals = divmod(code, _WIDTH)
    negative, whole = divmod(rest, _WIDTH)
    return "-" * negative + "9" * whole + ("." + "9" * decimals if decimals else "")


def _sizes_of_doubles(values: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of each double its digits as a whole number and its decimals, as few as are read as it again;
    and which have too many, or another way of writing."""
    sizes = np.abs(values)
    low, high = _PLAIN_DOUBLES
    others = ~((sizes >= low) & (sizes < high)) & (values != 0)
    sizes[others] = 0
    whole, decimals = np.rint(sizes), np.zeros(len(values), np.int64)
    left: Any = np.flatnonzero(whole != sizes)
    for places in range(1, _MOST_DECIMALS + 1):
        scaled = np.rint(sizes[left] * 10.0**places)
        whole[left], decimals[left] = scaled, places
        left = left[scaled / 10.0**places != sizes[left]]
    others[left] = True
    return whole.astype(np.uint64), decimals, others
