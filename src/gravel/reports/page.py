"""What every page is made with: a template environment that escapes every value, and a file that is written whole."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from gravel.inspecting.drawing import drawn, percent
from gravel.problems import TableProblem


def render_page(path: Path, template: str, **values: Any) -> None:
    """Render a template into a file beside its place, then rename it. Raises TableProblem."""
    import jinja2
    from markupsafe import Markup, escape

    def draw(value: str | None, limit: int = 60) -> Markup:
        """A value with what is hidden in it drawn; its own text escaped."""
        parts = []
        for text, kind in drawn(value, limit):
            parts.append(escape(text) if kind == "plain" else Markup('<span class="{}">{}</span>').format(kind, text))
        return Markup("").join(parts)

    def number(value: float | int | None) -> str:
        """A number with digit grouping."""
        if value is None:
            return "–"
        return f"{value:,}" if isinstance(value, int) else f"{value:,.6g}"

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("gravel.reports", "templates"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    environment.filters.update(draw=draw, number=number, share=percent)
    text = environment.get_template(template).render(**values)
    temporary = path.with_name(f".{path.name}.gravel-{os.getpid()}")
    try:
        temporary.write_text(text, "utf-8", newline="\n")
        os.replace(temporary, path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise TableProblem(f"{path} cannot be written: {(error.strerror or str(error)).lower()}") from None
