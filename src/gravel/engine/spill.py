"""Sorted runs of arrays in a temporary file, for what is larger than the memory it is given."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

import numpy as np

from gravel.engine.sets import distinct_values
from gravel.engine.spill_file import open_spill_file, spill_problem


class Runs:
    """Runs of some arrays side by side, each run ascending by its first array (uint64). The file
    goes with the object, or with the process."""

    def __init__(self) -> None:
        # It lives as long as the object.
        self._file = open_spill_file()
        self._runs: list[tuple[int, list[tuple[int, np.dtype]]]] = []

    @property
    def count(self) -> int:
        """How many runs there are."""
        return len(self._runs)

    def write(self, arrays: Sequence[np.ndarray]) -> None:
        """Keep a run. Raises TableProblem where the disk is full."""
        places = []
        self._file.seek(0, 2)
        try:
            for array in arrays:
                places.append((self._file.tell(), array.dtype))
                self._file.write(np.ascontiguousarray(array).data)
            self._file.flush()
        except OSError as error:
            raise spill_problem(error) from None
        self._runs.append((len(arrays[0]), places))

    def ranges(
        self,
        held: Sequence[Sequence[np.ndarray]],
        size: int,
        even: bool = True,
        parts: int | None = None,
    ) -> Iterator[list[np.ndarray]]:
        """The rows of all runs, and of those in `held`, in ranges of the first array, ascending:
        about `size` rows each. `even`: the first array's values are spread evenly, as hashes are,
        and those of equal upper bits stay together. `parts`: so many ranges instead, the same ones
        whatever the rows."""
        count = parts or -(
            -(sum(length for length, _ in self._runs) + sum(len(run[0]) for run in held)) // size
        )
        edges = np.array(
            [(2**64 * index // count) >> 24 << 24 for index in range(1, count)], np.uint64
        )
        if not even:
            seen = np.sort(
                np.concatenate(
                    [
                        # Copied: a view would hold all of its run.
                        *(self._read(run, 0, 0, run[0])[::64].copy() for run in self._runs),
                        *(run[0][::64] for run in held),
                    ]
                )
            )
            edges = distinct_values(seen[[len(seen) * index // count for index in range(1, count)]])
            count = len(edges) + 1
        kept = [
            [0, *np.searchsorted(self._read(run, 0, 0, run[0]), edges).tolist(), run[0]]
            for run in self._runs
        ]
        cuts = [[0, *np.searchsorted(run[0], edges).tolist(), len(run[0])] for run in held]
        for position in range(count):
            yield [
                np.concatenate(
                    [
                        *(
                            self._read(run, column, cut[position], cut[position + 1])
                            for run, cut in zip(self._runs, kept, strict=True)
                        ),
                        *(
                            run[column][cut[position] : cut[position + 1]]
                            for run, cut in zip(held, cuts, strict=True)
                        ),
                    ]
                )
                for column in range(len(self._runs[0][1]) if self._runs else len(held[0]))
            ]

    def _read(
        self, run: tuple[int, list[tuple[int, np.dtype]]], column: int, first: int, last: int
    ) -> np.ndarray:
        """Some rows of a column. Read, not mapped: mapped pages count as memory."""
        place, dtype = run[1][column]
        data = os.pread(
            self._file.fileno(), (last - first) * dtype.itemsize, place + first * dtype.itemsize
        )
        return np.frombuffer(data, dtype)
