"""`gravel profile`."""

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
    Replace,
    TableArgument,
    Today,
    given_by,
    memory_of,
    progress,
    with_reading,
)
from gravel.problems import CallProblem, nearest
from gravel.sources.read_options import ReadOptions

with lazily():
    from rich import text as rich_text

    from gravel.cli import column as cli_column
    from gravel.cli import finding, look, render
    from gravel.inspecting import commands
    from gravel.plans import edit
    from gravel.profiling import figures, kept
    from gravel.profiling import profile as profiling_profile
    from gravel.profiling import suggest as profiling_suggest
    from gravel.reports import page
    from gravel.reports import profile as reports_profile
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.profiling.result import ColumnProfile, Finding, Profile

_WIDE = 60  # columns whose figures are shown; --format json has them all
_WIDTH = 100
_SPARE = 80  # characters beyond it that the columns' texts share
_ALL_FIGURES = 96  # signs of a line that has all figures of a column; a narrower one leaves out two


@with_reading
def profile(
    table: TableArgument,
    column: Annotated[
        str | None, typer.Option("--column", metavar="COLUMN", help="One column in depth.")
    ] = None,
    findings: Annotated[
        str | None,
        typer.Option(
            "--findings",
            metavar="N|all",
            help="The first N findings in full, instead of a line for each kind.",
        ),
    ] = None,
    suggest: Annotated[
        Path | None,
        typer.Option(
            "--suggest",
            metavar="PLAN",
            help="Write a plan with the safe fixes, the evidence beside each.",
        ),
    ] = None,
    choose: Annotated[
        str | None,
        typer.Option(
            "--choose",
            metavar="N, …|all",
            help="For --suggest: the findings to fix, by number, instead of the safe ones.",
        ),
    ] = None,
    report: Annotated[
        Path | None,
        typer.Option("--report", metavar="FILE.html", help="Write a page to hand over."),
    ] = None,
    sample: Annotated[
        int | None,
        typer.Option(
            "--sample",
            metavar="N",
            min=1,
            help="Look at N rows only, chosen evenly; every figure is the sample's.",
        ),
    ] = None,
    memory: Memory = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Profile every column: what is in it, what is wrong with it, how to see it and how to fix it.

    gravel profile boats.csv --column status

    gravel profile boats.csv --suggest plan.toml
    """
    supplied = given_by(None, today)
    limit = None if findings is None else look.row_limit(findings, "--findings")
    if choose is not None and suggest is None:
        raise CallProblem("--choose says what --suggest writes", hint="add --suggest PLAN")
    if sample is not None and suggest is not None:
        raise CallProblem(
            "a plan is suggested from all rows, not from a sample", hint="leave out --sample"
        )
    source = opening.open_table(table, reading)
    name = None if column is None else _column_name(column, source.columns)
    if suggest is not None and suggest.exists():
        raise CallProblem(
            f"{suggest} exists already",
            hint="name another file; gravel try --add adds a step to a plan",
        )
    if report is not None and source.reads(report):
        raise CallProblem(
            "the page would be written over the table itself", hint="name another file"
        )
    if report is not None:
        page.may_write(report, replace)
    with progress(source, 2):
        result = profiling_profile.profile(
            source,
            today=supplied.today,
            memory=memory_of(memory) or profiling_profile.MEMORY,
            sample=sample,
        )
    kept.keep(source, result, supplied.today)
    written = None if suggest is None else _suggest(suggest, source, result, choose)
    if report is not None:
        reports_profile.write_page(report, result, source, supplied.today)
    if format is Format.json:
        render.print_json("profile", figures.figures(result, source, name))
    elif format is not Format.table:
        _rows(result, format)
    elif name is not None:
        cli_column.show_column(result, source, name, not no_color)
    else:
        _show(result, source, findings is not None, limit, not no_color)
    render.malformed_notes(result.table, result.malformed, not no_color)
    if report is not None:
        render.note(f"{report} written", not no_color)
    if written is not None and suggest is not None:
        steps = "1 step" if written == 1 else f"{written} steps"
        render.note(
            f"{suggest} written with {steps}; next:"
            f" {commands.command(['gravel', 'clean', str(suggest), '--dry-run'])}",
            not no_color,
        )
    for line in result.notes:
        render.note(f"{result.table}: {line}", not no_color)


def _column_name(name: str, columns: tuple[str, ...]) -> str:
    folded = [known for known in columns if known.casefold() == name.casefold()]
    if name in columns or len(folded) == 1:
        return name if name in columns else folded[0]
    near = nearest(name, list(columns))
    raise CallProblem(
        f"there is no column {name!r}",
        hint=f"did you mean {near}?" if near else f"there are {', '.join(columns[:12])}",
    )


def _suggest(path: Path, table: Any, profile: Profile, choose: str | None) -> int:
    """Write the plan; the number of its steps."""
    fixable = [
        (number, finding) for number, finding in enumerate(profile.findings, 1) if finding.fix
    ]
    if choose is None:
        chosen = [item for _, item in fixable if item.safe]
        if not chosen:
            raise CallProblem(
                "no finding has a fix that is safe without a look",
                hint="choose some with --choose: their numbers stand in the profile",
            )
    elif choose.strip() == "all":
        chosen = [item for _, item in fixable]
    else:
        numbers = [part.strip() for part in choose.split(",")]
        by_number = {str(number): item for number, item in fixable}
        for part in numbers:
            if part not in by_number:
                what = (
                    "has no fix"
                    if part.isdigit() and 0 < int(part) <= len(profile.findings)
                    else "is not a number of a finding"
                )
                raise CallProblem(
                    f"{part!r} {what}",
                    hint=f"those with a fix are {', '.join(by_number) or 'none'}",
                )
        chosen = [by_number[part] for part in dict.fromkeys(numbers)]
    steps = [
        edit.SuggestedFix(item.fix, _evidence(item, profile))
        for item in profiling_suggest.in_order(chosen)
    ]
    key = next((list(subset) for subset in profile.facts.keys), [])
    edit.begin_plan(
        path, table, steps, key, {column.name: column.type for column in profile.columns}
    )
    return len(steps)


def _evidence(finding: Finding, profile: Profile) -> str:
    return (
        f"{finding.column or 'table'}: {finding.rows:,} of {profile.rows:,} rows: {finding.detail}"
    )


def _rows(profile: Profile, format: Format) -> None:
    headings = [
        "column",
        "type",
        "nulls",
        "empty",
        "blank",
        "padded",
        "distinct",
        "min",
        "max",
        "shortest",
        "longest",
    ]
    rows: list[list[Any]] = [
        [
            column.name,
            column.type.kind.value,
            column.nulls,
            column.empty,
            column.blank,
            column.padded,
            column.distinct,
            column.min,
            column.max,
            column.length.min,
            column.length.max,
        ]
        for column in profile.columns
    ]
    columns = [
        [None if row[index] is None else str(row[index]) for row in rows]
        for index in range(len(headings))
    ]
    render.print_rows(format.value, headings, columns)


def _show(profile: Profile, table: Any, full: bool, limit: int | None, color: bool) -> None:
    """Columns first and findings last, so that the verdict is what is left on the screen."""
    out = render.console(color=color, most=_WIDTH)
    out.print(rich_text.Text(finding.heading(profile), style=render.HEAD))
    for line in _facts(profile):
        out.print(rich_text.Text(line, style=render.DIM))
    out.print()
    _columns(render.console(color=color), profile)
    out.print()
    if not profile.findings:
        out.print(rich_text.Text("no findings", style=render.GOOD))
        return
    shown = profile.findings[:limit]
    if full:
        for number, item in enumerate(shown, 1):
            finding.print_finding(out, number, item, profile, table)
        if len(shown) < len(profile.findings):
            out.print(
                rich_text.Text(
                    f"and {len(profile.findings) - len(shown):,} more: --findings all",
                    style=render.DIM,
                )
            )
    else:
        _kinds(out, profile)
    _verdict(out, profile, table, full)


_KINDS = 10  # lines of the overview
_LEVELS = (("wrong", "wrong"), ("suspect", "suspect"), ("note", "to note"))


def _kinds(out: Any, profile: Profile) -> None:
    """A line for each kind of finding, the costliest first: how many values it is about, and in
    which columns, by number."""
    grouped: dict[tuple[str, str], list[tuple[int, Finding]]] = {}
    for number, entry in enumerate(profile.findings, 1):
        grouped.setdefault((entry.level, entry.finding), []).append((number, entry))
    rows: list[list[Any]] = []
    for (level, kind), subset in list(grouped.items())[:_KINDS]:
        where = rich_text.Text()
        for index, (number, entry) in enumerate(subset):
            where.append(", " if index else "").append(f"{number} ", style=render.MARK).append(
                render.safe(entry.column or "table"), style="bold"
            )
            if len(subset) > 1:
                where.append(f" {entry.rows:,}")
        rows.append(
            [
                rich_text.Text(f"{sum(item.rows for _, item in subset):,}"),
                rich_text.Text(level, style=finding.LEVEL_STYLES[level]),
                rich_text.Text(kind),
                where,
            ]
        )
    render.print_table(out, ["values", "", "finding", "number and column"], rows, right=(0,), gap=2)
    if len(grouped) > _KINDS:
        out.print(
            rich_text.Text(
                f"and {len(grouped) - _KINDS:,} more kinds: --findings all", style=render.DIM
            )
        )


def _verdict(out: Any, profile: Profile, table: Any, full: bool) -> None:
    counts = [
        (sum(item.level == level for item in profile.findings), level, word)
        for level, word in _LEVELS
    ]
    line = rich_text.Text().append(
        "1 finding: " if len(profile.findings) == 1 else f"{len(profile.findings):,} findings: ",
        style=render.HEAD,
    )
    for index, (count, level, word) in enumerate(item for item in counts if item[0]):
        line.append(", " if index else "").append(
            f"{count:,} {word}", style=finding.LEVEL_STYLES[level]
        )
    out.print()
    out.print(line)
    name, *options = commands.table_words(table)
    worst = profile.findings[0].column
    nexts = (
        []
        if profile.sample is not None or not profile.findings[0].where
        else [commands.finding_command("look", table, 1)]
    )
    nexts += (
        [] if full else [commands.command(["gravel", "profile", name, "--findings", "5", *options])]
    )
    nexts += (
        [commands.command(["gravel", "profile", name, "--column", worst, *options])]
        if worst
        else []
    )
    if nexts:
        out.print(
            rich_text.Text("next: " + "   or ".join(nexts[:2]), style=render.MARK), soft_wrap=True
        )


def _facts(profile: Profile) -> list[str]:
    """The table as a whole, in a few lines."""
    facts = profile.facts
    lines = []
    single = [key for key in facts.keys if len(key) == 1]
    keys = [" + ".join(key) for key in (single or facts.keys)[:6]]
    lines.append(
        f"key: {', or '.join(keys)}{' …' if len(single or facts.keys) > 6 else ''}"
        if keys
        else "key: no column, nor any pair of columns that was looked at"
    )
    lines[-1] += (
        "; no duplicate rows"
        if not facts.repeated
        else f"; {facts.repeated:,} rows equal to an earlier one"
    )
    exact = [f"{item.by} → {item.column}" for item in facts.determined if not item.rows]
    if exact:
        lines.append(
            f"functional dependency: {', '.join(exact[:6])}{' …' if len(exact) > 6 else ''}"
        )
    return lines


def _columns(out: Any, profile: Profile) -> None:
    def count(value: int, alarming: bool = False) -> rich_text.Text:
        return rich_text.Text(
            f"{value:,}" if value else "–",
            style=(render.WARN if alarming else "") if value else render.DIM,
        )

    spare = (
        min(_SPARE, max(0, out.width - _WIDTH)) // 4
    )  # more for each text where the terminal is wider
    rows: list[list[Any]] = []
    for column in profile.columns[:_WIDE]:
        lengths = ""
        if column.length.min is not None:
            lengths = (
                f"{column.length.min}–{column.length.max:,}"
                if column.length.min != column.length.max
                else f"{column.length.min}"
            )
        same = column.distinct + column.nulls == profile.rows and column.distinct > 0
        rows.append(
            [
                render.visible(column.name, 18 + spare),
                rich_text.Text(column.type.kind.value.removesuffix(" PRECISION"), style=render.DIM),
                count(column.nulls),
                rich_text.Text(
                    render.percent(column.nulls, profile.rows) if column.nulls else "",
                    style=render.DIM,
                ),
                count(column.empty + column.blank, True),
                count(column.padded, True),
                rich_text.Text(f"{column.distinct:,}", style=render.GOOD if same else ""),
                _edge(column.min, 10 + spare),
                _edge(column.max, 10 + spare),
                rich_text.Text(lengths),
                _commonest(column, 12 + spare),
            ]
        )
    headings = [
        "column",
        "type",
        "nulls",
        "",
        "blank",
        "padded",
        "distinct",
        "min",
        "max",
        "length",
        "most frequent",
    ]
    shown = len(headings) if out.width >= _ALL_FIGURES else len(headings) - 2
    render.print_table(
        out, headings[:shown], [row[:shown] for row in rows], right=(2, 3, 4, 5, 6, 9), gap=1
    )
    if len(profile.columns) > _WIDE:
        out.print(
            rich_text.Text(
                f"the first {_WIDE} of {len(profile.columns):,} columns; --format json has all",
                style=render.DIM,
            )
        )


def _edge(value: str | None, limit: int) -> Any:
    if value is None or len(value) <= limit:
        return render.visible(value, limit)
    return render.visible(value[: limit - 1], limit).append("…", style=render.DIM)


def _commonest(column_profile: ColumnProfile, limit: int) -> Any:
    if not column_profile.top or column_profile.top[0][1] == 1:
        return rich_text.Text("all unique" if column_profile.top else "", style=render.DIM)
    return _edge(column_profile.top[0][0], limit).append(
        f" {column_profile.top[0][1]:,}", style=render.DIM
    )
