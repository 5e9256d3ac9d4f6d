"""Commands to type next, as text for a shell."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Sequence
from typing import Any

from msgspec.structs import replace


def shell_word(text: str) -> str:
    """A word of a command line as one would type it; a POSIX shell reads it back as it was."""
    if re.fullmatch(r"[\w@%+=:,./-]+", text):
        return text
    # Within double quotes a shell would obey these, whatever stands before them.
    if re.search(r"[$`!]", text):
        return shlex.quote(text)
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def table_words(table: Any) -> list[str]:
    """A table's name and the options it was read with."""
    words = ["-" if table.name == "standard input" else table.name]
    return words + replace(table.reading, texts=tuple(table.texts)).words()


def chosen_words(table: Any) -> list[str]:
    """The option that chooses the same rows of a table, if not all of them were looked at."""
    if table.chosen is None:
        return []
    return ["--where", table.chosen.condition, *_parameter_words(table)]


def _parameter_words(table: Any) -> list[str]:
    return [word for text in table.parameters for word in ("--param", text)]


def command(words: Sequence[str]) -> str:
    """Words as one line for a shell."""
    return " ".join(shell_word(word) for word in words)


def look_command(table: Any, where: str) -> str:
    """The command that shows the rows for which a condition is true."""
    name, *options = table_words(table)
    if table.chosen is not None:
        where = f"({table.chosen.condition}) AND ({where})"
        options = [*_parameter_words(table), *options]
    return command(["gravel", "look", name, "--where", where, *options])


def see_command(table: Any, where: str, finding: str) -> str:
    """The command that shows the rows of a finding, '' if none does: those of a condition, or
    groups of equal rows."""
    if finding == "duplicate rows":
        name, *options = table_words(table)
        return command(["gravel", "duplicates", name, *chosen_words(table), *options])
    return look_command(table, where) if where else ""


def finding_command(verb: str, table: Any, number: int) -> str:
    """The command that shows (look) or tries (try) a finding by its number in the profile."""
    name, *options = table_words(table)
    return command(["gravel", verb, name, "--finding", str(number), *options])


def drop_step(where: str) -> str:
    """The line of a plan (TOML) that drops the rows for which a condition is true."""
    return f"drop_rows = {json.dumps(where, ensure_ascii=False)}"


def suggest_command(table: Any, number: int) -> str:
    """The command that begins a plan with what fixes a finding, by its number in the profile."""
    name, *options = table_words(table)
    return command(
        ["gravel", "profile", name, "--suggest", "plan.toml", "--choose", str(number), *options]
    )


def try_command(table: Any, assignment: str) -> str:
    """The command that tries an assignment."""
    name, *options = table_words(table)
    return command(["gravel", "try", name, assignment, *options])
