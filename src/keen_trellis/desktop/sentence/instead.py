"""What can be made of two rails that meet, in place of a join."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.flow.wording import rows_called
from keen_trellis.session.outcome import Outcome


class Instead(msgspec.Struct, frozen=True):
    """What can be made of two rails in place of a join. letter: chooses it.

    said: its line, from the names of both tables and their rows.  make: makes it.
    """

    letter: str
    trade: str
    said: Callable[[Sequence[str]], str]
    make: Callable[[], None]
    counts_rows: bool = False

    def choice(self, outcome: Outcome | None) -> Choice:
        """Its line in the list of questions."""
        if outcome is None or len(outcome.inputs) != 2:
            return Choice(self, self.said(("", "")), self.trade, letter=self.letter)
        rows = f"{sum(table.rows for table in outcome.tables):,} rows · " if self.counts_rows else ""
        names = [shape.name for shape in outcome.inputs]
        return Choice(self, self.said(names), f"{rows}{self.trade}", letter=self.letter)


def union_said(names: Sequence[str]) -> str:
    """A union as a line beside the questions."""
    one, other = (rows_called(name)[1] if name else "" for name in names)
    return f"all {one}, and all {other} below them" if one else "all rows of both, one below the other"


def blend_said(names: Sequence[str]) -> str:
    """A blend as a line beside the questions."""
    if not names[0]:
        return "the second, summed by group, added to each row of the first"
    return f"every {rows_called(names[0])[0]}, with the {rows_called(names[1])[1]} of its group summed up"
