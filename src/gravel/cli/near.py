"""What `gravel duplicates --near` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gravel.cli.lazily import lazily
from gravel.cli.options import Format

with lazily():
    from rich import text

    from gravel.cli import render

if TYPE_CHECKING:
    from gravel.duplicates.near import Near


def tell(found: Near, form: Format, color: bool) -> None:
    """Pairs and clusters in the form asked for."""
    if form is Format.json:
        render.print_json("duplicates", _json(found))
    elif form is Format.table:
        _show(found, color)
    else:
        headings = ["a", "b", found.measure, "a_value", "b_value"]
        lines = [[str(one.a), str(one.b), _measure(found, one.measure), one.a_value, one.b_value] for one in found.shown]
        render.print_rows(form.value, headings, [[line[at] for line in lines] for at in range(5)])
    render.malformed_notes(found.table, found.malformed, color)
    for line in found.notes:
        render.note(f"{found.table}: {line}", color)


def _measure(found: Near, value: float) -> str:
    return f"{int(value)}" if found.measure == "distance" else f"{value:.3f}"


def _json(found: Near) -> dict[str, Any]:
    return {
        "table": found.table, "near": found.expression, "within" if found.measure == "distance" else "alike": found.bound,
        "block": found.block, "proposed_block": found.proposed, "rows": found.rows, "values": found.values, "null_rows": found.null_rows,
        "error_rows": found.error_rows, "unblocked_rows": found.unblocked_rows, "blocks": found.blocks, "compared": found.compared,
        "value_pairs": found.value_pairs, "pair_count": found.pairs,
        "pairs": [
            {"a": one.a, "b": one.b, found.measure: int(one.measure) if found.measure == "distance" else one.measure,
             "a_value": one.a_value, "b_value": one.b_value}
            for one in found.shown
        ],
        "clusters": [list(rows) for rows in found.clusters], "missed": found.missed, "malformed": len(found.malformed),
    }  # fmt: skip


def _show(found: Near, color: bool) -> None:
    out = render.console(color=color)
    bound = f"within {int(found.bound)} edits" if found.measure == "distance" else f"alike to {found.bound:g} or more"
    head = text.Text(f"{found.pairs:,} pairs of rows nearly equal", style=render.HEAD)
    out.print(head.append(f" in {found.expression}, {bound}", style=render.DIM))
    told = f"  {found.values:,} values of {found.rows:,} rows; {found.compared:,} pairs of values compared"
    out.print(text.Text(told + f" of {found.values * (found.values - 1) // 2:,}", style=render.DIM))
    out.print(text.Text(f"  {found.missed}", style=render.DIM))
    apart = [(found.null_rows, "NULL"), (found.unblocked_rows, "a NULL block"), (found.error_rows, "an error")]
    for rows, what in apart:
        if rows:
            out.print(text.Text(f"  {rows:,} rows with {what} are in no pair", style=render.DIM))
    if found.shown:
        out.print()
        keys = list(found.key)
        lines: list[list[Any]] = []
        for one in found.shown:
            left, right = ([render.visible(value, 20) for value in key] for key in (one.a_key, one.b_key))
            cells = [render.visible(value, 36) for value in (one.a_value, one.b_value)]
            lines.append([f"  {one.a:,}", *left, cells[0], _measure(found, one.measure), f"{one.b:,}", *right, cells[1]])
        render.print_table(out, ["  row", *keys, "value", found.measure, "row", *keys, "value"], lines, right=(len(keys) + 2,))
        if found.pairs > len(found.shown):
            render.note(f"  {len(found.shown):,} of {found.pairs:,} pairs shown, the closest first (--rows all)", color)
    several = [pair for pair in zip(found.clusters, found.cluster_values, strict=True) if len(pair[1]) > 2]
    if several:
        out.print()
        out.print(text.Text("clusters of more than two values", style=render.HEAD))
        for members, values in several[:5]:
            told_values = text.Text(f"  {len(members):,} rows  ", style=render.WARN)
            for value in values[:5]:
                told_values.append_text(render.visible(value, 30)).append("  ", style=render.DIM)
            out.print(told_values.append(f"and {len(values) - 5:,} more" if len(values) > 5 else "", style=render.DIM))
