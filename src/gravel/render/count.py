"""What `gravel count` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.inspecting.counts import TableCount


def show(counted: list[Any], color: bool) -> None:
    """Print the counts, keys and totals of tables."""
    out = screen.console(color=color)
    rows = [
        [
            result.table,
            screen.number(result.rows),
            screen.number(result.columns),
            screen.number(len(result.malformed)),
        ]
        for result in counted
    ]
    headings = ["table", "rows", "columns", "malformed"]
    if any(result.store_key is not None for result in counted):
        headings.append("primary key")
        for row, item in zip(rows, counted, strict=True):
            row.append(", ".join(item.store_key or ()) or "–")
    screen.print_table(out, headings, rows, right=(1, 2, 3))
    for item in counted:
        asked = asked_for(item)
        if asked:
            out.print()
            screen.print_table(
                out, [item.table if len(counted) > 1 else "asked for", "", ""], asked, right=(1,)
            )


def asked_for(item: TableCount) -> list[list[str]]:
    """What was asked of a table beside its rows: what it is, its figure, a remark."""
    asked = [
        [
            f"distinct {d.on}",
            screen.number(d.distinct),
            _apart(d.null_rows, d.error_rows, "with NULL, left out"),
        ]
        for d in item.distinct
    ]
    for key in item.keys:
        message = (
            "no row that could tell"
            if not item.rows
            else "a key: unique, never NULL"
            if not key.null_rows and not key.repeated_rows
            else (
                f"no key: {number_of(key.null_rows)} with NULL in it,"
                f" {number_of(key.repeated_rows)} that share theirs"
            )
        )
        asked.append([f"key {', '.join(key.columns)}", "", message])
    for t in item.totals:
        shown = (
            "no known value"
            if t.value is None
            else f"{t.value:,f}"
            if hasattr(t.value, "as_tuple")
            else f"{t.value:,}"
        )
        apart = _apart(t.null_rows, t.error_rows, "NULL, passed over")
        asked.append([f"total {t.total}", shown, apart])
    return asked


def _apart(nulls: int, errors: int, what: str) -> str:
    parts = [f"{nulls:,} {'row' if nulls == 1 else 'rows'} {what}"] if nulls else []
    parts += [f"{errors:,} {'row' if errors == 1 else 'rows'} with an error"] if errors else []
    return ", ".join(parts)


def print_rows(counted: list[Any], form: str) -> None:
    """Print the counts as rows in a form for programs."""
    headings = ["table", "rows", "columns", "malformed"]
    columns: list[list[Any]] = [
        [
            result.table
            if name == "table"
            else str(len(result.malformed) if name == "malformed" else getattr(result, name))
            for result in counted
        ]
        for name in headings
    ]
    if not counted:
        return
    first = counted[0]
    for index, d in enumerate(first.distinct):
        headings.append(f"distinct {d.on}")
        columns.append([str(result.distinct[index].distinct) for result in counted])
    for index, key in enumerate(first.keys):
        of = f" {', '.join(key.columns)}" if len(first.keys) > 1 else ""
        headings += [f"key_null_rows{of}", f"key_repeated_rows{of}"]
        columns += [
            [str(result.keys[index].null_rows) for result in counted],
            [str(result.keys[index].repeated_rows) for result in counted],
        ]
    for index, t in enumerate(first.totals):
        headings.append(f"total {t.total}")
        columns.append(
            [
                None if result.totals[index].value is None else str(result.totals[index].value)
                for result in counted
            ]
        )
    screen.print_rows(form, headings, columns)
