"""The page of a plan's run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from gravel import __version__
from gravel.plans.ledger import StepLine
from gravel.reports.flow import WIDTH, draw
from gravel.reports.page import render_page

if TYPE_CHECKING:
    from gravel.plans.result import Run
    from gravel.profiling.result import ColumnProfile, Profile


def write_page(path: Path, done: Run, before: Profile | None, after: Profile | None, details: Any) -> None:
    """Write a run as one self-contained HTML file; profiles of the input and of the output are set side by side for each
    column that changed. `details` gives a line's further figures in words. Raises TableProblem."""
    steps = [
        {"line": line, "details": details(line), "changes": _changes(line), "samples": [one for one in line.count.samples.items() if one[1]]}
        for line in done.steps
    ]  # fmt: skip
    written = (
        f"{'now in' if done.changes else 'written to'} {done.output}"
        if done.output
        else "would be written"
        if done.good
        else "and nothing is written"
    )
    render_page(
        path, "clean.html", run=done, steps=steps, flow=draw(done.steps, written), width=WIDTH, columns=_columns(done, before, after),
        totals=[(text, [line.totals[at] for line in done.steps]) for at, text in enumerate(done.totals)],
        version=__version__, gone=[(line, line.count.gone) for line in done.steps if line.count.gone], left=_reasons(done),
    )  # fmt: skip


def _changes(line: StepLine) -> list[tuple[str, int | None, Any]]:
    """(column, changed cells or None for a new one, samples)."""
    found = []
    for column, some in line.count.changes.items():
        found.append((column, None if column in line.new_columns else line.count.changed_columns.get(column, 0), some))
    return found


def _reasons(done: Run) -> list[tuple[int, str, int]]:
    """(step, outcome, rows) of what left."""
    found = []
    for line in done.steps:
        count = line.count
        for rows, outcome in (
            (count.dropped, "dropped"),
            (count.merged, "merged"),
            (count.set_aside, "set aside"),
            (count.stopped, "failed"),
        ):
            if rows:
                found.append((line.step, outcome, rows))
    return found


def _columns(done: Run, before: Profile | None, after: Profile | None) -> list[dict[str, Any]]:
    """Columns of the output that are not as they were read, beside what they were."""
    if before is None or after is None:
        return []
    source = {one.name: one for one in before.columns}
    made = {one.name: one for one in after.columns}
    found = []
    for column in done.bound.columns:
        if column.touched and column.name in made:
            old = None if column.source is None else source.get(done.bound.source[column.source].name)
            found.append({"name": column.name, "before": old, "after": made[column.name], "rows": _figures(old, made[column.name])})
    return found


def _figures(old: ColumnProfile | None, new: ColumnProfile) -> list[tuple[str, Any, Any]]:
    """Figures that a column had and has, those that are 0 in both left out."""

    def of(one: ColumnProfile | None) -> list[tuple[str, Any]]:
        if one is None:
            return []
        return [("type", str(one.type)), ("NULL", one.nulls), ("empty text", one.empty), ("only white space", one.blank),
                ("white space at an end", one.padded), ("several spaces inside", one.spaces.runs), ("distinct values", one.distinct),
                ("groups of spellings", one.spelling_groups), ("shapes", one.distinct_shapes), ("words for nothing", one.null_word_rows)]  # fmt: skip

    was = dict(of(old))
    return [(label, was.get(label), now) for label, now in of(new) if now or was.get(label)]
