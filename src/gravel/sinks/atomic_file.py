"""Files that are written beside their place and put there whole, several of them as one: a lock,
private files, a journal.

A run that is killed leaves the files as they were, or a journal of what it was about to put in
place, which the next run finishes.
"""

from __future__ import annotations

import contextlib
import datetime
import glob
import hashlib
import json
import os
import secrets
import shutil
import signal
import socket
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from gravel.ledger.checksum import ChecksumStream
from gravel.problems import CallProblem, TableProblem

try:
    import fcntl
except ImportError:  # no advisory locks there
    fcntl = None  # type: ignore[assignment]

_PRIVATE = "gravel-"
_HELD = "held"


def problem_of(error: OSError, name: str) -> TableProblem:
    """An error of the file system in our form."""
    return TableProblem(f"{name} cannot be written: {(error.strerror or str(error)).lower()}")


@contextmanager
def private_folder() -> Iterator[Path]:
    """A folder of this run's own for data that is on its way; those of runs that were killed are
    cleared first."""
    _clear_private()
    with tempfile.TemporaryDirectory(prefix=_PRIVATE, ignore_cleanup_errors=True) as name:
        folder = Path(name)
        # It has its name once it is locked: a run that begins meanwhile would clear it.
        unlocked = folder / f"{_HELD}-by-none"
        handle = os.open(unlocked, os.O_CREAT | os.O_RDWR, 0o600)
        try:
            _locked(handle)
            unlocked.rename(folder / _HELD)
            yield folder
        finally:
            os.close(handle)


def _clear_private() -> None:
    if fcntl is None:
        return
    for held in Path(tempfile.gettempdir()).glob(f"{_PRIVATE}*/{_HELD}"):
        with contextlib.suppress(OSError):
            if held.parent.stat().st_uid != os.getuid():
                continue
            handle = os.open(held, os.O_RDWR)
            try:
                if _locked(handle):
                    shutil.rmtree(held.parent, ignore_errors=True)
            finally:
                os.close(handle)


def _locked(handle: int) -> bool:
    if fcntl is None:
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


@contextmanager
def undisturbed() -> Iterator[None]:
    """A signal that asks the process to end waits until this is done."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    waiting: list[int] = []
    before: dict[int, Any] = {}
    try:
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            number = getattr(signal, name, None)
            if number is not None and (handler := signal.getsignal(number)) is not None:
                before[number] = handler
                signal.signal(number, lambda number, _: waiting.append(number))
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        if waiting:
            signal.raise_signal(waiting[0])


_unfinished: set[Path] = set()  # files that are written and not yet in their places


def remove_unfinished() -> None:
    """Leave no trace of what an end at any moment has left unfinished."""
    while _unfinished:
        _unfinished.pop().unlink(missing_ok=True)


class TargetLock:
    """The right to write one target, for one run at a time. Advisory: a file beside it that is
    locked, with who holds it."""

    def __init__(self, target: Path, name: str) -> None:
        self.path = target.with_name(f".{target.name}.gravel-lock")
        self.token = secrets.token_hex(8)
        self._handle: int | None = None
        while self._handle is None:
            try:
                handle = os.open(self.path, os.O_CREAT | os.O_RDWR, 0o600)
            except OSError as error:
                raise problem_of(error, name) from None
            if not _locked(handle):
                holder = os.read(handle, 1000).decode("utf-8", "replace").strip()
                os.close(handle)
                raise TableProblem(
                    f"{name} is being written by another run",
                    detail=holder,
                    hint="run it again when that one has ended",
                )
            # A run that ended between the two calls took its lock away: this one would hold a file
            # that is no more.
            with contextlib.suppress(FileNotFoundError):
                if os.fstat(handle).st_ino == os.stat(self.path).st_ino:
                    _unfinished.add(self.path)  # it is ours now
                    self._handle = handle
            if self._handle is None:
                os.close(handle)
        os.ftruncate(self._handle, 0)
        since = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        owner = f"{socket.gethostname()}, process {os.getpid()}, since {since}, {self.token}\n"
        os.write(self._handle, owner.encode())

    def release(self) -> None:
        """Let others write it."""
        if self._handle is not None:
            self.path.unlink(missing_ok=True)
            _unfinished.discard(self.path)
            os.close(self._handle)
            self._handle = None


STANDARD_OUTPUT = Path("/dev/stdout")  # what "-" names, wherever it leads


def is_stream(target: Path) -> bool:
    """Whether a target is standard output, a device or a pipe: written at the end, never
    replaced."""
    return target == STANDARD_OUTPUT or (target.exists() and not target.is_file())


def _ending(target: Path) -> str:
    """What the file beside a target ends with, so that it is read as the target will be:
    .jsonl.gz."""
    packed = target.suffix.lower() in (".gz", ".zst")
    return target.with_suffix("").suffix + target.suffix if packed else target.suffix


def mode_of(target: Path) -> int:
    """The mode of a file that is there, or of a new one."""
    with contextlib.suppress(OSError):
        return target.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


class Output:
    """A file written beside its target, for nobody else to read, and renamed onto it at the end;
    until then the target is as it was.

    A target that is there and no plain file (a device, a pipe) is written when all is proved.
    `like`: a file whose mode a new one takes. Raises TableProblem."""

    def __init__(
        self, target: Path, name: str, scratch: Path | None = None, like: Path | None = None
    ) -> None:
        self.target, self.name = target, name
        self.special = is_stream(target)
        if target.is_dir():
            raise TableProblem(f"{name} is a folder", hint="name a file in it")
        self.mode = mode_of(target if target.exists() or like is None else like)
        self._own: contextlib.AbstractContextManager[Path] | None = None
        if self.special and scratch is None:
            self._own = private_folder()
            scratch = self._own.__enter__()
        folder = scratch or target.parent
        self.signing = ChecksumStream()
        self.path = folder / f".{target.name}.gravel-{secrets.token_hex(8)}{_ending(target)}"
        _unfinished.add(self.path)
        try:
            self._file = os.fdopen(
                os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb"
            )
        except OSError as error:
            raise problem_of(error, name) from None

    def write(self, data: bytes) -> None:
        """Add bytes."""
        try:
            self._file.write(data)
            self.signing.take(data)
        except OSError as error:
            raise problem_of(error, self.name) from None

    def close(self) -> None:
        """All bytes on the disk, so that they can be read again."""
        try:
            self._file.flush()
            os.fsync(self._file.fileno())
            self._file.close()
        except OSError as error:
            raise problem_of(error, self.name) from None

    def commit(self) -> None:
        """Put the file in the target's place."""
        try:
            if self.special:
                with open(self.path, "rb") as source, self._stream() as sink:
                    shutil.copyfileobj(source, sink, 1 << 20)
                self.path.unlink()
            else:
                os.chmod(self.path, self.mode)
                os.replace(self.path, self.target)
                _unfinished.discard(self.path)
                sync_folder(self.target.parent)
        except OSError as error:
            raise problem_of(error, self.name) from None

    def _stream(self) -> BinaryIO:
        if self.target == STANDARD_OUTPUT:
            sys.stdout.flush()
            return os.fdopen(os.dup(sys.stdout.fileno()), "wb")
        return open(self.target, "wb")

    def move(self, path: Path) -> None:
        """Let the finished file wait under another name. Raises TableProblem."""
        try:
            _unfinished.discard(self.path)
            os.replace(self.path, path)
            self.path = path
            sync_folder(path.parent)
        except OSError as error:
            raise problem_of(error, self.name) from None

    def keep(self, stays: bool = True) -> None:
        """Let the file stay where it waits, whatever is discarded."""
        self._kept = stays

    _kept = False

    def discard(self) -> None:
        """Leave no trace; the target is as it was."""
        with contextlib.suppress(OSError):
            self._file.close()
        if not self._kept:
            self.path.unlink(missing_ok=True)
        _unfinished.discard(self.path)
        if self._own is not None:
            self._own.__exit__(None, None, None)
            self._own = None


def write_whole(target: Path, text: str) -> None:
    """A text as a file, whole or not at all. Raises TableProblem."""
    output = Output(target, str(target))
    try:
        output.write(text.encode("utf-8"))
        output.close()
        output.commit()
    finally:
        output.discard()


def sync_folder(folder: Path) -> None:
    """A folder's entries on the disk."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


class Publication:
    """Files that are put in place together: the target, what goes with it, its record last. `also`
    are further places that this target's runs write. With `open` the target is locked, and what a
    killed run left is put in place or cleared.
    """

    def __init__(self, target: Path, name: str, also: Sequence[Path]) -> None:
        self.target, self.places = target, (target, *also)
        self.journal = target.with_name(f".{target.name}.gravel-journal")
        self.lock = TargetLock(target, name)
        try:
            self.cleared = self._recover()
        except BaseException:
            self.lock.release()
            raise

    def publish(self, outputs: Sequence[Output], gone: Sequence[Path] = ()) -> None:
        """Put finished outputs in their places, one after another, and take `gone` away. From the
        journal's rename on it will be done, by this run or the next. Raises TableProblem."""
        with undisturbed():
            self._publish(outputs, gone)

    def _publish(self, outputs: Sequence[Output], gone: Sequence[Path]) -> None:
        moves = [[str(output.path), str(output.target)] for output in outputs]
        beside = None
        try:
            for item in outputs:
                os.chmod(item.path, item.mode)
            if len(moves) == 1 and not gone:
                os.replace(outputs[0].path, outputs[0].target)
                sync_folder(self.target.parent)
                return
            for folder in {output.path.parent for output in outputs}:
                sync_folder(folder)
            beside = self.journal.with_name(f"{self.journal.name}-{secrets.token_hex(4)}")
            with os.fdopen(
                os.open(beside, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "w"
            ) as file:
                json.dump({"moves": moves, "gone": [str(path) for path in gone]}, file)
                file.flush()
                os.fsync(file.fileno())
            # What the journal names must stay, however this run ends; where there is no journal,
            # the next one clears it.
            for item in outputs:
                item.keep()
            os.replace(beside, self.journal)
            sync_folder(self.journal.parent)
        except OSError as error:
            for item in outputs:
                item.keep(False)
            if beside is not None:
                beside.unlink(missing_ok=True)
            raise problem_of(error, self.target.name) from None
        try:
            self._finish()
        except OSError as error:
            raise TableProblem(
                f"{self.target.name} cannot be put in place:"
                f" {(error.strerror or str(error)).lower()}",
                detail="its files are whole and wait beside it",
                hint="the next run of the plan puts them in place",
            ) from None

    def _finish(self) -> None:
        message = json.loads(self.journal.read_text("utf-8"))
        places = {str(path) for path in self.places}
        for result, place in message["moves"]:
            if (
                place not in places
                or Path(result).parent != Path(place).parent
                or not Path(result).name.startswith(f".{Path(place).name}.gravel-")
            ):
                raise OSError(f"its journal names {place}, which is none of this plan's files")
            if Path(result).exists():
                os.replace(result, place)
        for place in message["gone"]:
            if place in places:
                Path(place).unlink(missing_ok=True)
        for folder in {Path(place).parent for place in (*places,)}:
            sync_folder(folder)
        self.journal.unlink()

    def _recover(self) -> list[str]:
        """Finish what a killed run had begun to put in place, and clear what it left beside; the
        names of what was cleared."""
        if self.journal.exists():
            if hasattr(os, "getuid") and self.journal.stat().st_uid != os.getuid():
                raise TableProblem(
                    f"{self.journal.name} beside the target is another user's",
                    hint="whoever wrote it finishes it with a run",
                )
            try:
                with undisturbed():
                    self._finish()
            except (OSError, ValueError, KeyError, TypeError) as error:
                raise TableProblem(
                    f"what an earlier run was to put in place cannot be: {error}",
                    hint=f"look into {self.journal.name}",
                ) from None
        cleared = []
        for place in self.places:
            for stale in place.parent.glob(f".{glob.escape(place.name)}.gravel-*"):
                if stale != self.lock.path and stale.is_file():
                    with contextlib.suppress(OSError):
                        stale.unlink()
                        cleared.append(stale.name)
        return cleared

    def close(self) -> None:
        """Let others write the target."""
        self.lock.release()


def recover(target: Path, also: Sequence[Path]) -> bool:
    """Finish what a killed run of a target left to be put in place, if there is such and no run is
    under way; whether there was. For commands that only read."""
    if not target.with_name(f".{target.name}.gravel-journal").exists():
        return False
    with contextlib.suppress(TableProblem):
        Publication(target, target.name, also).close()
    return True


def refuse_foreign(
    path: Path, name: str, replace: bool, own: Callable[[Path], bool], option: str = "--replace"
) -> None:
    """A file that is there is written over only if it is one of ours, or where that was asked for.
    Raises CallProblem."""
    if replace or not path.is_file() or own(path):
        return
    raise CallProblem(
        f"{name} is there already, and is not an output of Gravel's as its record has it",
        hint=f"another name, or {option}",
    )


def sha256_of(path: Path) -> str:
    """The SHA-256 of a file's bytes."""
    result = hashlib.sha256()
    with open(path, "rb") as file:
        while data := file.read(1 << 20):
            result.update(data)
    return result.hexdigest()


def recorded(path: Path, record: Path, part: str) -> bool:
    """Whether a file is what a run's record says that the run wrote: `part` is output or
    rejects."""
    try:
        message: Any = json.loads(record.read_text("utf-8"))
        item = message[part]
        same = (
            record.parent / item["path"]
        ).resolve() == path.resolve() and path.stat().st_size == item["bytes"]
        return bool(
            same and message["gravel"].startswith("record/") and sha256_of(path) == item["sha256"]
        )
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return False
