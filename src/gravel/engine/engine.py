"""Who carries out work on a table. What is asked of it is a *state*: batches are mapped on any
thread or machine, their parts are added in the order of the table. What grows with the table are
distinct values; they are asked a range of hashes at a time, where they are held.

An engine does both: `engine.threads` on this machine, `spark` on a cluster's executors. What is
given to an engine pickles.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Hashable, Iterable, Iterator, Sequence
from typing import Any, Generic, Protocol, TypeVar

import pyarrow as pa
from msgspec import Struct

from gravel.engine.arrangement import Arrangement
from gravel.engine.distinct import Counted
from gravel.engine.hashed_rows import RowRange

Part = TypeVar("Part")
Told = TypeVar("Told", covariant=True)
Result = TypeVar("Result")
Figures = TypeVar("Figures")
Groups = TypeVar("Groups", bound="MergedByKeys")


class Readable(Protocol):
    """Rows in splits that can be read again and in any order."""

    def pieces(self, take: Any = None, wanted: Sequence[int] | None = None) -> Iterable[Any]:
        """The splits in order; `wanted`: the columns that are all that will be read of them."""

    def holding(self, rows: Sequence[int]) -> Iterable[Any]:
        """The splits that hold some source rows, in order."""

    def read(self, piece: Any, wanted: Sequence[int] | None = None) -> Any:
        """The batch that a split is."""


class DistinctValues(Protocol):
    """Distinct values by their hashes, wherever they are held."""

    def __len__(self) -> int: ...


class State(Protocol[Part]):
    """What is known of a table so far, of its rows in their order: a part maps to the same part
    wherever it is mapped, and merging is associative."""

    distinct: dict[Hashable, Any]
    """By key its distinct values (`Distinct`), or its rows (`HashedRows`), until an engine holds
    them elsewhere."""

    def map(self, batch: Any) -> Part:
        """What a batch says. May run on any thread, before others are added."""

    def add(self, part: Part) -> None:
        """Take in what the next batch says."""

    def merge(self, later: Any) -> None:
        """Take in the state of the rows that follow, but for its distinct values."""


class Question(Struct, Generic[Figures, Result], frozen=True):
    """What some distinct values come to: figures of each range of their hashes, put together in
    ascending order. `figures` pickles, and depends on its range alone."""

    of: DistinctValues
    figures: Callable[[Counted], Figures]
    together: Callable[[Iterable[Figures]], Result]


class OfBatch(Struct, Generic[Part], frozen=True):
    """What is done with the batch that a split is."""

    work: Callable[[Any], Part]
    wanted: Sequence[int] | None = None

    def __call__(self, table: Readable, split: Any) -> Part:
        return self.work(table.read(split, self.wanted))


class MergedByKeys(Protocol):
    """Groups of some rows by their keys, which are put together with those of the rows that
    follow; they pickle."""

    @property
    def size(self) -> int:
        """How many groups, and values of groups, there are."""

    def merge(self: Groups, later: Sequence[Groups]) -> Groups:
        """The groups of the rows of all of them."""

    def cut(self: Groups, ranges: int) -> Iterable[tuple[int, Groups]]:
        """The groups by hashes of their keys, in so many ranges, of which each has its number;
        those without a group are left out."""


class Reduction(Struct, Generic[Part, Groups, Result], frozen=True):
    """What the rows of some tables come to by their keys: of each table `works` has what is done
    with a batch, which gives what it tells and the groups; `finish` is done with all groups of a
    range (None: nothing). With `again` it gives likewise what it tells, and groups by other keys,
    and `again` is done with those of a range. Without `ranged` there is one range in the end. It
    pickles."""

    works: tuple[OfBatch[tuple[Part, Groups]], ...]
    finish: Callable[[Groups], Any] | None
    again: Callable[[Any], Result] | None = None
    ranged: bool = True


class BatchWork(Protocol[Told]):
    """Work on batches that tells something of each, and has rows that go on, but for the last of
    several stages."""

    def begin(self, table: Any, split: Any) -> tuple[Told, pa.RecordBatch | None]:
        """On the batch that a split of a table is."""

    def go_on(self, number: int, rows: pa.RecordBatch) -> tuple[Told, pa.RecordBatch | None]:
        """On rows that come from the stage before, in batches of `external.OUT`, numbered from
        0."""


class RowStage(Struct, Generic[Part], frozen=True):
    """Work on batches, and how its rows come to the next stage; None: it is the last."""

    work: BatchWork[Part]
    then: Arrangement | None = None


class RowChoice(Protocol):
    """Which rows of a table are read."""

    def of(self, table: Any) -> Any:
        """The table of these rows."""


class Engine(Protocol):
    """Maps batches, makes states, answers questions. Raises what the work raises, and TableProblem
    for a table that cannot be read."""

    @property
    def address(self) -> str | None:
        """Where it is, as open_table takes it; None: this machine."""

    @property
    def description(self) -> str:
        """What it is, with the versions that figures may depend on, as a record names it."""

    def choosing(self, choice: RowChoice) -> Engine:
        """The engine for some rows of the table that it reads."""

    def map_splits(
        self,
        table: Any,
        work: Callable[[Any, Any], Part],
        wanted: Sequence[int] | None = None,
        splits: Iterable[Any] | None = None,
    ) -> Generator[Part, None, None]:
        """`work` of the table and each of its splits, in order; of these `splits` alone, where they
        are given. `wanted`: the columns that it reads."""

    def run(
        self,
        state: State[Any],
        table: Any,
        wanted: Sequence[int] | None = None,
        beside: Callable[[Any], None] | None = None,
    ) -> None:
        """Make the state of all batches. `beside` takes what parts have of this name, in order: it
        is not for the state, and may be as large as the table."""

    def run_stages(
        self,
        table: Any,
        stages: Sequence[RowStage[Part]],
        splits: Iterable[Any],
        take: Callable[[int, Any], None],
        memory: int,
    ) -> Iterator[Part]:
        """What the last stage tells of its batches, in order. What those before it tell, and the
        arrangements between, is given to `take` first, with the number of the stage."""

    def reduce(
        self,
        tables: Sequence[Any],
        reduction: Reduction[Part, Any, Result],
        take: Callable[[Part, int | None], None],
    ) -> Iterator[Result]:
        """What the rows of some tables come to, range by range, once `take` was given what each
        batch of one after another tells, in order, and what each range does, with how many groups
        are held; None: they are not held here."""

    def exchange(self, values: Any, rekeyed: Callable[[Counted], Counted]) -> DistinctValues:
        """Distinct values with other hashes, by ranges of these. Values of one hash stay apart, in
        no order: a question about a range puts them together itself."""

    def match(
        self, before: Any, after: Any, work: Callable[[RowRange, RowRange], Part], ranges: int
    ) -> Iterable[Part]:
        """`work` of the rows of two tables (`HashedRows` of their states) whose hashes are in one
        range, for each range; `ranges`: how many on this machine."""

    def ask(
        self, questions: Sequence[Question[Any, Result]], threads: int | None = None
    ) -> list[Result]:
        """The answers, in order. `threads`: how many may work at once here."""
