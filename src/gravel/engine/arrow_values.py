"""Arrow values as stores keep them: the language's type for a store's, the values as plain arrays,
as texts, and as the store's again."""

from __future__ import annotations

import base64
import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.functions.casts import to_text
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    TEXT,
    TIME,
    TIMESTAMP,
    Kind,
    Type,
    decimal,
)

_BINARY = (
    pa.types.is_binary,
    pa.types.is_large_binary,
    pa.types.is_fixed_size_binary,
    pa.types.is_binary_view,
)


def type_of(arrow: pa.DataType) -> Type:
    """The language's type for an Arrow type; what it has none for is read as text."""
    kinds = pa.types
    if kinds.is_dictionary(arrow) or kinds.is_run_end_encoded(arrow):
        return type_of(arrow.value_type)
    if kinds.is_uint64(arrow):
        return decimal(20, 0)
    if kinds.is_integer(arrow):
        return INTEGER
    if kinds.is_floating(arrow):
        return DOUBLE
    if kinds.is_decimal(arrow) and arrow.precision <= 38 and 0 <= arrow.scale <= arrow.precision:
        return decimal(arrow.precision, arrow.scale)
    if kinds.is_boolean(arrow):
        return BOOLEAN
    if kinds.is_date(arrow):
        return DATE
    if kinds.is_time(arrow) and str(arrow) != "time64[ns]":
        return TIME
    if kinds.is_timestamp(arrow) and arrow.unit != "ns":
        return TIMESTAMP if arrow.tz is None else Type(Kind.ZONED)
    return TEXT


def is_binary(arrow: pa.DataType) -> bool:
    """Whether a type's values are bytes."""
    return any(test(arrow) for test in _BINARY)


def is_list(arrow: pa.DataType) -> bool:
    """Whether values of an Arrow type are lists of any kind."""
    kinds = pa.types
    return (
        kinds.is_list(arrow)
        or kinds.is_large_list(arrow)
        or kinds.is_fixed_size_list(arrow)
        or kinds.is_list_view(arrow)
        or kinds.is_large_list_view(arrow)
    )


def is_finest(arrow: pa.DataType) -> bool:
    """Whether a type has moments of nanoseconds, finer than the language's: those that are whole
    microseconds can be read as its own."""
    plain = plain_type(arrow)
    return bool(pa.types.is_timestamp(plain) and plain.unit == "ns")


def moments(values: pa.Array) -> tuple[pa.Array, bool]:
    """Moments of nanoseconds in the language's type, and whether all are whole microseconds."""
    values = plain(values)
    result = values.cast(pa.timestamp("us", values.type.tz), safe=False)
    whole = pc.equal(result.cast(values.type), values)
    return result, pc.all(whole, min_count=0).as_py() is not False


def has_type(arrow: pa.DataType) -> bool:
    """Whether the language has a type for an Arrow type; the others are read as their texts."""
    plain = plain_type(arrow)
    return type_of(plain) != TEXT or pa.types.is_string(plain) or pa.types.is_null(plain)


def plain_type(arrow: pa.DataType) -> pa.DataType:
    """The type of values without what only says how they are laid out: dictionaries, runs, long
    offsets, views."""
    kinds = pa.types
    if kinds.is_dictionary(arrow) or kinds.is_run_end_encoded(arrow):
        return plain_type(arrow.value_type)
    if kinds.is_large_string(arrow) or kinds.is_string_view(arrow):
        return pa.string()
    if kinds.is_large_binary(arrow) or kinds.is_binary_view(arrow):
        return pa.binary()
    return arrow


def plain(values: pa.Array) -> pa.Array:
    """The same values in the plain layout. Nothing is converted."""
    if pa.types.is_dictionary(values.type):
        return plain(values.dictionary_decode())
    if pa.types.is_run_end_encoded(values.type):
        return plain(pc.run_end_decode(values))
    to = plain_type(values.type)
    return values if to == values.type else values.cast(to)


def laid_out(values: pa.Array, arrow: pa.DataType, dictionary: pa.Array | None = None) -> pa.Array:
    """Plain values in a store's layout; `dictionary`: the values of all batches, where the layout
    has one. Raises ArrowInvalid where a value does not fit."""
    kinds = pa.types
    if kinds.is_dictionary(arrow):
        if dictionary is None:
            coded = values.dictionary_encode()
            dictionary, indices = coded.dictionary, coded.indices
        else:
            indices = pc.index_in(values, dictionary)
        return pa.DictionaryArray.from_arrays(
            indices.cast(arrow.index_type),
            laid_out(dictionary, arrow.value_type),
            ordered=arrow.ordered,
        )
    if kinds.is_run_end_encoded(arrow):
        return pc.run_end_encode(
            laid_out(values, arrow.value_type), run_end_type=arrow.run_end_type
        )
    return values if values.type == arrow else values.cast(arrow)


def text_of(stored: pa.Array, kind: Type = TEXT) -> pa.Array:
    """Values as the texts that a text file has for them; lists and records as JSON, bytes as
    base64. `kind`: what the language has them as, where that is more than their Arrow type says."""
    stored = plain(stored)
    arrow = stored.type
    if pa.types.is_string(arrow):
        return stored
    if pa.types.is_null(arrow):
        return pa.nulls(len(stored), pa.string())
    if kind.kind in (Kind.ARRAY, Kind.INTERVAL):
        return to_text(stored, kind)
    if pa.types.is_decimal(arrow):  # whatever its width
        return to_text(stored, Type(Kind.DECIMAL))
    if is_finest(arrow):
        result, all_whole = moments(stored)
        own = type_of(result.type)
        texts = to_text(result.cast(own.arrow), own)
        if all_whole:
            return texts
        return pc.if_else(pc.equal(result.cast(arrow), stored), texts, pc.cast(stored, pa.string()))
    own = type_of(arrow)
    if own != TEXT:
        return to_text(stored if arrow == own.arrow else stored.cast(own.arrow), own)
    if is_binary(arrow):
        return pa.array(
            [
                None if value is None else base64.b64encode(value).decode()
                for value in stored.to_pylist()
            ],
            pa.string(),
        )
    if pa.types.is_interval(arrow):
        return to_text(stored, Type(Kind.INTERVAL))
    if pa.types.is_nested(arrow):
        values = _python_values(stored)
        return pa.array(
            [
                None if value is None else json.dumps(value, ensure_ascii=False, default=str)
                for value in values
            ],
            pa.string(),
        )
    return pc.cast(stored, pa.string())


def _python_values(nested: pa.Array) -> list[Any]:
    """Nested values as Python's; texts stand for the times that Python has not: finer than a
    microsecond, or beyond the year 9999."""
    try:
        return nested.cast(_with_texts(nested.type, finest_alone=True)).to_pylist()
    except (ValueError, OverflowError):
        return nested.cast(_with_texts(nested.type, finest_alone=False)).to_pylist()


def _with_texts(arrow: pa.DataType, finest_alone: bool) -> pa.DataType:
    """A nested type with texts for its times: those of nanoseconds alone, or all."""
    kinds = pa.types
    if kinds.is_struct(arrow):
        return pa.struct(
            [field.with_type(_with_texts(field.type, finest_alone)) for field in arrow]
        )
    if kinds.is_map(arrow):
        return pa.map_(
            _with_texts(arrow.key_type, finest_alone), _with_texts(arrow.item_type, finest_alone)
        )
    if kinds.is_fixed_size_list(arrow):
        return pa.list_(_with_texts(arrow.value_type, finest_alone), arrow.list_size)
    if kinds.is_large_list(arrow) or kinds.is_large_list_view(arrow):
        return pa.large_list(_with_texts(arrow.value_type, finest_alone))
    if kinds.is_list(arrow) or kinds.is_list_view(arrow):
        return pa.list_(_with_texts(arrow.value_type, finest_alone))
    timed = kinds.is_temporal(arrow) and not kinds.is_interval(arrow)
    return (
        pa.string() if timed and (not finest_alone or getattr(arrow, "unit", "") == "ns") else arrow
    )


def of_type(stored: pa.Array, kind: Type) -> pa.Array:
    """Values that are not texts as values of the language's type."""
    stored = plain(stored)
    if kind == TEXT:
        return text_of(stored)
    if stored.type == kind.arrow or kind.kind in (Kind.ARRAY, Kind.INTERVAL):
        return stored
    return stored.cast(kind.arrow)


def children(array: pa.Array) -> tuple[np.ndarray, list[Any]] | None:
    """Of a nested array: how many items each row has, and the items of all rows, one after another,
    an array for each field; None for any other. A row that is NULL has none."""
    kinds, arrow = pa.types, array.type
    if kinds.is_struct(arrow):
        return np.ones(len(array), np.int64), array.flatten()
    if kinds.is_fixed_size_list(arrow):
        size = arrow.list_size
        start = array.offset * size
        return np.full(len(array), size, np.int64), [array.values.slice(start, len(array) * size)]
    if kinds.is_map(arrow):
        return _sliced(array, [array.keys, array.items])
    if kinds.is_list(arrow) or kinds.is_large_list(arrow):
        return _sliced(array, [array.values])
    if kinds.is_list_view(arrow) or kinds.is_large_list_view(arrow):
        return children(array.cast(pa.large_list(arrow.value_field)))
    return None


def _sliced(array: pa.Array, items: list[pa.Array]) -> tuple[np.ndarray, list[Any]]:
    offsets = array.offsets.to_numpy().astype(np.int64)
    return np.diff(offsets), [item.slice(offsets[0], offsets[-1] - offsets[0]) for item in items]
