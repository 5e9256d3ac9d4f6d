"""The program: commands, and how problems become messages and exit statuses."""

from __future__ import annotations

import contextlib
import errno
import inspect
import os
import re
import signal
import sys
import threading
from collections.abc import Callable, Collection
from importlib import import_module
from pathlib import Path
from typing import Annotated, Any

import typer
from typer.core import TyperCommand, TyperGroup

from gravel import hidden
from gravel.lazily import lazily
from gravel.problems import CallProblem, Problem, Problems, nearest
from gravel.version import __version__

with lazily():
    import platform
    import tempfile
    import traceback

    from gravel.cli import other_words
    from gravel.inspecting import commands
    from gravel.kernels.native import machine
    from gravel.render import screen
    from gravel.sinks import atomic_file


# In the order of the work. What each does in a line stands here, so that the list of commands loads
# none of them.
SUMMARIES = {
    "demo": "Write the harbour demo and walk through the whole job on it.",
    "count": "Count rows, columns, malformed records, distinct values, keys and totals.",
    "look": "Show rows of a table, with hidden characters made visible.",
    "profile": "Profile every column: what is in it, what is wrong with it, how to fix it.",
    "try": "Show what an expression would change, fill, empty and fail at.",
    "check": "Check conditions in every row, or with aggregates for the table as a whole.",
    "duplicates": "Find duplicate rows: exact, by looser matching, or nearly equal.",
    "query": "Run a SELECT over files and databases, with row counts by stage.",
    "clean": "Run a plan, and print the row ledger and the proofs.",
    "trace": "Show the history of a row through a plan: what each step changed.",
    "compare": "Compare two tables row by row and cell by cell.",
    "verify": "Check that input and output still match a run's record.",
    "functions": "List the functions: what each takes and gives, with computed examples.",
}


class _Commands(TyperGroup):
    """Commands in the order of the work, of which only the one that is asked for is loaded; and the
    nearest name for one that is misspelt."""

    def list_commands(self, ctx: Any) -> list[str]:
        return list(SUMMARIES)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name in SUMMARIES:
            return _loaded(cmd_name)
        if not cmd_name.startswith("-"):
            near = nearest(cmd_name, list(SUMMARIES))
            meant = other_words.COMMANDS.get(cmd_name.lower(), f"gravel {near}" if near else "")
            hint = f"did you mean {meant}?" if meant else "commands: " + ", ".join(SUMMARIES)
            raise Problem(f"there is no command {cmd_name}", hint=hint)
        return None

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        if args[0] == "help" and args[1:2] and args[1] in SUMMARIES:
            raise Problem("there is no command help", hint=f"gravel {args[1]} --help")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(SUMMARIES.items()))


class _Command(TyperCommand):
    """A command whose options are not overwritten in silence: one that takes one value is given
    once."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        known = {name: param for param in self.params for name in param.opts}
        seen: set[str] = set()
        left = list(args)
        while left and (word := left.pop(0)) != "--":
            name, equals, _ = word.partition("=")
            option = known.get(name) if word.startswith("-") else None
            if option is None or getattr(option, "is_flag", False) or option.nargs != 1:
                continue
            if not equals and left:
                left.pop(0)
            if option.name in seen and not option.multiple:
                raise CallProblem(f"{name} is given twice, and it takes one value")
            seen.add(str(option.name))
        return super().parse_args(ctx, args)


def _help_of(command: Callable[..., None]) -> str:
    """A command's docstring, each paragraph a line: how it is cut is for the terminal to say; what
    is to be pasted is not cut."""
    paragraphs = inspect.cleandoc(command.__doc__ or "").split("\n\n")
    lines = [" ".join(paragraph.split("\n")) for paragraph in paragraphs]
    return "\n\n".join(f"\b\n{line}" if line.startswith("gravel ") else line for line in lines)


def _loaded(name: str) -> Any:
    """A command with its options."""
    attribute = "try_" if name == "try" else name
    function = getattr(import_module(f"gravel.cli.{attribute}"), attribute)
    alone = typer.Typer(**_PLAIN)
    alone.command(name, cls=_Command, help=_help_of(function))(function)
    return typer.main.get_command(alone)


# Help is plain text: what would draw boxes around it takes as long to load as all the rest.
_PLAIN: dict[str, Any] = {
    "add_completion": False,
    "rich_markup_mode": None,
    "pretty_exceptions_enable": False,
    "context_settings": {"help_option_names": ["--help", "-h"], "max_content_width": 100},
}
app = typer.Typer(
    cls=_Commands,
    no_args_is_help=True,
    help="Profile and clean tables with SQL expressions, and prove that no row got lost.",
    epilog="Start with: gravel demo",
    **{**_PLAIN, "add_completion": True},
)


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", "-V", help="Print the version.")] = False,
    verbose: Annotated[
        bool, typer.Option("--verbose", help="With --version: what else it runs on.")
    ] = False,
) -> None:
    if version:
        print(f"gravel {__version__}")
        if verbose:
            for line in machine.surroundings():
                print(line)
        raise typer.Exit
    if context.invoked_subcommand is None:
        raise CallProblem("missing command", hint="gravel --help")


def _interrupted() -> int:
    _clear_away()
    print("gravel: interrupted; a target is whole, the old one or the new one", file=sys.stderr)
    return _leave(130)


def _clear_away() -> None:
    """Take away files that were being written."""
    if "gravel.sinks.atomic_file" in sys.modules:
        atomic_file.remove_unfinished()


def run(arguments: list[str]) -> int:
    """Run the command line; the exit status. Problems are told on standard error, never as a
    traceback."""
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115
    if sys.stdout is None:
        print("gravel: standard output is closed", file=sys.stderr)
        return 3
    try:
        _end_on_signals()
        arguments = [hidden.without(_decoded(argument)) for argument in arguments]
        status = app(
            arguments, standalone_mode=False, prog_name="gravel", obj=run
        )  # the demo runs commands of its own
        sys.stdout.flush()
        # Some releases of the option parser make this status of an interrupt.
        return _interrupted() if status == 130 else int(status or 0)
    except Problems as problem:
        for item in problem.problems:
            _tell(item)
        return problem.problems[0].status
    except Problem as problem:
        _tell(problem)
        return problem.status
    except KeyboardInterrupt:
        return _interrupted()
    except Ended as ended:
        _clear_away()
        print(
            f"gravel: ended by {ended.name}; a target is whole, the old one or the new one",
            file=sys.stderr,
        )
        return _leave(128 + ended.number)
    except OSError as error:
        if error.errno == errno.EPIPE or isinstance(error, BrokenPipeError):
            return _leave(0)
        if error.filename is None and _is_output(error):
            print(
                "gravel: standard output cannot be written:"
                f" {(error.strerror or str(error)).lower()}",
                file=sys.stderr,
            )
            return _leave(3)
        return _failed(error)
    except UnicodeEncodeError as error:
        if error.encoding.lower().replace("_", "-") != (sys.stdout.encoding or "").lower().replace(
            "_", "-"
        ):
            return _failed(error)
        print(
            f"gravel: standard output is in {error.encoding}, which has no"
            f" {error.object[error.start]!a}",
            file=sys.stderr,
        )
        print("hint: set PYTHONIOENCODING=utf-8 or a locale in UTF-8", file=sys.stderr)
        return _leave(3)
    except MemoryError:
        return _no_memory()
    except Exception as error:
        return _usage(error)


class Ended(BaseException):
    """A signal that asks the process to end: what was begun is undone first."""

    def __init__(self, number: int) -> None:
        super().__init__(number)
        self.number, self.name = number, signal.Signals(number).name


def _end_on_signals() -> None:
    def end(number: int, _: Any) -> None:
        raise Ended(number)

    for name in ("SIGTERM", "SIGHUP"):
        if hasattr(signal, name) and threading.current_thread() is threading.main_thread():
            number = getattr(signal, name)
            if signal.getsignal(number) is signal.SIG_DFL:
                signal.signal(number, end)


def _decoded(argument: str) -> str:
    """An argument as it was given. Raises CallProblem where it is not UTF-8."""
    try:
        argument.encode("utf-8")
    except UnicodeEncodeError:
        shown = argument.encode("utf-8", "backslashreplace").decode()
        raise CallProblem(f"an argument is not in UTF-8: {shown[:60]}") from None
    return argument


def _is_output(error: OSError) -> bool:
    """Whether an error of the system came from writing to standard output."""
    step = error.__traceback__
    while step is not None and step.tb_next is not None:
        step = step.tb_next
    return error.errno in (errno.ENOSPC, errno.EIO, errno.EBADF, errno.EFBIG)


def _no_memory() -> int:
    print(
        "gravel: the memory is used up; nothing was written\nhint: --memory, fewer rows or fewer"
        " columns",
        file=sys.stderr,
    )
    return _leave(3)


def _failed(error: BaseException) -> int:
    """Something that was not foreseen: told as a mistake of ours, with a file of where it happened
    that holds none of the data."""
    if (
        "emory" in type(error).__name__
        or (isinstance(error, OSError) and error.errno == errno.ENOMEM)
        or re.search("malloc|allocate|map segment", str(error))
    ):
        return _no_memory()
    lines = [f"gravel {__version__}, Python {platform.python_version()}, {platform.platform()}", ""]
    cause: BaseException | None = error
    while cause is not None:
        lines += [
            f"{frame.filename}:{frame.lineno} {frame.name}"
            for frame in traceback.extract_tb(cause.__traceback__)
        ]
        lines += [type(cause).__qualname__, ""]
        cause = cause.__cause__ or cause.__context__
    try:
        handle, name = tempfile.mkstemp(prefix="gravel-error-", suffix=".txt")
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write("\n".join(lines))
        where = f"\ndetail: where it happened is in {name}; no data is in it"
    except OSError:
        where = ""
    print(
        f"gravel: internal error ({type(error).__qualname__}): a mistake in Gravel, not in your"
        f" call{where}",
        file=sys.stderr,
    )
    return _leave(70)


def _leave(status: int) -> int:
    """What is still buffered cannot be written any more: keep the interpreter from trying at
    exit."""
    for stream in (sys.stdout, sys.stderr) if not status else (sys.stdout,):
        with contextlib.suppress(OSError, ValueError, AttributeError):  # there may be none
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    return status


def _usage(error: Exception) -> int:
    """A mistake in the call, as the option parser tells it, in our form; any other error goes
    on."""
    if type(error).__name__ == "Abort":  # what the option parser makes of an interrupt
        return _interrupted()
    tell = getattr(error, "format_message", None)
    if tell is None:
        return _failed(error)
    if type(error).__name__ == "NoArgsIsHelpError":
        print(tell())
        return 2
    message = str(tell()).strip().rstrip(".")
    hint = ""
    if "Did you mean" in message:
        message, hint = (part.strip() for part in message.split("Did you mean", 1))
        hint = "did you mean " + hint.strip("(): ").removesuffix("?") + "?"
    context = getattr(error, "ctx", None)
    options = {name for param in context.command.params for name in param.opts} if context else ()
    option = str(getattr(error, "option_name", ""))
    if meant := other_words.option_for(option, options):
        hint = f"did you mean {meant}?"
    if instead := other_words.instead_of(option, str(getattr(context, "info_name", ""))):
        hint = instead
    if message.lower().startswith("got unexpected extra argument"):
        words = message.partition("(")[2].rstrip(")").split()
        message, hint = _of_extra(words)
        of_columns = next(
            (name for name in ("--columns", "--column", "--on") if name in options), ""
        )
        if not hint:
            hint = _of_what(words, options, of_columns)
    if not hint and context is not None:
        hint = f"{context.command_path} --help"
    message = message.rstrip(". (")
    _tell(Problem(message[:1].lower() + message[1:], hint=hint))
    return 2


def _of_what(words: list[str], options: Collection[str], of_columns: str) -> str:
    """What words beside a table may be meant as: rows, a condition, a column."""
    text = " ".join(words)
    if "--row" in options and text.isdigit():
        return f"which row: --row {text}"
    if "--rows" in options and text.isdigit():
        return f"how many rows: --rows {text}"
    if "--where" in options and re.search(r"[<>=]| (is|in|like|between) ", text, re.IGNORECASE):
        return f"a condition: --where {commands.shell_word(text)}"
    if of_columns and len(words) == 1:
        return f"columns are named by {of_columns} {text}"
    return ""


def _of_extra(words: list[str]) -> tuple[str, str]:
    """What is said of words too many, and how several files are one table: a shell puts the names
    in place of a pattern that is not quoted."""
    first = " ".join(words[:3]) + (" …" if len(words) > 3 else "")
    many = "a word" if len(words) == 1 else f"{len(words):,} words"
    hint = ""
    if all(map(os.path.isfile, words)):
        patterns = {str(Path(word).with_name("*" + Path(word).suffix)) for word in words}
        if len(patterns) == 1:
            hint = f"several files are one table by a pattern in quotes: '{patterns.pop()}'"
    return f"{many} too many: {first}", hint


def _tell(problem: Problem) -> None:
    screen.tell(problem)
