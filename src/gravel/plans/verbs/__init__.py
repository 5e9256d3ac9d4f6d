"""The kinds of steps, a file each, by their verbs in the plan file. A kind is loaded when a plan
has it: a query brings all of SQL with it."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from gravel.plans.verbs.kind import StepKind

_HOMES = {
    "set": ("setting", "SetStep"),
    "keep_rows": ("filtering", "FilterStep"),
    "drop_rows": ("filtering", "FilterStep"),
    "split": ("splitting", "SplitStep"),
    "deduplicate": ("deduplicating", "DeduplicateStep"),
    "columns": ("columns", "ColumnsStep"),
    "sort": ("sorting", "SortStep"),
    "check": ("checking", "CheckStep"),
    "query": ("querying", "QueryStep"),
}


@cache
def step_kind(verb: str) -> StepKind:
    """The kind of step that a verb names."""
    module, name = _HOMES[verb]
    kind: StepKind = getattr(import_module(f"gravel.plans.verbs.{module}"), name)()
    return kind
