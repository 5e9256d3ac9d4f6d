"""How a text file is to be read: the options of every command, of `query` by table, of a plan's
`[read]` and of the library, in one place."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from gravel.problems import CallProblem, nearest
from gravel.sources.dialect import NO_QUOTE

if TYPE_CHECKING:
    from gravel.language.types import Type

SPACE = "space"
_SIGNS = {"tab": "\t", "\\t": "\t", "semicolon": ";", "comma": ",", "pipe": "|"}


class ReadOptions(Struct, frozen=True):
    """header: the line of the names, 0 for none, None to find out; skip: lines before it; nulls:
    unquoted texts that are NULL; comment: what a line to leave out begins with; quote: the sign
    around fields, or NO_QUOTE; decimal, group: the signs in numbers; dates: templates of days;
    starts: where the columns of a fixed width begin, from 1. delimiter None: found from the first
    lines. stated: the names of options that were given, be it as they are by themselves."""

    delimiter: str | None = None
    encoding: str | None = None
    empty_null: bool = False
    texts: tuple[str, ...] = ()
    declared: Mapping[str, Type] = field(default_factory=dict)
    # only its columns and how many rows it has: a database need not hand the rows over
    bare: bool = False
    own: bool = False  # Gravel wrote it: the first line has the names, as they stand
    header: int | None = None
    skip: int = 0
    nulls: tuple[str, ...] = ()
    comment: str = ""
    quote: str = '"'
    decimal: str = "."
    group: str = ""
    dates: tuple[str, ...] = ()
    stated: frozenset[str] = frozenset()

    def __post_init__(self) -> None:
        if self.group and self.group == self.decimal:
            raise CallProblem(
                f"{self.decimal!r} cannot be the decimal sign and group digits too",
                hint="--decimal , --group . reads 1.234,50",
            )

    @property
    def starts(self) -> tuple[int, ...]:
        """Where the columns of a fixed width begin, from 1; none where fields are delimited."""
        sign = self.delimiter
        return tuple(map(int, sign.split(","))) if sign and _is_width(sign) else ()

    @property
    def lays_out(self) -> bool:
        """Whether the text is to be written anew, as delimited text, before it can be read."""
        return bool(self.comment or self.starts or self.delimiter == SPACE)

    def settled(self) -> dict[str, Any]:
        """What was asked for, by option, as `[read]` of a plan takes it."""
        plain = ReadOptions()
        return {
            option.name: value
            for option in OPTIONS
            if (value := option.given(self)) != option.given(plain) or option.name in self.stated
        }

    def words(self) -> list[str]:
        """What was asked for, as a command line has it."""
        result: list[str] = []
        for name, value in self.settled().items():
            for item in value if isinstance(value, list) else [value]:
                result += [f"--{name}", str(item)]
        return result


class ReadOption(Struct, frozen=True):
    """An option of reading: its name, what it takes, its help, whether it is repeated."""

    name: str
    metavar: str
    help: str
    several: bool
    take: Callable[[Any], dict[str, Any]]
    given: Callable[[ReadOptions], Any]


def _is_width(delimiter: str) -> bool:
    return re.fullmatch(r"\d+(,\d+)+", delimiter) is not None


def _delimiter(value: str) -> dict[str, Any]:
    sign = _SIGNS.get(value, value)
    if _is_width(sign):
        starts = list(map(int, sign.split(",")))
        if starts != sorted(set(starts)) or starts[0] < 1:
            raise CallProblem(f"columns of a fixed width begin one after another, not at {value}")
    elif sign != SPACE and len(sign.encode()) != 1:
        raise CallProblem(
            f"a delimiter is one character, not {value!r}",
            hint="for a tab: --delimiter tab; for runs of blanks: --delimiter space; for columns"
            " of a fixed width where each begins: --delimiter 1,9,20",
        )
    return {"delimiter": sign}


def _shown_delimiter(options: ReadOptions) -> str | None:
    return "tab" if options.delimiter == "\t" else options.delimiter


def _empty(value: str) -> dict[str, Any]:
    if value not in ("text", "null"):
        raise CallProblem(f"--empty is text or null, not {value!r}")
    return {"empty_null": value == "null"}


def _header(value: str | int) -> dict[str, Any]:
    text = str(value).strip().lower()
    if text == "none":
        return {"header": 0}
    if not text.isdigit() or int(text) < 1:
        raise CallProblem(f"--header is the line of the names, or none, not {value!r}")
    return {"header": int(text)}


def _skip(value: str | int) -> dict[str, Any]:
    if not str(value).strip().isdigit():
        raise CallProblem(f"--skip is a number of lines, not {value!r}")
    return {"skip": int(value)}


def _sign(name: str, empty: bool = False) -> Callable[[str], dict[str, Any]]:
    def take(value: str) -> dict[str, Any]:
        if len(value) != 1 or not value.isascii() or value.isalnum() or value in "\r\n\0+-":
            raise CallProblem(f"--{name} is one sign, not {value!r}")
        return {name: value}

    return take


def _quote(value: str) -> dict[str, Any]:
    return {"quote": NO_QUOTE} if value == "none" else _sign("quote")(value)


def _comment(value: str) -> dict[str, Any]:
    if not value.strip() or value.startswith('"'):
        raise CallProblem(f"--comment is what a line begins with, not {value!r}")
    return {"comment": value}


OPTIONS = (
    ReadOption(
        "delimiter",
        "SIGN",
        "Between fields: one character, tab, space (runs of blanks), or where columns of a fixed"
        " width begin (1,9,20). Found from the first lines if not given.",
        False,
        _delimiter,
        _shown_delimiter,
    ),
    ReadOption(
        "encoding",
        "NAME",
        "The file's encoding, UTF-8 if not given.",
        False,
        lambda value: {"encoding": value},
        lambda options: options.encoding,
    ),
    ReadOption(
        "header",
        "N|none",
        "The line of the column names; none: the columns are c1, c2, …",
        False,
        _header,
        lambda options: "none" if options.header == 0 else options.header,
    ),
    ReadOption(
        "skip",
        "N",
        "Lines to leave out at the beginning.",
        False,
        _skip,
        lambda options: options.skip,
    ),
    ReadOption(
        "comment",
        "SIGN",
        "Lines that begin so are left out.",
        False,
        _comment,
        lambda options: options.comment,
    ),
    ReadOption(
        "quote",
        "SIGN|none",
        'The sign around fields, " if not given; none: quotes are characters like others.',
        False,
        _quote,
        lambda options: "none" if options.quote == NO_QUOTE else options.quote,
    ),
    ReadOption(
        "null",
        "TEXT",
        "An unquoted field that is NULL, as NA or - (repeatable). An empty one is NULL too.",
        True,
        lambda value: {"nulls": tuple(value)},
        lambda options: list(options.nulls),
    ),
    ReadOption(
        "empty",
        "text|null",
        "A quoted empty field is an empty text, or NULL.",
        False,
        _empty,
        lambda options: "null" if options.empty_null else "text",
    ),
    ReadOption(
        "decimal",
        "SIGN",
        "Before the decimals of numbers: columns of such numbers are numbers.",
        False,
        _sign("decimal"),
        lambda options: options.decimal,
    ),
    ReadOption(
        "group",
        "SIGN",
        "Between groups of digits in numbers, as the . in 1.234,50.",
        False,
        _sign("group"),
        lambda options: options.group,
    ),
    ReadOption(
        "dates",
        "TEMPLATE",
        "Columns whose values all fit, as DD.MM.YYYY, are dates (repeatable).",
        True,
        lambda value: {"dates": tuple(value)},
        lambda options: list(options.dates),
    ),
    ReadOption(
        "text",
        "COLUMN",
        "A column to keep as text whatever it holds (repeatable).",
        True,
        lambda value: {"texts": tuple(value)},
        lambda options: sorted(options.texts),
    ),
)


def reading_of(asked: Mapping[str, Any], **more: Any) -> ReadOptions:
    """Options by their names, as a command line or a plan has them; None is not given. Raises
    CallProblem."""
    known = {option.name: option for option in OPTIONS}
    values: dict[str, Any] = {}
    stated: set[str] = set()
    for name, value in asked.items():
        if value is None or value == []:
            continue
        if name not in known:
            near = nearest(name, list(known))
            raise CallProblem(
                f"there is no reading option {name}",
                hint=f"did you mean {near}?" if near else ", ".join(known),
            )
        option = known[name]
        if option.several and isinstance(value, str):
            value = [value]
        values |= option.take(value)
        stated.add(name)
    assert values.keys() <= set(ReadOptions.__struct_fields__)
    return ReadOptions(**values, **more, stated=frozenset(stated))
