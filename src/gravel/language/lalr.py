"""An LALR(1) parser over tables that were made when the package was built (`tables`): a state's
actions are read when a text first leads there, of 1,500 an expression meets fifty.

The lexer knows which tokens may come in a state. A word is a keyword only where one may come, and
else a name.

Source: A. V. Aho, M. S. Lam, R. Sethi, J. D. Ullman, "Compilers", 2nd edition, 4.7."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

END = "$END"
NAME, ANY_WORD = "NAME", "WORD"
_IGNORED = re.compile(r"(?:\s+|--[^\n]*)*")
_WORD = re.compile(r"[^\W\d][\w$]*")


class Token(str):
    """A word, a number or a sign of a text: its type is the grammar's, `start_pos` and `end_pos`
    are places in the text."""

    __slots__ = ("end_pos", "start_pos", "type")

    type: str
    start_pos: int
    end_pos: int

    @classmethod
    def of(cls, kind: str, text: str, start: int) -> Token:
        """A token of a type."""
        result = cls(text)
        result.type, result.start_pos, result.end_pos = kind, start, start + len(text)
        return result


class Pieces(list[Any]):
    """What a part of a rule that is repeated came to, to be laid among the rule's children."""


class UnknownCharacter(ValueError):
    """No token begins at a place of the text."""

    def __init__(self, place: int) -> None:
        super().__init__(place)
        self.place = place


class UnexpectedToken(ValueError):
    """A token that may not come where it stands; `accepts` are the types of those that may."""

    def __init__(self, token: Token, accepts: frozenset[str]) -> None:
        super().__init__(token)
        self.token, self.accepts = token, accepts


class Rule(NamedTuple):
    """A rule of the grammar: what it makes, of how many parts, by which action (None: its parts
    are pieces of another rule), whether one part alone stands for it, and which parts are
    pieces."""

    origin: str
    size: int
    action: str | None
    passes_one: bool
    pieces: tuple[int, ...]


class Parser:
    """The parser of the grammar's tables; a rule's action is the method of that name of
    `actions`."""

    def __init__(self, tables: dict[str, Any], actions: Any) -> None:
        self._symbols: list[str] = tables["symbols"]
        self._rows: list[str] = tables["states"]
        self._rules = [
            Rule(origin, size, action, passes_one, tuple(pieces))
            for origin, size, action, passes_one, pieces in tables["rules"]
        ]
        self._starts, self._ends = tables["starts"], tables["ends"]
        self._keywords = {word: word for word in tables["keywords"]}
        self._reserved = frozenset(tables["reserved"])
        self._signs: list[tuple[str, str]] = [tuple(sign) for sign in tables["signs"]]
        self._actions = actions
        self._states: dict[int, dict[str, int]] = {}
        self._lexers: dict[frozenset[str], re.Pattern[str] | None] = {}

    def parse(self, text: str, start: str) -> Any:
        """What the actions make of a text. Raises UnknownCharacter, UnexpectedToken, and what they
        raise."""
        stack, values = [self._starts[start]], []  # type: list[int], list[Any]
        place, end = 0, self._ends[start]
        while True:
            token, place = self._next(text, place, stack)
            read = list(stack)  # what may come is told before anything is reduced for what came
            while True:
                action = self._state(stack[-1]).get(token.type)
                if action is None:
                    raise UnexpectedToken(token, self._accepted(read, end))
                if not action & 1:
                    stack.append(action >> 1)
                    values.append(token)
                    break
                rule = self._rules[action >> 1]
                self._reduce(rule, stack, values)
                if token.type == END and stack[-1] == end:
                    return values[-1]

    def _reduce(self, rule: Rule, stack: list[int], values: list[Any]) -> None:
        parts: list[Any] = []
        if rule.size:
            parts = values[-rule.size :]
            del stack[-rule.size :], values[-rule.size :]
        if rule.action is None and 0 in rule.pieces:
            # A list that goes on: nothing else has it, and copied each time it would take the
            # square of its length.
            first, *others = parts
            for index, part in enumerate(others, 1):
                first += part if index in rule.pieces else (part,)
            parts = first
        elif rule.pieces:
            parts = [
                item
                for index, part in enumerate(parts)
                for item in (part if index in rule.pieces else (part,))
            ]
        if rule.action is None:
            value: Any = parts if isinstance(parts, Pieces) else Pieces(parts)
        elif rule.passes_one and len(parts) == 1:
            value = parts[0]
        else:
            value = getattr(self._actions, rule.action)(parts)
        stack.append(self._state(stack[-1])[rule.origin] >> 1)
        values.append(value)

    def _state(self, number: int) -> dict[str, int]:
        """For each symbol what is done where it comes: twice the state to go to, or twice the rule
        to reduce by and one."""
        if number not in self._states:
            pairs = iter(map(int, self._rows[number].split()))
            self._states[number] = {
                self._symbols[symbol]: action for symbol, action in zip(pairs, pairs, strict=True)
            }
        return self._states[number]

    def _accepted(self, stack: list[int], end: int) -> frozenset[str]:
        """The types of the tokens that may come next."""
        return frozenset(
            kind
            for kind in self._state(stack[-1])
            if kind.isupper() and self._takes(kind, list(stack), end)
        )

    def _takes(self, kind: str, stack: list[int], end: int) -> bool:
        """Whether a token may come, once what stands before it is reduced."""
        while True:
            action = self._state(stack[-1]).get(kind)
            if action is None:
                return False
            if not action & 1:
                return True
            rule = self._rules[action >> 1]
            if rule.size:
                del stack[-rule.size :]
            stack.append(self._state(stack[-1])[rule.origin] >> 1)
            if kind == END and stack[-1] == end:
                return True

    # -- tokens
    def _next(self, text: str, place: int, stack: list[int]) -> tuple[Token, int]:
        """The token at a place, and where it ends."""
        match = _IGNORED.match(text, place)
        place = match.end() if match else place
        if place == len(text):
            return Token.of(END, "", place), place
        accepted = self._state(stack[-1])
        token = self._sign(text, place, frozenset(accepted)) or self._word(text, place, accepted)
        if token is None:
            every = frozenset(self._symbols)
            token = self._sign(text, place, every) or self._word(text, place, None)
            if token is None:
                raise UnknownCharacter(place)
        return token, token.end_pos

    def _sign(self, text: str, place: int, accepted: frozenset[str]) -> Token | None:
        """A number, a quoted text or name, or a sign, of those that are accepted."""
        if accepted not in self._lexers:
            patterns = [f"(?P<{name}>{regex})" for name, regex in self._signs if name in accepted]
            self._lexers[accepted] = re.compile("|".join(patterns)) if patterns else None
        lexer = self._lexers[accepted]
        match = lexer.match(text, place) if lexer is not None else None
        return Token.of(match.lastgroup or "", match[0], place) if match else None

    def _word(self, text: str, place: int, accepted: dict[str, int] | None) -> Token | None:
        """A keyword or a name, of those that are accepted; None for all."""
        match = _WORD.match(text, place)
        if match is None:
            return None
        word = match[0]
        plain = word.upper() if word.isascii() else ""
        kinds = [self._keywords[plain]] if plain in self._keywords else []
        kinds += [ANY_WORD] if plain in self._reserved else [NAME, ANY_WORD]
        kind = next((kind for kind in kinds if accepted is None or kind in accepted), None)
        return None if kind is None else Token.of(kind, word, place)
