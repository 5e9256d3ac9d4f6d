"""The same jobs as a competent pandas script does them: `python with_pandas.py JOB FILE [ENGINE]`."""

from __future__ import annotations

import sys
from decimal import Decimal
from typing import Any

import pandas as pd

SPACE = "\u200b\u2060\ufeff"


def read(path: str, engine: str) -> Any:
    if engine == "pyarrow":
        return pd.read_csv(path, dtype=str, keep_default_na=False, na_values=[""], engine="pyarrow")
    return pd.read_csv(path, dtype=str, keep_default_na=False, na_values=[""])


def profile(path: str, engine: str) -> None:
    """The figures of the first profile for every column."""
    frame = read(path, engine)
    print(len(frame))
    for name in frame.columns:
        values = frame[name].dropna()
        stripped = values.str.strip()
        blank = (stripped == "") & (values != "")
        lengths = values.str.len()
        if values.str.fullmatch(r"0|-?[1-9]\d*").all():
            numbers = pd.to_numeric(values)
            kind, least, most = "INTEGER", numbers.min(), numbers.max()
        elif values.str.fullmatch(r"-?(?:0|[1-9]\d*)(?:\.\d+)?").all():
            numbers = pd.to_numeric(values)
            kind, least, most = "DECIMAL", numbers.min(), numbers.max()
        elif (
            values.str.fullmatch(r"\d{4}-\d\d-\d\d").all()
            and pd.to_datetime(values, format="%Y-%m-%d", errors="coerce").notna().all()
        ):
            kind, least, most = "DATE", values.min(), values.max()
        else:
            kind, least, most = "TEXT", values.min(), values.max()
        counts = values.value_counts()
        print(
            name, kind, len(frame) - len(values), (values == "").sum(), blank.sum(), ((values != stripped) & ~blank & (values != "")).sum(),
            len(counts), least, most, lengths.min(), lengths.max(), lengths.mean(), counts.head(5).to_dict(),
        )  # fmt: skip


def _capitalized(values: Any) -> Any:
    return values.str.strip().str.replace(r"\s+", " ", regex=True).str.title()


def deduplicate(path: str, engine: str) -> None:
    """The latest of the rows of one boat and berth, its status filled from the others."""
    frame = read(path, engine)
    frame["key"] = frame["boat"].str.strip().str.upper()
    ordered = frame.sort_values("from_day", ascending=False, kind="stable")
    known = ordered["key"].notna() & ordered["berth"].notna()
    first = ordered[known].groupby(["key", "berth"], sort=False)["status"].transform("first")
    ordered.loc[known, "status"] = ordered.loc[known, "status"].fillna(first)
    kept = ordered[~(ordered.duplicated(["key", "berth"]) & known)].sort_index().drop(columns="key")
    kept.to_csv(path + ".pandas-deduplicate.csv", index=False)


def sort(path: str, engine: str) -> None:
    """The rows by boat and day."""
    frame = read(path, engine)
    frame.sort_values(["boat", "from_day"], ascending=[True, False], kind="stable").to_csv(
        path + ".pandas-sort.csv", index=False
    )


def split(path: str, engine: str) -> None:
    """A row for each service."""
    frame = read(path, engine)
    frame["service"] = frame["services"].str.split(";")
    made = frame.explode("service")
    made["service"] = made["service"].str.strip()
    made.drop(columns="services").to_csv(path + ".pandas-split.csv", index=False)


def groups(path: str, engine: str) -> None:
    """The groups of rows that are equal in two texts, tidied and without case, and their rows."""
    frame = read(path, engine)
    keys = [
        frame[name].str.strip().str.replace(r"\s+", " ", regex=True).str.upper()
        for name in ("skipper", "berth")
    ]
    known = frame[keys[0].notna() & keys[1].notna()]
    sizes = known.groupby([keys[0], keys[1]])["stay_id"].transform("size")
    many = known[sizes > 1]
    print(len(many), sizes[sizes > 1].max(), many.head(10))


def compare(path: str, engine: str) -> None:
    """Two tables merged by their key and compared cell by cell."""
    before, after = read(path, engine), read(path + "-ten.csv", engine)
    both = before.merge(after, on="stay_id", how="outer", suffixes=("", "_after"), indicator=True)
    print(both["_merge"].value_counts())
    both = both[both["_merge"] == "both"]
    for name in before.columns[1:]:
        old, new = both[name], both[name + "_after"]
        same = (old == new) | (old.isna() & new.isna())
        print(
            name,
            same.sum(),
            (~same & old.notna() & new.notna()).sum(),
            (old.isna() & new.notna()).sum(),
            (old.notna() & new.isna()).sum(),
        )


def clean(path: str, engine: str) -> None:
    """The five steps of the plan, without any proof of the counts."""
    frame = read(path, engine)
    frame["boat"] = _capitalized(frame["boat"])
    frame["skipper"] = _capitalized(frame["skipper"])
    berth = frame["berth"]
    frame["berth"] = berth.mask(
        berth.isna() | (berth.str.strip() == "") | berth.str.lower().isin(["n/a", "unknown", "-"])
    )
    frame["status"] = frame["status"].str.strip().str.lower()
    frame = frame[frame["status"].fillna("open") != "cancelled"]
    frame["amount"] = frame["amount"].map(Decimal, na_action="ignore")
    frame.to_csv(path + ".pandas-clean.csv", index=False)


def group(path: str, engine: str) -> None:
    """Rows and different boats of each status."""
    print(read(path, engine).groupby("status", dropna=False)["boat"].agg(["size", "nunique"]))


def distinct(path: str, engine: str) -> None:
    """Different pairs of boat and berth."""
    print(len(read(path, engine)[["boat", "berth"]].drop_duplicates()))


def join(path: str, engine: str) -> None:
    """Stays that a table of 100,000 keys knows."""
    keys = read(path.replace("stays-", "keys-"), engine)
    joined = read(path, engine).merge(keys, on="stay_id")
    print(len(joined), joined["owner"].min())


def window(path: str, engine: str) -> None:
    """The rows of each pair of boat and berth, beside each row."""
    frame = read(path, engine)
    print(frame.groupby(["boat", "berth"], dropna=False)["stay_id"].transform("size").max())


def order(path: str, engine: str) -> None:
    """Boats and skippers in their order."""
    frame = read(path, engine)[["boat", "skipper", "stay_id"]]
    frame.sort_values(["boat", "skipper"], kind="stable").to_csv(
        path + ".pandas-order.csv", index=False
    )


def unnest(path: str, engine: str) -> None:
    """How often each service occurs in the lists."""
    print(read(path, engine)["services"].dropna().str.split(";").explode().value_counts())


if __name__ == "__main__":
    jobs = {
        job.__name__: job
        for job in (
            profile,
            clean,
            group,
            distinct,
            join,
            window,
            unnest,
            deduplicate,
            order,
            sort,
            split,
            groups,
            compare,
        )
    }
    jobs[sys.argv[1]](sys.argv[2], sys.argv[3] if len(sys.argv) > 3 else "c")
