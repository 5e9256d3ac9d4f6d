"""`gravel functions`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from gravel.cli.options import Format, FormatOption, NoColor
from gravel.lazily import lazily
from gravel.problems import CallProblem, nearest

with lazily():
    from gravel.language.functions import catalogue
    from gravel.querying import examples
    from gravel.render import functions as render_functions
    from gravel.render import screen

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
        screen.print_json(
            "functions", examples.FunctionList(tuple(map(examples.described, chosen)))
        )
    elif format is not Format.table:
        columns = [
            [item.name for item in chosen],
            [item.family for item in chosen],
            [render_functions.signature(item) for item in chosen],
            [item.meaning for item in chosen],
        ]
        screen.print_rows(format.value, ["name", "family", "signature", "meaning"], columns)
    elif name is None:
        render_functions.show_all(chosen, not no_color)
    else:
        render_functions.show(chosen, not no_color)


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
