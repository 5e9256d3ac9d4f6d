"""Null and blank. The engine decides CASE, COALESCE and IF_BLANK itself, since their order is a
promise."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import BLANK
from gravel.language.functions import arithmetic
from gravel.language.functions.buffers import matches, maybe_padded, parts, valid
from gravel.language.functions.catalogue import describe, function
from gravel.language.functions.operators import compared

describe(
    "CASE(condition BOOLEAN, result T [, more T]...) T",
    family="nulls",
    meaning=(
        "CASE WHEN condition THEN result … [ELSE result] END, or CASE x WHEN value THEN result …"
        " END: the first branch that is true; a branch is evaluated only for the rows that reach"
        " it; without ELSE the rest is NULL"
    ),
    examples={
        "CASE WHEN 7 > 5 THEN 'long' ELSE 'short' END": "'long'",
        "CASE 3 WHEN 1 THEN 'one' END": "NULL",
        "CASE WHEN 0 = 0 THEN 0.5 ELSE 1 / 0 END": "0.5000000000000000",
    },
)
describe(
    "COALESCE(x T [, y T]...) T",
    family="nulls",
    meaning="the first argument that is not NULL; those after it are not evaluated",
    examples={
        "COALESCE(NULL, 'B4')": "'B4'",
        "COALESCE('', 'B4')": "''",
        "COALESCE(1, 1 / 0)": "1.0000000000000000",
    },
)
describe(
    "IF_BLANK(x T, y T [, z T]...) T",
    family="nulls",
    meaning="the first argument that is not blank (NULL, empty or only white space), else the last",
    examples={
        "IF_BLANK('  ', 'none')": "'none'",
        "IF_BLANK('B4', 'none')": "'B4'",
        "IF_BLANK(NULL, '')": "''",
    },
)


@function(
    "NULLIF(x T, y T) T",
    meaning="NULL where x equals y, else x",
    examples={
        "NULLIF('-', '-')": "NULL",
        "NULLIF('B4', '-')": "'B4'",
        "NULLIF('B4', NULL)": "'B4'",
    },
)
def nullif(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> pa.Array:
    same = pc.fill_null(compared("=")(x, y), False)
    return pc.if_else(same, pa.scalar(None, x.type), x)


def _extreme(kernel: Any, columns: tuple[Any, ...]) -> pa.Array:
    result, *others = arithmetic.arrays(*columns)
    for other in others:
        chosen = pc.if_else(kernel(result, other), result, other)
        result = chosen  # NULL where either is: the comparison is unknown there
    return result


@function(
    "GREATEST(x T [, y T]...) T",
    meaning="the greatest argument; NULL if any is",
    examples={"GREATEST(1, 3, 2)": "3", "GREATEST('a', 'B')": "'a'", "GREATEST(1, NULL)": "NULL"},
)
def greatest(*columns: Any) -> pa.Array:
    return _extreme(compared(">="), columns)


@function(
    "LEAST(x T [, y T]...) T",
    meaning="the least argument; NULL if any is",
    examples={
        "LEAST(1, 3, 2)": "1",
        "LEAST(DATE '2024-05-31', DATE '2023-01-01')": "DATE '2023-01-01'",
    },
)
def least(*columns: Any) -> pa.Array:
    return _extreme(compared("<="), columns)


@function(
    "IS_BLANK(x ANY) BOOLEAN",
    meaning="whether x is NULL, empty, or only white space or zero width characters",
    examples={"IS_BLANK(' ')": "TRUE", "IS_BLANK(NULL)": "TRUE", "IS_BLANK('-')": "FALSE"},
)
def is_blank(x: pa.Array) -> pa.Array:
    return to_arrow(blank(x) if pa.types.is_string(x.type) else ~valid(x))


def blank(array: pa.Array) -> np.ndarray:
    """Mask of the values that are NULL, empty, or only white space or zero width characters."""
    offsets, _ = parts(array)
    mask = ~valid(array) | (offsets[1:] == offsets[:-1])
    doubtful = maybe_padded(array) & ~mask
    if doubtful.any():
        mask[doubtful] = matches(array.filter(to_arrow(doubtful)), f"^{BLANK}*$")
    return mask
