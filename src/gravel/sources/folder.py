"""A folder of part files as one table, as cluster engines and data frames write it:
`part-0.parquet` and the like, beside one another or in folders such as `year=2024`."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote

from gravel.problems import TableProblem
from gravel.sources.multi_file import MultiFileSource, OpenFile
from gravel.sources.read_options import ReadOptions

_NUMBERED = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}|\d+")
_NULL = "__HIVE_DEFAULT_PARTITION__"  # what Hive, and all that write as it does, call NULL
_LOGS = ("_delta_log", ".hoodie", "metadata")  # of formats that say which files are the table's
_UNFINISHED = "_temporary"  # where Hadoop's committers keep what is not committed
_HINT = "name a file in it"


def open_folder(
    folder: Path, name: str, reading: ReadOptions, open_file: OpenFile
) -> MultiFileSource:
    """The files of a folder whose names differ by a number alone, in their order. A folder within
    it that is called `column=value` gives its rows that column. Raises TableProblem where the
    folder is not one table."""
    _refuse_unfinished(folder, name)
    parts = list(parts_in(folder, name, {}))
    if not parts:
        raise TableProblem(f"{name} is a folder, and holds no file of rows")
    if len({_NUMBERED.sub("", path.name) for path, _ in parts}) > 1:
        raise TableProblem(
            f"{name} is a folder",
            detail="its files are not the parts of one table, which differ by a number alone",
            hint=_files_in(folder),
        )
    if len({tuple(constants) for _, constants in parts}) > 1:
        raise TableProblem(
            f"{name} is not one table: some of its files are in folders of other columns",
            detail=", ".join(sorted({"/".join(constants) or "none" for _, constants in parts})),
            hint=_HINT,
        )
    # A text file without a byte is what a task without a row leaves.
    parts = [part for part in parts if part[0].suffix == ".parquet" or part[0].stat().st_size]
    if not parts:
        raise TableProblem(f"{name} holds no row, nor the names of columns")
    return MultiFileSource.of(
        [(path, str(Path(name, path.relative_to(folder))), constants) for path, constants in parts],
        name,
        reading,
        open_file,
        lambda path: folder.resolve() in path.parents,
    )


def parts_in(
    folder: Path, name: str, constants: dict[str, str | None]
) -> Iterator[tuple[Path, dict[str, str | None]]]:
    """The files below a folder, each with the values that its folders give. What begins with a dot
    or an underscore is not data by the convention of Hadoop. Raises TableProblem for a folder that
    gives none."""
    for child in sorted(folder.iterdir()):
        if child.name.startswith((".", "_")):
            continue
        if not child.is_dir():
            yield child, constants
            continue
        column, equals, value = child.name.partition("=")
        if not equals:
            raise TableProblem(
                f"{name} is a folder",
                detail=f"{child.name} in it is a folder too, and not called column=value",
                hint=_files_in(folder),
            )
        known = None if value == _NULL else unquote(value)
        yield from parts_in(child, name, {**constants, unquote(column): known})


def _refuse_unfinished(folder: Path, name: str) -> None:
    for log in _LOGS:
        if (folder / log).is_dir():
            raise TableProblem(
                f"{name} is a table whose own log says which of its files are its rows",
                detail=f"its {log} is not read here: old rows would be among them",
                hint="read it through its catalogue, as spark:harbour.boats with --engine",
            )
    if (folder / _UNFINISHED).is_dir():
        raise TableProblem(
            f"{name} is being written, or what wrote it has stopped",
            detail=f"it holds {_UNFINISHED}, where files stand that are not committed",
            hint="try again when it is written",
        )


def _files_in(folder: Path) -> str:
    files = sorted(child.name for child in folder.iterdir() if child.suffix == ".csv")[:5]
    return f"{_HINT}: " + ", ".join(str(folder / file) for file in files) if files else _HINT
