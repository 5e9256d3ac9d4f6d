"""The ledger of a run as a drawing: the rows as a stream from step to step, as wide as they are
many, with what joins and what leaves it. Geometry only; the page draws it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from gravel.plans.ledger import StepLine
from gravel.words import number_of

WIDTH, MIDDLE, STREAM = 1160, 740, 240  # of the drawing, the stream's middle, its greatest width
LEFT_END, RIGHT_END = 560, 950  # where what is added begins and what leaves ends
LINE = 18  # from one line of text to the next


class SvgLabel(Struct, frozen=True):
    """A text at a place, and what is said softly after it; `kind` is its class."""

    x: float
    y: float
    text: str
    kind: str
    soft: str = ""


class SvgPath(Struct, frozen=True):
    """A path of the drawing with what it is: stream, added, dropped, merged, aside; `title` tells
    it in words."""

    path: str
    kind: str
    title: str


class Drawing(Struct, frozen=True):
    """Shapes and labels in a box of WIDTH by height."""

    height: float
    shapes: tuple[SvgPath, ...]
    labels: tuple[SvgLabel, ...]


def draw(lines: Sequence[StepLine], output: str) -> Drawing | None:
    """The drawing of a ledger; None where no row joins or leaves at any step, and there is nothing
    to see."""
    if all(map(_is_quiet, lines)):
        return None
    greatest = max(max(line.count.rows_in, line.count.rows_out) for line in lines) or 1
    shapes: list[SvgPath] = []
    labels: list[SvgLabel] = []

    def width(rows: int) -> float:
        return 0.0 if not rows else max(2.0, STREAM * rows / greatest)

    y = 26.0
    for steps in _blocks(lines):
        count = steps[0].count
        leaving = [
            (count.dropped, "dropped", "dropped"),
            (count.merged, "merged", "merged"),
            (count.set_aside, "aside", "set aside"),
            (count.failed, "aside", "failed"),
        ]
        leaving = [item for item in leaving if item[0]]
        thick = [min(90.0, width(rows)) for rows, _, _ in leaving]
        added = min(90.0, width(count.added))
        high = max(
            16.0 + LINE * len(steps),
            46.0 if not _is_quiet(steps[0]) else 0.0,
            sum(thick) + 20 * len(thick),
            added + 14,
        )
        before, after = width(count.rows_in), width(count.rows_out)
        named = (
            f"step {steps[0].step}"
            if len(steps) == 1
            else f"steps {steps[0].step} to {steps[-1].step}"
        )
        a, b, c, d = (
            MIDDLE - before / 2,
            MIDDLE + before / 2,
            MIDDLE + after / 2,
            MIDDLE - after / 2,
        )
        half = y + high / 2
        path = (
            f"M{a:.1f},{y:.1f} L{b:.1f},{y:.1f} C{b:.1f},{half:.1f} {c:.1f},{half:.1f}"
            f" {c:.1f},{y + high:.1f}"
        )
        path += f" L{d:.1f},{y + high:.1f} C{d:.1f},{half:.1f} {a:.1f},{half:.1f} {a:.1f},{y:.1f} Z"
        shapes.append(
            SvgPath(path, "stream", f"{named}: {count.rows_in:,} in, {count.rows_out:,} out")
        )
        index = y + 6
        for (rows, kind, what), size in zip(leaving, thick, strict=True):
            start = MIDDLE + min(before, after) / 2
            shapes.append(
                SvgPath(
                    _ribbon(start, index, RIGHT_END, index + 4, size),
                    kind,
                    f"{rows:,} {what} at {named}",
                )
            )
            labels.append(SvgLabel(RIGHT_END + 8, index + 8 + size / 2, f"{rows:,} {what}", kind))
            index += size + 20
        if added:
            end = MIDDLE - min(before, after) / 2
            shapes.append(
                SvgPath(
                    _ribbon(LEFT_END, y + 10, end, y + 6, added),
                    "added",
                    f"{count.added:,} added at {named}",
                )
            )
            labels.append(
                SvgLabel(LEFT_END - 8, y + 14 + added / 2, f"+{count.added:,}", "added end")
            )
        for place, line in enumerate(steps):
            note = line.note or (line.verb if line.step else "rows read")
            changed = f"   {line.count.changed:,} changed" if line.count.changed else ""
            most = 88 - len(changed)  # characters that stand beside the stream
            text = f"{line.step}  {note if len(note) <= most else note[: most - 1] + '…'}"
            labels.append(SvgLabel(0, y + 16 + LINE * place, text, "step", changed))
        labels.append(SvgLabel(MIDDLE, y - 4, f"{count.rows_in:,}", "count"))
        y += high + 22
        # The stream between two blocks.
        shapes.append(
            SvgPath(
                f"M{d:.1f},{y - 22:.1f} H{c:.1f} V{y:.1f} H{d:.1f} Z",
                "between",
                f"{number_of(count.rows_out)}",
            )
        )
    labels.append(
        SvgLabel(MIDDLE, y + 14, f"{number_of(lines[-1].count.rows_out)} {output}", "count")
    )
    # What joins and leaves lies behind the stream.
    shapes.sort(key=lambda item: item.kind in ("stream", "between"))
    return Drawing(y + 24, tuple(shapes), tuple(labels))


def _is_quiet(line: StepLine) -> bool:
    """Whether no row joins or leaves at a step."""
    count = line.count
    return not (count.added or count.dropped or count.merged or count.set_aside or count.failed)


def _blocks(lines: Sequence[StepLine]) -> list[list[StepLine]]:
    """The steps, those one after another at which no row joins or leaves together."""
    blocks: list[list[StepLine]] = []
    for line in lines:
        if blocks and _is_quiet(line) and _is_quiet(blocks[-1][-1]):
            blocks[-1].append(line)
        else:
            blocks.append([line])
    return blocks


def _ribbon(x: float, y: float, to: float, down: float, size: float) -> str:
    middle = (x + to) / 2
    return (
        f"M{x:.1f},{y:.1f} C{middle:.1f},{y:.1f} {middle:.1f},{down:.1f} {to:.1f},{down:.1f}"
        f" V{down + size:.1f} C{middle:.1f},{down + size:.1f} {middle:.1f},{y + size:.1f}"
        f" {x:.1f},{y + size:.1f} Z"
    )
