"""Findings about a table as a whole: rows twice, keys that fail, columns that determine others."""

from __future__ import annotations

from collections.abc import Iterator

from gravel.language.types import TEXT, Kind
from gravel.language.writing import is_one_of, literal, quoted
from gravel.profiling import column_kind
from gravel.profiling.findings.stray_rows import stands_in
from gravel.profiling.result import (
    ColumnProfile,
    DependencyException,
    Finding,
    KeptRule,
    StrayRows,
    TableFacts,
)
from gravel.profiling.wording import row_count, shown
from gravel.words import number_of


def table_findings(
    columns: tuple[ColumnProfile, ...], facts: TableFacts, rows: int
) -> Iterator[Finding]:
    types = {item.name: item.type for item in columns}
    if facts.empty_rows and len(columns) > 1:
        where = " AND ".join(f"{quoted(item.name)} IS NULL" for item in columns)
        yield Finding(
            "empty rows",
            "wrong",
            None,
            facts.empty_rows,
            "every column is NULL, as below the table of a spreadsheet",
            where,
            safe=True,
            leave_out=where,
        )
    yield from map(_stray, facts.stray)
    repeated = facts.repeated_rows - max(0, facts.empty_rows - 1)
    if repeated:
        by_chance = facts.repeated_by_chance or (
            repeated <= _RARE * rows and not _tells_rows_apart(columns, rows)
        )
        level = "note" if by_chance else "wrong"
        why = (
            ": with so few different values in so few columns some must be"
            if facts.repeated_by_chance
            else ""
        )
        why = why or (": no column tells rows apart, so two may be alike" if by_chance else "")
        yield Finding(
            "duplicate rows", level, None, repeated, f"equal to an earlier row in every column{why}"
        )
    by_name = {item.name: item for item in columns}
    has_key = any(len(key) == 1 for key in facts.keys)
    for almost in facts.almost_keys:
        entry = by_name[almost.column]
        few = almost.rows <= max(3, _HANDFUL * rows)
        meant = entry is columns[0] and column_kind.is_identifier(entry.name) and not has_key
        if not (few and _looks_like_a_key(entry, columns, rows)) and not meant:
            continue
        blank = facts.empty_rows + _rows_without(almost.column, facts.stray)
        stray = (value for value in almost.values or () if stands_in(value, facts.stray))
        if almost.nulls == blank and almost.rows - almost.nulls == sum(item.rows for item in stray):
            continue  # the empty rows say so, and those that are none of the data
        repeats = sum(value.rows - 1 for value in almost.values or ())
        if not almost.nulls and 0 < repeats <= facts.repeated_rows:
            continue  # the rows are duplicates as a whole
        name = quoted(almost.column)
        where = ""
        if almost.values is not None:
            parts = (
                [
                    is_one_of(
                        name, (literal(item.value, types[almost.column]) for item in almost.values)
                    )
                ]
                if almost.values
                else []
            )
            where = " OR ".join([*parts, *([f"{name} IS NULL"] if almost.nulls else [])])
        repeated = almost.rows - almost.nulls
        if (
            repeated
            and almost.values is not None
            and all(not value.value.strip() for value in almost.values)
        ):
            continue  # blanks are a finding of their own
        why = " and ".join(
            text
            for count, text in (
                (repeated, f"{row_count(repeated)} share a value"),
                (almost.nulls, f"{almost.nulls:,} have NULL"),
            )
            if count
        )
        yield Finding(
            "nearly a key",
            "wrong" if repeated and few else "suspect",
            almost.column,
            almost.rows,
            f"would be a key, but {why}",
            where,
        )
    for result in facts.functional_dependencies:
        if (
            not result.rows
            or not result.exceptions
            or not _dependency_is_meant(by_name[result.by], result.rows, rows)
        ):
            continue
        by, column = quoted(result.by), quoted(result.column)
        grouped: dict[str, list[str]] = {}
        for exception in result.exceptions:
            values = grouped.setdefault(exception.by, [])
            values.append(literal(exception.value, types[result.column]))
        parts = [
            f"{by} = {literal(key, types[result.by])} AND {is_one_of(column, values)}"
            for key, values in grouped.items()
        ]
        where = parts[0] if len(parts) == 1 else " OR ".join(f"({part})" for part in parts)
        yield Finding(
            "functional dependency",
            "suspect",
            result.column,
            result.rows,
            f"{result.by} says what {result.column} is, but not in these"
            f" rows{_exception(result.exceptions)}",
            where,
        )
    yield from (_rule(rule) for rule in facts.rules if _is_nearly_kept(rule))
    for group in facts.null_together:
        nulls = next(item.nulls for item in columns if item.name == group[0])
        if nulls == facts.empty_rows + _rows_without(group[0], facts.stray):
            continue  # the empty rows say so, and those that are none of the data
        yield Finding(
            "NULL in the same rows",
            "note",
            group[0],
            nulls,
            f"NULL in the same rows: {', '.join(group[:6])}{' …' if len(group) > 6 else ''}",
            " AND ".join(f"{quoted(name)} IS NULL" for name in group),
        )


def _is_nearly_kept(rule: KeptRule) -> bool:
    return 0 < rule.fails <= max(3, _BROKEN * (rule.holds + rule.fails))


def _rule(rule: KeptRule) -> Finding:
    """Rows that break a rule which the others keep."""
    first, *_, last = rule.columns
    usual = f"in the other {number_of(rule.holds)} it is"
    finding, detail = "order of days", f"{last} is before {first}; {usual} not"
    if rule.kind != "order":
        finding, detail = "arithmetic", f"{last} is not {rule.computed}; {usual}"
    return Finding(finding, "suspect", last, rule.fails, detail, rule.broken)


def _rows_without(column: str, stray: tuple[StrayRows, ...]) -> int:
    """How many rows that are none of the data have NULL in a column."""
    return sum(value.rows for item in stray if column in item.empty for value in item.values)


def _stray(stray: StrayRows) -> Finding:
    """Rows that are none of the data."""
    rows = sum(item.rows for item in stray.values)
    examples = ", ".join(map(shown, stray.examples[:4]))
    finding, level = "header lines", "wrong"
    if stray.kind == "header":
        detail = "the names of the columns stand here again, as where files were put together"
    elif stray.kind == "second header":
        which = "the first row is" if rows == 1 else f"{rows:,} rows, the first of them, are"
        detail = f"{which} a second line of header: {examples} fit no other row's values"
    elif stray.kind == "footer":
        finding, level = "footer lines", "suspect"
        detail = f"below the data, with NULL in every column but {stray.column}: {examples}"
    else:
        finding, level = "total rows", "wrong" if stray.certain else "note"
        detail = (
            f"{examples} in {stray.column}: a sum over all rows counts twice what is summed here"
        )
        if stray.sums:
            whose = "its" if rows == 1 else "in one of them"
            are = "is the sum" if len(stray.sums) == 1 else "are the sums"
            detail += f"; {whose} {' and '.join(stray.sums[:4])} {are} of all other rows"
        elif stray.empty:
            detail += f"; NULL there: {', '.join(stray.empty[:4])}"
    return Finding(
        finding,
        level,
        None,
        rows,
        detail,
        stray.where,
        safe=stray.kind == "header",
        leave_out=stray.leave_out if level != "note" else "",
    )


def _exception(exceptions: tuple[DependencyException, ...] | None) -> str:
    if not exceptions:
        return ""
    first = exceptions[0]
    return f" (for {shown(first.by)} it is {shown(first.usual)}, once {shown(first.value)})"


_HANDFUL = 0.005
_BROKEN = 0.02  # the share of rows up to which those that break a rule are exceptions
_EXCEPTIONS, _EXCEPTION_SHARE, _SUPPORT = 10, 0.001, 3


_RARE, _MANY_VALUES = 0.01, 0.9


def _tells_rows_apart(columns: tuple[ColumnProfile, ...], rows: int) -> bool:
    """Whether some column has a value of its own in most rows, or says by its name that it
    identifies them: answers to a few questions may be the same twice."""
    return any(
        column.distinct >= _MANY_VALUES * rows or column_kind.is_identifier(column.name)
        for column in columns
    )


def _looks_like_a_key(
    column_profile: ColumnProfile, columns: tuple[ColumnProfile, ...], rows: int
) -> bool:
    """By its name, by its place before all others, or by codes of one shape."""
    known = rows - column_profile.nulls
    whole = column_profile.type.kind is Kind.INTEGER
    first = column_profile.name == columns[0].name and (
        whole or column_kind.has_one_shape(column_profile, known)
    )
    return (
        column_kind.is_identifier(column_profile.name)
        or first
        or (not whole and column_kind.has_one_shape(column_profile, known))
    )


def _dependency_is_meant(by: ColumnProfile, exceptions: int, rows: int) -> bool:
    """Whether one column is meant to say what another is: a name or an identifier with several rows
    a value, and few exceptions."""
    named = by.type == TEXT or column_kind.is_identifier(by.name)
    return (
        named
        and rows >= _SUPPORT * by.distinct
        and exceptions <= max(1, min(_EXCEPTIONS, _EXCEPTION_SHARE * rows))
    )
