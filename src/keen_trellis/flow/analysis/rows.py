"""Rows that found no partner, by knot, side and reason: the first in words, all of them as a table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.insight.reason import Reason
from keen_trellis.core.insight.unexplained_rows import written
from keen_trellis.core.link import LinkField
from keen_trellis.core.table import ChosenRows, Table
from keen_trellis.core.values import shown_text
from keen_trellis.flow.analysis.value import RowsTold
from keen_trellis.flow.analysis.withheld import Withheld

_MOST_FIELDS = 3  # of a row, besides its link fields, on paper


class ReasonRows(msgspec.Struct, frozen=True):
    """The rows of one side of a knot that have no partner for one reason.

    table: of the side.  links: as seen from this side.  shown: the fields that may be shown, link fields
    first.  withheld: whether the link's values may not be.
    """

    step: str
    knot: str
    of: str
    reason: Reason
    table: Table
    other: Table
    links: tuple[LinkField, ...]
    shown: tuple[str, ...]
    withheld: bool

    @property
    def rows(self) -> Table:
        """The rows themselves."""
        return ChosenRows(self.table, self.reason.row_numbers)

    @property
    def values(self) -> list[str]:
        """For each row its link value, written out; several with a dash between."""
        return written(
            self.rows, [link.sides(self.table.fields, self.other.fields)[0] for link in self.links]
        )

    @property
    def meant(self) -> Mapping[str, str]:
        """The values that link values probably mean."""
        found = {example.value: example.other for example in self.reason.examples if example.other}
        offered = self.reason.suggested
        if offered is not None:
            found |= dict(zip(offered.values.to_pylist(), offered.meant.to_pylist(), strict=True))
        return found

    def places(self, most: int | None = None) -> list[tuple[str, str, int]]:
        """File, sheet and row of the first of the rows, those of their first source."""
        numbers = self.reason.row_numbers[:most]
        found = (self.table.origins(int(row)) for row in numbers)
        return [(o[0].file, o[0].table, o[0].row) if o else ("", "", 0) for o in found]

    def told(self, most: int) -> RowsTold:
        """The first rows, in words."""
        numbers = self.reason.row_numbers[:most]
        names = self.shown[: _link_fields(self.links, self.shown) + _MOST_FIELDS]
        columns = [shown_text(cells.values).to_pylist() for cells in self.table.take(numbers, names)]
        places = (
            ", ".join([file, *([sheet] if sheet else []), f"row {row:,}"]) if file else ""
            for file, sheet, row in self.places(most)
        )
        cells = tuple(zip(*columns, strict=True)) if columns else tuple(() for _ in numbers)
        return RowsTold(tuple(names), tuple(places), cells, len(self.reason.row_numbers))

    def cells(self) -> list[tuple[str, pa.Array]]:
        """All fields that may be shown, with the cells of all rows."""
        columns = self.table.take(np.asarray(self.reason.row_numbers), self.shown) if self.shown else []
        return [(name, column.values) for name, column in zip(self.shown, columns, strict=True)]


def _link_fields(links: Sequence[LinkField], shown: Sequence[str]) -> int:
    return len({link.left for link in links} & set(shown))


def shown_fields(
    table: Table, other: Table, links: Sequence[LinkField], withheld: Withheld
) -> tuple[str, ...]:
    """The fields of a side that may be shown, those that it is linked by first."""
    linked = [name for link in links for name in link.sides(table.fields, other.fields)[0].names]
    hidden = set(withheld.of(table))
    return tuple(name for name in dict.fromkeys([*linked, *table.names]) if name not in hidden)
