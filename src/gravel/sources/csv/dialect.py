"""How one CSV file is written: encoding, delimiter, header, line ends. Found from its first lines
or given."""

from __future__ import annotations

import codecs
import re
from itertools import islice
from pathlib import Path

import numpy as np

from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sources.csv.encodings import readings
from gravel.sources.csv.records import Record, count_fields, records, split_fields
from gravel.sources.dialect import Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.sniffing import (
    begins_later,
    blank_separated,
    looks_like_a_row,
    null_markers,
    preamble,
    refuse_other_format,
    refuse_other_text,
    some_of,
    title_rows,
    usable_names,
)

DELIMITERS = (",", ";", "\t", "|")
_LOOK = 256 * 1024
_WORD = 64  # bytes before one that is not valid
_COMMENTS = "#%!"
_SAMPLE = 200  # records that the header is judged by
_LINE = re.compile(rb"[^\r\n]*(?:\r\n|\n|\r|\Z)")
BOMS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def find(path: Path, name: str, reading: ReadOptions) -> Dialect:
    """Look at the file's first lines. Raises TableProblem."""
    encoding, skip = _encoding(path, name, reading.encoding)
    size = _LOOK
    while True:
        head, whole = _head(path, name, encoding, skip, size)
        if whole or b"\n" in head or b"\r" in head or size > 2**26:
            break
        size *= 4
    whole = whole or size > 2**26
    sign, notes = reading.delimiter, []
    before = _line_ends(head, reading.skip, name)
    if reading.skip == 0 and (stated := re.match(rb"sep=([^\w\s\"]|\t)\r?\n", head, re.IGNORECASE)):
        before = stated.end()
        if sign is None:
            sign = stated[1].decode()
            notes.append(f"the first line, sep={sign}, names the delimiter and is no row")
    if not head[before:].strip(b"\r\n"):
        raise TableProblem(
            f"{name} has no header line",
            hint="the first line names the columns" if head else "the file is empty",
        )
    if reading.delimiter is None and reading.encoding is None and not reading.own:
        refuse_other_text(head[:4096].decode("utf-8", "replace"), name)
    if sign is not None and (len(sign) != 1 or not sign.isascii() or sign in '"\r\n\0'):
        raise CallProblem(
            f"{sign!r} is not a delimiter: one ASCII character, no quote and no line end",
            hint="--delimiter ';', or tab",
        )
    if reading.quote != '"':
        swapped = Dialect(",", "", (), 0, 0, 0, "", reading.quote).swapped
        head = head.translate(swapped)
    if sign is None:
        sign = _delimiter(head[before:], whole)
    return _with_header(head, whole, before, name, reading, (sign, encoding, skip, notes))


def _with_header(
    head: bytes,
    whole: bool,
    before: int,
    name: str,
    reading: ReadOptions,
    settled: tuple[str, str, int, list[str]],
) -> Dialect:
    """The dialect with the names of the header, where it has one. Raises TableProblem."""
    sign, encoding, skip, notes = settled
    delimiter = sign.encode()
    start = before + _line_ends(head[before:], max(0, (reading.header or 1) - 1), name)
    sample = list(islice(records(head[start:], delimiter, whole), _SAMPLE))
    first = sample[0] if sample else None
    line = line_breaks(head[:start]) + 1
    if first is None and not whole:
        raise TableProblem(
            f"{name}:{line}: the header line is not closed",
            hint="a quote in it is opened and not closed",
        )
    if first is None or first.fault:
        raise TableProblem(
            f"{name}:{line}: the header line is malformed:"
            f" {first.fault if first else 'it is not closed'}",
            hint="fields that stand apart by blanks: --delimiter space"
            if blank_separated(head[start:].decode("utf-8", "replace").splitlines()[:50], 2)
            else "",
        )
    record = head[start + first.start : start + first.end]
    fields = [_decode(item, name) for item, _ in split_fields(record, delimiter)]
    others = _fields(head[start:], sample[1:], delimiter)
    if reading.header is None and not reading.own:
        _refuse_doubtful_header(head[start:], sample, fields, others, name, reading, delimiter)
    if reading.header == 0:
        columns = tuple(f"c{place}" for place in range(1, len(fields) + 1))
        body, lines = start, line - 1
    else:
        columns, more = (tuple(fields), []) if reading.own else usable_names(fields)
        notes += more
        body = start + first.end
        lines = line_breaks(head[:body]) + (0 if record.endswith((b"\n", b"\r")) else 1)
    notes += (
        []
        if reading.own
        else [
            f"{word} stands {count} times in the first rows of {_told(marked)}: --null {word} is"
            " NULL"
            for word, (count, marked) in null_markers(columns, others).items()
            if word not in reading.nulls
        ]
    )
    if reading.quote == '"' and any(
        item[:1] == "'" and item[-1:] != "'" for row in others for item in row
    ):
        notes.append("fields seem to stand between ' signs: --quote \"'\" reads them so")
    end = "\r\n" if record.endswith(b"\r\n") else "\r" if record.endswith(b"\r") else "\n"
    return Dialect(sign, encoding, columns, body, lines, skip, end, reading.quote, tuple(notes))


def _told(columns: list[str]) -> str:
    return columns[0] if len(columns) == 1 else f"{len(columns):,} columns ({some_of(columns)})"


def _refuse_doubtful_header(
    head: bytes,
    sample: list[Record],
    fields: list[str],
    others: list[list[str]],
    name: str,
    reading: ReadOptions,
    delimiter: bytes,
) -> None:
    """Raises TableProblem where what would be the header is no part of the table, or a row of it:
    a count would be wrong."""
    counts = [
        0 if item.fault else count_fields(head[item.start : item.end], delimiter) for item in sample
    ]
    lines = preamble(counts)
    if lines:
        skip = line_breaks(head[: sample[lines].start]) + reading.skip
        begin = fields[0].lstrip()[:1]
        if lines == 1 and counts[0] == counts[1] - 1 > 0 and begin not in _COMMENTS:
            raise TableProblem(
                f"{name}: the header has {counts[0]} names, and the rows have {counts[1]} fields",
                hint="--header none --skip 1 names the columns c1, c2, …; --header 1 takes the rows"
                " for malformed",
            )
        if begin in _COMMENTS:
            raise TableProblem(
                f"{name}: the first line is a comment, not the names",
                hint=f"--comment '{begin}' leaves such lines out, --header 1 reads it as the names",
            )
        raise begins_later(name, "line", skip)
    if title := title_rows(fields, others):
        names = [item for item in sample[1:] if not item.fault][title - 1]
        skip = line_breaks(head[: names.start]) + reading.skip
        raise begins_later(name, "line", skip)
    texts = [fields[0], *(other[0] for other in others if len(other) == 1)]
    if len(fields) == 1 and reading.delimiter is None and (sign := blank_separated(texts)):
        raise TableProblem(
            f"{name}: the fields of its lines stand apart by blanks",
            hint=f"--delimiter {sign} reads them as columns, --delimiter , as one",
        )
    if looks_like_a_row(fields, others):
        raise TableProblem(
            f"{name}: the first line looks like a row, not like names: {', '.join(fields)[:60]}",
            hint="--header none reads it as a row, --header 1 as names",
        )


def _fields(head: bytes, sample: list[Record], delimiter: bytes) -> list[list[str]]:
    """The fields of some records, as texts."""
    return [
        [
            field.decode("utf-8", "replace")
            for field, _ in split_fields(head[item.start : item.end], delimiter)
        ]
        for item in sample
        if not item.fault
    ]


def _line_ends(head: bytes, lines: int, name: str) -> int:
    """Where some lines of a text end. Raises TableProblem where it has fewer."""
    end = 0
    for _ in range(lines):
        match = _LINE.match(head, end)
        if match is None or match.end() == end:
            raise TableProblem(f"{name} has fewer than {lines} lines to leave out")
        end = match.end()
    return end


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
        start = file.read(512)
    if encoding is None:
        bom = next(((len(mark), codec) for mark, codec in BOMS if start.startswith(mark)), None)
        if bom is None:
            refuse_other_format(start, name)
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
        return open(path, "rb", buffering=0)
    except FileNotFoundError:
        raise no_file(path, name) from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None


def no_file(path: Path, name: str) -> TableProblem:
    """That a file is not there, with the one that may be meant."""
    near = _like(path, name)
    return TableProblem(f"there is no file {name}", hint=f"did you mean {near}?" if near else "")


def _like(path: Path, name: str) -> str:
    """The file whose name is most like one that is not there, of the same kind if there is one, as
    that was written; '' where none is."""
    try:
        files = [child for child in path.parent.iterdir() if child.is_file()]
    except OSError:
        return ""
    stem = nearest(path.stem, [child.stem for child in files])
    names = [child.name for child in files if child.stem == stem]
    names.sort(key=lambda item: (not item.endswith(path.suffix), item))
    return str(Path(name).parent / names[0]) if names else ""


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
        raise not_in_encoding(name, (1, column), field, error.start, "utf-8") from None


def not_in_encoding(
    name: str, place: tuple[int, int], data: bytes, start: int, encoding: str
) -> TableProblem:
    """The problem of a byte of the data that is not a character, at a line and column of a file;
    its hint says how the data would read in other encodings."""
    line, column = place
    hint = f"is it {encoding}? --encoding names another"
    known = sum(byte >= 0xC0 for byte in data[:start])
    if encoding == "utf-8" and known > 1:
        hint = (
            f"{known:,} characters before it are UTF-8, which --encoding cp1252 would read"
            " otherwise: correct this byte"
        )
    elif encoding == "utf-8":
        hint = "; or ".join(
            f"--encoding {other}, which reads {word}"
            for other, word in readings(data[max(0, start - _WORD) : start + _LOOK])[:3]
        )
    return TableProblem(
        f"{name}:{line}:{column}: byte 0x{data[start]:02X} is not valid in {encoding.upper()}",
        detail=f"line {line}, column {column}",
        hint=hint or "name the file's encoding: --encoding cp1252, latin-1, …",
    )
