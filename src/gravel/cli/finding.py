"""Findings on the terminal: how one is shown, and `--finding N`, by whose number `look` and `try`
are asked."""

from __future__ import annotations

from datetime import date
from typing import Any

from rich.padding import Padding
from rich.text import Text

from gravel.cli import render
from gravel.cli.options import progress
from gravel.inspecting.commands import finding_command, see_command, try_command
from gravel.problems import CallProblem
from gravel.profiling.kept import Numbered, finding
from gravel.profiling.result import Finding, Profile

_LONG = 84  # characters of a command that is shown whole; a longer one is by the finding's number
LEVEL_STYLES = {"wrong": render.BAD, "suspect": render.WARN, "note": render.DIM}


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
    render.note(f"{_title(result)}: {item.where}", color)
    return item.where


def assignment_of(table: Any, number: int, today: date, color: bool) -> str:
    """The assignment that fixes a finding, which is told. Raises CallProblem where there is
    none."""
    result = _found(table, number, today)
    item = result.finding
    if not item.fix:
        look = finding_command("look", table, number)
        raise CallProblem(
            f"finding {number} ({item.finding}) has no fix: which value is right is not in the"
            " table",
            hint=f"its rows: {look}",
        )
    render.note(f"{_title(result)}: {item.fix}", color)
    return item.fix


def _found(table: Any, number: int, today: date) -> Numbered:
    with progress(table, 2):
        return finding(table, number, today)


def _title(numbered: Numbered) -> str:
    item = numbered.finding
    return f"finding {numbered.number} of {numbered.of}, {item.column or 'table'}, {item.finding}"


def heading(profile: Profile) -> str:
    """What was looked at, in one line; of a sample it says so."""
    rows = f"{profile.rows:,} rows"
    if profile.sample is not None:
        rows = (
            f"a sample of {profile.sample.rows:,} of {profile.sample.of:,} rows: "
            "every figure is the sample's"
        )
    return f"{profile.table}: {rows}, {len(profile.columns):,} columns"


def print_finding(out: Any, number: int, value: Finding, profile: Profile, table: Any) -> None:
    """One finding: its line, the command to see it, the assignment to fix it."""
    share = render.percent(value.rows, profile.rows)
    line = Text().append(f"{number:3} ", style=render.DIM)
    line.append(f"{value.level:8}", style=LEVEL_STYLES[value.level])
    line.append(f"{render.safe(value.column or 'table')}", style="bold")
    line.append(f"  {value.finding}  ", style="")
    line.append(f"{value.rows:,} {'row' if value.rows == 1 else 'rows'}, {share}", style="bold")
    if profile.sample is not None:
        line.append(" of the sample", style=render.WARN)
    out.print(line)
    out.print(_indented(render.safe(value.detail)))
    if value.level == "note":
        return
    for word, text in (
        ("see", see_command(table, value.where, value.finding)),
        ("try", try_command(table, value.fix) if value.fix else ""),
    ):
        if not text:
            continue
        if len(text) > _LONG and profile.sample is None:
            text = finding_command("look" if word == "see" else "try", table, number)
        result = Text().append(f"            {word}  ", style=render.DIM)
        result.append(render.safe(text), style=render.MARK)
        out.print(result, soft_wrap=True)


def _indented(text: str) -> Any:
    return Padding(Text(text), (0, 0, 0, 12))
