"""Some rows followed through the steps of a plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from msgspec import Struct

from gravel.engine.sets import member
from gravel.figures import Figures, Unlisted
from gravel.language import parse
from gravel.language.diagnostics import Diagnostic
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Left, PlanColumn

Seen = dict[str, dict[str, str | None]]


@dataclass(frozen=True)
class CellChange(Figures):
    """A cell before and after a step; None is NULL. kind: changed, new (the column was not there
    before), or gone."""

    column: str
    before: str | None
    after: str | None
    kind: str = "changed"


@dataclass(frozen=True)
class Event(Figures):
    """What a step did to a path: outcome is unchanged, changed, split, copied, dropped, merged, set
    aside, failed, or made. `paths`: those it became, where it became several; `into`: the path it
    was merged into; `sqlstate`: of an expression that failed, and `read`: the cells that it
    reads."""

    step: int
    verb: str
    note: Unlisted[str]
    path: Unlisted[str]
    outcome: str
    changes: tuple[CellChange, ...] = ()
    reason: str | None = None
    into: str | None = None
    paths: tuple[str, ...] = ()
    sqlstate: str | None = None
    read: dict[str, str | None] = field(default_factory=dict)


class Trail(Struct):
    """The events of the rows that are followed, in the order of the steps for each path."""

    events: dict[str, list[Event]] = {}

    @staticmethod
    def seen(rows: TrackedRows, columns: Sequence[PlanColumn], wanted: np.ndarray) -> Seen:
        """The wanted rows among some, as texts by path and column."""
        where = np.flatnonzero(member(rows.numbers, wanted))
        if not len(where):
            return {}
        subset = rows.take(where)
        texts = [text.to_pylist() for text in subset.texts()]
        names = [column.name for column in columns]
        return {
            path: dict(zip(names, cells, strict=True))
            for path, cells in zip(
                subset.paths().to_pylist(), zip(*texts, strict=True), strict=True
            )
        }

    def step(
        self, step: BoundStep, before: Seen, after: Seen, gone: list[Left], count: StepCount
    ) -> None:
        """Take in what a step made of the rows."""
        children: dict[str, list[str]] = {}
        for path in after:
            parent = path
            while parent not in before and "." in parent:
                parent = parent.rpartition(".")[0]
            children.setdefault(parent, []).append(path)
        for path, cells in before.items():
            mine = children.get(path, [])
            for child in mine:
                changes = _changes(cells, after[child])
                outcome = (
                    ("split" if step.verb == "split" else "copied")
                    if child != path
                    else "changed"
                    if changes
                    else "unchanged"
                )
                self._tell(
                    Event(
                        step.number,
                        step.verb,
                        step.note,
                        child,
                        outcome,
                        changes,
                        paths=tuple(mine) if child != path else (),
                    )
                )
        for entry in gone:
            for index, path in enumerate(entry.paths.to_pylist()):
                if path in before:
                    into, reason, state = (
                        values[index].as_py()
                        for values in (entry.into, entry.reasons, entry.states)
                    )
                    read = _cells_read(reason, before[path]) if state else {}
                    self._tell(
                        Event(
                            step.number,
                            step.verb,
                            step.note,
                            path,
                            entry.outcome,
                            (),
                            reason,
                            into,
                            (),
                            state,
                            read,
                        )
                    )
        left = {path for item in gone for path in item.paths.to_pylist()}
        for path in before:
            if path not in children and path not in left:
                self._tell(
                    Event(
                        step.number,
                        step.verb,
                        step.note,
                        path,
                        ExitKind.FAILED,
                        (),
                        count.why or 'a row error, and on_error is "stop"',
                    )
                )

    def _tell(self, event: Event) -> None:
        self.events.setdefault(event.path, []).append(event)

    def add(self, other: Trail) -> None:
        """Take in another's events, which come after these."""
        for path, events in other.events.items():
            self.events.setdefault(path, []).extend(events)


def _cells_read(expression: str, cells: dict[str, str | None]) -> dict[str, str | None]:
    """The cells that an expression names."""
    try:
        nodes = list(parse.column_names(parse.expression(expression)))
    except Diagnostic:
        return {}
    named = {node.text if node.quoted else node.text.casefold() for node in nodes}
    return {
        name: value for name, value in cells.items() if name in named or name.casefold() in named
    }


def _changes(before: dict[str, str | None], after: dict[str, str | None]) -> tuple[CellChange, ...]:
    results = []
    for name in dict.fromkeys((*after, *before)):
        was, now = before.get(name), after.get(name)
        kind = "new" if name not in before else "gone" if name not in after else "changed"
        if kind != "changed" or was != now:
            results.append(CellChange(name, was, now, kind))
    return tuple(results)
