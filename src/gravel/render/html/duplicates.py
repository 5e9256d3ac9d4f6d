"""The pages of duplicates: groups with the match levels, and nearly equal pairs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from gravel.render.duplicates import compared
from gravel.render.html.page import render_page
from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.duplicates.near import Near
    from gravel.duplicates.result import Duplicates


def write_page(path: Path, duplicates: Duplicates) -> None:
    """Write groups of equal rows as one self-contained HTML file. Raises TableProblem."""
    groups = [
        {
            "group": item,
            "shown": [*duplicates.key, *item.differs],
            "same": [
                name
                for name in duplicates.columns
                if name not in item.differs and name not in duplicates.key
            ],
        }
        for item in duplicates.shown
    ]
    most = max((item.extra_rows for item in duplicates.levels), default=0) or 1
    render_page(
        path,
        "duplicates.html",
        found=duplicates,
        compared=compared(duplicates),
        groups=groups,
        most=most,
        version=__version__,
    )


def write_near_page(path: Path, near: Near) -> None:
    """Write nearly equal pairs as one self-contained HTML file. Raises TableProblem."""
    render_page(
        path,
        "near.html",
        found=near,
        clusters=list(zip(near.clusters, near.cluster_values, strict=True)),
        version=__version__,
    )
