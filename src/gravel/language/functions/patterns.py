"""Regular expressions: the standard's functions with RE2's pattern syntax, whose time grows with
the text alone."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.functions.buffers import is_ascii
from gravel.language.functions.catalogue import function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant

FLAGS = "ims"


@lru_cache(maxsize=512)
def compiled(pattern: str, flags: str) -> Any:
    """The compiled pattern. Raises RowFailure: 22023 for a bad flag, 2201B for a bad pattern."""
    import re2

    if set(flags) - set(FLAGS):
        raise RowFailure("22023")
    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(_flagged(pattern, flags), options)
    except re2.error:
        raise RowFailure("2201B") from None


def _flagged(pattern: str, flags: str) -> str:
    letters = "".join(sorted(set(flags)))
    return f"(?{letters})(?:{pattern})" if letters else pattern


def _wrong(values: list[Any]) -> str | None:
    """What is wrong with a constant pattern and its flags (the first two arguments), or None."""
    import re2

    pattern, flags = values[:2]
    if isinstance(flags, str) and set(flags) - set(FLAGS):
        return (
            f"{flags!r} are not flags: i (any case), m (^ and $ at every line), s (. also matches a"
            " line break)"
        )
    if not isinstance(pattern, str):
        return None
    options = re2.Options()
    options.log_errors = False
    try:
        re2.compile(pattern, options)
    except re2.error as error:
        reason = error.args[0]
        return (
            f"the pattern is not valid: {reason.decode() if isinstance(reason, bytes) else reason}"
        )
    return None


def _wrong_like(values: list[Any]) -> str | None:
    """The same where the text comes first: x, pattern, flags."""
    return _wrong([*values[1:], ""][:2])


def _found(pattern: str, flags: str, text: str, start: int) -> Iterator[Any]:
    if start < 1:
        raise RowFailure("22023")
    if start > len(text) + 1:
        return iter(())
    matches: Iterator[Any] = compiled(pattern, flags).finditer(text, start - 1)
    return matches


def _nth(pattern: str, flags: str, text: str, start: int, occurrence: int) -> Any:
    if occurrence < 1:
        raise RowFailure("22023")
    return next(
        (
            match
            for index, match in enumerate(_found(pattern, flags, text, start), 1)
            if index == occurrence
        ),
        None,
    )


def _is(scalar: pa.Scalar, value: Any) -> bool:
    return isinstance(scalar, pa.Scalar) and scalar.as_py() == value


def _good(pattern: pa.Array | pa.Scalar, flags: pa.Scalar) -> str | None:
    """The pattern with its flags where both are constant and right."""
    if not constant(pattern, flags):
        return None
    try:
        compiled(pattern.as_py(), flags.as_py())
    except RowFailure:
        return None
    return _flagged(pattern.as_py(), flags.as_py())


@function(
    "x TEXT LIKE_REGEX pattern TEXT [FLAG f TEXT] : BOOLEAN",
    meaning=(
        "whether the pattern matches some part of x; flags: i any case, m ^ and $ at every line, s"
        " . matches line breaks too"
    ),
    examples={
        "'HB 007' LIKE_REGEX '^HB [0-9]+$'": "TRUE",
        "'hb 7' LIKE_REGEX 'HB' FLAG 'i'": "TRUE",
    },
    errors=("2201B", "22023"),
    check=_wrong_like,
)
def like_regex(x: pa.Array, pattern: pa.Scalar, flags: pa.Scalar | None = None) -> pa.Array:
    flags = pa.scalar("") if flags is None else flags
    good = _good(pattern, flags)
    if good is not None:
        return pc.match_substring_regex(x, good)
    return by_row(
        lambda text, subset, letters: compiled(subset, letters).search(text) is not None,
        x,
        pattern,
        flags,
        to=pa.bool_(),
    )


# Patterns of plain signs, classes and + never match an empty part, over which Arrow counts in its
# own way.
_SOLID = re.compile(r"(?:(?:\\[dwsDWS]|\[\^?[\w \-.,;:/]+\]|[\w ;,:/@#=<>&-])\+?)+")


@function(
    "OCCURRENCES_REGEX(pattern TEXT, flags TEXT, x TEXT, start INTEGER) INTEGER",
    meaning=(
        "OCCURRENCES_REGEX(pattern [FLAG f] IN x [FROM start]): how many times the pattern matches"
    ),
    examples={"OCCURRENCES_REGEX('[0-9]+' IN 'A-07, B-12')": "2"},
    errors=("2201B", "22023"),
    check=_wrong,
)
def occurrences_regex(
    pattern: pa.Array | pa.Scalar, flags: pa.Scalar, x: pa.Array | pa.Scalar, start: pa.Scalar
) -> pa.Array:
    good = _good(pattern, flags)
    if good is not None and _is(start, 1) and _SOLID.fullmatch(pattern.as_py()):
        return pc.cast(pc.count_substring_regex(x, good), pa.int64())
    return by_row(
        lambda p, f, text, index: sum(1 for _ in _found(p, f, text, index)),
        pattern,
        flags,
        x,
        start,
        to=pa.int64(),
    )


@function(
    "SUBSTRING_REGEX(pattern TEXT, flags TEXT, x TEXT, start INTEGER, occurrence INTEGER, number"
    " INTEGER) TEXT",
    meaning=(
        "SUBSTRING_REGEX(pattern [FLAG f] IN x [FROM start] [OCCURRENCE n] [GROUP g]): the part"
        " that matches, or one group of it; NULL if there is none"
    ),
    examples={
        "SUBSTRING_REGEX('[0-9]+' IN 'A-07, B-12')": "'07'",
        "SUBSTRING_REGEX('[0-9]+' IN 'A-07, B-12' OCCURRENCE 2)": "'12'",
        "SUBSTRING_REGEX('([A-Z])-([0-9]+)' IN 'A-07' GROUP 1)": "'A'",
        "SUBSTRING_REGEX('x' IN 'A-07')": "NULL",
    },
    errors=("2201B", "22023"),
    check=_wrong,
)
def substring_regex(
    pattern: pa.Array | pa.Scalar,
    flags: pa.Scalar,
    x: pa.Array | pa.Scalar,
    start: pa.Scalar,
    occurrence: pa.Scalar,
    number: pa.Scalar,
) -> pa.Array:
    good = _good(pattern, flags)
    if (
        good is not None
        and _is(start, 1)
        and _is(occurrence, 1)
        and _is(number, 0)
        and "(" not in pattern.as_py()
    ):
        return pc.struct_field(pc.extract_regex(x, f"(?P<all>{good})"), "all")
    return by_row(_part, pattern, flags, x, start, occurrence, number)


def _part(
    pattern: str, flags: str, text: str, start: int, occurrence: int, number: int
) -> str | None:
    match = _nth(pattern, flags, text, start, occurrence)
    if not 0 <= number <= compiled(pattern, flags).groups:
        raise RowFailure("22023")
    return None if match is None else match.group(number)  # type: ignore[no-any-return]


@function(
    "POSITION_REGEX(pattern TEXT, flags TEXT, x TEXT, start INTEGER, occurrence INTEGER, number"
    " INTEGER, side TEXT) INTEGER",
    meaning=(
        "POSITION_REGEX([START|AFTER] pattern [FLAG f] IN x [FROM start] [OCCURRENCE n] [GROUP g]):"
        " where the match begins, or the place after it; 0 if there is none"
    ),
    examples={
        "POSITION_REGEX('[0-9]' IN 'A-07')": "3",
        "POSITION_REGEX(AFTER '[0-9]+' IN 'A-07b')": "5",
    },
    errors=("2201B", "22023"),
    check=_wrong,
)
def position_regex(
    pattern: pa.Array | pa.Scalar,
    flags: pa.Scalar,
    x: pa.Array | pa.Scalar,
    start: pa.Scalar,
    occurrence: pa.Scalar,
    number: pa.Scalar,
    side: pa.Scalar,
) -> pa.Array:
    good = _good(pattern, flags)
    plain = _is(start, 1) and _is(occurrence, 1) and _is(number, 0) and _is(side, "START")
    if good is not None and plain and isinstance(x, pa.Array) and is_ascii(x):
        return pc.add(pc.cast(pc.find_substring_regex(x, good), pa.int64()), 1)
    return by_row(_place, pattern, flags, x, start, occurrence, number, side, to=pa.int64())


def _place(
    pattern: str, flags: str, text: str, start: int, occurrence: int, number: int, side: str
) -> int:
    match = _nth(pattern, flags, text, start, occurrence)
    if not 0 <= number <= compiled(pattern, flags).groups:
        raise RowFailure("22023")
    if match is None or match.start(number) < 0:
        return 0
    return int(match.end(number) if side == "AFTER" else match.start(number)) + 1


@function(
    "TRANSLATE_REGEX(pattern TEXT, flags TEXT, x TEXT, new TEXT, start INTEGER, occurrence INTEGER)"
    " TEXT",
    meaning=(
        "TRANSLATE_REGEX(pattern [FLAG f] IN x [WITH new] [FROM start] [OCCURRENCE n]): x with"
        " every match (or the nth) replaced; $0 is the match, $1 … its groups, \\$ a dollar sign"
    ),
    examples={
        "TRANSLATE_REGEX('[^0-9]' IN '0555/12-34' WITH '')": "'05551234'",
        "TRANSLATE_REGEX('^([A-D])([0-9]+)$' IN 'A07' WITH '$1-$2')": "'A-07'",
        "TRANSLATE_REGEX('a' IN 'banana' WITH 'o' OCCURRENCE 2)": "'banona'",
    },
    errors=("2201B", "22023"),
    check=_wrong,
)
def translate_regex(
    pattern: pa.Array | pa.Scalar,
    flags: pa.Scalar,
    x: pa.Array | pa.Scalar,
    new: pa.Scalar,
    start: pa.Scalar,
    occurrence: pa.Scalar,
) -> pa.Array:
    good = _good(pattern, flags)
    if (
        good is not None
        and constant(new)
        and _is(start, 1)
        and _is(occurrence, 0)
        and _SOLID.fullmatch(pattern.as_py())
    ):
        parts = _template(new.as_py())
        if all(isinstance(part, str) or part == 0 for part in parts):
            rewrite = "".join(
                part.replace("\\", "\\\\") if isinstance(part, str) else "\\0" for part in parts
            )
            return pc.replace_substring_regex(x, good, rewrite)
    return by_row(_replaced, pattern, flags, x, new, start, occurrence)


@lru_cache(maxsize=512)
def _template(new: str) -> tuple[str | int, ...]:
    """A replacement as texts and numbers of groups."""
    parts: list[str | int] = []
    for escaped, group, plain in re.findall(r"\\([\\$])|\$([0-9])|([\s\S])", new):
        parts.append(int(group) if group else escaped or plain)
    return tuple(parts)


def _replaced(pattern: str, flags: str, text: str, new: str, start: int, occurrence: int) -> str:
    if occurrence < 0:
        raise RowFailure("22023")
    parts = _template(new)
    groups = compiled(pattern, flags).groups
    if any(isinstance(part, int) and part > groups for part in parts):
        raise RowFailure("22023")
    out, index = [], 0
    for number, match in enumerate(_found(pattern, flags, text, start), 1):
        if occurrence in (0, number):
            out += [
                text[index : match.start()],
                *(part if isinstance(part, str) else match.group(part) or "" for part in parts),
            ]
            index = match.end()
    return "".join([*out, text[index:]])
