"""What `gravel try` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.language import errors
from gravel.plans import edit
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.inspecting.attempt import Attempt, Trial


def show(trial: Trial, color: bool) -> None:
    """Print what assignments would change, with examples."""
    out = screen.console(color=color)
    for item in trial.assignments:
        head = rich_text.Text(item.column, style=screen.HEAD)
        head.append(f" = {' '.join(item.text.split())}", style=screen.DIM)
        out.print(head)
        line = rich_text.Text(f"  {number_of(trial.rows)} = ")
        line.append(f"{item.changed:,} changed", style=screen.WARN if item.changed else "")
        line.append(f" + {item.unchanged:,} unchanged + ")
        line.append(f"{item.errors:,} errors", style=screen.BAD if item.errors else "")
        out.print(line)
        if item.filled or item.emptied or item.new:
            parts = [
                "a new column" if item.new else "",
                f"{item.filled:,} filled (NULL before)" if item.filled and not item.new else "",
                f"{item.emptied:,} emptied (NULL after)" if item.emptied else "",
            ]
            out.print(
                rich_text.Text(
                    (
                        "  of these " + ", ".join(part for part in parts if part)
                        if not item.new
                        else "  a new column: " + f"{number_of(item.filled, 'value')}"
                    ),
                    style=screen.DIM,
                )
            )
        if item.changes:
            out.print()
            _changes(out, item)
            if item.kinds > len(item.changes):
                screen.note(
                    f"  {len(item.changes)} of {item.kinds:,} different changes shown, the most"
                    " frequent first",
                    color,
                )
        if item.error_kinds:
            out.print()
            _errors(out, item)
        out.print()
    if trial.branches:
        screen.print_branches(out, trial.branches)
        out.print()
    if any(attempt.changed or attempt.errors for attempt in trial.assignments):
        out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=screen.DIM))
        out.print(rich_text.Text(edit.step_text(trial), style=screen.MARK), soft_wrap=True)


def _changes(out: Any, attempt: Attempt) -> None:
    rows: list[list[Any]] = []
    for change in attempt.changes:
        old = (
            []
            if attempt.new
            else [
                rich_text.Text("  ").append_text(screen.visible(change.before, 40)),
                rich_text.Text("→", style=screen.DIM),
            ]
        )
        rows.append(
            [
                *old,
                rich_text.Text("  " if attempt.new else "").append_text(
                    screen.visible(change.after, 40)
                ),
                f"{change.rows:,}",
            ]
        )
    headings = ["  value", "rows"] if attempt.new else ["  before", "", "after", "rows"]
    screen.print_table(out, headings, rows, right=(len(headings) - 1,))


def _errors(out: Any, attempt: Attempt) -> None:
    rows = []
    for kind in attempt.error_kinds:
        rows.append(
            [
                rich_text.Text(f"  error {kind.sqlstate}", style=screen.BAD),
                errors.meaning(kind.sqlstate),
                screen.visible(kind.example, 40),
                f"{kind.row:,}",
                f"{kind.rows:,}",
            ]
        )
    screen.print_table(out, ["", "", "for example", "row", "rows"], rows, right=(3, 4))
