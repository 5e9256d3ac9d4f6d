"""One column of one batch: what is told of its values, those that were met before looked up."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from gravel.engine.arrow_values import is_finest, text_of
from gravel.engine.distinct import Counted, counted_hashes
from gravel.engine.hashing import NULL_HASH, both_hashes
from gravel.engine.known_values import Known, KnownValues
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Kind
from gravel.profiling.marks import marked
from gravel.profiling.typed_numbers import NumberTexts, has_numbers, marked_numbers
from gravel.sources.type_inference import Fitting, fitting

_LIKELY = 24
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


class Bounds(Struct, frozen=True):
    """What is least and greatest among some values: as text, as number (or date) where they may be
    such, and by their lengths."""

    low: str | None = None
    high: str | None = None
    low_number: Decimal | float | None = None
    high_number: Decimal | float | None = None
    shortest: tuple[int, str] | None = None
    longest: tuple[int, str] | None = None

    def merge(self, other: Bounds) -> Bounds:
        """Of both."""
        if self.longest is None or other.longest is None:
            longest = self.longest or other.longest
        else:
            longest = min(self.longest, other.longest, key=lambda item: (-item[0], item[1]))
        return Bounds(
            _least(self.low, other.low),
            _most(self.high, other.high),
            _least(self.low_number, other.low_number),
            _most(self.high_number, other.high_number),
            _least(self.shortest, other.shortest),
            longest,
        )


class ColumnPartial(Struct, frozen=True):
    """One column of one batch. Numbers are taken by their type where the store has doubles
    (`by_type`). `null_sum` is a sum of hashes of the row numbers that are NULL: equal sums mean the
    same rows. `plain` has a hash of every row's value, `fresh` the texts of which nothing was known
    before."""

    nulls: int
    null_sum: int
    plain: np.ndarray
    fitting: Fitting
    bounds: Bounds = Bounds()
    total: int = 0
    values: Counted | None = None
    texts: dict[int, tuple[int, str]] = field(default_factory=dict)
    shapes: Counted | None = None
    by_type: bool = False
    fresh: Counted | None = None


def part_of(
    stored: pa.Array,
    rows: np.ndarray,
    so_far: Fitting,
    known: KnownValues,
    encoded: pa.DictionaryArray | None = None,
) -> ColumnPartial:
    """The state of a stored array whose values stand in these source rows; all is told of their
    texts. `known` has what was told of values before; `encoded`: the values as a dictionary."""
    doubles = pa.types.is_floating(stored.type)
    if doubles:  # zero of either sign is one value
        stored = pc.add(pc.cast(stored, pa.float64()), 0.0)
    kept = has_numbers(stored.type) or pa.types.is_date(stored.type)
    array = stored if kept or pa.types.is_decimal(stored.type) else text_of(stored)
    nulls = array.null_count
    plain = np.full(len(array), NULL_HASH)
    null_sum, filled = 0, None
    if nulls:
        filled = pc.is_valid(array).to_numpy(zero_copy_only=False)
        null_sum = int(_row_hashes(rows[~filled]).sum(dtype=np.uint64))
    if nulls == len(array):  # a sample of no rows has none that are NULL
        return ColumnPartial(
            nulls, null_sum, plain, fitting(text_of(array), so_far.kinds), by_type=doubles
        )
    if filled is not None:
        rows, array = rows[filled], array.drop_null()
    part = _EncodedValues(array, rows, known, encoded)
    numbers = has_numbers(array.type)
    figures = _of_numbers(part) if numbers else _of_texts(part, so_far)
    return ColumnPartial(
        nulls,
        null_sum,
        part.spread(plain, filled),
        fitting(stored, so_far.kinds) if is_finest(stored.type) else figures.fitting,
        figures.bounds,
        figures.total,
        figures.values,
        _likely_texts(figures.values, array, rows),
        figures.shapes,
        doubles,
        figures.fresh,
    )


class _ValueFigures(Struct, frozen=True):
    """Figures of the values of a batch; see ColumnPartial."""

    fitting: Fitting
    bounds: Bounds
    total: int
    values: Counted
    shapes: Counted
    fresh: Counted | None = None


def _of_numbers(part: _EncodedValues) -> _ValueFigures:
    array, rows, counts = part.fresh, part.fresh_rows, part.fresh_counts
    written = NumberTexts.of(array)
    marks = marked_numbers(written, part.fresh_plain)
    lengths = marks.characters
    shortest, longest = (written.end(lengths, int(end)) for end in (lengths.min(), lengths.max()))
    return _ValueFigures(
        marks.fitting,
        Bounds(None, None, *_least_and_greatest(array), shortest, longest),
        int((lengths if counts is None else lengths * counts).sum(dtype=np.int64)),
        counted_hashes(
            part.fresh_plain, part.fresh_second, rows, counts, (marks.bits, marks.number)
        ),
        marks.shapes(rows, counts),
    )


def _of_texts(part: _EncodedValues, so_far: Fitting) -> _ValueFigures:
    fit, fresh, bounds = so_far, None, Bounds()
    if len(part.fresh):
        fit = fitting(part.fresh, so_far.kinds)
        marks = marked(part.fresh, fit, part.fresh_plain)
        fresh = counted_hashes(
            marks.first,
            part.fresh_second,
            part.fresh_rows,
            part.fresh_counts,
            (
                part.fresh_plain,
                marks.bits,
                marks.number,
                marks.shape,
                marks.shape_second,
                marks.characters,
            ),
        )
        bounds = _bounds(part.fresh, marks.characters, fit)
    every = part.with_known(fresh)
    _, bits, number, shape_first, shape_second, characters = every.extra
    return _ValueFigures(
        fit,
        bounds,
        int((characters * every.counts).sum()),
        Counted(every.first, every.second, every.counts, every.rows, (bits, number)),
        counted_hashes(shape_first, shape_second, every.rows, every.counts),
        fresh if part.text else None,
    )


def _bounds(array: pa.Array, lengths: np.ndarray, fit: Fitting) -> Bounds:
    low, high = _least_and_greatest(array)
    numbers = _exact_numbers(array, fit) if Kind.DECIMAL in fit.kinds else None
    low_number, high_number = (None, None) if numbers is None else _least_and_greatest(numbers)
    shortest, longest = (
        _extreme(array, lengths, int(end)) for end in (lengths.min(), lengths.max())
    )
    return Bounds(low, high, low_number, high_number, shortest, longest)


def _least_and_greatest(array: pa.Array) -> tuple[Any, Any]:
    low, high = (bound.as_py() for bound in pc.min_max(array).values())
    return low, high


class _EncodedValues:
    """The values of a batch: those that are known, by their places among the known ones, and the
    fresh ones, each once where few are different: their hashes, rows, and first rows."""

    def __init__(
        self,
        array: pa.Array,
        rows: np.ndarray,
        known: KnownValues,
        encoded: pa.DictionaryArray | None = None,
    ) -> None:
        self.text = pa.types.is_string(array.type)
        self.rows = rows
        self._codes: np.ndarray | None = None
        self._known: tuple[np.ndarray, ...] | None = None
        self.fresh, self.fresh_rows = array, rows
        self.fresh_counts: np.ndarray | None = None
        if encoded is not None:
            self._take_dictionary(encoded, known)
            return
        if self.text:
            self.plain, second = both_hashes(array)
            self.fresh_plain, self.fresh_second = self.plain, second
            if (lookup := known.find(self.plain, second)) is not None:
                new = lookup.places < 0
                met = lookup.places[~new]
                size = len(lookup.figures[0])
                counts = np.bincount(met, minlength=size)
                first = np.empty(size, np.int64)
                first[met[::-1]] = rows[~new][::-1]
                held = np.flatnonzero(counts)
                self._known = _met(lookup, held, counts[held], first[held])
                self.fresh, self.fresh_rows = array.filter(to_arrow(new)), rows[new]
                self.fresh_plain, self.fresh_second = self.plain[new], second[new]
        if _few_values(self.fresh):
            coded = self.fresh.dictionary_encode()
            codes, size = coded.indices.to_numpy(), len(coded.dictionary)
            first = np.empty(size, np.int64)
            first[codes[::-1]] = np.arange(len(codes))[::-1]
            self.fresh, self.fresh_rows = coded.dictionary, self.fresh_rows[first]
            self.fresh_counts = np.bincount(codes, minlength=size)
            if self.text:
                self.fresh_plain, self.fresh_second = (
                    self.fresh_plain[first],
                    self.fresh_second[first],
                )
            self._codes = codes
        if not self.text:
            if not has_numbers(array.type):
                self.fresh = text_of(self.fresh)
            self.fresh_plain, self.fresh_second = both_hashes(self.fresh)
            self.plain = self.fresh_plain if self._codes is None else self.fresh_plain[self._codes]

    def _take_dictionary(self, encoded: pa.DictionaryArray, known: KnownValues) -> None:
        """Texts that come as a dictionary: each value of it that the batch has is looked at once,
        and no row's."""
        places, size = encoded.indices.drop_null().to_numpy(), len(encoded.dictionary)
        counts = np.bincount(places, minlength=size)
        first = np.empty(size, np.int64)
        first[places[::-1]] = np.arange(len(places))[::-1]
        held = np.flatnonzero(counts)
        values, rows, counts = (
            encoded.dictionary.take(to_arrow(held)),
            self.rows[first[held]],
            counts[held],
        )
        plain, second = both_hashes(values)
        by_place = np.zeros(size, np.uint64)
        by_place[held] = plain
        self.plain = by_place[places]
        if (lookup := known.find(plain, second)) is not None:
            new = lookup.places < 0
            self._known = _met(lookup, lookup.places[~new], counts[~new], rows[~new])
            values = values.filter(to_arrow(new))
            rows, counts, plain, second = rows[new], counts[new], plain[new], second[new]
        self.fresh, self.fresh_rows, self.fresh_counts = values, rows, counts
        self.fresh_plain, self.fresh_second = plain, second

    def spread(self, plain: np.ndarray, filled: np.ndarray | None) -> np.ndarray:
        """The hash of every row's value, where `plain` has those of the NULLs."""
        if filled is None:
            return self.plain
        plain[filled] = self.plain
        return plain

    def with_known(self, fresh: Counted | None) -> Counted:
        """The distinct values of the batch, from the fresh ones."""
        if self._known is None:
            assert fresh is not None
            return fresh
        columns = self._known
        if fresh is not None:
            columns = tuple(
                np.concatenate(pair) for pair in zip(self._known, fresh.arrays, strict=True)
            )
        key, second, counts, rows, *extra = columns
        return counted_hashes(key, second, rows, counts, tuple(extra))


def _met(
    known: Known, places: np.ndarray, counts: np.ndarray, rows: np.ndarray
) -> tuple[np.ndarray, ...]:
    """The arrays of Counted of the known values that a batch has, by their places, with how many
    rows have each and the first."""
    key, second, *extra = (figure[places] for figure in known.figures)
    return key, second, counts, rows, *extra


def _row_hashes(rows: np.ndarray) -> np.ndarray:
    mixed = rows.astype(np.uint64) * _GOLDEN
    mixed ^= mixed >> np.uint64(29)
    return mixed * _GOLDEN


def _few_values(array: pa.Array) -> bool:
    """Whether work once a distinct value is likely to be less than once a row: a sample says so."""
    sample = array.slice(0, 4000)
    return len(array) > 100 and pc.count_distinct(sample).as_py() * 2 < len(sample)


def _exact_numbers(array: pa.Array, fit: Fitting) -> pa.Array:
    """Plain numbers as exact values."""
    if Kind.INTEGER in fit.kinds:
        return pc.cast(array, pa.int64())
    digits = fit.whole + fit.scale
    return pc.cast(
        array,
        (
            pa.decimal128(38, fit.scale)
            if digits <= 38
            else pa.decimal256(min(digits, 76), min(fit.scale, 76))
        ),
    )


def _extreme(array: pa.Array, lengths: np.ndarray, length: int) -> tuple[int, str]:
    """A length and the least of the values that have it, by code point."""
    return length, pc.min(array.filter(to_arrow(lengths == length))).as_py()


def _likely_texts(
    counted: Counted, array: pa.Array, rows: np.ndarray
) -> dict[int, tuple[int, str]]:
    """By hash, (first row, text) of the batch's most frequent values; of equally frequent ones the
    first: just what a whole table's top would take."""
    likely = np.arange(len(counted.counts))
    if len(likely) > _LIKELY:
        rank = counted.counts - (counted.rows - counted.rows.min()) / (
            float(np.ptp(counted.rows)) + 1.0
        )
        likely = np.argpartition(-rank, _LIKELY)[:_LIKELY]
    places = np.searchsorted(rows, counted.rows[likely])
    texts = text_of(array.take(to_arrow(places))).to_pylist()
    return {
        int(counted.first[i]): (int(counted.rows[i]), text)
        for i, text in zip(likely, texts, strict=True)
    }


def _least(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else min(a, b)


def _most(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else max(a, b)
