"""Values that probably mean others, to be looked through: what was decided of each pair, and what follows.

Accepted pairs become corrections of the link, rejected ones are remembered so that they are not offered
again. A review can be handed to whoever keeps the data, as a table with a column for the answers, and read
back.
"""

from __future__ import annotations

import enum
from collections.abc import Iterable, Iterator

import msgspec
import pyarrow as pa

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.insight.differences import Difference, difference
from keen_trellis.core.insight.reason import Reason
from keen_trellis.core.table import ArrowTable, Table
from keen_trellis.core.values import as_text
from keen_trellis.flow.steps.join import JoinSettings

READ, AS, ROWS, DIFFERENCE, ANSWER = "read", "as", "rows", "difference", "answer"
YES = ("yes", "y", "true", "1", "accept", "accepted")
NO = ("no", "n", "false", "0", "reject", "rejected")


class Verdict(enum.Enum):
    """What was decided of a pair; the value is the answer in a table."""

    OPEN = ""
    ACCEPTED = "yes"
    REJECTED = "no"


class Pair(msgspec.Struct, frozen=True):
    """One value and what it is read as. link: the link field's number.  rows: in how many rows it stands."""

    read: str
    meant: str
    link: int
    rows: int
    difference: Difference
    verdict: Verdict


class Review(msgspec.Struct, frozen=True):
    """All pairs of a knot that are to be decided, or were; those that differ alike stand together."""

    pairs: tuple[Pair, ...]
    # The two sides of each link that the pairs are about.
    links: tuple[tuple[str, str], ...] = ()

    @staticmethod
    def of(settings: JoinSettings, reasons: Iterable[Reason]) -> Review:
        """What the reasons propose, and what was decided before; what is likely is accepted already."""
        found: dict[tuple[str, str], Pair] = {}
        for number, link in enumerate(settings.links):
            for read, meant in link.correct:
                found[read, meant] = _pair(read, meant, number, 0, Verdict.ACCEPTED)
        for read, meant in settings.rejected:
            found[read, meant] = _pair(read, meant, 0, 0, Verdict.REJECTED)
        for reason in reasons:
            if (offered := reason.suggested) is None:
                continue
            values = offered.values.to_pylist(), offered.meant.to_pylist()
            rest = offered.rows.tolist(), offered.likely.tolist(), offered.turned.tolist()
            for one, other, rows, likely, turned in zip(*values, *rest, strict=True):
                read, meant = (other, one) if turned else (one, other)
                if (read, meant) not in found and (meant, read) not in found:
                    verdict = Verdict.ACCEPTED if likely else Verdict.OPEN
                    found[read, meant] = _pair(read, meant, offered.link, rows, verdict)
        groups: dict[str, list[Pair]] = {}
        for pair in found.values():
            groups.setdefault(pair.difference.said, []).append(pair)
        ordered = sorted(groups.values(), key=lambda group: -len(group))
        return Review(tuple(pair for group in ordered for pair in group), _sides(settings))

    @property
    def groups(self) -> list[tuple[str, range]]:
        """What the pairs of each group have in common, and their numbers."""
        made: list[tuple[str, range]] = []
        for number, pair in enumerate(self.pairs):
            if made and made[-1][0] == pair.difference.said:
                made[-1] = (pair.difference.said, range(made[-1][1].start, number + 1))
            else:
                made.append((pair.difference.said, range(number, number + 1)))
        return made

    def decided(self, numbers: Iterable[int], verdict: Verdict) -> Review:
        """The review with another verdict on some pairs."""
        pairs = list(self.pairs)
        for number in numbers:
            pairs[number] = msgspec.structs.replace(pairs[number], verdict=verdict)
        return msgspec.structs.replace(self, pairs=tuple(pairs))

    def having(self, verdict: Verdict) -> list[int]:
        """The numbers of the pairs of which this was decided."""
        return [number for number, pair in enumerate(self.pairs) if pair.verdict is verdict]

    def rows_of(self, verdict: Verdict) -> int:
        """In how many rows the values stand of which this was decided."""
        return sum(pair.rows for pair in self.pairs if pair.verdict is verdict)

    def settings_after(self, settings: JoinSettings) -> JoinSettings:
        """The knot, as it is now, with the accepted pairs as corrections and the rejected ones remembered.

        What was corrected or rejected since the review began stays. UsageError if the knot has other link
        fields by now.
        """
        if _sides(settings) != self.links:
            raise UsageError(
                "The knot has other link fields than when its values were looked at.",
                remedy="Open the review again.",
            )
        ours = {(pair.link, pair.read) for pair in self.pairs}
        links = []
        for number, link in enumerate(settings.links):
            correct = {read: meant for read, meant in link.correct if (number, read) not in ours}
            correct |= {pair.read: pair.meant for pair in self._having(Verdict.ACCEPTED, number)}
            links.append(msgspec.structs.replace(link, correct=tuple(correct.items())))
        decided = {(pair.read, pair.meant) for pair in self.pairs}
        rejected = [pair for pair in settings.rejected if pair not in decided]
        rejected += [(pair.read, pair.meant) for pair in self.pairs if pair.verdict is Verdict.REJECTED]
        return msgspec.structs.replace(settings, links=tuple(links), rejected=tuple(rejected))

    def _having(self, verdict: Verdict, link: int) -> Iterator[Pair]:
        return (pair for pair in self.pairs if pair.verdict is verdict and pair.link == link)

    def as_table(self) -> ArrowTable:
        """The review as a table; its last column is for answers: yes, no, or the value that is meant."""
        columns = {
            READ: [pair.read for pair in self.pairs],
            AS: [pair.meant for pair in self.pairs],
            ROWS: [pair.rows for pair in self.pairs],
            DIFFERENCE: [pair.difference.said for pair in self.pairs],
            ANSWER: [None] * len(self.pairs),
        }
        kinds = {ROWS: pa.int64()}
        arrays = {
            name: pa.array(values, kinds.get(name, pa.large_string())) for name, values in columns.items()
        }
        return ArrowTable(pa.table(arrays))

    def answered(self, table: Table) -> Review:
        """The review with the answers of a table that was made by `as_table`: yes, no, or the value meant.

        Raises SourceError if the table has not its columns.
        """
        names = [name for name in (READ, AS, ANSWER) if name not in table.names]
        if names:
            raise SourceError(
                f"The table of answers has no column {' and no '.join(names)}.",
                remedy="Read back the file that was exported, with yes or no in its last column.",
            )
        columns = (as_text(cells.values).to_pylist() for cells in table.take(None, (READ, AS, ANSWER)))
        said = {(one, other): answer.strip() for one, other, answer in zip(*columns, strict=True) if answer}
        answers = (said.get((pair.read, pair.meant), "") for pair in self.pairs)
        return msgspec.structs.replace(self, pairs=tuple(map(_answered, self.pairs, answers)))


def _sides(settings: JoinSettings) -> tuple[tuple[str, str], ...]:
    return tuple((link.left, link.right) for link in settings.links)


def _answered(pair: Pair, answer: str) -> Pair:
    if not answer:
        return pair
    if answer.casefold() in YES:
        return msgspec.structs.replace(pair, verdict=Verdict.ACCEPTED)
    if answer.casefold() in NO:
        return msgspec.structs.replace(pair, verdict=Verdict.REJECTED)
    return _pair(pair.read, answer, pair.link, pair.rows, Verdict.ACCEPTED)


def _pair(read: str, meant: str, link: int, rows: int, verdict: Verdict) -> Pair:
    return Pair(read, meant, link, rows, difference(read, meant), verdict)


def said_of(review: Review) -> str:
    """How far the review is, in a sentence."""
    words = {Verdict.ACCEPTED: "accepted", Verdict.REJECTED: "rejected", Verdict.OPEN: "open"}
    return ", ".join(f"{len(review.having(verdict)):,} {word}" for verdict, word in words.items())
