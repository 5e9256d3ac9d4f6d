"""Makes what no start has to make: the parser's tables, the tables of Unicode, the compiled kernels."""

import os
import sys
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

NATIVE = os.environ.get("GRAVEL_NATIVE", "") != "0"
KERNELS = "src/gravel/kernels/native"


class GeneratedFiles(BuildHookInterface):
    """Writes `language/grammar.json` beside the grammar, and `kernels.ll` and `unicode.npz` beside the kernels."""

    def dependencies(self) -> list[str]:
        """Numba compiles the kernels; LLVM 20 reads what these versions of it write."""
        return ["numba>=0.62,<0.69", "numpy>=2"] if NATIVE else []

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        self._parser_tables()
        build_data["artifacts"].append("/src/gravel/language/grammar.json")
        files = [Path(self.root, KERNELS, name) for name in ("kernels.ll", "unicode.npz")]
        for path in files:
            path.unlink(missing_ok=True)
        if NATIVE:
            self._kernels(*files)
            build_data["artifacts"] += [f"/{KERNELS}/{path.name}" for path in files]

    def _parser_tables(self) -> None:
        sys.path.insert(0, str(Path(self.root, "src")))
        try:
            from gravel.language import tables

            tables.TABLES.unlink(missing_ok=True)
            tables.tables()
        finally:
            sys.path.remove(str(Path(self.root, "src")))

    def _kernels(self, code: Path, tables: Path) -> None:
        sys.path.insert(0, str(Path(self.root, "src")))
        try:
            from gravel.kernels.native import compiling, unicode

            compiling.build(code)
            unicode.build(tables)
        except Exception as error:
            raise RuntimeError(
                f"the kernels could not be compiled: {error}; GRAVEL_NATIVE=0 builds without them, for the same"
                " results at a third of the speed"
            ) from error
        finally:
            sys.path.remove(str(Path(self.root, "src")))
