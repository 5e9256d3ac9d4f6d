"""`gravel verify`."""

from __future__ import annotations

import dataclasses
import re
from pathlib import Path
from typing import Annotated, Any

import typer

from gravel.cli.options import Format, FormatOption, NoColor, engine_of, given_by
from gravel.lazily import lazily
from gravel.problems import CallProblem

with lazily():
    from rich import text as rich_text

    from gravel.plans import record as plans_record
    from gravel.plans import rerun as plans_rerun
    from gravel.render import screen


def verify(
    record: Annotated[
        Path,
        typer.Argument(metavar="RECORD", help="The record beside an output.", show_default=False),
    ],
    connect: Annotated[
        bool, typer.Option("--connect", help="Ask the servers that the record names.")
    ] = False,
    signers: Annotated[
        Path | None,
        typer.Option(
            "--signers",
            metavar="FILE",
            help="The record must be signed by a key of this allowed-signers file.",
        ),
    ] = None,
    rerun: Annotated[
        bool,
        typer.Option(
            "--rerun", help="Run the recorded plan again, in a private folder, and compare."
        ),
    ] = False,
    engine: Annotated[
        str | None,
        typer.Option(
            "--engine",
            metavar="URL",
            help="With --rerun: the Spark that runs it, as sc://host:15002 (or GRAVEL_ENGINE).",
        ),
    ] = None,
    format: FormatOption = Format.table,
    no_color: NoColor = False,
) -> None:
    """Check that input and output still match a run's record: sizes, SHA-256, rows counted again.
    Exit status 1 if not.

    gravel verify boats-clean.record.json
    """
    if engine and not rerun:
        raise CallProblem(
            "--engine says where the plan runs again, with --rerun",
            hint="sizes, checksums and rows of the files are read on this machine",
        )
    result = plans_record.verify(record, connect, signers)
    if rerun:
        again = plans_rerun.rerun(record, given_by(None, None), connect, engine_of(engine))
        result = dataclasses.replace(result, compared=(*result.compared, *again))
    if format is Format.json:
        screen.print_json("verify", result)
    elif format is Format.table:
        out = screen.console(color=not no_color)
        rows: list[list[Any]] = []
        for entry in result.compared:
            same = entry.then == entry.now
            mark = rich_text.Text(
                "same" if same else "DIFFERS", style=screen.GOOD if same else f"bold {screen.BAD}"
            )
            rows.append([mark, entry.what, _short(entry.then), "" if same else _short(entry.now)])
        screen.print_table(out, ["", "", "then", "now"], rows)
        out.print()
        many = len(result.findings)
        message = (
            "everything matches the record"
            if not many
            else f"{many} of {len(result.checked)} figures are not as they were recorded"
        )
        out.print(rich_text.Text(message, style=screen.GOOD if not many else screen.BAD))
    else:
        lines = [[item.what, item.then, item.now] for item in result.compared]
        screen.print_rows(
            format.value,
            ["what", "then", "now"],
            [[line[index] for line in lines] for index in range(3)],
        )
    for server in result.not_asked:
        how = (
            "--rerun --connect --engine URL reads it" if server == "spark" else "--connect asks it"
        )
        screen.note(f"{server} was not asked: a record may come from anybody; {how}", not no_color)
    if signers is None:
        screen.note(
            "the record is signed, which --signers FILE checks"
            if result.signed
            else "whoever can edit the files can edit the record too: only a signature shows that"
            " (clean --sign)",
            not no_color,
        )
    if result.findings:
        raise typer.Exit(1)


def _short(text: str) -> str:
    return text[:16] + "…" if re.fullmatch("[0-9a-f]{64}", text) else text
