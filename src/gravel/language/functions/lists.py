"""Lists in a field: texts that hold several values with a delimiter between them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import BLANKS
from gravel.language.functions import arithmetic
from gravel.language.functions.buffers import valid
from gravel.language.functions.catalogue import function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant
from gravel.language.types import TEXT, Kind, Type


def pieces(text: str, delimiter: str) -> list[str]:
    """The pieces of a list; '' is the empty one. Raises RowFailure for an empty delimiter."""
    if not delimiter:
        raise RowFailure("22023")
    return text.split(delimiter) if text else []


def split(x: pa.Array, delimiter: pa.Scalar) -> pa.Array:
    """An Arrow list array of the pieces, or a KernelResult where a delimiter is empty."""
    if constant(delimiter) and delimiter.as_py():
        result = pc.split_pattern(x, delimiter.as_py())
        empty = pc.fill_null(pc.equal(x, ""), False)
        return (
            pc.if_else(empty, pa.scalar([], pa.list_(pa.string())), result)
            if pc.any(empty).as_py()
            else result
        )
    return by_row(pieces, x, delimiter, to=pa.list_(pa.string()))


def _lists(types: list[Type], values: list[Any]) -> Type:
    return Type(Kind.ARRAY, item=TEXT)


@function(
    "LIST_ITEMS(x TEXT, delimiter TEXT) ARRAY",
    meaning="the pieces of x between the delimiters, as an array; that of '' is empty",
    examples={
        "LIST_ITEMS('water;power', ';')": "ARRAY['water', 'power']",
        "LIST_ITEMS('', ';')": "ARRAY[]",
    },
    errors=("22023",),
    result=_lists,
)
def list_items(x: pa.Array, delimiter: pa.Scalar) -> pa.Array:
    return split(x, delimiter)


@function(
    "LIST_SIZE(x TEXT, delimiter TEXT) INTEGER",
    meaning="how many pieces x has between the delimiters, empty ones too; '' has 0",
    examples={
        "LIST_SIZE('a;;b', ';')": "3",
        "LIST_SIZE('', ';')": "0",
        "LIST_SIZE('a', '')": "error 22023",
    },
    errors=("22023",),
)
def list_size(x: pa.Array, delimiter: pa.Scalar) -> Any:
    if constant(delimiter) and delimiter.as_py():
        counts = pc.add(pc.cast(pc.count_substring(x, delimiter.as_py()), pa.int64()), 1)
        return pc.if_else(pc.equal(x, ""), pa.scalar(0, pa.int64()), counts)
    return by_row(lambda text, sign: len(pieces(text, sign)), x, delimiter, to=pa.int64())


@function(
    "LIST_ITEM(x TEXT, delimiter TEXT, n INTEGER) TEXT",
    meaning=(
        "the nth piece of x between the delimiters, for n below 0 counted from the end; NULL beyond"
        " the ends"
    ),
    examples={
        "LIST_ITEM('water;power;mail', ';', 2)": "'power'",
        "LIST_ITEM('water;power', ';', -1)": "'power'",
        "LIST_ITEM('water', ';', 2)": "NULL",
        "LIST_ITEM('water', ';', 0)": "error 22023",
    },
    errors=("22023",),
)
def list_item(x: pa.Array, delimiter: pa.Scalar, n: pa.Scalar) -> Any:
    if not (constant(delimiter, n) and delimiter.as_py() and n.as_py()):
        return by_row(_item, x, delimiter, n)
    lists = split(x, delimiter)
    place, offsets = n.as_py(), arithmetic.numpy_values(lists.offsets)
    index = offsets[:-1] + place - 1 if place > 0 else offsets[1:] + place
    inside = valid(lists) & (index >= offsets[:-1]) & (index < offsets[1:])
    return lists.values.take(to_arrow(np.where(inside, index, 0), mask=~inside))


def _item(text: str, delimiter: str, n: int) -> str | None:
    if n == 0:
        raise RowFailure("22023")
    result = pieces(text, delimiter)
    index = n - 1 if n > 0 else len(result) + n
    return result[index] if 0 <= index < len(result) else None


@function(
    "ARRAY([x T]...) ARRAY",
    meaning="ARRAY[a, b, …]: an array of these values; ARRAY (SELECT …) in a query has a query's",
    examples={
        "ARRAY['water', 'power']": "ARRAY['water', 'power']",
        "ARRAY[1, NULL]": "ARRAY[1, NULL]",
    },
    result=lambda types, values: Type(Kind.ARRAY, item=types[0] if types else TEXT),
)
def array(*items: Any, to: Type) -> pa.Array:
    if not items:
        return pa.array([[]], to.arrow)
    columns = arithmetic.arrays(*items)
    count, width = len(columns[0]), len(columns)
    order = np.arange(count * width).reshape(width, count).T.ravel()
    offsets = to_arrow(np.arange(0, count * width + 1, width), pa.int32())
    return pa.ListArray.from_arrays(offsets, pa.concat_arrays(columns).take(to_arrow(order)))


@function(
    "CARDINALITY(a ARRAY) INTEGER",
    meaning="how many items an array has",
    examples={
        "CARDINALITY(LIST_ITEMS('water;power', ';'))": "2",
        "CARDINALITY(CAST('[]' AS TEXT ARRAY))": "0",
    },
)
def cardinality(a: Any) -> pa.Array:
    (lists,) = arithmetic.arrays(a)
    return pc.cast(pc.list_value_length(lists), pa.int64())


@function(
    "a ARRAY[n INTEGER] : ANY",
    name="[]",
    meaning="the nth item of an array, from 1; NULL where there is none",
    examples={
        "LIST_ITEMS('water;power', ';')[2]": "'power'",
        "CAST('[10, 20]' AS INTEGER ARRAY)[3]": "NULL",
    },
    result=lambda types, values: types[0].item or TEXT,
)
def element(a: Any, n: Any) -> pa.Array:
    lists, places = arithmetic.arrays(a, n)
    offsets = arithmetic.numpy_values(lists.offsets)
    place = arithmetic.numpy_values(places)
    index = offsets[:-1] + place - 1
    inside = valid(lists) & valid(places) & (place >= 1) & (place <= np.diff(offsets))
    return lists.values.take(to_arrow(np.where(inside, index, 0), mask=~inside))


@function(
    "a T || b T : T",
    name="|| of arrays",
    meaning="the items of one array, then those of the other; NULL if either is",
    examples={
        "ARRAY['water'] || LIST_ITEMS('power;mail', ';')": "ARRAY['water', 'power', 'mail']",
        "ARRAY[1] || ARRAY[2.5]": "ARRAY[1.0, 2.5]",
    },
)
def concatenation(a: Any, b: Any) -> pa.Array:
    first, second = arithmetic.arrays(a, b)
    known = valid(first) & valid(second)
    sides = [side.filter(to_arrow(known)) for side in (first, second)]
    sizes = [pc.list_value_length(side).to_numpy() for side in sides]
    rows = [np.repeat(np.arange(len(size)), size) for size in sizes]
    order = np.argsort(np.concatenate(rows), kind="stable")
    items = pa.concat_arrays([side.flatten() for side in sides]).take(to_arrow(order))
    each = np.zeros(len(known), np.int64)
    each[known] = sizes[0] + sizes[1]
    offsets = to_arrow(np.concatenate([[0], np.cumsum(each)]), pa.int32())
    return pa.ListArray.from_arrays(offsets, items, mask=None if known.all() else to_arrow(~known))


@function(
    "TIDY_LIST(x TEXT, delimiter TEXT) TEXT",
    meaning=(
        "the list with the delimiter as given between its pieces, without white space around them"
        " and without blank pieces"
    ),
    examples={
        "TIDY_LIST('water ;power;; mail', ';')": "'water;power;mail'",
        "TIDY_LIST('water,power', ', ')": "'water, power'",
        "TIDY_LIST(' ; ', ';')": "''",
        "TIDY_LIST('a', ' ')": "error 22023",
    },
    errors=("22023",),
)
def tidy_list(x: pa.Array, delimiter: pa.Scalar) -> Any:
    return by_row(
        lambda text, sign: sign.join(piece for piece in trimmed_pieces(text, sign) if piece),
        x,
        delimiter,
    )


@function(
    "LIST_HAS_BLANKS(x TEXT, delimiter TEXT) BOOLEAN",
    meaning="whether a piece of the list is empty or only white space; '' has no pieces",
    examples={
        "LIST_HAS_BLANKS('water;;mail', ';')": "TRUE",
        "LIST_HAS_BLANKS('water; mail', ';')": "FALSE",
        "LIST_HAS_BLANKS('', ';')": "FALSE",
    },
    errors=("22023",),
)
def list_has_blanks(x: pa.Array, delimiter: pa.Scalar) -> pa.Array:
    return by_row(lambda text, sign: "" in trimmed_pieces(text, sign), x, delimiter, to=pa.bool_())


def trimmed_pieces(text: str, delimiter: str) -> list[str]:
    """The pieces without white space around them; that of a delimiter does not matter. Raises
    RowFailure where it is blank, unless it is a line break or a tab."""
    sign = delimiter.strip(BLANKS) or (delimiter if delimiter in ("\n", "\t") else "")
    return [piece.strip(BLANKS) for piece in pieces(text, sign)]
