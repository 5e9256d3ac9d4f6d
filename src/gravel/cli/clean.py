"""`gravel clean`."""

from __future__ import annotations

import dataclasses
import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Today,
    given_by,
    memory_of,
)
from gravel.problems import CallProblem, DataProblem

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import render
    from gravel.inspecting import commands
    from gravel.language import errors as language_errors
    from gravel.ledger import signature
    from gravel.plans import destination, flow, model, run, steps
    from gravel.plans import wish as wish_of_run
    from gravel.profiling import profile
    from gravel.reports import clean as reports_clean
    from gravel.reports import page
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.language.bind import Given
    from gravel.plans.changes import TableDiff
    from gravel.plans.result import Run


def clean(
    plan: Annotated[
        Path, typer.Argument(metavar="PLAN", help="A plan file (TOML).", show_default=False)
    ],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Do everything except write.")] = False,
    until: Annotated[
        int | None,
        typer.Option(
            "--until", metavar="STEP", help="Run to this step only; nothing is written.", min=0
        ),
    ] = None,
    sample: Annotated[
        int | None,
        typer.Option(
            "--sample", metavar="N", help="The first N rows only; nothing is written.", min=0
        ),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write the run as a page.")
    ] = None,
    backup: Annotated[
        str | None,
        typer.Option(
            "--backup",
            metavar="NAME",
            help="A table for the rows as they were before a change in place.",
        ),
    ] = None,
    replace: Annotated[
        bool,
        typer.Option(
            "--replace", help="Write over files and tables that no record says are this plan's."
        ),
    ] = False,
    sign: Annotated[
        Path | None,
        typer.Option(
            "--sign",
            metavar="KEYFILE",
            help="Sign the record with an OpenSSH Ed25519 key; its passphrase is asked for.",
        ),
    ] = None,
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    no_color: NoColor = False,
) -> None:
    """Run a plan, and print the row ledger and the proofs. Nothing is written unless every proof
    holds.

    gravel clean boats.toml
    """
    supplied = given_by(param, today)
    if sign is not None and (dry_run or until is not None or sample is not None):
        raise CallProblem("--sign signs a record, and this run writes none")
    wish = wish_of_run.Wish(
        dry_run,
        until,
        sample,
        memory_of(memory) or flow.MEMORY,
        backup,
        None if sign is None else signature.SigningKey(sign, _passphrase),
        tell=lambda line: render.note(f"before the run: {line}", not no_color),
    )

    plan_file = model.read_plan(plan, str(plan))
    for line in plan_file.notes:
        render.note(line, not no_color)
    if replace:
        plan_file = dataclasses.replace(
            plan_file, model=plan_file.model.model_copy(update={"replace": True})
        )
    if plan_file.model.write == "-" and format is not Format.table:
        raise CallProblem(
            f"the plan's rows go to standard output, and --format {format.value} would stand among"
            " them",
            hint='a file in write = "…", or no --format: the ledger goes to standard error',
        )
    if report is not None:
        page.may_write(report, replace)
    if wish.writes:
        for outside in destination.targets_outside(plan_file):
            render.note(f"writes {outside}, which is not in the plan's folder", not no_color)
        if (other := steps.written_by_another(plan_file)) is not None:
            render.note(
                f"replaces {other[0].name}, which another plan wrote: {other[1]}", not no_color
            )
    done = run.clean(plan_file, supplied, wish)
    if format is Format.json:
        render.print_json("clean", results.run_dict(done))
    elif format is Format.table:
        _show(done, not no_color)
    else:
        headings = [
            "step",
            "verb",
            "note",
            "in",
            "changed",
            "added",
            "dropped",
            "merged",
            "set_aside",
            "out",
        ]
        rows = [
            [
                line.step,
                line.verb,
                line.note,
                line.count.rows_in,
                line.count.changed,
                line.count.added,
                line.count.dropped,
                line.count.merged,
                line.count.set_aside,
                line.count.rows_out,
            ]
            for line in done.steps
        ]
        render.print_rows(
            format.value,
            headings,
            [[str(row[index]) for row in rows] for index in range(len(headings))],
        )
    for step in done.steps:
        render.cautions(step.cautions, not no_color, f"step {step.step}: ")
        render.remarks(step.remarks, not no_color, f"step {step.step}: ")
    render.malformed_notes(done.table, done.malformed, not no_color)
    for line in done.notes:
        render.note(f"{done.table}: {line}", not no_color)
    for name in done.cleared:
        render.note(f"cleared {name}, which a run that was stopped had left", not no_color)
    if report is not None:
        _report(
            report, done, supplied
        )  # after the ledger, which is told even where the page cannot be written
    if not done.good:
        _why_not(done)
        raise typer.Exit(1)


def _passphrase() -> str:
    """Asked for on the terminal, never an argument, which other users could read."""
    if not sys.stdin.isatty():
        raise CallProblem(
            "the key has a passphrase, and there is no terminal to ask for it",
            hint="a key without one, or a run in a terminal",
        )
    return getpass.getpass("passphrase of the key: ")


def _report(path: Path, done: Run, context: Given) -> None:
    plan = done.bound
    own = {plan.target, plan.rejects, steps.record_path(plan.target), plan.file.path.resolve()}
    if path.resolve() in own | plan.table.files | {other.resolve() for other in plan.others}:
        raise CallProblem(f"the page would be written over {path}", hint="name another file")
    before = after = None
    if done.output is not None and not plan.target_special:
        to = plan.destination
        reference = f"{to.reference}#{to.table}" if to.database else to.shown
        result = opening.open_table(reference, plan.reading, plan.file.path.parent)
        before, after = (
            profile.profile(plan.table, today=context.today),
            profile.profile(result, today=context.today),
        )
    reports_clean.write_page(path, done, before, after, details)


def _show(done: Run, color: bool) -> None:
    out = render.console(error=done.bound.file.model.write == "-", color=color)
    out.print(rich_text.Text("row ledger", style=render.HEAD))
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
            rich_text.Text(f"{value:,}" if value else "–", style="" if value else render.DIM)
            for value in cells
        ]
        rows.append([rich_text.Text(str(line.step)), rich_text.Text(note), *shown])
        changed = [
            f"total {text}: {render.number(was)} → {render.number(now)}"
            for text, was, now in zip(done.totals, before, line.totals, strict=True)
            if was != now
        ]
        before = line.totals
        if line.step == 0:
            changed = [
                f"total {text}: {render.number(value)}"
                for text, value in zip(done.totals, line.totals, strict=True)
            ]
        for message in [*details(line), *changed]:
            rows.append(
                ["", rich_text.Text(f"  {message}", style=render.DIM), *[""] * len(numbers)]
            )
    render.print_table(
        out,
        ["step", "", "in", "changed", "added", "dropped", "merged", "set aside", "out"],
        rows,
        right=range(2, 9),
    )
    out.print()
    out.print(rich_text.Text("proofs", style=render.HEAD))
    proofs = [
        [
            rich_text.Text(
                "holds" if item.holds else "FAILS",
                style=render.GOOD if item.holds else f"bold {render.BAD}",
            ),
            rich_text.Text(item.proof),
            rich_text.Text(item.detail, style=render.DIM),
        ]
        for item in done.proofs
    ]
    render.print_table(out, ["", "", ""], proofs)
    out.print()
    if done.good and done.dry and done.changes is not None:
        out.print(
            rich_text.Text(
                f"dry run: {_planned(done.changes)} in {done.table}; {done.left_rows:,} rejected",
                style=render.GOOD,
            )
        )
    elif done.good and done.dry:
        out.print(
            rich_text.Text(
                f"dry run: {done.rows_out:,} rows would be written, {done.left_rows:,} rejected",
                style=render.GOOD,
            )
        )
    elif done.good:
        where = (
            f"; {done.left_rows:,} rejected in {done.rejects}" if done.rejects else "; no rejects"
        )
        what = f"{done.rows_out:,} rows written to {done.output}"
        if done.changes is not None:
            what = f"{done.changes.told} in {done.output}"
        out.print(rich_text.Text(what + where, style=render.GOOD), soft_wrap=True)
        if done.record:
            out.print(
                rich_text.Text(
                    f"recorded in {done.record}: gravel verify {commands.shell_word(done.record)}",
                    style=render.DIM,
                ),
                soft_wrap=True,
            )


def details(line: Any) -> list[str]:
    count = line.count
    message = []
    if count.changed_columns:
        subset = [f"{name} {cells:,}" for name, cells in count.changed_columns.items() if cells]
        if len(count.changed_columns) > 1 and subset:
            message.append("changed: " + ", ".join(subset))
    if line.new_columns:
        message.append("new: " + ", ".join(line.new_columns))
    if line.lost_columns:
        message.append("gone: " + ", ".join(line.lost_columns))
    if count.dropped_unknown:
        message.append(
            f"dropped: {count.dropped_false:,} false, {count.dropped_unknown:,} unknown (NULL)"
        )
    if count.nulled:
        message.append(f"{count.nulled:,} rows with an error made NULL")
    if count.not_concerned:
        message.append(f"{count.not_concerned:,} rows not concerned")
    message += [f"{rows:,} {what}" for what, rows in count.notes.items() if rows]
    if line.conflicts:
        message.append(
            "groups that disagree, by column: "
            + ", ".join(f"{name} {groups:,}" for name, groups in line.conflicts.items())
        )
    for name, result in count.checks.items():
        message.append(f"{name}: " + (result.told or f"holds in all {result.rows:,} rows"))
    if count.words:
        message.append(count.words)
    if line.stated:
        message.append(f"expected: {line.stated}{'' if line.stated_holds else ', which it is not'}")
    return message


def _why_not(done: Run) -> None:
    if done.conflict:
        render.tell(
            DataProblem(
                f"{done.table} is not as it was when it was read",
                detail=done.conflict,
                hint="run the plan again: it reads the table as it is now",
            )
        )
    for number, line in done.stopped:
        errors = []
        for step, column, kind in done.errors if number else ():
            if step == number:
                where = f"{column}: " if column else ""
                count = "1 row" if kind.rows == 1 else f"{kind.rows:,} rows"
                errors.append(
                    f"{where}{kind.sqlstate} {language_errors.meaning(kind.sqlstate)}, {count},"
                    f" such as {kind.example!r} in row {kind.row:,}"
                )
        hint = 'on_error = "set aside" or "null" lets it go on' if errors else ""
        if not number:
            hint = 'malformed = "set aside" lets it go on'
        render.tell(DataProblem(line, detail="; ".join(errors), hint=hint))
    for proof in done.proofs:
        if not proof.holds:
            render.tell(DataProblem(f"a proof fails: {proof.proof}", detail=proof.detail))
    render.note("nothing was written; the target is as it was")


def _planned(changes: TableDiff) -> str:
    cells = sum(changes.cells.values())
    return (
        f"{changes.updated:,} rows would change ({cells:,} cells), {changes.deleted:,} be deleted,"
        f" {changes.inserted:,} be inserted"
    )
