"""Functions of texts, of whole Arrow arrays by the compiled kernels; each gives None where the
references are to be used."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels import rules
from gravel.kernels.arrays import to_arrow
from gravel.kernels.native.machine import Kernels, allocated, kernels
from gravel.kernels.native.unicode import CAPITAL, DECIMAL, GROWTH, LETTER

_STAGES = ("index", "blocks")
_LETTERS = range(128)
_MOST = 1 << 31  # bytes of an array whose places have 32 bits
_UPPER = np.array([ord(chr(code).upper()) for code in _LETTERS], np.uint8)
_LOWER = np.array([ord(chr(code).lower()) for code in _LETTERS], np.uint8)
_SAME = np.array(_LETTERS, np.uint8)
_SHAPE = np.array([ord(rules.shape(chr(code))) for code in _LETTERS], np.uint8)
_KEY = np.array([ord(rules.key_characters(chr(code))) for code in _LETTERS], np.uint8)


def upper(array: pa.Array) -> pa.Array | None:
    """UPPER."""
    return _mapped(array, _UPPER, "upper", str.upper)


def lower(array: pa.Array) -> pa.Array | None:
    """LOWER."""
    return _mapped(array, _LOWER, "lower", str.lower)


def without_accents(array: pa.Array) -> pa.Array | None:
    """WITHOUT_ACCENTS."""
    return _mapped(array, _SAME, "plain", rules.unaccented)


def _mapped(
    array: pa.Array, letters: np.ndarray, mapping: str, whole: Callable[[str], str]
) -> pa.Array | None:
    tables = [f"{mapping}_index", f"{mapping}_blocks", "pool", "pool_offsets"]
    return _texts(array, "map_characters", [letters], tables, whole, GROWTH)


def match_key(array: pa.Array) -> pa.Array | None:
    """MATCH_KEY."""
    tables = ["key_index", "key_blocks", "pool", "pool_offsets"]
    result = _texts(
        array, "match_key", [_KEY], tables, lambda text: rules.match_key(text) or "", GROWTH
    )
    if result is None:
        return None
    return pc.if_else(pc.equal(result, ""), pa.scalar(None, pa.string()), result)


def shape(array: pa.Array) -> pa.Array | None:
    """SHAPE."""
    return _texts(array, "shape", [_SHAPE], ["classes_index", "classes_blocks"])


def only_digits(array: pa.Array) -> pa.Array | None:
    """ONLY_DIGITS."""
    return _texts(array, "keep_characters", [DECIMAL, 0], ["classes_index", "classes_blocks"])


def only_letters(array: pa.Array) -> pa.Array | None:
    """ONLY_LETTERS."""
    letters = CAPITAL | LETTER
    return _texts(array, "keep_characters", [letters, 1], ["classes_index", "classes_blocks"])


def tidy_spaces(array: pa.Array) -> pa.Array | None:
    """TIDY_SPACES."""
    return _texts(array, "tidy_spaces", [], ["classes_index", "classes_blocks"])


def capitalize_words(array: pa.Array) -> pa.Array | None:
    """CAPITALIZE_WORDS."""
    pairs = [f"{name}_{part}" for name in ("classes", "lower", "title") for part in _STAGES]
    tables = [*pairs, "pool", "pool_offsets"]
    return _texts(array, "capitalize_words", [], tables, rules.capitalized, GROWTH)


def _texts(
    array: pa.Array,
    kernel: str,
    settings: Sequence[np.ndarray | int],
    tables: list[str],
    whole: Callable[[str], str] | None = None,
    growth: int = 1,
) -> pa.Array | None:
    """The texts that a kernel makes of an array's; `whole` reads those that it leaves. `growth`:
    bytes that it may make of one."""
    ready, count = _ready(array), len(array)
    if ready is None:
        return None
    native, offsets, data = ready
    longest = int(np.diff(offsets).max()) * growth + 16
    size = int(offsets[-1] - offsets[0])
    room = size + (size >> 4 if growth > 1 else 0) + longest
    if room >= _MOST:
        return None
    output, ends = allocated(room, np.uint8), allocated(count + 1, np.int32)
    ends[0] = 0
    left = np.zeros(count + 1 if whole else 0, np.int64)
    arguments = [*settings, *(native.tables[name] for name in tables)]
    row = 0
    while row < count:
        after = [output, ends, left] if whole else [output, ends]
        row = native.run(kernel, offsets, data, row, *arguments, *after)
        if row < count:
            room = len(output) * 3 // 2 + longest
            if room >= _MOST:
                return None
            more = allocated(room, np.uint8)
            more[: ends[row]] = output[: ends[row]]
            output = more
    result = _array(array, ends, output)
    if whole is None or not left[0]:
        return result
    rows = left[1 : left[0] + 1]
    mask = np.zeros(count, bool)
    mask[rows] = True
    read = [
        None if text is None else whole(text) for text in array.take(to_arrow(rows)).to_pylist()
    ]
    return pc.replace_with_mask(result, to_arrow(mask), pa.array(read, pa.string()))


def _array(array: pa.Array, ends: np.ndarray, output: np.ndarray) -> pa.Array:
    """Texts, NULL where `array` is."""
    missing: Any = None
    if array.null_count:
        valid = pc.is_valid(array)
        missing = (
            valid.buffers()[1] if valid.offset == 0 else pa.concat_arrays([valid]).buffers()[1]
        )
    return pa.StringArray.from_buffers(
        len(array), pa.py_buffer(ends), pa.py_buffer(output), missing, array.null_count
    )


def mark_texts(array: pa.Array) -> tuple[np.ndarray, np.ndarray] | None:
    """The bits of `source.MARKS` for each text, and its characters."""
    ready = _ready(array)
    if ready is None:
        return None
    native, offsets, data = ready
    bits, characters = np.empty(len(array), np.uint64), np.empty(len(array), np.int32)
    classes = (native.tables["classes_index"], native.tables["classes_blocks"])
    native.run("mark_texts", offsets, data, *classes, bits, characters)
    return bits, characters


def hash_texts(
    array: pa.Array, mixing: np.ndarray, longest: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """The hash of each text, another one where `mixing` has six numbers instead of three, and the
    rows of more than `longest` bytes, whose hashes are not made."""
    ready = _ready(array)
    if ready is None:
        return None
    native, offsets, data = ready
    output, left = np.empty(len(array), np.uint64), np.zeros(len(array) + 1, np.int64)
    other = np.empty(len(array) if len(mixing) > 3 else 0, np.uint64)
    every = np.resize(mixing, 6)
    native.run("hash_texts", offsets, data, every, longest, output, other, left)
    return output, other, left[1 : left[0] + 1]


def _ready(array: pa.Array) -> tuple[Kernels, np.ndarray, np.ndarray] | None:
    """The kernels, and an array's offsets and bytes for them."""
    buffers, count = array.buffers(), len(array)
    size = 0 if buffers[2] is None or not count else buffers[2].size
    if not count:
        return None
    native = kernels(size * count // (count + array.offset))
    if native is None:
        return None
    offsets = np.frombuffer(buffers[1], np.int32)[array.offset : array.offset + count + 1]
    data = np.frombuffer(buffers[2], np.uint8) if size else np.zeros(0, np.uint8)
    return native, offsets, data
