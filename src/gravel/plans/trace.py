"""One row's way, or some rows', through the steps of a plan. Nothing is written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.sets import distinct_values, member
from gravel.figures import Figures, Unlisted
from gravel.inspecting.binding import columns_named, explaining, reads, scope_of
from gravel.language import parse
from gravel.language.bind import bind_condition
from gravel.language.nodes import Expression
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.plans.bind import bind_plan
from gravel.plans.flow import Flow
from gravel.plans.ledger import ExitKind
from gravel.plans.model import PlanFile
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundPlan, TableAction
from gravel.plans.trail import Event
from gravel.problems import CallProblem
from gravel.sources.source import Batch, InferredTypeRefuted, scan

LEAVES = tuple(ExitKind)


@dataclass(frozen=True)
class TracedPath(Figures):
    """One path to its end: kept, dropped, merged, set aside, or failed where a step stops the run;
    output_row: its row of the output, from 1."""

    path: str
    events: tuple[Event, ...]
    ends: str
    output_row: int | None


@dataclass(frozen=True)
class TracedRow(Figures):
    """A source row and all the paths it became."""

    row: int
    paths: tuple[TracedPath, ...]


@dataclass(frozen=True)
class TracedRows(Figures):
    """What `gravel trace` tells. matching: how many rows a condition meets, of which some may be
    traced."""

    plan: str
    table: str
    rows: tuple[TracedRow, ...]
    matching: int | None
    output: Unlisted[str]
    read: dict[str, Any]  # how its text was read


def trace(
    plan_file: PlanFile,
    rows: Sequence[int],
    where: str | None = None,
    context: Given | None = None,
    most: int | None = None,
    memory: int = DEFAULT_MEMORY,
    engine: str | None = None,
) -> TracedRows:
    """Follow source rows by number, and the first `most` that meet a condition on the source;
    `engine`: the address of what does it, instead of this machine. Raises Problems, Diagnostic,
    CallProblem for a row that is not there, TableProblem."""
    try:
        return _trace(
            bind_plan(plan_file, context, guess=where is None, engine=engine),
            rows,
            where,
            most,
            memory,
            context,
        )
    except InferredTypeRefuted:
        return _trace(
            bind_plan(plan_file, context, engine=engine), rows, where, most, memory, context
        )


def _trace(
    plan: BoundPlan,
    rows: Sequence[int],
    where: str | None,
    most: int | None,
    memory: int,
    context: Given | None,
) -> TracedRows:
    chosen, matching = list(rows), None
    if where is not None:
        matches = _matching(plan, where, context)
        matching = len(matches)
        chosen += matches[:most]
    wanted = distinct_values(np.array(chosen, np.int64))
    flow = Flow(plan, partial(_arrived, wanted), memory=memory, wanted=wanted)
    if not any(isinstance(step.action, TableAction) for step in plan.steps) and len(wanted):
        flow.last = int(wanted[-1])
    output: dict[str, int] = {}
    seen = 0
    for arrived in flow.run():
        output |= {path: seen + place + 1 for path, place in arrived.places.items()}
        seen += arrived.rows
    bad = {item.row: item for item in flow.malformed}
    last = flow.rows_read + len(bad)
    results = []
    for row in wanted.tolist():
        if row in bad:
            event = Event(
                0, "read", "", str(row), ExitKind.SET_ASIDE, (), f"malformed: {bad[row].fault}"
            )
            results.append(
                TracedRow(row, (TracedPath(str(row), (event,), ExitKind.SET_ASIDE, None),))
            )
        elif (
            row < 1 or (row > last and flow.last is None) or (flow.last is not None and row > last)
        ):
            raise CallProblem(
                f"{plan.table.name} has no row {row:,}", hint=f"its rows are 1 to {last:,}"
            )
        else:
            results.append(TracedRow(row, _paths(row, flow.trail.events, output)))
    to = plan.destination
    return TracedRows(
        plan.file.name,
        plan.table_name,
        tuple(results),
        matching,
        f"the rows written to {to.shown}" if to.database else to.shown,
        plan.table.read_as,
    )


class _Arrived(Struct, frozen=True):
    """A batch at its end: its rows, and the places in it of the paths that are followed."""

    rows: int
    places: dict[str, int]


def _arrived(wanted: np.ndarray, rows: TrackedRows) -> _Arrived:
    places = np.flatnonzero(member(rows.numbers, wanted))
    paths = rows.take(places).paths().to_pylist() if len(places) else []
    return _Arrived(rows.count, dict(zip(paths, places.tolist(), strict=True)))


def _paths(
    row: int, events: dict[str, list[Event]], output: dict[str, int]
) -> tuple[TracedPath, ...]:
    """Every path of a row that ends somewhere, in the order of its numbers, with what happened on
    the way to it."""
    start = str(row)
    ends = {
        path: result[-1].outcome
        for path in events
        if (result := sorted(events[path], key=_step)) and result[-1].outcome in LEAVES
    }
    ends |= dict.fromkeys(output, "kept")
    mine = [path for path in ends if path == start or path.startswith(start + ".")]
    found_paths = []
    for path in sorted(mine, key=lambda item: [int(part) for part in item.split(".")]):
        parts = path.split(".")
        along = [".".join(parts[: index + 1]) for index in range(len(parts))]
        way = sorted((event for item in along for event in events.get(item, ())), key=_step)
        found_paths.append(TracedPath(path, tuple(way), ends[path], output.get(path)))
    return tuple(found_paths)


def _step(event: Event) -> int:
    return event.step


def _matching(plan: BoundPlan, where: str, context: Given | None) -> list[int]:
    """The source rows for which a condition on the plan's table is true."""
    table = plan.table
    scope = scope_of(
        table, columns_named([(parse.expression(where), where)], table.columns), context
    )
    with explaining(table, scope):
        condition = bind_condition(where, scope)

    work = partial(_rows_meeting, condition, scope.types)
    return [
        row for part in scan(table, work, reads([condition], len(table.columns))) for row in part
    ]


def _rows_meeting(condition: Expression, types: tuple[Type, ...], batch: Batch) -> list[int]:
    frame = Frame(batch.count, batch.columns, types)
    result: list[int] = batch.rows[run(condition, frame).true(batch.count)].tolist()
    return result
