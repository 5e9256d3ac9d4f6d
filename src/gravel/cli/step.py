"""`gravel try` of a step: what it would do to the rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gravel.cli.options import Format
from gravel.lazily import lazily
from gravel.problems import CallProblem

with lazily():
    from gravel.plans import loading, rehearse
    from gravel.render import rehearsal as render_rehearsal
    from gravel.render import screen

if TYPE_CHECKING:
    from gravel.language.scope import Given
    from gravel.sources.source import Source


def try_step(
    table: Source | None,
    reference: str | None,
    plan: Path | None,
    step: str | None,
    context: Given,
    engine: str | None,
    form: Format,
    color: bool,
) -> None:
    """Try a step given as TOML on a table, or a plan's step by its number. Raises CallProblem,
    Problems, TableProblem."""
    if plan is not None:
        if step is None or not step.strip().isdigit():
            raise CallProblem(
                "--plan needs the number of a step", hint=f"gravel try --plan {plan} --step 1"
            )
        result = rehearse.rehearse(
            loading.read_plan(plan, str(plan)), int(step), context, engine=engine
        )
    else:
        if table is None or step is None or reference is None:
            raise CallProblem("a step is tried on a table", hint="gravel try boats.csv --step '…'")
        result = rehearse.rehearse(
            rehearse.one_step(table, str(table.path) if reference == "-" else reference, step),
            1,
            context,
            engine=engine,
        )
    if form is Format.json:
        screen.print_json("try", result)
    elif form is Format.table:
        render_rehearsal.show(result, color)
    else:
        flat = [
            [column, item.path, item.before, item.after]
            for column, subset in result.step.count.changes.items()
            for item in subset
        ]
        flat += [
            [item.outcome, item.path, item.reason, item.into] for item in result.step.count.gone
        ]
        screen.print_rows(
            form.value,
            ["what", "path", "before", "after"],
            [[row[index] for row in flat] for index in range(4)],
        )
    screen.cautions(result.step.cautions, color)
    screen.remarks(result.step.remarks, color)
    screen.malformed_notes(result.table, result.malformed, color)
    for line in result.notes:
        screen.note(f"{result.table}: {line}", color)


def whole_step(step: str) -> str:
    """A step's TOML with its header."""
    return step if step.strip().startswith("[[step]]") else f"[[step]]\n{step.strip()}"
