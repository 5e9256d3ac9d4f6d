"""Findings: what a profile's figures mean for whoever has to use the table, with the condition that is true for just those
rows, and the assignment that mends them where one exists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import pyarrow as pa

from gravel.language.functions.text import tidy_spaces
from gravel.language.types import TEXT, Kind
from gravel.language.writing import is_one_of, literal, quoted, text_literal
from gravel.profiling.lists import separator
from gravel.profiling.marks import CONTROLS, FORMULA, MISDECODED, NULL_WORDS, REPLACEMENT
from gravel.profiling.result import ColumnProfile, Finding, Fit, TableFacts, ValueRows

LEVELS = ("wrong", "suspect", "note")
# What it costs to leave a finding, by kind: a key that fails or a value that is lost before what only looks untidy.
_COST = {
    "almost a key": 95, "repeated rows": 90, "replacement characters": 88, "wrongly decoded": 86, "declared type": 85,
    "misfits": 84, "control characters": 82,
    "forms": 78, "null words": 76, "blank": 72, "spaces": 70, "spellings": 68, "determined": 66, "dates of two orders": 64, "list pieces": 60,
    "padded pieces": 58, "case": 56, "odd shapes": 54, "far out": 50, "negative": 48, "future": 46, "first of January": 44, "formulas": 42,
    "list": 20, "leading zeros": 18, "constant": 12, "always null": 30, "null together": 8,
}  # fmt: skip
_FEW = 0.1  # a tenth: what is rarer beside a rule that the rest keeps is an exception to it


def findings(columns: tuple[ColumnProfile, ...], facts: TableFacts, rows: int) -> tuple[Finding, ...]:
    """All findings, those that cost most first."""
    if not rows:
        return ()
    found = [finding for column in columns if column.name not in facts.binary for finding in _of_column(column, rows)]
    found = _against_declared(columns, facts, found)
    found += _of_table(columns, facts, rows)
    weighed = [replace(one, weight=_COST[one.finding] + 10 * one.rows / rows) for one in found]
    return tuple(sorted(weighed, key=lambda one: (LEVELS.index(one.level), -one.weight)))


_NUMBER = r"^[+-]?[0-9]*\.?[0-9]+([eE][+-]?[0-9]+)?\z"
_FORMS = {
    "DATE": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}\z", "TIME": r"^[0-9]{2}:[0-9]{2}:[0-9]{2}", "TIMESTAMP": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}",
    "DATETIME": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}",
}  # fmt: skip


def _against_declared(columns: tuple[ColumnProfile, ...], facts: TableFacts, found: list[Finding]) -> list[Finding]:
    """Values that a store holds although they do not match what the column is declared as, in place of what the values alone
    would say of the same rows."""
    for name, (declared, rows, example) in facts.misfits.items():
        one = next(column for column in columns if column.name == name)
        column = quoted(name)
        if one.type != TEXT:
            where = f"{column} <> FLOOR({column})"
        elif declared.startswith("BOOL"):
            where = f"{column} NOT IN ('true', 'false')"
        else:
            form = _FORMS.get(declared) or (r"^-?[0-9]+\z" if "INT" in declared else _NUMBER)
            where = f"NOT {column} LIKE_REGEX {text_literal(form)}"
        same = next((other for other in found if other.column == name and other.finding == "misfits" and other.rows == rows), None)
        detail = f"{rows:,} {'value does' if rows == 1 else 'values do'} not match the declared type {declared}, such as {_shown(example)}"
        found = [other for other in found if other is not same]
        found.append(Finding("declared type", "wrong", name, rows, detail, where, same.mend if same else ""))
    return found


def _of_column(one: ColumnProfile, rows: int) -> Iterator[Finding]:
    known = rows - one.nulls
    if not known:
        yield Finding("always null", "note", one.name, one.nulls, "no row has a value", f"{quoted(one.name)} IS NULL")
        return
    if one.distinct == 1 and known > 1 and not one.nulls:
        where = f"{quoted(one.name)} IS NOT NULL"
        yield Finding("constant", "note", one.name, known, f"every row has the same value, {_shown(one.top[0][0])}", where)
    if one.type == TEXT:
        yield from _spaces(one)
        yield from _null_words(one)
        yield from _misfits(one, known)
        if one.list is None:  # spellings of a list differ in their delimiters: its own findings tell that
            yield from _spellings(one)
        yield from _case(one, known)
        yield from _shapes(one, known)
        yield from _damage(one)
        yield from _lists(one)
    yield from _forms(one)
    yield from _numbers(one)
    yield from _dates(one)


def _tidy(value: str) -> str:
    """A value as TIDY_SPACES leaves it."""
    made: str = tidy_spaces(pa.array([value], pa.string()))[0].as_py()
    return made


def _shown(value: str) -> str:
    return repr(value if len(value) <= 40 else value[:39] + "…")


def _rows(count: int) -> str:
    return "1 row" if count == 1 else f"{count:,} rows"


def _spaces(one: ColumnProfile) -> Iterator[Finding]:
    name = quoted(one.name)
    if one.empty or one.blank:
        parts = [
            f"{count:,} {text}" for count, text in ((one.empty, "with an empty text"), (one.blank, "with nothing but white space")) if count
        ]
        beside = f", beside {_rows(one.nulls)} with NULL" if one.nulls else ""
        yield Finding(
            "blank", "wrong", one.name, one.empty + one.blank, f"{' and '.join(parts)} where nothing is known{beside}",
            f"IS_BLANK({name}) AND {name} IS NOT NULL", f"{name} = IF_BLANK({name}, NULL)", True,
        )  # fmt: skip
    spaces = one.spaces
    if spaces.untidy:
        counts = ((spaces.leading, "begin with a space"), (spaces.trailing, "end with one"), (spaces.runs, "have several in a row inside"),
                  (spaces.odd, "have a tab, a line break, a no-break or a zero width space"))  # fmt: skip
        told = ", ".join(f"{count:,} {text}" for count, text in counts if count)
        yield Finding(
            "spaces", "wrong", one.name, spaces.untidy, f"spaces that nobody sees: {told}",
            f"{name} <> TIDY_SPACES({name}) AND NOT IS_BLANK({name})", f"{name} = TIDY_SPACES({name})", True,
        )  # fmt: skip
    if spaces.control:
        yield Finding(
            "control characters", "wrong", one.name, spaces.control, "holds control characters, which no one can see or type",
            f"{name} LIKE_REGEX {text_literal(CONTROLS)}", f"{name} = TRANSLATE_REGEX({text_literal(CONTROLS)} IN {name} WITH '')", True,
        )  # fmt: skip


def _null_words(one: ColumnProfile) -> Iterator[Finding]:
    if not one.null_words:
        return
    name, rows = quoted(one.name), one.null_word_rows
    condition = _null_word_condition(one)
    told = ", ".join(f"{word.rows:,} × {_shown(word.value)}" for word in one.null_words[:5])
    more = f" and {len(one.null_words) - 5} others" if len(one.null_words) > 5 else ""
    yield Finding(
        "null words", "suspect", one.name, rows, f"words where nothing is known: {told}{more}", condition,
        f"{name} = CASE WHEN {condition} THEN NULL ELSE {name} END",
    )  # fmt: skip


def _null_word_condition(one: ColumnProfile) -> str:
    listed = sum(word.rows for word in one.null_words) == one.null_word_rows
    tidy = sorted({_tidy(word.value).lower() for word in one.null_words} if listed else NULL_WORDS)
    return is_one_of(f"LOWER(TIDY_SPACES({quoted(one.name)}))", map(text_literal, tidy))


def _misfits(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """A type or a date form that nearly all values fit, and those that do not."""
    name = quoted(one.name)
    said = known - one.empty - one.blank - one.null_word_rows
    by_type = {fit.type: fit for fit in one.fits}
    best = _best_fit(one.fits)
    if one.loses and (whole := by_type.get("DECIMAL")) and whole.rows == known:
        yield Finding(
            "leading zeros", "note", one.name, one.loses, "digits with a leading zero or plus: codes, of which a cast to a number would lose a part",
            f"FITS({name} AS DECIMAL) AND {name} LIKE_REGEX '^ *(\\+|[+-]?0[0-9])'",
        )  # fmt: skip
    if best is None or best.rows * 2 < said or best.rows == known:
        yield from _two_orders(one)
        return
    rows = known - best.rows
    few = _examples(best)
    mend = _mend_number(name, best) or _mend_dates(name, one, best)
    level = "wrong" if best.rows >= 0.8 * said else "suspect"
    yield Finding(
        "misfits", level, one.name, rows, f"{best.rows:,} of {known:,} values fit {best.type}, these do not: {few}",
        f"NOT FITS({name} AS {best.type})", mend,
    )  # fmt: skip
    yield from _two_orders(one)


def _best_fit(fits: tuple[Fit, ...]) -> Fit | None:
    """The type that most values fit; of equal ones the first, INTEGER before DECIMAL."""
    return max((fit for fit in fits if fit.rows and "YYYYMMDD" not in fit.type), key=lambda fit: fit.rows, default=None)


def _examples(fit: Fit) -> str:
    return ", ".join(f"{one.rows:,} × {_shown(one.value)}" for one in fit.misfits[:4]) + (" …" if len(fit.misfits) > 4 else "")


def _mend_number(name: str, best: Fit) -> str:
    """A decimal comma is a point elsewhere, where one of the examples has it."""
    import re

    if best.type not in ("INTEGER", "DECIMAL", "DOUBLE PRECISION") or not best.misfits:
        return ""
    if any(re.fullmatch(r" *[+-]?[0-9]+,[0-9]{1,2} *", one.value) for one in best.misfits):
        return f"{name} = CASE WHEN {name} LIKE_REGEX '^ *[+-]?[0-9]+,[0-9]{{1,2}} *\\z' THEN REPLACE({name}, ',', '.') ELSE {name} END"
    return ""


def _mend_dates(name: str, one: ColumnProfile, best: Fit) -> str:
    """The other date forms of the column, written as ISO 8601 dates."""
    if not best.type.startswith("DATE"):
        return ""
    doubtful = set()
    for orders in one.both_orders:
        doubtful |= {orders.day_first, orders.month_first}
        if orders.settled:
            doubtful.remove(orders.day_first if orders.only_day_first else orders.month_first)
    forms = [fit.type for fit in one.fits if fit.rows and fit.type.startswith("DATE FORMAT") and "YYYYMMDD" not in fit.type]
    forms = [form for form in forms if form.split("'")[1] not in doubtful]
    if not forms:
        return ""
    whens = " ".join(f"WHEN FITS({name} AS {form}) THEN CAST(CAST({name} AS {form}) AS TEXT)" for form in forms)
    return f"{name} = CASE {whens} ELSE {name} END"


def _two_orders(one: ColumnProfile) -> Iterator[Finding]:
    name = quoted(one.name)
    for orders in one.both_orders:
        if orders.settled:
            continue
        day, month = orders.only_day_first, orders.only_month_first
        why = f"beside {day:,} that only the one fits and {month:,} that only the other does" if day else "and no other value tells which"
        where = " AND ".join(f"FITS({name} AS DATE FORMAT '{form}')" for form in (orders.day_first, orders.month_first))
        yield Finding(
            "dates of two orders",
            "suspect",
            one.name,
            orders.rows,
            f"dates that may be {orders.day_first} as well as {orders.month_first}, {why}",
            where,
        )


def _spellings(one: ColumnProfile) -> Iterator[Finding]:
    said = [spelling for spelling in one.spellings if not any(_tidy(value.value).lower() in NULL_WORDS for value in spelling.values)]
    some = [spelling for spelling in said if any(char.isalpha() for char in spelling.key) or (one.loses == 0 and not one.numbers)]
    if not some:
        return
    groups = [spelling.values for spelling in some]
    name = quoted(one.name)
    keys, tidied = [spelling.key for spelling in some], [_tidy(group[0].value) for group in groups]
    # The rows that the assignment changes: all that are written otherwise than what it makes of them.
    rows = sum(value.rows for group, kept in zip(groups, tidied, strict=True) for value in group if value.value != kept)
    where = f"{is_one_of(f'MATCH_KEY({name})', map(text_literal, keys))} AND NOT {is_one_of(name, map(text_literal, tidied))}"
    whens = " ".join(f"WHEN {text_literal(key)} THEN {text_literal(value)}" for key, value in zip(keys, tidied, strict=True))
    others = [[value.value for value in group if value.value != kept] for group, kept in zip(groups, tidied, strict=True)]
    told = "; ".join(f"{_shown(kept)} also as {', '.join(map(_shown, some[:3]))}" for kept, some in zip(tidied[:2], others, strict=False))
    more = f" and {len(groups) - 2:,} more" if len(groups) > 2 else ""
    left = one.spelling_groups - len(one.spellings)
    beyond = f"; {left:,} further groups are not listed" if left > 0 else ""
    safe = all(_only_case_and_spaces(group) for group in groups)
    yield Finding(
        "spellings", "wrong" if safe else "suspect", one.name, rows, f"{len(groups):,} values written in several ways: {told}{more}{beyond}", where,
        f"{name} = CASE MATCH_KEY({name}) {whens} ELSE {name} END", safe,
    )  # fmt: skip


def _only_case_and_spaces(group: tuple[ValueRows, ...]) -> bool:
    return len({_tidy(one.value).casefold() for one in group}) == 1 and group[0].rows > sum(one.rows for one in group[1:])


def _case(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """Nearly all capitals, or nearly all small letters, and a few that are not; words for nothing apart."""
    if sum(word.rows for word in one.null_words) < one.null_word_rows:
        return  # words for nothing in too many spellings to tell their case apart
    name, case = quoted(one.name), one.case
    words = [word for word in one.null_words if any(char.isalpha() for char in word.value)]
    lettered = known - case.none - sum(word.rows for word in words)
    apart = f" AND NOT {_null_word_condition(one)}" if words else ""
    for kind, count, wrong, pattern, function in (
        ("capitals", case.upper, str.isupper, r"\p{Ll}", "UPPER"), ("small letters", case.lower, str.islower, r"[\p{Lu}\p{Lt}]", "LOWER")
    ):  # fmt: skip
        count -= sum(word.rows for word in words if wrong(word.value))
        if count < lettered and lettered - count <= _FEW * lettered:
            yield Finding(
                "case", "suspect", one.name, lettered - count, f"written in {kind} but for these",
                f"{name} LIKE_REGEX {text_literal(pattern)}{apart}", f"{name} = {function}({name})",
            )  # fmt: skip


def _shapes(one: ColumnProfile, known: int) -> Iterator[Finding]:
    if one.distinct_shapes < 2 or not one.shapes:
        return
    name, usual = quoted(one.name), one.shapes[0]
    said = known - one.empty - one.blank - one.null_word_rows
    others = said - usual.rows
    apart = (f" AND NOT IS_BLANK({name})" if one.empty + one.blank else "") + (
        f" AND NOT {_null_word_condition(one)}" if one.null_words else ""
    )
    if 0 < others <= 0.05 * said and "9" in usual.shape:
        words = {word.value for word in one.null_words}
        told = ", ".join(f"{shape.rows:,} × {_shown(shape.shape)}" for shape in [
            shape for shape in one.shapes[1:] if shape.example.strip() and shape.example not in words
        ][:3])  # fmt: skip
        yield Finding(
            "odd shapes", "suspect", one.name, others, f"values have the shape {_shown(usual.shape)} (as {_shown(usual.example)}), these have {told}",
            f"SHAPE({name}) <> {text_literal(usual.shape)}{apart}",
        )  # fmt: skip


def _damage(one: ColumnProfile) -> Iterator[Finding]:
    name, damage = quoted(one.name), one.damage
    if damage.misdecoded:
        yield Finding(
            "wrongly decoded", "wrong", one.name, damage.misdecoded,
            "letters such as 'Ã©': UTF-8 that was read in another encoding before it came here",
            f"{name} LIKE_REGEX {text_literal(MISDECODED)}",
        )  # fmt: skip
    if damage.replacement:
        yield Finding(
            "replacement characters", "wrong", one.name, damage.replacement,
            "holds U+FFFD: a letter that was lost on the way, and only the source has it",
            f"{name} LIKE_REGEX {text_literal(REPLACEMENT)}",
        )  # fmt: skip
    if damage.formula:
        yield Finding(
            "formulas",
            "suspect",
            one.name,
            damage.formula,
            "values that a spreadsheet would run as a formula",
            f"{name} LIKE_REGEX {text_literal(FORMULA)}",
        )


def _lists(one: ColumnProfile) -> Iterator[Finding]:
    if one.list is None:
        return
    name, found = quoted(one.name), one.list
    sign = "line break" if found.delimiter == "\n" else found.delimiter
    held = f"{name} LIKE_REGEX {text_literal(separator(found.delimiter))}"
    repeated = f"; {_rows(found.repeated)} with a piece twice" if found.repeated else ""
    yield Finding(
        "list",
        "note",
        one.name,
        found.rows,
        f"lists in a field, with {sign!r} between {found.least} to {found.most} pieces{repeated}",
        held,
    )
    part, blank = separator(found.delimiter), f"[{_BLANKS}]"
    if found.delimiter == "\n":
        blank = blank.replace(r"\s\x0b", r" \t\r\f\x0b")
    if found.empty:
        pattern = f"(^|{part}){blank}*({part}|\\z)"
        yield Finding(
            "list pieces", "suspect", one.name, found.empty, "lists with a piece that is empty: a delimiter too many",
            f"{held} AND {name} LIKE_REGEX {text_literal(pattern)}",
        )  # fmt: skip
    if found.padded:
        filled = _filled(found.delimiter)
        pattern = f"(^|{part}){blank}+[^{_inside(found.delimiter)}]*{filled}|{filled}{blank}+({part}|\\z)"
        yield Finding(
            "padded pieces", "suspect", one.name, found.padded,
            "lists with spaces around a piece: split at the delimiter alone they give unequal pieces",
            f"{held} AND {name} LIKE_REGEX {text_literal(pattern)}",
            f"{name} = TRANSLATE_REGEX({text_literal(f'{blank}*{part}{blank}*')} IN {name} WITH {text_literal(found.delimiter)})", False,
        )  # fmt: skip


def _inside(delimiter: str) -> str:
    return "\\n" if delimiter == "\n" else "\\" + delimiter if delimiter in "|^]-\\/" else delimiter


# White space and zero width characters, as a part of a class of RE2.
_BLANKS = r"\s\x0b\x{85}\x{a0}\x{1680}\x{2000}-\x{200b}\x{2028}\x{2029}\x{202f}\x{205f}\x{2060}\x{3000}\x{feff}"


def _filled(delimiter: str) -> str:
    """A class of RE2: neither blank nor the delimiter."""
    return f"[^{_inside(delimiter)}{_BLANKS}]"


def _forms(one: ColumnProfile) -> Iterator[Finding]:
    for form in one.forms:
        if form.fail:
            name = quoted(one.name) if one.type == TEXT else f"CAST({quoted(one.name)} AS TEXT)"
            told = ", ".join(f"{value.rows:,} × {_shown(value.value)}" for value in form.examples[:3])
            yield Finding(
                "forms", "wrong", one.name, form.fail, f"{form.rows:,} values have the form {form.form}, these do not: {told}",
                f"NOT HAS_FORM({name}, '{form.form}')",
            )  # fmt: skip


def _numbers(one: ColumnProfile) -> Iterator[Finding]:
    found = one.numbers
    if found is None or found.fit * 2 < sum(shape.rows for shape in one.shapes):
        return
    name = quoted(one.name)
    text = one.type == TEXT
    value = f"CAST_OR_NULL({name} AS DOUBLE PRECISION)" if text else name
    if found.far_out and one.distinct > 10:
        bounds = [(found.far_low, "<"), (found.far_high, ">")]
        # A bound is a value of the column: nothing is rounded, and the condition means just these rows.
        parts = [f"{value} {sign} {_number(bound, text)}" for bound, sign in bounds if bound is not None]
        finite = f" AND {value} < CAST('Infinity' AS DOUBLE PRECISION) AND {value} > CAST('-Infinity' AS DOUBLE PRECISION)" if text else ""
        where = f"({' OR '.join(parts)}){finite}" if len(parts) > 1 and finite else " OR ".join(parts) + finite
        yield Finding(
            "far out", "suspect", one.name, found.far_out,
            f"more than three times the quartile range beyond the quartiles ({_plain(found.q1)} to {_plain(found.q3)})", where,
        )  # fmt: skip
    if 0 < found.negative <= 0.02 * found.fit:
        finite = f" AND {value} > CAST('-Infinity' AS DOUBLE PRECISION)" if text else ""
        yield Finding(
            "negative", "suspect", one.name, found.negative, "numbers below zero where nearly all are above", f"{value} < 0{finite}"
        )


def _number(bound: str, text: bool) -> str:
    return f"CAST({text_literal(bound)} AS DOUBLE PRECISION)" if text else bound.strip()


def _plain(value: float) -> str:
    return f"{value:,.4f}".rstrip("0").rstrip(".")


def _dates(one: ColumnProfile) -> Iterator[Finding]:
    found = one.dates
    if found is None or one.type.kind not in (Kind.DATE, Kind.TIMESTAMP, Kind.TEXT):
        return
    value = _day_of(one)
    if found.future:
        where = f"{value} > CURRENT_DATE" if value else ""
        yield Finding("future", "suspect", one.name, found.future, f"days after today, up to {found.max}", where)
    years = max(1, len(found.years))
    if (
        found.january_first >= 3
        and found.january_first > 0.05 * found.fit
        and found.january_first > 10 * found.fit / 365.25
        and found.fit > years
    ):
        where = f"EXTRACT(MONTH FROM {value}) = 1 AND EXTRACT(DAY FROM {value}) = 1" if value else ""
        yield Finding(
            "first of January", "suspect", one.name, found.january_first, "on a 1 January: rather a year whose day nobody knew", where
        )


def _day_of(one: ColumnProfile) -> str:
    """An expression for the day of a value; '' where the column does not tell the day from the month."""
    name = quoted(one.name)
    if one.type != TEXT:
        return f"CAST({name} AS DATE)" if one.type.kind is Kind.TIMESTAMP else name
    if not all(orders.settled for orders in one.both_orders):
        return ""
    wrong = {f"'{orders.month_first if orders.only_day_first else orders.day_first}'" for orders in one.both_orders}
    types = [fit.type for fit in one.fits if fit.rows and fit.type.startswith(("DATE", "TIMESTAMP")) and "YYYYMMDD" not in fit.type]
    read = [f"CAST_OR_NULL({name} AS {kind})" for kind in types if not any(form in kind for form in wrong)]
    days = [f"CAST({one} AS DATE)" if "AS TIMESTAMP" in one else one for one in read]
    return days[0] if len(days) == 1 else f"COALESCE({', '.join(days)})"


def _of_table(columns: tuple[ColumnProfile, ...], facts: TableFacts, rows: int) -> Iterator[Finding]:
    types = {one.name: one.type for one in columns}
    if facts.repeated:
        yield Finding("repeated rows", "wrong", None, facts.repeated, "equal to an earlier row in every column")
    for almost in facts.almost_keys:
        name = quoted(almost.column)
        where = ""
        if almost.values is not None:
            parts = [is_one_of(name, (literal(one.value, types[almost.column]) for one in almost.values))] if almost.values else []
            where = " OR ".join([*parts, *([f"{name} IS NULL"] if almost.nulls else [])])
        repeated = almost.rows - almost.nulls
        why = " and ".join(
            text for count, text in ((repeated, f"{_rows(repeated)} share a value"), (almost.nulls, f"{almost.nulls:,} have NULL")) if count
        )
        yield Finding("almost a key", "wrong" if repeated else "suspect", almost.column, almost.rows, f"would be a key, but {why}", where)
    for found in facts.determined:
        if not found.rows:
            continue
        where = mend = ""
        if found.exceptions:
            by, column = quoted(found.by), quoted(found.column)
            grouped: dict[str, list[str]] = {}
            usual: dict[str, str] = {}
            for key, value, _, common in found.exceptions:
                grouped.setdefault(key, []).append(literal(value, types[found.column]))
                usual[key] = literal(common, types[found.column])
            key_of = {key: literal(key, types[found.by]) for key in grouped}
            parts = [f"{by} = {key_of[key]} AND {is_one_of(column, values)}" for key, values in grouped.items()]
            where = parts[0] if len(parts) == 1 else " OR ".join(f"({part})" for part in parts)
            whens = " ".join(f"WHEN {where_one} THEN {usual[key]}" for key, where_one in zip(grouped, parts, strict=True))
            mend = f"{column} = CASE {whens} ELSE {column} END"
        yield Finding(
            "determined",
            "suspect",
            found.column,
            found.rows,
            f"{found.by} says what {found.column} is, but not in these rows{_exception(found.exceptions)}",
            where,
            mend,
        )
    for group in facts.null_together:
        nulls = next(one.nulls for one in columns if one.name == group[0])
        yield Finding("null together", "note", group[0], nulls, f"NULL in the same rows: {', '.join(group[:6])}{' …' if len(group) > 6 else ''}",
                      " AND ".join(f"{quoted(name)} IS NULL" for name in group))  # fmt: skip


def _exception(exceptions: tuple[tuple[str, str, int, str], ...] | None) -> str:
    if not exceptions:
        return ""
    key, value, _, usual = exceptions[0]
    return f" (for {_shown(key)} it is {_shown(usual)}, once {_shown(value)})"
