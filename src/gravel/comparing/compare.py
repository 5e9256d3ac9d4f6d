"""Comparing two tables: rows are matched by hashes of their keys, cells by hashes of their values;
what is shown is fetched after."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import partial

import numpy as np
from msgspec import Struct

from gravel.comparing.how import ColumnPair, How, pair_columns
from gravel.comparing.matching import Matches, RowMatcher
from gravel.comparing.result import Alone, CellDiff, Cells, Compared, ComparedTable, Sides
from gravel.comparing.side import ROWS, SideState
from gravel.engine.engine import OfBatch
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.sets import distinct_values, member
from gravel.inspecting.binding import names_in
from gravel.inspecting.chosen_rows import choose_rows
from gravel.inspecting.count import count_table
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.scope import Given, find_column
from gravel.language.types import Type
from gravel.language.writing import quoted
from gravel.problems import CallProblem
from gravel.profiling.column_kind import is_identifier
from gravel.sources.source import Batch, InferredTypeRefuted, Source

EXAMPLES = 5
_AT_ONCE = 100_000  # cells that differ, of which the texts are held
_PARTS = 4096
_WORD = 40  # bytes that a word of a row takes while ranges are matched
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
    Both are read by the same engine. Raises Diagnostic, CallProblem, TableProblem.
    """
    how = how or How()
    if how.within is not None and not key:
        raise CallProblem("--within compares cells of rows that have a key", hint="--key COLUMN")
    if how.where is not None:
        before, after = (choose_rows(table, how.where, context)[0] for table in (before, after))
    try:
        return _compared(before, after, key, how, memory, guess=True)
    except InferredTypeRefuted:
        return _compared(before, after, key, how, memory, guess=False)


def _compared(
    before: Source, after: Source, key: Sequence[str], how: How, memory: int, *, guess: bool
) -> tuple[Compared, Iterator[CellDiff]]:
    pairs = pair_columns(before, after, how, partial(_types_of, guess))
    columns = pairs.both
    if not columns:
        raise CallProblem(
            f"{before.name} and {after.name} have no column in common that is compared",
            detail=f"{', '.join(before.columns[:8])} / {', '.join(after.columns[:8])}",
            hint='--map "OLD=NEW" pairs columns of other names',
        )
    names = names_in(key, before.columns)
    keyed = tuple(dict.fromkeys(_key(columns, before, name) for name in names))
    sides = [SideState(index, columns, keyed, how, memory) for index in range(2)]
    for side, table in zip(sides, (before, after), strict=True):
        table.engine.run(side, table)
    width = 3 + sides[0].distinct[ROWS].others
    size = sum(side.rows for side in sides) * width * _WORD
    ranges = max(1, min(_PARTS, -(-size // memory)))
    matches = Matches.none(len(columns))
    matcher = RowMatcher(columns, bool(key), how)
    rows_before, rows_after = (side.distinct[ROWS] for side in sides)
    for part in before.engine.match(rows_before, rows_after, matcher, ranges):
        matches.merge(part)
    alone = [matches.rows_alone(side) for side in (0, 1)]
    differing = [matches.cells_differing(index) for index in range(len(columns))]

    def every(most: int | None = None) -> Iterator[CellDiff]:
        return _differences(before, after, columns, keyed, differing, most)

    cells = tuple(
        Cells(column.name, *counts)
        for column, counts in zip(columns, matches.cells.tolist(), strict=True)
    )
    tables = [
        ComparedTable(table.name, side.rows, side.malformed, table.read_as)
        for table, side in zip((before, after), sides, strict=True)
    ]
    keys, rows = (Sides(*counts) if key else Sides(0, 0) for counts in matches.repeated.T.tolist())
    result = Compared(
        tables[0],
        tables[1],
        tuple(columns[index].name for index in keyed),
        matches.both,
        len(alone[0]),
        len(alone[1]),
        keys,
        rows,
        Sides(sides[0].null, sides[1].null) if key else Sides(0, 0),
        cells,
        pairs.lost,
        pairs.gained,
        pairs.types,
        matches.changed,
        tuple(every(EXAMPLES)),
        _alone(before, columns, keyed, 0, alone[0]),
        _alone(after, columns, keyed, 1, alone[1]),
        how.told,
        tuple(f"{table.name}: {note}" for table in (before, after) for note in table.notes),
    )
    return result, every()


def _types_of(guess: bool, table: Source) -> dict[int, Type]:
    every = list(range(len(table.columns)))
    return table.guess(every) if guess else table.types(every)


def _key(columns: Sequence[ColumnPair], before: Source, name: str) -> int:
    place = find_column(tree.Name(0, len(name), name), before.columns, name)
    result = next((index for index, column in enumerate(columns) if column.before == place), None)
    if result is None:
        raise CallProblem(
            f"the key {name} is not among the columns of both tables",
            hint=f'--map "{name}=NEW" if it has another name',
        )
    return result


# -- what is shown
def _texts(table: Source, wanted: Mapping[int, np.ndarray]) -> dict[int, dict[int, str | None]]:
    """By column the texts of some source rows."""
    results: dict[int, dict[int, str | None]] = {place: {} for place in wanted}
    wanted = {place: distinct_values(rows) for place, rows in wanted.items()}
    every = distinct_values(np.concatenate([np.zeros(0, np.int64), *wanted.values()]))
    if len(every):
        work = OfBatch(partial(_texts_in, wanted), sorted(wanted))
        splits = table.holding(every.tolist())
        for part in table.engine.map_splits(table, work, work.wanted, splits):
            for place, texts in part.items():
                results[place].update(texts)
    return results


def _texts_in(wanted: Mapping[int, np.ndarray], batch: Batch) -> dict[int, dict[int, str | None]]:
    columns, results = batch.texts().columns, {}
    for place, rows in wanted.items():
        chosen = np.flatnonzero(member(batch.rows, rows))
        texts = columns[place].take(to_arrow(chosen)).to_pylist()
        results[place] = dict(zip(batch.rows[chosen].tolist(), texts, strict=True))
    return results


class _Differing(Struct, frozen=True):
    """Rows whose cells in a column differ: the number before and after of each."""

    column: ColumnPair
    before: np.ndarray
    after: np.ndarray


def _differences(
    before: Source,
    after: Source,
    columns: Sequence[ColumnPair],
    keyed: Sequence[int],
    differing: list[tuple[np.ndarray, np.ndarray]],
    most: int | None,
) -> Iterator[CellDiff]:
    """Cells that differ, column by column in the order of before's rows; of each column the first
    `most`. Both tables are read once for so many of them, however many columns they are of."""
    keys = [columns[index].before for index in keyed]
    names = [columns[index].name for index in keyed]
    for parts in _bundles(columns, differing, most):
        olds: dict[int, list[np.ndarray]] = {}
        for part in parts:
            for place in (*keys, part.column.before):
                olds.setdefault(place, []).append(part.before)
        was = _texts(before, {place: np.concatenate(rows) for place, rows in olds.items()})
        now = _texts(after, {part.column.after: part.after for part in parts})
        for part in parts:
            for a, b in zip(part.before.tolist(), part.after.tolist(), strict=True):
                named = {name: was[place][a] for name, place in zip(names, keys, strict=True)}
                texts = was[part.column.before][a], now[part.column.after][b]
                yield CellDiff(named, part.column.name, *texts, a, b)


def _bundles(
    columns: Sequence[ColumnPair],
    differing: Sequence[tuple[np.ndarray, np.ndarray]],
    most: int | None,
) -> Iterator[list[_Differing]]:
    """The rows that differ, as many columns together as have so many cells; no column twice."""
    parts: list[_Differing] = []
    held = 0
    for column, (old, new) in zip(columns, differing, strict=True):
        for begin in range(0, len(old[:most]), _AT_ONCE):
            part = slice(begin, min(len(old[:most]), begin + _AT_ONCE))
            if parts and (held + part.stop - begin > _AT_ONCE or parts[-1].column is column):
                yield parts
                parts, held = [], 0
            parts.append(_Differing(column, old[part], new[part]))
            held += part.stop - begin
    if parts:
        yield parts


def _alone(
    table: Source, columns: Sequence[ColumnPair], keyed: Sequence[int], side: int, alone: np.ndarray
) -> tuple[Alone, ...]:
    rows = alone[:EXAMPLES]
    keys = [columns[index].place(side) for index in keyed]
    every = range(len(table.columns))
    texts = _texts(table, dict.fromkeys(every, rows))
    names = [columns[index].name for index in keyed]
    return tuple(
        Alone(
            row,
            {name: texts[place][row] for name, place in zip(names, keys, strict=True)},
            tuple(texts[place][row] for place in every),
        )
        for row in rows.tolist()
    )
