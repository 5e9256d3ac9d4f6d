"""Writing CSV: quotes only where a value needs them, NULL as nothing, the empty text as "".

Arrow's writer either quotes every text or none, so a kernel joins the fields. Its reference has
Arrow join them: values that need quotes are found by their bytes, and carry bytes that no UTF-8
text has in place of the signs that matter; one pass over the result turns those into the signs.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from gravel.kernels.arrays import to_arrow
from gravel.kernels.records import join_columns
from gravel.language.functions.buffers import ByteSet, body, rows_with, valid

_QUOTE, _DELIMITER, _FEED, _RETURN = b"\xff", b"\xfe", b"\xfd", b"\xfc"


class _Signs:
    """The bytes to look for and to put back, for one delimiter."""

    def __init__(self, delimiter: str) -> None:
        self.delimiter = delimiter
        sign = delimiter.encode()
        self.special = ByteSet(b'"\r\n' + sign)
        # All that matters is below 45 where the delimiter is: a column without such a byte, but for
        # spaces, needs no second look.
        self.low = sign < b"-"
        self.carry = bytes.maketrans(b'"' + sign + b"\n\r", _QUOTE + _DELIMITER + _FEED + _RETURN)
        self.back = bytes.maketrans(_QUOTE + _DELIMITER + _FEED + _RETURN, b'"' + sign + b"\n\r")


def encode(columns: Sequence[pa.Array], delimiter: str = ",", line_end: str = "\n") -> bytes:
    """Text columns as CSV records."""
    if not columns or not len(columns[0]):
        return b""
    compiled = join_columns(columns, delimiter, line_end)
    return _joined(columns, delimiter, line_end) if compiled is None else compiled


def _joined(columns: Sequence[pa.Array], delimiter: str, line_end: str) -> bytes:
    """As `encode`: the reference."""
    signs = _Signs(delimiter)
    marked = [_marked(column, signs) for column in columns]
    result = pa.table(
        [column for column, _ in marked], names=[str(index) for index in range(len(columns))]
    )
    out = io.BytesIO()
    pa_csv.write_csv(
        result,
        out,
        pa_csv.WriteOptions(include_header=False, delimiter=delimiter, quoting_style="none"),
    )
    text = out.getvalue()
    if line_end != "\n":
        text = text.replace(b"\n", line_end.encode())
    return text.translate(signs.back) if any(quoted for _, quoted in marked) else text


def header(names: Sequence[str], delimiter: str = ",", line_end: str = "\n") -> bytes:
    """The header record."""
    return encode([pa.array([name], pa.string()) for name in names], delimiter, line_end)


def _marked(column: pa.Array, signs: _Signs) -> tuple[Any, bool]:
    """The column with its values that need quotes in their carried form, and whether there are
    any."""
    offsets, _ = body(column)
    known = valid(column) if column.null_count else None
    empty = np.diff(offsets) == 0
    special = (
        np.zeros(len(column), bool)
        if signs.low and _plain(column)
        else rows_with(column, signs.special)
    )
    if known is not None:
        empty &= known
    both = empty | special
    if not both.any():
        return column, False
    subset = column.filter(to_arrow(both))
    quoted = pc.binary_join_element_wise(_QUOTE, _carried(subset, signs), _QUOTE, b"")
    if subset.null_count:  # bytes stand where NULL is
        quoted = pc.if_else(pc.is_valid(subset), quoted, pa.scalar(None, pa.binary()))
    return (
        pc.replace_with_mask(column.view(pa.binary()), to_arrow(both), quoted).view(pa.string()),
        True,
    )


def _plain(column: pa.Array) -> bool:
    _, data = body(column)
    return not ((data < 45) & (data != 32)).any()


def _carried(subset: pa.Array, signs: _Signs) -> pa.Array:
    """The values with carried signs in place of those that matter; a quote is doubled."""
    offsets, data = body(subset)
    result = data.tobytes().translate(signs.carry)
    carried = pa.BinaryArray.from_buffers(
        pa.binary(),
        len(subset),
        [None, pa.py_buffer(np.ascontiguousarray(offsets)), pa.py_buffer(result)],
    )
    return pc.replace_substring(carried, _QUOTE, _QUOTE * 2) if (data == 34).any() else carried
