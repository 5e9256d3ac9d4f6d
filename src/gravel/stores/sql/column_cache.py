"""A table of a database whose columns are fetched when they are first wanted, all from one
snapshot."""

from __future__ import annotations

import weakref
from collections.abc import Callable, Iterator, Sequence
from itertools import zip_longest
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.hashing import combined
from gravel.language.types import TEXT, Type
from gravel.problems import TableProblem
from gravel.sources.csv.splitter import Take
from gravel.sources.source import Batch, Malformed, Source
from gravel.stores.sql.transaction import TableSchema
from gravel.words import number_of

Fetch = Callable[[list[int]], Source]  # positions of columns -> a table of just these


class SqlSplit(Struct, frozen=True):
    """A piece of the columns that were fetched, and where each of them stands there."""

    table: Source
    places: dict[int, int]
    inner: Any
    first_row: int
    records: int


class SqlSource(Source):
    """A table of a database. `fetch` copies some columns; `close` lets go of the database, once all
    columns are here.

    Rows keep their numbers: what is fetched later is compared with what was there before, row by
    row. Raises TableProblem where the database gives them in another order."""

    def __init__(
        self,
        name: str,
        shape: TableSchema,
        counted: int,
        fetch: Fetch,
        close: Callable[[], None],
        *,
        texts: frozenset[str],
        declared: dict[str, Type],
    ) -> None:
        super().__init__(Path(), name, shape.columns, texts=texts, declared=declared)
        self.counted, self.snapshot, self.store_key, self.not_null = (
            counted,
            True,
            shape.key,
            shape.not_null,
        )
        self.computed = shape.computed
        self._fetch, self._close = fetch, close
        weakref.finalize(self, close)  # no transaction outlives the table
        self._inner: Source | None = None
        self._places: dict[int, int] = {}

    def whole(self) -> SqlSource:
        """All columns at once, where it is known that all are wanted; the database is let go."""
        self._with(None)
        return self

    def _with(self, wanted: Sequence[int] | None) -> Source:
        every = range(len(self.columns))
        missing = set(every if wanted is None else wanted) - self._places.keys()
        if self._inner is None or missing:
            chosen = sorted(missing | self._places.keys()) or [
                0
            ]  # rows without any column are not told apart
            result = self._fetch(chosen)
            places = {column: index for index, column in enumerate(chosen)}
            if self._inner is not None and self._places:
                self._same_order(result, places)
            else:
                self.counted = getattr(
                    result, "counted", self.counted
                )  # as the same transaction counts them
            self._inner, self._places = result, places
            self._learn(result)
            if len(places) == len(self.columns):
                self._close()
        return self._inner

    def _learn(self, source: Source) -> None:
        """What a fetch has found of the columns."""
        self.fallback |= source.fallback
        self.store_kind = source.store_kind
        self.store_types |= source.store_types
        self.binary |= source.binary
        self.mixed |= source.mixed
        self.spelt |= source.spelt
        self.mismatches |= source.mismatches
        self.notes += [note for note in source.notes if note not in self.notes]
        # What the person asked for stands; then what the store says of a column.
        for column, index in self._places.items():
            name = self.columns[column]
            if index in source.fields:
                self.fields[column] = source.fields[index]
            kind = (
                source._types.get(index)
                or source.declared.get(name)
                or (TEXT if name in source.texts else None)
            )
            if kind is not None and name not in self.declared and name not in self.texts:
                self._types.setdefault(column, kind)

    def _same_order(self, source: Source, places: dict[int, int]) -> None:
        assert self._inner is not None
        pairs = [(index, places[column]) for column, index in self._places.items()]
        for item, two in zip_longest(
            _hashes(self._inner, [old for old, _ in pairs]),
            _hashes(source, [new for _, new in pairs]),
        ):
            if item is None or two is None or not np.array_equal(item, two):
                raise TableProblem(
                    f"{self.name} comes in another order each time it is read",
                    hint="read a table, or order the view by a key",
                )

    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Any]:
        """See Source; `wanted`: the columns that are all that will be read of them."""
        table = self._with(wanted)
        places = dict(self._places)
        for piece in table.pieces():
            if self.progress is not None:
                self.progress(len(getattr(piece, "data", b"")))
            yield SqlSplit(table, places, piece, piece.first_row, piece.records)

    def holding(self, rows: Sequence[int]) -> Iterator[Any]:
        """See Source."""
        table = self._with(None)
        places = dict(self._places)
        for piece in table.holding(rows):
            yield SqlSplit(table, places, piece, piece.first_row, piece.records)

    def read(self, piece: SqlSplit, wanted: Sequence[int] | None = None) -> Batch:
        """See Source."""
        chosen = range(len(self.columns)) if wanted is None else wanted
        batch = piece.table.read(piece.inner, [piece.places[index] for index in chosen])
        columns: list[Any] = [None] * len(self.columns)
        for position in chosen:
            columns[position] = batch.columns[piece.places[position]]
        self._refuse_guesses(columns)
        return Batch(batch.rows, columns, batch.malformed)

    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """The rows read against the database's own count."""
        return (
            "every row of the store is accounted for",
            rows == self.counted,
            f"{self.counted:,} by the database = {number_of(rows)}",
        )

    def _open_states(self, missing: list[int]) -> dict[int, Any]:
        self._with(missing)  # the store's types come with the columns
        return super()._open_states([index for index in missing if index not in self._types])


def _hashes(table: Source, columns: list[int]) -> Iterator[np.ndarray]:
    """Row hashes of some columns in parts of one length, however the table is cut."""
    size, rest = 1 << 16, np.zeros(0, np.uint64)
    for piece in table.pieces():
        batch = table.read(piece, columns)
        rest = np.concatenate([rest, combined([batch.columns[column] for column in columns])])
        while len(rest) >= size:
            yield rest[:size]
            rest = rest[size:]
    yield rest
