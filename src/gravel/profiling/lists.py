"""Lists in a field: whether a delimiter looks like one, and what its pieces are like."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.functions.buffers import BLANK, SPACES, ZERO_WIDTH, matches
from gravel.profiling.result import ListInField

_BLANK = "".join(dict.fromkeys(SPACES.replace("\u2000-\u200a", "".join(map(chr, range(0x2000, 0x200B)))) + ZERO_WIDTH))
_LONG, _WORDS = 40, 4


def looks_like_one(delimiter: str, holding: list[str], others: list[str]) -> bool:
    """Whether a delimiter parts a list, from values with it and values without.

    Its pieces must be short, and no numbers, dates or times; and they must come again: in other values, or as a whole
    value. A semicolon, a bar or a line break needs less of that than a comma (`Surname, given name`) or a slash."""
    pieces: list[str] = []
    for value in holding:
        pieces += [piece.strip(_BLANK) for piece in value.split(delimiter)]
    pieces = [piece for piece in pieces if piece]
    if not pieces or len(pieces) < len(holding):
        return False
    if sum(len(piece) > _LONG or len(piece.split()) > _WORDS for piece in pieces) > len(pieces) // 5:
        return False
    if delimiter in ",/" and sum(any(char.isdigit() for char in piece) or len(piece) < 2 for piece in pieces) > len(pieces) // 5:
        return False
    known = Counter(pieces)
    whole = {value.strip(_BLANK) for value in others}
    again = sum(rows for piece, rows in known.items() if rows > 1 or piece in whole)
    if delimiter in ",/":
        if all(value.count(delimiter) == 1 for value in holding):
            # Two pieces in every value are rather two parts of one thing, unless both come from one small stock.
            firsts, seconds = ({value.split(delimiter)[at].strip(_BLANK) for value in holding} for at in (0, 1))
            if len(firsts & seconds) * 2 < min(len(firsts), len(seconds)):
                return False
        return again * 10 >= len(pieces) * 8 and (len(known) * 2 <= len(pieces) or len(pieces) < 10)
    return again * 2 >= len(pieces) or sum(len(piece.split()) <= 2 for piece in pieces) * 10 >= len(pieces) * 9


@dataclass(frozen=True)
class ListPart:
    """Of some values that hold the delimiter: rows; least, greatest number and sum of pieces; rows with each flaw."""

    rows: int = 0
    least: int = 0
    most: int = 0
    pieces: int = 0
    empty: int = 0
    padded: int = 0
    repeated: int = 0

    def merge(self, other: ListPart) -> ListPart:
        """Both parts together."""
        if not self.rows or not other.rows:
            return self if self.rows else other
        return ListPart(
            self.rows + other.rows, min(self.least, other.least), max(self.most, other.most), self.pieces + other.pieces,
            self.empty + other.empty, self.padded + other.padded, self.repeated + other.repeated,
        )  # fmt: skip

    def result(self, delimiter: str) -> ListInField:
        """The figures of the whole column."""
        return ListInField(
            delimiter, self.rows, self.least, self.most, self.pieces / self.rows, self.empty, self.padded, self.repeated
        )  # fmt: skip


def list_part(array: Any, delimiter: str) -> ListPart:
    """The figures of a batch of texts, once for each distinct value."""
    holding = pc.fill_null(pc.match_substring(array, delimiter), False)
    array = array.filter(holding)
    if not len(array):
        return ListPart()
    coded = array.dictionary_encode()
    values = coded.dictionary
    rows = np.bincount(coded.indices.to_numpy(), minlength=len(values))
    lists = pc.split_pattern(values, delimiter)
    sizes = pc.list_value_length(lists).to_numpy()
    pieces = lists.flatten()
    owner = np.repeat(np.arange(len(values)), sizes)
    trimmed = pc.utf8_trim(pieces, _BLANK)
    blank = pc.equal(trimmed, "").to_numpy(zero_copy_only=False)
    padded = matches(pieces, f"^{BLANK}|{BLANK}$") & ~blank
    filled = pa.array(~blank)
    codes = trimmed.filter(filled).dictionary_encode()
    pairs = owner[~blank] * (len(codes.dictionary) + 1) + codes.indices.to_numpy()
    once, counts = np.unique(pairs, return_counts=True)

    def flagged(owners: np.ndarray) -> int:
        return int(rows[np.unique(owners)].sum())

    return ListPart(
        int(rows.sum()), int(sizes.min()), int(sizes.max()), int((sizes * rows).sum()), flagged(owner[blank]), flagged(owner[padded]),
        flagged(once[counts > 1] // (len(codes.dictionary) + 1)),
    )  # fmt: skip


def separator(delimiter: str) -> str:
    """The delimiter as a part of an RE2 pattern."""
    import re

    return "\\n" if delimiter == "\n" else re.escape(delimiter)
