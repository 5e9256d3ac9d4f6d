"""What `gravel functions` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich import padding
from rich import text as rich_text

from gravel.language import errors
from gravel.language.functions import catalogue
from gravel.querying import examples
from gravel.render import screen

if TYPE_CHECKING:
    from gravel.language.functions.catalogue import Function


def signature(function: Function) -> str:
    """What a function takes and gives."""
    return " or ".join(signature.text for signature in function.signatures)


def _examples(function: Function) -> list[tuple[str, str]]:
    return [(text, examples.outcome(text)) for text in function.examples]


def show_all(chosen: list[Function], color: bool) -> None:
    """Print the list of functions by family."""
    out = screen.console(color=color)
    rows = []
    for family, title in catalogue.FAMILIES.items():
        names = ", ".join(item.name for item in chosen if item.family == family)
        rows.append(
            [
                rich_text.Text(family, style="bold"),
                rich_text.Text(title, style=screen.DIM),
                rich_text.Text(names),
            ]
        )
    screen.print_table(out, ["family", "", "functions"], rows)
    out.print()
    out.print(
        rich_text.Text(
            "next: gravel functions NAME, or a family: gravel functions lists", style=screen.MARK
        )
    )


def show_about(chosen: list[Function], color: bool) -> None:
    """Print the names and meanings of functions."""
    out = screen.console(color=color)
    rows = [
        [rich_text.Text(item.name, style="bold"), rich_text.Text(item.meaning)] for item in chosen
    ]
    screen.print_table(out, ["function", "meaning"], rows)
    out.print()
    out.print(rich_text.Text("next: gravel functions NAME", style=screen.MARK))


def show(chosen: list[Function], color: bool) -> None:
    """Print functions in full, with their computed examples."""
    out = screen.console(color=color)
    for item in chosen:
        for signature in item.signatures:
            out.print(rich_text.Text(signature.text, style=screen.HEAD))
        out.print(padding.Padding(rich_text.Text(item.meaning), (0, 0, 0, 2)))
        rows = [
            [
                rich_text.Text(f"  {text}"),
                rich_text.Text("→", style=screen.DIM),
                rich_text.Text(
                    result, style=screen.BAD if result.startswith("error") else screen.GOOD
                ),
            ]
            for text, result in _examples(item)
        ]
        screen.print_table(out, ["", "", ""], rows)
        for state in item.errors:
            out.print(rich_text.Text(f"  error {state}: {errors.meaning(state)}", style=screen.DIM))
        out.print()
