"""One column's state: of a batch, merged over batches, and what the distinct values of all of them
say together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Iterable
from typing import Any

import numpy as np
from msgspec import Struct, field

from gravel.engine.distinct import Counted, Distinct, Room, counted_hashes, top_rows
from gravel.engine.hashing import NULL_HASH
from gravel.engine.known_values import KnownValues
from gravel.profiling import fits, spread
from gravel.profiling.day_forms import MONTH_NAMES, RIVALS
from gravel.profiling.marks import BIT, DELIMITERS, form_masks
from gravel.profiling.partial import Bounds, ColumnPartial, part_of
from gravel.profiling.relations import SAMPLE as SAMPLE_ROWS
from gravel.profiling.result import Numbers
from gravel.sources.source import Batch, Malformed
from gravel.sources.type_inference import Fitting

TOP, SHAPES, MISMATCHES, SPELLINGS, WORDS, SAMPLE = 20, 50, 5, 200, 100, 1000
FEW_VALUES = 300
LAST = 5  # rows at the end, of which some may be none of the data
VALUE, SHAPE, ROW = "value", "shape", "row"  # the keys of distinct values
_MOST_KNOWN = 1 << 18  # values of a column that are not looked at anew in each batch
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


class ColumnState:
    """One column so far, but for its distinct values."""

    def __init__(self, known: KnownValues) -> None:
        self.known = known
        self.nulls = self.null_sum = self.total = 0
        self.bounds = Bounds()
        self.by_type = False
        self.fitting = Fitting()
        self.texts: dict[int, tuple[int, str]] = {}
        self.head: list[np.ndarray] = []  # the hashes of its first values

    def add(self, part: ColumnPartial) -> None:
        """Take in a batch, in the order of the table."""
        self.fitting = self.fitting.merge(part.fitting)
        self.nulls += part.nulls
        self.by_type = part.by_type
        self.null_sum = (self.null_sum + part.null_sum) % 2**64
        if part.values is None:
            return
        self.total += part.total
        self.bounds = self.bounds.merge(part.bounds)
        if part.fresh is not None:
            fresh = part.fresh
            plain, *others = fresh.extra
            figures = (fresh.first, fresh.second, plain, *others)
            self.known.teach(len(part.plain) - part.nulls, plain, fresh.second, figures)
        for key, result in part.texts.items():
            self.texts.setdefault(key, result)

    def merge(self, later: ColumnState) -> None:
        """Take in the column's state of the rows that follow."""
        self.fitting = self.fitting.merge(later.fitting)
        self.nulls += later.nulls
        self.by_type = later.by_type
        self.null_sum = (self.null_sum + later.null_sum) % 2**64
        self.total += later.total
        self.bounds = self.bounds.merge(later.bounds)
        for key, result in later.texts.items():
            self.texts.setdefault(key, result)

    def sample(self) -> np.ndarray:
        """Hashes of its first values."""
        return np.concatenate(self.head) if self.head else np.zeros(0, np.uint64)


class TablePartial(Struct, frozen=True):
    """What a batch says of a table's columns and of its whole rows; `empty`: those without any
    value; `last`: its last ones."""

    rows: int
    empty: int
    last: tuple[int, ...]
    malformed: tuple[Malformed, ...]
    columns: list[ColumnPartial]
    whole: Counted


class TableState:
    """A table so far: its columns, its whole rows, and the first rows' hashes. `fixed` are the
    columns whose types are given; `memory`: the distinct values that may be held."""

    def __init__(self, width: int, fixed: frozenset[int], memory: int) -> None:
        self.fixed, self.room = fixed, Room(memory)
        most = min(_MOST_KNOWN, memory // (8 * max(1, width)))
        self.columns = [ColumnState(KnownValues(most)) for _ in range(width)]
        self.distinct: dict[Hashable, Any] = {ROW: Distinct(self.room)}
        for index in range(width):
            self.distinct[VALUE, index] = Distinct(self.room)
            self.distinct[SHAPE, index] = Distinct(self.room)
        self.rows = self.empty = 0
        self.last: tuple[int, ...] = ()
        self.malformed: list[Malformed] = []

    def map(self, batch: Batch) -> TablePartial:
        """See State."""
        nothing = Fitting(frozenset())
        parts = [
            part_of(
                stored,
                batch.rows,
                nothing if i in self.fixed else state.fitting,
                state.known,
                batch.encoded.get(i),
            )
            for i, (stored, state) in enumerate(zip(batch.columns, self.columns, strict=True))
        ]
        whole = whole_rows([part.plain for part in parts], batch.rows)
        last = tuple(batch.rows[-LAST:].tolist())
        return TablePartial(batch.count, _empty_rows(parts), last, batch.malformed, parts, whole)

    def add(self, part: TablePartial) -> None:
        """See State."""
        self.malformed += part.malformed
        if not part.rows:
            return
        if self.rows < SAMPLE_ROWS:
            for state, column in zip(self.columns, part.columns, strict=True):
                state.head.append(column.plain[: SAMPLE_ROWS - self.rows])
        self.rows += part.rows
        self.empty += part.empty
        self.last = (self.last + part.last)[-LAST:]
        self.distinct[ROW].add(part.whole)
        for index, (state, column) in enumerate(zip(self.columns, part.columns, strict=True)):
            state.add(column)
            if column.values is not None and column.shapes is not None:
                self.distinct[VALUE, index].add(column.values)
                self.distinct[SHAPE, index].add(column.shapes)

    def merge(self, later: TableState) -> None:
        """See State."""
        for state, other in zip(self.columns, later.columns, strict=True):
            if later.rows:
                state.merge(other)
            if self.rows < SAMPLE_ROWS:
                state.head.append(other.sample()[: SAMPLE_ROWS - self.rows])
        self.rows += later.rows
        self.empty += later.empty
        self.last = (self.last + later.last)[-LAST:]
        self.malformed += later.malformed

    def forget_values(self) -> None:
        """Let go of the distinct values, which have answered what was asked: the next pass has the
        room for its own."""
        self.distinct.clear()
        self.room = Room(self.room.values)

    @property
    def in_memory(self) -> bool:
        """Whether none of its values has gone to a file."""
        return self.room.in_memory


def _empty_rows(columns: list[ColumnPartial]) -> int:
    """The rows in which every column is NULL."""
    if not columns or not all(column.nulls for column in columns):
        return 0
    # Few are NULL in the column that is so least: only its rows are looked at.
    least, *others = sorted(columns, key=lambda column: column.nulls)
    rows = np.flatnonzero(least.plain == NULL_HASH)
    for column in others:
        rows = rows[column.plain[rows] == NULL_HASH]
    return len(rows)


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


class Gathered(Struct):
    """What the distinct values of a column say together. Rows are source rows, to look the texts up
    in."""

    distinct: int = 0
    by_bit: dict[str, int] = field(default_factory=dict)
    by_template: dict[str, int] = field(default_factory=dict)  # rows that are days by one
    top: list[tuple[int, int]] = field(default_factory=list)
    mismatches: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    words: list[tuple[int, int]] = field(default_factory=list)
    totals: list[tuple[int, int]] = field(default_factory=list)  # words for a sum
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
    both: dict[tuple[str, str], int] = field(default_factory=dict)  # by two templates


class RangeFigures(Struct):
    """What the distinct values in a range of hashes say: figures that add up, and what is more than
    a figure as it has to be put together."""

    gathered: Gathered
    bits: Counter[str] = field(default_factory=Counter)
    numbers: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = field(default_factory=list)
    days: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = field(default_factory=list)
    samples: dict[str, np.ndarray] = field(default_factory=dict)


def range_figures(is_text: bool, piece: Counted) -> RangeFigures:
    """Go over the distinct values of a column in a range of hashes."""
    output = Gathered(distinct=len(piece.first))
    result = RangeFigures(output)
    bits, samples, mismatches = result.bits, result.samples, output.mismatches
    marks, values = piece.extra
    output.squares = float(np.sum(piece.counts.astype(float) ** 2))
    if output.distinct <= FEW_VALUES:
        output.every = list(zip(piece.rows.tolist(), piece.counts.tolist(), strict=True))
    output.top = top_rows(piece.counts, piece.rows, TOP)
    seen = np.bitwise_or.reduce(marks) if len(marks) else np.uint64(0)
    masks: dict[str, np.ndarray] = {}
    for name, bit in BIT.items():
        if seen & bit:
            masks[name] = (marks & bit) != 0
            bits[name] = int(piece.counts[masks[name]].sum())
    _spread(piece, masks, values, result)
    _repeated(output, piece)
    samples["all"] = _earliest(piece.rows)
    output.sample_rows.update(_counts_at(piece, samples["all"]))
    if not is_text:
        return result
    for item in fits.TYPES:
        if item.name in masks:
            mismatches[item.name] = _top_of(piece, ~masks[item.name], MISMATCHES)
    by_template = dict(form_masks(marks))
    for template, mask in by_template.items():
        output.by_template[template] = int(piece.counts[mask].sum())
        mismatches[template] = _top_of(piece, ~mask, MISMATCHES)
    for first, second in (*RIVALS, *MONTH_NAMES):
        if first in by_template and second in by_template:
            both = by_template[first] & by_template[second]
            output.both[first, second] = int(piece.counts[both].sum())
    if "placeholder" in masks:
        output.words = _top_of(piece, masks["placeholder"], WORDS)
    if "total" in masks:
        output.totals = _top_of(piece, masks["total"], WORDS)
    if "blank" in masks:
        output.blanks = [row for row, _ in _top_of(piece, masks["blank"], WORDS)]
    for name in DELIMITERS:
        if name in masks:
            samples[name] = _earliest(piece.rows[masks[name]])
            samples[f"not {name}"] = _earliest(piece.rows[~masks[name]])
    _spellings(output, piece, masks)
    return result


def gather(is_text: bool, room: int, ranges: Iterable[RangeFigures]) -> Gathered:
    """Put together what a column's ranges of hashes say, ascending. `room`: how many numbers may be
    held."""
    output = Gathered()
    bits: Counter[str] = Counter()
    numbers = spread.Ascending(room // 8)
    days: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
    samples: dict[str, list[np.ndarray]] = {}
    mismatches: list[tuple[dict[str, list[tuple[int, int]]], list[tuple[int, int]]]] = []
    for part in ranges:
        item = part.gathered
        output.distinct += item.distinct
        output.squares += item.squares
        if output.distinct <= FEW_VALUES:
            output.every += item.every
        output.top += item.top
        bits.update(part.bits)
        for columns in part.numbers:
            numbers.add(*columns)
        days += part.days
        output.repeated_values += item.repeated_values
        output.repeated_rows += item.repeated_rows
        if len(output.repeated) <= SPELLINGS:
            output.repeated += item.repeated
        output.sample_rows.update(item.sample_rows)
        for name, rows in part.samples.items():
            samples.setdefault(name, []).append(rows)
        for template, count in item.by_template.items():
            output.by_template[template] = output.by_template.get(template, 0) + count
        mismatches.append((item.mismatches, item.top[:MISMATCHES]))
        for pair, count in item.both.items():
            output.both[pair] = output.both.get(pair, 0) + count
        output.words += item.words
        output.totals += item.totals
        output.blanks += item.blanks
        output.spellings += item.spellings
        output.spelling_groups += item.spelling_groups
    if output.distinct > FEW_VALUES or not is_text:
        output.every = []
    output.by_bit = dict(bits)
    output.top, output.words = _best(output.top, TOP), _best(output.words, WORDS)
    output.totals = _best(output.totals, WORDS)
    output.mismatches = {
        # Where nothing fits a type, the most frequent values are those that do not.
        name: _best(
            [value for item, top in mismatches for value in item.get(name, top)], MISMATCHES
        )
        for name in (*((kind.name for kind in fits.TYPES) if is_text else ()), *output.by_template)
    }
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
    piece: Counted, masks: dict[str, np.ndarray], values: np.ndarray, result: RangeFigures
) -> None:
    if "number" in masks:
        mask = masks["number"]
        result.numbers.append((values[mask], _small(piece.counts[mask]), _small(piece.rows[mask])))
    if "day" in masks:
        mask = masks["day"]
        marks = piece.extra[0]
        result.days.append((values[mask].astype(np.int32), _small(piece.counts[mask]), marks[mask]))


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
