"""How numbers and days are spread, from distinct values with the rows that hold each."""

from __future__ import annotations

import math
from datetime import date
from typing import Any

import numpy as np

from gravel.profiling.fits import RIVALS
from gravel.profiling.marks import BIT
from gravel.profiling.result import Bin, Dates, Gap, Numbers

_BARS = 16
_GAPS = 5
_EPOCH = date(1970, 1, 1).toordinal()


def percentile(values: np.ndarray, upto: np.ndarray, share: float) -> float:
    """PERCENTILE_CONT of ISO/IEC 9075-2: the value at place share * (n - 1), linear between its neighbours. `upto` has
    the rows up to and with each value."""
    place = share * (int(upto[-1]) - 1)
    low, high = (float(values[np.searchsorted(upto, at, side="right")]) for at in (math.floor(place), math.ceil(place)))
    return low + (high - low) * (place - math.floor(place))


def numbers(values: np.ndarray, counts: np.ndarray, rows: np.ndarray) -> tuple[Numbers, int, int]:
    """The figures of some numbers, ascending, with their counts and first rows; and the rows of the least and the greatest
    that are not far out (0 where none beyond is)."""
    upto = np.cumsum(counts)
    total = int(upto[-1])
    weights = counts.astype(float)
    with np.errstate(over="ignore", invalid="ignore"):
        mean = float(np.sum(values * weights)) / total
        stddev = math.sqrt(float(np.sum((values - mean) ** 2 * weights)) / (total - 1)) if total > 1 else None
    q1, median, q3 = (percentile(values, upto, share) for share in (0.25, 0.5, 0.75))
    reach = q3 - q1
    outside = (values < q1 - 1.5 * reach) | (values > q3 + 1.5 * reach)
    below, above = values < q1 - 3 * reach, values > q3 + 3 * reach
    inside = np.flatnonzero(~(below | above))
    made = Numbers(
        total, mean, stddev, q1, median, q3, int(counts[values == 0].sum()), int(counts[values < 0].sum()), int(counts[outside].sum()),
        int(counts[below | above].sum()), histogram(values, counts),
    )  # fmt: skip
    return made, int(rows[inside[0]]) if below.any() else 0, int(rows[inside[-1]]) if above.any() else 0


def histogram(values: np.ndarray, counts: np.ndarray) -> tuple[Bin, ...]:
    """Bars of equal width with round ends: 1, 2, 2.5 or 5 times a power of ten, about sixteen of them."""
    low, high = float(values[0]), float(values[-1])
    if low == high or not math.isfinite(high - low):
        return (Bin(low, high, int(counts.sum())),)
    power = 10.0 ** math.floor(math.log10((high - low) / _BARS))
    step = next(factor * power for factor in (1, 2, 2.5, 5, 10, 20) if (high - low) / (factor * power) <= _BARS)
    if np.array_equal(values, np.round(values)) and high < 2**53 and step < 1:
        step = 1.0
    first = math.floor(low / step)
    count = max(1, math.ceil(high / step) - first)
    edges = np.array([float(f"{(first + at) * step:.12g}") for at in range(count + 1)])
    if edges[0] > low or edges[-1] < high or (np.diff(edges) <= 0).any():
        edges = np.linspace(low, high, _BARS + 1)
        if (np.diff(edges) <= 0).any():
            return (Bin(low, high, int(counts.sum())),)
    made, _ = np.histogram(values, edges, weights=counts)
    return tuple(Bin(float(a), float(b), int(rows)) for a, b, rows in zip(edges, edges[1:], made, strict=False))


def settled_days(values: np.ndarray, counts: np.ndarray, bits: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Days with their counts, where the whole column tells the day from the month; the others are left out."""
    values, keep = values.copy(), np.ones(len(values), bool)
    for day_first, month_first in RIVALS:
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
    swapped: np.ndarray = made.astype(np.int64).astype(float)
    return swapped


def dates(values: np.ndarray, counts: np.ndarray, today: date) -> Dates | None:
    """The figures of some days since 1970-01-01, ascending, with their counts."""
    if not len(values):
        return None
    days = values.astype(np.int64)
    distinct, at = np.unique(days, return_index=True)
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
