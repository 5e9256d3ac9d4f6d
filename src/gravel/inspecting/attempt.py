"""Assignments tried on a table: what each would change, fill, empty and fail at. Nothing is
written."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.distinct import Distinct, Top, range_top, whole_top
from gravel.engine.engine import OfBatch, Question
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.frequent import FrequentPart, frequent_part
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.figures import Figures, NumberOf, Unlisted
from gravel.inspecting.binding import columns_named, explaining, scope_of
from gravel.inspecting.cautions import BranchCount, Caution, Sightings, Watch
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, parse, tree
from gravel.language.bind import bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import sqlstate
from gravel.language.functions.casts import to_text
from gravel.language.functions.operators import distinct
from gravel.language.scope import Given, Scope
from gravel.language.types import NUMBERS, Type
from gravel.sources.source import Batch, Malformed, Source

EXAMPLES = 10
_ALL = 1 << 62
_RESULT = "result"  # the column of an expression without a name


@dataclass(frozen=True)
class ErrorKind(Figures):
    """Rows that failed with one SQLSTATE, and the first of them: what the expression read there,
    and its row number."""

    sqlstate: str
    rows: int
    example: str | None
    row: int


@dataclass(frozen=True)
class Change(Figures):
    """A text before and after (None: NULL), and the rows that change so."""

    before: str | None
    after: str | None
    rows: int


@dataclass(frozen=True)
class Attempt(Figures):
    """One assignment. rows = changed + unchanged + errors; of the changed, filled were NULL before
    and emptied are NULL after. changes: the most frequent, of `kinds` different ones."""

    column: str
    text: Unlisted[str]
    expression: Unlisted[nodes.Expression]
    new: Unlisted[bool]
    changed: int
    unchanged: int
    errors: int
    filled: int
    emptied: int
    changes: tuple[Change, ...]
    kinds: Unlisted[int]
    error_kinds: tuple[ErrorKind, ...]


@dataclass(frozen=True)
class Trial(Figures):
    """What `gravel try` tells. `types` are those of the columns read; `remarks` are on the
    expressions, `notes` on the table."""

    table: str
    rows: int
    assignments: tuple[Attempt, ...]
    types: Unlisted[dict[str, Type]]
    cautions: tuple[Caution, ...]
    branches: tuple[BranchCount, ...]
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    remarks: tuple[str, ...] = ()


def attempt(
    table: Source,
    assignments: Sequence[str],
    context: Given | None = None,
    shown: int | None = EXAMPLES,
) -> Trial:
    """Try assignments, or expressions, each beside the one column that it reads or as a new column;
    each reads the row as it is in the table. `shown`: how many different changes to name, None for
    all. Raises Diagnostic, TableProblem."""
    parsed = [_parsed(text) for text in assignments]
    syntax = [(item.expression, text) for item, text in zip(parsed, assignments, strict=True)]
    asked = columns_named(syntax, table.columns)
    scope = scope_of(table, asked, context)
    with explaining(table, scope):
        bound = [bind(node, scope, text) for node, text in syntax]
    targets: list[tuple[int | None, str]] = []
    for entry, text, expression in zip(parsed, assignments, bound, strict=True):
        if not entry.name:
            targets.append(_target_of(expression, scope, table.columns, targets))
            continue
        targets.append(target_column(entry.name, table.columns))
        if targets[-1][1] in [name for _, name in targets[:-1]]:
            raise Diagnostic(
                f"{entry.name} is assigned twice",
                text,
                entry.name_start,
                entry.name_start + len(entry.name),
                hint="one assignment a column",
            )
    columns = [
        None if position is None else nodes.Column(scope.types[position], 0, 0, position, name)
        for position, name in targets
    ]
    watch = Watch(zip(bound, assignments, strict=True), targets=columns)
    wanted = sorted({*asked, *(index for index, _ in targets if index is not None)})
    pairs = [(item, index) for item, (index, _) in zip(bound, targets, strict=True)]
    state = AttemptState(scope.types, pairs, watch)
    table.engine.run(state, table, wanted)
    most = _ALL if shown is None else shown
    questions: list[Question[Any, Top]] = [
        Question(state.distinct[index], partial(range_top, most), partial(whole_top, most))
        for index in range(len(pairs))
    ]
    tops = table.engine.ask(questions)
    attempts = []
    for (target, name), node, text, pair, tried, top in zip(
        targets, parsed, assignments, pairs, state.attempts, tops, strict=True
    ):
        missing = [row for row, _ in top.best if row not in tried.texts]
        if missing:
            work = OfBatch(partial(_changes_at, scope.types, pair[0], pair[1], missing), wanted)
            for by_row in table.engine.map_splits(table, work, wanted, table.holding(missing)):
                tried.texts.update(by_row)
        attempts.append(
            Attempt(
                name,
                text[node.expression.start : node.expression.end],
                pair[0],
                target is None,
                tried.changed,
                state.rows - tried.changed - tried.errors,
                tried.errors,
                tried.filled,
                tried.emptied,
                tuple(
                    Change(tried.texts[row][0], tried.texts[row][1], count)
                    for row, count in top.best
                ),
                top.distinct,
                tuple(sorted(tried.kinds.values(), key=lambda kind: -kind.rows)),
            )
        )
    types = {table.columns[i]: scope.types[i] for i in asked}
    return Trial(
        table.name,
        state.rows,
        tuple(attempts),
        types,
        watch.cautions(),
        watch.branches(),
        tuple(state.malformed),
        tuple(table.notes),
        table.read_as,
        (*watch.days(), *watch.bounds()),
    )


def _parsed(text: str) -> tree.Named:
    """An assignment, or an expression without a name. Raises Diagnostic."""
    if parse.is_assignment(text):
        return parse.assignment(text)
    node = parse.expression(text)
    return tree.Named(node.start, node.end, "", 0, node)


def _target_of(
    expression: nodes.Expression,
    scope: Scope,
    columns: Sequence[str],
    taken: Sequence[tuple[int | None, str]],
) -> tuple[int | None, str]:
    """What an expression without a name is shown beside: the one column that it reads and has the
    type of, else a new column."""
    read = {column.index for column in nodes.columns_read(expression)}
    if len(read) == 1 and not isinstance(expression, nodes.Column):
        (position,) = read
        before, after = (kind.kind for kind in (scope.types[position], expression.type))
        alike = before == after or {before, after} <= set(NUMBERS)
        if alike and position < len(columns) and (position, columns[position]) not in taken:
            return position, columns[position]
    names = {name.casefold() for name in (*columns, *(name for _, name in taken))}
    numbers = ("", *(f"_{number}" for number in range(2, len(names) + 3)))
    return None, next(new for end in numbers if (new := f"{_RESULT}{end}") not in names)


def target_column(name: str, columns: Sequence[str]) -> tuple[int | None, str]:
    """(position, name) of the column an assignment means: an exact match, one without regard to
    case, or a new one."""
    if name in columns:
        return columns.index(name), name
    folded = [index for index, known in enumerate(columns) if known.casefold() == name.casefold()]
    return (folded[0], columns[folded[0]]) if len(folded) == 1 else (None, name)


class AttemptPartial(Struct, frozen=True):
    """What one assignment does in a batch."""

    changed: int
    filled: int
    emptied: int
    errors: tuple[ErrorKind, ...]
    frequent: FrequentPart | None


class AttemptFigures(Struct):
    """What one assignment does so far. `texts`: of some changes, by their first row, the text
    before and after."""

    changed: int = 0
    filled: int = 0
    emptied: int = 0
    errors: int = 0
    kinds: dict[str, ErrorKind] = field(default_factory=dict)
    texts: dict[int, tuple[str | None, ...]] = field(default_factory=dict)

    def add(
        self,
        more: AttemptPartial | AttemptFigures,
        kinds: Iterable[ErrorKind],
        texts: dict[int, tuple[str | None, ...]],
    ) -> None:
        """Take in those of the rows that follow."""
        self.changed += more.changed
        self.filled += more.filled
        self.emptied += more.emptied
        self.texts.update(texts)
        for kind in kinds:
            self.errors += kind.rows
            known = self.kinds.get(kind.sqlstate)
            self.kinds[kind.sqlstate] = (
                kind
                if known is None
                else ErrorKind(kind.sqlstate, known.rows + kind.rows, known.example, known.row)
            )


class AttemptState:
    """What assignments do to a table so far: (expression, position of its column) pairs, bound to
    columns of these types."""

    def __init__(
        self,
        types: Sequence[Type],
        pairs: Sequence[tuple[nodes.Expression, int | None]],
        watch: Watch,
    ) -> None:
        self.types, self.pairs, self.watch = types, pairs, watch
        self.attempts = [AttemptFigures() for _ in pairs]
        self.distinct: dict[Hashable, Any] = {index: Distinct() for index in range(len(pairs))}
        self.rows = 0
        self.malformed: list[Malformed] = []

    def map(
        self, batch: Batch
    ) -> tuple[int, tuple[Malformed, ...], list[AttemptPartial], Sightings]:
        """See State."""
        frame = Frame(batch.count, batch.columns, self.types).remembering()
        parts = [_part(expression, index, frame, batch) for expression, index in self.pairs]
        return batch.count, batch.malformed, parts, self.watch.count(frame)

    def add(self, part: tuple[int, tuple[Malformed, ...], list[AttemptPartial], Sightings]) -> None:
        """See State."""
        rows, malformed, parts, seen = part
        self.rows += rows
        self.malformed += malformed
        self.watch.add(seen)
        for index, (figures, item) in enumerate(zip(self.attempts, parts, strict=True)):
            figures.add(item, item.errors, {} if item.frequent is None else item.frequent.texts)
            if item.frequent is not None:
                self.distinct[index].add(item.frequent.values)

    def merge(self, later: AttemptState) -> None:
        """See State."""
        self.rows += later.rows
        self.malformed += later.malformed
        self.watch.add(later.watch.seen)
        for figures, other in zip(self.attempts, later.attempts, strict=True):
            figures.add(other, other.kinds.values(), other.texts)


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
) -> AttemptPartial:
    before, after, result = _both(expression, index, frame)
    failed = result.failed(frame.count)
    changed = distinct(before, after).to_numpy(zero_copy_only=False) & ~failed
    errors = error_kinds(expression, result, frame, batch.rows) if failed.any() else ()
    if not changed.any():
        return AttemptPartial(0, 0, 0, errors, None)
    mask = to_arrow(changed)
    old, new = before.filter(mask), after.filter(mask)
    return AttemptPartial(
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
    types: Sequence[Type],
    expression: nodes.Expression,
    index: int | None,
    wanted: list[int],
    batch: Batch,
) -> dict[int, tuple[str | None, ...]]:
    """The texts before and after in the wanted rows that a batch has."""
    before, after, _ = _both(expression, index, Frame(batch.count, batch.columns, types))
    places = np.flatnonzero(np.isin(batch.rows, wanted))
    chosen = to_arrow(places)
    texts = zip(before.take(chosen).to_pylist(), after.take(chosen).to_pylist(), strict=True)
    return dict(zip(batch.rows[places].tolist(), texts, strict=True))
