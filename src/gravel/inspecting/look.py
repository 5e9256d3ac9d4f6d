"""Rows of a table: filtered, sorted, with computed columns beside those they read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.arrow_values import text_of
from gravel.engine.engine import OfBatch
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.sets import member
from gravel.engine.vector import Vector
from gravel.figures import Figures, NumberOf, Scalar, Unlisted, figure
from gravel.inspecting.binding import (
    columns_named,
    explaining,
    reads,
    scope_of,
    split_list,
    with_quotes,
)
from gravel.inspecting.cautions import BranchCount, Caution, Sightings, Watch
from gravel.inspecting.cells import Cell, cells, json_value
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, parse, tree
from gravel.language.bind import bind, bind_condition
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.ordering import sortable
from gravel.language.scope import Given, Scope
from gravel.language.types import TEXT, Type
from gravel.problems import CallProblem
from gravel.sources.source import Batch, Malformed, Source, scan


class ShownColumn(Struct, frozen=True):
    """A column of the view; `computed` ones come from a --show, and `asked` ones too, or the
    condition or the order reads them."""

    name: str
    type: Type
    computed: bool
    asked: bool


@dataclass(frozen=True)
class ShownRow(Figures):
    """A row of the view: its number in the source, and its cells by column."""

    row: int
    values: dict[str, Scalar | dict[str, Any]]


@dataclass(frozen=True)
class View(Figures):
    """What `gravel look` shows. `cells` has a list a shown column, one cell a shown row;
    `row_numbers` are source rows. unknown, errors: rows whose condition is unknown or fails; they
    do not match, and are not forgotten.
    """

    table: str
    rows: int
    matching: int
    unknown: int
    errors: int
    columns: Unlisted[tuple[ShownColumn, ...]]
    row_numbers: Unlisted[tuple[int, ...]]
    cells: Unlisted[tuple[list[Cell], ...]]
    where: Unlisted[str | None]
    sort_errors: Unlisted[int]
    cautions: tuple[Caution, ...]
    branches: tuple[BranchCount, ...]
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    remarks: tuple[str, ...] = ()

    @property
    @figure
    def types(self) -> dict[str, str]:
        """The types of the columns shown. A text file's column is a number of some kind, without a
        declared precision; a computed one has its own."""
        return {
            column.name: str(column.type) if column.computed else column.type.kind.value
            for column in self.columns
        }

    @property
    @figure
    def shown(self) -> tuple[ShownRow, ...]:
        """The rows shown."""
        named = list(zip(self.columns, self.cells, strict=True))
        return tuple(
            ShownRow(
                row,
                {
                    column.name: json_value(cells[index], column.type.kind)
                    for column, cells in named
                },
            )
            for index, row in enumerate(self.row_numbers)
        )


def look(
    table: Source,
    *,
    columns: str | None = None,
    where: str | None = None,
    show: Sequence[str] = (),
    sort: str | None = None,
    rows: int | None = 20,
    random: int | None = None,
    given: Given | None = None,
) -> View:
    """The first `rows` rows (None: all) that match, or `random` ones, each as likely, in their
    order. Raises Diagnostic, TableProblem, CallProblem."""
    if random is not None and sort:
        raise CallProblem("rows are drawn at random, or sorted", hint="leave out --sort")
    chosen = split_list(columns, table.columns) if columns else list(range(len(table.columns)))
    shows = [parse.named(text) for text in show]
    sort = with_quotes(sort, table.columns) if sort else None
    sorts = parse.sort_list(sort) if sort else []
    names = [item.name for item in shows]
    _refuse_repeated(names, [table.columns[index] for index in chosen], show)
    syntax = [(item.expression, text) for item, text in zip(shows, show, strict=True)]
    condition = (parse.expression(where), where) if where else None
    picks = [*([condition] if condition else []), *([(sorts, sort)] if sort else [])]
    asked = set(columns_named(picks, table.columns, names))
    read = columns_named([*syntax, *picks], table.columns, names)
    scope = scope_of(table, sorted({*read, *chosen}), given)
    with explaining(table, scope):
        test = bind_condition(where, scope) if where else None
    computed: list[nodes.Expression] = []
    for entry, text in zip(shows, show, strict=True):
        # A --show may read those before it: each is a column of the scope from then on.
        with explaining(table, scope):
            output = bind(entry.expression, scope, text)
        computed.append(output)
        scope = Scope(
            (*scope.names, entry.name), (*scope.types, output.type), scope.declared, scope.given
        )
    keys = [bind(key.expression, scope, sort or "") for key in sorts]
    # A condition meets every row, a computed column those that match.
    where_watch = Watch([(test, where)] if test is not None and where else [])
    show_watch = Watch(zip(computed, show, strict=True))
    matcher = Matcher(
        len(table.columns), scope.types, test, computed, keys, sorts, where_watch, show_watch
    )
    result = (
        matcher.random_rows(table, random)
        if random is not None
        else matcher.sorted_rows(table, rows)
        if sorts
        else matcher.first_rows(table, rows)
    )
    width = len(table.columns)
    order = _order(chosen, computed, width)
    kept = [*(scope.types[:width]), *(x.type for x in computed)]
    shown = tuple(
        ShownColumn(scope.names[i], kept[i], i >= width, i >= width or i in asked) for i in order
    )
    return View(
        table.name,
        result.total.rows,
        result.total.matching,
        result.total.unknown,
        result.total.errors,
        shown,
        tuple(int(row) for row in result.rows),
        tuple(result.columns[i] for i in order),
        where,
        result.sort_errors,
        (*where_watch.cautions(), *show_watch.cautions(), *result.ties),
        (*where_watch.branches(), *show_watch.branches()),
        result.total.malformed,
        tuple(table.notes),
        table.read_as,
        tuple(dict.fromkeys((*where_watch.days(), *show_watch.days()))),
    )


def _refuse_repeated(names: list[str], columns: list[str], texts: Sequence[str]) -> None:
    for index, name in enumerate(names):
        if name in names[:index] or name in columns:
            raise Diagnostic(
                f"there is a column {name} already",
                texts[index],
                0,
                len(texts[index]),
                hint="name it: … AS another_name",
            )


def _order(chosen: list[int], computed: list[nodes.Expression], width: int) -> list[int]:
    """Positions of the shown columns: a computed one right after the last shown column that it
    reads."""
    order = list(chosen)
    for offset, expression in enumerate(computed):
        read = [
            order.index(column.index)
            for column in nodes.columns_read(expression)
            if column.index in order
        ]
        place = max(read) + 1 if read else len(order)
        # Behind earlier computed columns of the same source, so that they keep the order they were
        # given in.
        while read and place < len(order) and order[place] >= width:
            place += 1
        order.insert(place, width + offset)
    return order


class _MatchCounts(Struct, frozen=True):
    rows: int = 0
    matching: int = 0
    unknown: int = 0
    errors: int = 0
    malformed: tuple[Malformed, ...] = ()
    where_seen: Sightings | None = None
    show_seen: Sightings | None = None

    def merge(self, other: _MatchCounts) -> _MatchCounts:
        return _MatchCounts(
            self.rows + other.rows,
            self.matching + other.matching,
            self.unknown + other.unknown,
            self.errors + other.errors,
            self.malformed + other.malformed,
        )


class _MatchedRows(Struct, frozen=True):
    total: _MatchCounts
    rows: np.ndarray
    columns: list[list[Cell]]
    sort_errors: int = 0
    ties: tuple[Caution, ...] = ()


class _SortKeys(Struct, frozen=True):
    """Numbers of rows, in their order, and their sort keys. `beyond`: how many rows that are not
    among them have the keys of the last in order; `failed`: how many keys failed."""

    rows: np.ndarray
    keys: list[pa.Array]
    beyond: int
    failed: int

    @classmethod
    def of(
        cls, parts: Sequence[_SortKeys], count: int | None, sorts: Sequence[tree.SortKey]
    ) -> _SortKeys:
        """The rows of parts in the order of the table; of more than a count its first in order. No
        part has more than these."""
        rows = np.concatenate([part.rows for part in parts])
        keys = [
            pa.concat_arrays(chunks) for chunks in zip(*(part.keys for part in parts), strict=True)
        ]
        failed = sum(part.failed for part in parts)
        if count is None or len(rows) <= count:
            return cls(rows, keys, sum(part.beyond for part in parts), failed)
        order = sort_order(keys, sorts)
        chosen = np.sort(order[:count])
        first = cls(rows[chosen], [key.take(to_arrow(chosen)) for key in keys], 0, failed)
        if not count:
            return first
        # What a part left out comes after its own last row, or has that one's keys.
        tied = _alike(keys, int(order[count - 1]))
        beyond, start = int(tied[order[count:]].sum()), 0
        for part in parts:
            end = start + len(part.rows)
            mine = order[(order >= start) & (order < end)]
            beyond += part.beyond if len(mine) and tied[mine[-1]] else 0
            start = end
        return replace(first, beyond=beyond)


class Matcher:
    """What is looked for, bound to columns of these `types`, of which the table has the first
    `width`. It pickles: its work on batches is done on any thread or machine. `left`: the rows that
    are still to be shown, None for all."""

    def __init__(
        self,
        width: int,
        types: Sequence[Type],
        test: nodes.Expression | None,
        computed: list[nodes.Expression],
        keys: list[nodes.Expression],
        sorts: list[tree.SortKey],
        where_watch: Watch,
        show_watch: Watch,
    ) -> None:
        self.width, self.types, self.test, self.computed = width, types, test, computed
        self.keys, self.sorts = keys, sorts
        self.where_watch, self.show_watch = where_watch, show_watch
        self.left: int | None = None

    def matching(self, batch: Batch) -> tuple[_MatchCounts, np.ndarray]:
        """Counts of a batch, and the indices of its matching rows."""
        if self.test is None:
            return _MatchCounts(batch.count, batch.count, 0, 0, batch.malformed), np.arange(
                batch.count
            )
        frame = Frame(batch.count, batch.columns, self.types).remembering()
        decided = run(self.test, frame)
        match, failed = decided.true(batch.count), decided.failed(batch.count)
        unknown = batch.count - int((match | failed | decided.false(batch.count)).sum())
        counts = _MatchCounts(
            batch.count, int(match.sum()), unknown, int(failed.sum()), batch.malformed
        )
        return replace(counts, where_seen=self.where_watch.count(frame)), np.flatnonzero(match)

    def counted(self, batch: Batch) -> tuple[_MatchCounts, np.ndarray]:
        """The same, with what the computed columns' watch sees in the matching rows."""
        counts, rows = self.matching(batch)
        if not self.computed:
            return replace(counts, show_seen=self.show_watch.seen), rows
        part = [None if column is None else column.take(to_arrow(rows)) for column in batch.columns]
        seen = self.show_watch.count(self.frame(part, len(rows)).remembering())
        return replace(counts, show_seen=seen), rows

    def conditions(self) -> list[nodes.Expression]:
        """What is evaluated in every row, or in those that match."""
        return [*([self.test] if self.test is not None else []), *self.computed]

    def first(self, batch: Batch) -> tuple[_MatchCounts, np.ndarray, list[list[Cell]]]:
        """Counts of a batch, and its first matching rows with their cells, as many as may be
        left."""
        counts, rows = self.counted(batch)
        take = rows if self.left is None else rows[: self.left]
        return counts, batch.rows[take], self.cells(batch, take) if len(take) else []

    def first_rows(self, table: Source, limit: int | None) -> _MatchedRows:
        """The first matching rows, and counts over all."""
        wanted = None if limit is None or limit else reads(self.conditions(), self.width)
        total, kept, numbers = _MatchCounts(), [], []
        self.left = limit
        for counts, rows, columns in scan(table, self.first, wanted):
            total = self.merged(total, counts)
            take = slice(self.left)
            if len(rows[take]):
                numbers.append(rows[take])
                kept.append([column[take] for column in columns])
                self.left = None if self.left is None else self.left - len(rows[take])
        return self.found(total, numbers, kept)

    def numbers(self, batch: Batch) -> tuple[_MatchCounts, np.ndarray]:
        """Counts of a batch, and the numbers of its matching rows."""
        counts, rows = self.counted(batch)
        return counts, batch.rows[rows]

    def random_rows(self, table: Source, count: int) -> _MatchedRows:
        """Some of the matching rows, drawn at random, in their order; and counts over all."""
        total, numbers = _MatchCounts(), [np.zeros(0, np.int64)]
        for counts, rows in scan(table, self.numbers, reads(self.conditions(), self.width)):
            total = self.merged(total, counts)
            numbers.append(rows)
        every = np.concatenate(numbers)
        drawn = np.random.default_rng().choice(len(every), min(count, len(every)), replace=False)
        return self.gather(table, total, every[np.sort(drawn)], 0)

    def found(
        self,
        total: _MatchCounts,
        numbers: list[np.ndarray],
        kept: list[list[list[Cell]]],
        sort_errors: int = 0,
    ) -> _MatchedRows:
        """The rows of some batches together."""
        width = self.width + len(self.computed)
        columns = [[cell for part in kept for cell in part[index]] for index in range(width)]
        return _MatchedRows(
            total,
            np.concatenate(numbers) if numbers else np.zeros(0, np.int64),
            columns,
            sort_errors,
        )

    def frame(self, columns: list[pa.Array | None], count: int) -> Frame:
        """The rows with their computed columns, each visible to those after it."""
        stored = [*columns, *([None] * len(self.computed))]
        frame = Frame(count, stored, self.types)
        for offset, expression in enumerate(self.computed):
            frame._views[self.width + offset] = run(expression, frame)
        return frame

    def cells(self, batch: Batch, rows: np.ndarray) -> list[list[Cell]]:
        """The cells of some rows of a batch: a table's column as it is stored, a computed one as
        its text."""
        part = [None if column is None else column.take(to_arrow(rows)) for column in batch.columns]
        frame = self.frame(part, len(rows))
        results = [
            [] if column is None else cells(Vector(text_of(column, self.types[i])), TEXT)
            for i, column in enumerate(part)
        ]
        for offset, expression in enumerate(self.computed):
            results.append(cells(frame.column(self.width + offset), expression.type))
        return results

    def sort_keys(self, batch: Batch) -> tuple[_MatchCounts, _SortKeys]:
        """Counts of a batch, and the sort keys of its matching rows: of the first in order, where
        only so many may be shown."""
        counts, rows = self.matching(batch)
        part = [None if column is None else column.take(to_arrow(rows)) for column in batch.columns]
        frame = self.frame(part, len(rows))
        results = [run(key, frame) for key in self.keys]
        failed = np.zeros(len(rows), bool)
        for entry in results:
            failed |= entry.failed(len(rows))
        if self.computed:
            counts = replace(counts, show_seen=self.show_watch.count(frame.remembering()))
        keys = [item.spread(len(rows)).values for item in results]
        keyed = _SortKeys(batch.rows[rows], keys, 0, int(failed.sum()))
        return counts, _SortKeys.of([keyed], self.left, self.sorts)

    def sorted_rows(self, table: Source, limit: int | None) -> _MatchedRows:
        """The first rows in order: their sort keys first, then only the chosen rows are read
        again."""
        total, parts = _MatchCounts(), list[_SortKeys]()
        self.left = limit
        needed = reads([*self.conditions(), *self.keys], self.width)
        for counts, keyed in scan(table, self.sort_keys, needed):
            total = self.merged(total, counts)
            parts.append(keyed)
            if limit is not None:
                parts = [_SortKeys.of(parts, limit, self.sorts)]
        if not parts:
            return self.found(total, [], [])
        kept = _SortKeys.of(parts, limit, self.sorts)
        order = sort_order(kept.keys, self.sorts)
        result = self.gather(table, total, kept.rows[order], kept.failed)
        return replace(result, ties=_ties(kept, order))

    def merged(self, total: _MatchCounts, counts: _MatchCounts) -> _MatchCounts:
        """The counts of one batch more; the watches take in what they saw."""
        if counts.where_seen is not None:
            self.where_watch.add(counts.where_seen)
        if counts.show_seen is not None and self.computed:
            self.show_watch.add(counts.show_seen)
        return total.merge(counts)

    def picked(self, chosen: np.ndarray, batch: Batch) -> tuple[np.ndarray, list[list[Cell]]]:
        """Of some source rows, ascending, those that a batch has, with their cells."""
        rows = np.flatnonzero(member(batch.rows, chosen))
        return batch.rows[rows], self.cells(batch, rows)

    def gather(
        self, table: Source, total: _MatchCounts, chosen: np.ndarray, errors: int
    ) -> _MatchedRows:
        """The cells of these source rows, in this order; no other parts of the table are read."""
        ascending = np.sort(chosen)
        work = OfBatch(partial(self.picked, ascending))
        got = list(table.engine.map_splits(table, work, splits=table.holding(ascending.tolist())))
        result = self.found(total, [rows for rows, _ in got], [part for _, part in got], errors)
        place = {int(row): index for index, row in enumerate(result.rows)}
        order = [place[int(row)] for row in chosen]
        return _MatchedRows(
            total,
            chosen,
            [[column[i] for i in order] if column else [] for column in result.columns],
            errors,
        )


def _ties(kept: _SortKeys, order: np.ndarray) -> tuple[Caution, ...]:
    """A caution where rows of one sort key stand on both sides of the last row shown."""
    if not kept.beyond:
        return ()
    detail = (
        "share the sort key of the last row shown, and some of them are not shown: source row order"
        " decides which"
    )
    tied = int(_alike(kept.keys, int(order[-1])).sum()) + kept.beyond
    return (Caution("ties", tied, detail, "sort by a key too"),)


def _alike(keys: list[pa.Array], place: int) -> np.ndarray:
    """The rows whose keys are those of the row at a place."""
    rows = np.ones(len(keys[0]), bool)
    for key in keys:
        value = key[place]
        same = pc.equal(key, value) if value.is_valid else pc.is_null(key)
        rows &= pc.fill_null(same, False).to_numpy(zero_copy_only=False)
    return rows


def sort_order(keys: list[Any], sorts: Sequence[tree.SortKey]) -> np.ndarray:
    """Indices that sort rows by several keys: texts by code point, NULL last ascending and first
    descending unless said otherwise, ties in the order given."""
    table: dict[str, Any] = {}
    by = []
    for index, (key, sort) in enumerate(zip(keys, sorts, strict=True)):
        nulls_first = sort.descending if sort.nulls_first is None else sort.nulls_first
        if key.null_count:
            table[f"n{index}"] = pc.is_null(key)
            by.append((f"n{index}", "descending" if nulls_first else "ascending"))
        if pa.types.is_floating(key.type):
            # NaN is the greatest number; Arrow puts it last either way.
            table[f"f{index}"] = pc.fill_null(pc.is_nan(key), False)
            by.append((f"f{index}", "descending" if sort.descending else "ascending"))
        table[f"k{index}"] = sortable(key)
        by.append((f"k{index}", "descending" if sort.descending else "ascending"))
    rows = len(keys[0])
    table["row"] = to_arrow(np.arange(rows, dtype=np.int32 if rows < 2**31 else np.int64))
    by.append(("row", "ascending"))
    order: np.ndarray = pc.sort_indices(pa.table(table), sort_keys=by).to_numpy()
    return order
