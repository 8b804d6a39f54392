"""Texts as vectors of code points, and fingerprints of all of them with some left out.

A fingerprint is a polynomial over 64 bits (Karp and Rabin, "Efficient randomized pattern-matching
algorithms", IBM Journal of Research and Development 31 (2), 1987), whose sums up to each place give that of
a text without some of its characters. What has the same fingerprint is looked at once more by whoever asks.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core import ordering
from keen_trellis.core.ragged import laid_out, repeated, running_total

Vector = np.ndarray[Any, Any]

_BASE = 0x9E3779B97F4A7C15  # odd, so that it has an inverse modulo 2 ** 64
_SIEVE_BITS = 24


class Keyed(msgspec.Struct, frozen=True):
    """Keys of texts, several of one text or none. keys: uint64.  owner: of each key the number of its
    text.
    """

    keys: Vector
    owner: Vector

    @staticmethod
    def all_of(several: Sequence[Keyed]) -> Keyed:
        """The keys of all of them together."""
        return Keyed(
            np.concatenate([entry.keys for entry in several]),
            np.concatenate([entry.owner for entry in several]),
        )

    def where(self, chosen: Vector) -> Keyed:
        """Some of the keys. chosen: a mask, or their places."""
        return Keyed(self.keys[chosen], self.owner[chosen])


class Letters(msgspec.Struct, frozen=True, dict=True):
    """The code points of n texts one after the other. starts: where each begins; one entry more, the end."""

    points: Vector
    starts: Vector

    @staticmethod
    def of(texts: pa.Array) -> Letters:
        """The code points of texts without null."""
        lengths = pc.utf8_length(texts).to_numpy(zero_copy_only=False)
        starts = running_total(lengths)
        whole = pa.LargeListArray.from_arrays(pa.array([0, len(texts)], pa.int64()), texts)
        joined = pc.binary_join(whole, pa.scalar("", texts.type))[0].as_py() if len(texts) else ""
        return Letters(np.frombuffer(joined.encode("utf-32-le", "surrogatepass"), np.uint32), starts)

    @property
    def lengths(self) -> Vector:
        return np.diff(self.starts)

    @cached_property
    def owner(self) -> Vector:
        """Of each code point the number of its text."""
        return repeated(np.arange(len(self.starts) - 1), self.lengths)

    @cached_property
    def are_digits(self) -> Vector:
        return (self.points >= ord("0")) & (self.points <= ord("9"))

    @cached_property
    def _places(self) -> Vector:
        return np.arange(len(self.points)) - self.starts[self.owner]

    @cached_property
    def _powers(self) -> Vector:
        return powers(int(self.lengths.max(initial=0)) + 1)

    @cached_property
    def _known_sums(self) -> dict[int, Vector]:
        return {}

    def _sums(self, left_out: int) -> Vector:
        """Running sums of the code points, each moved to the front by the number of those left out before."""
        if left_out not in self._known_sums:
            self._known_sums[left_out] = self._summed(left_out)
        return self._known_sums[left_out]

    def _summed(self, left_out: int) -> Vector:
        shifted = np.maximum(self._places - left_out, 0)
        sums = np.zeros(len(self.points) + 1, np.uint64)
        np.cumsum(self.points.astype(np.uint64) * self._powers[shifted], out=sums[1:])
        return sums

    @cached_property
    def whole(self) -> Vector:
        """The fingerprint of each text, uint64."""
        sums = self._sums(0)
        return sums[self.starts[1:]] - sums[self.starts[:-1]]

    @cached_property
    def digits_of(self) -> Vector:
        """How many digits each text has."""
        return np.bincount(self.owner[self.are_digits], minlength=len(self.starts) - 1)

    @cached_property
    def of_digits(self) -> Vector:
        """The fingerprint of the digits of each text alone, uint64."""
        digits = np.flatnonzero(self.are_digits)
        starts = np.concatenate(([0], np.cumsum(self.digits_of)))
        return Letters(self.points[digits], starts).whole

    @cached_property
    def are_free_codes(self) -> Vector:
        """Which texts have a letter behind a digit: in such codes, as N3BLAA, any letter may be right."""
        behind = ~self.are_digits[1:] & self.are_digits[:-1] & (self.owner[1:] == self.owner[:-1])
        found = np.zeros(len(self.starts) - 1, dtype=bool)
        found[self.owner[1:][behind]] = True
        return found

    def without_one(self, may_go: Vector) -> Keyed:
        """Fingerprints of texts without one character. may_go: a mask of code points."""
        at = np.flatnonzero(may_go)
        owner = self.owner[at]
        start, end = self.starts[owner], self.starts[owner + 1]
        as_is, moved = self._sums(0), self._sums(1)
        return Keyed((as_is[at] - as_is[start]) + (moved[end] - moved[at + 1]), owner)

    def without_two(self, may_go: Vector) -> Keyed:
        """The same without two characters."""
        at = np.flatnonzero(may_go)
        owner = self.owner[at]
        counts = np.bincount(owner, minlength=len(self.starts) - 1)
        first_of_owner = np.concatenate(([0], np.cumsum(counts)))
        # For each character all later ones of its text.
        later = first_of_owner[owner + 1] - np.arange(len(at)) - 1
        begins = np.cumsum(later) - later
        total = int(later.sum())
        second = np.arange(total) + repeated(np.arange(1, len(at) + 1) - begins, later)
        as_is, moved, twice = self._sums(0), self._sums(1), self._sums(2)
        start, end = self.starts[owner], self.starts[owner + 1]
        # What depends on the first character alone is made once each, and once for each second one.
        of_first = as_is[at] - as_is[start] - moved[at + 1] + twice[end]
        of_second = moved[at] - twice[at + 1]
        return Keyed(repeated(of_first, later) + of_second[second], repeated(owner, later))


def powers(count: int) -> Vector:
    """The first powers of the base of all fingerprints, uint64."""
    made = np.full(max(count, 1), _BASE, np.uint64)
    made[0] = 1
    return np.cumprod(made)


def with_same_key(left: Keyed, right: Keyed, most: int, *, sift: bool = True) -> tuple[Vector, Vector]:
    """All pairs of owners of the same key, each pair once. Keys with more than `most` right owners, which
    tell little, give none.

    sift: the keys are fingerprints, most of which have no like on the other side.
    """
    if sift:
        right = right.where(_may_be_in(right.keys, left.keys))
        left = left.where(_may_be_in(left.keys, right.keys))
    right = right.where(np.argsort(right.keys, kind="stable"))
    begin, end = (np.searchsorted(right.keys, left.keys, side=side) for side in ("left", "right"))
    counts = end - begin
    counts[counts > most] = 0
    held = np.flatnonzero(counts)
    key, place = laid_out(counts[held])
    return pairs_once(left.owner[held][key], right.owner[begin[held][key] + place])


def _may_be_in(keys: Vector, others: Vector) -> Vector:
    """A mask of the keys of which `others` may have a like; of the rest it has none for certain."""
    seen = np.zeros(1 << _SIEVE_BITS, dtype=bool)
    shift = np.uint64(64 - _SIEVE_BITS)
    seen[others >> shift] = True
    found: Vector = seen[keys >> shift]
    return found


def pairs_once(left: Vector, right: Vector) -> tuple[Vector, Vector]:
    """Pairs of numbers, each pair once, in order."""
    size = int(right.max(initial=0)) + 1
    together = ordering.distinct_numbers(left.astype(np.int64) * size + right)
    return together // size, together % size


def blocks(count: int, size: int) -> Iterator[slice]:
    """So many things, `size` at a time."""
    for start in range(0, count, size):
        yield slice(start, min(start + size, count))
