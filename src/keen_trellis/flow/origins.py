"""The fields of sources from which a field is read, through all that lies between."""

from __future__ import annotations

from keen_trellis.core.table import Table, fields_behind

Origins = tuple[tuple[str, str], ...]


def origins_of(table: Table, name: str) -> Origins:
    """The fields of sources that a field is read from, each with its step."""
    ends = [own.field(read) for own, read, is_end in fields_behind(table, name) if is_end]
    return tuple(dict.fromkeys((field.origin, field.name) for field in ends if field.origin))
