"""What can go wrong for reasons outside the program, in one form: a line, a place, a detail, a
hint."""

from __future__ import annotations


class Problem(Exception):
    """Something the person at the prompt can fix.

    message: what is wrong, one line, lower case, no full stop. place: the lines that show where (an
    excerpt with a caret, `file:line`). detail: facts that help. hint: what to do. status: the
    process's exit status.
    """

    status = 2

    def __init__(self, message: str, *, place: str = "", detail: str = "", hint: str = "") -> None:
        super().__init__(message)
        self.message, self.place, self.detail, self.hint = message, place, detail, hint


class CallProblem(Problem):
    """The call or the plan is wrong: usage, syntax, an unknown column, types."""


class DataProblem(Problem):
    """The data or a proof does not hold."""

    status = 1


class TableProblem(Problem):
    """Input or output cannot be read or written."""

    status = 3


class Problems(Problem):
    """Several problems of one text (a plan), told at once."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__(problems[0].message)
        self.problems = problems


def nearest(name: str, known: list[str], least: float = 0.6) -> str:
    """The known name that is most like `name` without regard to case, and that by at least so
    much (0 to 1), or ''."""
    import difflib

    folded = {candidate.casefold(): candidate for candidate in known}
    match = difflib.get_close_matches(name.casefold(), folded, n=1, cutoff=least)
    return folded[match[0]] if match else ""
