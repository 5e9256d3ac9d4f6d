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
    Texts,
    Today,
    given_by,
    memory_of,
    open_reference,
)
from gravel.problems import CallProblem

with lazily():
    from rich import text as rich_text

    from gravel.cli import render
    from gravel.comparing import compare as comparing_compare
    from gravel.inspecting import commands
    from gravel.reports import compare as reports_compare
    from gravel.reports import page
    from gravel.sinks import atomic_file, csv, files

if TYPE_CHECKING:
    from gravel.comparing.result import CellDiff, Compared


def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="A table.", show_default=False)],
    after: Annotated[str, typer.Argument(metavar="AFTER", help="The table to compare it with.", show_default=False)],
    key: Annotated[
        list[str] | None, typer.Option("--key", metavar="COLUMN", help="Rows are matched by it (repeatable; none: as they are).")
    ] = None,
    ignore_case: Annotated[bool, typer.Option("--ignore-case", help="Texts that differ in case only are equal.")] = False,
    ignore_spaces: Annotated[bool, typer.Option("--ignore-spaces", help="Texts that TIDY_SPACES makes equal are equal.")] = False,
    within: Annotated[str | None, typer.Option("--within", metavar="N", help="Numbers that differ by so much at most are equal.")] = None,
    mapped: Annotated[
        list[str] | None, typer.Option("--map", metavar="OLD=NEW", help="A column's name on either side (repeatable).")
    ] = None,
    where: Annotated[str | None, typer.Option("--where", metavar="COND", help="Only rows that meet this, on both sides.")] = None,
    differences: Annotated[Path | None, typer.Option("--differences", metavar="FILE", help="Write every cell that differs.")] = None,
    report: Annotated[Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")] = None,
    param: Params = None,
    memory: Memory = None,
    today: Today = None,
    format: FormatOption = Format.table,
    delimiter: Delimiter = None,
    encoding: Encoding = None,
    empty: EmptyOption = Empty.text,
    text: Texts = None,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """What differs between two tables: rows only here or there, cells column by column. Exit status 1 if anything does.

    [bold]gravel compare boats.csv boats-clean.csv --key boat_id[/]
    """
    how = comparing_compare.How(ignore_case, ignore_spaces, _distance(within), _pairs(mapped), where)
    given = given_by(param, today)
    sides = [open_reference(reference, delimiter, encoding, empty, text) for reference in (before, after)]
    read = sides[0].files | sides[1].files
    for target in (differences, report):
        if target is not None and target.resolve() in read:
            raise CallProblem(f"{target} is read, so it is not written over", hint="name another file")
    if differences is not None:
        files.only_text(differences)
        files.may_write(differences, replace)
    if report is not None:
        page.may_write(report, replace)
    found, every = comparing_compare.compare(sides[0], sides[1], key or (), how, given, memory_of(memory) or comparing_compare.MEMORY)
    if differences is not None:
        _write(differences, found, every)
    if report is not None:
        reports_compare.write_page(report, found)
    if format is Format.json:
        render.print_json("compare", _json(found))
    elif format is Format.table:
        _show(found, not no_color)
    else:
        lines = [[column.column, *map(str, (column.equal, column.changed, column.filled, column.emptied))] for column in found.columns]
        render.print_rows(
            format.value, ["column", "equal", "changed", "filled", "emptied"], [[line[at] for line in lines] for at in range(5)]
        )
    render.malformed_notes(found.before, found.before_malformed, not no_color)
    render.malformed_notes(found.after, found.after_malformed, not no_color)
    for line in found.notes:
        render.note(line, not no_color)
    if differences is not None:
        render.note(f"{sum(one.different for one in found.columns):,} cells that differ written to {differences}", not no_color)
    if not found.same and not key:
        proposed = comparing_compare.proposed_key(*sides)
        if proposed is not None:
            call = commands.command(["gravel", "compare", before, after, "--key", proposed, *commands.table_words(sides[0])[1:]])
            render.note(f"{proposed} is a key of both: {call} shows which cells differ", not no_color)
    if not found.same:
        raise typer.Exit(1)


def _distance(text: str | None) -> Any:
    if text is None:
        return None
    try:
        made = Decimal(text)
    except InvalidOperation:
        made = Decimal(-1)
    if not made.is_finite() or made < 0:
        raise CallProblem(f"--within takes a number such as 0.01, not {text!r}")
    return made


def _pairs(mapped: list[str] | None) -> tuple[tuple[str, str], ...]:
    found = []
    for one in mapped or ():
        old, equals, new = one.partition("=")
        if not equals or not old.strip() or not new.strip():
            raise CallProblem(f"--map takes OLD=NEW, not {one!r}", hint='--map "name=boat_name"')
        found.append((old.strip(), new.strip()))
    return tuple(found)


def _write(target: Path, found: Compared, every: Iterator[CellDiff]) -> None:
    """Every cell that differs: the key, the column, before, after, and the source rows. Raises TableProblem."""
    import pyarrow as pa

    output = atomic_file.Output(target, str(target))
    try:
        output.write(csv.header([*found.key, "gravel_column", "gravel_before", "gravel_after", "gravel_before_row", "gravel_after_row"]))
        while some := list(islice(every, 50_000)):
            lines = [[*one.key, one.column, one.before, one.after, str(one.before_row), str(one.after_row)] for one in some]
            output.write(csv.encode([pa.array([line[at] for line in lines], pa.string()) for at in range(len(lines[0]))]))
        output.close()
        output.commit()
    finally:
        output.discard()


def _json(found: Compared) -> dict[str, Any]:
    def sides(name: str) -> dict[str, int]:
        return {"before": getattr(found.before_keys, name), "after": getattr(found.after_keys, name)}

    return {
        "before": {"table": found.before, "rows": found.before_rows, "malformed": len(found.before_malformed)},
        "after": {"table": found.after, "rows": found.after_rows, "malformed": len(found.after_malformed)},
        "key": list(found.key), "both": found.both, "only_before": found.only_before, "only_after": found.only_after,
        "repeated_keys": sides("repeated"), "repeated_rows": sides("repeated_rows"), "null_keys": sides("null"), "changed_rows": found.changed_rows,
        "columns": [
            {"column": one.column, "equal": one.equal, "changed": one.changed, "filled": one.filled, "emptied": one.emptied} for one in found.columns
        ],
        "only_before_columns": list(found.before_columns), "only_after_columns": list(found.after_columns),
        "types": [{"column": name, "before": old, "after": new} for name, old, new in found.types],
        "examples": [
            {"key": dict(zip(found.key, one.key, strict=True)), "column": one.column, "before": one.before, "after": one.after,
             "before_row": one.before_row, "after_row": one.after_row}
            for one in found.examples
        ],
        "only_before_examples": [{"row": one.row, "key": dict(zip(found.key, one.key, strict=True))} for one in found.alone_before],
        "only_after_examples": [{"row": one.row, "key": dict(zip(found.key, one.key, strict=True))} for one in found.alone_after],
        "status": "same" if found.same else "differs",
    }  # fmt: skip


def _show(found: Compared, color: bool) -> None:
    out = render.console(color=color)
    head = rich_text.Text(f"{found.before} and {found.after}", style=render.HEAD)
    how = f", matched by {', '.join(found.key)}" if found.key else ", rows matched as they are"
    out.print(head.append(how + (f", {' and '.join(found.ignoring)} ignored" if found.ignoring else ""), style=render.DIM))
    lines: list[list[Any]] = [
        ["rows", f"{found.before_rows:,}", f"{found.after_rows:,}"], ["in both", f"{found.both:,}", f"{found.both:,}"],
        ["only here", f"{found.only_before:,}", f"{found.only_after:,}"],
    ]  # fmt: skip
    if found.key:
        for what, name in (("keys of several rows", "repeated"), ("rows with NULL in the key", "null")):
            pair = [getattr(found.before_keys, name), getattr(found.after_keys, name)]
            if any(pair):
                lines.append([rich_text.Text(what, style=render.BAD), *(f"{count:,}" for count in pair)])
    render.print_table(out, ["", "before", "after"], lines, right=(1, 2))
    for names, where in ((found.before_columns, "before"), (found.after_columns, "after")):
        if names:
            out.print(rich_text.Text(f"columns only {where}: {', '.join(names)}", style=render.WARN))
    for name, old, new in found.types:
        out.print(rich_text.Text(f"{name} is {old} before and {new} after, so its texts are compared", style=render.WARN))
    if found.before_keys.repeated or found.after_keys.repeated:
        out.print(rich_text.Text("rows that share a key are matched in the order they come in: the first with the first", style=render.DIM))
    differing = [one for one in found.columns if one.different]
    if found.key:
        out.print()
        many = f"{found.changed_rows:,} of {found.both:,} rows in both differ"
        out.print(rich_text.Text(many if found.changed_rows else f"all {found.both:,} rows in both are equal", style=render.HEAD))
    if differing:
        rows = [[one.column, *(rich_text.Text(f"{count:,}" if count else "–", style="" if count else render.DIM)
                               for count in (one.equal, one.changed, one.filled, one.emptied))] for one in differing]  # fmt: skip
        render.print_table(out, ["column", "equal", "changed", "filled", "emptied"], rows, right=range(1, 5))
        same = [one.column for one in found.columns if not one.different]
        if same:
            out.print(rich_text.Text(f"equal in all rows: {', '.join(same)}", style=render.DIM))
        out.print()
        _examples(out, found)
    for alone, total, what in ((found.alone_before, found.only_before, "before"), (found.alone_after, found.only_after, "after")):
        if alone:
            out.print()
            _alone(out, found, alone, total, what)
    out.print()
    out.print(rich_text.Text("no difference", style=render.GOOD) if found.same else rich_text.Text("they differ", style=render.BAD))


def _examples(out: Any, found: Compared) -> None:
    lines: list[list[Any]] = []
    last = ""
    for one in found.examples:
        told = one.column if one.column != last else ""
        last = one.column
        cells = [render.visible(value, 34) for value in (one.before, one.after)]
        lines.append([told, *(render.visible(value, 18) for value in one.key), cells[0], rich_text.Text("→", style=render.DIM), cells[1]])
    render.print_table(out, ["for example", *found.key, "before", "", "after"], lines)


def _alone(out: Any, found: Compared, alone: Any, total: int, what: str) -> None:
    out.print(rich_text.Text(f"only {what}: {total:,} rows", style=render.HEAD))
    rows = [[f"{one.row:,}", *(render.visible(value, 18) for value in (one.key or one.values[:6]))] for one in alone]
    names = list(found.key) if found.key else [one.column for one in found.columns][: len(rows[0]) - 1]
    render.print_table(out, ["row", *names], rows)
    if total > len(alone):
        out.print(rich_text.Text(f"and {total - len(alone):,} more", style=render.DIM))
