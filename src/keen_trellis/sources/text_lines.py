"""The lines of a block of text: where its rows begin, and which lines of the file they are."""

from __future__ import annotations

from copy import copy
from functools import cached_property
from typing import NamedTuple

import numpy as np

from keen_trellis.sources.dialect import TextDialect
from keen_trellis.sources.quoting import Quotation

_CHUNK = 2**17  # bytes at a time, so that they stay in the processor's cache
_NEWLINE, _RETURN = ord("\n"), ord("\r")


class Place(NamedTuple):
    """Where a block begins: the byte, the number of its first line, and the rows to be skipped from there."""

    byte: int
    line: int
    to_skip: int


class Lines:
    """A block's bytes, its rows, and for each of them where it begins and the number of its first line.

    block: what they are from.  place: where that begins.  comments: rows of it that were left out.
    """

    def __init__(self, block: bytearray, end: int, place: Place, settled: TextDialect) -> None:
        self.block = block
        self.content: np.ndarray = np.frombuffer(block, np.uint8, end)
        self.place = place
        self.comments = 0
        self._settled = settled
        self._has_marks = bool(settled.quote) and block.find(settled.quote.encode(), 0, end) >= 0
        self._has_returns = block.find(b"\r", 0, end) >= 0
        self._starts: np.ndarray | None = None
        self._numbers: np.ndarray | None = None

    @cached_property
    def quotation(self) -> Quotation | None:
        """The quotation marks among the bytes, None if there are none."""
        if not self._has_marks:
            return None
        quote, delimiter = self._settled.quote, self._settled.delimiter
        return Quotation(self.content, quote, delimiter, has_returns=self._has_returns)

    @property
    def well_quoted(self) -> bool:
        """Whether all quotation marks are where they should be."""
        return self.quotation is None or (self.quotation.stand_well and not self.quotation.ends_open)

    @property
    def has_bare_returns(self) -> bool:
        """Whether a return stands somewhere without a newline, where it would end a row but no line."""
        if not self._has_returns:
            return False
        returns = self.content == _RETURN
        return bool(
            returns[-1:].any()
            or np.count_nonzero(returns) > np.count_nonzero(returns[:-1] & (self.content[1:] == _NEWLINE))
        )

    @cached_property
    def newlines(self) -> int:
        """How many lines end in it."""
        return count_of(self.content, _NEWLINE) if self.quotation is None else self.quotation.newlines

    @property
    def row_ends(self) -> int:
        """How many rows end with a line's end."""
        return self.newlines if self.quotation is None else self.quotation.row_ends

    @property
    def numbers(self) -> np.ndarray:
        """The number of the first line of each row."""
        if self._numbers is None:
            if self.row_ends == self.newlines:
                open_end = len(self.content) > 0 and self.content[-1] != _NEWLINE
                lines = self.newlines + open_end
                self._numbers = np.arange(self.place.line, self.place.line + lines, dtype=np.int32)
            else:
                self._find_rows()
        return self._numbers  # type: ignore[return-value]

    @property
    def starts(self) -> np.ndarray:
        """Where each row begins, in bytes."""
        if self._starts is None:
            self._find_rows()
        return self._starts  # type: ignore[return-value]

    def _find_rows(self) -> None:
        if self.quotation is None:
            ends = np.flatnonzero(self.content == _NEWLINE)
            end_rows = np.ones(len(ends), dtype=bool)
        else:
            ends, end_rows = self.quotation.ends()
        starts = np.concatenate(([0], ends[end_rows] + 1))
        numbers = np.concatenate(([0], np.flatnonzero(end_rows) + 1)) + self.place.line
        many = len(starts) - (starts[-1] >= len(self.content))
        self._starts, self._numbers = starts[:many], numbers[:many].astype(np.int32)

    def kept(self, rows: range) -> Lines:
        """Only these rows, which follow each other."""
        if len(rows) == len(self.numbers):
            return self
        bounds = np.append(self.starts, len(self.content))
        begin, end = (int(bounds[row]) for row in (rows.start, rows.stop)) if len(rows) else (0, 0)
        return self._with(
            self.content[begin:end],
            self.starts[rows.start : rows.stop] - begin,
            self.numbers[rows.start : rows.stop],
        )

    def without(self, comment: str) -> Lines:
        """The rows that do not begin with a comment's mark."""
        content = self.content
        is_comment = np.ones(len(self.starts), dtype=bool)
        for place, byte in enumerate(comment.encode()):
            is_comment &= content.take(self.starts + place, mode="clip") == byte
        if not is_comment.any():
            return self
        lengths = np.diff(np.append(self.starts, len(content)))
        kept = lengths[~is_comment]
        starts = np.concatenate(([0], np.cumsum(kept)))[: len(kept)]
        made = self._with(content[np.repeat(~is_comment, lengths)], starts, self.numbers[~is_comment])
        made.comments = int(is_comment.sum())
        return made

    def without_empty(self) -> np.ndarray:
        """The numbers of the rows whose lines are not empty."""
        first = self.content[self.starts]
        is_empty = (first == _NEWLINE) | (first == _RETURN)
        filled: np.ndarray = self.numbers[~is_empty]
        return filled

    def _with(self, content: np.ndarray, starts: np.ndarray, numbers: np.ndarray) -> Lines:
        """Other rows of the same block."""
        made = copy(self)
        for known in ("quotation", "newlines"):
            made.__dict__.pop(known, None)
        made.content, made._starts, made._numbers = content, starts, numbers
        return made


def count_of(content: np.ndarray, sign: int) -> int:
    """How often a byte occurs."""
    room = np.empty(_CHUNK, bool)
    parts = (content[start : start + _CHUNK] for start in range(0, len(content), _CHUNK))
    return sum(int(np.count_nonzero(np.equal(part, sign, out=room[: len(part)]))) for part in parts)
