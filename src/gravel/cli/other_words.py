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
