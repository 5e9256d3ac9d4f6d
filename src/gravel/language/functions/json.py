"""JSON in a field: the values at a path.

Source: ISO/IEC 9075-2, SQL/JSON path language in lax mode: member accessors ($.key, $."a key"),
array accessors ($[0], $[*]), of an array the members of its items.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

import pyarrow as pa

from gravel.language.functions.catalogue import function
from gravel.language.functions.json_texts import json_text, read_json, scalar_text
from gravel.language.functions.row_by_row import RowFailure, by_row

_PATH = re.compile(r'\s*(?:lax\s+)?\$((?:\.(?:[^\W\d]\w*|"[^"]+")|\[(?:\d+|\*)\])*)\s*')
_STEP = re.compile(r'\.([^\W\d]\w*)|\."([^"]+)"|\[(\d+|\*)\]')


@lru_cache(maxsize=64)
def _steps(path: str) -> tuple[str | int | None, ...]:
    """The keys, places and None for [*] of a path. Raises RowFailure for what is none."""
    whole = _PATH.fullmatch(path)
    if whole is None:
        raise RowFailure("22023")
    return tuple(
        key or quoted or (None if place == "*" else int(place))
        for key, quoted, place in _STEP.findall(whole[1])
    )


def _wrong_path(values: list[Any]) -> str | None:
    if not isinstance(values[1], str) or _PATH.fullmatch(values[1]):
        return None
    return f'{values[1]!r} is not a path: $.key, $."a key", $[0] and $[*], one after another'


def _followed(value: Any, step: str | int | None) -> Iterator[Any]:
    """The items that a step leads to from one; those of an array are unwrapped for a key, and what
    is none is one of a single item."""
    if isinstance(step, str):
        for item in value if isinstance(value, list) else [value]:
            if isinstance(item, dict) and step in item:
                yield item[step]
        return
    items = value if isinstance(value, list) else [value]
    yield from items if step is None else items[step : step + 1]


def _at(text: str, path: str) -> list[Any]:
    """The item at a path, or none. Raises RowFailure for a text that is no JSON, or several
    items."""
    steps = _steps(path)
    try:
        items = [read_json(text)]
    except ValueError:
        raise RowFailure("22032") from None
    for step in steps:
        items = [item for value in items for item in _followed(value, step)]
    if len(items) > 1:
        raise RowFailure("22034")
    return items


@function(
    "JSON_VALUE(x TEXT, path TEXT) TEXT",
    meaning=(
        "the string, number or truth value at a path of a JSON text, as a text; NULL where there is"
        " nothing, or null"
    ),
    examples={
        """JSON_VALUE('{"boat": {"name": "Tern"}}', '$.boat.name')""": "'Tern'",
        """JSON_VALUE('{"fees": [1.50, 2]}', '$.fees[0]')""": "'1.50'",
        """JSON_VALUE('{"boat id": 7}', '$."boat id"')""": "'7'",
        """JSON_VALUE('{"a": 1}', '$.b')""": "NULL",
        """JSON_VALUE('{"a": [1, 2]}', '$.a')""": "error 2203F",
        """JSON_VALUE('{"a": [1, 2]}', '$.a[*]')""": "error 22034",
        """JSON_VALUE('{a: 1}', '$.a')""": "error 22032",
    },
    errors=("22032", "22034", "2203F", "22023"),
    check=_wrong_path,
)
def json_value(x: pa.Array, path: pa.Scalar) -> Any:
    def scalar(text: str, path: str) -> str | None:
        items = _at(text, path)
        if items and isinstance(items[0], list | dict):
            raise RowFailure("2203F")
        return scalar_text(items[0]) if items else None

    return by_row(scalar, x, path)


@function(
    "JSON_QUERY(x TEXT, path TEXT) TEXT",
    meaning=(
        "what stands at a path of a JSON text, as JSON text; NULL where there is nothing."
        " CAST(JSON_QUERY(x, path) AS TEXT ARRAY) makes an array of a list"
    ),
    examples={
        """JSON_QUERY('{"berths": ["A-01", "B-12"]}', '$.berths')""": """'["A-01", "B-12"]'""",
        """JSON_QUERY('{"boat": {"name": "Tern"}}', '$.boat')""": """'{"name": "Tern"}'""",
        """JSON_QUERY('{"a": 1}', '$.b')""": "NULL",
    },
    errors=("22032", "22034", "22023"),
    check=_wrong_path,
)
def json_query(x: pa.Array, path: pa.Scalar) -> Any:
    def document(text: str, path: str) -> str | None:
        items = _at(text, path)
        return json_text(items[0]) if items else None

    return by_row(document, x, path)
