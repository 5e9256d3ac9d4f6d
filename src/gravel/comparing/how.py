"""How two tables are compared: what counts as equal, and which columns stand against each other."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from decimal import Decimal
from fractions import Fraction

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.comparing.result import TypeChange
from gravel.engine.arrow_values import text_of
from gravel.engine.frame import view
from gravel.language.functions import arithmetic
from gravel.language.functions.casing import tidy_spaces, upper
from gravel.language.types import NUMBERS, TEXT, Kind, Type, common
from gravel.problems import CallProblem, nearest
from gravel.sources.source import Source


class How(Struct, frozen=True):
    """How cells are compared: texts without regard to case or to spaces (as TIDY_SPACES has them),
    numbers within a distance; `pairs`: columns of before that have another name after; `where`:
    only rows that meet a condition, on both sides.
    """

    ignore_case: bool = False
    ignore_spaces: bool = False
    within: Decimal | None = None
    pairs: tuple[tuple[str, str], ...] = ()
    where: str | None = None

    @property
    def told(self) -> tuple[str, ...]:
        """In words."""
        parts = [
            (self.ignore_case, "case"),
            (self.ignore_spaces, "spaces"),
            (self.within is not None, f"differences up to {self.within}"),
        ]
        return tuple(text for said, text in parts if said)

    def values(self, stored: pa.Array, column: ColumnPair) -> pa.Array:
        """A column's values as they are compared; texts that fit no type are compared as texts."""
        if column.type == TEXT:
            return self._spelled(text_of(stored))
        result = view(stored, column.type)
        return result.values if result.errors is None else stored

    def _spelled(self, texts: pa.Array) -> pa.Array:
        result = texts
        if self.ignore_spaces:
            result = tidy_spaces(result)
        return upper(result) if self.ignore_case else result

    def near(self, column: ColumnPair) -> bool:
        """Whether values of a column are equal within a distance."""
        return self.within is not None and column.type.kind in NUMBERS


class ColumnPair(Struct, frozen=True):
    """A column of both sides: its places, and the type in which it is compared."""

    name: str
    before: int
    after: int
    type: Type

    def place(self, side: int) -> int:
        """Its place on a side: 0 is before, 1 after."""
        return (self.before, self.after)[side]

    @property
    def words(self) -> int:
        """How many 64-bit words a number of its type has."""
        return max(1, self.type.arrow.bit_width // 64)

    def words_of(self, numbers: pa.Array) -> list[np.ndarray]:
        """The words of numbers of its type, the lowest first; NULL as 0."""
        if pa.types.is_decimal(numbers.type):
            return arithmetic.words_of(numbers)
        return [arithmetic.numpy_values(numbers)]

    def close(
        self, before: Sequence[np.ndarray], after: Sequence[np.ndarray], within: Decimal
    ) -> np.ndarray:
        """Where numbers, given by their words, differ by so much at most."""
        near: np.ndarray
        if self.type.kind is Kind.DOUBLE:
            with np.errstate(over="ignore", invalid="ignore"):
                near = np.abs(before[0] - after[0]) <= float(within)
            return near
        most = math.floor(Fraction(within) * 10**self.type.scale)
        a, b = (arithmetic.joined_words(words) for words in (before, after))
        if any(n.min(initial=0) <= -(2**62) or n.max(initial=0) >= 2**62 for n in (a, b)):
            # Their difference can pass 64 bits; that of Python's own integers cannot.
            a, b = a.astype(object), b.astype(object)
        near = np.abs(a - b) <= most
        return near.astype(bool)


class ColumnPairs(Struct, frozen=True):
    """The columns of both sides, the names of those of one alone, and those whose types differ, as
    (name, type before, type after)."""

    both: tuple[ColumnPair, ...]
    lost: tuple[str, ...]
    gained: tuple[str, ...]
    types: tuple[TypeChange, ...]


def pair_columns(
    before: Source, after: Source, how: How, types_of: Callable[[Source], dict[int, Type]]
) -> ColumnPairs:
    """Set the columns of two tables against each other. Raises CallProblem for a pair that is not
    there."""
    pairs = dict(how.pairs)
    for old, new in pairs.items():
        for name, table in ((old, before), (new, after)):
            if name not in table.columns:
                near = nearest(name, list(table.columns))
                raise CallProblem(
                    f"{table.name} has no column {name}",
                    hint=f"did you mean {near}?" if near else "",
                )
    kinds = types_of(before), types_of(after)
    columns, types = [], []
    taken = set(pairs.values())
    for at, name in enumerate(before.columns):
        other = pairs.get(name, name if name not in taken else None)
        if other is None or other not in after.columns:
            continue
        place = after.columns.index(other)
        a, b = kinds[0][at], kinds[1][place]
        if a.kind is not b.kind and not (a.kind in NUMBERS and b.kind in NUMBERS):
            types.append(TypeChange(name, str(a), str(b)))
        both = common(a, b) if a != TEXT and b != TEXT else None
        kind = TEXT if both is None or both.kind is Kind.NULL else both
        columns.append(ColumnPair(name, at, place, kind))
    ours, theirs = {column.before for column in columns}, {column.after for column in columns}
    lost = tuple(name for place, name in enumerate(before.columns) if place not in ours)
    gained = tuple(name for place, name in enumerate(after.columns) if place not in theirs)
    return ColumnPairs(tuple(columns), lost, gained, tuple(types))
