"""Writing the cells that differ into the table that a plan has read: as it was when it was read,
then as it was proved, or not at all."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from gravel.engine.hashing import combined
from gravel.engine.sets import member
from gravel.kernels.arrays import to_arrow
from gravel.language.types import BINARY, TEXT
from gravel.ledger.fingerprint import Content, content_of, kept_type, what_differs
from gravel.plans.changes import TableDiff, changes_of
from gravel.plans.destination import Destination
from gravel.plans.ledger import Proof
from gravel.plans.placing import (
    Placed,
    backed_up,
    drop_made,
    kept_copy,
    refuse_unfit_table,
    rejects_placed,
)
from gravel.plans.steps import BoundPlan
from gravel.sources.source import Source, scan
from gravel.stores.sql import open_database
from gravel.words import number_of


def in_place(
    plan: BoundPlan,
    rows: Source,
    numbers: np.ndarray,
    read: Content,
    left: Source | None,
    backup: str | None,
) -> Placed:
    """The cells that differ, written into the plan's own table. `read`: the table's content when it
    was read. Raises TableProblem, DataProblem."""
    to = plan.destination
    changes = changes_of(plan, rows, numbers)
    base = open_database(to.reference, plan.file.path.parent)
    placed = Placed(changes=changes, _close=base.close)
    results: list[str] = []
    try:
        refuse_unfit_table(plan, base, backup)
        if not base.whole_ddl:
            # Tables that are made for good at once come before the transaction, and are taken away
            # if it fails.
            for name in [item for item in (backup,) if item]:
                results.append(name)
                base.copy(to.table, name)
            placed._undo = lambda: drop_made(base, results)
        base.lock(to.table)
        now = base.read(to.table)
        before = (
            content_of(now, [TEXT] * len(now.columns))
            if now.columns == plan.table.columns
            else None
        )
        if before is None or (before.rows, before.value) != (read.rows, read.value):
            placed.conflict = _conflict(plan, now)
            return placed
        message = (
            f"{number_of(before.rows)}, the same in every column, and no one else can change them"
            " until all is done"
        )
        placed.proofs.append(Proof("the table is as it was when it was read", True, message))
        counted = base.count(to.table)
        if backup is not None:
            placed.proofs.append(
                backed_up(base, to.table, backup)
                if base.whole_ddl
                else kept_copy(base, to.table, backup)
            )
        changed = {name for update in changes.updates for name in update.columns}
        others = [
            dependent
            for dependent in base.dependents(to.table)
            if dependent.acts and (changes.deleted or changed & dependent.referenced)
        ]
        base.hold(others)
        referring = _contents(base, others)
        placed.proofs.append(_done(base, to, changes, plan, now))
        if referring:
            placed.proofs.append(_still_referring(referring, _contents(base, others)))
        after = base.count(to.table)
        expected = sum(scan(rows, lambda batch: batch.count, []))
        message = (
            f"{counted:,} before, {after:,} after by the database's own count; {before.rows:,} and"
            f" {expected:,} in the ledger"
        )
        placed.proofs.append(
            Proof(
                "the table has the rows the ledger says",
                counted == before.rows and after == expected,
                message,
            )
        )
        proof, placed.content = _same_after(plan, base, rows, now)
        placed.proofs.append(proof)
        if left is not None:
            placed.proofs.append(rejects_placed(base, to.left_table, left, drop=True))
    except BaseException:
        placed.discard()
        raise
    placed._commit = base.commit
    return placed


def _contents(base: Any, tables: Sequence[Any]) -> dict[str, tuple[int, str]]:
    """Rows and content of tables."""
    results = {}
    for item in tables:
        table = base.read(item.table)
        result = content_of(table, [TEXT] * len(table.columns))
        results[item.table] = (result.rows, result.value)
    return results


def _still_referring(
    before: dict[str, tuple[int, str]], after: dict[str, tuple[int, str]]
) -> Proof:
    """A foreign key may take rows of another table with it, or change its references."""
    lost = []
    for name, (rows, content) in before.items():
        now, other = after[name]
        if (rows, content) != (now, other):
            lost.append(
                f"{name} had {number_of(rows)},"
                f" {f'has {now:,}' if now != rows else 'of which some are not as they were'}"
            )
    message = "; ".join(lost) or ", ".join(
        f"{name}: {number_of(rows)}, compared by value" for name, (rows, _) in before.items()
    )
    return Proof("tables that refer to it are as they were", not lost, message)


def _done(base: Any, to: Destination, changes: TableDiff, plan: BoundPlan, now: Source) -> Proof:
    """Carry out the changes: rows go first, copies come last, so that a key never finds two
    rows."""
    kinds = {
        column.name: (
            BINARY if column.name in now.binary and not column.touched else kept_type(column.type)
        )
        for column in plan.columns
    }
    key = [(name, kinds[name]) for name in changes.key]
    deleted = 0 if changes.deletes is None else base.delete(to.table, key, changes.deletes)
    updated = sum(
        base.update(to.table, key, [(name, kinds[name]) for name in item.columns], item.texts)
        for item in changes.updates
    )
    computed = base.shape(to.table).computed
    every = [name for name in now.columns if name not in computed]
    inserted = 0
    if changes.copies is not None:
        columns = [(name, kinds[name]) for name in changes.copies.columns if name in every]
        inserted += base.repeat(to.table, key, columns, changes.copies.texts, every)
    if changes.made is not None:
        columns = [(name, kinds[name]) for name in now.columns if name in every]
        inserted += base.insert(
            to.table,
            columns,
            [item for item, name in zip(changes.made, now.columns, strict=True) if name in every],
        )
    same = (updated, deleted, inserted) == (changes.updated, changes.deleted, changes.inserted)
    detail = changes.told + ", as many as differ"
    if not same:
        detail = (
            f"the database changed {updated:,}, deleted {deleted:,}, inserted {inserted:,};"
            f" planned: {changes.told}"
        )
    return Proof("only what differs was changed", same, detail)


def _same_after(plan: BoundPlan, base: Any, rows: Source, before: Source) -> tuple[Proof, str]:
    """Whether the table now holds the output, but for columns that the database sets by itself."""
    to = plan.destination
    again = base.read(to.table)
    own = {*base.shape(to.table).computed, *plan.file.model.store_sets}
    signed = {column.name: kept_type(column.type) for column in plan.columns}
    # Where the database keeps a text, 007 and 7 are two values, whatever the plan takes them for.
    kinds = {name: TEXT if name in before.spelt else kind for name, kind in signed.items()}
    names = [name for name in plan.names if name not in own]
    ours = [plan.names.index(name) for name in names]
    theirs = [again.columns.index(name) for name in names]
    forms = {
        plan.names.index(name): form
        for name, form in base.forms(to.table).items()
        if plan.columns[plan.names.index(name)].touched
    }
    proved = content_of(rows, [kinds[name] for name in plan.names], ours, forms)
    stored = content_of(again, [kinds[name] for name in again.columns], theirs)
    same = (proved.rows, proved.value) == (stored.rows, stored.value)
    size = f"{number_of(stored.rows)} by {number_of(len(names), 'column')}"
    detail = f"{size} read back and compared by value"
    if own:
        detail += f"; not compared, since the database sets them: {', '.join(sorted(own))}"
    if not same:
        result = what_differs(
            rows, ours, again, theirs, [(name, kinds[name]) for name in names], forms
        )
        detail = (
            result
            or f"{number_of(stored.rows)} read back, {proved.rows:,} proved; some values differ"
        )
        detail += (
            "; the column cannot hold it, or the database set it by itself (store_sets names such"
            " columns)"
        )
    every = not own and plan.names == again.columns and kinds == signed
    whole = stored if every else content_of(again, [signed[name] for name in again.columns])
    return Proof(f"{to.shown} holds what was proved", same, detail), whole.value


def _keys(table: Source, key: Sequence[int], chosen: np.ndarray) -> dict[tuple[Any, ...], None]:
    """The keys of some rows, in their order."""
    results: dict[tuple[Any, ...], None] = {}
    row = 0
    for columns in scan(
        table, lambda batch: [batch.texts().columns[index] for index in key], list(key)
    ):
        subset = to_arrow(np.flatnonzero(chosen[row : row + len(columns[0])]))
        row += len(columns[0])
        results |= dict.fromkeys(
            zip(*(column.take(subset).to_pylist() for column in columns), strict=True)
        )
    return results


def _conflict(plan: BoundPlan, now: Source) -> str:
    """What is not as it was when the table was read, in words: columns, rows that came and went,
    some keys."""
    then = plan.table
    if then.columns != now.columns:
        return f"its columns were {', '.join(then.columns)} and are {', '.join(now.columns)}"
    before, after = (
        np.concatenate(
            [np.zeros(0, np.uint64), *scan(table, lambda batch: combined(batch.texts().columns))]
        )
        for table in (then, now)
    )
    # Only rows that the other side does not have are looked at one by one.
    old, new = (
        _keys(then, plan.key, ~member(before, np.sort(after))),
        _keys(now, plan.key, ~member(after, np.sort(before))),
    )
    changed = [key for key in new if key in old]
    came, went = [key for key in new if key not in old], [key for key in old if key not in new]
    parts = []
    for what, keys in (("changed", changed), ("came", came), ("went", went)):
        if keys:
            subset = ", ".join(
                " ".join("NULL" if item is None else str(item) for item in key) for key in keys[:3]
            )
            parts.append(
                f"{len(keys):,} {'row' if len(keys) == 1 else 'rows'} {what}"
                f" ({subset}{', …' if len(keys) > 3 else ''})"
            )
    return ", ".join(parts) or "its rows are others than they were"
