"""Writing CSV: quotes only where a value needs them, NULL as nothing, the empty text as "".

Arrow's writer either quotes every text or none. Here values that need quotes are found by their bytes and carry, while
Arrow joins the fields, bytes that no UTF-8 text has in place of the signs that matter; one pass over the result turns
those into the signs.
"""

from __future__ import annotations

import glob
import io
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from gravel.language.functions.buffers import ByteSet, body, rows_with, valid
from gravel.problems import TableProblem
from gravel.tables.signing import Signing

_QUOTE, _DELIMITER, _FEED, _RETURN = b"\xff", b"\xfe", b"\xfd", b"\xfc"


class _Signs:
    """The bytes to look for and to put back, for one delimiter."""

    def __init__(self, delimiter: str) -> None:
        self.delimiter = delimiter
        sign = delimiter.encode()
        self.special = ByteSet(b'"\r\n' + sign)
        # All that matters is below 45 where the delimiter is: a column without such a byte, but for spaces, needs no second look.
        self.low = sign < b"-"
        self.carry = bytes.maketrans(b'"' + sign + b"\n\r", _QUOTE + _DELIMITER + _FEED + _RETURN)
        self.back = bytes.maketrans(_QUOTE + _DELIMITER + _FEED + _RETURN, b'"' + sign + b"\n\r")


def encode(columns: Sequence[Any], delimiter: str = ",", line_end: str = "\n") -> bytes:
    """Text columns as CSV records."""
    if not columns or not len(columns[0]):
        return b""
    signs = _Signs(delimiter)
    marked = [_marked(column, signs) for column in columns]
    made = pa.table([column for column, _ in marked], names=[str(index) for index in range(len(columns))])
    out = io.BytesIO()
    pa_csv.write_csv(made, out, pa_csv.WriteOptions(include_header=False, delimiter=delimiter, quoting_style="none"))
    text = out.getvalue()
    if line_end != "\n":
        text = text.replace(b"\n", line_end.encode())
    return text.translate(signs.back) if any(quoted for _, quoted in marked) else text


def header(names: Sequence[str], delimiter: str = ",", line_end: str = "\n") -> bytes:
    """The header record."""
    return encode([pa.array([name], pa.string()) for name in names], delimiter, line_end)


def _marked(column: Any, signs: _Signs) -> tuple[Any, bool]:
    """The column with its values that need quotes in their carried form, and whether there are any."""
    offsets, _ = body(column)
    known = valid(column) if column.null_count else None
    empty = np.diff(offsets) == 0
    if known is not None:
        empty &= known
    special = np.zeros(len(column), bool) if signs.low and _plain(column) else rows_with(column, signs.special)
    both = empty | special
    if not both.any():
        return column, False
    some = column.filter(pa.array(both))
    quoted = pc.binary_join_element_wise(_QUOTE, _carried(some, signs), _QUOTE, b"")
    return pc.replace_with_mask(column.view(pa.binary()), pa.array(both), quoted).view(pa.string()), True


def _plain(column: Any) -> bool:
    _, data = body(column)
    return not ((data < 45) & (data != 32)).any()


def _carried(some: Any, signs: _Signs) -> Any:
    """The values with carried signs in place of those that matter; a quote is doubled."""
    offsets, data = body(some)
    made = data.tobytes().translate(signs.carry)
    carried = pa.BinaryArray.from_buffers(pa.binary(), len(some), [None, pa.py_buffer(np.ascontiguousarray(offsets)), pa.py_buffer(made)])
    return pc.replace_substring(carried, _QUOTE, _QUOTE * 2) if (data == 34).any() else carried


def _ending(target: Path) -> str:
    """What the file beside a target ends with, so that it is read as the target will be: .jsonl.gz."""
    packed = target.suffix.lower() in (".gz", ".zst")
    return target.with_suffix("").suffix + target.suffix if packed else target.suffix


def _clear_stale(folder: Path, target: Path) -> list[str]:
    """Remove what a killed run left beside the target, files named after a process that is no more; their names."""
    cleared = []
    ending = _ending(target)
    for stale in folder.glob(f".{glob.escape(target.name)}.gravel-*{glob.escape(ending)}"):
        number = stale.name.removesuffix(ending).rpartition("-")[2]
        if number.isdigit() and not _alive(int(number)):
            stale.unlink(missing_ok=True)
            cleared.append(stale.name)
    return cleared


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


class Output:
    """A file written beside its target and renamed onto it at the end; until then the target is as it was.

    A target that is there and no plain file (a device, a pipe) is written when all is proved. Raises TableProblem.
    """

    def __init__(self, target: Path, name: str, scratch: Path | None = None) -> None:
        self.target, self.name = target, name
        self.special = target.exists() and not target.is_file()
        if target.is_dir():
            raise TableProblem(f"{name} is a folder", hint="name a file in it")
        folder = scratch or (Path(os.environ.get("TMPDIR", "/tmp")) if self.special else target.parent)
        self.signing = Signing()
        self.path = folder / f".{target.name}.gravel-{os.getpid()}{_ending(target)}"
        self.stale = _clear_stale(folder, target)
        try:
            self._file = open(self.path, "wb")  # noqa: SIM115
        except OSError as error:
            raise self._problem(error) from None
        if target.is_file():
            os.chmod(self.path, target.stat().st_mode & 0o777)

    def _problem(self, error: OSError) -> TableProblem:
        return TableProblem(f"{self.name} cannot be written: {(error.strerror or str(error)).lower()}")

    def write(self, data: bytes) -> None:
        """Add bytes."""
        try:
            self._file.write(data)
            self.signing.take(data)
        except OSError as error:
            raise self._problem(error) from None

    def close(self) -> None:
        """All bytes on the disk, so that they can be read again."""
        try:
            self._file.flush()
            os.fsync(self._file.fileno())
            self._file.close()
        except OSError as error:
            raise self._problem(error) from None

    def commit(self) -> None:
        """Put the file in the target's place."""
        try:
            if self.special:
                import shutil

                with open(self.path, "rb") as source, open(self.target, "wb") as sink:
                    shutil.copyfileobj(source, sink, 1 << 20)
                self.path.unlink()
            else:
                os.replace(self.path, self.target)
        except OSError as error:
            raise self._problem(error) from None

    def discard(self) -> None:
        """Leave no trace; the target is as it was."""
        import contextlib

        with contextlib.suppress(OSError):
            self._file.close()
        self.path.unlink(missing_ok=True)
