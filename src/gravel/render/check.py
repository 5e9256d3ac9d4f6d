"""What `gravel check` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.language import errors
from gravel.render import screen

if TYPE_CHECKING:
    from gravel.inspecting.check import Check, Checked


def show(checked: Checked, unknown_fails: bool, color: bool) -> None:
    """Print the checks with their counts, and examples of rows that do not hold."""
    out = screen.console(color=color)
    good = sum(check.passed for check in checked.checks)
    out.print(
        rich_text.Text(
            f"{checked.table}: {screen.chosen_rows(checked.rows, checked.where)},"
            f" {good} of {len(checked.checks)} checks pass",
            style=screen.HEAD,
        )
    )

    def count(value: int, style: str) -> rich_text.Text:
        return rich_text.Text(f"{value:,}" if value else "–", style=style if value else screen.DIM)

    rows: list[list[Any]] = []
    for item in checked.checks:
        style = screen.GOOD if item.passed else f"bold {screen.BAD}"
        rows.append(
            [
                rich_text.Text("passes" if item.passed else "FAILS", style=style),
                rich_text.Text(screen.safe(item.name)),
                rich_text.Text(f"{item.holds:,}"),
                count(item.fails, screen.BAD),
                count(item.unknown, screen.BAD if unknown_fails else screen.WARN),
                count(item.errors, screen.BAD),
                rich_text.Text(
                    (
                        "the table as a whole"
                        if item.whole_table
                        else f"{item.allowed:,} allowed"
                        if item.allowed
                        else ""
                    ),
                    style=screen.DIM,
                ),
            ]
        )
    screen.print_table(
        out, ["", "check", "holds", "fails", "unknown", "errors", ""], rows, right=(2, 3, 4, 5)
    )
    for item in checked.checks:
        _examples(out, item)


def _examples(out: Any, check: Check) -> None:
    shown = [
        example for example in check.examples if example.outcome != "holds" or check.whole_table
    ]
    if not shown or (check.whole_table and check.passed and check.holds):
        return
    out.print()
    line = rich_text.Text(screen.safe(check.name), style=screen.HEAD)
    if check.name != check.condition.strip():
        line.append(f"  {screen.safe(check.condition)}", style=screen.DIM)
    out.print(line)
    table = []
    for example in shown:
        values = rich_text.Text()
        for index, (name, value) in enumerate(example.values.items()):
            values.append("  " if index else "").append(f"{name} ", style=screen.DIM).append_text(
                screen.visible(value, 40)
            )
        why = (
            f"{example.outcome} {example.sqlstate}: {errors.meaning(example.sqlstate)}"
            if example.sqlstate
            else example.outcome
        )
        table.append(
            [
                rich_text.Text(f"row {example.row:,}" if example.row else "", style=screen.DIM),
                rich_text.Text(
                    why, style=screen.WARN if example.outcome == "unknown" else screen.BAD
                ),
                values,
            ]
        )
    screen.print_table(out, ["", "", ""], table)
    more = [
        f"{count - sum(example.outcome == kind for example in shown):,} more {word}"
        for kind, count, word in (
            ("fails", check.fails, "fail"),
            ("unknown", check.unknown, "are unknown"),
            ("error", check.errors, "have an error"),
        )
        if not check.whole_table and count > sum(example.outcome == kind for example in shown)
    ]
    if more:
        out.print(rich_text.Text("and " + ", ".join(more), style=screen.DIM))
