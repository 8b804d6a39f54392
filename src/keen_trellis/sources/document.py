"""A document of nested objects and lists as tables: one for each list, each row with that which it stands in.

Objects within an object become fields of it, as `place.town`. A list within a row becomes a table of its own,
whose rows have the number of that row, so that the two can be linked again.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.remark import ForeignKey
from keen_trellis.sources.about import Listing
from keen_trellis.sources.headers import OwnNames

VALUE, ROW = "value", "row"
LIST = "list"  # the sort of a table that is one
_DEEPEST = 100


class _Table(msgspec.Struct):
    """The rows of one list. places, values: by field, in which rows it has which values.

    path: where the list stands.  within: the rows that its own stand in, by number, of the table `of`.
    """

    path: str
    of: _Table | None
    within: list[int] = msgspec.field(default_factory=list)
    places: dict[str, list[int]] = msgspec.field(default_factory=dict)
    values: dict[str, list[Any]] = msgspec.field(default_factory=dict)
    has_lists: bool = False

    @property
    def rows(self) -> int:
        return len(self.within)

    def add(self, within: int) -> int:
        """One more row, which stands in a row of another table; its number, from 0."""
        self.within.append(within)
        return len(self.within) - 1

    def put(self, row: int, name: str, value: Any) -> None:
        self.places.setdefault(name, []).append(row)
        self.values.setdefault(name, []).append(value)


class Column(msgspec.Struct, frozen=True):
    """A field of a table: in which rows it has which values."""

    name: str
    places: Sequence[int]
    values: Sequence[Any]


class Document:
    """The tables of a document. name: what the whole is called."""

    def __init__(self, content: Any, name: str) -> None:
        self._tables: dict[str, _Table] = {}
        whole = self._table("", None)
        self._is_list = isinstance(content, list)
        if self._is_list:
            self._fill(whole, -1, content, 0)
        elif isinstance(content, dict):
            self._object(whole, whole.add(-1), "", content, 0)
        else:
            raise SourceError("It holds a single value, and no table.")
        given = OwnNames(path for path in self._tables if path)
        self._called = {path: path or given.give(name) for path in self._tables}

    def _table(self, path: str, of: _Table | None) -> _Table:
        return self._tables.setdefault(path, _Table(path, of))

    def _object(self, table: _Table, row: int, before: str, members: dict[str, Any], depth: int) -> None:
        _check_depth(depth)
        for own, value in members.items():
            name = f"{before}{own}"
            if isinstance(value, dict):
                self._object(table, row, f"{name}.", value, depth + 1)
            elif isinstance(value, list):
                self._list(table, row, name, value, depth + 1)
            elif value is not None:
                table.put(row, name, value)
            else:
                # A field that is blank in all rows is one, too.
                table.places.setdefault(name, [])
                table.values.setdefault(name, [])

    def _list(self, table: _Table, row: int, name: str, items: list[Any], depth: int) -> None:
        table.has_lists = True
        inner = self._table(f"{table.path}.{name}" if table.path else name, table)
        self._fill(inner, row, items, depth)

    def _fill(self, table: _Table, within: int, items: list[Any], depth: int) -> None:
        _check_depth(depth)
        for item in items:
            row = table.add(within)
            if isinstance(item, dict):
                self._object(table, row, "", item, depth + 1)
            elif isinstance(item, list):
                self._list(table, row, VALUE, item, depth + 1)
            elif item is not None:
                table.put(row, VALUE, item)

    # --- what there is ---

    def listings(self) -> Iterator[Listing]:
        """Its tables: those that have fields, in the order in which they first appear."""
        found = [table for table in self._tables.values() if self._own_fields(table)]
        for table in found:
            alone = len(found) == 1 and not table.path
            yield Listing(self._called[table.path], "file" if alone else LIST)

    def _own_fields(self, table: _Table) -> bool:
        return bool(table.places) or (table.path != "" and table.rows > 0)

    def _find(self, name: str) -> _Table:
        listed = list(self.listings())
        if not name and len(listed) == 1:
            name = listed[0].name
        table = next((t for t in self._tables.values() if self._called[t.path] == name), None)
        if table is None or not self._own_fields(table):
            known = ", ".join(f"“{entry.name}”" for entry in listed[:12]) or "nothing that has fields"
            raise SourceError(f"There is no list “{name}” in it.", remedy=f"It holds: {known}.")
        return table

    def columns(self, name: str) -> tuple[list[Column], int, tuple[str, ...], tuple[ForeignKey, ...]]:
        """The fields of a table, how many rows it has, its key, and what leads to the table it stands in.

        SourceError if there is no table called so.
        """
        table = self._find(name)
        given, made = OwnNames(table.places), []
        key: tuple[str, ...] = ()
        if table.has_lists and not self._is_whole_object(table):
            key = (given.give(ROW),)
            made.append(Column(key[0], range(table.rows), range(1, table.rows + 1)))
        leads: tuple[ForeignKey, ...] = ()
        if table.of is not None and not self._is_whole_object(table.of):
            parent = self._called[table.of.path]
            link = given.give(f"{ROW} of {parent}")
            numbers = [number + 1 for number in table.within]
            made.append(Column(link, range(table.rows), numbers))
            theirs = OwnNames(table.of.places).give(ROW)
            leads = (ForeignKey((link,), parent, (theirs,)),)
        made += [Column(entry, table.places[entry], table.values[entry]) for entry in table.places]
        return made, table.rows, key, leads

    def _is_whole_object(self, table: _Table) -> bool:
        """Whether it is the one row of a document that is no list: whatever stands in it needs no number."""
        return not table.path and not self._is_list


def _check_depth(depth: int) -> None:
    if depth > _DEEPEST:
        raise SourceError(
            f"It is nested more than {_DEEPEST} times.", remedy="Export the rows as a table, or as CSV."
        )
