"""Makes the parser's tables when the package is built, so that no start has to."""

import sys
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class ParserTables(BuildHookInterface):
    """Writes `language/grammar.json` beside the grammar."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        source = Path(self.root, "src", "gravel", "language", "tables.py")
        sys.path.insert(0, str(source.parent))
        try:
            import tables

            tables.TABLES.unlink(missing_ok=True)
            tables.tables()
        finally:
            sys.path.remove(str(source.parent))
        build_data["artifacts"].append("/src/gravel/language/grammar.json")
