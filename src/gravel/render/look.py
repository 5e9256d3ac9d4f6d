"""What `gravel look` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich import text as rich_text

from gravel.render import screen

if TYPE_CHECKING:
    from gravel.inspecting.look import View


def show(view: View, color: bool) -> None:
    """Print rows as a table."""
    out = screen.console(color=color)
    limit = max(12, min(60, out.width // max(1, min(len(view.columns), 6))))
    cells = [[screen.visible(cell, limit) for cell in column] for column in view.cells]
    widths = [
        max([len(item.name), *(text.cell_len for text in column)], default=0) + 2
        for item, column in zip(view.columns, cells, strict=True)
    ]
    room = out.width - len(f"{max(view.row_numbers, default=0):,}") - 4
    fit = _fitting(widths, [item.asked for item in view.columns], room)
    columns = [view.columns[position] for position in fit]
    kinds = ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
    right = [place for place, item in enumerate(columns, 1) if item.type.kind.value in kinds]
    numbers = [rich_text.Text(f"{row:,}", style=screen.DIM) for row in view.row_numbers]
    rows = list(zip(numbers, *(cells[position] for position in fit), strict=True))
    with screen.paged(out, len(rows) + 2):
        screen.print_table(out, ["row", *(item.name for item in columns)], rows, right=[0, *right])
        if view.branches:
            out.print()
            screen.print_branches(out, view.branches)
    left = [item.name for place, item in enumerate(view.columns) if place not in fit]
    screen.note_of_left(left, "choose with --columns", color)


def show_vertical(view: View, color: bool) -> None:
    """Each row as a block: its columns one below the other, whole."""
    out = screen.console(color=color)
    width = max((len(screen.safe(item.name)) for item in view.columns), default=0)
    with screen.paged(out, len(view.row_numbers) * (len(view.columns) + 1) + 1):
        for index, row in enumerate(view.row_numbers):
            out.print(rich_text.Text(f"row {row:,}", style=screen.HEAD))
            for item, column in zip(view.columns, view.cells, strict=True):
                line = rich_text.Text(f"  {screen.safe(item.name):{width}}  ", style=screen.DIM)
                line.append_text(screen.visible(column[index], 10_000))
                out.print(line, soft_wrap=True)
        if view.branches:
            out.print()
            screen.print_branches(out, view.branches)


def _fitting(widths: list[int], asked: list[bool], room: int) -> list[int]:
    """The positions of the columns that fit side by side, at least one: those asked for before the
    others, which are taken from the left."""
    chosen: list[int] = []
    used = 0
    for position in sorted(range(len(widths)), key=lambda position: not asked[position]):
        used += widths[position]
        if used > room and chosen:
            break
        chosen.append(position)
    return sorted(chosen)


def show_notes(view: View, color: bool) -> None:
    """Print how many rows there are, and what is to be said of them."""
    message = f"{view.rows:,} {'row' if view.rows == 1 else 'rows'}"
    if view.where is not None:
        message += f", {view.matching:,} match"
        if view.unknown:
            message += f", for {view.unknown:,} the condition is unknown"
        if view.errors:
            message += f", for {view.errors:,} it fails with an error"
    message += f"; {len(view.row_numbers):,} shown"
    if view.sort_errors:
        message += f"; {view.sort_errors:,} without a sort key because of an error"
    screen.note(message, color)
    screen.cautions(view.cautions, color)
    screen.remarks(view.remarks, color)
    screen.malformed_notes(view.table, view.malformed, color)
    for line in view.notes:
        screen.note(f"{view.table}: {line}", color)
