"""The lines of the row ledger, and why a run stops before its result is looked at."""

from __future__ import annotations

from collections.abc import Iterator

from gravel.inspecting.cautions import Caution
from gravel.plans.flow import Flow
from gravel.plans.ledger import StepCount, StepLine
from gravel.plans.steps import RowAction


def step_lines(flow: Flow) -> tuple[StepLine, ...]:
    """The lines of the ledger, once all rows are through."""
    plan, bad = flow.plan, len(flow.malformed)
    reading = StepCount(rows_in=flow.rows_read + bad, set_aside=bad, rows_out=flow.rows_read)
    totals = [
        {
            total.text: None if state is None else state.result()
            for total, state in zip(plan.totals, states, strict=True)
        }
        for states in flow.totals
    ]
    lines = [StepLine(0, "read", plan.table_name, reading, totals=totals[0])]
    for step, count, values in zip(flow.steps, flow.counts, totals[1:], strict=True):
        conflicts = {
            step.before[index].name: groups
            for index, groups in sorted(count.conflicts.items())
            if groups
        }
        for position, cells in count.filled.items():
            count.changed_columns[step.before[position].name] = cells
        holds = step.expected is None or step.expected.holds(count.rows_in, count.rows_out)
        if count.seen is not None:
            step.watch.add(count.seen)
        stated = None if step.expected is None else str(step.expected)
        cautions, days = (*step.watch.cautions(), *count.warned, *_ties(count)), step.watch.days()
        lines.append(
            StepLine(
                step.number,
                step.verb,
                step.note,
                count,
                step.new_columns,
                step.lost_columns,
                values,
                conflicts,
                stated,
                holds,
                cautions,
                days,
            )
        )
    return tuple(lines)


def _ties(count: StepCount) -> Iterator[Caution]:
    if count.tied:
        groups = "1 group" if count.tied == 1 else f"{count.tied:,} groups"
        detail = f"of {groups} are preferred alike and disagree: the first in the table stays"
        yield Caution("ties", 2 * count.tied, detail, "add a key to prefer that tells them apart")


def rows_gone(lines: tuple[StepLine, ...]) -> int:
    """How many rows left."""
    return sum(line.count.dropped + line.count.set_aside + line.count.merged for line in lines)


def reasons_to_stop(flow: Flow) -> tuple[tuple[int, str], ...]:
    """Why the run stops before its result is looked at: malformed records, row errors, failed
    checks."""
    results = []
    if flow.malformed and flow.plan.file.model.malformed == "stop":
        results.append(
            (
                0,
                (
                    f"{_many(len(flow.malformed), 'malformed record')}, and the plan says malformed"
                    ' = "stop"'
                ),
            )
        )
    for step, count in zip(flow.steps, flow.counts, strict=True):
        if count.failed or count.why:  # a query may fail where no row comes to it
            why = f": {count.why}" if count.why else ', and its on_error is "stop"'
            results.append(
                (step.number, f"step {step.number} fails in {_many(count.failed, 'row')}{why}")
            )
        message = step.action.finish(step, count) if isinstance(step.action, RowAction) else None
        if message is not None:
            results.append((step.number, message))
    return tuple(results)


def _many(count: int, what: str) -> str:
    return f"{count:,} {what}{'' if count == 1 else 's'}"
