"""Texts that are numbers in disguise: codes such as LCM.00615 or 2026-05, packed exactly into 64 or 128 bits.

Most texts that tables are joined by have a common beginning and few signs behind it. Texts of such a shape
are told apart by one or two whole numbers each, in the order of their bytes; no two have the same. The shape
is found on a sample, and each text is looked at whether it has it: those that have not are left to be
compared as texts.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.folding import Texts, filled, words_of
from keen_trellis.core.parallel import block_by_block
from keen_trellis.core.text_bytes import WORD, Vector, Words, lowered, lowest_bytes, spread_sample

_WORTH_IT = 20_000  # texts; fewer are compared as they are
_SAMPLE = 1_000
_FEW = 0.05
_MOST_FIT = 0.8  # the share of a sample that has a shape, for it to be worth looking for in all
_ONES, _TOPS = np.uint64(0x0101010101010101), np.uint64(0x8080808080808080)
_ZEROS, _SIXES = np.uint64(0x3030303030303030), np.uint64(0x0606060606060606)
_HIGH = np.uint64(0xF0F0F0F0F0F0F0F0)


class _Kind(msgspec.Struct, frozen=True):
    """How the signs behind the beginning are packed. bits: of each sign.  most: how many signs.  fixed:
    whether there are as many in each text, each with the same bits above those.
    """

    bits: int
    most: int
    fixed: bool


_DIGITS = _Kind(0, 16, fixed=True)  # as the number that they are
_NIBBLES = _Kind(4, 15, fixed=True)
_LETTERS = _Kind(5, 12, fixed=True)
_BYTES = _Kind(8, 8, fixed=False)
_LONG = _Kind(8, 16, fixed=False)  # as two numbers


class Shape(msgspec.Struct, frozen=True):
    """What texts have in common. before: their first bytes.  count: how many follow, or at most.  above: the
    bits of each that are not packed.  after: their last bytes, where as many follow in each.
    """

    kind: _Kind
    before: bytes
    count: int
    above: bytes = b""
    after: bytes = b""


class Packed(msgspec.Struct, frozen=True):
    """Texts as whole numbers, equal and ordered as they are. numbers: one or two int64 of N, the first one
    the more weighty, of no meaning where a text does not fit.  fits: which of N texts have the shape; a blank
    has not.
    """

    numbers: tuple[Vector, ...]
    fits: Vector


def shape_of(*columns: Texts) -> Shape | None:
    """The shape that most texts of all columns have; None where there is none, or they are few."""
    if sum(map(len, columns)) < _WORTH_IT or not all(pa.types.is_large_string(c.type) for c in columns):
        return None
    sample = sorted(text for column in columns for text in _sample(column))
    if not sample:
        return None
    # A few that are written otherwise do not count.
    few = int(len(sample) * _FEW)
    before = _common(sample[few], sample[-1 - few])
    rests = [text[len(before) :] for text in sample if text.startswith(before)]
    wanted = _MOST_FIT * len(sample)
    length, often = Counter(map(len, rests)).most_common(1)[0]
    if length and often >= wanted:
        alike = np.frombuffer(b"".join(rest for rest in rests if len(rest) == length), np.uint8)
        signs, after = _without_end(alike.reshape(-1, length))
        shape = _fixed(before, signs, wanted)
        if shape is not None:
            return msgspec.structs.replace(shape, after=after)
    for kind in (_BYTES, _LONG):
        if sum(len(rest) <= kind.most for rest in rests) >= wanted:
            return Shape(kind, before, kind.most)
    return None


def _sample(column: Texts) -> list[bytes]:
    texts = spread_sample(column, _SAMPLE).drop_null().to_pylist()
    return [text.encode(errors="surrogatepass") for text in texts]


def _common(one: bytes, other: bytes) -> bytes:
    """What both begin with."""
    count = min(len(one), len(other))
    same = np.frombuffer(one[:count], np.uint8) == np.frombuffer(other[:count], np.uint8)
    return one[:count] if same.all() else one[: int(same.argmin())]


def _without_end(signs: Vector) -> tuple[Vector, bytes]:
    """Texts of one length without the end that nearly all of them have, and that end."""
    usual = np.array([np.bincount(place).argmax() for place in signs.T], np.uint8)
    # One place at least is left, and a few that are written otherwise do not count.
    differ = np.flatnonzero((signs != usual).mean(axis=0) > _FEW)
    count = int(differ[-1]) + 1 if len(differ) else 1
    end = usual[count:]
    return signs[(signs[:, count:] == end).all(axis=1), :count], end.tobytes()


def _fixed(before: bytes, signs: Vector, wanted: float) -> Shape | None:
    """The narrowest shape of texts of one length that so many have."""
    count = signs.shape[1]
    if count <= _DIGITS.most and np.count_nonzero((signs - 48 <= 9).all(axis=1)) >= wanted:
        return Shape(_DIGITS, before, count)
    for kind in (_NIBBLES, _LETTERS):
        above = signs >> kind.bits
        usual = [np.bincount(place).argmax() for place in above.T]
        if count <= kind.most and np.count_nonzero((above == usual).all(axis=1)) >= wanted:
            return Shape(kind, before, count, bytes(int(bits) << kind.bits for bits in usual))
    return None


def packed_alike(*columns: Texts) -> list[Packed] | None:
    """Columns of text packed by the shape that most of all of them have; None where there is none."""
    shape = shape_of(*columns)
    return None if shape is None else [packed(values, shape) for values in columns]


def packed(values: Texts, shape: Shape) -> Packed:
    """N texts packed, as far as they have the shape."""
    numbers = tuple(np.empty(len(values), np.int64) for _ in range(2 if shape.kind is _LONG else 1))
    fits = np.empty(len(values), bool)
    if not len(values):
        return Packed(numbers, fits)
    words = words_of(values)
    pack = _packer(shape, lower=words.lower)

    def fill(rows: slice) -> None:
        made, fits[rows] = pack(words, rows)
        for of_all, some in zip(numbers, made, strict=True):
            of_all[rows] = some

    block_by_block(fill, len(values))
    fits &= filled(values)
    return Packed(numbers, fits)


_Pack = Callable[[Words, slice], tuple[list[Vector], Vector]]


def _packer(shape: Shape, *, lower: bool) -> _Pack:
    """What packs some texts of a shape. lower: it has small letters, and capital ones stand for them."""
    behind, end = len(shape.before), len(shape.after)
    heads = _as_words(shape.before, 0)
    if end:
        heads += _as_words(shape.after, behind + shape.count)
    # What a capital letter lacks to the small one that stands there.
    lacking = [_lacking(word) if lower else np.uint64(0) for _, _, word in heads]
    firsts = [(place, min(shape.count - place, WORD)) for place in range(0, shape.count, WORD)]

    def pack(held: Words, rows: slice) -> tuple[list[Vector], Vector]:
        lengths = held.lengths(rows) - behind - end
        fits = lengths == shape.count if shape.kind.fixed else (lengths >= 0) & (lengths <= shape.count)
        for (place, count, word), lack in zip(heads, lacking, strict=True):
            words = held.word(rows, place, count)
            fits &= (words | lack if lack else words) == word
        if not shape.kind.fixed:
            parts = [held.word(rows, behind, lengths)]
            if shape.count > WORD:
                parts.append(held.word(rows, behind + np.clip(lengths, 0, WORD), lengths - WORD))
            if held.has_nul(rows):
                # A text with NUL at its end would be the one without it.
                for place, words in enumerate(parts):
                    fits &= ~_have_nul(words, lengths - place * WORD)
            return [_in_order(lowered(words) if lower else words) for words in parts], fits
        number = np.zeros(len(lengths), np.uint64)
        for place, count in firsts:
            if shape.kind is _DIGITS:
                made, is_one = _decimal(held.word(rows, behind + place, WORD), count)
                number = number * np.uint64(10**count) + made
            else:
                words = held.word(rows, behind + place, count)
                if lower:
                    words = lowered(words)
                above = _as_word(shape.above[place : place + count])
                of_each = _as_word(bytes([0xFF << shape.kind.bits & 0xFF] * count))
                is_one = (words & of_each) == above
                made = _squeezed(words & ~of_each, count, shape.kind.bits)
                number = (number << np.uint64(count * shape.kind.bits)) | made
            fits &= is_one
        return [number.view(np.int64)], fits

    return pack


def _have_nul(words: Vector, lengths: Vector) -> Vector:
    """Whether NUL is among the first so many bytes of each word."""
    filled = words | ~lowest_bytes(np.full(len(words), 2**64 - 1, np.uint64), lengths)
    found: Vector = ((filled - _ONES) & ~filled & _TOPS) != 0
    return found


def _in_order(words: Vector) -> Vector:
    """Words as numbers that are ordered as they are by their bytes, the first of which is the lowest."""
    return (words.byteswap() ^ np.uint64(1 << 63)).view(np.int64)


def _lacking(word: np.uint64) -> np.uint64:
    """The bit by which a capital letter differs from a small one, in each byte that is a small one."""
    letters = bytes(0x20 if 0x61 <= byte <= 0x7A else 0 for byte in int(word).to_bytes(WORD, "little"))
    return _as_word(letters)


def _as_words(text: bytes, place: int) -> list[tuple[int, int, np.uint64]]:
    """The words of bytes that stand at a place: where each is, of how many bytes, and itself."""
    parts = [(first, text[first : first + WORD]) for first in range(0, len(text), WORD)]
    return [(place + first, len(part), _as_word(part)) for first, part in parts]


def _as_word(text: bytes) -> np.uint64:
    return np.uint64(int.from_bytes(text, "little"))


def _decimal(words: Vector, count: int) -> tuple[Vector, Vector]:
    """The numbers that the first so many bytes are, and whether they are digits: eight at once, by three
    products that each join neighbours (as by D. Lemire, "Quickly parsing eight digits").
    """
    up = np.uint64(8 * (WORD - count))
    digits = (words << up) - (_ZEROS >> up << up)
    is_one = (digits | (digits + _SIXES)) & _HIGH == 0
    digits = digits * np.uint64(10) + (digits >> np.uint64(8)) & np.uint64(0x00FF00FF00FF00FF)
    digits = digits * np.uint64(100) + (digits >> np.uint64(16)) & np.uint64(0x0000FFFF0000FFFF)
    return digits * np.uint64(10_000) + (digits >> np.uint64(32)) & np.uint64(0xFFFFFFFF), is_one


def _squeezed(words: Vector, count: int, bits: int) -> Vector:
    """The lowest bits of each of so many bytes next to each other, those of the first byte the highest."""
    # The other way round: the first byte of a text stands highest.
    found = words.byteswap()
    gap = 8 - bits
    for step in (1, 2, 4):
        width, apart = step * bits, step * 8
        lower = np.uint64(sum(((1 << width) - 1) << place for place in range(0, 64, 2 * apart)))
        found = (found & lower) | ((found & (lower << np.uint64(apart))) >> np.uint64(gap * step))
    return found >> np.uint64(bits * (WORD - count))
