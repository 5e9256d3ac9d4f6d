"""Findings about texts: spaces, placeholders, capitals, shapes, damage, lists, known forms."""

from __future__ import annotations

import re
from collections.abc import Iterator

from gravel.kernels.rules import tidied
from gravel.language.functions.damage import CONTROLS
from gravel.language.types import TEXT
from gravel.language.writing import quoted, text_literal
from gravel.profiling import column_kind
from gravel.profiling.findings.fit import FEW, best_fit, placeholder_condition, unfit_words
from gravel.profiling.marks import REPLACEMENT
from gravel.profiling.result import ColumnProfile, Finding
from gravel.profiling.wording import row_count, shown


def column_name_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    if column_profile.name != tidied(column_profile.name) or "\n" in column_profile.name:
        yield Finding(
            "column name",
            "note",
            column_profile.name,
            known,
            f"the column's own name, {shown(column_profile.name)}, "
            "has spaces or line breaks that cannot be seen",
        )


def _beside_trimmed(column_profile: ColumnProfile) -> str:
    """What trimming does to a key: the values that are there with and without spaces."""
    if column_profile.distinct + column_profile.nulls < column_profile.rows:
        return ""
    texts = [[value.value for value in group.values] for group in column_profile.variants]
    twice = [
        text for group in texts for text in group if text.strip() != text and text.strip() in group
    ]
    if not twice:
        return ""
    least = "at least " if column_profile.variant_groups > len(texts) else ""
    are = "1 value is" if len(twice) == 1 else f"{len(twice):,} values are"
    return f"; {least}{are} there without them too, such as {shown(twice[0].strip())}"


def space_findings(column_profile: ColumnProfile) -> Iterator[Finding]:
    name, spaces = quoted(column_profile.name), column_profile.spaces
    if column_profile.empty or column_profile.blank:
        parts = [
            f"{count:,} {text}"
            for count, text in (
                (column_profile.empty, "empty strings"),
                (column_profile.blank, "whitespace-only values"),
            )
            if count
        ]
        beside = (
            f", beside {row_count(column_profile.nulls)} with NULL" if column_profile.nulls else ""
        )
        # Where nothing else is NULL, and nothing else is blank, the NULLs of the result tell what
        # was there.
        safe = not column_profile.nulls and not column_profile.blank
        yield Finding(
            "blank",
            "wrong",
            column_profile.name,
            column_profile.empty + column_profile.blank,
            f"{' and '.join(parts)}{beside}",
            f"IS_BLANK({name}) AND {name} IS NOT NULL",
            f"{name} = IF_BLANK({name}, NULL)",
            safe,
        )
    if spaces.ends:
        single = f" AND NOT {name} LIKE_REGEX '[\\n\\r]'" if spaces.lines else ""
        counts = ((spaces.leading, "leading"), (spaces.trailing, "trailing"))
        message = ", ".join(f"{count:,} {text}" for count, text in counts if count)
        where = f"{name} <> TRIM({name}) AND NOT IS_BLANK({name}){single}"
        fix = (
            f"{name} = CASE WHEN {where} THEN TRIM({name}) ELSE {name} END"
            if single or column_profile.blank
            else f"{name} = TRIM({name})"
        )
        yield Finding(
            "spaces",
            "wrong",
            column_profile.name,
            spaces.ends,
            f"invisible spaces: {message}{_beside_trimmed(column_profile)}",
            where,
            fix,
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
            "note" if column_kind.is_free_text(column_profile) else "suspect",
            column_profile.name,
            spaces.inner,
            f"spaces inside, which may part what belongs apart: {message}",
            f"{several} <> TIDY_SPACES({name}) AND NOT IS_BLANK({name})",
            f"{name} = TIDY_SPACES({name})",
        )
    if spaces.control:
        yield Finding(
            "control characters",
            "wrong",
            column_profile.name,
            spaces.control,
            "holds control characters, which no one can see or type",
            f"HAS_CONTROL_CHARACTERS({name})",
            f"{name} = TRANSLATE_REGEX({text_literal(CONTROLS)} IN {name} WITH '')",
        )


_FEW_CATEGORIES = 50


def placeholder_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    if not column_profile.placeholders:
        return
    name, rows = quoted(column_profile.name), column_profile.placeholder_rows
    condition = placeholder_condition(column_profile)
    message = ", ".join(
        f"{word.rows:,} × {shown(word.value)}" for word in column_profile.placeholders[:5]
    )
    more = (
        f" and {len(column_profile.placeholders) - 5} others"
        if len(column_profile.placeholders) > 5
        else ""
    )
    # "none" is a value where something can be absent: of hair, of a seat belt.
    only_none = column_profile.distinct <= _FEW_CATEGORIES and all(
        tidied(word.value).lower().strip("()<>") == "none" for word in column_profile.placeholders
    )
    best = best_fit(column_profile.fits)
    beside = (
        f"; all others fit {best.type}"
        if best is not None
        and best.rows
        == known - unfit_words(column_profile, best) - column_profile.empty - column_profile.blank
        else ""
    )
    yield Finding(
        "placeholders",
        "wrong" if beside else "note" if only_none else "suspect",
        column_profile.name,
        rows,
        f"placeholders: {message}{more}{beside}",
        condition,
        f"{name} = CASE WHEN {condition} THEN NULL ELSE {name} END",
    )


def case_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """Codes of which nearly all are in capitals, or in small letters, and a few of the same shape
    are not."""
    if (
        sum(word.rows for word in column_profile.placeholders) < column_profile.placeholder_rows
        or not column_profile.shapes
    ):
        return  # words for nothing in too many spellings to tell their case apart
    name, case = quoted(column_profile.name), column_profile.case
    words = [
        word for word in column_profile.placeholders if any(char.isalpha() for char in word.value)
    ]
    lettered = known - case.none - sum(word.rows for word in words)
    apart = f" AND NOT {placeholder_condition(column_profile)}" if words else ""
    for kind, count, wrong, pattern, function in (
        ("capitals", case.upper, str.isupper, r"\p{Ll}", "UPPER"),
        ("small letters", case.lower, str.islower, r"[\p{Lu}\p{Lt}]", "LOWER"),
    ):
        count -= sum(word.rows for word in words if wrong(word.value))
        odd = [
            shape
            for shape in column_profile.shapes
            if any(map(str.isalpha, shape.shape)) and not wrong(shape.shape)
        ]
        usual = {shape.shape.casefold() for shape in column_profile.shapes if wrong(shape.shape)}
        alike = bool(odd) and all(shape.shape.casefold() in usual for shape in odd)
        if count < lettered and lettered - count <= FEW * lettered and alike:
            yield Finding(
                "case",
                "suspect",
                column_profile.name,
                lettered - count,
                f"written in {kind} but for these",
                f"{name} LIKE_REGEX {text_literal(pattern)}{apart}",
                f"{name} = {function}({name})",
            )


_OPEN_END = re.compile(r"[<>≤≥]? ?9+ ?[+-]?")  # of bands: 75+ beside 65-74


def shape_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    best = best_fit(column_profile.fits)
    if column_profile.distinct_shapes < 2 or not column_profile.shapes:
        return
    if (
        best is not None
        and best.type in ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
        and best.rows * 2 > known
        and not column_profile.loses_in_cast
    ):
        return  # numbers are of many shapes
    name, usual = quoted(column_profile.name), column_profile.shapes[0]
    said = known - column_profile.empty - column_profile.blank - column_profile.placeholder_rows
    others = said - usual.rows
    apart = (
        f" AND NOT IS_BLANK({name})" if column_profile.empty + column_profile.blank else ""
    ) + (f" AND NOT {placeholder_condition(column_profile)}" if column_profile.placeholders else "")
    if 0 < others <= 0.05 * said and "9" in usual.shape:
        words = {word.value for word in column_profile.placeholders}
        odd = [
            shape
            for shape in column_profile.shapes[1:]
            if shape.example.strip() and shape.example not in words
        ]
        open_ends = "-" in usual.shape and all(_OPEN_END.fullmatch(shape.shape) for shape in odd)
        message = ", ".join(f"{shape.rows:,} × {shown(shape.shape)}" for shape in odd[:3])
        level = "note" if open_ends else "suspect"
        yield Finding(
            "rare patterns",
            level,
            column_profile.name,
            others,
            f"values have the shape {shown(usual.shape)} (as {shown(usual.example)}), these have"
            f" {message}",
            f"SHAPE({name}) <> {text_literal(usual.shape)}{apart}",
        )


def damage_findings(column_profile: ColumnProfile) -> Iterator[Finding]:
    name, damage = quoted(column_profile.name), column_profile.damage
    if damage.misdecoded:
        yield Finding(
            "mojibake",
            "wrong",
            column_profile.name,
            damage.misdecoded,
            "letters such as 'Ã©': UTF-8 that was read in another encoding before it came here",
            f"IS_MISDECODED({name})",
            f"{name} = REDECODE({name})",
        )
    if damage.replacement:
        yield Finding(
            "replacement characters",
            "wrong",
            column_profile.name,
            damage.replacement,
            "holds U+FFFD, or what its bytes look like: a letter that was lost on the way, and only"
            " the source has it",
            f"{name} LIKE_REGEX {text_literal(REPLACEMENT)}",
        )
    if damage.formula:
        yield Finding(
            "formulas",
            "note" if column_kind.is_free_text(column_profile) else "suspect",
            column_profile.name,
            damage.formula,
            "values that a spreadsheet would run as a formula",
            f"IS_FORMULA({name})",
        )


def list_findings(column_profile: ColumnProfile) -> Iterator[Finding]:
    if column_profile.list is None or any(form.format == "JSON" for form in column_profile.formats):
        return
    name, result = quoted(column_profile.name), column_profile.list
    sign, delimiter = (
        "line break" if result.delimiter == "\n" else result.delimiter,
        text_literal(result.delimiter),
    )
    bare = text_literal(result.delimiter if result.delimiter == "\n" else result.delimiter.strip())
    held = f"POSITION({bare} IN {name}) > 0"
    repeated = f"; {row_count(result.repeated)} with a piece twice" if result.repeated else ""
    least, most = result.pieces.min, result.pieces.max
    pieces = f"{least}" if least == most else f"{least} to {most}"
    yield Finding(
        "delimited list",
        "note",
        column_profile.name,
        result.rows,
        f"lists in a field, with {sign!r} between {pieces} pieces{repeated}",
        held,
    )
    if result.empty:
        yield Finding(
            "empty list items",
            "suspect",
            column_profile.name,
            result.empty,
            "lists with a piece that is empty: a delimiter too many",
            f"{held} AND LIST_HAS_BLANKS({name}, {delimiter})",
            f"{name} = TIDY_LIST({name}, {delimiter})",
        )
    if result.padded:
        yield Finding(
            "padded list items",
            "suspect",
            column_profile.name,
            result.padded,
            f"lists with other spaces around a piece than {sign!r} has: split there they give"
            " unequal pieces",
            f"{held} AND NOT LIST_HAS_BLANKS({name}, {delimiter}) AND TRIM({name}) <>"
            f" TIDY_LIST({name}, {delimiter})",
            f"{name} = CASE WHEN {held} THEN TIDY_LIST({name}, {delimiter}) ELSE {name} END",
        )


def form_findings(column_profile: ColumnProfile) -> Iterator[Finding]:
    for form in column_profile.formats:
        if form.fail:
            name = (
                quoted(column_profile.name)
                if column_profile.type == TEXT
                else f"CAST({quoted(column_profile.name)} AS TEXT)"
            )
            message = ", ".join(
                f"{value.rows:,} × {shown(value.value)}" for value in form.examples[:3]
            )
            yield Finding(
                "format mismatches",
                "wrong",
                column_profile.name,
                form.fail,
                f"{form.rows:,} values have the form {form.format}, these do not: {message}",
                f"NOT HAS_FORM({name}, '{form.format}')",
            )
