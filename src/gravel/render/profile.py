"""What `gravel profile` shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.inspecting import commands
from gravel.render import finding, screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.profiling.result import ColumnProfile, Finding, Profile

_WIDE = 60  # columns whose figures are shown; --format json has them all
_WIDTH = 100
_SPARE = 80  # characters beyond it that the columns' texts share
_ALL_FIGURES = 96  # signs of a line that has all figures of a column; a narrower one leaves out two
_KINDS, _OF_KIND = 10, 8  # lines of the overview, and columns of one
_LONG_NAME = 30  # characters of a column's name that stands in a line of its own
_LEVELS = (("wrong", "wrong"), ("suspect", "suspect"), ("note", "to note"))


def print_rows(profile: Profile, form: str) -> None:
    """Print the columns as rows in a form for programs."""
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
    screen.print_rows(form, headings, columns)


def show(profile: Profile, table: Any, full: bool, limit: int | None, color: bool) -> None:
    """Columns first and findings last, so that the verdict is what is left on the screen."""
    out = screen.console(color=color, most=_WIDTH)
    out.print(rich_text.Text(finding.heading(profile), style=screen.HEAD))
    for line in _facts(profile):
        out.print(rich_text.Text(line, style=screen.DIM))
    out.print()
    _columns(screen.console(color=color), profile)
    out.print()
    if not profile.findings:
        out.print(rich_text.Text("no findings", style=screen.GOOD))
        return
    shown = profile.findings[:limit]
    if full:
        for number, item in enumerate(shown, 1):
            finding.print_finding(out, number, item, profile, table)
        if len(shown) < len(profile.findings):
            out.print(
                rich_text.Text(
                    f"and {len(profile.findings) - len(shown):,} more: --findings all",
                    style=screen.DIM,
                )
            )
    else:
        _kinds(out, profile)
    _verdict(out, profile, table, full)


def _kinds(out: Any, profile: Profile) -> None:
    """A line for each kind of finding, the costliest first: how many values it is about, and in
    which columns, by number."""
    grouped: dict[tuple[str, str], list[tuple[int, Finding]]] = {}
    for number, entry in enumerate(profile.findings, 1):
        grouped.setdefault((entry.level, entry.finding), []).append((number, entry))
    rows: list[list[Any]] = []
    for (level, kind), subset in list(grouped.items())[:_KINDS]:
        where = rich_text.Text()
        long = any(len(entry.column or "") > _LONG_NAME for _, entry in subset[:_OF_KIND])
        for index, (number, entry) in enumerate(subset[:_OF_KIND]):
            where.append((",\n" if long else ", ") if index else "")
            where.append(f"{number} ", style=screen.MARK)
            where.append(screen.safe(entry.column or "table"), style="bold")
            if len(subset) > 1:
                where.append(f" {entry.rows:,}")
        if len(subset) > _OF_KIND:
            where.append(f" and {len(subset) - _OF_KIND:,} more", style=screen.DIM)
        rows.append(
            [
                rich_text.Text(f"{sum(item.rows for _, item in subset):,}"),
                rich_text.Text(level, style=finding.LEVEL_STYLES[level]),
                rich_text.Text(kind),
                where,
            ]
        )
    screen.print_table(out, ["values", "", "finding", "number and column"], rows, right=(0,), gap=2)
    if len(grouped) > _KINDS:
        out.print(
            rich_text.Text(
                f"and {number_of(len(grouped) - _KINDS, 'more kind')}: --findings all",
                style=screen.DIM,
            )
        )


def _verdict(out: Any, profile: Profile, table: Any, full: bool) -> None:
    counts = [
        (sum(item.level == level for item in profile.findings), level, word)
        for level, word in _LEVELS
    ]
    line = rich_text.Text().append(
        "1 finding: " if len(profile.findings) == 1 else f"{len(profile.findings):,} findings: ",
        style=screen.HEAD,
    )
    for index, (count, level, word) in enumerate(item for item in counts if item[0]):
        line.append(", " if index else "").append(
            f"{count:,} {word}", style=finding.LEVEL_STYLES[level]
        )
    out.print()
    out.print(line)
    name, *options = commands.table_words(table)
    options = [*commands.chosen_words(table), *options]
    worst = profile.findings[0].column
    nexts = (
        []
        if profile.sample is not None or profile.where is not None or not profile.findings[0].where
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
            rich_text.Text("next: " + "   or ".join(nexts[:2]), style=screen.MARK), soft_wrap=True
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
        if not facts.repeated_rows
        else f"; {number_of(facts.repeated_rows)} equal to an earlier one"
    )
    exact = [
        f"{item.by} → {item.column}" for item in facts.functional_dependencies if not item.rows
    ]
    if exact:
        lines.append(
            f"functional dependency: {', '.join(exact[:6])}{' …' if len(exact) > 6 else ''}"
        )
    if facts.rules:
        rules = [
            item.rule + (f" (not in {number_of(item.fails)})" if item.fails else "")
            for item in facts.rules
        ]
        lines.append(f"rules: {'; '.join(rules[:6])}{' …' if len(rules) > 6 else ''}")
    return lines


def _columns(out: Any, profile: Profile) -> None:
    def count(value: int, alarming: bool = False) -> rich_text.Text:
        return rich_text.Text(
            f"{value:,}" if value else "–",
            style=(screen.WARN if alarming else "") if value else screen.DIM,
        )

    spare = (
        min(_SPARE, max(0, out.width - _WIDTH)) // 4
    )  # more for each text where the terminal is wider
    rows: list[list[Any]] = []
    listed = profile.columns[:_WIDE]
    names = _told_apart([column.name for column in listed], 18 + spare)
    for column, name in zip(listed, names, strict=True):
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
                name,
                rich_text.Text(column.type.kind.value.removesuffix(" PRECISION"), style=screen.DIM),
                count(column.nulls),
                rich_text.Text(
                    screen.percent(column.nulls, profile.rows) if column.nulls else "",
                    style=screen.DIM,
                ),
                count(column.empty + column.blank, True),
                count(column.padded, True),
                rich_text.Text(f"{column.distinct:,}", style=screen.GOOD if same else ""),
                _edge(column.min, 10 + spare),
                _edge(column.max, 10 + spare),
                rich_text.Text(lengths),
                _most_frequent(column, 12 + spare),
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
    screen.print_table(
        out, headings[:shown], [row[:shown] for row in rows], right=(2, 3, 4, 5, 6, 9), gap=1
    )
    if len(profile.columns) > _WIDE:
        out.print(
            rich_text.Text(
                f"the first {_WIDE} of {number_of(len(profile.columns), 'column')};"
                f" --format json has all",
                style=screen.DIM,
            )
        )


def _told_apart(names: Sequence[str], limit: int) -> list[Any]:
    """Names of columns, long ones cut: at their ends, or, where those that are left are alike, in
    their middle; whole, where these are alike too."""
    ends = [(max(1, limit - 1), 0), (limit // 3, limit - 1 - limit // 3)]
    for head, tail in ends:
        cut = [
            name if len(name) <= limit else f"{name[:head]}…{name[len(name) - tail :]}"
            for name in names
        ]
        if len(set(cut)) == len(set(names)):
            return [screen.visible(name, limit) for name in cut]
    return [screen.visible(name, max(limit, len(name))) for name in names]


def _edge(value: str | None, limit: int) -> Any:
    if value is None or len(value) <= limit:
        return screen.visible(value, limit)
    return screen.visible(value[: limit - 1], limit).append("…", style=screen.DIM)


def _most_frequent(column_profile: ColumnProfile, limit: int) -> Any:
    if not column_profile.top or column_profile.top[0][1] == 1:
        return rich_text.Text("all unique" if column_profile.top else "", style=screen.DIM)
    return _edge(column_profile.top[0][0], limit).append(
        f" {column_profile.top[0][1]:,}", style=screen.DIM
    )
