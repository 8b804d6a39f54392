"""What the trellis shows, as plain shapes: rails, knots, beads, stubs, ends, words, slats.

Lengths are in pixels, from the upper left corner of the trellis, before it is zoomed.
"""

from __future__ import annotations

import math

import msgspec

from keen_trellis.desktop.marks import Mark
from keen_trellis.desktop.trellis.lanes import Arrangement
from keen_trellis.session.selection import Selection

MARGIN_WIDTH = 208
KNOT_WIDTH = 26
LINE = 20
BEAD = 7.0
OF_RAIL = "rows:"
FOLD = "fold"
MATCHED_PART = "matched"

Point = tuple[float, float]
# At most this share of the way between two steps is bent: captions stand over the rest.
_TURN = 0.7


class FileLine(msgspec.Struct, frozen=True):
    """A file's name in the margin; alarm: it cannot be read.

    more: how many of its unused tables a click lists, or that it folds them away; "" for nothing.
    """

    path: str
    y: float
    text: str
    alarm: str = ""
    more: str = ""


class ValueLine(msgspec.Struct, frozen=True):
    """A run value of the flow, where its rails begin."""

    selection: Selection
    y: float
    name: str
    text: str
    alarm: bool


class Head(msgspec.Struct, frozen=True):
    """Where a rail begins."""

    selection: Selection
    y: float
    name: str
    mark: Mark
    count: str
    alarm: bool


class Stump(msgspec.Struct, frozen=True):
    """A table of a file that no rail begins at."""

    selection: Selection
    y: float
    name: str
    count: str


class Rail(msgspec.Struct, frozen=True):
    """A band from one point to another. hue: None for a joined rail; rows: -1 where not known.

    turns_early: it leaves its lane at once, as a branch does; otherwise just before its end.  bend: how long
    the turn may be.
    """

    selection: Selection
    start: Point
    end: Point
    hue: int | None
    rows: int
    open_end: bool
    turns_early: bool = False
    bend: float = 130.0

    @property
    def thickness(self) -> float:
        return thickness(self.rows)

    @property
    def is_level(self) -> bool:
        return abs(self.end[1] - self.start[1]) < 1

    @property
    def level_part(self) -> tuple[float, float, float]:
        """Where it runs level: from, to, and at which height."""
        (x0, y0), (x1, y1) = self.start, self.end
        if self.is_level:
            return x0, x1, y0
        turn = min(max(72.0, abs(y1 - y0)), self.bend, max((x1 - x0) * _TURN, 1.0))
        return (x0 + turn, x1, y1) if self.turns_early else (x0, x1 - turn, y0)


class Part(msgspec.Struct, frozen=True):
    """One part of a knot, from `top` to `bottom`.

    name: a port's or a rail's.  kept: whether its rows are in the result.  said: what it is, in words.
    apart: whether its stub can be selected by itself.
    """

    name: str
    top: float
    bottom: float
    kept: bool
    rows: int
    said: str = ""
    apart: bool = True


class Knot(msgspec.Struct, frozen=True):
    """A join, blend or union. Its parts are empty while its match is not known.

    short_caption, short: its caption and detail where `room` is scarce.  captioned: its words are shown.
    hues: by part.
    """

    step: str
    x: float
    y: float
    above: float
    height: float
    parts: tuple[Part, ...]
    caption: str
    short_caption: str
    detail: str
    short: str
    room: float
    hues: tuple[tuple[str, int | None], ...]
    alarm: bool
    captioned: bool = True

    @property
    def top(self) -> float:
        return self.y - self.above

    @property
    def bottom(self) -> float:
        return self.top + self.height


class Bead(msgspec.Struct, frozen=True):
    """A step on a rail."""

    step: str
    x: float
    y: float
    name: str
    alarm: bool
    room: float
    skipped: bool = False
    captioned: bool = True


class Stub(msgspec.Struct, frozen=True):
    """Where rows that are left out leave the flow at a knot. short: its text where `room` is scarce."""

    selection: Selection | None
    start: Point
    end: Point
    text: str
    short: str
    room: float
    hue: int | None
    captioned: bool = True


class End(msgspec.Struct, frozen=True):
    """An output at the end of a rail."""

    selection: Selection
    x: float
    y: float
    name: str
    detail: str
    alarm: bool


class Words(msgspec.Struct, frozen=True):
    """A count or remark at a rail, centred at x. short: its text where `room` is scarce.

    notch: it is a guard's, and stands above the rail.
    """

    x: float
    y: float
    text: str
    short: str
    alarm: bool
    room: float
    notch: bool = False


class Tie(msgspec.Struct, frozen=True):
    """Where a slat meets a rail: tied by the step `step`, or, without one, an open ring that says why not."""

    slat: str
    x: float
    y: float
    step: str = ""
    source: str = ""
    said: str = ""
    alarm: bool = False
    hollow: bool = False


class Slat(msgspec.Struct, frozen=True):
    """A shared filter: an upright line at x from its label down over the rails."""

    selection: Selection
    x: float
    top: float
    bottom: float
    text: str
    room: float


class Layout(msgspec.Struct):
    """Everything that the trellis shows."""

    width: float = 0
    height: float = 0
    least_width: float = 0  # narrower than this it has to be scrolled
    files: list[FileLine] = msgspec.field(default_factory=list)
    values: list[ValueLine] = msgspec.field(default_factory=list)
    heads: list[Head] = msgspec.field(default_factory=list)
    stumps: list[Stump] = msgspec.field(default_factory=list)
    rails: list[Rail] = msgspec.field(default_factory=list)
    knots: list[Knot] = msgspec.field(default_factory=list)
    beads: list[Bead] = msgspec.field(default_factory=list)
    stubs: list[Stub] = msgspec.field(default_factory=list)
    ends: list[End] = msgspec.field(default_factory=list)
    words: list[Words] = msgspec.field(default_factory=list)
    slats: list[Slat] = msgspec.field(default_factory=list)
    ties: list[Tie] = msgspec.field(default_factory=list)
    arrangement: Arrangement = msgspec.field(default_factory=Arrangement)


def thickness(rows: int) -> float:
    """How thick a rail of so many rows is: logarithmic, at least 2."""
    return 2.0 if rows <= 0 else 2.0 + 2.8 * math.log10(rows + 1)
