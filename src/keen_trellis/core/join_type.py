"""The ten join types, and which parts of a match each of them keeps."""

from __future__ import annotations

import enum


class JoinType(enum.Enum):
    """A join type; its value is its name on the command line and in flow files."""

    INNER = "inner"
    LEFT_OUTER = "left-outer"
    RIGHT_OUTER = "right-outer"
    FULL_OUTER = "full-outer"
    LEFT_ANTI = "left-anti"
    RIGHT_ANTI = "right-anti"
    FULL_ANTI = "full-anti"
    LEFT_SEMI = "left-semi"
    RIGHT_SEMI = "right-semi"
    CROSS = "cross"

    @property
    def trade_name(self) -> str:
        """The type as the trade calls it: left outer join."""
        return f"{self.value.replace('-', ' ')} join"

    @property
    def keeps_unmatched_left(self) -> bool:
        return self in _KEEP_UNMATCHED_LEFT

    @property
    def keeps_unmatched_right(self) -> bool:
        return self in _KEEP_UNMATCHED_RIGHT

    @property
    def keeps_pairs(self) -> bool:
        """Whether matched rows stand in the result as pairs, with the fields of both sides."""
        return self in _KEEP_PAIRS

    @property
    def keeps_matched(self) -> bool:
        """Whether matched rows stand in the result at all, as pairs or once each."""
        return self in _KEEP_PAIRS or self in (JoinType.LEFT_SEMI, JoinType.RIGHT_SEMI)

    @property
    def has_left_fields(self) -> bool:
        return self not in (JoinType.RIGHT_ANTI, JoinType.RIGHT_SEMI)

    @property
    def has_right_fields(self) -> bool:
        return self not in (JoinType.LEFT_ANTI, JoinType.LEFT_SEMI)

    @property
    def mirrored(self) -> JoinType:
        """The type that keeps the same rows once the two sides are swapped."""
        if self.value.startswith("left"):
            return JoinType(self.value.replace("left", "right"))
        return JoinType(self.value.replace("right", "left"))


_KEEP_UNMATCHED_LEFT = frozenset(
    {JoinType.LEFT_OUTER, JoinType.FULL_OUTER, JoinType.LEFT_ANTI, JoinType.FULL_ANTI}
)
_KEEP_UNMATCHED_RIGHT = frozenset(
    {JoinType.RIGHT_OUTER, JoinType.FULL_OUTER, JoinType.RIGHT_ANTI, JoinType.FULL_ANTI}
)
_KEEP_PAIRS = frozenset(
    {JoinType.INNER, JoinType.LEFT_OUTER, JoinType.RIGHT_OUTER, JoinType.FULL_OUTER, JoinType.CROSS}
)

# The nine types of a join with link fields, in the order of the keys 1 to 9.
QUESTION_TYPES = (
    JoinType.LEFT_OUTER,
    JoinType.INNER,
    JoinType.LEFT_ANTI,
    JoinType.LEFT_SEMI,
    JoinType.FULL_OUTER,
    JoinType.FULL_ANTI,
    JoinType.RIGHT_OUTER,
    JoinType.RIGHT_ANTI,
    JoinType.RIGHT_SEMI,
)


def type_keeping(*, unmatched_left: bool, matched: bool, unmatched_right: bool) -> JoinType | None:
    """The join type that keeps just these parts of a match, matched rows as pairs; None for no part."""
    return {
        (False, True, False): JoinType.INNER,
        (True, True, False): JoinType.LEFT_OUTER,
        (False, True, True): JoinType.RIGHT_OUTER,
        (True, True, True): JoinType.FULL_OUTER,
        (True, False, False): JoinType.LEFT_ANTI,
        (False, False, True): JoinType.RIGHT_ANTI,
        (True, False, True): JoinType.FULL_ANTI,
    }.get((unmatched_left, matched, unmatched_right))
