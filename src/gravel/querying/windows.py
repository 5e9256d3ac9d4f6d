"""Window functions: rows sorted by partition and order, computed there, and put back where they came from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.vector import Vector
from gravel.inspecting.look import sort_order
from gravel.querying.relation import codes_of

_UNBOUNDED = 2**61


class Sorted:
    """The rows of a window in order: partitions one after another, each by the window's ORDER BY, ties by row."""

    def __init__(self, partition: Sequence[Any], keys: Sequence[Any], sorts: Sequence[Any], count: int) -> None:
        self.count = count
        self.groups, first = codes_of(partition, count)
        self.many = len(first) if partition else 1
        self._keys, self._sorts = keys, sorts
        if keys or not partition:
            self._sort()

    def __getattr__(self, name: str) -> Any:
        # Sorting is put off: a window without an order that is as wide as its partition needs none.
        if name in ("order", "starts", "sizes", "place", "new_peer", "new", "peer_start", "peer_end", "ordered"):
            self._sort()
            return self.__dict__[name]
        raise AttributeError(name)

    def _sort(self) -> None:
        count, groups, keys, sorts = self.count, self.groups, self._keys, self._sorts
        if keys:
            first = sort_order([pa.chunked_array([key]) for key in keys], sorts)
            self.order = first[np.argsort(groups[first], kind="stable")]
        else:
            self.order = np.argsort(groups, kind="stable")
        placed = groups[self.order]
        new = np.ones(count, bool)
        new[1:] = placed[1:] != placed[:-1]
        self.starts = np.maximum.accumulate(np.where(new, np.arange(count), 0)) if count else np.zeros(0, np.int64)
        begins = np.flatnonzero(new)
        sizes = np.diff(np.append(begins, count))
        self.sizes = np.repeat(sizes, sizes)
        self.place = np.arange(count) - self.starts
        # Peers are rows of one partition that the order does not tell apart.
        peers, _ = codes_of(keys, count) if keys else (np.zeros(count, np.int64), None)
        sorted_peers = peers[self.order]
        changed = new.copy()
        changed[1:] |= sorted_peers[1:] != sorted_peers[:-1]
        self.new_peer, self.new = changed, new
        self.peer_start = np.maximum.accumulate(np.where(changed, np.arange(count), 0)) if count else self.starts
        ends = np.append(np.flatnonzero(changed)[1:], count) if count else np.zeros(0, np.int64)
        self.peer_end = np.repeat(ends, np.diff(np.append(np.flatnonzero(changed), count))) if count else self.starts
        self.ordered = bool(keys)

    def back(self, values: Any) -> Any:
        """Values of the sorted rows, in the order of the rows as they came."""
        place = np.empty(self.count, np.int64)
        place[self.order] = np.arange(self.count)
        return values.take(pa.array(place)) if not isinstance(values, np.ndarray) else pa.array(values[place])

    def rank(self, name: str, buckets: int = 1) -> Any:
        """ROW_NUMBER, RANK, DENSE_RANK, PERCENT_RANK, CUME_DIST or NTILE."""
        if name == "ROW_NUMBER":
            return self.back(self.place + 1)
        if name == "RANK":
            return self.back(self.peer_start - self.starts + 1)
        if name == "DENSE_RANK":
            steps = np.cumsum(self.new_peer)
            return self.back(steps - steps[self.starts] + 1 if self.count else steps)
        if name == "PERCENT_RANK":
            return self.back(np.where(self.sizes > 1, (self.peer_start - self.starts) / np.maximum(self.sizes - 1, 1), 0.0))
        if name == "CUME_DIST":
            return self.back((self.peer_end - self.starts) / self.sizes)
        each, more = self.sizes // buckets, self.sizes % buckets
        large = more * (each + 1)
        return self.back(np.where(self.place < large, self.place // (each + 1), more + (self.place - large) // np.maximum(each, 1)) + 1)

    def shifted(self, values: Any, by: np.ndarray, default: Any) -> Any:
        """LAG and LEAD: the value so many rows before (below 0) or after, within the partition, else the default."""
        at = np.arange(self.count) + by
        inside = (at >= self.starts) & (at < self.starts + self.sizes)
        found = values.take(pa.array(self.order)).take(pa.array(np.where(inside, at, 0)))
        if default is None:
            made = pc.if_else(pa.array(inside), found, pa.scalar(None, values.type))
        else:
            made = pc.if_else(pa.array(inside), found, default.take(pa.array(self.order)))
        return self.back(made)

    def bounds(self, frame: tuple[str, int | None, int | None] | None) -> tuple[np.ndarray, np.ndarray]:
        """The first row of each row's frame, and the one after its last, among the sorted rows."""
        ends = self.starts + self.sizes
        if frame is None:
            return (self.starts, self.peer_end) if self.ordered else (self.starts, ends)
        unit, low, high = frame
        rows = np.arange(self.count)
        if unit == "RANGE":
            first = self.starts if low is None else self.peer_start
            last = self.peer_end if high == 0 else ends
            return first, last
        first = self.starts if low is None else np.maximum(self.starts, rows + max(low, -_UNBOUNDED))
        last = ends if high is None or high >= _UNBOUNDED else np.minimum(ends, rows + high + 1)
        return np.minimum(first, ends), np.maximum(last, self.starts)

    def edge(self, values: Any, frame: Any, last: bool) -> Any:
        """FIRST_VALUE or LAST_VALUE of the frame; NULL where the frame has no row."""
        low, high = self.bounds(frame)
        at, empty = (high - 1 if last else low), high <= low
        found = values.take(pa.array(self.order)).take(pa.array(np.where(empty, 0, at), mask=empty))
        return self.back(found)

    def counted(self, mask: np.ndarray, frame: Any) -> np.ndarray:
        """Rows of each frame under a mask."""
        low, high = self.bounds(frame)
        upto = np.concatenate([[0], np.cumsum(mask[self.order])])
        return np.where(high > low, upto[np.maximum(high, low)] - upto[low], 0)

    def summed(self, values: Any, mask: np.ndarray, frame: Any) -> tuple[Any, np.ndarray]:
        """Exact sums over each frame (as Python sees them: integers, or doubles), and how many values each has."""
        counts = self.counted(mask, frame)
        low, high = self.bounds(frame)
        numbers = np.where(mask, values, 0)[self.order]
        upto = np.concatenate([np.zeros(1, numbers.dtype), np.cumsum(numbers)])
        return np.where(high > low, upto[np.maximum(high, low)] - upto[low], 0), counts

    def extreme(self, values: Any, mask: np.ndarray, frame: Any, least: bool) -> Any:
        """MIN or MAX over each frame: by rank of the values, with a table of powers of two (a sparse table)."""
        order = pc.sort_indices(values).to_numpy()
        ranks = np.empty(self.count, np.int64)
        ranks[order] = np.arange(self.count)
        worst = self.count if least else -1
        line = np.where(mask, ranks, worst)[self.order]
        low, high = self.bounds(frame)
        width = np.maximum(high - low, 0)
        levels = [line]
        pick = np.minimum if least else np.maximum
        while 2 ** len(levels) <= (int(width.max()) if len(width) else 0):
            step = 2 ** (len(levels) - 1)
            prior = levels[-1]
            nxt = prior.copy()
            nxt[: len(prior) - step] = pick(prior[: len(prior) - step], prior[step:])
            levels.append(nxt)
        best = np.full(self.count, worst)
        some = width > 0
        level = np.zeros(self.count, np.int64)
        level[some] = np.floor(np.log2(width[some])).astype(np.int64)
        for number, table in enumerate(levels):
            here = some & (level == number)
            if here.any():
                best[here] = pick(table[low[here]], table[high[here] - 2**number])
        none = best == worst
        return self.back(values.take(pa.array(order[np.where(none, 0, best)] if self.count else order, mask=none)))


def vector_of(values: Any) -> Vector:
    """An Arrow array as a vector."""
    return Vector(values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values)
