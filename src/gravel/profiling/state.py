"""One column's state: of a batch, merged over batches, and what the distinct values of all of them
say together."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import text_of
from gravel.engine.distinct import Counted, Distinct, Room, counted_hashes, top_rows
from gravel.engine.hashing import NULL_HASH, hashes
from gravel.engine.known_values import Known, KnownValues
from gravel.language.types import Kind
from gravel.profiling import fits, spread
from gravel.profiling.marks import BIT, DELIMITERS, marked
from gravel.profiling.result import Numbers
from gravel.sources.type_inference import Fitting, fitting

TOP, SHAPES, MISMATCHES, SPELLINGS, WORDS, SAMPLE = 20, 50, 5, 200, 100, 1000
FEW_VALUES = 300
_LIKELY = 24
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True)
class ColumnPartial:
    """One column of one batch. Numbers are taken by their type where the store has doubles
    (`by_type`). `null_sum` is a sum of hashes of the row numbers that are NULL: equal sums mean the
    same rows. `plain` has a hash of every row's value, `fresh` the texts of which nothing was known
    before."""

    nulls: int
    null_sum: int
    plain: np.ndarray
    fitting: Fitting
    bounds: _Bounds = field(default_factory=lambda: _Bounds())
    total: int = 0
    values: Counted | None = None
    texts: dict[int, tuple[int, str]] = field(default_factory=dict)
    shapes: Counted | None = None
    by_type: bool = False
    fresh: Counted | None = None


def part_of(
    stored: pa.Array, rows: np.ndarray, so_far: Fitting, known: KnownValues
) -> ColumnPartial:
    """The state of a stored array whose values stand in these source rows; all is told of their
    texts. `known` has what was told of values before."""
    doubles = pa.types.is_floating(stored.type)
    counts_once = (
        pa.types.is_integer(stored.type)
        or pa.types.is_date(stored.type)
        or pa.types.is_decimal(stored.type)
    )
    array = stored if counts_once else text_of(stored)
    nulls = array.null_count
    plain = np.full(len(array), NULL_HASH)
    null_sum, filled = 0, None
    if nulls:
        filled = pc.is_valid(array).to_numpy(zero_copy_only=False)
        null_sum = int(_row_hashes(rows[~filled]).sum(dtype=np.uint64))
        if nulls == len(array):
            return ColumnPartial(
                nulls, null_sum, plain, fitting(text_of(array), so_far.kinds), by_type=doubles
            )
        rows, array = rows[filled], array.drop_null()
    part = _EncodedValues(array, rows, known)
    fit, fresh, bounds = so_far, None, _Bounds()
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
        bounds = _bounds(part.fresh, marks.characters, fit, stored if doubles else None)
    plain = part.spread(plain, filled)
    every = part.with_known(fresh)
    _, bits, number, shape_first, shape_second, characters = every.extra
    values = Counted(every.first, every.second, every.counts, every.rows, (bits, number))
    return ColumnPartial(
        nulls,
        null_sum,
        plain,
        fit,
        bounds,
        int((characters * every.counts).sum()),
        values,
        _likely_texts(values, array, rows),
        counted_hashes(shape_first, shape_second, every.rows, every.counts),
        doubles,
        fresh if part.text else None,
    )


@dataclass(frozen=True)
class _Bounds:
    """What is least and greatest among some values: as text, as number (or date) where they may be
    such, and by their lengths."""

    low: str | None = None
    high: str | None = None
    low_number: Decimal | float | None = None
    high_number: Decimal | float | None = None
    shortest: tuple[int, str] | None = None
    longest: tuple[int, str] | None = None

    def merge(self, other: _Bounds) -> _Bounds:
        """Of both."""
        if self.longest is None or other.longest is None:
            longest = self.longest or other.longest
        else:
            longest = min(self.longest, other.longest, key=lambda item: (-item[0], item[1]))
        return _Bounds(
            _least(self.low, other.low),
            _most(self.high, other.high),
            _least(self.low_number, other.low_number),
            _most(self.high_number, other.high_number),
            _least(self.shortest, other.shortest),
            longest,
        )


def _bounds(
    array: pa.Array, lengths: np.ndarray, fit: Fitting, doubles: pa.Array | None
) -> _Bounds:
    low, high = _least_and_greatest(array)
    numbers = doubles
    if doubles is None and Kind.DECIMAL in fit.kinds:
        numbers = exact_numbers(array, fit)
    low_number, high_number = (None, None) if numbers is None else _least_and_greatest(numbers)
    shortest, longest = (
        _extreme(array, lengths, int(end)) for end in (lengths.min(), lengths.max())
    )
    return _Bounds(low, high, low_number, high_number, shortest, longest)


def _least_and_greatest(array: pa.Array) -> tuple[Any, Any]:
    low, high = (bound.as_py() for bound in pc.min_max(array).values())
    return low, high


class _EncodedValues:
    """The values of a batch: those that are known, by their places among the known ones, and the
    fresh ones, each once where few are different: their hashes, rows, and first rows."""

    def __init__(self, array: pa.Array, rows: np.ndarray, known: KnownValues) -> None:
        self.text = pa.types.is_string(array.type)
        self.rows = rows
        self._codes: np.ndarray | None = None
        self._known: Known | None = None
        self.fresh, self.fresh_rows = array, rows
        self.fresh_counts: np.ndarray | None = None
        if self.text:
            self.plain, second = hashes(array), hashes(array, True)
            self.fresh_plain, self.fresh_second = self.plain, second
            self._known = known.find(self.plain, second)
            if self._known is not None:
                new = self._known.places < 0
                self.fresh, self.fresh_rows = array.filter(pa.array(new)), rows[new]
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
            self.fresh = text_of(self.fresh)
            self.fresh_plain, self.fresh_second = hashes(self.fresh), hashes(self.fresh, True)
            self.plain = self.fresh_plain if self._codes is None else self.fresh_plain[self._codes]

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
        places, figures = self._known
        size = len(figures[0])
        met = places >= 0
        counts = np.bincount(places[met], minlength=size)
        first = np.empty(size, np.int64)
        first[places[met][::-1]] = self.rows[met][::-1]
        held = np.flatnonzero(counts)
        key, second, *extra = (figure[held] for figure in figures)
        columns = [key, second, counts[held], first[held], *extra]
        if fresh is not None:
            columns = [np.concatenate(pair) for pair in zip(columns, fresh.arrays, strict=True)]
        key, second, counts, rows, *extra = columns
        return counted_hashes(key, second, rows, counts, tuple(extra))


def _row_hashes(rows: np.ndarray) -> np.ndarray:
    mixed = rows.astype(np.uint64) * _GOLDEN
    mixed ^= mixed >> np.uint64(29)
    return mixed * _GOLDEN


def _few_values(array: pa.Array) -> bool:
    """Whether work once a distinct value is likely to be less than once a row: a sample says so."""
    sample = array.slice(0, 4000)
    return len(array) > 100 and pc.count_distinct(sample).as_py() * 2 < len(sample)


def exact_numbers(array: pa.Array, fit: Fitting) -> pa.Array:
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
    return length, pc.min(array.filter(pa.array(lengths == length))).as_py()


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
    texts = text_of(array.take(pa.array(places))).to_pylist()
    return {
        int(counted.first[i]): (int(counted.rows[i]), text)
        for i, text in zip(likely, texts, strict=True)
    }


class ColumnState:
    """One column so far."""

    def __init__(self, room: Room, known: KnownValues) -> None:
        self.known = known
        self.nulls = self.null_sum = self.total = 0
        self.bounds = _Bounds()
        self.by_type = False
        self.fitting = Fitting()
        self.values, self.shapes = Distinct(room), Distinct(room)
        self.texts: dict[int, tuple[int, str]] = {}

    def add(self, part: ColumnPartial) -> None:
        """Take in a batch, in the order of the table."""
        self.fitting = self.fitting.merge(part.fitting)
        self.nulls += part.nulls
        self.by_type = part.by_type
        self.null_sum = (self.null_sum + part.null_sum) % 2**64
        if part.values is None or part.shapes is None:
            return
        self.total += part.total
        self.bounds = self.bounds.merge(part.bounds)
        if part.fresh is not None:
            fresh = part.fresh
            plain, *others = fresh.extra
            figures = (fresh.first, fresh.second, plain, *others)
            self.known.teach(len(part.plain) - part.nulls, plain, fresh.second, figures)
        self.values.add(part.values)
        self.shapes.add(part.shapes)
        for key, result in part.texts.items():
            self.texts.setdefault(key, result)


def _least(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else min(a, b)


def _most(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else max(a, b)


class RowDistinctState:
    """Whole rows so far: how many there are more than one of a kind."""

    def __init__(self, room: Room) -> None:
        self.distinct = Distinct(room)
        self.count = 0

    def add(self, part: Counted, count: int) -> None:
        """Take in a batch."""
        self.distinct.add(part)
        self.count += count

    @property
    def repeated(self) -> int:
        """Rows that are equal to an earlier one in all columns, NULLs taken as equal."""
        return self.count - len(self.distinct)


def whole_rows(hashed: list[np.ndarray], rows: np.ndarray) -> Counted:
    """The distinct rows of a batch, from the hashes of its columns' values."""
    first = np.full(len(rows), np.uint64(0x2545F4914F6CDD1D))
    second = np.full(len(rows), np.uint64(0x27D4EB2F165667C5))
    for item in hashed:
        first = (first ^ item) * _GOLDEN
        first ^= first >> np.uint64(32)
        second = (second + item) * np.uint64(0xC2B2AE3D27D4EB4F)
        second ^= second >> np.uint64(29)
    return counted_hashes(first, second, rows)


@dataclass
class Gathered:
    """What the distinct values of a column say together. Rows are source rows, to look the texts up
    in."""

    distinct: int = 0
    by_bit: dict[str, int] = field(default_factory=dict)
    top: list[tuple[int, int]] = field(default_factory=list)
    mismatches: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    words: list[tuple[int, int]] = field(default_factory=list)
    blanks: list[int] = field(default_factory=list)
    spellings: list[list[tuple[int, int]]] = field(default_factory=list)
    spelling_groups: int = 0
    numbers: tuple[Numbers, int, int] | None = None
    days: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None
    repeated: list[tuple[int, int]] = field(default_factory=list)
    repeated_values: int = 0
    repeated_rows: int = 0
    sample: dict[str, list[int]] = field(default_factory=dict)
    squares: float = 0.0  # the sum of the squares of the rows of each value
    every: list[tuple[int, int]] = field(default_factory=list)  # all values, where they are few
    sample_rows: dict[int, int] = field(
        default_factory=dict
    )  # how many rows hold the value of each of the first ones
    both: dict[tuple[str, str], int] = field(default_factory=dict)


def gather(state: ColumnState, is_text: bool, room: int) -> Gathered:
    """Go over a column's distinct values once, a range of hashes at a time. `room`: how many values
    may be held."""
    output = Gathered()
    bits: Counter[str] = Counter()
    numbers = spread.Ascending(room // 4)
    days: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
    mismatches: dict[str, list[tuple[int, int]]] = {}
    samples: dict[str, list[np.ndarray]] = {}
    for piece in state.values.pieces():
        marks, values = piece.extra
        output.distinct += len(piece.first)
        output.squares += float(np.sum(piece.counts.astype(float) ** 2))
        if output.distinct <= FEW_VALUES:
            output.every += list(zip(piece.rows.tolist(), piece.counts.tolist(), strict=True))
        best = top_rows(piece.counts, piece.rows, TOP)
        output.top += best
        seen = np.bitwise_or.reduce(marks) if len(marks) else np.uint64(0)
        masks: dict[str, np.ndarray] = {}
        for name, bit in BIT.items():
            if seen & bit:
                masks[name] = (marks & bit) != 0
                bits[name] += int(piece.counts[masks[name]].sum())
        _spread(piece, masks, values, numbers, days, marks)
        _repeated(output, piece)
        first = _earliest(piece.rows)
        samples.setdefault("all", []).append(first)
        output.sample_rows.update(_counts_at(piece, first))
        if is_text:
            for name in fits.NAMES:
                if name in masks:
                    mismatches.setdefault(name, []).extend(_top_of(piece, ~masks[name], MISMATCHES))
                else:
                    mismatches.setdefault(name, []).extend(best)
            for day_first, month_first in fits.RIVALS:
                if f"form {day_first}" in masks and f"form {month_first}" in masks:
                    rows = int(
                        piece.counts[
                            masks[f"form {day_first}"] & masks[f"form {month_first}"]
                        ].sum()
                    )
                    output.both[day_first, month_first] = (
                        output.both.get((day_first, month_first), 0) + rows
                    )
            if "placeholder" in masks:
                output.words += _top_of(piece, masks["placeholder"], WORDS)
            if "blank" in masks:
                output.blanks += [row for row, _ in _top_of(piece, masks["blank"], WORDS)]
            for name in DELIMITERS:
                if name in masks:
                    samples.setdefault(name, []).append(_earliest(piece.rows[masks[name]]))
                    samples.setdefault(f"not {name}", []).append(
                        _earliest(piece.rows[~masks[name]])
                    )
            _spellings(output, piece, masks)
    if output.distinct > FEW_VALUES or not is_text:
        output.every = []
    output.by_bit = dict(bits)
    output.top, output.words = _best(output.top, TOP), _best(output.words, WORDS)
    output.mismatches = {name: _best(result, MISMATCHES) for name, result in mismatches.items()}
    output.spellings = sorted(
        output.spellings, key=lambda group: (-sum(count for _, count in group[1:]), group[0][0])
    )[:SPELLINGS]
    output.sample = {
        name: sorted(int(row) for row in np.concatenate(result))[:SAMPLE]
        for name, result in samples.items()
    }
    output.numbers = spread.numbers(numbers) if numbers.rows else None
    output.days = _ordered(days)
    return output


def _best(result: list[tuple[int, int]], count: int) -> list[tuple[int, int]]:
    return sorted(set(result), key=lambda item: (-item[1], item[0]))[:count]


def _top_of(piece: Counted, mask: np.ndarray, count: int) -> list[tuple[int, int]]:
    return top_rows(piece.counts[mask], piece.rows[mask], count) if mask.any() else []


def _earliest(rows: np.ndarray) -> np.ndarray:
    return np.partition(rows, SAMPLE)[:SAMPLE] if len(rows) > SAMPLE else rows


def _counts_at(piece: Counted, rows: np.ndarray) -> list[tuple[int, int]]:
    order = np.argsort(piece.rows)
    counts = piece.counts[order[np.searchsorted(piece.rows, rows, sorter=order)]]
    return list(zip(rows.tolist(), counts.tolist(), strict=True))


def _repeated(gathered: Gathered, piece: Counted) -> None:
    many = piece.counts > 1
    if many.any():
        gathered.repeated_values += int(many.sum())
        gathered.repeated_rows += int(piece.counts[many].sum())
        if len(gathered.repeated) <= SPELLINGS:
            subset = np.flatnonzero(many)[: SPELLINGS + 1]
            gathered.repeated += [
                (int(row), int(count))
                for row, count in zip(piece.rows[subset], piece.counts[subset], strict=True)
            ]


def _spread(
    piece: Counted,
    masks: dict[str, np.ndarray],
    values: np.ndarray,
    numbers: spread.Ascending,
    days: list[Any],
    marks: np.ndarray,
) -> None:
    if "number" in masks:
        mask = masks["number"]
        numbers.add(values[mask], _small(piece.counts[mask]), _small(piece.rows[mask]))
    if "day" in masks:
        mask = masks["day"]
        days.append((values[mask].astype(np.int32), _small(piece.counts[mask]), marks[mask]))


def _small(numbers: np.ndarray) -> np.ndarray:
    """Counts or row numbers in half the room, where they fit."""
    return numbers.astype(np.int32) if not len(numbers) or int(numbers.max()) < 2**31 else numbers


def _ordered(
    result: list[tuple[np.ndarray, np.ndarray, np.ndarray]],
) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """The values of all pieces ascending, with their counts and what else was kept. The pieces are
    let go on the way."""
    if not result:
        return None
    columns = [np.concatenate([piece[index] for piece in result]) for index in range(3)]
    result.clear()
    order = np.argsort(columns[0])
    for position in range(3):
        columns[position] = columns[position][order]
    return columns[0], columns[1], columns[2]


def _spellings(gathered: Gathered, piece: Counted, masks: dict[str, np.ndarray]) -> None:
    """Values whose hashes share the part that their MATCH_KEY makes stand side by side."""
    keep = np.ones(len(piece.first), bool)
    for name in ("no_key", "empty", "blank"):
        if name in masks:
            keep &= ~masks[name]
    keys = piece.first[keep] >> np.uint64(16)
    if len(keys) < 2:
        return
    same = keys[1:] == keys[:-1]
    if not same.any():
        return
    inside = np.concatenate([same, [False]]) | np.concatenate([[False], same])
    rows, counts, keys = piece.rows[keep][inside], piece.counts[keep][inside], keys[inside]
    starts = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))
    ends = np.append(starts[1:], len(keys))
    gathered.spelling_groups += len(starts)
    sums = np.add.reduceat(counts, starts) - np.maximum.reduceat(counts, starts)
    # The groups that cost most, should there be very many; of equal ones those whose most frequent
    # value comes first, so that it does not matter which range of hashes a group is in.
    chosen = np.arange(len(starts))
    if len(starts) > SPELLINGS:
        numbers = np.repeat(chosen, ends - starts)
        heads = rows[np.lexsort((rows, -counts, numbers))][starts]
        chosen = np.lexsort((heads, -sums))[:SPELLINGS]
    for index in chosen:
        group = list(
            zip(
                rows[starts[index] : ends[index]].tolist(),
                counts[starts[index] : ends[index]].tolist(),
                strict=True,
            )
        )
        gathered.spellings.append(sorted(group, key=lambda item: (-item[1], item[0])))
