"""Columns in temporary files, for what is larger than the memory it is given: the system may drop
their pages at any time."""

from __future__ import annotations

import mmap
import os
import weakref
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.spill_file import open_spill_file, spill_problem
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import body
from gravel.problems import TableProblem

_ROWS = 1 << 18  # rows of a column that are taken at a time


class Store:
    """Room for so many bytes of columns; what does not fit is kept in a file (`spilled`: bytes
    written). Raises TableProblem where the disk is full."""

    def __init__(self, memory: int) -> None:
        self.memory, self.held, self.spilled = memory, 0, 0
        self._maps: list[weakref.ref[mmap.mmap]] = []

    def has_room(self, size: int) -> bool:
        """Whether so many bytes more may be held."""
        return self.held + size <= self.memory

    def fits(self, size: int) -> bool:
        """Whether so many bytes more may be held; if so they are counted."""
        if not self.has_room(size):
            return False
        self.held += size
        return True

    def writer(self, kind: pa.DataType) -> ColumnWriter:
        """A column in a file, to be written part by part."""
        return ColumnWriter(kind, self)

    def column(self, parts: Iterable[Any], kind: pa.DataType) -> pa.Array:
        """Arrays one after another, in a file."""
        writer = self.writer(kind)
        for part in parts:
            writer.write(part)
        return writer.close()

    def wrote(self, size: int, maps: Sequence[mmap.mmap]) -> None:
        """Take note of a column that is in a file now."""
        self.spilled += size
        self._maps += [weakref.ref(item) for item in maps]

    def let_go(self) -> None:
        """Drop the pages of its files that are in memory; they are read again when they are asked
        for."""
        self._maps = [item for item in self._maps if item() is not None]
        for reference in self._maps:
            mapped = reference()
            if mapped is not None and hasattr(mmap, "MADV_DONTNEED"):
                mapped.madvise(mmap.MADV_DONTNEED)
        give_back_freed_blocks()

    def taken(self, values: pa.Array, rows: np.ndarray) -> pa.Array:
        """These rows of an array (below 0: NULL), in a file where they do not fit."""
        size = int(values.nbytes * (len(rows) / max(1, len(values))))
        parts = (_some(values, rows[index : index + _ROWS]) for index in range(0, len(rows), _ROWS))
        result = (
            _some(values, rows)
            if self.fits(size) or not len(rows)
            else self.column(parts, values.type)
        )
        if self.spilled:
            self.let_go()
        return result


def _some(values: pa.Array, rows: np.ndarray) -> pa.Array:
    if not len(rows) or int(rows.min()) >= 0:
        return values.take(to_arrow(rows))
    return (
        values.take(to_arrow(np.maximum(rows, 0), mask=rows < 0))
        if len(values)
        else pa.nulls(len(rows), values.type)
    )


def _simple(kind: pa.DataType) -> bool:
    try:
        return pa.types.is_string(kind) or kind.bit_width >= 8
    except ValueError:
        return False


class ColumnWriter:
    """One column being written: its values, and for texts where each ends; which are NULL stays in
    memory as bits, and so do columns of bits and of lists. Raises TableProblem where the disk is
    full, or no more files may be open."""

    def __init__(self, kind: pa.DataType, store: Store) -> None:
        self._kind, self._store, self._count, self._end = kind, store, 0, 0
        self._held: list[Any] | None = None
        self._known: list[np.ndarray] = []
        self._offsets = None
        if pa.types.is_boolean(kind) or pa.types.is_null(kind) or not _simple(kind):
            self._held = [pa.nulls(0, kind)]  # bits are small; lists are rare
            return
        # It is mapped until the array goes.
        self._values = open_spill_file()
        if pa.types.is_string(kind):
            self._offsets = open_spill_file()
            self._offsets.write(np.zeros(1, np.int32).data)

    def write(self, part: pa.Array) -> None:
        """Put an array at the end."""
        if self._held is not None:
            self._held.append(part)
            return
        self._count += len(part)
        self._known.append(_valid(part))
        try:
            if self._offsets is None:
                width = self._kind.bit_width // 8
                self._values.write(
                    memoryview(part.buffers()[1])[
                        part.offset * width : (part.offset + len(part)) * width
                    ]
                )
                return
            offsets, data = body(part.fill_null("") if part.null_count else part)
            if self._end + len(data) >= 2**31:
                raise TableProblem(
                    "a column has more than 2 GiB of text",
                    hint="ask of fewer rows, or of its shorter columns",
                )
            self._values.write(np.ascontiguousarray(data).data)
            self._offsets.write((offsets[1:] + np.int32(self._end)).astype(np.int32).data)
            self._end += len(data)
        except OSError as error:
            raise spill_problem(error) from None

    def close(self) -> pa.Array:
        """The column."""
        if self._held is not None:
            return pa.concat_arrays(self._held)
        every = np.concatenate(self._known) if self._known else np.zeros(0, bool)
        buffers = [None if every.all() else pa.py_buffer(np.packbits(every, bitorder="little"))]
        maps: list[mmap.mmap] = []
        for file in (self._values,) if self._offsets is None else (self._offsets, self._values):
            try:
                file.flush()
            except OSError as error:
                raise spill_problem(error) from None
            size = os.fstat(file.fileno()).st_size
            if size:
                maps.append(mmap.mmap(file.fileno(), size, access=mmap.ACCESS_READ))
            buffers.append(pa.py_buffer(maps[-1] if size else b""))
        result = pa.Array.from_buffers(self._kind, self._count, buffers)
        self._store.wrote(result.nbytes, maps)
        return result


def _valid(part: pa.Array) -> np.ndarray:
    result: np.ndarray = pc.is_valid(part).to_numpy(zero_copy_only=False)
    return result
