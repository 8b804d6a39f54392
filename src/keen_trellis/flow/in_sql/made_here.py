"""What is made of values here: no database makes just the same of them, so that they are fetched, and sent
back beside what they come to.
"""

from __future__ import annotations

from typing import Protocol

import msgspec
import pyarrow as pa

from keen_trellis.core.link import Preparation
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import Cells
from keen_trellis.core.text_actions import Action, done_to_all, part_of_split, read_otherwise
from keen_trellis.flow.wording import ignoring, listed


class Making(Protocol):
    """What is made of each value, the same of equal ones and a blank of a blank. It is a value itself, and
    workers elsewhere can be given it; its text says what it does.
    """

    def made(self, values: pa.Array) -> pa.Array:
        """What N values come to, N values of one type."""
        ...


class Compared(msgspec.Struct, frozen=True):
    """What values are compared as."""

    preparation: Preparation

    def __str__(self) -> str:
        return ignoring(self.preparation)

    def made(self, values: pa.Array) -> pa.Array:
        return prepare(Cells(values), self.preparation).of_rows


class Mended(msgspec.Struct, frozen=True):
    """Texts with actions done to them, one after the other."""

    actions: tuple[Action, ...]

    def __str__(self) -> str:
        return listed([str(action) for action in self.actions])

    def made(self, values: pa.Array) -> pa.Array:
        return done_to_all(values, self.actions)


class Corrected(msgspec.Struct, frozen=True):
    """Texts that are read as others."""

    pairs: tuple[tuple[str, str], ...]

    def __str__(self) -> str:
        return "corrected"

    def made(self, values: pa.Array) -> pa.Array:
        return read_otherwise(values, self.pairs)


class PartOfSplit(msgspec.Struct, frozen=True):
    """One of so many parts of texts, from 1; the last has the rest."""

    between: str
    number: int
    count: int

    def __str__(self) -> str:
        return f"part {self.number} of {self.count}"

    def made(self, values: pa.Array) -> pa.Array:
        return part_of_split(values, self.between, self.number, self.count)
