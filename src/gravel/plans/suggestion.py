"""A plan begun from a profile: a step for each finding that has a fix."""

from __future__ import annotations

from pathlib import Path

from gravel.language.writing import quoted
from gravel.plans.edit import SuggestedStep, begin_plan
from gravel.problems import CallProblem
from gravel.profiling.findings.stray_rows import types_without
from gravel.profiling.result import Finding, Profile
from gravel.profiling.suggest import in_order
from gravel.sinks import files
from gravel.sources.source import Source
from gravel.words import number_of

# Findings whose fixes write a value in another way. Others make NULL of it, or the same of several.
_KEEPS_KEYS = (
    "spaces",
    "inner spaces",
    "control characters",
    "mojibake",
    "another format",
    "lost zeros",
)


def write_plan(path: Path, table: Source, profile: Profile, choose: str | None) -> int:
    """Write a plan whose steps are the fixes of findings: those that are safe, or those `choose`
    names (`all`, or numbers parted by commas). The number of its steps. Raises CallProblem."""
    chosen = in_order(_chosen(profile, choose))
    steps = [
        SuggestedStep(
            item.leave_out or item.fix, _evidence(item, profile), drop=bool(item.leave_out)
        )
        for item in chosen
    ]
    if _is_written_typed(table):  # numbers would stay texts
        gone = {item.leave_out for item in chosen}
        stray = [item for item in profile.facts.stray if item.leave_out in gone]
        steps += [
            SuggestedStep(
                f"{quoted(name)} = CAST({quoted(name)} AS {kind})",
                f"{name}: without the rows left out all values are {kind}",
            )
            for name, kind in types_without(profile.columns, stray).items()
        ]
    # Of values that differ by spaces and the like a fix may make one.
    varied = {column.name for column in profile.columns if column.variant_groups}
    spoilt = {
        item.column for item in chosen if item.finding not in _KEEPS_KEYS or item.column in varied
    }
    key = next((list(subset) for subset in profile.facts.keys if not spoilt & {*subset}), [])
    begin_plan(path, table, steps, key, {column.name: column.type for column in profile.columns})
    return len(steps)


def _is_written_typed(table: Source) -> bool:
    """Whether the file that a new plan writes, which is of the source's kind or CSV, has types."""
    last = table.origin.suffix.lower()
    return not table.server and last in files.ENDINGS and last not in files.TEXT_ENDINGS


def _chosen(profile: Profile, choose: str | None) -> list[Finding]:
    """The findings whose fixes are asked for. Raises CallProblem."""
    fixable = {
        str(number): item
        for number, item in enumerate(profile.findings, 1)
        if item.fix or item.leave_out
    }
    if choose is None:
        safe = [item for item in fixable.values() if item.safe]
        if not safe:
            raise CallProblem(
                "no finding has a fix that is safe without a look",
                hint="choose some with --choose: their numbers stand in the profile",
            )
        return safe
    if choose.strip() == "all":
        return list(fixable.values())
    numbers = dict.fromkeys(part.strip() for part in choose.split(","))
    for number in numbers:
        if number not in fixable:
            known = number.isdigit() and 0 < int(number) <= len(profile.findings)
            raise CallProblem(
                f"{number!r} {'has no fix' if known else 'is not a number of a finding'}",
                hint=f"those with a fix are {', '.join(fixable) or 'none'}",
            )
    return [fixable[number] for number in numbers]


def _evidence(finding: Finding, profile: Profile) -> str:
    return (
        f"{finding.column or 'table'}: {finding.rows:,} of {number_of(profile.rows)}:"
        f" {finding.detail}"
    )
