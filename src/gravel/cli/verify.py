"""`gravel verify`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import Format, FormatOption, NoColor

with lazily():
    from rich import text as rich_text

    from gravel.cli import render
    from gravel.plans import record as plans_record


def verify(
    record: Annotated[Path, typer.Argument(metavar="RECORD", help="The record beside an output.", show_default=False)],
    connect: Annotated[bool, typer.Option("--connect", help="Ask the servers that the record names.")] = False,
    format: FormatOption = Format.table,
    no_color: NoColor = False,
) -> None:
    """Whether input and output still are what was signed: sizes, SHA-256, rows counted again. Exit status 1 if not.

    [bold]gravel verify boats-clean.record.json[/]
    """
    found = plans_record.verify(record, connect)
    if format is Format.json:
        figures = [{"what": one.what, "then": one.then, "now": one.now} for one in found.differences]
        every = [one.what for one in found.checked]
        render.print_json("verify", {"status": "differs" if figures else "same", "findings": figures, "checked": every})
    elif format is Format.table:
        out = render.console(color=not no_color)
        rows: list[list[Any]] = []
        for one in found.checked:
            same = one.then == one.now
            mark = rich_text.Text("same" if same else "DIFFERS", style=render.GOOD if same else f"bold {render.BAD}")
            rows.append([mark, one.what, _short(one.then), "" if same else _short(one.now)])
        render.print_table(out, ["", "", "then", "now"], rows)
        out.print()
        many = len(found.differences)
        told = "all is as it was signed" if not many else f"{many} of {len(found.checked)} figures are not as they were signed"
        out.print(rich_text.Text(told, style=render.GOOD if not many else render.BAD))
    else:
        lines = [[one.what, one.then, one.now] for one in found.checked]
        render.print_rows(format.value, ["what", "then", "now"], [[line[at] for line in lines] for at in range(3)])
    for server in found.not_asked:
        render.note(f"{server} was not asked: a record may come from anybody; --connect asks it", not no_color)
    if found.differences:
        raise typer.Exit(1)


def _short(text: str) -> str:
    return text[:16] + "…" if len(text) == 64 else text
