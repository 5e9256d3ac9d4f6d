"""`gravel duplicates`."""

from __future__ import annotations

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
    TableArgument,
    Today,
    given_by,
    memory_of,
    progress,
    with_reading,
)
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import look, render
    from gravel.cli import near as cli_near
    from gravel.duplicates import groups as duplicates_groups
    from gravel.duplicates import near as duplicates_near
    from gravel.inspecting import commands
    from gravel.plans import edit
    from gravel.reports import duplicates as reports_duplicates
    from gravel.reports import page
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.duplicates.near import Near
    from gravel.duplicates.result import Duplicates, Group


@with_reading
def duplicates(
    table: TableArgument,
    on: Annotated[
        list[str] | None,
        typer.Option(
            "--on",
            metavar="EXPR",
            help="Rows equal in this are one group (repeatable; none: whole rows).",
        ),
    ] = None,
    key: Annotated[
        list[str] | None,
        typer.Option("--key", metavar="COLUMN", help="A key column, to tell rows by (repeatable)."),
    ] = None,
    match_level: Annotated[
        str,
        typer.Option(
            "--level",
            metavar="NAME",
            help="The spelling: equal, spaces, case, accents, words, digits.",
        ),
    ] = "equal",
    near: Annotated[
        str | None,
        typer.Option("--near", metavar="EXPR", help="Pairs of rows that are nearly equal in this."),
    ] = None,
    within: Annotated[
        int | None,
        typer.Option(
            "--within", metavar="N", help="Nearly: at most so many edits (2 if not said).", min=1
        ),
    ] = None,
    alike: Annotated[
        float | None,
        typer.Option(
            "--similarity", metavar="0…1", help="Nearly: a Jaro-Winkler similarity of so much."
        ),
    ] = None,
    block: Annotated[
        str | None,
        typer.Option("--block", metavar="EXPR", help="Only rows equal in this are compared."),
    ] = None,
    rows: Annotated[
        str, typer.Option("--rows", metavar="N|all", help="How many groups or pairs to show.")
    ] = "10",
    least: Annotated[
        int, typer.Option("--min", metavar="N", help="Only groups of so many rows.", min=2)
    ] = 2,
    null_equal: Annotated[
        bool,
        typer.Option("--null-equal", help="Rows with NULL may be in groups: NULL is like NULL."),
    ] = False,
    add: Annotated[
        Path | None,
        typer.Option("--add", metavar="PLAN", help="Append the proposed step to this plan."),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")
    ] = None,
    fail: Annotated[bool, typer.Option("--fail", help="Exit status 1 if there are any.")] = False,
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Find duplicate rows: exact, by looser matching, or nearly equal.

    gravel duplicates owners.csv --on name --on town
    """
    limit = look.row_limit(rows)
    supplied = given_by(param, today)
    source = opening.open_table(table, reading)
    if report is not None and source.reads(report):
        raise CallProblem(
            f"the page would be written over {table}, which is read", hint="name another file"
        )
    if report is not None:
        page.may_write(report, replace)
    if near is not None:
        if on or add or match_level != "equal":
            raise CallProblem(
                "--near is asked by itself", hint="--block EXPR says which rows are compared"
            )
        with progress(source, 2):
            close = duplicates_near.near(
                source,
                near,
                within=within,
                alike=alike,
                block=block,
                key=key or (),
                shown=limit,
                given=supplied,
            )
        _tell_near(close, format, not no_color, report)
        any_found = close.pairs > 0
    else:
        if within is not None or alike is not None or block is not None:
            raise CallProblem(
                "--within, --similarity and --block are for --near", hint='--near "name" --within 2'
            )
        with progress(source, 2):
            room = memory_of(memory) or duplicates_groups.MEMORY
            result = duplicates_groups.duplicates(
                source,
                on or (),
                key=key or (),
                match_level=match_level,
                null_equal=null_equal,
                least=least,
                shown=limit,
                given=supplied,
                memory=room,
            )
        _tell(result, table, format, not no_color, report)
        any_found = result.groups > 0
        if add is not None:
            _add(result, source, add, not no_color)
    if fail and any_found:
        raise typer.Exit(1)


def _add(duplicates: Duplicates, source: Any, add: Path, color: bool) -> None:
    if duplicates.proposal is None:
        raise CallProblem(
            "there is no step to add", hint="there are groups only where --on names what is equal"
        )
    note = f"{duplicates.surplus:,} rows more than one a group"
    number = edit.add_text(add, source, results.step_text(duplicates), note)
    render.note(
        f"step {number} added to {add}; next: gravel clean {commands.shell_word(str(add))}"
        " --dry-run",
        color,
    )


def _tell(
    duplicates: Duplicates, reference: str, form: Format, color: bool, report: Path | None
) -> None:
    if report is not None:
        reports_duplicates.write_page(
            report, duplicates, results.step_text(duplicates) if duplicates.proposal else ""
        )
    if form is Format.json:
        render.print_json("duplicates", results.duplicates_dict(duplicates))
    elif form is Format.table:
        _show(duplicates, color)
    else:
        headings = ["group", "size", "gravel_row", *duplicates.columns]
        lines = [
            [str(group.number), str(group.size), str(row.row), *row.values]
            for group in duplicates.shown
            for row in group.rows
        ]
        render.print_rows(
            form.value,
            headings,
            [[line[index] for line in lines] for index in range(len(headings))],
        )
    render.malformed_notes(duplicates.table, duplicates.malformed, color)
    for line in duplicates.notes:
        render.note(f"{duplicates.table}: {line}", color)


def _compared(duplicates: Duplicates) -> str:
    """What is compared: the expressions, where they are few and not all columns."""
    few = duplicates.on != duplicates.columns and len(duplicates.expressions) < 6
    return ", ".join(duplicates.expressions) if few else "all columns"


def _show(duplicates: Duplicates, color: bool) -> None:
    out = render.console(color=color)
    out.print(
        rich_text.Text(
            f"{duplicates.rows:,} rows, {duplicates.groups:,} groups", style=render.HEAD
        ).append(f" of rows equal in {_compared(duplicates)}", style=render.DIM)
    )
    message = (
        f"{duplicates.rows_in_groups:,} rows in groups, {duplicates.surplus:,} more than one a"
        f" group, the largest {duplicates.largest:,}"
    )
    out.print(
        rich_text.Text(
            f"  {message}" if duplicates.groups else "  no two rows are equal",
            style=render.WARN if duplicates.groups else render.GOOD,
        )
    )
    if duplicates.null_rows:
        how = (
            "where NULL is like NULL"
            if duplicates.null_equal
            else "in no group (--null-equal groups them)"
        )
        out.print(
            rich_text.Text(f"  {duplicates.null_rows:,} rows with NULL, {how}", style=render.DIM)
        )
    if duplicates.error_rows:
        out.print(
            rich_text.Text(
                f"  {duplicates.error_rows:,} rows in which an expression fails, in no group",
                style=render.BAD,
            )
        )
    for group in duplicates.shown:
        out.print()
        _group(out, duplicates, group)
    if duplicates.groups > len(duplicates.shown):
        render.note(
            f"  {len(duplicates.shown):,} of {duplicates.groups:,} groups shown, the largest first"
            " (--rows all)",
            color,
        )
    out.print()
    _ladder(out, duplicates)
    more = [(text, groups) for text, groups in duplicates.left_out if groups]
    if more:
        out.print()
        message = ", ".join(
            f"{groups:+,} without {text}"
            for text, groups in sorted(more, key=lambda item: -item[1])
        )
        out.print(rich_text.Text(f"one column less: {message} (groups)", style=render.DIM))
    if duplicates.proposal is not None:
        out.print()
        _proposal(out, duplicates)


def _group(out: Any, duplicates: Duplicates, group: Group) -> None:
    key = [duplicates.columns.index(name) for name in duplicates.key]
    same = [
        position
        for position in range(len(duplicates.columns))
        if position not in group.differs and position not in key
    ]
    shown = [*key, *group.differs[:6]]
    rows = []
    for row in group.rows[:12]:
        cells = [rich_text.Text(f"{row.row:,}", style=render.DIM)]
        cells += [render.visible(row.values[position], 30) for position in shown]
        rows.append(cells)
    alike = [
        position for position in same if group.rows and group.rows[0].values[position] is not None
    ][:4]
    head = rich_text.Text(f"  {group.size:,} rows", style=render.WARN)
    for place in alike:
        head.append(f"  {duplicates.columns[place]} ", style=render.DIM).append_text(
            render.visible(group.rows[0].values[place], 30)
        )
    out.print(head)
    render.print_table(
        out,
        ["  row", *(duplicates.columns[position] for position in shown)],
        [[rich_text.Text("  ").append_text(line[0]), *line[1:]] for line in rows],
    )
    if group.size > 12:
        out.print(rich_text.Text(f"  and {group.size - 12:,} more", style=render.DIM))


def _ladder(out: Any, duplicates: Duplicates) -> None:
    rows: list[list[Any]] = []
    for entry in duplicates.match_levels:
        new = f"+{entry.new_groups:,}" if entry.new_groups and entry.match_level != "equal" else "–"
        mark = render.MARK if entry.match_level == duplicates.match_level else ""
        rows.append(
            [
                rich_text.Text(entry.match_level, style=mark),
                rich_text.Text(entry.meaning),
                f"{entry.groups:,}",
                f"{entry.surplus:,}",
                new,
            ]
        )
        for example in entry.examples[:2]:
            line = rich_text.Text("  ", style=render.DIM)
            for value, count in example[:3]:
                line.append_text(render.visible(value, 40)).append(
                    f" {count:,}×  ", style=render.DIM
                )
            rows.append(["", line, "", "", ""])
    render.print_table(
        out, ["level", "", "groups", "extra rows", "newly matched"], rows, right=(2, 3, 4)
    )
    later = [item for item in duplicates.match_levels[1:] if item.new_groups]
    if later and duplicates.match_level == "equal":
        entry = max(later, key=lambda step: step.new_groups)
        out.print(
            rich_text.Text(
                f"--level {entry.match_level} lists its groups; as expressions:"
                f" {', '.join(entry.expressions)[:110]}",
                style=render.DIM,
            ),
            soft_wrap=True,
        )


def _proposal(out: Any, duplicates: Duplicates) -> None:
    item = duplicates.proposal
    assert item is not None
    if item.disagree:
        message = ", ".join(
            f"{name} {many:,}" for name, many in sorted(item.disagree, key=lambda pair: -pair[1])
        )
        out.print(
            rich_text.Text(f"groups whose known values disagree: {message}", style=render.DIM)
        )
    if item.rescued:
        out.print(
            rich_text.Text(
                "NULLs that fill would rescue: "
                + ", ".join(f"{name} {many:,}" for name, many in item.rescued),
                style=render.GOOD,
            )
        )
    out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=render.DIM))
    out.print(rich_text.Text(results.step_text(duplicates), style=render.MARK), soft_wrap=True)


def _tell_near(near: Near, form: Format, color: bool, report: Path | None) -> None:
    if report is not None:
        reports_duplicates.write_near_page(report, near)
    cli_near.tell(near, form, color)
