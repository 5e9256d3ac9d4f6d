"""How one CSV file is written: encoding, delimiter, header, line ends. Found from its first lines
or given."""

from __future__ import annotations

import codecs
from pathlib import Path

import numpy as np

from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sources.csv.records import count_fields, records, split_fields
from gravel.sources.dialect import Dialect

DELIMITERS = (",", ";", "\t", "|")
_LOOK = 256 * 1024
BOMS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def find(path: Path, name: str, delimiter: str | None, encoding: str | None) -> Dialect:
    """Look at the file's first lines. Raises TableProblem."""
    encoding, skip = _encoding(path, name, encoding)
    size = _LOOK
    while True:
        head, whole = _head(path, name, encoding, skip, size)
        if whole or b"\n" in head or b"\r" in head or size > 2**26:
            break
        size *= 4
    if not head.strip(b"\r\n"):
        raise TableProblem(
            f"{name} has no header line",
            hint="the first line names the columns" if head else "the file is empty",
        )
    if delimiter is not None and (
        len(delimiter) != 1 or not delimiter.isascii() or delimiter in '"\r\n\0'
    ):
        raise CallProblem(
            f"{delimiter!r} is not a delimiter: one ASCII character, no quote and no line end",
            hint="--delimiter ';', or tab",
        )
    sign = delimiter or _delimiter(head, whole)
    first = next(records(head, sign.encode(), whole or size > 2**26), None)
    if first is None and not whole:
        raise TableProblem(
            f"{name}:1: the header line is not closed",
            hint="a quote in it is opened and not closed",
        )
    if first is None or first.fault:
        raise TableProblem(
            f"{name}:1: the header line is malformed:"
            f" {first.fault if first else 'it is not closed'}"
        )
    record = head[first.start : first.end]
    columns = tuple(_decode(field, name) for field, _ in split_fields(record, sign.encode()))
    _refuse_unusable(columns, name, sign)
    end = "\r\n" if record.endswith(b"\r\n") else "\r" if record.endswith(b"\r") else "\n"
    lines = line_breaks(record) + (0 if record.endswith((b"\n", b"\r")) else 1)
    return Dialect(sign, encoding, columns, first.end, lines, skip, end)


def line_breaks(data: bytes) -> int:
    """Line ends in the bytes: CRLF, LF and CR count one each."""
    if b"\r" not in data:
        return count_byte(data, 10)
    return data.count(b"\n") + data.count(b"\r") - data.count(b"\r\n")


def count_byte(data: bytes, byte: int) -> int:
    """How often a byte stands in the data; over large data NumPy counts several times faster than
    bytes.count."""
    if len(data) < 4096:
        return data.count(bytes([byte]))
    return int(np.count_nonzero(np.frombuffer(data, np.uint8) == byte))


def _encoding(path: Path, name: str, encoding: str | None) -> tuple[str, int]:
    with open_bytes(path, name) as file:
        start = file.read(4)
    if encoding is None:
        bom = next(((len(mark), codec) for mark, codec in BOMS if start.startswith(mark)), None)
        return ("utf-8", 3) if bom == (3, "utf-8") else (bom[1] if bom else "utf-8", 0)
    try:
        codec = codecs.lookup(encoding)
        # Encodings of names (idna, punycode) and of nothing (undefined) are none of texts.
        if not getattr(codec, "_is_text_encoding", True) or codec.name in (
            "idna",
            "punycode",
            "undefined",
        ):
            raise LookupError
    except LookupError:
        raise TableProblem(
            f"there is no encoding {encoding}", hint="for example utf-8, latin-1, cp1252, utf-16"
        ) from None
    plain = codec.name in ("utf-8", "utf-8-sig")
    return ("utf-8", 3 if start.startswith(codecs.BOM_UTF8) else 0) if plain else (codec.name, 0)


def open_bytes(path: Path, name: str):  # type: ignore[no-untyped-def]
    """The file, opened for reading bytes. Raises TableProblem where it cannot be."""
    try:
        if path.is_dir():
            raise TableProblem(f"{name} is a folder", hint=_inside(path))
        return open(path, "rb", buffering=0)
    except FileNotFoundError:
        near = _like(path)
        raise TableProblem(
            f"there is no file {name}", hint=f"did you mean {near}?" if near else ""
        ) from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None


def _inside(path: Path) -> str:
    result = sorted(child.name for child in path.iterdir() if child.suffix == ".csv")[:5]
    return (
        "name a file in it: " + ", ".join(str(path / name) for name in result)
        if result
        else "name a file in it"
    )


def _like(path: Path) -> str:
    try:
        stems = {child.stem: child.name for child in path.parent.iterdir() if child.is_file()}
        near = stems.get(nearest(path.stem, list(stems)), "")
    except OSError:
        return ""
    return str(path.parent / near) if near else ""


def _head(path: Path, name: str, encoding: str, skip: int, size: int) -> tuple[bytes, bool]:
    with open_bytes(path, name) as file:
        file.seek(skip)
        raw = b""
        while len(raw) < size and (more := file.read(size - len(raw))):
            raw += more
        whole = not file.read(1)
    if encoding == "utf-8":
        return raw, whole
    try:
        return (
            codecs.getincrementaldecoder(encoding)("replace")
            .decode(raw, whole)
            .encode("utf-8", "replace"),
            whole,
        )
    except UnicodeError as error:
        raise TableProblem(
            f"{name} is not in {encoding.upper()}: {error}", hint="--encoding names another"
        ) from None


def _delimiter(head: bytes, whole: bool) -> str:
    """The sign that cuts the header into several fields and most of the first records into as many;
    ties: the most."""
    best, score = ",", (0.0, 0)
    for sign in DELIMITERS:
        counts = []
        for record in records(head, sign.encode(), whole):
            counts.append(
                0 if record.fault else count_fields(head[record.start : record.end], sign.encode())
            )
            if len(counts) == 200:
                break
        if counts and counts[0] > 1:
            alike = sum(count == counts[0] for count in counts) / len(counts)
            if (round(alike, 1), counts[0]) > score:
                best, score = sign, (round(alike, 1), counts[0])
    return best


def _decode(field: bytes, name: str) -> str:
    try:
        return field.decode("utf-8")
    except UnicodeDecodeError as error:
        column = len(field[: error.start].decode("utf-8", "replace")) + 1
        raise not_in_encoding(name, 1, column, field[error.start], "utf-8") from None


def not_in_encoding(name: str, line: int, column: int, byte: int, encoding: str) -> TableProblem:
    """The problem of a byte that is not a character."""
    return TableProblem(
        f"{name}:{line}:{column}: byte 0x{byte:02X} is not valid in {encoding.upper()}",
        detail=f"line {line}, column {column}",
        hint=(
            "name the file's encoding: --encoding cp1252, latin-1, …"
            if encoding == "utf-8"
            else f"is it {encoding}? --encoding names another"
        ),
    )


def _refuse_unusable(columns: tuple[str, ...], name: str, sign: str) -> None:
    empty = [str(position) for position, column in enumerate(columns, 1) if not column.strip()]
    if empty:
        subset = f"column {empty[0]} has" if len(empty) == 1 else f"columns {', '.join(empty)} have"
        raise TableProblem(
            f"{name}:1: {subset} no name in the header", hint="every column needs a name of its own"
        )
    repeated = sorted(
        {column for column in columns if columns.count(column) > 1}, key=columns.index
    )
    if repeated:
        where = [
            str(position) for position, column in enumerate(columns, 1) if column == repeated[0]
        ]
        others = f" (and {len(repeated) - 1} more)" if len(repeated) > 1 else ""
        raise TableProblem(
            f'{name}:1: "{repeated[0]}" is the name of columns {", ".join(where)}{others}',
            hint="every column needs a name of its own",
        )
