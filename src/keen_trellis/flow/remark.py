"""What a reader says of a source: remarks with their places, the raw rows, and the keys."""

from __future__ import annotations

import msgspec


class Place(msgspec.Struct, frozen=True):
    """A cell: the number of its row in its file, from 1, and its value as text."""

    row: int
    value: str


class Remark(msgspec.Struct, frozen=True):
    """Something the reader has to say about a source, or about one field of it.

    doubtful: it may be wrong and should be looked at; otherwise it is a repair or a plain fact.
    places: the first of the cells that are meant.  misfit_of: the type that the field had when the flow last
    ran, which these cells are not of: no output behind it is written until the user says what they are.
    is_sample: the rows are a part of all that there are; no output behind it is written either.
    """

    text: str
    field: str = ""
    doubtful: bool = False
    places: tuple[Place, ...] = ()
    misfit_of: str = ""
    is_sample: bool = False

    def __str__(self) -> str:
        return f"{self.field}: {self.text}" if self.field else self.text


# What a raw row is to the table: in the order in which they stand in a sheet.
ABOVE, HEADER, DATA, EMPTY, TOTAL, NOTE = "above", "header", "data", "blank", "total", "note"


class RawRow(msgspec.Struct, frozen=True):
    """One row as it stands in its file. number: from 1.  role: ABOVE, HEADER, DATA, EMPTY, TOTAL or NOTE."""

    number: int
    role: str
    cells: tuple[str, ...]


class Raw(msgspec.Struct, frozen=True):
    """The raw rows at both ends of a sheet or text file, and which of them are taken.

    first, last: the columns taken, from 0, the last exclusive.
    """

    rows: tuple[RawRow, ...] = ()
    first: int = 0
    last: int = 0


class ForeignKey(msgspec.Struct, frozen=True):
    """Fields of a table that name rows of another one by its fields."""

    fields: tuple[str, ...]
    table: str
    their_fields: tuple[str, ...]
