"""The face of every table: columns, pieces that can be read again and in any order, rows with source row numbers."""

from __future__ import annotations

import stat
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TypeVar

import numpy as np
import pyarrow as pa

from gravel.engine.arrow_values import text_of
from gravel.engine.parallel import ordered_map
from gravel.language.types import Type
from gravel.problems import DataProblem

T = TypeVar("T")


class GuessFailed(Exception):
    """A batch holds a value that the column's guessed type does not have; the argument is the column."""


@dataclass(frozen=True)
class Malformed:
    """A record that is no row: its source row number, its line in the file, what is wrong, and its text."""

    row: int
    line: int
    fault: str
    text: str


@dataclass(frozen=True)
class Batch:
    """Some rows in source order. `rows` are source row numbers; `columns` has an Arrow array for each column asked for, in table order
    and as the store has it (a text file's are texts), and None for the others. Malformed records stand beside, not among them."""

    rows: np.ndarray
    columns: list[Any]
    malformed: tuple[Malformed, ...] = ()

    @property
    def count(self) -> int:
        """Rows."""
        return len(self.rows)

    def texts(self) -> Batch:
        """The same rows, each column as its texts."""
        if all(column is None or pa.types.is_string(column.type) for column in self.columns):
            return self
        return Batch(self.rows, [None if column is None else text_of(column) for column in self.columns], self.malformed)


State = tuple[int, int, int] | None


def state_of(path: Path) -> State:
    """What tells whether a file is as it was: which one it is, its size, when it was last written; None for what is no plain file."""
    try:
        told = path.stat()
    except OSError:
        return None
    return (told.st_ino, told.st_size, told.st_mtime_ns) if stat.S_ISREG(told.st_mode) else None


def refuse_changed(path: Path, name: str, before: State) -> None:
    """Every command sees one state of a file: one that is another now is told. Raises DataProblem."""
    if before is not None and state_of(path) != before:
        raise DataProblem(f"{name} was changed while it was read", hint="run it again when nobody writes it")


def holding_some(pieces: Iterable[Any], rows: Sequence[int]) -> Iterator[Any]:
    """Of pieces in order, those that hold some of these source rows."""
    ascending = np.unique(np.asarray(rows, np.int64))
    for piece in pieces:
        at = np.searchsorted(ascending, piece.first_row)
        if at < len(ascending) and ascending[at] < piece.first_row + piece.records:
            yield piece


class Table(Protocol):
    """A source of rows. `name` is what the person called it."""

    name: str
    columns: tuple[str, ...]
    notes: list[str]
    snapshot: bool  # whether it was read at one moment, as a database gives it
    store_key: tuple[str, ...]  # what its store knows of it: the primary key, columns without NULL
    not_null: tuple[str, ...]
    fields: dict[int, Any]  # the Arrow fields of columns that the store keeps as Arrow values

    def pieces(self, *, wanted: Sequence[int] | None = None) -> Iterator[Any]:
        """The table in pieces, in order; each call reads it afresh. `wanted`: the columns that are all that will be read of them.
        Raises TableProblem."""

    def holding(self, rows: Sequence[int]) -> Iterator[Any]:
        """The pieces that hold some source rows, in order."""

    def read(self, piece: Any, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of a piece, with the wanted columns (their positions; None: all). May run on any thread."""

    def types(self, wanted: Sequence[int]) -> dict[int, Type]:
        """The types of these columns, found from all rows where the store does not know them."""


def scan(table: Table, work: Callable[[Batch], T], wanted: Sequence[int] | None = None) -> Iterator[T]:
    """`work` of each batch, in order, by several threads."""
    return ordered_map(lambda piece: work(table.read(piece, wanted)), table.pieces(wanted=wanted))
