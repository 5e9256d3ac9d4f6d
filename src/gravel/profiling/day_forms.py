"""How days and times are written: the templates that texts are tried with, and what of them a value
keeps as marks."""

from __future__ import annotations

import re
from functools import cache

from msgspec import Struct

from gravel.language.types import DATE, TIMESTAMP, Target

ISO, DIGITS_ONLY = "YYYY-MM-DD", "YYYYMMDD"
# How the day is written. A value that fits two of them is a day by the first, until the whole
# column shows which one it is.
DAYS = (
    "DD.MM.YYYY", "MM/DD/YYYY", "DD/MM/YYYY", "MM-DD-YYYY", "DD-MM-YYYY", "YYYY/MM/DD",
    "YYYY.MM.DD", DIGITS_ONLY, "DD.MM.YY", "MM/DD/YY", "DD/MM/YY", "FMDD MON YYYY",
    "FMDD-MON-YYYY", "FMDD-MON-YY", "MON FMDD, YYYY", "FMDD MONTH YYYY", "MONTH FMDD, YYYY", ISO,
)  # fmt: skip
# Two of them, the one with the day first, the other with the month: a value may fit both.
RIVAL_DAYS = (("DD/MM/YYYY", "MM/DD/YYYY"), ("DD-MM-YYYY", "MM-DD-YYYY"), ("DD/MM/YY", "MM/DD/YY"))
# What else is known of a value that is a day of some form: a part of one digit, a time after it.
STYLES = ("short", "timed", "seconds", "half", "joined")


class Clock(Struct, frozen=True):
    """How a time after a day is written, and the styles that it makes."""

    template: str
    styles: tuple[str, ...]


NO_CLOCK = Clock("", ())
SECONDS = Clock(" HH24:MI:SS", ("timed", "seconds"))
_JOINED = Clock('"T"HH24:MI', ("timed", "joined"))
CLOCKS = (
    Clock(" HH24:MI", ("timed",)),
    SECONDS,
    Clock(" HH12:MI AM", ("timed", "half")),
    Clock(" HH12:MI:SS AM", ("timed", "seconds", "half")),
    _JOINED,
)


class DayForm(Struct, frozen=True):
    """A day of some form, with a time or without."""

    day: str
    clock: Clock = NO_CLOCK

    @property
    def strict(self) -> str:
        """The template in which each part has all of its digits."""
        return self.day + self.clock.template

    @property
    def loose(self) -> str:
        """The template that takes parts of one digit too."""
        if self.day == DIGITS_ONLY:
            return self.strict
        return re.sub("(?<!FM)(DD|MM|HH24|HH12)", r"FM\1", self.strict)

    @property
    def is_iso(self) -> bool:
        """Whether what its strict template takes is a DATE or a TIMESTAMP without a FORMAT."""
        return self.day == ISO and self.clock in (NO_CLOCK, SECONDS)

    def target(self, template: str) -> Target:
        """The CAST's target for one of its templates."""
        return Target(TIMESTAMP if self.clock.template else DATE, format=template)


_SHAPES = {
    "MONTH": "[Aa]{3,9}", "MON": "[Aa]{3}", "YYYY": "9999", "AM": "[Aa]{2}", '"T"': "A",
    ".": r"\.",
}  # fmt: skip
_PART = re.compile(r'(FM)?(?:MONTH|MON|YYYY|YY|MM|DD|HH24|HH12|MI|SS)|AM|"T"|\.')


@cache
def shape_of(template: str) -> str:
    """The shape of what a template takes, as an RE2 pattern that stands at the start."""
    return "^ *" + _PART.sub(
        lambda part: _SHAPES.get(part[0], "9{1,2}" if part[1] else "99"), template
    )


@cache
def shapes_of(template: str) -> str:
    """The same of the whole text."""
    return f"{shape_of(template)} *$"


FORMS_OF = {
    day: tuple(
        DayForm(day, clock)
        for clock in (NO_CLOCK, *(() if day == DIGITS_ONLY else CLOCKS))
        if clock is not _JOINED or day == ISO
    )
    for day in DAYS
}
FORMS = tuple(form for forms in FORMS_OF.values() for form in forms)
# For a template that takes parts of one digit, what takes the others: another template, or a type.
STRICTER = {
    form.loose: {NO_CLOCK: "DATE", SECONDS: "TIMESTAMP"}[form.clock] if form.is_iso else form.strict
    for form in FORMS
    if form.loose != form.strict
}
TARGETS = {
    template: form.target(template)
    for form in FORMS
    for template in (form.strict, form.loose)
    if not (form.is_iso and template == form.strict)
}
# Templates with the day first, and the same with the month first.
RIVALS = tuple(
    (getattr(form, way), getattr(DayForm(month_first, form.clock), way))
    for day_first, month_first in RIVAL_DAYS
    for way in ("strict", "loose")
    for form in FORMS_OF[day_first]
)
# Templates with a month's short name, and the same with the whole one: May is both.
MONTH_NAMES = tuple(
    (getattr(form, way), getattr(form, way).replace("MON", "MONTH"))
    for day in DAYS
    if "MON" in day and "MONTH" not in day and day.replace("MON", "MONTH") in DAYS
    for form in FORMS_OF[day]
    for way in ("strict", "loose")
)
