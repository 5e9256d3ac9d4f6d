"""A profile as plain values under stable names: what its JSON holds, and what the HTML page reads
too."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from gravel.inspecting.cells import json_value
from gravel.inspecting.commands import see_command
from gravel.profiling.result import ColumnProfile, Finding, Numbers, Profile, ValueRows

if TYPE_CHECKING:
    from gravel import documents

_TOP = 5


def figures(profile: Profile, table: Any, column: str | None = None) -> documents.ProfileDocument:
    """All figures of a profile, or of one column; `table` gives the commands their options."""
    subset = [item for item in profile.columns if column in (None, item.name)]
    facts = profile.facts
    return {
        "table": profile.table,
        "rows": profile.rows,
        "sample": (
            None
            if profile.sample is None
            else {"rows": profile.sample.rows, "of": profile.sample.of}
        ),
        "malformed": len(profile.malformed),
        "read": profile.read,
        "repeated_rows": facts.repeated,
        "keys": [list(key) for key in facts.keys],
        "almost_keys": [
            {
                "column": almost_key.column,
                "rows": almost_key.rows,
                "nulls": almost_key.nulls,
                "values": None if almost_key.values is None else _values(almost_key.values),
            }
            for almost_key in facts.almost_keys
        ],
        "null_together": [list(group) for group in facts.null_together],
        "functional_dependencies": [
            {
                "by": item.by,
                "column": item.column,
                "rows": item.rows,
                "exceptions": (
                    None
                    if item.exceptions is None
                    else [
                        {"by": by, "value": value, "rows": rows, "usual": usual}
                        for by, value, rows, usual in item.exceptions
                    ]
                ),
            }
            for item in facts.determined
        ],
        "searched_columns": facts.searched,
        "findings": [
            finding_figures(finding, profile, table)
            for finding in profile.findings
            if column in (None, finding.column)
        ],
        "columns": [
            column_figures(item, profile.rows, _TOP if column is None else None) for item in subset
        ],
    }


def finding_figures(value: Finding, profile: Profile, table: Any) -> documents.FindingEntry:
    """One finding."""
    return {
        "finding": value.finding,
        "level": value.level,
        "column": value.column,
        "rows": value.rows,
        "share": value.rows / profile.rows,
        "detail": value.detail,
        "see": see_command(table, value.where, value.finding) or None,
        "fix": value.fix or None,
        "safe": value.safe,
    }


def _values(values: tuple[ValueRows, ...]) -> list[documents.ValueCount]:
    return [{"value": item.value, "rows": item.rows} for item in values]


def column_figures(
    column_profile: ColumnProfile, rows: int, top: int | None
) -> documents.ProfiledColumn:
    """One column."""
    kind = column_profile.type.kind
    length, spaces, case = column_profile.length, column_profile.spaces, column_profile.case
    return {
        "name": column_profile.name,
        "type": kind.value,
        "nulls": column_profile.nulls,
        "null_share": column_profile.nulls / rows if rows else None,
        "empty": column_profile.empty,
        "blank": column_profile.blank,
        "padded": column_profile.padded,
        "distinct": column_profile.distinct,
        "min": json_value(column_profile.min, kind),
        "max": json_value(column_profile.max, kind),
        "length": {
            "min": length.min,
            "max": length.max,
            "mean": length.mean,
            "shortest": length.shortest,
            "longest": length.longest,
        },
        "top": [
            {"value": json_value(value, kind), "rows": count, "share": count / rows}
            for value, count in column_profile.top[:top]
        ],
        "spaces": {
            "leading": spaces.leading,
            "trailing": spaces.trailing,
            "runs": spaces.runs,
            "odd": spaces.odd,
            "control": spaces.control,
        },
        "case": {
            "upper": case.upper,
            "lower": case.lower,
            "capitalised": case.capitalised,
            "mixed": case.mixed,
            "none": case.none,
        },
        "fits": [
            {
                "type": fit.type,
                "rows": fit.rows,
                "share": _share(fit.rows, rows - column_profile.nulls),
                "mismatches": _values(fit.mismatches),
            }
            for fit in column_profile.fits
        ],
        "both_orders": [
            {
                "day_first": orders.day_first,
                "month_first": orders.month_first,
                "rows": orders.rows,
                "only_day_first": orders.only_day_first,
                "only_month_first": orders.only_month_first,
            }
            for orders in column_profile.both_orders
        ],
        "loses_in_cast": column_profile.loses,
        "shapes": [
            {"shape": shape.shape, "rows": shape.rows, "example": shape.example}
            for shape in column_profile.shapes
        ],
        "distinct_shapes": column_profile.distinct_shapes,
        "variants": [
            {"key": group.key, "values": _values(group.values)}
            for group in column_profile.spellings
        ],
        "variant_groups": column_profile.spelling_groups,
        "placeholders": _values(column_profile.placeholders),
        "placeholder_rows": column_profile.placeholder_rows,
        "list": _list(column_profile),
        "damage": {
            "misdecoded": column_profile.damage.misdecoded,
            "replacement": column_profile.damage.replacement,
            "formula": column_profile.damage.formula,
        },
        "numbers": None if column_profile.numbers is None else _numbers(column_profile.numbers),
        "dates": _dates(column_profile),
        "formats": [
            {
                "format": form.form,
                "rows": form.rows,
                "fail": form.fail,
                "examples": _values(form.examples),
            }
            for form in column_profile.forms
        ],
    }


def _share(part: int, whole: int) -> float | None:
    return part / whole if whole else None


def _list(column_profile: ColumnProfile) -> documents.ListFigures | None:
    result = column_profile.list
    if result is None:
        return None
    return {
        "delimiter": result.delimiter,
        "rows": result.rows,
        "pieces": {"min": result.least, "max": result.most, "mean": result.mean},
        "empty": result.empty,
        "padded": result.padded,
        "repeated": result.repeated,
    }


def _number(value: float | None) -> float | str | None:
    """A figure of the statistics; JSON has no infinity."""
    return value if value is None or math.isfinite(value) else str(value)


def _numbers(numbers: Numbers) -> documents.NumberFigures:
    return {
        "fit": numbers.fit,
        "mean": _number(numbers.mean),
        "stddev": _number(numbers.stddev),
        "q1": _number(numbers.q1),
        "median": _number(numbers.median),
        "q3": _number(numbers.q3),
        "zero": numbers.zero,
        "negative": numbers.negative,
        "outside": numbers.outside,
        "far_out": numbers.far_out,
        "histogram": [
            {"from": _number(item.low), "to": _number(item.high), "rows": item.rows}
            for item in numbers.histogram
        ],
    }


def _dates(column_profile: ColumnProfile) -> documents.DateFigures | None:
    result = column_profile.dates
    if result is None:
        return None
    return {
        "fit": result.fit,
        "min": result.min,
        "max": result.max,
        "future": result.future,
        "january_first": result.january_first,
        "month_first": result.month_first,
        "gaps": [
            {"after": gap.after, "before": gap.before, "days": gap.days} for gap in result.gaps
        ],
        "years": [{"year": year, "rows": rows} for year, rows in result.years],
    }
