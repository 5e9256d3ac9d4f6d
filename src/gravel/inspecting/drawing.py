"""How a value is drawn so that what is hidden in it is seen, and shares that never lie: for
terminals and pages alike."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator

from gravel.kernels.characters import ZERO_WIDTH

NULL = "∅"
EMPTY = "''"
SIGNS = {"\t": "⇥", "\n": "↵", "\r": "␍", "\xa0": "⍽", "\x00": "␀", "\x1b": "␛"}


def sign(char: str) -> str:
    """What stands for a character that cannot be seen."""
    return SIGNS.get(char) or f"⟨{ord(char):04X}⟩"


def drawn(value: str | None, limit: int = 60) -> Iterator[tuple[str, str]]:
    """A value in parts, each with its kind: plain, hidden (a sign for a space at an end, one of
    several, or for what has no shape), or said (NULL, an empty text, how long a cut value is)."""
    if value is None:
        yield NULL, "said"
        return
    if value == "":
        yield EMPTY, "said"
        return
    if value in (NULL, EMPTY):
        yield f"'{value}'", "plain"
        return
    cut = len(value) > limit
    shown = value[: limit - 1].rstrip(" ") if cut else value  # a space at the cut is at no end
    inner = shown.strip(" ")
    lead = len(shown) - len(shown.lstrip(" "))
    if lead:
        yield "·" * lead, "hidden"
    yield from _inner(inner)
    trail = len(shown) - lead - len(inner)
    if trail and inner:
        yield "·" * trail, "hidden"
    if cut:
        yield f"… {len(value):,} characters", "said"


def marks_apart(text: str) -> bool:
    """Whether a text has an accent as a character of its own where one with the accent exists: e
    and U+0301 for é, which look the same."""
    return not text.isascii() and not unicodedata.is_normalized("NFC", text)


def _inner(inner: str) -> Iterator[tuple[str, str]]:
    plain, apart = "", marks_apart(inner)
    for index, char in enumerate(inner):
        several = char == " " and (
            inner[index - 1 : index] == " " or inner[index + 1 : index + 2] == " "
        )
        seen = char.isprintable() and char not in ZERO_WIDTH
        if apart and unicodedata.combining(char):
            seen = False
        if not several and (char == " " or seen):
            plain += char
            continue
        if plain:
            yield plain, "plain"
            plain = ""
        yield ("·" if several else sign(char)), "hidden"
    if plain:
        yield plain, "plain"


def percent(part: int, whole: int) -> str:
    """A share in percent with one decimal that never rounds to nothing or to all."""
    if not whole:
        return ""
    share = 100 * part / whole
    if part > 0 and share < 0.1:
        return "<0.1%"
    if part < whole and share > 99.9:
        return ">99.9%"
    return f"{share:.1f}%"
