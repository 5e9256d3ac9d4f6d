"""The cells in which two tables differ, as a file."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import pyarrow as pa

from gravel.comparing.result import CellDiff, Compared
from gravel.sinks.atomic_file import Output
from gravel.sinks.csv import encode, header

_CELLS = 50_000  # written at a time


def write_differences(target: Path, compared: Compared, every: Iterator[CellDiff]) -> None:
    """Write a CSV row for every cell that differs. Raises TableProblem."""
    output = Output(target, str(target))
    try:
        output.write(
            header(
                [
                    *compared.key,
                    "gravel_column",
                    "gravel_before",
                    "gravel_after",
                    "gravel_before_row",
                    "gravel_after_row",
                ]
            )
        )
        while subset := list(islice(every, _CELLS)):
            lines = [
                [
                    *item.key.values(),
                    item.column,
                    item.before,
                    item.after,
                    str(item.before_row),
                    str(item.after_row),
                ]
                for item in subset
            ]
            output.write(
                encode(
                    [
                        pa.array([line[index] for line in lines], pa.string())
                        for index in range(len(lines[0]))
                    ]
                )
            )
        output.close()
        output.commit()
    finally:
        output.discard()
