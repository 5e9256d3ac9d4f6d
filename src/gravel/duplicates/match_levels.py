"""The match levels: looser and looser spellings of an expression, each of which is an expression
too."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from gravel.language.types import TEXT, Type


class MatchLevel(Struct, frozen=True):
    """A spelling: its name, what is ignored in it, and its expression, in which {x} stands for the
    text that is spelled and the names of match levels before it for their spellings."""

    name: str
    meaning: str
    template: str

    def of(self, x: str) -> str:
        """The expression for one of a column."""
        return self.written(x, lambda match_level: match_level.of(x))

    def written(self, x: str, other: Callable[[MatchLevel], str]) -> str:
        """The expression with what `other` gives for the match levels before it."""
        before = [
            match_level
            for match_level in MATCH_LEVELS
            if f"{{{match_level.name}}}" in self.template
        ]
        return self.template.format(
            x=x, **{match_level.name: other(match_level) for match_level in before}
        )


MATCH_LEVELS: tuple[MatchLevel, ...] = (
    MatchLevel("equal", "exactly equal", "{x}"),
    MatchLevel("spaces", "spaces tidied", "TIDY_SPACES({x})"),
    MatchLevel("case", "case ignored", "UPPER({spaces})"),
    MatchLevel("accents", "accents and punctuation ignored", "COALESCE(MATCH_KEY({x}), {case})"),
    MatchLevel("words", "word order ignored", "COALESCE(MATCH_KEY({x}, 'sorted'), {case})"),
    MatchLevel(
        "digits",
        "digits only, where there are any",
        "COALESCE(NULLIF(ONLY_DIGITS({x}), ''), {words})",
    ),
)
NAMES = tuple(match_level.name for match_level in MATCH_LEVELS)


def spelled(match_level: MatchLevel, text: str, kind: Type) -> str:
    """An expression at a match level; what is not a text has one spelling."""
    text = " ".join(text.split())
    return match_level.of(text) if kind == TEXT else text
