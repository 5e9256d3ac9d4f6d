"""The file of rejected rows: each row that a step dropped, merged or set aside, with its number,
its path and the reason."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.plans.ledger import ExitKind
from gravel.plans.steps import Left, same
from gravel.sinks.csv import encode
from gravel.sources.dialect import Dialect
from gravel.sources.source import Malformed

LEFT_COLUMNS = (
    "gravel_row",
    "gravel_path",
    "gravel_step",
    "gravel_outcome",
    "gravel_reason",
    "gravel_sqlstate",
    "gravel_column",
    "gravel_into",
)


def packed(
    left: Sequence[Left], malformed: Sequence[Malformed], names: Sequence[str], dialect: Dialect
) -> bytes:
    """Some rows that left, and malformed records, as CSV records in source order; a row that a step
    made has no number."""
    parts = list(left)
    if malformed:
        nothing = same(None, len(malformed))
        numbers = np.array([item.row for item in malformed])
        paths = pc.cast(to_arrow(numbers), pa.string())
        texts = pa.array([item.text for item in malformed], pa.string())
        parts.append(
            Left(0, ExitKind.SET_ASIDE, numbers, paths, texts, nothing, nothing, nothing, (), [])
        )
    if not parts:
        return b""
    numbers = np.concatenate([part.numbers for part in parts])
    order = to_arrow(np.argsort(numbers, kind="stable"))
    columns = [
        pc.cast(to_arrow(numbers, mask=numbers == 0), pa.string()),
        pa.concat_arrays([_text(part.paths) for part in parts]),
        pa.concat_arrays([same(str(part.step), len(part.numbers)) for part in parts]),
        pa.concat_arrays([same(part.outcome, len(part.numbers)) for part in parts]),
        *(
            pa.concat_arrays([_text(getattr(part, name)) for part in parts])
            for name in ("reasons", "states", "columns", "into")
        ),
    ]
    for name in names:
        cells = []
        for part in parts:
            position = part.names.index(name) if name in part.names else None
            cells.append(
                same(None, len(part.numbers)) if position is None else part.values[position]
            )
        columns.append(pa.concat_arrays(cells))
    return encode([column.take(order) for column in columns], dialect.delimiter, dialect.line_end)


def _text(array: pa.Array) -> pa.Array:
    return pc.cast(array, pa.string()) if not pa.types.is_string(array.type) else array
