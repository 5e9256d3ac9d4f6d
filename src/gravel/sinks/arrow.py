"""Rows as Arrow values on their way into a file that keeps Arrow types: laid out in a temporary
file, proved there, then written in the layout that their store has, read back and compared by
value."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import laid_out, plain_type
from gravel.language.types import MAX_DIGITS
from gravel.ledger.fingerprint import Content
from gravel.problems import CallProblem
from gravel.sinks.files import ByteSink, ending
from gravel.sources.arrow import StoredSource, open_arrow, open_parquet
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import scan
from gravel.words import number_of

Take = Callable[[bytes], Any]
ENDINGS = (".parquet", ".arrow")


def keeps_arrow(path: Path) -> bool:
    """Whether a file of that ending has Arrow's own types."""
    return ending(path) in ENDINGS


def refuse_types(path: Path, fields: Sequence[Any]) -> None:
    """Raises CallProblem for a type that a file of that ending cannot hold."""
    for field in fields:
        if ending(path) == ".parquet" and _has_interval(field.type):
            raise CallProblem(
                f"{path.name} cannot be written: Parquet has no intervals, and {field.name} is"
                f" {field.type}",
                hint=(
                    f"write an .arrow file, or a step with set = {{ {field.name} ="
                    f' "CAST({field.name} AS TEXT)" }}'
                ),
            )


def _has_interval(arrow: pa.DataType) -> bool:
    return pa.types.is_interval(arrow) or any(
        _has_interval(arrow.field(index).type) for index in range(arrow.num_fields)
    )


class ArrowRows:
    """Batches of values in the plain layout, written one after another into an Arrow file through a
    sink of bytes."""

    def __init__(self, fields: Sequence[Any], take: Take) -> None:
        self.schema = pa.schema([pa.field(field.name, plain_type(field.type)) for field in fields])
        self._sink = ByteSink(take)
        self._writer = pa.ipc.new_file(pa.PythonFile(self._sink, "w"), self.schema)

    def write(self, batch: pa.RecordBatch) -> None:
        """Take in the next rows."""
        self._writer.write_batch(batch)

    def close(self) -> None:
        """No more rows."""
        self._writer.close()
        self._sink.close()


def opened(path: Path, name: str) -> StoredSource:
    """A file of Arrow values as a table."""
    return (open_parquet if ending(path) == ".parquet" else open_arrow)(path, name, ReadOptions())


Forms = Mapping[int, Callable[[Any], Any]]


def write(
    path: Path, rows: StoredSource, fields: Sequence[Any], take: Take, forms: Forms | None = None
) -> tuple[list[Any], list[str]]:
    """Write rows into a Parquet or Arrow file with these fields, through a sink of bytes; `forms`
    make values of columns that are laid down as texts. The fields as they were written, and what is
    to be known of them: a dictionary whose numbers do not fit is written as its values. Raises
    DataProblem for a text that is not a value of its column's type."""
    fields = list(fields)
    dictionaries: dict[int, Any] = {}
    notes = []
    for position, field in enumerate(fields):
        if not pa.types.is_dictionary(field.type):
            continue
        values = _different(rows, position)
        if len(values) > 2 ** (
            field.type.index_type.bit_width - pa.types.is_signed_integer(field.type.index_type)
        ):
            notes.append(
                f"{field.name} has {number_of(len(values), 'value')}, more than"
                f" {field.type.index_type}"
                " numbers: it is written without a dictionary"
            )
            fields[position] = field.with_type(plain_type(field.type))
        else:
            dictionaries[position] = values
    schema = pa.schema(fields)
    with ByteSink(take) as sink:
        if ending(path) == ".parquet":
            import pyarrow.parquet as pq

            writer: Any = pq.ParquetWriter(pa.PythonFile(sink, "w"), schema, compression="zstd")
        else:
            writer = pa.ipc.new_file(pa.PythonFile(sink, "w"), schema)
        with writer:
            for batch in scan(rows, lambda batch: _formed(batch.columns, forms)):
                columns = [
                    laid_out(column, field.type, dictionaries.get(index))
                    for index, (column, field) in enumerate(zip(batch, fields, strict=True))
                ]
                writer.write_batch(pa.record_batch(columns, schema=schema))
    return fields, notes


def _formed(columns: Sequence[pa.Array], forms: Forms | None) -> list[pa.Array]:
    return [
        forms[index](column) if forms and index in forms else column
        for index, column in enumerate(columns)
    ]


def _different(rows: StoredSource, index: int) -> pa.Array:
    """The different known values of a column: one dictionary for all batches, which an Arrow file
    asks for."""
    parts = list(scan(rows, lambda batch: pc.unique(batch.columns[index]), [index]))
    return pc.unique(pa.chunked_array(parts, rows.fields[index].type)).drop_null()


def same_values(
    rows: StoredSource, again: StoredSource, forms: Forms | None = None
) -> tuple[bool, str]:
    """Whether a file read back holds the values that were written into it, whatever the order of
    its rows; the figures in words. `forms`: see `write`."""
    if again.columns != rows.columns:
        return False, f"its columns are {', '.join(again.columns)}"
    # What is laid down as texts is compared as the values that they say.
    types = [
        plain_type((again if forms and index in forms else rows).fields[index].type)
        for index in range(len(rows.columns))
    ]
    supplied, stored = _content(rows, types, forms), _content(again, types)
    if (supplied.rows, supplied.value) == (stored.rows, stored.value):
        return (
            True,
            f"{number_of(stored.rows)} by {len(types)} columns read back and compared by value",
        )
    if supplied.rows != stored.rows:
        return False, f"{number_of(stored.rows)} read back, {supplied.rows:,} proved"
    other = ""
    for position, name in enumerate(rows.columns):
        if (
            _content(rows, types, forms, position).value
            != _content(again, types, None, position).value
        ):
            other = name
            break
    return (
        False,
        (
            f"{other} does not hold what was proved"
            if other
            else "some row does not hold what was proved"
        ),
    )


def _content(
    table: StoredSource,
    types: Sequence[pa.DataType],
    forms: Forms | None = None,
    index: int | None = None,
) -> Content:
    wanted = list(range(len(types))) if index is None else [index]

    def work(batch: Any) -> Content:
        columns = [
            forms[place](batch.columns[place]) if forms and place in forms else batch.columns[place]
            for place in wanted
        ]
        return Content().add(
            [
                column if column.type == types[place] else column.cast(types[place])
                for place, column in zip(wanted, columns, strict=True)
            ]
        )

    content = Content()
    for part in scan(table, work, wanted):
        content.merge(part)
    return content


def in_finer_unit(data_type: pa.DataType, kept: pa.DataType) -> bool:
    """Whether a type is kept as one of the same kind in another unit, which Parquet does with
    seconds and with dates in milliseconds."""
    kinds = (pa.types.is_timestamp, pa.types.is_time, pa.types.is_date)
    return (
        kept is not None
        and any(test(data_type) and test(kept) for test in kinds)
        and getattr(data_type, "tz", None) == getattr(kept, "tz", None)
    )


def common_decimal(wide: pa.DataType) -> pa.DataType:
    """What a DECIMAL of more than 38 digits is where its values fit: what is read everywhere."""
    return pa.decimal128(MAX_DIGITS, min(max(wide.scale, 0), MAX_DIGITS))


def in_common(values: pa.Array) -> pa.Array:
    """Values in the type that is read everywhere, where they are wide DECIMALs that fit it."""
    if not pa.types.is_decimal256(values.type):
        return values
    to = common_decimal(values.type)
    return values.cast(to) if fits(values, to) else values


def wide_decimal(field: Any) -> str:
    """What is to be known of a column whose values do not fit."""
    return (
        f"{field.name} is {field.type}: values of it have no room in {common_decimal(field.type)}"
    )


def fits(values: pa.Array, arrow: pa.DataType) -> bool:
    """Whether values can be kept as another type without a loss."""
    try:
        kept = values.cast(arrow)
        back = kept.cast(values.type)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return False
    if pa.types.is_floating(values.type):
        same = pc.or_(pc.equal(values, back), pc.and_(pc.is_nan(values), pc.is_nan(back)))
    else:
        same = pc.equal(values, back)
    return bool(pc.all(pc.fill_null(same, True)).as_py() is not False)
