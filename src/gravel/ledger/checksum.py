"""The size and SHA-256 of a file's bytes, taken as they pass; and whether two passes over a file
saw the same bytes."""

from __future__ import annotations

import hashlib
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import xxhash
from msgspec import Struct

from gravel.problems import TableProblem


class FileChecksum(Struct, frozen=True):
    """How many bytes, and their SHA-256 in hexadecimal (FIPS 180-4)."""

    bytes: int
    sha256: str


class BytePass:
    """The bytes of a file from its start to its end, as one pass over it saw them: their number,
    and their hash (XXH3 of 128 bits) to compare passes of one run by, which takes a thirtieth of
    what SHA-256 does. Nothing against forgery: what is recorded is SHA-256."""

    def __init__(self) -> None:
        self.size, self._hash = 0, xxhash.xxh3_128()

    def take(self, data: bytes) -> None:
        """The next bytes."""
        self.size += len(data)
        self._hash.update(data)

    def saw_same(self, other: BytePass) -> bool:
        """Whether both saw the same bytes."""
        return self.size == other.size and self._hash.digest() == other._hash.digest()


class ChecksumStream:
    """Takes the bytes of a file from its start to its end. SHA-256 is made by a thread beside.
    `seen`: to compare with another pass over the file."""

    def __init__(self) -> None:
        self.seen, self._sha = BytePass(), hashlib.sha256()
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: deque[Future[None]] = deque()

    def take(self, data: bytes) -> None:
        """The next bytes."""
        self.seen.take(data)
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
        return FileChecksum(self.seen.size, self._sha.hexdigest())


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
