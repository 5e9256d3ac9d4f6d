"""What is wrong with a text that cannot be read: where, and what its writer may have meant."""

from __future__ import annotations

import re
from collections.abc import Callable

from gravel.language.diagnostics import Diagnostic
from gravel.language.lalr import END, Token, UnexpectedToken
from gravel.language.other_names import FUNCTIONS, OPERATORS
from gravel.problems import nearest

_WORD = re.compile(r"[^\W\d]\w*")
_LAST_WORD = re.compile(r"(?<![\w\"'])[^\W\d]\w*(?=\s*\Z)")
_INTERVAL = re.compile(r"\bINTERVAL\s*[+-]?\s*'[^']*'\s*\Z", re.IGNORECASE)
_UNITS = ["YEAR", "MONTH", "WEEK", "DAY", "HOUR", "MINUTE", "SECOND"]
# What is often written otherwise: how it looks up to the token that may not come, and its hint.
_TYPICAL = [
    (re.compile(written, re.IGNORECASE), hint)
    for written, hint in (
        (r"= =\Z", "equality is written with one ="),
        (r"\b(?:FROM|JOIN)\s+[\w./-]* \.\Z", "a file stands in quotes: FROM 'boats.csv'"),
        (r"'[^']*'\w+ '[^']*'\Z", "a quote inside a text is written twice: ''"),
        (r"\bAS \)\Z", "the type is missing: AS type"),
        (r"\bNOT NULL\Z", "write IS NOT NULL"),
        (r"\bIN [\w']+\Z", "what follows IN stands in parentheses: IN ('a', 'b')"),
        (r"\bBETWEEN [^,]+ ,\Z", "write BETWEEN … AND …"),
        (r"\bLIMIT\s+\d+ ,\Z", "write LIMIT rows OFFSET rows"),
        (r"\bUSING \w+\Z", "the columns stand in parentheses: USING (owner_id)"),
        (r"\bFILTER\s*\( \w+\Z", "write FILTER (WHERE …)"),
        (r"\bGROUP BY\s.* WITH\Z", "write GROUP BY ROLLUP (a, b)"),
        (r"\bFIRST \(\Z", "write ANY_VALUE(x ORDER BY …) for the first of an order, or MIN(x)"),
        (r"\bGROUP BY ALL\Z", "name what rows are grouped by: GROUP BY status"),
        (
            r"\A(?:SHOW|DESCRIBE|DESC|EXPLAIN)\Z",
            "gravel profile tells of a table's columns, and gravel query --explain of a query",
        ),
        (r"\[\Z", 'a column name is quoted with "name"'),
        (r"- >\Z", "write JSON_VALUE(x, '$.key') for what a JSON text has there"),
        *((rf"\b{word} \(", OPERATORS[word]) for word in ("TABLESAMPLE", "PIVOT", "UNPIVOT")),
        (r"\* (?:EXCEPT|EXCLUDE)\b", "columns are named one by one; * alone is all of them"),
        (
            r"\bDISTINCT ON\Z",
            "rows get numbers in FROM: ROW_NUMBER() OVER (PARTITION BY … ORDER BY …) AS n, and"
            " WHERE n = 1 around it",
        ),
        (
            r"\A(?:INSERT|UPDATE|DELETE|MERGE|CREATE|DROP|ALTER|TRUNCATE)\Z",
            "a query only reads: --write FILE or DB#TABLE keeps its result, and a plan changes a"
            " table",
        ),
        (r"\bLATERAL\Z", "a comma is missing before it; a list is FROM t, UNNEST(…) AS u (item)"),
        (r"\bOVER\s+(?:PARTITION|ORDER)\b.*\Z", "a window has parentheses: OVER (PARTITION BY …)"),
    )
]
_CLAUSES = [
    "SELECT",
    "FROM",
    "JOIN",
    "LEFT",
    "RIGHT",
    "FULL",
    "INNER",
    "CROSS",
    "WHERE",
    "GROUP",
    "HAVING",
    "ORDER",
    "LIMIT",
]
_KEYWORDS = [*_CLAUSES, "USING", "ON", "AND", "OR", "UNION", "OFFSET", "DISTINCT"]
_NO_KEYWORDS = ("NAME", "STRING", "LPAR", "RPAR", "COMMA")


def bad_character(text: str, index: int) -> Diagnostic:
    """What is wrong with a character that begins nothing."""
    char = text[index]
    number = re.match(r"[\w.]+", text[index:])
    if number and char.isdigit():
        return Diagnostic(
            f"{number[0][:40]} is neither a number nor a name",
            text,
            index,
            index + number.end(),
            hint="leave a space after a number; digits are grouped by single underscores: 1_000",
        )
    if char == "'":
        return Diagnostic(
            "the text is not closed",
            text,
            index,
            len(text),
            hint="close it with ' (a quote inside is written twice: '')",
        )
    if char == '"':
        return Diagnostic(
            "the quoted name is not closed", text, index, len(text), hint='close it with "'
        )
    hints = {
        "‘": "write a plain quote: 'text'",
        "’": "write a plain quote: 'text'",
        "`": 'a column name is quoted with "name"',
        "“": 'write a plain quote: "name"',
        "”": 'write a plain quote: "name"',
        "[": 'a column name is quoted with "name"',
        "&": "write AND",
        "|": "write OR, or || to join texts",
        "!": "write NOT, or <> for unequal",
        "~": "write x LIKE_REGEX 'pattern'",
        ":": "a parameter is :name, and x::type is written CAST(x AS type)",
        ";": "leave it out: one expression or one query is taken at a time",
        ".": "a file stands in quotes: FROM 'boats.csv'",
    }
    return Diagnostic(
        f"unexpected character {char!r}", text, index, index + 1, hint=hints.get(char, "")
    )


def reserved_name(
    text: str, error: UnexpectedToken, failure_at: Callable[[str], int]
) -> Diagnostic | None:
    """The mistake of a reserved word that is meant as a name: in quotes it lets the text be read
    past where it failed."""
    place = error.token.start_pos
    if error.token.type == END or re.search(r"\bGROUP\s+BY\s+ALL\Z", text[: place + 3], re.I):
        return None
    at = _WORD.match(text, place)
    before = _LAST_WORD.search(text, 0, place)
    for word, passed in ((at, at and at.end()), (before, place)):
        if word is None or passed is None:
            continue
        quoted = f'{text[: word.start()]}"{word[0]}"{text[word.end() :]}'
        if failure_at(quoted) > passed + 2 + _blanks(text, passed):
            return Diagnostic(
                f"{word[0].upper()} is a reserved word",
                text,
                *word.span(),
                hint=f'as a name it is written "{word[0]}"',
            )
    return None


def misspelt_keyword(
    text: str, error: UnexpectedToken, failure_at: Callable[[str], int]
) -> Diagnostic | None:
    """The mistake of a keyword that is misspelt, and was read as a name: written right it lets the
    text be read past where it failed."""
    place = error.token.start_pos
    word = _LAST_WORD.search(text, 0, place)
    keyword = nearest(word[0], _KEYWORDS, 0.65) if word else ""
    if not word or not keyword or word[0].upper() == keyword:
        return None
    corrected = text[: word.start()] + keyword + text[word.end() :]
    if failure_at(corrected) <= place + len(keyword) - len(word[0]):
        return None
    return Diagnostic(
        f"syntax error at {word[0]!r}", text, *word.span(), hint=f"did you mean {keyword}?"
    )


def _blanks(text: str, place: int) -> int:
    return len(text[place:]) - len(text[place:].lstrip())


def bad_token(text: str, error: UnexpectedToken, is_query: bool) -> Diagnostic:
    """What is wrong with a token that may not come where it stands."""
    token = error.token
    if token.type == END:
        return _early_end(text, error.accepts)
    return _foreign_word(text, token, error.accepts) or Diagnostic(
        f"syntax error at {str(token)[:40]!r}",
        text,
        token.start_pos,
        token.end_pos,
        hint=_hint_at(text, token, error.accepts, is_query),
    )


def _early_end(text: str, accepts: frozenset[str]) -> Diagnostic:
    end = len(text.rstrip())
    hint = _expected(accepts)
    last = _LAST_WORD.search(text)
    if last and not hint and "LPAR" in accepts:
        hint = f'as a name it is written "{last[0]}"'
    return Diagnostic("the expression ends too early", text, end, end + 1, hint=hint)


def _foreign_word(text: str, token: Token, accepts: frozenset[str]) -> Diagnostic | None:
    """A function, an operator or a unit that is written otherwise here."""
    word, start = str(token), token.start_pos
    if token.type == "NAME" and _INTERVAL.search(text, 0, start):
        near = nearest(word, _UNITS)
        return Diagnostic(
            f"{word} is not a unit of an interval",
            text,
            start,
            token.end_pos,
            hint=f"did you mean {near}?" if near else ", ".join(_UNITS),
        )
    called = _call_around(text, start)
    if word.upper() == "AS" and called and called[1].upper() in FUNCTIONS:
        return Diagnostic(
            f"there is no function {called[1]}",
            text,
            *called.span(1),
            hint=FUNCTIONS[called[1].upper()],
        )
    before = _LAST_WORD.search(text, 0, start)
    for operator, span in (
        (before[0].upper() if before else "", before.span() if before else (0, 0)),
        (word.upper() if token.type == "NAME" else "", (start, token.end_pos)),
    ):
        if operator in OPERATORS:
            return Diagnostic(
                f"there is no operator {operator}", text, *span, hint=OPERATORS[operator]
            )
    return None


def _hint_at(text: str, token: Token, accepts: frozenset[str], is_query: bool) -> str:
    word, before = str(token), text[: token.start_pos].rstrip()
    for written, hint in _TYPICAL:
        if written.search(f"{before} {word}" if before else word):
            return hint
    untyped = "AS" in accepts and "NAME" not in accepts  # in a CAST
    if token.type == "NAME" and not untyped:
        keywords = [name for name in accepts if name.isalpha() and name not in _NO_KEYWORDS]
        near = nearest(word, keywords, 0.65) if len(word) > 1 else ""
        if near:
            return f"did you mean {near}?"
    if token.type in ("NAME", "STRING") and not untyped and {"AND", "OR", "COMMA"} & accepts:
        return "an operator or a comma is missing before it"
    if accepts == {"BY"}:
        return f"{before.split()[-1].upper()} is followed by BY"
    if before.endswith(",") and re.fullmatch(r"\w+|\)", word):
        return "a comma too many stands before it, or a value is missing"
    if word == ")" and _call_around(text, token.start_pos) is None:
        return "no parenthesis is open here"
    clause = word.upper() in _CLAUSES
    if clause and not is_query:
        return "this takes one expression, not a whole statement"
    if clause and not {"NAME", "STRING", "RPAR", "END"} & accepts:
        return "the order is SELECT, FROM with its JOINs, WHERE, GROUP BY, HAVING, ORDER BY, LIMIT"
    if is_query and not before:
        return "a query begins with SELECT, VALUES or WITH"
    return _expected(accepts)


def _call_around(text: str, place: int) -> re.Match[str] | None:
    """The name (group 1) of the call whose parenthesis is open at a place."""
    closed = 0
    for index in range(place - 1, -1, -1):
        if text[index] == ")":
            closed += 1
        elif text[index] == "(":
            if not closed:
                return re.search(r"(\w+)\s*$", text[:index])
            closed -= 1
    return None


def _expected(accepts: frozenset[str]) -> str:
    for token, hint in (
        ("END", "a CASE ends with END"),
        ("THEN", "WHEN is followed by THEN"),
        ("AS", "the type is missing: AS type"),
    ):
        if token in accepts and not ({"NAME"} & accepts):
            return hint
    if "END" in accepts:
        return "a CASE ends with END"
    if "NAME" in accepts or "STRING" in accepts:
        return "a value, a column or a function is missing here"
    if "RPAR" in accepts:
        return "a closing parenthesis is missing"
    return ""
