"""What a join compares: pairs of link fields, how both are prepared, and with which operator."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.table import Field, find_field
from keen_trellis.core.values import FieldType, comparable

# The preparations by the name they have in flow files and on the command line, in the order
# in which they are applied, each with the words of the sentence ("ignoring case and ...").
PREPARATIONS = {"case": "case", "outer-spaces": "outer spaces"}


@dataclass(frozen=True)
class Preparation:
    """What is ignored when the text of a link field is compared; the same on both sides."""

    case: bool = False
    outer_spaces: bool = False

    @staticmethod
    def ignoring(names: Iterable[str]) -> Preparation:
        """The preparation that ignores what `names` say; UsageError for an unknown name."""
        wanted = [name.strip() for name in names]
        for name in wanted:
            if name not in PREPARATIONS:
                raise UsageError(
                    f"“{name}” is nothing that a link can ignore.",
                    remedy=f"It can ignore: {', '.join(PREPARATIONS)}.",
                )
        return Preparation(case="case" in wanted, outer_spaces="outer-spaces" in wanted)

    @property
    def names(self) -> tuple[str, ...]:
        """What is ignored, by name, in the order in which it is applied."""
        chosen = {"case": self.case, "outer-spaces": self.outer_spaces}
        return tuple(name for name in PREPARATIONS if chosen[name])

    def __bool__(self) -> bool:
        return bool(self.names)


@dataclass(frozen=True)
class LinkField:
    """One field of the left table that must equal one field of the right."""

    left: str
    right: str
    preparation: Preparation = field(default_factory=Preparation)

    @property
    def as_written(self) -> LinkField:
        """The same link with nothing prepared."""
        return LinkField(self.left, self.right)


def check_links(links: Sequence[LinkField], left: Sequence[Field], right: Sequence[Field]) -> None:
    """Raise an error of ours unless every link names fields of both sides that can be equal."""
    if not links:
        raise UsageError(
            "The join has no link field yet.", remedy="Choose a field of each side that must be equal."
        )
    for link in links:
        one = find_field(left, link.left, "the left table")
        other = find_field(right, link.right, "the right table")
        if not comparable(one.type, other.type):
            raise DataError(
                f"{link.left} is {one.type.value} and {link.right} is {other.type.value}: "
                "they can never be equal.",
                remedy=_type_remedy(one.type, other.type),
            )


def _type_remedy(left: FieldType, right: FieldType) -> str:
    if FieldType.TEXT in (left, right):
        return "Choose fields of the same type, or have both stand as text in their sources."
    return "Choose fields of the same type."
