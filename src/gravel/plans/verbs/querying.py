"""`query`: a SELECT over the rows under way, `input`, and other tables. Where it keeps rows apart,
their paths go on."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.external import OUT
from gravel.engine.frame import view
from gravel.engine.hashing import combined
from gravel.engine.mapped import Store
from gravel.engine.sets import without
from gravel.inspecting.cautions import Watch
from gravel.language import parse, tree
from gravel.language.bind import Given
from gravel.language.errors import ErrorPolicy
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.ledger import ExitKind
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, together
from gravel.plans.steps import BoundStep, Context, PlanColumn, TableAction, left, names_of
from gravel.plans.verbs.step_kind import StepKind
from gravel.problems import DataProblem
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.relation import Columns, Relation
from gravel.querying.session import Session

INPUT = "input"
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
        action = QueryAction(text, binder.given, binder.plan.path.parent, (), True)
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


@dataclass(frozen=True)
class QueryAction(TableAction):
    """A query; `plain`: for each column of its result the column under way that it is as it stands;
    `kept`: whether each row of the result comes from one row."""

    text: str
    given: Given
    base: Path
    plain: tuple[int | None, ...]
    kept: bool

    def session(self, on_error: ErrorPolicy, store: Store | None = None) -> Session:
        """What the query runs in."""
        return Session(
            QueryContext(self.text, self.given, base=self.base), Account(on_error, store)
        )

    def over(self, session: Session, rows: TrackedRows, columns: tuple[str, ...]) -> Relation:
        """The query's result over some rows."""
        vectors = [view(item, kind) for item, kind in zip(rows.stored, rows.types, strict=True)]
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
        return session.query(self.text)

    def apply(
        self, step: BoundStep, batches: Iterable[TrackedRows], context: Context
    ) -> Iterator[TrackedRows]:
        """See TableAction."""
        count = context.count
        held = list(batches)
        store = Store(context.memory)
        rows = together(held, step.types, store) if held else _none(step)
        held.clear()
        session = self.session(step.on_error, store)
        try:
            result = self.over(session, rows, names_of(step.before))
        except DataProblem as problem:
            count.stopped += rows.count
            count.why = problem.message
            return
        count.nulled += (
            sum(fault.rows for fault in session.account.faults)
            if step.on_error is ErrorPolicy.NULL
            else 0
        )
        for name, malformed in session.tables.malformed.items():
            count.notes[f"malformed records of {name} are skipped"] += len(malformed)
        count.warned = session.account.cautions
        count.words = "; ".join(
            f"{item.stage}: {item.rows_in:,} in, {item.rows_out:,} out"
            for item in session.account.stages
            if not item.stage.startswith("read")
        )
        output = (
            self._kept(step, rows, result, session, context)
            if self.kept
            else self._ended(step, rows, result, context)
        )
        for start in range(0, output.count, OUT):
            yield output.slice(start, OUT)

    def _kept(
        self,
        step: BoundStep,
        rows: TrackedRows,
        relation: Relation,
        session: Session,
        context: Context,
    ) -> TrackedRows:
        origin = relation.origin
        assert origin is not None
        count, own = context.count, origin >= 0
        copies = np.bincount(origin[own], minlength=rows.count)
        order = np.argsort(np.where(own, origin, rows.count), kind="stable")
        number = np.zeros(len(origin), np.int64)
        starts = np.cumsum(copies) - copies
        mine = order[: int(own.sum())]
        number[mine] = np.arange(len(mine)) - starts[origin[mine]] + 1
        piece = (
            np.where(own & (copies[np.maximum(origin, 0)] > 1), number, 0)
            if rows.count
            else np.zeros(len(origin), np.int64)
        )
        result = self._rows(step, rows, relation, np.where(own, origin, -1), piece, context)
        lost = np.flatnonzero(copies == 0)
        failed = np.intersect1d(
            np.concatenate([np.zeros(0, np.int64), *session.account.omitted]), lost
        )
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
        count.notes["rows met several"] += int((copies > 1).sum())
        count.notes["rows from another table alone"] += int((~own).sum())
        return result

    def _ended(
        self, step: BoundStep, rows: TrackedRows, relation: Relation, context: Context
    ) -> TrackedRows:
        count = context.count
        if rows.count:
            context.left(left(step, rows, np.arange(rows.count), ExitKind.DROPPED, ENDS))
        count.dropped_other += rows.count
        count.added += relation.count
        count.words = (
            "the paths of all rows end here, since the query puts rows together; " + count.words
        )
        return self._rows(
            step,
            rows,
            relation,
            np.full(relation.count, -1),
            np.zeros(relation.count, np.int64),
            context,
        )

    def _rows(
        self,
        step: BoundStep,
        rows: TrackedRows,
        relation: Relation,
        origin: np.ndarray,
        piece: np.ndarray,
        context: Context,
    ) -> TrackedRows:
        new = origin < 0
        chosen = pa.array(np.maximum(origin, 0), mask=new)
        stored = []
        for vector, plain, column in zip(relation.vectors, self.plain, step.after, strict=True):
            # A column as it stands keeps its texts.
            if plain is not None and self.kept:
                stored.append(
                    rows.stored[plain].take(chosen)
                    if rows.count
                    else pa.nulls(len(origin), rows.stored[plain].type)
                )
            else:
                stored.append(
                    vector.values
                    if vector.values.type == column.type.arrow
                    else vector.values.cast(column.type.arrow)
                )
        result = rows.step_into(np.maximum(origin, 0), piece) if rows.count else _none(step)
        suffix = result.suffix if rows.count else None
        numbers = (
            np.where(new, 0, result.numbers) if rows.count else np.zeros(len(origin), np.int64)
        )
        if new.any():
            first = context.made(int(new.sum()))
            number = np.zeros(len(origin), np.int64)
            number[new] = np.arange(first, first + int(new.sum()))
            own = pa.array([f".{item}" if item else None for item in number.tolist()], pa.string())
            before = pa.repeat("", len(origin)) if suffix is None else suffix
            suffix = (
                pa.array(own).fill_null("") if suffix is None else pa.compute.coalesce(own, before)
            )
        seals = result.seals if rows.count and self.kept else None
        if seals is not None and new.any():
            many = context.sealed
            seals = np.where(new, combined([pa.nulls(1, pa.string())] * many)[0], seals)
        return TrackedRows(
            numbers, stored, tuple(column.type for column in step.after), suffix, seals
        )


def _none(step: BoundStep) -> TrackedRows:
    blank: list[Any] = [pa.nulls(0, column.type.arrow) for column in step.before]
    return TrackedRows(np.zeros(0, np.int64), blank, step.types)
