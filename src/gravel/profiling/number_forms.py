"""Ways to write numbers other than SQL's: signs between groups of three digits, a decimal comma, a
minus behind, parentheses around."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from gravel.language.writing import text_literal
from gravel.profiling.result import ValueShape

_PLAIN = re.compile(r"[+-]?9+(\.9+)?")
_SPACES = " \u00a0\u202f"  # plain, and the two that do not break a line
_SIGNS = (
    ("[+-]?{}", ""),
    ("{}-?", "the minus behind"),
    (r"[+-]?{}|\({}\)", "negative ones in parentheses"),
)
_WAYS = (
    (",", ".", "commas between groups of three digits"),
    (".", ",", "a decimal comma"),
    ("'’", ".", "apostrophes between groups of three digits"),
    (_SPACES, ",", "a decimal comma and spaces between groups of three digits"),
    (_SPACES, ".", "spaces between groups of three digits"),
)


class NumberForm(Struct, frozen=True):
    """A way to write numbers: what it is, the signs between groups, the decimal one, and where the
    minus is ('': before)."""

    meaning: str
    groups: str
    decimal: str
    minus: str = ""

    def is_sure(self, shapes: Sequence[ValueShape]) -> bool:
        """Whether a sign between groups cannot be a decimal one: 1,200 alone may be either."""
        return self.groups != "," or any("." in item.shape for item in shapes)

    def rows(self, shapes: Sequence[ValueShape]) -> int:
        """How many values SQL has no number for, or another one."""
        plain = re.compile(r"[+-]?9+") if self.decimal == "," else _PLAIN
        return sum(item.rows for item in shapes if not plain.fullmatch(item.shape.strip(" ")))

    def fix(self, name: str, padded: bool) -> str:
        """The expression that writes a column's numbers as SQL has them. `padded`: some have spaces
        around them."""
        name = text = f"TRIM({name})" if padded and self.minus else name
        for sign in self.groups:
            text = f"REPLACE({text}, {text_literal(sign)}, '')"
        if self.decimal == ",":
            text = f"REPLACE({text}, ',', '.')"
        if not self.minus:
            return text
        like, chars = ("'%-'", "'-'") if self.minus == _SIGNS[1][1] else ("'(%)'", "'()'")
        return f"CASE WHEN {name} LIKE {like} THEN '-' || BTRIM({text}, {chars}) ELSE {text} END"

    def condition(self, name: str) -> str:
        """Of the values that are not written as SQL has them."""
        if self.decimal == ",":
            return f"NOT {name} LIKE_REGEX '^ *[+-]?[0-9]+ *\\z'"
        return f"NOT FITS({name} AS DECIMAL)"


def form_of(shapes: Sequence[ValueShape]) -> NumberForm | None:
    """The form in which all values of some shapes are numbers, and not all as SQL has them; None
    where there is none."""
    texts = [item.shape.strip(" ") for item in shapes]
    if all(map(_PLAIN.fullmatch, texts)):
        return None
    return next((form for form in _forms(texts) if _is_told(form, "".join(texts))), None)


def _forms(texts: Sequence[str]) -> Iterator[NumberForm]:
    """The forms that all shapes have."""
    for pattern, minus in _SIGNS:
        for groups, decimal, meaning in _WAYS:
            whole = rf"(9+|9{{1,3}}([{re.escape(groups)}]999)+)({re.escape(decimal)}9+)?"
            number = re.compile(pattern.replace("{}", whole))
            if all(map(number.fullmatch, texts)):
                signs = "".join(sign for sign in groups if any(sign in text for text in texts))
                parts = (meaning if signs or decimal == "," else "", minus)
                yield NumberForm(" and ".join(filter(None, parts)), signs, decimal, minus)


def _is_told(form: NumberForm, written: str) -> bool:
    """Whether the signs between digits are those of numbers, and not of codes."""
    if form.decimal == ",":
        return "," in written
    return form.groups in (",", "'", "’", "'’") or "." in written
