"""Records of a CSV text that is not well formed: found one by one, each either good or with its
fault.

The rule: a record ends at its line's end. One whose quote is never closed, or is closed only by
what looks like the opening quote of a later line, ends at the end of its own first line, so that
one bad quote costs one record.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

UNCLOSED = "a quote is not closed"
AFTER_QUOTE = "text after a closing quote"


class Record(NamedTuple):
    """A record's bytes are start:end, its line end included; `fault` is '' for one whose quotes are
    right."""

    start: int
    end: int
    fault: str


@lru_cache(maxsize=8)
def patterns(delimiter: bytes) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """(a whole record with its line end, one field)."""
    d = re.escape(delimiter)
    field = rb'(?:"[^"]*+(?:""[^"]*+)*+"|[^"' + d + rb"\r\n][^" + d + rb"\r\n]*+)?+"
    return re.compile(rb"(?:" + field + d + rb")*+" + field + rb"(?:\r\n|\n|\r|\Z)"), re.compile(
        field
    )


_LINE_END = re.compile(rb"\r\n|\n|\r|\Z")


def records(data: bytes, delimiter: bytes, last: bool) -> Iterator[Record]:
    """The records of `data`, which begins at a record's start.

    Unless `data` is the file's `last` part, a record that may go on beyond it is not given."""
    whole, _ = patterns(delimiter)
    index, size = 0, len(data)
    while index < size:
        match = whole.match(data, index)
        if match and (match.end() < size or last or data[match.end() - 1 : match.end()] == b"\n"):
            yield Record(index, match.end(), "")
            index = match.end()
            continue
        if match and not last:
            return
        result = _fault(data, index, delimiter, last)
        if result is None or (not last and result[1] >= size):
            return  # what follows decides
        yield Record(index, result[1], result[0])
        index = result[1]


def _line_end(data: bytes, index: int) -> int:
    match = _LINE_END.search(data, index)
    return match.end() if match else len(data)


def _fault(data: bytes, index: int, delimiter: bytes, last: bool) -> tuple[str, int] | None:
    """What is wrong with the record at `at`, and where it ends; None where only what follows the
    data decides: a quote that is not closed in it, or is closed by its last byte."""
    _, field = patterns(delimiter)
    start = index
    while True:
        match = field.match(data, index)
        end = match.end() if match else index
        if not last and data[index : index + 1] == b'"' and (end == index or end == len(data)):
            return None
        if data[index : index + 1] == b'"' and end == index:
            return UNCLOSED, _line_end(data, start)
        if data[end : end + 1] == delimiter:
            index = end + 1
            continue
        opens_later = b"\n" in data[index:end] or b"\r" in data[index:end]
        before = data[end - 2 : end - 1]
        if opens_later and before in (delimiter, b"\n", b"\r"):
            return UNCLOSED, _line_end(data, start)
        return AFTER_QUOTE, _line_end(data, end)


def count_fields(record: bytes, delimiter: bytes) -> int:
    """Fields of one record whose quotes are right."""
    _, field = patterns(delimiter)
    index, count = 0, 1
    while True:
        index = field.match(record, index).end()  # type: ignore[union-attr]
        if record[index : index + 1] != delimiter:
            return count
        index, count = index + 1, count + 1


def split_fields(record: bytes, delimiter: bytes) -> list[tuple[bytes, bool]]:
    """The fields of one record with right quotes: (content without quotes, whether it was
    quoted)."""
    _, field = patterns(delimiter)
    index, result = 0, []
    while True:
        raw = field.match(record, index).group()  # type: ignore[union-attr]
        quoted = raw.startswith(b'"')
        result.append((raw[1:-1].replace(b'""', b'"') if quoted else raw, quoted))
        index += len(raw)
        if record[index : index + 1] != delimiter:
            return result
        index += 1
