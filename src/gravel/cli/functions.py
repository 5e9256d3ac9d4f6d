"""`gravel functions`."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Annotated

import typer

from gravel.cli.options import Format, FormatOption, NoColor
from gravel.lazily import lazily
from gravel.problems import CallProblem, nearest

with lazily():
    from gravel.language import other_names
    from gravel.language.functions import catalogue
    from gravel.querying import examples
    from gravel.render import functions as render_functions
    from gravel.render import screen

if TYPE_CHECKING:
    from gravel.language.functions.catalogue import Function

Names = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[NAME|FAMILY|WORD…]",
        help="A function, an operator or a family; or words of what it does.",
        show_default=False,
    ),
]


def functions(
    names: Names = None, format: FormatOption = Format.table, no_color: NoColor = False
) -> None:
    """List the functions of the language: what each takes and gives, with computed examples.

    gravel functions LIST_ITEM
    """
    name = " ".join(names) if names else None
    chosen = _named(name)
    about = [] if chosen or name is None else _about(name)
    if name is not None and not chosen and not about:
        raise _unknown(name)
    chosen = chosen or about
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
    elif about:
        render_functions.show_about(chosen, not no_color)
    else:
        render_functions.show(chosen, not no_color)


def _named(name: str | None) -> list[Function]:
    """The functions that a name means: one, a family, or all; none where nothing is called so."""
    every = list(catalogue.catalogue().values())
    if name is None:
        return every
    if name.lower() in catalogue.FAMILIES:
        return [item for item in every if item.family == name.lower()]
    alike = [item for item in every if item.name.partition(" of ")[0] == name.upper()]
    function = catalogue.find(name)
    return alike or ([] if function is None else [function])


def _about(text: str) -> list[Function]:
    """The functions whose name, family and meaning have most of some words."""
    if text.upper() in other_names.FUNCTIONS or "_" in text or text.isupper():
        return []  # a name, mistyped or of another system
    stems = [word.rstrip("s") for word in re.findall(r"[a-z]{3,}", text.lower())]
    scores: dict[str, int] = {}
    for item in catalogue.catalogue().values():
        written = f"{item.name} {catalogue.FAMILIES[item.family]} {item.meaning}".lower()
        words = re.findall(r"[a-z]+", written)
        scores[item.name] = sum(any(word.startswith(stem) for word in words) for stem in stems)
    most = max(scores.values())
    return [item for item in _named(None) if scores[item.name] == most] if most else []


def _unknown(name: str) -> CallProblem:
    """What is told of a name that no function has."""
    near = nearest(name, [*catalogue.catalogue(), *catalogue.FAMILIES])
    hint = f"did you mean {near}?" if near else "gravel functions lists them all"
    return CallProblem(
        f"there is no function {name}", hint=other_names.FUNCTIONS.get(name.upper(), hint)
    )
