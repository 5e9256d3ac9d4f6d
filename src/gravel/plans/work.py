"""The steps on one batch: pure computation, on any thread. What comes out is merged in source order by the run."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.hashing import combined
from gravel.engine.vector import Vector
from gravel.inspecting.attempt import error_kinds, stored_text
from gravel.language import nodes
from gravel.language.errors import sqlstate
from gravel.language.functions.buffers import body, valid
from gravel.language.functions.operators import distinct
from gravel.language.types import Kind, Type
from gravel.plans.ledger import StepCount
from gravel.plans.steps import BoundPlan, BoundStep
from gravel.tables.csv.writer import encode
from gravel.tables.table import Batch, Malformed


@dataclass(frozen=True)
class Left:
    """Rows that left at one step: why (texts, one a row), and the texts of their values as they came into it."""

    step: int
    outcome: str
    rows: np.ndarray
    reasons: Any
    states: Any
    columns: Any
    values: list[Any]


@dataclass(frozen=True)
class KeyPart:
    """Hashes of a batch's keys, of those without a NULL, and the rows with one."""

    hashes: np.ndarray
    nulls: int


@dataclass(frozen=True)
class ColumnBytes:
    """A part of a text column as what a digest takes in: each value's length (-1 for NULL, four bytes), and their bytes."""

    lengths: np.ndarray
    data: np.ndarray


def column_bytes(array: Any) -> ColumnBytes:
    """A text column's values as lengths and bytes."""
    null = ~valid(array) if array.null_count else None
    # Bytes that stand behind a NULL are no part of the column.
    offsets, data = body(array if null is None else pc.fill_null(array, ""))
    lengths = np.diff(offsets).astype(np.int32)
    if null is not None:
        lengths[null] = -1
    return ColumnBytes(lengths, data)


class Digest:
    """BLAKE2b over a column's values in their order, however the column is cut into batches."""

    def __init__(self) -> None:
        self._lengths, self._data = hashlib.blake2b(), hashlib.blake2b()

    def add(self, part: ColumnBytes) -> None:
        """Take in the next batch's values."""
        self._lengths.update(part.lengths.data)
        self._data.update(part.data.data)

    @property
    def value(self) -> str:
        """Both digests as hexadecimal text."""
        return self._lengths.hexdigest() + self._data.hexdigest()


def key_values(array: Any, kind: Type) -> Any:
    """A key column as it is compared: by value where one value may be written in two ways, else by text."""
    if kind.kind in (Kind.DECIMAL, Kind.TIMESTAMP, Kind.DOUBLE) and pa.types.is_string(array.type):
        from gravel.engine.frame import view

        made = view(array, kind)
        return array if made.errors is not None else made.values
    return array


def key_part(columns: Sequence[Any]) -> KeyPart:
    """The key state of one batch."""
    null = np.zeros(len(columns[0]), bool)
    for column in columns:
        if column.null_count:
            null |= pc.is_null(column).to_numpy(zero_copy_only=False)
    kept = [column.filter(pa.array(~null)) if null.any() else column for column in columns]
    return KeyPart(combined(kept), int(null.sum()))


@dataclass
class Worked:
    """What became of one batch."""

    rows_read: int
    malformed: tuple[Malformed, ...]
    steps: list[StepCount]
    left: list[Left] = field(default_factory=list)
    output: bytes = b""
    left_output: bytes = b""
    rows_out: int = 0
    untouched: dict[int, ColumnBytes] = field(default_factory=dict)
    key: KeyPart | None = None
    value_breaks: int = 0


class _Rows:
    """The rows under way: source row numbers, stored columns, their types."""

    def __init__(self, numbers: np.ndarray, stored: list[Any], types: tuple[Type, ...]) -> None:
        self.numbers, self.stored, self.types = numbers, stored, types
        self._texts: dict[int, Any] = {}

    @property
    def count(self) -> int:
        return len(self.numbers)

    def frame(self) -> Frame:
        return Frame(self.count, self.stored, self.types).remembering()

    def text(self, index: int) -> Any:
        """A column as its texts, made once."""
        if pa.types.is_string(self.stored[index].type):
            return self.stored[index]
        if index not in self._texts:
            self._texts[index] = stored_text(self.frame(), index)
        return self._texts[index]

    def put(self, index: int, stored: Any, texts: Any) -> None:
        """A column's new values, beside the texts they are written as; a new one stands at the end."""
        if index == len(self.stored):
            self.stored.append(stored)
        else:
            self.stored[index] = stored
        self._texts[index] = texts

    def keep(self, mask: np.ndarray) -> None:
        if not mask.all():
            chosen = pa.array(mask)
            self.numbers = self.numbers[mask]
            self.stored = [column.filter(chosen) for column in self.stored]
            self._texts = {index: texts.filter(chosen) for index, texts in self._texts.items()}


def work(plan: BoundPlan, batch: Batch) -> Worked:
    """Run all steps on one batch."""
    done = Worked(batch.count, batch.malformed, [])
    for column in batch.columns:
        done.value_breaks += _breaks(column)
    if plan.key:
        done.key = key_part([key_values(batch.columns[i], plan.source_types[i]) for i in plan.key])
    rows = _Rows(batch.rows, list(batch.columns), plan.steps[0].types if plan.steps else plan.types)
    for step in plan.steps:
        rows.types = step.types
        done.steps.append(_set(step, rows, done) if step.verb == "set" else _rows(step, rows, done))
    rows.types = plan.types
    texts = [rows.text(index) for index in range(len(plan.names))]
    survivors = np.searchsorted(batch.rows, rows.numbers)
    everything = len(survivors) == batch.count
    for index in range(len(batch.columns)):
        if index not in plan.touched:
            # From the source itself, not from what went through the steps.
            column = batch.columns[index]
            done.untouched[index] = column_bytes(column if everything else column.take(pa.array(survivors)))
    done.rows_out = rows.count
    done.output = encode(texts, plan.table.dialect.delimiter, plan.table.dialect.line_end)
    done.left_output = _left_behind(plan, done)
    return done


def _breaks(column: Any) -> int:
    """Line breaks inside a text column's values; CRLF is one."""
    offsets, data = body(column)
    feed, back = data == 10, data == 13
    if not back.any():
        return int(np.count_nonzero(feed))
    pairs = back[:-1] & feed[1:]
    # A CR that ends one value and a LF that begins the next are no pair.
    starts = offsets[1:-1]
    pairs[starts[(starts > 0) & (starts < len(data))] - 1] = False
    return int(np.count_nonzero(feed) + np.count_nonzero(back) - np.count_nonzero(pairs))


def _set(step: BoundStep, rows: _Rows, done: Worked) -> StepCount:
    count = StepCount(rows_in=rows.count)
    frame = rows.frame()
    made = [(one, *_assigned(one.expression, frame)) for one in step.assignments]
    failed = np.zeros(rows.count, bool)
    for one, vector, _ in made:
        if vector.errors is not None:
            failed |= vector.errors != 0
            for kind in error_kinds(one.expression, vector, frame, rows.numbers):
                count.errors[one.name, kind.sqlstate] = kind
    count.seen = step.watch.count(frame)
    going = np.ones(rows.count, bool) if step.on_error == "null" else ~failed
    if failed.any():
        if step.on_error == "null":
            count.nulled = int(failed.sum())
        elif step.on_error == "stop":
            count.stopped = int(failed.sum())
        else:
            count.set_aside = int(failed.sum())
            done.left.append(_failed_rows(step, rows, failed, [(one.name, one.text, vector) for one, vector, _ in made]))
    changed = np.zeros(rows.count, bool)
    ready = []
    for one, vector, stored in made:
        if vector.errors is not None:
            # An error that becomes NULL is a change too.
            stored = pc.if_else(pa.array(vector.errors == 0), stored, pa.scalar(None, stored.type))
        after = stored_text(Frame(rows.count, [stored], [one.expression.type]), 0)
        ready.append((one.index, stored, after))
        if not one.new:
            differs = distinct(rows.text(one.index), after).to_numpy(zero_copy_only=False) & going
            count.changed_columns[one.name] = int(differs.sum())
            changed |= differs
    count.changed = int(changed.sum())
    for column in ready:
        rows.put(*column)
    rows.keep(going)
    count.rows_out = rows.count
    return count


def _assigned(expression: nodes.Expression, frame: Frame) -> tuple[Vector, Any]:
    """The vector of an assigned expression, and what is stored: a column as it stands keeps its texts."""
    vector = run(expression, frame)
    if isinstance(expression, nodes.Column):
        return vector, frame.stored[expression.index]
    return vector, vector.values


def _failed_rows(step: BoundStep, rows: _Rows, failed: np.ndarray, made: list[tuple[str, str, Vector]]) -> Left:
    """The rows set aside, each with the first of its expressions that failed."""
    where = np.flatnonzero(failed)
    states: list[str | None] = [None] * len(where)
    reasons, columns = [""] * len(where), [None] * len(where)  # type: tuple[list[str], list[str | None]]
    for name, text, vector in made:
        if vector.errors is None:
            continue
        for at, row in enumerate(where):
            if states[at] is None and vector.errors[row]:
                states[at] = sqlstate(int(vector.errors[row]))
                reasons[at], columns[at] = text, name or None
    told, codes, names = (pa.array(texts, pa.string()) for texts in (reasons, states, columns))
    return Left(step.number, "set aside", rows.numbers[where], told, codes, names, _texts(rows, where))


def _texts(rows: _Rows, where: np.ndarray) -> list[Any]:
    part = pa.array(where)
    frame = Frame(len(where), [column.take(part) for column in rows.stored], rows.types)
    return [stored_text(frame, index) for index in range(len(rows.stored))]


def _rows(step: BoundStep, rows: _Rows, done: Worked) -> StepCount:
    assert step.condition is not None
    count = StepCount(rows_in=rows.count)
    frame = rows.frame()
    decided = run(step.condition, frame)
    true, false, failed = decided.true(rows.count), decided.false(rows.count), decided.failed(rows.count)
    unknown = ~(true | false | failed)
    count.seen = step.watch.count(frame)
    if failed.any():
        for kind in error_kinds(step.condition, decided, frame, rows.numbers):
            count.errors["", kind.sqlstate] = kind
        if step.on_error == "null":
            unknown |= failed
            count.nulled = int(failed.sum())
            failed = np.zeros(rows.count, bool)
        elif step.on_error == "stop":
            count.stopped = int(failed.sum())
        else:
            count.set_aside = int(failed.sum())
            done.left.append(_failed_rows(step, rows, failed, [("", step.condition_text, decided)]))
    text = " ".join(step.condition_text.split())
    if step.verb == "keep_rows":
        dropped = [(false, f"false: {text}"), (unknown, f"unknown: {text}")]
        count.dropped_false, count.dropped_unknown = int(false.sum()), int(unknown.sum())
        going = true
    else:
        dropped = [(true, f"true: {text}")]
        count.dropped_true = int(true.sum())
        going = ~true & ~failed
    for mask, reason in dropped:
        if mask.any():
            where = np.flatnonzero(mask)
            nothing = _same(None, len(where))
            reasons = _same(reason, len(where))
            done.left.append(Left(step.number, "dropped", rows.numbers[where], reasons, nothing, nothing, _texts(rows, where)))
    rows.keep(going)
    count.rows_out = rows.count
    return count


LEFT_COLUMNS = (
    "gravel_row", "gravel_path", "gravel_step", "gravel_outcome", "gravel_reason", "gravel_sqlstate", "gravel_column", "gravel_into",
)  # fmt: skip


def _same(text: str | None, count: int) -> Any:
    return pa.repeat(pa.scalar(text, pa.string()), count)


def _left_behind(plan: BoundPlan, done: Worked) -> bytes:
    """A batch's rows that left, and its malformed records, as CSV records in source order."""
    parts = list(done.left)
    if done.malformed:
        bad = done.malformed
        nothing = _same(None, len(bad))
        texts = pa.array([one.text for one in bad], pa.string())
        parts.append(Left(0, "set aside", np.array([one.row for one in bad]), texts, nothing, nothing, []))
    if not parts:
        return b""
    numbers = np.concatenate([part.rows for part in parts])
    order = pa.array(np.argsort(numbers, kind="stable"))
    row_texts = pc.cast(pa.array(numbers), pa.string())
    columns = [
        row_texts, row_texts,
        pa.concat_arrays([_same(str(part.step), len(part.rows)) for part in parts]),
        pa.concat_arrays([_same(part.outcome, len(part.rows)) for part in parts]),
        *(pa.concat_arrays([getattr(part, name) for part in parts]) for name in ("reasons", "states", "columns")),
        _same(None, len(numbers)),
    ]  # fmt: skip
    for index in range(len(plan.names)):
        columns.append(
            pa.concat_arrays([part.values[index] if index < len(part.values) else _same(None, len(part.rows)) for part in parts])
        )
    return encode([column.take(order) for column in columns], plan.table.dialect.delimiter, plan.table.dialect.line_end)
