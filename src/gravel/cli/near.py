"""What `gravel duplicates --near` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gravel.cli.lazily import lazily
from gravel.cli.options import Format

with lazily():
    from rich import text

    from gravel import results
    from gravel.cli import render

if TYPE_CHECKING:
    from gravel.duplicates.near import Near


def tell(near: Near, form: Format, color: bool) -> None:
    """Pairs and clusters in the form asked for."""
    if form is Format.json:
        render.print_json("duplicates", results.near_dict(near))
    elif form is Format.table:
        _show(near, color)
    else:
        headings = ["a", "b", near.measure, "a_value", "b_value"]
        lines = [
            [str(item.a), str(item.b), _measure(near, item.measure), item.a_value, item.b_value]
            for item in near.shown
        ]
        render.print_rows(
            form.value, headings, [[line[index] for line in lines] for index in range(5)]
        )
    render.malformed_notes(near.table, near.malformed, color)
    for line in near.notes:
        render.note(f"{near.table}: {line}", color)


def _measure(near: Near, value: float) -> str:
    return f"{int(value)}" if near.measure == "distance" else f"{value:.3f}"


def _show(near: Near, color: bool) -> None:
    out = render.console(color=color)
    bound = (
        f"within {int(near.bound)} edits"
        if near.measure == "distance"
        else f"alike to {near.bound:g} or more"
    )
    head = text.Text(f"{near.pairs:,} pairs of rows nearly equal", style=render.HEAD)
    out.print(head.append(f" in {near.expression}, {bound}", style=render.DIM))
    message = (
        f"  {near.values:,} values of {near.rows:,} rows; {near.compared:,} pairs of values"
        " compared"
    )
    out.print(
        text.Text(message + f" of {near.values * (near.values - 1) // 2:,}", style=render.DIM)
    )
    out.print(text.Text(f"  {near.missed}", style=render.DIM))
    apart = [
        (near.null_rows, "NULL"),
        (near.unblocked_rows, "a NULL block"),
        (near.error_rows, "an error"),
    ]
    for rows, what in apart:
        if rows:
            out.print(text.Text(f"  {rows:,} rows with {what} are in no pair", style=render.DIM))
    if near.shown:
        out.print()
        keys = list(near.key)
        lines: list[list[Any]] = []
        for item in near.shown:
            left, right = (
                [render.visible(value, 20) for value in key] for key in (item.a_key, item.b_key)
            )
            cells = [render.visible(value, 36) for value in (item.a_value, item.b_value)]
            lines.append(
                [
                    f"  {item.a:,}",
                    *left,
                    cells[0],
                    _measure(near, item.measure),
                    f"{item.b:,}",
                    *right,
                    cells[1],
                ]
            )
        render.print_table(
            out,
            ["  row", *keys, "value", near.measure, "row", *keys, "value"],
            lines,
            right=(len(keys) + 2,),
        )
        if near.pairs > len(near.shown):
            render.note(
                f"  {len(near.shown):,} of {near.pairs:,} pairs shown, the closest first (--rows"
                " all)",
                color,
            )
    several = [
        pair for pair in zip(near.clusters, near.cluster_values, strict=True) if len(pair[1]) > 2
    ]
    if several:
        out.print()
        out.print(text.Text("clusters of more than two values", style=render.HEAD))
        for members, values in several[:5]:
            told_values = text.Text(f"  {len(members):,} rows  ", style=render.WARN)
            for value in values[:5]:
                told_values.append_text(render.visible(value, 30)).append("  ", style=render.DIM)
            out.print(
                told_values.append(
                    f"and {len(values) - 5:,} more" if len(values) > 5 else "", style=render.DIM
                )
            )
