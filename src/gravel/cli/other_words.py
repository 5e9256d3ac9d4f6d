"""What commands and options are called elsewhere, and what they are called here."""

from __future__ import annotations

from collections.abc import Collection

_COMMANDS = {
    "look": "head tail show view cat less print rows sample",
    "profile": "describe stats statistics summary info inspect analyze analyse schema columns",
    "query": "sql select join convert",
    "duplicates": "dedupe dedup deduplicate duplicate unique distinct",
    "compare": "diff",
    "check": "validate test assert",
    "clean": "run apply fix transform execute",
    "trace": "history explain lineage",
    "count": "rowcount wc len size",
}
COMMANDS = {word: f"gravel {name}" for name, words in _COMMANDS.items() for word in words.split()}
COMMANDS |= {"help": "gravel --help", "version": "gravel --version"}

# By what is written here, the first of which a command has.
_OPTIONS = {
    ("--rows",): "limit head top first n nrows max-rows count",
    ("--write", "--report"): "output out o save",
    ("--where",): "filter w",
    ("--sort",): "order-by orderby order by desc descending",
    ("--columns", "--column"): "columns column cols col select fields c",
    ("--key",): "id on pk primary-key",
    ("--on",): "by key columns subset",
    ("--distinct",): "by group-by groupby unique",
    ("--within",): "tolerance epsilon precision",
    ("--format",): "json csv markdown output-format",
    ("--dry-run",): "dry n",
    ("--replace",): "force overwrite f",
    ("--delimiter",): "sep separator d",
    ("--null",): "na null-values na-values",
    ("--level",): "ignore-case ignore-spaces fuzzy",
}
_WITH_VALUE = {"json": " json", "csv": " csv", "markdown": " markdown", "desc": ' "column DESC"'}
_WITH_VALUE["descending"] = _WITH_VALUE["desc"]

# By a command and what is written there, how that is said.
_BY_GROUP = """gravel query "SELECT status, COUNT(*) FROM 'boats.csv' GROUP BY status" does it"""
_NTH_ROW = """gravel query "SELECT * FROM 'boats.csv' OFFSET 4 LIMIT 1" shows the fifth one"""
_OF_SOME = """all columns are compared; gravel query "SELECT …" --write FILE makes one of some"""
_INSTEAD = {
    ("check", "not-null notnull required"): "a condition says it: 'berth IS NOT NULL'",
    ("check", "unique key primary-key"): "it is a condition: 'COUNT(*) = COUNT(DISTINCT boat_id)'",
    ("check", "values in in-set one-of"): "a condition says it: \"pier IN ('A', 'B')\"",
    ("check", "min max range between"): "a condition says it: 'fee BETWEEN 0 AND 900'",
    ("check", "regex pattern match matches"): "a condition says it: \"berth LIKE '_-%'\"",
    ("count", "by group-by groupby"): _BY_GROUP,
    ("profile", "by group-by groupby"): _BY_GROUP,
    ("look", "row"): _NTH_ROW,
    ("compare", "columns column ignore exclude"): _OF_SOME,
}


def instead_of(word: str, command: str) -> str:
    """What is written for an option that a command has not; '' where nothing is known."""
    bare = word.lstrip("-").lower().replace("_", "-")
    return next(
        (hint for (of, words), hint in _INSTEAD.items() if of == command and bare in words.split()),
        "",
    )


def option_for(word: str, options: Collection[str]) -> str:
    """The option of a command, of which all `options` are given, that is called so elsewhere; ''
    where there is none."""
    bare = word.lstrip("-").lower().replace("_", "-")
    for names, words in _OPTIONS.items():
        if bare in words.split():
            for name in names:
                if name in options and name != word:
                    return name + _WITH_VALUE.get(bare, "")
    return ""
