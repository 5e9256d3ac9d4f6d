"""`gravel functions`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import Format, FormatOption, NoColor
from gravel.problems import CallProblem, nearest

with lazily():
    from rich import padding
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import render
    from gravel.language import errors
    from gravel.language.functions import catalogue
    from gravel.querying import examples

if TYPE_CHECKING:
    from gravel.language.functions.catalogue import Function

Name = Annotated[
    str | None,
    typer.Argument(
        metavar="[NAME|FAMILY]", help="A function, an operator or a family.", show_default=False
    ),
]


def functions(
    name: Name = None, format: FormatOption = Format.table, no_color: NoColor = False
) -> None:
    """List the functions of the language: what each takes and gives, with computed examples.

    gravel functions LIST_ITEM
    """
    chosen = _chosen(name)
    if format is Format.json:
        render.print_json(
            "functions", {"functions": [results.function_dict(item) for item in chosen]}
        )
    elif format is not Format.table:
        columns = [
            [item.name for item in chosen],
            [item.family for item in chosen],
            [_shape(item) for item in chosen],
            [item.meaning for item in chosen],
        ]
        render.print_rows(format.value, ["name", "family", "signature", "meaning"], columns)
    elif name is None:
        _show_all(chosen, not no_color)
    else:
        _show(chosen, not no_color)


def _chosen(name: str | None) -> list[Function]:
    """The functions a name means: one, a family, or all. Raises CallProblem."""
    every = list(catalogue.catalogue().values())
    if name is None:
        return every
    if name.lower() in catalogue.FAMILIES:
        return [item for item in every if item.family == name.lower()]
    alike = [item for item in every if item.name.partition(" of ")[0] == name.upper()]
    if alike:
        return alike
    result = catalogue.find(name)
    if result is None:
        near = nearest(name, [*catalogue.catalogue(), *catalogue.FAMILIES])
        raise CallProblem(
            f"there is no function {name}",
            hint=f"did you mean {near}?" if near else "gravel functions lists them all",
        )
    return [result]


def _shape(function: Function) -> str:
    return " or ".join(signature.text for signature in function.signatures)


def _examples(function: Function) -> list[tuple[str, str]]:
    return [(text, examples.outcome(text)) for text in function.examples]


def _show_all(chosen: list[Function], color: bool) -> None:
    out = render.console(color=color)
    rows = []
    for family, title in catalogue.FAMILIES.items():
        names = ", ".join(item.name for item in chosen if item.family == family)
        rows.append(
            [
                rich_text.Text(family, style="bold"),
                rich_text.Text(title, style=render.DIM),
                rich_text.Text(names),
            ]
        )
    render.print_table(out, ["family", "", "functions"], rows)
    out.print()
    out.print(
        rich_text.Text(
            "next: gravel functions NAME, or a family: gravel functions lists", style=render.MARK
        )
    )


def _show(chosen: list[Function], color: bool) -> None:
    out = render.console(color=color)
    for item in chosen:
        for signature in item.signatures:
            out.print(rich_text.Text(signature.text, style=render.HEAD))
        out.print(padding.Padding(rich_text.Text(item.meaning), (0, 0, 0, 2)))
        rows = [
            [
                rich_text.Text(f"  {text}"),
                rich_text.Text("→", style=render.DIM),
                rich_text.Text(
                    result, style=render.BAD if result.startswith("error") else render.GOOD
                ),
            ]
            for text, result in _examples(item)
        ]
        render.print_table(out, ["", "", ""], rows)
        for state in item.errors:
            out.print(rich_text.Text(f"  error {state}: {errors.meaning(state)}", style=render.DIM))
        out.print()
