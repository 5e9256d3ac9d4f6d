"""Pages as a browser and a person with a screen reader meet them; the record beside an output; the same figures with little memory."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from conftest import write

VOID = {
    "meta",
    "link",
    "br",
    "hr",
    "img",
    "input",
    "path",
    "rect",
    "line",
    "circle",
    "col",
    "use",
    "stop",
}


class Page(HTMLParser):
    """A page taken apart: its elements in order, what is open at the end, its text."""

    def __init__(self, path: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.wrong: list[str] = []
        self.words: list[str] = []
        self.feed(Path(path).read_text("utf-8"))

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.elements.append((tag, dict(attrs)))
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag in VOID:
            return
        if not self.open or self.open.pop() != tag:
            self.wrong.append(f"</{tag}> at {self.getpos()}")

    def handle_data(self, data: str) -> None:
        if not set(self.open) & {"style", "script"}:
            self.words.append(data)

    @property
    def text(self) -> str:
        return " ".join(" ".join(self.words).split())

    def all(self, *tags: str) -> list[dict[str, str | None]]:
        return [attributes for tag, attributes in self.elements if tag in tags]


@pytest.fixture
def demo(gravel: Any) -> Any:
    gravel("demo", ".", "--quiet")
    return gravel


PAGES: dict[str, tuple[tuple[str, ...], int]] = {
    "profile": (("profile", "boats.csv"), 0),
    "clean": (("clean", "boats.toml"), 0),
    "check": (
        (
            "check",
            "stays.csv",
            "known: boat_id IN (SELECT boat_id FROM 'boats.csv')",
            "amount / nights < 100",
            "COUNT(*) > 1000",
        ),
        1,
    ),
    "in place": (("clean", "stays.toml", "--backup", "old"), 0),
    "duplicates": (("duplicates", "owners.csv", "--on", "name", "--on", "town"), 0),
    "near": (
        ("duplicates", "owners.csv", "--near", "name", "--within", "1", "--key", "owner_id"),
        0,
    ),
    "compare": (("compare", "boats.csv", "services.csv", "--key", "boat_id = booking_id"), 2),
}


@pytest.mark.parametrize("name", [name for name in PAGES if name != "compare"] + ["compared"])
def test_a_page_stands_by_itself_and_can_be_walked_through(name: str, demo: Any) -> None:
    if name == "compared":
        demo("clean", "boats.toml")
        call, status = ("compare", "boats.csv", "boats-clean.csv", "--key", "boat_id"), 1
    else:
        call, status = PAGES[name]
    told = demo(*call, "--report", "r.html", "--format", "json", status=status).json
    page = Page("r.html")
    assert (page.wrong, page.open) == ([], [])
    root = page.all("html")[0]
    assert root.get("lang") == "en"
    assert any("charset" in one for one in page.all("meta"))
    assert [one for one in page.all("meta") if one.get("name") == "viewport"]
    # Nothing is fetched, and no script is needed to read it.
    source = Path("r.html").read_text("utf-8")
    assert not re.findall(r"""(?:src|href)=["'](?!#|data:)[^"']""", source)
    assert "@import" not in source
    assert "http" not in re.sub(r"http://www\.w3\.org/\S+", "", source)
    names = [one["id"] for one in page.all(*{tag for tag, _ in page.elements}) if one.get("id")]
    assert len(names) == len(set(names))
    for link in page.all("a"):
        assert (link.get("href") or "").removeprefix("#") in names, link
    # One heading of the first level, and none is passed over on the way down.
    levels = [int(tag[1]) for tag, _ in page.elements if re.fullmatch(r"h[1-6]", tag)]
    assert levels.count(1) == 1
    assert levels[0] == 1
    assert all(below - above <= 1 for above, below in pairwise(levels))
    for drawing in page.all("svg"):
        assert (
            drawing.get("aria-label")
            or drawing.get("aria-labelledby")
            or drawing.get("aria-hidden") == "true"
        ), drawing
    assert all(one.get("alt") is not None for one in page.all("img"))
    # Each table says what its rows or columns are.
    for table in re.findall(r"<table.*?</table>", source, re.DOTALL):
        assert (
            "<th scope=" in table
            or "one value in several spellings" in table
            or "most frequent values" in table
        ), table[:300]
        head, body = table.partition("</thead>")[::2] if "<thead" in table else ("", table)
        wide = [
            sum(
                int(span or 1)
                for span in re.findall(r"""<t[hd](?=[ >])(?:[^>]*?colspan="?(\d+))?""", row)
            )
            for part in (head, body)
            for row in re.findall(r"<tr.*?</tr>", part, re.DOTALL)
        ]
        assert not head or len(set(wide)) <= 1, (wide, table[:600])
    figures = {
        "profile": lambda: [told["rows"], *(one["rows"] for one in told["findings"])],
        "clean": lambda: [told["rows_in"], told["rows_out"], *(one["dropped"] for one in told["steps"] if one["dropped"])],
        "check": lambda: [told["rows_that_do_not_hold"], *(one["holds"] for one in told["checks"] if one["holds"])],
        "in place": lambda: [told["rows_in"], told["rows_out"], told["changes"]["updated"], sum(told["changes"]["cells"].values())],
        "duplicates": lambda: [told["rows"]],
        "near": lambda: [told["pair_count"]],
        "compared": lambda: [told["both"], told["only_before"], told["changed_rows"]],
    }[name]()  # fmt: skip
    for figure in figures:
        assert re.search(rf"(?<![\d,.]){figure:,}(?![\d,])", page.text), figure


def test_a_run_that_no_row_leaves_is_no_drawing_and_quiet_steps_are_one_block(gravel: Any) -> None:
    write("t.csv", "a,b\nx,1\ny,2\n")
    step = '[[step]]\nset = { a = "UPPER(a)" }\n'
    write("p.toml", 'table = "t.csv"\nwrite = "o.csv"\n' + 3 * step)
    gravel("clean", "p.toml", "--report", "r.html")
    page = Page("r.html")
    assert "All 2 rows go through 3 steps: none joins, none leaves." in page.text
    assert page.all("svg") == []
    write("p.toml", Path("p.toml").read_text("utf-8") + '[[step]]\ndrop_rows = "b = 1"\n')
    gravel("clean", "p.toml", "--report", "r.html")
    assert [one["class"] for one in Page("r.html").all("path")].count("stream") == 2


def test_colours_can_be_read_on_black_and_on_white(demo: Any, monkeypatch: Any) -> None:
    """WCAG 2.2, 1.4.3: a contrast of 4.5 to 1, of every colour that the terminal is sent."""
    monkeypatch.setenv("FORCE_COLOR", "1")
    monkeypatch.setenv("COLORTERM", "truecolor")
    sent = ""
    for call, status in (*PAGES.values(), (("look", "boats.csv", "--where", "skipper = NULL"), 0)):
        told = demo(*call, status=status)
        sent += told.out + told.err
    colours = set(re.findall(r"38;2;(\d+);(\d+);(\d+)m", sent))
    assert len(colours) >= 5
    for colour in colours:
        linear = [
            part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4
            for part in (int(one) / 255 for one in colour)
        ]
        light = 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
        assert 1.05 / (light + 0.05) >= 4.5, colour
        assert (light + 0.05) / 0.05 >= 4.5, colour
    assert not re.findall(r"\x1b\[(?:\d;)*[349][0-7](?:;\d)*m", sent), (
        "a colour that the terminal's theme decides"
    )


def test_the_record_says_what_the_run_said(demo: Any) -> None:
    """A run's JSON, its record and the record's own sums agree, figure by figure."""
    for plan in ("boats.toml", "owners.toml", "boat-services.toml", "stays.toml"):
        ran = demo("clean", plan, "--format", "json")
        assert "is called" not in ran.err, "a key of before"
        told = ran.json
        record = json.loads(Path(told["record"]).read_text("utf-8"))
        assert record["steps"] == told["steps"]
        assert record["proofs"] == told["proofs"]
        assert (record["inputs"][0]["rows"], record["output"]["rows"]) == (
            told["rows_in"],
            told["rows_out"],
        )
        gone = sum(step["dropped"] + step["merged"] + step["set_aside"] for step in record["steps"])
        assert (record["rejects"] or {"rows": 0})["rows"] == gone
        assert (
            told["rows_in"] + sum(step["added"] for step in record["steps"]) - gone
            == told["rows_out"]
        )
        assert [step["in"] for step in record["steps"][1:]] == [
            step["out"] for step in record["steps"][:-1]
        ]
        if told["changes"]:
            assert record["output"]["changes"] == told["changes"]
        assert demo("verify", told["record"], "--format", "json").json["status"] == "same"
        # Every figure that is signed is looked at: a record that says another number does not verify.
        for part, key in (("output", "rows"), ("rejects", "rows")):
            if record[part] and "path" in record[part]:
                other = {**record, part: {**record[part], key: record[part][key] + 1}}
                write("other.record.json", json.dumps(other))
                assert (
                    demo("verify", "other.record.json", "--format", "json", status=1).json["status"]
                    == "differs"
                )
    base = "harbour.db"
    write(
        "stays-again.toml", Path("stays.toml").read_text().replace("in place", "harbour.db#again")
    )
    demo("clean", "stays-again.toml")
    import sqlite3

    connection = sqlite3.connect(base)
    connection.execute("UPDATE again SET nights = nights + 1 WHERE stay_id = 3")
    connection.commit()
    connection.close()
    found = demo("verify", "stays-again.record.json", "--format", "json", status=1).json["findings"]
    assert [one["what"] for one in found] == ["harbour.db#again: content"]


@pytest.mark.parametrize(
    "call",
    [
        ("profile", "t.csv"), ("duplicates", "t.csv", "--on", "name"), ("duplicates", "t.csv", "--on", "UPPER(name)", "--on", "pier"),
        ("query", "SELECT pier, COUNT(*) AS n, SUM(fee) AS fee FROM 't.csv' GROUP BY pier ORDER BY pier"),
        ("query", "SELECT name, fee, ROW_NUMBER() OVER (PARTITION BY pier ORDER BY fee, id) AS n FROM 't.csv' ORDER BY id"),
        ("query", "SELECT a.id, b.id AS other FROM 't.csv' AS a JOIN 't.csv' AS b ON a.id = b.fee ORDER BY a.id, b.id"),
        ("query", "SELECT DISTINCT name FROM 't.csv' ORDER BY name"), ("clean", "p.toml", "--dry-run"), ("trace", "p.toml", "--row", "4999"),
    ],
    ids=lambda call: " ".join(call)[:30],
)  # fmt: skip
def test_little_memory_changes_no_figure(call: tuple[str, ...], figures: Any) -> None:
    lines = [
        f"{n},{'gull' if n % 3 else 'Tern '} {n % 1700},{'ABCD'[n % 4]},{n * 7 % 5000}"
        for n in range(60_000)
    ]
    write("t.csv", "id,name,pier,fee\n" + "\n".join(lines) + "\n")
    write(
        "p.toml",
        'table = "t.csv"\nwrite = "o.csv"\nkey = ["id"]\n[[step]]\nunique = { by = ["UPPER(TRIM(name))", "pier"], prefer = "fee DESC" }\n'
        '[[step]]\nsort = ["pier", "fee DESC"]\n[[step]]\nset = { name = "TRIM(name)" }\n',
    )
    assert figures(*call, "--memory", "1MB") == figures(*call)
