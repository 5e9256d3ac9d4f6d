"""A profile as plain values under stable names: what its JSON holds, and what the HTML page reads too."""

from __future__ import annotations

import math
from typing import Any

from gravel.inspecting.cells import json_value
from gravel.inspecting.commands import see_command
from gravel.profiling.result import ColumnProfile, Finding, Numbers, Profile, ValueRows

_TOP = 5


def figures(found: Profile, table: Any, column: str | None = None) -> dict[str, Any]:
    """All figures of a profile, or of one column; `table` gives the commands their options."""
    some = [one for one in found.columns if column in (None, one.name)]
    facts = found.facts
    return {
        "table": found.table,
        "rows": found.rows,
        "sample": None if found.sample is None else {"rows": found.sample.rows, "of": found.sample.of},
        "malformed": len(found.malformed),
        "repeated_rows": facts.repeated,
        "keys": [list(key) for key in facts.keys],
        "almost_keys": [
            {"column": one.column, "rows": one.rows, "nulls": one.nulls, "values": None if one.values is None else _values(one.values)}
            for one in facts.almost_keys
        ],
        "null_together": [list(group) for group in facts.null_together],
        "determined": [
            {
                "by": one.by, "column": one.column, "rows": one.rows,
                "exceptions": None if one.exceptions is None
                else [{"by": by, "value": value, "rows": rows, "usual": usual} for by, value, rows, usual in one.exceptions],
            }
            for one in facts.determined
        ],
        "searched_columns": facts.searched,
        "findings": [finding_figures(one, found, table) for one in found.findings if column in (None, one.column)],
        "columns": [column_figures(one, found.rows, _TOP if column is None else None) for one in some],
    }  # fmt: skip


def finding_figures(one: Finding, found: Profile, table: Any) -> dict[str, Any]:
    """One finding."""
    return {
        "finding": one.finding, "level": one.level, "column": one.column, "rows": one.rows, "share": one.rows / found.rows,
        "detail": one.detail, "see": see_command(table, one.where, one.finding) or None, "mend": one.mend or None, "safe": one.safe,
    }  # fmt: skip


def _values(values: tuple[ValueRows, ...]) -> list[dict[str, Any]]:
    return [{"value": one.value, "rows": one.rows} for one in values]


def column_figures(one: ColumnProfile, rows: int, top: int | None) -> dict[str, Any]:
    """One column."""
    kind = one.type.kind
    length, spaces, case = one.length, one.spaces, one.case
    return {
        "name": one.name, "type": kind.value, "nulls": one.nulls, "null_share": one.nulls / rows if rows else None,
        "empty": one.empty, "blank": one.blank, "padded": one.padded,
        "distinct": one.distinct, "min": json_value(one.min, kind), "max": json_value(one.max, kind),
        "length": {"min": length.min, "max": length.max, "mean": length.mean, "shortest": length.shortest, "longest": length.longest},
        "top": [{"value": json_value(value, kind), "rows": count, "share": count / rows} for value, count in one.top[:top]],
        "spaces": {"leading": spaces.leading, "trailing": spaces.trailing, "runs": spaces.runs, "odd": spaces.odd, "control": spaces.control},
        "case": {"upper": case.upper, "lower": case.lower, "capitalised": case.capitalised, "mixed": case.mixed, "none": case.none},
        "fits": [
            {"type": fit.type, "rows": fit.rows, "share": _share(fit.rows, rows - one.nulls), "misfits": _values(fit.misfits)} for fit in one.fits
        ],
        "both_orders": [
            {
                "day_first": orders.day_first, "month_first": orders.month_first, "rows": orders.rows,
                "only_day_first": orders.only_day_first, "only_month_first": orders.only_month_first,
            }
            for orders in one.both_orders
        ],
        "loses_in_cast": one.loses,
        "shapes": [{"shape": shape.shape, "rows": shape.rows, "example": shape.example} for shape in one.shapes],
        "distinct_shapes": one.distinct_shapes,
        "spellings": [{"key": group.key, "values": _values(group.values)} for group in one.spellings],
        "spelling_groups": one.spelling_groups,
        "null_words": _values(one.null_words),
        "null_word_rows": one.null_word_rows,
        "list": _list(one),
        "damage": {"misdecoded": one.damage.misdecoded, "replacement": one.damage.replacement, "formula": one.damage.formula},
        "numbers": None if one.numbers is None else _numbers(one.numbers),
        "dates": _dates(one),
        "forms": [{"form": form.form, "rows": form.rows, "fail": form.fail, "examples": _values(form.examples)} for form in one.forms],
    }  # fmt: skip


def _share(part: int, whole: int) -> float | None:
    return part / whole if whole else None


def _list(one: ColumnProfile) -> dict[str, Any] | None:
    found = one.list
    if found is None:
        return None
    return {
        "delimiter": found.delimiter, "rows": found.rows, "pieces": {"min": found.least, "max": found.most, "mean": found.mean},
        "empty": found.empty, "padded": found.padded, "repeated": found.repeated,
    }  # fmt: skip


def _number(value: float | None) -> Any:
    """A figure of the statistics; JSON has no infinity."""
    return value if value is None or math.isfinite(value) else str(value)


def _numbers(found: Numbers) -> dict[str, Any]:
    return {
        "fit": found.fit, "mean": _number(found.mean), "stddev": _number(found.stddev), "q1": _number(found.q1), "median": _number(found.median),
        "q3": _number(found.q3), "zero": found.zero, "negative": found.negative, "outside": found.outside, "far_out": found.far_out,
        "histogram": [{"from": _number(one.low), "to": _number(one.high), "rows": one.rows} for one in found.histogram],
    }  # fmt: skip


def _dates(one: ColumnProfile) -> dict[str, Any] | None:
    found = one.dates
    if found is None:
        return None
    return {
        "fit": found.fit, "min": found.min, "max": found.max, "future": found.future, "january_first": found.january_first,
        "month_first": found.month_first,
        "gaps": [{"after": gap.after, "before": gap.before, "days": gap.days} for gap in found.gaps],
        "years": [{"year": year, "rows": rows} for year, rows in found.years],
    }  # fmt: skip
