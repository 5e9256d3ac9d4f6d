"""What every page is made with: a template environment that escapes every value, and a file that is
written whole."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from gravel.inspecting.drawing import drawn, percent
from gravel.problems import CallProblem, TableProblem
from gravel.sinks.atomic_file import refuse_foreign, write_whole


def render_page(path: Path, template: str, **values: Any) -> None:
    """Render a template into a file beside its place, then rename it. Raises TableProblem."""
    import jinja2
    from markupsafe import Markup, escape

    def draw(value: str | None, limit: int = 60) -> Markup:
        """A value with what is hidden in it drawn; its own text escaped."""
        parts = []
        for text, kind in drawn(value, limit):
            parts.append(
                escape(text)
                if kind == "plain"
                else Markup('<span class="{}">{}</span>').format(kind, text)
            )
        return Markup("").join(parts)

    def number(value: float | int | None) -> str:
        """A number with digit grouping."""
        if value is None:
            return "–"
        return f"{value:,}" if isinstance(value, int) else f"{value:,.6g}"

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("gravel.render.html", "templates"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    environment.filters.update(draw=draw, number=number, share=percent)
    text = environment.get_template(template).render(**values)
    write_whole(path, text)


def may_write(path: Path, replace: bool) -> None:
    """Whether a page can go there: where nothing is, onto another page of ours, or where it is to
    replace what is there. Looked at before the work is done. Raises CallProblem, TableProblem."""

    def is_page(path: Path) -> bool:
        with open(path, "rb") as file:
            return b'<meta name="generator" content="gravel">' in file.read(1000)

    if path.is_dir() or not path.resolve().parent.is_dir():
        raise TableProblem(
            f"{path} cannot be written:"
            f" {'it is a folder' if path.is_dir() else f'there is no folder {path.parent}'}"
        )
    if path.suffix.lower() not in (".html", ".htm"):
        raise CallProblem(f"{path} cannot be written: a page is an .html file", hint="name one")
    refuse_foreign(path, str(path), replace, is_page)
