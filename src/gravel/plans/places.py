"""Where in a TOML text each key's value stands, so that a mistake in a plan is told with its line.

The TOML libraries parse but keep no places; this reads only keys, tables and the bounds of values.
"""

from __future__ import annotations

import re
from typing import NamedTuple

Path = tuple[str | int, ...]
_WORD = r"""(?:"(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_\-]+)"""
_KEY = re.compile(rf"[ \t]*({_WORD}(?:[ \t]*\.[ \t]*{_WORD})*)[ \t]*=[ \t]*")
_PART = re.compile(_WORD)
_HEADER = re.compile(r"[ \t]*(\[\[?)[ \t]*(.+?)[ \t]*\]\]?[ \t]*(?:#.*)?$", re.M)
_STRING = re.compile(
    r'"""(?:[^\\]|\\.)*?"""|\'\'\'.*?\'\'\'|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'', re.S
)


class Place(NamedTuple):
    """The line (from 1) of a value, that of a text's first character inside it, and of its key."""

    line: int
    text_line: int


def places(text: str) -> dict[Path, Place]:
    """The place of every value by its path, `("step", 0, "set", "name")`; of tables that of their
    header."""
    return _Reader(text).read()


class _Reader:
    def __init__(self, text: str) -> None:
        self.text, self.at, self.found = text, 0, {}  # type: tuple[str, int, dict[Path, Place]]
        self.counts: dict[Path, int] = {}

    def read(self) -> dict[Path, Place]:
        table: Path = ()
        while self.at < len(self.text):
            line_end = self.text.find("\n", self.at)
            line_end = len(self.text) if line_end < 0 else line_end
            line = self.text[self.at : line_end]
            header = _HEADER.match(line)
            if header and not _KEY.match(line):
                table = self.table(self.keys(header[2]), header[1] == "[[")
                self.found[table] = self.place(self.at)
                self.at = line_end + 1
            elif key := _KEY.match(self.text, self.at):
                self.at = key.end()
                self.value((*table, *self.keys(key[1])))
                rest = self.text.find("\n", self.at)
                self.at = len(self.text) if rest < 0 else rest + 1
            else:
                self.at = line_end + 1
        return self.found

    def table(self, keys: Path, array: bool) -> Path:
        """The full path of a header, in which an array of tables has the number of its latest
        table."""
        path: Path = ()
        for position, key in enumerate(keys):
            path = (*path, key)
            if array and position == len(keys) - 1:
                self.counts[path] = self.counts.get(path, -1) + 1
                path = (*path, self.counts[path])
            elif path in self.counts:
                path = (*path, self.counts[path])
        return path

    def keys(self, text: str) -> Path:
        parts = _PART.findall(text)
        return tuple(part[1:-1] if part[0] in "\"'" else part for part in parts)

    def place(self, index: int) -> Place:
        line = self.text.count("\n", 0, index) + 1
        opened = self.text[index : index + 3]
        # The first line break after an opening triple quote is no part of the text.
        inside = (
            line + (self.text[index + 3 : index + 4] == "\n") if opened in ('"""', "'''") else line
        )
        return Place(line, inside)

    def value(self, path: Path) -> None:
        self.found[path] = self.place(self.at)
        char = self.text[self.at : self.at + 1]
        if char == "{":
            self.at += 1
            self.inside(path, "}")
        elif char == "[":
            self.at += 1
            self.inside(path, "]")
        elif string := _STRING.match(self.text, self.at):
            self.at = string.end()
        else:
            plain = re.compile(r"[^,\]}\n#]*").match(self.text, self.at)
            self.at = plain.end() if plain else self.at + 1

    def inside(self, path: Path, end: str) -> None:
        """The items of an inline table or array, up to its end."""
        number = 0
        while self.at < len(self.text):
            skip = re.compile(r"(?:[\s,]|#[^\n]*)*").match(self.text, self.at)
            self.at = skip.end() if skip else self.at
            if self.text[self.at : self.at + 1] == end:
                self.at += 1
                return
            before = self.at
            key = _KEY.match(self.text, self.at) if end == "}" else None
            if key:
                self.at = key.end()
                self.value((*path, *self.keys(key[1])))
            else:
                self.value((*path, number))
                number += 1
            if self.at == before:
                self.at += 1
