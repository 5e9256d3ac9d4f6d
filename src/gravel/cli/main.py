"""The program: commands, and how problems become messages and exit statuses."""

from __future__ import annotations

import errno
import os
import sys
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from gravel import hidden
from gravel.cli import check, clean, compare, count, demo, duplicates, follow, functions, look, profile, query, try_, verify
from gravel.problems import Problem, Problems, nearest


class _Commands(TyperGroup):
    """Commands in the order of the work, and the nearest name for one that is misspelt."""

    def list_commands(self, ctx: Any) -> list[str]:
        return list(self.commands)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        found = super().get_command(ctx, cmd_name)
        if found is None and not cmd_name.startswith("-"):
            near = nearest(cmd_name, list(self.commands))
            hint = f"did you mean gravel {near}?" if near else "commands: " + ", ".join(self.commands)
            raise Problem(f"there is no command {cmd_name}", hint=hint)
        return found


app = typer.Typer(
    cls=_Commands, add_completion=False, no_args_is_help=True, rich_markup_mode="rich", pretty_exceptions_enable=False,
    help="Profile and clean tables with SQL expressions, and prove that no row got lost.",
    epilog="Begin with: gravel demo", context_settings={"help_option_names": ["--help", "-h"]},
)  # fmt: skip
for name, command in (
    ("demo", demo.demo), ("count", count.count), ("look", look.look), ("profile", profile.profile), ("try", try_.try_), ("check", check.check),
    ("duplicates", duplicates.duplicates), ("query", query.query),
    ("clean", clean.clean), ("follow", follow.follow), ("compare", compare.compare), ("verify", verify.verify), ("functions", functions.functions),
):  # fmt: skip
    app.command(name)(command)


@app.callback()
def _root(version: Annotated[bool, typer.Option("--version", "-V", help="Print the version.")] = False) -> None:
    if version:
        from gravel import __version__

        print(f"gravel {__version__}")
        raise typer.Exit


def run(arguments: list[str]) -> int:
    """Run the command line; the exit status. Problems are told on standard error, never as a traceback."""
    arguments = [hidden.without(one) for one in arguments]
    try:
        status = app(arguments, standalone_mode=False, prog_name="gravel")
        sys.stdout.flush()
        return int(status or 0)
    except Problems as problem:
        for one in problem.problems:
            _tell(one)
        return problem.problems[0].status
    except Problem as problem:
        _tell(problem)
        return problem.status
    except KeyboardInterrupt:
        print("gravel: interrupted; a target is whole, the old one or the new one", file=sys.stderr)
        return _leave(130)
    except OSError as error:
        if error.errno == errno.EPIPE or isinstance(error, BrokenPipeError):
            return _leave(0)
        print(f"gravel: standard output cannot be written: {(error.strerror or str(error)).lower()}", file=sys.stderr)
        return _leave(3)
    except MemoryError:
        print("gravel: the memory is used up\nhint: show fewer rows or columns", file=sys.stderr)
        return _leave(3)
    except Exception as error:
        return _usage(error)


def _leave(status: int) -> int:
    """What is still buffered cannot be written any more: keep the interpreter from trying at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return status


def _usage(error: Exception) -> int:
    """A mistake in the call, as the option parser tells it, in our form; any other error goes on."""
    if type(error).__name__ == "Abort":
        return 130
    tell = getattr(error, "format_message", None)
    if tell is None:
        raise error
    if type(error).__name__ == "NoArgsIsHelpError":
        print(tell())
        return 2
    message = str(tell()).strip().rstrip(".")
    hint = ""
    if "Did you mean" in message:
        message, hint = (part.strip() for part in message.split("Did you mean", 1))
        hint = "did you mean " + hint.strip("(): ").removesuffix("?") + "?"
    context = getattr(error, "ctx", None)
    if not hint and context is not None:
        hint = f"{context.command_path} --help"
    message = message.rstrip(". (")
    _tell(Problem(message[:1].lower() + message[1:], hint=hint))
    return 2


def _tell(problem: Problem) -> None:
    from gravel.cli.render import tell

    tell(problem)
