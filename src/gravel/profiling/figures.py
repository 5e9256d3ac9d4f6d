"""A profile as plain values under stable names: what its JSON holds, and what the HTML page reads
too."""

from __future__ import annotations

import math
from typing import Any

from gravel.inspecting.cells import json_value
from gravel.inspecting.commands import see_command
from gravel.profiling.result import ColumnProfile, Finding, Numbers, Profile, ValueRows

_TOP = 5


def figures(found: Profile, table: Any, column: str | None = None) -> dict[str, Any]:
    """All figures of a profile, or of one column; `table` gives the commands their options."""
    subset = [item for item in found.columns if column in (None, item.name)]
    facts = found.facts
    return {
        "table": found.table,
        "rows": found.rows,
        "sample": (
            None if found.sample is None else {"rows": found.sample.rows, "of": found.sample.of}
        ),
        "malformed": len(found.malformed),
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
        "determined": [
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
            finding_figures(finding, found, table)
            for finding in found.findings
            if column in (None, finding.column)
        ],
        "columns": [
            column_figures(item, found.rows, _TOP if column is None else None) for item in subset
        ],
    }


def finding_figures(one: Finding, found: Profile, table: Any) -> dict[str, Any]:
    """One finding."""
    return {
        "finding": one.finding,
        "level": one.level,
        "column": one.column,
        "rows": one.rows,
        "share": one.rows / found.rows,
        "detail": one.detail,
        "see": see_command(table, one.where, one.finding) or None,
        "mend": one.mend or None,
        "safe": one.safe,
    }


def _values(values: tuple[ValueRows, ...]) -> list[dict[str, Any]]:
    return [{"value": item.value, "rows": item.rows} for item in values]


def column_figures(one: ColumnProfile, rows: int, top: int | None) -> dict[str, Any]:
    """One column."""
    kind = one.type.kind
    length, spaces, case = one.length, one.spaces, one.case
    return {
        "name": one.name,
        "type": kind.value,
        "nulls": one.nulls,
        "null_share": one.nulls / rows if rows else None,
        "empty": one.empty,
        "blank": one.blank,
        "padded": one.padded,
        "distinct": one.distinct,
        "min": json_value(one.min, kind),
        "max": json_value(one.max, kind),
        "length": {
            "min": length.min,
            "max": length.max,
            "mean": length.mean,
            "shortest": length.shortest,
            "longest": length.longest,
        },
        "top": [
            {"value": json_value(value, kind), "rows": count, "share": count / rows}
            for value, count in one.top[:top]
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
                "share": _share(fit.rows, rows - one.nulls),
                "misfits": _values(fit.misfits),
            }
            for fit in one.fits
        ],
        "both_orders": [
            {
                "day_first": orders.day_first,
                "month_first": orders.month_first,
                "rows": orders.rows,
                "only_day_first": orders.only_day_first,
                "only_month_first": orders.only_month_first,
            }
            for orders in one.both_orders
        ],
        "loses_in_cast": one.loses,
        "shapes": [
            {"shape": shape.shape, "rows": shape.rows, "example": shape.example}
            for shape in one.shapes
        ],
        "distinct_shapes": one.distinct_shapes,
        "spellings": [
            {"key": group.key, "values": _values(group.values)} for group in one.spellings
        ],
        "spelling_groups": one.spelling_groups,
        "null_words": _values(one.null_words),
        "null_word_rows": one.null_word_rows,
        "list": _list(one),
        "damage": {
            "misdecoded": one.damage.misdecoded,
            "replacement": one.damage.replacement,
            "formula": one.damage.formula,
        },
        "numbers": None if one.numbers is None else _numbers(one.numbers),
        "dates": _dates(one),
        "forms": [
            {
                "form": form.form,
                "rows": form.rows,
                "fail": form.fail,
                "examples": _values(form.examples),
            }
            for form in one.forms
        ],
    }


def _share(part: int, whole: int) -> float | None:
    return part / whole if whole else None


def _list(column_profile: ColumnProfile) -> dict[str, Any] | None:
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


def _numbers(numbers: Numbers) -> dict[str, Any]:
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


def _dates(column_profile: ColumnProfile) -> dict[str, Any] | None:
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
