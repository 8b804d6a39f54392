"""What is said of rows that found no partner, or too many: reasons, the pairs that they propose, and
mends.
"""

from __future__ import annotations

import enum
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.link import LinkField, Take
from keen_trellis.core.table import IndexVector

MOST_EXAMPLES = 5
Vector = np.ndarray[Any, Any]


class Kind(enum.Enum):
    """The kinds of reason, in the order in which they are looked for; the value is the name on the command
    line.
    """

    NO_PARTNER = "no-partner"
    BLANK = "blank"
    NOT_CONVERTED = "not-converted"
    ACCEPTED = "accepted"
    PLACEHOLDER = "placeholder"
    WRITTEN_DIFFERENTLY = "written-differently"
    OTHER_TYPE = "other-type"
    LOOK_ALIKE = "look-alike"
    MISSPELT = "misspelt"
    OTHER_NAME = "other-name"
    COMPOSED = "composed"
    BELOW = "below-first"
    ABOVE = "above-last"
    GAP = "in-gap"
    ALL_BUT_ONE = "all-but-one"
    NOTHING_ALIKE = "nothing-alike"
    ABSENT = "absent"
    REPEATED = "repeated"
    OVERLAP = "several-periods"
    NOTHING_WRONG = "nothing-wrong"

    @property
    def multiplies(self) -> bool:
        """Whether it is why there are more rows than before, and not why rows have no partner."""
        return self in (Kind.REPEATED, Kind.OVERLAP)

    @property
    def is_of_unmatched(self) -> bool:
        """Whether it is why rows have no partner."""
        return not self.multiplies and self is not Kind.NOTHING_WRONG


class Example(msgspec.Struct, frozen=True):
    """A value that found no partner, in how many rows it stands, and the one that it means, "" if none is
    known.
    """

    value: str
    rows: int
    other: str = ""


def rows_said(count: int) -> str:
    """So many rows, in words."""
    return "1 row" if count == 1 else f"{count:,} rows"


class Way(enum.Enum):
    """What a mend changes."""

    LINKS = "links"
    CORRECTIONS = "corrections"
    REVIEW = "review"
    TAKE = "take"
    EXTRA_LINK = "extra-link"
    DISTINCT = "distinct"
    FILTER = "filter"
    FILL = "fill"
    ACCEPT = "accept"

    @property
    def takes_away(self) -> bool:
        """Whether it makes rows fewer, instead of finding partners for them."""
        return self in (Way.TAKE, Way.EXTRA_LINK, Way.DISTINCT, Way.FILTER)


class Mend(msgspec.Struct, frozen=True):
    """What would give rows a partner, take rows that are too many away, or fill what they lack.

    links, take: those of the join as they would be; for DISTINCT, `take` is the row that stays.  gain: rows
    of the side that find a partner, or that are fewer.  merged: how many different keys of one side it would
    make one.  fields: for a step before the join, the fields or expressions that it goes by: of the right
    table for DISTINCT, of the reason's side for FILTER.  words: what is filtered out, blanks if none are.
    """

    said: str
    way: Way
    links: tuple[LinkField, ...]
    take: Take
    gain: int
    merged: int = 0
    fields: tuple[str, ...] = ()
    words: tuple[str, ...] = ()


class Suggested(msgspec.Struct, frozen=True):
    """Values that probably mean others: "read value as meant". n pairs in the order of their values' rows.

    values, meant: text without null.  rows: in how many rows each value stands.  likely: which can be taken
    without being looked at.  link: the number of the link field.
    turned: where it is the meaning that is to be read as the value, since that one has no partner either.
    """

    values: pa.Array
    meant: pa.Array
    rows: Vector
    likely: Vector
    link: int
    turned: Vector

    def __len__(self) -> int:
        return len(self.values)

    def corrections(self, chosen: Vector) -> tuple[tuple[str, str], ...]:
        """The pairs for which the mask is true, as what is read and as what."""
        mask = pa.array(chosen)
        values, meant = (side.filter(mask).to_pylist() for side in (self.values, self.meant))
        return tuple(
            (other, one) if turn else (one, other)
            for one, other, turn in zip(values, meant, self.turned[chosen], strict=True)
        )


class Cluster(msgspec.Struct, frozen=True):
    """Where rows without partner cluster: `rows` of them have this value in a field, of `all_rows` that
    do.
    """

    field: str
    value: str
    rows: int
    all_rows: int


@dataclass(frozen=True)
class Reason:
    """One reason. side: "left" or "right".  rows, values: how many rows and distinct values it explains.

    row_numbers: the rows of that side, in order.  suggested: pairs to be reviewed.  clusters: where the rows
    cluster, most telling first.
    """

    kind: Kind
    side: str
    rows: int
    values: int
    said: str
    examples: tuple[Example, ...] = ()
    mends: tuple[Mend, ...] = ()
    row_numbers: IndexVector = field(default_factory=lambda: np.zeros(0, np.int32), compare=False, repr=False)
    suggested: Suggested | None = field(default=None, compare=False, repr=False)
    clusters: tuple[Cluster, ...] = ()
