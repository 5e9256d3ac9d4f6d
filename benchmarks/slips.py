"""Names with made slips whose truth is known: how many of them each match level of the match levels and each distance finds."""

from __future__ import annotations

import json
import random
import subprocess
from pathlib import Path

SYLLABLES = [
    "al",
    "bre",
    "cor",
    "dün",
    "els",
    "fjo",
    "grì",
    "hal",
    "ise",
    "jör",
    "kel",
    "lun",
    "mar",
    "nor",
    "øst",
    "per",
    "quay",
    "rif",
]
PLAIN = str.maketrans("üìöø", "uioo")
KINDS = (
    "spaces",
    "capitals",
    "accents lost",
    "punctuation",
    "words swapped",
    "one slip",
    "two slips",
)


class recall:  # noqa: N801  a name space of three functions
    """Making names, and counting what is found again."""

    @staticmethod
    def names(count: int) -> str:
        """So many names as a table, one in five with a slip of another."""
        dice = random.Random(count)
        lines = ["id,name"]
        made: list[str] = []
        for number in range(count):
            if made and dice.random() < 0.2:
                name = _slip(dice, _slip(dice, dice.choice(made)))
            else:
                name = f"{_word(dice, 3)}, {_word(dice, 2)}"
                made.append(name)
            lines.append(f'{number},"{name}"')
        return "\n".join(lines) + "\n"

    @staticmethod
    def table(folder: Path, program: list[str]) -> list[str]:
        """Rows of a table: of 500 pairs of each kind, the share that each way finds."""
        dice = random.Random(8)
        rows, truth = ["id,name"], {}
        for kind in KINDS:
            for _ in range(500):
                name = f"{_word(dice, 4)}, {_word(dice, 3)}"
                first = len(rows)
                rows += [f'{first},"{name}"', f'{first + 1},"{_changed(dice, kind, name)}"']
                truth[first] = kind
        (folder / "slips.csv").write_text("\n".join(rows) + "\n")
        ways = [
            ["--on", "name", "--level", match_level]
            for match_level in ("equal", "spaces", "case", "accents", "words")
        ]
        ways += [
            ["--near", "name", "--within", "1"],
            ["--near", "name", "--within", "2"],
            ["--near", "name", "--similarity", "0.9"],
        ]
        lines = [
            "",
            "Of 500 made pairs of each kind, found:",
            "",
            "| | " + " | ".join(KINDS) + " | others |",
            "| --- |" + " ---: |" * (len(KINDS) + 1),
        ]
        for way in ways:
            command = [
                *program,
                "duplicates",
                "slips.csv",
                *way,
                "--rows",
                "all",
                "--format",
                "json",
            ]
            told = json.loads(
                subprocess.run(
                    command, cwd=folder, capture_output=True, check=True, text=True
                ).stdout
            )
            found = {tuple(sorted((one["a"], one["b"]))) for one in told.get("pairs", ())}
            for group in told.get("shown", ()):
                members = sorted(row["row"] for row in group["rows"])
                found |= {(a, b) for at, a in enumerate(members) for b in members[at + 1 :]}
            good = [pair for pair in found if pair[0] in truth and pair[1] == pair[0] + 1]
            shares = [f"{sum(truth[a] == kind for a, _ in good) / 5:.0f}%" for kind in KINDS]
            lines.append(
                f"| `{' '.join(way[2:])}` | "
                + " | ".join(shares)
                + f" | {len(found) - len(good):,} |"
            )
        return lines


def _word(dice: random.Random, parts: int) -> str:
    return "".join(dice.choice(SYLLABLES) for _ in range(parts)).capitalize()


def _slip(dice: random.Random, name: str) -> str:
    at = dice.randrange(1, len(name) - 1)
    kind = dice.randrange(4)
    if kind == 0:
        return name[:at] + name[at + 1 :]
    if kind == 1:
        return name[:at] + dice.choice("aeinrst") + name[at:]
    if kind == 2:
        return name[:at] + dice.choice("aeinrst") + name[at + 1 :]
    return name[: at - 1] + name[at] + name[at - 1] + name[at + 1 :]


def _changed(dice: random.Random, kind: str, name: str) -> str:
    if kind == "spaces":
        return " " + name.replace(" ", "  ")
    if kind == "capitals":
        return name.upper()
    if kind == "accents lost":
        return name.translate(PLAIN)
    if kind == "punctuation":
        return name.replace(",", "")
    if kind == "words swapped":
        return " ".join(reversed(name.split(", ")))
    return _slip(dice, name) if kind == "one slip" else _slip(dice, _slip(dice, name))
