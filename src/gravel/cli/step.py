"""`gravel try` of a step: what it would do to the rows."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gravel.cli.lazily import lazily
from gravel.cli.options import Format
from gravel.problems import CallProblem

with lazily():
    from rich import text as rich_text

    from gravel.cli import clean, render
    from gravel.language import errors
    from gravel.plans import figures, model, rehearse

if TYPE_CHECKING:
    from gravel.language.bind import Given
    from gravel.plans.ledger import ChangeExample
    from gravel.plans.rehearse import Rehearsal
    from gravel.sources.source import Source


def try_step(
    table: Source | None, reference: str | None, plan: Path | None, step: str | None, given: Given, form: Format, color: bool
) -> None:
    """Try a step given as TOML on a table, or a plan's step by its number. Raises CallProblem, Problems, TableProblem."""
    if plan is not None:
        if step is None or not step.strip().isdigit():
            raise CallProblem("--plan needs the number of a step", hint=f"gravel try --plan {plan} --step 1")
        found = rehearse.rehearse(model.read_plan(plan, str(plan)), int(step), given)
    else:
        if table is None or step is None or reference is None:
            raise CallProblem("a step is tried on a table", hint="gravel try boats.csv --step '…'")
        found = rehearse.rehearse(rehearse.one_step(table, str(table.path) if reference == "-" else reference, step), 1, given)
    if form is Format.json:
        render.print_json("try", _json(found))
    elif form is Format.table:
        _show(found, color)
    else:
        flat = [[column, one.path, one.before, one.after] for column, some in found.line.count.changes.items() for one in some]
        flat += [[one.outcome, one.path, one.reason, one.into] for one in found.line.count.gone]
        render.print_rows(form.value, ["what", "path", "before", "after"], [[row[at] for row in flat] for at in range(4)])
    render.cautions(found.line.cautions, color)
    render.remarks(found.line.remarks, color)
    render.malformed_notes(found.table, found.malformed, color)
    for line in found.notes:
        render.note(f"{found.table}: {line}", color)


def _json(found: Rehearsal) -> dict[str, Any]:
    count = found.line.count

    def samples(given: dict[str, list[ChangeExample]]) -> dict[str, Any]:
        return {what: [dataclasses.asdict(one) for one in some] for what, some in given.items() if some}

    return {
        "plan": found.plan, "table": found.table, "malformed": len(found.malformed), "step": figures.step_json(found.line, found.totals),
        "changes": samples(count.changes), "samples": samples(count.samples), "left": [dataclasses.asdict(one) for one in count.gone],
        "errors": [{"column": column or None, "sqlstate": kind.sqlstate, "rows": kind.rows, "example": kind.example, "row": kind.row}
                   for column, kind in found.errors],
        "stops": found.stops, "cautions": render.caution_json(found.line.cautions),
    }  # fmt: skip


def _show(found: Rehearsal, color: bool) -> None:
    line, count = found.line, found.line.count
    out = render.console(color=color)
    head = rich_text.Text(line.note or line.verb, style=render.HEAD)
    head.append(f"  {found.table}, step {line.step}" if found.plan != "the step" else f"  {found.table}", style=render.DIM)
    out.print(head)
    parts = [(count.added, "added", "+"), (count.dropped, "dropped", "-"), (count.merged, "merged", "-"),
             (count.set_aside, "set aside", "-"), (count.stopped, "failed", "-")]  # fmt: skip
    told = rich_text.Text(f"  {count.rows_in:,} in")
    for many, what, sign in parts:
        if many:
            told.append(f" {sign} {many:,} {what}", style=render.WARN if what != "failed" else render.BAD)
    told.append(f" = {count.rows_out:,} out")
    if count.changed:
        told.append(f"; {count.changed:,} changed", style=render.WARN)
    out.print(told)
    for text in clean.details(line):
        out.print(rich_text.Text(f"  {text}", style=render.DIM))
    tables = [
        (f"{column}, changed" if column not in line.new_columns else f"{column}, new", some) for column, some in count.changes.items()
    ]
    tables += [(what, some) for what, some in count.samples.items()]
    for what, some in tables:
        if some:
            out.print()
            _samples(out, what, some)
    if count.gone:
        out.print()
        rows = [[f"  {one.path}", rich_text.Text(one.outcome, style=render.BAD), render.visible(one.reason, 60),
                 one.sqlstate or (f"into {one.into}" if one.into else "")] for one in count.gone]  # fmt: skip
        render.print_table(out, ["  rows that leave", "", "why", ""], rows)
    if found.errors:
        out.print()
        rows = [
            [
                f"  {column}", rich_text.Text(f"error {kind.sqlstate}", style=render.BAD), errors.meaning(kind.sqlstate),
                render.visible(kind.example, 40), f"{kind.row:,}", f"{kind.rows:,}",
            ]
            for column, kind in found.errors
        ]  # fmt: skip
        render.print_table(out, ["", "", "", "for example", "row", "rows"], rows, right=(4, 5))
    if found.stops:
        out.print()
        out.print(rich_text.Text(f"a run would stop here: {found.stops}", style=render.BAD))


def _samples(out: Any, what: str, some: list[ChangeExample]) -> None:
    rows: list[list[Any]] = []
    for one in some:
        after = (
            [rich_text.Text("→", style=render.DIM), render.visible(one.after, 40)]
            if one.after is not None or "changed" in what
            else ["", ""]
        )
        rows.append([f"  {one.path}", render.visible(one.before, 40), *after])
    render.print_table(out, ["  row", what, "", ""], rows)
