"""Kernels of texts: their characters changed, kept, or told of."""

from __future__ import annotations

from gravel.kernels.native.source.shared import (
    APOSTROPHE,
    BLANK,
    CAPITAL,
    CONTROL,
    CURLED,
    DECIMAL,
    DIGIT,
    GROWTH,
    HYPHEN,
    LETTER,
    LOWER,
    MARK,
    REPLACEMENT,
    SPACE,
    UPPER,
    WHOLE,
    WORD,
    ZERO,
    Bytes,
    Int32s,
    Int64s,
    UInt16s,
    UInt64s,
    copy,
    decode,
    encode,
    leave,
    look_up,
    width_of,
)


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


# What `mark_texts` says of a text, a bit each.
MARKS = (
    "empty", "blank", "padded", "leading", "trailing", "runs", "odd", "control", "untidy", "ends",
    "inner", "lines", "upper", "lower",
    "list_semicolon", "list_pipe", "list_comma", "list_slash", "list_line", "doubtful",
)  # fmt: skip
(
    EMPTY, ALL_BLANK, PADDED, LEADING, TRAILING, RUNS, ODD, HAS_CONTROL, UNTIDY, ENDS,
    INNER, LINES, HAS_UPPER, HAS_LOWER,
    SEMICOLON, PIPE, COMMA, SLASH, LINE, DOUBTFUL,
) = (1 << bit for bit in range(20))  # fmt: skip

# What UTF-8 begins with when it was read as Windows-1252, and the replacement character.
DAMAGED = (0xC2, 0xC3, 0xC4, 0xC5, 0xCE, 0xCF, 0xD0, 0xD1, 0xE2, 0xEF, 0xF0, REPLACEMENT)


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
    spaces between other characters; `ends`, `inner`: what TIDY_SPACES would change there;
    `doubtful`: has a character that damage leaves."""
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
                if code in DAMAGED:
                    marks |= DOUBTFUL
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


KERNELS = (
    tidy_spaces, map_characters, match_key, shape, keep_characters, capitalize_words, mark_texts,
)  # fmt: skip
