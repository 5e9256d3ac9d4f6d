"""`gravel compare`."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, InvalidOperation
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Replace,
    Today,
    given_by,
    memory_of,
    with_reading,
)
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import render
    from gravel.comparing import compare as comparing_compare
    from gravel.inspecting import commands
    from gravel.reports import compare as reports_compare
    from gravel.reports import page
    from gravel.sinks import atomic_file, csv, files
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.comparing.result import CellDiff, Compared


@with_reading
def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="A table.", show_default=False)],
    after: Annotated[
        str,
        typer.Argument(metavar="AFTER", help="The table to compare it with.", show_default=False),
    ],
    key: Annotated[
        list[str] | None,
        typer.Option(
            "--key",
            metavar="COLUMN",
            help="Rows are matched by it (repeatable; none: as they are).",
        ),
    ] = None,
    ignore_case: Annotated[
        bool, typer.Option("--ignore-case", help="Texts that differ in case only are equal.")
    ] = False,
    ignore_spaces: Annotated[
        bool, typer.Option("--ignore-spaces", help="Texts that TIDY_SPACES makes equal are equal.")
    ] = False,
    within: Annotated[
        str | None,
        typer.Option(
            "--within", metavar="N", help="Numbers that differ by so much at most are equal."
        ),
    ] = None,
    mapped: Annotated[
        list[str] | None,
        typer.Option(
            "--map", metavar="OLD=NEW", help="A column's name on either side (repeatable)."
        ),
    ] = None,
    where: Annotated[
        str | None,
        typer.Option("--where", metavar="COND", help="Only rows that meet this, on both sides."),
    ] = None,
    differences: Annotated[
        Path | None,
        typer.Option("--differences", metavar="FILE", help="Write every cell that differs."),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")
    ] = None,
    param: Params = None,
    memory: Memory = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Compare two tables row by row and cell by cell. Exit status 1 if they differ.

    gravel compare boats.csv boats-clean.csv --key boat_id
    """
    how = comparing_compare.How(
        ignore_case, ignore_spaces, _distance(within), _pairs(mapped), where
    )
    supplied = given_by(param, today)
    sides = [opening.open_table(reference, reading) for reference in (before, after)]
    read = sides[0].files | sides[1].files
    for target in (differences, report):
        if target is not None and target.resolve() in read:
            raise CallProblem(
                f"{target} is read, so it is not written over", hint="name another file"
            )
    if differences is not None:
        files.only_text(differences)
        files.may_write(differences, replace)
    if report is not None:
        page.may_write(report, replace)
    result, every = comparing_compare.compare(
        sides[0], sides[1], key or (), how, supplied, memory_of(memory) or comparing_compare.MEMORY
    )
    if differences is not None:
        _write(differences, result, every)
    if report is not None:
        reports_compare.write_page(report, result)
    if format is Format.json:
        render.print_json("compare", results.compare_dict(result))
    elif format is Format.table:
        _show(result, not no_color)
    else:
        lines = [
            [
                column.column,
                *map(str, (column.equal, column.changed, column.filled, column.emptied)),
            ]
            for column in result.columns
        ]
        render.print_rows(
            format.value,
            ["column", "equal", "changed", "filled", "emptied"],
            [[line[index] for line in lines] for index in range(5)],
        )
    render.malformed_notes(result.before, result.before_malformed, not no_color)
    render.malformed_notes(result.after, result.after_malformed, not no_color)
    for line in result.notes:
        render.note(line, not no_color)
    if differences is not None:
        render.note(
            f"{sum(item.different for item in result.columns):,} cells that differ written to"
            f" {differences}",
            not no_color,
        )
    if not result.same and not key:
        proposed = comparing_compare.proposed_key(*sides)
        if proposed is not None:
            call = commands.command(
                [
                    "gravel",
                    "compare",
                    before,
                    after,
                    "--key",
                    proposed,
                    *commands.table_words(sides[0])[1:],
                ]
            )
            render.note(
                f"{proposed} is a key of both: {call} shows which cells differ", not no_color
            )
    if not result.same:
        raise typer.Exit(1)


def _distance(text: str | None) -> Any:
    if text is None:
        return None
    try:
        result = Decimal(text)
    except InvalidOperation:
        result = Decimal(-1)
    if not result.is_finite() or result < 0:
        raise CallProblem(f"--within takes a number such as 0.01, not {text!r}")
    return result


def _pairs(mapped: list[str] | None) -> tuple[tuple[str, str], ...]:
    results = []
    for item in mapped or ():
        old, equals, new = item.partition("=")
        if not equals or not old.strip() or not new.strip():
            raise CallProblem(f"--map takes OLD=NEW, not {item!r}", hint='--map "name=boat_name"')
        results.append((old.strip(), new.strip()))
    return tuple(results)


def _write(target: Path, compared: Compared, every: Iterator[CellDiff]) -> None:
    """Every cell that differs: the key, the column, before, after, and the source rows. Raises
    TableProblem."""
    import pyarrow as pa

    output = atomic_file.Output(target, str(target))
    try:
        output.write(
            csv.header(
                [
                    *compared.key,
                    "gravel_column",
                    "gravel_before",
                    "gravel_after",
                    "gravel_before_row",
                    "gravel_after_row",
                ]
            )
        )
        while subset := list(islice(every, 50_000)):
            lines = [
                [
                    *item.key,
                    item.column,
                    item.before,
                    item.after,
                    str(item.before_row),
                    str(item.after_row),
                ]
                for item in subset
            ]
            output.write(
                csv.encode(
                    [
                        pa.array([line[index] for line in lines], pa.string())
                        for index in range(len(lines[0]))
                    ]
                )
            )
        output.close()
        output.commit()
    finally:
        output.discard()


def _show(compared: Compared, color: bool) -> None:
    out = render.console(color=color)
    head = rich_text.Text(f"{compared.before} and {compared.after}", style=render.HEAD)
    how = (
        f", matched by {', '.join(compared.key)}" if compared.key else ", rows matched as they are"
    )
    out.print(
        head.append(
            how + (f", {' and '.join(compared.ignoring)} ignored" if compared.ignoring else ""),
            style=render.DIM,
        )
    )
    lines: list[list[Any]] = [
        ["rows", f"{compared.before_rows:,}", f"{compared.after_rows:,}"],
        ["in both", f"{compared.both:,}", f"{compared.both:,}"],
        ["only here", f"{compared.only_before:,}", f"{compared.only_after:,}"],
    ]
    if compared.key:
        for what, name in (
            ("keys of several rows", "repeated"),
            ("rows with NULL in the key", "null"),
        ):
            pair = [getattr(compared.before_keys, name), getattr(compared.after_keys, name)]
            if any(pair):
                lines.append(
                    [rich_text.Text(what, style=render.BAD), *(f"{count:,}" for count in pair)]
                )
    render.print_table(out, ["", "before", "after"], lines, right=(1, 2))
    for names, where in ((compared.before_columns, "before"), (compared.after_columns, "after")):
        if names:
            out.print(
                rich_text.Text(f"columns only {where}: {', '.join(names)}", style=render.WARN)
            )
    for name, old, new in compared.types:
        out.print(
            rich_text.Text(
                f"{name} is {old} before and {new} after, so its texts are compared",
                style=render.WARN,
            )
        )
    if compared.before_keys.repeated or compared.after_keys.repeated:
        out.print(
            rich_text.Text(
                "rows that share a key are matched in the order they come in: the first with the"
                " first",
                style=render.DIM,
            )
        )
    differing = [item for item in compared.columns if item.different]
    if compared.key:
        out.print()
        many = f"{compared.changed_rows:,} of {compared.both:,} rows in both differ"
        out.print(
            rich_text.Text(
                many if compared.changed_rows else f"all {compared.both:,} rows in both are equal",
                style=render.HEAD,
            )
        )
    if differing:
        rows = [
            [
                item.column,
                *(
                    rich_text.Text(
                        f"{count:,}" if count else "–", style="" if count else render.DIM
                    )
                    for count in (item.equal, item.changed, item.filled, item.emptied)
                ),
            ]
            for item in differing
        ]
        render.print_table(
            out, ["column", "equal", "changed", "filled", "emptied"], rows, right=range(1, 5)
        )
        same = [item.column for item in compared.columns if not item.different]
        if same:
            out.print(rich_text.Text(f"equal in all rows: {', '.join(same)}", style=render.DIM))
        out.print()
        _examples(out, compared)
    for alone, total, what in (
        (compared.alone_before, compared.only_before, "before"),
        (compared.alone_after, compared.only_after, "after"),
    ):
        if alone:
            out.print()
            _alone(out, compared, alone, total, what)
    out.print()
    out.print(
        rich_text.Text("no difference", style=render.GOOD)
        if compared.same
        else rich_text.Text("they differ", style=render.BAD)
    )


def _examples(out: Any, compared: Compared) -> None:
    lines: list[list[Any]] = []
    last = ""
    for example in compared.examples:
        message = example.column if example.column != last else ""
        last = example.column
        cells = [render.visible(value, 34) for value in (example.before, example.after)]
        lines.append(
            [
                message,
                *(render.visible(value, 18) for value in example.key),
                cells[0],
                rich_text.Text("→", style=render.DIM),
                cells[1],
            ]
        )
    render.print_table(out, ["for example", *compared.key, "before", "", "after"], lines)


def _alone(out: Any, compared: Compared, alone: Any, total: int, what: str) -> None:
    out.print(rich_text.Text(f"only {what}: {total:,} rows", style=render.HEAD))
    rows = [
        [f"{item.row:,}", *(render.visible(value, 18) for value in item.key or item.values[:6])]
        for item in alone
    ]
    names = (
        list(compared.key)
        if compared.key
        else [item.column for item in compared.columns][: len(rows[0]) - 1]
    )
    render.print_table(out, ["row", *names], rows)
    if total > len(alone):
        out.print(rich_text.Text(f"and {total - len(alone):,} more", style=render.DIM))
