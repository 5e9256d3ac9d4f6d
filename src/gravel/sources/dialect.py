"""How rows are written as delimited text (RFC 4180 with another delimiter, encoding or line
end)."""

from __future__ import annotations

from msgspec import Struct

NO_QUOTE = "\0"  # the sign around fields where every quote is a character like others


class Dialect(Struct, frozen=True):
    """`body` is the byte offset of the first record after the header in the UTF-8 text (a BOM
    apart), `lines` the lines that the header takes, `skip` the bytes of a BOM."""

    delimiter: str
    encoding: str
    columns: tuple[str, ...]
    body: int
    lines: int
    skip: int
    line_end: str
    quote: str = '"'
    notes: tuple[str, ...] = ()  # what was seen in its first lines

    @property
    def swapped(self) -> bytes | None:
        """What takes the place of each byte where fields stand within another sign: it and the
        double quote change places, and back."""
        if self.quote == '"':
            return None
        return bytes.maketrans(b'"' + self.quote.encode(), self.quote.encode() + b'"')

    def as_written(self, text: str) -> str:
        """A text in which they have changed places, as it stands in the file."""
        if self.quote == '"':
            return text
        return text.translate(str.maketrans(f'"{self.quote}', f'{self.quote}"'))
