"""Findings about texts: spaces, placeholders, capitals, shapes, damage, lists, known forms."""

from __future__ import annotations

import re
from collections.abc import Iterator

from gravel.language.functions.damage import CONTROLS
from gravel.language.types import TEXT
from gravel.language.writing import quoted, text_literal
from gravel.profiling import column_kind
from gravel.profiling.findings.fit import FEW, best_fit, placeholder_condition, unfit_words
from gravel.profiling.marks import REPLACEMENT
from gravel.profiling.result import ColumnProfile, Finding
from gravel.profiling.wording import row_count, shown, tidied


def column_name_findings(one: ColumnProfile, known: int) -> Iterator[Finding]:
    if one.name != tidied(one.name) or "\n" in one.name:
        yield Finding(
            "column name",
            "note",
            one.name,
            known,
            f"the column's own name, {shown(one.name)}, has spaces or line breaks that nobody sees",
        )


def space_findings(one: ColumnProfile) -> Iterator[Finding]:
    name, spaces = quoted(one.name), one.spaces
    if one.empty or one.blank:
        parts = [
            f"{count:,} {text}"
            for count, text in (
                (one.empty, "with an empty text"),
                (one.blank, "with nothing but white space"),
            )
            if count
        ]
        beside = f", beside {row_count(one.nulls)} with NULL" if one.nulls else ""
        # Where nothing else is NULL, and nothing else is blank, the NULLs of the result tell what
        # was there.
        safe = not one.nulls and not one.blank
        yield Finding(
            "blank",
            "wrong",
            one.name,
            one.empty + one.blank,
            f"{' and '.join(parts)} where nothing is known{beside}",
            f"IS_BLANK({name}) AND {name} IS NOT NULL",
            f"{name} = IF_BLANK({name}, NULL)",
            safe,
        )
    if spaces.ends:
        single = f" AND NOT {name} LIKE_REGEX '[\\n\\r]'" if spaces.lines else ""
        counts = ((spaces.leading, "begin with one"), (spaces.trailing, "end with one"))
        message = ", ".join(f"{count:,} {text}" for count, text in counts if count)
        where = f"{name} <> TRIM({name}) AND NOT IS_BLANK({name}){single}"
        mend = (
            f"{name} = CASE WHEN {where} THEN TRIM({name}) ELSE {name} END"
            if single or one.blank
            else f"{name} = TRIM({name})"
        )
        yield Finding(
            "spaces",
            "wrong",
            one.name,
            spaces.ends,
            f"spaces at an end, which nobody sees: {message}",
            where,
            mend,
            True,
        )
    if spaces.inner:
        message = ", ".join(
            f"{count:,} {text}"
            for count, text in (
                (spaces.runs, "have several in a row"),
                (spaces.odd, "have a tab, a line break, a no-break or a zero width space"),
            )
            if count
        )
        ends = f"TRIM({name})" if spaces.ends else name
        several = (
            f"CASE WHEN {name} LIKE_REGEX '[\\n\\r]' THEN {name} ELSE {ends} END"
            if spaces.ends and spaces.lines
            else ends
        )
        yield Finding(
            "inner spaces",
            "note" if column_kind.is_free_text(one) else "suspect",
            one.name,
            spaces.inner,
            f"spaces inside, which may part what belongs apart: {message}",
            f"{several} <> TIDY_SPACES({name}) AND NOT IS_BLANK({name})",
            f"{name} = TIDY_SPACES({name})",
        )
    if spaces.control:
        yield Finding(
            "control characters",
            "wrong",
            one.name,
            spaces.control,
            "holds control characters, which no one can see or type",
            f"HAS_CONTROL_CHARACTERS({name})",
            f"{name} = TRANSLATE_REGEX({text_literal(CONTROLS)} IN {name} WITH '')",
        )


_FEW_CATEGORIES = 50


def placeholder_findings(one: ColumnProfile, known: int) -> Iterator[Finding]:
    if not one.null_words:
        return
    name, rows = quoted(one.name), one.null_word_rows
    condition = placeholder_condition(one)
    message = ", ".join(f"{word.rows:,} × {shown(word.value)}" for word in one.null_words[:5])
    more = f" and {len(one.null_words) - 5} others" if len(one.null_words) > 5 else ""
    # "none" is a value where something can be absent: of hair, of a seat belt.
    only_none = one.distinct <= _FEW_CATEGORIES and all(
        tidied(word.value).lower().strip("()<>") == "none" for word in one.null_words
    )
    best = best_fit(one.fits)
    beside = (
        f"; all others fit {best.type}"
        if best is not None and best.rows == known - unfit_words(one, best) - one.empty - one.blank
        else ""
    )
    yield Finding(
        "placeholders",
        "wrong" if beside else "note" if only_none else "suspect",
        one.name,
        rows,
        f"words where nothing is known: {message}{more}{beside}",
        condition,
        f"{name} = CASE WHEN {condition} THEN NULL ELSE {name} END",
    )


def case_findings(one: ColumnProfile, known: int) -> Iterator[Finding]:
    """Codes of which nearly all are in capitals, or in small letters, and a few of the same shape
    are not."""
    if sum(word.rows for word in one.null_words) < one.null_word_rows or not one.shapes:
        return  # words for nothing in too many spellings to tell their case apart
    name, case = quoted(one.name), one.case
    words = [word for word in one.null_words if any(char.isalpha() for char in word.value)]
    lettered = known - case.none - sum(word.rows for word in words)
    apart = f" AND NOT {placeholder_condition(one)}" if words else ""
    for kind, count, wrong, pattern, function in (
        ("capitals", case.upper, str.isupper, r"\p{Ll}", "UPPER"),
        ("small letters", case.lower, str.islower, r"[\p{Lu}\p{Lt}]", "LOWER"),
    ):
        count -= sum(word.rows for word in words if wrong(word.value))
        odd = [
            shape
            for shape in one.shapes
            if any(map(str.isalpha, shape.shape)) and not wrong(shape.shape)
        ]
        usual = {shape.shape.casefold() for shape in one.shapes if wrong(shape.shape)}
        alike = bool(odd) and all(shape.shape.casefold() in usual for shape in odd)
        if count < lettered and lettered - count <= FEW * lettered and alike:
            yield Finding(
                "case",
                "suspect",
                one.name,
                lettered - count,
                f"written in {kind} but for these",
                f"{name} LIKE_REGEX {text_literal(pattern)}{apart}",
                f"{name} = {function}({name})",
            )


_OPEN_END = re.compile(r"[<>≤≥]? ?9+ ?[+-]?")  # of bands: 75+ beside 65-74


def shape_findings(one: ColumnProfile, known: int) -> Iterator[Finding]:
    best = best_fit(one.fits)
    if one.distinct_shapes < 2 or not one.shapes:
        return
    if (
        best is not None
        and best.type in ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
        and best.rows * 2 > known
        and not one.loses
    ):
        return  # numbers are of many shapes
    name, usual = quoted(one.name), one.shapes[0]
    said = known - one.empty - one.blank - one.null_word_rows
    others = said - usual.rows
    apart = (f" AND NOT IS_BLANK({name})" if one.empty + one.blank else "") + (
        f" AND NOT {placeholder_condition(one)}" if one.null_words else ""
    )
    if 0 < others <= 0.05 * said and "9" in usual.shape:
        words = {word.value for word in one.null_words}
        odd = [
            shape
            for shape in one.shapes[1:]
            if shape.example.strip() and shape.example not in words
        ]
        open_ends = "-" in usual.shape and all(_OPEN_END.fullmatch(shape.shape) for shape in odd)
        message = ", ".join(f"{shape.rows:,} × {shown(shape.shape)}" for shape in odd[:3])
        level = "note" if open_ends else "suspect"
        yield Finding(
            "odd shapes",
            level,
            one.name,
            others,
            f"values have the shape {shown(usual.shape)} (as {shown(usual.example)}), these have"
            f" {message}",
            f"SHAPE({name}) <> {text_literal(usual.shape)}{apart}",
        )


def damage_findings(one: ColumnProfile) -> Iterator[Finding]:
    name, damage = quoted(one.name), one.damage
    if damage.misdecoded:
        yield Finding(
            "wrongly decoded",
            "wrong",
            one.name,
            damage.misdecoded,
            "letters such as 'Ã©': UTF-8 that was read in another encoding before it came here",
            f"IS_MISDECODED({name})",
            f"{name} = REDECODE({name})",
        )
    if damage.replacement:
        yield Finding(
            "replacement characters",
            "wrong",
            one.name,
            damage.replacement,
            "holds U+FFFD, or what its bytes look like: a letter that was lost on the way, and only"
            " the source has it",
            f"{name} LIKE_REGEX {text_literal(REPLACEMENT)}",
        )
    if damage.formula:
        yield Finding(
            "formulas",
            "note" if column_kind.is_free_text(one) else "suspect",
            one.name,
            damage.formula,
            "values that a spreadsheet would run as a formula",
            f"IS_FORMULA({name})",
        )


def list_findings(one: ColumnProfile) -> Iterator[Finding]:
    if one.list is None:
        return
    name, result = quoted(one.name), one.list
    sign, delimiter = (
        "line break" if result.delimiter == "\n" else result.delimiter,
        text_literal(result.delimiter),
    )
    bare = text_literal(result.delimiter if result.delimiter == "\n" else result.delimiter.strip())
    held = f"POSITION({bare} IN {name}) > 0"
    repeated = f"; {row_count(result.repeated)} with a piece twice" if result.repeated else ""
    yield Finding(
        "list",
        "note",
        one.name,
        result.rows,
        f"lists in a field, with {sign!r} between {result.least} to {result.most} pieces{repeated}",
        held,
    )
    if result.empty:
        yield Finding(
            "list pieces",
            "suspect",
            one.name,
            result.empty,
            "lists with a piece that is empty: a delimiter too many",
            f"{held} AND LIST_HAS_BLANKS({name}, {delimiter})",
            f"{name} = TIDY_LIST({name}, {delimiter})",
        )
    if result.padded:
        yield Finding(
            "padded pieces",
            "suspect",
            one.name,
            result.padded,
            f"lists with other spaces around a piece than {sign!r} has: split there they give"
            " unequal pieces",
            f"{held} AND NOT LIST_HAS_BLANKS({name}, {delimiter}) AND TRIM({name}) <>"
            f" TIDY_LIST({name}, {delimiter})",
            f"{name} = CASE WHEN {held} THEN TIDY_LIST({name}, {delimiter}) ELSE {name} END",
        )


def form_findings(one: ColumnProfile) -> Iterator[Finding]:
    for form in one.forms:
        if form.fail:
            name = quoted(one.name) if one.type == TEXT else f"CAST({quoted(one.name)} AS TEXT)"
            message = ", ".join(
                f"{value.rows:,} × {shown(value.value)}" for value in form.examples[:3]
            )
            yield Finding(
                "forms",
                "wrong",
                one.name,
                form.fail,
                f"{form.rows:,} values have the form {form.form}, these do not: {message}",
                f"NOT HAS_FORM({name}, '{form.form}')",
            )
