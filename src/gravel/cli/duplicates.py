"""`gravel duplicates`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Delimiter,
    Empty,
    EmptyOption,
    Encoding,
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Replace,
    TableArgument,
    Texts,
    Today,
    given_by,
    memory_of,
    open_reference,
    progress,
)
from gravel.problems import CallProblem

with lazily():
    from rich import text as rich_text

    from gravel.cli import look, render
    from gravel.cli import near as cli_near
    from gravel.duplicates import groups as duplicates_groups
    from gravel.duplicates import near as duplicates_near
    from gravel.inspecting import commands
    from gravel.plans import edit
    from gravel.reports import duplicates as reports_duplicates
    from gravel.reports import page

if TYPE_CHECKING:
    from gravel.duplicates.near import Near
    from gravel.duplicates.result import Duplicates, Group


def duplicates(
    table: TableArgument,
    on: Annotated[
        list[str] | None, typer.Option("--on", metavar="EXPR", help="Rows equal in this are one group (repeatable; none: whole rows).")
    ] = None,
    key: Annotated[list[str] | None, typer.Option("--key", metavar="COLUMN", help="A key column, to tell rows by (repeatable).")] = None,
    rung: Annotated[
        str, typer.Option("--rung", metavar="NAME", help="The spelling: equal, spaces, case, accents, words, digits.")
    ] = "equal",
    near: Annotated[str | None, typer.Option("--near", metavar="EXPR", help="Pairs of rows that are nearly equal in this.")] = None,
    within: Annotated[
        int | None, typer.Option("--within", metavar="N", help="Nearly: at most so many edits (2 if not said).", min=1)
    ] = None,
    alike: Annotated[float | None, typer.Option("--alike", metavar="0…1", help="Nearly: a Jaro-Winkler likeness of so much.")] = None,
    block: Annotated[str | None, typer.Option("--block", metavar="EXPR", help="Only rows equal in this are compared.")] = None,
    rows: Annotated[str, typer.Option("--rows", metavar="N|all", help="How many groups or pairs to show.")] = "10",
    least: Annotated[int, typer.Option("--min", metavar="N", help="Only groups of so many rows.", min=2)] = 2,
    null_equal: Annotated[bool, typer.Option("--null-equal", help="Rows with NULL may be in groups: NULL is like NULL.")] = False,
    add: Annotated[Path | None, typer.Option("--add", metavar="PLAN", help="Append the proposed step to this plan.")] = None,
    report: Annotated[Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")] = None,
    fail: Annotated[bool, typer.Option("--fail", help="Exit status 1 if there are any.")] = False,
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    delimiter: Delimiter = None,
    encoding: Encoding = None,
    empty: EmptyOption = Empty.text,
    text: Texts = None,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Rows that are one thing written more than once: equal, in looser spellings, or nearly equal.

    [bold]gravel duplicates owners.csv --on name --on town[/]
    """
    limit = look.row_limit(rows)
    given = given_by(param, today)
    source = open_reference(table, delimiter, encoding, empty, text)
    if report is not None and source.reads(report):
        raise CallProblem(f"the page would be written over {table}, which is read", hint="name another file")
    if report is not None:
        page.may_write(report, replace)
    if near is not None:
        if on or add or rung != "equal":
            raise CallProblem("--near is asked by itself", hint="--block EXPR says which rows are compared")
        with progress(source, 2):
            close = duplicates_near.near(source, near, within=within, alike=alike, block=block, key=key or (), shown=limit, given=given)
        _tell_near(close, format, not no_color, report)
        any_found = close.pairs > 0
    else:
        if within is not None or alike is not None or block is not None:
            raise CallProblem("--within, --alike and --block are for --near", hint='--near "name" --within 2')
        with progress(source, 2):
            room = memory_of(memory) or duplicates_groups.MEMORY
            found = duplicates_groups.duplicates(
                source, on or (), key=key or (), rung=rung, null_equal=null_equal, least=least, shown=limit, given=given, memory=room
            )
        _tell(found, table, format, not no_color, report)
        any_found = found.groups > 0
        if add is not None:
            _add(found, source, add, not no_color)
    if fail and any_found:
        raise typer.Exit(1)


def _add(found: Duplicates, source: Any, add: Path, color: bool) -> None:
    if found.proposal is None:
        raise CallProblem("there is no step to add", hint="there are groups only where --on names what is equal")
    note = f"{found.surplus:,} rows more than one a group"
    number = edit.add_text(add, source, step_text(found), note)
    render.note(f"step {number} added to {add}; next: gravel clean {commands.shell_word(str(add))} --dry-run", color)


def step_text(found: Duplicates) -> str:
    """The proposed step as TOML."""
    assert found.proposal is not None
    return edit.unique_text(found.proposal.by, found.proposal.prefer, found.proposal.fill, bool(found.proposal.disagree))


def _tell(found: Duplicates, reference: str, form: Format, color: bool, report: Path | None) -> None:
    if report is not None:
        reports_duplicates.write_page(report, found, step_text(found) if found.proposal else "")
    if form is Format.json:
        render.print_json("duplicates", _json(found))
    elif form is Format.table:
        _show(found, color)
    else:
        headings = ["group", "size", "gravel_row", *found.columns]
        lines = [[str(group.number), str(group.size), str(row.row), *row.values] for group in found.shown for row in group.rows]
        render.print_rows(form.value, headings, [[line[at] for line in lines] for at in range(len(headings))])
    render.malformed_notes(found.table, found.malformed, color)
    for line in found.notes:
        render.note(f"{found.table}: {line}", color)


def _json(found: Duplicates) -> dict[str, Any]:
    def group(one: Group) -> dict[str, Any]:
        rows = [{"row": row.row, "values": dict(zip(found.columns, row.values, strict=True))} for row in one.rows]
        return {"group": one.number, "size": one.size, "rows": rows, "differs": [found.columns[at] for at in one.differs]}

    proposal = None
    if found.proposal is not None:
        one = found.proposal
        proposal = {
            "by": list(one.by), "prefer": one.prefer, "fill": list(one.fill), "disagree": dict(one.disagree), "rescued": dict(one.rescued),
            "step": step_text(found),
        }  # fmt: skip
    return {
        "table": found.table, "on": list(found.on), "rung": found.rung, "key": list(found.key), "rows": found.rows, "groups": found.groups,
        "rows_in_groups": found.rows_in_groups, "surplus": found.surplus, "largest": found.largest, "null_rows": found.null_rows,
        "error_rows": found.error_rows, "malformed": len(found.malformed), "shown": [group(one) for one in found.shown],
        "ladder": [
            {"rung": one.rung, "expression": ", ".join(one.expressions), "groups": one.groups, "surplus": one.surplus, "new_groups": one.new_groups,
             "examples": [[{"value": value, "rows": rows} for value, rows in some] for some in one.examples]}
            for one in found.ladder
        ],
        "left_out": [{"column": text, "groups": more} for text, more in found.left_out], "proposal": proposal,
    }  # fmt: skip


def _show(found: Duplicates, color: bool) -> None:
    out = render.console(color=color)
    out.print(rich_text.Text(f"{found.rows:,} rows, {found.groups:,} groups", style=render.HEAD).append(
        f" of rows equal in {', '.join(found.expressions) if found.on != found.columns and len(found.expressions) < 6 else 'all columns'}",
        style=render.DIM))  # fmt: skip
    told = f"{found.rows_in_groups:,} rows in groups, {found.surplus:,} more than one a group, the largest {found.largest:,}"
    out.print(
        rich_text.Text(f"  {told}" if found.groups else "  no two rows are equal", style=render.WARN if found.groups else render.GOOD)
    )
    if found.null_rows:
        how = "where NULL is like NULL" if found.null_equal else "in no group (--null-equal groups them)"
        out.print(rich_text.Text(f"  {found.null_rows:,} rows with NULL, {how}", style=render.DIM))
    if found.error_rows:
        out.print(rich_text.Text(f"  {found.error_rows:,} rows in which an expression fails, in no group", style=render.BAD))
    for group in found.shown:
        out.print()
        _group(out, found, group)
    if found.groups > len(found.shown):
        render.note(f"  {len(found.shown):,} of {found.groups:,} groups shown, the largest first (--rows all)", color)
    out.print()
    _ladder(out, found)
    more = [(text, groups) for text, groups in found.left_out if groups]
    if more:
        out.print()
        told = ", ".join(f"{groups:+,} without {text}" for text, groups in sorted(more, key=lambda one: -one[1]))
        out.print(rich_text.Text(f"one column less: {told} (groups)", style=render.DIM))
    if found.proposal is not None:
        out.print()
        _proposal(out, found)


def _group(out: Any, found: Duplicates, group: Group) -> None:
    key = [found.columns.index(name) for name in found.key]
    same = [at for at in range(len(found.columns)) if at not in group.differs and at not in key]
    shown = [*key, *group.differs[:6]]
    rows = []
    for row in group.rows[:12]:
        cells = [rich_text.Text(f"{row.row:,}", style=render.DIM)]
        cells += [render.visible(row.values[at], 30) for at in shown]
        rows.append(cells)
    alike = [at for at in same if group.rows and group.rows[0].values[at] is not None][:4]
    head = rich_text.Text(f"  {group.size:,} rows", style=render.WARN)
    for at in alike:
        head.append(f"  {found.columns[at]} ", style=render.DIM).append_text(render.visible(group.rows[0].values[at], 30))
    out.print(head)
    render.print_table(
        out, ["  row", *(found.columns[at] for at in shown)], [[rich_text.Text("  ").append_text(line[0]), *line[1:]] for line in rows]
    )
    if group.size > 12:
        out.print(rich_text.Text(f"  and {group.size - 12:,} more", style=render.DIM))


def _ladder(out: Any, found: Duplicates) -> None:
    rows: list[list[Any]] = []
    for one in found.ladder:
        new = f"+{one.new_groups:,}" if one.new_groups and one.rung != "equal" else "–"
        mark = render.MARK if one.rung == found.rung else ""
        rows.append([rich_text.Text(one.rung, style=mark), rich_text.Text(one.meaning), f"{one.groups:,}", f"{one.surplus:,}", new])
        for some in one.examples[:2]:
            line = rich_text.Text("  ", style=render.DIM)
            for value, count in some[:3]:
                line.append_text(render.visible(value, 40)).append(f" {count:,}×  ", style=render.DIM)
            rows.append(["", line, "", "", ""])
    render.print_table(out, ["rung", "", "groups", "surplus", "come together"], rows, right=(2, 3, 4))
    later = [one for one in found.ladder[1:] if one.new_groups]
    if later and found.rung == "equal":
        one = max(later, key=lambda step: step.new_groups)
        out.print(
            rich_text.Text(f"--rung {one.rung} lists its groups; as expressions: {', '.join(one.expressions)[:110]}", style=render.DIM),
            soft_wrap=True,
        )


def _proposal(out: Any, found: Duplicates) -> None:
    one = found.proposal
    assert one is not None
    if one.disagree:
        told = ", ".join(f"{name} {many:,}" for name, many in sorted(one.disagree, key=lambda pair: -pair[1]))
        out.print(rich_text.Text(f"groups whose known values disagree: {told}", style=render.DIM))
    if one.rescued:
        out.print(
            rich_text.Text(
                "NULLs that fill would rescue: " + ", ".join(f"{name} {many:,}" for name, many in one.rescued), style=render.GOOD
            )
        )
    out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=render.DIM))
    out.print(rich_text.Text(step_text(found), style=render.MARK), soft_wrap=True)


def _tell_near(found: Near, form: Format, color: bool, report: Path | None) -> None:
    if report is not None:
        reports_duplicates.write_near_page(report, found)
    cli_near.tell(found, form, color)
