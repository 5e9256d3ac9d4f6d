"""What commands find, as plain values for JSON: one form for the terminal's `--format json` and for
Python."""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from gravel.inspecting.cells import json_value
from gravel.language.errors import meaning
from gravel.language.functions.casts import double_text
from gravel.plans.edit import deduplicate_text
from gravel.plans.figures import changes_json, proofs_json, step_json, steps_json
from gravel.querying.examples import outcome

if TYPE_CHECKING:
    from pathlib import Path

    from gravel import documents
    from gravel.comparing.result import Compared
    from gravel.duplicates.near import Near
    from gravel.duplicates.result import Duplicates, Group
    from gravel.inspecting.attempt import Attempt, Trial
    from gravel.inspecting.cautions import BranchCount, Caution
    from gravel.inspecting.check import Checked
    from gravel.inspecting.look import View
    from gravel.language.functions.catalogue import Function
    from gravel.plans.ledger import ChangeExample
    from gravel.plans.record import Verified
    from gravel.plans.rehearse import Rehearsal
    from gravel.plans.result import Run
    from gravel.plans.trace import TracedPath, TracedRows
    from gravel.querying.relation import Relation
    from gravel.querying.session import Session


def cautions_json(result: Sequence[Caution]) -> list[documents.CautionEntry]:
    """Cautions as JSON."""
    return [
        {
            "caution": item.caution,
            "rows": item.rows,
            "detail": item.detail,
            "hint": item.hint,
            "examples": list(item.examples),
        }
        for item in result
    ]


def branches_json(result: Sequence[BranchCount]) -> list[documents.CaseBranches]:
    """The branches of each CASE as JSON."""
    return [
        {
            "case": item.text,
            "branches": [{"when": when, "rows": rows} for when, rows in item.whens],
            "else": item.otherwise,
            "else_unknown": item.unknown,
        }
        for item in result
    ]


def step_text(duplicates: Duplicates) -> str:
    """The proposed step as TOML."""
    assert duplicates.proposal is not None
    return deduplicate_text(
        duplicates.proposal.by,
        duplicates.proposal.prefer,
        duplicates.proposal.fill,
        bool(duplicates.proposal.disagree),
    )


def check_dict(checked: Checked, set_aside: Path | None) -> documents.CheckDocument:
    return {
        "table": checked.table,
        "rows": checked.rows,
        "malformed": len(checked.malformed),
        "read": checked.read,
        "checks": [
            {
                "name": check.name,
                "condition": check.condition,
                "holds": check.holds,
                "fails": check.fails,
                "unknown": check.unknown,
                "errors": check.errors,
                "allowed": check.most,
                "passed": check.passed,
                "whole_table": check.whole,
                "examples": [
                    {
                        "row": example.row or None,
                        "outcome": example.outcome,
                        "values": dict(example.values),
                        "sqlstate": example.sqlstate or None,
                    }
                    for example in check.examples
                ],
            }
            for check in checked.checks
        ],
        "rows_that_do_not_hold": checked.bad_rows,
        "set_aside": None if set_aside is None else str(set_aside),
        "cautions": cautions_json(checked.cautions),
        "remarks": list(checked.remarks),
    }


def run_dict(done: Run) -> documents.CleanDocument:
    cautions: list[documents.StepCautionEntry] = [
        {"step": line.step, **item} for line in done.steps for item in cautions_json(line.cautions)
    ]
    return {
        "status": "good" if done.good else "failed",
        "rows_in": done.rows_in,
        "rows_out": done.rows_out,
        "malformed": len(done.malformed),
        "read": done.read,
        "steps": steps_json(done),
        "proofs": proofs_json(done),
        "errors": [
            {
                "step": step,
                "column": column or None,
                "sqlstate": kind.sqlstate,
                "rows": kind.rows,
                "example": kind.example,
                "row": kind.row,
            }
            for step, column, kind in done.errors
        ],
        "cautions": cautions,
        "changes": None if done.changes is None else changes_json(done.changes),
        "conflict": done.conflict or None,
        "output": done.output,
        "rejects": done.rejects,
        "record": done.record,
        "cleared": list(done.cleared),
    }


def compare_dict(compared: Compared) -> documents.CompareDocument:
    def sides(name: str) -> documents.Sides:
        return {
            "before": getattr(compared.before_keys, name),
            "after": getattr(compared.after_keys, name),
        }

    return {
        "before": {
            "table": compared.before,
            "rows": compared.before_rows,
            "malformed": len(compared.before_malformed),
            "read": compared.read[0],
        },
        "after": {
            "table": compared.after,
            "rows": compared.after_rows,
            "malformed": len(compared.after_malformed),
            "read": compared.read[1],
        },
        "key": list(compared.key),
        "both": compared.both,
        "only_before": compared.only_before,
        "only_after": compared.only_after,
        "repeated_keys": sides("repeated"),
        "repeated_rows": sides("repeated_rows"),
        "null_keys": sides("null"),
        "changed_rows": compared.changed_rows,
        "columns": [
            {
                "column": item.column,
                "equal": item.equal,
                "changed": item.changed,
                "filled": item.filled,
                "emptied": item.emptied,
            }
            for item in compared.columns
        ],
        "only_before_columns": list(compared.before_columns),
        "only_after_columns": list(compared.after_columns),
        "types": [
            {"column": name, "before": old, "after": new} for name, old, new in compared.types
        ],
        "examples": [
            {
                "key": dict(zip(compared.key, example.key, strict=True)),
                "column": example.column,
                "before": example.before,
                "after": example.after,
                "before_row": example.before_row,
                "after_row": example.after_row,
            }
            for example in compared.examples
        ],
        "only_before_examples": [
            {"row": item.row, "key": dict(zip(compared.key, item.key, strict=True))}
            for item in compared.alone_before
        ],
        "only_after_examples": [
            {"row": item.row, "key": dict(zip(compared.key, item.key, strict=True))}
            for item in compared.alone_after
        ],
        "status": "same" if compared.same else "differs",
    }


def _total(value: Any) -> Any:
    """A total as JSON: integers to 2^53 and finite doubles as numbers, all others as strings."""
    if isinstance(value, float) and not math.isfinite(value):
        return double_text(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, int) and abs(value) > 2**53:
        return str(value)
    return value


def count_dict(item: Any) -> documents.CountedTable:
    return {
        "table": item.table,
        "rows": item.rows,
        "columns": item.columns,
        "malformed": item.malformed,
        "read": item.read,
        "store_key": None if item.store_key is None else list(item.store_key),
        "not_null": list(item.not_null),
        "distinct": [
            {
                "on": d.on,
                "distinct": d.distinct,
                "null_rows": d.null_rows,
                "error_rows": d.error_rows,
            }
            for d in item.distinct
        ],
        "keys": [
            {
                "columns": list(key.columns),
                "null_rows": key.null_rows,
                "repeated_rows": key.repeated_rows,
            }
            for key in item.keys
        ],
        "totals": [
            {
                "total": t.total,
                "value": _total(t.value),
                "null_rows": t.null_rows,
                "error_rows": t.error_rows,
            }
            for t in item.totals
        ],
    }


def duplicates_dict(duplicates: Duplicates) -> documents.DuplicatesDocument:
    def group(item: Group) -> documents.DuplicateGroup:
        rows: list[documents.DuplicateRow] = [
            {"row": row.row, "values": dict(zip(duplicates.columns, row.values, strict=True))}
            for row in item.rows
        ]
        return {
            "group": item.number,
            "size": item.size,
            "rows": rows,
            "differs": [duplicates.columns[differ] for differ in item.differs],
        }

    proposal: documents.DeduplicationProposal | None = None
    if duplicates.proposal is not None:
        entry = duplicates.proposal
        proposal = {
            "by": list(entry.by),
            "prefer": entry.prefer,
            "fill": list(entry.fill),
            "disagree": dict(entry.disagree),
            "rescued": dict(entry.rescued),
            "step": step_text(duplicates),
        }
    return {
        "table": duplicates.table,
        "on": list(duplicates.on),
        "level": duplicates.match_level,
        "key": list(duplicates.key),
        "rows": duplicates.rows,
        "groups": duplicates.groups,
        "rows_in_groups": duplicates.rows_in_groups,
        "extra_rows": duplicates.surplus,
        "largest": duplicates.largest,
        "null_rows": duplicates.null_rows,
        "error_rows": duplicates.error_rows,
        "malformed": len(duplicates.malformed),
        "read": duplicates.read,
        "shown": [group(item) for item in duplicates.shown],
        "levels": [
            {
                "level": item.match_level,
                "expression": ", ".join(item.expressions),
                "groups": item.groups,
                "extra_rows": item.surplus,
                "new_groups": item.new_groups,
                "examples": [
                    [{"value": value, "rows": rows} for value, rows in example]
                    for example in item.examples
                ],
            }
            for item in duplicates.match_levels
        ],
        "left_out": [{"column": text, "groups": more} for text, more in duplicates.left_out],
        "proposal": proposal,
    }


def function_dict(function: Function) -> documents.FunctionEntry:
    return {
        "name": function.name,
        "family": function.family,
        "signatures": [signature.text for signature in function.signatures],
        "meaning": function.meaning,
        "examples": [
            {"expression": text, "result": result}
            for text, result in [(text, outcome(text)) for text in function.examples]
        ],
        "errors": [{"sqlstate": state, "meaning": meaning(state)} for state in function.errors],
    }


def look_dict(view: View) -> documents.LookDocument:
    shown: list[documents.ShownRow] = [
        {
            "row": row,
            "values": {
                column.name: json_value(view.cells[position][index], column.type.kind)
                for position, column in enumerate(view.columns)
            },
        }
        for index, row in enumerate(view.row_numbers)
    ]
    types = {column.name: _type(column) for column in view.columns}
    return {
        "table": view.table,
        "rows": view.rows,
        "matching": view.matching,
        "unknown": view.unknown,
        "errors": view.errors,
        "malformed": len(view.malformed),
        "read": view.read,
        "types": types,
        "shown": shown,
        "cautions": cautions_json(view.cautions),
        "branches": branches_json(view.branches),
        "remarks": list(view.remarks),
    }


def _type(column: Any) -> str:
    """A text file's column is a number of some kind, without a declared precision; a computed one
    has its own."""
    return str(column.type) if column.computed else str(column.type.kind.value)


def near_dict(near: Near) -> documents.NearDocument:
    return {
        "table": near.table,
        "near": near.expression,
        "measure": near.measure,
        "bound": near.bound,
        "block": near.block,
        "proposed_block": near.proposed,
        "rows": near.rows,
        "values": near.values,
        "null_rows": near.null_rows,
        "error_rows": near.error_rows,
        "unblocked_rows": near.unblocked_rows,
        "blocks": near.blocks,
        "compared": near.compared,
        "value_pairs": near.value_pairs,
        "pair_count": near.pairs,
        "pairs": [
            {
                "a": item.a,
                "b": item.b,
                "measure": int(item.measure) if near.measure == "distance" else item.measure,
                "a_value": item.a_value,
                "b_value": item.b_value,
            }
            for item in near.shown
        ],
        "clusters": [list(rows) for rows in near.clusters],
        "missed": near.missed,
        "malformed": len(near.malformed),
        "read": near.read,
    }


def query_dict(
    relation: Relation, texts: list[list[str | None]], session: Session, write: str | None
) -> documents.QueryDocument:
    columns = [
        [json_value(cell, kind.kind) for cell in column]
        for column, kind in zip(texts, relation.types, strict=True)
    ]
    return {
        "columns": [
            {"name": name, "type": str(kind)}
            for name, kind in zip(relation.names, relation.types, strict=True)
        ],
        "rows": [list(row) for row in zip(*columns, strict=True)],
        "row_count": relation.count,
        "tables": session.tables.read_as,
        "account": [
            {
                "stage": item.stage,
                "in": item.rows_in,
                "out": item.rows_out,
                "detail": item.detail,
                "inputs": list(item.inputs),
            }
            for item in session.account.stages
        ],
        "cautions": cautions_json(session.account.cautions),
        "remarks": list(session.account.remarks),
        "errors": [
            {
                "stage": fault.stage,
                "expression": fault.expression,
                "sqlstate": fault.sqlstate,
                "rows": fault.rows,
                "row": fault.row,
                "first_rows": list(fault.first),
            }
            for fault in session.account.faults
        ],
        "written": write,
    }


def step_dict(rehearsal: Rehearsal) -> documents.StepDocument:
    count = rehearsal.line.count

    def samples(supplied: dict[str, list[ChangeExample]]) -> dict[str, list[documents.PathExample]]:
        return {
            what: [
                {"path": item.path, "before": item.before, "after": item.after} for item in subset
            ]
            for what, subset in supplied.items()
            if subset
        }

    return {
        "plan": rehearsal.plan,
        "table": rehearsal.table,
        "malformed": len(rehearsal.malformed),
        "read": rehearsal.read,
        "step": step_json(rehearsal.line, rehearsal.totals),
        "changes": samples(count.changes),
        "samples": samples(count.samples),
        "left": [
            {
                "path": item.path,
                "outcome": item.outcome,
                "reason": item.reason,
                "sqlstate": item.sqlstate,
                "into": item.into,
            }
            for item in count.gone
        ],
        "errors": [
            {
                "column": column or None,
                "sqlstate": kind.sqlstate,
                "rows": kind.rows,
                "example": kind.example,
                "row": kind.row,
            }
            for column, kind in rehearsal.errors
        ],
        "stops": rehearsal.stops,
        "cautions": cautions_json(rehearsal.line.cautions),
    }


def trace_dict(traced: TracedRows) -> documents.TraceDocument:
    def path(traced_path: TracedPath) -> documents.TracePath:
        events: list[documents.TraceEvent] = [
            {
                "step": event.step,
                "verb": event.verb,
                "outcome": event.outcome,
                "changes": [
                    {
                        "column": change.column,
                        "before": change.before,
                        "after": change.after,
                        "kind": change.kind,
                    }
                    for change in event.changes
                ],
                "reason": event.reason,
                "sqlstate": event.sqlstate,
                "read": dict(event.read),
                "into": event.into,
                "paths": list(event.paths),
            }
            for event in traced_path.events
        ]
        return {
            "path": traced_path.path,
            "events": events,
            "ends": traced_path.ends,
            "output_row": traced_path.output_row,
        }

    return {
        "plan": traced.plan,
        "table": traced.table,
        "read": traced.read,
        "matching": traced.matching,
        "rows": [
            {"row": item.row, "paths": [path(each) for each in item.paths]} for item in traced.rows
        ],
    }


def try_dict(trial: Trial) -> documents.TryDocument:
    return {
        "table": trial.table,
        "rows": trial.rows,
        "malformed": len(trial.malformed),
        "read": trial.read,
        "assignments": [_attempt_json(attempt) for attempt in trial.attempts],
        "cautions": cautions_json(trial.cautions),
        "branches": branches_json(trial.branches),
        "remarks": list(trial.remarks),
    }


def _attempt_json(attempt: Attempt) -> documents.AssignmentEntry:
    return {
        "column": attempt.column,
        "changed": attempt.changed,
        "unchanged": attempt.unchanged,
        "errors": attempt.errors,
        "filled": attempt.filled,
        "emptied": attempt.emptied,
        "changes": [
            {"before": before, "after": after, "rows": rows}
            for before, after, rows in attempt.changes
        ],
        "error_kinds": [
            {"sqlstate": kind.sqlstate, "rows": kind.rows, "example": kind.example, "row": kind.row}
            for kind in attempt.error_kinds
        ],
    }


def verify_dict(verified: Verified) -> documents.VerifyDocument:
    return {
        "status": "differs" if verified.differences else "same",
        "findings": [
            {"what": item.what, "then": item.then, "now": item.now} for item in verified.differences
        ],
        "checked": [item.what for item in verified.checked],
    }
