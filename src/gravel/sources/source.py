"""Where rows are read from: the base of all sources, their rows in batches, and what is wrong with
some of them."""

from __future__ import annotations

import stat
from abc import ABC, abstractmethod
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.arrow_values import text_of
from gravel.engine.engine import Engine, OfBatch
from gravel.engine.sets import distinct_values
from gravel.engine.threads import THREADS
from gravel.figures import Figures
from gravel.language.types import TEXT, Type
from gravel.problems import DataProblem
from gravel.sources.dialect import Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.type_inference import Fitting, agrees, fitting, wider

T = TypeVar("T")
S = TypeVar("S")
Take = Callable[[bytes], Any]
_SAMPLE = 1  # splits that a guess of types looks at


class InferredTypeRefuted(Exception):
    """A batch holds a value that the column's guessed type does not have; the argument is the
    column."""


class Malformed(Struct, frozen=True):
    """A record that is not a row: its source row number, its line in the file, what is wrong, and
    its text."""

    row: int
    line: int
    fault: str
    text: str


class Batch(Struct, frozen=True):
    """Some rows in source order. `rows` are source row numbers; `columns` has an Arrow array for
    each column asked for, in table order and as the store has it (a text file's are texts), and
    None for the others. Malformed records stand beside, not among them. `encoded`: by position,
    columns that the store has as a dictionary of their values and the places in it, as it has them.
    """

    rows: np.ndarray
    columns: list[Any]
    malformed: tuple[Malformed, ...] = ()
    encoded: Mapping[int, pa.DictionaryArray] = {}

    @property
    def count(self) -> int:
        """Rows."""
        return len(self.rows)

    def texts(self) -> Batch:
        """The same rows, each column as its texts."""
        if all(column is None or pa.types.is_string(column.type) for column in self.columns):
            return self
        return Batch(
            self.rows,
            [None if column is None else text_of(column) for column in self.columns],
            self.malformed,
        )


@dataclass(frozen=True)
class Chosen(Figures):
    """By which condition rows were chosen, and of how many. unknown, errors: rows whose condition
    is unknown or fails; they are not among them."""

    condition: str
    of: int
    unknown: int
    errors: int


FileState = tuple[int, int, int] | None


def state_of(path: Path) -> FileState:
    """What tells whether a file is as it was: which one it is, its size, when it was last written;
    None for what is not a plain file."""
    try:
        message = path.stat()
    except OSError:
        return None
    return (
        (message.st_ino, message.st_size, message.st_mtime_ns)
        if stat.S_ISREG(message.st_mode)
        else None
    )


def refuse_changed(path: Path, name: str, before: FileState) -> None:
    """Every command sees one state of a file: one that is another now is told. Raises
    DataProblem."""
    if before is not None and state_of(path) != before:
        raise DataProblem(
            f"{name} was changed while it was read", hint="run it again when nobody writes it"
        )


def holding_some(pieces: Iterable[Any], rows: Sequence[int]) -> Iterator[Any]:
    """Of pieces in order, those that hold some of these source rows."""
    ascending = distinct_values(np.asarray(rows, np.int64))
    for piece in pieces:
        index = np.searchsorted(ascending, piece.first_row)
        if index < len(ascending) and ascending[index] < piece.first_row + piece.records:
            yield piece


_FEW_ROWS, _FEW_BYTES = 1 << 16, 2 << 20  # of splits that are read together


def bundles(splits: Iterable[S], size_of: Callable[[S], tuple[int, float]]) -> Iterator[list[S]]:
    """Splits in their order, small ones together: work on a batch of ten rows costs as much as on
    some thousands. `size_of`: the rows of a split, and its bytes, about."""
    held: list[S] = []
    rows, size = 0, 0.0
    for split in splits:
        more = size_of(split)
        if held and (rows + more[0] > _FEW_ROWS or size + more[1] > _FEW_BYTES):
            yield held
            held, rows, size = [], 0, 0.0
        held.append(split)
        rows, size = rows + more[0], size + more[1]
    if held:
        yield held


class Source(ABC):
    """A table that rows are read from: columns, splits that can be read again and in any order,
    rows with their source row numbers.

    `name` is what the person called it. texts: columns that stay TEXT whatever they hold; declared:
    types that a plan gives columns. Types that the store does not give are found from the
    values."""

    engine: Engine = THREADS  # who reads it
    chosen: Chosen | None = None  # by what its rows were chosen from those of another
    parameters: Sequence[str] = ()  # as NAME=VALUE, for that condition

    def __init__(
        self,
        path: Path,
        name: str,
        columns: tuple[str, ...],
        *,
        texts: frozenset[str] = frozenset(),
        declared: dict[str, Type] | None = None,
        dialect: Dialect | None = None,
    ) -> None:
        self.origin, self.part = (
            path,
            "",
        )  # the file that was named, and the table in it where it has several
        self.server = ""  # where it was copied from, if that is no file
        self.snapshot = (
            False  # whether it was read at one moment, so that it cannot change under way
        )
        self.store_key: tuple[
            str, ...
        ] = ()  # what its store says of it: the primary key, columns without NULL
        self.not_null: tuple[str, ...] = ()
        self.computed: tuple[str, ...] = ()  # columns that the store fills itself
        self.fallback: dict[str, Type] = {}  # the store's types of columns that hold no value
        # the kind of database that it is of, where that declares types that a new table can be
        # given
        self.store_kind = ""
        self.store_types: dict[str, str] = {}  # those types, by column, as its store writes them
        self.mixed: dict[
            str, str
        ] = {}  # columns with values of several types, which no one type keeps: what they are
        self.binary: frozenset[str] = frozenset()  # columns of bytes, which are told as base64
        self.nested: frozenset[str] = frozenset()  # of arrays or objects, which are told as JSON
        self.fields: dict[
            int, Any
        ] = {}  # the Arrow fields of columns that their store keeps as Arrow values
        self.spelt: frozenset[str] = (
            frozenset()
        )  # columns that their store keeps as texts, so that another spelling is another value
        self.mismatches: dict[
            str, tuple[str, int, str]
        ] = {}  # by column: declared type, values that do not match it, one of them
        self.path, self.name, self.columns, self.texts = path, name, columns, texts
        self.declared = declared or {}
        self.reading = ReadOptions()  # as it was asked for
        self.state: FileState = state_of(path)
        # How its rows are written as text: as they are in a text file, else in the plain form of
        # RFC 4180.
        self.dialect = dialect or Dialect(",", "utf-8", columns, 0, 0, 0, "\n")
        self.notes: list[str] = []
        self.progress: Callable[[int], None] | None = None
        self._types: dict[int, Type] = {}
        self._guesses: dict[int, Type] = {}
        self.fittings: dict[int, Fitting] = {}

    @property
    def read_as(self) -> dict[str, Any]:
        """How its text is read, as settled, by options: what `[read]` of a plan takes. Nothing for
        what is no text."""
        return self.reading.settled()

    @abstractmethod
    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Any]:
        """The table in splits, in order; each call reads it afresh. `take` is given the bytes of
        the file. `wanted`: the columns that are all that will be read of them, for stores that
        fetch no others. Raises TableProblem."""

    @abstractmethod
    def read(self, piece: Any, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of a split, with the wanted columns (their positions; None: all). May run on any
        thread."""

    @abstractmethod
    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """What should be true of the rows read, whether it is, and the figures. `breaks`: line
        breaks inside values."""

    def holding(self, rows: Sequence[int]) -> Iterator[Any]:
        """The splits that hold some source rows, in order."""
        return holding_some(self.pieces(), rows)

    def outline(self, split: Any) -> Any:
        """A split without the bytes that `read` finds again by itself: what goes elsewhere."""
        return split

    def look_at_types(self) -> dict[int, Type]:
        """All columns' types, without a promise: where values decide, as all of them or the first
        suggest."""
        return self.types(list(range(len(self.columns))))

    def _refuse_guesses(self, columns: Sequence[pa.Array | None]) -> None:
        """Raises InferredTypeRefuted where a column holds what its guessed type has not."""
        for index, kind in self._guesses.items():
            if columns[index] is not None and not agrees(columns[index], kind):
                raise InferredTypeRefuted(self.columns[index])

    @property
    def sources(self) -> list[Source]:
        """The tables it is read from, each of one file: itself, but for several files as one."""
        return [self]

    @property
    def files(self) -> set[Path]:
        """The files that it reads, which must not be written over; a server's table has none."""
        return {source.origin.resolve() for source in self.sources if not source.server}

    def reads(self, path: Path) -> bool:
        """Whether a file is one that it reads, or will read the next time."""
        return path.resolve() in self.files

    def whole(self) -> Source:
        """The table, told that all of its columns will be read."""
        return self

    def refuse_changed(self) -> None:
        """Raises DataProblem where the file is not as it was when the table was opened."""
        if not self.snapshot:
            refuse_changed(self.path, self.name, self.state)

    def guess(self, wanted: Sequence[int]) -> dict[int, Type]:
        """Types as the first rows suggest them, which spares a pass over the rest: `read` raises
        InferredTypeRefuted at the first batch that shows another. A DECIMAL gets room for longer
        numbers. Another engine than this machine's finds them from all rows."""
        if self.engine is not THREADS:
            return self.types(wanted)
        missing = [index for index in wanted if index not in self._types]
        states = self._open_states(missing)
        pieces = list(islice(self.pieces(wanted=missing), _SAMPLE + 1))
        self._fit(states, (_Fit(states)(self, piece) for piece in pieces[:_SAMPLE]))
        if len(pieces) <= _SAMPLE:
            self.settle(states)
        results = {index: self._types[index] for index in wanted if index in self._types}
        for index, state in states.items():
            if index not in results:
                results[index] = wider(state.type)
                if state.kinds:
                    self._guesses[index] = results[index]
        return results

    def types(self, wanted: Sequence[int]) -> dict[int, Type]:
        """Types found from all rows; reading stops early where only TEXT is left."""
        self._guesses.clear()
        self._find_types([index for index in wanted if index not in self._types])
        return {index: self._types[index] for index in wanted}

    def load(
        self,
        wanted: Sequence[int],
        enough: Callable[[list[Batch], dict[int, Type]], bool] | None = None,
    ) -> tuple[list[Batch], dict[int, Type], bool]:
        """All rows of some columns and the columns' types, found on the way: one pass instead of
        two. Reading ends when the batches read are `enough`; their types are then those of the rows
        read. The last result tells whether all rows were.
        """
        states = self._open_states([index for index in wanted if index not in self._types])
        batches: list[Batch] = []
        parts = scan(self, _Load(states), wanted)
        for batch, result in parts:
            batches.append(batch)
            for index, state in result.items():
                states[index] = states[index].merge(state)
            if enough is not None:
                types = {
                    index: self._types[index] if index not in states else states[index].type
                    for index in wanted
                }
                if enough(batches, types) and next(parts, None) is not None:
                    parts.close()
                    return batches, types, False
        self.settle(states)
        return batches, {index: self._types[index] for index in wanted}, True

    def settle(self, result: dict[int, Fitting]) -> None:
        """Take over what a pass over all rows has found of the columns' types."""
        self.fittings.update(result)
        for index, state in result.items():
            name = self.columns[index]
            # What a store says of a column stands, whatever its values look like.
            self._types.setdefault(
                index,
                self.declared.get(name)
                or (TEXT if name in self.texts else self._seen_type(name, state)),
            )

    def _seen_type(self, name: str, state: Fitting) -> Type:
        return state.type if state.seen else self.fallback.get(name, TEXT)

    def _find_types(self, missing: list[int]) -> None:
        states = self._open_states(missing)
        if states:
            self._fit(states, self.engine.map_splits(self, _Fit(states), missing))
            self.settle(states)

    def _open_states(self, missing: list[int]) -> dict[int, Fitting]:
        """A state for each column whose type its values decide; the others get theirs."""
        states = {index: Fitting() for index in missing}
        for index in missing:
            name = self.columns[index]
            if name in self.texts or name in self.declared:
                self._types[index] = self.declared.get(name, TEXT)
                del states[index]
        return states

    def _fit(self, states: dict[int, Fitting], parts: Iterable[dict[int, Fitting]]) -> None:
        for result in parts:
            for index, state in result.items():
                states[index] = states[index].merge(state)
            if not any(state.kinds for state in states.values()):
                break


class _Fit(Struct, frozen=True):
    """What the types of some columns may still be. Columns that have turned out to be TEXT are not
    read again."""

    states: dict[int, Fitting]

    def __call__(self, table: Any, split: Any) -> dict[int, Fitting]:
        open_columns = [index for index, state in self.states.items() if state.kinds]
        batch = table.read(split, open_columns)
        return {
            index: fitting(batch.columns[index], self.states[index].kinds) for index in open_columns
        }


class _Load(Struct, frozen=True):
    """A batch with what the types of some of its columns may still be."""

    states: dict[int, Fitting]

    def __call__(self, batch: Batch) -> tuple[Batch, dict[int, Fitting]]:
        return batch, {
            index: fitting(batch.columns[index], state.kinds)
            for index, state in self.states.items()
            if state.kinds
        }


def as_it_is(batch: Batch) -> Batch:
    """Work that leaves a batch as it is."""
    return batch


def scan(
    table: Source, work: Callable[[Batch], T], wanted: Sequence[int] | None = None
) -> Generator[T, None, None]:
    """`work` of each batch, in order, by the table's engine."""
    return table.engine.map_splits(table, OfBatch(work, wanted), wanted)
