"""The account of a query: its operators with the rows in and out, errors, cautions, and the
room that its columns take."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.mapped import Store
from gravel.engine.row_codes import codes_of
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.figures import Figures, Unlisted, figure
from gravel.inspecting.cautions import Caution, Watch
from gravel.kernels.arrays import to_arrow
from gravel.language.errors import ErrorPolicy, meaning, sqlstate
from gravel.language.functions.casing import tidy_spaces, upper
from gravel.problems import DataProblem
from gravel.querying.joined_rows import Finding, JoinedRows
from gravel.querying.partitions import more_than
from gravel.querying.relation import Relation

MOST_ALIKE = 200_000  # keys up to which those that differ in case or spaces only are looked for
_FIRST_ROWS = 3


@dataclass(frozen=True)
class Stage(Figures):
    """An operator of a query: rows into it and out of it, and what became of the difference.
    `inputs` are the places in the account of the operators that its rows come from; `spilled` the
    bytes that were written to temporary files meanwhile.
    """

    stage: str
    rows_in: Annotated[int, "in"]
    rows_out: Annotated[int, "out"]
    detail: str = ""
    inputs: tuple[int, ...] = ()
    spilled: Unlisted[int] = 0


@dataclass(frozen=True)
class RowFault(Figures):
    """Rows that failed at a stage: the expression, the SQLSTATE, how many, and the first source
    rows if they are known."""

    stage: str
    expression: str
    sqlstate: str
    rows: int
    first_rows: tuple[int, ...] = ()

    @property
    @figure
    def row(self) -> int | None:
        """The first source row."""
        return self.first_rows[0] if self.first_rows else None

    def __add__(self, other: RowFault) -> RowFault:
        """Of the rows of both."""
        first = tuple(sorted({*self.first_rows, *other.first_rows})[:_FIRST_ROWS])
        return RowFault(self.stage, self.expression, self.sqlstate, self.rows + other.rows, first)


def faults_of(
    stage: str, expression: str, errors: np.ndarray | None, rows: np.ndarray | None
) -> dict[int, RowFault]:
    """Rows that failed, by their codes of language.errors."""
    results = {}
    for code in () if errors is None else distinct_values(errors[errors != 0]).tolist():
        index = np.flatnonzero(errors == code)
        first: tuple[int, ...] = ()
        if rows is not None:
            seen = distinct_values(rows[index])[: _FIRST_ROWS + 1].tolist()
            first = tuple(row for row in seen if row > 0)[:_FIRST_ROWS]
        results[code] = RowFault(stage, expression, sqlstate(code), len(index), first)
    return results


class RowProblem(DataProblem):
    """A row error that stops a query."""

    def __init__(self, fault: RowFault, detail: str) -> None:
        count = "1 row" if fault.rows == 1 else f"{fault.rows:,} rows"
        where = ""
        if fault.first_rows:
            where = (
                f", first in source row{'s' if len(fault.first_rows) > 1 else ''}"
                f" {', '.join(f'{row:,}' for row in fault.first_rows)}"
            )
        state = fault.sqlstate
        super().__init__(
            f"{fault.stage}: {fault.expression[:80]} fails in {count}{where}: {state},"
            f" {meaning(state)}",
            detail=detail,
            hint="guard it with CASE, or --on-error null or set-aside",
        )
        self.sqlstate = state


class Account(Struct):
    """Operators with rows in and out, errors, cautions. What runs while it is `quiet` enters
    nothing: a subquery's operators run once a row."""

    on_error: ErrorPolicy = ErrorPolicy.STOP
    store: Store | None = None  # room for the columns; without one all are held
    stages: list[Stage] = field(default_factory=list)
    cautions: list[Caution] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    faults: list[RowFault] = field(default_factory=list)
    quiet: int = 0
    # origins of the rows that errors left out
    omitted: list[np.ndarray] = field(default_factory=list)
    reasons: dict[str, str] = field(default_factory=dict)  # why subqueries fail, by SQLSTATE
    reserved: list[int] = field(default_factory=list)  # the places of those that are entered next
    # for an operator, the one that left rows of it out
    _instead: dict[int, int] = field(default_factory=dict)

    @property
    def memory(self) -> int | None:
        """Bytes that a stage may take for a while; None: as many as it needs."""
        return None if self.store is None else self.store.memory

    def report_errors(
        self, stage: str, expression: str, errors: np.ndarray | None, rows: np.ndarray | None
    ) -> None:
        """Row errors that a result or a condition reads, if there are any. Raises DataProblem where
        errors stop the query."""
        self.tell_faults(faults_of(stage, expression, errors, rows).values())

    def tell_faults(self, faults: Iterable[RowFault]) -> None:
        """Rows that failed. Raises DataProblem where errors stop the query."""
        self.faults += faults
        if self.on_error is ErrorPolicy.STOP and self.faults:
            problem = RowProblem(self.faults[0], self.reasons.get(self.faults[0].sqlstate, ""))
            if self.quiet:
                self.faults.clear()
            raise problem

    def sound_rows(
        self,
        stage: str,
        relation: Relation,
        vectors: Iterable[tuple[str, Vector]],
        detail: Callable[[np.ndarray], str] | None = None,
    ) -> np.ndarray | None:
        """What a stage reads of some rows: its errors are told, and where such rows are left out,
        which remain (else None)."""
        failed = np.zeros(relation.count, bool)
        for expression, item in vectors:
            errors = item.spread(relation.count).errors
            self.report_errors(stage, expression, errors, relation.rows)
            if errors is not None:
                failed |= errors != 0
        if self.on_error is not ErrorPolicy.SET_ASIDE or not failed.any():
            return None
        message = "rows with an error" + (detail(failed) if detail else "")
        place = self.enter(f"{stage}: set aside", (relation,), int((~failed).sum()), message)
        if place is not None and relation.stage is not None:
            self._instead[relation.stage] = place
        self.note_omitted(relation, failed)
        return np.flatnonzero(~failed)

    def note_omitted(self, relation: Relation, failed: np.ndarray) -> None:
        """Remember which rows of a plan's table errors have left out."""
        if relation.origin is not None and self.on_error is ErrorPolicy.SET_ASIDE:
            self.omitted.append(relation.origin[failed])

    def enter(
        self,
        stage: str,
        inputs: Sequence[Relation],
        rows_out: int,
        detail: object = "",
        rows_in: int | None = None,
    ) -> int | None:
        """Enter an operator into the account; its place there (the first that is reserved, where
        one is), None within a subquery, whose operators run once a row. `detail`: what str makes of
        it is told."""
        self.let_go()
        if self.quiet:
            return None
        spilled = (
            0
            if self.store is None
            else self.store.spilled - sum(item.spilled for item in self.stages)
        )
        places = tuple(
            self._instead.pop(item.stage, item.stage) for item in inputs if item.stage is not None
        )
        into = rows_in if rows_in is not None else inputs[0].count if inputs else rows_out
        place = self.reserved.pop(0) if self.reserved else self.reserve()
        self.stages[place] = Stage(stage, into, rows_out, str(detail), places, spilled)
        return place

    def reserve(self) -> int:
        """A place for an operator that is entered later than those that stand after it."""
        self.stages.append(Stage("", 0, 0))
        return len(self.stages) - 1

    def let_go(self) -> None:
        """Let go of what is in memory and in files alike, and of freed memory, where files are
        used."""
        if self.store is not None and self.store.spilled:
            self.store.let_go()

    def give_back(self) -> None:
        """As `_let_go`, where work is done part by part."""
        if self.store is not None:
            self.store.let_go()

    def fits(self, item: Vector) -> bool:
        """Whether a column that was computed may be held."""
        return self.store is None or self.store.fits(item.values.nbytes)

    def keep(self, item: Vector) -> Vector:
        """A column that was computed, in a file where it does not fit into memory."""
        if self.store is None or item.errors is not None or self.fits(item):
            return item
        return Vector(self.store.column([item.values], item.values.type))

    def warn(
        self,
        caution: str,
        rows: int,
        detail: str,
        hint: str,
        examples: tuple[str, ...] = (),
        unless: int = 0,
    ) -> None:
        """Warn of rows, if there are any, unless there are others."""
        told = [(item.caution, item.detail) for item in self.cautions]
        if rows and not unless and not self.quiet and (caution, detail) not in told:
            self.cautions.append(Caution(caution, rows, detail, hint, examples))

    def enter_join(self, joined_rows: JoinedRows, inputs: Sequence[Relation]) -> int | None:
        """Enter a join of two relations, and warn of what it did; its place."""
        rows_in = joined_rows.sides[0].rows
        place = self.enter(joined_rows.name, inputs, joined_rows.out, joined_rows, rows_in)
        self.find(joined_rows)
        return place

    def find(self, finding: Finding | JoinedRows) -> None:
        """Warn of what was found where two relations are joined, if it deserves that."""
        for item in finding.cautions():
            self.warn(item.caution, item.rows, item.detail, item.hint)

    def tell_of(self, watch: Watch) -> None:
        """What has been seen that deserves a caution, and which day it is for an expression."""
        if self.quiet:
            return
        self.remarks += [line for line in watch.days() if line not in self.remarks]
        for item in watch.cautions():
            self.warn(item.caution, item.rows, item.detail, item.hint, item.examples)

    def warn_of_alike(self, caution: str, keys: Sequence[pa.Array], what: str, hint: str) -> None:
        """Distinct combinations of some keys (Arrow arrays of one length) that differ from another
        one in case and spaces only."""
        count = len(keys[0]) if keys else 0
        if self.quiet or not any(pa.types.is_string(key.type) for key in keys):
            return
        if more_than(keys, count, MOST_ALIKE):
            return
        _, first = codes_of(list(keys), count)
        if len(first) > MOST_ALIKE:
            return
        kept = [key.take(to_arrow(first)) for key in keys]
        folded = [
            upper(tidy_spaces(item)) if pa.types.is_string(item.type) else item for item in kept
        ]
        alike = len(first) - len(codes_of(folded, len(first))[1])
        self.warn(
            caution, alike, f"as {what} they differ from another one only in case or spaces", hint
        )
