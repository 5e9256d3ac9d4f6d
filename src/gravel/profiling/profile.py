"""The profile of a table: a state for each batch and column, an associative merge, a result. One pass."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.frame import view
from gravel.engine.frequent import Frequent, FrequentPart, frequent_part
from gravel.engine.parallel import ordered_map
from gravel.language.functions.buffers import BLANK, body, is_ascii, matches, maybe_padded
from gravel.language.functions.casts import to_text
from gravel.language.types import TEXT, Kind, Type
from gravel.tables.csv import CsvTable
from gravel.tables.table import Batch, Malformed, scan
from gravel.tables.typing import Fitting, fitting

TOP = 5


@dataclass(frozen=True)
class Lengths:
    """Least, greatest and mean length in characters of the known values; None where there is none."""

    min: int | None
    max: int | None
    mean: float | None


@dataclass(frozen=True)
class ColumnProfile:
    """What a column holds. empty: ''; blank: not empty, only white space; padded: white space at an end of a value that
    is not blank; distinct: different values, NULL apart; min, max: texts by code point, others by value."""

    name: str
    type: Type
    nulls: int
    empty: int
    blank: int
    padded: int
    distinct: int
    min: str | None
    max: str | None
    length: Lengths
    top: tuple[tuple[str, int], ...]


@dataclass(frozen=True)
class Profile:
    """A table's rows and columns."""

    table: str
    rows: int
    columns: tuple[ColumnProfile, ...]
    malformed: tuple[Malformed, ...]
    notes: tuple[str, ...]


def profile(table: CsvTable) -> Profile:
    """Profile every column in one pass. Raises TableProblem."""
    width = len(table.columns)
    states = [_State() for _ in range(width)]
    rows = 0
    malformed: list[Malformed] = []
    known = {i for i, name in enumerate(table.columns) if name in table.texts or name in table.declared}

    def work(piece: Any) -> tuple[Batch, list[_Part]]:
        batch = table.read(piece)
        parts = [_part(batch.columns[i], batch.rows, states[i].fitting if i not in known else Fitting(frozenset())) for i in range(width)]
        return Batch(batch.rows, [], batch.malformed), parts

    for batch, parts in ordered_map(work, table.pieces()):
        rows += batch.count
        malformed += batch.malformed
        for state, part in zip(states, parts, strict=True):
            state.add(part)
    table.settle({i: state.fitting for i, state in enumerate(states)})
    columns = tuple(ordered_map(lambda i: _finish(table, i, states[i], rows), range(width)))
    return Profile(table.name, rows, columns, tuple(malformed), tuple(table.notes))


@dataclass(frozen=True)
class _Part:
    """One column of one batch. low, high: least and greatest as text, or as value where the column may be a number."""

    nulls: int
    empty: int
    blank: int
    padded: int
    low: str | None
    high: str | None
    low_number: Decimal | int | None
    high_number: Decimal | int | None
    least: int
    most: int
    total: int
    fitting: Fitting
    frequent: FrequentPart | None


def _part(array: Any, rows: np.ndarray, so_far: Fitting) -> _Part:
    nulls = array.null_count
    if nulls == len(array):
        return _Part(nulls, 0, 0, 0, None, None, None, None, 0, 0, 0, fitting(array, so_far.kinds), None)
    if nulls:
        rows = rows[pc.is_valid(array).to_numpy(zero_copy_only=False)]
        array = array.drop_null()
    counts = None
    if _few_values(array):
        array, counts, rows = _once(array, rows)
    fits = fitting(array, so_far.kinds)
    bytes_long = np.diff(body(array)[0])
    blank = padded = 0
    doubtful = maybe_padded(array)
    if doubtful.any():
        some = array.filter(pa.array(doubtful))
        weights = None if counts is None else counts[doubtful]
        blank = _weight(matches(some, f"^{BLANK}+$"), weights)
        padded = _weight(matches(some, f"^{BLANK}|{BLANK}$"), weights) - blank
    lengths = bytes_long if is_ascii(array) else pc.utf8_length(array).to_numpy()
    low, high = (bound.as_py() for bound in pc.min_max(array).values())
    numbers: tuple[Any, Any] = (None, None)
    if Kind.DECIMAL in fits.kinds:
        numbers = tuple(bound.as_py() for bound in pc.min_max(_numbers(array, fits)).values())
    total = int(lengths.sum()) if counts is None else int((lengths * counts).sum())
    return _Part(
        nulls, _weight(bytes_long == 0, counts), blank, padded, low, high, *numbers, int(lengths.min()), int(lengths.max()), total,
        fits, frequent_part([array], rows, counts),
    )  # fmt: skip


def _weight(mask: np.ndarray, counts: np.ndarray | None) -> int:
    """Rows under a mask, where each value may stand for several."""
    return int(np.count_nonzero(mask)) if counts is None else int(counts[mask].sum())


def _few_values(array: Any) -> bool:
    """Whether work once a distinct value is likely to be less than once a row: a sample says so."""
    sample = array.slice(0, 4000)
    return len(array) > 100 and pc.count_distinct(sample).as_py() * 2 < len(sample)


def _once(array: Any, rows: np.ndarray) -> tuple[Any, np.ndarray, np.ndarray]:
    """The distinct values of a batch, the rows that hold each, and the first row that does."""
    coded = array.dictionary_encode()
    codes = coded.indices.to_numpy()
    first = np.empty(len(coded.dictionary), np.int64)
    first[codes[::-1]] = rows[::-1]
    return coded.dictionary, np.bincount(codes, minlength=len(first)), first


def _numbers(array: Any, fits: Fitting) -> Any:
    if Kind.INTEGER in fits.kinds:
        return pc.cast(array, pa.int64())
    digits = fits.whole + fits.scale
    return pc.cast(array, pa.decimal128(38, fits.scale) if digits <= 38 else pa.decimal256(min(digits, 76), min(fits.scale, 76)))


class _State:
    """One column so far."""

    def __init__(self) -> None:
        self.nulls = self.empty = self.blank = self.padded = self.total = 0
        self.low: str | None = None
        self.high: str | None = None
        self.low_number: Any = None
        self.high_number: Any = None
        self.least: int | None = None
        self.most: int | None = None
        self.fitting = Fitting()
        self.frequent = Frequent()

    def add(self, part: _Part) -> None:
        self.fitting = self.fitting.merge(part.fitting)
        self.nulls += part.nulls
        if part.frequent is None:
            return
        self.empty += part.empty
        self.blank += part.blank
        self.padded += part.padded
        self.total += part.total
        self.low, self.high = _least(self.low, part.low), _most(self.high, part.high)
        self.low_number = _least(self.low_number, part.low_number)
        self.high_number = _most(self.high_number, part.high_number)
        self.least, self.most = _least(self.least, part.least), _most(self.most, part.most)
        self.frequent.add(part.frequent)


def _least(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else min(a, b)


def _most(a: Any, b: Any) -> Any:
    return b if a is None else a if b is None else max(a, b)


def _finish(table: CsvTable, index: int, state: _State, rows: int) -> ColumnProfile:
    kind = table.types([index])[index]
    frequent = state.frequent
    low, high = state.low, state.high
    if (index in table.fittings and not table.fittings[index].uniform and kind != TEXT) or (
        table.columns[index] in table.declared and kind != TEXT
    ):
        # One value may be written in two ways here: values are compared, in a pass over this column alone.
        frequent, low, high = _by_value(table, index, kind)
    elif kind.kind in (Kind.INTEGER, Kind.DECIMAL):
        low, high = str(state.low_number), str(state.high_number)
        if kind.kind is Kind.DECIMAL:
            low, high = format(state.low_number, "f"), format(state.high_number, "f")
    known = rows - state.nulls
    top = frequent.top(TOP, partial(_texts_at, table, index, kind if frequent is not state.frequent else TEXT))
    return ColumnProfile(
        table.columns[index], kind, state.nulls, state.empty, state.blank, state.padded, len(frequent.distinct), low, high,
        Lengths(state.least, state.most, state.total / known if known else None), tuple((texts[0] or "", count) for texts, count in top),
    )  # fmt: skip


def _by_value(table: CsvTable, index: int, kind: Type) -> tuple[Frequent, str | None, str | None]:
    """Distinct values, least and greatest of a column by its type instead of by its texts; misfits are left out."""
    frequent = Frequent()
    low: Any = None
    high: Any = None

    def work(batch: Batch) -> tuple[FrequentPart | None, Any, Any]:
        values = view(batch.columns[index], kind).values
        good = pc.is_valid(values)
        some = values.filter(good)
        if not len(some):
            return None, None, None
        bounds = list(pc.min_max(some).values())
        texts = to_text(some, kind)
        rows = batch.rows[good.to_numpy(zero_copy_only=False)]
        return frequent_part([texts], rows), bounds[0], bounds[1]

    for part, least, most in scan(table, work, [index]):
        if part is not None:
            frequent.add(part)
            low = least if low is None or least.as_py() < low.as_py() else low
            high = most if high is None or most.as_py() > high.as_py() else high
    shown = [None if bound is None else to_text(pa.array([bound.as_py()], kind.arrow), kind)[0].as_py() for bound in (low, high)]
    return frequent, shown[0], shown[1]


def _texts_at(table: CsvTable, index: int, kind: Type, rows: list[int]) -> dict[int, tuple[str | None, ...]]:
    """The texts of a column in some source rows."""
    found: dict[int, tuple[str | None, ...]] = {}
    for piece in table.holding(rows):
        batch = table.read(piece, [index])
        texts = to_text(view(batch.columns[index], kind).values, kind)
        for row in rows:
            at = int(np.searchsorted(batch.rows, row))
            if at < batch.count and batch.rows[at] == row:
                found[row] = (texts[at].as_py(),)
    return found
