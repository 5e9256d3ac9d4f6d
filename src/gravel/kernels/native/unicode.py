"""Tables of all characters, made when the package is built: what a character is, and what functions
make of it.

A table has two stages: `NAME_index` gives each block of 256 code points its place in `NAME_blocks`.
A mapping's entry is 0 for the character itself, 1 where the text has to be read as a whole
(marks that join the letter before, a sigma that may be final), else a place in the pool of texts.
"""

from __future__ import annotations

import unicodedata
from pathlib import Path

import numpy as np

from gravel.kernels import rules
from gravel.kernels.characters import BLANKS, ZERO_WIDTH
from gravel.kernels.native import TABLES

# What a character is: a bit each.
CAPITAL, LETTER, DECIMAL, MARK, SPACE, ZERO, WORD, DIGIT, UPPER, LOWER, CONTROL = (
    1 << bit for bit in range(11)
)
WHOLE = 1  # the entry of a character that is not mapped by itself
GROWTH = 12  # bytes that a mapping makes of one byte, at most
_CODE_POINTS = 0x110000
_MAPPINGS = ("key", "plain", "upper", "lower", "title")
_SURROGATES = range(0xD800, 0xE000)


def build(path: Path = TABLES) -> None:
    """Write the tables of this Python's Unicode."""
    classes: np.ndarray = np.zeros(_CODE_POINTS, np.uint16)
    mappings: dict[str, np.ndarray] = {
        name: np.zeros(_CODE_POINTS, np.uint16) for name in _MAPPINGS
    }
    pool: list[bytes] = [b"", b""]
    places: dict[bytes, int] = {}

    def entry(text: str, char: str) -> int:
        if text == char:
            return 0
        encoded = text.encode("utf-8")
        assert len(encoded) <= GROWTH * len(char.encode("utf-8"))
        if encoded not in places:
            places[encoded] = len(pool)
            pool.append(encoded)
        return places[encoded]

    joining = _joining()
    for code in range(_CODE_POINTS):
        if code in _SURROGATES:
            continue
        char = chr(code)
        classes[code] = _class(char)
        key = rules.key_characters(char)
        composed = unicodedata.normalize("NFKD", char)
        whole = any(_joins(text, joining) for text in (char, composed, key))
        mappings["key"][code] = WHOLE if whole else entry(key, char)
        composed = unicodedata.normalize("NFD", char)
        whole = any(_joins(text, joining) for text in (char, composed))
        mappings["plain"][code] = WHOLE if whole else entry(rules.unaccented(char), char)
        mappings["upper"][code] = entry(char.upper(), char)
        mappings["lower"][code] = entry(char.lower(), char)
        mappings["title"][code] = entry(rules.titled(char), char)
    mappings["lower"][ord("Σ")] = WHOLE
    assert len(pool) < 1 << 16
    ends = np.cumsum([0, *map(len, pool)]).astype(np.int32)
    tables: dict[str, np.ndarray] = {
        "version": np.array(unicodedata.unidata_version),
        "pool": np.frombuffer(b"".join(pool), np.uint8),
        "pool_offsets": ends,
    }
    for name, values in (("classes", classes), *mappings.items()):
        blocks, index = np.unique(values.reshape(-1, 256), axis=0, return_inverse=True)
        tables[f"{name}_index"] = index.astype(np.uint16).ravel()
        tables[f"{name}_blocks"] = np.ascontiguousarray(blocks).ravel()
    np.savez_compressed(path, **tables)  # type: ignore[arg-type]


def _class(char: str) -> int:
    alphabetic = char.isalpha()
    capital = char.isupper() or char.istitle()
    bits = (CAPITAL if capital else LETTER) if alphabetic else 0
    bits |= DECIMAL if char.isdecimal() else 0
    bits |= MARK if unicodedata.category(char).startswith("M") else 0
    bits |= ZERO if char in ZERO_WIDTH else SPACE if char in BLANKS else 0
    bits |= WORD if char.isalnum() and not char.isdecimal() else 0
    bits |= DIGIT if char.isdigit() else 0
    # By category: a Roman numeral is a capital, but no letter of either case.
    category = unicodedata.category(char)
    bits |= UPPER if category in ("Lu", "Lt") else LOWER if category == "Ll" else 0
    return bits | (CONTROL if category == "Cc" and not bits & SPACE else 0)


def _joining() -> frozenset[int]:
    """Characters that compose with the one before: second halves of canonical compositions, and the
    vowels and finals of Hangul."""
    halves = {*range(0x1161, 0x1176), *range(0x11A8, 0x11C3)}
    for code in range(_CODE_POINTS):
        parts = "" if code in _SURROGATES else unicodedata.decomposition(chr(code))
        if parts and not parts.startswith("<") and len(parts.split()) == 2:
            halves.add(int(parts.split()[1], 16))
    return frozenset(halves)


def _joins(text: str, joining: frozenset[int]) -> bool:
    """Whether a text's first character may become one with what stands before it."""
    return bool(text) and (unicodedata.combining(text[0]) != 0 or ord(text[0]) in joining)
