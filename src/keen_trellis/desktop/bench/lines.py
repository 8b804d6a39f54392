"""The bench's lines from top to bottom: heads of bands and parts, rows, and "show all" lines.

Only counted, never listed: a band of millions of rows costs no more than an empty one.
"""

from __future__ import annotations

from bisect import bisect_right

import msgspec

from keen_trellis.desktop.bench.content import FEW, FEW_OF_REASON, Content, Part

BAND, PART, ROW, MORE = "band", "part", "row", "more"


class Line(msgspec.Struct, frozen=True):
    """One line. band, part: their numbers (part: among all parts of all bands).  place: of a row."""

    kind: str
    band: int
    part: int = -1
    place: int = -1


class OpenStates(msgspec.Struct):
    """Which bands and parts are open, by their keys, kept while the content changes under them."""

    closed: set[str] = msgspec.field(default_factory=set)
    whole: set[str] = msgspec.field(default_factory=set)
    opened: set[str] = msgspec.field(default_factory=set)

    def shows(self, part: Part) -> bool:
        """Whether a part's rows are shown: it was opened, or was not closed and starts open."""
        return part.key in self.opened if part.starts_closed else part.key not in self.closed

    def toggle(self, part: Part) -> None:
        """Open a closed part, and the other way round."""
        chosen = self.opened if part.starts_closed else self.closed
        chosen ^= {part.key}


class _Run(msgspec.Struct, frozen=True):
    start: int
    count: int
    line: Line


class Lines:
    """The lines of a content as its bands are open now."""

    def __init__(self, content: Content, states: OpenStates) -> None:
        self._runs: list[_Run] = []
        self.count = 0
        part_number = 0
        for band_number, band in enumerate(content.bands):
            if band.text:
                self._add(1, Line(BAND, band_number))
            for part in band.parts:
                number, part_number = part_number, part_number + 1
                if band.key in states.closed and band.text:
                    continue
                if part.text:
                    self._add(1, Line(PART, band_number, number))
                if part.text and not states.shows(part):
                    continue
                few = FEW_OF_REASON if part.reason is not None else FEW
                whole = not band.text or part.key in states.whole or part.rows.count <= few + 1
                shown = part.rows.count if whole else few
                self._add(shown, Line(ROW, band_number, number, 0))
                if not whole or (band.text and part.rows.count > few + 1):
                    self._add(1, Line(MORE, band_number, number))
        self._starts = [run.start for run in self._runs]

    def _add(self, count: int, line: Line) -> None:
        if count:
            self._runs.append(_Run(self.count, count, line))
            self.count += count

    def at(self, number: int) -> Line:
        """The line with this number, from 0."""
        run = self._runs[bisect_right(self._starts, number) - 1]
        if run.line.kind != ROW:
            return run.line
        return Line(ROW, run.line.band, run.line.part, number - run.start)

    def row(self, part: int, place: int) -> int | None:
        """The number of the line that shows a row, None if it is not shown."""
        for run in self._runs:
            if run.line.kind == ROW and run.line.part == part and place < run.count:
                return run.start + place
        return None

    def head(self, line: Line) -> int | None:
        """The number of the line that heads the band of `line`, None if the band has no head."""
        for run in self._runs:
            if run.line.kind == BAND and run.line.band == line.band:
                return run.start
        return None

    def part_head(self, part: int) -> int | None:
        """The number of the line that heads a part, None if none does."""
        return next(
            (run.start for run in self._runs if run.line.kind == PART and run.line.part == part), None
        )

    def next_head(self, number: int, step: int) -> int | None:
        """The nearest head of a band or part after (step 1) or before (-1) a line."""
        heads = [run.start for run in self._runs if run.line.kind in (BAND, PART)]
        if step > 0:
            return next((head for head in heads if head > number), None)
        return next((head for head in reversed(heads) if head < number), None)
