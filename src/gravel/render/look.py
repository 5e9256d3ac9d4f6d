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
    kinds = ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
    right = [
        0,
        *(
            position + 1
            for position, item in enumerate(view.columns)
            if item.type.kind.value in kinds
        ),
    ]
    cells = [[screen.visible(cell, limit) for cell in column] for column in view.cells]
    widths = [
        max([len(item.name), *(text.cell_len for text in column)], default=0) + 2
        for item, column in zip(view.columns, cells, strict=True)
    ]
    fit = _fitting(widths, out.width - len(f"{max(view.row_numbers, default=0):,}") - 4)
    headings = ["row", *(item.name for item in view.columns[:fit])]
    rows = [
        [rich_text.Text(f"{row:,}", style=screen.DIM), *(column[index] for column in cells[:fit])]
        for index, row in enumerate(view.row_numbers)
    ]
    with screen.paged(out, len(rows) + 2):
        screen.print_table(out, headings, rows, right=right)
        if view.branches:
            out.print()
            screen.print_branches(out, view.branches)
    if fit < len(view.columns):
        left = [item.name for item in view.columns[fit:]]
        screen.note(
            f"{len(left)} more columns do not fit:"
            f" {', '.join(left[:8])}{' …' if len(left) > 8 else ''} (choose with --columns)",
            color,
        )


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


def _fitting(widths: list[int], room: int) -> int:
    """How many columns fit side by side, at least one; all if only the last few need a little
    folding."""
    used, count = 0, 0
    for width in widths:
        used += width
        if used > room and count:
            return count
        count += 1
    return count


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
