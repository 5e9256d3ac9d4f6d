"""Reading CSV: pieces cut at record ends, parsed by Arrow on any thread, with source row and line numbers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv

from gravel.engine.parallel import ordered_map
from gravel.language.types import TEXT, Type
from gravel.tables.csv import dialect as dialects
from gravel.tables.csv.dialect import Dialect, line_breaks, not_in_encoding
from gravel.tables.csv.pieces import EMPTY_LINE, Piece, Take, count_lines, cut, read_again
from gravel.tables.csv.records import Record, records
from gravel.tables.table import Batch, GuessFailed, Malformed, State, holding_some, refuse_changed, state_of
from gravel.tables.typing import Fitting, agrees, fitting, wider

_SAMPLE = 1  # pieces that a guess of types looks at


class CsvTable:
    """A CSV file as a table.

    empty_null: quoted empty fields are NULL too. texts: columns that stay TEXT whatever they hold. declared: types that
    a plan gives columns. Raises TableProblem where the file cannot be read or has no usable header.
    """

    def __init__(
        self,
        path: Path,
        name: str = "",
        *,
        delimiter: str | None = None,
        encoding: str | None = None,
        empty_null: bool = False,
        texts: frozenset[str] = frozenset(),
        declared: dict[str, Type] | None = None,
        dialect: Dialect | None = None,
    ) -> None:
        self.origin, self.part = path, ""  # the file that was named, and the table in it where it has several
        self.server = ""  # where it was copied from, if that is no file
        self.snapshot = False  # whether it was read at one moment, so that it cannot change under way
        self.store_key: tuple[str, ...] = ()  # what its store says of it: the primary key, columns without NULL
        self.not_null: tuple[str, ...] = ()
        self.fallback: dict[str, Type] = {}  # the store's types of columns that hold no value
        self.mixed: dict[str, str] = {}  # columns with values of several types, which no one type keeps: what they are
        self.binary: frozenset[str] = frozenset()  # columns of bytes, which are told as base64
        self.fields: dict[int, Any] = {}  # the Arrow fields of columns that their store keeps as Arrow values
        self.spelt: frozenset[str] = frozenset()  # columns that their store keeps as texts, so that another spelling is another value
        self.misfits: dict[str, tuple[str, int, str]] = {}  # by column: declared type, values that do not match it, one of them
        self.path, self.name, self.empty_null, self.texts = path, name or str(path), empty_null, texts
        self.declared = declared or {}
        self.asked_delimiter, self.asked_encoding = delimiter, encoding
        self.state: State = state_of(path)
        self.dialect = dialect or dialects.find(path, self.name, delimiter, encoding)
        self.columns = self.dialect.columns
        self.notes: list[str] = []
        self.progress: Callable[[int], None] | None = None
        self._types: dict[int, Type] = {}
        self._guesses: dict[int, Type] = {}
        self._stubs: list[tuple[Piece, int]] = []
        self.fittings: dict[int, Fitting] = {}
        self._options: dict[tuple[int, ...] | None, Any] = {}

    @property
    def sources(self) -> list[CsvTable]:
        """The tables it is read from, each of one file: itself, but for several files as one."""
        return [self]

    @property
    def files(self) -> set[Path]:
        """The files that it reads, which must not be written over; a server's table has none."""
        return {one.origin.resolve() for one in self.sources if not one.server}

    def reads(self, path: Path) -> bool:
        """Whether a file is one that it reads, or will read the next time."""
        return path.resolve() in self.files

    def whole(self) -> CsvTable:
        """The table, told that all of its columns will be read."""
        return self

    def pieces(self, take: Take | None = None, wanted: Sequence[int] | None = None) -> Iterator[Piece]:
        """The file's pieces, in order; notes when it turns out that every field is quoted. `take` is given the file's bytes. `wanted`:
        the columns that are all that will be read of these pieces, for stores that fetch no others."""
        rows = quoted = 0
        stubs: list[tuple[Piece, int]] = []
        self.refuse_changed()
        for piece in cut(self.path, self.name, self.dialect, take):
            stubs.append((replace(piece, data=b"", bad=()), len(piece.data)))
            rows, quoted = rows + piece.records - len(piece.bad), quoted + piece.quoted
            if self.progress is not None:
                self.progress(len(piece.data))
            yield piece
        self.refuse_changed()
        self._stubs = stubs
        if rows and quoted == rows * len(self.columns) and not self.empty_null and not self.notes:
            self.notes.append("every field is quoted, so none is NULL; --empty null reads the empty ones as NULL")

    def refuse_changed(self) -> None:
        """Raises DataProblem where the file is not as it was when the table was opened."""
        if not self.snapshot:
            refuse_changed(self.path, self.name, self.state)

    def holding(self, rows: Sequence[int]) -> Iterator[Piece]:
        """The pieces that hold some source rows. After a whole pass they are found by their places in the file."""
        held = {stub.first_row for stub in holding_some((stub for stub, _ in self._stubs), rows)}
        wanted = [(stub, size) for stub, size in self._stubs if stub.first_row in held and stub.records]
        if wanted and all(stub.offset >= 0 for stub, _ in wanted):
            self.refuse_changed()
            for stub, size in wanted:
                yield read_again(self.path, self.name, stub, size)
            self.refuse_changed()
        else:
            yield from holding_some(self.pieces(), rows)

    def read(self, piece: Piece, wanted: Sequence[int] | None = None) -> Batch:
        """The rows of a piece. Raises TableProblem at the first byte that is not valid in the encoding."""
        key = None if wanted is None else tuple(wanted)
        parsed, bad = self._parse(piece, key)
        malformed = [Malformed(piece.first_row + index, line, fault, text) for index, line, fault, text in piece.bad]
        skipped = np.ones(piece.records, bool)
        skipped[[index for index, *_ in piece.bad]] = False
        rows = piece.first_row + np.flatnonzero(skipped)
        columns = self._columns(parsed, key)
        # An empty line is parsed as a row of NULLs: where one column has none, there is none.
        doubtful = len(self.columns) > 1 and all(column.null_count for column in parsed.columns) and _has_blank_line(piece.data)
        if bad or doubtful:
            places = list(self._records(piece))
            blank = [i for i, (_, record) in enumerate(places) if _is_blank(piece.data, record)] if doubtful else []
            faults = bad + [(number, EMPTY_LINE, "") for number in blank]
            malformed += [Malformed(int(rows[number]), places[number][0], fault, text) for number, fault, text in faults]
            # Arrow has left out the records of `bad`; an empty line it takes for a row of NULLs.
            parsed_rows = np.delete(np.arange(len(rows)), [number for number, _, _ in bad])
            still = ~np.isin(parsed_rows, blank)
            rows = rows[parsed_rows[still]]
            if blank:
                columns = [None if column is None else column.filter(pa.array(still)) for column in columns]
        for index, kind in self._guesses.items():
            if columns[index] is not None and not agrees(columns[index], kind):
                raise GuessFailed(self.columns[index])
        return Batch(rows, columns, tuple(sorted(malformed, key=lambda one: one.row)))

    def guess(self, wanted: Sequence[int]) -> dict[int, Type]:
        """Types as the first rows suggest them, which spares a pass over the rest: `read` raises GuessFailed at the first
        batch that shows another. A DECIMAL gets room for longer numbers."""
        missing = [index for index in wanted if index not in self._types]
        states = self._open_states(missing)
        pieces = list(islice(self.pieces(wanted=missing), _SAMPLE + 1))
        self._fit(states, pieces[:_SAMPLE])
        if len(pieces) <= _SAMPLE:
            self.settle(states)
        made = {index: self._types[index] for index in wanted if index in self._types}
        for index, state in states.items():
            if index not in made:
                made[index] = wider(state.type)
                if state.kinds:
                    self._guesses[index] = made[index]
        return made

    def look_at_types(self) -> dict[int, Type]:
        """All columns' types as the first rows suggest them, without a promise: nothing later is held to them."""
        fresh = CsvTable(
            self.path, self.name, delimiter=self.asked_delimiter, encoding=self.asked_encoding, empty_null=self.empty_null, texts=self.texts
        )
        return fresh.guess(list(range(len(fresh.columns))))

    def types(self, wanted: Sequence[int]) -> dict[int, Type]:
        """Types found from all rows; reading stops early where only TEXT is left."""
        self._guesses.clear()
        self._find_types([index for index in wanted if index not in self._types])
        return {index: self._types[index] for index in wanted}

    def load(self, wanted: Sequence[int]) -> tuple[list[Batch], dict[int, Type]]:
        """All rows of some columns and the columns' types, found on the way: one pass instead of two."""
        states = self._open_states([index for index in wanted if index not in self._types])

        def work(piece: Piece) -> tuple[Batch, dict[int, Fitting]]:
            batch = self.read(piece, wanted)
            return batch, {index: fitting(batch.columns[index], state.kinds) for index, state in states.items() if state.kinds}

        batches = []
        for batch, found in ordered_map(work, self.pieces(wanted=wanted)):
            batches.append(batch)
            for index, state in found.items():
                states[index] = states[index].merge(state)
        self.settle(states)
        return batches, {index: self._types[index] for index in wanted}

    def count_lines(self, take: Take | None = None) -> int:
        """Lines of the file, counted in its text alone, without regard to records; `take` is given the file's bytes."""
        return count_lines(self.path, self.name, self.dialect, take)

    def account(self, rows: int, malformed: Sequence[Malformed], breaks: int, take: Take | None = None) -> tuple[str, bool, str]:
        """What should be true of the rows read, whether it is, and the figures: line ends counted in the file's bytes, against
        records, header and line breaks inside values."""
        in_file = self.count_lines(take)
        inside = breaks + sum(line_breaks(one.text.encode()) for one in malformed)
        told = self.dialect.lines + rows + len(malformed) + inside
        detail = f"{in_file:,} lines = {self.dialect.lines} header + {rows:,} rows"
        detail += f" + {len(malformed):,} malformed" if malformed else ""
        detail += f" + {inside:,} line break{'' if inside == 1 else 's'} inside values" if inside else ""
        if told != in_file:
            detail += f" ({told - in_file:+,})"
        return "every line of the file is accounted for", told == in_file, detail

    def settle(self, found: dict[int, Fitting]) -> None:
        """Take over what a pass over all rows has found of the columns' types."""
        self.fittings.update(found)
        for index, state in found.items():
            name = self.columns[index]
            # What a store says of a column stands, whatever its values look like.
            self._types.setdefault(index, self.declared.get(name) or (TEXT if name in self.texts else self._seen_type(name, state)))

    def _seen_type(self, name: str, state: Fitting) -> Type:
        return state.type if state.seen else self.fallback.get(name, TEXT)

    def _find_types(self, missing: list[int]) -> None:
        states = self._open_states(missing)
        if states:
            self._fit(states, self.pieces(wanted=missing))
            self.settle(states)

    def _open_states(self, missing: list[int]) -> dict[int, Fitting]:
        """A state for each column whose type its values decide; the others get theirs."""
        states = {index: Fitting() for index in missing}
        for index in missing:
            name = self.columns[index]
            if name in self.texts or name in self.declared:
                self._types[index] = self.declared.get(name, TEXT)
                del states[index]
        return states

    def _fit(self, states: dict[int, Fitting], pieces: Iterable[Piece]) -> None:
        def look(piece: Piece) -> dict[int, Fitting]:
            # Columns that have turned out to be TEXT are not read again.
            open_columns = [index for index, state in states.items() if state.kinds]
            batch = self.read(piece, open_columns)
            return {index: fitting(batch.columns[index], states[index].kinds) for index in open_columns}

        for found in ordered_map(look, pieces):
            for index, state in found.items():
                states[index] = states[index].merge(state)
            if not any(state.kinds for state in states.values()):
                break

    # -- one piece
    def _parse(self, piece: Piece, key: tuple[int, ...] | None) -> tuple[Any, list[tuple[int, str, str]]]:
        if not piece.data:
            names = [str(index) for index in (range(len(self.columns)) if key is None else key)]
            return pa.table({name: pa.array([], pa.string()) for name in names}), []
        self._refuse_bad_text(piece)
        names, convert = self._arrow_options(key)
        bad: list[tuple[int, str, str]] = []

        def refused(row: Any) -> str:
            many = "fields" if row.actual_columns != 1 else "field"
            bad.append(
                (row.number - 1, f"{row.actual_columns} {many} where the header has {row.expected_columns}", row.text.rstrip("\r\n"))
            )
            return "skip"

        parse = pa_csv.ParseOptions(
            delimiter=self.dialect.delimiter, newlines_in_values=True, ignore_empty_lines=False, invalid_row_handler=refused
        )
        read = pa_csv.ReadOptions(column_names=names, use_threads=False, block_size=len(piece.data) + 1024)
        return pa_csv.read_csv(pa.BufferReader(piece.data), read, parse, convert), bad

    def _arrow_options(self, key: tuple[int, ...] | None) -> tuple[Any, Any]:
        if key not in self._options:
            names = [str(index) for index in range(len(self.columns))]
            include = None if key is None else [str(index) for index in key] or ["0"]
            convert = pa_csv.ConvertOptions(
                check_utf8=False, column_types=dict.fromkeys(names, pa.string()), null_values=[""], strings_can_be_null=True,
                quoted_strings_can_be_null=self.empty_null, include_columns=include,
            )  # fmt: skip
            self._options[key] = (names, convert)
        options: tuple[Any, Any] = self._options[key]
        return options

    def _columns(self, parsed: Any, key: tuple[int, ...] | None) -> list[Any]:
        columns: list[Any] = [None] * len(self.columns)
        for index in range(len(self.columns)) if key is None else key:
            chunks = parsed.column(str(index))
            columns[index] = chunks.chunk(0) if chunks.num_chunks == 1 else chunks.combine_chunks()
        return columns

    def _refuse_bad_text(self, piece: Piece) -> None:
        if piece.data.isascii():
            return
        try:
            piece.data.decode("utf-8")
        except UnicodeDecodeError as error:
            before = piece.data[: error.start]
            at, record = next(found for found in self._records(piece) if found[1].end > error.start)
            line = at + line_breaks(piece.data[record.start : error.start])
            tail = before[max(before.rfind(b"\n"), before.rfind(b"\r")) + 1 :]
            raise not_in_encoding(self.name, line, len(tail.decode("utf-8", "replace")) + 1, piece.data[error.start], "utf-8") from None

    def _records(self, piece: Piece) -> Iterator[tuple[int, Record]]:
        """Each record of the piece's data with its line in the file; only where something is wrong with one."""
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
