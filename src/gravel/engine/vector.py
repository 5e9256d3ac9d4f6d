"""A column of values in which each row is a value, NULL or an error."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.kernels.arrays import repeated, to_arrow


class Vector(Struct, frozen=True):
    """Values of one type; `errors` holds a code of language.errors a row (0: none), or is None
    where no row has one.

    A row with an error has NULL as its value. `constant` vectors hold one value that stands for
    every row.
    """

    values: Any
    errors: np.ndarray | None = None
    constant: bool = False

    def __len__(self) -> int:
        return len(self.values)

    @property
    def argument(self) -> pa.Array | pa.Scalar:
        """What a kernel takes: the array, or a scalar for a constant."""
        return self.values[0] if self.constant else self.values

    def spread(self, count: int) -> Vector:
        """The same with one value a row."""
        if not self.constant:
            return self
        errors = None if self.errors is None else np.repeat(self.errors, count)
        return Vector(repeated(self.values[0], count), errors)

    def true(self, count: int) -> np.ndarray:
        """Mask of the rows where a condition is true."""
        return _flags(self.spread(count).values)

    def false(self, count: int) -> np.ndarray:
        """Mask of the rows where a condition is false."""
        spread = self.spread(count)
        return _flags(pc.invert(spread.values))

    def failed(self, count: int) -> np.ndarray:
        """Mask of the rows with an error."""
        errors = self.spread(count).errors
        return np.zeros(count, bool) if errors is None else errors != 0


def _flags(values: pa.Array) -> np.ndarray:
    flags: np.ndarray = (values.fill_null(False) if values.null_count else values).to_numpy(
        zero_copy_only=False
    )
    return flags


def vector(values: pa.Array, errors: np.ndarray | None = None, constant: bool = False) -> Vector:
    """A vector; errors that are all zero are none, and rows with an error become NULL."""
    if errors is not None:
        if not errors.any():
            errors = None
        else:
            bad = errors != 0
            if np.count_nonzero(bad) > pc.sum(pc.and_(to_arrow(bad), pc.is_null(values))).as_py():
                values = pc.if_else(to_arrow(bad), pa.scalar(None, values.type), values)
    return Vector(values, errors, constant)


def first_error(vectors: list[Vector], count: int) -> np.ndarray | None:
    """The errors of several operands: of two in one row the left one."""
    merged: np.ndarray | None = None
    for vector in vectors:
        if vector.errors is not None:
            errors = np.repeat(vector.errors, count) if vector.constant else vector.errors
            merged = errors if merged is None else np.where(merged != 0, merged, errors)
    return merged


def assemble(
    count: int, pieces: list[tuple[np.ndarray, Vector]], arrow_type: pa.DataType
) -> Vector:
    """One vector from pieces that each stand for some rows (their indices); together they cover
    every row once."""
    pieces = [(rows, piece) for rows, piece in pieces if len(rows)]
    if not pieces:
        return Vector(pa.nulls(count, arrow_type))
    if len(pieces) == 1:
        return pieces[0][1].spread(count)
    spread = [(rows, piece.spread(len(rows))) for rows, piece in pieces]
    order = np.empty(count, np.int64)
    order[np.concatenate([rows for rows, _ in spread])] = np.arange(count)
    values = pa.concat_arrays([piece.values for _, piece in spread]).take(to_arrow(order))
    errors = None
    if any(piece.errors is not None for _, piece in spread):
        errors = np.concatenate(
            [
                np.zeros(len(rows), np.uint8) if piece.errors is None else piece.errors
                for rows, piece in spread
            ]
        )[order]
    return Vector(values, errors)
