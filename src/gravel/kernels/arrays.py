"""NumPy values as Arrow arrays."""

from __future__ import annotations

import numpy as np
import pyarrow as pa


def repeated(value: pa.Scalar, count: int) -> pa.Array:
    """A value so many times. Arrow's own `repeat` fails on no time of a list."""
    return pa.repeat(value, count) if count else pa.repeat(value, 1)[:0]


def to_arrow(
    values: np.ndarray, kind: pa.DataType | None = None, mask: np.ndarray | None = None
) -> pa.Array:
    """An Arrow array of numbers or truth values, of a type (their own where none is asked for),
    NULL where the mask is set. Numbers are not copied.

    `pa.array` takes the same, and imports numpy.ma to recognise masked arrays, which takes a
    fifteenth of a small command. Raises ArrowInvalid where a value does not fit the type.
    """
    validity = None
    if mask is not None and mask.any():
        validity = pa.py_buffer(np.packbits(~mask, bitorder="little"))
    if values.dtype == bool:
        own, data = pa.bool_(), np.packbits(values, bitorder="little")
    else:
        own, data = pa.from_numpy_dtype(values.dtype), np.ascontiguousarray(values)
    result = pa.Array.from_buffers(own, len(values), [validity, pa.py_buffer(data)])
    return result if kind is None or kind == own else result.cast(kind)
