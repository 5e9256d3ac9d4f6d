"""What `gravel try PLAN --step N` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.language import errors
from gravel.render import screen
from gravel.render.clean import details

if TYPE_CHECKING:
    from gravel.plans.ledger import ChangeExample
    from gravel.plans.rehearse import Rehearsal


def show(rehearsal: Rehearsal, color: bool) -> None:
    """Print what a step would do, with examples."""
    line, count = rehearsal.step, rehearsal.step.count
    out = screen.console(color=color)
    head = rich_text.Text(line.note or line.verb, style=screen.HEAD)
    head.append(
        (
            f"  {rehearsal.table}, step {line.step}"
            if rehearsal.plan != "the step"
            else f"  {rehearsal.table}"
        ),
        style=screen.DIM,
    )
    out.print(head)
    parts = [
        (count.added, "added", "+"),
        (count.dropped, "dropped", "-"),
        (count.merged, "merged", "-"),
        (count.set_aside, "set aside", "-"),
        (count.failed, "failed", "-"),
    ]
    message = rich_text.Text(f"  {count.rows_in:,} in")
    for many, what, sign in parts:
        if many:
            message.append(
                f" {sign} {many:,} {what}", style=screen.WARN if what != "failed" else screen.BAD
            )
    message.append(f" = {count.rows_out:,} out")
    if count.changed:
        message.append(f"; {count.changed:,} changed", style=screen.WARN)
    out.print(message)
    for text in details(line):
        out.print(rich_text.Text(f"  {text}", style=screen.DIM))
    tables = [
        (f"{column}, changed" if column not in line.new_columns else f"{column}, new", subset)
        for column, subset in count.changes.items()
    ]
    tables += [(what, subset) for what, subset in count.samples.items()]
    for what, selected in tables:
        if selected:
            out.print()
            _samples(out, what, selected)
    if count.gone:
        out.print()
        rows = [
            [
                f"  {item.path}",
                rich_text.Text(item.outcome, style=screen.BAD),
                screen.visible(item.reason, 60),
                item.sqlstate or (f"into {item.into}" if item.into else ""),
            ]
            for item in count.gone
        ]
        screen.print_table(out, ["  rows that leave", "", "why", ""], rows)
    if rehearsal.errors:
        out.print()
        rows = [
            [
                f"  {item.column or ''}",
                rich_text.Text(f"error {item.kind.sqlstate}", style=screen.BAD),
                errors.meaning(item.kind.sqlstate),
                screen.visible(item.kind.example, 40),
                f"{item.kind.row:,}",
                f"{item.kind.rows:,}",
            ]
            for item in rehearsal.errors
        ]
        screen.print_table(out, ["", "", "", "for example", "row", "rows"], rows, right=(4, 5))
    if rehearsal.stops:
        out.print()
        out.print(rich_text.Text(f"a run would stop here: {rehearsal.stops}", style=screen.BAD))


def _samples(out: Any, what: str, subset: list[ChangeExample]) -> None:
    rows: list[list[Any]] = []
    for item in subset:
        after = (
            [rich_text.Text("→", style=screen.DIM), screen.visible(item.after, 40)]
            if item.after is not None or "changed" in what
            else ["", ""]
        )
        rows.append([f"  {item.path}", screen.visible(item.before, 40), *after])
    screen.print_table(out, ["  row", what, "", ""], rows)
