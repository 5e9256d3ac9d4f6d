"""A parser over kept tables that makes a state, and the lexer for it, when a text first leads
there: of 1,500 an expression meets fifty."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from lark.grammar import Rule
from lark.lexer import ContextualLexer
from lark.parsers.lalr_analysis import IntParseTable, Reduce, Shift
from lark.parsers.lalr_parser import LALR_Parser, _Parser

Rows = dict[
    int, list[int]
]  # for each state pairs of a token and what it leads to, as `tables` writes them


def parser_parts(table: dict[str, Any]) -> dict[str, Any]:
    """The parts that lark is to make the parser of, over the states of a table."""
    rows = dict(zip(table["states"]["numbers"], table["states"]["rows"], strict=True))
    tokens = dict(table["tokens"])
    return {
        "LALR_Parser": _ParserMaker(rows, tokens),
        "ContextualLexer": partial(_LazyLexer, rows, tokens),
    }


class _ParserMaker:
    """What lark asks for its parser."""

    def __init__(self, rows: Rows, tokens: dict[int, str]) -> None:
        self._rows, self._tokens = rows, tokens

    def deserialize(self, data: Any, memo: Any, callbacks: Any, debug: bool = False) -> Any:
        """The parser; `memo` has the rules by their numbers."""
        states: Any = _LazyStates(self._rows, self._tokens, memo)
        result: Any = LALR_Parser.__new__(LALR_Parser)
        table: Any = IntParseTable
        result._parse_table = table(states, data["start_states"], data["end_states"])
        result.parser = _Parser(result._parse_table, callbacks, debug)
        return result


class _LazyStates(dict[int, dict[str, tuple[Any, Any]]]):
    """For each state that was met what a token leads to."""

    def __init__(self, rows: Rows, tokens: dict[int, str], memo: Any) -> None:
        self._rows, self._tokens, self._memo = rows, tokens, memo

    def __missing__(self, state: int) -> dict[str, tuple[Any, Any]]:
        pairs = iter(self._rows[state])
        actions: dict[str, tuple[Any, Any]] = {}
        for token, to in zip(pairs, pairs, strict=True):
            action = (
                (Reduce, Rule.deserialize({"@": to >> 1}, self._memo))
                if to & 1
                else (Shift, to >> 1)
            )
            actions[self._tokens[token]] = action
        self[state] = actions
        return actions


class _LazyLexer(ContextualLexer):
    """A lexer for each state, which knows the tokens that may come there."""

    def __init__(
        self, rows: Rows, tokens: dict[int, str], conf: Any, states: Any, always_accept: Any = ()
    ) -> None:
        conf.skip_validation = True  # the terminals were looked through when the tables were made
        super().__init__(conf, {}, always_accept)

        def lexer_of(accepted: frozenset[int]) -> Any:
            return ContextualLexer(
                conf, {0: [tokens[token] for token in accepted]}, always_accept
            ).lexers[0]

        self.lexers = _LazyLexers(rows, lexer_of)


class _LazyLexers(dict[int, Any]):
    """The lexers of the states that were met; of states with the same tokens one."""

    def __init__(self, rows: Rows, lexer_of: Callable[[frozenset[int]], Any]) -> None:
        self._rows, self._lexer_of = rows, lexer_of
        self._by_tokens: dict[frozenset[int], Any] = {}

    def __missing__(self, state: int) -> Any:
        accepted = frozenset(self._rows[state][::2])
        if accepted not in self._by_tokens:
            self._by_tokens[accepted] = self._lexer_of(accepted)
        self[state] = self._by_tokens[accepted]
        return self[state]
