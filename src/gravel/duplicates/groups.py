"""Finding groups: one pass that counts, by hashes of each match level, and one that fetches the
rows to show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from gravel.duplicates.asked import Asked, Members, RungGroups, known_without, part_of, spellings
from gravel.duplicates.match_levels import MATCH_LEVELS, NAMES, spelled
from gravel.duplicates.result import Duplicates, MatchLevelCount
from gravel.duplicates.second import Second
from gravel.engine.distinct import Counted, Distinct, Room, counted_hashes
from gravel.engine.hashing import both_hashes
from gravel.engine.known_values import KnownValues
from gravel.engine.memory import DEFAULT_MEMORY, give_back_freed_blocks
from gravel.engine.parallel import ordered_map
from gravel.engine.spill import Runs
from gravel.inspecting.binding import columns_named, explaining, reads, scope_of
from gravel.kernels.hashes import HashTable, ascending, distinct_hashes
from gravel.language import parse, tree
from gravel.language.bind import Given, bind, find_column
from gravel.language.writing import quoted
from gravel.problems import CallProblem, nearest
from gravel.sources.source import Batch, Malformed, Source, scan

_BYTES = 200  # that a distinct combination takes, with its hashes on every match_level
_MOST_KNOWN = 1 << 18  # texts of an expression whose spellings are kept
_EXAMPLES = 3
_MOST_ROWS = 50  # of a group that are shown


def _places(chosen: RungGroups, least: int, shown: int | None) -> np.ndarray:
    """The largest groups, of equal ones that which begins first."""
    big = np.flatnonzero(chosen.sizes >= least)
    order = big[np.lexsort((chosen.rows[big], -chosen.sizes[big]))]
    return order if shown is None else order[:shown]


@dataclass
class _Counts:
    """What the first pass gathers."""

    exact: Distinct
    without: list[Distinct]
    keys: dict[int, Distinct]
    rows: int = 0
    nulls: int = 0
    errors: int = 0
    malformed: list[Malformed] = field(default_factory=list)

    def forget(self) -> None:
        """Let go of the keys, of which no more is asked."""
        self.exact, self.without, self.keys = Distinct(), [], {}
        give_back_freed_blocks()


def duplicates(
    table: Source,
    on: Sequence[str] = (),
    *,
    key: Sequence[str] = (),
    match_level: str = "equal",
    null_equal: bool = False,
    least: int = 2,
    shown: int | None = 10,
    given: Given | None = None,
    memory: int = DEFAULT_MEMORY,
) -> Duplicates:
    """Find the groups of rows that are equal in all of `on` (none: in all columns, NULL like NULL)
    at a match level of the match levels. `least`: the size of the groups to show, `shown`: how
    many. Raises Diagnostic, CallProblem, TableProblem.
    """
    if match_level not in NAMES:
        near = nearest(match_level, list(NAMES))
        raise CallProblem(
            f"there is no match level {match_level}",
            hint=f"did you mean {near}?" if near else "match levels: " + ", ".join(NAMES),
        )
    asked = _asked(table, on, given, null_equal, memory)
    position = NAMES.index(match_level)
    keys = [_position(table, name) for name in key]
    counts = _count(asked, keys, memory)
    key_at = keys or _found_key(counts)
    levels = list(
        ordered_map(
            partial(_level, counts.exact, position),
            range(asked.match_levels),
            0 if counts.exact.settled() else 1,
        )
    )
    chosen = levels[position].chosen
    assert chosen is not None
    left_out = tuple(
        (text, _groups(state) - levels[0].groups)
        for text, state in zip(asked.on, counts.without, strict=False)
    )
    fetched = Second(
        asked, chosen, members(counts.exact, position, chosen), key_at, memory, position
    )
    counts.forget()
    fetched.run(
        _places(chosen, least, shown),
        [level.examples for level in levels],
        None if shown is None else _MOST_ROWS,
    )
    steps = tuple(
        MatchLevelCount(
            item.name,
            item.meaning,
            texts,
            level.groups,
            level.surplus,
            level.fresh,
            tuple(examples),
        )
        for item, texts, level, examples in zip(
            MATCH_LEVELS, asked.texts, levels, fetched.examples, strict=True
        )
    )
    return Duplicates(
        table.name,
        asked.on,
        asked.texts[position],
        match_level,
        tuple(table.columns[i] for i in key_at),
        tuple(table.columns),
        counts.rows,
        len(chosen.sizes),
        int(chosen.sizes.sum()),
        int((chosen.sizes - 1).sum()),
        int(chosen.sizes.max()) if len(chosen.sizes) else 0,
        counts.nulls,
        asked.null_equal,
        counts.errors,
        tuple(fetched.shown),
        steps,
        left_out,
        fetched.proposal(),
        tuple(counts.malformed),
        tuple(table.notes),
        table.read_as,
    )


def _asked(
    table: Source, on: Sequence[str], context: Given | None, null_equal: bool, memory: int
) -> Asked:
    whole = not on
    texts = tuple(on) if on else tuple(_quoted(name) for name in table.columns)
    syntax = [(parse.expression(text), text) for text in texts]
    # Of whole rows the texts are compared as they are written.
    scope = scope_of(table, [] if whole else columns_named(syntax, table.columns), context)
    with explaining(table, scope):
        first = [bind(node, scope, text) for node, text in syntax]
    spelled_texts = [
        tuple(
            spelled(match_level, text, item.type) for text, item in zip(texts, first, strict=True)
        )
        for match_level in MATCH_LEVELS
    ]
    most = min(_MOST_KNOWN, memory // (8 * _BYTES * len(first)))
    known = [KnownValues(most) for _ in first]
    return Asked(table, texts, scope, first, spelled_texts, spellings(), null_equal or whole, known)


def _quoted(name: str) -> str:
    return quoted(name)


def _position(table: Source, name: str) -> int:
    return find_column(tree.Name(0, len(name), name), table.columns, name)


# -- the first pass
def _count(asked: Asked, keys: list[int], memory: int) -> _Counts:
    table = asked.table
    room = Room(max(1000, memory // _BYTES))
    several = len(asked.on) > 1
    candidates = [] if keys else _candidates(table.columns)
    counts = _Counts(
        Distinct(room),
        [Distinct(room) for _ in asked.on] if several else [],
        {candidate: Distinct(room) for candidate in candidates},
    )
    wanted = sorted({*reads(asked.bound, len(table.columns)), *candidates})

    def work(batch: Batch) -> tuple[Any, ...]:
        batch = batch.texts()
        part, rows = part_of(asked, batch), batch.rows
        first, second = part.hashed()
        # Every match_level is hashed once for each combination that the batch has.
        known = np.flatnonzero(part.known)
        once = np.ones(len(known), np.int64)
        base = distinct_hashes(first[known], second[known], once, rows[known])
        extra = part.match_levels(asked.spellings, known[base.places])
        exact = Counted(*base[:4], tuple(extra))
        learned = [value.learned for value in part.values]
        without = []
        for left in range(len(counts.without)):
            there = known_without(part, asked, left)
            first_rows, two = part.hashed(left)
            without.append(counted_hashes(first_rows[there], two[there], rows[there]))
        own = {
            candidate: counted_hashes(*both_hashes(batch.columns[candidate]), rows)
            for candidate in candidates
        }
        failed = np.logical_or.reduce(part.failed)
        null = np.logical_or.reduce(part.null) & ~failed
        return batch, exact, without, own, learned, int(null.sum()), int(failed.sum())

    for batch, exact, without, own, learned, nulls, errors in scan(table, work, wanted):
        counts.rows += batch.count
        counts.malformed += batch.malformed
        counts.nulls += nulls
        counts.errors += errors
        counts.exact.add(exact)
        for values, lesson in zip(asked.known, learned, strict=True):
            if lesson is not None:
                values.teach(*lesson)
        for state, part in zip(counts.without, without, strict=True):
            state.add(part)
        for index, part in own.items():
            counts.keys[index].add(part)
    if not counts.exact.in_memory:
        # What is in files needs the memory that the rest still takes.
        for state in (counts.exact, *counts.without, *counts.keys.values()):
            state.spill()
        give_back_freed_blocks()
    return counts


def _candidates(columns: Sequence[str]) -> list[int]:
    """Columns that may be the key: the first one, and one that is called so."""
    named = [
        index for index, name in enumerate(columns) if name.casefold().endswith(("id", "key", "no"))
    ]
    return list(dict.fromkeys([0, *named]))[:2]


def _found_key(counts: _Counts) -> list[int]:
    return next(
        (
            [index]
            for index, state in counts.keys.items()
            if counts.rows and len(state) == counts.rows
        ),
        [],
    )


# -- what the counts come to
def _groups(state: Distinct) -> int:
    return sum(int((part.counts > 1).sum()) for part in state.pieces())


@dataclass
class _Level:
    """What the groups of a match level come to: how many, the rows beyond one of each, how many are
    new on it with examples of those; and the groups themselves of the level that is asked for."""

    groups: int
    surplus: int
    fresh: int
    examples: Members | None
    chosen: RungGroups | None


def _level(exact: Distinct, asked: int, match_level: int) -> _Level:
    result = _reduced(exact, match_level)
    examples = (
        members(exact, match_level, result, np.array(_examples(result))) if match_level else None
    )
    fresh = int((result.spellings > 1).sum()) if match_level else len(result.sizes)
    return _Level(
        len(result.sizes),
        int((result.sizes - 1).sum()),
        fresh,
        examples,
        result if match_level == asked else None,
    )


def _reduced(exact: Distinct, match_level: int) -> RungGroups:
    """The groups of several rows at a match level."""
    results: list[RungGroups] = []
    pieces = list(exact.pieces()) if exact.in_memory else None
    if match_level == 0:
        for part in pieces if pieces is not None else exact.pieces():
            many = part.counts > 1
            results.append(
                RungGroups(
                    part.first[many],
                    part.second[many],
                    part.counts[many],
                    part.rows[many],
                    np.ones(int(many.sum()), np.int64),
                )
            )
        return _together(results)

    def arrays(part: Counted) -> list[np.ndarray]:
        own = [part.extra[2 * match_level - 2], part.extra[2 * match_level - 1]]
        before = part.first if match_level == 1 else part.extra[2 * match_level - 4]
        return [*own, before, part.counts, part.rows]

    if pieces is not None:
        for part in pieces:
            results.append(_grouped(*arrays(part)))
        return _together(results)
    runs = Runs()
    for part in exact.pieces():
        result = arrays(part)
        order = ascending(result[0])
        runs.write([item[order] for item in result])
    for result in runs.ranges([], 1 << 20):
        results.append(_grouped(*result))
    return _together(results)


def _grouped(
    first: np.ndarray, second: np.ndarray, before: np.ndarray, counts: np.ndarray, rows: np.ndarray
) -> RungGroups:
    supplied = first
    order = ascending(first)
    first = first[order]
    alike = first[1:] == first[:-1] if len(first) else np.zeros(0, bool)
    # Only what shares a hash or is of several rows already can be a group of several rows.
    subset = (
        order[np.r_[alike, False] | np.r_[False, alike] | (counts[order] > 1)]
        if len(first)
        else order
    )
    return _several(*(item[subset] for item in (supplied, second, before, counts, rows)))


def _several(
    first: np.ndarray, second: np.ndarray, before: np.ndarray, counts: np.ndarray, rows: np.ndarray
) -> RungGroups:
    order = np.lexsort((before, second, first))
    first, second, before, counts, rows = (
        first[order],
        second[order],
        before[order],
        counts[order],
        rows[order],
    )
    if not len(first):
        return RungGroups(first, second, counts, rows, counts)
    new = np.r_[True, (first[1:] != first[:-1]) | (second[1:] != second[:-1])]
    other = new | np.r_[True, before[1:] != before[:-1]]
    starts = np.flatnonzero(new)
    sizes, heads = np.add.reduceat(counts, starts), np.minimum.reduceat(rows, starts)
    spellings = np.add.reduceat(other.astype(np.int64), starts)
    many = sizes > 1
    return RungGroups(
        first[starts][many], second[starts][many], sizes[many], heads[many], spellings[many]
    )


def members(
    exact: Distinct, match_level: int, groups: RungGroups, subset: np.ndarray | None = None
) -> Members:
    """The exactly equal keys of a match level's groups, or of some of them (their places)."""
    if match_level == 0 and subset is None:
        return Members(
            groups.first, groups.second, np.arange(len(groups.first)), groups.sizes, groups.rows
        )
    results: list[tuple[np.ndarray, ...]] = []
    # Ascending places, so that the hashes ascend too.
    chosen = np.arange(len(groups.first)) if subset is None else np.sort(subset).astype(np.int64)
    table = HashTable(groups.first[chosen], groups.second[chosen])
    for part in exact.pieces():
        first_rows = part.first if match_level == 0 else part.extra[2 * match_level - 2]
        two = part.second if match_level == 0 else part.extra[2 * match_level - 1]
        place = table.find(first_rows, two)
        own = np.flatnonzero(place >= 0)
        results.append(
            (
                part.first[own],
                part.second[own],
                chosen[place[own]],
                part.counts[own],
                part.rows[own],
            )
        )
    empty = np.zeros(0, np.int64)
    if not results:
        return Members(empty.astype(np.uint64), empty.astype(np.uint64), empty, empty, empty)
    return Members(*(np.concatenate(columns) for columns in zip(*results, strict=True)))


def _together(result: list[RungGroups]) -> RungGroups:
    empty = np.zeros(0, np.int64)
    if not result:
        return RungGroups(empty.astype(np.uint64), empty.astype(np.uint64), empty, empty, empty)
    return RungGroups(
        *(
            np.concatenate([getattr(item, name) for item in result])
            for name in ("first", "second", "sizes", "rows", "spellings")
        )
    )


def _examples(rung_groups: RungGroups) -> list[int]:
    """Places of the largest groups that are new at a match level."""
    new = np.flatnonzero(rung_groups.spellings > 1)
    order = np.lexsort(
        (rung_groups.rows[new], -rung_groups.sizes[new], -rung_groups.spellings[new])
    )
    return [int(index) for index in new[order][:_EXAMPLES]]
