"""Window functions: rows sorted by partition and order, computed there, and put back where they
came from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine import exact_sum
from gravel.engine.aggregates import finished_sums, ordered, spreads
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Type
from gravel.querying.relation import joined

Segment = tuple[np.ndarray, np.ndarray]


class ResolvedFrame(Struct, frozen=True):
    """A frame with its distances known: `low` and `high` are rows or groups before (below 0) or
    after, None for UNBOUNDED; for RANGE with a distance the first and last place by the order's key
    are given instead."""

    unit: str
    low: int | None
    high: int | None
    exclude: str = ""
    low_place: np.ndarray | None = None
    high_place: np.ndarray | None = None


class Sorted:
    """The rows of a window in order: partitions one after another, each by the window's ORDER BY,
    ties by row."""

    def __init__(
        self,
        partition: Sequence[pa.Array],
        keys: Sequence[pa.Array],
        sorts: Sequence[Any],
        count: int,
    ) -> None:
        self.count = count
        self.groups, first = codes_of(partition, count)
        self.many = len(first) if partition else 1
        self._keys, self._sorts = keys, sorts
        if keys or not partition:
            self._sort()

    def __getattr__(self, name: str) -> np.ndarray:
        # Sorting is put off: a window without an order that is as wide as its partition needs none.
        if name in (
            "order",
            "starts",
            "sizes",
            "place",
            "new_peer",
            "new",
            "peer_start",
            "peer_end",
            "ordered",
        ):
            self._sort()
            return self.__dict__[name]
        raise AttributeError(name)

    def _sort(self) -> None:
        count, groups_, keys, sorts = self.count, self.groups, self._keys, self._sorts
        if keys:
            first = sort_order([pa.chunked_array([key]) for key in keys], sorts)
            self.order = first[np.argsort(groups_[first], kind="stable")]
        else:
            self.order = np.argsort(groups_, kind="stable")
        placed = groups_[self.order]
        new = np.ones(count, bool)
        new[1:] = placed[1:] != placed[:-1]
        self.starts = (
            np.maximum.accumulate(np.where(new, np.arange(count), 0))
            if count
            else np.zeros(0, np.int64)
        )
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
        self.peer_start = (
            np.maximum.accumulate(np.where(changed, np.arange(count), 0)) if count else self.starts
        )
        ends = np.append(np.flatnonzero(changed)[1:], count) if count else np.zeros(0, np.int64)
        self.peer_end = (
            np.repeat(ends, np.diff(np.append(np.flatnonzero(changed), count)))
            if count
            else self.starts
        )
        self.ordered = bool(keys)

    def back(self, values: Any) -> pa.Array:
        """Values of the sorted rows, in the order of the rows as they came."""
        place = np.empty(self.count, np.int64)
        place[self.order] = np.arange(self.count)
        return (
            values.take(to_arrow(place))
            if not isinstance(values, np.ndarray)
            else to_arrow(values[place])
        )

    def vector_back(self, vector: Vector) -> Vector:
        """A vector of the sorted rows, in the order of the rows as they came."""
        place = np.empty(self.count, np.int64)
        place[self.order] = np.arange(self.count)
        return Vector(
            vector.values.take(to_arrow(place)),
            None if vector.errors is None else vector.errors[place],
        )

    def rank(self, name: str, buckets: int = 1) -> pa.Array:
        """ROW_NUMBER, RANK, DENSE_RANK, PERCENT_RANK, CUME_DIST or NTILE."""
        if name == "ROW_NUMBER":
            return self.back(self.place + 1)
        if name == "RANK":
            return self.back(self.peer_start - self.starts + 1)
        if name == "DENSE_RANK":
            return self.back(self._group_numbers() + 1)
        if name == "PERCENT_RANK":
            return self.back(
                np.where(
                    self.sizes > 1,
                    (self.peer_start - self.starts) / np.maximum(self.sizes - 1, 1),
                    0.0,
                )
            )
        if name == "CUME_DIST":
            return self.back((self.peer_end - self.starts) / self.sizes)
        each, more = self.sizes // buckets, self.sizes % buckets
        large = more * (each + 1)
        return self.back(
            np.where(
                self.place < large,
                self.place // (each + 1),
                more + (self.place - large) // np.maximum(each, 1),
            )
            + 1
        )

    def _group_numbers(self) -> np.ndarray:
        """For each sorted row the number of its group of peers in its partition, from 0."""
        steps = np.cumsum(self.new_peer)
        numbers: np.ndarray = steps - steps[self.starts] if self.count else steps
        return numbers

    def shifted(
        self, values: pa.Array, by: int, default: pa.Array | None, known: np.ndarray | None
    ) -> pa.Array:
        """LAG and LEAD: the value so many rows before (below 0) or after, within the partition,
        else the default; with `known` only rows under that mask count."""
        by = max(min(by, self.count), -self.count)
        if known is None:
            index = np.arange(self.count) + by
            inside = (index >= self.starts) & (index < self.starts + self.sizes)
        else:
            held = known[self.order]
            rows = np.flatnonzero(held)
            # How many known rows come before each, and with it.
            before = np.cumsum(held) - held
            target = (
                before + by
                if by < 0
                else before + held + by - 1
                if by
                else np.where(held, before, -1)
            )
            inside = (target >= 0) & (target < len(rows))
            index = (
                rows[np.where(inside, target, 0)] if len(rows) else np.zeros(self.count, np.int64)
            )
            inside &= (index >= self.starts) & (index < self.starts + self.sizes)
        result = values.take(to_arrow(self.order)).take(to_arrow(np.where(inside, index, 0)))
        if default is None:
            output = pc.if_else(to_arrow(inside), result, pa.scalar(None, values.type))
        else:
            output = pc.if_else(to_arrow(inside), result, default.take(to_arrow(self.order)))
        return self.back(output)

    # -- frames
    def bounds(self, frame: ResolvedFrame | None) -> Segment:
        """The first row of each row's frame, and the one after its last, among the sorted rows."""
        ends = self.starts + self.sizes
        if frame is None:
            return (self.starts, self.peer_end) if self.ordered else (self.starts, ends)
        if frame.unit == "ROWS":
            rows, far = np.arange(self.count), self.count + 1
            first = self.starts if frame.low is None else rows + max(min(frame.low, far), -far)
            last = ends if frame.high is None else rows + max(min(frame.high, far), -far) + 1
        elif frame.unit == "GROUPS":
            first, last = self._group_bounds(frame, ends)
        else:
            first = (
                self.starts
                if frame.low is None
                else self.peer_start
                if frame.low_place is None
                else frame.low_place
            )
            last = (
                ends
                if frame.high is None
                else self.peer_end
                if frame.high_place is None
                else frame.high_place
            )
        first = np.clip(first, self.starts, ends)
        return first, np.maximum(np.clip(last, self.starts, ends), first)

    def _group_bounds(self, frame: ResolvedFrame, ends: np.ndarray) -> Segment:
        numbers = np.cumsum(self.new_peer) - 1
        begins = np.append(np.flatnonzero(self.new_peer), self.count)
        first_of = numbers[self.starts] if self.count else numbers
        far, last_of = self.count + 1, numbers[ends - 1] if self.count else numbers
        low = first_of if frame.low is None else numbers + max(min(frame.low, far), -far)
        high = last_of if frame.high is None else numbers + max(min(frame.high, far), -far)
        first = np.where(low > last_of, ends, begins[np.clip(low, first_of, last_of)])
        last = np.where(high < first_of, self.starts, begins[np.clip(high, first_of, last_of) + 1])
        return first, last

    def segments(self, frame: ResolvedFrame | None) -> list[Segment]:
        """Each row's frame as stretches of the sorted rows, without what EXCLUDE takes out."""
        first, last = self.bounds(frame)
        if frame is None or not frame.exclude:
            return [(first, last)]
        rows = np.arange(self.count)
        if frame.exclude == "CURRENT ROW":
            holes = [(rows, rows + 1)]
        elif frame.exclude == "GROUP":
            holes = [(self.peer_start, self.peer_end)]
        else:
            holes = [(self.peer_start, rows), (rows + 1, self.peer_end)]
        result, begin = [], first
        for start, end in holes:
            result.append((begin, np.maximum(np.minimum(start, last), begin)))
            begin = np.maximum(begin, np.minimum(end, last))
        result.append((begin, np.maximum(last, begin)))
        return result

    def _through(self, line: np.ndarray, frame: ResolvedFrame | None) -> np.ndarray:
        """Sums of a line of the sorted rows over each frame."""
        upto = np.concatenate([np.zeros(1, line.dtype), np.cumsum(line)])
        spans = [upto[last] - upto[first] for first, last in self.segments(frame)]
        return np.sum(spans, axis=0)

    def counted(self, mask: np.ndarray, frame: ResolvedFrame | None) -> np.ndarray:
        """Rows of each frame under a mask, of the sorted rows."""
        return self._through(mask[self.order].astype(np.int64), frame)

    def nth(
        self,
        values: pa.Array,
        frame: ResolvedFrame | None,
        number: int,
        from_last: bool,
        known: np.ndarray | None,
    ) -> pa.Array:
        """FIRST_VALUE, LAST_VALUE, NTH_VALUE: the value of that row of the frame (from 1), NULL
        where there is none; with `known` only rows under that mask count."""
        held = np.ones(self.count, bool) if known is None else known[self.order]
        rows = np.flatnonzero(held)
        before = np.concatenate([[0], np.cumsum(held)])
        total = self.counted(np.ones(self.count, bool) if known is None else known, frame)
        want = total - number if from_last else np.full(self.count, number - 1)
        inside = (want >= 0) & (want < total)
        index = np.zeros(self.count, np.int64)
        passed = np.zeros(self.count, np.int64)
        for first, last in self.segments(frame):
            here = before[last] - before[first]
            mine = inside & (want >= passed) & (want < passed + here)
            index[mine] = (before[first] + want - passed)[mine]
            passed += here
        place = rows[np.where(inside, index, 0)] if len(rows) else np.zeros(self.count, np.int64)
        result = (
            values.take(to_arrow(self.order)).take(to_arrow(place, mask=~inside))
            if self.count
            else values
        )
        return self.back(result)

    def totals(
        self, values: pa.Array, mask: np.ndarray, frame: ResolvedFrame | None, kind: Type, name: str
    ) -> Vector:
        """SUM, AVG, VAR_… or STDDEV_… over each frame, exact before it is rounded."""
        units = exact_sum.units_of(values)
        whole = np.where(mask, units.whole, 0)[self.order]
        counts = self.counted(mask, frame)
        special: dict[int, float] = {}
        if units.special is not None:
            special = exact_sum.sums_of_specials(
                units.special, lambda odd: self.counted(odd & mask, frame)
            )
        sums = self._through(whole, frame)
        if name in ("SUM", "AVG"):
            return self.vector_back(finished_sums(sums, counts, units, kind, name, special))
        squares = self._through(whole.astype(object) ** 2, frame)
        return self.vector_back(
            spreads(name, replace(units, whole=sums), squares, counts, set(special))
        )

    def extreme(
        self, values: pa.Array, mask: np.ndarray, frame: ResolvedFrame | None, least: bool
    ) -> pa.Array:
        """MIN or MAX over each frame: by rank of the values, with a table of powers of two (a
        sparse table)."""
        order = ordered(values)
        ranks = np.empty(self.count, np.int64)
        ranks[order] = np.arange(self.count)
        worst = self.count if least else -1
        pick = np.minimum if least else np.maximum
        levels = [np.where(mask, ranks, worst)[self.order]]
        best = np.full(self.count, worst)
        for low, high in self.segments(frame):
            width = high - low
            while 2 ** len(levels) <= (int(width.max()) if len(width) else 0):
                step, prior = 2 ** (len(levels) - 1), levels[-1]
                wider = prior.copy()
                wider[: len(prior) - step] = pick(prior[: len(prior) - step], prior[step:])
                levels.append(wider)
            held = width > 0
            level = np.zeros(self.count, np.int64)
            level[held] = np.frexp(width[held].astype(np.float64))[1] - 1
            for number, table in enumerate(levels):
                here = held & (level == number)
                if here.any():
                    best[here] = pick(
                        best[here], pick(table[low[here]], table[high[here] - 2**number])
                    )
        none = best == worst
        return self.back(
            values.take(
                to_arrow(order[np.where(none, 0, best)] if self.count else order, mask=none)
            )
        )

    def each(
        self,
        compute: Callable[[np.ndarray, np.ndarray, int], Vector],
        frame: ResolvedFrame | None,
        kind: Type,
    ) -> Vector:
        """Any aggregate over each frame: `compute` gets (rows, frame numbers, frames), each row
        once a frame that holds it."""
        segments = self.segments(frame)
        sizes = np.sum([last - first for first, last in segments], axis=0)
        parts: list[Vector] = []
        step = max(
            1, min(self.count, int(4_000_000 // max(1, int(sizes.max()) if self.count else 1)))
        )
        for begin in range(0, self.count, step):
            frames = np.arange(begin, min(begin + step, self.count))
            rows, numbers = [], []
            for first, last in segments:
                width = (last - first)[frames]
                numbers.append(np.repeat(frames - begin, width))
                offsets = np.arange(width.sum()) - np.repeat(np.cumsum(width) - width, width)
                rows.append(np.repeat(first[frames], width) + offsets)
            owner, line = np.concatenate(numbers), np.concatenate(rows)
            sort = np.lexsort((line, owner))
            parts.append(compute(self.order[line[sort]], owner[sort], len(frames)))
        return self.vector_back(joined(parts, kind) if parts else Vector(pa.nulls(0, kind.arrow)))

    def range_places(self, ranks: np.ndarray, wanted: np.ndarray, low: bool) -> np.ndarray:
        """Where a RANGE frame begins (`low`) or ends: `ranks` never fall within a partition of the
        sorted rows, `wanted` has the rank of each row's bound."""
        least = int(min(ranks.min(), wanted.min())) if self.count else 0
        span = (int(max(ranks.max(), wanted.max())) - least + 1) if self.count else 1
        number = np.cumsum(self.new) - 1
        line = number * span + (ranks - least)
        return np.searchsorted(
            line, number * span + (wanted - least), side="left" if low else "right"
        )


def vector_of(values: pa.Array) -> Vector:
    """An Arrow array as a vector."""
    return Vector(values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values)
