"""How rows are written as delimited text (RFC 4180 with another delimiter, encoding or line
end)."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Dialect:
    """`body` is the byte offset of the first record after the header in the UTF-8 text (a BOM
    apart), `lines` the lines that the header takes, `skip` the bytes of a BOM."""

    delimiter: str
    encoding: str
    columns: tuple[str, ...]
    body: int
    lines: int
    skip: int
    line_end: str
