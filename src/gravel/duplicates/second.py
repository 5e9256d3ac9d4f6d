"""The rows of groups: those to show, examples of each match level, and in which columns the rows of
a group disagree."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.duplicates.asked import Asked, Members, RungGroups, part_of
from gravel.duplicates.result import Group, GroupRow, LevelValue, Proposal
from gravel.engine.engine import OfBatch
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.hashing import NULL_HASH, hashes
from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.sets import member
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.kernels.hashes import HashTable
from gravel.language import nodes, tree
from gravel.language.functions.casts import to_text
from gravel.language.types import Kind, Type
from gravel.language.writing import quoted
from gravel.sources.source import Batch, InferredTypeRefuted, Source, scan

_SPELLINGS = 6
_CELL = (
    14  # bytes that a value takes while groups are compared: its hash, and its share of the sort
)
_NOTHING = tree.Name(0, 0, "")
_ASCENDING, _NEWEST = (
    tree.SortKey(0, 0, _NOTHING, False, None),
    tree.SortKey(0, 0, _NOTHING, True, False),
)
_LATEST = ("updat", "modif", "chang", "edit", "since", "date", "day")


class DetailPartial(Struct):
    """What a batch has of what is wanted."""

    shown: list[tuple[int, int, tuple[str | None, ...]]] = field(
        default_factory=list
    )  # group, row, values
    spelled: dict[int, str | None] = field(
        default_factory=dict
    )  # by row: what is asked for, as text
    groups: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    rows: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    cells: list[np.ndarray] = field(default_factory=list)
    prefer: Any = None


class Detail(Struct, frozen=True):
    """What is taken of a batch: of the rows of groups from `part`'s first to before its last the
    hashes of their cells; on the first of several readings the rows of the groups to show, and what
    is asked for in the `wanted` rows. `lookup` finds the keys of members, `groups` has the group of
    each."""

    asked: Asked
    lookup: HashTable
    groups: np.ndarray
    part: tuple[int, int]
    shown: np.ndarray | None
    wanted: np.ndarray
    prefer: int | None

    def __call__(self, batch: Batch) -> DetailPartial:
        result = DetailPartial()
        batch = batch.texts()
        part = part_of(self.asked, batch)
        place = self.lookup.find(*part.hashed())
        own = (place >= 0) & part.known
        group = self.groups[place] if len(self.groups) else place
        texts = batch.columns
        if self.shown is not None:
            for index in np.flatnonzero(own & member(group, self.shown)):
                values = tuple(column[int(index)].as_py() for column in texts)
                result.shown.append((int(group[index]), int(batch.rows[index]), values))
            if len(self.wanted):
                result.spelled = _spelled(self.asked, self.wanted, batch)
        begin, end = self.part
        mine = np.flatnonzero(own & (group >= begin) & (group < end))
        if len(mine):
            chosen = to_arrow(mine)
            result.groups, result.rows = _narrow(group[mine]), _narrow(batch.rows[mine])
            result.cells = [hashes(column.take(chosen)) for column in texts]
            result.prefer = None if self.prefer is None else texts[self.prefer].take(chosen)
        return result


def _spelled(asked: Asked, wanted: np.ndarray, batch: Batch) -> dict[int, str | None]:
    """What is asked for in the wanted rows, as texts."""
    batch = batch.texts()
    where = np.flatnonzero(member(batch.rows, wanted))
    if not len(where):
        return {}
    chosen = to_arrow(where)
    frame = Frame(len(where), [column.take(chosen) for column in batch.columns], asked.types)
    columns = [
        to_text(run(item, frame).spread(frame.count).values, item.type).to_pylist()
        for item in asked.bound
    ]
    results = {}
    for row, cells in zip(batch.rows[where].tolist(), zip(*columns, strict=True), strict=True):
        results[row] = (
            cells[0]
            if len(cells) == 1
            else " | ".join("" if cell is None else cell for cell in cells)
        )
    return results


class Second(Struct):
    """The second reading of a table: `chosen` are the groups of the match level asked for,
    `members` their keys."""

    table: Source
    asked: Asked
    chosen: RungGroups
    members: Members
    key: list[int]
    memory: int
    match_level: int = 0
    shown: list[Group] = field(default_factory=list)
    examples: list[list[tuple[LevelValue, ...]]] = field(default_factory=list)
    _disagree: np.ndarray | None = None
    _rescued: np.ndarray | None = None
    _prefer: int | None = None

    def run(self, places: np.ndarray, examples: Sequence[Members | None], most: int | None) -> None:
        """Read what is wanted: the groups at `places`, and the spellings of each match level's
        examples."""
        texts = {
            int(row) for example in examples if example is not None for row in _commonest(example)
        }
        wanted = np.array(sorted(texts), np.int64)
        table = self.table
        spelled: dict[int, str | None] = {}
        if len(self.chosen.sizes):
            types = table.look_at_types()
            try:
                days = _latest(table, self.asked, types)
                if days is not None and table.guess([days])[days] != types[days]:
                    raise InferredTypeRefuted(table.columns[days])
                spelled = self._read_groups(places, wanted, most, days)
            except InferredTypeRefuted:  # by a row behind those that suggested it
                days = _latest(table, self.asked, table.types(range(len(table.columns))))
                spelled = self._read_groups(places, wanted, most, days)
        elif len(wanted):
            work = OfBatch(partial(_spelled, self.asked, wanted))
            splits = table.holding(wanted.tolist())
            for texts_of_rows in table.engine.map_splits(table, work, splits=splits):
                spelled |= texts_of_rows
        self.examples = [
            [] if example is None else _spellings(example, spelled) for example in examples
        ]

    def _read_groups(
        self, places: np.ndarray, wanted: np.ndarray, most: int | None, prefer: int | None
    ) -> dict[int, str | None]:
        """Read the groups at `places`, those with a later day in a column before others, and count
        in all groups; the spellings in the `wanted` rows."""
        table, width = self.table, len(self.table.columns)
        self._disagree, self._rescued = np.zeros(width, np.int64), np.zeros(width, np.int64)
        self._prefer = prefer
        spelled: dict[int, str | None] = {}
        total = int(self.chosen.sizes.sum())
        passes = max(1, -(-total * _CELL * (width + 3) // self.memory))
        sizes = np.cumsum(self.chosen.sizes)
        ends = np.searchsorted(sizes, np.arange(1, passes + 1) * (total / passes)) + 1
        results: dict[int, list[tuple[int, tuple[str | None, ...]]]] = {
            int(place): [] for place in places
        }
        lookup = HashTable(self.members.first, self.members.second)
        begin = 0
        for number, end in enumerate(ends.tolist()):
            parts = []
            detail = Detail(
                self.asked,
                lookup,
                self.members.groups,
                (begin, end),
                np.sort(places) if number == 0 else None,
                wanted,
                prefer,
            )
            for part in scan(table, detail):
                spelled |= part.spelled
                for group, row, values in part.shown:
                    results[group].append((row, values))
                if len(part.groups):
                    parts.append(part)
            self._analyse(parts)
            parts.clear()
            if passes > 1:
                give_back_freed_blocks()
            begin = end
        self._show(results, places, most)
        return spelled

    def _show(
        self,
        result: dict[int, list[tuple[int, tuple[str | None, ...]]]],
        places: np.ndarray,
        most: int | None,
    ) -> None:
        for number, place in enumerate(places.tolist(), 1):
            rows = result[place]
            names = self.table.columns
            differs = tuple(
                name
                for index, name in enumerate(names)
                if index not in self.key and len({values[index] for _, values in rows}) > 1
            )
            subset = tuple(
                GroupRow(row, dict(zip(names, values, strict=True))) for row, values in rows[:most]
            )
            self.shown.append(Group(number, len(rows), subset, differs))

    def _analyse(self, parts: list[DetailPartial]) -> None:
        """Count for each column the groups with different known values, and the NULLs of survivors
        that others know."""
        if not parts or self._disagree is None or self._rescued is None:
            return
        groups, rows = (
            np.concatenate([getattr(part, name) for part in parts]) for name in ("groups", "rows")
        )
        order = np.lexsort((rows, groups))
        if self._prefer is not None:
            prefer = pa.chunked_array([part.prefer for part in parts]).combine_chunks()
            order = sort_order(
                [to_arrow(groups), prefer, to_arrow(rows)], [_ASCENDING, _NEWEST, _ASCENDING]
            )
        groups = groups[order]
        starts = np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
        number = np.cumsum(np.r_[False, groups[1:] != groups[:-1]])
        for index in range(len(self._disagree)):
            cells = np.concatenate([part.cells[index] for part in parts])[order]
            known = cells != NULL_HASH
            if not known.any():
                continue
            least = np.full(len(starts), np.iinfo(np.uint64).max, np.uint64)
            most = np.zeros(len(starts), np.uint64)
            np.minimum.at(least, number[known], cells[known])
            np.maximum.at(most, number[known], cells[known])
            has = np.zeros(len(starts), bool)
            has[number[known]] = True
            self._disagree[index] += int((has & (most > least)).sum())
            self._rescued[index] += int((has & ~known[starts]).sum())

    def proposal(self) -> Proposal | None:
        """A step that would make one row of each group."""
        if (
            self._disagree is None
            or self._rescued is None
            or self.asked.null_equal
            or not len(self.chosen.sizes)
        ):
            return None
        names = self.table.columns
        disagree = {
            names[index]: int(many)
            for index, many in enumerate(self._disagree)
            if many and index not in self.key
        }
        rescued = {names[index]: int(many) for index, many in enumerate(self._rescued) if many}
        prefer = None if self._prefer is None else f"{quoted(names[self._prefer])} DESC NULLS LAST"
        return Proposal(
            self.asked.texts[self.match_level], prefer, tuple(rescued), disagree, rescued
        )


def _narrow(numbers: np.ndarray) -> np.ndarray:
    """Numbers from 0 in 32 bits where they fit."""
    return numbers.astype(np.int32) if int(numbers.max(initial=0)) < 2**31 else numbers


def _commonest(members: Members) -> list[int]:
    """The first rows of the keys with most rows, of each group some."""
    order = np.lexsort((members.rows, -members.counts, members.groups))
    groups = members.groups[order]
    starts = (
        np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
        if len(groups)
        else np.zeros(0, np.int64)
    )
    place = np.arange(len(groups)) - np.repeat(starts, np.diff(np.r_[starts, len(groups)]))
    return [int(row) for row in members.rows[order][place < _SPELLINGS]]


def _spellings(members: Members, spelled: dict[int, str | None]) -> list[tuple[LevelValue, ...]]:
    """For each group the texts of its most frequent keys, with the rows that have each."""
    results: dict[int, list[LevelValue]] = {}
    chosen = set(_commonest(members))
    for group, row, count in zip(
        members.groups.tolist(), members.rows.tolist(), members.counts.tolist(), strict=True
    ):
        if row in chosen:
            results.setdefault(group, []).append(LevelValue(spelled.get(row), count))
    ordered = sorted(
        results, key=lambda group: (-int(members.counts[members.groups == group].sum()), group)
    )
    return [
        tuple(sorted(results[group], key=lambda spelling: (-spelling.rows, spelling.value or "")))
        for group in ordered
    ]


def _latest(table: Source, asked: Asked, types: Mapping[int, Type]) -> int | None:
    """The column that tells which row is the newest: one of dates as ISO 8601 writes them, that is
    not asked for itself."""
    read = {column.index for item in asked.bound for column in nodes.columns_read(item)}
    days = [
        position
        for position, kind in types.items()
        if kind.kind in (Kind.DATE, Kind.TIMESTAMP) and position not in read
    ]
    named = [day for word in _LATEST for day in days if word in table.columns[day].casefold()]
    return next(iter([*named, *days]), None)
