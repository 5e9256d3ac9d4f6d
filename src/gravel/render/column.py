"""`gravel profile --column`: one column in depth."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.render import finding as render_finding
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.profiling.result import ColumnProfile, Profile

_WIDTH, _BAR, _MOST = 100, 28, 12


def show_column(profile: Profile, table: Any, name: str, color: bool) -> None:
    """A column's figures, values, shapes, spellings, histogram and findings."""
    item = next(column for column in profile.columns if column.name == name)
    out = screen.console(color=color, most=_WIDTH)
    out.print(rich_text.Text(render_finding.heading(profile), style=screen.DIM))
    out.print(rich_text.Text(f"{name}: {item.type.kind.value}", style=screen.HEAD))
    out.print()
    screen.print_table(
        out,
        ["", "", ""],
        [
            [rich_text.Text(label, style=screen.DIM), value, rich_text.Text(note, style=screen.DIM)]
            for label, value, note in _figures(item, profile.rows)
        ],
        right=(1,),
    )
    own = [
        (number, finding)
        for number, finding in enumerate(profile.findings, 1)
        if finding.column == name
    ]
    if own:
        _title(out, "findings")
        for number, finding in own:
            render_finding.print_finding(out, number, finding, profile, table)
    _values(out, "most frequent values", item.top, profile.rows)
    if item.shapes and item.distinct_shapes > 1:
        _title(out, f"shapes{_of(len(item.shapes[:_MOST]), item.distinct_shapes)}")
        rows = [
            [
                screen.visible(shape.shape, 30),
                f"{shape.rows:,}",
                _share(shape.rows, profile.rows),
                screen.visible(shape.example, 36),
            ]
            for shape in item.shapes[:_MOST]
        ]
        screen.print_table(out, ["shape", "rows", "", "first example"], rows, right=(1, 2))
    if item.fits:
        _fits(out, item, profile.rows)
    if item.variants:
        groups = max(item.variant_groups, len(item.variants))
        of = _of(len(item.variants[:_MOST]), groups)
        _title(out, f"one value in several spellings{of}")
        for spelling in item.variants[:_MOST]:
            line = rich_text.Text()
            for index, value in enumerate(spelling.values[:6]):
                line.append("   " if index else "")
                line.append_text(screen.visible(value.value, 30)).append(
                    f" {value.rows:,}", style=screen.DIM
                )
            out.print(line)
    _spread(out, item, profile.rows)


def _of(shown: int, all_there_are: int) -> str:
    return "" if shown == all_there_are else f", {shown} of {all_there_are:,}"


def _title(out: Any, text: str) -> None:
    out.print()
    out.print(rich_text.Text(text, style=screen.HEAD))


def _share(part: int, whole: int) -> Any:
    return rich_text.Text(screen.percent(part, whole), style=screen.DIM)


def _figures(column_profile: ColumnProfile, rows: int) -> list[tuple[str, str, str]]:
    """(label, figure, note) of what is not zero; rows and distinct values always."""
    lines = [
        ("rows", f"{rows:,}", ""),
        ("distinct values", f"{column_profile.distinct:,}", ""),
        ("NULL", f"{column_profile.nulls:,}", screen.percent(column_profile.nulls, rows)),
    ]
    spaces, case, damage = column_profile.spaces, column_profile.case, column_profile.damage
    counts = [
        ("empty text", column_profile.empty),
        ("only white space", column_profile.blank),
        ("white space at an end", column_profile.padded),
        ("begin with a space", spaces.leading),
        ("end with a space", spaces.trailing),
        ("several spaces inside", spaces.runs),
        ("other white space", spaces.odd),
        ("control characters", spaces.control),
    ]
    if case.upper + case.lower + case.capitalised + case.mixed:
        counts += [
            ("capitals only", case.upper),
            ("small letters only", case.lower),
            ("each word capitalised", case.capitalised),
            ("mixed case", case.mixed),
        ]
    counts += [
        ("mojibake", damage.misdecoded),
        ("U+FFFD", damage.replacement),
        ("formulas", damage.formula),
        ("would lose a zero or plus in a cast", column_profile.loses_in_cast),
    ]
    lines += [
        (label, f"{count:,}", screen.percent(count, rows)) for label, count in counts if count
    ]
    length = column_profile.length
    if length.min is not None and length.max is not None and length.mean is not None:
        lines.append(("length", f"{length.min:,} to {length.max:,}", f"mean {length.mean:,.1f}"))
    lists = column_profile.list
    if lists is not None:
        sign = {"\n": "line break", "\t": "tab"}.get(lists.delimiter, lists.delimiter)
        kinds = (
            (lists.empty, "with an empty piece"),
            (lists.padded, "with spaces around one"),
            (lists.repeated, "with one twice"),
        )
        pieces = lists.pieces
        parts = [f"{pieces.min} to {pieces.max} pieces, mean {pieces.mean:.1f}"]
        parts += [f"{count:,} {text}" for count, text in kinds if count]
        lines.append((f"lists with {sign}", f"{lists.rows:,}", "; ".join(parts)))
    lines += [
        (
            f"form {form.format}",
            f"{form.rows:,}",
            f"{form.fail:,} fail it" if form.fail else "all of them",
        )
        for form in column_profile.formats
    ]
    return lines


def _values(out: Any, title: str, values: tuple[tuple[str, int], ...], rows: int) -> None:
    if not values:
        return
    _title(out, title)
    if values[0][1] == 1:
        out.print(rich_text.Text("every value once", style=screen.DIM))
        return
    table = []
    for value, count in values[:_MOST]:
        table.append(
            [
                screen.visible(value, 40),
                f"{count:,}",
                _share(count, rows),
                rich_text.Text(_bar(count, rows), style=screen.MARK),
            ]
        )
    screen.print_table(out, ["", "", "", ""], table, right=(1, 2))


def _bar(part: int, whole: int) -> str:
    """A bar in proportion, in eighths of a character; the least is a hairline."""
    eighths = max(1 if part else 0, round(8 * _BAR * part / whole)) if whole else 0
    return "█" * (eighths // 8) + " ▏▎▍▌▋▊▉"[eighths % 8].strip()


def _fits(out: Any, column_profile: ColumnProfile, rows: int) -> None:
    known = rows - column_profile.nulls
    subset = [fit for fit in column_profile.fits if fit.rows]
    if not subset:
        return
    _title(out, "types that values fit")
    table: list[list[Any]] = []
    for fit in sorted(subset, key=lambda fit: -fit.rows):
        mismatches = rich_text.Text()
        for index, value in enumerate(fit.mismatches[:4] if fit.rows < known else ()):
            mismatches.append("  " if index else "").append_text(
                screen.visible(value.value, 16)
            ).append(f" {value.rows:,}", style=screen.DIM)
        table.append([fit.type, f"{fit.rows:,}", _share(fit.rows, known), mismatches])
    screen.print_table(out, ["type", "rows", "of known", "type mismatches"], table, right=(1, 2))
    for orders in column_profile.both_orders:
        out.print(
            rich_text.Text(
                f"{orders.rows:,} dates fit {orders.day_first} and {orders.month_first}",
                style=screen.WARN,
            )
        )


def _spread(out: Any, column_profile: ColumnProfile, rows: int) -> None:
    result = column_profile.numbers
    if result is not None and result.fit > 1:
        _title(out, f"numbers ({number_of(result.fit, 'value')})")
        facts = [
            ("mean", result.mean),
            ("standard deviation", result.stddev),
            ("lower quartile", result.q1),
            ("median", result.median),
            ("upper quartile", result.q3),
        ]
        out.print(
            rich_text.Text(
                ", ".join(f"{label} {value:,.6g}" for label, value in facts if value is not None)
            )
        )
        counts = [
            ("zero", result.zero),
            ("negative", result.negative),
            ("outside 1.5 quartile ranges", result.outside),
            ("outliers, 3 quartile ranges", result.far_out),
        ]
        out.print(rich_text.Text(", ".join(f"{label} {count:,}" for label, count in counts)))
        # Few numbers among many rows have short bars.
        most = max(*(bar.rows for bar in result.histogram), rows // len(result.histogram))
        table = [
            [
                f"{bar.low:,.10g}",
                f"to {bar.high:,.10g}",
                f"{bar.rows:,}",
                rich_text.Text(_bar(bar.rows, most), style=screen.MARK),
            ]
            for bar in result.histogram
        ]
        screen.print_table(out, ["", "", "", ""], table, right=(0, 2))
    dates = column_profile.dates
    if dates is not None:
        _title(out, f"days ({number_of(dates.fit, 'value')})")
        out.print(
            rich_text.Text(
                f"{dates.min} to {dates.max}; after today {dates.future:,}; on a 1 January"
                f" {dates.january_first:,}"
            )
        )
        for gap in dates.gaps:
            out.print(
                rich_text.Text(
                    f"nothing for {gap.days:,} days from {gap.after} to {gap.before}",
                    style=screen.WARN,
                )
            )
        most = max(*(item.rows for item in dates.years), rows // max(1, len(dates.years)))
        years = dates.years if len(dates.years) <= 24 else ()
        screen.print_table(
            out,
            ["", "", ""],
            [
                [
                    str(item.year),
                    f"{item.rows:,}",
                    rich_text.Text(_bar(item.rows, most), style=screen.MARK),
                ]
                for item in years
            ],
            right=(1,),
        )
