"""What `gravel compare` shows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.inspecting.commands import command
from gravel.kernels.rules import tidied
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.comparing.result import Compared


_FOLDS: tuple[tuple[str, str, Callable[[str], str]], ...] = (
    ("case", "--ignore-case", str.upper),
    ("spaces", "--ignore-spaces", tidied),
    ("case and spaces", "--ignore-case --ignore-spaces", lambda text: tidied(text).upper()),
)
_COLUMNS, _EXAMPLE_COLUMNS, _NAMES = 60, 20, 30  # that are shown of a wide table


def show(compared: Compared, color: bool) -> None:
    """Print what is alike and what differs, by column, with examples."""
    out = screen.console(color=color)
    head = rich_text.Text(f"{compared.before.table} and {compared.after.table}", style=screen.HEAD)
    how = (
        f", matched by {', '.join(compared.key)}" if compared.key else ", rows matched as they are"
    )
    out.print(
        head.append(
            how + (f", {' and '.join(compared.ignoring)} ignored" if compared.ignoring else ""),
            style=screen.DIM,
        )
    )
    lines: list[list[Any]] = [
        ["rows", f"{compared.before.rows:,}", f"{compared.after.rows:,}"],
        ["in both", f"{compared.both:,}", f"{compared.both:,}"],
        ["only here", f"{compared.only_before:,}", f"{compared.only_after:,}"],
    ]
    if compared.key:
        for what, sides in (
            ("keys of several rows", compared.repeated_keys),
            ("rows with NULL in the key", compared.null_keys),
        ):
            if sides:
                label = rich_text.Text(what, style=screen.BAD)
                lines.append([label, f"{sides.before:,}", f"{sides.after:,}"])
    screen.print_table(out, ["", "before", "after"], lines, right=(1, 2))
    for names, where in (
        (compared.only_before_columns, "before"),
        (compared.only_after_columns, "after"),
    ):
        if names:
            out.print(rich_text.Text(f"columns only {where}: {_names(names)}", style=screen.WARN))
    for change in compared.types:
        out.print(
            rich_text.Text(
                f"{change.column} is {change.before} before and {change.after} after, so its"
                " texts are compared",
                style=screen.WARN,
            )
        )
    if compared.repeated_keys:
        out.print(
            rich_text.Text(
                "rows that share a key are matched in the order they come in: the first with the"
                " first",
                style=screen.DIM,
            )
        )
        out.print(rich_text.Text(f"see {_listing(compared)}", style=screen.DIM), soft_wrap=True)
    differing = [item for item in compared.columns if item.different]
    if compared.key:
        out.print()
        many = f"{compared.changed_rows:,} of {number_of(compared.both)} in both differ"
        out.print(
            rich_text.Text(
                many
                if compared.changed_rows
                else f"all {number_of(compared.both)} in both are equal",
                style=screen.HEAD,
            )
        )
    if differing:
        rows = [
            [
                item.column,
                *(
                    rich_text.Text(
                        f"{count:,}" if count else "–", style="" if count else screen.DIM
                    )
                    for count in (item.equal, item.changed, item.filled, item.emptied)
                ),
            ]
            for item in differing[:_COLUMNS]
        ]
        screen.print_table(
            out, ["column", "equal", "changed", "filled", "emptied"], rows, right=range(1, 5)
        )
        if len(differing) > _COLUMNS:
            message = f"the first {_COLUMNS} of {len(differing):,} columns; --format csv has all"
            out.print(rich_text.Text(message, style=screen.DIM))
        same = [item.column for item in compared.columns if not item.different]
        if same:
            out.print(rich_text.Text(f"equal in all rows: {_names(same)}", style=screen.DIM))
        out.print()
        _examples(out, compared)
        _hints(out, compared)
    for alone, total, what in (
        (compared.only_before_examples, compared.only_before, "before"),
        (compared.only_after_examples, compared.only_after, "after"),
    ):
        if alone:
            out.print()
            _alone(out, compared, alone, total, what)
    out.print()
    out.print(
        rich_text.Text("no difference", style=screen.GOOD)
        if compared.same
        else rich_text.Text("they differ", style=screen.BAD)
    )


def _examples(out: Any, compared: Compared) -> None:
    lines: list[list[Any]] = []
    last = ""
    columns = list(dict.fromkeys(example.column for example in compared.examples))
    shown = {*columns[:_EXAMPLE_COLUMNS]}
    for example in compared.examples:
        if example.column not in shown:
            continue
        message = example.column if example.column != last else ""
        last = example.column
        cells = [screen.visible(value, 34) for value in (example.before, example.after)]
        lines.append(
            [
                message,
                *(screen.visible(value, 18) for value in example.key.values()),
                cells[0],
                rich_text.Text("→", style=screen.DIM),
                cells[1],
            ]
        )
    screen.print_table(out, ["for example", *compared.key, "before", "", "after"], lines)
    if len(columns) > len(shown):
        message = (
            f"of the first {len(shown)} of {len(columns):,} columns; --differences FILE has all"
        )
        out.print(rich_text.Text(message, style=screen.DIM))


def _listing(compared: Compared) -> str:
    """The command that lists the rows of a table that share a key."""
    table = compared.after if compared.repeated_keys.after else compared.before
    return command(["gravel", "duplicates", table.table, "--on", ", ".join(compared.key)])


def _hints(out: Any, compared: Compared) -> None:
    """Columns of which all that is shown differs in writing only, with the options that take that
    as equal."""
    by_writing: dict[str, list[str]] = {}
    for column, of_column in groupby(compared.examples, lambda example: example.column):
        texts = [(example.before, example.after) for example in of_column]
        for what, options, fold in _FOLDS:
            if all(before and after and fold(before) == fold(after) for before, after in texts):
                by_writing.setdefault(f"{what} only ({options})", []).append(column)
                break
    for writing, columns in by_writing.items():
        differ = "differ" if len(columns) > 1 else "differs"
        message = f"as far as shown, {_names(columns)} {differ} in {writing}"
        out.print(rich_text.Text(message, style=screen.DIM))


def _names(columns: Sequence[str]) -> str:
    more = f" … ({len(columns):,} columns)" if len(columns) > _NAMES else ""
    return ", ".join(columns[:_NAMES]) + more


def _alone(out: Any, compared: Compared, alone: Any, total: int, what: str) -> None:
    out.print(rich_text.Text(f"only {what}: {number_of(total)}", style=screen.HEAD))
    rows = [
        [
            f"{item.row:,}",
            *(screen.visible(value, 18) for value in tuple(item.key.values()) or item.values[:6]),
        ]
        for item in alone
    ]
    names = (
        list(compared.key)
        if compared.key
        else [item.column for item in compared.columns][: len(rows[0]) - 1]
    )
    screen.print_table(out, ["row", *names], rows)
    if total > len(alone):
        out.print(rich_text.Text(f"and {total - len(alone):,} more", style=screen.DIM))
