"""How numbers and days are spread, from distinct values with the rows that hold each."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from datetime import date
from fractions import Fraction
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.sets import distinct_values
from gravel.engine.spill import Runs
from gravel.profiling.day_forms import RIVAL_DAYS
from gravel.profiling.marks import BIT
from gravel.profiling.result import Bin, Dates, Gap, Numbers, YearRows

_BARS = 16
_GAPS = 5
_EPOCH = date(1970, 1, 1).toordinal()


class Ascending:
    """Distinct numbers with their rows and the first of them, gathered in any order, read in
    ascending order; more than `most` of them go to a file."""

    def __init__(self, most: int) -> None:
        self._size, self._held, self.rows = max(most, 1), 0, 0
        self._parts: list[tuple[np.ndarray, ...]] = []
        self._runs: Runs | None = None
        self._ready = False

    def add(self, values: np.ndarray, counts: np.ndarray, rows: np.ndarray) -> None:
        """Take in some numbers (float64) that were not there before."""
        if not len(values):
            return
        self._ready = False
        self._parts.append((_key(values), counts, rows))
        self._held += len(values)
        self.rows += int(counts.sum())
        if self._held > self._size:
            self._runs = self._runs or Runs()
            self._runs.write(self._sorted())
            self._parts, self._held = [], 0

    def _sorted(self) -> tuple[np.ndarray, ...]:
        columns = [np.concatenate(column) for column in zip(*self._parts, strict=True)]
        order = np.argsort(columns[0])
        return tuple(column[order] for column in columns)

    def chunks(self) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray]]:
        """(values, counts, first rows), ascending from chunk to chunk."""
        if self._runs is None:
            if self._parts and not self._ready:
                self._parts, self._ready = [self._sorted()], True
            for key, counts, rows in self._parts:
                yield _value(key), counts, rows
            return
        held = [self._sorted()] if self._parts else []
        for key, counts, rows in self._runs.ranges(held, self._size, even=False):
            if len(key):
                order = np.argsort(key)
                yield _value(key[order]), counts[order], rows[order]


_SIGN = np.uint64(1 << 63)


def _key(values: np.ndarray) -> np.ndarray:
    """An unsigned number for each double that has its order: the bits with the sign turned, all of
    them for negative ones."""
    bits = (values + 0.0).view(np.uint64)
    return np.where(bits & _SIGN, ~bits, bits | _SIGN)


def _value(key: np.ndarray) -> np.ndarray:
    return np.where(key & _SIGN, key & ~_SIGN, ~key).view(np.float64)


class _Percentiles:
    """PERCENTILE_CONT of ISO/IEC 9075-2: the value at place share * (n - 1), linear between its
    neighbours."""

    def __init__(self, rows: int, shares: tuple[float, ...]) -> None:
        self._places = [share * (rows - 1) for share in shares]
        self._found: dict[int, float] = {}
        self._before = 0

    def add(self, values: np.ndarray, counts: np.ndarray) -> None:
        """Take in the next values, ascending."""
        upto = np.cumsum(counts, dtype=np.int64) + self._before
        for place in self._places:
            for index in (math.floor(place), math.ceil(place)):
                if self._before <= index < upto[-1]:
                    self._found[index] = float(values[np.searchsorted(upto, index, side="right")])
        self._before = int(upto[-1])

    def result(self) -> list[float]:
        """The percentiles."""
        results = []
        for place in self._places:
            low, high = self._found[math.floor(place)], self._found[math.ceil(place)]
            results.append(low + (high - low) * (place - math.floor(place)))
        return results


# Rows that may be far out: a few, or so many of all; more of them are the tail of a spread.
_FAR_ROWS, _FAR_SHARE = 3, 0.005
_FAR_REACH = 3.0  # quartile ranges beyond a quartile
# What lies empty before it: so much of the distance to the median, and of a quartile range.
_GAP, _LOG_GAP, _GAP_REACH = 0.22, 0.18, 0.75
_EVEN = 0.1  # skewness of quartiles
_LINEAR_GAP = 0.73  # what such a share counts for beside one on the logarithmic scale
_HEAVY = (
    0.05  # of the rows beyond 1.5 quartile ranges: tails so heavy that a gap must be twice as wide
)


def numbers(ascending: Ascending) -> tuple[Numbers, int, int]:
    """The figures of some numbers; and the first rows of the least and the greatest that are not
    outliers (0 where none beyond is)."""
    total, places = ascending.rows, _Percentiles(ascending.rows, (0.25, 0.5, 0.75))
    zero, negative, whole, signs = 0, 0, True, 0
    low = high = math.nan
    least_positive: float | None = None
    sums, squares = _Sum(), _Sum()
    ends = _Ends(max(_FAR_ROWS, int(total * _FAR_SHARE)) + 1)
    with np.errstate(over="ignore", invalid="ignore"):
        for values, counts, rows in ascending.chunks():
            low, high = float(values[0]) if math.isnan(low) else low, float(values[-1])
            zero += int(counts[values == 0].sum())
            negative += int(counts[values < 0].sum())
            signs += int((values < 0).sum())
            if least_positive is None and high > 0:
                least_positive = float(values[np.searchsorted(values, 0, side="right")])
            whole = whole and bool(np.array_equal(values, np.round(values)))
            sums.add(values, counts)
            places.add(values, counts)
            ends.add(values, counts, rows)
        mean = sums.over(total)
        # A power of two brings all values near 1, so that no square is out of range.
        scale = math.ldexp(1.0, -max(-1000, min(math.frexp(max(abs(low), abs(high)))[1], 1000)))
        q1, median, q3 = places.result()
        reach = q3 - q1
        edges = histogram_edges(low, high, whole)
        bars = np.zeros(len(edges) - 1, np.int64)
        outside, near_zero = 0, 0
        for values, counts, _ in ascending.chunks():
            squares.add((values * scale - mean * scale) ** 2, counts)
            outside += int(counts[(values < q1 - 1.5 * reach) | (values > q3 + 1.5 * reach)].sum())
            near_zero += int(counts[(values > 0) & (values <= -low)].sum())
            output, _ = np.histogram(values, edges, weights=counts)
            bars += output.astype(np.int64)
        under, over = _far_out(ends, q1, median, q3, outside > _HEAVY * total)
    stddev = math.sqrt(squares.over(total - 1)) / scale if total > 1 else None
    bins = tuple(
        Bin(float(a), float(b), int(rows))
        for a, b, rows in zip(edges, edges[1:], bars, strict=False)
    )
    if low == high or len(edges) == 2:
        bins = (Bin(low, high, total),)
    result = Numbers(
        total,
        mean,
        stddev,
        q1,
        median,
        q3,
        zero,
        negative,
        outside,
        under.rows + over.rows,
        bins,
        distinct_negative=signs,
        least_positive=least_positive,
        near_zero=near_zero,
        far_reach=max(under.reach, over.reach),
        far_gap=max(under.gap, over.gap),
        far_row=under.row + over.row if under.rows + over.rows == 1 else 0,
    )
    return result, under.inside, over.inside


class _Sum:
    """The sum of doubles, each so many times, that does not depend on how they are cut: for each
    exponent of two the exact sum of the mantissas, of 53 bits in two halves. A value times its
    count is rounded once."""

    _LOWEST, _HALF = -1100, 27

    def __init__(self) -> None:
        # By exponent, counted from the lowest.
        self._halves: tuple[dict[int, int], dict[int, int]] = ({}, {})
        self._special = 0.0  # the sum of what is not finite

    def add(self, values: np.ndarray, counts: np.ndarray) -> None:
        """Take in some values."""
        finite = np.isfinite(values)
        if not finite.all():
            self._special += float(np.sum(values[~finite]))
            values, counts = values[finite], counts[finite]
        fraction, exponent = np.frexp(values)
        fraction, more = np.frexp(fraction * counts)
        mantissa = np.ldexp(fraction, 53).astype(np.int64)
        places = exponent + (more - self._LOWEST)
        low = mantissa & ((1 << self._HALF) - 1)
        for sums, half in zip(self._halves, (mantissa >> self._HALF, low), strict=True):
            # So many numbers of 27 bits have an exact sum as doubles.
            for start in range(0, len(half), 1 << 26):
                part = slice(start, start + (1 << 26))
                added = np.bincount(places[part], weights=half[part])
                for place in np.flatnonzero(added).tolist():
                    sums[place] = sums.get(place, 0) + int(added[place])

    def over(self, divisor: int) -> float:
        """The sum divided, to the nearest double."""
        if self._special != 0.0:  # so is NaN
            return self._special
        high, low = self._halves
        total = sum(amount << (place + self._HALF) for place, amount in high.items())
        total += sum(amount << place for place, amount in low.items())
        return float(Fraction(total, divisor << (53 - self._LOWEST)))


class _Ends:
    """The lowest and the highest of ascending numbers, with their counts and first rows."""

    def __init__(self, size: int) -> None:
        self.most, self._size = size, size + 1
        self.lowest: list[np.ndarray] = [np.zeros(0), np.zeros(0, np.int64), np.zeros(0, np.int64)]
        self.highest = list(self.lowest)

    def add(self, *columns: np.ndarray) -> None:
        """Take in the next values, counts and rows."""
        if len(self.lowest[0]) < self._size:
            self.lowest = [
                np.concatenate(pair)[: self._size]
                for pair in zip(self.lowest, columns, strict=True)
            ]
        self.highest = [
            np.concatenate(pair)[-self._size :] for pair in zip(self.highest, columns, strict=True)
        ]


class _Far(Struct, frozen=True):
    """What is outliers on one side: rows, first row of the nearest value inside and of the nearest
    one outside, how many quartile ranges that one is beyond the quartile, and the share of its
    distance to the median that lies empty before it.
    """

    rows: int = 0
    inside: int = 0
    row: int = 0
    reach: float = 0.0
    gap: float = 0.0


def _far_out(ends: _Ends, q1: float, median: float, q3: float, heavy: bool) -> list[_Far]:
    """What is outliers below and above.

    A value is outliers where it is more than three quartile ranges beyond a quartile, on the
    logarithmic scale for what is skewed to the right and has a positive first quartile, with the
    fence moved out by exp(3 s) for other skewed ones (as M. Hubert and E. Vandervieren, 2008, do by
    the medcouple; s is the quartiles' own skewness), and where a gap lies before it. What is low is
    not told by logarithms where they make an even spread a skewed one.
    """
    if q3 <= q1 or not math.isfinite(q3 - q1):
        return [_Far(), _Far()]
    quartiles = [q1, median, q3]
    skewness = _skewness(quartiles)
    right = q1 > 0 and q3 - median > median - q1 > 0
    logarithms = [math.log(value) for value in quartiles] if right else []
    even = right and skewness <= _EVEN and abs(_skewness(logarithms)) > skewness
    results = []
    for (values, counts, rows), sign in ((ends.lowest, -1), (ends.highest, 1)):
        logs = right and not (even and sign < 0)
        middle, skew = (logarithms, 0.0) if logs else (quartiles, skewness)
        gap = _LOG_GAP if logs else 2 * _GAP if heavy else _GAP
        if sign < 0:
            values, counts, rows = values[::-1], counts[::-1], rows[::-1]
        off_scale = 0  # rows that have no logarithm, below all others
        if logs:
            keep = values > 0
            off_scale = int(counts[~keep].sum()) if sign < 0 else 0
            values, counts, rows = np.log(values[keep]), counts[keep], rows[keep]
        reach = middle[2] - middle[0]
        fence = _FAR_REACH * math.exp(3 * max(0.0, skew * sign)) * reach
        beyond = (values - middle[2]) if sign > 0 else (middle[0] - values)
        gaps = np.diff(values, prepend=np.nan) * sign  # the emptiness before each value
        # Rows of a value and of those beyond it.
        after = np.cumsum(counts[::-1])[::-1] + off_scale
        far = (
            (beyond > fence)
            & (gaps >= np.maximum(_GAP_REACH * reach, gap * np.abs(values - middle[1])))
            & (after < ends.most)
        )
        index = int(np.argmax(far)) if far.any() else -1
        if index > 0:
            shares = [gaps[index] / abs(values[index] - middle[1])]
            if logs:
                plain, near, centre = (
                    np.exp(values[index]),
                    np.exp(values[index - 1]),
                    math.exp(middle[1]),
                )
                shares.append(_LINEAR_GAP * (plain - near) / (plain - centre))
            share = float(max(shares))
            results.append(
                _Far(
                    int(after[index]),
                    int(rows[index - 1]),
                    int(rows[index]),
                    float(beyond[index] / reach),
                    share,
                )
            )
        else:
            results.append(_Far())
    return results


def _skewness(quartiles: Sequence[float]) -> float:
    """How far the median is from the middle of the other two, from -1 to 1 (A. L. Bowley)."""
    low, median, high = quartiles
    return (high + low - 2 * median) / (high - low)


def histogram_edges(low: float, high: float, whole: bool) -> np.ndarray:
    """Edges of bars of equal width with round ends: 1, 2, 2.5 or 5 times a power of ten, about
    sixteen of them. Of whole numbers each bar has as many."""
    if low == high or not math.isfinite(high - low):
        return np.array([low, np.nextafter(high, math.inf)])
    power = 10.0 ** math.floor(math.log10((high - low) / _BARS))
    steps = [factor * power for factor in (1, 2, 2.5, 5, 10, 20)]
    steps = [step for step in steps if (high - low) / step <= _BARS]
    step = steps[0]
    if whole and max(abs(low), abs(high)) < 2**53:
        step = next((step for step in steps if step >= 1 and step == round(step)), 1.0)
    first = math.floor(low / step)
    last = math.floor(high / step) + 1 if whole else math.ceil(high / step)
    count = max(1, last - first)
    edges = np.array([float(f"{(first + index) * step:.12g}") for index in range(count + 1)])
    if edges[0] > low or edges[-1] < high or (np.diff(edges) <= 0).any():
        edges = np.linspace(low, high, _BARS + 1)
        if (np.diff(edges) <= 0).any():
            return np.array([low, high])
    return edges


def settled_days(
    values: np.ndarray, counts: np.ndarray, bits: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Days with their counts, where the whole column tells the day from the month; the others are
    left out."""
    values, keep = values.copy(), np.ones(len(values), bool)
    for day_first, month_first in RIVAL_DAYS:
        item, other = ((bits & BIT[day]) != 0 for day in (day_first, month_first))
        both, only_day, only_month = item & other, (item & ~other).any(), (other & ~item).any()
        if not (both.any() or only_day or only_month):
            continue
        if only_day == only_month:
            # Each order has values of its own, or there are only values that both fit.
            keep &= ~both
        elif only_day:
            values[both] = _swapped(values[both])
    order = np.argsort(values[keep], kind="stable")
    return values[keep][order], counts[keep][order]


def _swapped(days: np.ndarray) -> np.ndarray:
    """Days with the number of the month and that of the day changed over; both are at most 12."""
    moments = days.astype(np.int64).astype("M8[D]")
    months, years = moments.astype("M8[M]"), moments.astype("M8[Y]")
    day = (moments - months).astype(np.int64)
    month = (months - years).astype(np.int64)
    result = (years.astype("M8[M]") + day).astype("M8[D]") + month
    swapped: np.ndarray = result.astype(np.int64).astype(days.dtype)
    return swapped


def dates(values: np.ndarray, counts: np.ndarray, today: date) -> Dates | None:
    """The figures of some days since 1970-01-01, ascending, with their counts."""
    if not len(values):
        return None
    days = values.astype(np.int64)
    distinct = distinct_values(days)
    steps = np.diff(distinct)
    gaps: list[Gap] = []
    if len(steps) > 1:
        unusual = np.flatnonzero(steps > 10 * max(1.0, float(np.median(steps))))
        longest = sorted(unusual[np.argsort(-steps[unusual], kind="stable")][:_GAPS].tolist())
        gaps = [Gap(_day(distinct[i]), _day(distinct[i + 1]), int(steps[i])) for i in longest]
    moments = days.astype("M8[D]")
    first_days = moments == moments.astype("M8[Y]").astype("M8[D]")
    month_firsts = moments == moments.astype("M8[M]").astype("M8[D]")
    years = moments.astype("M8[Y]").astype(np.int64) + 1970
    by_year = tuple(
        YearRows(int(year), int(counts[years == year].sum())) for year in distinct_values(years)
    )
    return Dates(
        int(counts.sum()),
        _day(days[0]),
        _day(days[-1]),
        int(counts[days > today.toordinal() - _EPOCH].sum()),
        int(counts[first_days].sum()),
        int(counts[month_firsts].sum()),
        tuple(gaps),
        by_year,
    )


def _day(number: Any) -> str:
    return date.fromordinal(int(number) + _EPOCH).isoformat()
