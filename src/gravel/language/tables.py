"""The parser's tables: made from the grammar when the package is built, and kept beside it as JSON,
which cannot run code."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any

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


def parser(transformer: Any) -> Any:
    """The parser with its actions, from the tables if they are this grammar's, else from the
    grammar, which takes seconds; the tables are then written beside it if that folder can be
    written."""
    import lark
    from lark.grammar import Rule
    from lark.lexer import TerminalDef

    key = _key()
    try:
        kept = json.loads(TABLES.read_text("utf-8"))
        if kept["key"] == key:
            from gravel.language.lazy_parser import parser_parts

            result: Any = lark.Lark.__new__(lark.Lark)
            parts = parser_parts(kept["data"]["parser"]["parser"])
            return result._load(
                {"data": kept["data"], "memo": dict(kept["memo"])},
                transformer=transformer,
                _plugins=parts,
            )
    except (OSError, ValueError, KeyError, TypeError):
        pass
    whole = lark.Lark(
        GRAMMAR.read_text("utf-8"),
        parser="lalr",
        start=STARTS,
        keep_all_tokens=True,
        maybe_placeholders=False,
        transformer=transformer,
    )
    data, memo = whole.memo_serialize([TerminalDef, Rule])
    text = json.dumps(
        {"key": key, "data": _encoded(data), "memo": list(memo.items())},
        separators=(",", ":"),
        default=lambda value: sorted(value) if isinstance(value, (set, frozenset)) else None,
    )
    beside = TABLES.with_name(f"{TABLES.name}.{hashlib.sha256(text.encode()).hexdigest()[:8]}")
    try:
        beside.write_text(text, "utf-8")
        beside.replace(TABLES)
    except OSError:
        pass
    return whole


def _key() -> str:
    import lark

    return hashlib.sha256(f"{lark.__version__} {GRAMMAR.read_text('utf-8')}".encode()).hexdigest()


def _encoded(data: dict[str, Any]) -> dict[str, Any]:
    """The tables with each state's actions as numbers, by pairs of a token and what it leads to:
    twice a state, or twice a rule and one."""
    table = data["parser"]["parser"]
    states = []
    for actions in table["states"].values():
        row: list[int] = []
        for token, (action, to) in actions.items():
            row += [token, 2 * to["@"] + 1 if action else 2 * to]
        states.append(row)
    numbers = list(table["states"])
    tokens = [[number, name] for number, name in table["tokens"].items()]
    packed = {**table, "states": {"numbers": numbers, "rows": states}, "tokens": tokens}
    return {**data, "parser": {**data["parser"], "parser": packed}}
