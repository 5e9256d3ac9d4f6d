"""What goes to the executors and comes back, as bytes: states, splits and questions by pickle, the
Arrow values in them as Arrow IPC streams, distinct values as arrays side by side."""

from __future__ import annotations

import io
import pickle
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.distinct import Counted, counted_hashes
from gravel.engine.hashed_rows import RowRange
from gravel.kernels.arrays import to_arrow

_SLICE = 1 << 18  # distinct values of a slice, which has 16 MiB at most


_COMPRESSED = 1 << 16  # bytes from which an array of numbers is compressed


class _Pickler(pickle.Pickler):
    def reducer_override(self, value: Any) -> Any:
        if isinstance(value, np.ndarray) and _is_long(value):
            data = pa.compress(np.ascontiguousarray(value), codec="zstd", asbytes=True)
            return _numbers, (data, value.dtype.str, value.nbytes)
        if isinstance(value, pa.ChunkedArray):
            return _array, (_stream(value.combine_chunks()),)
        if isinstance(value, pa.Array):
            return _array, (_stream(value),)
        if isinstance(value, pa.RecordBatch):
            return read_stream, (stream_of(value),)
        if isinstance(value, pa.Scalar):
            return _scalar, (_stream(pa.repeat(value, 1)),)
        return NotImplemented


def _is_long(array: np.ndarray) -> bool:
    return array.nbytes >= _COMPRESSED and array.ndim == 1 and not array.dtype.hasobject


def packed(value: Any) -> bytes:
    """A value as bytes; equal values with equal histories give equal bytes."""
    file = io.BytesIO()
    _Pickler(file, protocol=5).dump(value)
    return file.getvalue()


def unpacked(data: bytes | bytearray) -> Any:
    """The value."""
    return pickle.loads(data)


def _stream(array: pa.Array) -> bytes:
    return stream_of(pa.record_batch([array], ["values"]))


def stream_of(batch: pa.RecordBatch, compression: str | None = None) -> bytes:
    """Rows as an Arrow stream."""
    sink = pa.BufferOutputStream()
    options = pa.ipc.IpcWriteOptions(compression=compression)
    with pa.ipc.new_stream(sink, batch.schema, options=options) as writer:
        writer.write_batch(batch)
    return sink.getvalue().to_pybytes()


def read_stream(data: bytes) -> pa.RecordBatch:
    """The rows of an Arrow stream."""
    return pa.ipc.open_stream(data).read_next_batch()


def _numbers(data: bytes, kind: str, size: int) -> np.ndarray:
    buffer = pa.decompress(data, decompressed_size=size, codec="zstd")
    return np.frombuffer(buffer, kind).copy()


def _array(data: bytes) -> pa.Array:
    return pa.ipc.open_stream(data).read_all().column(0).combine_chunks()


def _scalar(data: bytes) -> pa.Scalar:
    return _array(data)[0]


def sliced(values: Iterable[Counted | RowRange], ranges: int) -> Iterator[tuple[int, bytes]]:
    """Distinct values, or rows, cut by the ranges of their hashes, as (range, Arrow stream). Those
    whose hashes share their upper bits stay together, as they do in `engine.spill`."""
    for piece in values:
        cuts = [0, *np.searchsorted(piece.first, edges_of(ranges)).tolist(), len(piece.first)]
        for number in range(ranges):
            for start in range(cuts[number], cuts[number + 1], _SLICE):
                end = min(start + _SLICE, cuts[number + 1])
                columns = [to_arrow(array[start:end]) for array in piece.arrays]
                batch = pa.record_batch(columns, [str(index) for index in range(len(columns))])
                yield number, stream_of(batch, "lz4")


def edges_of(ranges: int) -> np.ndarray:
    """The hashes that begin each range but the first."""
    edges = [(2**64 * index // ranges) >> 24 << 24 for index in range(1, ranges)]
    return np.array(edges, np.uint64)


def joined(streams: list[bytes], merged: bool) -> Counted:
    """The values of some slices; `merged`: equal ones put together."""
    first, second, counts, rows, *extra = _arrays(streams)
    if not merged:
        return Counted(first, second, counts, rows, tuple(extra))
    return counted_hashes(first, second, rows, counts, tuple(extra))


def joined_rows(streams: list[bytes]) -> RowRange:
    """The rows of some slices, in the order of the table."""
    arrays = _arrays(streams)
    order = np.argsort(arrays[2], kind="stable")
    return RowRange.of([array[order] for array in arrays])


def _arrays(streams: list[bytes]) -> list[np.ndarray]:
    tables = [pa.ipc.open_stream(data).read_all() for data in streams]
    return [
        np.concatenate([table.column(index).to_numpy() for table in tables])
        for index in range(tables[0].num_columns)
    ]
