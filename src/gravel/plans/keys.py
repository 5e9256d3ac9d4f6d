"""The state of a key: hashes of its values, held in memory or in sorted runs in a file, and what is
repeated among them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.frame import view
from gravel.engine.hashing import combined
from gravel.engine.sets import distinct_values
from gravel.engine.spill import Runs
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Kind, Type

HELD = 4_000_000  # hashes held before they go to a file


class KeyPart(Struct, frozen=True):
    """Hashes of a batch's keys, of those without a NULL, and the rows with one."""

    hashes: np.ndarray
    nulls: int


def key_values(array: pa.Array, kind: Type) -> pa.Array:
    """A key column as it is compared: by value where one value may be written in two ways, else by
    text."""
    if kind.kind in (Kind.DECIMAL, Kind.TIMESTAMP, Kind.DOUBLE) and pa.types.is_string(array.type):
        result = view(array, kind)
        return array if result.errors is not None else result.values
    return array


def key_part(columns: Sequence[pa.Array]) -> KeyPart:
    """The key state of one batch."""
    null = np.zeros(len(columns[0]), bool)
    for column in columns:
        if column.null_count:
            null |= pc.is_null(column).to_numpy(zero_copy_only=False)
    kept = [column.filter(to_arrow(~null)) if null.any() else column for column in columns]
    return KeyPart(combined(kept), int(null.sum()))


class KeyState:
    """All keys so far."""

    def __init__(self) -> None:
        self.rows = self.nulls = 0
        self._held: list[np.ndarray] = []
        self._size = 0
        self._runs: Runs | None = None

    def add(self, part: KeyPart) -> None:
        """Take in a batch's. Raises TableProblem where the disk is full."""
        self.rows += len(part.hashes)
        self.nulls += part.nulls
        self._held.append(part.hashes)
        self._size += len(part.hashes)
        if self._size >= HELD:
            self._runs = self._runs or Runs()
            self._runs.write([np.sort(np.concatenate(self._held))])
            self._held, self._size = [], 0

    def repeated(self) -> np.ndarray:
        """The hashes that more than one row has. Different hashes prove different keys; equal ones
        are to be looked up."""
        results = [
            twice
            for every in self._parts()
            if len(twice := distinct_values(every[1:][every[1:] == every[:-1]]))
        ]
        return np.concatenate(results) if results else np.zeros(0, np.uint64)

    def _parts(self) -> Iterator[np.ndarray]:
        rest = np.sort(np.concatenate(self._held)) if self._held else np.zeros(0, np.uint64)
        if self._runs is None:
            yield rest
            return
        for (part,) in self._runs.ranges([[rest]], HELD):
            yield np.sort(part)
