"""`gravel clean`."""

from __future__ import annotations

import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from msgspec import structs

from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Today,
    engine_of,
    given_by,
    memory_of,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem

with lazily():
    from gravel.ledger import signature
    from gravel.plans import destination, loading, run, steps
    from gravel.plans import wish as wish_of_run
    from gravel.profiling import profile
    from gravel.render import clean as render_clean
    from gravel.render import screen
    from gravel.render.html import clean as html_clean
    from gravel.render.html import page
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.language.scope import Given
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
    engine: EngineOption = None,
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
        memory_of(memory, engine),
        backup,
        engine_of(engine),
        None if sign is None else signature.SigningKey(sign, _passphrase),
        tell=lambda line: screen.note(f"before the run: {line}", not no_color),
    )

    plan_file = loading.read_plan(plan, str(plan))
    for line in plan_file.notes:
        screen.note(line, not no_color)
    if replace:
        model = structs.replace(plan_file.model, replace=True)
        plan_file = structs.replace(plan_file, model=model)
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
            screen.note(f"writes {outside}, which is not in the plan's folder", not no_color)
        if (other := steps.written_by_another(plan_file)) is not None:
            screen.note(
                f"replaces {other[0].name}, which another plan wrote: {other[1]}", not no_color
            )
    done = run.clean(plan_file, supplied, wish)
    if format is Format.json:
        screen.print_json("clean", done)
    elif format is Format.table:
        render_clean.show(done, not no_color)
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
        screen.print_rows(
            format.value,
            headings,
            [[str(row[index]) for row in rows] for index in range(len(headings))],
        )
    for step in done.steps:
        screen.cautions(step.cautions, not no_color, f"step {step.step}: ")
        screen.remarks(step.remarks, not no_color, f"step {step.step}: ")
    screen.malformed_notes(done.table, done.malformed, not no_color)
    for line in done.notes:
        screen.note(f"{done.table}: {line}", not no_color)
    for name in done.cleared:
        screen.note(f"cleared {name}, which a run that was stopped had left", not no_color)
    if report is not None:
        _report(
            report, done, supplied
        )  # after the ledger, which is told even where the page cannot be written
    if not done.good:
        render_clean._why_not(done)
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
    html_clean.write_page(path, done, before, after)
