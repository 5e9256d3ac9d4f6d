"""64-bit hashes of values, of whole columns at once.

A hash depends on the value alone, never on its batch. Different hashes prove different values;
equal ones are confirmed by a second, independent hash, or by value where a count must be exact to
the last. The mixing step is a multiplication by an odd constant and a shift, as in the well-known
multiplicative hashes.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import children, plain
from gravel.kernels import texts
from gravel.kernels.hashes import mixed_hashes
from gravel.language.functions.buffers import body

_FIRST = (
    np.uint64(0x9E3779B97F4A7C15),
    np.uint64(0xD6E8FEB86659FD93),
    np.uint64(0x2545F4914F6CDD1D),
)
_SECOND = (
    np.uint64(0xC2B2AE3D27D4EB4F),
    np.uint64(0x165667B19E3779F9),
    np.uint64(0x27D4EB2F165667C5),
)
_MASKS = np.array([(1 << (8 * n)) - 1 for n in range(8)] + [2**64 - 1], np.uint64)
_LONG = 1024
NULL_HASH = np.uint64(0x5851F42D4C957F2D)


def hashes(array: pa.Array, second: bool = False) -> np.ndarray:
    """One hash a value (uint64); NULL has a hash of its own. `second` gives an independent one."""
    constants = _SECOND if second else _FIRST
    array = plain(array)
    if pa.types.is_string(array.type) or pa.types.is_binary(array.type):
        result = _texts(array, constants)
    elif pa.types.is_fixed_size_binary(array.type) and not pa.types.is_decimal(array.type):
        result = _texts(array.cast(pa.binary()), constants)
    elif isinstance(array, pa.ExtensionArray):
        return hashes(array.storage, second)
    elif pa.types.is_nested(array.type):
        result = _nested(array, second)
    elif pa.types.is_null(array.type):
        return np.full(len(array), NULL_HASH)
    else:
        result = _fixed(array, constants)
    if array.null_count:
        result[pc.is_null(array).to_numpy(zero_copy_only=False)] = NULL_HASH
    return result


def both_hashes(array: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Two independent hashes a value."""
    array = plain(array)
    if pa.types.is_string(array.type):
        compiled = texts.hash_texts(array, np.array([*_FIRST, *_SECOND]), _LONG)
        if compiled is not None:
            first, second, rest = compiled
            offsets, data = body(array)
            for row in rest.tolist():
                text = data[offsets[row] : offsets[row + 1]]
                first[row], second[row] = _long_text(text, _FIRST), _long_text(text, _SECOND)
            if array.null_count:
                null = pc.is_null(array).to_numpy(zero_copy_only=False)
                first[null] = second[null] = NULL_HASH
            return first, second
    return hashes(array), hashes(array, True)


def combined(columns: list[pa.Array], second: bool = False) -> np.ndarray:
    """One hash a row over several columns; the order of the columns counts."""
    return mixed([hashes(column, second) for column in columns], second)


def mixed(parts: list[np.ndarray], second: bool = False) -> np.ndarray:
    """One hash a row of the hashes of several columns, in their order."""
    constants = _SECOND if second else _FIRST
    compiled = mixed_hashes(parts, np.array(constants))
    if compiled is not None:
        return compiled
    result = parts[0]
    for part in parts[1:]:
        # Mixed once more before the next joins: two equal values side by side would cancel out.
        result = _finish(_mix(_mix(result, constants[2], constants), part, constants), constants)
    return result


def _mix(
    state: np.ndarray, word: np.ndarray | np.uint64, constants: tuple[np.uint64, ...]
) -> np.ndarray:
    state = (state ^ word) * constants[0]
    state ^= state >> np.uint64(32)
    return state


def _finish(state: np.ndarray, constants: tuple[np.uint64, ...]) -> np.ndarray:
    state = state * constants[1]
    state ^= state >> np.uint64(29)
    state *= constants[2]
    state ^= state >> np.uint64(32)
    return state


def _nested(array: pa.Array, second: bool) -> np.ndarray:
    """Of the items of each row, in their order, and of how many there are."""
    constants = _SECOND if second else _FIRST
    nested = children(array)
    assert nested is not None
    sizes, fields = nested
    ends = np.cumsum(sizes)
    state = np.full(len(array), constants[2])
    for field in fields:
        items = hashes(field, second)
        place = np.arange(len(items), dtype=np.uint64) - np.repeat(ends - sizes, sizes).astype(
            np.uint64
        )
        sums = np.concatenate(
            [
                np.zeros(1, np.uint64),
                np.cumsum(_finish(_mix(items, place * constants[1], constants), constants)),
            ]
        )
        state = _mix(
            _mix(state, sums[ends] - sums[ends - sizes], constants),
            sizes.astype(np.uint64),
            constants,
        )
    return _finish(state, constants)


def _fixed(array: pa.Array, constants: tuple[np.uint64, ...]) -> np.ndarray:
    if pa.types.is_floating(array.type):
        # Zero of either sign is one value, and so is every NaN.
        numbers = pc.cast(array, pa.float64()).fill_null(0).to_numpy(zero_copy_only=False) + 0.0
        words = np.where(np.isnan(numbers), np.nan, numbers).view(np.uint64)[:, None]
    elif pa.types.is_boolean(array.type):
        words = array.fill_null(False).to_numpy(zero_copy_only=False).astype(np.uint64)[:, None]
    else:
        width = array.type.bit_width // 8
        raw = np.frombuffer(array.buffers()[1], np.uint8)[
            array.offset * width : (array.offset + len(array)) * width
        ]
        if width < 8:
            words = raw.view(f"<u{width}").astype(np.uint64)[:, None]
        else:
            words = raw.view(np.uint64).reshape(-1, width // 8)
    state = np.full(len(array), constants[2])
    for column in words.T:
        state = _mix(state, column, constants)
    return _finish(state, constants)


def _texts(array: pa.Array, constants: tuple[np.uint64, ...]) -> np.ndarray:
    """Eight bytes at a time, all values side by side; the rows whose text has ended drop out."""
    offsets, data = body(array)
    compiled = texts.hash_texts(array, np.array(constants), _LONG)
    if compiled is not None:
        hashed, _, rest = compiled
        for row in rest.tolist():
            hashed[row] = _long_text(data[offsets[row] : offsets[row + 1]], constants)
        return hashed
    starts, lengths = offsets[:-1].astype(np.int64), np.diff(offsets)
    state = lengths.astype(np.uint64) * constants[2] + constants[1]
    if len(data) == 0:
        return _finish(state, constants)
    padded = np.zeros(len(data) + 8, np.uint8)
    padded[: len(data)] = data
    words = np.ndarray((len(data) + 1,), "<u8", padded, strides=(1,))
    long = lengths > _LONG
    rows: Any = np.flatnonzero(~long) if long.any() else slice(None)
    left, index = lengths[rows], starts[rows]
    part = state[rows]
    active: Any = None
    while True:
        # `part` holds the rows still going on; those that have ended are written back.
        going = left > 0
        if not going.all():
            if active is None:
                active = np.arange(len(part))
                whole = part.copy()
            whole[active] = part
            active, part, left, index = active[going], part[going], left[going], index[going]
        if not len(part):
            break
        part = _mix(part, words[index] & _MASKS[np.minimum(left, 8)], constants)
        left, index = left - 8, index + 8
    state[rows] = whole if active is not None else part
    result = _finish(state, constants)
    for row in np.flatnonzero(long):
        result[row] = _long_text(data[offsets[row] : offsets[row + 1]], constants)
    return result


def _long_text(data: np.ndarray, constants: tuple[np.uint64, ...]) -> np.uint64:
    """The hash of one long text."""
    state = np.full(1, len(data), np.uint64) * constants[2] + constants[1]
    return np.uint64(_finish(state ^ _long(data, constants), constants)[0])


def _long(data: np.ndarray, constants: tuple[np.uint64, ...]) -> np.uint64:
    """A long text's words are each mixed with their place and summed: one step for all of them."""
    padded = np.zeros(-(-len(data) // 8) * 8, np.uint8)
    padded[: len(data)] = data
    words = padded.view(np.uint64)
    places = np.arange(1, len(words) + 1, dtype=np.uint64) * constants[1]
    return np.uint64(np.bitwise_xor.reduce(_finish(_mix(words, places, constants), constants)))
