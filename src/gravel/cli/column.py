"""`gravel profile --column`: one column in depth."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gravel.cli.lazily import lazily

with lazily():
    from rich import text as rich_text

    from gravel.cli import finding as cli_finding
    from gravel.cli import render

if TYPE_CHECKING:
    from gravel.profiling.result import ColumnProfile, Profile

_WIDTH, _BAR, _MOST = 100, 28, 12


def show_column(found: Profile, table: Any, name: str, color: bool) -> None:
    """A column's figures, values, shapes, spellings, histogram and findings."""
    one = next(column for column in found.columns if column.name == name)
    out = render.console(color=color, most=_WIDTH)
    out.print(rich_text.Text(cli_finding.heading(found), style=render.DIM))
    out.print(rich_text.Text(f"{name}: {one.type.kind.value}", style=render.HEAD))
    out.print()
    render.print_table(
        out,
        ["", "", ""],
        [
            [rich_text.Text(label, style=render.DIM), value, rich_text.Text(note, style=render.DIM)]
            for label, value, note in _figures(one, found.rows)
        ],
        right=(1,),
    )
    own = [(number, finding) for number, finding in enumerate(found.findings, 1) if finding.column == name]
    if own:
        _title(out, "findings")
        for number, finding in own:
            cli_finding.print_finding(out, number, finding, found, table)
    _values(out, "most frequent values", one.top, found.rows)
    if one.shapes and one.distinct_shapes > 1:
        _title(out, f"shapes{_of(len(one.shapes[:_MOST]), one.distinct_shapes)}")
        rows = [
            [render.visible(shape.shape, 30), f"{shape.rows:,}", _share(shape.rows, found.rows), render.visible(shape.example, 36)]
            for shape in one.shapes[:_MOST]
        ]
        render.print_table(out, ["shape", "rows", "", "first example"], rows, right=(1, 2))
    if one.fits:
        _fits(out, one, found.rows)
    if one.spellings:
        _title(out, f"one value in several spellings{_of(len(one.spellings[:_MOST]), max(one.spelling_groups, len(one.spellings)))}")
        for spelling in one.spellings[:_MOST]:
            line = rich_text.Text()
            for at, value in enumerate(spelling.values[:6]):
                line.append("   " if at else "")
                line.append_text(render.visible(value.value, 30)).append(f" {value.rows:,}", style=render.DIM)
            out.print(line)
    _spread(out, one, found.rows)


def _of(shown: int, all_there_are: int) -> str:
    return "" if shown == all_there_are else f", {shown} of {all_there_are:,}"


def _title(out: Any, text: str) -> None:
    out.print()
    out.print(rich_text.Text(text, style=render.HEAD))


def _share(part: int, whole: int) -> Any:
    return rich_text.Text(render.percent(part, whole), style=render.DIM)


def _figures(one: ColumnProfile, rows: int) -> list[tuple[str, str, str]]:
    """(label, figure, note) of what is not zero; rows and distinct values always."""
    lines = [
        ("rows", f"{rows:,}", ""),
        ("distinct values", f"{one.distinct:,}", ""),
        ("NULL", f"{one.nulls:,}", render.percent(one.nulls, rows)),
    ]
    spaces, case, damage = one.spaces, one.case, one.damage
    counts = [
        ("empty text", one.empty), ("only white space", one.blank), ("white space at an end", one.padded), ("begin with a space", spaces.leading),
        ("end with a space", spaces.trailing), ("several spaces inside", spaces.runs), ("other white space", spaces.odd),
        ("control characters", spaces.control),
    ]  # fmt: skip
    if case.upper + case.lower + case.capitalised + case.mixed:
        counts += [
            ("capitals only", case.upper),
            ("small letters only", case.lower),
            ("each word capitalised", case.capitalised),
            ("mixed case", case.mixed),
        ]
    counts += [
        ("wrongly decoded", damage.misdecoded),
        ("U+FFFD", damage.replacement),
        ("formulas", damage.formula),
        ("would lose a zero or plus in a cast", one.loses),
    ]
    lines += [(label, f"{count:,}", render.percent(count, rows)) for label, count in counts if count]
    length = one.length
    if length.min is not None and length.max is not None and length.mean is not None:
        lines.append(("length", f"{length.min:,} to {length.max:,}", f"mean {length.mean:,.1f}"))
    if one.list is not None:
        sign = {"\n": "line break", "\t": "tab"}.get(one.list.delimiter, one.list.delimiter)
        kinds = (
            (one.list.empty, "with an empty piece"),
            (one.list.padded, "with spaces around one"),
            (one.list.repeated, "with one twice"),
        )
        flaws = [f"{count:,} {text}" for count, text in kinds if count]
        lines.append(
            (
                f"lists with {sign}",
                f"{one.list.rows:,}",
                "; ".join([f"{one.list.least} to {one.list.most} pieces, mean {one.list.mean:.1f}", *flaws]),
            )
        )
    lines += [(f"form {form.form}", f"{form.rows:,}", f"{form.fail:,} fail it" if form.fail else "all of them") for form in one.forms]
    return lines


def _values(out: Any, title: str, values: tuple[tuple[str, int], ...], rows: int) -> None:
    if not values:
        return
    _title(out, title)
    if values[0][1] == 1:
        out.print(rich_text.Text("every value once", style=render.DIM))
        return
    table = []
    for value, count in values[:_MOST]:
        table.append([render.visible(value, 40), f"{count:,}", _share(count, rows), rich_text.Text(_bar(count, rows), style=render.MARK)])
    render.print_table(out, ["", "", "", ""], table, right=(1, 2))


def _bar(part: int, whole: int) -> str:
    """A bar in proportion, in eighths of a character; the least is a hairline."""
    eighths = max(1 if part else 0, round(8 * _BAR * part / whole)) if whole else 0
    return "█" * (eighths // 8) + " ▏▎▍▌▋▊▉"[eighths % 8].strip()


def _fits(out: Any, one: ColumnProfile, rows: int) -> None:
    known = rows - one.nulls
    some = [fit for fit in one.fits if fit.rows]
    if not some:
        return
    _title(out, "types that values fit")
    table: list[list[Any]] = []
    for fit in sorted(some, key=lambda fit: -fit.rows):
        misfits = rich_text.Text()
        for at, value in enumerate(fit.misfits[:4] if fit.rows < known else ()):
            misfits.append("  " if at else "").append_text(render.visible(value.value, 16)).append(f" {value.rows:,}", style=render.DIM)
        table.append([fit.type, f"{fit.rows:,}", _share(fit.rows, known), misfits])
    render.print_table(out, ["type", "rows", "of known", "misfits"], table, right=(1, 2))
    for orders in one.both_orders:
        out.print(rich_text.Text(f"{orders.rows:,} dates fit {orders.day_first} and {orders.month_first}", style=render.WARN))


def _spread(out: Any, one: ColumnProfile, rows: int) -> None:
    found = one.numbers
    if found is not None and found.fit > 1:
        _title(out, f"numbers ({found.fit:,} values)")
        facts = [
            ("mean", found.mean),
            ("standard deviation", found.stddev),
            ("lower quartile", found.q1),
            ("median", found.median),
            ("upper quartile", found.q3),
        ]
        out.print(rich_text.Text(", ".join(f"{label} {value:,.6g}" for label, value in facts if value is not None)))
        counts = [
            ("zero", found.zero),
            ("negative", found.negative),
            ("outside 1.5 quartile ranges", found.outside),
            ("far out, 3 quartile ranges", found.far_out),
        ]
        out.print(rich_text.Text(", ".join(f"{label} {count:,}" for label, count in counts)))
        # Few numbers among many rows have short bars.
        most = max(*(bar.rows for bar in found.histogram), rows // len(found.histogram))
        table = [
            [f"{bar.low:,.10g}", f"to {bar.high:,.10g}", f"{bar.rows:,}", rich_text.Text(_bar(bar.rows, most), style=render.MARK)]
            for bar in found.histogram
        ]
        render.print_table(out, ["", "", "", ""], table, right=(0, 2))
    dates = one.dates
    if dates is not None:
        _title(out, f"days ({dates.fit:,} values)")
        out.print(rich_text.Text(f"{dates.min} to {dates.max}; after today {dates.future:,}; on a 1 January {dates.january_first:,}"))
        for gap in dates.gaps:
            out.print(rich_text.Text(f"nothing for {gap.days:,} days from {gap.after} to {gap.before}", style=render.WARN))
        most = max(*(count for _, count in dates.years), rows // max(1, len(dates.years)))
        years = dates.years if len(dates.years) <= 24 else ()
        render.print_table(
            out,
            ["", "", ""],
            [[str(year), f"{count:,}", rich_text.Text(_bar(count, most), style=render.MARK)] for year, count in years],
            right=(1,),
        )
