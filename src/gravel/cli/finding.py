"""`--finding N`: what `look` and `try` are asked for by the number of a finding."""

from __future__ import annotations

from datetime import date
from typing import Any

from gravel.cli import render
from gravel.cli.options import progress
from gravel.inspecting.commands import see_command, table_words
from gravel.problems import CallProblem
from gravel.profiling.kept import Numbered, finding


def condition_of(table: Any, number: int, today: date, color: bool) -> str:
    """The condition of a finding's rows, which is told. Raises CallProblem where it has none."""
    found = _found(table, number, today)
    one = found.finding
    if not one.where:
        other = see_command(table, one.where, one.finding)
        raise CallProblem(
            f"finding {number} ({one.finding}) has no condition", hint=other or f"it is about {one.column or 'the table'} as a whole"
        )
    render.note(f"{_title(found)}: {one.where}", color)
    return one.where


def assignment_of(table: Any, number: int, today: date, color: bool) -> str:
    """The assignment that mends a finding, which is told. Raises CallProblem where there is none."""
    found = _found(table, number, today)
    one = found.finding
    if not one.mend:
        name, *options = table_words(table)
        look = " ".join(["gravel look", name, f"--finding {number}", *options])
        raise CallProblem(
            f"finding {number} ({one.finding}) has no mending: which value is right is not in the table", hint=f"its rows: {look}"
        )
    render.note(f"{_title(found)}: {one.mend}", color)
    return one.mend


def _found(table: Any, number: int, today: date) -> Numbered:
    with progress(table, 2):
        return finding(table, number, today)


def _title(found: Numbered) -> str:
    one = found.finding
    return f"finding {found.number} of {found.of}, {one.column or 'table'}, {one.finding}"
