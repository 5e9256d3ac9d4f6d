"""CAST between any two types: values, and a row error where a value does not fit.

Source: ISO/IEC 9075-2 <cast specification>; a text's plain spaces around it are ignored.
"""

from __future__ import annotations

import contextlib
import datetime
import json
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec.structs import replace

from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic, formats
from gravel.language.functions.buffers import (
    ByteSet,
    body,
    by_value,
    edges,
    matches,
    on_rows,
    rows_with,
    valid,
)
from gravel.language.functions.catalogue import KernelResult
from gravel.language.functions.json_texts import read_json, scalar_text
from gravel.language.types import INTEGER, MAX_DIGITS, TEXT, Kind, Target, Type, as_decimal

BAD_TEXT, OUT_OF_RANGE, TOO_LONG = CODES["22018"], CODES["22003"], CODES["22001"]
BAD_MOMENT, MOMENT_RANGE = CODES["22007"], CODES["22008"]
_SPACE = ByteSet(b" ")
_EXPONENT = ByteSet(b"eE")
_DECIMAL = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)$"
_DOUBLE = r"^[+-]?(([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?|(?i:infinity|inf|nan))$"
_DATE = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_TIME = r"[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,6})?"
FIRST_DAY, LAST_DAY = -719162, 2932896  # days from 1970-01-01 to 0001-01-01 and to 9999-12-31
# Of a form: its shortest text's length, and its first moment as Arrow counts.
_LEAST = {pa.date32(): (10, FIRST_DAY), pa.timestamp("us"): (19, FIRST_DAY * 86_400_000_000)}


def cast(array: pa.Array, source: Type, target: Target) -> KernelResult:
    """The array as the target's type; rows that do not fit have an error and NULL."""
    to = target.type
    if source.kind is Kind.NULL:
        return KernelResult(pa.nulls(len(array), to.arrow), None)
    if target.format is not None:
        return _formatted(array, source, target)
    if to.kind is Kind.TEXT:
        return _to_text_target(array, source, target)
    if to.kind is Kind.ARRAY and (source != to or target.length is not None or target.bits != 64):
        return _to_array(array, source, target)
    if source.kind is Kind.TEXT:
        result = _FROM_TEXT[to.kind](_without_spaces(array), to)
    elif source == to:
        result = KernelResult(array, None)
    else:
        result = _between(array, source, to)
    return _in_range(result, target) if target.bits != 64 else result


def _formatted(array: pa.Array, source: Type, target: Target) -> KernelResult:
    if target.type.kind is Kind.TEXT:
        texts = formats.write(array, formats.template(target.format or "", source.kind), source)
        return _to_text_target(texts, TEXT, replace(target, format=None))
    return formats.read(
        _without_spaces(array), formats.template(target.format or "", target.type.kind), target.type
    )


def widened(values: pa.Array, arrow: pa.DataType) -> pa.Array:
    """Values in a wider Arrow type, as `language.types.common` widens: to DOUBLE as the nearest
    double."""
    if values.type == arrow:
        return values
    if pa.types.is_floating(arrow) and not pa.types.is_null(values.type):
        return arithmetic.as_double(values)
    if pa.types.is_integer(values.type) and pa.types.is_decimal(arrow):
        return pc.cast(pc.cast(values, pa.decimal128(19, 0)), arrow)
    if pa.types.is_list(values.type) and pa.types.is_list(arrow):
        items = widened(values.values, arrow.value_type)
        return pa.ListArray.from_arrays(
            values.offsets, items, mask=pc.is_null(values) if values.null_count else None
        )
    return pc.cast(values, arrow)


def possible(source: Type, to: Type) -> bool:
    """Whether a cast between the two types has a meaning at all."""
    if to.kind is Kind.ARRAY and source.kind in (Kind.TEXT, Kind.ARRAY):
        return possible(source.item or TEXT, to.item or TEXT)
    if Kind.TEXT in (source.kind, to.kind):
        return (source.kind is Kind.TEXT and to.kind in _FROM_TEXT) or to.kind is Kind.TEXT
    numbers = (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE)
    moments = (Kind.DATE, Kind.TIMESTAMP, Kind.ZONED)
    return (
        source.kind in (Kind.NULL, to.kind)
        or (source.kind in numbers and to.kind in numbers)
        or (source.kind in moments and to.kind in moments)
        or (source.kind, to.kind) in ((Kind.BOOLEAN, Kind.INTEGER), (Kind.TIMESTAMP, Kind.TIME))
    )


def to_text(array: pa.Array, source: Type) -> pa.Array:
    """Every value as its text, as CAST AS TEXT gives it and as files get it."""
    kind = source.kind
    if kind is Kind.TEXT:
        return array
    if kind is Kind.NULL:
        return pa.nulls(len(array), pa.string())
    if kind is Kind.DECIMAL:
        texts = pc.cast(array, pa.string())
        # Arrow writes very small decimals with an exponent.
        return on_rows(
            texts,
            rows_with(texts, _EXPONENT),
            lambda subset: by_value(subset, lambda text: format(Decimal(text), "f")),
        )
    if kind is Kind.DOUBLE:
        return _double_text(array)
    if kind is Kind.ARRAY:
        return _array_text(array, kind_of_items(source))
    if kind is Kind.INTERVAL:
        return pa.array(
            [None if value is None else _interval_text(value) for value in array.to_pylist()],
            pa.string(),
        )
    if kind is Kind.TIME:
        return _without_zeros(pc.cast(array, pa.string()))
    if kind is Kind.ZONED:
        return pc.binary_join_element_wise(
            _without_zeros(pc.cast(pc.cast(array, pa.timestamp("us")), pa.string())), "+00", ""
        )
    if kind is Kind.TIMESTAMP:
        return _without_zeros(pc.cast(array, pa.string()))
    return pc.cast(array, pa.string())


def kind_of_items(source: Type) -> Type:
    """The type of an array's items."""
    return source.item or TEXT


def _array_text(array: pa.Array, item: Type) -> pa.Array:
    """Arrays as JSON: numbers and truth bare, everything else in quotes."""
    flat = array.flatten()
    bare = item.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.BOOLEAN, Kind.ARRAY)
    texts = [
        "null" if entry is None else entry if bare else json.dumps(entry, ensure_ascii=False)
        for entry in to_text(flat, item).to_pylist()
    ]
    if item.kind is Kind.DOUBLE:
        texts = [
            (
                "null"
                if entry is None
                else double_text(entry)
                if np.isfinite(entry)
                else f'"{double_text(entry)}"'
            )
            for entry in flat.to_pylist()
        ]
    sizes = pc.fill_null(pc.list_value_length(array), 0).to_pylist()
    result, index = [], 0
    for size, known in zip(sizes, valid(array).tolist(), strict=True):
        result.append("[" + ", ".join(texts[index : index + size]) + "]" if known else None)
        index += size
    return pa.array(result, pa.string())


def _without_zeros(texts: pa.Array) -> pa.Array:
    """Arrow writes six decimals of a second; zeros at the end say nothing."""
    return pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), ".")


def _interval_text(value: Any) -> str:
    """Years, months and days in words, then the time."""
    months, micros = abs(value.months), abs(value.nanoseconds) // 1000
    words = [
        (int(months / 12), "year", value.months < 0),
        (months % 12, "month", value.months < 0),
        (abs(value.days), "day", value.days < 0),
    ]
    parts = [
        f"{'-' if negative else ''}{count} {word}{'' if count == 1 else 's'}"
        for count, word, negative in words
        if count
    ]
    if micros or not parts:
        seconds, fraction = divmod(micros, 1_000_000)
        clock = f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}" + (
            f".{fraction:06d}".rstrip("0") if fraction else ""
        )
        parts.append(("-" if value.nanoseconds < 0 else "") + clock)
    return " ".join(parts)


def double_text(value: float) -> str:
    """A double as the language writes it: the shortest decimal that is read as it again."""
    if value != value:
        return "NaN"
    if value in (float("inf"), float("-inf")):
        return "Infinity" if value > 0 else "-Infinity"
    text = repr(value).removesuffix(".0")
    if 1e15 <= abs(value) < 1e16:
        # PostgreSQL writes an exponent from here on, Python from 1e16.
        digits = text.lstrip("-").replace(".", "")
        fraction = digits[1:].rstrip("0")
        return f"{'-' if value < 0 else ''}{digits[0]}{'.' if fraction else ''}{fraction}e+15"
    if "e" in text:
        mantissa, exponent = text.split("e")
        return f"{mantissa.removesuffix('.0')}e{exponent[0]}{exponent[1:].zfill(2)}"
    return text


def _double_text(array: pa.Array) -> pa.Array:
    # Between these bounds Arrow writes what `double_text` does, many times as fast; beyond them its
    # exponents are other ones.
    sizes = pc.abs(array.fill_null(1.0)).to_numpy(zero_copy_only=False)
    other = ~((sizes >= 1e-4) & (sizes < 1e9))
    texts = pc.cast(array, pa.string())
    if not other.any():
        return texts
    coded = array.filter(to_arrow(other)).dictionary_encode()
    written = pa.array(
        [double_text(value) for value in coded.dictionary.to_pylist()], pa.string()
    ).take(coded.indices)
    return pc.replace_with_mask(texts, to_arrow(other), written)


def _to_text_target(array: pa.Array, source: Type, target: Target) -> KernelResult:
    texts = to_text(array, source)
    if target.length is None:
        return KernelResult(texts, None)
    long = pc.fill_null(pc.greater(pc.utf8_length(texts), target.length), False)
    if not pc.any(long).as_py():
        return KernelResult(texts, None)
    return KernelResult(
        pc.if_else(long, pa.scalar(None, pa.string()), texts), _codes(long, TOO_LONG)
    )


def _codes(mask: Any, code: int) -> np.ndarray:
    flags: np.ndarray = (
        mask
        if isinstance(mask, np.ndarray)
        else pc.fill_null(mask, False).to_numpy(zero_copy_only=False)
    )
    return flags.astype(np.uint8) * code


def _without_spaces(array: pa.Array) -> pa.Array:
    first, last = edges(array, _SPACE)
    return on_rows(array, first | last, lambda subset: pc.ascii_trim(subset, " "))


def _only(array: pa.Array, good: np.ndarray) -> pa.Array:
    """The array with NULL where not good."""
    return array if good.all() else pc.if_else(to_arrow(good), array, pa.scalar(None, array.type))


_DIGITS = ByteSet(b"0123456789")


def _text_to_integer(array: pa.Array, to: Type) -> KernelResult:
    offsets, data = body(array)
    known = valid(array)
    if len(data) and _DIGITS.within(data).all():
        good = known & (offsets[1:] > offsets[:-1])
    else:
        good = matches(array, "^[+-]?[0-9]+$")
    long = good & ((offsets[1:] - offsets[:-1]) > 18)
    errors = _codes(known & ~good, BAD_TEXT)
    texts = _only(array, good & ~long)
    if (data == 43).any():
        texts = pc.utf8_ltrim(texts, "+")
    values = pc.cast(texts, pa.int64())
    if long.any():
        exact = [_whole(text) for text in array.filter(to_arrow(long)).to_pylist()]
        fits = [
            value if value is not None and -(2**63) <= value < 2**63 else None for value in exact
        ]
        values = pc.replace_with_mask(values, to_arrow(long), pa.array(fits, pa.int64()))
        errors[long] = [0 if value is not None else OUT_OF_RANGE for value in fits]
    return KernelResult(values, errors)


def _whole(text: str) -> int | None:
    """The number of digits with a sign, None where it has too many of them."""
    digits = text.lstrip("+-").lstrip("0")
    return None if len(digits) > 19 else int(digits or "0") * (-1 if text[0] == "-" else 1)


def _text_to_decimal(array: pa.Array, to: Type) -> KernelResult:
    offsets, _ = body(array)
    if (len(array) == 0 or np.diff(offsets).max() <= MAX_DIGITS) and not rows_with(
        array, _EXPONENT
    ).any():
        # Arrow reads just what the standard has, but for exponents; it refuses the whole array for
        # one mismatch, and wraps around beyond 38 digits.
        with contextlib.suppress(pa.ArrowInvalid):
            return KernelResult(pc.cast(array, to.arrow), None)
    known = valid(array)
    good = matches(array, _DECIMAL)
    errors = _codes(known & ~good, BAD_TEXT)
    texts = _only(array, good)
    offsets, _ = body(array)
    lengths = np.where(good, offsets[1:] - offsets[:-1], 0)
    if len(lengths) and lengths.max() > 36:
        values, codes = [], np.zeros(len(array), np.uint8)
        for row, text in enumerate(texts.to_pylist()):
            number = None if text is None else _rounded_within(Decimal(text), to)
            values.append(number)
            codes[row] = OUT_OF_RANGE if text is not None and number is None else 0
        return KernelResult(pa.array(values, to.arrow), np.maximum(errors, codes))
    point = pc.fill_null(pc.find_substring(texts, "."), -1).to_numpy(zero_copy_only=False)
    scale = int(np.where(point >= 0, lengths - point - 1, 0).max(initial=0))
    result = arithmetic.fit_decimal(pc.cast(texts, pa.decimal256(76 - 36 + scale, scale)), to)
    return KernelResult(
        result.values, errors if result.errors is None else np.maximum(errors, result.errors)
    )


def _rounded_within(number: Decimal, to: Type) -> Decimal | None:
    """A number at a DECIMAL's scale, None where it has more digits before the point than there is
    room for."""
    if not number:
        return Decimal(0)
    if number.adjusted() >= to.whole:
        return None
    rounded = arithmetic.round_half_away(number, to.scale)
    return rounded if not rounded or rounded.adjusted() < to.whole else None


def _text_to_double(array: pa.Array, to: Type) -> KernelResult:
    known = valid(array)
    good = matches(array, _DOUBLE)
    errors = _codes(known & ~good, BAD_TEXT)
    texts = _only(array, good)
    if len(array) and (body(array)[1] == 43).any():
        texts = pc.replace_substring_regex(texts, r"^\+", "")
    values = pc.cast(texts, pa.float64())
    numbers = arithmetic.numpy_values(values, 0.0)
    odd = good & (np.isinf(numbers) | (numbers == 0))
    if odd.any():
        # A finite text that became infinite, or one other than zero that became zero, is out of
        # range.
        subset = array.filter(to_arrow(odd))
        named = matches(subset, "(?i)inf|^[^1-9]*([eE].*)?$")
        errors[np.flatnonzero(odd)[~named]] = OUT_OF_RANGE
        values = _only(values, errors == 0)
    return KernelResult(values, errors)


def _text_to_boolean(array: pa.Array, to: Type) -> KernelResult:
    lower = pc.ascii_lower(array)
    good = pc.fill_null(pc.is_in(lower, pa.array(["true", "false"])), False).to_numpy(
        zero_copy_only=False
    )
    return KernelResult(
        pc.equal(_only(lower, good), pa.scalar("true")), _codes(valid(array) & ~good, BAD_TEXT)
    )


def _strict_moments(array: pa.Array, form: str, arrow: pa.DataType) -> KernelResult:
    """Texts of that form to Arrow's type; those of the form that name no real day are 22008, others
    22007."""
    if arrow in _LEAST and (pc.min(pc.binary_length(array)).as_py() or 0) >= _LEAST[arrow][0]:
        # Arrow reads just these forms where no text is shorter; it refuses the whole array for one
        # mismatch, and has a year 0.
        with contextlib.suppress(pa.ArrowInvalid):
            values = pc.cast(array, arrow)
            if pc.min(values).value >= _LEAST[arrow][1]:
                return KernelResult(values, None)
    known = valid(array)
    shaped = matches(array, form)
    errors = _codes(known & ~shaped, BAD_MOMENT)
    good = _only(array, shaped)
    try:
        if pa.types.is_time(arrow):
            # Arrow reads no times of day alone.
            values = pc.cast(
                pc.cast(pc.binary_join_element_wise("1970-01-01 ", good, ""), pa.timestamp("us")),
                arrow,
            )
        else:
            values = pc.cast(good, arrow)
    except pa.ArrowInvalid:
        results = [_moment(text, arrow) for text in good.to_pylist()]
        values = pa.array(results, arrow)
        errors[shaped & ~valid(values)] = MOMENT_RANGE
    year_zero = matches(good, "^0000")
    if year_zero.any():
        errors[year_zero] = MOMENT_RANGE
        values = _only(values, errors == 0)
    return KernelResult(values, errors)


def _moment(text: str | None, arrow: pa.DataType) -> Any:
    if text is None:
        return None
    try:
        if pa.types.is_date(arrow):
            return datetime.date.fromisoformat(text)
        if pa.types.is_time(arrow):
            return datetime.time.fromisoformat(text)
        return datetime.datetime.fromisoformat(text)
    except ValueError:
        return None


def _text_to_date(array: pa.Array, to: Type) -> KernelResult:
    return _strict_moments(array, _DATE, pa.date32())


def _text_to_time(array: pa.Array, to: Type) -> KernelResult:
    return _strict_moments(array, f"^{_TIME}$", pa.time64("us"))


def _text_to_timestamp(array: pa.Array, to: Type) -> KernelResult:
    return _strict_moments(array, f"{_DATE[:-1]}[ T]{_TIME}$", pa.timestamp("us"))


_ZONE = r"(Z|[+-][0-9]{2}(:?[0-9]{2})?)$"


def _text_to_zoned(array: pa.Array, to: Type) -> KernelResult:
    """A timestamp with its offset from UTC; kept as UTC."""
    shaped = matches(array, f"{_DATE[:-1]}[ T]{_TIME}{_ZONE}")
    errors = _codes(valid(array) & ~shaped, BAD_MOMENT)
    values: list[Any] = []
    for row, text in enumerate(_only(array, shaped).to_pylist()):
        try:
            moment = (
                None
                if text is None
                else datetime.datetime.fromisoformat(text).astimezone(datetime.UTC)
            )
        except (ValueError, OverflowError):
            moment, errors[row] = None, MOMENT_RANGE
        values.append(moment)
    return KernelResult(pa.array(values, to.arrow), errors)


_FROM_TEXT = {
    Kind.INTEGER: _text_to_integer,
    Kind.DECIMAL: _text_to_decimal,
    Kind.DOUBLE: _text_to_double,
    Kind.BOOLEAN: _text_to_boolean,
    Kind.DATE: _text_to_date,
    Kind.TIME: _text_to_time,
    Kind.TIMESTAMP: _text_to_timestamp,
    Kind.ZONED: _text_to_zoned,
}


def _to_array(array: pa.Array, source: Type, target: Target) -> KernelResult:
    """Arrays, or texts that are JSON arrays, as arrays of other items; an item that does not fit is
    its row's error."""
    errors = np.zeros(len(array), np.uint8)
    lists = array
    if source.kind is Kind.TEXT:
        lists = by_value(array, _json_items, pa.list_(pa.string()))
        errors[valid(array) & ~valid(lists)] = BAD_TEXT
    item = source.item or TEXT
    sizes = arithmetic.numpy_values(pc.list_value_length(lists))
    items = cast(lists.flatten(), item, target.item)
    if items.errors is not None and items.errors.any():
        rows = np.repeat(np.arange(len(lists)), sizes)
        wrong = np.flatnonzero(items.errors)[::-1]  # the first of a row is set last
        errors[rows[wrong]] = items.errors[wrong]
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    known = valid(lists) & (errors == 0)
    values = pa.ListArray.from_arrays(
        to_arrow(offsets, pa.int32()), items.values, mask=None if known.all() else to_arrow(~known)
    )
    return KernelResult(values, errors if errors.any() else None)


def _json_items(text: str) -> list[str | None] | None:
    """The items of a JSON array as texts; None for what is none."""
    try:
        items = read_json(text)
    except ValueError:
        return None
    return [scalar_text(item) for item in items] if isinstance(items, list) else None


def _between(array: pa.Array, source: Type, to: Type) -> KernelResult:
    kinds = (source.kind, to.kind)
    if to.kind is Kind.DOUBLE:
        return KernelResult(arithmetic.as_double(array), None)
    if source.kind is Kind.DOUBLE:
        return _from_double(array, to)
    if to.kind is Kind.DECIMAL:
        exact = pc.cast(array, as_decimal(source).arrow) if source == INTEGER else array
        return arithmetic.fit_decimal(exact, to)
    if kinds == (Kind.DECIMAL, Kind.INTEGER):
        whole = arithmetic.rounded(array, 0)
        low, high = (
            pa.scalar(Decimal(bound), pa.decimal128(19, 0)) for bound in (-(2**63), 2**63 - 1)
        )
        bad = pc.fill_null(pc.or_(pc.less(whole, low), pc.greater(whole, high)), False)
        kept = pc.if_else(bad, pa.scalar(None, whole.type), whole)
        return KernelResult(
            pc.cast(pc.cast(kept, pa.decimal256(kept.type.precision, kept.type.scale)), pa.int64()),
            _codes(bad, OUT_OF_RANGE),
        )
    if kinds in ((Kind.TIMESTAMP, Kind.DATE), (Kind.ZONED, Kind.DATE)):
        days = arithmetic.numpy_values(pc.cast(array, pa.int64())) // 86_400_000_000
        return KernelResult(
            pc.cast(to_arrow(days.astype(np.int32), mask=~valid(array)), pa.date32()), None
        )
    if kinds == (Kind.TIMESTAMP, Kind.TIME):
        micros = arithmetic.numpy_values(pc.cast(array, pa.int64())) % 86_400_000_000
        return KernelResult(to_arrow(micros, pa.time64("us"), mask=~valid(array)), None)
    return KernelResult(pc.cast(array, to.arrow, safe=False), None)


def _from_double(array: pa.Array, to: Type) -> KernelResult:
    """Doubles to exact numbers by their shortest decimal text, rounded half away from zero."""
    good = valid(array)
    numbers = arithmetic.numpy_values(array, 0.0)
    if to.kind is Kind.INTEGER:
        with np.errstate(invalid="ignore"):
            half = np.trunc(numbers + np.copysign(0.5, numbers))
            # Adding a half is wrong only next to it, and where doubles are whole anyway.
            near = np.where(np.abs(numbers - np.trunc(numbers)) < 0.5, np.trunc(numbers), half)
        rounded = np.where(np.abs(numbers) >= 2.0**52, numbers, near)
        fits = np.isfinite(numbers) & (rounded >= -(2.0**63)) & (rounded < 2.0**63)
        errors = _codes(good & ~fits, OUT_OF_RANGE)
        return arithmetic.result(np.where(fits, rounded, 0).astype(np.int64), good, errors, to)
    values, errors = [], np.zeros(len(array), np.uint8)
    for row, number in enumerate(array.to_pylist()):
        exact = (
            None
            if number is None or not np.isfinite(number)
            else _rounded_within(Decimal(repr(number)), to)
        )
        values.append(exact)
        errors[row] = OUT_OF_RANGE if number is not None and exact is None else 0
    return KernelResult(pa.array(values, to.arrow), errors)


def _in_range(result: KernelResult, target: Target) -> KernelResult:
    bound = 2 ** (target.bits - 1)
    bad = pc.fill_null(
        pc.or_(pc.less(result.values, -bound), pc.greater_equal(result.values, bound)), False
    )
    codes = _codes(bad, OUT_OF_RANGE)
    return KernelResult(
        pc.if_else(bad, pa.scalar(None, pa.int64()), result.values),
        codes if result.errors is None else np.maximum(result.errors, codes),
    )


def python_literal(value: Any, kind: Type) -> str:
    """A value as SQL text, for messages and examples."""
    if value is None:
        return "NULL"
    if kind.kind is Kind.TEXT:
        return "'" + str(value).replace("'", "''") + "'"
    text = to_text(pa.array([value], kind.arrow), kind)[0].as_py()
    if kind.kind is Kind.BOOLEAN:
        return str(text).upper()
    if kind.kind in (Kind.DATE, Kind.TIMESTAMP, Kind.TIME, Kind.INTERVAL, Kind.ZONED):
        return f"{kind.kind.value} '{text}'"
    if kind.kind is Kind.ARRAY:
        return "ARRAY[" + ", ".join(python_literal(item, kind.item or TEXT) for item in value) + "]"
    return str(text)
