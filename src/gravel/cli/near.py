"""What `gravel duplicates --near` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gravel.cli.options import Format
from gravel.lazily import lazily

with lazily():
    from gravel import results
    from gravel.render import near as render_near
    from gravel.render import screen

if TYPE_CHECKING:
    from gravel.duplicates.near import Near


def tell(near: Near, form: Format, color: bool) -> None:
    """Pairs and clusters in the form asked for."""
    if form is Format.json:
        screen.print_json("duplicates", results.near_dict(near))
    elif form is Format.table:
        render_near.show(near, color)
    else:
        headings = ["a", "b", near.measure, "a_value", "b_value"]
        lines = [
            [
                str(item.a),
                str(item.b),
                render_near.measure(near, item.measure),
                item.a_value,
                item.b_value,
            ]
            for item in near.shown
        ]
        screen.print_rows(
            form.value, headings, [[line[index] for line in lines] for index in range(5)]
        )
    screen.malformed_notes(near.table, near.malformed, color)
    for line in near.notes:
        screen.note(f"{near.table}: {line}", color)
