"""The records of CSV text by a compiled kernel; None where the reference is to be used."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from gravel.kernels.native.machine import kernels


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
