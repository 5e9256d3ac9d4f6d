"""JSON Lines: an object a line. Numbers keep the digits they are written with; what is nested stays JSON."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa

from gravel.language.types import TEXT, Type
from gravel.problems import TableProblem
from gravel.tables.stored import StoredTable
from gravel.tables.table import Malformed

_LINES = 50_000


class _Number(str):
    """A number as it is written."""


def open_jsonl(path: Path, name: str, texts: frozenset[str], declared: dict[str, Type]) -> StoredTable:
    """A JSON Lines file, read once and kept as texts. A column that holds a string anywhere is TEXT; else its values
    decide, as in a text file. Raises TableProblem."""
    columns: dict[str, bool] = {}  # whether a string was seen
    parts: list[dict[str, Any]] = []
    bad: dict[int, tuple[Malformed, ...]] = {}
    sizes = []
    for number, (rows, malformed, records) in enumerate(_read(path, name, columns)):
        parts.append({column: pa.array([row.get(column) for row in rows], pa.string()) for column in columns} | {"": len(rows)})
        sizes.append(records)
        if malformed:
            bad[number] = malformed
    if not columns:
        raise TableProblem(f"{name} has no object in it", hint="JSON Lines has an object a line")

    def part(number: int, wanted: list[str]) -> Any:
        found = parts[number]
        # A key that a part does not have is NULL in it.
        return pa.record_batch([found.get(column, pa.nulls(found[""], pa.string())) for column in wanted], wanted)

    kinds = [TEXT if strings else None for strings in columns.values()]
    return StoredTable(path, name, list(columns), kinds, sizes, part, sum(sizes), texts=texts, declared=declared, bad=bad)


def _read(path: Path, name: str, columns: dict[str, bool]) -> Iterator[tuple[list[dict[str, Any]], tuple[Malformed, ...], int]]:
    """The lines in parts: rows of texts, malformed ones, and how many there are; `columns` takes the keys in order."""
    decode = json.JSONDecoder(parse_int=_Number, parse_float=_Number, parse_constant=_Number).decode
    rows: list[dict[str, Any]] = []
    malformed: list[Malformed] = []
    row = first = 0
    try:
        with open(path, encoding="utf-8-sig", newline="\n") as file:
            for line, text in enumerate(file, 1):
                if not text.strip():
                    continue
                row += 1
                try:
                    found = decode(text)
                except json.JSONDecodeError as error:
                    malformed.append(
                        Malformed(row, line, f"no JSON: {error.msg.lower()} at character {error.pos + 1}", text.rstrip("\r\n"))
                    )
                    continue
                if not isinstance(found, dict):
                    malformed.append(Malformed(row, line, "no object", text.rstrip("\r\n")))
                    continue
                rows.append({key: _text(key, value, columns) for key, value in found.items()})
                if row - first >= _LINES:
                    yield rows, tuple(malformed), row - first
                    rows, malformed, first = [], [], row
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except UnicodeDecodeError as error:
        raise TableProblem(f"{name} is not valid UTF-8: {error.reason} after row {row:,}") from None
    except OSError as error:
        raise TableProblem(f"{name} cannot be read: {(error.strerror or str(error)).lower()}") from None
    if row > first:
        yield rows, tuple(malformed), row - first


def _text(key: str, value: Any, columns: dict[str, bool]) -> str | None:
    seen = columns.setdefault(key, False)
    if value is None:
        return None
    if isinstance(value, _Number):
        return str(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    if not seen:
        columns[key] = True
    return value if isinstance(value, str) else _json(value)


def _json(value: Any) -> str:
    """What is nested as JSON again, its numbers with the digits they were written with."""
    if isinstance(value, _Number):
        return str(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{json.dumps(key, ensure_ascii=False)}: {_json(one)}" for key, one in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_json, value)) + "]"
    return json.dumps(value, ensure_ascii=False)
