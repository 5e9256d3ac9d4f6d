"""What is asked of a table, and its rows as hashes on each rung."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.hashing import hashes, mixed
from gravel.inspecting.binding import frame_of
from gravel.language import nodes
from gravel.language.bind import Scope
from gravel.tables.csv import CsvTable
from gravel.tables.table import Batch


@dataclass
class Asked:
    """What is asked, bound: on, and each rung of it."""

    table: CsvTable
    on: tuple[str, ...]
    scope: Scope
    bound: list[list[nodes.Expression]]  # by rung
    texts: list[tuple[str, ...]]
    null_equal: bool

    @property
    def rungs(self) -> int:
        """How many there are."""
        return len(self.bound)


@dataclass
class RungGroups:
    """The groups of a rung: both hashes, rows, first row, and how many keys of the rung before come together in each."""

    first: np.ndarray
    second: np.ndarray
    sizes: np.ndarray
    rows: np.ndarray
    spellings: np.ndarray


def values_of(asked: Asked, batch: Batch, rung: int) -> tuple[np.ndarray, int, int, list[Any]]:
    """Which rows may be in groups, rows with NULL and with an error, and the vectors."""
    frame = frame_of(batch, asked.scope)
    made = [run(one, frame).spread(batch.count) for one in asked.bound[rung]]
    failed = failed_in(made, batch.count)
    null = null_in(made, batch.count) & ~failed
    return (~failed if asked.null_equal else ~failed & ~null), int(null.sum()), int(failed.sum()), made


def null_in(vectors: list[Any], count: int) -> np.ndarray:
    null = np.zeros(count, bool)
    for one in vectors:
        if one.values.null_count:
            null |= pc.is_null(one.values).to_numpy(zero_copy_only=False)
    return null


def failed_in(vectors: list[Any], count: int) -> np.ndarray:
    failed = np.zeros(count, bool)
    for one in vectors:
        if one.errors is not None:
            failed |= one.errors != 0
    return failed


def hashed(vectors: list[Any], second: bool = False) -> np.ndarray:
    return mixed([hashes(one.values, second) for one in vectors], second)
