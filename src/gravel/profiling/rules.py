"""Rules between columns that nearly all rows keep: days in order, sums, products. The first rows
suggest them, all rows are counted."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations, permutations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame, view
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes
from gravel.language.bind import bind_text
from gravel.language.scope import Scope
from gravel.language.types import DATE, DOUBLE, Kind, Type
from gravel.language.writing import quoted
from gravel.profiling.column_kind import is_identifier
from gravel.sources.source import Batch

HEAD = 2000  # first rows
_LEAST, _NEARLY, _HALF, _DIFFERENT = 20, 0.95, 0.5, 5
_DAYS, _NUMBERS, _MOST = 12, 16, 20  # columns that are looked at, and rules
_ACCURACY = 1e-9
_DATED = (Kind.DATE, Kind.TIMESTAMP)
_NUMERIC = (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE)
_DECIMALS, _APART = 4, "0.000001"  # of doubles in sums, and what makes no difference to them
_WRITTEN_DECIMALS = 8  # with more of them a DECIMAL is a double that was written


class ColumnRule(Struct, frozen=True):
    """A condition, the one that is true where it is broken, and what it is of: "order" of two days;
    the "sum" or "product" of all columns but the last, or the "span" from the first day to the
    second, is the last."""

    kind: str
    columns: tuple[int, ...]
    condition: nodes.Expression
    broken: str


class RuleRows(Struct, frozen=True):
    """How many rows keep a rule, and how many do not."""

    holds: int = 0
    fails: int = 0

    @property
    def nearly_all(self) -> bool:
        """Whether it is one for all rows too, as for the first ones."""
        return self.holds >= _NEARLY * (self.holds + self.fails)

    def merge(self, other: RuleRows) -> RuleRows:
        """Of both parts."""
        return RuleRows(self.holds + other.holds, self.fails + other.fails)


def columns_of_rules(names: Sequence[str], types: Mapping[int, Type]) -> list[int]:
    """The columns that rules are looked for among: days where there are two, and numbers that are
    no identifiers where there are three, or two days."""
    days = [place for place, kind in types.items() if kind.kind in _DATED][:_DAYS]
    days = days if len(days) > 1 else []
    numbers = [
        place
        for place, kind in types.items()
        if kind.kind in _NUMERIC and not is_identifier(names[place])
    ][:_NUMBERS]
    return sorted(days + (numbers if days or len(numbers) > 2 else []))


def first_values(
    types: Mapping[int, Type], places: Sequence[int], head: bool, batch: Batch
) -> dict[int, np.ndarray]:
    """The values of some columns as doubles, NaN for NULL: in the `head` of a table, or in all
    rows."""
    keep = batch.rows <= HEAD if head else np.ones(batch.count, bool)
    return {
        place: _doubles(view(batch.columns[place].filter(to_arrow(keep)), types[place]).values)
        for place in places
    }


def _doubles(values: pa.Array) -> np.ndarray:
    if pa.types.is_date(values.type):
        values = values.cast(pa.int32())
    elif pa.types.is_timestamp(values.type):
        values = values.cast(pa.int64())
    result: np.ndarray = pc.cast(values, pa.float64(), safe=False).to_numpy(zero_copy_only=False)
    return result


def likely_rules(
    names: Sequence[str], types: Mapping[int, Type], values: Mapping[int, np.ndarray]
) -> list[ColumnRule]:
    """The rules that nearly all of some rows keep."""
    scope = Scope(tuple(names), tuple(types[place] for place in range(len(names))))
    days = [place for place in values if types[place].kind in _DATED]
    scales = {
        place: scale
        for place in values
        if place not in days and (scale := _scale(types[place], values[place])) is not None
    }
    numbers, places = _Numbers(scales, values), list(scales)
    results = [
        *_orders(days, types, values),
        *_spans([place for place in days if types[place] == DATE], numbers, values),
        *_sums(places, numbers, values),
        *_products(places, numbers, values),
    ]
    rules = []
    for kind, columns in results[:_MOST]:
        doubles = any(
            types[place] == DOUBLE or scales.get(place, 0) > _WRITTEN_DECIMALS for place in columns
        )
        shown = [quoted(names[place]) for place in columns]
        holds, broken = _conditions(kind, shown, scales.get(columns[-1], 0), doubles)
        rules.append(ColumnRule(kind, columns, bind_text(holds, scope), broken))
    return rules


def _conditions(kind: str, columns: Sequence[str], scale: int, doubles: bool) -> tuple[str, str]:
    """A rule as an expression, and the opposite; `scale`: the decimals of the last column."""
    *others, last = columns
    if kind == "order":
        return f"{others[0]} <= {last}", f"{last} < {others[0]}"
    if kind == "product":
        # Half of the last decimal is as far as rounding moves it.
        far = f"ABS({' * '.join(others)} - {last})"
        half = f"0.{'0' * scale}5{'01' if doubles else ''}"
        return f"{far} <= {half}", f"{far} > {half}"
    computed = f"{others[1]} - {others[0]}" if kind == "span" else " + ".join(others)
    if doubles:
        far = f"ABS({computed} - {last})"
        return f"{far} < {_APART}", f"{far} >= {_APART}"
    return f"{computed} = {last}", f"{computed} <> {last}"


def _scale(kind: Type, values: np.ndarray) -> int | None:
    """The decimals of numbers; None for doubles of which some have too many."""
    if kind != DOUBLE:
        return kind.scale if kind.kind is Kind.DECIMAL else 0
    known = values[np.isfinite(values)]
    return next(
        (
            places
            for places in range(_DECIMALS + 1)
            if (np.rint(known * 10.0**places) / 10.0**places == known).all()
        ),
        None,
    )


def rule_rows(rules: Sequence[ColumnRule], types: Sequence[Type], batch: Batch) -> list[RuleRows]:
    """How many rows of a batch keep each rule."""
    frame = Frame(batch.count, batch.columns, types)
    results = []
    for rule in rules:
        decided = run(rule.condition, frame)
        true, false = decided.true(batch.count), decided.false(batch.count)
        results.append(RuleRows(int(true.sum()), int(false.sum())))
    return results


Suggested = Iterator[tuple[str, tuple[int, ...]]]


def _orders(
    days: Sequence[int], types: Mapping[int, Type], values: Mapping[int, np.ndarray]
) -> Suggested:
    """Pairs of days of which one is seldom before the other, and mostly after it."""
    for a, b in combinations(days, 2):
        if types[a].kind is not types[b].kind:
            continue
        apart = values[b] - values[a]
        apart = apart[~np.isnan(apart)]
        if len(apart) < _LEAST:
            continue
        if (apart >= 0).mean() >= _NEARLY and (apart > 0).mean() >= _HALF:
            yield "order", (a, b)
        elif (apart <= 0).mean() >= _NEARLY and (apart < 0).mean() >= _HALF:
            yield "order", (b, a)


class _Numbers:
    """Columns of numbers side by side, to be compared with what is computed of others. `scales`:
    the decimals of each."""

    def __init__(self, scales: Mapping[int, int], values: Mapping[int, np.ndarray]) -> None:
        self.places = [
            place
            for place in scales
            if len(np.unique(values[place][~np.isnan(values[place])])) >= _DIFFERENT
        ]
        rows = len(next(iter(values.values()), ()))
        columns = [values[place] for place in self.places]
        self.values = np.array(columns).reshape(len(columns), rows)
        self.exact = _ACCURACY * (1 + np.abs(self.values))
        halves = np.array([0.5 * 10 ** -scales[place] for place in self.places])
        self.rounded = self.exact + halves[:, None]

    def equal_to(
        self, computed: np.ndarray, telling: np.ndarray, rounded: bool = False
    ) -> list[int]:
        """The columns of which nearly all values are what was computed, half of them where that
        tells something."""
        apart = np.abs(self.values - computed)
        known = ~np.isnan(apart)
        rows = known.sum(axis=1)
        same = (apart <= (self.rounded if rounded else self.exact)).sum(axis=1)
        told = (known & telling).sum(axis=1)
        good = (rows >= _LEAST) & (same >= _NEARLY * rows) & (told >= _HALF * rows)
        return [self.places[place] for place in np.flatnonzero(good)]


def _spans(days: Sequence[int], numbers: _Numbers, values: Mapping[int, np.ndarray]) -> Suggested:
    """The days between two."""
    for a, b in permutations(days, 2):
        between = values[b] - values[a]
        yield from (("span", (a, b, c)) for c in numbers.equal_to(between, between != 0))


def _sums(places: Sequence[int], numbers: _Numbers, values: Mapping[int, np.ndarray]) -> Suggested:
    """Two numbers that come to a third, and more side by side that come to another one."""
    for a, b in combinations(places, 2):
        telling = (values[a] != 0) & (values[b] != 0)
        equal = numbers.equal_to(values[a] + values[b], telling)
        yield from (("sum", (a, b, c)) for c in equal if c not in (a, b))
    told: list[tuple[int, ...]] = []
    for length in range(3, len(places)):
        for begin in range(len(places) - length + 1):
            parts = tuple(places[begin : begin + length])
            columns = [values[place] for place in parts]
            telling = np.sum([column != 0 for column in columns], axis=0) > 1
            for total in numbers.equal_to(np.sum(columns, axis=0), telling):
                # Further columns that are zero would make no other sum of it.
                fewer = any(rule[-1] == total and {*rule[:-1]} < {*parts} for rule in told)
                if total not in parts and not fewer:
                    told.append((*parts, total))
                    yield "sum", told[-1]


def _products(
    places: Sequence[int], numbers: _Numbers, values: Mapping[int, np.ndarray]
) -> Suggested:
    """Two numbers whose product, as it is rounded, is a third."""
    for a, b in combinations(places, 2):
        telling = ~np.isin(values[a], (0, 1)) & ~np.isin(values[b], (0, 1))
        equal = numbers.equal_to(values[a] * values[b], telling, rounded=True)
        yield from (("product", (a, b, c)) for c in equal if c not in (a, b))
