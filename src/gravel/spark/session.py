"""A session with Spark at an address, the same Gravel on its executors as here."""

from __future__ import annotations

import atexit
import os
import re
import shutil
import socket
import sys
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import lru_cache
from importlib.util import MAGIC_NUMBER, cache_from_source, source_hash
from pathlib import Path

from pyspark.errors import PySparkException
from pyspark.sql import SparkSession

from gravel.problems import CallProblem, TableProblem
from gravel.spark.tasks import SCHEMA, run_versions, versions
from gravel.spark.travel import unpacked
from gravel.version import __version__

_LOCAL = re.compile(r"local(\[[\w*]+(,\d+)?\])?")
_CLUSTER = re.compile(r"(sc|spark|k8s)://\S+|yarn")
_HOST = re.compile(r"(?P<kind>sc|spark)://(?P<host>[^:/;,]+)(:(?P<port>\d+))?")
_PORTS = {"sc": 15002, "spark": 7077}
_used: list[str] = []  # the address of this process's session
_PATIENCE = 10  # seconds for an address to answer; Spark itself would try for minutes
_PLAIN = {
    "spark.ui.enabled": "false",
    "spark.ui.showConsoleProgress": "false",
    "spark.log.level": "OFF",
    "spark.sql.execution.arrow.maxRecordsPerBatch": "65536",
    "spark.sql.adaptive.enabled": "false",
    # Rows are few and long: code that is made and compiled for them is not run often enough.
    "spark.sql.codegen.wholeStage": "false",
    # What is kept and shuffled are streams of some MiB, compressed already.
    "spark.sql.inMemoryColumnarStorage.batchSize": "4",
    "spark.sql.inMemoryColumnarStorage.compressed": "false",
    "spark.task.maxDirectResultSize": "96m",
    "spark.rdd.compress": "false",
    "spark.shuffle.compress": "false",
    "spark.shuffle.spill.compress": "false",
}
_HERE = {
    "spark.driver.bindAddress": "127.0.0.1",
    "spark.driver.host": "127.0.0.1",
    # What Java does is to pass bytes on; compiling it a second time takes longer than that.
    "spark.driver.extraJavaOptions": "-XX:+UseSerialGC -XX:TieredStopAtLevel=1",
}


def open_session(address: str) -> SparkSession:
    """The session of an address, the only one of this process. Raises CallProblem for another, and
    for what is no address; what `_opened` raises."""
    if not _LOCAL.fullmatch(address) and not _CLUSTER.fullmatch(address):
        raise CallProblem(
            f"{address!r} is not an engine",
            hint="sc://host:15002, spark://host:7077, or local[2] for Spark on this machine",
        )
    if _used and _used[0] != address:
        raise CallProblem(
            f"this process has Spark at {_used[0]}, and {address} is another",
            hint="one process, one Spark",
        )
    session = _opened(address)
    _used[:] = [address]
    return session


@lru_cache(maxsize=1)
def _opened(address: str) -> SparkSession:
    """The session of an address: local[2], sc://host:15002, spark://host:7077. Raises
    TableProblem where nothing answers, or where the executors run on
    something else."""
    if match := _HOST.match(address):
        _refuse_silence(address, match["host"], int(match["port"] or _PORTS[match["kind"]]))
    with _quiet() as said:
        try:
            session = _started(address)
            if address.startswith("sc://"):
                atexit.register(_end, session)
            if not address.startswith("local"):
                session.addArtifacts(str(_archive()), pyfile=True)
                _refuse_others(session)
        except (PySparkException, RuntimeError, OSError) as error:
            detail = said() or " ".join(str(error).split())[:400]
            raise TableProblem(
                f"there is no Spark at {address}",
                detail=detail,
                hint="Spark needs Java 17 or later on this machine, but for sc://",
            ) from None
    return session


def _refuse_silence(address: str, host: str, port: int) -> None:
    try:
        socket.create_connection((host, port), _PATIENCE).close()
    except OSError as error:
        raise TableProblem(
            f"there is no Spark at {address}",
            detail=(error.strerror or str(error)).lower(),
            hint="docs/spark.md starts a server",
        ) from None


def _started(address: str) -> SparkSession:
    os.environ["PYSPARK_PYTHON"] = os.environ.get("PYSPARK_PYTHON") or sys.executable
    builder = SparkSession.builder.appName("gravel")
    if address.startswith("sc://"):
        builder = builder.remote(address)
        options = {name: value for name, value in _PLAIN.items() if name.startswith("spark.sql")}
    else:
        builder = builder.master(address)
        options = _PLAIN | (_HERE if address.startswith("local") else {})
    for name, value in options.items():
        builder = builder.config(name, value)
    return builder.getOrCreate()


def _end(session: SparkSession) -> None:
    """A server goes on with what nobody waits for any more, unless it is told."""
    with suppress(Exception):
        session.interruptAll()


@lru_cache(maxsize=1)
def _archive() -> Path:
    """Gravel's own package as an archive, which goes to the executors."""
    package = Path(__file__).parent.parent
    path = Path(tempfile.mkdtemp(prefix="gravel-"), f"gravel-{__version__}.zip")
    atexit.register(shutil.rmtree, path.parent, ignore_errors=True)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(package.rglob("*")):
            name = file.relative_to(package)
            if file.is_file() and file.suffix != ".pyc" and "data" not in name.parts:
                archive.write(file, Path("gravel", name))
                if file.suffix == ".py" and (compiled := _compiled(file)) is not None:
                    archive.writestr(str(Path("gravel", name).with_suffix(".pyc")), compiled)
    return path


def _compiled(file: Path) -> bytes | None:
    """What Python keeps of a module that it has compiled, made to be used without a look at the
    module's time, which an archive has of another zone (PEP 552); None where it keeps none. Each
    worker would compile all modules else."""
    try:
        data = Path(cache_from_source(str(file))).read_bytes()
    except (OSError, NotImplementedError):
        return None
    state = file.stat()
    about = (0, int(state.st_mtime), state.st_size)
    if data[:16] != MAGIC_NUMBER + b"".join((n & 0xFFFFFFFF).to_bytes(4, "little") for n in about):
        return None
    unchecked = (1).to_bytes(4, "little") + source_hash(file.read_bytes())
    return MAGIC_NUMBER + unchecked + data[16:]


def _refuse_others(session: SparkSession) -> None:
    """Raises TableProblem where an executor has another version of what figures depend on."""
    mine = versions()
    numbers = session.range(0, 8, 1, 8).mapInArrow(run_versions, SCHEMA)
    try:
        records = numbers.collect()
    except PySparkException as error:
        raise TableProblem(
            "the executors cannot run Gravel",
            detail=reason(error),
            hint="they need the Python, and the libraries that Gravel needs, that are here",
        ) from None
    for record in records:
        theirs = unpacked(record.data)
        for name, version in mine.items():
            if theirs[name] != version:
                raise TableProblem(
                    f"the executors have {name} {theirs[name]}, and here it is {version}",
                    hint="figures may differ between the two: install the same on both",
                )


@contextmanager
def _quiet() -> Iterator[Callable[[], str]]:
    """What Spark's machine says as it starts goes to a file; asked for, its first line that tells
    an error."""
    with tempfile.TemporaryFile("w+b") as file:
        sys.stderr.flush()
        kept = os.dup(2)
        os.dup2(file.fileno(), 2)

        def said() -> str:
            file.seek(0)
            lines = file.read().decode("utf-8", "replace").splitlines()
            errors = [line for line in lines if re.search("error|exception|not found", line, re.I)]
            return errors[0].strip()[:300] if errors else ""

        try:
            yield said
        finally:
            os.dup2(kept, 2)
            os.close(kept)


def reason(error: Exception) -> str:
    """What a task has failed with, or what Spark says, without the trace of where."""
    told = str(error)
    if "Traceback (most recent call last)" in told:  # of a Python worker: its last line
        told = told.rpartition("Traceback (most recent call last)")[2]
        if raised := re.search(r"^[\w.]+(?:Error|Exception|Problem)\b.*", told, re.MULTILINE):
            return raised[0][:400]
    text = re.split(r" (?:== SQL ==|JVM stacktrace:)", " ".join(told.split()))[0]
    failure = text.rpartition("most recent failure: ")[2].rpartition("Caused by: ")[2]
    return re.split(r" at (?:java|jdk|sun|scala|org|py4j)\.", failure, maxsplit=1)[0][:400]
