"""Findings of a profile, as they are shown."""

from __future__ import annotations

from typing import Any

from rich.padding import Padding
from rich.text import Text

from gravel.inspecting.commands import drop_step, finding_command, suggest_command, try_command
from gravel.inspecting.drawing import marks_apart
from gravel.profiling.result import Finding, Profile
from gravel.render import screen
from gravel.words import number_of

_LONG = 84  # characters of a command that is shown whole; a longer one is by the finding's number
LEVEL_STYLES = {"wrong": screen.BAD, "suspect": screen.WARN, "note": screen.DIM}


def heading(profile: Profile) -> str:
    """What was looked at, in one line; of a sample it says so."""
    rows = f"{number_of(profile.rows)}"
    if profile.sample is not None:
        rows = (
            f"a sample of {profile.sample.rows:,} of"
            f" {screen.chosen_rows(profile.sample.of, profile.where)}:"
            " every figure is the sample's"
        )
    elif profile.where is not None:
        rows = screen.chosen_rows(profile.rows, profile.where)
    return f"{profile.table}: {rows}, {number_of(len(profile.columns), 'column')}"


def print_finding(out: Any, number: int, value: Finding, profile: Profile, table: Any) -> None:
    """One finding: its line, the command to see it, what fixes it: an assignment to try, or a line
    of a plan."""
    share = screen.percent(value.rows, profile.rows)
    line = Text().append(f"{number:3} ", style=screen.DIM)
    line.append(f"{value.level:8}", style=LEVEL_STYLES[value.level])
    line.append(f"{screen.safe(value.column or 'table')}", style="bold")
    line.append(f"  {value.finding}  ", style="")
    line.append(f"{value.rows:,} {'row' if value.rows == 1 else 'rows'}, {share}", style="bold")
    if profile.sample is not None:
        line.append(" of the sample", style=screen.WARN)
    out.print(line)
    out.print(_indented(screen.safe(value.detail)))
    if value.level == "note":
        return
    for word, text in (
        ("see", value.see),
        ("try", try_command(table, value.fix) if value.fix else ""),
        ("plan", drop_step(value.leave_out) if value.leave_out else ""),
    ):
        if not text:
            continue
        hidden = marks_apart(text) or screen.safe(text) != text  # what is shown could not be typed
        if (len(text) > _LONG or hidden) and profile.sample is None and profile.where is None:
            text = (
                suggest_command(table, number)
                if word == "plan"
                else finding_command("look" if word == "see" else "try", table, number)
            )
        result = Text().append(f"            {word}  ", style=screen.DIM)
        result.append(screen.safe(text), style=screen.MARK)
        out.print(result, soft_wrap=True)


def _indented(text: str) -> Any:
    return Padding(Text(text), (0, 0, 0, 12))
