"""What a plan does to the table that it reads, row by row and cell by cell: what is to be changed,
taken away, added.

The first row of the output that comes from a source row is that row; more of them are rows to be
added; a source row that none comes from is to be taken away.
"""

from __future__ import annotations

import tempfile
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.sets import without
from gravel.figures import Figures, Unlisted, figure
from gravel.kernels.arrays import to_arrow
from gravel.language.types import TEXT
from gravel.ledger.fingerprint import canonical, kept_type
from gravel.plans.steps import BoundPlan
from gravel.problems import DataProblem
from gravel.sources.source import Batch, Source, scan
from gravel.words import number_of


class RowUpdates(Struct):
    """Rows that differ in the same columns: the keys of the source rows (texts, a column each),
    then the new cells."""

    columns: tuple[str, ...]
    texts: list[Any]

    @property
    def rows(self) -> int:
        """How many."""
        return len(self.texts[0])


@dataclass
class TableDiff(Figures):
    """All that is to be done. `updates`: by the columns that differ; `copies`: rows like the one
    that has their key but for all columns that a step touches; `made`: whole rows that come from no
    source row; `deletes`: keys. cells: by column, the cells that `updates` change."""

    key: Unlisted[tuple[str, ...]]
    updates: Unlisted[list[RowUpdates]] = field(default_factory=list)
    copies: Unlisted[RowUpdates | None] = None
    made: Unlisted[list[Any] | None] = None
    deletes: Unlisted[list[Any] | None] = None
    cells: dict[str, int] = field(default_factory=dict)

    @property
    @figure
    def updated(self) -> int:
        """Rows to be changed."""
        return sum(update.rows for update in self.updates)

    @property
    @figure
    def inserted(self) -> int:
        """Rows to be added."""
        return (0 if self.copies is None else self.copies.rows) + (
            0 if self.made is None else len(self.made[0])
        )

    @property
    @figure
    def deleted(self) -> int:
        """Rows to be taken away."""
        return 0 if self.deletes is None else len(self.deletes[0])

    @property
    def told(self) -> str:
        """In words."""
        cells = sum(self.cells.values())
        return (
            f"{number_of(self.updated)} changed ({number_of(cells, 'cell')}),"
            f" {self.deleted:,} deleted,"
            f" {self.inserted:,} inserted"
        )


def changes_of(plan: BoundPlan, output: Source, numbers: np.ndarray) -> TableDiff:
    """Compare the output with the plan's table; `numbers`: the source row of each row of the
    output, 0 for a made one. Raises DataProblem where a step has changed a key."""
    table = plan.table
    key = [table.columns[index] for index in plan.key]
    places = {name: index for index, name in enumerate(plan.names)}
    touched = [name for name in table.columns if plan.columns[places[name]].touched]
    first = np.zeros(len(numbers), bool)
    position = np.unique(numbers, return_index=True)[1]
    first[position] = True
    first[numbers == 0] = False
    updates: dict[tuple[str, ...], list[list[Any]]] = defaultdict(list)
    copies: list[list[Any]] = []
    results: list[list[Any]] = []
    cells: dict[str, int] = defaultdict(int)
    with tempfile.TemporaryDirectory(prefix="gravel-") as folder:
        source, known = _mapped(table, Path(folder, "source.arrow"))
        row = 0
        for batch in scan(output, lambda batch: batch):
            part = numbers[row : row + batch.count]
            is_first = first[row : row + batch.count]
            row += batch.count
            if (part == 0).any():
                selected = to_arrow(np.flatnonzero(part == 0))
                results.append(
                    [batch.columns[places[name]].take(selected) for name in table.columns]
                )
            ours = np.flatnonzero(part != 0)
            old = source.take(to_arrow(np.searchsorted(known, part[ours])))
            here = to_arrow(ours)
            differ = {}
            for name in touched:
                new = batch.columns[places[name]].take(here)
                was = _one(old.column(name))
                mask = _other(new, was)
                if mask.any():
                    # By value: 14 written into a column with two decimals is what it was if 14.00
                    # stands there.
                    kind = (
                        TEXT if name in table.spelt else kept_type(plan.columns[places[name]].type)
                    )
                    mask &= _other(canonical(new, kind), canonical(was, kind))
                if mask.any():
                    differ[name] = (mask, new)
            keys = [_one(old.column(name)) for name in key]
            _gather(updates, differ, keys, is_first[ours], cells)
            more = np.flatnonzero(~is_first[ours])
            if len(more):
                selected, there = to_arrow(more), to_arrow(ours[more])
                copies.append(
                    [item.take(selected) for item in keys]
                    + [batch.columns[places[name]].take(there) for name in touched]
                )
        bad = next((name for columns in updates for name in columns if name in key), None)
        if bad is not None:
            raise DataProblem(
                f"a step changes {bad}, which is the key that rows are found by",
                hint="a table in place keeps its keys; write a new table",
            )
        gone = without(known, numbers)
        deletes = None
        if len(gone):
            rows = source.take(to_arrow(np.searchsorted(known, gone)))
            deletes = [_one(rows.column(name)) for name in key]
    return TableDiff(
        tuple(key),
        [RowUpdates(columns, _end_to_end(subset)) for columns, subset in updates.items()],
        RowUpdates(tuple(touched), _end_to_end(copies)) if copies else None,
        _end_to_end(results) if results else None,
        deletes,
        dict(cells),
    )


def _other(new: pa.Array, was: pa.Array) -> np.ndarray:
    """Where two columns of texts differ; NULL is one value."""
    known: np.ndarray = pc.fill_null(pc.not_equal(new, was), False).to_numpy(zero_copy_only=False)
    return known | (
        pc.is_null(new).to_numpy(zero_copy_only=False)
        != pc.is_null(was).to_numpy(zero_copy_only=False)
    )


def _mapped(table: Source, path: Path) -> tuple[Any, np.ndarray]:
    """The source's rows as they are in a file in temporary memory, and their numbers."""
    schema = pa.schema([(name, pa.string()) for name in table.columns])
    numbers = []
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, schema) as writer:
        for batch in scan(table, Batch.texts):
            writer.write_batch(pa.record_batch(batch.columns, schema=schema))
            numbers.append(batch.rows)
    return pa.ipc.open_file(pa.memory_map(str(path))).read_all(), (
        np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
    )


def _one(column: pa.Array | pa.ChunkedArray) -> pa.Array:
    result = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    return (
        result
        if not isinstance(result, pa.ChunkedArray)
        else (result.chunk(0) if result.num_chunks else pa.array([], pa.string()))
    )


def _gather(
    into: dict[tuple[str, ...], list[list[Any]]],
    differ: dict[str, tuple[np.ndarray, Any]],
    keys: Sequence[pa.Array],
    concerned: np.ndarray,
    cells: dict[str, int],
) -> None:
    """The rows that differ, by the columns in which they do."""
    names = list(differ)
    if not names:
        return
    masks = np.array([differ[name][0] & concerned for name in names])
    picked = np.flatnonzero(masks.any(axis=0))
    if not len(picked):
        return
    # Each row's set of columns is packed into bytes, and rows of one set go together.
    sets, which = np.unique(np.packbits(masks, axis=0).T[picked], axis=0, return_inverse=True)
    for number in range(len(sets)):
        rows = picked[which.reshape(-1) == number]
        columns = tuple(name for index, name in enumerate(names) if masks[index, rows[0]])
        subset = to_arrow(rows)
        into[columns].append(
            [key.take(subset) for key in keys] + [differ[name][1].take(subset) for name in columns]
        )
        for name in columns:
            cells[name] += len(rows)


def _end_to_end(parts: Sequence[Sequence[Any]]) -> list[pa.Array]:
    return [pa.concat_arrays(list(item)) for item in zip(*parts, strict=True)]
