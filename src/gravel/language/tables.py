"""The parser's tables: made from the grammar when the package is built, and kept beside it as JSON, which cannot run code."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any

GRAMMAR = Path(__file__).with_name("grammar.lark")
TABLES = Path(__file__).with_name("grammar.json")
STARTS = ["expression_only", "assignment", "named", "named_list", "expression_list", "sort_list", "query_only"]


def parser(transformer: Any) -> Any:
    """The parser with its actions, from the tables if they are this grammar's, else from the grammar, which takes seconds; the tables
    are then written beside it if that folder can be written."""
    import lark
    from lark.grammar import Rule
    from lark.lexer import TerminalDef

    key = _key()
    try:
        kept = json.loads(TABLES.read_text("utf-8"))
        if kept["key"] == key:
            made: Any = lark.Lark.__new__(lark.Lark)
            return made._load({"data": _decoded(kept["data"]), "memo": _decoded(kept["memo"])}, transformer=transformer)
    except (OSError, ValueError, KeyError, TypeError):
        pass
    whole = lark.Lark(
        GRAMMAR.read_text("utf-8"), parser="lalr", start=STARTS, keep_all_tokens=True, maybe_placeholders=False, transformer=transformer
    )
    data, memo = whole.memo_serialize([TerminalDef, Rule])
    text = json.dumps({"key": key, "data": _encoded(data), "memo": _encoded(memo)}, separators=(",", ":"))
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


def _encoded(value: Any) -> Any:
    """JSON has no tuples and no keys but strings: both are marked."""
    if isinstance(value, dict):
        if all(isinstance(key, str) for key in value):
            return {key: _encoded(item) for key, item in value.items()}
        return {"%items": [[key, _encoded(item)] for key, item in value.items()]}
    if isinstance(value, (tuple, list)):
        items = [_encoded(item) for item in value]
        return {"%tuple": items} if isinstance(value, tuple) else items
    if isinstance(value, (set, frozenset)):
        return sorted(value)
    return value if value is None or isinstance(value, (str, int, float, bool)) else None


def _decoded(value: Any) -> Any:
    if isinstance(value, list):
        return [_decoded(item) for item in value]
    if isinstance(value, dict):
        if "%items" in value:
            return {key: _decoded(item) for key, item in value["%items"]}
        if "%tuple" in value:
            return tuple(_decoded(item) for item in value["%tuple"])
        return {key: _decoded(item) for key, item in value.items()}
    return value
