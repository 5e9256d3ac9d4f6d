"""Comparing two tables: rows are matched by hashes of their keys, cells by hashes of their values;
what is shown is fetched after."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.comparing.result import Alone, CellDiff, Cells, Compared, Keys
from gravel.engine.arrow_values import text_of
from gravel.engine.evaluate import run
from gravel.engine.frame import view
from gravel.engine.hashing import NULL_HASH, hashes, mixed
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.sets import distinct_values, member
from gravel.engine.spill import Runs
from gravel.inspecting.binding import columns_named, explaining, frame_of, scope_of
from gravel.inspecting.count import count_table
from gravel.kernels.hashes import ascending
from gravel.language import nodes, parse, tree
from gravel.language.bind import Given, Scope, bind_condition, find_column
from gravel.language.functions import arithmetic
from gravel.language.functions.text import tidy_spaces, upper
from gravel.language.types import NUMBERS, TEXT, Kind, Type, common
from gravel.language.writing import quoted
from gravel.problems import CallProblem, nearest
from gravel.profiling.column_kind import is_identifier
from gravel.sources.source import Batch, InferredTypeRefuted, Malformed, Source, scan

EXAMPLES = 5
_PARTS = 4096
_WORD = 40  # bytes that a word of a row takes while parts are matched


@dataclass(frozen=True)
class How:
    """How cells are compared: texts without regard to case or to spaces (as TIDY_SPACES has them),
    numbers within a distance; `pairs`: columns of before that have another name after; `where`:
    only rows that meet a condition, on both sides.
    """

    ignore_case: bool = False
    ignore_spaces: bool = False
    within: Decimal | None = None
    pairs: tuple[tuple[str, str], ...] = ()
    where: str | None = None

    @property
    def told(self) -> tuple[str, ...]:
        """In words."""
        parts = [
            (self.ignore_case, "case"),
            (self.ignore_spaces, "spaces"),
            (self.within is not None, f"differences up to {self.within}"),
        ]
        return tuple(text for said, text in parts if said)


_TRIED = 12  # columns of both sides that are tried as a key


def proposed_key(before: Source, after: Source) -> str | None:
    """A column that is a key of both tables, one that is called an identifier before others; None
    where there is none among the first."""
    both = [name for name in before.columns if name and name in after.columns]
    both = sorted(both, key=lambda name: not is_identifier(name))[:_TRIED]
    counts = [
        count_table(side, key=[quoted(name) for name in both]).keys for side in (before, after)
    ]
    keys = (
        name
        for name, *count in zip(both, *counts, strict=True)
        if not any(item.null_rows or item.repeated_rows for item in count)
    )
    return next(keys, None)


@dataclass(frozen=True)
class _Column:
    """A column of both sides: its places, and the type in which it is compared."""

    name: str
    before: int
    after: int
    type: Type
    scale: int


@dataclass
class _Side:
    """One table as it was read: its rows, those with NULL in the key, and of the others, batch by
    batch, arrays side by side: a hash of the key, a second one, the row number, a hash a cell, and
    of numbers that may lie within a distance the numbers, without their points. What does not fit
    into memory is in `spilled`, in runs that are sorted by the first hash."""

    rows: int = 0
    null: int = 0
    malformed: tuple[Malformed, ...] = ()
    held: list[list[np.ndarray]] = field(default_factory=list)
    spilled: Runs | None = None

    def spill(self) -> None:
        """Put what is held into a file, sorted. Raises TableProblem where the disk is full."""
        if self.spilled is None:
            self.spilled = Runs()
        if self.held:
            arrays = self._joined()
            order = ascending(arrays[0])
            self.spilled.write([array[order] for array in arrays])
            self.held = []

    def parts(self, count: int) -> Iterator[_KeyRange]:
        """The rows in so many ranges of the hash."""
        if count == 1 and self.spilled is None:
            yield _key_range(self._joined())
            return
        self.spill()
        assert self.spilled is not None
        for arrays in self.spilled.ranges([], 0, parts=count):
            yield _key_range(arrays)

    def _joined(self) -> list[np.ndarray]:
        return [np.concatenate(parts) for parts in zip(*self.held, strict=True)]


def _key_range(arrays: list[np.ndarray]) -> _KeyRange:
    return _KeyRange(arrays[0], arrays[1], arrays[2].astype(np.int64), arrays[3:])


@dataclass(frozen=True)
class _KeyRange:
    """Rows of one side whose keys' hashes are in one range; those of equal hashes are in the order
    of the table."""

    keys: np.ndarray
    second: np.ndarray
    rows: np.ndarray
    others: list[np.ndarray]


@dataclass
class _Matches:
    """What matching the parts has come to: rows in both, rows of each side alone, repeated keys,
    cells by column."""

    both: int = 0
    changed: int = 0
    alone: tuple[list[np.ndarray], list[np.ndarray]] = field(default_factory=lambda: ([], []))
    repeated: list[list[int]] = field(
        default_factory=lambda: [[0, 0], [0, 0]]
    )  # of each side: keys, and their rows
    cells: list[np.ndarray] = field(
        default_factory=list
    )  # of each column: equal, changed, filled, emptied
    differing: list[list[tuple[np.ndarray, np.ndarray]]] = field(
        default_factory=list
    )  # of each column: row numbers before and after


def compare(
    before: Source,
    after: Source,
    key: Sequence[str] = (),
    how: How | None = None,
    context: Given | None = None,
    memory: int = DEFAULT_MEMORY,
) -> tuple[Compared, Iterator[CellDiff]]:
    """What differs between two tables, and every cell that does, fetched as it is asked for.
    Without a key rows are matched as a multiset. `memory`: bytes for what is known of the rows.
    Raises Diagnostic, CallProblem, TableProblem.
    """
    how = how or How()
    if how.within is not None and not key:
        raise CallProblem("--within compares cells of rows that have a key", hint="--key COLUMN")
    try:
        return _compared(before, after, key, how, context, memory, guess=True)
    except InferredTypeRefuted:
        return _compared(before, after, key, how, context, memory, guess=False)


def _compared(
    before: Source,
    after: Source,
    key: Sequence[str],
    how: How,
    context: Given | None,
    memory: int,
    *,
    guess: bool,
) -> tuple[Compared, Iterator[CellDiff]]:
    columns, lost, gained, types = _columns(before, after, how, guess)
    keyed = [_key(columns, before, name) for name in key]
    sides = [
        _side(table, index, columns, keyed, how, context, memory)
        for index, table in enumerate((before, after))
    ]
    width = 3 + (len(columns) if key else 0)
    parts = (
        1
        if how.within is not None
        else max(1, min(_PARTS, -(-sum(side.rows for side in sides) * width * _WORD // memory)))
    )
    matches = _Matches(
        cells=[np.zeros(4, np.int64) for _ in columns], differing=[[] for _ in columns]
    )
    for ours, theirs in zip(*(side.parts(parts) for side in sides), strict=True):
        _match(columns, ours, theirs, how, bool(key), matches)
    alone = [np.sort(np.concatenate([np.zeros(0, np.int64), *rows])) for rows in matches.alone]
    differing = [_in_order(pairs) for pairs in matches.differing]

    def every(most: int | None = None) -> Iterator[CellDiff]:
        return _differences(before, after, columns, keyed, differing, most)

    cells = tuple(
        Cells(column.name, column.name, *counts)
        for column, counts in zip(columns, (cell.tolist() for cell in matches.cells), strict=True)
    )
    keys = [
        Keys(repeated, rows, side.null) if key else Keys(0, 0, 0)
        for (repeated, rows), side in zip(matches.repeated, sides, strict=True)
    ]
    result = Compared(
        before.name,
        after.name,
        tuple(columns[index].name for index in keyed),
        sides[0].rows,
        sides[1].rows,
        matches.both,
        len(alone[0]),
        len(alone[1]),
        keys[0],
        keys[1],
        cells,
        lost,
        gained,
        types,
        matches.changed,
        tuple(every(EXAMPLES)),
        _alone(before, columns, keyed, 0, alone[0]),
        _alone(after, columns, keyed, 1, alone[1]),
        how.told,
        sides[0].malformed,
        sides[1].malformed,
        tuple(f"{table.name}: {note}" for table in (before, after) for note in table.notes),
        (before.read_as, after.read_as),
    )
    return result, every()


def _in_order(pairs: Sequence[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    """Row numbers before and after of the cells that differ, in the order of before."""
    old, new = (
        np.concatenate([np.zeros(0, np.int64), *(pair[side] for pair in pairs)]) for side in (0, 1)
    )
    order = np.argsort(old, kind="stable")
    return old[order], new[order]


def _columns(
    before: Source, after: Source, how: How, guess: bool
) -> tuple[list[_Column], tuple[str, ...], tuple[str, ...], tuple[tuple[str, str, str], ...]]:
    """The columns of both sides, those of one alone, and those whose types differ."""
    pairs = dict(how.pairs)
    for old, new in pairs.items():
        for name, table in ((old, before), (new, after)):
            if name not in table.columns:
                near = nearest(name, list(table.columns))
                raise CallProblem(
                    f"{table.name} has no column {name}",
                    hint=f"did you mean {near}?" if near else "",
                )
    kinds = [
        (table.guess if guess else table.types)(list(range(len(table.columns))))
        for table in (before, after)
    ]
    columns, types = [], []
    taken = set(pairs.values())
    for at, name in enumerate(before.columns):
        other = pairs.get(name, name if name not in taken else None)
        if other is None or other not in after.columns:
            continue
        place = after.columns.index(other)
        a, b = kinds[0][at], kinds[1][place]
        if a.kind is not b.kind and not (a.kind in NUMBERS and b.kind in NUMBERS):
            types.append((name, str(a), str(b)))
        both = common(a, b) if a != TEXT and b != TEXT else None
        kind = TEXT if both is None or both.kind is Kind.NULL else both
        scale = max((item.scale for item in (a, b) if item.kind is Kind.DECIMAL), default=0)
        if how.within is not None:
            scale = max(scale, -int(how.within.as_tuple().exponent))
        columns.append(_Column(name, at, place, kind, scale))
    ours, theirs = {column.before for column in columns}, {column.after for column in columns}
    lost = tuple(name for position, name in enumerate(before.columns) if position not in ours)
    gained = tuple(name for position, name in enumerate(after.columns) if position not in theirs)
    return columns, lost, gained, tuple(types)


def _key(columns: list[_Column], before: Source, name: str) -> int:
    place = find_column(tree.Name(0, len(name), name), before.columns, name)
    result = next((index for index, column in enumerate(columns) if column.before == place), None)
    if result is None:
        raise CallProblem(
            f"the key {name} is not among the columns of both tables",
            hint=f'--map "{name}=NEW" if it has another name',
        )
    return result


# -- reading a side
def _side(
    table: Source,
    index: int,
    columns: list[_Column],
    keyed: list[int],
    how: How,
    context: Given | None,
    memory: int,
) -> _Side:
    condition, scope = _condition(table, how, context)

    def work(
        batch: Batch,
    ) -> tuple[Batch, np.ndarray, np.ndarray, np.ndarray, list[np.ndarray], dict[int, np.ndarray]]:
        keep = None
        if condition is not None:
            keep = run(condition, frame_of(batch, scope)).true(batch.count)
            chosen = pa.array(keep)
            batch = Batch(
                batch.rows[keep],
                [None if item is None else item.filter(chosen) for item in batch.columns],
                batch.malformed,
            )
        values = [
            _value(batch.columns[(column.before, column.after)[index]], column, how)
            for column in columns
        ]
        hashed = [hashes(value) for value in values]
        of = keyed or list(range(len(columns)))
        plain = [
            (
                _value(batch.columns[(columns[i].before, columns[i].after)[index]], columns[i], how)
                if i in keyed
                else values[i]
            )
            for i in of
        ]
        known = np.ones(batch.count, bool)
        for entry in plain if keyed else ():
            if entry.null_count:
                known &= pc.is_valid(entry).to_numpy(zero_copy_only=False)
        keys = mixed([hashed[i] for i in of]) if columns else np.zeros(batch.count, np.uint64)
        second = (
            mixed([hashes(item, True) for item in plain], True)
            if columns
            else np.zeros(batch.count, np.uint64)
        )
        near = {
            i: _number(values[i], columns[i])
            for i in range(len(columns))
            if how.within is not None and columns[i].type.kind in NUMBERS
        }
        return batch, keys, second, known, [] if not keyed else hashed, near

    side, size = _Side(), 0
    for batch, element, two, there, hashed, near in scan(table, work):
        side.rows += batch.count
        side.null += batch.count - int(there.sum())
        side.malformed += batch.malformed
        arrays = [element, two, batch.rows, *hashed, *near.values()]
        side.held.append(arrays if there.all() else [array[there] for array in arrays])
        size += sum(array.nbytes for array in side.held[-1])
        if how.within is None and size > memory // 4:
            side.spill()
            size = 0
    if not side.rows:
        words = 2 + (len(columns) if keyed else 0)
        measured = sum(how.within is not None and column.type.kind in NUMBERS for column in columns)
        nothing = [np.zeros(0, np.uint64)] * words + [np.zeros(0, np.int64)] * measured
        side.held.append([*nothing[:2], np.zeros(0, np.int64), *nothing[2:]])
    return side


def _number(values: pa.Array, column: _Column) -> np.ndarray:
    """Numbers as integers of the column's scale, exactly; a DOUBLE as it is."""
    if column.type.kind is Kind.DOUBLE:
        result: np.ndarray = values.fill_null(0).to_numpy(zero_copy_only=False)
        return result
    whole = arithmetic.unscaled(values.cast(pa.decimal128(38, column.scale)))
    # Python's integers where a difference in 64 bits could overflow.
    return (
        whole.astype(object)
        if len(whole) and max(abs(int(whole.min())), abs(int(whole.max()))) >= 2**62
        else whole
    )


def _condition(
    table: Source, how: How, context: Given | None
) -> tuple[nodes.Expression | None, Scope]:
    if how.where is None:
        return None, Scope((), (), frozenset(), context or Given())
    scope = scope_of(
        table, columns_named([(parse.expression(how.where), how.where)], table.columns), context
    )
    with explaining(table, scope):
        return bind_condition(how.where, scope), scope


def _value(stored: pa.Array, column: _Column, how: How) -> pa.Array:
    """A column's values as they are compared; texts that fit no type are compared as texts."""
    if column.type == TEXT:
        return _spelled(text_of(stored), how)
    result = view(stored, column.type)
    return result.values if result.errors is None else stored


def _spelled(texts: pa.Array, how: How) -> pa.Array:
    result = texts
    if how.ignore_spaces:
        result = tidy_spaces(result)
    return upper(result) if how.ignore_case else result


# -- matching
def _match(
    columns: list[_Column],
    before: _KeyRange,
    after: _KeyRange,
    how: How,
    keyed: bool,
    matches: _Matches,
) -> None:
    """Match the rows of two parts: the first row of a key with the first, and so on; count what
    differs."""
    orders = ascending(before.keys), ascending(after.keys)
    keys = before.keys[orders[0]], after.keys[orders[1]]
    old, new = (order[places] for order, places in zip(orders, _pairs(*keys), strict=True))
    # In the order of before: tables that are alike are then read from one end to the other.
    partner = np.full(len(before.keys), -1)
    partner[old] = new
    first_rows = np.flatnonzero(partner >= 0)
    two = partner[first_rows]
    good = before.second[first_rows] == after.second[two]
    first_rows, two = first_rows[good], two[good]
    matches.both += len(first_rows)
    for side, part, matched in ((0, before, first_rows), (1, after, two)):
        apart = np.ones(len(part.rows), bool)
        apart[matched] = False
        matches.alone[side].append(part.rows[apart])
        if keyed:
            counts = np.diff(np.append(_starts(keys[side]), len(keys[side])))
            matches.repeated[side][0] += int((counts > 1).sum())
            matches.repeated[side][1] += int(counts[counts > 1].sum())
    if not keyed:
        for counted in matches.cells:
            counted[0] += len(first_rows)
        return
    changed = np.zeros(len(first_rows), bool)
    near = [
        position
        for position, column in enumerate(columns)
        if how.within is not None and column.type.kind in NUMBERS
    ]
    for at, column in enumerate(columns):
        a, b = before.others[at][first_rows], after.others[at][two]
        was, now = a == NULL_HASH, b == NULL_HASH
        differs = a != b
        if at in near:
            place = len(columns) + near.index(at)
            differs &= (
                ~_close(before.others[place][first_rows], after.others[place][two], column, how)
                | was
                | now
            )
        filled, emptied = differs & was, differs & now
        matches.cells[at] += [
            (~differs).sum(),
            (differs & ~was & ~now).sum(),
            filled.sum(),
            emptied.sum(),
        ]
        if differs.any():
            matches.differing[at].append(
                (before.rows[first_rows[differs]], after.rows[two[differs]])
            )
        changed |= differs
    matches.changed += int(changed.sum())


def _starts(keys: np.ndarray) -> np.ndarray:
    """Where each value begins."""
    changes = np.flatnonzero(keys[1:] != keys[:-1]) + 1
    return np.concatenate([np.zeros(min(1, len(keys)), np.int64), changes])


def _pairs(before: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places of what both have, both ascending: the first of a value with the first of it, the
    second with the second."""
    starts = _starts(before)
    sizes = np.diff(np.append(starts, len(before)))
    places = np.searchsorted(after, before)
    places += np.arange(len(before)) - np.repeat(starts, sizes)
    there = places < len(after)
    there[there] = after[places[there]] == before[there]
    return np.flatnonzero(there), places[there]


def _close(a: np.ndarray, b: np.ndarray, column: _Column, how: How) -> np.ndarray:
    """Where two numbers are within the distance."""
    assert how.within is not None
    if column.type.kind is Kind.DOUBLE:
        near: np.ndarray = np.abs(a - b) <= float(how.within)
        return near
    most = int(how.within.scaleb(column.scale))
    if a.dtype == object or b.dtype == object:
        return np.array([abs(int(x) - int(y)) <= most for x, y in zip(a, b, strict=True)], bool)
    # Each is below 2^62, so that their difference cannot pass 64 bits.
    near = np.abs(a - b) <= most
    return near


# -- what is shown
def _texts(
    table: Source, rows: np.ndarray, places: Sequence[int]
) -> dict[int, tuple[str | None, ...]]:
    """Texts of some columns of some source rows."""
    results: dict[int, tuple[str | None, ...]] = {}
    if not len(rows):
        return results
    wanted = distinct_values(rows)
    for piece in table.holding(wanted.tolist()):
        batch = table.read(piece, sorted(set(places))).texts()
        index = np.flatnonzero(member(batch.rows, wanted))
        chosen = pa.array(index)
        cells = [batch.columns[place].take(chosen).to_pylist() for place in places]
        results |= dict(zip(batch.rows[index].tolist(), zip(*cells, strict=True), strict=True))
    return results


def _differences(
    before: Source,
    after: Source,
    columns: list[_Column],
    keyed: list[int],
    differing: list[tuple[np.ndarray, np.ndarray]],
    most: int | None,
) -> Iterator[CellDiff]:
    """Cells that differ, column by column in the order of before's rows; of each column the first
    `most`."""
    for column, (every_old, every_new) in zip(columns, differing, strict=True):
        for begin in range(0, len(every_old[:most]), 100_000):
            old, new = (
                every_old[:most][begin : begin + 100_000],
                every_new[:most][begin : begin + 100_000],
            )
            keys = [columns[index].before for index in keyed]
            was = _texts(before, old, [*keys, column.before])
            now = _texts(after, new, [column.after])
            for a, b in zip(old.tolist(), new.tolist(), strict=True):
                *key, text = was[a]
                yield CellDiff(tuple(key), column.name, text, now[b][0], a, b)


def _alone(
    table: Source, columns: list[_Column], keyed: list[int], side: int, alone: np.ndarray
) -> tuple[Alone, ...]:
    rows = alone[:EXAMPLES]
    keys = [(columns[index].before, columns[index].after)[side] for index in keyed]
    every = list(range(len(table.columns)))
    result = _texts(table, rows, [*keys, *every])
    return tuple(
        Alone(row, result[row][: len(keys)], result[row][len(keys) :]) for row in rows.tolist()
    )
