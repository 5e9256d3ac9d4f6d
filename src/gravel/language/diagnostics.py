"""A mistake in an expression, told with its place: the line, a caret under it, a hint."""

from __future__ import annotations

import unicodedata
from typing import Any

from gravel.problems import CallProblem


class Diagnostic(CallProblem):
    """A mistake in SQL text. `start` and `end` are character offsets into `text`.

    `locate` says where the text itself stands (a plan's file and line); until then the excerpt
    stands alone.
    """

    def __init__(
        self, message: str, text: str, start: int, end: int, *, detail: str = "", hint: str = ""
    ) -> None:
        super().__init__(message, detail=detail, hint=hint)
        self.text, self.start, self.end = text, start, max(end, start + 1)
        self.place = excerpt(text, self.start, self.end)
        # The bound expression that a cast would fix, and the cast's target: where a table is at
        # hand, its mismatches are counted.
        self.fix: tuple[Any, Any] | None = None

    def locate(self, file: str, first_line: int) -> Diagnostic:
        """The same diagnostic with the file and line in which its text begins."""
        line = first_line + self.text.count("\n", 0, self.start)
        self.place = f"{file}:{line}\n{excerpt(self.text, self.start, self.end, numbered=False)}"
        return self


def excerpt(text: str, start: int, end: int, numbered: bool = True) -> str:
    """The line of `text` that holds `start`, and carets under start to end; tabs and wide
    characters keep in step."""
    begin = text.rfind("\n", 0, start) + 1
    stop = text.find("\n", start)
    line = text[begin : stop if stop >= 0 else len(text)]
    lead, marked = line[: start - begin], line[start - begin : end - begin]
    if len(line) > 160:
        cut = max(0, len(lead) - 60)
        line = ("…" if cut else "") + line[cut : cut + 140] + "…"
        lead = ("…" if cut else "") + lead[cut:]
        marked = marked[: max(1, 100 - len(lead))]
    pad = "".join("\t" if char == "\t" else " " * cells(char) for char in lead)
    prefix = f"line {text.count(chr(10), 0, start) + 1}: " if numbered and "\n" in text else ""
    signs = "^" * max(1, sum(map(cells, marked)))
    return f"{prefix}{printable(line)}\n{' ' * len(prefix)}{pad}{signs}"


def cells(char: str) -> int:
    """Terminal columns a character takes: 0 for marks, 2 for wide ones, else 1."""
    if unicodedata.combining(char) or unicodedata.category(char) in ("Mn", "Me", "Cf"):
        return 0
    return 2 if unicodedata.east_asian_width(char) in "WF" else 1


def printable(text: str) -> str:
    """The text without what a terminal would obey."""
    return "".join(
        char if char == "\t" or char.isprintable() or cells(char) == 0 else "·" for char in text
    )
