"""Steps of a plan once they are bound to the columns they meet, and what runs them."""

from __future__ import annotations

import json
from abc import abstractmethod
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.arrangement import Arrangement
from gravel.inspecting.aggregates import BoundAggregate
from gravel.inspecting.cautions import Watch
from gravel.language import nodes
from gravel.language.errors import ErrorPolicy
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.plans.destination import IN_PLACE, Destination
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.model import Expected, PlanFile
from gravel.plans.rows import TrackedRows
from gravel.sinks import files
from gravel.sinks.arrow import keeps_arrow
from gravel.sinks.atomic_file import is_stream
from gravel.sources.dialect import Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Source
from gravel.stores.sql import is_database, is_server


class SplitFrom(Struct, frozen=True):
    """The field whose pieces a column has: its name, its source column if no step has touched it,
    and the number of the split."""

    field: str
    source: int | None
    step: int


class PlanColumn(Struct, frozen=True):
    """A column on its way: name, type, the source column it is (None for a made one), whether a
    step may have changed it. What a split made of a field has NULL where the field has no piece."""

    name: str
    type: Type
    source: int | None = None
    touched: bool = True
    split: SplitFrom | None = None


class Left(Struct, frozen=True):
    """Rows that left at one step: why (texts, one a row), and their columns as texts as they came
    into it. `into` is the path of the row that each was merged into."""

    step: int
    outcome: ExitKind
    numbers: np.ndarray
    paths: Any
    reasons: Any
    states: Any
    columns: Any
    into: Any
    names: tuple[str, ...]
    values: list[Any]


class Outcome(Struct):
    """What a step made of some rows: those that go on, its count, the rows that left."""

    rows: TrackedRows
    count: StepCount
    left: list[Left] = field(default_factory=list)


class RowAction(Struct, frozen=True):
    """What a step does to rows batch by batch."""

    @abstractmethod
    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """The step on some rows. May run on any thread."""

    def unconcerned(self, step: BoundStep) -> list[int | None]:
        """For each column after the step where rows that it does not concern have it before (None:
        NULL)."""
        places = {column.name: index for index, column in enumerate(step.before)}
        return [places.get(column.name) for column in step.after]

    def finish(self, step: BoundStep, count: StepCount) -> str | None:
        """Why the run stops, once all rows are through."""
        return None


class Prepared(Struct):
    """Some rows as they go to a whole-table step, with what it needs to know of each beside their
    columns; its count, the rows that left."""

    rows: pa.RecordBatch
    count: StepCount
    left: list[Left] = field(default_factory=list)


class Context(Struct):
    """What a step that has all rows at one place is given: bytes to hold in memory, and where its
    rows that left and its counts go."""

    memory: int
    left: Callable[[Left], None]
    count: StepCount
    sealed: int  # how many columns a row's seal is made of
    made: Callable[
        [int], int
    ]  # takes a number of rows that a step makes; the number of the first, for its path


class TableAction(Struct, frozen=True):
    """What a step does that needs all rows at once: batches are prepared, arranged by an engine,
    and concluded. Preparing and concluding may run on any thread or machine."""

    @abstractmethod
    def prepare(self, step: BoundStep, rows: TrackedRows) -> Prepared:
        """Some rows as they come."""

    @abstractmethod
    def arrangement(self, step: BoundStep, context: Context) -> Arrangement:
        """How the prepared rows come to those that are concluded."""

    @abstractmethod
    def conclude(self, step: BoundStep, rows: pa.RecordBatch, first: int) -> Outcome:
        """Some rows as they go on; `first`: the place of the first of them among all."""


class BoundStep(Struct, frozen=True):
    """A step bound to the columns that it meets (`before`); `after` are those it leaves."""

    number: int
    verb: str
    note: str
    on_error: ErrorPolicy
    expected: Expected | None
    before: tuple[PlanColumn, ...]
    after: tuple[PlanColumn, ...]
    action: RowAction | TableAction
    only: nodes.Expression | None = None
    only_text: str = ""
    watch: Watch = field(default_factory=lambda: Watch([]))

    @property
    def types(self) -> tuple[Type, ...]:
        """The types of the columns it meets."""
        return tuple(column.type for column in self.before)

    @property
    def new_columns(self) -> tuple[str, ...]:
        """Columns that were not there before."""
        known = {column.name for column in self.before}
        return tuple(column.name for column in self.after if column.name not in known)

    @property
    def lost_columns(self) -> tuple[str, ...]:
        """Columns that are not there after it."""
        kept = {column.name for column in self.after}
        return tuple(column.name for column in self.before if column.name not in kept)


class BoundTotal(Struct, frozen=True):
    """A control total: its text, whether it is a sum, and its aggregate bound to the columns at the
    start and after each step (None where they do not have what it reads)."""

    text: str
    sum: bool
    places: tuple[BoundAggregate | None, ...]


class BoundPlan(Struct, frozen=True):
    """A plan ready to run. `source`: its table's columns; `columns`: those after the last step;
    `key`: positions in the source; `key_after`: in the output (None: there is no key to prove);
    `untouched`: (source, output) positions of the columns no step touches."""

    file: PlanFile
    table: Source
    steps: tuple[BoundStep, ...]
    source: tuple[PlanColumn, ...]
    columns: tuple[PlanColumn, ...]
    key: tuple[int, ...]
    key_after: tuple[int, ...] | None
    no_key: str
    untouched: tuple[tuple[int, int], ...]
    totals: tuple[BoundTotal, ...]
    target: Path
    rejects: Path
    given: Given
    destination: Destination
    others: tuple[Path, ...] = ()  # the files of other tables that its texts name

    @property
    def table_name(self) -> str:
        """The table as it may be shown: a server's URL has a password in it perhaps."""
        return self.table.name if self.table.server else self.file.model.table

    @property
    def reading(self) -> ReadOptions:
        """How its output is read again."""
        text = self.destination.kind == "text"
        return ReadOptions(self.dialect.delimiter if text else None, own=True)

    @property
    def dialect(self) -> Dialect:
        """How its output is written: as the table is, but tabs in a .tsv file and commas in what is
        no text file of the table's kind."""
        before = self.table.dialect
        ending = files.ending(self.target).removesuffix(".gz").removesuffix(".zst")
        if ending == ".tsv" and not self.destination.database:
            return replace(before, delimiter="\t")
        tabbed = files.ending(self.table.origin).startswith(".tsv") and ending == ".csv"
        plain = self.destination.kind == "text" and not tabbed
        return before if plain else replace(before, delimiter=",", line_end="\n")

    @property
    def keeps_arrow(self) -> bool:
        """Whether it writes a file that keeps Arrow's own types."""
        return self.destination.kind == "file" and keeps_arrow(self.target)

    @property
    def target_special(self) -> bool:
        """Whether it writes to standard output, a device or a pipe."""
        return self.destination.kind == "text" and is_stream(self.target)

    @property
    def names(self) -> tuple[str, ...]:
        """The output's columns."""
        return tuple(column.name for column in self.columns)

    @property
    def set_columns(self) -> tuple[int, ...]:
        """Positions of the output's columns that are not as the source has them."""
        untouched = {position for _, position in self.untouched}
        return tuple(index for index in range(len(self.columns)) if index not in untouched)

    @property
    def left_names(self) -> tuple[str, ...]:
        """The columns of the file of rejects, beside Gravel's own: all there ever were, in
        order of appearance."""
        every = [column.name for column in self.source]
        for step in self.steps:
            every += [column.name for column in step.after]
        return tuple(dict.fromkeys(every))


def same(text: str | None, count: int) -> pa.Array:
    """A text for each of some rows."""
    return pa.repeat(pa.scalar(text, pa.string()), count)


def left(
    step: BoundStep,
    rows: TrackedRows,
    places: np.ndarray,
    outcome: ExitKind,
    reasons: Any,
    states: Any = None,
    columns: pa.Array | None = None,
    into: pa.Array | None = None,
) -> Left:
    """The rows at some places as they leave; a reason may be one text for all."""
    gone = rows.take(places)
    count = gone.count
    why, code, column, to = (
        same(item, count) if item is None or isinstance(item, str) else item
        for item in (reasons, states, columns, into)
    )
    names = tuple(column.name for column in step.before)
    return Left(
        step.number, outcome, gone.numbers, gone.paths(), why, code, column, to, names, gone.texts()
    )


def names_of(columns: Sequence[PlanColumn]) -> tuple[str, ...]:
    """Their names."""
    return tuple(column.name for column in columns)


def record_path(target: Path) -> Path:
    """Where the record of an output stands."""
    return target.with_name(f"{target.stem}.record.json")


def written_by_another(plan: PlanFile) -> tuple[Path, str] | None:
    """The file that a plan writes and the plan that wrote it the last time, where that is another
    one."""
    named = plan.model.write
    if named is None or named in (IN_PLACE, "-") or is_server(named) or is_database(named):
        return None
    target = (plan.path.resolve().parent / named).resolve()
    try:
        message: Any = json.loads(record_path(target).read_text("utf-8"))
        other = (target.parent / message["plan"]["path"]).resolve()
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return (
        (target, message["plan"]["path"])
        if target.exists() and other != plan.path.resolve()
        else None
    )
