"""The text that syntax was read from: its parts, and mistakes at their place in it."""

from __future__ import annotations

from msgspec import Struct

from gravel.language import tree
from gravel.language.diagnostics import Diagnostic


class SqlText(Struct, frozen=True):
    """A text of SQL."""

    text: str

    def wrong(self, message: str, node: tree.Node, hint: str = "", detail: str = "") -> Diagnostic:
        """A mistake at a node."""
        return Diagnostic(message, self.text, node.start, node.end, hint=hint, detail=detail)

    def written(self, node: tree.Node) -> str:
        """A node as it stands in the text."""
        return self.text[node.start : node.end]
