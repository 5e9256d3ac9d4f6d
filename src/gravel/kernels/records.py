"""The records of CSV text by a compiled kernel; None where the reference is to be used."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.native.machine import allocated, kernels


class Scanned(NamedTuple):
    """The whole records that a buffer begins with: where they end, how many, their quoted fields
    and line ends; whether one may be an empty line, and whether all of it is UTF-8."""

    end: int
    records: int
    quoted: int
    lines: int
    blank: bool
    sound: bool


def scan_records(buffer: bytes, delimiter: bytes, last: bool) -> Scanned | None:
    """What a buffer begins with; `last`: no more follows. None also where a quote stands out of
    place, and where lines end in CR."""
    if not buffer or len(delimiter) != 1 or (native := kernels(len(buffer))) is None:
        return None
    results = np.zeros(6, np.int64)
    data = np.frombuffer(buffer, np.uint8)
    if not native.run("scan_records", data, delimiter[0], int(last), results):
        return None
    end, records, quoted, lines, blank, sound = results.tolist()
    return Scanned(end, records, quoted, lines, bool(blank), bool(sound))


def split_columns(
    data: bytes, delimiter: bytes, width: int, wanted: Sequence[int], rows: int, empty_null: bool
) -> list[pa.Array] | None:
    """The wanted columns of whole records as texts, of which `scan_records` has said that they are
    sound; `empty_null`: empty fields in quotes are NULL too. None also where a record has not
    `width` fields."""
    if len(delimiter) != 1 or not rows or len({*wanted}) < len(wanted):
        return None
    if (native := kernels(len(data))) is None:
        return None
    slots = np.full(width, -1, np.int32)
    slots[list(wanted)] = np.arange(len(wanted))
    source = np.frombuffer(data, np.uint8)
    starts, ends = (allocated(rows * len(wanted), np.int32) for _ in range(2))
    quoted = allocated(rows * len(wanted), np.uint8)
    done = native.run("split_fields", source, delimiter[0], slots, rows, starts, ends, quoted)
    if done < rows:
        return None
    columns = []
    for slot in range(len(wanted)):
        part = slice(slot * rows, (slot + 1) * rows)
        size = int((ends[part] - starts[part]).sum(dtype=np.int64))
        output, offsets = allocated(size, np.uint8), allocated(rows + 1, np.int32)
        valid = allocated((rows + 7) // 8, np.uint8)
        offsets[0] = 0
        valid[:] = 255
        places = (starts[part], ends[part], quoted[part])
        nulls = native.run(
            "gather_fields", source, *places, int(empty_null), output, offsets, valid
        )
        assert nulls >= 0
        buffers = [pa.py_buffer(array) for array in (valid, offsets, output)]
        columns.append(
            pa.StringArray.from_buffers(
                rows, buffers[1], buffers[2], buffers[0] if nulls else None, nulls
            )
        )
    return columns


def join_columns(columns: Sequence[pa.Array], delimiter: str, ending: str) -> bytes | None:
    """CSV records of columns of texts, each of the same length: quotes only where a text needs
    them, NULL as nothing, the empty text as ""."""
    rows, sign, last = len(columns[0]), delimiter.encode(), np.frombuffer(ending.encode(), np.uint8)
    buffers = [column.buffers() for column in columns]
    size = sum(0 if data is None else data.size for *_, data in buffers)
    if len(sign) != 1 or (native := kernels(size)) is None:
        return None
    offsets, known = (
        np.empty((len(columns), rows + 1), np.int64),
        np.ones((len(columns), rows), np.uint8),
    )
    texts, end = [], 0
    for place, (column, (_, ends, data)) in enumerate(zip(columns, buffers, strict=True)):
        own = np.frombuffer(ends, np.int32)[column.offset : column.offset + rows + 1]
        first, behind = int(own[0]), int(own[-1])
        np.add(own, end - first, out=offsets[place])
        if behind > first:
            texts.append(np.frombuffer(data, np.uint8)[first:behind])
            end += behind - first
        if column.null_count:
            known[place] = pc.is_valid(column).to_numpy(zero_copy_only=False)
    every = np.concatenate(texts) if texts else np.zeros(0, np.uint8)
    output = allocated(2 * end + rows * (3 * len(columns) + len(last)) + 16, np.uint8)
    columns_and_sizes = (every, offsets.reshape(-1), known.reshape(-1), rows)
    written = native.run("join_fields", *columns_and_sizes, sign[0], last, output)
    assert written >= 0
    return output[:written].tobytes()
