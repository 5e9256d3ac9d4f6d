"""Groups of some rows with the states of their aggregates, which are put together with those of
others: what groups a table batch by batch."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.aggregates import GroupedValues, GroupState, state_of
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language.types import INTEGER
from gravel.querying.groups import distinct_rows
from gravel.querying.relation import end_to_end, taken


class DistinctRows(Struct, frozen=True):
    """The different values of each group that an aggregate of DISTINCT takes, with the numbers of
    their groups."""

    numbers: np.ndarray
    values: tuple[pa.Array, ...]

    @classmethod
    def of(cls, numbers: np.ndarray, values: Sequence[pa.Array], known: np.ndarray) -> DistinctRows:
        """Those of some rows, of which some count."""
        rows = np.flatnonzero(distinct_rows(numbers, list(values), known))
        return cls(numbers[rows], tuple(item.take(to_arrow(rows)) for item in values))

    def merge(self, other: DistinctRows) -> DistinctRows:
        """Those of both."""
        numbers = np.concatenate([self.numbers, other.numbers])
        pairs = zip(self.values, other.values, strict=True)
        values = [pa.concat_arrays(pair) for pair in pairs]
        return DistinctRows.of(numbers, values, np.ones(len(numbers), bool))

    def renumbered(self, numbers: np.ndarray, many: int) -> DistinctRows:
        """With other numbers for the groups."""
        return DistinctRows(numbers[self.numbers], self.values)


class PartialGroups(Struct, frozen=True):
    """Groups of some rows in the order in which they are first met: their keys, how many there are,
    and of each aggregate its state."""

    keys: tuple[Vector, ...]
    many: int
    states: tuple[GroupState | DistinctRows, ...]

    @property
    def size(self) -> int:
        """How many groups and values of groups are held."""
        return self.many + sum(
            len(state.numbers) for state in self.states if isinstance(state, DistinctRows)
        )

    def merge(self, other: PartialGroups) -> PartialGroups:
        """The groups of the rows of this and of those that follow."""
        keys = [end_to_end(pair) for pair in zip(self.keys, other.keys, strict=True)]
        codes, first = np.zeros(2, np.int64), np.zeros(1, np.int64)
        if keys:
            codes, first = codes_of([key.values for key in keys], self.many + other.many)
        states = []
        mine: Any
        theirs: Any
        for mine, theirs in zip(self.states, other.states, strict=True):
            before = mine.renumbered(codes[: self.many], len(first))
            states.append(before.merge(theirs.renumbered(codes[self.many :], len(first))))
        return PartialGroups(tuple(taken(key, first) for key in keys), len(first), tuple(states))

    def in_order(self) -> PartialGroups:
        """In the order of the last state, the first places of their rows, and without it."""
        *states, places = self.states
        assert not isinstance(places, DistinctRows)
        order = np.argsort(places.finish("MIN", INTEGER).values.to_numpy(zero_copy_only=False))
        numbers = np.empty(self.many, np.int64)
        numbers[order] = np.arange(self.many)
        keys = tuple(taken(key, order) for key in self.keys)
        rest: list[Any] = states
        return PartialGroups(
            keys, self.many, tuple(state.renumbered(numbers, self.many) for state in rest)
        )


def first_places(places: GroupedValues) -> GroupState:
    """The least of the places of each group's rows."""
    return state_of("MIN", places)


class MergedGroups(Struct):
    """The groups of all rows so far. Groups of many rows are put together with those of as many
    others, so that none is gone through again for a few."""

    waiting: list[PartialGroups] = field(default_factory=list)

    @property
    def size(self) -> int:
        """As that of PartialGroups."""
        return sum(part.size for part in self.waiting)

    def add(self, part: PartialGroups) -> None:
        """Take in the groups of the rows that follow."""
        self.waiting.append(part)
        while len(self.waiting) > 1 and self.waiting[-2].size <= 2 * self.waiting[-1].size:
            self._merge_last()

    def finish(self) -> PartialGroups:
        """The groups of all rows."""
        while len(self.waiting) > 1:
            self._merge_last()
        return self.waiting[0]

    def _merge_last(self) -> None:
        later = self.waiting.pop()
        self.waiting.append(self.waiting.pop().merge(later))
