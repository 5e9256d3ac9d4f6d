"""Kernels of hashes."""

from __future__ import annotations

from typing import Any

import numpy as np

from gravel.kernels.native.source.shared import (
    Bytes,
    Int32s,
    Int64s,
    UInt64s,
    leave,
    mix,
    tail_word,
    word_at,
)

BITS = 11  # of a digit
DIGITS = np.uint64((1 << BITS) - 1)


def _finish(state: Any, second: Any, third: Any) -> Any:
    state *= second
    state ^= state >> np.uint64(29)
    state *= third
    return state ^ (state >> np.uint64(32))


def hash_texts(
    offsets: Int32s,
    data: Bytes,
    mixing: UInt64s,
    longest: int,
    output: UInt64s,
    other: UInt64s,
    left: Int64s,
) -> int:
    """The hash of each text, eight bytes at a time, and with the other half of `mixing` another one
    if `other` has room; those of more than `longest` bytes are left."""
    twice = len(other) > 0
    for row in range(len(output)):
        start, end = offsets[row], offsets[row + 1]
        if end - start > longest:
            leave(left, row)
            continue
        size = np.uint64(end - start)
        state = size * mixing[2] + mixing[1]
        more = size * mixing[5] + mixing[4]
        place = start
        while place < end:
            word = word_at(data, place) if place + 8 <= end else tail_word(data, place, end)
            state = mix(state, word, mixing[0])
            if twice:
                more = mix(more, word, mixing[3])
            place += 8
        output[row] = _finish(state, mixing[1], mixing[2])
        if twice:
            other[row] = _finish(more, mixing[4], mixing[5])
    return len(output)


def mix_hashes(hashes: UInt64s, others: UInt64s, mixing: UInt64s) -> int:
    """Make each hash one of two: itself, then the one beside it in `others`."""
    for row in range(len(hashes)):
        # Mixed once more before the next joins: two equal values side by side would cancel out.
        state = mix(mix(hashes[row], mixing[2], mixing[0]), others[row], mixing[0])
        hashes[row] = _finish(state, mixing[1], mixing[2])
    return len(hashes)


def _count_digits(keys: UInt64s, shift: int, starts: Int64s) -> bool:
    """Where the keys of each digit begin; false where all have the same."""
    for digit in range(len(starts)):
        starts[digit] = 0
    for row in range(len(keys)):
        starts[(keys[row] >> np.uint64(shift)) & DIGITS] += 1
    place = 0
    for digit in range(len(starts)):
        count = starts[digit]
        if count == len(keys):
            return False
        starts[digit] = place
        place += count
    return True


def _spread(
    keys: UInt64s, order: Int32s, shift: int, starts: Int64s, to_keys: UInt64s, to_order: Int32s
) -> None:
    """Put the keys of each digit side by side, in their order."""
    for row in range(len(keys)):
        key = keys[row]
        digit = (key >> np.uint64(shift)) & DIGITS
        place = starts[digit]
        starts[digit] = place + 1
        to_keys[place], to_order[place] = key, order[row]


def _insert(keys: UInt64s, order: Int32s) -> bool:
    """Put in order what is nearly so; false where that takes too many steps."""
    left = 4 * len(keys) + 64
    for row in range(1, len(keys)):
        key, own, place = keys[row], order[row], row
        while place > 0 and keys[place - 1] > key:
            keys[place], order[place] = keys[place - 1], order[place - 1]
            place -= 1
        keys[place], order[place] = key, own
        left -= row - place
        if left < 0:
            return False
    return True


def sort_hashes(
    keys: UInt64s, order: Int32s, spare_keys: UInt64s, spare_order: Int32s, starts: Int64s
) -> int:
    """Sort hashes, and the numbers beside them; equal ones stay in their order. A radix sort
    (Knuth, The Art of Computer Programming, 5.2.5) by the upper digits, which nearly always tell
    hashes apart; by all of them where many share those."""
    for first in (3, 0):
        for digit in range(first, 6):
            if _count_digits(keys, digit * BITS, starts):
                _spread(keys, order, digit * BITS, starts, spare_keys, spare_order)
                for row in range(len(keys)):
                    keys[row], order[row] = spare_keys[row], spare_order[row]
        if _insert(keys, order):
            break
    return len(keys)


def reduce_hashes(
    keys: UInt64s,
    order: Int32s,
    second: UInt64s,
    counts: Int64s,
    rows: Int64s,
    distinct: UInt64s,
    confirmed: UInt64s,
    sums: Int64s,
    firsts: Int64s,
    places: Int32s,
) -> int:
    """Of sorted hashes the distinct pairs with a second one, ascending: the sum of the counts of
    each, the least of its rows, and the place where it stands first. Gives how many there are."""
    head, size = 0, 0
    for row in range(len(keys)):
        key, place = keys[row], order[row]
        two = second[place]
        if size == 0 or distinct[size - 1] != key:
            head = size
        spot = head
        while spot < size and confirmed[spot] < two:
            spot += 1
        if spot < size and confirmed[spot] == two:
            sums[spot] += counts[place]
            firsts[spot] = min(firsts[spot], rows[place])
            continue
        for later in range(size, spot, -1):
            distinct[later], confirmed[later] = distinct[later - 1], confirmed[later - 1]
            sums[later], firsts[later] = sums[later - 1], firsts[later - 1]
            places[later] = places[later - 1]
        distinct[spot], confirmed[spot], sums[spot] = key, two, counts[place]
        firsts[spot], places[spot] = rows[place], place
        size += 1
    return size


def index_hashes(first: UInt64s, slots: Int32s) -> int:
    """Fill a hash table (open addressing, Knuth 6.4) with the places of hashes; its slots are -1,
    their number is a power of two and greater than that of the hashes."""
    mask = np.uint64(len(slots) - 1)
    for place in range(len(first)):
        slot = first[place] & mask
        while slots[slot] >= 0:
            slot = (slot + np.uint64(1)) & mask
        slots[slot] = place
    return len(first)


def find_hashes(
    slots: Int32s,
    known_first: UInt64s,
    known_second: UInt64s,
    first: UInt64s,
    second: UInt64s,
    places: Int32s,
) -> int:
    """Where pairs of hashes stand among those in a table, -1 for nowhere; how many do."""
    mask = np.uint64(len(slots) - 1)
    hits = 0
    for row in range(len(first)):
        slot = first[row] & mask
        place = slots[slot]
        while place >= 0 and (
            known_first[place] != first[row] or known_second[place] != second[row]
        ):
            slot = (slot + np.uint64(1)) & mask
            place = slots[slot]
        places[row] = place
        hits += place >= 0
    return hits


KERNELS = (hash_texts, mix_hashes, sort_hashes, reduce_hashes, index_hashes, find_hashes)
