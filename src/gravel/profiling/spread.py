"""How numbers and days are spread, from distinct values with the rows that hold each."""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import date
from typing import Any

import numpy as np

from gravel.engine.spill import Runs
from gravel.profiling.fits import RIVALS, STRICTER
from gravel.profiling.marks import BIT
from gravel.profiling.result import Bin, Dates, Gap, Numbers

_BARS = 16
_GAPS = 5
_EPOCH = date(1970, 1, 1).toordinal()


class Ascending:
    """Distinct numbers with their rows and the first of them, gathered in any order, read in ascending order; more than
    SIZE of them go to a file."""

    SIZE = 2_000_000

    def __init__(self) -> None:
        self._size, self._held, self.rows = self.SIZE, 0, 0
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
    """An unsigned number for each double that has its order: the bits with the sign turned, all of them for negative ones."""
    bits = (values + 0.0).view(np.uint64)
    return np.where(bits & _SIGN, ~bits, bits | _SIGN)


def _value(key: np.ndarray) -> np.ndarray:
    return np.where(key & _SIGN, key & ~_SIGN, ~key).view(np.float64)


class _Percentiles:
    """PERCENTILE_CONT of ISO/IEC 9075-2: the value at place share * (n - 1), linear between its neighbours."""

    def __init__(self, rows: int, shares: tuple[float, ...]) -> None:
        self._places = [share * (rows - 1) for share in shares]
        self._found: dict[int, float] = {}
        self._before = 0

    def add(self, values: np.ndarray, counts: np.ndarray) -> None:
        """Take in the next values, ascending."""
        upto = np.cumsum(counts, dtype=np.int64) + self._before
        for place in self._places:
            for at in (math.floor(place), math.ceil(place)):
                if self._before <= at < upto[-1]:
                    self._found[at] = float(values[np.searchsorted(upto, at, side="right")])
        self._before = int(upto[-1])

    def result(self) -> list[float]:
        """The percentiles."""
        made = []
        for place in self._places:
            low, high = self._found[math.floor(place)], self._found[math.ceil(place)]
            made.append(low + (high - low) * (place - math.floor(place)))
        return made


def numbers(found: Ascending) -> tuple[Numbers, int, int]:
    """The figures of some numbers; and the first rows of the least and the greatest that are not far out (0 where none
    beyond is)."""
    total, places = found.rows, _Percentiles(found.rows, (0.25, 0.5, 0.75))
    sums, zero, negative, whole = [], 0, 0, True
    low = high = math.nan
    with np.errstate(over="ignore", invalid="ignore"):
        for values, counts, _ in found.chunks():
            low, high = float(values[0]) if math.isnan(low) else low, float(values[-1])
            sums.append(float(np.sum(values * counts)))
            zero += int(counts[values == 0].sum())
            negative += int(counts[values < 0].sum())
            whole = whole and bool(np.array_equal(values, np.round(values)))
            places.add(values, counts)
        # A power of two brings all values near 1, so that no sum and no square is out of range.
        scale = math.ldexp(1.0, -max(-1000, min(math.frexp(max(abs(low), abs(high)))[1], 1000)))
        mean = math.fsum(sums) / total if all(map(math.isfinite, sums)) else math.inf
        if not math.isfinite(mean):
            mean = math.fsum(float(np.sum(values * scale * (counts / total))) for values, counts, _ in found.chunks()) / scale
        q1, median, q3 = places.result()
        reach = q3 - q1
        edges = histogram_edges(low, high, whole)
        bars = np.zeros(len(edges) - 1, np.int64)
        squares, outside, far, below, above = [], 0, 0, 0, 0
        for values, counts, rows in found.chunks():
            squares.append(float(np.sum((values * scale - mean * scale) ** 2 * counts)))
            outside += int(counts[(values < q1 - 1.5 * reach) | (values > q3 + 1.5 * reach)].sum())
            under, over = values < q1 - 3 * reach, values > q3 + 3 * reach
            far += int(counts[under | over].sum())
            inside = np.flatnonzero(~(under | over))
            if len(inside):
                below = below or int(rows[inside[0]])
                above = int(rows[inside[-1]])
            made, _ = np.histogram(values, edges, weights=counts)
            bars += made.astype(np.int64)
    stddev = math.sqrt(math.fsum(squares) / (total - 1)) / scale if total > 1 else None
    bins = tuple(Bin(float(a), float(b), int(rows)) for a, b, rows in zip(edges, edges[1:], bars, strict=False))
    if low == high or len(edges) == 2:
        bins = (Bin(low, high, total),)
    result = Numbers(total, mean, stddev, q1, median, q3, zero, negative, outside, far, bins)
    return result, below if low < q1 - 3 * reach else 0, above if high > q3 + 3 * reach else 0


def histogram_edges(low: float, high: float, whole: bool) -> np.ndarray:
    """Edges of bars of equal width with round ends: 1, 2, 2.5 or 5 times a power of ten, about sixteen of them."""
    if low == high or not math.isfinite(high - low):
        return np.array([low, np.nextafter(high, math.inf)])
    power = 10.0 ** math.floor(math.log10((high - low) / _BARS))
    step = next(factor * power for factor in (1, 2, 2.5, 5, 10, 20) if (high - low) / (factor * power) <= _BARS)
    if whole and abs(high) < 2**53 and step < 1:
        step = 1.0
    first = math.floor(low / step)
    count = max(1, math.ceil(high / step) - first)
    edges = np.array([float(f"{(first + at) * step:.12g}") for at in range(count + 1)])
    if edges[0] > low or edges[-1] < high or (np.diff(edges) <= 0).any():
        edges = np.linspace(low, high, _BARS + 1)
        if (np.diff(edges) <= 0).any():
            return np.array([low, high])
    return edges


def settled_days(values: np.ndarray, counts: np.ndarray, bits: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Days with their counts, where the whole column tells the day from the month; the others are left out."""
    values, keep = values.copy(), np.ones(len(values), bool)
    for day_first, month_first in RIVALS:
        if day_first in STRICTER.values():
            continue  # what fits it fits the form with FM too
        one, other = ((bits & BIT[f"form {name}"]) != 0 for name in (day_first, month_first))
        both, only_day, only_month = one & other, (one & ~other).any(), (other & ~one).any()
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
    made = (years.astype("M8[M]") + day).astype("M8[D]") + month
    swapped: np.ndarray = made.astype(np.int64).astype(days.dtype)
    return swapped


def dates(values: np.ndarray, counts: np.ndarray, today: date) -> Dates | None:
    """The figures of some days since 1970-01-01, ascending, with their counts."""
    if not len(values):
        return None
    days = values.astype(np.int64)
    distinct = np.unique(days)
    steps = np.diff(distinct)
    gaps: list[Gap] = []
    if len(steps) > 1:
        unusual = np.flatnonzero(steps > 10 * max(1.0, float(np.median(steps))))
        longest = sorted(unusual[np.argsort(-steps[unusual], kind="stable")][:_GAPS].tolist())
        gaps = [Gap(_day(distinct[i]), _day(distinct[i + 1]), int(steps[i])) for i in longest]
    moments = days.astype("M8[D]")
    first_days = moments == moments.astype("M8[Y]").astype("M8[D]")
    years = moments.astype("M8[Y]").astype(np.int64) + 1970
    by_year = tuple((int(year), int(counts[years == year].sum())) for year in np.unique(years))
    return Dates(
        int(counts.sum()), _day(days[0]), _day(days[-1]), int(counts[days > today.toordinal() - _EPOCH].sum()),
        int(counts[first_days].sum()), tuple(gaps), by_year,
    )  # fmt: skip


def _day(number: Any) -> str:
    return date.fromordinal(int(number) + _EPOCH).isoformat()
