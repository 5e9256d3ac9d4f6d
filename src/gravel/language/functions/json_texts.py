"""JSON texts (RFC 8259) read so that numbers keep their digits, and written again."""

from __future__ import annotations

import json
import re
from typing import Any


class JsonNumber(str):
    """A number as it was written."""


def _refuse(name: str) -> Any:
    raise ValueError(f"{name} is not JSON")


_SURROGATE = re.compile(r"\\u[dD][89a-fA-F]")
_DECODER = json.JSONDecoder(parse_int=JsonNumber, parse_float=JsonNumber, parse_constant=_refuse)


def read_json(text: str) -> Any:
    """The value of a JSON text: dicts, lists, str, JsonNumber, bool, None. Raises ValueError, also
    for half of a surrogate pair (\\ud800), which no text can hold."""
    try:
        value = _DECODER.decode(text)
        if _SURROGATE.search(text):
            json_text(value).encode()
        return value
    except RecursionError:
        raise ValueError("nested too deeply") from None


def json_text(value: Any) -> str:
    """A value that was read, as JSON text."""
    if isinstance(value, JsonNumber):
        return value
    if isinstance(value, list):
        return f"[{', '.join(map(json_text, value))}]"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{json_text(k)}: {json_text(v)}" for k, v in value.items()) + "}"
    return json.dumps(value, ensure_ascii=False)


def scalar_text(value: Any) -> str | None:
    """A value as a text: a string without its quotes, NULL for null, others as JSON has them."""
    if value is None or isinstance(value, str):
        return None if value is None else str(value)
    return json_text(value)
