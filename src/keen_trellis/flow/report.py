"""The counts of a knot, under the names they have on the command line."""

from __future__ import annotations

from typing import Any

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.matching import MatchCounts


def as_members(counts: MatchCounts, join_type: JoinType) -> dict[str, Any]:
    """The counts as the members of a JSON object."""
    return {
        "left_rows": counts.left_rows,
        "right_rows": counts.right_rows,
        "pairs": counts.pairs,
        "left_matched": counts.left_matched,
        "left_unmatched": counts.left_unmatched,
        "right_matched": counts.right_matched,
        "right_unmatched": counts.right_unmatched,
        "left_blank": counts.left_blank,
        "right_blank": counts.right_blank,
        "matched_as_written": counts.left_as_written,
        "cardinality": counts.cardinality,
        "rows_by_type": counts.rows_by_type(),
        "type": join_type.value,
        "result_rows": counts.rows_under(join_type),
    }
