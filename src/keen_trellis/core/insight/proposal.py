"""A link that could be made, with its evidence."""

from __future__ import annotations

import msgspec

from keen_trellis.core.link import LinkField, Operator

# Less than this is told in numbers.
_MUCH = 0.05


class Known(msgspec.Struct, frozen=True):
    """Links that somebody has said to be right. why: who, as the beginning of a sentence."""

    links: tuple[LinkField, ...]
    why: str


class Proposal(msgspec.Struct, frozen=True):
    """Links that could be made, which hold together.

    found: share of the sampled left values (of one link, distinct ones) that find a partner, 0 to 1.
    unique: share of the right side's filled rows that the links tell apart, 0 to 1.
    why: who says so, if anybody does besides the values.  firm: whether what speaks for it is enough to take
    it; otherwise it is only the best that there is.  counted: how many values were found, of how many that
    were looked for, where that is known.  itself: it links each row of a table with itself.
    """

    links: tuple[LinkField, ...]
    found: float
    unique: float
    score: float
    why: str = ""
    firm: bool = True
    counted: tuple[int, int] | None = None
    itself: bool = False

    @property
    def link(self) -> LinkField:
        """The first of the links, which mostly is the only one."""
        return self.links[0]

    def evidence(self, left_name: str, right_name: str) -> str:
        """The proposal's ground in one sentence, and who else says so in another."""
        said = self._said_by_values(left_name, right_name)
        if not self.firm:
            return f"Not a sure link, but the best there is: {said}"
        return f"{self.why}. {said}" if self.why else said

    def _said_by_values(self, left_name: str, right_name: str) -> str:
        names = [
            " and ".join(dict.fromkeys(side))
            for side in zip(*((k.left, k.right) for k in self.links), strict=True)
        ]
        if self.link.operator is not Operator.EQUAL:
            low, high = self.links[0].right, self.links[1].right
            said = (
                f"{percent(self.found)} of the sampled {left_name} have {names[0]} between {low} and {high}"
            )
            rest = "in one row each" if self.unique >= 1 else "some of them in several rows"
            return f"{said} of {right_name}, {rest}."
        if len(self.links) > 1:
            found = f"{percent(self.found)} of the sampled {left_name} find {names[1]} in {right_name}"
        else:
            found = f"{self._share(names[0], left_name)} in {names[1]} of {right_name}"
        if self.itself:
            return f"{found}: each row is linked with itself."
        together = "which together are" if len(self.links) > 1 else "which is"
        if self.unique >= 1:
            return f"{found}, {together} unique there."
        where = "where together" if len(self.links) > 1 else "where"
        return f"{found}, {where} {percent(1 - self.unique)} of the values repeat."

    def _share(self, name: str, table: str) -> str:
        """How many values are found: a percentage, and where that says little their number."""
        if self.counted is None or self.found >= _MUCH:
            return f"{percent(self.found)} of the sampled {name} values of {table} are"
        some, looked_at = self.counted
        return f"only {some:,} of the {looked_at:,} {name} values looked at in {table} {_is(some)}"


def _is(count: int) -> str:
    return "is" if count == 1 else "are"


def percent(share: float) -> str:
    """A share as a percentage that is never rounded up to 100 % or down to 0 %."""
    if share >= 1:
        return "100 %"
    if share <= 0:
        return "0 %"
    return f"{min(max(share * 100, 0.1), 99.9):.1f} %"


def why_none(left_name: str, right_name: str) -> str:
    """Why no link is proposed."""
    return f"No field of {left_name} has values that are in a field of {right_name}."
