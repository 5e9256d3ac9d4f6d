"""The page of a profile."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any

from gravel.inspecting.commands import drop_step, try_command
from gravel.profiling.result import ColumnProfile, Finding, Profile
from gravel.render.html.page import render_page
from gravel.version import __version__


def write_page(path: Path, result: Profile, table: Any, today: date) -> None:
    """Write a profile as one self-contained HTML file. Raises TableProblem."""
    numbered = list(enumerate(result.findings, 1))
    single = [key for key in result.facts.keys if len(key) == 1]
    render_page(
        path,
        "profile.html",
        profile=result,
        keys=single or result.facts.keys,
        findings=[_finding(number, item, result, table) for number, item in numbered],
        cards=[
            _card(item, [number for number, finding in numbered if finding.column == item.name])
            for item in result.columns
        ],
        levels={
            level: sum(item.level == level for item in result.findings)
            for level in ("wrong", "suspect", "note")
        },
        today=today.isoformat(),
        version=__version__,
    )


def _finding(number: int, value: Finding, profile: Profile, table: Any) -> dict[str, Any]:
    return {
        "number": number,
        "finding": value,
        "see": value.see,
        "fix": try_command(table, value.fix) if value.fix else "",
        "step": drop_step(value.leave_out) if value.leave_out else "",
        "rows": profile.rows,
    }


def _card(column_profile: ColumnProfile, numbers: list[int]) -> dict[str, Any]:
    spaces, case, damage = column_profile.spaces, column_profile.case, column_profile.damage
    counts = [
        ("NULL", column_profile.nulls),
        ("empty text", column_profile.empty),
        ("only white space", column_profile.blank),
        ("white space at an end", column_profile.padded),
        ("several spaces inside", spaces.runs),
        ("tab, line break or odd space", spaces.odd),
        ("control characters", spaces.control),
        ("mojibake", damage.misdecoded),
        ("replacement character", damage.replacement),
        ("run as formula", damage.formula),
        ("zero or plus lost in a cast", column_profile.loses_in_cast),
    ]
    cases = [
        ("capitals", case.upper),
        ("small letters", case.lower),
        ("Each Word", case.capitalised),
        ("mixed", case.mixed),
        ("no letters", case.none),
    ]
    return {
        "column": column_profile,
        "numbers": numbers,
        "counts": [(label, count) for label, count in counts if count],
        "cases": (
            [(label, count) for label, count in cases if count]
            if case.upper + case.lower + case.capitalised + case.mixed
            else []
        ),
        "fits": [fit for fit in sorted(column_profile.fits, key=lambda fit: -fit.rows) if fit.rows],
        "once": bool(column_profile.top) and column_profile.top[0][1] == 1,
    }
