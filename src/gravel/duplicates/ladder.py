"""The ladder: looser and looser spellings of an expression, each of which is an expression too."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from gravel.language.types import TEXT, Type


@dataclass(frozen=True)
class Rung:
    """A spelling: its name, what is ignored in it, and the expression of it for one of a column."""

    name: str
    meaning: str
    of: Callable[[str], str]


_WORDS = "COALESCE(MATCH_KEY({x}, 'sorted'), UPPER(TIDY_SPACES({x})))"
RUNGS: tuple[Rung, ...] = (
    Rung("equal", "exactly equal", lambda x: x),
    Rung("spaces", "spaces tidied", lambda x: f"TIDY_SPACES({x})"),
    Rung("case", "case ignored", lambda x: f"UPPER(TIDY_SPACES({x}))"),
    Rung("accents", "accents and punctuation ignored", lambda x: f"COALESCE(MATCH_KEY({x}), UPPER(TIDY_SPACES({x})))"),
    Rung("words", "word order ignored", lambda x: _WORDS.format(x=x)),
    Rung("digits", "digits only, where there are any", lambda x: f"COALESCE(NULLIF(ONLY_DIGITS({x}), ''), {_WORDS.format(x=x)})"),
)
NAMES = tuple(rung.name for rung in RUNGS)


def spelled(rung: Rung, text: str, kind: Type) -> str:
    """An expression at a rung; what is no text has one spelling."""
    text = " ".join(text.split())
    return rung.of(text) if kind == TEXT else text
