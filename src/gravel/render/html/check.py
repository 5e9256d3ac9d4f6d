"""The page of checks."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gravel.language.errors import meaning
from gravel.render.html.page import render_page
from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.inspecting.check import Checked


def write_page(path: Path, checked: Checked, unknown_fails: bool) -> None:
    """Write conditions and how they came out as one self-contained HTML file. Raises
    TableProblem."""
    examples = {
        check.name: [
            example for example in check.examples if example.outcome != "holds" or check.whole_table
        ]
        for check in checked.checks
        if not (check.whole_table and check.passed and check.holds)
    }
    render_page(
        path,
        "check.html",
        checked=checked,
        examples=examples,
        unknown_fails=unknown_fails,
        meaning=meaning,
        passed=sum(check.passed for check in checked.checks),
        version=__version__,
    )
