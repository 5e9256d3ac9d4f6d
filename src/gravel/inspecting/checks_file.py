"""Checks as a TOML file states them, and the rows that do not hold as a CSV file."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from gravel.problems import CallProblem, TableProblem
from gravel.sinks.atomic_file import Output
from gravel.sinks.csv import header
from gravel.sinks.files import may_write, only_text


def read_checks(path: Path) -> dict[str, Any]:
    """The conditions of a TOML file, its allow and unknown. Raises CallProblem, TableProblem."""
    try:
        result = tomllib.loads(path.read_text("utf-8-sig"))
    except OSError as error:
        raise TableProblem(
            f"{path} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise CallProblem(f"{path} is not valid TOML: {error}") from None
    checks = result.get("check")
    if (
        not isinstance(checks, dict)
        or not checks
        or not all(isinstance(text, str) for text in checks.values())
    ):
        raise CallProblem(
            f'{path} has no table [check] of name = "condition"',
            hint='[check]\n"berth known" = "berth IS NOT NULL"',
        )
    for name in result.keys() - {"check", "allow", "unknown"}:
        raise CallProblem(
            f"{path}: {name} is not known here",
            hint="a file of checks has check, allow and unknown",
        )
    if result.get("unknown", "passes") not in ("fails", "passes"):
        raise CallProblem(f"{path}: unknown is fails or passes, not {result['unknown']!r}")
    return result


class FailingRows:
    """Rows that do not hold, written beside their place until all are there."""

    def __init__(
        self, target: Path, columns: tuple[str, ...], read: set[Path], replace: bool
    ) -> None:
        only_text(target)
        if target.resolve() in read:
            raise CallProblem(
                f"the rows would be written over {target}, which is read", hint="name another file"
            )
        may_write(target, replace)
        self._output: Any = Output(target, str(target))
        self._output.write(header(["gravel_row", "gravel_checks", *columns]))

    def write(self, rows: bytes) -> None:
        """The next rows, as `gravel.inspecting.check` has them."""
        self._output.write(rows)

    def finish(self) -> None:
        """Put the file in its place."""
        self._output.close()
        self._output.commit()
        self._output = None

    def discard(self) -> None:
        """Leave nothing of an unfinished file."""
        if self._output is not None:
            self._output.discard()
