"""What a file is by its first bytes, and what of a text's first lines is no part of its table."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from gravel.problems import TableProblem

_MAGIC = (
    (b"PK\x03\x04", "a zip archive, as Excel workbooks are", "name it .xlsx, or .zip"),
    (b"\xd0\xcf\x11\xe0", "an old Excel workbook (.xls)", "save it as .xlsx or CSV"),
    (b"PAR1", "a Parquet file", "name it .parquet"),
    (b"ARROW1", "an Arrow file", "name it .arrow"),
    (b"SQLite format 3\0", "an SQLite database", "name it .db"),
    (b"\x1f\x8b", "compressed with gzip", "name it .csv.gz"),
    (b"\x28\xb5\x2f\xfd", "compressed with zstd", "name it .csv.zst"),
    (b"BZh", "compressed with bzip2", "name it .csv.bz2"),
    (b"\xfd7zXZ\0", "compressed with xz", "name it .csv.xz"),
    (b"%PDF", "a PDF document", "export the table as CSV"),
)
_NUMBER = re.compile(r"[+-]?(\d+([.,]\d+)?|\.\d+)([eE][+-]?\d+)?%?")
_DATE = re.compile(r"\d{4}-\d\d?-\d\d?([T ].*)?|\d\d?[./-]\d\d?[./-]\d{2,4}")
MARKERS = ("NA", "N/A", "n/a", "\\N", "NULL", "null", "None", "-", "--", ".", "NaN", "?", "#N/A")
_LONGEST = 200  # characters of a name
_TITLE = 10  # rows that a title may have


def refuse_other_format(start: bytes, name: str) -> None:
    """Raises TableProblem for what is no text: told by its first bytes."""
    for magic, what, hint in _MAGIC:
        if start.startswith(magic):
            raise TableProblem(f"{name} is {what}, not text", hint=hint)
    zeros = start.count(0)
    if zeros * 4 > len(start) and len(start) > 3:
        little = start[1::2].count(0) > start[0::2].count(0)
        raise TableProblem(
            f"{name} looks like UTF-16 without a byte order mark",
            hint=f"--encoding utf-16-{'le' if little else 'be'}",
        )


def refuse_other_text(head: str, name: str) -> None:
    """Raises TableProblem for text that is another format."""
    begin = head.lstrip().lower()
    if re.match(r"<(!doctype|html|table|\?xml|head|body|!--)", begin):
        kind = "XML" if begin.startswith("<?xml") else "an HTML page"
        raise TableProblem(f"{name} is {kind}, not a table", hint="export the table as CSV")
    if re.match(r"\[\s*[\[{]|\{\s*(\"[^\"]*\"\s*:|\})", begin):
        lines = sum(line.lstrip().startswith("{") for line in head.splitlines()[:3])
        one = begin.startswith("{") and lines > 1
        raise TableProblem(
            f"{name} is JSON, not CSV", hint=f"name it {'.jsonl' if one else '.json'}"
        )


def preamble(counts: Sequence[int]) -> int:
    """How many records stand before the table, by the fields of each: the first ones have fewer
    than most of those that follow."""
    rest = [count for count in counts[1:] if count]
    if not rest:
        return 0
    usual = max(set(rest), key=rest.count)
    if counts[0] >= usual or rest.count(usual) < 0.6 * len(rest):
        return 0
    return next(index for index, count in enumerate(counts) if count == usual)


def title_rows(header: Sequence[str], rows: Sequence[Sequence[str]]) -> int:
    """How many rows stand above the names, as a sheet has a title above its table: few columns have
    a text there, and nearly all in the row that follows, no number or day. 0 where the header may
    be one."""
    width, blank = len(header), False
    if width < 3 or 2 * _filled(header) >= width:
        return 0
    for index, row in enumerate(rows[:_TITLE]):
        if 2 * _filled(row) < width:
            blank = blank or not _filled(row)
            continue
        names = [name.strip() for name in row if name.strip()]
        if len(names) < 0.8 * width or len(set(names)) < len(names):
            return 0
        if any(_NUMBER.fullmatch(name) or _DATE.fullmatch(name) for name in names):
            return 0
        below = rows[index + 1 :]
        return index + 1 if below and (blank or _some_typed(width, below)) else 0
    return 0


def begins_later(name: str, unit: str, skip: int) -> TableProblem:
    """What is told of a table that begins after so many lines, or rows, of something else."""
    return TableProblem(
        f"{name}: the table begins in {unit} {skip + 1}, after something else",
        hint=f"--skip {skip} leaves that out, --header 1 takes the first {unit} for the names",
    )


def _filled(row: Sequence[str]) -> int:
    return sum(bool(field.strip()) for field in row)


def _some_typed(width: int, rows: Sequence[Sequence[str]]) -> bool:
    """Whether some column is numbers or days."""
    columns = (
        [row[index] for row in rows if len(row) > index and row[index].strip()]
        for index in range(width)
    )
    return any(values and any(_most(p, values) for p in (_NUMBER, _DATE)) for values in columns)


def blank_separated(lines: Sequence[str], least: int = 3) -> str:
    """How lines without a delimiter are separated by blanks, as --delimiter takes it; '' where they
    are not: single blanks separate `least` words or more."""
    lines = [line for line in lines if line.strip()]
    if len(lines) < 2 or ("  " not in lines[0].strip() and len(_words(lines[0])) < least):
        return ""
    counts = {len(_words(line)) for line in lines}
    if len(counts) == 1 and counts != {1}:
        return "space"
    width = max(map(len, lines))
    padded = [line.ljust(width) for line in lines]
    empty = [all(line[place] == " " for line in padded) for place in range(width)]
    starts = [
        place + 1 for place in range(width) if not empty[place] and (place == 0 or empty[place - 1])
    ]
    return ",".join(map(str, starts)) if len(starts) > 1 else ""


def _words(line: str) -> list[str]:
    """What stands apart by blanks in a line; a quoted text is one."""
    return re.findall(r'"[^"]*"|\S+', line)


def looks_like_a_row(header: Sequence[str], rows: Sequence[Sequence[str]]) -> bool:
    """Whether the fields of a header look like values of their columns: numbers above numbers, or
    words that come again below. Not where some field is a name above numbers, where the fields are
    years, which name columns, or where a header that is not all numbers comes again, as in files
    put together."""
    numbers = all(_is_number(name) for name in header)
    comes_again = not numbers and list(header) in [list(row) for row in rows]
    if not rows or _are_years(header) or comes_again:
        return False
    typed = again = 0
    for index, name in enumerate(header):
        values = [row[index] for row in rows if len(row) > index and row[index].strip()]
        pattern = next((item for item in (_NUMBER, _DATE) if values and _most(item, values)), None)
        if pattern is None:
            again += bool(name.strip()) and name in values
        elif pattern.fullmatch(name.strip()):
            typed += 1
        elif name.strip():
            return False
    return typed > 1 or again > 1 or (typed > 0 and len(header) < 4)


def _most(pattern: re.Pattern[str], values: Sequence[str]) -> bool:
    fits = sum(pattern.fullmatch(value.strip()) is not None for value in values)
    return fits >= 0.9 * len(values)


def _are_years(header: Sequence[str]) -> bool:
    """Whether the numbers of a header ascend and are years, or stand after a nameless column, as in
    tables of two ways."""
    numbers = [float(name.strip(" %").replace(",", ".")) for name in header if _is_number(name)]
    ascend = len(numbers) > 1 and all(a < b for a, b in pairwise(numbers))
    nameless = not header[0].strip() and len(numbers) == len(header) - 1
    return ascend and (nameless or all(1800 <= number < 2100 for number in numbers))


def _is_number(name: str) -> bool:
    return _NUMBER.fullmatch(name.strip()) is not None


def null_markers(
    header: Sequence[str], rows: Sequence[Sequence[str]]
) -> dict[str, tuple[int, list[str]]]:
    """Words for no value in columns that are numbers or dates but for them: how often each is in
    the rows looked at, and in which columns."""
    results: dict[str, tuple[int, list[str]]] = {}
    for index, name in enumerate(header):
        values = [row[index].strip() for row in rows if len(row) > index and row[index].strip()]
        words = [value for value in values if value in MARKERS]
        rest = [value for value in values if value not in MARKERS]
        if len(words) < 2 or len(rest) < 3:
            continue
        if any(all(p.fullmatch(value) for value in rest) for p in (_NUMBER, _DATE)):
            word = max(set(words), key=words.count)
            count, columns = results.get(word, (0, []))
            results[word] = count + words.count(word), [*columns, name]
    return results


def usable_names(names: Sequence[str]) -> tuple[tuple[str, ...], list[str]]:
    """Names of which each is there, once, without blanks around it; and notes of what was done."""
    results: dict[str, None] = {}
    stripped = [name.strip() for name in names]
    uses = Counter(stripped)
    nameless: list[str] = []
    padded: list[str] = []
    long: list[str] = []
    again: list[str] = []
    for place, name in enumerate(names, 1):
        wanted = stripped[place - 1] or f"c{place}"
        if not name.strip():
            nameless.append(wanted)
        elif name != wanted:
            padded.append(wanted)
        if len(wanted) > _LONGEST:
            wanted = wanted[:60].rstrip() + "…"
            long.append(wanted)
        free, number = wanted, 1
        while free in results or (number > 1 and free in uses):
            number += 1
            free = f"{wanted}_{number}"
        if free != wanted:
            again.append(free)
        results[free] = None
    return tuple(results), [
        f"{_counted(columns)} {text}: {some_of(columns)}"
        for columns, text in (
            (nameless, "without a name in the header"),
            (padded, "with blanks around the name"),
            (long, f"with a name of more than {_LONGEST} characters"),
            (again, "with a name that another one has too"),
        )
        if columns
    ]


def some_of(columns: Sequence[str]) -> str:
    """The first ones of some columns."""
    return f"{', '.join(columns[:3])}{', …' if len(columns) > 3 else ''}"


def _counted(columns: Sequence[str]) -> str:
    return "1 column" if len(columns) == 1 else f"{len(columns):,} columns"
