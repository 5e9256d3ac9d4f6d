"""What `gravel duplicates` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.inspecting.commands import shell_word
from gravel.language.writing import quoted
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.duplicates.result import Duplicates, Group


_SHORT = 160  # characters of expressions that are shown


def compared(duplicates: Duplicates) -> str:
    """What is compared: the expressions, where they are few and not all columns."""
    if _is_whole(duplicates):
        return "all columns"
    others = (name for name in duplicates.columns if name not in duplicates.key)
    if duplicates.on == tuple(map(quoted, others)):
        return f"all columns but {', '.join(duplicates.key)}"
    few = len(duplicates.expressions) < 6
    return ", ".join(duplicates.expressions) if few else f"{len(duplicates.on)} expressions"


def _is_whole(duplicates: Duplicates) -> bool:
    """Whether rows are compared in all columns."""
    return duplicates.on == tuple(map(quoted, duplicates.columns))


def show(duplicates: Duplicates, color: bool) -> None:
    """Print the groups, the match levels and the step that would merge them."""
    out = screen.console(color=color)
    out.print(
        rich_text.Text(
            f"{screen.chosen_rows(duplicates.rows, duplicates.where)},"
            f" {number_of(duplicates.groups, 'group')}",
            style=screen.HEAD,
        ).append(f" of rows equal in {compared(duplicates)}", style=screen.DIM)
    )
    message = (
        f"{number_of(duplicates.rows_in_groups)} in groups, {duplicates.extra_rows:,} more than"
        f" one a group, the largest {duplicates.largest:,}"
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
    more = [item for item in duplicates.left_out if item.groups]
    if more:
        out.print()
        more.sort(key=lambda item: -item.groups)
        message = ", ".join(f"{item.groups:+,} without {item.column}" for item in more)
        names = dict(zip(duplicates.on, duplicates.columns, strict=False))
        shows = (
            f"; --key {shell_word(names[more[0].column])} shows them"
            if _is_whole(duplicates)
            else ""
        )
        out.print(rich_text.Text(f"one column less: {message} (groups){shows}", style=screen.DIM))
    if duplicates.proposal is not None:
        out.print()
        _proposal(out, duplicates)


def _group(out: Any, duplicates: Duplicates, group: Group) -> None:
    same = [
        name
        for name in duplicates.columns
        if name not in group.differs and name not in duplicates.key
    ]
    shown, beyond = [*duplicates.key, *group.differs[:6]], group.differs[6:]
    rows = []
    for row in group.rows[:12]:
        cells = [rich_text.Text(f"{row.row:,}", style=screen.DIM)]
        cells += [screen.visible(row.values[name], 30) for name in shown]
        rows.append(cells)
    alike = [name for name in same if group.rows and group.rows[0].values[name] is not None][:4]
    head = rich_text.Text(f"  {number_of(group.size)}", style=screen.WARN)
    for name in alike:
        head.append(f"  {name} ", style=screen.DIM).append_text(
            screen.visible(group.rows[0].values[name], 30)
        )
    out.print(head)
    if not shown:
        numbers = ", ".join(f"{row.row:,}" for row in group.rows[:12])
        more = f" and {group.size - 12:,} more" if group.size > 12 else ""
        out.print(rich_text.Text(f"  rows {numbers}{more}", style=screen.DIM))
        return
    screen.print_table(
        out,
        ["  row", *shown],
        [[rich_text.Text("  ").append_text(line[0]), *line[1:]] for line in rows],
    )
    if group.size > 12:
        out.print(rich_text.Text(f"  and {group.size - 12:,} more", style=screen.DIM))
    if beyond:
        names = ", ".join(beyond[:8]) + (" …" if len(beyond) > 8 else "")
        verb = "1 more column differs" if len(beyond) == 1 else f"{len(beyond)} more columns differ"
        out.print(rich_text.Text(f"  {verb}: {names}", style=screen.DIM))


def _match_levels(out: Any, duplicates: Duplicates) -> None:
    rows: list[list[Any]] = []
    for entry in duplicates.levels:
        new = f"+{entry.new_groups:,}" if entry.new_groups and entry.level != "equal" else "–"
        mark = screen.MARK if entry.level == duplicates.level else ""
        rows.append(
            [
                rich_text.Text(entry.level, style=mark),
                rich_text.Text(entry.meaning),
                f"{entry.groups:,}",
                f"{entry.extra_rows:,}",
                new,
            ]
        )
        for example in entry.examples[:2]:
            line = rich_text.Text("  ", style=screen.DIM)
            for spelling in example[:3]:
                line.append_text(screen.visible(spelling.value, 40)).append(
                    f" {spelling.rows:,}×  ", style=screen.DIM
                )
            rows.append(["", line, "", "", ""])
    screen.print_table(
        out, ["level", "", "groups", "extra rows", "newly matched"], rows, right=(2, 3, 4)
    )
    later = [item for item in duplicates.levels[1:] if item.new_groups]
    if later and duplicates.level == "equal":
        entry = max(later, key=lambda step: step.new_groups)
        written = ", ".join(entry.expressions)
        message = f"--level {entry.level} lists its groups"
        message += f"; as expressions: {written}" if len(written) <= _SHORT else ""
        out.print(rich_text.Text(message, style=screen.DIM), soft_wrap=True)


def _proposal(out: Any, duplicates: Duplicates) -> None:
    item = duplicates.proposal
    assert item is not None
    if item.disagree:
        message = ", ".join(
            f"{name} {many:,}"
            for name, many in sorted(item.disagree.items(), key=lambda pair: -pair[1])
        )
        out.print(
            rich_text.Text(f"groups whose known values disagree: {message}", style=screen.DIM)
        )
    if item.rescued:
        out.print(
            rich_text.Text(
                "NULLs that fill would rescue: "
                + ", ".join(f"{name} {many:,}" for name, many in item.rescued.items()),
                style=screen.GOOD,
            )
        )
    out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=screen.DIM))
    out.print(rich_text.Text(item.step, style=screen.MARK), soft_wrap=True)
