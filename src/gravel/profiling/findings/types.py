"""Findings about types: values that do not fit what the others are, other ways to write numbers and
days."""

from __future__ import annotations

import re
from collections.abc import Iterator
from unicodedata import category

from gravel.kernels.rules import tidied
from gravel.language.types import TEXT
from gravel.language.writing import is_one_of, quoted, text_literal
from gravel.profiling import column_kind
from gravel.profiling.day_forms import STRICTER, TARGETS
from gravel.profiling.findings.fit import FEW, best_fit, placeholder_condition, unfit_words
from gravel.profiling.number_forms import NumberForm, form_of
from gravel.profiling.result import ColumnProfile, Finding, Fit, ValueShape
from gravel.profiling.wording import shown
from gravel.words import number_of, words

_TRUE, _FALSE = words("yes y true t 1 on ja j oui"), words("no n false f 0 off nein non")
_CLEAR = words("yes no true false 1 0 ja nein oui non")  # one of them makes it more than a code
_NUMBERS = ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
_CODES = 0.05
_CODE, _CODE_DIGITS = r"[+(]?9[-+()./ 9]*", 5
# A letter beside digits that is no unit: 171a and S903 are codes.
_CODE_LETTER = re.compile(r"^[A-Za-z](?=[0-9])|(?<=[0-9])[abd-fijn-rux-zBD-EG-JL-UX-Z]$")
_MIXED = 0.75  # share of the values that are written in one of several ways
_CERTAIN, _LIKELY = 0.9, 0.5  # shares of the values that fit a type, for numbers and for dates


def mismatch_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """A type or a date form that nearly all values fit, and those that do not."""
    name = quoted(column_profile.name)
    by_type = {fit.type: fit for fit in column_profile.fits}
    best = best_fit(column_profile.fits)
    said = known - column_profile.empty - column_profile.blank - unfit_words(column_profile, best)
    if column_profile.loses_in_cast and (whole := by_type.get("DECIMAL")) and whole.rows == known:
        yield Finding(
            "leading zeros",
            "note",
            column_profile.name,
            column_profile.loses_in_cast,
            "digits with a leading zero or plus: codes, of which a cast to a number would lose a"
            " part",
            f"FITS({name} AS DECIMAL) AND {name} LIKE_REGEX '^ *(\\+|[+-]?0[0-9])'",
        )
    if truth := _truth_in_several_ways(column_profile):
        yield truth
        return
    yield from lost_zero_findings(column_profile, known)
    yield from _two_orders(column_profile)
    if other_numbers := _other_numbers(column_profile, known):
        yield other_numbers
        return
    if best is not None and best.rows == known:
        yield from _another_form(column_profile, best, known)
    if best is None or best.rows >= said:
        return
    if best.rows * 2 < said:
        if finding := _mixed_codes(column_profile, known):
            yield finding
        else:
            yield from _mixed_formats(column_profile, best, said, known)
        return
    if best.rows < _CERTAIN * said and _has_both_decimal_signs(column_profile):
        mixed = list(_mixed_formats(column_profile, best, said, known))
        yield from mixed
        if mixed:
            return
    rows = said - best.rows
    dated = best.type.startswith(("DATE", "TIMESTAMP"))
    if column_profile.spaces.control >= rows and all(
        any(category(char) == "Cc" for char in mismatch.value) for mismatch in best.mismatches
    ):
        return  # control characters are a finding of their own, with their fix
    # Some digits with a leading zero make codes of the others too.
    codes = not dated and column_profile.loses_in_cast >= _CODES * known
    if codes and (finding := _mixed_codes(column_profile, known)):
        yield finding
        return
    level = "note" if codes or best.rows < (_LIKELY if dated else _CERTAIN) * said else "wrong"
    yield Finding(
        "type mismatches",
        level,
        column_profile.name,
        rows,
        f"{best.rows:,} of {number_of(said, 'value')} fit {best.type}, "
        f"these do not: {_examples(best, column_profile)}",
        _unfit(column_profile, best),
        _number_fix(column_profile, best, known) or _dates_fix(name, column_profile, best),
    )


def _truth_in_several_ways(column_profile: ColumnProfile) -> Finding | None:
    """Yes beside y, 1 or true, no beside n, 0 or false."""
    placeholders = {word.value for word in column_profile.placeholders}
    ways: dict[str, int] = {}
    for value, rows in column_profile.top:
        if value.strip() and value not in placeholders:
            word = tidied(value).lower()
            ways[word] = ways.get(word, 0) + rows
    if (
        len(column_profile.top) < column_profile.distinct
        or not ways.keys() <= _TRUE | _FALSE
        or not ways.keys() & _CLEAR
    ):
        return None
    ranked = sorted(ways, key=lambda word: (-ways[word], word))
    true, false = ([word for word in ranked if word in side] for side in (_TRUE, _FALSE))
    if not true or not false or len(ways) == 2:
        return None
    name = quoted(column_profile.name)
    word_of = f"LOWER(TIDY_SPACES({name}))"
    whens = " ".join(
        f"WHEN {is_one_of(word_of, map(text_literal, side))} THEN '{truth}'"
        for side, truth in ((true, "true"), (false, "false"))
    )
    most = {true[0], false[0]}
    return Finding(
        "mixed formats",
        "suspect",
        column_profile.name,
        sum(rows for word, rows in ways.items() if word not in most),
        "truth values in several ways: "
        + " and ".join(
            ", ".join(f"{ways[word]:,} × {shown(word)}" for word in side) for side in (true, false)
        ),
        is_one_of(word_of, map(text_literal, sorted(ways.keys() - most))),
        f"{name} = CASE {whens} ELSE {name} END",
    )


def _unfit(column_profile: ColumnProfile, best: Fit) -> str:
    """The condition of the values that are no placeholder, not blank, and do not fit a type."""
    name = quoted(column_profile.name)
    condition = f"NOT FITS({name} AS {best.type})"
    if column_profile.empty + column_profile.blank:
        condition += f" AND NOT IS_BLANK({name})"
    if column_profile.placeholders:
        condition += f" AND NOT {placeholder_condition(column_profile)}"
    return condition


def _mixed_formats(
    column_profile: ColumnProfile, best: Fit, said: int, known: int
) -> Iterator[Finding]:
    """Days, or numbers, that are written in several ways, of which none is that of nearly all."""
    if column_profile.loses_in_cast or column_profile.distinct_shapes != len(column_profile.shapes):
        return
    what, way_of = (
        ("days", _way_of_day)
        if best.type.startswith("DATE")
        else ("timestamps", _way_of_moment)
        if best.type.startswith("TIMESTAMP")
        else ("numbers", _way_of_number)
    )
    ways: dict[str, tuple[int, str]] = {}
    for shape in column_profile.shapes:
        code = what == "numbers" and _CODE_LETTER.search(shape.example.strip(" "))
        if not code and (way := way_of(shape.shape.strip(" "))):
            rows, example = ways.get(way, (0, shape.example))
            ways[way] = rows + shape.rows, example
    written = sum(rows for rows, _ in ways.values())
    if len(ways) < 2 or written < _MIXED * said:
        return
    if not any(best.rows <= rows <= best.rows / _CERTAIN for rows, _ in ways.values()):
        return  # what is written as a day is seldom one
    most = sorted(ways.values(), key=lambda way: -way[0])
    yield Finding(
        "mixed formats",
        "wrong",
        column_profile.name,
        said - best.rows,
        f"{what} written in {len(ways)} ways: "
        + ", ".join(f"{rows:,} as {shown(example)}" for rows, example in most)
        + (f"; {said - written:,} are none" if said > written else ""),
        _unfit(column_profile, best),
        _number_fix(column_profile, best, known)
        or _dates_fix(quoted(column_profile.name), column_profile, best),
    )


def _has_both_decimal_signs(column_profile: ColumnProfile) -> bool:
    """Whether all values are numbers, some with a decimal comma, some with a point."""
    shapes = [item.shape.strip(" ") for item in column_profile.shapes]
    return (
        any("," in shape for shape in shapes)
        and any("." in shape for shape in shapes)
        and all(re.fullmatch(r"[+-]?9+(\.9+|,9{1,2})?", shape) for shape in shapes)
    )


def _mixed_codes(column_profile: ColumnProfile, known: int) -> Finding | None:
    """Codes of digits, such as telephone numbers, with other signs between them or at their start,
    of which no way is that of nearly all."""
    if not column_profile.loses_in_cast or column_profile.distinct_shapes != len(
        column_profile.shapes
    ):
        return None
    ways: dict[str, list[ValueShape]] = {}
    for shape in column_profile.shapes:
        if re.fullmatch(_CODE, shape.shape) and shape.shape.count("9") >= _CODE_DIGITS:
            ways.setdefault(re.sub("9+", "9", shape.shape), []).append(shape)
    rows = {way: sum(shape.rows for shape in shapes) for way, shapes in ways.items()}
    most = sorted(ways, key=lambda way: -rows[way])
    if len(ways) < 2 or sum(rows.values()) < _MIXED * known or rows[most[0]] >= _CERTAIN * known:
        return None
    name = quoted(column_profile.name)
    usual = is_one_of(f"SHAPE({name})", (text_literal(shape.shape) for shape in ways[most[0]]))
    return Finding(
        "mixed formats",
        "suspect",
        column_profile.name,
        known - rows[most[0]],
        f"codes of digits written in {len(ways)} ways: "
        + ", ".join(f"{rows[way]:,} as {shown(ways[way][0].example)}" for way in most),
        f"NOT ({usual})",
    )


def _way_of_day(shape: str) -> str:
    """The parts of a day with digits and signs, as 9.9.Y, by its shape; '' for what is none."""
    way = re.sub("9+", lambda digits: {1: "9", 2: "9", 4: "Y"}.get(len(digits[0]), "?"), shape)
    return way if re.fullmatch(_DAY, way) else ""


def _way_of_moment(shape: str) -> str:
    """The parts of a day and of a time after it, by its shape; of a day alone the day's."""
    parts = re.fullmatch(_MOMENT, shape)
    if parts is None:
        return _way_of_day(shape)
    way = _way_of_day(parts["day"])
    clock = re.sub("9+", "9", parts["clock"]).upper()
    return way and f"{way}{parts['between']}{clock}"


def _way_of_number(shape: str) -> str:
    """How a number is written, by its shape; '' for what is none."""
    number = re.sub(
        r"^(?:[A-Za-z]{1,4}|[€$£¥])\.? ?|(?<=9) ?(?:[A-Za-z]{1,4}|[€$£¥%])\.?$", "", shape
    )
    unit = "" if number == shape else " with a unit"
    for way, pattern in (
        ("plain", rf"{_PLAIN_NUMBER}(\.9+)?"),
        ("grouped", _GROUPED_NUMBER),
        ("comma", _COMMA_NUMBER),
    ):
        if re.fullmatch(pattern, number):
            return way + unit
    return ""


def _another_form(column_profile: ColumnProfile, best: Fit, known: int) -> Iterator[Finding]:
    """All values are days of one form that is not ISO 8601, or numbers with an exponent."""
    name = quoted(column_profile.name)
    if "FORMAT" in best.type and all(orders.settled for orders in column_profile.both_orders):
        template = best.type.split("'")[1]
        dated = best.type.startswith("DATE")
        yield Finding(
            "another format",
            "suspect",
            column_profile.name,
            known,
            f"{'days' if dated else 'timestamps'} written {template}: text to every comparison and"
            " to ORDER BY",
            f"{name} IS NOT NULL",
            f"{name} = "
            + (f"DATE_OF({name}, '{template}')" if dated else f"CAST({name} AS {best.type})"),
        )
    elif best.type == "DOUBLE PRECISION":
        yield Finding(
            "another format",
            "note",
            column_profile.name,
            known,
            "numbers, some with an exponent: text to every comparison and to ORDER BY",
            f"{name} IS NOT NULL",
            f"{name} = CAST({name} AS DOUBLE PRECISION)",
        )
    elif (
        best.type in _STORED
        and column_profile.type == TEXT
        and not column_profile.loses_in_cast
        and not column_profile.padded
    ):
        what = _STORED[best.type]
        yield Finding(
            "stored as text",
            "note",
            column_profile.name,
            known,
            f"all values are {what}, and the column is TEXT: they are compared and sorted as texts;"
            f" a CAST, or [types] in a plan, makes {what} of them",
            f"{name} IS NOT NULL",
            "" if best.type == "DECIMAL" else f"{name} = CAST({name} AS {best.type})",
        )


# Types of values that a column of texts has, and what they are: a database may have such columns.
_STORED = {
    "INTEGER": "numbers",
    "DECIMAL": "numbers",
    "DATE": "dates",
    "TIMESTAMP": "timestamps",
    "TIMESTAMP WITH TIME ZONE": "timestamps",
}
# Shapes of numbers with a decimal comma, and with a comma or a point between groups of three
# digits.
_PLAIN_NUMBER = r"[+-]?9+"
_COMMA_NUMBER = r"[+-]?(9+|9{1,3}(\.999)+),9+|[+-]?9{1,3}(\.999)+"
_UNIT = "(?:[A-Za-z]{1,4}|[€$£¥%])"
# Days, their digits as `_way_of_day` writes them.
_DAY = r"Y([-/.])9\1 ?9|9([-/.]) ?9\2 ?[9Y]|9[-. ]+A?a+\.?[-. ]+[9Y]|A?a+\.? 9,? [9Y]"
_MOMENT = r"(?P<day>.*?)(?P<between>[ A])(?P<clock>9{1,2}(:99){1,2}(\.9+)?( ?[Aa]{2})?)"
_GROUPED_NUMBER = r"[+-]?9{1,3}(,999)+(\.9+)?"


def _other_numbers(column_profile: ColumnProfile, known: int) -> Finding | None:
    """All values are numbers, and more than a few are written in another form than SQL's."""
    form = _form_of_numbers(column_profile, known)
    if form is None:
        return None
    rows = form.rows(column_profile.shapes)
    share = 1 - _CERTAIN if form.is_sure(column_profile.shapes) else 0.5
    if rows <= share * known:
        return None
    name = quoted(column_profile.name)
    bare = f", {form.bare:,} without" if form.bare else ""
    same = form.compares
    what = "text to every sum and comparison" if same else "different things in one column"
    return Finding(
        "another format" if same else "mixed formats",
        "suspect",
        column_profile.name,
        rows,
        f"numbers with {form.meaning}{bare}: {what}",
        form.condition(name),
        f"{name} = {form.fix(name, column_profile.padded > 0)}" if same else "",
    )


def _form_of_numbers(column_profile: ColumnProfile, known: int) -> NumberForm | None:
    """The form in which all values are numbers, where all their shapes are known."""
    shapes = column_profile.shapes
    if column_profile.distinct_shapes != len(shapes) or sum(item.rows for item in shapes) != known:
        return None
    return form_of(shapes, (value for value, _ in column_profile.top))


def lost_zero_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """Codes of digits that are one or two digits shorter than nearly all others."""
    if not column_kind.may_lose_zeros(column_profile) or not column_profile.shapes:
        return
    usual = column_profile.shapes[0]
    size = len(usual.shape)
    short = [
        shape
        for shape in column_profile.shapes[1:]
        if shape.shape in ("9" * (size - 1), "9" * (size - 2))
    ]
    rows = sum(shape.rows for shape in short)
    if (
        usual.shape != "9" * size
        or size < 4
        or not rows
        or rows > FEW * usual.rows
        or usual.rows < 0.8 * known
    ):
        return
    name = quoted(column_profile.name)
    text = name if column_profile.type == TEXT else f"CAST({name} AS TEXT)"
    shapes = is_one_of(f"SHAPE({text})", (text_literal(shape.shape) for shape in short))
    yield Finding(
        "lost zeros",
        "suspect",
        column_profile.name,
        rows,
        f"codes have {size} digits, these fewer (as {shown(short[0].example)}): leading zeros that"
        " were lost",
        shapes,
        f"{name} = CASE WHEN {shapes} THEN LPAD({text}, {size}, '0') ELSE {text} END",
    )


def _examples(fit: Fit, column: ColumnProfile) -> str:
    words = {word.value for word in column.placeholders}
    subset = [
        mismatch
        for mismatch in fit.mismatches
        if mismatch.value.strip() and mismatch.value not in words
    ]
    return ", ".join(f"{item.rows:,} × {shown(item.value)}" for item in subset[:4]) + (
        " …" if len(subset) > 4 else ""
    )


def _number_fix(column_profile: ColumnProfile, best: Fit, known: int) -> str:
    """Numbers of another form as SQL has them; a decimal comma as a point, where one of the
    examples has it."""
    name = quoted(column_profile.name)
    if best.type not in _NUMBERS or not best.mismatches:
        return ""
    form = _form_of_numbers(column_profile, known)
    if form is not None and form.is_sure(column_profile.shapes) and not form.units:
        return f"{name} = {form.fix(name, column_profile.padded > 0)}"
    if any(
        re.fullmatch(r" *[+-]?[0-9]+,[0-9]{1,2} *", mismatch.value) for mismatch in best.mismatches
    ):
        return (
            f"{name} = CASE WHEN {name} LIKE_REGEX '^ *[+-]?[0-9]+,[0-9]{{1,2}} *\\z' THEN"
            f" REPLACE({name}, ',', '.') ELSE {name} END"
        )
    return ""


def _dates_fix(name: str, column_profile: ColumnProfile, best: Fit) -> str:
    """The other date forms of the column, or those of timestamps, written as ISO 8601 has them."""
    kind = best.type.split(" ")[0]
    if kind not in ("DATE", "TIMESTAMP"):
        return ""
    doubtful = set()
    for orders in column_profile.both_orders:
        doubtful |= {orders.day_first, orders.month_first}
        if orders.settled:
            doubtful.remove(orders.day_first if orders.only_day_first else orders.month_first)
    # What a template with FM reads, and what it does not, goes for the one without too.
    doubtful |= {STRICTER[template] for template in doubtful & STRICTER.keys()}
    forms = [
        fit.type
        for fit in column_profile.fits
        if fit.rows and fit.type.startswith(f"{kind} FORMAT") and "YYYYMMDD" not in fit.type
    ]
    templates = [form.split("'")[1] for form in forms]
    left_out = doubtful | {STRICTER.get(template) for template in templates}
    forms = [
        form for form, template in zip(forms, templates, strict=True) if template not in left_out
    ]
    if not forms:
        return ""
    said = best.rows + sum(
        fit.rows for fit in column_profile.fits if fit.type in forms and fit is not best
    )
    known = sum(shape.rows for shape in column_profile.shapes)
    if (
        kind == "DATE"
        and said == known
        and column_profile.distinct_shapes == len(column_profile.shapes)
        and not any("FM" in form for form in forms)
    ):
        templates = [
            "YYYY-MM-DD" if form == "DATE" else form.split("'")[1]
            for form in dict.fromkeys([best.type, *forms])
        ]
        return f"{name} = DATE_OF({name}, {', '.join(map(text_literal, templates))})"
    whens = " ".join(
        f"WHEN FITS({name} AS {form}) THEN CAST(CAST({name} AS {form}) AS TEXT)" for form in forms
    )
    return f"{name} = CASE {whens} ELSE {name} END"


def _two_orders(column_profile: ColumnProfile) -> Iterator[Finding]:
    name = quoted(column_profile.name)
    for orders in column_profile.both_orders:
        if orders.settled:
            continue
        day, month = orders.only_day_first, orders.only_month_first
        why = (
            f"beside {day:,} that only the one fits and {month:,} that only the other does"
            if day
            else "and no other value tells which"
        )
        where = " AND ".join(
            f"FITS({name} AS {TARGETS[form]})" for form in (orders.day_first, orders.month_first)
        )
        yield Finding(
            "ambiguous dates",
            "suspect",
            column_profile.name,
            orders.rows,
            f"dates that may be {orders.day_first} as well as {orders.month_first}, {why}",
            where,
        )
