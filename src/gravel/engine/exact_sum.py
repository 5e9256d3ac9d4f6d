"""Exact sums of numbers of every type: integers, decimals and doubles as whole numbers of one unit,
rounded once at the end.

The result is that of exact arithmetic whatever the order of the values and whoever adds them, as
`math.fsum` gives it for doubles.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.language.functions import arithmetic

_SAFE = 2**62
_HALVES = 1 << 20


class Units(Struct, frozen=True):
    """Numbers as whole multiples of a unit, `base` to the power of `exponent` (base 10 for exact
    numbers, 2 for doubles): int64 where no sum of them can pass it, else Python's integers. Doubles
    that are not finite are 0 here, and told apart in `special`.
    """

    whole: np.ndarray
    base: int
    exponent: int
    special: np.ndarray | None = None

    def products(self, other: Units) -> np.ndarray:
        """The numbers of both multiplied, pair by pair: of one unit times the other."""
        most = [
            max(abs(int(whole.min())), abs(int(whole.max()))) if len(whole) else 0
            for whole in (self.whole, other.whole)
        ]
        if max(*most, most[0] * most[1] * len(self.whole)) < _SAFE:
            return self.whole.astype(np.int64) * other.whole.astype(np.int64)
        return self.whole.astype(object) * other.whole.astype(object)


def units_of(values: pa.Array) -> Units:
    """An Arrow array of numbers as units, NULL as 0."""
    kind = values.type
    if pa.types.is_null(kind):
        return Units(np.zeros(len(values), np.int64), 10, 0)
    if pa.types.is_floating(kind):
        return _units_of_doubles(arithmetic.numpy_values(values, 0.0).astype(np.float64))
    if pa.types.is_decimal(kind):
        return Units(_narrow(arithmetic.unscaled(values)), 10, -kind.scale)
    return Units(_narrow(arithmetic.numpy_values(pc.cast(values, pa.int64()))), 10, 0)


def _narrow(whole: np.ndarray) -> np.ndarray:
    """Python integers where a sum in 64 bits could overflow."""
    if whole.dtype == object or not len(whole):
        return whole
    most = max(abs(int(whole.min())), abs(int(whole.max())))
    return whole if most * len(whole) < _SAFE else whole.astype(object)


def _units_of_doubles(numbers: np.ndarray) -> Units:
    finite = np.isfinite(numbers)
    special = None if finite.all() else np.where(finite, 0.0, numbers)
    fraction, exponent = np.frexp(np.where(finite, numbers, 0.0))
    mantissa = np.ldexp(fraction, 53).astype(np.int64)
    exponent = exponent.astype(np.int64) - 53
    held = mantissa != 0
    if not held.any():
        return Units(mantissa, 2, 0, special)
    # Zeros at a mantissa's end belong to its exponent, so that 12.5 is a small number of halves.
    zeros = np.zeros(len(mantissa), np.int64)
    zeros[held] = np.log2((mantissa & -mantissa)[held].astype(np.float64)).astype(np.int64)
    mantissa, exponent = mantissa >> zeros, np.where(held, exponent + zeros, 0)
    least = int(exponent[held].min())
    shift = np.where(held, exponent - least, 0)
    bits = np.ceil(np.log2(np.abs(mantissa[held]).astype(np.float64) + 1)) + shift[held]
    if bits.max() + math.log2(len(mantissa)) < 62:
        return Units(mantissa << shift, 2, least, special)
    whole = np.array(
        [value << by for value, by in zip(mantissa.tolist(), shift.tolist(), strict=True)], object
    )
    return Units(whole, 2, least, special)


def group_sums(whole: np.ndarray, groups: np.ndarray, many: int) -> np.ndarray:
    """The sum of each group's whole numbers, as int64 or Python's integers like them."""
    if not len(whole):
        return np.zeros(many, whole.dtype if whole.dtype != object else object)
    if many == 1:
        return np.array([_whole_sum(whole)], whole.dtype)
    if whole.dtype != object and len(whole) <= _HALVES:
        # As doubles the sums of the lower and the upper half of so many numbers are exact.
        low = np.bincount(groups, weights=whole & 0xFFFFFFFF, minlength=many).astype(np.int64)
        high = np.bincount(groups, weights=whole >> 32, minlength=many).astype(np.int64)
        return (high << 32) + low
    result = np.zeros(many, np.int64).astype(whole.dtype)
    order = np.argsort(groups, kind="stable")
    placed = groups[order]
    starts = np.flatnonzero(np.concatenate([[True], placed[1:] != placed[:-1]]))
    result[placed[starts]] = np.add.reduceat(whole[order], starts)
    return result


def double_of(numerator: int, denominator: int, exponent: int) -> float | None:
    """numerator / denominator * 2 ** exponent as the nearest double; None where it is out of
    range."""
    try:
        if exponent >= 0:
            return (numerator << exponent) / denominator
        return numerator / (denominator << -exponent)
    except OverflowError:
        return None


def root_of(numerator: int, denominator: int, exponent: int) -> float | None:
    """The square root of numerator / denominator * 2 ** exponent as the nearest double; None where
    it is out of range."""
    if not numerator:
        return 0.0
    shift = max(0, 112 - (numerator.bit_length() - denominator.bit_length()))
    shift += (shift - exponent) % 2
    whole, rest = divmod(numerator << shift, denominator)
    root = math.isqrt(whole)
    # One binary digit more says that something follows, so that a half is not taken for one.
    root = root << 1 | (rest != 0 or root * root != whole)
    return double_of(root, 1, (exponent - shift) // 2 - 1)


def sums_of_specials(
    special: np.ndarray, count: Callable[[np.ndarray], np.ndarray]
) -> dict[int, float]:
    """The sums of groups in which some value is not finite, by their number: NaN, or the one
    infinity. `count`: how many values each group has of those under a mask."""
    nan, plus, minus = (
        count(mask) > 0 for mask in (np.isnan(special), special == np.inf, special == -np.inf)
    )
    sums = np.where(nan | (plus & minus), math.nan, np.where(plus, math.inf, -math.inf))
    groups = np.flatnonzero(nan | plus | minus)
    return dict(zip(groups.tolist(), sums[groups].tolist(), strict=True))


def spread_of(name: str, count: int, total: int, squares: int, units: Units) -> float | None:
    """A variance or standard deviation from the number, sum and sum of squares of units; None
    where it is out of range."""
    numerator = squares * count - total * total
    denominator = count * (count - 1 if name.endswith("SAMP") else count)
    exponent = 2 * units.exponent
    if units.base == 10:
        numerator *= 10 ** max(0, exponent)
        denominator *= 10 ** max(0, -exponent)
        exponent = 0
    to_double = root_of if name.startswith("STDDEV") else double_of
    return to_double(numerator, denominator, exponent)


def _whole_sum(whole: np.ndarray) -> int:
    return int(whole.sum()) if whole.dtype != object else sum(whole.tolist())
