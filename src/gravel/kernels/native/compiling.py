"""Compiles the kernels to LLVM IR when the package is built. Needs Numba, which nothing else does.

The IR is for no processor in particular; `machine` optimises it for the one that it runs on.
"""

from __future__ import annotations

import hashlib
import re
import sys
from pathlib import Path
from types import FunctionType
from typing import Any

import llvmlite.binding as llvm
from numba import carray, config, njit, types
from numba.np import arrayobj

from gravel.kernels.native import CODE, source

_GENERIC = {"CPU_NAME": "generic", "CPU_FEATURES": "", "LOOP_VECTORIZE": 0, "SLP_VECTORIZE": 0}
_SETTINGS = {"nogil": True, "error_model": "numpy"}
_SUPPORT = """
define internal void @NRT_incref(ptr %0) alwaysinline { ret void }
define internal void @NRT_decref(ptr %0) alwaysinline { ret void }
"""


def build(path: Path = CODE) -> None:
    """Write the kernels' IR."""
    vars(config).update(_GENERIC)
    texts = {}
    for name, (library, entry) in compiled().items():
        # References to Python objects are not counted where there are none.
        text = re.sub(r"^define [^\n]*@NRT_\w+\(.*?^}$", "", library, flags=re.M | re.S)
        text = re.sub(r"^declare [^\n]*@NRT_\w+\([^\n]*$", "", text, flags=re.M)
        texts[name] = (text + _SUPPORT).replace(f"@{entry}(", f"@{name}(")
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    whole = None
    for name, text in texts.items():
        module = llvm.parse_assembly(text)
        for function in module.functions:
            if not function.is_declaration:
                function.linkage = "external" if function.name == name else "internal"
        for variable in module.global_variables:
            if not variable.is_declaration:
                variable.linkage = "internal"
        if whole is None:
            whole = module
        else:
            whole.link_in(module)
    assert whole is not None
    machine = llvm.Target.from_default_triple().create_target_machine(opt=2)
    tuning = llvm.create_pipeline_tuning_options(speed_level=1)
    passes = llvm.create_pass_builder(machine, tuning)
    passes.getModulePassManager().run(whole, passes)
    text = re.sub(r"^(target |source_filename|; ModuleID).*$", "", str(whole), flags=re.M)
    path.write_text(f"; {checksum()}\n{text}", "utf-8")


def checksum() -> str:
    """Which source the kernels are made of."""
    files = sorted(Path(source.__file__).parent.glob("*.py"))
    return hashlib.sha256(b"".join(path.read_bytes() for path in files)).hexdigest()


def compiled() -> dict[str, tuple[str, str]]:
    """The IR of each kernel, and the name of its function in that."""
    result = {}
    plain = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
    kinds = {kernel.__name__: source.signature(kernel) for kernel in source.KERNELS}
    for name, kernel in functions(**plain).items():
        dispatcher, arguments = _by_addresses(kernel, kinds[name], plain)
        dispatcher.compile(arguments)
        overload = dispatcher.overloads[arguments]
        result[name] = (overload.library.get_llvm_str(), overload.fndesc.llvm_func_name)
    return result


def functions(**options: Any) -> dict[str, Any]:
    """Each kernel as a function of arrays, compiled by Numba when it is called."""
    # Each function sees the compiled forms of those before it.
    names: dict[str, Any] = {}
    for module in source.MODULES:
        names |= {name: item for name, item in vars(module).items() if name not in names}
    for function in (*source.HELPERS, *source.KERNELS):
        own = FunctionType(function.__code__, names, function.__name__, function.__defaults__)
        names[function.__name__] = njit(**_SETTINGS, **options)(own)
    return {kernel.__name__: names[kernel.__name__] for kernel in source.KERNELS}


def _index_as_it_is(context: Any, builder: Any, kind: Any, index: Any, size: Any) -> Any:
    """An index into an array, below 0 never: kernels do not count from the end, and to allow for it
    takes up to a third of their time."""
    return context.cast(builder, index, kind, types.intp if kind.signed else types.uintp)


arrayobj.fix_integer_index = _index_as_it_is


def _by_addresses(
    kernel: Any, kinds: list[str], options: dict[str, Any]
) -> tuple[Any, tuple[Any, ...]]:
    """The kernel as a function of an address and a length for every array, and their types."""
    parameters, values, arguments = [], [], []
    for number, kind in enumerate(kinds):
        parameters.append(f"p{number}, n{number}" if kind else f"p{number}")
        values.append(f"carray(p{number}, n{number})" if kind else f"p{number}")
        array = [types.CPointer(getattr(types, kind)), types.int64] if kind else [types.int64]
        arguments += array
    names = {"kernel": kernel, "carray": carray}
    exec(f"def entry({', '.join(parameters)}):\n    return kernel({', '.join(values)})\n", names)
    return njit(**_SETTINGS, **options)(names["entry"]), tuple(arguments)


if __name__ == "__main__":
    build(Path(sys.argv[1]) if len(sys.argv) > 1 else CODE)
