"""`gravel demo`."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from gravel.lazily import lazily

with lazily():
    from rich import text

    from gravel import demo as gravel_demo
    from gravel.inspecting import commands
    from gravel.render import screen


def demo(
    context: typer.Context,
    folder: Annotated[Path, typer.Argument(help="Where to write it.")] = Path("gravel-demo"),
    replace: Annotated[
        bool,
        typer.Option(
            "--replace", help="Write over files of the demo's names that hold something else."
        ),
    ] = False,
    quiet: Annotated[
        bool,
        typer.Option("--quiet", help="Write the files only, without the walk through the job."),
    ] = False,
) -> None:
    """Write the harbour demo and walk through the whole job on it."""
    written = gravel_demo.write_demo(folder, replace)
    screen.note(f"written to {folder}: {', '.join(path.name for path in written)}")
    if not quiet:
        _walk(folder, context.obj)


def _walk(folder: Path, run: Callable[[list[str]], int]) -> None:
    """Each command of the walk, by what runs commands."""
    out = screen.console()
    os.environ.pop("GRAVEL_ENGINE", None)  # the walk is a walk of this machine
    before = Path.cwd()
    os.chdir(folder)
    try:
        out.print(text.Text(f"\n$ cd {folder}", style=f"bold {screen.GOOD}"))
        for words, arguments in gravel_demo.WALK:
            out.print()
            out.print(text.Text(words, style=screen.DIM))
            out.print(
                text.Text(
                    "$ gravel " + " ".join(map(commands.shell_word, arguments)),
                    style=f"bold {screen.GOOD}",
                ),
                soft_wrap=True,
            )
            sys.stdout.flush()
            run(list(arguments))
            sys.stdout.flush()
    finally:
        os.chdir(before)
    out.print(text.Text(f"\nMore to try in {folder}:", style=screen.DIM))
    for words, arguments in gravel_demo.MORE:
        line = text.Text("$ gravel " + " ".join(map(commands.shell_word, arguments)))
        out.print(line.append(f"   # {words}", style=screen.DIM), soft_wrap=True)
