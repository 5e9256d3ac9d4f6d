"""What `gravel trace` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text

from gravel.language import errors
from gravel.render import screen

if TYPE_CHECKING:
    from gravel.plans.trace import TracedPath, TracedRows
    from gravel.plans.trail import Event


def events_as_rows(traced: TracedRows) -> list[list[str | None]]:
    """The events of all paths, a row each."""
    lines: list[list[str | None]] = []
    for row in traced.rows:
        for path in row.paths:
            for event in path.events:
                head = [str(row.row), path.path, str(event.step), event.verb, event.outcome]
                for change in event.changes:
                    lines.append([*head, change.column, change.before, change.after, None, None])
                if not event.changes:
                    lines.append([*head, None, None, None, event.reason, event.into])
            lines.append(
                [
                    str(row.row),
                    path.path,
                    None,
                    None,
                    path.ends,
                    None,
                    None,
                    None,
                    None if path.output_row is None else str(path.output_row),
                    None,
                ]
            )
    return lines


def show(traced: TracedRows, color: bool) -> None:
    """Print the way of rows through a plan."""
    out = screen.console(color=color)
    for row in traced.rows:
        head = text.Text(f"row {row.row:,} of {traced.table}", style=screen.HEAD)
        if len(row.paths) > 1:
            head.append(f", {len(row.paths)} paths", style=screen.DIM)
        out.print(head)
        message: set[tuple[int, str]] = set()
        for path in row.paths:
            _path(out, traced, path, message)
        out.print()


def _path(out: Any, traced: TracedRows, path: TracedPath, message: set[tuple[int, str]]) -> None:
    """One path; what it shares with one before it is told once."""
    still = [str(event.step) for event in path.events if event.outcome == "unchanged"]
    for event in path.events:
        if (event.step, event.path) in message or event.outcome == "unchanged":
            continue
        message.add((event.step, event.path))
        line = text.Text(f"  {event.path}  step {event.step}: {event.note or event.verb}")
        if event.outcome in ("split", "copied"):
            line.append(
                f"  ({event.outcome}, {event.paths.index(event.path) + 1} of {len(event.paths)})",
                style=screen.WARN,
            )
        out.print(line)
        _changes(out, event)
        if event.reason:
            failed = (
                f" fails with {event.sqlstate}, {errors.meaning(event.sqlstate)}"
                if event.sqlstate
                else ""
            )
            out.print(text.Text(f"      {event.outcome}: {event.reason}{failed}", style=screen.BAD))
        for name, value in event.read.items():
            out.print(text.Text(f"      {name} = ").append_text(screen.visible(value)))
        if event.into:
            out.print(
                text.Text(f"      merged into the row of path {event.into}", style=screen.BAD)
            )
    if path.ends == "kept":
        end = text.Text(
            f"  {path.path} is row {path.output_row:,} of {traced.output}", style=screen.GOOD
        )
    else:
        end = text.Text(
            f"  {path.path} is {path.ends}"
            + (f" at step {path.events[-1].step}" if path.events else ""),
            style=screen.BAD,
        )
    if still:
        end.append(
            f"; unchanged by {'step' if len(still) == 1 else 'steps'} {', '.join(still)}",
            style=screen.DIM,
        )
    out.print(end)


def _changes(out: Any, event: Event) -> None:
    """The cells that a step changed, one beneath the other."""
    wide = max((len(change.column) for change in event.changes if change.kind != "gone"), default=0)
    for change in event.changes:
        if change.kind != "gone":
            line = text.Text("      ").append(f"{change.column:{wide}}  ", style=screen.DIM)
            line.append_text(
                text.Text("new", style=screen.DIM)
                if change.kind == "new"
                else screen.visible(change.before, 50)
            )
            out.print(
                line.append(" → ", style=screen.DIM).append_text(screen.visible(change.after, 50))
            )
    gone = [change.column for change in event.changes if change.kind == "gone"]
    if gone:
        more = f" and {len(gone) - 4} more" if len(gone) > 4 else ""
        out.print(text.Text(f"      without {', '.join(gone[:4])}{more}", style=screen.DIM))
