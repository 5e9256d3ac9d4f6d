"""The rows that come out of a plan, laid down where they are proved: as a text file, or as Arrow
values for a file that keeps those."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any, Protocol

import pyarrow as pa
from msgspec import Struct

from gravel.engine.arrow_values import has_type, is_finest, of_type, plain_type, type_of
from gravel.language.types import NUMBERS, Kind, Type
from gravel.ledger.fingerprint import kept_type
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundPlan
from gravel.sinks import arrow as arrow_file
from gravel.sinks import files
from gravel.sinks.atomic_file import Output
from gravel.sinks.csv import encode, header
from gravel.sources.arrow import StoredSource
from gravel.sources.csv.dialect import line_breaks
from gravel.sources.csv.reader import CsvSource
from gravel.sources.dialect import Dialect
from gravel.sources.source import Source

LaidDown = tuple[Any, list[pa.Array]]


class ResultRows(Protocol):
    """Takes the rows of a run, each batch as its layout has made it, in their order."""

    @property
    def layout(self) -> TextLayout | TypedLayout:
        """Makes of a batch what is written; on any thread or machine."""

    def write(self, finished: Any) -> None:
        """Take in the next batch."""

    def close(self) -> None:
        """No more rows."""

    def opened(self) -> Source:
        """What was written, as a reader finds it."""


def text_table(plan: BoundPlan, path: Any, names: tuple[str, ...], name: str) -> Source:
    """A text file that a run wrote, opened again; its columns are those it should have."""
    before = plan.dialect
    top = header(names, before.delimiter, before.line_end)
    return CsvSource(
        path,
        name,
        dialect=Dialect(
            before.delimiter, "utf-8", names, len(top), line_breaks(top), 0, before.line_end
        ),
    )


class TextLayout(Struct, frozen=True):
    """Rows as CSV records."""

    delimiter: str
    line_end: str

    def __call__(self, rows: TrackedRows, places: Sequence[int]) -> LaidDown:
        """A batch as it is written, and some of its columns as they are to be read again."""
        data = encode(rows.texts(), self.delimiter, self.line_end)
        return data, [rows.text(index) for index in places]


class TextRows:
    """Rows as a text file, for targets that are one, or that are given texts."""

    def __init__(self, plan: BoundPlan, output: Output) -> None:
        self._plan, self._output = plan, output
        self.layout = TextLayout(plan.dialect.delimiter, plan.dialect.line_end)
        output.write(header(plan.names, plan.dialect.delimiter, plan.dialect.line_end))

    def write(self, finished: bytes) -> None:
        """See ResultRows."""
        self._output.write(finished)

    def close(self) -> None:
        """See ResultRows."""
        self._output.close()

    def opened(self) -> Source:
        """See ResultRows."""
        return text_table(
            self._plan, self._output.path, self._plan.names, self._plan.destination.shown
        )


class TypedLayout(Struct, frozen=True):
    """Rows as Arrow values: the schema they are laid down in, the types of the columns, and those
    that columns which a step sets would rather have in the file, where all values fit."""

    schema: pa.Schema
    kinds: tuple[Type, ...]
    narrow: dict[int, tuple[pa.DataType, ...]]

    def __call__(self, rows: TrackedRows, places: Sequence[int]) -> LaidDown:
        """A batch as it is written, with the columns and types that its values do not fit; and some
        of its columns."""
        columns = [self._column(rows, index) for index in range(len(self.kinds))]
        lost = [
            (index, arrow)
            for index, every in self.narrow.items()
            for arrow in every
            if not arrow_file.fits(columns[index], plain_type(arrow))
        ]
        batch = pa.record_batch(columns, schema=self.schema)
        return (batch, lost), [columns[index] for index in places]

    def _column(self, rows: TrackedRows, index: int) -> pa.Array:
        stored, field, kind = rows.stored[index], self.schema.field(index), self.kinds[index]
        to = field.type
        if stored.type == to:
            return stored
        if pa.types.is_string(stored.type):
            return files.typed(stored, field.name, kind, binary=pa.types.is_binary(to))
        if pa.types.is_string(to):
            return rows.text(index)
        result = of_type(stored, kind)
        return result if result.type == to else result.cast(to)


class TypedRows:
    """Rows as Arrow values, each column in the type that the file will have for it. A column that
    no step touched keeps its store's type; one that a step sets keeps it where all values fit."""

    def __init__(self, plan: BoundPlan, output: Output) -> None:
        self._plan, self._output = plan, output
        # An ARRAY that a step makes is a list in the file.
        kinds = tuple(
            column.type
            if column.type.kind is Kind.ARRAY and (column.touched or column.source is None)
            else kept_type(column.type)
            for column in plan.columns
        )
        self._given = [
            None if column.source is None else plan.table.fields.get(column.source)
            for column in plan.columns
        ]
        self._untouched = [
            field is not None and not column.touched
            for field, column in zip(self._given, plan.columns, strict=True)
        ]
        fields = []
        for column, kind, given, untouched in zip(
            plan.columns, kinds, self._given, self._untouched, strict=True
        ):
            if given is not None and untouched:
                fields.append(given.with_name(column.name))
                continue
            source = None if column.source is None else plan.table.columns[column.source]
            # A column of bytes and of texts is declared TEXT: its bytes stay base64.
            binary = source in plan.table.binary and source not in plan.table.mixed
            binary = binary and not column.touched
            fields.append(pa.field(column.name, pa.binary() if binary else files.arrow_type(kind)))
        arrow_file.refuse_types(plan.target, fields)
        self._fields = fields
        self._lost: set[tuple[int, pa.DataType]] = set()
        # Texts that no step touches are proved as they are, and made values when they are written.
        self.forms = {
            index: partial(
                files.typed,
                name=column.name,
                kind=kind,
                binary=pa.types.is_binary(fields[index].type),
            )
            for index, (column, kind, supplied) in enumerate(
                zip(plan.columns, kinds, self._given, strict=True)
            )
            if supplied is None
            and not column.touched
            and not pa.types.is_string(fields[index].type)
        }
        laid = [
            field.with_type(pa.string()) if index in self.forms else field
            for index, field in enumerate(fields)
        ]
        self._rows = arrow_file.ArrowRows(laid, output.write)
        self.layout = TypedLayout(self._rows.schema, kinds, self._preferred(kinds))

    def _preferred(self, kinds: Sequence[Type]) -> dict[int, tuple[pa.DataType, ...]]:
        """The types that columns which a step sets had before, and DECIMALs that are read
        everywhere."""
        results = {}
        for index, (supplied, kind) in enumerate(zip(self._given, kinds, strict=True)):
            if self._untouched[index]:
                continue
            every = []
            if supplied is not None and _may_keep(supplied.type, kind):
                every.append(supplied.type)
            if pa.types.is_decimal256(wide := self._fields[index].type):
                every.append(arrow_file.common_decimal(wide))
            if every:
                results[index] = tuple(every)
        return results

    def write(self, finished: tuple[pa.RecordBatch, list[tuple[int, pa.DataType]]]) -> None:
        """See ResultRows."""
        batch, lost = finished
        self._lost.update(lost)
        self._rows.write(batch)

    def close(self) -> None:
        """See ResultRows."""
        self._rows.close()
        self._output.close()

    def opened(self) -> StoredSource:
        """See ResultRows."""
        return arrow_file.opened(self._output.path, self._plan.destination.shown)

    def fields(self) -> list[Any]:
        """The fields of the file that the rows are for."""
        fields = list(self._fields)
        for index, every in self.layout.narrow.items():
            kept = [arrow for arrow in every if (index, arrow) not in self._lost]
            fields[index] = fields[index].with_type(kept[0]) if kept else fields[index]
        return fields

    def notes(self) -> list[str]:
        """Columns that could not keep the type they had, or have one that is not read
        everywhere."""
        notes = []
        for index, field in enumerate(self.fields()):
            every = self.layout.narrow.get(index, ())
            if every and self._given[index] is not None and field.type != every[0]:
                notes.append(
                    f"{field.name} was {every[0]} and is {field.type}: a step gives it values that"
                    " do not fit"
                )
            elif every and pa.types.is_decimal256(field.type):
                notes.append(arrow_file.wide_decimal(field))
        return notes

    def untouched(self) -> dict[str, Any]:
        """The types of the columns that no step touches, by name."""
        return {
            field.name: field.type
            for field, kept in zip(self._fields, self._untouched, strict=True)
            if kept
        }


def _may_keep(arrow: pa.DataType, kind: Type) -> bool:
    """Whether a column of an Arrow type may keep it when a step sets values of another type of the
    language."""
    if is_finest(arrow):
        return kind.kind is (Kind.TIMESTAMP if plain_type(arrow).tz is None else Kind.ZONED)
    own = type_of(arrow)
    return (
        has_type(arrow)
        and not pa.types.is_null(arrow)
        and (own.kind is kind.kind or (own.kind in NUMBERS and kind.kind in NUMBERS))
    )


def lay_down(plan: BoundPlan, output: Output) -> TextRows | TypedRows:
    """Where a plan's rows go before they are proved."""
    return TypedRows(plan, output) if plan.keeps_arrow else TextRows(plan, output)
