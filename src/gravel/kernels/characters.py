"""White space as Unicode has it, and what counts as blank beside it."""

from __future__ import annotations

# White space is Unicode's White_Space; zero width characters count as blank beside it.
ZERO_WIDTH = "\u200b\u2060\ufeff"
SPACES = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000"
WHITE = f"[{SPACES}]"
BLANK = f"[{SPACES}{ZERO_WIDTH}]"
# The same characters one by one, for str.strip and utf8_trim.
BLANKS = SPACES.replace("\u2000-\u200a", "".join(map(chr, range(0x2000, 0x200B)))) + ZERO_WIDTH
ASCII_WHITE = b"\t\n\x0b\x0c\r "
