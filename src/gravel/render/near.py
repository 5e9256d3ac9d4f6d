"""What `gravel duplicates --near` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text

from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.duplicates.near import Near


def tell(near: Near, form: str, color: bool) -> None:
    """Print pairs and clusters in the form asked for, as a table, JSON or rows for programs."""
    if form == "json":
        screen.print_json("duplicates", near)
    elif form == "table":
        show(near, color)
    else:
        headings = ["a", "b", near.measure, "a_value", "b_value"]
        lines = [
            [str(item.a), str(item.b), measure(near, item.measure), item.a_value, item.b_value]
            for item in near.pairs
        ]
        screen.print_rows(form, headings, [[line[index] for line in lines] for index in range(5)])
    screen.malformed_notes(near.table, near.malformed, color)
    for line in near.notes:
        screen.note(f"{near.table}: {line}", color)


def measure(near: Near, value: float) -> str:
    """A distance or a similarity as text."""
    return f"{int(value)}" if near.measure == "distance" else f"{value:.3f}"


def show(near: Near, color: bool) -> None:
    """Print pairs that are nearly equal, and their clusters."""
    out = screen.console(color=color)
    bound = (
        f"within {int(near.bound)} edits"
        if near.measure == "distance"
        else f"alike to {near.bound:g} or more"
    )
    head = text.Text(f"{near.pair_count:,} pairs of rows nearly equal", style=screen.HEAD)
    out.print(head.append(f" in {near.near}, {bound}", style=screen.DIM))
    message = (
        f"  {number_of(near.values, 'value')} of {screen.chosen_rows(near.rows, near.where)};"
        f" {near.compared:,} pairs of values"
        " compared"
    )
    out.print(
        text.Text(message + f" of {near.values * (near.values - 1) // 2:,}", style=screen.DIM)
    )
    out.print(text.Text(f"  {near.missed}", style=screen.DIM))
    apart = [
        (near.null_rows, "NULL"),
        (near.unblocked_rows, "a NULL block"),
        (near.error_rows, "an error"),
    ]
    for rows, what in apart:
        if rows:
            out.print(text.Text(f"  in no pair: {number_of(rows)} with {what}", style=screen.DIM))
    if near.pairs:
        out.print()
        keys = list(near.key)
        lines: list[list[Any]] = []
        for item in near.pairs:
            left, right = (
                [screen.visible(value, 20) for value in key] for key in (item.a_key, item.b_key)
            )
            cells = [screen.visible(value, 36) for value in (item.a_value, item.b_value)]
            lines.append(
                [
                    f"  {item.a:,}",
                    *left,
                    cells[0],
                    measure(near, item.measure),
                    f"{item.b:,}",
                    *right,
                    cells[1],
                ]
            )
        screen.print_table(
            out,
            ["  row", *keys, "value", near.measure, "row", *keys, "value"],
            lines,
            right=(len(keys) + 2,),
        )
        if near.pair_count > len(near.pairs):
            screen.note(
                f"  {len(near.pairs):,} of {near.pair_count:,} pairs shown, the closest first"
                " (--rows all)",
                color,
            )
    several = [
        pair for pair in zip(near.clusters, near.cluster_values, strict=True) if len(pair[1]) > 2
    ]
    if several:
        out.print()
        out.print(text.Text("clusters of more than two values", style=screen.HEAD))
        for members, values in several[:5]:
            told_values = text.Text(f"  {number_of(len(members))}  ", style=screen.WARN)
            for value in values[:5]:
                told_values.append_text(screen.visible(value, 30)).append("  ", style=screen.DIM)
            out.print(
                told_values.append(
                    f"and {len(values) - 5:,} more" if len(values) > 5 else "", style=screen.DIM
                )
            )
