"""Lists in a field: whether a delimiter looks like one, and what its pieces are like."""

from __future__ import annotations

import re
from collections import Counter

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.sets import distinct_values
from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import BLANKS
from gravel.profiling.result import ListInField, PieceCounts

_LONG, _WORDS = 40, 4


_RARE, _KNOWN = 0.2, 0.5
_USUAL = 0.8


def usual_delimiter(sign: str, holding: list[str]) -> str:
    """The delimiter as most values write it, with the spaces around it or doubled: `, ` or ` || `;
    the sign itself where they differ."""
    if sign == "\n":
        return sign
    written = Counter(
        run for value in holding for run in re.findall(f" *{re.escape(sign)}+ *", value.strip())
    )
    run, rows = written.most_common(1)[0] if written else (sign, 1)
    return run if rows >= _USUAL * written.total() else sign


def looks_like_one(delimiter: str, holding: list[str], others: list[str], share: float) -> bool:
    """Whether a delimiter parts a list, from values with it and values without; `share` of all rows
    have it.

    Its pieces must be short, and no numbers, dates or times; and they must come again: in other
    values, or as a whole value. A semicolon, a bar or a line break needs less of that than a comma
    (`Surname, given name`) or a slash. Where few values have it, most pieces must be values of
    other rows."""
    pieces: list[str] = []
    for value in holding:
        pieces += [piece.strip(BLANKS) for piece in value.split(delimiter)]
    pieces = [piece for piece in pieces if piece]
    if not pieces or len(pieces) < len(holding):
        return False
    if (
        sum(len(piece) > _LONG or len(piece.split()) > _WORDS for piece in pieces)
        > len(pieces) // 5
    ):
        return False
    if (
        delimiter in ",/"
        and sum(any(char.isdigit() for char in piece) or len(piece) < 2 for piece in pieces)
        > len(pieces) // 5
    ):
        return False
    known = Counter(pieces)
    if delimiter == "|" and any(sign in value for value in holding for sign in "()[]^$\\"):
        return False  # alternatives of a regular expression
    whole = {value.strip(BLANKS) for value in others}
    if share < _RARE:
        return sum(piece in whole for piece in known) >= _KNOWN * len(known)
    again = sum(rows for piece, rows in known.items() if rows > 1 or piece in whole)
    if delimiter in ",/":
        if all(value.count(delimiter) == 1 for value in holding):
            # Two pieces in every value are rather two parts of one thing, unless both come from one
            # small stock, or are values of other rows.
            firsts, seconds = (
                {value.split(delimiter)[index].strip(BLANKS) for value in holding}
                for index in (0, 1)
            )
            if len(firsts & seconds) * 2 < min(len(firsts), len(seconds)) and any(
                len(side & whole) * 2 < len(side) for side in (firsts, seconds)
            ):
                return False
        return again * 10 >= len(pieces) * 8 and (len(known) * 2 <= len(pieces) or len(pieces) < 10)
    return (
        again * 2 >= len(pieces)
        or sum(len(piece.split()) <= 2 for piece in pieces) * 10 >= len(pieces) * 9
    )


class ListPart(Struct, frozen=True):
    """Of some values that hold the delimiter: rows; least, greatest number and sum of pieces; rows
    with each flaw."""

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
            self.rows + other.rows,
            min(self.least, other.least),
            max(self.most, other.most),
            self.pieces + other.pieces,
            self.empty + other.empty,
            self.padded + other.padded,
            self.repeated + other.repeated,
        )

    def result(self, delimiter: str) -> ListInField:
        """The figures of the whole column."""
        return ListInField(
            delimiter,
            self.rows,
            PieceCounts(self.least, self.most, self.pieces / self.rows),
            self.empty,
            self.padded,
            self.repeated,
        )


def list_part(array: pa.Array, delimiter: str) -> ListPart:
    """The figures of a batch of texts, once for each distinct value."""
    sign = delimiter.strip(" ")
    holding = pc.fill_null(pc.match_substring(array, sign), False)
    array = array.filter(holding)
    if not len(array):
        return ListPart()
    coded = array.dictionary_encode()
    values = coded.dictionary
    rows = np.bincount(coded.indices.to_numpy(), minlength=len(values))
    lists = pc.split_pattern(values, sign)
    sizes = pc.list_value_length(lists).to_numpy()
    pieces = lists.flatten()
    owner = np.repeat(np.arange(len(values)), sizes)
    trimmed = pc.utf8_trim(pieces, BLANKS)
    blank = pc.equal(trimmed, "").to_numpy(zero_copy_only=False)
    tidy = pc.binary_join(pa.ListArray.from_arrays(lists.offsets, trimmed), delimiter)
    padded = pc.not_equal(tidy, pc.utf8_trim(values, " ")).to_numpy(zero_copy_only=False)
    padded[owner[blank]] = False  # told as lists with empty pieces
    filled = to_arrow(~blank)
    codes = trimmed.filter(filled).dictionary_encode()
    pairs = owner[~blank] * (len(codes.dictionary) + 1) + codes.indices.to_numpy()
    once, counts = np.unique(pairs, return_counts=True)

    def flagged(owners: np.ndarray) -> int:
        return int(rows[distinct_values(owners)].sum())

    return ListPart(
        int(rows.sum()),
        int(sizes.min()),
        int(sizes.max()),
        int((sizes * rows).sum()),
        flagged(owner[blank]),
        int(rows[padded].sum()),
        flagged(once[counts > 1] // (len(codes.dictionary) + 1)),
    )
