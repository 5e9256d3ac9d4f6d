"""Assignments tried on a table: what each would change, fill, empty and fail at. Nothing is
written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.frequent import Frequent, FrequentPart, frequent_part
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.inspecting.binding import columns_named, explaining, frame_of, scope_of
from gravel.inspecting.cautions import BranchCount, Caution, Sightings, Watch
from gravel.language import nodes, parse
from gravel.language.bind import Given, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import sqlstate
from gravel.language.functions.casts import to_text
from gravel.language.functions.operators import distinct
from gravel.language.types import Type
from gravel.sources.source import Batch, Malformed, Source, scan

EXAMPLES = 10


@dataclass(frozen=True)
class ErrorKind:
    """Rows that failed with one SQLSTATE, and the first of them: what the expression read there,
    and its row number."""

    sqlstate: str
    rows: int
    example: str | None
    row: int


@dataclass(frozen=True)
class Attempt:
    """One assignment. rows = changed + unchanged + errors; of the changed, filled were NULL before
    and emptied are NULL after. changes: the most frequent (before, after, rows)."""

    column: str
    text: str
    expression: nodes.Expression
    new: bool
    changed: int
    unchanged: int
    errors: int
    filled: int
    emptied: int
    changes: tuple[tuple[str | None, str | None, int], ...]
    kinds: int
    error_kinds: tuple[ErrorKind, ...]


@dataclass(frozen=True)
class Trial:
    """What `gravel try` tells. `types` are those of the columns read; `remarks` are on the
    expressions, `notes` on the table."""

    table: str
    rows: int
    attempts: tuple[Attempt, ...]
    types: dict[str, Type]
    cautions: tuple[Caution, ...]
    branches: tuple[BranchCount, ...]
    malformed: tuple[Malformed, ...]
    notes: tuple[str, ...]
    read: dict[str, Any]  # how its text was read
    remarks: tuple[str, ...] = ()


def attempt(
    table: Source,
    assignments: Sequence[str],
    context: Given | None = None,
    shown: int | None = EXAMPLES,
) -> Trial:
    """Try assignments; each reads the row as it is in the table. `shown`: how many different
    changes to name, None for all. Raises Diagnostic, TableProblem."""
    parsed = [parse.assignment(text) for text in assignments]
    syntax = [(item.expression, text) for item, text in zip(parsed, assignments, strict=True)]
    asked = columns_named(syntax, table.columns)
    scope = scope_of(table, asked, context)
    targets = [target_column(item.name, table.columns) for item in parsed]
    for index, (entry, text) in enumerate(zip(parsed, assignments, strict=True)):
        if targets[index][1] in [name for _, name in targets[:index]]:
            raise Diagnostic(
                f"{entry.name} is assigned twice",
                text,
                entry.name_start,
                entry.name_start + len(entry.name),
                hint="one assignment a column",
            )
    with explaining(table, scope):
        bound = [bind(node, scope, text) for node, text in syntax]
    states = [_State() for _ in bound]
    columns = [
        None if position is None else nodes.Column(scope.types[position], 0, 0, position, name)
        for position, name in targets
    ]
    watch = Watch(zip(bound, assignments, strict=True), targets=columns)
    wanted = sorted({*asked, *(index for index, _ in targets if index is not None)})
    rows = 0
    malformed: list[Malformed] = []

    def work(batch: Batch) -> tuple[int, tuple[Malformed, ...], list[_AttemptPartial], Sightings]:
        frame = frame_of(batch, scope).remembering()
        parts = [
            _part(item, index, frame, batch)
            for item, (index, _) in zip(bound, targets, strict=True)
        ]
        return batch.count, batch.malformed, parts, watch.count(frame)

    for count, bad, parts, seen in scan(table, work, wanted):
        rows += count
        malformed += bad
        watch.add(seen)
        for state, part in zip(states, parts, strict=True):
            state.add(part)
    attempts = []
    for (target, name), assigned, node, text, state in zip(
        targets, bound, parsed, assignments, states, strict=True
    ):
        written = text[node.expression.start : node.expression.end]
        count = len(state.frequent.distinct) if shown is None else shown
        top = state.frequent.top(count, partial(_changes_at, table, scope, assigned, target))
        attempts.append(
            Attempt(
                name,
                written,
                assigned,
                target is None,
                state.changed,
                rows - state.changed - state.errors,
                state.errors,
                state.filled,
                state.emptied,
                tuple((texts[0], texts[1], count) for texts, count in top),
                len(state.frequent.distinct),
                tuple(sorted(state.kinds.values(), key=lambda kind: -kind.rows)),
            )
        )
    types = {table.columns[i]: scope.types[i] for i in asked}
    return Trial(
        table.name,
        rows,
        tuple(attempts),
        types,
        watch.cautions(),
        watch.branches(),
        tuple(malformed),
        tuple(table.notes),
        table.read_as,
        (*watch.days(), *watch.bounds()),
    )


def target_column(name: str, columns: Sequence[str]) -> tuple[int | None, str]:
    """(position, name) of the column an assignment means: an exact match, one without regard to
    case, or a new one."""
    if name in columns:
        return columns.index(name), name
    folded = [index for index, known in enumerate(columns) if known.casefold() == name.casefold()]
    return (folded[0], columns[folded[0]]) if len(folded) == 1 else (None, name)


@dataclass(frozen=True)
class _AttemptPartial:
    changed: int
    filled: int
    emptied: int
    errors: tuple[ErrorKind, ...]
    frequent: FrequentPart | None


@dataclass
class _State:
    changed: int = 0
    filled: int = 0
    emptied: int = 0
    errors: int = 0
    kinds: dict[str, ErrorKind] = field(default_factory=dict)
    frequent: Frequent = field(default_factory=Frequent)

    def add(self, part: _AttemptPartial) -> None:
        self.changed += part.changed
        self.filled += part.filled
        self.emptied += part.emptied
        for kind in part.errors:
            self.errors += kind.rows
            known = self.kinds.get(kind.sqlstate)
            self.kinds[kind.sqlstate] = (
                kind
                if known is None
                else ErrorKind(kind.sqlstate, known.rows + kind.rows, known.example, known.row)
            )
        if part.frequent is not None:
            self.frequent.add(part.frequent)


def _both(expression: nodes.Expression, index: int | None, frame: Frame) -> tuple[Any, Any, Vector]:
    """(before, after) as texts, and the evaluated vector."""
    before = pa.nulls(frame.count, pa.string()) if index is None else frame.text(index)
    if isinstance(expression, nodes.Column) and pa.types.is_string(
        frame.stored[expression.index].type
    ):
        result = frame.column(expression.index)
        return (
            before,
            frame.stored[expression.index],
            result,
        )  # a column as it stands keeps its texts
    result = run(expression, frame)
    return before, to_text(result.values, expression.type), result


def _part(
    expression: nodes.Expression, index: int | None, frame: Frame, batch: Batch
) -> _AttemptPartial:
    before, after, result = _both(expression, index, frame)
    failed = result.failed(frame.count)
    changed = distinct(before, after).to_numpy(zero_copy_only=False) & ~failed
    errors = error_kinds(expression, result, frame, batch.rows) if failed.any() else ()
    if not changed.any():
        return _AttemptPartial(0, 0, 0, errors, None)
    mask = pa.array(changed)
    old, new = before.filter(mask), after.filter(mask)
    return _AttemptPartial(
        len(old),
        old.null_count,
        new.null_count,
        errors,
        frequent_part([old, new], batch.rows[changed]),
    )


def error_kinds(
    expression: nodes.Expression, vector: Vector, frame: Frame, rows: np.ndarray
) -> tuple[ErrorKind, ...]:
    """The kinds of error in a vector, each with its first row and what the expression read
    there."""
    errors = vector.errors if vector.errors is not None else np.zeros(0, np.uint8)
    read = nodes.columns_read(expression)
    results = []
    for code in distinct_values(errors[errors != 0]):
        position = int(np.flatnonzero(errors == code)[0])
        values = [
            (column.name, frame.text(column.index)[position].as_py())
            for column in read
            if frame.stored[column.index] is not None
        ]
        if len(values) == 1:
            example = values[0][1]
        else:
            example = (
                ", ".join(
                    f"{name} = {'NULL' if value is None else value}" for name, value in values
                )
                or None
            )
        results.append(
            ErrorKind(
                sqlstate(int(code)), int((errors == code).sum()), example, int(rows[position])
            )
        )
    return tuple(results)


def _changes_at(
    table: Any, scope: Any, expression: nodes.Expression, index: int | None, rows: list[int]
) -> dict[int, tuple[str | None, ...]]:
    results: dict[int, tuple[str | None, ...]] = {}
    for piece in table.holding(rows):
        batch = table.read(piece)
        before, after, _ = _both(expression, index, frame_of(batch, scope))
        for row in rows:
            position = int(np.searchsorted(batch.rows, row))
            if position < batch.count and batch.rows[position] == row:
                results[row] = (before[position].as_py(), after[position].as_py())
    return results
