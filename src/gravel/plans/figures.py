"""A run's figures under stable names, as JSON and the record have them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from gravel import documents
    from gravel.plans.changes import TableDiff
    from gravel.plans.ledger import StepLine
    from gravel.plans.result import Run


def total_json(value: Any) -> Any:
    """A control total: exact numbers as texts."""
    return value if value is None or (isinstance(value, int) and abs(value) < 2**53) else str(value)


def step_json(line: StepLine, totals: Sequence[str]) -> documents.StepEntry:
    """A line of the ledger."""
    count = line.count
    return {
        "step": line.step,
        "verb": line.verb,
        "note": line.note,
        "in": count.rows_in,
        "changed": count.changed,
        "added": count.added,
        "dropped": count.dropped,
        "merged": count.merged,
        "set_aside": count.set_aside,
        "out": count.rows_out,
        "dropped_false": count.dropped_false,
        "dropped_unknown": count.dropped_unknown,
        "failed": count.stopped,
        "changed_columns": dict(count.changed_columns),
        "new_columns": list(line.new_columns),
        "gone_columns": list(line.lost_columns),
        "rows": line.stated,
        "not_concerned": count.not_concerned,
        "notes": {what: rows for what, rows in count.notes.items() if rows},
        "words": count.words or None,
        "conflicts": line.conflicts,
        "checks": [
            {
                "check": name,
                "rows": item.rows,
                "false": item.false,
                "unknown": item.unknown,
                "errors": item.errors,
                "bad": item.bad,
                "first": item.first,
            }
            for name, item in count.checks.items()
        ],
        "totals": dict(zip(totals, map(total_json, line.totals), strict=True)),
    }


def steps_json(done: Run) -> list[documents.StepEntry]:
    """The ledger, a line a step."""
    return [step_json(line, done.totals) for line in done.steps]


def proofs_json(done: Run) -> list[documents.ProofEntry]:
    """The proofs."""
    return [
        {"proof": item.proof, "holds": item.holds, "detail": item.detail} for item in done.proofs
    ]


def changes_json(changes: TableDiff) -> documents.TableChanges:
    """What a plan in place did to its table."""
    return {
        "updated": changes.updated,
        "deleted": changes.deleted,
        "inserted": changes.inserted,
        "cells": changes.cells,
    }
