"""The parser's tables: made from the grammar by lark when the package is built, and kept beside it
as JSON, which cannot run code. `lalr` reads them."""

from __future__ import annotations

import hashlib
import json
import re
from pathlib import Path
from typing import Any

from gravel.packaged import packaged

GRAMMAR = Path(__file__).with_name("grammar.lark")
TABLES = Path(__file__).with_name("grammar.json")
STARTS = [
    "expression_only",
    "assignment",
    "named",
    "named_list",
    "expression_list",
    "sort_list",
    "query_only",
]
_FORM = 2  # of the tables
_WORDS = ("NAME", "WORD")


def tables() -> dict[str, Any]:
    """The tables of this grammar: those that are kept, or made anew, which takes seconds and
    lark."""
    key = hashlib.sha256(f"{_FORM} {packaged(GRAMMAR).decode()}".encode()).hexdigest()
    try:
        kept: dict[str, Any] = json.loads(packaged(TABLES))
        if kept["key"] == key:
            return kept
    except (OSError, ValueError, KeyError, TypeError):
        pass
    fresh = {"key": key, **_from_grammar()}
    text = json.dumps(fresh, separators=(",", ":"))
    beside = TABLES.with_name(f"{TABLES.name}.{hashlib.sha256(text.encode()).hexdigest()[:8]}")
    try:
        beside.write_text(text, "utf-8")
        beside.replace(TABLES)
    except OSError:
        pass
    return fresh


def _from_grammar() -> dict[str, Any]:
    """symbols: names of terminals and rules; states: for each, as text, pairs of a symbol and what
    it leads to (twice a state, or twice a rule and one); rules; starts, ends: the states of each
    text to parse; keywords; reserved words, which are no names; signs: the other terminals as
    regular expressions, in the order in which they are tried."""
    import lark
    from lark.parsers.lalr_analysis import Shift

    whole: Any = lark.Lark(
        packaged(GRAMMAR).decode(),
        parser="lalr",
        start=STARTS,
        keep_all_tokens=True,
        maybe_placeholders=False,
    )
    table = whole.parser.parser._parse_table
    rules: dict[Any, int] = {}
    symbols: dict[str, int] = {}
    numbers = {state: number for number, state in enumerate(table.states)}
    rows = []
    for actions in table.states.values():
        row = []
        for symbol, (kind, to) in actions.items():
            number = symbols.setdefault(symbol, len(symbols))
            to_state = kind is Shift
            row += [number, 2 * (numbers[to] if to_state else rules.setdefault(to, len(rules)))]
            row[-1] += not to_state
        rows.append(" ".join(map(str, row)))
    ignored = set(whole.ignore_tokens)
    keywords, signs = [], []
    for terminal in whole.terminals:
        word = re.fullmatch(r"(\w+)(?:\(\?!\[\\w\$\]\))?", terminal.pattern.value)
        if terminal.name in _WORDS or terminal.name in ignored:
            continue
        if word and word[1] == terminal.name and "i" in terminal.pattern.flags:
            keywords.append(terminal.name)
            continue
        regex = terminal.pattern.to_regexp()
        # As lark orders them: by priority, then the longest first.
        order = -terminal.priority, -terminal.pattern.max_width, -len(terminal.pattern.value)
        signs.append((*order, terminal.name, regex))
    name = next(item for item in whole.terminals if item.name == "NAME")
    reserved = re.match(r"\(\?!\(\?:([A-Z|]+)\)", name.pattern.value)
    assert reserved is not None
    return {
        "symbols": list(symbols),
        "states": rows,
        "rules": [_rule(rule) for rule in rules],
        "starts": {start: numbers[state] for start, state in table.start_states.items()},
        "ends": {start: numbers[state] for start, state in table.end_states.items()},
        "keywords": sorted(keywords),
        "reserved": reserved[1].split("|"),
        "signs": [(name, regex) for *_, name, regex in sorted(signs)],
    }


def _rule(rule: Any) -> tuple[str, int, str | None, bool, list[int]]:
    """A rule as `lalr.Rule` has it. Rules whose name begins with _ are pieces of others."""
    origin = str(rule.origin.name)
    pieces = [
        index
        for index, symbol in enumerate(rule.expansion)
        if not symbol.is_term and symbol.name.startswith("_")
    ]
    action = None if origin.startswith("_") else str(rule.alias or origin)
    passes_one = bool(rule.options.expand1) and not rule.alias
    return origin, len(rule.expansion), action, passes_one, pieces
