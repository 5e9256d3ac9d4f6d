"""`gravel functions`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.options import Format, FormatOption, NoColor
from gravel.problems import CallProblem, nearest

if TYPE_CHECKING:
    from gravel.language.functions.catalogue import Function

Name = Annotated[str | None, typer.Argument(metavar="[NAME|FAMILY]", help="A function, an operator or a family.", show_default=False)]


def functions(name: Name = None, format: FormatOption = Format.table, no_color: NoColor = False) -> None:
    """The functions of the language: what each takes and gives, with examples computed as they are shown.

    [bold]gravel functions LIST_ITEM[/]
    """
    chosen = _chosen(name)
    from gravel.cli import render

    if format is Format.json:
        render.print_json("functions", {"functions": [_json(one) for one in chosen]})
    elif format is not Format.table:
        columns = [
            [one.name for one in chosen],
            [one.family for one in chosen],
            [_shape(one) for one in chosen],
            [one.meaning for one in chosen],
        ]
        render.print_rows(format.value, ["name", "family", "signature", "meaning"], columns)
    elif name is None:
        _show_all(chosen, not no_color)
    else:
        _show(chosen, not no_color)


def _chosen(name: str | None) -> list[Function]:
    """The functions a name means: one, a family, or all. Raises CallProblem."""
    from gravel.language.functions.catalogue import FAMILIES, catalogue, find

    every = list(catalogue().values())
    if name is None:
        return every
    if name.lower() in FAMILIES:
        return [one for one in every if one.family == name.lower()]
    alike = [one for one in every if one.name.partition(" of ")[0] == name.upper()]
    if alike:
        return alike
    found = find(name)
    if found is None:
        near = nearest(name, [*catalogue(), *FAMILIES])
        raise CallProblem(f"there is no function {name}", hint=f"did you mean {near}?" if near else "gravel functions lists them all")
    return [found]


def _shape(one: Function) -> str:
    return " or ".join(signature.text for signature in one.signatures)


def _examples(one: Function) -> list[tuple[str, str]]:
    from gravel.querying.examples import outcome

    return [(text, outcome(text)) for text in one.examples]


def _json(one: Function) -> dict[str, Any]:
    from gravel.language.errors import meaning

    return {
        "name": one.name, "family": one.family, "signatures": [signature.text for signature in one.signatures], "meaning": one.meaning,
        "examples": [{"expression": text, "result": result} for text, result in _examples(one)],
        "errors": [{"sqlstate": state, "meaning": meaning(state)} for state in one.errors],
    }  # fmt: skip


def _show_all(chosen: list[Function], color: bool) -> None:
    from rich.text import Text

    from gravel.cli import render
    from gravel.language.functions.catalogue import FAMILIES

    out = render.console(color=color)
    rows = []
    for family, title in FAMILIES.items():
        names = ", ".join(one.name for one in chosen if one.family == family)
        rows.append([Text(family, style="bold"), Text(title, style=render.DIM), Text(names)])
    render.print_table(out, ["family", "", "functions"], rows)
    out.print()
    out.print(Text("next: gravel functions NAME, or a family: gravel functions lists", style=render.MARK))


def _show(chosen: list[Function], color: bool) -> None:
    from rich.padding import Padding
    from rich.text import Text

    from gravel.cli import render
    from gravel.language.errors import meaning

    out = render.console(color=color)
    for one in chosen:
        for signature in one.signatures:
            out.print(Text(signature.text, style=render.HEAD))
        out.print(Padding(Text(one.meaning), (0, 0, 0, 2)))
        rows = [
            [Text(f"  {text}"), Text("→", style=render.DIM), Text(result, style=render.BAD if result.startswith("error") else render.GOOD)]
            for text, result in _examples(one)
        ]
        render.print_table(out, ["", "", ""], rows)
        for state in one.errors:
            out.print(Text(f"  error {state}: {meaning(state)}", style=render.DIM))
        out.print()
