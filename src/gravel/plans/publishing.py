"""The third phase of a run: what was proved is put in its place, all of it or nothing."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from gravel.ledger.signature import signature_path
from gravel.plans.changes import TableDiff, changes_of
from gravel.plans.destination import IN_PLACE
from gravel.plans.execution import Execution
from gravel.plans.in_place import in_place
from gravel.plans.left import LEFT_COLUMNS
from gravel.plans.placing import Placed, into_file, into_table, into_typed_file
from gravel.plans.record import waits
from gravel.plans.result_rows import TypedRows, text_table
from gravel.plans.steps import record_path
from gravel.sinks.atomic_file import Output, Publication, recorded
from gravel.sources.metadata import metadata_path
from gravel.stores.sql.transaction import CommitUnknown


def place(execution: Execution) -> tuple[Placed, TableDiff | None]:
    """The proved rows in their place, not yet to stay; in a dry run only what would be done
    there."""
    plan, wish, scratch = execution.plan, execution.wish, execution.scratch
    to, result, rejects = plan.destination, execution.rows, execution.rejects
    rows = result.opened()
    every = np.concatenate(execution.numbers) if execution.numbers else np.zeros(0, np.int64)
    left = None
    if to.left_table:
        rejects.needed()
        assert rejects.file is not None
        left = text_table(plan, rejects.file.path, (*LEFT_COLUMNS, *plan.left_names), to.left_table)
    if isinstance(result, TypedRows):
        placed = into_typed_file(plan, result, None if wish.writes else scratch)
    elif to.kind == "file":
        placed = into_file(plan, rows, None if wish.writes else scratch)
    elif not wish.writes:
        return Placed(), changes_of(plan, rows, every) if to.kind == IN_PLACE else None
    elif to.kind == "table":
        placed = into_table(plan, rows, left, wish.backup)
    else:
        assert execution.flow.content is not None
        placed = in_place(plan, rows, every, execution.flow.content, left, wish.backup)
    return placed, placed.changes


def publish(
    execution: Execution,
    records: Sequence[Output],
    placed: Placed | None,
    publication: Publication | None,
) -> None:
    """Let the result stand: the files together, the record last; rows that leave a database's table
    are on the disk before they are gone from it."""
    plan, output, left = execution.plan, execution.output, execution.rejects.file
    if plan.destination.left_table:
        left = None
    if publication is None:
        # A device may refuse what it is given, and nothing of that can be taken back: it comes
        # first.
        for file in (output, left):
            if file is not None:
                file.commit()
        return
    gone = []
    if (
        left is None
        and not plan.destination.left_table
        and plan.rejects.is_file()
        and plan.destination.kind != IN_PLACE
    ):
        gone = [plan.rejects] if holds_rejects(plan.rejects) else []
    described = metadata_path(plan.target)
    if not plan.file.model.metadata and recorded(described, record_path(plan.target), "metadata"):
        gone.append(described)  # it is of the output that goes
    signature = signature_path(record_path(plan.target))
    if signature.is_file() and all(item.target != signature for item in records):
        gone.append(signature)  # it is of the record that goes
    if placed is None or placed.output is not None:
        file = output if placed is None or placed.output is None else placed.output
        publication.publish([item for item in (left, file, *records) if item is not None], gone)
        if placed is not None:
            placed.stands()
        return
    if left is not None:
        publication.publish([left])
    for file in records:
        # They wait beside their places: should the run not live to hear of the commit, the next one
        # asks the database which of the two is true.
        waits(file)
    try:
        placed.commit()
    except CommitUnknown:
        for file in records:
            file.keep()
        raise
    except BaseException:
        if left is not None:
            plan.rejects.unlink(missing_ok=True)
        raise
    for file in records:
        file.commit()
    for path in gone:
        path.unlink(missing_ok=True)


def holds_rejects(path: Path) -> bool:
    """Whether a file holds rejected rows, as its first line says."""
    with open(path, "rb") as file:
        return file.read(200).replace(b'"', b"").startswith(b"gravel_row")
