"""Comparing two tables: rows are matched by hashes of their keys, cells by hashes of their values;
what is shown is fetched after."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

import numpy as np

from gravel.comparing.how import ColumnPair, How, pair_columns
from gravel.comparing.matching import Matches, RowMatcher
from gravel.comparing.result import Alone, CellDiff, Cells, Compared, ComparedTable, Sides
from gravel.comparing.side import ROWS, Condition, SideState
from gravel.engine.engine import OfBatch
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.sets import distinct_values, member
from gravel.inspecting.binding import columns_named, explaining, scope_of
from gravel.inspecting.count import count_table
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.bind import Given, bind_condition, find_column
from gravel.language.types import Type
from gravel.language.writing import quoted
from gravel.problems import CallProblem
from gravel.profiling.column_kind import is_identifier
from gravel.sources.source import Batch, InferredTypeRefuted, Source

EXAMPLES = 5
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
    pairs = pair_columns(before, after, how, partial(_types_of, guess))
    columns = pairs.both
    if not columns:
        raise CallProblem(
            f"{before.name} and {after.name} have no column in common that is compared",
            detail=f"{', '.join(before.columns[:8])} / {', '.join(after.columns[:8])}",
            hint='--map "OLD=NEW" pairs columns of other names',
        )
    keyed = tuple(dict.fromkeys(_key(columns, before, name) for name in key))
    sides = [
        SideState(index, columns, keyed, how, _condition(table, how, context), memory)
        for index, table in enumerate((before, after))
    ]
    for side, table in zip(sides, (before, after), strict=True):
        table.engine.run(side, table)
    width = 3 + (len(columns) if key else 0)
    size = sum(side.rows for side in sides) * width * _WORD
    ranges = 1 if how.within is not None else max(1, min(_PARTS, -(-size // memory)))
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


def _condition(table: Source, how: How, context: Given | None) -> Condition | None:
    if how.where is None:
        return None
    named = columns_named([(parse.expression(how.where), how.where)], table.columns)
    scope = scope_of(table, named, context)
    with explaining(table, scope):
        return Condition(bind_condition(how.where, scope), scope.types)


# -- what is shown
def _texts(
    table: Source, rows: np.ndarray, places: Sequence[int]
) -> dict[int, tuple[str | None, ...]]:
    """Texts of some columns of some source rows."""
    results: dict[int, tuple[str | None, ...]] = {}
    if len(rows):
        wanted = distinct_values(rows)
        work = OfBatch(partial(_texts_in, wanted, places), sorted(set(places)))
        splits = table.holding(wanted.tolist())
        for part in table.engine.map_splits(table, work, work.wanted, splits):
            results |= part
    return results


def _texts_in(
    wanted: np.ndarray, places: Sequence[int], batch: Batch
) -> dict[int, tuple[str | None, ...]]:
    chosen = np.flatnonzero(member(batch.rows, wanted))
    texts = batch.texts().columns
    cells = [texts[place].take(to_arrow(chosen)).to_pylist() for place in places]
    return dict(zip(batch.rows[chosen].tolist(), zip(*cells, strict=True), strict=True))


def _differences(
    before: Source,
    after: Source,
    columns: Sequence[ColumnPair],
    keyed: Sequence[int],
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
            names = [columns[index].name for index in keyed]
            was = _texts(before, old, [*keys, column.before])
            now = _texts(after, new, [column.after])
            for a, b in zip(old.tolist(), new.tolist(), strict=True):
                *key, text = was[a]
                named = dict(zip(names, key, strict=True))
                yield CellDiff(named, column.name, text, now[b][0], a, b)


def _alone(
    table: Source, columns: Sequence[ColumnPair], keyed: Sequence[int], side: int, alone: np.ndarray
) -> tuple[Alone, ...]:
    rows = alone[:EXAMPLES]
    keys = [columns[index].place(side) for index in keyed]
    every = list(range(len(table.columns)))
    result = _texts(table, rows, [*keys, *every])
    names = [columns[index].name for index in keyed]
    return tuple(
        Alone(row, dict(zip(names, result[row], strict=False)), result[row][len(keys) :])
        for row in rows.tolist()
    )
