"""The kernels as machine code: made by llvmlite when they are first used, kept in the user's cache
folder."""

from __future__ import annotations

import ctypes
import io
import os
import platform
import sys
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
import pyarrow as pa
import xxhash

from gravel.kernels.native import CODE, TABLES, source
from gravel.packaged import packaged

SWITCH = "GRAVEL_NATIVE"  # 0: never; 1: from the first byte on
_ENOUGH = 4_000_000  # bytes of input that make up for the time that loading takes
_lock = Lock()
_seen = 0


def kernels(size: int) -> Kernels | None:
    """The kernels, for the next `size` bytes of input; None where the references are to be used:
    for little input, without llvmlite, and where the tables are of another Unicode than Python's.
    May be called on any thread."""
    global _seen
    switch = os.environ.get(SWITCH, "")
    if switch == "0":
        return None
    if switch != "1" and _seen < _ENOUGH:
        _seen += size  # that two threads may lose a little of it does no harm
        return None
    with _lock:
        return _loaded()


class Kernels:
    """The compiled kernels by their names, and the tables of Unicode."""

    def __init__(self, engine: Any, tables: dict[str, np.ndarray]) -> None:
        self._engine, self.tables = engine, tables
        self._calls = {kernel.__name__: _call(engine, kernel) for kernel in source.KERNELS}

    def run(self, name: str, *arguments: Any) -> int:
        """Run a kernel; arrays are contiguous and of the types that it says. The interpreter is
        free meanwhile."""
        return self._calls[name](arguments)


def allocated(count: int, kind: Any) -> np.ndarray:
    """An array in Arrow's memory: what stays of it does not hold what was freed around it."""
    size = count * np.dtype(kind).itemsize
    return np.frombuffer(pa.allocate_buffer(max(size, 8)), kind)[:count]


def surroundings() -> Iterator[str]:
    """What figures may depend on beside Gravel, a line each."""
    yield f"Python {platform.python_version()}, {platform.platform()}"
    yield f"pyarrow {pa.__version__}, numpy {np.__version__}"
    yield description()


def description() -> str:
    """What runs the kernels here, in a line, and whose Unicode they know."""
    known = f"Unicode {unicodedata.unidata_version}"
    with _lock:
        native = _loaded()
    if native is None:
        return f"kernels: none, so the references run; {known}"
    return f"kernels: compiled, by llvmlite {sys.modules['llvmlite'].__version__}; {known}"


def _call(engine: Any, kernel: Callable[..., Any]) -> Callable[[tuple[Any, ...]], int]:
    kinds = [np.dtype(kind) if kind else None for kind in source.signature(kernel)]
    places: list[Any] = [ctypes.c_void_p, ctypes.c_void_p]
    for kind in kinds:
        places += [ctypes.c_int64] if kind is None else [ctypes.c_void_p, ctypes.c_int64]
    address = engine.get_function_address(kernel.__name__)
    assert address, f"{kernel.__name__} is not among the kernels that were built"
    function = ctypes.CFUNCTYPE(ctypes.c_int32, *places)(address)

    def call(arguments: tuple[Any, ...]) -> int:
        values: list[Any] = []
        for kind, argument in zip(kinds, arguments, strict=True):
            if kind is None:
                values.append(argument)
                continue
            assert argument.dtype == kind, (kernel.__name__, argument.dtype)
            assert argument.flags.c_contiguous, kernel.__name__
            values += [argument.ctypes.data, len(argument)]
        result, failure = ctypes.c_int64(0), ctypes.c_void_p()
        status = function(ctypes.byref(result), ctypes.byref(failure), *values)
        assert status == 0, f"{kernel.__name__} ended with {status}"
        return result.value

    return call


@cache
def _loaded() -> Kernels | None:
    """The kernels of this process; None where they cannot be had."""
    try:
        tables = dict(np.load(io.BytesIO(packaged(TABLES))))
        if str(tables["version"]) != unicodedata.unidata_version:
            return None
        code = packaged(CODE).decode()
        import llvmlite.binding as llvm

        return Kernels(_engine(llvm, code), tables)
    except (ImportError, OSError, RuntimeError):
        return None


def _engine(llvm: Any, code: str) -> Any:
    """What has the machine code of some IR. Raises RuntimeError where LLVM refuses it."""
    with suppress(RuntimeError):
        llvm.initialize()  # needed before llvmlite 0.45, an error since
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    processor, features = llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()
    machine = llvm.Target.from_default_triple().create_target_machine(
        cpu=processor, features=features, opt=3, jit=True
    )
    about = f"{llvm.llvm_version_info} {processor} {features} {code}"
    name = f"kernels-{xxhash.xxh3_128_hexdigest(about.encode())}.o"
    path = cache_folder() / name
    try:
        compiled = path.read_bytes()
    except OSError:
        module = llvm.parse_assembly(code)
        module.triple, module.data_layout = machine.triple, str(machine.target_data)
        tuning = llvm.create_pipeline_tuning_options(speed_level=3)
        passes = llvm.create_pass_builder(machine, tuning)
        passes.getModulePassManager().run(module, passes)
        compiled = machine.emit_object(module)
        _keep(path, compiled)
    engine = llvm.create_mcjit_compiler(llvm.parse_assembly(""), machine)
    engine.add_object_file(llvm.ObjectFileRef.from_data(compiled))
    engine.finalize_object()
    return engine


def _keep(path: Path, compiled: bytes) -> None:
    """Keep machine code for the next run, where there is a folder that can be written."""
    begun = path.with_suffix(f".{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
        with os.fdopen(os.open(begun, flags, 0o600), "wb") as sink:
            sink.write(compiled)
        begun.replace(path)
    except OSError:  # a full disk, say: nothing half written stays
        with suppress(OSError):
            begun.unlink()


def cache_folder() -> Path:
    """The user's folder for what can be made again, as the system has it."""
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local")
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Caches"
    else:
        base = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    return base / "gravel"
