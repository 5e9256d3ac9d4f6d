"""The findings of the last profile of a table, kept so that other commands can name one by its
number.

They are in `$XDG_CACHE_HOME/gravel` (`~/.cache/gravel`), a file for each table and its reading
options that only its user can read, beside the checksums of the files they were found in: where one
of them has changed, the table is profiled anew.
"""

from __future__ import annotations

import hashlib
import json
import os
from contextlib import suppress
from dataclasses import asdict, fields
from datetime import date
from pathlib import Path
from typing import Any

from msgspec import Struct

from gravel.problems import CallProblem
from gravel.profiling.result import Finding, Profile
from gravel.sinks.atomic_file import sha256_of
from gravel.sources.source import Source
from gravel.version import __version__


class Numbered(Struct, frozen=True):
    """A finding by its number in the profile, and how many findings there are."""

    number: int
    of: int
    finding: Finding


def keep(table: Source, profile: Profile, today: date) -> None:
    """Keep the findings of a whole profile; where no file can be written they are found anew when
    asked for."""
    checksums = _checksums(table)
    if profile.sample is not None or checksums is None:
        return
    path = _path(table)
    kept = {
        "today": str(today),
        "files": checksums,
        "findings": [asdict(finding) for finding in profile.findings],
    }
    with suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        written = path.with_suffix(f".{os.getpid()}")
        with os.fdopen(
            os.open(
                written, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o600
            ),
            "w",
            encoding="utf-8",
        ) as sink:
            sink.write(json.dumps(kept))
        written.replace(path)


def finding(table: Source, number: int, today: date) -> Numbered:
    """A finding by its number: of the profile that was kept, of a new one where the table has
    changed since or none was. Raises CallProblem where there is none of that number,
    TableProblem."""
    result = _kept(table, today)
    if result is None:
        from gravel.profiling.profile import profile

        output = profile(table, today=today)
        keep(table, output, today)
        result = output.findings
    if not 1 <= number <= len(result):
        count = "1 finding" if len(result) == 1 else f"{len(result)} findings"
        raise CallProblem(
            f"there is no finding {number} of {table.name}",
            hint=f"its profile has {count}: gravel profile lists them",
        )
    return Numbered(number, len(result), result[number - 1])


def _kept(table: Source, today: date) -> tuple[Finding, ...] | None:
    try:
        held: dict[str, Any] = json.loads(_path(table).read_text("utf-8"))
        if held["today"] != str(today) or held["files"] != _checksums(table):
            return None
        names = {field.name for field in fields(Finding)}
        return tuple(
            Finding(**{name: value for name, value in item.items() if name in names})
            for item in held["findings"]
        )
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _checksums(table: Source) -> dict[str, str] | None:
    """SHA-256 of each file of a table; None where it is not a table of files that stay where they
    are."""
    if table.server or table.chosen or not table.files or table.name == "standard input":
        return None
    try:
        return {str(path): sha256_of(path) for path in sorted(table.files)}
    except OSError:
        return None


def _path(table: Source) -> Path:
    asked = [__version__, table.part, table.reading.settled(), sorted(table.texts)]
    named = json.dumps([sorted(map(str, table.files)), asked], default=str)
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "gravel" / f"{hashlib.sha256(named.encode()).hexdigest()[:32]}.json"
