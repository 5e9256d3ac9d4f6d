"""Makes the demo's tables from a fixed seed: `python -m gravel.demo.generate [FOLDER]`. All names
are made up.

The defects are those of extracts that went through several hands: one thing in many spellings,
hidden spaces, blanks that are not NULL, words for nothing, letters in numbers, lists in a field,
dates in several forms.
"""

from __future__ import annotations

import random
import sys
from datetime import date, timedelta
from pathlib import Path

import pyarrow as pa

from gravel.sinks.csv import encode, header

FIRST = ["Alva", "Bero", "Cilla", "Dorrit", "Enna", "Fjodor", "Gesa", "Hanno", "Ilka", "Jorun",
    "Kaja", "Lasse", "Mirja",
         "Nils-Aage", "Orla", "Päivi", "Quirin", "Runa", "Søren", "Tilda", "Ulrik", "Vesna",
         "Wiebke", "Ysolde", "Zora"]  # fmt: skip
LAST = ["Tangmoor", "O'Brannock", "Seelander", "Kvistholm", "Brackwater", "Fennimar", "Löwenkoog",
    "Marrows", "Ostrand",
        "Pellworth-Dahl", "Quayle-Ness", "Rifgarth", "Skjelvik", "Tidemarsh", "Undersund", "Vårlid",
        "Wrackmann", "Yarrowby"]  # fmt: skip
BOATS = ["Grey Gull", "Sandpiper", "Little Auk", "Morning Tide", "Sea Pink", "Kittiwake",
    "Old Rope", "Second Wind", "Bright Penny",
         "Windfall", "Salt Lark", "Merry Otter", "Black Cormorant", "Daughter of Anna", "Möwe",
         "L'Espadon", "O'Malley's Luck",
         "Nordlys", "Blå Jungfrun", "Wet Feet", "Periwinkle", "Tern", "Lady of the Quay",
         "Half Moon", "Fair Enough"]  # fmt: skip
TYPES = ["sloop", "ketch", "motor boat", "dinghy", "catamaran", "skiff"]
SERVICES = ["water", "power", "crane", "diesel", "laundry", "mail", "winter storage"]
STATUS = ["afloat"] * 12 + [
    "Afloat",
    "AFLOAT",
    "afloat ",
    "ashore",
    "ashore",
    "ashore",
    "Ashore",
    "on land",
    "scrapped",
    "scrapped",
    "Scrapped",
    None,
]
NOTHING = [None, None, None, "", " ", "n/a", "-", "unknown"]


class Harbour:
    """The tables, each a list of rows of texts (None is NULL)."""

    def __init__(self, seed: int = 20240131) -> None:
        self.dice = random.Random(seed)

    def chance(self, share: float) -> bool:
        """True that often."""
        return self.dice.random() < share

    def untidy(self, text: str, share: float = 0.16) -> str:
        """Now and then the text in other case or with other spaces."""
        if not self.chance(share):
            return text
        changes = [
            str.upper,
            str.lower,
            lambda t: f" {t}",
            lambda t: f"{t} ",
            lambda t: f"{t}  ",
            lambda t: t.replace(" ", "  "),
            lambda t: t.replace(" ", "\u00a0"),
            lambda t: f"{t}\t",
            str.swapcase,
        ]
        return str(self.dice.choice(changes)(text))

    def person(self) -> tuple[str, str]:
        """(given name, surname)."""
        return self.dice.choice(FIRST), self.dice.choice(LAST)

    def day(self, form: bool = True) -> str:
        """A day of 2019 to 2024, mostly in ISO form."""
        day = date(2019, 1, 1) + timedelta(self.dice.randrange(2000))
        if form and self.chance(0.06):
            return day.strftime(self.dice.choice(["%d.%m.%Y", "%m/%d/%Y", "%d.%m.%y"]))
        return day.isoformat()

    def phone(self) -> str:
        """A number of the harbour's own exchange, in whatever form it was noted down."""
        digits = f"{self.dice.randrange(10**6):06d}"
        forms = [
            f"0555 {digits}",
            f"0555/{digits}",
            f"0555-{digits[:3]}-{digits[3:]}",
            f"+99 555 {digits}",
            f"0555{digits}",
        ]
        return self.dice.choice(forms)

    def owners(self) -> list[list[str | None]]:
        """Owners, a few of them twice under another number."""
        rows: list[list[str | None]] = []
        for number in range(1, 296):
            supplied, surname = self.person()
            mail = f"{supplied}.{surname}@harbour.example".lower().replace("'", "").replace(" ", "")
            if self.chance(0.05):
                mail = self.dice.choice(
                    [mail.replace("@", " at "), mail.replace(".example", ""), mail.upper()]
                )
            town = self.untidy(
                self.dice.choice(["Eastquay", "Holm", "Nether Sands", "Skerry", "Vik"]), 0.12
            )
            rows.append(
                [
                    f"{number:04d}",
                    self.untidy(f"{surname}, {supplied}"),
                    mail if self.chance(0.9) else self.dice.choice(NOTHING),
                    self.phone() if self.chance(0.92) else self.dice.choice(NOTHING),
                    town,
                    self.day(),
                ]
            )
        for number, original in enumerate(self.dice.sample(rows, 15), 296):
            again = list(original)
            again[0] = f"{number:04d}"
            name = str(original[1])
            again[1] = self.dice.choice(
                [name.upper(), name.lower(), name.replace(", ", ","), name + " "]
            )
            again[3] = self.phone()
            rows.append(again)
        return rows

    def boats(self) -> list[list[str | None]]:
        """Boats: boat_id is a key, reg_no nearly one."""
        rows: list[list[str | None]] = []
        for number in range(1, 421):
            pier = self.dice.choice("ABCD")
            berth = f"{pier}-{self.dice.randrange(1, 61):02d}"
            if self.chance(0.08):
                berth = self.dice.choice(
                    [berth.lower(), berth.replace("-", ""), berth.replace("-", " - ")]
                )
            length = f"{self.dice.randrange(380, 1850) / 100:.2f}"
            if self.chance(0.07):
                length = self.dice.choice(
                    [
                        length.replace(".", ","),
                        f"{length} m",
                        f"ca. {length[:-3]}",
                        f"{round(float(length) * 3.28)} ft",
                    ]
                )
            elif self.chance(0.3):
                length = length.rstrip("0").rstrip(".")
            built = str(self.dice.randrange(1952, 2024))
            if self.chance(0.05):
                built = self.dice.choice([f"{built}?", built[2:], "0", "1900"])
            supplied, surname = self.person()
            skipper = (
                self.untidy(f"{surname}, {supplied}", 0.1)
                if self.chance(0.82)
                else self.dice.choice(NOTHING)
            )
            subset = self.dice.sample(SERVICES, self.dice.choice([0, 1, 1, 2, 2, 3]))
            wanted: str | None = ";".join(subset) or self.dice.choice([None, None, ""])
            if wanted and self.chance(0.15):
                wanted = self.dice.choice(
                    [
                        wanted.replace(";", "; "),
                        wanted + ";",
                        wanted.replace(";", ";;"),
                        wanted.replace(";", ","),
                        f"{wanted};{subset[0]}",
                    ]
                )
            reg = f"HB {number * 7 % 1000:03d} {self.dice.choice('KLMN')}"
            fee = f"{self.dice.randrange(90, 2400) / 2:.2f}"
            note = None
            if self.chance(0.08):
                note = self.dice.choice(
                    [
                        'says "back in May"',
                        "fender lost,\nsee log",
                        "Ã¶lfleck am Heck",
                        "ask the office; twice",
                        "=SUM(A1:A9)",
                    ]
                )
            rows.append(
                [
                    str(number),
                    self.untidy(reg, 0.06),
                    self.untidy(self.dice.choice(BOATS)),
                    self.dice.choice(TYPES),
                    length,
                    built,
                    berth if self.chance(0.9) else self.dice.choice(NOTHING),
                    pier,
                    f"{self.dice.randrange(1, 311):04d}",
                    skipper,
                    self.dice.choice(STATUS),
                    wanted,
                    fee if self.chance(0.97) else None,
                    note,
                    self.day(),
                ]
            )
        for later in self.dice.sample(range(60, 420), 9):
            # The same registration noted again in another spelling.
            first = str(rows[later - self.dice.randrange(1, 50)][1])
            rows[later][1] = self.dice.choice([first.lower(), first.replace(" ", ""), first + " "])
        return rows

    def stays(self, boats: list[list[str | None]]) -> list[list[str | None]]:
        """Stays of boats at berths; a few of boats nobody knows, a few that end before they
        begin."""
        rows: list[list[str | None]] = []
        for number in range(1, 881):
            boat = self.dice.choice(boats)
            begin = date(2023, 1, 1) + timedelta(self.dice.randrange(700))
            end = begin + timedelta(self.dice.randrange(1, 40))
            if self.chance(0.01):
                begin, end = end, begin
            known = str(boat[0]) if self.chance(0.98) else str(self.dice.randrange(900, 999))
            until: str | None = end.isoformat() if self.chance(0.93) else None
            nights = str((end - begin).days) if self.chance(0.98) else "0"
            rows.append(
                [
                    str(number),
                    known,
                    boat[6],
                    begin.isoformat() if self.chance(0.95) else begin.strftime("%d.%m.%Y"),
                    until,
                    nights,
                    f"{self.dice.randrange(800, 4200) / 100 * max(1, (end - begin).days):.2f}",
                ]
            )
        rows.extend(list(row) for row in self.dice.sample(rows, 6))
        return rows

    def services(self) -> list[list[str | None]]:
        """Services booked."""
        rows: list[list[str | None]] = []
        for number in range(1, 401):
            rows.append(
                [
                    str(number),
                    str(self.dice.randrange(1, 887)),
                    self.untidy(self.dice.choice(SERVICES), 0.1),
                    self.day(),
                    str(self.dice.choice([1, 1, 1, 2, 3, 0])),
                    f"{self.dice.randrange(500, 20000) / 100:.2f}",
                    self.dice.choice(["true", "false", "true", None]),
                ]
            )
        return rows


HEADERS = {
    "boats": [
        "boat_id",
        "reg_no",
        "name",
        "type",
        "length_m",
        "built",
        "berth",
        "pier",
        "owner_id",
        "skipper",
        "status",
        "services",
        "fee",
        "remark",
        "updated_at",
    ],
    "owners": ["owner_id", "name", "email", "phone", "town", "since"],
    "stays": ["stay_id", "boat_id", "berth", "from_day", "to_day", "nights", "amount"],
    "services": ["booking_id", "stay_id", "service", "booked_on", "quantity", "price", "paid"],
}


def tables() -> dict[str, bytes]:
    """Every table as the bytes of its CSV file."""
    harbour = Harbour()
    boats = harbour.boats()
    results = {
        "boats": boats,
        "owners": harbour.owners(),
        "stays": harbour.stays(boats),
        "services": harbour.services(),
    }
    files = {}
    for name, rows in results.items():
        columns = [
            pa.array([row[index] for row in rows], pa.string())
            for index in range(len(HEADERS[name]))
        ]
        files[f"{name}.csv"] = header(HEADERS[name]) + encode(columns)
    # Two records of stays went wrong by hand: one lost a field, one has a comma too many.
    lines = files["stays.csv"].split(b"\n")
    lines[212] = lines[212].rsplit(b",", 1)[0]
    lines[640] = lines[640] + b",paid"
    files["stays.csv"] = b"\n".join(lines)
    return files


def main(folder: str = str(Path(__file__).with_name("data"))) -> None:
    """Write the tables into a folder."""
    for name, data in tables().items():
        Path(folder, name).write_bytes(data)


if __name__ == "__main__":
    main(*sys.argv[1:])
