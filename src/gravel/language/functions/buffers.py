"""Looking at the bytes of a text array: the cheap tests that spare most rows a dear kernel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import ASCII_WHITE


class ByteSet:
    """Some bytes, and all above 127 if `high`."""

    def __init__(self, members: bytes, high: bool = False) -> None:
        self.table = np.zeros(256, bool)
        self.table[np.frombuffer(members, np.uint8)] = True
        if high:
            self.table[128:] = True
        edges = np.flatnonzero(np.diff(self.table, prepend=False, append=False))
        self._runs = list(zip(edges[0::2].tolist(), (edges[1::2] - 1).tolist(), strict=True))

    def within(self, data: np.ndarray) -> np.ndarray:
        """Mask of the bytes that are in the set. Comparing with a few runs is several times faster
        than a table."""
        if len(self._runs) > 4:
            return self.table[data]
        mask = np.zeros(len(data), bool)
        for first, last in self._runs:
            mask |= data == first if first == last else (data - np.uint8(first)) <= last - first
        return mask


_EDGE = ByteSet(ASCII_WHITE, high=True)
_ODD = ByteSet(b"\t\n\x0b\x0c\r", high=True)
HIGH = ByteSet(b"", high=True)


def parts(array: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """(offsets, bytes) of a text array: value i is bytes[offsets[i]:offsets[i + 1]]."""
    buffers = array.buffers()
    if len(array) == 0 or buffers[1] is None:
        return np.zeros(len(array) + 1, np.int64), np.zeros(0, np.uint8)
    offsets = np.frombuffer(buffers[1], np.int32)[array.offset : array.offset + len(array) + 1]
    data = np.frombuffer(buffers[2], np.uint8) if buffers[2] is not None else np.zeros(0, np.uint8)
    return offsets, data


def body(array: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """`parts` with only the bytes that the array's values use, offsets from 0."""
    offsets, data = parts(array)
    first = offsets[0] if len(offsets) else 0
    return offsets - first, data[first : offsets[-1] if len(offsets) else 0]


def is_ascii(array: pa.Array) -> bool:
    """Whether every value is ASCII."""
    _, data = body(array)
    return bool(data.tobytes().isascii()) if len(data) < 4096 else not bool((data & 0x80).any())


def valid(array: pa.Array) -> np.ndarray:
    """Mask of the values that are not NULL."""
    if array.null_count == 0:
        return np.ones(len(array), bool)
    result: np.ndarray = pc.is_valid(array).to_numpy(zero_copy_only=False)
    return result


def rows_with(array: pa.Array, members: ByteSet) -> np.ndarray:
    """Mask of the values that hold any byte of a set."""
    offsets, data = body(array)
    mask = np.zeros(len(array), bool)
    result = members.within(data)
    if result.any():
        mask[np.searchsorted(offsets, np.flatnonzero(result), side="right") - 1] = True
    return mask


def edges(array: pa.Array, members: ByteSet) -> tuple[np.ndarray, np.ndarray]:
    """Masks of the values whose first byte, and whose last byte, is in a set; empty values are in
    neither."""
    offsets, data = parts(array)
    if len(data) == 0:
        return np.zeros(len(array), bool), np.zeros(len(array), bool)
    filled = offsets[1:] > offsets[:-1]
    last = len(data) - 1
    first = members.table[data[np.minimum(offsets[:-1], last)]] & filled
    final = members.table[data[np.maximum(offsets[1:] - 1, 0)]] & filled
    return first, final


def maybe_padded(array: pa.Array) -> np.ndarray:
    """Mask of the values that might begin or end with white space or a zero width character (a
    superset)."""
    first, final = edges(array, _EDGE)
    return first | final


def maybe_untidy(array: pa.Array) -> np.ndarray:
    """Mask of the values that TIDY_SPACES might change (a superset)."""
    mask = maybe_padded(array) | rows_with(array, _ODD)
    offsets, data = body(array)
    space = data == 32
    double = space[1:] & space[:-1]
    if double.any():
        mask[np.searchsorted(offsets, np.flatnonzero(double), side="right") - 1] = True
    return mask


def on_rows(array: pa.Array, mask: np.ndarray, change: Callable[[Any], Any]) -> pa.Array:
    """The array with `change` applied to the masked rows only."""
    count = int(np.count_nonzero(mask))
    if count == 0:
        return array
    if count * 2 > len(mask):
        return change(array)
    chosen = to_arrow(mask)
    return pc.replace_with_mask(array, chosen, change(array.filter(chosen)))


def by_value(
    array: pa.Array, change: Callable[[str], Any], to: pa.DataType | None = None
) -> pa.Array:
    """The array with a Python function applied once to each distinct value."""
    coded = array.dictionary_encode()
    result = pa.array([change(value) for value in coded.dictionary.to_pylist()], to or pa.string())
    return result.take(coded.indices)


def with_buffers(array: pa.Array, offsets: np.ndarray, data: np.ndarray) -> pa.Array:
    """A text array of new bytes, NULL where `array` is NULL."""
    result = pa.StringArray.from_buffers(
        len(array), pa.py_buffer(offsets.astype(np.int32).tobytes()), pa.py_buffer(data.tobytes())
    )
    return (
        result
        if array.null_count == 0
        else pc.if_else(pc.is_valid(array), result, pa.scalar(None, pa.string()))
    )


def matches(array: pa.Array, pattern: str) -> np.ndarray:
    """Mask of the values that match an RE2 pattern; NULL does not."""
    result: np.ndarray = pc.fill_null(pc.match_substring_regex(array, pattern), False).to_numpy(
        zero_copy_only=False
    )
    return result
