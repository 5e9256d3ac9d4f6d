"""ReadOptions CSV: pieces cut at record ends, parsed by Arrow on any thread, with source row and
line numbers."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
from msgspec.structs import replace

from gravel.kernels.arrays import to_arrow
from gravel.kernels.records import split_columns
from gravel.language.types import Type
from gravel.sources.csv import dialect as dialects
from gravel.sources.csv.dialect import line_breaks, not_in_encoding
from gravel.sources.csv.records import Record, records
from gravel.sources.csv.splitter import EMPTY_LINE, Piece, Take, count_lines, cut, read_again
from gravel.sources.dialect import NO_QUOTE, Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Malformed, Source, holding_some
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.sources.csv.conversions import Conversions

_SAMPLE = 1  # pieces that a guess of types looks at


class CsvSource(Source):
    """A CSV file as a table.

    reading: how it is to be read; dialect: where that is known already. Raises TableProblem where
    the file cannot be read, or what its first lines are is in doubt.
    """

    def __init__(
        self,
        path: Path,
        name: str = "",
        reading: ReadOptions | None = None,
        dialect: Dialect | None = None,
    ) -> None:
        how = reading or ReadOptions()
        result = dialect or dialects.find(path, name or str(path), how)
        super().__init__(
            path,
            name or str(path),
            result.columns,
            texts=frozenset(how.texts),
            declared=dict(how.declared),
            dialect=result,
        )
        self.reading = how
        self.notes += result.notes
        # Numbers and days that are written otherwise; found once all rows have been seen.
        self.conversions: Conversions | None = None
        self._outlines: list[Piece] = []
        self._options: dict[tuple[int, ...] | None, Any] = {}

    @property
    def read_as(self) -> dict[str, Any]:
        dialect = {"delimiter": self.dialect.delimiter, "encoding": self.dialect.encoding}
        empty = {"empty": "null" if self.reading.empty_null else "text"}
        return {**dialect, **empty, **self.reading.settled()}

    def pieces(
        self, take: Take | None = None, wanted: Sequence[int] | None = None
    ) -> Iterator[Piece]:
        """The file's pieces, in order; notes when it turns out that every field is quoted. `take`
        is given the file's bytes. `wanted`: the columns that are all that will be read of these
        pieces, for stores that fetch no others.
        """
        rows = quoted = 0
        outlines: list[Piece] = []
        self.refuse_changed()
        for piece in cut(self.path, self.name, self.dialect, take):
            outlines.append(replace(piece, data=b"", size=len(piece.data)))
            rows, quoted = rows + piece.records - len(piece.bad), quoted + piece.quoted
            if self.progress is not None:
                self.progress(len(piece.data))
            yield piece
        self.refuse_changed()
        self._outlines = outlines
        if (
            rows
            and quoted == rows * len(self.columns)
            and not self.reading.empty_null
            and not self.notes
        ):
            self.notes.append(
                "every field is quoted, so none is NULL; --empty null reads the empty ones as NULL"
            )

    def holding(self, rows: Sequence[int]) -> Iterator[Piece]:
        """The pieces that hold some source rows: after a whole pass their outlines, of which `read`
        finds the bytes by their places in the file."""
        wanted = [piece for piece in holding_some(self._outlines, rows) if piece.records]
        if wanted and all(piece.offset >= 0 for piece in wanted):
            self.refuse_changed()
            yield from wanted
            self.refuse_changed()
        else:
            yield from holding_some(self.pieces(), rows)

    def outline(self, split: Piece) -> Piece:
        """See Source."""
        return split.outline()

    def read(self, piece: Piece, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of a piece. Raises TableProblem at the first byte that is not valid in the
        encoding."""
        key = None if wanted is None else tuple(wanted)
        if piece.size:
            piece = read_again(self.path, self.name, piece)
        parsed, bad = self._parse(piece, key)
        malformed = [
            Malformed(piece.first_row + index, line, fault, self.dialect.as_written(text))
            for index, line, fault, text in piece.bad
        ]
        skipped = np.ones(piece.records, bool)
        skipped[[index for index, *_ in piece.bad]] = False
        rows = piece.first_row + np.flatnonzero(skipped)
        columns = self._columns(parsed, key)
        # An empty line is parsed as a row of NULLs: where one column has none, there is none.
        doubtful = (
            len(self.columns) > 1
            and all(column.null_count for column in parsed.columns)
            and piece.blank
            and _has_blank_line(piece.data)
        )
        if bad or doubtful:
            places = list(self._records(piece))
            blank = (
                [i for i, (_, record) in enumerate(places) if _is_blank(piece.data, record)]
                if doubtful
                else []
            )
            faults = bad + [(number, EMPTY_LINE, "") for number in blank]
            malformed += [
                Malformed(
                    int(rows[number]), places[number][0], fault, self.dialect.as_written(text)
                )
                for number, fault, text in faults
            ]
            # Arrow has left out the records of `bad`; an empty line it takes for a row of NULLs.
            parsed_rows = np.delete(np.arange(len(rows)), [number for number, _, _ in bad])
            still = ~np.isin(parsed_rows, blank)
            rows = rows[parsed_rows[still]]
            if blank:
                columns = [
                    None if column is None else column.filter(to_arrow(still)) for column in columns
                ]
        self._refuse_guesses(columns)
        return Batch(rows, columns, tuple(sorted(malformed, key=lambda item: item.row)))

    def look_at_types(self) -> dict[int, Type]:
        """All columns' types as the first rows suggest them, without a promise: nothing later is
        held to them."""
        reading = replace(self.reading, declared={})
        fresh = CsvSource(self.path, self.name, reading, self.dialect)
        fresh.conversions = self.conversions
        return fresh.guess(list(range(len(fresh.columns))))

    def count_lines(self, take: Take | None = None) -> int:
        """Lines of the file, counted in its text alone, without regard to records; `take` is given
        the file's bytes."""
        return count_lines(self.path, self.name, self.dialect, take)

    def account(
        self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None
    ) -> tuple[str, bool, str]:
        """What should be true of the rows read, whether it is, and the figures: line ends counted
        in the file's bytes, against records, header and line breaks inside values."""
        in_file = self.count_lines(take)
        inside = breaks + sum(line_breaks(item.text.encode()) for item in malformed)
        message = self.dialect.lines + rows + len(malformed) + inside
        detail = f"{in_file:,} lines = {self.dialect.lines} header + {number_of(rows)}"
        detail += f" + {len(malformed):,} malformed" if malformed else ""
        detail += (
            f" + {inside:,} line break{'' if inside == 1 else 's'} inside values" if inside else ""
        )
        if message != in_file:
            detail += f" ({message - in_file:+,})"
        return "every line of the file is accounted for", message == in_file, detail

    # -- one piece
    def _parse(
        self, piece: Piece, key: tuple[int, ...] | None
    ) -> tuple[Any, list[tuple[int, str, str]]]:
        if not piece.data:
            names = [str(index) for index in (range(len(self.columns)) if key is None else key)]
            return pa.table({name: pa.array([], pa.string()) for name in names}), []
        if piece.sound and not self.reading.nulls:
            wanted = range(len(self.columns)) if key is None else key or (0,)
            columns = split_columns(
                piece.data,
                self.dialect.delimiter.encode(),
                len(self.columns),
                wanted,
                piece.records,
                self.reading.empty_null,
            )
            if columns is not None:
                return pa.table(columns, [str(index) for index in wanted]), []
        self._refuse_bad_text(piece)
        names, convert = self._arrow_options(key)
        bad: list[tuple[int, str, str]] = []

        def refused(row: Any) -> str:
            many = "fields" if row.actual_columns != 1 else "field"
            bad.append(
                (
                    row.number - 1,
                    f"{row.actual_columns} {many} where the header has {row.expected_columns}",
                    row.text.rstrip("\r\n"),
                )
            )
            return "skip"

        parse = pa_csv.ParseOptions(
            delimiter=self.dialect.delimiter,
            newlines_in_values=True,
            ignore_empty_lines=False,
            invalid_row_handler=refused,
        )
        read = pa_csv.ReadOptions(
            column_names=names, use_threads=False, block_size=len(piece.data) + 1024
        )
        # Arrow takes an empty field at the very end for a quoted one if the one before is.
        ended = piece.data.endswith(self.dialect.delimiter.encode())
        data = piece.data + b"\n" if ended else piece.data
        return pa_csv.read_csv(pa.BufferReader(data), read, parse, convert), bad

    def _arrow_options(self, key: tuple[int, ...] | None) -> tuple[Any, Any]:
        if key not in self._options:
            names = [str(index) for index in range(len(self.columns))]
            include = None if key is None else [str(index) for index in key] or ["0"]
            convert = pa_csv.ConvertOptions(
                check_utf8=False,
                column_types=dict.fromkeys(names, pa.string()),
                null_values=["", *self.reading.nulls],
                strings_can_be_null=True,
                quoted_strings_can_be_null=self.reading.empty_null,
                include_columns=include,
            )
            self._options[key] = (names, convert)
        options: tuple[Any, Any] = self._options[key]
        return options

    def _columns(self, parsed: pa.Table, key: tuple[int, ...] | None) -> list[pa.Array | None]:
        columns: list[Any] = [None] * len(self.columns)
        for index in range(len(self.columns)) if key is None else key:
            chunks = parsed.column(str(index))
            column = chunks.chunk(0) if chunks.num_chunks == 1 else chunks.combine_chunks()
            column = self._with_quotes(column)
            if self.conversions is not None:
                column = self.conversions.column(index, column)
            columns[index] = column
        return columns

    def _with_quotes(self, column: pa.Array) -> pa.Array:
        """A column whose double quotes and quote signs have changed places, as it was."""
        sign = self.dialect.quote
        if sign == '"' or not len(column):
            return column
        either = pc.or_(pc.match_substring(column, sign), pc.match_substring(column, '"'))
        if not pc.any(either).as_py():
            return column
        if sign == NO_QUOTE:
            return pc.replace_substring(column, NO_QUOTE, '"')
        texts = column.to_pylist()
        return pa.array(
            [None if text is None else self.dialect.as_written(text) for text in texts], pa.string()
        )

    def _refuse_bad_text(self, piece: Piece) -> None:
        if piece.sound or piece.data.isascii():
            return
        try:
            piece.data.decode("utf-8")
        except UnicodeDecodeError as error:
            before = piece.data[: error.start]
            index, record = next(
                result for result in self._records(piece) if result[1].end > error.start
            )
            line = index + line_breaks(piece.data[record.start : error.start])
            tail = before[max(before.rfind(b"\n"), before.rfind(b"\r")) + 1 :]
            raise not_in_encoding(
                self.name,
                (line, len(tail.decode("utf-8", "replace")) + 1),
                piece.data,
                error.start,
                "utf-8",
            ) from None

    def _records(self, piece: Piece) -> Iterator[tuple[int, Record]]:
        """Each record of the piece's data with its line in the file; only where something is wrong
        with one."""
        line, index = piece.first_line, 0
        taken = {bad: text for bad, _, _, text in piece.bad}
        for record in records(piece.data, self.dialect.delimiter.encode(), True):
            while index in taken:
                line += line_breaks(taken[index].encode()) + 1
                index += 1
            yield line, record
            line += line_breaks(piece.data[record.start : record.end])
            index += 1


def _is_blank(data: bytes, record: Record) -> bool:
    return not data[record.start : record.end].strip(b"\r\n")


def _has_blank_line(data: bytes) -> bool:
    return data[:1] in (b"\n", b"\r") or any(pair in data for pair in (b"\n\n", b"\n\r", b"\r\r"))
