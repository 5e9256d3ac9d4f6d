"""Spellings: values that are one but for capitals, spaces and punctuation, and rare values that are
a slip from a frequent one."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator

from gravel.kernels.rules import tidied, unaccented
from gravel.language.writing import is_one_of, quoted, text_literal
from gravel.profiling.column_kind import is_free_text
from gravel.profiling.result import ColumnProfile, Finding, ValueRows
from gravel.profiling.wording import shown

_TITLES = 0.9  # the share of different values from which a likeness says little: titles, remarks
_LEAST_WORD, _LONG_WORD = 5, 8
_RATIO, _MOST_VALUES, _A_VALUE = 20, 300, 5
_RARE_ROWS, _RARE_SHARE = 2, 0.0005
_CAPITAL_AFTER_APOSTROPHE = re.compile(r"['’]S\b")
_TURNED_CASE = re.compile(r"^[a-zà-þ][A-ZÀ-Þ]{2}|[\s'’][a-zà-þ][A-ZÀ-Þ]{2}")
_RARE_CASE = 0.2
_MIXED_INSIDE = re.compile(r"[a-z][A-Z]")
# Signs that make another value of what stands beside them: < 20 is not > 20, and 2-9 not 2--9.
_TELLING = "<>=+*%~±≤≥#&/"


def same_but_for_writing(value: str, titles: bool = False) -> str:
    """What is left of a value without capitals, spaces and punctuation; accents and telling signs
    stay. In `titles` ! and ? tell too."""
    folded = unicodedata.normalize("NFC", value).casefold()
    folded = re.sub(r"(?<![0-9a-z])-(?=[0-9])", "−", folded)
    telling = _TELLING + "−" + ("!?" if titles else "")
    return "".join(
        char for char in folded if char.isalnum() or unicodedata.combining(char) or char in telling
    )


def _preferred(forms: dict[str, int], column_profile: ColumnProfile, known: int) -> str:
    """The most frequent of some spellings whose capitals are plausible in the column."""

    def implausible(form: str) -> bool:
        rare = _RARE_CASE * known
        return bool(
            _CAPITAL_AFTER_APOSTROPHE.search(form)
            or _TURNED_CASE.search(form)
            or (form.isupper() and column_profile.case.upper < rare)
            or (form.islower() and column_profile.case.lower < rare)
        )

    return min(forms, key=lambda form: (implausible(form), -forms[form], form))


def spelling_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """The findings of a text column of which `known` rows have a value."""
    titles = column_profile.distinct > _TITLES * known or is_free_text(column_profile)
    units = any(_MIXED_INSIDE.search(value) and len(value) <= 4 for value, _ in column_profile.top)
    groups: list[tuple[str, tuple[ValueRows, ...]]] = []
    accented: list[list[list[ValueRows]]] = []
    unlisted = column_profile.variant_groups - len(column_profile.variants)
    for spelling in column_profile.variants:
        apart: dict[str, list[ValueRows]] = defaultdict(list)
        for value in spelling.values:
            apart[
                same_but_for_writing(value.value, titles=column_profile.distinct * 2 > known)
            ].append(value)
        if len(apart) > 1 and len(set(map(unaccented, apart))) == 1:
            accented.append(list(apart.values()))
        for values in apart.values():
            forms: dict[str, int] = defaultdict(int)
            for value in values:
                forms[tidied(value.value)] += value.rows
            shortest = min(map(len, forms))
            # Units and symbols mean another thing in capitals: s and S, mW and MW.
            if (
                len(forms) < 2
                or shortest < 2
                or (units and shortest <= 4)
                or (shortest == 2 and _each_is_usual(forms))
            ):
                continue
            if any(char.isalpha() for char in spelling.key):
                composed = {unicodedata.normalize("NFC", form) for form in forms}
                kept = (
                    composed.pop()
                    if len(composed) == 1
                    else _preferred(forms, column_profile, known)
                )
                groups.append((kept, tuple(values)))
    if groups:
        cased = all(len({form.value.casefold() for form in values}) == 1 for _, values in groups)
        yield _finding(column_profile, groups, titles and not cased, unlisted)
    if accented and not titles:
        yield _accents(column_profile, accented)
    yield from _misspelt(column_profile, known)


def _accents(column_profile: ColumnProfile, groups: list[list[list[ValueRows]]]) -> Finding:
    """Values that are one but for accents, which may be two names, or one from a system without
    accents."""
    ranked = [sorted(group, key=lambda values: -sum(v.rows for v in values)) for group in groups]
    rarer = [value for _, *others in ranked for values in others for value in values]
    examples = "; ".join(
        f"{shown(usual[0].value)} also as {', '.join(shown(values[0].value) for values in others)}"
        for usual, *others in ranked[:2]
    )
    more = f" and {len(groups) - 2:,} more" if len(groups) > 2 else ""
    count = "1 value is" if len(groups) == 1 else f"{len(groups):,} values are"
    return Finding(
        "accents",
        "note",
        column_profile.name,
        sum(value.rows for value in rarer),
        f"{count} written with and without accents: {examples}{more}",
        is_one_of(quoted(column_profile.name), (text_literal(value.value) for value in rarer)),
    )


def _each_is_usual(forms: dict[str, int]) -> bool:
    """Whether no spelling is rare beside the others: AA, Aa and aa are three things."""
    return min(forms.values()) * 10 >= sum(forms.values())


def _finding(
    column_profile: ColumnProfile,
    groups: list[tuple[str, tuple[ValueRows, ...]]],
    titles: bool,
    unlisted: int,
) -> Finding:
    name = quoted(column_profile.name)
    others = [[value for value in values if tidied(value.value) != kept] for kept, values in groups]
    rows = sum(value.rows for other in others for value in other)
    whens = []
    for (kept, _), selected in zip(groups, others, strict=True):
        # A step that tidies spaces may come before: the tidied forms are written the same way.
        forms = dict.fromkeys(
            form for value in selected for form in (value.value, tidied(value.value))
        )
        whens += [f"WHEN {text_literal(form)} THEN {text_literal(kept)}" for form in forms]
    examples = "; ".join(
        f"{shown(kept)} also as"
        f" {', '.join(dict.fromkeys(shown(value.value) for value in subset[:3]))}"
        for (kept, _), subset in list(zip(groups, others, strict=True))[:2]
    )
    more = f" and {len(groups) - 2:,} more" if len(groups) > 2 else ""
    beyond = f"; {unlisted:,} further groups are not listed" if unlisted > 0 else ""
    count = "1 value is" if len(groups) == 1 else f"{len(groups):,} values are"
    composed = all(
        unicodedata.normalize("NFC", value.value) == kept
        for (kept, _), other in zip(groups, others, strict=True)
        for value in other
    )
    return Finding(
        "variants",
        "note" if titles else "suspect",
        column_profile.name,
        rows,
        f"{count} written in several ways: {examples}{more}{beyond}",
        is_one_of(name, (text_literal(value.value) for other in others for value in other)),
        f"{name} = NORMALIZE({name})"
        if composed
        else f"{name} = CASE {name} {' '.join(whens)} ELSE {name} END",
    )


def _misspelt(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """Rare values one or two letters from a frequent one, in a column of few different values."""
    if (
        not column_profile.all_values
        or column_profile.distinct > _MOST_VALUES
        or known < _A_VALUE * column_profile.distinct
        or column_profile.list is not None
    ):
        return
    slips: list[tuple[ValueRows, str]] = []
    for rare in column_profile.all_values:
        word = rare.value.casefold()
        if rare.rows > max(_RARE_ROWS, _RARE_SHARE * known) or any(map(str.isdigit, word)):
            continue
        near = [
            usual
            for usual in column_profile.all_values
            if usual.rows >= _RATIO * rare.rows and _is_slip(word, usual.value.casefold())
        ]
        best = max(near, key=lambda usual: usual.rows, default=None)
        if best is not None:
            slips.append((rare, best.value))
    if slips:
        name = quoted(column_profile.name)
        examples = ", ".join(
            f"{rare.rows:,} × {shown(rare.value)} for {shown(usual)}" for rare, usual in slips[:4]
        )
        more = f" and {len(slips) - 4:,} more" if len(slips) > 4 else ""
        yield Finding(
            "misspelt",
            "suspect",
            column_profile.name,
            sum(rare.rows for rare, _ in slips),
            f"rare values a letter or two from a frequent one: {examples}{more}",
            is_one_of(name, (text_literal(rare.value) for rare, _ in slips)),
        )


def _is_slip(value: str, usual: str) -> bool:
    """Whether one word of a value, of five letters at least, is one or two letters from that of the
    usual one; an ending is none, and neither is what an underscore parts: rope_n and rope_y."""
    words, others = value.replace("_", " ").split(), usual.replace("_", " ").split()
    if len(words) != len(others):
        return False
    differing = [(word, other) for word, other in zip(words, others, strict=True) if word != other]
    if len(differing) != 1:
        return False
    short, long = sorted(differing[0], key=len)
    most = 1 if len(short) < _LONG_WORD else 2
    ending = long.startswith(short) or long.endswith(short)
    return len(short) >= _LEAST_WORD and not ending and 0 < _edits(short, long, most) <= most


def _edits(word: str, other: str, most: int) -> int:
    """Letters put in, left out, put for another, or two put in the other order (optimal string
    alignment); most + 3 where more."""
    if abs(len(word) - len(other)) > most or other == word:
        return 0 if other == word else most + 3
    before, last = [0] * (len(other) + 1), list(range(len(other) + 1))
    for index, char in enumerate(word, 1):
        row = [index]
        for place, letter in enumerate(other, 1):
            cost = min(last[place] + 1, row[place - 1] + 1, last[place - 1] + (char != letter))
            if index > 1 and place > 1 and char == other[place - 2] and word[index - 2] == letter:
                cost = min(cost, before[place - 2] + 1)
            row.append(cost)
        if min(row) > most:
            return most + 3
        before, last = last, row
    return last[-1] if last[-1] <= most else most + 3
