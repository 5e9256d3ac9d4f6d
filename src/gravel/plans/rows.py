"""Rows on their way through a plan: columns as they are stored, and where each row comes from."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import of_type, text_of
from gravel.engine.frame import Frame
from gravel.engine.mapped import Store
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Type
from gravel.plans.ledger import SAMPLES, ChangeExample, differing


class TrackedRows:
    """Some rows. numbers: source row numbers, 0 for a row that a step made. suffix: what stands
    behind the number in a row's path ('.1.2', '' for nothing), or None where no row has one. seals:
    a hash of each row's columns that no step touches, made when it was read. stored, types: the
    columns. marks: whatever a step wants to be carried along.
    """

    def __init__(
        self,
        numbers: np.ndarray,
        stored: Sequence[pa.Array],
        types: tuple[Type, ...],
        suffix: pa.Array | None = None,
        seals: np.ndarray | None = None,
    ) -> None:
        self.numbers, self.stored, self.types, self.suffix, self.seals = (
            numbers,
            list(stored),
            types,
            suffix,
            seals,
        )
        self.marks: np.ndarray | None = None
        self._texts: dict[int, Any] = {}

    @property
    def count(self) -> int:
        """Rows."""
        return len(self.numbers)

    def frame(self) -> Frame:
        """The rows to evaluate over; what is computed twice is kept."""
        return Frame(self.count, self.stored, self.types).remembering()

    def text(self, index: int) -> pa.Array:
        """A column as its texts, made once."""
        if pa.types.is_string(self.stored[index].type):
            return self.stored[index]
        if index not in self._texts:
            self._texts[index] = text_of(self.stored[index], self.types[index])
        return self._texts[index]

    def texts(self) -> list[pa.Array]:
        """All columns as texts."""
        return [self.text(index) for index in range(len(self.stored))]

    def put(self, index: int, stored: pa.Array, texts: pa.Array) -> None:
        """A column's new values, beside the texts they are written as; a new one stands at the
        end."""
        if index == len(self.stored):
            self.stored.append(stored)
        else:
            self.stored[index] = stored
        self._texts[index] = texts

    def arrange(self, columns: Sequence[pa.Array], types: tuple[Type, ...]) -> None:
        """Other columns for the same rows."""
        self.stored, self.types = list(columns), types
        self._texts = {}

    def keep(self, mask: np.ndarray) -> None:
        """Only the rows of a mask."""
        if not mask.all():
            result = self._chosen(
                lambda array: array.filter(to_arrow(mask)), lambda array: array[mask]
            )
            self.__dict__.update(result.__dict__)

    def take(self, places: np.ndarray) -> TrackedRows:
        """The rows at these places, in this order."""
        chosen = to_arrow(places)
        return self._chosen(lambda array: array.take(chosen), lambda array: array[places])

    def slice(self, start: int, length: int) -> TrackedRows:
        """A part of the rows."""
        return self._chosen(
            lambda array: array.slice(start, length), lambda array: array[start : start + length]
        )

    def _chosen(self, arrow: Any, numpy: Any) -> TrackedRows:
        result = TrackedRows(
            numpy(self.numbers),
            [arrow(item) for item in self.stored],
            self.types,
            None if self.suffix is None else arrow(self.suffix),
            None if self.seals is None else numpy(self.seals),
        )
        result.marks = None if self.marks is None else numpy(self.marks)
        result._texts = {index: arrow(item) for index, item in self._texts.items()}
        return result

    def step_into(self, places: np.ndarray, piece: np.ndarray) -> TrackedRows:
        """Rows taken from these places, each with the number of its piece (0: it stays what it was)
        added to its path."""
        result = self.take(places)
        result.suffix = longer(result.suffix, piece)
        return result

    def paths(self) -> pa.Array:
        """The path of each row as text: 17, 17.1, 17.1.2; 0.1 for a row that a step made."""
        numbers = pc.cast(to_arrow(self.numbers), pa.string())
        return (
            numbers
            if self.suffix is None
            else pc.binary_join_element_wise(numbers, self.suffix, "")
        )

    @property
    def size(self) -> int:
        """Bytes that the columns take, about."""
        return sum(item.nbytes for item in self.stored) + 24 * self.count

    def batch(self) -> pa.RecordBatch:
        """All of it as an Arrow record batch."""
        suffix = pa.repeat("", self.count) if self.suffix is None else self.suffix
        parts = {"numbers": to_arrow(self.numbers), "suffix": suffix}
        for name in ("seals", "marks"):
            if getattr(self, name) is not None:
                parts[name] = to_arrow(getattr(self, name))
        columns = [*parts.values(), *self.stored]
        return pa.record_batch(
            columns, [*parts, *(str(index) for index in range(len(self.stored)))]
        )

    @classmethod
    def of_batch(cls, batch: pa.RecordBatch, types: tuple[Type, ...]) -> TrackedRows:
        """The rows of what `batch` made."""
        named = dict(zip(batch.schema.names, batch.columns, strict=True))

        def numbers(name: str) -> np.ndarray | None:
            return named[name].to_numpy(zero_copy_only=False) if name in named else None

        first = numbers("numbers")
        assert first is not None
        result = cls(
            first,
            [named[str(index)] for index in range(len(types))],
            types,
            named.get("suffix"),
            numbers("seals"),
        )
        result.marks = numbers("marks")
        return result


def gathered(
    batches: Iterable[TrackedRows], types: tuple[Type, ...], store: Store
) -> TrackedRows | None:
    """The rows of all batches, one after another, in files where they do not fit into a store's
    memory; None where there is no batch."""
    parts: list[TrackedRows] = []
    waiting: list[TrackedRows] = []
    for batch in batches:
        waiting.append(batch)
        if sum(part.size for part in waiting) > store.memory // 4:
            parts.append(together(waiting, types, store, aside=True))
            waiting = []
    return together([*parts, *waiting], types, store) if parts or waiting else None


def samples(
    rows: TrackedRows, mask: np.ndarray, before: pa.Array, after: pa.Array | None = None
) -> list[ChangeExample]:
    """Some of the rows of a mask, with texts before and after that differ from sample to sample."""
    result = np.flatnonzero(mask[:2048])
    where = to_arrow((result if len(result) >= SAMPLES else np.flatnonzero(mask))[:50])
    paths, old = rows.take(where.to_numpy()).paths().to_pylist(), before.take(where).to_pylist()
    new = [None] * len(old) if after is None else after.take(where).to_pylist()
    return differing(ChangeExample(*item) for item in zip(paths, old, new, strict=True))


def longer(suffix: pa.Array | None, piece: np.ndarray) -> pa.Array | None:
    """Paths with the number of a piece added, where it is not 0."""
    if not piece.any():
        return suffix
    added = pc.binary_join_element_wise(pa.scalar("."), pc.cast(to_arrow(piece), pa.string()), "")
    if not piece.all():
        added = pc.if_else(to_arrow(piece != 0), added, pa.scalar(""))
    return added if suffix is None else pc.binary_join_element_wise(suffix, added, "")


def together(
    parts: Sequence[TrackedRows],
    types: tuple[Type, ...],
    store: Store | None = None,
    aside: bool = False,
) -> TrackedRows:
    """Rows one after another; a column that is stored in two ways becomes text. What does not fit
    into a store's memory is in a file; with `aside` all of it."""
    if len(parts) == 1 and store is None:
        return parts[0]
    stored = []
    for index in range(len(types)):
        arrays = [part.stored[index] for part in parts]
        if len({array.type for array in arrays}) > 1:
            # Texts beside values become texts; values that a store has in one way and a step in
            # another, values of the column's type.
            texts = any(pa.types.is_string(array.type) for array in arrays)
            arrays = [
                part.text(index) if texts else of_type(part.stored[index], types[index])
                for part in parts
            ]
        size = sum(array.nbytes for array in arrays)
        if store is None or (not aside and store.fits(size)):
            stored.append(pa.concat_arrays(arrays))
        else:
            stored.append(store.column(arrays, arrays[0].type))
            store.let_go()
    suffix = None
    if any(part.suffix is not None for part in parts):
        suffix = pa.concat_arrays(
            [pa.repeat("", part.count) if part.suffix is None else part.suffix for part in parts]
        )
    seals = (
        None
        if any(part.seals is None for part in parts)
        else np.concatenate([part.seals for part in parts if part.seals is not None])
    )
    result = TrackedRows(
        np.concatenate([part.numbers for part in parts]), stored, types, suffix, seals
    )
    if all(part.marks is not None for part in parts):
        result.marks = np.concatenate([part.marks for part in parts if part.marks is not None])
    return result
