"""The page of a comparison."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gravel.render.html.page import render_page
from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.comparing.result import Compared


def write_page(path: Path, compared: Compared) -> None:
    """Write a comparison as one self-contained HTML file. Raises TableProblem."""
    examples = {
        item.column: [example for example in compared.examples if example.column == item.column]
        for item in compared.columns
    }
    render_page(path, "compare.html", found=compared, examples=examples, version=__version__)
