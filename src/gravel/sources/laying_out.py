"""Texts that are written anew as delimited text before they are read: without lines of comment, or
with commas between fields that stand in columns."""

from __future__ import annotations

import codecs
import csv
import io
import os
import re
from collections.abc import Iterator
from pathlib import Path

from gravel.problems import TableProblem
from gravel.sources.read_options import ReadOptions
from gravel.sources.temporary import temporary_file

_BLOCK = 1 << 20


def laid_out(path: Path, name: str, reading: ReadOptions) -> tuple[Path, int]:
    """A temporary file in UTF-8 with the text's rows, and how many lines of comment were left out.
    Raises TableProblem."""
    handle, result = temporary_file(".csv")
    dropped = 0
    try:
        with os.fdopen(handle, "w", encoding="utf-8", newline="") as sink:
            inside = False
            for line in _lines(path, name, reading.encoding):
                if reading.comment and not inside and line.startswith(reading.comment):
                    dropped += 1
                    continue
                if reading.starts or reading.delimiter == "space":
                    sink.write(_delimited(line, reading.starts))
                    continue
                inside ^= line.count(reading.quote) % 2 == 1
                sink.write(line)
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    return result, dropped


def _lines(path: Path, name: str, encoding: str | None) -> Iterator[str]:
    """The text's lines with their ends: CRLF, LF or CR."""
    with open(path, "rb") as file:
        start = file.read(4)
    known = "utf-8-sig" if start.startswith(codecs.BOM_UTF8) else None
    if start.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        known = "utf-16"
    try:
        with open(path, encoding=encoding or known or "utf-8", newline="") as file:
            yield from file
    except UnicodeDecodeError as error:
        raise TableProblem(
            f"{name}: byte 0x{error.object[error.start]:02X} is not valid in"
            f" {(encoding or 'utf-8').upper()}",
            hint="name the file's encoding: --encoding cp1252, latin-1, …",
        ) from None
    except LookupError:
        raise TableProblem(f"there is no encoding {encoding}") from None


def _delimited(line: str, starts: tuple[int, ...]) -> str:
    """A line's fields with commas between: those that begin at some places, or runs without
    blanks."""
    text = line.rstrip("\r\n")
    if not text.strip():
        return line
    if starts:
        edges = [start - 1 for start in starts]
        fields = [text[a:b].strip() for a, b in zip(edges, [*edges[1:], len(text)], strict=True)]
    else:
        fields = [
            piece[1:-1].replace('""', '"') if piece.startswith('"') else piece
            for piece in re.findall(r'"(?:[^"]|"")*"|\S+', text)
        ]
    written = io.StringIO()
    csv.writer(written, lineterminator=line[len(text) :] or "\n").writerow(fields)
    return written.getvalue()
