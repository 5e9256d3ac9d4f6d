"""What the proofs of a run claim, and by what each is shown. A proof that claims anything else
cannot be made; the list in docs/plans.md is made from here."""

from __future__ import annotations

import re
from functools import cached_property

from msgspec import Struct


class Claim(Struct, frozen=True, dict=True):
    """A claim in words, with the names of what it is about in braces, and its evidence."""

    text: str
    evidence: str

    @cached_property
    def pattern(self) -> re.Pattern[str]:
        """What its texts look like."""
        parts = re.split(r"\{\w+\}", self.text)
        return re.compile(".+".join(map(re.escape, parts)), re.DOTALL)


CLAIMS = (
    Claim(
        "every line of the file is accounted for",
        "line ends are counted in its bytes, against header, rows, malformed records and line"
        " breaks inside values",
    ),
    Claim(
        "every row of the store is accounted for",
        "the store's own count, against the rows that were read",
    ),
    Claim(
        "the input did not change while it was read",
        "size and checksum of the first reading against those at the end",
    ),
    Claim("every step balances", "the ledger's counts: rows in, what left or came, rows out"),
    Claim("every step meets its expected rows", "rows in and out against `rows` of the step"),
    Claim(
        "the key ({columns}) is unique and not null {when}",
        "hashes of all keys, before and after; equal ones are looked up and compared by value",
    ),
    Claim(
        "there is no key to prove after",
        "none is asked for: after a split into rows without `key_after` the key repeats",
    ),
    Claim(
        "the output has the rows the ledger says",
        "the written file is opened again, its rows counted, its bytes compared with what was"
        " written",
    ),
    Claim("the rejects are all there", "so is the file of rejects"),
    Claim(
        "columns that no step touched hold the same values",
        "a hash made of each source row travels with it, and is made again of the output",
    ),
    Claim(
        "columns that steps made hold what they made",
        "a hash made of each row as it is handed to the file, and again of the written file",
    ),
    Claim(
        "columns that no step touched have the same types",
        "the Arrow types of the file that was written, read back, against those of the source",
    ),
    Claim(
        "the control total of {expression} reconciles",
        "a sum at the start is that of the output, read again, and of the rejects, exactly",
    ),
    Claim("the total {expression}, told only", "an aggregate that need not stay the same"),
    Claim(
        "{target} holds what was proved",
        "what was stored in a database, a Parquet, Arrow, JSON Lines or compressed file is read"
        " back and compared by value",
    ),
    Claim(
        "the table has the rows the ledger says", "the database's own count, inside the transaction"
    ),
    Claim(
        "the table is as it was when it was read",
        "a table changed in place is read again under lock, and compared",
    ),
    Claim(
        "only what differs was changed",
        "rows that the database says it changed, deleted and inserted, against those that differ",
    ),
    Claim(
        "tables that refer to it are as they were",
        "tables with a foreign key that acts are read before and after, and compared by value",
    ),
    Claim("{backup} holds the rows as they were", "the copy is read back and compared by value"),
    Claim(
        "the table of rejects has them all",
        "its own count, and its rows read back and compared by value",
    ),
)


def claim_of(text: str) -> Claim:
    """The claim that a text makes. Raises ValueError where it is none."""
    for claim in CLAIMS:
        if claim.pattern.fullmatch(text):
            return claim
    raise ValueError(f"a proof claims what no claim says: {text}")
