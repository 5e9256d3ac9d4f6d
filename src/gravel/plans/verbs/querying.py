"""`query`: a SELECT over the rows under way, `input`, and other tables. Where it keeps rows apart,
their paths go on."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from gravel.engine.arrangement import GatheredRows
from gravel.engine.external import OUT
from gravel.engine.frame import view
from gravel.engine.hashing import combined
from gravel.engine.mapped import Store
from gravel.engine.sets import member, without
from gravel.engine.vector import Vector
from gravel.inspecting.cautions import Watch
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.errors import ErrorPolicy
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, gathered
from gravel.plans.steps import (
    BoundStep,
    Context,
    Outcome,
    PlanColumn,
    Prepared,
    TableAction,
    left,
    names_of,
)
from gravel.plans.verbs.kind import StepKind
from gravel.problems import DataProblem
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.relation import Columns, Relation
from gravel.querying.session import Session

INPUT = "input"
_LET_GO = 8 * OUT  # rows after which the pages of files are dropped
ENDS = "in groups or sets of rows: the row's path ends here"


class QueryStep(StepKind):
    """`query`: a SELECT over the rows under way."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The query."""
        return [SqlFragment(("query",), "query", step.query or "")]

    def columns_read(self, step: Step) -> list[str]:
        """Columns that matter without being named: all of them where rows are compared as a
        whole."""
        try:
            result = list(parse.walk(parse.query(step.query or "")))
        except Exception:  # a query that does not parse is told elsewhere
            return []
        using = [name for node in result if isinstance(node, tree.Join) for name in node.using]
        every = any(isinstance(node, tree.AllColumns) for node in result)
        compared = any(
            isinstance(node, tree.SetOperation) or (isinstance(node, tree.Select) and node.distinct)
            for node in result
        )
        by_place = any(isinstance(node, tree.Literal) and node.kind == "integer" for node in result)
        return ["*"] if every and (compared or by_place) else using

    def bind(self, binder: Binder) -> tuple[QueryAction, tuple[PlanColumn, ...], Watch]:
        """The query run over no rows, which tells its columns and its mistakes."""
        text = binder.step.query or ""
        node = binder.node("query")
        engine = binder.table.engine.address
        action = QueryAction(text, binder.given, binder.plan.path.parent, engine, (), True)
        if node is None:
            return action, binder.columns, Watch([])
        if not any(
            isinstance(item, tree.TableReference)
            and item.is_name
            and item.reference.casefold() == INPUT
            for item in parse.walk(node)
        ):
            binder.wrong("the query does not read the rows under way", "query", hint="FROM input")
            return action, binder.columns, Watch([])
        blank = [pa.nulls(0, column.type.arrow) for column in binder.columns]
        empty = TrackedRows(
            np.zeros(0, np.int64), blank, tuple(column.type for column in binder.columns)
        )
        session = action.session(ErrorPolicy.NULL)
        result = binder.told(
            ("step", binder.at, "query"),
            lambda: action.over(session, empty, names_of(binder.columns)),
        )
        if result is None:
            return action, binder.columns, Watch([])
        known = {column.name: column for column in binder.columns}
        kept = result.origin is not None
        after = tuple(
            replace(known[plain], name=name)
            if kept and plain is not None
            else PlanColumn(name, kind)
            for name, kind, plain in zip(result.names, result.types, result.plains, strict=True)
        )
        binder.fresh(result.names, "query")
        binder.declared = (
            frozenset(column.name for column in after if not column.touched) & binder.declared
        )
        places = {column.name: index for index, column in enumerate(binder.columns)}
        return (
            replace(
                action,
                plain=tuple(None if item is None else places[item] for item in result.plains),
                kept=kept,
            ),
            after,
            Watch([]),
        )


class QueryAction(TableAction, frozen=True):
    """A query; `engine`: the address of what reads its other tables; `plain`: for each column of
    its result the column under way that it is as it stands; `kept`: whether each row of the result
    comes from one row."""

    text: str
    given: Given
    base: Path
    engine: str | None
    plain: tuple[int | None, ...]
    kept: bool

    def __reduce__(self) -> tuple[Any, ...]:
        """The query runs where all rows are: what goes elsewhere needs nothing that it is given."""
        return QueryAction, (self.text, Given(), self.base, None, self.plain, self.kept)

    def session(self, on_error: ErrorPolicy, store: Store | None = None) -> Session:
        """What the query runs in."""
        return Session(
            QueryContext(self.text, self.given, base=self.base, engine=self.engine),
            Account(on_error, store),
        )

    def over(self, session: Session, rows: TrackedRows, columns: tuple[str, ...]) -> Relation:
        """The query's result over some rows."""
        store = session.account.store
        vectors = [
            _view(item, kind, store) for item, kind in zip(rows.stored, rows.types, strict=True)
        ]
        session.context.relations[INPUT] = Relation(
            columns,
            ("",) * len(columns),
            rows.types,
            Columns(vectors),
            rows.count,
            rows=rows.numbers,
            origin=np.arange(rows.count),
            plain=columns,
        )
        try:
            return session.query(self.text)
        finally:
            session.context.relations.clear()

    def prepare(self, step: BoundStep, rows: TrackedRows) -> Prepared:
        """The rows."""
        return Prepared(rows.batch(), StepCount())

    def arrangement(self, step: BoundStep, context: Context) -> GatheredRows:
        """All at one place."""
        return GatheredRows(partial(self._queried, step, context))

    def conclude(self, step: BoundStep, rows: pa.RecordBatch, first: int) -> Outcome:
        """The rows that the query made."""
        types = tuple(column.type for column in step.after)
        return Outcome(TrackedRows.of_batch(rows, types), StepCount())

    def _queried(
        self, step: BoundStep, context: Context, batches: Iterator[pa.RecordBatch]
    ) -> Iterator[pa.RecordBatch]:
        count = context.count
        store = Store(context.memory)
        came = (TrackedRows.of_batch(batch, step.types) for batch in batches)
        rows = gathered(came, step.types, store) or _none(step)
        session = self.session(step.on_error, store)
        try:
            result = self.over(session, rows, names_of(step.before))
        except DataProblem as problem:
            count.failed += rows.count
            count.why = problem.message
            return
        count.errors_to_null += (
            sum(fault.rows for fault in session.account.faults)
            if step.on_error is ErrorPolicy.NULL
            else 0
        )
        for name, malformed in session.tables.malformed.items():
            count.noted[f"malformed records of {name} are skipped"] += len(malformed)
        count.warned = session.account.cautions
        stages = [item for item in session.account.stages if not item.stage.startswith("read")]
        count.words = "; ".join(
            f"{item.stage}: {item.rows_in:,} in, {item.rows_out:,} out"
            + (f" ({item.detail})" if item.detail else "")
            for item in stages
        )
        made = (
            self._kept(step, rows, result, session, context)
            if self.kept
            else self._ended(step, rows, result, store, context)
        )
        yield from (batch.batch() for batch in made)

    def _kept(
        self,
        step: BoundStep,
        rows: TrackedRows,
        relation: Relation,
        session: Session,
        context: Context,
    ) -> Iterator[TrackedRows]:
        origin = relation.origin
        assert origin is not None
        count, own = context.count, origin >= 0
        copies = np.bincount(origin if own.all() else origin[own], minlength=rows.count)
        piece = _pieces(origin, own, copies) if (copies > 1).any() else None
        lost = np.flatnonzero(copies == 0)
        omitted = np.sort(np.concatenate([np.zeros(0, np.int64), *session.account.omitted]))
        failed = lost[member(lost, omitted)]
        dropped = without(lost, failed)
        if len(dropped):
            context.left(
                left(step, rows, dropped, ExitKind.DROPPED, "no row of the query comes from it")
            )
        if len(failed):
            fault = session.account.faults[0]
            context.left(
                left(step, rows, failed, ExitKind.SET_ASIDE, fault.expression, fault.sqlstate)
            )
        count.dropped_other += len(dropped)
        count.set_aside += len(failed)
        count.added += len(origin) - (rows.count - len(lost))
        count.noted["rows met several"] += int((copies > 1).sum())
        count.noted["rows from another table alone"] += int((~own).sum())
        source = origin if own.all() else np.where(own, origin, -1)
        store = session.account.store
        if store is not None and store.spilled:
            store.let_go()
        del copies, lost, own, origin
        yield from self._rows(step, rows, relation, source, piece, store, context)

    def _ended(
        self, step: BoundStep, rows: TrackedRows, relation: Relation, store: Store, context: Context
    ) -> Iterator[TrackedRows]:
        count = context.count
        if rows.count:
            context.left(left(step, rows, np.arange(rows.count), ExitKind.DROPPED, ENDS))
        count.dropped_other += rows.count
        count.added += relation.count
        count.words = (
            f"the paths of all rows end here, since the query puts rows together; {count.words}"
        )
        none = np.full(relation.count, -1)
        yield from self._rows(step, rows, relation, none, None, store, context)

    def _rows(
        self,
        step: BoundStep,
        rows: TrackedRows,
        relation: Relation,
        origin: np.ndarray,
        piece: np.ndarray | None,
        store: Store | None,
        context: Context,
    ) -> Iterator[TrackedRows]:
        """The result, batch by batch; `origin`: the row that each comes from, -1 for a new one."""
        first = context.made(new) if (new := int((origin < 0).sum())) else 0
        paths = TrackedRows(rows.numbers, [], (), rows.suffix, rows.seals)
        for start in range(0, len(origin), OUT):
            if store is not None and store.spilled and start % _LET_GO == 0:
                store.let_go()
            own = origin[start : start + OUT]
            result = self._part(step, rows, relation, own, start)
            if rows.count:
                pieces = np.zeros(len(own)) if piece is None else piece[start : start + OUT]
                before = paths.step_into(np.maximum(own, 0), pieces)
                result.numbers, result.suffix = before.numbers, before.suffix
                result.seals = before.seals if self.kept else None
            if (own < 0).any():
                self._number(result, own < 0, first, context)
                first += int((own < 0).sum())
            yield result

    def _part(
        self, step: BoundStep, rows: TrackedRows, relation: Relation, own: np.ndarray, start: int
    ) -> TrackedRows:
        chosen = to_arrow(np.maximum(own, 0), mask=own < 0)
        stored = []
        for place, (plain, column) in enumerate(zip(self.plain, step.after, strict=True)):
            # A column as it stands keeps its texts.
            if plain is not None and self.kept:
                values = rows.stored[plain]
                stored.append(
                    values.take(chosen) if rows.count else pa.nulls(len(own), values.type)
                )
                continue
            values = relation.vectors.part(place, start, len(own)).values
            kind = column.type.arrow
            stored.append(values if values.type == kind else values.cast(kind))
        types = tuple(column.type for column in step.after)
        return TrackedRows(np.zeros(len(own), np.int64), stored, types)

    @staticmethod
    def _number(rows: TrackedRows, new: np.ndarray, first: int, context: Context) -> None:
        """Give the new rows among some their paths: 0.1 and so on."""
        number = np.zeros(rows.count, np.int64)
        number[new] = np.arange(first, first + int(new.sum()))
        added = pa.array([f".{item}" if item else None for item in number.tolist()], pa.string())
        before = pa.repeat("", rows.count) if rows.suffix is None else rows.suffix
        rows.suffix = pc.coalesce(added, before)
        rows.numbers = np.where(new, 0, rows.numbers)
        if rows.seals is not None:
            nothing = combined([pa.nulls(1, pa.string())] * context.sealed)[0]
            rows.seals = np.where(new, nothing, rows.seals)


def _pieces(origin: np.ndarray, own: np.ndarray, copies: np.ndarray) -> np.ndarray:
    """The number of each row among those that come from the same one, 0 for one by itself."""
    order = np.argsort(np.where(own, origin, len(copies)), kind="stable")[: int(own.sum())]
    starts = np.cumsum(copies) - copies
    number = np.zeros(len(origin), np.int64)
    number[order] = np.arange(len(order)) - starts[origin[order]] + 1
    return np.where(own & (copies[np.maximum(origin, 0)] > 1), number, 0)


def _view(stored: pa.Array, kind: Type, store: Store | None) -> Vector:
    """A column as values of its type, in a file where they do not fit."""
    if store is None or stored.type == kind.arrow or store.fits(stored.nbytes):
        return view(stored, kind)
    writer, errors = store.writer(kind.arrow), []
    for start in range(0, len(stored), OUT):
        part = view(stored.slice(start, OUT), kind)
        writer.write(part.values)
        errors.append(np.zeros(len(part), np.int16) if part.errors is None else part.errors)
    values, every = writer.close(), np.concatenate(errors)
    store.let_go()
    return Vector(values, every if every.any() else None)


def _none(step: BoundStep) -> TrackedRows:
    blank: list[Any] = [pa.nulls(0, column.type.arrow) for column in step.before]
    return TrackedRows(np.zeros(0, np.int64), blank, step.types)
