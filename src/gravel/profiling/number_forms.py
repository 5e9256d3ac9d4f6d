"""Ways to write numbers other than SQL's: signs between groups of three digits, a decimal comma, a
minus behind, parentheses around, a unit beside."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from unicodedata import category

from msgspec import Struct

from gravel.language.functions.wellknown import CURRENCIES
from gravel.language.writing import text_literal
from gravel.profiling.result import ValueShape
from gravel.words import words

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
# Signs and abbreviations of units that are seldom anything else behind a number.
_UNITS = words(
    "% ‰ ° ' °C °F mm cm dm m km nm nmi sm ft in yd mi m² m2 m³ m3 ft² sqm ha mg g kg t lb lbs oz"
    " ml cl l hl gal s sec min h hr hrs d days wks mos yrs W kW MW kWh MWh mV kV mA kA Ah hp PS bhp"
    " rpm mbar bar hPa kPa psi Hz kHz MHz GHz kB KB MB GB TB kn kt kts kr Kč zł Ft Fr lei pcs"
)
_IN_PARENTHESES = re.compile(r"(\([^()]*\))+")
_MONEY = re.compile(r"[A-Z]{0,3}[^\w\s]|(kr|Fr|Rs)\.?")
# What stands before the first digit, the digits, what stands behind the last.
_BESIDE = re.compile(
    r"(?P<sign>[-+(]*)(?P<before>[^0-9]*?)"
    r"(?P<number>[-+(]*[0-9](?:.*[0-9])?[-)]*)(?P<behind>[^0-9]*)"
)


class NumberForm(Struct, frozen=True):
    """A way to write numbers: what it is, the signs between groups, the decimal one, where the
    minus is ('': before), the units beside them, with the spaces between, and how many rows have
    none where others have one."""

    meaning: str
    groups: str
    decimal: str
    minus: str = ""
    units: tuple[str, ...] = ()
    bare: int = 0

    def is_sure(self, shapes: Sequence[ValueShape]) -> bool:
        """Whether a sign between groups cannot be a decimal one: 1,200 alone may be either."""
        return self.groups != "," or any("." in item.shape for item in shapes)

    def rows(self, shapes: Sequence[ValueShape]) -> int:
        """How many values SQL has no number for, or another one."""
        plain = re.compile(r"[+-]?9+") if self.decimal == "," else _PLAIN
        return sum(item.rows for item in shapes if not plain.fullmatch(item.shape.strip(" ")))

    @property
    def compares(self) -> bool:
        """Whether the numbers are of one unit: 5 beside 5 % may be another one, 5 beside $5 is
        not."""
        names = {unit.strip(_SPACES) for unit in self.units}
        return len(names) < 2 and (not self.bare or all(map(_is_money, names)))

    def fix(self, name: str, padded: bool) -> str:
        """The expression that writes a column's numbers as SQL has them. `padded`: some have spaces
        around them."""
        name = text = f"TRIM({name})" if padded and self.minus else name
        for sign in (*self.units, *self.groups):
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


def form_of(shapes: Sequence[ValueShape], frequent: Iterable[str]) -> NumberForm | None:
    """The form in which all values of some shapes are numbers, and not all as SQL has them; None
    where there is none. `frequent`: further values, for the units that they have."""
    numbers, units = zip(*(_without_unit(item.example.strip(" ")) for item in shapes), strict=True)
    texts = [re.sub("[0-9]", "9", number) for number in numbers]
    others = [_without_unit(value.strip(" "))[1] for value in frequent]
    several = tuple(sorted({*units, *others} - {""}, key=lambda unit: (-len(unit), unit)))
    bare = sum(item.rows for item, unit in zip(shapes, units, strict=True) if not unit)
    bare = bare if several else 0
    if all(map(_PLAIN.fullmatch, texts)):
        return NumberForm(_beside(several), "", ".", "", several, bare) if several else None
    forms = _forms(texts, several, bare)
    return next((form for form in forms if _is_told(form, "".join(texts))), None)


def _without_unit(value: str) -> tuple[str, str]:
    """A number without the unit beside it, and that with the space between, '' where there is
    none."""
    parts = _BESIDE.fullmatch(value)
    if parts is None or bool(parts["before"]) == bool(parts["behind"]):
        return value, ""
    unit = parts["before"] or parts["behind"]
    name = unit.strip(_SPACES)
    is_unit = _is_money(name) or (parts["behind"] and name in _UNITS)
    if not is_unit or (parts["behind"] and parts["number"].endswith("-")):
        return value, ""
    return parts["sign"] + parts["number"], unit


def _is_money(unit: str) -> bool:
    """Whether a unit is a currency's code or sign."""
    sign = _MONEY.fullmatch(unit) and (unit[0].isalpha() or category(unit[-1]) == "Sc")
    return unit in CURRENCIES or bool(sign)


def _beside(units: Iterable[str]) -> str:
    """Units as they are told."""
    names = sorted({unit.strip(_SPACES) for unit in units})
    return f"{' or '.join(names)} beside them" if names else ""


def _forms(texts: Sequence[str], units: tuple[str, ...], bare: int) -> Iterator[NumberForm]:
    """The forms that all numbers have."""
    for pattern, minus in _SIGNS:
        for groups, decimal, meaning in _WAYS:
            whole = rf"(9+|9{{1,3}}([{re.escape(groups)}]999)+)({re.escape(decimal)}9+)?"
            number = re.compile(pattern.replace("{}", whole))
            if all(map(number.fullmatch, texts)):
                signs = "".join(sign for sign in groups if any(sign in text for text in texts))
                parts = (_beside(units), meaning if signs or decimal == "," else "", minus)
                meaning_of_all = " and ".join(filter(None, parts))
                yield NumberForm(meaning_of_all, signs, decimal, minus, units, bare)


def _is_told(form: NumberForm, written: str) -> bool:
    """Whether the signs between digits are those of numbers, and not of codes, or of several
    numbers in parentheses."""
    if _IN_PARENTHESES.fullmatch(written) and "," in written and "." not in written:
        return False
    if form.decimal == ",":
        return "," in written
    return form.groups in (",", "'", "’", "'’") or "." in written
