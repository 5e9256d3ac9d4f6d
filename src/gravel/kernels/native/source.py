"""The kernels, in the Python that Numba compiles. Nothing in them touches a Python object.

Text `i` of a column is `data[offsets[i]:offsets[i + 1]]`, UTF-8 without faults. A kernel that makes
texts writes them one after another into `output`, their ends into `ends`, from row `first` on, and
gives the row that it has come to: less than all where `output` is too small for the next one, so
that the caller goes on with a larger one. Rows that have to be read as a whole are left empty;
their numbers go to `left`, of which `left[0]` is the count.

The annotations are the types of the arrays; `signature` reads them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeAlias

import numpy as np

CAPITAL, LETTER, DECIMAL, MARK, SPACE, ZERO, WORD, DIGIT = 1, 2, 4, 8, 16, 32, 64, 128
UPPER, LOWER, CONTROL = 256, 512, 1024
WHOLE, GROWTH = 1, 12
BLANK, HYPHEN, APOSTROPHE, CURLED, REPLACEMENT = 32, 45, 39, 0x2019, 0xFFFD
QUOTE, FEED, RETURN = 34, 10, 13
HIGH_BITS = np.uint64(0x8080808080808080)

Bytes: TypeAlias = np.ndarray
UInt16s: TypeAlias = np.ndarray
Int32s: TypeAlias = np.ndarray
Int64s: TypeAlias = np.ndarray
UInt64s: TypeAlias = np.ndarray
TYPES = {
    "Bytes": "uint8",
    "UInt16s": "uint16",
    "Int32s": "int32",
    "Int64s": "int64",
    "UInt64s": "uint64",
}


def signature(kernel: Callable[..., Any]) -> list[str]:
    """The type of each argument: `uint8` and so on for an array of them, "" for an int64."""
    annotations = dict(kernel.__annotations__)
    annotations.pop("return")
    return [TYPES.get(name, "") for name in annotations.values()]


def width_of(byte: int, left: int) -> int:
    """The bytes of the character that begins with this one; no more than are left, should the text
    be no UTF-8 after all."""
    if left < 4:
        return min(left, 2 if byte < 0xE0 else 3 if byte < 0xF0 else 4)
    if byte < 0xE0:
        return 2
    return 3 if byte < 0xF0 else 4


def decode(data: Bytes, place: int, width: int) -> int:
    """The code point of a character of `width` bytes beyond ASCII; U+FFFD where that is none."""
    if width == 2:
        return ((data[place] & 0x1F) << 6) | (data[place + 1] & 0x3F)
    if width == 3:
        high = ((data[place] & 0x0F) << 12) | ((data[place + 1] & 0x3F) << 6)
        return high | (data[place + 2] & 0x3F)
    if width < 2:
        return REPLACEMENT
    high = ((data[place] & 0x07) << 18) | ((data[place + 1] & 0x3F) << 12)
    code = high | ((data[place + 2] & 0x3F) << 6) | (data[place + 3] & 0x3F)
    return code if code <= 0x10FFFF else REPLACEMENT


def encode(output: Bytes, place: int, code: int) -> int:
    """Write a character; where it ends."""
    if code < 0x80:
        output[place] = code
        return place + 1
    if code < 0x800:
        output[place] = 0xC0 | (code >> 6)
        output[place + 1] = 0x80 | (code & 0x3F)
        return place + 2
    if code < 0x10000:
        output[place] = 0xE0 | (code >> 12)
        output[place + 1] = 0x80 | ((code >> 6) & 0x3F)
        output[place + 2] = 0x80 | (code & 0x3F)
        return place + 3
    output[place] = 0xF0 | (code >> 18)
    output[place + 1] = 0x80 | ((code >> 12) & 0x3F)
    output[place + 2] = 0x80 | ((code >> 6) & 0x3F)
    output[place + 3] = 0x80 | (code & 0x3F)
    return place + 4


def look_up(index: UInt16s, blocks: Any, code: int) -> int:
    """The entry of a character in a table of two stages."""
    return blocks[(index[code >> 8] << 8) | (code & 255)]


def copy(output: Bytes, written: int, data: Bytes, start: int, end: int) -> int:
    """Append bytes; where they end."""
    for place in range(start, end):
        output[written + place - start] = data[place]
    return written + end - start


def leave(left: Int64s, row: int) -> None:
    """Note a row that has to be read as a whole."""
    left[0] += 1
    left[left[0]] = row


def tidy_spaces(
    offsets: Int32s,
    data: Bytes,
    first: int,
    class_index: UInt16s,
    class_blocks: UInt16s,
    output: Bytes,
    ends: Int32s,
) -> int:
    """TIDY_SPACES: white space trimmed and runs of it made one space, zero width characters off."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) + 8 > len(output):
            return row
        begin = written
        # Most texts have single spaces inside and nothing else to tidy: they are copied.
        untidy, before = 0, BLANK
        for place in range(start, end):
            byte = data[place]
            output[written + place - start] = byte
            untidy |= (byte == BLANK) & (before == BLANK)
            untidy |= (byte >= 128) | ((byte >= 9) & (byte <= 13))
            before = byte
        if not untidy and (before != BLANK or start == end):
            written += end - start
            ends[row + 1] = written
            continue
        place, spaced = start, False
        while place < end:
            byte = data[place]
            if byte < 128:
                width = 1
                kind = SPACE if byte == BLANK or 9 <= byte <= 13 else 0
            else:
                width = width_of(byte, end - place)
                kind = look_up(class_index, class_blocks, decode(data, place, width))
            if kind & SPACE:
                spaced = written > begin
            elif not kind & ZERO:
                if spaced:
                    output[written] = BLANK
                    written += 1
                    spaced = False
                written = copy(output, written, data, place, place + width)
            place += width
        ends[row + 1] = written
    return count


def map_characters(
    offsets: Int32s,
    data: Bytes,
    first: int,
    letters: Bytes,
    index: UInt16s,
    blocks: UInt16s,
    pool: Bytes,
    pool_offsets: Int32s,
    output: Bytes,
    ends: Int32s,
    left: Int64s,
) -> int:
    """UPPER, LOWER, WITHOUT_ACCENTS: `letters` maps ASCII, the table the other characters."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) * GROWTH + 8 > len(output):
            return row
        high = 0
        for place in range(start, end):
            high |= data[place]
            output[written + place - start] = letters[data[place] & 127]
        if high < 128:
            written += end - start
            ends[row + 1] = written
            continue
        begin, place = written, start
        while place < end:
            byte = data[place]
            if byte < 128:
                output[written] = letters[byte]
                written += 1
                place += 1
                continue
            width = width_of(byte, end - place)
            entry = look_up(index, blocks, decode(data, place, width))
            if entry == WHOLE:
                leave(left, row)
                written = begin
                break
            if entry == 0:
                written = copy(output, written, data, place, place + width)
            else:
                end_of_entry = pool_offsets[entry + 1]
                written = copy(output, written, pool, pool_offsets[entry], end_of_entry)
            place += width
        ends[row + 1] = written
    return count


def match_key(
    offsets: Int32s,
    data: Bytes,
    first: int,
    letters: Bytes,
    index: UInt16s,
    blocks: UInt16s,
    pool: Bytes,
    pool_offsets: Int32s,
    output: Bytes,
    ends: Int32s,
    left: Int64s,
) -> int:
    """MATCH_KEY, '' where nothing is left: `letters` folds ASCII, other signs to a space."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) * GROWTH + 8 > len(output):
            return row
        begin, place, spaced = written, start, False
        while place < end:
            byte = data[place]
            if byte < 128:
                folded = letters[byte]
                place += 1
                if folded == BLANK:
                    spaced = written > begin
                    continue
                if spaced:
                    output[written] = BLANK
                    written += 1
                    spaced = False
                output[written] = folded
                written += 1
                continue
            width = width_of(byte, end - place)
            entry = look_up(index, blocks, decode(data, place, width))
            if entry == WHOLE:
                leave(left, row)
                written = begin
                break
            if entry == 0:
                if spaced:
                    output[written] = BLANK
                    written += 1
                    spaced = False
                written = copy(output, written, data, place, place + width)
            else:
                for spot in range(pool_offsets[entry], pool_offsets[entry + 1]):
                    if pool[spot] == BLANK:
                        spaced = written > begin
                        continue
                    if spaced:
                        output[written] = BLANK
                        written += 1
                        spaced = False
                    output[written] = pool[spot]
                    written += 1
            place += width
        ends[row + 1] = written
    return count


def shape(
    offsets: Int32s,
    data: Bytes,
    first: int,
    letters: Bytes,
    class_index: UInt16s,
    class_blocks: UInt16s,
    output: Bytes,
    ends: Int32s,
) -> int:
    """SHAPE: `letters` has the shape of each ASCII character."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) + 8 > len(output):
            return row
        place, after_letter = start, False
        while place < end:
            byte = data[place]
            if byte < 128:
                sign = letters[byte]
                output[written] = sign
                written += 1
                place += 1
                after_letter = sign == 65 or sign == 97
                continue
            width = width_of(byte, end - place)
            kind = look_up(class_index, class_blocks, decode(data, place, width))
            if kind & MARK and after_letter:
                place += width
                continue
            after_letter = (kind & (CAPITAL | LETTER)) != 0
            if after_letter:
                output[written] = 65 if kind & CAPITAL else 97
                written += 1
            elif kind & DECIMAL:
                output[written] = 57
                written += 1
            else:
                written = copy(output, written, data, place, place + width)
            place += width
        ends[row + 1] = written
    return count


def keep_characters(
    offsets: Int32s,
    data: Bytes,
    first: int,
    wanted: int,
    with_marks: int,
    class_index: UInt16s,
    class_blocks: UInt16s,
    output: Bytes,
    ends: Int32s,
) -> int:
    """ONLY_DIGITS, ONLY_LETTERS: characters of the wanted classes, and the marks behind them."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) + 8 > len(output):
            return row
        place, kept = start, False
        while place < end:
            byte = data[place]
            width = 1 if byte < 128 else width_of(byte, end - place)
            code = byte + 0 if byte < 128 else decode(data, place, width)
            kind = look_up(class_index, class_blocks, code)
            kept = (kind & wanted) != 0 or (kept and with_marks != 0 and (kind & MARK) != 0)
            if kept:
                written = copy(output, written, data, place, place + width)
            place += width
        ends[row + 1] = written
    return count


def capitalize_words(
    offsets: Int32s,
    data: Bytes,
    first: int,
    class_index: UInt16s,
    class_blocks: UInt16s,
    lower_index: UInt16s,
    lower_blocks: UInt16s,
    title_index: UInt16s,
    title_blocks: UInt16s,
    pool: Bytes,
    pool_offsets: Int32s,
    output: Bytes,
    ends: Int32s,
    left: Int64s,
) -> int:
    """CAPITALIZE_WORDS."""
    count = len(offsets) - 1
    written = ends[first]
    for row in range(first, count):
        start, end = offsets[row], offsets[row + 1]
        if written + (end - start) * GROWTH + 8 > len(output):
            return row
        begin, place = written, start
        in_word, after_digit, after_letter = False, False, False
        alone = 0  # 1 after a letter that follows none, 2 after an apostrophe behind that
        while place < end:
            byte = data[place]
            if byte < 128:
                width = 1
                code = byte + 32 if 65 <= byte <= 90 else byte + 0
                kind = look_up(class_index, class_blocks, code)
            else:
                width = width_of(byte, end - place)
                code = decode(data, place, width)
                entry = look_up(lower_index, lower_blocks, code)
                if entry:
                    code, length = _only_character(pool, pool_offsets, entry)
                    if length == 0:
                        leave(left, row)
                        written = begin
                        break
                kind = look_up(class_index, class_blocks, code)
            if kind & SPACE or code == HYPHEN:
                in_word, after_digit, after_letter, alone = False, False, False, 0
                written = copy(output, written, data, place, place + width)
                place += width
                continue
            raised = False
            if kind & WORD:
                raised = not in_word and not after_digit
                in_word = True
                if alone == 2:
                    raised = True
                    alone = 0
                else:
                    alone = 0 if after_letter else 1
                after_letter = True
            else:
                alone = 2 if alone == 1 and code in (APOSTROPHE, CURLED) else 0
                after_letter = False
            after_digit = (kind & DIGIT) != 0
            if raised:
                entry = look_up(title_index, title_blocks, code)
                if entry:
                    code, length = _only_character(pool, pool_offsets, entry)
                    if length == 0:
                        leave(left, row)
                        written = begin
                        break
            written = encode(output, written, code)
            place += width
        ends[row + 1] = written
    return count


def _only_character(pool: Bytes, pool_offsets: Int32s, entry: int) -> tuple[int, int]:
    """The one character of a pool's text and its bytes; 0 bytes where the text has several."""
    start = pool_offsets[entry]
    length = pool_offsets[entry + 1] - start
    if length == 0:
        return 0, 0
    byte = pool[start]
    width = 1 if byte < 128 else width_of(byte, length)
    if width != length:
        return 0, 0
    return (byte + 0 if width == 1 else decode(pool, start, width)), width


# What `mark_texts` says of a text, a bit each.
MARKS = (
    "empty", "blank", "padded", "leading", "trailing", "runs", "odd", "control", "untidy", "ends",
    "inner", "lines", "upper", "lower",
    "list_semicolon", "list_pipe", "list_comma", "list_slash", "list_line", "high",
)  # fmt: skip
(
    EMPTY, ALL_BLANK, PADDED, LEADING, TRAILING, RUNS, ODD, HAS_CONTROL, UNTIDY, ENDS,
    INNER, LINES, HAS_UPPER, HAS_LOWER,
    SEMICOLON, PIPE, COMMA, SLASH, LINE, HIGH,
) = (1 << bit for bit in range(20))  # fmt: skip


def mark_texts(
    offsets: Int32s,
    data: Bytes,
    class_index: UInt16s,
    class_blocks: UInt16s,
    bits: UInt64s,
    characters: Int32s,
) -> int:
    """The marks of each text, and its characters. `blank`: nothing but white space and zero width
    characters; `padded`: begins or ends with them; `odd`: has others than spaces; `runs`: several
    spaces between other characters; `ends`, `inner`: what TIDY_SPACES would change there."""
    for row in range(len(bits)):
        start, end = offsets[row], offsets[row + 1]
        if start == end:
            bits[row], characters[row] = EMPTY, 0
            continue
        marks, kinds, count = 0, 0, 0
        spaces, met_other, first_blank, last_blank, blank = 0, False, False, False, True
        place = start
        while place < end:
            byte = data[place]
            width, code = 1, byte + 0
            if byte >= 128:
                width = width_of(byte, end - place)
                code = decode(data, place, width)
                marks |= HIGH
            kind = look_up(class_index, class_blocks, code)
            kinds |= kind
            last_blank = (kind & (SPACE | ZERO)) != 0
            if place == start:
                first_blank = last_blank
            blank = blank and last_blank
            if code == BLANK:
                spaces += 1
            else:
                if last_blank:
                    marks |= ODD
                if spaces > 1 and met_other:
                    marks |= RUNS
                spaces, met_other = 0, True
                if code == 59:
                    marks |= SEMICOLON
                elif code == 124:
                    marks |= PIPE
                elif code == 44:
                    marks |= COMMA
                elif code == 47:
                    marks |= SLASH
                elif code == 10:
                    marks |= LINE | LINES
                elif code == 13:
                    marks |= LINES
            count += 1
            place += width
        marks |= HAS_CONTROL if kinds & CONTROL else 0
        marks |= HAS_UPPER if kinds & UPPER else 0
        marks |= HAS_LOWER if kinds & LOWER else 0
        if blank:
            marks |= ALL_BLANK
        else:
            marks |= PADDED if first_blank or last_blank else 0
            marks |= LEADING if data[start] == BLANK else 0
            marks |= TRAILING if data[end - 1] == BLANK else 0
            if marks & (LEADING | TRAILING):
                marks |= UNTIDY if marks & LINES else UNTIDY | ENDS
            if marks & (ODD | RUNS):
                marks |= UNTIDY | INNER
        bits[row], characters[row] = marks, count
    return len(bits)


def hash_texts(
    offsets: Int32s, data: Bytes, mixing: UInt64s, longest: int, output: UInt64s, left: Int64s
) -> int:
    """The hash of each text, eight bytes at a time; those of more than `longest` bytes are left."""
    first, second, third = mixing[0], mixing[1], mixing[2]
    for row in range(len(output)):
        start, end = offsets[row], offsets[row + 1]
        state = np.uint64(end - start) * third + second
        if end - start > longest:
            leave(left, row)
            continue
        place = start
        while place + 8 <= end:
            state = _mix(state, _word(data, place), first)
            place += 8
        if place < end:
            word = np.uint64(0)
            for byte in range(end - place):
                word |= np.uint64(data[place + byte]) << np.uint64(8 * byte)
            state = _mix(state, word, first)
        state *= second
        state ^= state >> np.uint64(29)
        state *= third
        output[row] = state ^ (state >> np.uint64(32))
    return len(output)


def scan_records(data: Bytes, delimiter: int, last: int, results: Int64s) -> int:
    """The whole records that CSV text begins with: where they end, how many, their quoted fields,
    their line ends, whether one may be an empty line, whether all is UTF-8. 0 where there is none,
    a quote stands out of place (RFC 4180) or a line ends in CR, else 1."""
    size, place = len(data), 0
    inside, closed, placed = False, -2, True
    records, quoted, lines, blank, sound = 0, 0, 0, 0, 1
    quotes, feeds, returns = _repeated(QUOTE), _repeated(FEED), _repeated(RETURN)
    while place < size:
        stop = size
        if place + 8 <= size:
            word = _word(data, place)
            special = _has_zero(word ^ quotes) | _has_zero(word ^ feeds) | _has_zero(word ^ returns)
            if special | (word & HIGH_BITS) == 0:
                place += 8
                continue
            stop = place + 8
        while place < stop:
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
    delimiters, feeds = _repeated(delimiter), _repeated(FEED)
    for row in range(rows):
        for column in range(width):
            kind = 0
            if place < size and data[place] == QUOTE:
                place += 1
                kind, start = 1, place
                while place < size:
                    if data[place] != QUOTE:
                        place += 1
                    elif place + 1 < size and data[place + 1] == QUOTE:
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
                while place + 8 <= size:
                    word = _word(data, place)
                    if _has_zero(word ^ delimiters) | _has_zero(word ^ feeds):
                        break
                    place += 8
                while place < size and data[place] != delimiter and data[place] != FEED:
                    place += 1
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


def _repeated(byte: int) -> Any:
    """Eight times a byte."""
    return np.uint64(byte) * np.uint64(0x0101010101010101)


def _has_zero(word: Any) -> Any:
    """Not 0 where one of eight bytes is 0."""
    return (word - np.uint64(0x0101010101010101)) & ~word & HIGH_BITS


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


def _mix(state: Any, word: Any, factor: Any) -> Any:
    state = (state ^ word) * factor
    return state ^ (state >> np.uint64(32))


def _word(data: Bytes, place: int) -> Any:
    """Eight bytes as a number, the first the lowest."""
    word = np.uint64(data[place])
    for byte in range(1, 8):
        word |= np.uint64(data[place + byte]) << np.uint64(8 * byte)
    return word


HELPERS = (
    width_of, decode, encode, look_up, copy, leave, _only_character, _mix, _word, _repeated,
    _has_zero, _sound_width,
)  # fmt: skip
KERNELS = (
    tidy_spaces, map_characters, match_key, shape, keep_characters, capitalize_words, mark_texts,
    hash_texts, scan_records, split_fields, gather_fields,
)  # fmt: skip
