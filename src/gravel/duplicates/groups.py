"""Finding groups: one pass that counts, by hashes of each match level, and one that fetches the
rows to show."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from functools import partial
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.duplicates.asked import Asked, Members, RungGroups, part_of, spellings
from gravel.duplicates.match_levels import MATCH_LEVELS, NAMES, spelled
from gravel.duplicates.result import Duplicates, LeftOutColumn, MatchLevelCount
from gravel.duplicates.second import Second
from gravel.engine.distinct import Counted, Distinct, Room, counted_hashes, range_size
from gravel.engine.engine import Question
from gravel.engine.hashing import both_hashes
from gravel.engine.known_values import KnownValues
from gravel.engine.memory import DEFAULT_MEMORY, give_back_freed_blocks
from gravel.inspecting.binding import (
    columns_named,
    explaining,
    expressions_in,
    names_in,
    reads,
    scope_of,
)
from gravel.kernels.hashes import HashTable, ascending, distinct_hashes
from gravel.language import parse, tree
from gravel.language.bind import bind
from gravel.language.scope import Given, find_column
from gravel.language.types import TEXT
from gravel.language.writing import quoted
from gravel.problems import CallProblem, nearest
from gravel.sources.source import Batch, Malformed, Source

_BYTES = 200  # that a distinct combination takes, with its hashes on every match_level
_MOST_KNOWN = 1 << 18  # texts of an expression whose spellings are kept
EXACT, WITHOUT, KEY = "exact", "without", "key"  # the keys of distinct values
_EXAMPLES = 3
_MOST_ROWS = 50  # of a group that are shown


def _places(chosen: RungGroups, least: int, shown: int | None) -> np.ndarray:
    """The largest groups, of equal ones that which begins first."""
    big = np.flatnonzero(chosen.sizes >= least)
    order = big[np.lexsort((chosen.rows[big], -chosen.sizes[big]))]
    return order if shown is None else order[:shown]


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
    """Find the groups of rows that are equal in all of `on` (none: in all columns that are not of
    the key, NULL like NULL) at a match level. `least`: the size of the groups to show, `shown`: how
    many. Raises Diagnostic, CallProblem, TableProblem.
    """
    if match_level not in NAMES:
        near = nearest(match_level, list(NAMES))
        raise CallProblem(
            f"there is no match level {match_level}",
            hint=f"did you mean {near}?" if near else "match levels: " + ", ".join(NAMES),
        )
    position = NAMES.index(match_level)
    keys = [_position(table, name) for name in names_in(key, table.columns)]
    asked = _asked(table, expressions_in(on, table.columns), keys, given, null_equal, memory)
    counts = CombinationState(asked, [] if keys else _candidates(table.columns), memory)
    wanted = sorted({*reads(asked.bound, len(table.columns)), *counts.candidates})
    table.engine.run(counts, table, wanted)
    counts.make_room()
    levels, examples, left_out, key_at = _answers(table, asked, counts, position)
    chosen = levels[position].chosen
    assert chosen is not None
    fetched = Second(
        table,
        asked,
        chosen,
        _members(table, counts, position, chosen),
        keys or key_at,
        memory,
        position,
    )
    counts.forget()
    fetched.run(_places(chosen, least, shown), examples, None if shown is None else _MOST_ROWS)
    steps = tuple(
        MatchLevelCount(
            item.name,
            item.meaning,
            texts,
            level.groups,
            level.extra_rows,
            level.fresh,
            tuple(shown_examples),
        )
        for item, texts, level, shown_examples in zip(
            MATCH_LEVELS, asked.texts, levels, fetched.examples, strict=True
        )
    )
    return Duplicates(
        table.name,
        asked.on,
        asked.texts[position],
        match_level,
        tuple(table.columns[i] for i in fetched.key),
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
        table.chosen,
    )


def _asked(
    table: Source,
    on: Sequence[str],
    keys: Sequence[int],
    context: Given | None,
    null_equal: bool,
    memory: int,
) -> Asked:
    whole = not on
    others = [name for index, name in enumerate(table.columns) if index not in keys]
    if whole and not others:
        raise CallProblem(
            "every column is a key column: nothing is left to be equal",
            hint="--on EXPR says what makes rows equal",
        )
    texts = tuple(on) if on else tuple(map(quoted, others))
    syntax = [(parse.expression(text), text) for text in texts]
    read = columns_named(syntax, table.columns)
    # Of whole rows the texts are compared as they are written.
    scope = scope_of(table, [] if whole else read, context)
    with explaining(table, scope):
        first = [bind(node, scope, text) for node, text in syntax]
    kinds = [*table.types(read).values()] if whole else [item.type for item in first]
    spelled_texts = [
        tuple(spelled(match_level, text, kind) for text, kind in zip(texts, kinds, strict=True))
        for match_level in MATCH_LEVELS
    ]
    most = min(_MOST_KNOWN, memory // (8 * _BYTES * len(first)))
    known = [KnownValues(most) for _ in first]
    return Asked(
        texts,
        scope.types,
        first,
        spelled_texts,
        spellings(),
        tuple(kind == TEXT for kind in kinds),
        null_equal or whole,
        known,
    )


def _position(table: Source, name: str) -> int:
    return find_column(tree.Name(0, len(name), name), table.columns, name)


# -- the first pass
class CombinationPartial(Struct, frozen=True):
    """What a batch says: its distinct combinations, those without each of the expressions, and the
    distinct values of columns that may be the key; what was learned of texts."""

    rows: int
    malformed: tuple[Malformed, ...]
    distinct: dict[Hashable, Counted]
    learned: list[Any]
    nulls: int
    errors: int


class CombinationState:
    """The combinations of what is asked, so far, by hashes of each match level. `candidates` are
    columns that may be the key."""

    def __init__(self, asked: Asked, candidates: Sequence[int], memory: int) -> None:
        self.asked, self.candidates = asked, candidates
        several = len(asked.on) > 1
        self.without = range(len(asked.on) if several else 0)
        room = Room(max(1000, memory // _BYTES))
        keys: list[Hashable] = [EXACT, *((WITHOUT, left) for left in self.without)]
        keys += [(KEY, candidate) for candidate in candidates]
        self.distinct: dict[Hashable, Any] = {key: Distinct(room) for key in keys}
        self.rows = self.nulls = self.errors = 0
        self.malformed: list[Malformed] = []

    def map(self, batch: Batch) -> CombinationPartial:
        """See State."""
        asked, batch = self.asked, batch.texts()
        part, rows = part_of(asked, batch), batch.rows
        first, second = part.hashed()
        # Every match_level is hashed once for each combination that the batch has.
        known = np.flatnonzero(part.known)
        once = np.ones(len(known), np.int64)
        base = distinct_hashes(first[known], second[known], once, rows[known])
        extra = part.match_levels(asked.spellings, known[base.places])
        distinct: dict[Hashable, Counted] = {EXACT: Counted(*base[:4], tuple(extra))}
        learned = [value.learned for value in part.values]
        if self.without:
            for left, ((first_rows, two), there) in enumerate(part.without_each(asked.null_equal)):
                distinct[WITHOUT, left] = counted_hashes(first_rows[there], two[there], rows[there])
        for candidate in self.candidates:
            distinct[KEY, candidate] = counted_hashes(*both_hashes(batch.columns[candidate]), rows)
        failed = np.logical_or.reduce(part.failed)
        null = np.logical_or.reduce(part.null) & ~failed
        return CombinationPartial(
            batch.count, batch.malformed, distinct, learned, int(null.sum()), int(failed.sum())
        )

    def add(self, part: CombinationPartial) -> None:
        """See State."""
        self.merge(part)
        for key, values in part.distinct.items():
            self.distinct[key].add(values)
        for known, lesson in zip(self.asked.known, part.learned, strict=True):
            if lesson is not None:
                known.teach(*lesson)

    def merge(self, later: CombinationPartial | CombinationState) -> None:
        """See State."""
        self.rows += later.rows
        self.malformed += later.malformed
        self.nulls += later.nulls
        self.errors += later.errors

    def make_room(self) -> None:
        """What is in files needs the memory that the rest still takes."""
        held = [values for values in self.distinct.values() if isinstance(values, Distinct)]
        if any(not values.in_memory for values in held):
            for values in held:
                values.spill()
            give_back_freed_blocks()

    def forget(self) -> None:
        """Let go of the values, of which no more is asked."""
        self.distinct = {}
        give_back_freed_blocks()


def _candidates(columns: Sequence[str]) -> list[int]:
    """Columns that may be the key: the first one, and one that is called so."""
    named = [
        index for index, name in enumerate(columns) if name.casefold().endswith(("id", "key", "no"))
    ]
    return list(dict.fromkeys([0, *named]))[:2]


# -- what the counts come to
def _several_rows(piece: Counted) -> int:
    """Values of several rows in a range of hashes."""
    return int((piece.counts > 1).sum())


def _answers(
    table: Source, asked: Asked, counts: CombinationState, position: int
) -> tuple[list[_Level], list[Members | None], tuple[LeftOutColumn, ...], list[int]]:
    """What the combinations come to: the match levels, of which the one at `position` keeps its
    groups; the keys of the examples of each; how many groups there would be more without each
    expression; and the column that is the key."""
    engine, distinct = table.engine, counts.distinct
    questions: list[Question[Any, Any]] = [
        Question(distinct[KEY, candidate], range_size, sum) for candidate in counts.candidates
    ]
    questions += [Question(distinct[WITHOUT, left], _several_rows, sum) for left in counts.without]
    for level in range(asked.match_levels):
        together = partial(_level, level, level == position)
        if level:
            rekeyed = engine.exchange(distinct[EXACT], partial(_of_level, level))
            questions.append(Question(rekeyed, _grouped, together))
        else:
            questions.append(Question(distinct[EXACT], _equal_groups, together))
    answers = engine.ask(questions)
    levels: list[_Level] = answers[-asked.match_levels :]
    key = [
        candidate
        for candidate, size in zip(counts.candidates, answers, strict=False)
        if counts.rows and size == counts.rows
    ]
    more = answers[len(counts.candidates) :]
    left_out = tuple(
        LeftOutColumn(asked.on[left], more[left] - levels[0].groups) for left in counts.without
    )
    examples = _members_of(
        table,
        counts,
        [(level, item.examples, item.places) for level, item in enumerate(levels) if level],
    )
    return levels, [None, *examples], left_out, key[:1]


class _Level(Struct):
    """What the groups of a match level come to: how many, the rows beyond one of each, how many are
    new on it; of these some examples, with their places; and all groups, where they are kept."""

    groups: int
    extra_rows: int
    fresh: int
    examples: RungGroups
    places: np.ndarray
    chosen: RungGroups | None


def _level(level: int, kept: bool, ranges: Iterable[RungGroups]) -> _Level:
    groups = _together(ranges)
    # Ascending places, so that the hashes ascend too.
    places = np.array(sorted(_examples(groups)) if level else [], np.int64)
    return _Level(
        len(groups.sizes),
        int((groups.sizes - 1).sum()),
        int((groups.spellings > 1).sum()) if level else len(groups.sizes),
        groups.taken(places),
        places,
        groups if kept else None,
    )


def _equal_groups(piece: Counted) -> RungGroups:
    """The groups of several rows that are exactly equal."""
    many = piece.counts > 1
    ones = np.ones(int(many.sum()), np.int64)
    first, second, counts, rows = (array[many] for array in piece.arrays[:4])
    return RungGroups(first, second, counts, rows, ones)


def _of_level(match_level: int, piece: Counted) -> Counted:
    """Exactly equal values by their hashes on a match level after the first; beside them, the hash
    on the level before."""
    first, second = piece.extra[2 * match_level - 2], piece.extra[2 * match_level - 1]
    before = piece.first if match_level == 1 else piece.extra[2 * match_level - 4]
    return Counted(first, second, piece.counts, piece.rows, (before,))


def _grouped(piece: Counted) -> RungGroups:
    """The groups of several rows on a match level."""
    first, counts = piece.first, piece.counts
    order = ascending(first)
    ascended = first[order]
    shared = np.zeros(len(first), bool)
    if len(first):
        alike = ascended[1:] == ascended[:-1]
        shared[1:] = alike
        shared[:-1] |= alike
    # Only what shares a hash or is of several rows already can be a group of several rows.
    together, alone = order[shared], order[~shared & (counts[order] > 1)]
    arrays = (first, piece.second, piece.extra[0], counts, piece.rows)
    several = _several(*(array[together] for array in arrays))
    ones = np.ones(len(alone), np.int64)
    single = RungGroups(first[alone], piece.second[alone], counts[alone], piece.rows[alone], ones)
    groups = _together([several, single])
    return groups.taken(ascending(groups.first))


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


def _members(
    table: Source, counts: CombinationState, match_level: int, groups: RungGroups
) -> Members:
    """The exactly equal keys of a match level's groups."""
    places = np.arange(len(groups.first))
    if match_level == 0:
        return Members(groups.first, groups.second, places, groups.sizes, groups.rows)
    return _members_of(table, counts, [(match_level, groups, places)])[0]


def _members_of(
    table: Source, counts: CombinationState, wanted: Sequence[tuple[int, RungGroups, np.ndarray]]
) -> list[Members]:
    """Of some match levels, the exactly equal keys of some groups, which have these places."""
    questions = []
    for level, groups, places in wanted:
        work = partial(_range_members, level, places, HashTable(groups.first, groups.second))
        questions.append(Question(counts.distinct[EXACT], work, _members_together))
    return table.engine.ask(questions)


def _range_members(
    match_level: int, places: np.ndarray, lookup: HashTable, piece: Counted
) -> Members:
    place = lookup.find(*piece.extra[2 * match_level - 2 : 2 * match_level])
    own = np.flatnonzero(place >= 0)
    groups = places[place[own]]
    return Members(piece.first[own], piece.second[own], groups, piece.counts[own], piece.rows[own])


def _members_together(ranges: Iterable[Members]) -> Members:
    parts = list(ranges)
    empty = np.zeros(0, np.int64)
    if not parts:
        return Members(empty.astype(np.uint64), empty.astype(np.uint64), empty, empty, empty)
    names = ("first", "second", "groups", "counts", "rows")
    return Members(*(np.concatenate([getattr(part, name) for part in parts]) for name in names))


def _together(ranges: Iterable[RungGroups]) -> RungGroups:
    result, empty = list(ranges), np.zeros(0, np.int64)
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
