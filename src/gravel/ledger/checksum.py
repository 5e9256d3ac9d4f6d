"""The size, SHA-256 and CRC-32 of a file's bytes, taken as they pass."""

from __future__ import annotations

import hashlib
import zlib
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from gravel.problems import TableProblem


@dataclass(frozen=True)
class FileChecksum:
    """bytes; crc: CRC-32, quick to take again; sha256: hexadecimal, '' where it was not asked
    for."""

    bytes: int
    crc: int
    sha256: str = ""


class ChecksumStream:
    """Takes the bytes of a file from its start to its end. SHA-256 is made by a thread beside,
    since it is the slowest part."""

    def __init__(self, sha: bool = True) -> None:
        self._size = self._crc = 0
        self._sha = hashlib.sha256() if sha else None
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: deque[Future[None]] = deque()

    def take(self, data: bytes) -> None:
        """The next bytes."""
        self._size += len(data)
        self._crc = zlib.crc32(data, self._crc)
        if self._sha is None:
            return
        if self._pool is None:
            self._pool = ThreadPoolExecutor(1)
        self._waiting.append(self._pool.submit(self._sha.update, data))
        if len(self._waiting) > 4:
            self._waiting.popleft().result()

    def signature(self) -> FileChecksum:
        """What the bytes so far come to."""
        while self._waiting:
            self._waiting.popleft().result()
        if self._pool is not None:
            self._pool.shutdown()
            self._pool = None
        return FileChecksum(
            self._size, self._crc, "" if self._sha is None else self._sha.hexdigest()
        )


def signature_of(path: Path, name: str) -> FileChecksum:
    """The signature of a file. Raises TableProblem where it cannot be read."""
    signing = ChecksumStream()
    try:
        with open(path, "rb") as file:
            while data := file.read(1 << 22):
                signing.take(data)
    except FileNotFoundError:
        raise TableProblem(f"there is no file {name}") from None
    except OSError as error:
        raise TableProblem(
            f"{name} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    return signing.signature()
