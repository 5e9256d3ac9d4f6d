"""A CSV file cut into pieces of whole records, each with its first row and line number.

A piece in which every quote stands where RFC 4180 allows it (an opening one after a delimiter or
line end, a closing one before one) is cut by counting quotes, at NumPy's speed. One that fails this
test is read record by record.
"""

from __future__ import annotations

import codecs
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gravel.kernels.records import scan_records
from gravel.problems import TableProblem
from gravel.sources.csv.dialect import count_byte, line_breaks, not_in_encoding, open_bytes
from gravel.sources.csv.records import UNCLOSED, Record, records
from gravel.sources.dialect import NO_QUOTE, Dialect

BLOCK = 4 * 1024 * 1024
_WIDE, _BYTES_A_COLUMN, _LARGEST = (
    500,
    16 * 1024,
    32 * 1024 * 1024,
)  # a wide table's columns need rows enough to be worth a kernel
FIELD_LIMIT = 64 * 1024 * 1024
EMPTY_LINE = "an empty line"
Take = Callable[[bytes], None]


class Piece(Struct, frozen=True):
    """Whole records. `data` holds those whose quotes are right, `records` counts all; `bad` lists
    (index, line, fault, text) of the others. `quoted` counts the quoted fields in data.
    `first_line` is that of the first record. `offset` is where the data begins in the file, or -1
    where it does not stand there as it is. `sound`: the data is known to be UTF-8; `blank`: it may
    have an empty line; `size`: the data's, where it was let go."""

    data: bytes
    first_row: int
    first_line: int
    records: int
    bad: tuple[tuple[int, int, str, str], ...] = ()
    quoted: int = 0
    offset: int = -1
    sound: bool = False
    blank: bool = True
    size: int = 0

    def outline(self) -> Piece:
        """The piece without its data, where that can be read again: `size` bytes."""
        if self.offset < 0 or self.size:
            return self
        return replace(self, data=b"", size=len(self.data))


def read_again(path: Path, name: str, piece: Piece) -> Piece:
    """A piece of which there was an outline only. Raises TableProblem."""
    with open_bytes(path, name) as file:
        file.seek(piece.offset)
        return replace(piece, data=_read(file, piece.size), size=0)


def cut(path: Path, name: str, dialect: Dialect, take: Take | None = None) -> Iterator[Piece]:
    """The file's pieces in order; `take` is given all bytes of the file as they are read. Raises
    TableProblem."""
    row, line, carry, delimiter = 1, 1 + dialect.lines, b"", dialect.delimiter.encode()
    offset = dialect.skip + dialect.body
    for block, last in _blocks(path, name, dialect, take):
        buffer = carry + block if carry else block
        while buffer:
            whole = _whole(buffer, delimiter, last)
            if whole.end == 0:
                if len(buffer) < FIELD_LIMIT or b'"' not in buffer:
                    break
                if _closes_later(path, name, dialect, offset, buffer):
                    raise TableProblem(
                        f"{name}: the quoted field in line {line:,} has more than"
                        f" {FIELD_LIMIT >> 20} MiB",
                        hint="no text is as long as that",
                    )
                whole = _first_unclosed(buffer)
            piece = _piece(buffer, whole, row, line, dialect)
            yield (
                replace(piece, offset=offset)
                if dialect.encoding == "utf-8" and dialect.swapped is None and not piece.bad
                else piece
            )
            offset += whole.end
            row += piece.records
            line += line_breaks(buffer[: whole.end]) if whole.lines is None else whole.lines
            buffer = buffer[whole.end :]
        carry = buffer


def count_lines(path: Path, name: str, dialect: Dialect, take: Take | None = None) -> int:
    """Line ends in the file's text (CRLF, LF or CR), one more if the last line has none. Raises
    TableProblem."""
    whole = replace(dialect, body=0)
    lines, ended, returned = 0, True, False
    for block, _ in _blocks(path, name, whole, take):
        if block:
            lines += line_breaks(block) - (returned and block.startswith(b"\n"))
            ended, returned = block.endswith((b"\n", b"\r")), block.endswith(b"\r")
    return lines + (not ended)


class _Whole(Struct, frozen=True):
    """The whole records at the start of a buffer: where they end, how many, quoted fields, lines if
    known; `found` lists them one by one where a quote is out of place. `sound`, `blank`: as in a
    Piece."""

    end: int
    records: int
    quoted: int = 0
    found: tuple[Record, ...] | None = None
    lines: int | None = None
    sound: bool = False
    blank: bool = True


def _closes_later(path: Path, name: str, dialect: Dialect, offset: int, buffer: bytes) -> bool:
    """Whether a field that is open at the end of a buffer is closed further on: the next quote of
    the file that is not an escaped one stands before a delimiter or a line end."""
    if dialect.encoding != "utf-8":
        # where the buffer ends in the file is not known; it is not read as many short records
        return True
    edges = (dialect.delimiter.encode(), b"\n", b"\r", b"")
    with open_bytes(path, name) as file:
        file.seek(offset + len(buffer))
        while block := _read(file, BLOCK):
            index = block.find(b'"')
            while index >= 0:
                if index + 1 == len(block):
                    block += _read(file, 1)
                if block[index + 1 : index + 2] != b'"':
                    return block[index + 1 : index + 2] in edges
                index = block.find(b'"', index + 2)
    return False


def _first_unclosed(buffer: bytes) -> _Whole:
    """A field that goes on beyond the limit: its quote counts as never closed."""
    end = next(
        record.end for record in records(buffer[: buffer.find(b"\n") + 1] or buffer, b"\0", True)
    )
    return _Whole(end, 1, 0, (Record(0, end, UNCLOSED),))


def _blocks(
    path: Path, name: str, dialect: Dialect, take: Take | None = None
) -> Iterator[tuple[bytes, bool]]:
    """The text after the header as UTF-8 blocks, and whether each is the last."""
    size = (
        BLOCK
        if len(dialect.columns) < _WIDE
        else max(BLOCK, min(len(dialect.columns) * _BYTES_A_COLUMN, _LARGEST))
    )
    decoder = (
        None if dialect.encoding == "utf-8" else codecs.getincrementaldecoder(dialect.encoding)()
    )
    with open_bytes(path, name) as file:
        mark = _read(file, dialect.skip)
        if take is not None:
            take(mark)
        header, lines, column = dialect.body, 1, 0
        while True:
            try:
                raw = _read(file, size)
            except OSError as error:
                raise TableProblem(
                    f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
                ) from None
            if take is not None:
                take(raw)
            last = len(raw) < size
            if decoder is not None:
                try:
                    text = decoder.decode(raw, last)
                except UnicodeDecodeError as error:
                    raise _undecodable(error, name, dialect.encoding, lines, column) from None
                except UnicodeError as error:
                    raise TableProblem(
                        f"{name} is not in {dialect.encoding.upper()}: {error}",
                        hint="--encoding names another",
                    ) from None
                raw = text.encode("utf-8", "surrogatepass")
                lines, column = (
                    lines + text.count("\n"),
                    len(text) - text.rfind("\n") - 1 if "\n" in text else column + len(text),
                )
            if dialect.swapped is not None:
                if dialect.quote == NO_QUOTE and NO_QUOTE.encode() in raw:
                    raise TableProblem(
                        f"{name} has the character NUL, and cannot be read without quotes",
                        hint="--quote and a sign that it does not have",
                    )
                raw = raw.translate(dialect.swapped)
            skipped = min(header, len(raw))
            header -= skipped
            yield raw[skipped:], last
            if last:
                return


def _undecodable(
    error: UnicodeDecodeError, name: str, encoding: str, lines: int, column: int
) -> TableProblem:
    before = error.object[: error.start].decode(encoding, "replace")
    line = lines + before.count("\n")
    index = len(before) - before.rfind("\n") if "\n" in before else column + len(before) + 1
    return not_in_encoding(name, (line, index), error.object, error.start, encoding)


def _read(file, size: int) -> bytes:  # type: ignore[no-untyped-def]
    """Exactly `size` bytes, fewer only at the end."""
    parts, left = [], size
    while left and (more := file.read(left)):
        parts.append(more)
        left -= len(more)
    return parts[0] if len(parts) == 1 else b"".join(parts)


def _whole(buffer: bytes, delimiter: bytes, last: bool) -> _Whole:
    """The whole records the buffer begins with, found by counting if every quote stands where it
    may."""
    scanned = scan_records(buffer, delimiter, last)
    if scanned is not None:
        end, count, quoted, lines, blank, sound = scanned
        return _Whole(end, count, quoted, lines=lines, sound=sound, blank=blank)
    plain = b"\r" not in buffer
    if plain and b'"' not in buffer:
        end = len(buffer) if last else buffer.rfind(b"\n") + 1
        lines = count_byte(buffer[:end], 10)
        return _Whole(end, lines + (end > 0 and buffer[end - 1] != 10), lines=lines)
    data = np.frombuffer(buffer, np.uint8)
    every = np.flatnonzero(data == 10) if plain else _line_ends(data, last)
    quotes = np.flatnonzero(data == 34)
    ends, quoted = every, 0
    if len(quotes):
        ends = every[(np.searchsorted(quotes, every) & 1) == 0]
    end = len(buffer) if last else int(ends[-1]) + 1 if len(ends) else 0
    if len(quotes):
        inside = quotes[: np.searchsorted(quotes, end)] if end else quotes
        placed, quoted = _well_placed(data, inside, delimiter)
        if not placed or (last and len(quotes) % 2):
            result = tuple(records(buffer, delimiter, last))
            return _Whole(result[-1].end if result else 0, len(result), 0, result)
    unfinished = last and not (len(ends) and ends[-1] == end - 1)
    return _Whole(end, len(ends) + unfinished, quoted, lines=int(np.searchsorted(every, end)))


def _line_ends(data: np.ndarray, last: bool) -> np.ndarray:
    """Positions of the last byte of each line end: LF, CRLF or CR; a CR at the very end may still
    be half of one."""
    feed = data == 10
    lone = data == 13
    if not lone.any():
        return np.flatnonzero(feed)
    lone[:-1] &= ~feed[1:]
    if not last:
        lone[-1] = False
    return np.flatnonzero(feed | lone)


def _well_placed(data: np.ndarray, quotes: np.ndarray, delimiter: bytes) -> tuple[bool, int]:
    """Whether every quote stands where it may, and how many of them open a field."""
    opening, closing = quotes[0::2], quotes[1::2]
    edge = np.zeros(256, bool)
    edge[[10, 13, delimiter[0]]] = True
    before = edge[data[opening - 1]] | (opening == 0)
    escaped = np.zeros(len(opening), bool)
    escaped[1:] = opening[1:] == closing[: len(opening) - 1] + 1
    if not (before | escaped).all():
        return False, 0
    inside = closing[closing < len(data) - 1]
    after = edge[data[inside + 1]] | (data[inside + 1] == 34)
    # Two quotes in a row inside a field are one escaped quote: then the next opening one is the
    # second of the pair.
    return bool(after.all()), int(np.count_nonzero(~escaped))


def _piece(buffer: bytes, whole: _Whole, row: int, line: int, dialect: Dialect) -> Piece:
    if whole.found is None:
        return Piece(
            buffer[: whole.end],
            row,
            line,
            whole.records,
            quoted=whole.quoted,
            sound=whole.sound,
            blank=whole.blank,
        )
    good, bad, at_line = [], [], line
    for index, record in enumerate(whole.found):
        raw = buffer[record.start : record.end]
        fault = record.fault or (
            EMPTY_LINE if len(dialect.columns) > 1 and not raw.strip(b"\r\n") else ""
        )
        if fault:
            bad.append((index, at_line, fault, raw.rstrip(b"\r\n").decode("utf-8", "replace")))
        else:
            # A lone CR would become half of CRLF before a record that begins with LF.
            good.append(raw[:-1] + b"\n" if raw.endswith(b"\r") else raw)
        at_line += line_breaks(raw)
    return Piece(b"".join(good), row, line, whole.records, tuple(bad))
