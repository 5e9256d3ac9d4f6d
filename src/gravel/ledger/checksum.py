"""The size and SHA-256 of a file's bytes, taken as they pass."""

from __future__ import annotations

import hashlib
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from msgspec import Struct

from gravel.problems import TableProblem


class FileChecksum(Struct, frozen=True):
    """How many bytes, and their SHA-256 in hexadecimal (FIPS 180-4)."""

    bytes: int
    sha256: str


class ChecksumStream:
    """Takes the bytes of a file from its start to its end. SHA-256 is made by a thread beside."""

    def __init__(self) -> None:
        self._size, self._sha = 0, hashlib.sha256()
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: deque[Future[None]] = deque()

    def take(self, data: bytes) -> None:
        """The next bytes."""
        self._size += len(data)
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
        return FileChecksum(self._size, self._sha.hexdigest())


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
