"""Gravel profiles and cleans the values in relational tables with SQL expressions, and proves the
row counts.

    import gravel

    boats = gravel.open_table("boats.csv")
    boats.profile().findings
    gravel.query("SELECT pier, COUNT(*) AS n FROM boats GROUP BY pier", tables={"boats": boats})
    gravel.Plan.load("boats.toml").run()

Importing it loads nothing else: what a name stands for is loaded when the name is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.api import Plan, QueryResult, Result, Table, open_table, query
    from gravel.language.diagnostics import Diagnostic
    from gravel.problems import CallProblem, DataProblem, Problem, Problems, TableProblem

_HOMES = {
    **dict.fromkeys(("Plan", "QueryResult", "Result", "Table", "open_table", "query"), "api"),
    **dict.fromkeys(
        ("CallProblem", "DataProblem", "Problem", "Problems", "TableProblem"), "problems"
    ),
    "Diagnostic": "language.diagnostics",
}
__all__ = [
    "CallProblem",
    "DataProblem",
    "Diagnostic",
    "Plan",
    "Problem",
    "Problems",
    "QueryResult",
    "Result",
    "Table",
    "TableProblem",
    "__version__",
    "open_table",
    "query",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module gravel has no attribute {name}")
    return getattr(import_module(f"gravel.{_HOMES[name]}"), name)


def __dir__() -> list[str]:
    return __all__
