"""A condition that decides on rows while they are read, wherever that is: only those for which it
is true come along."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.vector import Vector
from gravel.inspecting.cautions import Sightings, Watch
from gravel.kernels.arrays import to_arrow
from gravel.language.nodes import Expression
from gravel.language.types import Type
from gravel.sources.source import Batch


class Decided(Struct, frozen=True):
    """Of how many rows a condition is true and false, and for how many it fails; it is unknown for
    the others."""

    rows: int = 0
    true: int = 0
    false: int = 0
    failed: int = 0

    @classmethod
    def of(cls, result: Vector, rows: int) -> Decided:
        """What a condition came to."""
        true, false, failed = result.true(rows), result.false(rows), result.failed(rows)
        return cls(rows, int(true.sum()), int(false.sum()), int(failed.sum()))

    def __add__(self, other: Decided) -> Decided:
        return Decided(
            self.rows + other.rows,
            self.true + other.true,
            self.false + other.false,
            self.failed + other.failed,
        )

    def __str__(self) -> str:
        removed = self.rows - self.true
        unknown = removed - self.false - self.failed
        error = f", {self.failed:,} with an error" if self.failed else ""
        return (
            f"{removed:,} removed ({self.false:,} false, {unknown:,} unknown{error})"
            if removed
            else "none removed"
        )


class FilteredRows(Struct, frozen=True):
    """The rows of a batch for which a condition is true, what it is of all of them, the errors of
    those that it fails for with their row numbers, and what was seen that deserves a caution."""

    batch: Batch
    decided: Decided
    errors: np.ndarray
    failed_rows: np.ndarray
    seen: Sightings


class ScanFilter(Struct, frozen=True):
    """Work on a batch: a condition over some columns with their types. It pickles."""

    condition: Expression
    columns: tuple[int, ...]
    types: tuple[Type, ...]
    watch: Watch

    def __call__(self, batch: Batch) -> FilteredRows:
        frame = Frame(batch.count, [batch.columns[index] for index in self.columns], self.types)
        result = run(self.condition, frame).spread(batch.count)
        if pa.types.is_null(result.values.type):
            result = Vector(result.values.cast(pa.bool_()), result.errors)
        seen = self.watch.count(frame)
        decided = Decided.of(result, batch.count)
        errors = np.zeros(0, np.uint8) if result.errors is None else result.errors
        failing = np.flatnonzero(errors)
        keep = result.true(batch.count)
        columns = [
            None if column is None else column.filter(to_arrow(keep)) for column in batch.columns
        ]
        kept = Batch(batch.rows[keep], columns, batch.malformed)
        return FilteredRows(kept, decided, errors[failing], batch.rows[failing], seen)
