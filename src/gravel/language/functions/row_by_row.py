"""Python functions over the rows of columns, for what neither Arrow nor a kernel does."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic
from gravel.language.functions.buffers import valid
from gravel.language.functions.catalogue import KernelResult


class RowFailure(Exception):
    """Raised by a Python function for a row that has an error; the argument is its SQLSTATE."""


def by_row(convert: Callable[..., Any], *columns: Any, to: pa.DataType | None = None) -> Any:
    """A Python function over the rows of several columns: once for each distinct value where the
    others are constant, else once for each distinct combination. NULL in any gives NULL, a
    RowFailure that row's error.
    """
    spread = arithmetic.arrays(*columns)
    varying = [index for index, column in enumerate(columns) if not isinstance(column, pa.Scalar)]
    if len(varying) == 1 and len(spread[varying[0]]) > 1:
        coded = spread[varying[0]].dictionary_encode()
        keys = [
            (
                [column.as_py()] * len(coded.dictionary)
                if isinstance(column, pa.Scalar)
                else coded.dictionary.to_pylist()
            )
            for column in columns
        ]
        result, errors = _converted(convert, list(zip(*keys, strict=True)), to)
        if not errors.any():
            return result.take(coded.indices)
        known = valid(coded.indices)
        return KernelResult(
            result.take(coded.indices),
            np.where(known, errors[arithmetic.numpy_values(coded.indices)], 0).astype(np.uint8),
        )
    rows = list(zip(*(column.to_pylist() for column in spread), strict=True))
    distinct = list(dict.fromkeys(rows))
    result, errors = _converted(convert, distinct, to)
    place = {row: index for index, row in enumerate(distinct)}
    where = np.fromiter((place[row] for row in rows), np.int64, len(rows))
    values = result.take(to_arrow(where))
    return KernelResult(values, errors[where]) if errors.any() else values


def _converted(
    convert: Callable[..., Any], rows: list[tuple[Any, ...]], to: pa.DataType | None
) -> tuple[Any, np.ndarray]:
    out: list[Any] = []
    errors = np.zeros(len(rows), np.uint8)
    for index, row in enumerate(rows):
        try:
            out.append(None if None in row else convert(*row))
        except RowFailure as failure:
            out.append(None)
            errors[index] = CODES[str(failure)]
    return pa.array(out, to or pa.string()), errors


def constant(*values: Any) -> bool:
    """Whether the arguments given are constants other than NULL."""
    return all(
        value is None or (isinstance(value, pa.Scalar) and value.is_valid) for value in values
    )
