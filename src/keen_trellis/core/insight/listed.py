"""How far a list of corrections speaks of the rows of a knot that found no partner."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.link import LinkField
from keen_trellis.core.match import Match
from keen_trellis.core.table import Table
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text

_TEXT = ARROW_TYPES[FieldType.TEXT]


class Applying(msgspec.Struct, frozen=True):
    """pairs: of a list, so many that read an unmatched value as one that the other side has.  rows: so many
    unmatched rows, of both sides, have such values.
    """

    pairs: int = 0
    rows: int = 0


def applying(
    pairs: Iterable[tuple[str, str]], tables: tuple[Table, Table], link: LinkField, match: Match
) -> Applying:
    """What a list would do for the unmatched rows of a knot at one of its links; nothing for expressions."""
    if not link.is_plain:
        return Applying()
    table = dict(pairs)
    read, meant = pa.array(list(table), _TEXT), pa.array(list(table.values()), _TEXT)
    names = (link.left, link.right)
    rows = (match.left_unmatched_rows, match.right_unmatched_rows)
    used, found = pa.array([False] * len(read)), 0
    for side in (0, 1):
        here = as_text(tables[side].take(rows[side], [names[side]])[0].values)
        there = as_text(tables[1 - side].take(None, [names[1 - side]])[0].values)
        possible = pc.is_in(meant, value_set=pc.unique(there).drop_null())
        known = pc.and_(possible, pc.is_in(read, value_set=pc.unique(here).drop_null()))
        used = pc.or_(used, known)
        found += pc.sum(pc.is_in(here, value_set=read.filter(known))).as_py() or 0
    return Applying(pc.sum(used).as_py() or 0, found)
