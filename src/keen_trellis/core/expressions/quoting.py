"""Names and texts as an expression writes them: ISO/IEC 9075-2, delimited identifier and string literal."""

from __future__ import annotations


def quoted_name(name: str) -> str:
    """A field's name."""
    return '"' + name.replace('"', '""') + '"'


def quoted_text(text: str) -> str:
    """A text."""
    return "'" + text.replace("'", "''") + "'"
