"""The match levels: looser and looser spellings of an expression, each of which is an expression
too."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from gravel.language.types import TEXT, Type


@dataclass(frozen=True)
class Rung:
    """A spelling: its name, what is ignored in it, and its expression, in which {x} stands for the
    text that is spelled and the names of match levels before it for their spellings."""

    name: str
    meaning: str
    template: str

    def of(self, x: str) -> str:
        """The expression for one of a column."""
        return self.written(x, lambda rung: rung.of(x))

    def written(self, x: str, other: Callable[[Rung], str]) -> str:
        """The expression with what `other` gives for the match levels before it."""
        before = [rung for rung in RUNGS if f"{{{rung.name}}}" in self.template]
        return self.template.format(x=x, **{rung.name: other(rung) for rung in before})


RUNGS: tuple[Rung, ...] = (
    Rung("equal", "exactly equal", "{x}"),
    Rung("spaces", "spaces tidied", "TIDY_SPACES({x})"),
    Rung("case", "case ignored", "UPPER({spaces})"),
    Rung("accents", "accents and punctuation ignored", "COALESCE(MATCH_KEY({x}), {case})"),
    Rung("words", "word order ignored", "COALESCE(MATCH_KEY({x}, 'sorted'), {case})"),
    Rung(
        "digits",
        "digits only, where there are any",
        "COALESCE(NULLIF(ONLY_DIGITS({x}), ''), {words})",
    ),
)
NAMES = tuple(rung.name for rung in RUNGS)


def spelled(rung: Rung, text: str, kind: Type) -> str:
    """An expression at a match level; what is not a text has one spelling."""
    text = " ".join(text.split())
    return rung.of(text) if kind == TEXT else text
