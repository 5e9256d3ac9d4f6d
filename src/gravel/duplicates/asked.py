"""What is asked of a table, and its rows as hashes: a value that comes again and again is spelled
once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.duplicates.match_levels import MATCH_LEVELS
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.hashing import both_hashes, mixed
from gravel.engine.known_values import KnownValues
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, parse
from gravel.language.bind import bind
from gravel.language.scope import Scope
from gravel.language.types import TEXT, Type
from gravel.sources.source import Batch

Pair = tuple[np.ndarray, np.ndarray]  # two independent hashes


class Asked(Struct):
    """What is asked, bound to columns of these `types`; `texts` are the expressions of each match
    level, `spellings` the looser ones bound to a text of their own, `spelled` which expressions
    they are for: numbers and days have one spelling."""

    on: tuple[str, ...]
    types: tuple[Type, ...]
    bound: list[nodes.Expression]
    texts: list[tuple[str, ...]]
    spellings: list[nodes.Expression]
    spelled: tuple[bool, ...]
    null_equal: bool
    known: list[KnownValues]  # of each expression

    @property
    def match_levels(self) -> int:
        """How many there are."""
        return len(MATCH_LEVELS)


def spellings() -> list[nodes.Expression]:
    """The match levels after the first, for texts that are the first column, beside columns of the
    match levels before."""
    names = [f"r{position}" for position in range(len(MATCH_LEVELS))]
    results = []
    for place, match_level in enumerate(MATCH_LEVELS[1:], 1):
        text = match_level.written("r0", lambda other: f"r{MATCH_LEVELS.index(other)}")
        results.append(
            bind(parse.expression(text), Scope(tuple(names[:place]), (TEXT,) * place), text)
        )
    return results


class RungGroups(Struct):
    """The groups of a match level: both hashes, the first ascending, rows, first row, and how many
    keys of the match level before newly matched in each."""

    first: np.ndarray
    second: np.ndarray
    sizes: np.ndarray
    rows: np.ndarray
    spellings: np.ndarray

    def taken(self, places: np.ndarray) -> RungGroups:
        """Some of them."""
        arrays = (self.first, self.second, self.sizes, self.rows, self.spellings)
        first, second, sizes, rows, spellings = (array[places] for array in arrays)
        return RungGroups(first, second, sizes, rows, spellings)


class Members(Struct):
    """The exactly equal keys of the groups of a match level: both hashes, the first ascending, each
    key's group, rows, first row."""

    first: np.ndarray
    second: np.ndarray
    groups: np.ndarray
    counts: np.ndarray
    rows: np.ndarray


class KeyColumn:
    """One expression's values in a batch, as hashes, also on the looser match levels where they are
    `spelled`. `known` has those of texts that were met before, `learned` gets those of others."""

    def __init__(self, vector: Vector, spelled: bool, known: KnownValues) -> None:
        self.vector, self._is_spelled, self._known = vector, spelled, known
        self.exact: Pair = both_hashes(vector.values)
        self.learned: tuple[int, np.ndarray, np.ndarray, tuple[np.ndarray, ...]] | None = None

    def spelled(self, spellings: list[nodes.Expression], rows: np.ndarray) -> list[Pair]:
        """Hashes of some rows' values on each match level after the first."""
        first, second = (item[rows] for item in self.exact)
        if not self._is_spelled:
            return [(first, second)] * len(spellings)
        known = self._known.find(first, second)
        fresh = np.arange(len(rows)) if known is None else np.flatnonzero(known.places < 0)
        coded = self.vector.values.take(to_arrow(rows[fresh])).dictionary_encode("encode")
        codes = coded.indices.to_numpy()
        results = self._hashed(coded.dictionary, spellings)
        places = np.zeros(len(coded.dictionary), np.int64)
        places[codes] = fresh
        self.learned = len(rows), first[places], second[places], tuple(results)
        spread = [item[codes] for item in results]
        if known is not None:
            every = [item[known.places] for item in known.figures]
            for item, own in zip(every, spread, strict=True):
                item[fresh] = own
            spread = every
        return list(zip(spread[::2], spread[1::2], strict=True))

    def _hashed(self, texts: pa.Array, spellings: list[nodes.Expression]) -> list[np.ndarray]:
        """Both hashes of different texts on each match level after the first."""
        columns = [texts]
        for spelling in spellings:
            frame = Frame(len(texts), columns, (TEXT,) * len(columns))
            columns.append(run(spelling, frame).values)
        return [hashed for column in columns[1:] for hashed in both_hashes(column)]


class KeyBatch(Struct):
    """A batch's values, and which rows may be in groups: those without an error, and without NULL
    unless NULLs are equal."""

    values: list[KeyColumn]
    null: list[np.ndarray]
    failed: list[np.ndarray]
    known: np.ndarray

    def hashed(self) -> Pair:
        """Hashes of the rows' keys."""
        firsts, seconds = zip(*(value.exact for value in self.values), strict=True)
        return mixed(list(firsts)), mixed(list(seconds), True)

    def without_each(self, null_equal: bool) -> Iterator[tuple[Pair, np.ndarray]]:
        """For each expression the hashes of the rows' keys without it, and which rows may be in
        groups then."""
        firsts, seconds = zip(*(value.exact for value in self.values), strict=True)
        pairs = zip(_without_each(firsts), _without_each(seconds, True), strict=True)
        bad = [
            failed if null_equal else failed | null
            for failed, null in zip(self.failed, self.null, strict=True)
        ]
        many = np.add.reduce(bad, dtype=np.int32)
        for pair, own in zip(pairs, bad, strict=True):
            yield pair, many == own

    def match_levels(self, spellings: list[nodes.Expression], rows: np.ndarray) -> list[np.ndarray]:
        """For each match level after the first both hashes of some rows' keys."""
        every = [value.spelled(spellings, rows) for value in self.values]
        results: list[np.ndarray] = []
        for pairs in zip(*every, strict=True):
            results += [mixed([item for item, _ in pairs]), mixed([two for _, two in pairs], True)]
        return results


def _without_each(hashes: Sequence[np.ndarray], second: bool = False) -> Iterator[np.ndarray]:
    """For each of several columns one hash a row of all others: those before it and those behind
    it are mixed once for all."""
    behind: list[np.ndarray] = []
    for own in hashes[:0:-1]:
        behind.append(mixed([*behind[-1:], own], second))
    before: list[np.ndarray] = []
    for own in hashes:
        yield mixed([*before, *behind[-1:]], second)
        before = [mixed([*before, own], second)]
        del behind[-1:]


def part_of(asked: Asked, batch: Batch) -> KeyBatch:
    """The values of a batch."""
    frame = Frame(batch.count, batch.columns, asked.types)
    values = [
        KeyColumn(run(item, frame).spread(batch.count), spelled, known)
        for item, spelled, known in zip(asked.bound, asked.spelled, asked.known, strict=True)
    ]
    failed = [value.vector.failed(batch.count) for value in values]
    null = [
        pc.is_null(value.vector.values).to_numpy(zero_copy_only=False) & ~bad
        for value, bad in zip(values, failed, strict=True)
    ]
    return KeyBatch(values, null, failed, _known(null, failed, asked.null_equal))


def _known(null: list[np.ndarray], failed: list[np.ndarray], null_equal: bool) -> np.ndarray:
    known = np.ones(len(null[0]), bool)
    for item, bad in zip(null, failed, strict=True):
        known &= ~bad if null_equal else ~bad & ~item
    return known
