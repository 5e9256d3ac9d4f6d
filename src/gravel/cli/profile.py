"""`gravel profile`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gravel.cli.options import (
    Delimiter,
    Empty,
    EmptyOption,
    Encoding,
    Format,
    FormatOption,
    NoColor,
    TableArgument,
    Texts,
    open_reference,
    progress,
)

_WIDE = 60  # columns whose most frequent values are shown; --format json has them all

if TYPE_CHECKING:
    from gravel.profiling.profile import ColumnProfile, Profile


def profile(
    table: TableArgument,
    format: FormatOption = Format.table,
    delimiter: Delimiter = None,
    encoding: Encoding = None,
    empty: EmptyOption = Empty.text,
    text: Texts = None,
    no_color: NoColor = False,
) -> None:
    """What is in each column: type, nulls, blanks, hidden spaces, distinct values, the most frequent.

    [bold]gravel profile boats.csv[/]
    """
    from gravel.profiling.profile import profile as profile_of

    source = open_reference(table, delimiter, encoding, empty, text)
    with progress(source):
        found = profile_of(source)
    from gravel.cli import render

    if format is Format.json:
        render.print_json("profile", _json(found))
    elif format is Format.table:
        _show(found, not no_color)
    else:
        headings = ["column", "type", "nulls", "empty", "blank", "padded", "distinct", "min", "max", "shortest", "longest"]
        rows = [
            [
                one.name,
                one.type.kind.value,
                one.nulls,
                one.empty,
                one.blank,
                one.padded,
                one.distinct,
                one.min,
                one.max,
                one.length.min,
                one.length.max,
            ]
            for one in found.columns
        ]
        columns = [[None if row[at] is None else str(row[at]) for row in rows] for at in range(len(headings))]
        render.print_rows(format.value, headings, columns)
    render.malformed_notes(found.table, found.malformed, not no_color)
    for line in found.notes:
        render.note(f"{found.table}: {line}", not no_color)


def _json(found: Profile) -> dict[str, Any]:
    return {
        "table": found.table,
        "rows": found.rows,
        "malformed": len(found.malformed),
        "columns": [_column_json(one) for one in found.columns],
    }


def _column_json(one: ColumnProfile) -> dict[str, Any]:
    from gravel.inspecting.cells import json_value

    kind = one.type.kind
    return {
        "name": one.name, "type": kind.value, "nulls": one.nulls, "empty": one.empty, "blank": one.blank, "padded": one.padded,
        "distinct": one.distinct, "min": json_value(one.min, kind), "max": json_value(one.max, kind),
        "length": {"min": one.length.min, "max": one.length.max, "mean": one.length.mean},
        "top": [{"value": json_value(value, kind), "rows": rows} for value, rows in one.top],
    }  # fmt: skip


def _show(found: Profile, color: bool) -> None:
    from rich.text import Text

    from gravel.cli import render

    out = render.console(color=color)
    out.print(Text(f"{found.table}: {found.rows:,} rows, {len(found.columns):,} columns", style=render.HEAD))
    out.print()

    def count(value: int, alarming: bool = False) -> Text:
        return Text(f"{value:,}" if value else "–", style=("yellow" if alarming else "") if value else render.DIM)

    rows: list[list[Any]] = []
    for one in found.columns:
        lengths = (
            ""
            if one.length.min is None
            else f"{one.length.min}–{one.length.max:,}"
            if one.length.min != one.length.max
            else f"{one.length.min}"
        )
        same = one.distinct + one.nulls == found.rows and one.distinct > 0
        rows.append([
            render.visible(one.name, 24), Text(one.type.kind.value.removesuffix(" PRECISION"), style=render.DIM), count(one.nulls),
            Text(render.percent(one.nulls, found.rows) if one.nulls else "", style=render.DIM), count(one.empty, True),
            count(one.blank, True), count(one.padded, True), Text(f"{one.distinct:,}", style=render.GOOD if same else ""),
            _edge(one.min), _edge(one.max), Text(lengths),
        ])  # fmt: skip
    headings = ["column", "type", "nulls", "", "empty", "blank", "padded", "distinct", "least", "greatest", "length"]
    render.print_table(out, headings, rows, right=(2, 3, 4, 5, 6, 7, 10))
    out.print()
    wide = len(found.columns) > _WIDE
    out.print(Text(f"most frequent values{f' of the first {_WIDE} columns' if wide else ''}", style=render.HEAD))
    _frequent(out, found)
    worst = max(found.columns, key=lambda one: one.padded + one.blank + one.empty, default=None)
    if worst is not None and worst.padded + worst.blank + worst.empty:
        name = quoted(worst.name)
        condition = " OR ".join(
            part
            for part, has in ((f"IS_BLANK({name})", worst.blank + worst.empty), (f"{name} <> TIDY_SPACES({name})", worst.padded))
            if has
        )
        out.print(Text(f"next: gravel look {render.shell_word(found.table)} --where {render.shell_word(condition)}", style=render.MARK))


def _edge(value: str | None) -> Any:
    from gravel.cli import render

    return render.visible(value, 14) if value is None or len(value) <= 14 else render.visible(value[:13], 14).append("…", style=render.DIM)


def _frequent(out: Any, found: Profile) -> None:
    from rich.text import Text

    from gravel.cli import render

    rows: list[list[Any]] = []
    for one in found.columns[:_WIDE]:
        known = found.rows - one.nulls
        if known and one.distinct == known:
            rows.append([Text(one.name, style="bold"), Text("every value once", style=render.DIM), "", "", ""])
            continue
        for at, (value, count) in enumerate(one.top):
            bar = "█" * max(1, round(20 * count / one.top[0][1])) if one.top[0][1] else ""
            rows.append(
                [
                    Text(one.name if not at else "", style="bold"),
                    render.visible(value, 36),
                    f"{count:,}",
                    Text(render.percent(count, found.rows), style=render.DIM),
                    Text(bar, style=render.MARK),
                ]
            )
    render.print_table(out, ["", "", "", "", ""], rows, right=(2, 3))
    out.print()


def quoted(name: str) -> str:
    """A column's name as an expression writes it."""
    import re

    return name if re.fullmatch(r"[a-z_][a-z0-9_]*", name) else '"' + name.replace('"', '""') + '"'
