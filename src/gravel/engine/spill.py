"""Sorted runs of arrays in a temporary file, for what is larger than the memory it is given."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence

import numpy as np

from gravel.problems import TableProblem


class Runs:
    """Runs of some arrays side by side, each run ascending by its first array (uint64). The file goes with the object,
    or with the process."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(prefix="gravel-")  # noqa: SIM115  it lives as long as the object
        self._runs: list[tuple[int, list[tuple[int, np.dtype]]]] = []

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
            raise TableProblem(
                f"what does not fit in memory cannot be kept in {tempfile.gettempdir()}: {(error.strerror or str(error)).lower()}",
                hint="give more memory with --memory, or another folder with the environment's TMPDIR",
            ) from None
        self._runs.append((len(arrays[0]), places))

    def ranges(self, held: Sequence[Sequence[np.ndarray]], size: int) -> Iterator[list[np.ndarray]]:
        """The rows of all runs, and of those in `held`, in ranges of the first array, ascending: about `size` rows each
        where the first array's values are spread evenly, as hashes are."""
        runs: list[Sequence[np.ndarray]] = [
            [np.memmap(self._file, dtype, "r", place, (length,)) for place, dtype in places] for length, places in self._runs
        ]
        runs += held
        count = -(-sum(len(run[0]) for run in runs) // size)
        edges = [(2**64 * at // count) >> 24 << 24 for at in range(1, count)]  # what shares its upper bits stays together
        cuts = [[0, *(int(np.searchsorted(run[0], np.uint64(edge))) for edge in edges), len(run[0])] for run in runs]
        for at in range(count):
            yield [
                np.concatenate([np.asarray(run[column][cut[at] : cut[at + 1]]) for run, cut in zip(runs, cuts, strict=True)])
                for column in range(len(runs[0]))
            ]
