"""The result of every command: `docs/schemas` is made from these classes. A document's own name and
version (`"gravel": "count/2"`) stands before their figures."""

from __future__ import annotations

from gravel.comparing.result import Compared
from gravel.duplicates.near import Near
from gravel.duplicates.result import Duplicates
from gravel.figures import Figures
from gravel.inspecting.attempt import Trial
from gravel.inspecting.check import Checked
from gravel.inspecting.counts import Counts
from gravel.inspecting.look import View
from gravel.plans.record import Verified
from gravel.plans.rehearse import Rehearsal
from gravel.plans.result import Run
from gravel.plans.trace import TracedRows
from gravel.profiling.result import Profile
from gravel.querying.examples import FunctionList
from gravel.querying.result import QueryOutcome

RESULTS: dict[str, tuple[type[Figures], ...]] = {
    "count": (Counts,),
    "look": (View,),
    "profile": (Profile,),
    "try": (Trial, Rehearsal),
    "check": (Checked,),
    "duplicates": (Duplicates, Near),
    "query": (QueryOutcome,),
    "clean": (Run,),
    "trace": (TracedRows,),
    "compare": (Compared,),
    "verify": (Verified,),
    "functions": (FunctionList,),
}
