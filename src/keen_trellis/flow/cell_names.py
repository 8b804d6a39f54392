"""How sheets call their columns and cells: by letters and numbers."""

from __future__ import annotations

import re

import msgspec

MOST_ROWS = 1_048_576
MOST_COLUMNS = 16_384
_CELL = re.compile(r"\$?([A-Za-z]{1,3})\$?([1-9]\d{0,6})")


class Block(msgspec.Struct, frozen=True):
    """Cells in a rectangle, by its first and last row and column; rows count from 1, columns from 0."""

    top: int
    left: int
    bottom: int
    right: int

    def __str__(self) -> str:
        return f"{cell_name(self.top, self.left)}:{cell_name(self.bottom, self.right)}"

    @property
    def width(self) -> int:
        return self.right - self.left + 1

    def has(self, row: int, column: int) -> bool:
        """Whether a cell lies in it."""
        return self.top <= row <= self.bottom and self.left <= column <= self.right

    def meets(self, other: Block) -> bool:
        """Whether they have a cell in common."""
        return (
            self.top <= other.bottom
            and other.top <= self.bottom
            and self.left <= other.right
            and other.left <= self.right
        )

    def contains(self, other: Block) -> bool:
        """Whether all cells of the other one lie in it."""
        return self.has(other.top, other.left) and self.has(other.bottom, other.right)


def column_letters(column: int) -> str:
    """The letters by which a sheet names column number `column`, counted from 0."""
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(ord("A") + rest) + letters
    return letters


def column_number(letters: str) -> int:
    """The number, from 0, of the column that a sheet calls by `letters`."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - ord("A") + 1
    return number - 1


def cell_name(row: int, column: int) -> str:
    """What a cell is called, as B4; rows count from 1, columns from 0."""
    return f"{column_letters(column)}{row}"


def read_cell(text: str) -> tuple[int, int] | None:
    """The row and column of a cell that is called so, with or without signs of a dollar; None if none is."""
    found = _CELL.fullmatch(text)
    if found is None:
        return None
    row, column = int(found[2]), column_number(found[1])
    return (row, column) if row <= MOST_ROWS and column < MOST_COLUMNS else None


def read_block(text: str) -> Block | None:
    """The rectangle that is called so, as A1:F20 or B4; None if none is."""
    first, _, last = text.partition(":")
    one, other = read_cell(first), read_cell(last or first)
    if one is None or other is None or one[0] > other[0] or one[1] > other[1]:
        return None
    return Block(*one, *other)
