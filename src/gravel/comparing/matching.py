"""Matching the rows of two tables, a range of their keys' hashes at a time."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from gravel.comparing.how import ColumnPair, How
from gravel.engine.hashed_rows import RowRange
from gravel.engine.hashing import NULL_HASH
from gravel.kernels.hashes import ascending


class Matches(Struct):
    """What matching has come to: rows in both, and those of them with a cell that differs; of each
    side the rows that it has alone, its repeated keys and their rows; of each column the cells that
    are equal, changed, filled and emptied, and the row numbers before and after of those that
    differ."""

    both: int
    changed: int
    alone: tuple[list[np.ndarray], list[np.ndarray]]
    repeated: np.ndarray
    cells: np.ndarray
    differing: list[list[tuple[np.ndarray, np.ndarray]]]

    @classmethod
    def none(cls, columns: int) -> Matches:
        """Of no rows."""
        cells = np.zeros((columns, 4), np.int64)
        return cls(0, 0, ([], []), np.zeros((2, 2), np.int64), cells, [[] for _ in range(columns)])

    def merge(self, other: Matches) -> None:
        """Take in those of another range."""
        self.both += other.both
        self.changed += other.changed
        for mine, more in zip(self.alone, other.alone, strict=True):
            mine += more
        self.repeated = self.repeated + other.repeated
        self.cells = self.cells + other.cells
        for known, pairs in zip(self.differing, other.differing, strict=True):
            known += pairs

    def rows_alone(self, side: int) -> np.ndarray:
        """The rows that a side has alone, ascending."""
        return np.sort(np.concatenate([np.zeros(0, np.int64), *self.alone[side]]))

    def cells_differing(self, column: int) -> tuple[np.ndarray, np.ndarray]:
        """Row numbers before and after of a column's cells that differ, in the order of before."""
        pairs = self.differing[column]
        old, new = (
            np.concatenate([np.zeros(0, np.int64), *(pair[side] for pair in pairs)])
            for side in (0, 1)
        )
        order = np.argsort(old, kind="stable")
        return old[order], new[order]


class RowMatcher(Struct, frozen=True):
    """Matches the rows of two ranges: the first row of a key with the first, and so on; cells are
    compared where there is a key."""

    columns: tuple[ColumnPair, ...]
    keyed: bool
    how: How

    def __call__(self, before: RowRange, after: RowRange) -> Matches:
        """What two ranges come to."""
        matches = Matches.none(len(self.columns))
        orders = ascending(before.first), ascending(after.first)
        keys = before.first[orders[0]], after.first[orders[1]]
        old, new = (order[places] for order, places in zip(orders, _pairs(*keys), strict=True))
        # In the order of before: tables that are alike are then read from one end to the other.
        partner = np.full(len(before.first), -1)
        partner[old] = new
        ours = np.flatnonzero(partner >= 0)
        theirs = partner[ours]
        good = before.second[ours] == after.second[theirs]
        ours, theirs = ours[good], theirs[good]
        matches.both = len(ours)
        for side, part, matched in ((0, before, ours), (1, after, theirs)):
            apart = np.ones(len(part.rows), bool)
            apart[matched] = False
            matches.alone[side].append(part.rows[apart])
            if self.keyed:
                counts = np.diff(np.append(_starts(keys[side]), len(keys[side])))
                matches.repeated[side] = (counts > 1).sum(), counts[counts > 1].sum()
        if self.keyed:
            self._compare_cells(before, after, ours, theirs, matches)
        else:
            matches.cells[:, 0] = len(ours)
        return matches

    def _compare_cells(
        self,
        before: RowRange,
        after: RowRange,
        ours: np.ndarray,
        theirs: np.ndarray,
        matches: Matches,
    ) -> None:
        changed = np.zeros(len(ours), bool)
        place = len(self.columns)  # of the words of the next numbers that may be close
        for at, column in enumerate(self.columns):
            a, b = before.others[at][ours], after.others[at][theirs]
            was, now = a == NULL_HASH, b == NULL_HASH
            differs = a != b
            if self.how.near(column):
                assert self.how.within is not None
                known = np.flatnonzero(differs & ~was & ~now)
                words = slice(place, place + column.words)
                was_words = [word[ours[known]] for word in before.others[words]]
                now_words = [word[theirs[known]] for word in after.others[words]]
                differs[known] = ~column.close(was_words, now_words, self.how.within)
                place += column.words
            filled, emptied = differs & was, differs & now
            matches.cells[at] = (
                (~differs).sum(),
                (differs & ~was & ~now).sum(),
                filled.sum(),
                emptied.sum(),
            )
            if differs.any():
                pair = before.rows[ours[differs]], after.rows[theirs[differs]]
                matches.differing[at].append(pair)
            changed |= differs
        matches.changed = int(changed.sum())


def _starts(keys: np.ndarray) -> np.ndarray:
    """Where each value begins."""
    changes = np.flatnonzero(keys[1:] != keys[:-1]) + 1
    return np.concatenate([np.zeros(min(1, len(keys)), np.int64), changes])


def _pairs(before: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places of what both have, both ascending: the first of a value with the first of it, the
    second with the second."""
    starts = _starts(before)
    sizes = np.diff(np.append(starts, len(before)))
    places = np.searchsorted(after, before)
    places += np.arange(len(before)) - np.repeat(starts, sizes)
    there = places < len(after)
    there[there] = after[places[there]] == before[there]
    return np.flatnonzero(there), places[there]
