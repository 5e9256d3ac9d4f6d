"""What depends on a value alone, of values that a column has had before: worked out once."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from gravel.kernels.hashes import HashTable, distinct_hashes

_WORTH = 0.2  # the share of a batch's rows that must be known for the next to be looked up


class Known(NamedTuple):
    """The place of each row's value among the known ones, -1 for a new one; and what is known: for
    each figure an array of it, by place."""

    places: np.ndarray
    figures: tuple[np.ndarray, ...]


class KnownValues:
    """The distinct values of a column so far, as two hashes each, and figures of them. Any thread
    may look values up, one teaches. No more than `most` are held. A column whose values hardly come
    again is given up."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._known: tuple[HashTable, tuple[np.ndarray, ...]] | None = None
        self._pending: list[tuple[np.ndarray, ...]] = []
        self._waiting = 0
        self._given_up = False

    def __reduce__(self) -> Any:
        """What is known stays where it was learned."""
        return KnownValues, (self._most,)

    def find(self, first: np.ndarray, second: np.ndarray) -> Known | None:
        """Look up values by their hashes; None where nothing is known that would be of use."""
        known = self._known
        if known is None or self._given_up:
            return None
        table, figures = known
        return Known(table.find(first, second), figures)

    def teach(
        self, rows: int, first: np.ndarray, second: np.ndarray, figures: tuple[np.ndarray, ...]
    ) -> None:
        """Take in the new values of a batch of so many rows."""
        if self._given_up:
            return
        held = 0 if self._known is None else len(self._known[0].first)
        if held and len(first) > (1 - _WORTH) * rows:
            self._known, self._pending, self._given_up = None, [], True
            return
        if not len(first) or held + self._waiting + len(first) > self._most:
            return
        self._pending.append((first, second, *figures))
        self._waiting += len(first)
        # Not for every batch: only where it adds a good part to what is held.
        if self._waiting * 4 >= held:
            self._put_together()

    def _put_together(self) -> None:
        if self._known is not None:
            table, known_figures = self._known
            self._pending.append((table.first, table.second, *known_figures))
        first, second, *learned = (
            np.concatenate(column) for column in zip(*self._pending, strict=True)
        )
        # Batches that were under way at once may both have taught the same value.
        pairs = distinct_hashes(
            first, second, np.ones(len(first), np.int64), np.zeros(len(first), np.int64)
        )
        self._known = (
            HashTable(pairs.first, pairs.second),
            tuple(figure[pairs.places] for figure in learned),
        )
        self._pending, self._waiting = [], 0
