"""What the kernels share: the types of their arrays, characters of UTF-8, words of eight bytes."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np

CAPITAL, LETTER, DECIMAL, MARK, SPACE, ZERO, WORD, DIGIT = 1, 2, 4, 8, 16, 32, 64, 128
UPPER, LOWER, CONTROL = 256, 512, 1024
WHOLE, GROWTH = 1, 12
BLANK, HYPHEN, APOSTROPHE, CURLED, REPLACEMENT = 32, 45, 39, 0x2019, 0xFFFD
QUOTE, FEED, RETURN = 34, 10, 13
HIGH_BITS = np.uint64(0x8080808080808080)

Bytes: TypeAlias = np.ndarray
UInt16s: TypeAlias = np.ndarray
Int32s: TypeAlias = np.ndarray
Int64s: TypeAlias = np.ndarray
UInt64s: TypeAlias = np.ndarray
TYPES = {
    "Bytes": "uint8",
    "UInt16s": "uint16",
    "Int32s": "int32",
    "Int64s": "int64",
    "UInt64s": "uint64",
}


def width_of(byte: int, left: int) -> int:
    """The bytes of the character that begins with this one; no more than are left, should the text
    be no UTF-8 after all."""
    if left < 4:
        return min(left, 2 if byte < 0xE0 else 3 if byte < 0xF0 else 4)
    if byte < 0xE0:
        return 2
    return 3 if byte < 0xF0 else 4


def decode(data: Bytes, place: int, width: int) -> int:
    """The code point of a character of `width` bytes beyond ASCII; U+FFFD where that is none."""
    if width == 2:
        return ((data[place] & 0x1F) << 6) | (data[place + 1] & 0x3F)
    if width == 3:
        high = ((data[place] & 0x0F) << 12) | ((data[place + 1] & 0x3F) << 6)
        return high | (data[place + 2] & 0x3F)
    if width < 2:
        return REPLACEMENT
    high = ((data[place] & 0x07) << 18) | ((data[place + 1] & 0x3F) << 12)
    code = high | ((data[place + 2] & 0x3F) << 6) | (data[place + 3] & 0x3F)
    return code if code <= 0x10FFFF else REPLACEMENT


def encode(output: Bytes, place: int, code: int) -> int:
    """Write a character; where it ends."""
    if code < 0x80:
        output[place] = code
        return place + 1
    if code < 0x800:
        output[place] = 0xC0 | (code >> 6)
        output[place + 1] = 0x80 | (code & 0x3F)
        return place + 2
    if code < 0x10000:
        output[place] = 0xE0 | (code >> 12)
        output[place + 1] = 0x80 | ((code >> 6) & 0x3F)
        output[place + 2] = 0x80 | (code & 0x3F)
        return place + 3
    output[place] = 0xF0 | (code >> 18)
    output[place + 1] = 0x80 | ((code >> 12) & 0x3F)
    output[place + 2] = 0x80 | ((code >> 6) & 0x3F)
    output[place + 3] = 0x80 | (code & 0x3F)
    return place + 4


def look_up(index: UInt16s, blocks: Any, code: int) -> int:
    """The entry of a character in a table of two stages."""
    return blocks[(index[code >> 8] << 8) | (code & 255)]


def word_at(data: Bytes, place: int) -> Any:
    """Eight bytes as a number, the first the lowest."""
    word = np.uint64(data[place])
    for byte in range(1, 8):
        word |= np.uint64(data[place + byte]) << np.uint64(8 * byte)
    return word


def tail_word(data: Bytes, place: int, end: int) -> Any:
    """The fewer than eight bytes before `end` as a number, the first the lowest."""
    if place + 8 <= len(data):
        beyond = np.uint64(8 * (end - place))
        return word_at(data, place) & ((np.uint64(1) << beyond) - np.uint64(1))
    word = np.uint64(0)
    for byte in range(end - place):
        word |= np.uint64(data[place + byte]) << np.uint64(8 * byte)
    return word


def copy(output: Bytes, written: int, data: Bytes, start: int, end: int) -> int:
    """Append bytes; where they end. Behind those of `output`, up to seven more may change."""
    place = start
    while place < end and place + 8 <= len(data) and written + 8 <= len(output):
        word = word_at(data, place)
        for byte in range(8):
            output[written + byte] = (word >> np.uint64(8 * byte)) & np.uint64(255)
        place += 8
        written += 8
    if place >= end:
        return written - (place - end)
    for byte in range(end - place):
        output[written + byte] = data[place + byte]
    return written + end - place


def leave(left: Int64s, row: int) -> None:
    """Note a row that has to be read as a whole."""
    left[0] += 1
    left[left[0]] = row


def mix(state: Any, word: Any, factor: Any) -> Any:
    state = (state ^ word) * factor
    return state ^ (state >> np.uint64(32))


def repeated(byte: int) -> Any:
    """Eight times a byte."""
    return np.uint64(byte) * np.uint64(0x0101010101010101)


def has_zero(word: Any) -> Any:
    """A mask whose first bit set is in the first of eight bytes that is 0; 0 where none is."""
    return (word - np.uint64(0x0101010101010101)) & ~word & HIGH_BITS


def lowest(mask: Any) -> Any:
    """The first of eight bytes whose upper bit is set in a mask of such bits; there is one."""
    bit = (mask & (~mask + np.uint64(1))) >> np.uint64(7)
    below = (bit - np.uint64(1)) & np.uint64(0x0101010101010101)
    return np.int64((below * np.uint64(0x0101010101010101)) >> np.uint64(56))
