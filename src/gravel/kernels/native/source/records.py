"""Kernels of CSV text (RFC 4180): its records, and their fields."""

from __future__ import annotations

from typing import Any

import numpy as np

from gravel.kernels.native.source.shared import (
    FEED,
    HIGH_BITS,
    QUOTE,
    RETURN,
    Bytes,
    Int32s,
    Int64s,
    copy,
    has_zero,
    lowest,
    repeated,
    tail_word,
    width_of,
    word_at,
)


def _sound_width(data: Bytes, place: int) -> int:
    """The bytes of the character beyond ASCII that begins there; 0 where that is no UTF-8 (Unicode,
    table 3-7)."""
    lead, left = data[place], len(data) - place
    width = width_of(lead, 4)
    if lead < 0xC2 or lead > 0xF4 or left < width:
        return 0
    second = data[place + 1]
    low, high = 0x80, 0xBF
    if lead == 0xE0:
        low = 0xA0
    elif lead == 0xED:
        high = 0x9F
    elif lead == 0xF0:
        low = 0x90
    elif lead == 0xF4:
        high = 0x8F
    if second < low or second > high:
        return 0
    for later in range(place + 2, place + width):
        if data[later] & 0xC0 != 0x80:
            return 0
    return width


def scan_records(data: Bytes, delimiter: int, last: int, results: Int64s) -> int:
    """The whole records that CSV text begins with: where they end, how many, their quoted fields,
    their line ends, whether one may be an empty line, whether all is UTF-8. 0 where there is none,
    a quote stands out of place (RFC 4180) or a line ends in CR, else 1."""
    size, place = len(data), 0
    inside, closed, placed = False, -2, True
    records, quoted, lines, blank, sound = 0, 0, 0, 0, 1
    quotes, feeds, returns = repeated(QUOTE), repeated(FEED), repeated(RETURN)
    while place < size:
        if place + 8 <= size:
            word = word_at(data, place)
            special = has_zero(word ^ quotes) | has_zero(word ^ feeds) | has_zero(word ^ returns)
            special |= word & HIGH_BITS
            if special == 0:
                place += 8
                continue
            place += lowest(special)
        byte = data[place]
        if byte >= 128:
            width = _sound_width(data, place)
            sound = sound if width else 0
            place += max(width, 1)
            continue
        if byte == QUOTE and inside:
            inside, closed = False, place
            if place + 1 < size:
                after = data[place + 1]
                placed = placed and after in (FEED, QUOTE, delimiter)
        elif byte == QUOTE:
            inside = True
            quoted += closed != place - 1
            if place and closed != place - 1:
                placed = placed and data[place - 1] in (FEED, delimiter)
        elif byte == RETURN:
            return 0
        elif byte == FEED:
            lines += 1
            if place == 0 or data[place - 1] == FEED:
                blank = 1
            if not inside:
                if not placed:
                    return 0
                records += 1
                results[0], results[1], results[2] = place + 1, records, quoted
                results[3], results[4], results[5] = lines, blank, sound
        place += 1
    if last:
        if inside or not placed:
            return 0
        if results[0] < size:
            records += 1
        results[0], results[1], results[2] = size, records, quoted
        results[3], results[4], results[5] = lines, blank, sound
    return 1 if results[0] else 0


def _find(data: Bytes, place: int, signs: Any, others: Any) -> int:
    """Where the next of two bytes is, each repeated eight times; the size where there is none."""
    size = len(data)
    while place + 8 <= size:
        word = word_at(data, place)
        mask = has_zero(word ^ signs) | has_zero(word ^ others)
        if mask:
            return place + lowest(mask)
        place += 8
    while place < size:
        byte = repeated(data[place])
        if byte in (signs, others):
            return place
        place += 1
    return size


def split_fields(
    data: Bytes,
    delimiter: int,
    slots: Int32s,
    rows: int,
    starts: Int32s,
    ends: Int32s,
    quoted: Bytes,
) -> int:
    """Where the fields of whole records stand, the quotes around them left out: those of column `c`
    from `slots[c] * rows` on, unless that is below 0. `quoted` is 1 for a field in quotes, 2 with
    doubled ones inside. Gives the rows; fewer where a record has not a field for each column."""
    size, width, place = len(data), len(slots), 0
    delimiters, feeds, quotes = repeated(delimiter), repeated(FEED), repeated(QUOTE)
    for row in range(rows):
        for column in range(width):
            kind = 0
            if place < size and data[place] == QUOTE:
                place += 1
                kind, start = 1, place
                while place < size:
                    place = _find(data, place, quotes, quotes)
                    if place >= size:
                        break
                    if place + 1 < size and data[place + 1] == QUOTE:
                        kind = 2
                        place += 2
                    else:
                        break
                if place >= size:
                    return row
                end = place
                place += 1
            else:
                start = place
                place = _find(data, place, delimiters, feeds)
                end = place
            if column < width - 1:
                if place >= size or data[place] != delimiter:
                    return row
            elif place < size and data[place] != FEED:
                return row
            place += 1
            slot = slots[column]
            if slot >= 0:
                spot = slot * rows + row
                starts[spot], ends[spot], quoted[spot] = start, end, kind
    return rows if place >= size else 0


def gather_fields(
    data: Bytes,
    starts: Int32s,
    ends: Int32s,
    quoted: Bytes,
    empty_null: int,
    output: Bytes,
    offsets: Int32s,
    valid: Bytes,
) -> int:
    """The fields of a column one after another; gives how many are NULL: empty ones without quotes,
    or any with `empty_null`. Their bits in `valid` are cleared. -1 where `output` is too small."""
    written, nulls = 0, 0
    for row in range(len(starts)):
        start, end, kind = starts[row], ends[row], quoted[row]
        if written + (end - start) > len(output):
            return -1
        if start == end:
            if kind == 0 or empty_null:
                valid[row >> 3] &= 255 - (1 << (row & 7))
                nulls += 1
        elif kind == 2:
            place = start
            while place < end:
                output[written] = data[place]
                written += 1
                place += 2 if data[place] == QUOTE else 1
        else:
            written = copy(output, written, data, start, end)
        offsets[row + 1] = written
    return nulls


def join_fields(
    data: Bytes,
    offsets: Int64s,
    known: Bytes,
    rows: int,
    delimiter: int,
    ending: Bytes,
    output: Bytes,
) -> int:
    """CSV records of columns that stand one after another, each with `rows` texts: quotes only
    where a text needs them, NULL as nothing, the empty text as "". Gives how long they are; -1
    where `output` is too small."""
    columns, written = len(known) // rows, 0
    delimiters, feeds = repeated(delimiter), repeated(FEED)
    quotes, returns = repeated(QUOTE), repeated(RETURN)
    for row in range(rows):
        for column in range(columns):
            start = offsets[column * (rows + 1) + row]
            end = offsets[column * (rows + 1) + row + 1]
            if written + 2 * (end - start) + 3 + len(ending) > len(output):
                return -1
            if column:
                output[written] = delimiter
                written += 1
            if not known[column * rows + row]:
                continue  # whatever bytes stand there
            if start == end:
                output[written], output[written + 1] = QUOTE, QUOTE
                written += 2
                continue
            begin = written
            special = np.uint64(0)
            place = start
            while place < end:
                word = word_at(data, place) if place + 8 <= end else tail_word(data, place, end)
                special |= has_zero(word ^ quotes) | has_zero(word ^ delimiters)
                special |= has_zero(word ^ feeds) | has_zero(word ^ returns)
                place += 8
            if special == 0:
                written = copy(output, written, data, start, end)
                continue
            output[begin] = QUOTE
            written += 1
            for spot in range(start, end):
                byte = data[spot]
                output[written] = byte
                written += 1
                if byte == QUOTE:
                    output[written] = QUOTE
                    written += 1
            output[written] = QUOTE
            written += 1
        for byte in ending:
            output[written] = byte
            written += 1
    return written


KERNELS = (scan_records, split_fields, gather_fields, join_fields)
