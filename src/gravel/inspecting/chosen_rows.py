"""The rows of a table for which a condition is true, as a table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.inspecting.binding import columns_named, explaining, scope_of
from gravel.inspecting.cautions import Caution
from gravel.inspecting.look import look
from gravel.kernels.arrays import to_arrow
from gravel.language import parse
from gravel.language.bind import bind_condition
from gravel.language.nodes import Expression
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.language.writing import quoted
from gravel.sources.source import Batch, Chosen, Malformed, Source, Take
from gravel.sources.type_inference import Fitting
from gravel.words import number_of


class RowCondition(Struct, frozen=True):
    """A bound condition, the columns that it reads, and the types of the table's columns. It
    pickles: an engine makes the same choice elsewhere."""

    condition: Expression
    columns: tuple[int, ...]
    types: tuple[Type, ...]

    def of(self, table: Source) -> ChosenRows:
        """The rows of a table."""
        return ChosenRows(table, self)

    def met(self, batch: Batch) -> Batch:
        """The rows of a batch for which it is true."""
        frame = Frame(batch.count, batch.columns, self.types)
        keep = run(self.condition, frame).true(batch.count)
        chosen = to_arrow(keep)
        columns = [None if item is None else item.filter(chosen) for item in batch.columns]
        return Batch(batch.rows[keep], columns, batch.malformed)


class ChosenRows(Source):
    """A table with some rows of another, their row numbers, and its types: a column is what it is
    in the whole table."""

    def __init__(self, table: Source, choice: RowCondition) -> None:
        vars(self).update(vars(table))  # what is known of the table holds for its rows
        self.notes, self.fittings = list(table.notes), dict(table.fittings)
        self.mismatches = {}  # which were counted in all of its rows
        self._table, self._choice = table, choice
        self.engine = table.engine.choosing(choice)

    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Any]:
        """See Source."""
        self._table.progress = self.progress
        yield from self._table.pieces(take, self._read(wanted))

    def read(self, piece: Any, wanted: Sequence[int] | None = None) -> Batch:
        """See Source."""
        batch = self._choice.met(self._table.read(piece, self._read(wanted)))
        columns = [
            column if wanted is None or index in wanted else None
            for index, column in enumerate(batch.columns)
        ]
        return Batch(batch.rows, columns, batch.malformed)

    def _read(self, wanted: Sequence[int] | None) -> list[int] | None:
        return None if wanted is None else sorted({*wanted, *self._choice.columns})

    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """See Source: of the whole table."""
        return self._table.account(rows, malformed, breaks, take)

    def holding(self, rows: Sequence[int]) -> Iterator[Any]:
        """See Source."""
        yield from self._table.holding(rows)

    def outline(self, split: Any) -> Any:
        """See Source."""
        return self._table.outline(split)

    def types(self, wanted: Sequence[int]) -> dict[int, Type]:
        """See Source."""
        return self._table.types(wanted)

    def guess(self, wanted: Sequence[int]) -> dict[int, Type]:
        """See Source."""
        return self._table.guess(wanted)

    def settle(self, result: dict[int, Fitting]) -> None:
        """Keep what its rows fit; the types are those of the whole table."""
        self.fittings.update(result)

    @property
    def read_as(self) -> dict[str, Any]:
        """See Source."""
        return self._table.read_as

    @property
    def sources(self) -> list[Source]:
        """See Source."""
        return self._table.sources

    def reads(self, path: Any) -> bool:
        """See Source."""
        return self._table.reads(path)

    def refuse_changed(self) -> None:
        """See Source."""
        self._table.refuse_changed()


def choose_rows(
    table: Source, condition: str, given: Given | None = None
) -> tuple[ChosenRows, tuple[Caution, ...]]:
    """The rows of a table for which a condition is true, counted once, and what is to be told of
    the condition. Raises Diagnostic, TableProblem."""
    named = columns_named([(parse.expression(condition), condition)], table.columns)
    scope = scope_of(table, named, given)
    with explaining(table, scope):
        bound = bind_condition(condition, scope)
    result = RowCondition(bound, tuple(named), scope.types).of(table)
    first = quoted(table.columns[named[0] if named else 0])
    seen = look(table, columns=first, where=condition, rows=0, given=given)
    result.chosen = _chosen(table.chosen, Chosen(condition, seen.rows, seen.unknown, seen.errors))
    note = f"{seen.matching:,} of {number_of(seen.rows)} are those where {condition}"
    if seen.unknown:
        note += f"; it is unknown for {seen.unknown:,}"
    if seen.errors:
        note += f"; it fails for {seen.errors:,}"
    result.notes += [note, *seen.remarks]
    return result, seen.cautions


def _chosen(before: Chosen | None, then: Chosen) -> Chosen:
    """One choice after another, as one."""
    if before is None:
        return then
    return Chosen(
        f"({before.condition}) AND ({then.condition})",
        before.of,
        before.unknown + then.unknown,
        before.errors + then.errors,
    )
