"""JSON Lines: an object a line. Numbers keep the digits they are written with; what is nested stays
JSON."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
from msgspec import Struct

from gravel.language.types import DOUBLE, TEXT, Type
from gravel.problems import TableProblem
from gravel.sources.arrow import StoredSource
from gravel.sources.kept_parts import KeptParts
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Malformed, refuse_changed, state_of

_LINES = 50_000


class _Number(str):
    """A number as it is written."""


class _Seen(Struct):
    """Which kinds of values a column has had."""

    strings: bool = False
    nested: bool = False
    numbers: bool = False
    exponents: bool = False  # of which some have one
    others: bool = False

    @property
    def type(self) -> Type | None:
        """The type that they give the column; None: the values decide, as in a text file, where a
        number with an exponent is a code."""
        if self.strings or self.nested:
            return TEXT
        return DOUBLE if self.exponents and not self.others else None


class NoObjects(TableProblem):
    """A file without an object has no columns: nothing can be asked of it."""


def open_json_lines(path: Path, name: str, reading: ReadOptions) -> StoredSource:
    """A JSON Lines file, read once and kept as texts. A column that holds a string anywhere is
    TEXT, one of numbers of which some have an exponent DOUBLE PRECISION; else its values decide, as
    in a text file. Raises TableProblem."""
    return _open_objects(path, name, reading, False)


def open_json_array(path: Path, name: str, reading: ReadOptions) -> StoredSource:
    """A JSON file that is an array of objects, or holds an object a line. Raises TableProblem."""
    array = _is_array(path)
    if not array:
        _refuse_one_object(path, name)
    return _open_objects(path, name, reading, array)


def _open_objects(path: Path, name: str, reading: ReadOptions, array: bool) -> StoredSource:
    before = state_of(path)
    columns: dict[str, _Seen] = {}
    parts = KeptParts()
    bad: dict[int, tuple[Malformed, ...]] = {}
    sizes = []
    for number, (rows, malformed, records) in enumerate(_read(path, name, columns, array)):
        arrays = [pa.array([row.get(column) for row in rows], pa.string()) for column in columns]
        parts.write(pa.record_batch(arrays, names=list(columns)))
        sizes.append(records)
        if malformed:
            bad[number] = malformed
    if not columns:
        raise NoObjects(f"{name} has no object in it", hint="JSON Lines has an object a line")

    kinds = [seen.type for seen in columns.values()]
    refuse_changed(path, name, before)
    source = StoredSource(
        path,
        name,
        list(columns),
        kinds,
        sizes,
        parts.read,
        sum(sizes),
        texts=frozenset(reading.texts),
        declared=dict(reading.declared),
        bad=bad,
    )
    source.nested = frozenset(
        column
        for column, seen in columns.items()
        if seen.nested and not (seen.strings or seen.numbers or seen.others)
    )
    return source


def is_nested(text: str) -> bool:
    """Whether a text is an array or an object as it is told where it was read from JSON, so that it
    may be written as JSON."""
    try:
        value = _CHECK(text)
        return isinstance(value, (list, dict)) and _json(value) == text
    except (ValueError, RecursionError):
        return False


def _is_array(path: Path) -> bool:
    """Whether a file holds one array, and not an object a line."""
    try:
        with open(path, encoding="utf-8-sig", errors="replace") as file:
            return file.read(4096).lstrip().startswith("[")
    except OSError:
        return False  # told where it is read


def _refuse_one_object(path: Path, name: str) -> None:
    """Raises TableProblem for a .json file that is neither an array nor an object a line."""
    try:
        with open(path, encoding="utf-8-sig", errors="replace") as file:
            first = next((line for line in file if line.strip()), "")
        json.loads(first)
    except OSError:
        return  # told where it is read
    except (ValueError, RecursionError):
        raise TableProblem(
            f"{name} is not an array of objects",
            hint="[{…}, {…}], or an object a line; what a tool keeps beside its rows is taken away",
        ) from None


def _lines(file: Any, name: str, array: bool) -> Iterator[tuple[int, str]]:
    """The texts of objects with their lines: a line each, or the items of an array. Raises
    TableProblem for an array that is no JSON."""
    if not array:
        yield from enumerate(file, 1)
        return
    text = file.read()
    decode = json.JSONDecoder(parse_int=_Number, parse_float=_Number, parse_constant=_Number)
    place, line = text.index("[") + 1, text.count("\n", 0, text.index("[")) + 1
    first = True
    while True:
        match = _BETWEEN[first].match(text, place)
        if match is None or (match.end() == len(text) and match[1] != "]"):
            raise _broken(name, text, place)
        line += text.count("\n", place, match.end())
        place = match.end()
        if match[1] == "]":
            if text[place:].strip():
                raise _broken(name, text, place)
            return
        try:
            _, end = decode.raw_decode(text, place)
        except json.JSONDecodeError as error:
            raise _broken(name, text, error.pos) from None
        except RecursionError:
            raise TableProblem(f"{name}:{line}: nested too deeply") from None
        yield line, text[place:end]
        line += text.count("\n", place, end)
        place, first = end, False


_BETWEEN = {True: re.compile(r"\s*(\]|(?=[^,]))"), False: re.compile(r"\s*(?:(\])|,\s*)")}


def _broken(name: str, text: str, place: int) -> TableProblem:
    line = text.count("\n", 0, place) + 1
    return TableProblem(
        f"{name}:{line}: the array is not JSON here",
        hint="an array of objects, [{…}, {…}], or with .jsonl an object a line",
    )


def _read(
    path: Path, name: str, columns: dict[str, _Seen], array: bool = False
) -> Iterator[tuple[list[dict[str, Any]], tuple[Malformed, ...], int]]:
    """The lines in parts: rows of texts, malformed ones, and how many there are; `columns` takes
    the keys in order."""
    decode = json.JSONDecoder(
        parse_int=_Number, parse_float=_Number, parse_constant=_Number, object_pairs_hook=_object
    ).decode
    rows: list[dict[str, Any]] = []
    malformed: list[Malformed] = []
    row = first = 0
    try:
        with open(path, encoding="utf-8-sig", newline="\n") as file:
            for line, text in _lines(file, name, array):
                if not text.strip():
                    continue
                row += 1
                try:
                    result = decode(text)
                except json.JSONDecodeError as error:
                    malformed.append(
                        Malformed(
                            row,
                            line,
                            f"no JSON: {error.msg.lower().removesuffix(' at')} at character"
                            f" {error.pos + 1}",
                            text.rstrip("\r\n"),
                        )
                    )
                    continue
                except (_Fault, RecursionError) as error:
                    fault = str(error) if isinstance(error, _Fault) else "nested too deeply"
                    malformed.append(Malformed(row, line, fault, text.rstrip("\r\n")))
                    continue
                if not isinstance(result, dict):
                    malformed.append(Malformed(row, line, "no object", text.rstrip("\r\n")))
                    continue
                try:
                    # What is nested may be too deep to be written again, and a text may hold half
                    # of a character.
                    kept = {key: _plain(_text(value)) for key, value in result.items()}
                    for key in kept:
                        _plain(key)
                except (_Fault, RecursionError) as error:
                    fault = str(error) if isinstance(error, _Fault) else "nested too deeply"
                    malformed.append(Malformed(row, line, fault, text.rstrip("\r\n")))
                    continue
                for key, value in result.items():
                    _note(columns.setdefault(key, _Seen()), value)
                rows.append(kept)
                if row - first >= _LINES:
                    yield rows, tuple(malformed), row - first
                    rows, malformed, first = [], [], row
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except UnicodeDecodeError as error:
        raise TableProblem(f"{name} is not valid UTF-8: {error.reason} after row {row:,}") from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    if row > first:
        yield rows, tuple(malformed), row - first


class _Fault(ValueError):
    """What is wrong with an object that is JSON all the same."""


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """An object, none of whose keys may hide another."""
    results: dict[str, Any] = {}
    for key, value in pairs:
        if key in results:
            raise _Fault(f"the key {json.dumps(key, ensure_ascii=True)[:60]} twice")
        if not key:
            raise _Fault("a key without a name")
        results[key] = value
    return results


def _no_constant(text: str) -> None:
    raise _Fault(f"{text} is no JSON")


_CHECK = json.JSONDecoder(
    parse_int=_Number, parse_float=_Number, parse_constant=_no_constant, object_pairs_hook=_object
).decode


def _plain(text: str | None) -> str | None:
    """A text that is made of whole characters. Raises _Fault."""
    if text is not None and not text.isascii():
        try:
            text.encode("utf-8")
        except UnicodeEncodeError:
            raise _Fault("half of a surrogate pair in a text") from None
    return text


def _note(seen: _Seen, value: Any) -> None:
    if isinstance(value, (list, dict)):
        seen.nested = True
    elif isinstance(value, _Number) and value[-1:].isdigit():
        seen.numbers = True
        seen.exponents = seen.exponents or "e" in value or "E" in value
    elif isinstance(value, str) and not isinstance(value, _Number):
        seen.strings = True
    elif value is not None:
        seen.others = True


def _text(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, str) else _json(value)


def _json(value: Any) -> str:
    """What is nested as JSON again, its numbers with the digits they were written with."""
    if isinstance(value, _Number):
        return str(value)
    if isinstance(value, dict):
        return (
            "{"
            + ", ".join(
                f"{json.dumps(key, ensure_ascii=False)}: {_json(item)}"
                for key, item in value.items()
            )
            + "}"
        )
    if isinstance(value, list):
        return "[" + ", ".join(map(_json, value)) + "]"
    return json.dumps(value, ensure_ascii=False)
