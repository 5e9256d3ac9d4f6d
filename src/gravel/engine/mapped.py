"""Columns in temporary files, for what is larger than the memory it is given: the system may drop their pages at any time."""

from __future__ import annotations

import mmap
import os
import tempfile
import weakref
from collections.abc import Iterable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.memory import give_back_freed_blocks
from gravel.language.functions.buffers import body
from gravel.problems import TableProblem

_ROWS = 1 << 18  # rows of a column that are taken at a time


class Store:
    """Room for so many bytes of columns; what does not fit is kept in a file (`spilled`: bytes written). Raises TableProblem where the disk
    is full."""

    def __init__(self, memory: int) -> None:
        self.memory, self.held, self.spilled = memory, 0, 0
        self._maps: list[weakref.ref[mmap.mmap]] = []

    def fits(self, size: int) -> bool:
        """Whether so many bytes more may be held; if so they are counted."""
        if self.held + size > self.memory:
            return False
        self.held += size
        return True

    def column(self, parts: Iterable[Any], kind: Any) -> Any:
        """Arrays one after another, in a file."""
        if pa.types.is_boolean(kind) or pa.types.is_null(kind) or not _simple(kind):
            return pa.concat_arrays([pa.nulls(0, kind), *parts])  # bits are small; lists are rare
        kept = _Kept(kind)
        made = kept.take_in(parts)
        self.spilled += made.nbytes
        self._maps += [weakref.ref(one) for one in kept.maps]
        return made

    def let_go(self) -> None:
        """Drop the pages of its files that are in memory; they are read again when they are asked for."""
        self._maps = [one for one in self._maps if one() is not None]
        for reference in self._maps:
            mapped = reference()
            if mapped is not None and hasattr(mmap, "MADV_DONTNEED"):
                mapped.madvise(mmap.MADV_DONTNEED)
        give_back_freed_blocks()

    def taken(self, values: Any, rows: np.ndarray) -> Any:
        """These rows of an array (below 0: NULL), in a file where they do not fit."""
        size = int(values.nbytes * (len(rows) / max(1, len(values))))
        parts = (_some(values, rows[at : at + _ROWS]) for at in range(0, len(rows), _ROWS))
        if self.fits(size) or not len(rows):
            return _some(values, rows)
        return self.column(parts, values.type)


def _some(values: Any, rows: np.ndarray) -> Any:
    if not len(rows) or int(rows.min()) >= 0:
        return values.take(pa.array(rows))
    return values.take(pa.array(np.maximum(rows, 0), mask=rows < 0)) if len(values) else pa.nulls(len(rows), values.type)


def _simple(kind: Any) -> bool:
    try:
        return pa.types.is_string(kind) or kind.bit_width >= 8
    except ValueError:
        return False


class _Kept:
    """One column being written: its values, and for texts where each ends; which are NULL stays in memory as bits."""

    def __init__(self, kind: Any) -> None:
        self.kind = kind
        self.maps: list[mmap.mmap] = []
        self.text = pa.types.is_string(kind)
        self._values = tempfile.TemporaryFile(prefix="gravel-")  # noqa: SIM115  mapped until the array goes
        self._offsets = tempfile.TemporaryFile(prefix="gravel-") if self.text else None  # noqa: SIM115

    def take_in(self, parts: Iterable[Any]) -> Any:
        """The column of some arrays."""
        count, end, known = 0, 0, []
        try:
            if self._offsets is not None:
                self._offsets.write(np.zeros(1, np.int32).data)
            for part in parts:
                count += len(part)
                known.append(_valid(part))
                if self._offsets is not None:
                    offsets, data = body(part.fill_null("") if part.null_count else part)
                    if end + len(data) >= 2**31:
                        raise TableProblem("a column has more than 2 GiB of text", hint="ask of fewer rows, or of its shorter columns")
                    self._values.write(np.ascontiguousarray(data).data)
                    self._offsets.write((offsets[1:] + np.int32(end)).astype(np.int32).data)
                    end += len(data)
                else:
                    width = self.kind.bit_width // 8
                    buffer = part.buffers()[1]
                    self._values.write(memoryview(buffer)[part.offset * width : (part.offset + len(part)) * width])
            self._values.flush()
        except OSError as error:
            raise TableProblem(
                f"what does not fit in memory cannot be kept in {tempfile.gettempdir()}: {(error.strerror or str(error)).lower()}",
                hint="give more memory with --memory, or another folder with the environment's TMPDIR",
            ) from None
        every = np.concatenate(known) if known else np.zeros(0, bool)
        valid = None if every.all() else pa.py_buffer(np.packbits(every, bitorder="little"))
        if self._offsets is None:
            return pa.Array.from_buffers(self.kind, count, [valid, self._mapped(self._values)])
        self._offsets.flush()
        return pa.Array.from_buffers(self.kind, count, [valid, self._mapped(self._offsets), self._mapped(self._values)])

    def _mapped(self, file: Any) -> Any:
        size = os.fstat(file.fileno()).st_size
        if not size:
            return pa.py_buffer(b"")
        self.maps.append(mmap.mmap(file.fileno(), size, access=mmap.ACCESS_READ))
        return pa.py_buffer(self.maps[-1])


def _valid(part: Any) -> np.ndarray:
    found: np.ndarray = pc.is_valid(part).to_numpy(zero_copy_only=False)
    return found
