"""The rows of groups: those to show, examples of each rung, and in which columns the rows of a group disagree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.duplicates.asked import Asked, RungGroups, hashed, values_of
from gravel.duplicates.result import Group, GroupRow, Proposal
from gravel.engine.hashing import NULL_HASH, hashes
from gravel.inspecting.look import sort_order
from gravel.language import nodes, tree
from gravel.language.functions.casts import to_text
from gravel.language.types import Kind
from gravel.tables.csv import CsvTable
from gravel.tables.table import Batch, scan

_SPELLINGS = 6
_NOTHING = tree.Name(0, 0, "")
_ASCENDING, _NEWEST = tree.SortKey(0, 0, _NOTHING, False, None), tree.SortKey(0, 0, _NOTHING, True, False)
_LATEST = ("updat", "modif", "chang", "edit", "since", "date", "day")


@dataclass
class _Part:
    """What a batch has of what is wanted."""

    shown: list[tuple[int, int, tuple[str | None, ...]]] = field(default_factory=list)  # group, row, values
    examples: list[tuple[int, int, str | None, int]] = field(default_factory=list)  # rung, example, spelling, rows
    groups: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    rows: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    cells: list[np.ndarray] = field(default_factory=list)
    prefer: Any = None


@dataclass
class Second:
    """The second reading of a table: `chosen` are the groups of the rung asked for."""

    asked: Asked
    at: int
    chosen: RungGroups
    key: list[int]
    memory: int
    shown: list[Group] = field(default_factory=list)
    examples: list[list[tuple[tuple[str | None, int], ...]]] = field(default_factory=list)
    _disagree: np.ndarray | None = None
    _rescued: np.ndarray | None = None
    _prefer: int | None = None

    def run(self, places: np.ndarray, ladder: Sequence[RungGroups], examples: Sequence[list[int]], most: int | None) -> None:
        """Read what is wanted: the groups at `places`, and the examples of each rung."""
        self.examples = [[] for _ in ladder]
        if not len(self.chosen.sizes) and not any(examples):
            return
        table = self.asked.table
        width = len(table.columns)
        self._disagree, self._rescued = np.zeros(width, np.int64), np.zeros(width, np.int64)
        self._prefer = _latest(self.asked)
        total = int(self.chosen.sizes.sum())
        passes = max(1, -(-total * 8 * (width + 3) // self.memory))
        ends = np.searchsorted(np.cumsum(self.chosen.sizes), np.arange(1, passes + 1) * (total / passes)) + 1
        found: dict[int, list[tuple[int, tuple[str | None, ...]]]] = {int(at): [] for at in places}
        told: dict[tuple[int, int], dict[str | None, int]] = {}
        begin = 0
        for number, end in enumerate(ends.tolist()):
            parts = []
            first = number == 0
            for part in scan(table, lambda batch: self._work(batch, begin, end, places, ladder, examples, first), None):  # noqa: B023
                for group, row, values in part.shown:
                    found[group].append((row, values))
                for rung, at, text, rows in part.examples:
                    spellings = told.setdefault((rung, at), {})
                    spellings[text] = spellings.get(text, 0) + rows
                if len(part.groups):
                    parts.append(part)
            self._analyse(parts)
            begin = end
        self._show(found, places, most)
        for (rung, _), spellings in sorted(told.items()):
            ordered = sorted(spellings.items(), key=lambda item: (-item[1], item[0] or ""))
            self.examples[rung].append(tuple(ordered[:_SPELLINGS]))

    def _work(
        self, batch: Batch, begin: int, end: int, places: np.ndarray, ladder: Sequence[RungGroups], examples: Sequence[list[int]], first: bool
    ) -> _Part:  # fmt: skip
        part = _Part()
        group, own = self._groups(batch, self.at, self.chosen)
        texts = [_text(column) for column in batch.columns]
        if first:
            for at in np.flatnonzero(own & np.isin(group, places)):
                part.shown.append((int(group[at]), int(batch.rows[at]), tuple(column[int(at)].as_py() for column in texts)))
            for rung, some in enumerate(examples):
                if some:
                    self._example(batch, rung, ladder[rung], some, part)
        mine = np.flatnonzero(own & (group >= begin) & (group < end))
        if len(mine):
            chosen = pa.array(mine)
            part.groups, part.rows = group[mine], batch.rows[mine]
            part.cells = [hashes(column.take(chosen)) for column in texts]
            part.prefer = None if self._prefer is None else texts[self._prefer].take(chosen)
        return part

    def _groups(self, batch: Batch, rung: int, groups: RungGroups) -> tuple[np.ndarray, np.ndarray]:
        """The place of each row's group, and whether it is in one."""
        known, _, _, values = values_of(self.asked, batch, rung)
        one, two = hashed(values), hashed(values, True)
        if not len(groups.first):
            return np.zeros(batch.count, np.int64), np.zeros(batch.count, bool)
        place = np.minimum(np.searchsorted(groups.first, one), len(groups.first) - 1)
        return place, known & (groups.first[place] == one) & (groups.second[place] == two)

    def _example(self, batch: Batch, rung: int, groups: RungGroups, some: list[int], part: _Part) -> None:
        group, own = self._groups(batch, rung, groups)
        where = np.flatnonzero(own & np.isin(group, some))
        if not len(where):
            return
        _, _, _, values = values_of(self.asked, batch, 0)
        columns = [
            to_text(one.values, bound.type).take(pa.array(where)).to_pylist()
            for one, bound in zip(values, self.asked.bound[0], strict=True)
        ]
        for at, cells in zip(where, zip(*columns, strict=True), strict=True):
            text = cells[0] if len(cells) == 1 else " | ".join("" if one is None else one for one in cells)
            part.examples.append((rung, some.index(int(group[at])), text, 1))

    def _show(self, found: dict[int, list[tuple[int, tuple[str | None, ...]]]], places: np.ndarray, most: int | None) -> None:
        for number, place in enumerate(places.tolist(), 1):
            rows = found[place]
            differs = [
                at for at in range(len(self.asked.table.columns)) if at not in self.key and len({values[at] for _, values in rows}) > 1
            ]
            some = tuple(GroupRow(row, values) for row, values in rows[:most])
            self.shown.append(Group(number, len(rows), some, tuple(differs)))

    def _analyse(self, parts: list[_Part]) -> None:
        """Count for each column the groups with different known values, and the NULLs of survivors that others know."""
        if not parts or self._disagree is None or self._rescued is None:
            return
        groups, rows = (np.concatenate([getattr(part, name) for part in parts]) for name in ("groups", "rows"))
        order = np.lexsort((rows, groups))
        if self._prefer is not None:
            prefer = pa.chunked_array([part.prefer for part in parts]).combine_chunks()
            order = sort_order([pa.array(groups), prefer, pa.array(rows)], [_ASCENDING, _NEWEST, _ASCENDING])
        groups = groups[order]
        starts = np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
        number = np.cumsum(np.r_[False, groups[1:] != groups[:-1]])
        for at in range(len(self._disagree)):
            cells = np.concatenate([part.cells[at] for part in parts])[order]
            known = cells != NULL_HASH
            if not known.any():
                continue
            least = np.full(len(starts), np.iinfo(np.uint64).max, np.uint64)
            most = np.zeros(len(starts), np.uint64)
            np.minimum.at(least, number[known], cells[known])
            np.maximum.at(most, number[known], cells[known])
            has = np.zeros(len(starts), bool)
            has[number[known]] = True
            self._disagree[at] += int((has & (most > least)).sum())
            self._rescued[at] += int((has & ~known[starts]).sum())

    def proposal(self) -> Proposal | None:
        """A step that would make one row of each group."""
        if self._disagree is None or self._rescued is None or self.asked.null_equal or not len(self.chosen.sizes):
            return None
        names = self.asked.table.columns
        told = tuple((names[at], int(many)) for at, many in enumerate(self._disagree) if many and at not in self.key)
        rescued = tuple((names[at], int(many)) for at, many in enumerate(self._rescued) if many)
        from gravel.language.writing import quoted

        prefer = None if self._prefer is None else f"{quoted(names[self._prefer])} DESC NULLS LAST"
        return Proposal(self.asked.texts[self.at], prefer, tuple(name for name, _ in rescued), told, rescued)


def _text(column: Any) -> Any:
    return column if pa.types.is_string(column.type) else column.cast(pa.string())


def _latest(asked: Asked) -> int | None:
    """The column that tells which row is the newest: one of dates as ISO 8601 writes them, that is not asked for itself."""
    table = asked.table
    fresh = CsvTable(
        table.path,
        table.name,
        delimiter=table.asked_delimiter,
        encoding=table.asked_encoding,
        empty_null=table.empty_null,
        texts=table.texts,
    )
    types = fresh.guess(list(range(len(fresh.columns))))
    read = {column.index for one in asked.bound[0] for column in nodes.columns_read(one)}
    days = [at for at, kind in types.items() if kind.kind in (Kind.DATE, Kind.TIMESTAMP) and at not in read]
    named = [at for word in _LATEST for at in days if word in table.columns[at].casefold()]
    return next(iter([*named, *days]), None)
