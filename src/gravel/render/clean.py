"""What `gravel clean` shows: the row ledger and the proofs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich import padding
from rich import text as rich_text

from gravel.inspecting import commands
from gravel.language import errors as language_errors
from gravel.problems import DataProblem
from gravel.render import screen
from gravel.words import number_of, phrase_of

if TYPE_CHECKING:
    from gravel.inspecting.attempt import ErrorKind
    from gravel.plans.changes import TableDiff
    from gravel.plans.result import Run


def show(done: Run, color: bool) -> None:
    """Print the row ledger, the proofs and what became of the result."""
    out = screen.console(error=done.bound.file.model.write == "-", color=color)
    out.print(rich_text.Text("row ledger", style=screen.HEAD))
    rows: list[list[Any]] = []
    numbers = ("rows_in", "changed", "added", "dropped", "merged", "set_aside", "rows_out")
    before = done.steps[0].totals
    for line in done.steps:
        note = line.note or (
            "rows read, malformed records set aside"
            if line.step == 0 and line.count.set_aside
            else "rows read"
            if line.step == 0
            else line.verb
        )
        cells = [getattr(line.count, name) for name in numbers]
        shown = [
            rich_text.Text(f"{value:,}" if value else "–", style="" if value else screen.DIM)
            for value in cells
        ]
        rows.append([rich_text.Text(str(line.step)), rich_text.Text(note), *shown])
        changed = [
            f"total {text}: {_total(was)} → {_total(now)}"
            for text, now in line.totals.items()
            if (was := before[text]) != now
        ]
        before = line.totals
        if line.step == 0:
            changed = [f"total {text}: {_total(value)}" for text, value in line.totals.items()]
        for message in [*details(line), *reasons(line), *changed]:
            detail = padding.Padding(rich_text.Text(message, style=screen.DIM), (0, 0, 0, 2))
            rows.append(["", detail, *[""] * len(numbers)])
    screen.print_table(
        out,
        ["step", "", "in", "changed", "added", "dropped", "merged", "set aside", "out"],
        rows,
        right=range(2, 9),
    )
    out.print()
    out.print(rich_text.Text("proofs", style=screen.HEAD))
    proofs = [
        [
            rich_text.Text(
                "holds" if item.holds else "FAILS",
                style=screen.GOOD if item.holds else f"bold {screen.BAD}",
            ),
            rich_text.Text(item.proof),
            rich_text.Text(item.detail, style=screen.DIM),
        ]
        for item in done.proofs
    ]
    screen.print_table(out, ["", "", ""], proofs)
    out.print()
    if done.good and done.dry and done.changes is not None:
        out.print(
            rich_text.Text(
                f"dry run: {_planned(done.changes)} in {done.table}; {done.left_rows:,} rejected",
                style=screen.GOOD,
            )
        )
    elif done.good and done.dry:
        out.print(
            rich_text.Text(
                f"dry run: {number_of(done.rows_out)} would be written,"
                f" {done.left_rows:,} rejected",
                style=screen.GOOD,
            )
        )
    elif done.good:
        where = (
            f"; {done.left_rows:,} rejected in {done.rejects}" if done.rejects else "; no rejects"
        )
        what = f"{number_of(done.rows_out)} written to {done.output}"
        if done.changes is not None:
            what = f"{done.changes.told} in {done.output}"
        out.print(rich_text.Text(what + where, style=screen.GOOD), soft_wrap=True)
        if done.record:
            out.print(
                rich_text.Text(
                    f"recorded in {done.record}: gravel verify {commands.shell_word(done.record)}",
                    style=screen.DIM,
                ),
                soft_wrap=True,
            )


def details(line: Any) -> list[str]:
    """Further figures of a step, a line each."""
    count = line.count
    message = []
    if count.changed_columns:
        subset = [f"{name} {cells:,}" for name, cells in count.changed_columns.items() if cells]
        if len(count.changed_columns) > 1 and subset:
            message.append("changed: " + ", ".join(subset))
    if line.new_columns:
        message.append("new: " + ", ".join(line.new_columns))
    if line.gone_columns:
        message.append("gone: " + ", ".join(line.gone_columns))
    if count.dropped_unknown:
        message.append(
            f"dropped: {count.dropped_false:,} false, {count.dropped_unknown:,} unknown (NULL)"
        )
    if count.errors_to_null:
        message.append(f"{number_of(count.errors_to_null)} with an error made NULL")
    if count.not_concerned:
        message.append(f"{number_of(count.not_concerned)} not concerned")
    message += [phrase_of(rows, what) for what, rows in count.notes.items()]
    if line.conflicts:
        message.append(
            "groups that disagree, by column: "
            + ", ".join(f"{name} {groups:,}" for name, groups in line.conflicts.items())
        )
    for result in count.checks:
        message.append(
            f"{result.check}: " + (result.told or f"holds in all {number_of(result.rows)}")
        )
    if count.words:
        message.append(count.words)
    if line.rows:
        message.append(f"expected: {line.rows}{'' if line.stated_holds else ', which it is not'}")
    return message


def reasons(line: Any) -> list[str]:
    """Why rows of a step were set aside, or cells made NULL, a line each; what stops the run is
    told by itself."""
    errors = {} if line.count.failed else line.count.errors
    return [_error(column, kind) for (column, _), kind in errors.items()]


def _error(column: str | None, kind: ErrorKind) -> str:
    where = f"{column}: " if column else ""
    example = f"such as {kind.example!r} in" if kind.example is not None else "such as"
    return (
        f"{where}{kind.sqlstate} {language_errors.meaning(kind.sqlstate)}, {number_of(kind.rows)},"
        f" {example} row {kind.row:,}"
    )


def _why_not(done: Run) -> None:
    if done.conflict:
        screen.tell(
            DataProblem(
                f"{done.table} is not as it was when it was read",
                detail=done.conflict,
                hint="run the plan again: it reads the table as it is now",
            )
        )
    for number, line in done.stopped:
        every = done.errors if number else ()
        errors = [_error(item.column, item.kind) for item in every if item.step == number]
        hint = 'on_error = "set aside" or "null" lets it go on' if errors else ""
        if not number:
            hint = 'malformed = "set aside" lets it go on'
        screen.tell(DataProblem(line, detail="; ".join(errors), hint=hint))
    for proof in done.proofs:
        if not proof.holds:
            screen.tell(DataProblem(f"a proof fails: {proof.proof}", detail=proof.detail))
    screen.note("nothing was written; the target is as it was")


def _planned(changes: TableDiff) -> str:
    cells = sum(changes.cells.values())
    return (
        f"{number_of(changes.updated)} would change ({number_of(cells, 'cell')}),"
        f" {changes.deleted:,} be deleted, {changes.inserted:,} be inserted"
    )


def _total(value: Any) -> str:
    return "NULL" if value is None else screen.number(value)
