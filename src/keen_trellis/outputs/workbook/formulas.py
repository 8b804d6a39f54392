"""Formulas that stand in every row of a column: the same ones, but for the rows that they name."""

from __future__ import annotations

import re

# What in a formula is no cell, or a cell with its row in relation to where the formula stands.
_PARTS = re.compile(
    r"""(?P<kept>"(?:[^"]|"")*"|'(?:[^']|'')*'!|\[[^\]]*\]|[A-Za-z_\\][\w.\\]*\()
    |(?<![\w.$])(?P<column>\$?[A-Z]{1,3})(?P<row>[1-9]\d{0,6})(?![\w.(])""",
    re.VERBOSE,
)
# Text, or columns of a table, with its name before them or without.
_COLUMNS = re.compile(r""""(?:[^"]|"")*"|(?P<table>[\w.\\]*)(?P<columns>\[(?:[^\[\]]|\[[^\]]*\])*\])""")

# Pieces of text, and between them rows as distances from the row of the formula.
Pattern = tuple[str | int, ...]


def pattern(formula: str, row: int) -> Pattern:
    """A formula that stands in `row`, as it stands in any row."""
    found: list[str | int] = []
    text, last = "", 0
    for part in _PARTS.finditer(formula):
        if part["row"] is None:
            continue
        text = formula[last : part.start("row")]
        found += [text, int(part["row"]) - row]
        last = part.end()
    return (*found, formula[last:])


def of_table(formula: str, table: str) -> str:
    """A formula of a table with the table named before its own columns, as it is written outside of it."""

    def named(found: re.Match[str]) -> str:
        return found[0] if found["table"] or not found["columns"] else f"{table}{found['columns']}"

    return _COLUMNS.sub(named, formula)
