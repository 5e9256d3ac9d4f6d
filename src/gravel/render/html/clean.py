"""The page of a plan's run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from gravel.plans.ledger import StepLine
from gravel.render.clean import details, reasons
from gravel.render.html.flow import WIDTH, draw
from gravel.render.html.page import render_page
from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.plans.result import Run
    from gravel.profiling.result import ColumnProfile, Profile


def write_page(path: Path, done: Run, before: Profile | None, after: Profile | None) -> None:
    """Write a run as one self-contained HTML file; profiles of the input and of the output are set
    side by side for each column that changed. Raises TableProblem."""
    steps = [
        {
            "line": line,
            "details": [*details(line), *reasons(line)],
            "changes": _changes(line),
            "samples": [sample for sample in line.count.samples.items() if sample[1]],
        }
        for line in done.steps
    ]
    written = (
        f"{'now in' if done.changes else 'written to'} {done.output}"
        if done.output
        else "would be written"
        if done.good
        else "and nothing is written"
    )
    render_page(
        path,
        "clean.html",
        run=done,
        steps=steps,
        flow=draw(done.steps, written),
        width=WIDTH,
        columns=_columns(done, before, after),
        totals=[
            (text, [line.totals[text] for line in done.steps]) for text in done.steps[0].totals
        ],
        version=__version__,
        gone=[(line, line.count.gone) for line in done.steps if line.count.gone],
        left=_reasons(done),
    )


def _changes(line: StepLine) -> list[tuple[str, int | None, Any]]:
    """(column, changed cells or None for a new one, samples)."""
    results = []
    for column, subset in line.count.changes.items():
        results.append(
            (
                column,
                None if column in line.new_columns else line.count.changed_columns.get(column, 0),
                subset,
            )
        )
    return results


def _reasons(done: Run) -> list[tuple[int, str, int]]:
    """(step, outcome, rows) of what left."""
    results = []
    for line in done.steps:
        count = line.count
        for rows, outcome in (
            (count.dropped, "dropped"),
            (count.merged, "merged"),
            (count.set_aside, "set aside"),
            (count.failed, "failed"),
        ):
            if rows:
                results.append((line.step, outcome, rows))
    return results


def _columns(done: Run, before: Profile | None, after: Profile | None) -> list[dict[str, Any]]:
    """Columns of the output that are not as they were read, beside what they were."""
    if before is None or after is None:
        return []
    source = {item.name: item for item in before.columns}
    result = {item.name: item for item in after.columns}
    results = []
    for column in done.bound.columns:
        if column.touched and column.name in result:
            old = (
                None if column.source is None else source.get(done.bound.source[column.source].name)
            )
            results.append(
                {
                    "name": column.name,
                    "before": old,
                    "after": result[column.name],
                    "rows": _figures(old, result[column.name]),
                }
            )
    return results


def _figures(old: ColumnProfile | None, new: ColumnProfile) -> list[tuple[str, Any, Any]]:
    """Figures that a column had and has, those that are 0 in both left out."""

    def of(column_profile: ColumnProfile | None) -> list[tuple[str, Any]]:
        if column_profile is None:
            return []
        return [
            ("type", str(column_profile.type)),
            ("NULL", column_profile.nulls),
            ("empty text", column_profile.empty),
            ("only white space", column_profile.blank),
            ("white space at an end", column_profile.padded),
            ("several spaces inside", column_profile.spaces.runs),
            ("distinct values", column_profile.distinct),
            ("groups of spellings", column_profile.variant_groups),
            ("shapes", column_profile.distinct_shapes),
            ("words for nothing", column_profile.placeholder_rows),
        ]

    was = dict(of(old))
    return [(label, was.get(label), now) for label, now in of(new) if now or was.get(label)]
