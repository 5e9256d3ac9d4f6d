"""Parts of a table that were read from its store at one moment, kept as Arrow: what takes more than
some megabytes in a temporary file."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from threading import Lock

import pyarrow as pa

from gravel.engine.arrow_values import text_of
from gravel.problems import TableProblem

_IN_MEMORY = 16 << 20  # bytes


class KeptParts:
    """Parts, each with columns of its own types: a column whose parts agree has their type, any
    other is read as its texts."""

    def __init__(self) -> None:
        # It lives as long as the object.
        self._file = tempfile.SpooledTemporaryFile(_IN_MEMORY, prefix="gravel-")  # noqa: SIM115
        self._starts = [0]
        self._types: dict[str, set[pa.DataType]] = {}
        self._lock = Lock()
        self.sizes: list[int] = []

    def write(self, part: pa.RecordBatch) -> None:
        """Keep the next part. Raises TableProblem where the disk is full."""
        for field, column in zip(part.schema, part.columns, strict=True):
            types = self._types.setdefault(field.name, set())
            if column.null_count < len(column):
                types.add(field.type)
        try:
            with pa.ipc.new_stream(pa.PythonFile(self._file, "w"), part.schema) as writer:
                writer.write_batch(part)
            self._starts.append(self._file.tell())
        except OSError as error:
            raise TableProblem(
                f"the copy cannot be kept in {tempfile.gettempdir()}:"
                f" {(error.strerror or str(error)).lower()}"
            ) from None
        self.sizes.append(part.num_rows)

    def type_of(self, column: str) -> pa.DataType:
        """The type that a column is read in; text where no part has a value."""
        types = self._types.get(column, set())
        return next(iter(types)) if len(types) == 1 else pa.string()

    def fields(self, columns: Sequence[str]) -> dict[int, pa.Field]:
        """By the place of each of some columns that is not read as its texts its field."""
        types = {place: self.type_of(column) for place, column in enumerate(columns)}
        return {
            place: pa.field(columns[place], kind)
            for place, kind in types.items()
            if not pa.types.is_string(kind)
        }

    def read(self, number: int, columns: Sequence[str]) -> pa.RecordBatch:
        """Some columns of a part; one that it does not have is NULL in it."""
        start, end = self._starts[number : number + 2]
        with self._lock:
            self._file.seek(start)
            data = self._file.read(end - start)
        schema = pa.ipc.open_stream(data).schema
        places = [schema.get_field_index(column) for column in columns]
        options = pa.ipc.IpcReadOptions(included_fields=[place for place in places if place >= 0])
        part = pa.ipc.open_stream(data, options=options).read_next_batch()
        return pa.record_batch([self._column(part, column) for column in columns], list(columns))

    def _column(self, part: pa.RecordBatch, column: str) -> pa.Array:
        kind = self.type_of(column)
        if part.schema.get_field_index(column) < 0:
            return pa.nulls(part.num_rows, kind)
        values = part.column(column)
        if values.type == kind:
            return values
        if values.null_count == len(values):
            return pa.nulls(len(values), kind)
        return text_of(values)
