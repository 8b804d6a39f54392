"""The rows of one side that found no partner, fewer with each reason, and the distinct values that they
have.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.expressions.expression import Expression
from keen_trellis.core.insight.reason import MOST_EXAMPLES, Example, Kind, Mend, Reason, Suggested, Vector
from keen_trellis.core.link import LinkField
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import Cells, ChosenRows, IndexVector, Table
from keen_trellis.core.values import as_text

BETWEEN = " – "


class Coded(msgspec.Struct, frozen=True):
    """Rows by their distinct values: texts without null, and for each row the number of its own, -1 for
    none.
    """

    texts: pa.Array
    codes: Vector

    @staticmethod
    def of(values: pa.Array) -> Coded:
        """The values of rows, written out."""
        coded = as_text(values).dictionary_encode()
        codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        return Coded(coded.dictionary, codes)

    def rows_of(self, chosen: Vector) -> Vector:
        """A mask of the rows that have one of the values for which the mask `chosen` is true."""
        return np.append(chosen, False)[self.codes]

    def counts(self, rows: Vector) -> Vector:
        """In how many of the rows of a mask each value stands."""
        codes = self.codes[rows]
        return np.bincount(codes[codes >= 0], minlength=len(self.texts))


class OpenRows:
    """Rows of one side that are not explained yet.

    one, other: the side's own table and the opposite one.  links: as seen from this side.  numbers: the
    rows.  is_open: a mask over them.
    """

    def __init__(
        self, side: str, one: Table, other: Table, links: Sequence[LinkField], numbers: IndexVector
    ) -> None:
        self.side, self.one, self.other, self.links, self.numbers = side, one, other, tuple(links), numbers
        self.is_open = np.ones(len(numbers), dtype=bool)
        self._coded: dict[int, Coded] = {}

    def __bool__(self) -> bool:
        return bool(self.is_open.any())

    @property
    def rows(self) -> IndexVector:
        """The numbers of the rows that are still open."""
        return self.numbers[self.is_open]

    def expressions(self, link: LinkField) -> tuple[Expression, Expression]:
        """Both sides of a link, this side's first."""
        return link.sides(self.one.fields, self.other.fields)

    def cells(self, link: LinkField) -> Cells:
        """The cells of a link on its side in all of the rows."""
        return self.expressions(link)[0].cells(ChosenRows(self.one, self.numbers))

    def coded(self, number: int) -> Coded:
        """The rows by their values of one link."""
        if number not in self._coded:
            self._coded[number] = Coded.of(self.cells(self.links[number]).values)
        return self._coded[number]

    @cached_property
    def together(self) -> Coded:
        """The rows by their values of all links; where there are several, the texts are not written out but
        stand for their first row.
        """
        if len(self.links) == 1:
            return self.coded(0)
        keys = [Key(link.left, link.preparation) for link in self.links]
        groups = grouped(ChosenRows(self.one, self.numbers), keys)
        return Coded(pa.nulls(groups.size, pa.large_string()), groups.codes)

    def told(
        self,
        kind: Kind,
        mask: Vector,
        said: str,
        mends: Sequence[Mend] = (),
        *,
        coded: Coded | None = None,
        meant: pa.Array | None = None,
        suggested: Suggested | None = None,
    ) -> Reason:
        """The reason of the open rows among those of `mask`, which are explained then.

        coded: by which values to count and to show them, all links' if not given.  meant: for each of these
        values the one that it means, or null.
        """
        mask = mask & self.is_open
        coded = coded or self.together
        counts = coded.counts(mask)
        most = np.argsort(-counts, kind="stable")[:MOST_EXAMPLES]
        most = most[counts[most] > 0]
        texts = self._texts(coded, most, mask)
        others = (
            meant.take(pa.array(most)).fill_null("").to_pylist() if meant is not None else [""] * len(most)
        )
        examples = tuple(
            Example(text, int(counts[at]), other) for at, text, other in zip(most, texts, others, strict=True)
        )
        self.is_open &= ~mask
        return Reason(
            kind,
            self.side,
            int(np.count_nonzero(mask)),
            int(np.count_nonzero(counts)),
            said,
            examples,
            tuple(mends),
            self.numbers[mask],
            suggested,
        )

    def _texts(self, coded: Coded, chosen: Vector, mask: Vector) -> list[str]:
        """The chosen values written out; several links' with a dash between."""
        if coded is not self.together or len(self.links) == 1:
            texts: list[str] = coded.texts.take(pa.array(chosen)).to_pylist()
            return texts
        rows = np.flatnonzero(mask)
        values, first = np.unique(coded.codes[rows], return_index=True)
        at = rows[first[np.searchsorted(values, chosen)]]
        return written(
            ChosenRows(self.one, self.numbers[at]), [self.expressions(link)[0] for link in self.links]
        )


def written(table: Table, expressions: Sequence[Expression]) -> list[str]:
    """The values of a table's rows written out, several with a dash between."""
    columns = [as_text(entry.cells(table).values).fill_null("blank") for entry in expressions]
    texts: list[str] = pc.binary_join_element_wise(*columns, pa.scalar(BETWEEN, columns[0].type)).to_pylist()
    return texts
