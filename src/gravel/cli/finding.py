"""`--finding N`: a finding of the last profile by its number, for `look` and `try`."""

from __future__ import annotations

from datetime import date
from typing import Any

from gravel.cli.options import progress
from gravel.inspecting.commands import finding_command, see_command, suggest_command
from gravel.problems import CallProblem
from gravel.profiling.kept import Numbered, finding
from gravel.render import screen


def condition_of(table: Any, number: int, today: date, color: bool) -> str:
    """The condition of a finding's rows, which is told. Raises CallProblem where it has none."""
    result = _found(table, number, today)
    item = result.finding
    if not item.where:
        other = see_command(table, item.where, item.finding)
        raise CallProblem(
            f"finding {number} ({item.finding}) has no condition",
            hint=other or f"it is about {item.column or 'the table'} as a whole",
        )
    screen.note(f"{_title(result)}: {item.where}", color)
    return item.where


def assignment_of(table: Any, number: int, today: date, color: bool) -> str:
    """The assignment that fixes a finding, which is told. Raises CallProblem where there is
    none."""
    result = _found(table, number, today)
    item = result.finding
    if not item.fix:
        look = finding_command("look", table, number)
        raise CallProblem(
            f"finding {number} ({item.finding}) has no fix: "
            + (
                "its rows are to be left out, which a plan does"
                if item.leave_out
                else "which value is right is not in the table"
            ),
            hint=f"{suggest_command(table, number)} begins one"
            if item.leave_out
            else f"its rows: {look}",
        )
    screen.note(f"{_title(result)}: {item.fix}", color)
    return item.fix


def _found(table: Any, number: int, today: date) -> Numbered:
    with progress(table, 2):
        return finding(table, number, today)


def _title(numbered: Numbered) -> str:
    item = numbered.finding
    return f"finding {numbered.number} of {numbered.of}, {item.column or 'table'}, {item.finding}"
