"""Writing tables of texts that were proved as JSON Lines, and text files in a compressed form,
through a sink of bytes."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Collection, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.frame import view
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import ByteSet, body, rows_with, valid
from gravel.language.functions.casts import to_text
from gravel.language.types import Kind, Type
from gravel.ledger.fingerprint import inexact
from gravel.problems import CallProblem, DataProblem
from gravel.sinks.atomic_file import is_stream
from gravel.sinks.excel import write_workbook
from gravel.sources.jsonl import NoObjects, is_nested
from gravel.sources.opening import open_table
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Source, scan

TEXT_ENDINGS = (".csv", ".tsv", "")
ENDINGS = (".csv", ".tsv", ".parquet", ".arrow", ".jsonl", ".xlsx")
PACKED = {".gz": "gzip", ".zst": "zstd"}
Columns = Sequence[tuple[str, Type]]
Take = Callable[[bytes], None]


def ending(path: Path) -> str:
    """A file's ending in lower case, with that of its compression: .csv.gz."""
    last = path.suffix.lower()
    return path.with_suffix("").suffix.lower() + last if last in PACKED else last


def known(path: Path) -> bool:
    """Whether a file of that ending can be written."""
    last = path.suffix.lower()
    inner = ending(path).removesuffix(last) if last in PACKED else last
    return inner in ENDINGS and (inner != ".xlsx" or inner == last)


def only_text(path: Path) -> None:
    """Raises CallProblem for a file that is not to be written as CSV."""
    if path.suffix.lower() != ".csv" and not is_stream(path):
        raise CallProblem(
            f"{path} cannot be written: these rows are written as CSV", hint="name a .csv file"
        )


def may_write(path: Path, replace: bool) -> None:
    """Whether rows can go to a file: one that is there is replaced only where that is asked for.
    Raises CallProblem."""
    if path.is_file() and not replace:
        raise CallProblem(f"{path} is there already", hint="another name, or --replace")


def keeps_types(path: Path) -> bool:
    """Whether a file of that ending has types of its own."""
    return ending(path).split(".")[1:2] in (["parquet"], ["arrow"], ["jsonl"], ["xlsx"])


def write(
    path: Path, rows: Source, columns: Columns, take: Take, nested: Collection[str] = ()
) -> list[str]:
    """A table's texts as JSON Lines, in a workbook, or in a compressed form; `nested`: columns of
    arrays and objects, whose texts are JSON. What is to be known of it."""
    last = path.suffix.lower()
    if last in PACKED:
        with (
            ByteSink(take) as sink,
            pa.CompressedOutputStream(pa.PythonFile(sink, "w"), PACKED[last]) as packed,
        ):
            if ending(path).startswith(".jsonl"):
                _jsonl(rows, columns, packed.write, nested)
            else:
                with open(rows.path, "rb") as file:
                    while data := file.read(1 << 22):
                        packed.write(data)
    elif last == ".xlsx":
        return write_workbook(rows, columns, take)
    else:
        _jsonl(rows, columns, take, nested)
    return []


def opened_again(path: Path, rows: Source) -> Source:
    """What was written, as a reader finds it. Raises TableProblem."""
    packed_text = path.suffix.lower() in PACKED and not ending(path).startswith(".jsonl")
    try:
        return open_table(
            str(path), ReadOptions(rows.dialect.delimiter if packed_text else None, own=True)
        )
    except NoObjects:
        if sum(scan(rows, lambda batch: batch.count, [])):
            raise
        return rows  # JSON Lines without a row have no columns either


class ByteSink:
    """What Arrow takes for a file, and what is written into it goes on."""

    def __init__(self, take: Take) -> None:
        self._take, self._at, self.closed = take, 0, False

    def write(self, data: Any) -> int:
        result = bytes(data)
        self._take(result)
        self._at += len(result)
        return len(result)

    def tell(self) -> int:
        return self._at

    def flush(self) -> None:
        """All is handed on at once."""

    def close(self) -> None:
        self.closed = True

    def __enter__(self) -> ByteSink:
        return self

    def __exit__(self, *error: Any) -> None:
        self.close()

    def readable(self) -> bool:
        return False

    def writable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return False


def typed(texts: pa.Array, name: str, kind: Type, binary: bool = False) -> pa.Array:
    """Texts as values of a type, or as the bytes that they say as base64. Raises DataProblem where
    one is none."""
    if kind.kind is Kind.BINARY or binary:
        return pa.array(
            [None if text is None else base64.b64decode(text) for text in texts.to_pylist()],
            pa.binary(),
        )
    if kind.kind in (Kind.TEXT, Kind.ARRAY, Kind.INTERVAL, Kind.NULL):
        return texts
    result = view(texts, kind)
    if result.errors is not None and result.errors.any():
        bad = texts[int(result.errors.argmax())].as_py()
        raise DataProblem(
            f"{name} has a value that does not fit {kind}: {bad!r}",
            hint=f'a step that fixes it, or declare {name} = "TEXT" in the plan\'s [types]',
        )
    lossy = inexact(texts, to_text(result.values, kind), kind)
    if lossy is not None:
        bad = texts[int(lossy.argmax())].as_py()
        raise DataProblem(
            f"{name} has a value with more digits than {kind} keeps: {bad}",
            hint="declare it with more, or round it in a step",
        )
    return result.values


def arrow_type(kind: Type) -> pa.DataType:
    """What a column of a type is in Arrow and Parquet."""
    return pa.string() if kind.kind in (Kind.INTERVAL, Kind.NULL) else kind.arrow


_JSON_SIGNS = ByteSet(bytes(range(32)) + b'"\\\x7f')


def _jsonl(rows: Source, columns: Columns, take: Take, nested: Collection[str]) -> None:
    heads = [
        ("{" if not index else ", ") + json.dumps(name, ensure_ascii=False) + ": "
        for index, (name, _) in enumerate(columns)
    ]

    def lines(batch: Any) -> bytes:
        if not batch.count:
            return b""
        parts: list[Any] = []
        for index, (name, kind) in enumerate(columns):
            json_of = _nested_json if name in nested else partial(_json, kind=kind)
            parts += [pa.scalar(heads[index]), json_of(batch.columns[index])]
        _, data = body(pc.binary_join_element_wise(*parts, pa.scalar("}\n"), ""))
        return bytes(data.tobytes())

    for data in scan(rows, lines):
        take(data)


def _nested_json(texts: pa.Array) -> pa.Array:
    """Arrays and objects as JSON; a text that would not be read again as it is, in quotes."""
    written = [
        "null"
        if text is None
        else text
        if is_nested(text)
        else json.dumps(text, ensure_ascii=False)
        for text in texts.to_pylist()
    ]
    return pa.array(written, pa.string())


def _json(texts: pa.Array, kind: Type) -> pa.Array:
    """Values as JSON writes them: numbers with their digits, truth, texts in quotes."""
    if kind.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE, Kind.BOOLEAN):
        result = view(texts, kind)
        bare = valid(texts)
        if result.errors is not None:
            bare &= result.errors == 0
        if kind.kind is Kind.DOUBLE:
            bare &= pc.is_finite(pc.fill_null(result.values, float("nan"))).to_numpy(
                zero_copy_only=False
            )
        if kind.kind is Kind.BOOLEAN:
            texts = pc.coalesce(to_text(result.values, kind), texts)  # JSON has no TRUE
        else:
            # JSON has no .5, no +1 and no 01.
            bare &= pc.match_substring_regex(
                pc.fill_null(texts, "x"), r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$"
            ).to_numpy(zero_copy_only=False)
        quoted = [
            None if item is None else json.dumps(item, ensure_ascii=False)
            for item in texts.filter(to_arrow(~bare)).to_pylist()
        ]
        mixed = (
            pc.replace_with_mask(texts, to_arrow(~bare), pa.array(quoted, pa.string()))
            if quoted
            else texts
        )
        return pc.fill_null(mixed, "null")
    odd = rows_with(texts, _JSON_SIGNS)
    result = pc.binary_join_element_wise(pa.scalar('"'), texts, pa.scalar('"'), "")
    if odd.any():
        written = [
            None if item is None else json.dumps(item, ensure_ascii=False)
            for item in texts.filter(to_arrow(odd)).to_pylist()
        ]
        result = pc.replace_with_mask(result, to_arrow(odd), pa.array(written, pa.string()))
    return pc.fill_null(result, "null")
