"""Nearly equal values: pairs within some edits, or alike to some degree, found with an index, and
clusters of them.

Edits: two texts within k edits (Damerau-Levenshtein: insert, delete, replace, exchange neighbours)
have a text in common that each becomes by k deletions at most; all such texts are hashed, and only
values that share a hash are compared (the deletion neighbourhood, after Mor and Fraenkel 1982).
Likeness (Jaro-Winkler): only values of fitting lengths, within a block.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.row_codes import codes_of
from gravel.engine.sets import distinct_values
from gravel.figures import Figures, NumberOf, Unlisted
from gravel.inspecting.binding import (
    columns_named,
    explaining,
    names_in,
    reads,
    scope_of,
    with_quotes,
)
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.bind import bind
from gravel.language.functions.casts import to_text
from gravel.language.nodes import Expression
from gravel.language.scope import Given, find_column
from gravel.language.types import TEXT, Type
from gravel.problems import CallProblem
from gravel.sources.source import Batch, Chosen, Malformed, Source, scan

_VARIANTS = 24_000_000  # hashes of shortened texts held at once
_LONG = 48  # characters beyond which the shortened texts of a value are too many
_MOST = 3_000_000_000  # comparisons that are still done


@dataclass(frozen=True)
class Pair(Figures):
    """Two rows with values that are nearly equal: their distance in edits, or their similarity from
    0 to 1."""

    a: int
    b: int
    a_value: str
    b_value: str
    a_key: Unlisted[tuple[str | None, ...]]
    b_key: Unlisted[tuple[str | None, ...]]
    measure: int | float


@dataclass(frozen=True)
class Near(Figures):
    """What `gravel duplicates --near` tells. measure: distance or similarity, with its bound;
    pairs: of rows, of which some are `shown`, the closest first; compared: pairs of values whose
    measure was taken; clusters: rows that pairs connect.
    """

    table: str
    near: str
    measure: str
    bound: int | float
    block: str | None
    proposed_block: bool
    key: Unlisted[tuple[str, ...]]
    rows: int
    values: int
    null_rows: int
    error_rows: int
    unblocked_rows: int
    blocks: int
    compared: int
    value_pairs: int
    pair_count: int
    pairs: tuple[Pair, ...]
    clusters: tuple[tuple[int, ...], ...]
    cluster_values: Unlisted[tuple[tuple[str, ...], ...]]
    missed: str
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    where: Chosen | None = None


def near(
    table: Source,
    text: str,
    *,
    within: int | None = None,
    alike: float | None = None,
    block: str | None = None,
    key: Sequence[str] = (),
    shown: int | None = 10,
    given: Given | None = None,
) -> Near:
    """Pairs of rows whose values of an expression differ by at most `within` edits (2 if neither is
    given), or are `alike` to that degree. Equal values are not pairs. Raises Diagnostic,
    CallProblem, TableProblem."""
    if within is not None and alike is not None:
        raise CallProblem(
            "--within counts edits and --similarity takes a similarity: say one of them"
        )
    if alike is not None and not 0.5 <= alike <= 1:
        raise CallProblem(
            f"--similarity takes a similarity from 0.5 to 1, not {alike}", hint="--similarity 0.9"
        )
    text = with_quotes(text, table.columns)
    within = 2 if within is None and alike is None else within
    proposed = block is None and alike is not None
    if proposed:
        block = f"LEFT(MATCH_KEY({text}), 1)"
    key = names_in(key, table.columns)
    block = None if block is None else with_quotes(block, table.columns)
    rows = _read(table, text, block, key, given)
    values, codes = rows.values, rows.blocks
    if within is not None:
        first_rows, two, compared = _by_edits(values, codes, within)
    else:
        assert alike is not None
        first_rows, two, compared = _by_likeness(values, codes, alike)
    measures, keep = _measured(values, first_rows, two, within, alike)
    first_rows, two, measures = first_rows[keep], two[keep], measures[keep]
    if within is not None:
        measures = measures.astype(np.int64)
    counts = rows.counts
    total = int((counts[first_rows] * counts[two]).sum())
    heads = rows.numbers[rows.order[rows.starts]] if len(values) else rows.numbers
    first, last = (
        np.minimum(heads[first_rows], heads[two]),
        np.maximum(heads[first_rows], heads[two]),
    )
    order = np.lexsort((last, first, measures if within is not None else -measures))
    clusters = _clusters(len(values), first_rows, two)
    results = [
        tuple(sorted(int(row) for index in cluster for row in rows.rows_of(index)))
        for cluster in clusters
    ]
    ordered = sorted(range(len(results)), key=lambda index: (-len(results[index]), results[index]))
    subset = ordered if shown is None else ordered[:shown]
    return Near(
        table.name,
        " ".join(text.split()),
        "distance" if within is not None else "similarity",
        within if within is not None else alike or 0,
        block,
        proposed,
        tuple(key),
        rows.read,
        len(values),
        rows.nulls,
        rows.errors,
        rows.unblocked,
        len(distinct_values(codes)),
        compared,
        len(first_rows),
        total,
        tuple(rows.pairs(first_rows[order], two[order], measures[order], shown)),
        tuple(results[index] for index in subset),
        tuple(tuple(values[place] for place in clusters[index]) for index in subset),
        _missed(block, proposed, len(distinct_values(codes))),
        tuple(rows.malformed),
        tuple(table.notes),
        table.read_as,
        table.chosen,
    )


def _missed(block: str | None, proposed: bool, blocks: int) -> str:
    if block is None:
        return "no block: every pair within the bound is found"
    message = (
        f"only values equal in {block} were compared, in {blocks:,} blocks: a pair that differs"
        " there is not found"
    )
    return message + ("; --block EXPR chooses another" if proposed else "")


# -- the values
class _Rows(Struct):
    """Distinct values inside blocks, the shortest first, with the rows that hold each."""

    values: list[str]
    blocks: np.ndarray
    counts: np.ndarray
    starts: np.ndarray
    order: np.ndarray
    numbers: np.ndarray
    keys: list[Any]
    read: int
    nulls: int
    errors: int
    unblocked: int
    malformed: list[Malformed]

    def rows_of(self, index: int) -> np.ndarray:
        """Source rows that hold a value."""
        return self.numbers[self._places(index)]

    def _places(self, index: int) -> np.ndarray:
        return self.order[self.starts[index] : self.starts[index] + self.counts[index]]

    def pairs(
        self, array: np.ndarray, two: np.ndarray, measures: np.ndarray, most: int | None
    ) -> Iterator[Pair]:
        """Pairs of rows, some of them or all."""
        message = 0
        for a, b, measure in zip(array.tolist(), two.tolist(), measures.tolist(), strict=True):
            for x in self._places(a):
                for y in self._places(b):
                    if most is not None and message >= most:
                        return
                    message += 1
                    first, last = (x, y) if self.numbers[x] < self.numbers[y] else (y, x)
                    swapped = first != x
                    texts = (
                        (self.values[b], self.values[a])
                        if swapped
                        else (self.values[a], self.values[b])
                    )
                    a_key, b_key = (
                        tuple(column[int(index)].as_py() for column in self.keys)
                        for index in (first, last)
                    )
                    yield Pair(
                        int(self.numbers[first]),
                        int(self.numbers[last]),
                        texts[0],
                        texts[1],
                        a_key,
                        b_key,
                        measure,
                    )


class _NearWork(Struct, frozen=True):
    """The texts of a batch that are compared, those that say which are, its row numbers and keys;
    what is malformed; how many rows there are, and how many with NULL, with an error, and in no
    block."""

    bound: tuple[Expression, ...]
    types: tuple[Type, ...]
    keys: tuple[int, ...]

    def __call__(
        self, batch: Batch
    ) -> tuple[tuple[Any, Any, np.ndarray, list[Any]], Sequence[Malformed], int, int, int, int]:
        batch = batch.texts()
        frame = Frame(batch.count, batch.columns, self.types)
        results = [run(item, frame).spread(batch.count) for item in self.bound]
        failed = np.zeros(batch.count, bool)
        for entry in results:
            failed |= entry.failed(batch.count)
        texts = [
            to_text(item.values, expression.type) if expression.type != TEXT else item.values
            for item, expression in zip(results, self.bound, strict=True)
        ]
        null = texts[0].is_null().to_numpy(zero_copy_only=False) & ~failed
        loose = texts[-1].is_null().to_numpy(zero_copy_only=False) & ~failed & ~null
        keep = ~(failed | null | loose)
        chosen = [item.filter(to_arrow(keep)) for item in texts]
        kept = [batch.columns[index].filter(to_arrow(keep)) for index in self.keys]
        part = chosen[0], chosen[-1], batch.rows[keep], kept
        counts = int(null.sum()), int(failed.sum()), int(loose.sum())
        return part, batch.malformed, batch.count, *counts


def _read(
    table: Source, text: str, block: str | None, key: Sequence[str], context: Given | None
) -> _Rows:
    syntax = [(parse.expression(item), item) for item in (text, block) if item is not None]
    scope = scope_of(table, columns_named(syntax, table.columns), context)
    with explaining(table, scope):
        bound = [bind(node, scope, item) for node, item in syntax]
    keys = [find_column(tree.Name(0, len(name), name), table.columns, name) for name in key]
    malformed: list[Malformed] = []
    read = nulls = errors = unblocked = 0
    parts: list[tuple[Any, Any, np.ndarray, list[Any]]] = []
    work = _NearWork(tuple(bound), scope.types, tuple(keys))
    columns = sorted({*reads(bound, len(table.columns)), *keys})
    for part, bad, count, null, failed, loose in scan(table, work, columns):
        parts.append(part)
        malformed += bad
        read += count
        nulls, errors, unblocked = nulls + null, errors + failed, unblocked + loose
    empty = pa.array([], pa.string())
    values, blocks = (
        pa.concat_arrays([empty, *(part[index] for part in parts)]) for index in (0, 1)
    )
    numbers = np.concatenate([np.zeros(0, np.int64), *(part[2] for part in parts)])
    kept = [
        pa.concat_arrays([empty, *(part[3][index] for part in parts)]) for index in range(len(keys))
    ]
    codes, first = codes_of([values] if block is None else [blocks, values], len(values))
    texts = values.take(to_arrow(first)).to_pylist()
    by_length = np.argsort(np.array([len(item) for item in texts], np.int64), kind="stable")
    place = np.empty(len(first), np.int64)
    place[by_length] = np.arange(len(first))
    codes = place[codes] if len(codes) else codes
    counts = np.bincount(codes, minlength=len(first))
    own = (
        np.zeros(len(first), np.int64)
        if block is None
        else codes_of([blocks.take(to_arrow(first[by_length]))], len(first))[0]
    )
    return _Rows(
        [texts[index] for index in by_length],
        own,
        counts,
        np.cumsum(counts) - counts,
        np.argsort(codes, kind="stable"),
        numbers,
        kept,
        read,
        nulls,
        errors,
        unblocked,
        malformed,
    )


# -- candidates
def _by_edits(
    values: list[str], blocks: np.ndarray, within: int
) -> tuple[np.ndarray, np.ndarray, int]:
    """Candidate pairs of values that may be within so many edits, and how many they are."""
    lengths = np.array([len(value) for value in values], np.int64)
    short = lengths <= _LONG if within <= 2 else np.zeros(len(values), bool)
    results = [_shared(values, lengths, blocks, np.flatnonzero(short), within)]
    if not short.all():
        results.append(_windows(lengths, blocks, ~short, lambda length: length - within))
    first_rows, two = (np.concatenate([pair[index] for pair in results]) for index in (0, 1))
    return first_rows, two, len(first_rows)


_BASE = 0x9E3779B97F4A7C15 | 1
_INVERSE = pow(_BASE, -1, 2**64)


def _shared(
    values: list[str], lengths: np.ndarray, blocks: np.ndarray, places: np.ndarray, within: int
) -> tuple[np.ndarray, np.ndarray]:
    """Pairs that have a shortened text in common, by its hash."""
    many = np.minimum(lengths[places], 10**6)
    variants = int((1 + many + (many * (many - 1) // 2 if within == 2 else 0)).sum())
    passes = max(1, -(-variants // _VARIANTS))
    pairs: list[np.ndarray] = []
    for number in range(passes):
        hashed, owners = _variants(values, lengths, blocks, places, within, passes, number)
        order = np.argsort(hashed, kind="stable")
        hashed, owners = hashed[order], owners[order]
        starts = (
            np.flatnonzero(np.r_[True, hashed[1:] != hashed[:-1]])
            if len(hashed)
            else np.zeros(0, np.int64)
        )
        sizes = np.diff(np.r_[starts, len(hashed)])
        for size in distinct_values(sizes[sizes > 1]):
            heads = starts[sizes == size]
            first_rows, two = np.triu_indices(int(size), 1)
            step = max(1, _VARIANTS // len(first_rows))
            for begin in range(0, len(heads), step):
                subset = heads[begin : begin + step, None]
                a, b = owners[subset + first_rows].ravel(), owners[subset + two].ravel()
                least, most = np.minimum(a, b), np.maximum(a, b)
                mine = least != most
                pairs.append(
                    distinct_values(least[mine].astype(np.int64) * len(values) + most[mine])
                )
        if len(pairs) > 50:
            pairs = [distinct_values(np.concatenate(pairs))]
    every = distinct_values(np.concatenate(pairs)) if pairs else np.zeros(0, np.int64)
    first_rows, two = every // max(1, len(values)), every % max(1, len(values))
    alike = blocks[first_rows] == blocks[two]
    return first_rows[alike], two[alike]


def _variants(
    values: list[str],
    lengths: np.ndarray,
    blocks: np.ndarray,
    places: np.ndarray,
    within: int,
    passes: int,
    number: int,
) -> tuple[np.ndarray, np.ndarray]:
    """Hashes of all texts that the values become by deletions, with the values; one of so many
    parts of the hashes."""
    hashed, owners = [np.zeros(0, np.uint64)], [np.zeros(0, np.int32)]
    inverse, squared = np.uint64(_INVERSE), np.uint64(_INVERSE * _INVERSE % 2**64)

    def add(result: np.ndarray, rows: np.ndarray) -> None:
        result = result ^ salt
        result = (result ^ (result >> np.uint64(31))) * np.uint64(0xD6E8FEB86659FD93)
        result ^= result >> np.uint64(29)
        if passes > 1:
            keep = (result >> np.uint64(40)) % np.uint64(passes) == number
            result, rows = result[keep], rows[keep]
        hashed.append(result)
        owners.append(rows)

    for length in distinct_values(lengths[places]):
        rows = places[lengths[places] == length].astype(np.int32)
        salt = blocks[rows].astype(np.uint64) * np.uint64(0x2545F4914F6CDD1D)
        if not length:
            add(np.zeros(len(rows), np.uint64), rows)
            continue
        letters = (
            np.frombuffer("".join(values[row] for row in rows).encode("utf-32-le"), np.uint32)
            .reshape(len(rows), length)
            .astype(np.uint64)
        )
        # A hash that is a sum over places can be made of what is left after a deletion without
        # going through it again.
        letters = (letters + np.uint64(1)) * np.uint64(0xC2B2AE3D27D4EB4F)
        letters ^= letters >> np.uint64(32)
        powers = np.cumprod(
            np.r_[np.uint64(1), np.full(length - 1, np.uint64(_BASE))], dtype=np.uint64
        )
        sums = np.zeros((length + 1, len(rows)), np.uint64)
        np.cumsum((letters * powers).T, axis=0, out=sums[1:], dtype=np.uint64)
        total = sums[length]
        add(total, rows)
        for i in range(length):
            add(sums[i] + (total - sums[i + 1]) * inverse, rows)
            if within == 2:
                for j in range(i + 1, length):
                    add(
                        sums[i]
                        + (sums[j] - sums[i + 1]) * inverse
                        + (total - sums[j + 1]) * squared,
                        rows,
                    )
    return np.concatenate(hashed), np.concatenate(owners)


def _windows(
    lengths: np.ndarray, blocks: np.ndarray, mine: np.ndarray, shortest: Any
) -> tuple[np.ndarray, np.ndarray]:
    """Pairs inside blocks of which the longer value is one of `mine`, and the shorter not shorter
    than `shortest` of its length says. Values stand in the order of their lengths. Raises
    CallProblem where they are too many."""
    first_rows, two, total = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)], 0
    order = np.argsort(blocks, kind="stable")
    edges = (
        np.flatnonzero(np.r_[True, blocks[order][1:] != blocks[order][:-1], True])
        if len(order)
        else np.zeros(1, np.int64)
    )
    for begin, end in pairwise(edges.tolist()):
        places = order[begin:end]
        sizes = lengths[places]
        first = np.searchsorted(sizes, shortest(sizes))
        each = np.where(mine[places], np.arange(len(places)) - first, 0)
        total += int(each.sum())
        if total > _MOST // 20:
            raise CallProblem(
                "there are too many pairs to compare",
                hint="--block EXPR makes blocks, such as LEFT(MATCH_KEY(name), 2)",
            )
        later = np.repeat(np.arange(len(places)), each)
        earlier = (
            np.arange(len(later)) - np.repeat(np.cumsum(each) - each, each) + np.repeat(first, each)
        )
        first_rows.append(places[earlier])
        two.append(places[later])
    return np.concatenate(first_rows), np.concatenate(two)


def _by_likeness(
    values: list[str], blocks: np.ndarray, alike: float
) -> tuple[np.ndarray, np.ndarray, int]:
    """Candidate pairs whose lengths allow such a similarity: with a prefix of four in common
    Jaro-Winkler adds 0.4 of what Jaro lacks, and Jaro is at most (2 + shorter / longer) / 3."""
    lengths = np.array([len(value) for value in values], np.int64)
    jaro = (alike - 0.4) / 0.6
    ratio = max(0.0, 3 * jaro - 2)
    first_rows, two = _windows(
        lengths, blocks, np.ones(len(values), bool), lambda length: np.ceil(length * ratio - 1e-9)
    )
    return first_rows, two, len(first_rows)


def _measured(
    values: list[str], array: np.ndarray, two: np.ndarray, within: int | None, alike: float | None
) -> tuple[np.ndarray, np.ndarray]:
    """The measure of each candidate pair, and which are within the bound."""
    from rapidfuzz import process
    from rapidfuzz.distance import DamerauLevenshtein, JaroWinkler

    step, parts = 1 << 20, [np.zeros(0)]
    for begin in range(0, len(array), step):
        a = [values[index] for index in array[begin : begin + step]]
        b = [values[index] for index in two[begin : begin + step]]
        if within is not None:
            result = process.cpdist(
                a,
                b,
                scorer=DamerauLevenshtein.distance,
                score_cutoff=within,
                dtype=np.int32,
                workers=-1,
            )
        else:
            # A cutoff that stands on a pair's own likeness would lose it to rounding; what is below
            # the bound goes afterwards.
            assert alike is not None
            result = process.cpdist(
                a,
                b,
                scorer=JaroWinkler.similarity,
                score_cutoff=alike - 1e-6,
                dtype=np.float64,
                workers=-1,
            )
        parts.append(result.astype(np.float64))
    measures = np.concatenate(parts)
    return measures, (
        (measures <= within) if within is not None else (measures >= (alike or 0)) & (measures > 0)
    )


def _clusters(count: int, array: np.ndarray, two: np.ndarray) -> list[list[int]]:
    """The connected values, each cluster ascending."""
    parent = np.arange(count)
    while True:
        # Every value takes the least number among its own and those it is paired with, until
        # nothing changes.
        least = parent.copy()
        np.minimum.at(least, array, parent[two])
        np.minimum.at(least, two, parent[array])
        least = least[least]
        if (least == parent).all():
            break
        parent = least
    touched = distinct_values(np.concatenate([array, two]))
    results: dict[int, list[int]] = {}
    for index in touched.tolist():
        results.setdefault(int(parent[index]), []).append(index)
    return list(results.values())
