"""Findings: what a profile's figures mean for whoever has to use the table, with the condition that is true for just those
rows, and the assignment that mends them where one exists."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from gravel.language.functions.damage import CONTROLS
from gravel.language.types import TEXT, Kind
from gravel.language.writing import is_one_of, literal, quoted, text_literal
from gravel.profiling import column_kind
from gravel.profiling.marks import REPLACEMENT
from gravel.profiling.result import ColumnProfile, Finding, Fit, Numbers, TableFacts
from gravel.profiling.spellings import spelling_findings
from gravel.profiling.wording import row_count, shown, tidied

LEVELS = ("wrong", "suspect", "note")
# What it costs to leave a finding, by kind: a key that fails or a value that is lost before what only looks untidy.
_COST = {
    "almost a key": 95, "repeated rows": 90, "replacement characters": 88, "wrongly decoded": 86, "declared type": 85,
    "misfits": 84, "control characters": 82, "lost zeros": 80,
    "forms": 78, "placeholders": 76, "blank": 72, "spaces": 70, "spellings": 68, "misspelt": 67, "determined": 66, "dates of two orders": 64,
    "another form": 62, "list pieces": 60, "inner spaces": 59, "padded pieces": 58, "case": 56, "odd shapes": 54, "zeros": 52, "far out": 50,
    "negative": 48, "doubled moments": 47, "future": 46, "first of January": 44, "formulas": 42,
    "list": 20, "leading zeros": 18, "constant": 12, "always null": 30, "column name": 10, "null together": 8,
}  # fmt: skip
_FEW = 0.1  # a tenth: what is rarer beside a rule that the rest keeps is an exception to it


def findings(columns: tuple[ColumnProfile, ...], facts: TableFacts, rows: int) -> tuple[Finding, ...]:
    """All findings, those that cost most first."""
    if not rows:
        return ()
    found = [finding for column in columns if column.name not in facts.binary for finding in _of_column(column, rows)]
    found = _together(columns, _against_declared(columns, facts, found))
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
        detail = f"{rows:,} {'value does' if rows == 1 else 'values do'} not match the declared type {declared}, such as {shown(example)}"
        found = [other for other in found if other is not same]
        found.append(Finding("declared type", "wrong", name, rows, detail, where, same.mend if same else ""))
    return found


def _together(columns: tuple[ColumnProfile, ...], found: list[Finding]) -> list[Finding]:
    """One finding for one row that is far out in several columns."""
    row_of = {one.name: one.numbers.far_row for one in columns if one.numbers is not None and one.numbers.far_row}
    far = [one for one in found if one.finding == "far out" and one.column in row_of]
    made = []
    for one in found:
        same = [other for other in far if one in far and row_of[str(other.column)] == row_of[str(one.column)]]
        if len(same) > 1 and same[0] is not one:
            continue
        others = ", ".join(str(other.column) for other in same[1:])
        made.append(replace(one, detail=f"{one.detail}; the same row is far out in {others}") if others else one)
    return made


def _of_column(one: ColumnProfile, rows: int) -> Iterator[Finding]:
    known = rows - one.nulls
    if not known:
        yield Finding("always null", "note", one.name, one.nulls, "no row has a value", f"{quoted(one.name)} IS NULL")
        return
    if one.distinct == 1 and known > 1 and not one.nulls:
        where = f"{quoted(one.name)} IS NOT NULL"
        yield Finding("constant", "note", one.name, known, f"every row has the same value, {shown(one.top[0][0])}", where)
    yield from _column_name(one, known)
    if one.type == TEXT:
        yield from _spaces(one)
        yield from _placeholders(one, known)
        misfits = list(_misfits(one, known))
        yield from misfits
        # Spellings of a list differ in their delimiters: its own findings tell that.
        spelt = list(spelling_findings(one, known)) if one.list is None else []
        yield from spelt
        yield from (
            case for case in _case(one, known) if all(case.rows > finding.rows for finding in spelt if finding.finding == "spellings")
        )
        if not any(finding.level != "note" and finding.finding in ("misfits", "lost zeros") for finding in misfits):
            yield from _shapes(one, known)  # of one cause the first finding tells
        yield from _damage(one)
        yield from _lists(one)
    elif one.type.kind is Kind.INTEGER:
        yield from _lost_zeros(one, known)
    yield from _forms(one)
    yield from _numbers(one, rows)
    yield from _dates(one, known)


def _column_name(one: ColumnProfile, known: int) -> Iterator[Finding]:
    if one.name != tidied(one.name) or "\n" in one.name:
        yield Finding(
            "column name", "note", one.name, known, f"the column's own name, {shown(one.name)}, has spaces or line breaks that nobody sees"
        )


def _spaces(one: ColumnProfile) -> Iterator[Finding]:
    name, spaces = quoted(one.name), one.spaces
    if one.empty or one.blank:
        parts = [
            f"{count:,} {text}" for count, text in ((one.empty, "with an empty text"), (one.blank, "with nothing but white space")) if count
        ]
        beside = f", beside {row_count(one.nulls)} with NULL" if one.nulls else ""
        # Where nothing else is NULL, and nothing else is blank, the NULLs of the result tell what was there.
        safe = not one.nulls and not one.blank
        yield Finding(
            "blank", "wrong", one.name, one.empty + one.blank, f"{' and '.join(parts)} where nothing is known{beside}",
            f"IS_BLANK({name}) AND {name} IS NOT NULL", f"{name} = IF_BLANK({name}, NULL)", safe,
        )  # fmt: skip
    if spaces.ends:
        single = f" AND NOT {name} LIKE_REGEX '[\\n\\r]'" if spaces.lines else ""
        counts = ((spaces.leading, "begin with one"), (spaces.trailing, "end with one"))
        told = ", ".join(f"{count:,} {text}" for count, text in counts if count)
        where = f"{name} <> TRIM({name}) AND NOT IS_BLANK({name}){single}"
        mend = f"{name} = CASE WHEN {where} THEN TRIM({name}) ELSE {name} END" if single or one.blank else f"{name} = TRIM({name})"
        yield Finding("spaces", "wrong", one.name, spaces.ends, f"spaces at an end, which nobody sees: {told}", where, mend, True)
    if spaces.inner:
        told = ", ".join(
            f"{count:,} {text}" for count, text in
            ((spaces.runs, "have several in a row"), (spaces.odd, "have a tab, a line break, a no-break or a zero width space")) if count
        )  # fmt: skip
        ends = f"TRIM({name})" if spaces.ends else name
        several = f"CASE WHEN {name} LIKE_REGEX '[\\n\\r]' THEN {name} ELSE {ends} END" if spaces.ends and spaces.lines else ends
        yield Finding(
            "inner spaces", "note" if column_kind.is_free_text(one) else "suspect", one.name, spaces.inner,
            f"spaces inside, which may part what belongs apart: {told}",
            f"{several} <> TIDY_SPACES({name}) AND NOT IS_BLANK({name})", f"{name} = TIDY_SPACES({name})",
        )  # fmt: skip
    if spaces.control:
        yield Finding(
            "control characters", "wrong", one.name, spaces.control, "holds control characters, which no one can see or type",
            f"HAS_CONTROL_CHARACTERS({name})", f"{name} = TRANSLATE_REGEX({text_literal(CONTROLS)} IN {name} WITH '')",
        )  # fmt: skip


_FEW_CATEGORIES = 50


def _placeholders(one: ColumnProfile, known: int) -> Iterator[Finding]:
    if not one.null_words:
        return
    name, rows = quoted(one.name), one.null_word_rows
    condition = _placeholder_condition(one)
    told = ", ".join(f"{word.rows:,} × {shown(word.value)}" for word in one.null_words[:5])
    more = f" and {len(one.null_words) - 5} others" if len(one.null_words) > 5 else ""
    # "none" is a value where something can be absent: of hair, of a seat belt.
    only_none = one.distinct <= _FEW_CATEGORIES and all(tidied(word.value).lower().strip("()<>") == "none" for word in one.null_words)
    best = _best_fit(one.fits)
    beside = (
        f"; all others fit {best.type}" if best is not None and best.rows == known - _unfit_words(one, best) - one.empty - one.blank else ""
    )
    yield Finding(
        "placeholders", "wrong" if beside else "note" if only_none else "suspect", one.name, rows,
        f"words where nothing is known: {told}{more}{beside}", condition,
        f"{name} = CASE WHEN {condition} THEN NULL ELSE {name} END",
    )  # fmt: skip


def _placeholder_condition(one: ColumnProfile) -> str:
    if one.all_null_words:
        return f"IS_PLACEHOLDER({quoted(one.name)})"
    return is_one_of(
        f"LOWER(TIDY_SPACES({quoted(one.name)}))", map(text_literal, sorted({tidied(word.value).lower() for word in one.null_words}))
    )


_CERTAIN, _LIKELY = 0.9, 0.5  # shares of the values that fit a type, for numbers and for dates


def _misfits(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """A type or a date form that nearly all values fit, and those that do not."""
    name = quoted(one.name)
    by_type = {fit.type: fit for fit in one.fits}
    best = _best_fit(one.fits)
    said = known - one.empty - one.blank - _unfit_words(one, best)
    if one.loses and (whole := by_type.get("DECIMAL")) and whole.rows == known:
        yield Finding(
            "leading zeros", "note", one.name, one.loses, "digits with a leading zero or plus: codes, of which a cast to a number would lose a part",
            f"FITS({name} AS DECIMAL) AND {name} LIKE_REGEX '^ *(\\+|[+-]?0[0-9])'",
        )  # fmt: skip
    yield from _lost_zeros(one, known)
    yield from _two_orders(one)
    yield from _other_numbers(one, known)
    if best is not None and best.rows == known:
        yield from _another_form(one, best, known)
    if best is None or best.rows * 2 < said or best.rows >= said:
        return
    rows = said - best.rows
    dated = best.type.startswith(("DATE", "TIMESTAMP"))
    level = "note" if best.rows < (_LIKELY if dated else _CERTAIN) * said else "wrong"
    apart = (f" AND NOT IS_BLANK({name})" if one.empty + one.blank else "") + (
        f" AND NOT {_placeholder_condition(one)}" if one.null_words else ""
    )
    yield Finding(
        "misfits", level, one.name, rows, f"{best.rows:,} of {said:,} values fit {best.type}, these do not: {_examples(best, one)}",
        f"NOT FITS({name} AS {best.type}){apart}", _mend_number(name, best) or _mend_dates(name, one, best),
    )  # fmt: skip


def _unfit_words(one: ColumnProfile, best: Fit | None) -> int:
    """Rows with a word for nothing that is no value of the type: NaN is a DOUBLE."""
    doubles = best is not None and best.type == "DOUBLE PRECISION"
    return one.null_word_rows - sum(word.rows for word in one.null_words if doubles and word.value.strip(" ").lower() == "nan")


def _another_form(one: ColumnProfile, best: Fit, known: int) -> Iterator[Finding]:
    """All values are days of one form that is not ISO 8601, or numbers with an exponent."""
    name = quoted(one.name)
    if best.type.startswith("DATE FORMAT") and all(orders.settled for orders in one.both_orders):
        template = best.type.split("'")[1]
        yield Finding(
            "another form", "suspect", one.name, known, f"days written {template}: text to every comparison and to ORDER BY",
            f"{name} IS NOT NULL", f"{name} = DATE_OF({name}, '{template}')",
        )  # fmt: skip
    elif best.type == "DOUBLE PRECISION":
        yield Finding(
            "another form", "note", one.name, known, "numbers, some with an exponent: text to every comparison and to ORDER BY",
            f"{name} IS NOT NULL", f"{name} = CAST({name} AS DOUBLE PRECISION)",
        )  # fmt: skip


# Shapes of numbers with a decimal comma, and with a comma or a point between groups of three digits.
_PLAIN_NUMBER = r"[+-]?9+"
_COMMA_NUMBER = r"[+-]?(9+|9{1,3}(\.999)+),9+|[+-]?9{1,3}(\.999)+"
_GROUPED_NUMBER = r"[+-]?9{1,3}(,999)+(\.9+)?"


def _other_numbers(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """All values are numbers, some of them with a decimal comma or with signs between groups of digits."""
    if one.distinct_shapes != len(one.shapes) or sum(shape.rows for shape in one.shapes) != known:
        return
    name = quoted(one.name)
    for pattern, told, mend in (
        (_GROUPED_NUMBER, "commas between groups of three digits", f"REPLACE({name}, ',', '')"),
        (_COMMA_NUMBER, "a decimal comma", f"REPLACE(REPLACE({name}, '.', ''), ',', '.')"),
    ):
        plain = rf"{_PLAIN_NUMBER}(\.9+)?" if pattern == _GROUPED_NUMBER else _PLAIN_NUMBER
        rows = sum(shape.rows for shape in one.shapes if re.fullmatch(pattern, shape.shape.strip(" ")))
        if rows * 2 > known and all(re.fullmatch(f"{pattern}|{plain}", shape.shape.strip(" ")) for shape in one.shapes):
            sign = f"POSITION(',' IN {name}) > 0" if pattern == _GROUPED_NUMBER else f"{name} LIKE_REGEX '[.,]'"
            yield Finding(
                "another form",
                "suspect",
                one.name,
                rows,
                f"numbers with {told}: text to every sum and comparison",
                sign,
                f"{name} = {mend}",
            )
            return


def _lost_zeros(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """Codes of digits that are one or two digits shorter than nearly all others."""
    if not column_kind.may_lose_zeros(one) or not one.shapes:
        return
    usual = one.shapes[0]
    size = len(usual.shape)
    short = [shape for shape in one.shapes[1:] if shape.shape in ("9" * (size - 1), "9" * (size - 2))]
    rows = sum(shape.rows for shape in short)
    if usual.shape != "9" * size or size < 4 or not rows or rows > _FEW * usual.rows or usual.rows < 0.8 * known:
        return
    name = quoted(one.name)
    text = name if one.type == TEXT else f"CAST({name} AS TEXT)"
    shapes = is_one_of(f"SHAPE({text})", (text_literal(shape.shape) for shape in short))
    yield Finding(
        "lost zeros", "suspect", one.name, rows,
        f"codes have {size} digits, these fewer (as {shown(short[0].example)}): leading zeros that were lost",
        shapes, f"{name} = CASE WHEN {shapes} THEN LPAD({text}, {size}, '0') ELSE {text} END",
    )  # fmt: skip


def _best_fit(fits: tuple[Fit, ...]) -> Fit | None:
    """The type that most values fit; of equal ones the first, INTEGER before DECIMAL."""
    return max((fit for fit in fits if fit.rows and "YYYYMMDD" not in fit.type), key=lambda fit: fit.rows, default=None)


def _examples(fit: Fit, column: ColumnProfile) -> str:
    words = {word.value for word in column.null_words}
    some = [one for one in fit.misfits if one.value.strip() and one.value not in words]
    return ", ".join(f"{one.rows:,} × {shown(one.value)}" for one in some[:4]) + (" …" if len(some) > 4 else "")


def _mend_number(name: str, best: Fit) -> str:
    """A decimal comma is a point elsewhere, where one of the examples has it."""
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
    said = best.rows + sum(fit.rows for fit in one.fits if fit.type in forms and fit is not best)
    known = sum(shape.rows for shape in one.shapes)
    if said == known and one.distinct_shapes == len(one.shapes) and not any("FM" in form for form in forms):
        templates = ["YYYY-MM-DD" if form == "DATE" else form.split("'")[1] for form in dict.fromkeys([best.type, *forms])]
        return f"{name} = DATE_OF({name}, {', '.join(map(text_literal, templates))})"
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


def _case(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """Codes of which nearly all are in capitals, or in small letters, and a few of the same shape are not."""
    if sum(word.rows for word in one.null_words) < one.null_word_rows or not one.shapes:
        return  # words for nothing in too many spellings to tell their case apart
    name, case = quoted(one.name), one.case
    words = [word for word in one.null_words if any(char.isalpha() for char in word.value)]
    lettered = known - case.none - sum(word.rows for word in words)
    apart = f" AND NOT {_placeholder_condition(one)}" if words else ""
    for kind, count, wrong, pattern, function in (
        ("capitals", case.upper, str.isupper, r"\p{Ll}", "UPPER"), ("small letters", case.lower, str.islower, r"[\p{Lu}\p{Lt}]", "LOWER")
    ):  # fmt: skip
        count -= sum(word.rows for word in words if wrong(word.value))
        odd = [shape for shape in one.shapes if any(map(str.isalpha, shape.shape)) and not wrong(shape.shape)]
        usual = {shape.shape.casefold() for shape in one.shapes if wrong(shape.shape)}
        alike = bool(odd) and all(shape.shape.casefold() in usual for shape in odd)
        if count < lettered and lettered - count <= _FEW * lettered and alike:
            yield Finding(
                "case", "suspect", one.name, lettered - count, f"written in {kind} but for these",
                f"{name} LIKE_REGEX {text_literal(pattern)}{apart}", f"{name} = {function}({name})",
            )  # fmt: skip


def _shapes(one: ColumnProfile, known: int) -> Iterator[Finding]:
    best = _best_fit(one.fits)
    if one.distinct_shapes < 2 or not one.shapes:
        return
    if best is not None and best.type in ("INTEGER", "DECIMAL", "DOUBLE PRECISION") and best.rows * 2 > known and not one.loses:
        return  # numbers are of many shapes
    name, usual = quoted(one.name), one.shapes[0]
    said = known - one.empty - one.blank - one.null_word_rows
    others = said - usual.rows
    apart = (f" AND NOT IS_BLANK({name})" if one.empty + one.blank else "") + (
        f" AND NOT {_placeholder_condition(one)}" if one.null_words else ""
    )
    if 0 < others <= 0.05 * said and "9" in usual.shape:
        words = {word.value for word in one.null_words}
        told = ", ".join(f"{shape.rows:,} × {shown(shape.shape)}" for shape in [
            shape for shape in one.shapes[1:] if shape.example.strip() and shape.example not in words
        ][:3])  # fmt: skip
        yield Finding(
            "odd shapes", "suspect", one.name, others, f"values have the shape {shown(usual.shape)} (as {shown(usual.example)}), these have {told}",
            f"SHAPE({name}) <> {text_literal(usual.shape)}{apart}",
        )  # fmt: skip


def _damage(one: ColumnProfile) -> Iterator[Finding]:
    name, damage = quoted(one.name), one.damage
    if damage.misdecoded:
        yield Finding(
            "wrongly decoded", "wrong", one.name, damage.misdecoded,
            "letters such as 'Ã©': UTF-8 that was read in another encoding before it came here",
            f"IS_MISDECODED({name})", f"{name} = REDECODE({name})",
        )  # fmt: skip
    if damage.replacement:
        yield Finding(
            "replacement characters", "wrong", one.name, damage.replacement,
            "holds U+FFFD, or what its bytes look like: a letter that was lost on the way, and only the source has it",
            f"{name} LIKE_REGEX {text_literal(REPLACEMENT)}",
        )  # fmt: skip
    if damage.formula:
        yield Finding(
            "formulas",
            "note" if column_kind.is_free_text(one) else "suspect",
            one.name,
            damage.formula,
            "values that a spreadsheet would run as a formula",
            f"IS_FORMULA({name})",
        )


def _lists(one: ColumnProfile) -> Iterator[Finding]:
    if one.list is None:
        return
    name, found = quoted(one.name), one.list
    sign, delimiter = "line break" if found.delimiter == "\n" else found.delimiter, text_literal(found.delimiter)
    bare = text_literal(found.delimiter if found.delimiter == "\n" else found.delimiter.strip())
    held = f"POSITION({bare} IN {name}) > 0"
    repeated = f"; {row_count(found.repeated)} with a piece twice" if found.repeated else ""
    yield Finding(
        "list",
        "note",
        one.name,
        found.rows,
        f"lists in a field, with {sign!r} between {found.least} to {found.most} pieces{repeated}",
        held,
    )
    if found.empty:
        yield Finding(
            "list pieces", "suspect", one.name, found.empty, "lists with a piece that is empty: a delimiter too many",
            f"{held} AND LIST_HAS_BLANKS({name}, {delimiter})", f"{name} = TIDY_LIST({name}, {delimiter})",
        )  # fmt: skip
    if found.padded:
        yield Finding(
            "padded pieces", "suspect", one.name, found.padded,
            f"lists with other spaces around a piece than {sign!r} has: split there they give unequal pieces",
            f"{held} AND NOT LIST_HAS_BLANKS({name}, {delimiter}) AND TRIM({name}) <> TIDY_LIST({name}, {delimiter})",
            f"{name} = CASE WHEN {held} THEN TIDY_LIST({name}, {delimiter}) ELSE {name} END",
        )  # fmt: skip


def _forms(one: ColumnProfile) -> Iterator[Finding]:
    for form in one.forms:
        if form.fail:
            name = quoted(one.name) if one.type == TEXT else f"CAST({quoted(one.name)} AS TEXT)"
            told = ", ".join(f"{value.rows:,} × {shown(value.value)}" for value in form.examples[:3])
            yield Finding(
                "forms", "wrong", one.name, form.fail, f"{form.rows:,} values have the form {form.form}, these do not: {told}",
                f"NOT HAS_FORM({name}, '{form.form}')",
            )  # fmt: skip


_FEW_VALUES, _FEW_ROWS = 15, 30
_VERY_FAR, _WIDE_GAP = 7.5, 0.62  # quartile ranges; the share of the distance to the median
_FAR_COORDINATE = 30  # quartile ranges beyond which a degree is rather a slip of a digit than a far place
_FEW_ZEROS, _ZERO_GAP, _ZERO_PLACES, _ZERO_PLACE_SHARE = 0.05, 0.5, 3, 0.001
_LEAST_WHOLE = 5
_FEWER = 20


def _numbers(one: ColumnProfile, rows: int) -> Iterator[Finding]:
    found = one.numbers
    if found is None or found.fit * 2 < sum(shape.rows for shape in one.shapes):
        return
    name = quoted(one.name)
    text = one.type == TEXT
    value = f"CAST_OR_NULL({name} AS DOUBLE PRECISION)" if text else name
    measured = one.distinct > _FEW_VALUES and found.fit >= _FEW_ROWS and not column_kind.is_code(one, rows)
    place = column_kind.is_coordinate(one)
    if found.far_out and measured and (not place or found.far_reach >= _FAR_COORDINATE):
        bounds = [(found.far_low, "<"), (found.far_high, ">")]
        very_far = found.far_reach >= _VERY_FAR or found.far_gap >= _WIDE_GAP
        tail = found.q1 == 0 and found.q3 - found.median > found.median  # counts, many of them zero
        # A bound is a value of the column: nothing is rounded, and the condition means just these rows.
        parts = [f"{value} {sign} {_number(bound, text)}" for bound, sign in bounds if bound is not None]
        finite = f" AND {value} < CAST('Infinity' AS DOUBLE PRECISION) AND {value} > CAST('-Infinity' AS DOUBLE PRECISION)" if text else ""
        where = f"({' OR '.join(parts)}){finite}" if len(parts) > 1 and finite else " OR ".join(parts) + finite
        yield Finding(
            "far out", "suspect" if very_far and not tail else "note", one.name, found.far_out,
            f"{row_count(found.far_out)} far from all others, with a gap between; the middle half is from {_plain(found.q1)} to {_plain(found.q3)}",
            where,
        )  # fmt: skip
    if measured and _zeros_stand_apart(one, found, place):
        yield Finding(
            "zeros", "suspect", one.name, found.zero,
            "exactly zero: rather not known than a place" if place else
            f"exactly zero, where all others are at least {_plain(found.least_positive or 0)}: rather not known than nothing", f"{value} = 0",
        )  # fmt: skip
    if 0 < found.negative <= 0.02 * found.fit and not place and not column_kind.is_height(one):
        finite = f" AND {value} > CAST('-Infinity' AS DOUBLE PRECISION)" if text else ""
        # One value again and again, a single row, or few beside the positive ones as near to zero: a mark or a slip, no spread
        # that goes on below zero.
        marked = found.negative == 1 or (found.distinct_negative <= 2 and found.negative > found.distinct_negative)
        counted = one.type.kind is Kind.INTEGER or found.zero >= _FEW_ZEROS * found.fit
        apart = found.q1 >= 0 and counted and found.near_zero >= _FEWER * found.negative
        level = "suspect" if marked or apart else "note"
        yield Finding("negative", level, one.name, found.negative, "numbers below zero where nearly all are above", f"{value} < 0{finite}")


def _zeros_stand_apart(one: ColumnProfile, found: Numbers, place: bool) -> bool:
    if place:
        return max(_ZERO_PLACES, _ZERO_PLACE_SHARE * found.fit) <= found.zero <= _FEW_ZEROS * found.fit
    least = found.least_positive
    if least is None or found.negative or not 0 < found.zero <= _FEW_ZEROS * found.fit:
        return False
    return least >= _ZERO_GAP * found.median and (one.type.kind is not Kind.INTEGER or least >= _LEAST_WHOLE)


def _number(bound: str, text: bool) -> str:
    return f"CAST({text_literal(bound)} AS DOUBLE PRECISION)" if text else bound.strip()


def _plain(value: float) -> str:
    return f"{value:,.4f}".rstrip("0").rstrip(".")


_ALMOST_ALL = 0.99


def _dates(one: ColumnProfile, known: int) -> Iterator[Finding]:
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
        and found.january_first > 0.5 * found.month_first
        and found.january_first < 0.9 * found.fit  # else the column has years, written as days
    ):
        where = f"EXTRACT(MONTH FROM {value}) = 1 AND EXTRACT(DAY FROM {value}) = 1" if value else ""
        yield Finding(
            "first of January", "suspect", one.name, found.january_first, "on a 1 January: rather a year whose day nobody knew", where
        )

    doubled = known - one.distinct
    if one.type.kind in (Kind.TIMESTAMP, Kind.ZONED) and known >= _FEW_ROWS and 0 < doubled <= (1 - _ALMOST_ALL) * known:
        name = quoted(one.name)
        values = [literal(value, one.type) for value, rows in one.top if rows > 1]
        where = is_one_of(name, values) if sum(rows - 1 for _, rows in one.top if rows > 1) == doubled else ""
        shared = sum(rows for _, rows in one.top if rows > 1) if where else doubled
        yield Finding(
            "doubled moments",
            "suspect",
            one.name,
            shared,
            "at one moment with another row, where nearly every row has one of its own",
            where,
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
        level = "note" if facts.repeated_by_chance else "wrong"
        why = ": with so few different values in so few columns some must be" if facts.repeated_by_chance else ""
        yield Finding("repeated rows", level, None, facts.repeated, f"equal to an earlier row in every column{why}")
    by_name = {one.name: one for one in columns}
    for almost in facts.almost_keys:
        one = by_name[almost.column]
        if not _looks_like_a_key(one, columns, rows) or almost.rows > max(3, _HANDFUL * rows):
            continue
        name = quoted(almost.column)
        where = ""
        if almost.values is not None:
            parts = [is_one_of(name, (literal(one.value, types[almost.column]) for one in almost.values))] if almost.values else []
            where = " OR ".join([*parts, *([f"{name} IS NULL"] if almost.nulls else [])])
        repeated = almost.rows - almost.nulls
        why = " and ".join(
            text
            for count, text in ((repeated, f"{row_count(repeated)} share a value"), (almost.nulls, f"{almost.nulls:,} have NULL"))
            if count
        )
        yield Finding("almost a key", "wrong" if repeated else "suspect", almost.column, almost.rows, f"would be a key, but {why}", where)
    for found in facts.determined:
        if not found.rows or not found.exceptions or not _dependency_is_meant(by_name[found.by], found.rows, rows):
            continue
        by, column = quoted(found.by), quoted(found.column)
        grouped: dict[str, list[str]] = {}
        for key, value, _, _ in found.exceptions:
            grouped.setdefault(key, []).append(literal(value, types[found.column]))
        parts = [f"{by} = {literal(key, types[found.by])} AND {is_one_of(column, values)}" for key, values in grouped.items()]
        where = parts[0] if len(parts) == 1 else " OR ".join(f"({part})" for part in parts)
        yield Finding(
            "determined", "suspect", found.column, found.rows,
            f"{found.by} says what {found.column} is, but not in these rows{_exception(found.exceptions)}", where,
        )  # fmt: skip
    for group in facts.null_together:
        nulls = next(one.nulls for one in columns if one.name == group[0])
        yield Finding("null together", "note", group[0], nulls, f"NULL in the same rows: {', '.join(group[:6])}{' …' if len(group) > 6 else ''}",
                      " AND ".join(f"{quoted(name)} IS NULL" for name in group))  # fmt: skip


def _exception(exceptions: tuple[tuple[str, str, int, str], ...] | None) -> str:
    if not exceptions:
        return ""
    key, value, _, usual = exceptions[0]
    return f" (for {shown(key)} it is {shown(usual)}, once {shown(value)})"


_HANDFUL = 0.005
_EXCEPTIONS, _EXCEPTION_SHARE, _SUPPORT = 10, 0.001, 3


def _looks_like_a_key(one: ColumnProfile, columns: tuple[ColumnProfile, ...], rows: int) -> bool:
    """By its name, by its place before all others, or by codes of one shape."""
    known = rows - one.nulls
    whole = one.type.kind is Kind.INTEGER
    first = one.name == columns[0].name and (whole or column_kind.has_one_shape(one, known))
    return column_kind.is_identifier(one.name) or first or (not whole and column_kind.has_one_shape(one, known))


def _dependency_is_meant(by: ColumnProfile, exceptions: int, rows: int) -> bool:
    """Whether one column is meant to say what another is: a name or an identifier with several rows a value, and few exceptions."""
    named = by.type == TEXT or column_kind.is_identifier(by.name)
    return named and rows >= _SUPPORT * by.distinct and exceptions <= max(1, min(_EXCEPTIONS, _EXCEPTION_SHARE * rows))
