"""Workbooks (ECMA-376, OpenDocument): a sheet, or a range of one, as a table."""

from __future__ import annotations

import datetime
import posixpath
import re
import zipfile
from decimal import Decimal
from pathlib import Path
from typing import IO, Any
from xml.etree import ElementTree

import pyarrow as pa

from gravel.language.types import TEXT
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sources.arrow import StoredSource
from gravel.sources.read_options import ReadOptions
from gravel.sources.sniffing import begins_later, title_rows, usable_names
from gravel.sources.source import refuse_changed, state_of
from gravel.words import number_of

_ROWS = 50_000
_LOOK = 200  # rows that the names are judged by
# A cell with an error, as a sheet's XML has it (ECMA-376 part 1, 18.3.1.4 and 18.18.11).
_ERROR_CELL = re.compile(rb'<(?:\w+:)?c\s([^>]*\bt="e"[^>]*)>(.*?)</(?:\w+:)?c>', re.DOTALL)
_PLACE = re.compile(rb'\br="([A-Z]+)(\d+)"')
_VALUE = re.compile(rb"<(?:\w+:)?v>(.*?)</", re.DOTALL)
_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_BLOCK, _TAG = 1 << 20, 1024  # bytes that are read at a time, and of a cell's tag
_DIGITS = 15  # of a number that a workbook keeps
_LEAST = Decimal("1e-20")  # a number below it, or beyond its inverse, is a DOUBLE
_NAMED = 5  # other sheets that are told by name
_RANGE = re.compile(r"\$?([A-Z]{1,3})\$?(\d+):\$?([A-Z]{1,3})\$?(\d+)", re.IGNORECASE)


def open_workbook(path: Path, part: str, name: str, reading: ReadOptions) -> StoredSource:
    """A sheet of a workbook: `part` is its name, a range (`B3:H200`), or both with a ! between; the
    first sheet where it is ''. The first row has the names. Raises TableProblem, CallProblem."""
    before = state_of(path)
    sheet, area = _parted(part)
    rows, notes = _cells(path, name, sheet, area)
    rows = rows[reading.skip :]
    if reading.header is None or reading.header > 0:
        rows = rows[max(0, (reading.header or 1) - 1) :]
        if not rows:
            raise TableProblem(
                f"{name} has no row of names", hint="no cell of it, or of its range, has a value"
            )
        first, *others = ([_shown(cell) for cell in row] for row in rows[:_LOOK])
        if reading.header is None and (title := title_rows(first, others)):
            raise begins_later(name, "row", reading.skip + title)
        names, more = usable_names(first)
        notes += more
        rows = rows[1:]
    else:
        names = tuple(f"c{place}" for place in range(1, len(rows[0]) + 1 if rows else 1))
    columns = [[row[place] for row in rows] for place in range(len(names))]
    kinds = [TEXT if _has_text(column, reading.nulls) else None for column in columns]
    texts = [
        [_text(cell, reading.nulls, moments) for cell in column]
        for column in columns
        for moments in (_has_moments(column),)
    ]
    arrays = [pa.array(column, pa.string()) for column in texts]
    sizes = [min(_ROWS, len(rows) - start) for start in range(0, len(rows), _ROWS)]

    def part_of(number: int, wanted: list[str]) -> pa.RecordBatch:
        start = number * _ROWS
        return pa.record_batch(
            [arrays[names.index(column)].slice(start, sizes[number]) for column in wanted], wanted
        )

    refuse_changed(path, name, before)
    table = StoredSource(
        path,
        name,
        list(names),
        kinds,
        sizes,
        part_of,
        len(rows),
        texts=frozenset(reading.texts),
        declared=dict(reading.declared),
    )
    table.reading = reading
    table.notes += notes
    return table


def _errors(path: Path, sheet: str) -> dict[tuple[int, int], str]:
    """The cells of a sheet that hold an error, by row and column from 0: the library takes them for
    empty ones. None where the file is neither format's package."""
    try:
        with zipfile.ZipFile(path) as package:
            if "content.xml" in package.namelist():
                return _open_document_errors(package.read("content.xml"), sheet)
            with package.open(_sheet_file(package, sheet)) as stream:
                return _sheet_errors(stream)
    except (zipfile.BadZipFile, KeyError, ElementTree.ParseError, NotImplementedError):
        return {}


def _sheet_errors(stream: IO[bytes]) -> dict[tuple[int, int], str]:
    errors: dict[tuple[int, int], str] = {}
    buffer = b""
    while block := stream.read(_BLOCK):
        buffer += block
        if b't="e"' not in buffer:
            buffer = buffer[-_TAG:]  # the next block may end what begins there
            continue
        end = 0
        for cell in _ERROR_CELL.finditer(buffer):
            place, value, end = _PLACE.search(cell[1]), _VALUE.search(cell[2]), cell.end()
            if place and value:
                row, column = int(place[2]) - 1, _column(place[1].decode())
                errors[row, column] = value[1].decode("utf-8", "replace")
        buffer = buffer[max(end, buffer.rfind(b"</row>", end), 0) :]
    return errors


def _open_document_errors(content: bytes, sheet: str) -> dict[tuple[int, int], str]:
    """As LibreOffice marks them, beside the types of OpenDocument 1.3, which has none for them."""
    errors: dict[tuple[int, int], str] = {}
    if b'value-type="error"' not in content:
        return errors
    for table in ElementTree.fromstring(content).iter(f"{_TABLE}table"):
        row = 0
        for line in table.iter(f"{_TABLE}table-row") if table.get(f"{_TABLE}name") == sheet else ():
            column = 0
            for cell in line:
                if any(
                    name.endswith("}value-type") and kind == "error" for name, kind in cell.items()
                ):
                    errors[row, column] = "".join(cell.itertext())
                column += int(cell.get(f"{_TABLE}number-columns-repeated", "1"))
            row += int(line.get(f"{_TABLE}number-rows-repeated", "1"))
    return errors


def _sheet_file(package: zipfile.ZipFile, sheet: str) -> str:
    """The name of a sheet's XML in a package. Raises KeyError where there is none."""
    book = ElementTree.fromstring(package.read("xl/workbook.xml"))
    links = ElementTree.fromstring(package.read("xl/_rels/workbook.xml.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    for item in book.iter():
        if item.tag.endswith("}sheet") and item.get("name") == sheet:
            key = next((value for name, value in item.items() if name.endswith("}id")), None)
            return posixpath.join("/xl", targets[key]).lstrip("/")
    raise KeyError(sheet)


def _parted(part: str) -> tuple[str, tuple[int, int, int, int] | None]:
    """The sheet and the range (first row, first column, last row, last column, from 0) of a
    reference. Raises CallProblem."""
    sheet, mark, area = part.rpartition("!")
    if not mark and _RANGE.fullmatch(part):
        area = part
    elif not mark:
        return part, None
    match = _RANGE.fullmatch(area)
    if match is None:
        raise CallProblem(f"{area!r} is not a range of cells", hint="as B3:H200")
    first_row, last_row = int(match[2]) - 1, int(match[4]) - 1
    first, last = _column(match[1]), _column(match[3])
    if first_row > last_row or first > last:
        raise CallProblem(f"{area!r} ends before it begins")
    return sheet.strip("'"), (first_row, first, last_row, last)


def _column(letters: str) -> int:
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number - 1


def _cells(
    path: Path, name: str, sheet: str, area: tuple[int, int, int, int] | None
) -> tuple[list[list[Any]], list[str]]:
    """The rows of a sheet's cells, all of one width, and notes."""
    try:
        from python_calamine import CalamineError, CalamineWorkbook
    except ImportError:
        raise CallProblem(
            "workbooks need the library python-calamine", hint="pip install 'gravel[excel]'"
        ) from None
    try:
        with open(path, "rb") as file:
            book = CalamineWorkbook.from_filelike(file)
            if sheet and sheet not in book.sheet_names:
                near = nearest(sheet, book.sheet_names)
                raise CallProblem(
                    f"{name} has no sheet {sheet}",
                    hint=f"did you mean {near}?" if near else ", ".join(book.sheet_names),
                )
            chosen = book.get_sheet_by_name(sheet or book.sheet_names[0])
            rows = chosen.to_python(skip_empty_area=False)
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    except (CalamineError, IndexError) as error:
        raise TableProblem(f"{name} is not a workbook: {error}") from None
    notes = []
    others = len(book.sheet_names) - 1
    if not sheet and others:
        more = "another sheet" if others == 1 else f"{others} other sheets"
        named = ", ".join(f"#{other}" for other in book.sheet_names[1 : _NAMED + 1])
        notes.append(
            f"this is its first sheet, {book.sheet_names[0]}; it has {more}: {named}"
            f"{', …' if others > _NAMED else ''}"
        )
    if area is not None:
        top, left, bottom, right = area
        rows = [row[left : right + 1] for row in rows[top : bottom + 1]]
    width = max((len(row) for row in rows), default=0)
    rows = [[*row, *[""] * (width - len(row))] for row in rows]
    top, left = (0, 0) if area is None else area[:2]
    known = set(_ERRORS)
    for (row, column), text in _errors(path, sheet or book.sheet_names[0]).items():
        known.add(text)
        if 0 <= row - top < len(rows) and 0 <= column - left < width:
            rows[row - top][column - left] = text
    if area is None:
        # Cells that only have a format stand beyond the last row that has a value.
        while rows and all(cell == "" for cell in rows[-1]):
            rows.pop()
        while rows and all(row[-1] == "" for row in rows):
            rows = [row[:-1] for row in rows]
    errors = sum(isinstance(cell, str) and cell in known for row in rows for cell in row)
    if long := sum(isinstance(cell, float) and _is_long(cell) for row in rows for cell in row):
        notes.append(
            f"{number_of(long, 'whole number')} of more than {_DIGITS} digits: a workbook keeps"
            f" {_DIGITS} of them, and codes whole only as text"
        )
    if errors:
        notes.append(f"{number_of(errors, 'cell')} with an error such as #N/A, read as that text")
    return rows, notes


def _is_long(cell: float) -> bool:
    return cell.is_integer() and 10**_DIGITS <= abs(cell) < 10.0 ** (_DIGITS + 5)


_ERRORS = ("#N/A", "#DIV/0!", "#NAME?", "#NULL!", "#NUM!", "#REF!", "#VALUE!")


def _has_text(cells: list[Any], nulls: tuple[str, ...]) -> bool:
    return any(isinstance(cell, str) and cell != "" and cell not in nulls for cell in cells)


def _shown(cell: Any) -> str:
    """A cell alone, as text."""
    return _text(cell, moments=_has_moments([cell])) or ""


def _has_moments(cells: list[Any]) -> bool:
    """Whether the days of a column have a time of day."""
    return any(
        isinstance(cell, datetime.datetime) and cell.time() != datetime.time() for cell in cells
    )


def _text(cell: Any, nulls: tuple[str, ...] = (), moments: bool = False) -> str | None:
    """A cell as text, NULL where it is empty; whole numbers have no decimals, others 15 digits, and
    days no time where no day of their column has one (`moments`)."""
    if cell is None or (isinstance(cell, str) and (cell == "" or cell in nulls)):
        return None
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        if cell.is_integer() and abs(cell) <= 2**53:
            return str(int(cell))
        # As the sheet shows it: what 0.1 * 3 leaves in the seventeenth digit is no part of a value.
        number = Decimal(repr(float(f"{cell:.{_DIGITS}g}")))
        # A text with an exponent would be a code.
        return f"{number:f}" if _LEAST <= abs(number) <= 1 / _LEAST else repr(float(number))
    if isinstance(cell, datetime.datetime):
        return cell.isoformat(" ") if moments else cell.date().isoformat()
    if moments and isinstance(cell, datetime.date):
        return f"{cell.isoformat()} 00:00:00"
    if isinstance(cell, datetime.timedelta):
        # As a sheet shows it: hours may be more than a day has.
        whole, rest = divmod(abs(cell), datetime.timedelta(seconds=1))
        shown = f"{whole // 3600:02}:{whole // 60 % 60:02}:{whole % 60:02}"
        fraction = f".{rest.microseconds:06}" if rest else ""
        return f"{'-' if cell < datetime.timedelta() else ''}{shown}{fraction}"
    return cell.isoformat() if isinstance(cell, (datetime.date, datetime.time)) else str(cell)
