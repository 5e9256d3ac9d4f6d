"""What `gravel duplicates` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel import results
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.duplicates.result import Duplicates, Group


def _compared(duplicates: Duplicates) -> str:
    """What is compared: the expressions, where they are few and not all columns."""
    few = duplicates.on != duplicates.columns and len(duplicates.expressions) < 6
    return ", ".join(duplicates.expressions) if few else "all columns"


def show(duplicates: Duplicates, color: bool) -> None:
    """Print the groups, the match levels and the step that would merge them."""
    out = screen.console(color=color)
    out.print(
        rich_text.Text(
            f"{number_of(duplicates.rows)}, {number_of(duplicates.groups, 'group')}",
            style=screen.HEAD,
        ).append(f" of rows equal in {_compared(duplicates)}", style=screen.DIM)
    )
    message = (
        f"{number_of(duplicates.rows_in_groups)} in groups, {duplicates.surplus:,} more than one a"
        f" group, the largest {duplicates.largest:,}"
    )
    out.print(
        rich_text.Text(
            f"  {message}" if duplicates.groups else "  no two rows are equal",
            style=screen.WARN if duplicates.groups else screen.GOOD,
        )
    )
    if duplicates.null_rows:
        how = (
            "where NULL is like NULL"
            if duplicates.null_equal
            else "in no group (--null-equal groups them)"
        )
        out.print(
            rich_text.Text(
                f"  {number_of(duplicates.null_rows)} with NULL, {how}", style=screen.DIM
            )
        )
    if duplicates.error_rows:
        out.print(
            rich_text.Text(
                f"  {number_of(duplicates.error_rows)} in which an expression fails, in no group",
                style=screen.BAD,
            )
        )
    for group in duplicates.shown:
        out.print()
        _group(out, duplicates, group)
    if duplicates.groups > len(duplicates.shown):
        screen.note(
            f"  {len(duplicates.shown):,} of {number_of(duplicates.groups, 'group')}"
            f" shown, the largest first"
            " (--rows all)",
            color,
        )
    out.print()
    _match_levels(out, duplicates)
    more = [(text, groups) for text, groups in duplicates.left_out if groups]
    if more:
        out.print()
        message = ", ".join(
            f"{groups:+,} without {text}"
            for text, groups in sorted(more, key=lambda item: -item[1])
        )
        out.print(rich_text.Text(f"one column less: {message} (groups)", style=screen.DIM))
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
        cells = [rich_text.Text(f"{row.row:,}", style=screen.DIM)]
        cells += [screen.visible(row.values[position], 30) for position in shown]
        rows.append(cells)
    alike = [
        position for position in same if group.rows and group.rows[0].values[position] is not None
    ][:4]
    head = rich_text.Text(f"  {number_of(group.size)}", style=screen.WARN)
    for place in alike:
        head.append(f"  {duplicates.columns[place]} ", style=screen.DIM).append_text(
            screen.visible(group.rows[0].values[place], 30)
        )
    out.print(head)
    screen.print_table(
        out,
        ["  row", *(duplicates.columns[position] for position in shown)],
        [[rich_text.Text("  ").append_text(line[0]), *line[1:]] for line in rows],
    )
    if group.size > 12:
        out.print(rich_text.Text(f"  and {group.size - 12:,} more", style=screen.DIM))


def _match_levels(out: Any, duplicates: Duplicates) -> None:
    rows: list[list[Any]] = []
    for entry in duplicates.match_levels:
        new = f"+{entry.new_groups:,}" if entry.new_groups and entry.match_level != "equal" else "–"
        mark = screen.MARK if entry.match_level == duplicates.match_level else ""
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
            line = rich_text.Text("  ", style=screen.DIM)
            for value, count in example[:3]:
                line.append_text(screen.visible(value, 40)).append(
                    f" {count:,}×  ", style=screen.DIM
                )
            rows.append(["", line, "", "", ""])
    screen.print_table(
        out, ["level", "", "groups", "extra rows", "newly matched"], rows, right=(2, 3, 4)
    )
    later = [item for item in duplicates.match_levels[1:] if item.new_groups]
    if later and duplicates.match_level == "equal":
        entry = max(later, key=lambda step: step.new_groups)
        out.print(
            rich_text.Text(
                f"--level {entry.match_level} lists its groups; as expressions:"
                f" {', '.join(entry.expressions)[:110]}",
                style=screen.DIM,
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
            rich_text.Text(f"groups whose known values disagree: {message}", style=screen.DIM)
        )
    if item.rescued:
        out.print(
            rich_text.Text(
                "NULLs that fill would rescue: "
                + ", ".join(f"{name} {many:,}" for name, many in item.rescued),
                style=screen.GOOD,
            )
        )
    out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=screen.DIM))
    out.print(rich_text.Text(results.step_text(duplicates), style=screen.MARK), soft_wrap=True)
