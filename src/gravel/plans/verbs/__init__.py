"""The kinds of steps, a file each, by their verbs in the plan file."""

from __future__ import annotations

from gravel.plans.verbs.checking import CheckStep
from gravel.plans.verbs.columns import ColumnsStep
from gravel.plans.verbs.deduplicating import DeduplicateStep
from gravel.plans.verbs.filtering import FilterStep
from gravel.plans.verbs.querying import QueryStep
from gravel.plans.verbs.setting import SetStep
from gravel.plans.verbs.sorting import SortStep
from gravel.plans.verbs.splitting import SplitStep
from gravel.plans.verbs.step_kind import StepKind

STEP_KINDS: dict[str, StepKind] = {
    "set": SetStep(),
    "keep_rows": FilterStep(),
    "drop_rows": FilterStep(),
    "split": SplitStep(),
    "deduplicate": DeduplicateStep(),
    "columns": ColumnsStep(),
    "sort": SortStep(),
    "check": CheckStep(),
    "query": QueryStep(),
}
