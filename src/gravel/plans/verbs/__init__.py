"""The verbs of a step, a file each: `written` gives a step's SQL texts, `names` the columns it
reads without SQL, `bind` what runs it and the columns it leaves."""

from __future__ import annotations

from typing import Any

from gravel.plans.verbs import (
    checking,
    columns,
    deduplicating,
    filtering,
    querying,
    setting,
    sorting,
    splitting,
)

VERBS: dict[str, Any] = {
    "set": setting,
    "keep_rows": filtering,
    "drop_rows": filtering,
    "split": splitting,
    "deduplicate": deduplicating,
    "columns": columns,
    "sort": sorting,
    "check": checking,
    "query": querying,
}
