"""Findings: what a profile's figures mean for whoever has to use the table, with the condition that
is true for just those rows, and the assignment that fixes them where one exists."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from gravel.language.types import TEXT, Kind
from gravel.language.writing import quoted, text_literal
from gravel.profiling.column_kind import is_coordinate
from gravel.profiling.findings.fit import best_fit
from gravel.profiling.findings.measures import date_findings, number_findings
from gravel.profiling.findings.sentinels import is_told_by, sentinel_findings
from gravel.profiling.findings.stray_rows import stands_in
from gravel.profiling.findings.table import table_findings
from gravel.profiling.findings.texts import (
    case_findings,
    column_name_findings,
    damage_findings,
    form_findings,
    list_findings,
    placeholder_findings,
    shape_findings,
    space_findings,
)
from gravel.profiling.findings.types import lost_zero_findings, mismatch_findings
from gravel.profiling.result import (
    ColumnProfile,
    Finding,
    StrayRows,
    TableFacts,
    ValueRows,
    ValueShape,
)
from gravel.profiling.spellings import spelling_findings
from gravel.profiling.wording import shown

LEVELS = ("wrong", "suspect", "note")
# What it costs to leave a finding, by kind: a key that fails or a value that is lost before what
# only looks untidy.
_COST = {
    "nearly a key": 95,
    "header lines": 93,
    "total rows": 92,
    "footer lines": 92,
    "empty rows": 91,
    "duplicate rows": 90,
    "replacement characters": 88,
    "mojibake": 86,
    "declared type": 85,
    "type mismatches": 84,
    "mixed formats": 83,
    "control characters": 82,
    "lost zeros": 80,
    "format mismatches": 78,
    "placeholders": 76,
    "blank": 72,
    "spaces": 70,
    "variants": 68,
    "misspelt": 67,
    "order of days": 66.5,
    "arithmetic": 66.2,
    "functional dependency": 66,
    "ambiguous dates": 64,
    "another format": 62,
    "empty list items": 60,
    "inner spaces": 59,
    "padded list items": 58,
    "case": 56,
    "rare patterns": 54,
    "sentinel values": 53,
    "zeros": 52,
    "outliers": 50,
    "negative": 48,
    "repeated timestamps": 47,
    "future": 46,
    "accents": 46,
    "1 January": 44,
    "formulas": 42,
    "delimited list": 20,
    "leading zeros": 18,
    "stored as text": 16,
    "constant": 12,
    "always null": 30,
    "column name": 10,
    "NULL in the same rows": 8,
}
# The share of negative numbers from which a measure has both signs; so many of them at least.
_SIGNED, _FEW_SIGNED = 0.05, 3


def findings(
    columns: tuple[ColumnProfile, ...], facts: TableFacts, rows: int
) -> tuple[Finding, ...]:
    """All findings, those that cost most first."""
    if not rows:
        return ()
    results = [
        finding
        for column in columns
        if column.name not in facts.binary
        for finding in _of_column(column, rows)
    ]
    results = _together(columns, _against_declared(columns, facts, results))
    results = _among_signed(columns, results)
    results += table_findings(columns, facts, rows)
    results = _without_stray_rows(columns, facts.stray, results)
    weighed = [
        replace(item, weight=_COST[item.finding] + 10 * item.rows / rows, of=rows)
        for item in results
    ]
    return tuple(sorted(weighed, key=lambda item: (LEVELS.index(item.level), -item.weight)))


def _without_stray_rows(
    columns: tuple[ColumnProfile, ...], stray: tuple[StrayRows, ...], result: list[Finding]
) -> list[Finding]:
    """The findings but those that are of rows alone that are none of the data."""
    if not stray:
        return result
    by_name = {item.name: item for item in columns}

    def is_told(finding: Finding) -> bool:
        column = by_name.get(finding.column or "")
        if column is None:
            return False
        if finding.finding == "outliers":
            row = column.numbers.far_row if column.numbers else 0
            return any(row == value.row for item in stray for value in item.values)
        best = best_fit(column.fits)
        values: Mapping[str, Sequence[ValueRows | ValueShape]] = {
            "type mismatches": best.mismatches if best else (),
            "placeholders": column.placeholders,
            "rare patterns": column.shapes[1:],
        }
        in_stray = (item for item in values.get(finding.finding, ()) if stands_in(item, stray))
        return finding.rows == sum(item.rows for item in in_stray)

    return [finding for finding in result if not is_told(finding)]


_NUMBER = r"^[+-]?[0-9]*\.?[0-9]+([eE][+-]?[0-9]+)?\z"
_FORMS = {
    "DATE": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}\z",
    "TIME": r"^[0-9]{2}:[0-9]{2}:[0-9]{2}",
    "TIMESTAMP": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}",
    "DATETIME": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}",
}


def _against_declared(
    columns: tuple[ColumnProfile, ...], facts: TableFacts, result: list[Finding]
) -> list[Finding]:
    """Values that a store holds although they do not match what the column is declared as, in place
    of what the values alone would say of the same rows."""
    for name, (declared, rows, example) in facts.mismatches.items():
        item = next(column for column in columns if column.name == name)
        column = quoted(name)
        if item.type != TEXT:
            where = f"{column} <> FLOOR({column})"
        elif declared.startswith("BOOL"):
            where = f"{column} NOT IN ('true', 'false')"
        else:
            form = _FORMS.get(declared) or (r"^-?[0-9]+\z" if "INT" in declared else _NUMBER)
            where = f"NOT {column} LIKE_REGEX {text_literal(form)}"
        same = next(
            (
                other
                for other in result
                if other.column == name
                and other.finding == "type mismatches"
                and other.rows == rows
            ),
            None,
        )
        detail = (
            f"{rows:,} {'value does' if rows == 1 else 'values do'} not match the declared type"
            f" {declared}, such as {shown(example)}"
        )
        result = [other for other in result if other is not same]
        result.append(
            Finding("declared type", "wrong", name, rows, detail, where, same.fix if same else "")
        )
    return result


def _together(columns: tuple[ColumnProfile, ...], result: list[Finding]) -> list[Finding]:
    """One finding for one row that is outliers in several columns."""
    row_of = {
        item.name: item.numbers.far_row
        for item in columns
        if item.numbers is not None and item.numbers.far_row
    }
    far = [item for item in result if item.finding == "outliers" and item.column in row_of]
    results = []
    for entry in result:
        same = [
            other
            for other in far
            if entry in far and row_of[str(other.column)] == row_of[str(entry.column)]
        ]
        if len(same) > 1 and same[0] is not entry:
            continue
        others = ", ".join(str(other.column) for other in same[1:])
        results.append(
            replace(entry, detail=f"{entry.detail}; the same row is an outlier in {others}")
            if others
            else entry
        )
    return results


def _among_signed(columns: tuple[ColumnProfile, ...], result: list[Finding]) -> list[Finding]:
    """The findings, where most measures have values of both signs, as changes and scores do: a few
    below zero in a further one are to note."""
    measures = [
        item.numbers
        for item in columns
        if item.numbers is not None
        and item.type.kind is not Kind.INTEGER
        and item.numbers.fit * 2 > sum(shape.rows for shape in item.shapes)
        and not is_coordinate(item)
    ]
    signed = [
        item for item in measures if _SIGNED <= item.negative / max(1, item.fit) <= 1 - _SIGNED
    ]
    if len(signed) < max(_FEW_SIGNED, len(measures) / 2):
        return result
    return [replace(item, level="note") if item.finding == "negative" else item for item in result]


def _of_column(column_profile: ColumnProfile, rows: int) -> Iterator[Finding]:
    known = rows - column_profile.nulls
    if not known:
        yield Finding(
            "always null",
            "note",
            column_profile.name,
            column_profile.nulls,
            "no row has a value",
            f"{quoted(column_profile.name)} IS NULL",
        )
        return
    if column_profile.distinct == 1 and known > 1 and not column_profile.nulls:
        where = f"{quoted(column_profile.name)} IS NOT NULL"
        yield Finding(
            "constant",
            "note",
            column_profile.name,
            known,
            f"every row has the same value, {shown(column_profile.top[0][0])}",
            where,
        )
    yield from column_name_findings(column_profile, known)
    if column_profile.type == TEXT:
        yield from space_findings(column_profile)
        yield from placeholder_findings(column_profile, known)
        mismatches = list(mismatch_findings(column_profile, known))
        yield from mismatches
        # Spellings of a list differ in their delimiters: its own findings tell that.
        spelt = (
            list(spelling_findings(column_profile, known)) if column_profile.list is None else []
        )
        yield from spelt
        cases = [
            case
            for case in case_findings(column_profile, known)
            if all(case.rows > finding.rows for finding in spelt if finding.finding == "variants")
        ]
        yield from cases
        message = [
            finding
            for finding in mismatches
            if finding.level != "note" or column_profile.loses_in_cast
        ]
        told = {finding.finding for finding in message}
        if not told & {"type mismatches", "mixed formats", "lost zeros"}:
            # Of one cause the first finding tells.
            yield from (
                finding
                for finding in shape_findings(column_profile, known)
                if finding.rows not in {case.rows for case in cases}
            )
        yield from damage_findings(column_profile)
        yield from list_findings(column_profile)
    elif column_profile.type.kind is Kind.INTEGER:
        yield from lost_zero_findings(column_profile, known)
    yield from form_findings(column_profile)
    sentinels = list(sentinel_findings(column_profile, known))
    yield from sentinels
    measures = (*number_findings(column_profile, rows), *date_findings(column_profile, known))
    yield from (finding for finding in measures if not is_told_by(finding, sentinels))
