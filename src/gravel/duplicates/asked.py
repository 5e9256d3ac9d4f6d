"""What is asked of a table, and its rows as hashes: each different value of a batch is spelled and
hashed once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow.compute as pc

from gravel.duplicates.match_levels import MATCH_LEVELS
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.hashing import NULL_HASH, hashes, mixed
from gravel.engine.vector import Vector
from gravel.inspecting.binding import frame_of
from gravel.language import nodes, parse
from gravel.language.bind import Scope, bind
from gravel.language.types import TEXT
from gravel.sources.source import Batch, Source

if TYPE_CHECKING:
    import pyarrow as pa


Pair = tuple[np.ndarray, np.ndarray]  # two independent hashes


@dataclass
class Asked:
    """What is asked, bound; `texts` are the expressions of each match level, `spellings` the looser
    ones bound to a text of their own."""

    table: Source
    on: tuple[str, ...]
    scope: Scope
    bound: list[nodes.Expression]
    texts: list[tuple[str, ...]]
    spellings: list[nodes.Expression]
    null_equal: bool

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


@dataclass
class RungGroups:
    """The groups of a match level: both hashes, the first ascending, rows, first row, and how many
    keys of the match level before newly matched in each."""

    first: np.ndarray
    second: np.ndarray
    sizes: np.ndarray
    rows: np.ndarray
    spellings: np.ndarray


@dataclass
class Members:
    """The exactly equal keys of the groups of a match level: both hashes, the first ascending, each
    key's group, rows, first row."""

    first: np.ndarray
    second: np.ndarray
    groups: np.ndarray
    counts: np.ndarray
    rows: np.ndarray


class EncodedKeyColumn:
    """One expression's values in a batch: for texts the different ones, and which of them each row
    has (-1: NULL)."""

    def __init__(self, vector: Vector, kind: Any) -> None:
        self.vector, self.text = vector, kind == TEXT
        self.codes: np.ndarray | None = None
        self.different = vector.values
        if self.text:
            coded = vector.values.dictionary_encode()
            self.different = coded.dictionary
            self.codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        self._exact = self._both(self.different)

    def exact(self, rows: np.ndarray | None = None) -> Pair:
        """Hashes of the rows' values as they are."""
        return self._rows(self._exact, rows)

    def spelled(self, spellings: list[nodes.Expression], rows: np.ndarray) -> list[Pair]:
        """Hashes of some rows' values on each match level after the first."""
        if not self.text:
            return [self._rows(self._exact, rows)] * len(spellings)
        results = [self.different]
        for spelling in spellings:
            results.append(
                run(spelling, Frame(len(self.different), results, (TEXT,) * len(results))).values
            )
        return [self._rows(self._both(item), rows) for item in results[1:]]

    def _both(self, values: pa.Array) -> Pair:
        return hashes(values), hashes(values, True)

    def _rows(self, pair: Pair, rows: np.ndarray | None) -> Pair:
        if self.codes is None:
            return pair if rows is None else (pair[0][rows], pair[1][rows])
        codes = self.codes if rows is None else self.codes[rows]
        # The last one stands for NULL, which is at -1.
        first, second = (np.append(item, NULL_HASH)[codes] for item in pair)
        return first, second


@dataclass
class KeyBatch:
    """A batch's values, and which rows may be in groups: those without an error, and without NULL
    unless NULLs are equal."""

    values: list[EncodedKeyColumn]
    null: list[np.ndarray]
    failed: list[np.ndarray]
    known: np.ndarray

    def hashed(self, without: int | None = None) -> Pair:
        """Hashes of the rows' keys, or of the keys without one expression."""
        pairs = [value.exact() for index, value in enumerate(self.values) if index != without]
        return mixed([item for item, _ in pairs]), mixed([two for _, two in pairs], True)

    def match_levels(self, spellings: list[nodes.Expression], rows: np.ndarray) -> list[np.ndarray]:
        """For each match level after the first both hashes of some rows' keys."""
        every = [value.spelled(spellings, rows) for value in self.values]
        results: list[np.ndarray] = []
        for pairs in zip(*every, strict=True):
            results += [mixed([item for item, _ in pairs]), mixed([two for _, two in pairs], True)]
        return results


def part_of(asked: Asked, batch: Batch) -> KeyBatch:
    """The values of a batch."""
    frame = frame_of(batch, asked.scope)
    values = [
        EncodedKeyColumn(run(item, frame).spread(batch.count), item.type) for item in asked.bound
    ]
    failed = [value.vector.failed(batch.count) for value in values]
    null = [
        pc.is_null(value.vector.values).to_numpy(zero_copy_only=False) & ~bad
        for value, bad in zip(values, failed, strict=True)
    ]
    return KeyBatch(values, null, failed, _known(null, failed, asked.null_equal))


def _known(
    null: list[np.ndarray], failed: list[np.ndarray], null_equal: bool, without: int | None = None
) -> np.ndarray:
    known = np.ones(len(null[0]), bool)
    for index, (item, bad) in enumerate(zip(null, failed, strict=True)):
        if index != without:
            known &= ~bad if null_equal else ~bad & ~item
    return known


def known_without(part: KeyBatch, asked: Asked, without: int) -> np.ndarray:
    """Which rows may be in groups where one expression is left out."""
    return _known(part.null, part.failed, asked.null_equal, without)
