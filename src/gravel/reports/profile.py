"""The page of a profile."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Any

from gravel import __version__
from gravel.inspecting.commands import see_command, try_command
from gravel.profiling.result import ColumnProfile, Finding, Profile
from gravel.reports.page import render_page


def write_page(path: Path, found: Profile, table: Any, today: date) -> None:
    """Write a profile as one self-contained HTML file. Raises TableProblem."""
    numbered = list(enumerate(found.findings, 1))
    single = [key for key in found.facts.keys if len(key) == 1]
    render_page(
        path, "profile.html", profile=found, keys=single or found.facts.keys,
        findings=[_finding(number, one, found, table) for number, one in numbered],
        cards=[_card(one, [number for number, finding in numbered if finding.column == one.name]) for one in found.columns],
        levels={level: sum(one.level == level for one in found.findings) for level in ("wrong", "suspect", "note")},
        today=today.isoformat(), version=__version__,
    )  # fmt: skip


def _finding(number: int, one: Finding, found: Profile, table: Any) -> dict[str, Any]:
    return {
        "number": number, "finding": one, "see": see_command(table, one.where, one.finding),
        "mend": try_command(table, one.mend) if one.mend else "", "rows": found.rows,
    }  # fmt: skip


def _card(one: ColumnProfile, numbers: list[int]) -> dict[str, Any]:
    spaces, case, damage = one.spaces, one.case, one.damage
    counts = [
        ("NULL", one.nulls), ("empty text", one.empty), ("only white space", one.blank), ("white space at an end", one.padded),
        ("several spaces inside", spaces.runs), ("tab, line break or odd space", spaces.odd), ("control characters", spaces.control),
        ("wrongly decoded", damage.misdecoded), ("replacement character", damage.replacement), ("run as formula", damage.formula),
        ("zero or plus lost in a cast", one.loses),
    ]  # fmt: skip
    cases = [
        ("capitals", case.upper),
        ("small letters", case.lower),
        ("Each Word", case.capitalised),
        ("mixed", case.mixed),
        ("no letters", case.none),
    ]
    return {
        "column": one, "numbers": numbers, "counts": [(label, count) for label, count in counts if count],
        "cases": [(label, count) for label, count in cases if count] if case.upper + case.lower + case.capitalised + case.mixed else [],
        "fits": [fit for fit in sorted(one.fits, key=lambda fit: -fit.rows) if fit.rows],
        "once": bool(one.top) and one.top[0][1] == 1,
    }  # fmt: skip
