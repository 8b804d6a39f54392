"""The rows of two tables next to each other, the first with the first: paired by position, not by a value."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_trellis.core.encoding import Encoded
from keen_trellis.core.errors import DataError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedField, JoinedTable, plan_fields
from keen_trellis.core.match import CodeMatch, index_type
from keen_trellis.core.table import Field, Table


def fields_beside(
    left: Sequence[Field], right: Sequence[Field], left_name: str, right_name: str
) -> tuple[JoinedField, ...]:
    """The fields of both, those of the right behind; a name that both have says there whose it is."""
    return plan_fields(left, right, (), JoinType.INNER, FieldChoice(), right_name, left_name=left_name)


def beside(left: Table, right: Table, left_name: str, right_name: str) -> JoinedTable:
    """Each row of the left with the row of the right at its place.

    DataError, with both numbers, unless there are as many of one as of the other.
    """
    if left.rows != right.rows:
        raise DataError(
            f"{left_name} has {left.rows:,} rows and {right_name} {right.rows:,}: they cannot be put next to "
            "each other row by row.",
            remedy="Filter or sort before it until both have the same rows, or join them by a field.",
        )
    places = np.arange(left.rows, dtype=index_type(left.rows))
    plan = fields_beside(left.fields, right.fields, left_name, right_name)
    return JoinedTable(left, right, CodeMatch(Encoded(places, places, left.rows)), JoinType.INNER, plan)
