"""Groups of some rows with the states of their aggregates, which are put together with those of
others: what groups a table batch by batch."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, Self

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.aggregates import GroupState
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.querying.groups import distinct_rows
from gravel.querying.partitions import part_numbers
from gravel.querying.relation import end_to_end, taken


class FirstPlaces(Struct, frozen=True):
    """Where the first row of each group stands: the place of the row of a table, and the number of
    one of those that joins have made of it."""

    rows: np.ndarray
    numbers: np.ndarray

    @classmethod
    def end_to_end(cls, parts: Sequence[FirstPlaces]) -> FirstPlaces:
        """Those of some parts one after another."""
        return cls(
            np.concatenate([part.rows for part in parts]),
            np.concatenate([part.numbers for part in parts]),
        )

    def renumbered(self, groups: np.ndarray, many: int) -> FirstPlaces:
        """Those of so many groups, each of those under one of these numbers put together."""
        last = np.iinfo(np.int64).max
        rows, numbers = np.full(many, last), np.full(many, last)
        np.minimum.at(rows, groups, self.rows)
        first = self.rows == rows[groups]
        np.minimum.at(numbers, groups[first], self.numbers[first])
        return FirstPlaces(rows, numbers)

    def of_some(self, groups: np.ndarray) -> FirstPlaces:
        """Those of some groups, in that order."""
        return FirstPlaces(self.rows[groups], self.numbers[groups])

    def order(self) -> np.ndarray:
        """The groups in the order in which they are first met."""
        return np.lexsort((self.numbers, self.rows))


class RowsOfGroups(Struct, frozen=True):
    """The rows that an aggregate takes which needs all of them: the numbers of their groups, their
    values, and where they stand, where that is not the order in which parts come."""

    numbers: np.ndarray
    values: tuple[pa.Array, ...]
    places: FirstPlaces | None = None

    @classmethod
    def of(
        cls,
        numbers: np.ndarray,
        values: Sequence[pa.Array],
        known: np.ndarray,
        places: FirstPlaces | None = None,
    ) -> Self:
        """Those of some rows, of which some count."""
        rows = np.flatnonzero(known)
        every = tuple(item.take(to_arrow(rows)) for item in values)
        return cls(numbers[rows], every, None if places is None else places.of_some(rows))

    @classmethod
    def end_to_end(cls, states: Sequence[Self], sizes: Sequence[int]) -> Self:
        """Those of some states one after another, of so many groups each, as groups apart."""
        firsts = np.cumsum([0, *sizes])
        numbers = [first + state.numbers for first, state in zip(firsts, states, strict=False)]
        values = zip(*(state.values for state in states), strict=True)
        places = [state.places for state in states if state.places is not None]
        every = FirstPlaces.end_to_end(places) if places else None
        return cls(np.concatenate(numbers), tuple(map(pa.concat_arrays, values)), every)

    def renumbered(self, numbers: np.ndarray, many: int) -> Self:
        """Those of so many groups, each of those under one of these numbers put together."""
        return replace(self, numbers=numbers[self.numbers])

    def of_some(self, groups: np.ndarray) -> Self:
        """Those of some groups, which are numbered in that order."""
        places = np.full(max(groups.max(initial=-1), self.numbers.max(initial=-1)) + 1, -1)
        places[groups] = np.arange(len(groups))
        numbers = places[self.numbers]
        return type(self).of(numbers, self.values, numbers >= 0, self.places)

    def in_order(self) -> Self:
        """The rows in the order in which they stand."""
        if self.places is None:
            return self
        order = self.places.order()
        values = tuple(item.take(to_arrow(order)) for item in self.values)
        return type(self)(self.numbers[order], values)


class DistinctRows(RowsOfGroups, frozen=True):
    """The different values of each group that an aggregate of DISTINCT takes."""

    def renumbered(self, numbers: np.ndarray, many: int) -> Self:
        """See RowsOfGroups."""
        groups, every = numbers[self.numbers], np.ones(len(self.numbers), bool)
        return self.of(groups, self.values, distinct_rows(groups, list(self.values), every))


class PartialGroups(Struct, frozen=True):
    """Groups of some rows in the order in which they are first met: their keys, how many there are,
    of each aggregate its state, and where they are first met, where that is not the order in which
    parts come."""

    keys: tuple[Vector, ...]
    many: int
    states: tuple[GroupState | RowsOfGroups, ...]
    places: FirstPlaces | None = None

    @property
    def size(self) -> int:
        """How many groups and values of groups are held."""
        return self.many + sum(
            len(state.numbers) for state in self.states if isinstance(state, RowsOfGroups)
        )

    def merge(self, later: Sequence[PartialGroups]) -> PartialGroups:
        """See MergedByKeys."""
        parts = [self, *later]
        keys = [end_to_end(vectors) for vectors in zip(*(part.keys for part in parts), strict=True)]
        sizes = [part.many for part in parts]
        codes, first = np.zeros(len(parts), np.int64), np.zeros(1, np.int64)
        if keys:
            codes, first = codes_of([key.values for key in keys], sum(sizes))
        states: list[GroupState | RowsOfGroups] = []
        every: Any
        for every in zip(*(part.states for part in parts), strict=True):
            kind, among = type(every[0]), (sizes,) if isinstance(every[0], RowsOfGroups) else ()
            states.append(kind.end_to_end(every, *among).renumbered(codes, len(first)))
        places = [part.places for part in parts if part.places is not None]
        return PartialGroups(
            tuple(taken(key, first) for key in keys),
            len(first),
            tuple(states),
            FirstPlaces.end_to_end(places).renumbered(codes, len(first)) if places else None,
        )

    def cut(self, ranges: int) -> Iterator[tuple[int, PartialGroups]]:
        """See MergedByKeys."""
        numbers = part_numbers([key.values for key in self.keys], self.many, ranges)
        order = np.argsort(numbers, kind="stable")
        ends = np.cumsum(np.bincount(numbers, minlength=ranges))
        for number, groups in enumerate(np.split(order, ends[:-1])):
            if len(groups):
                yield number, self._of_some(groups)

    def _of_some(self, groups: np.ndarray) -> PartialGroups:
        keys = tuple(taken(key, groups) for key in self.keys)
        states = tuple(state.of_some(groups) for state in self.states)
        places = None if self.places is None else self.places.of_some(groups)
        return PartialGroups(keys, len(groups), states, places)
