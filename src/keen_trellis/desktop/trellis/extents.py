"""What each thing in the trellis covers, so that only what looks different is drawn again."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import chain

import msgspec
from PySide6.QtCore import QRectF

from keen_trellis.desktop.trellis.captions import Caption
from keen_trellis.desktop.trellis.shapes import (
    KNOT_WIDTH,
    LINE,
    MARGIN_WIDTH,
    Bead,
    End,
    FileLine,
    Head,
    Knot,
    Layout,
    Rail,
    Slat,
    Stub,
    Stump,
    Tie,
    ValueLine,
    Words,
)
from keen_trellis.session.selection import Selection

Drawn = FileLine | ValueLine | Head | Stump | Rail | Knot | Bead | Stub | End | Tie | Slat | Caption
_NOTHING = Selection()
_EDGE = 6.0  # of frames and of what shows a selection
_PROGRESS = 12.0  # below a step that is being computed


class Look(msgspec.Struct, frozen=True):
    """The state of the trellis that can be seen: what is laid out, selected, and under way.

    lit: the steps of a way that is followed, each with what is said there; all else is faint then.
    """

    layout: Layout
    captions: Sequence[Caption] = ()
    selection: Selection = _NOTHING
    chosen: Collection[str] = ()
    under_way: Mapping[str, float] = msgspec.field(default_factory=dict)
    lit: Mapping[str, str] = msgspec.field(default_factory=dict)

    def drawn(self) -> dict[object, QRectF]:
        """What each thing covers that is drawn, by all that its looks depend on."""
        found: dict[object, QRectF] = {}
        for shape in self._shapes():
            owner = owner_of(shape)
            selected = owner.step in self.chosen or owner == self.selection
            told = _told(shape)
            under_way, lit = self.under_way.get(owner.step), self.lit.get(owner.step)
            found[type(shape), told, selected, under_way, bool(self.lit), lit] = extent(shape)
        return found

    def _shapes(self) -> Iterator[Drawn]:
        layout = self.layout
        return chain(
            *(
                layout.values,
                layout.files,
                layout.heads,
                layout.stumps,
                layout.rails,
                layout.knots,
                layout.beads,
            ),
            *(layout.stubs, layout.ends, layout.ties, layout.slats, self.captions),
        )


def changed(before: Look, after: Look) -> list[QRectF]:
    """What has to be drawn again after a change."""
    old, new = before.drawn(), after.drawn()
    gone = [rect for told, rect in old.items() if told not in new]
    return gone + [rect for told, rect in new.items() if told not in old]


def _told(shape: Drawn) -> object:
    """What tells shapes of one type apart that look different."""
    if isinstance(shape, Caption):
        return (shape.text, shape.role, shape.rect.getRect(), _told_of(shape))
    return shape


def _told_of(caption: Caption) -> object:
    of = caption.of
    return of.alarm if isinstance(of, (Knot, Words, End)) else None


def owner_of(shape: Drawn) -> Selection:
    """What is selected when a shape shows it."""
    if isinstance(shape, Caption):
        return Selection() if isinstance(shape.of, Words) else owner_of(shape.of)
    if isinstance(shape, FileLine):
        return Selection(path=shape.path)
    if isinstance(shape, (Knot, Bead)):
        return Selection(shape.step)
    if isinstance(shape, Tie):
        return Selection(shape.step) if shape.step else Selection(slat=shape.slat)
    return shape.selection or Selection()


def extent(shape: Drawn) -> QRectF:
    """What a shape covers, and what shows that it is selected or under way."""
    if isinstance(shape, Caption):
        return shape.rect.adjusted(-11, -2, 11, 2)
    if isinstance(shape, (FileLine, ValueLine)):
        return QRectF(0, shape.y - 2, MARGIN_WIDTH, LINE + 4)
    if isinstance(shape, (Head, Stump)):
        return QRectF(0, shape.y - 15, MARGIN_WIDTH, 30)
    if isinstance(shape, Knot):
        left, width = shape.x - KNOT_WIDTH / 2 - _EDGE, KNOT_WIDTH + 2 * _EDGE
        return QRectF(left, shape.top - _EDGE, width, shape.height + 2 * _EDGE + _PROGRESS)
    if isinstance(shape, Slat):
        return QRectF(shape.x - shape.room / 2, shape.top - 2, shape.room, shape.bottom - shape.top + 4)
    if isinstance(shape, (Rail, Stub)):
        (x0, y0), (x1, y1) = shape.start, shape.end
        edge = _EDGE + (shape.thickness / 2 if isinstance(shape, Rail) else 0)
        ends = 14.0 if isinstance(shape, Rail) and shape.open_end else 2.0
        return QRectF(min(x0, x1) - 2, min(y0, y1) - edge, abs(x1 - x0) + ends, abs(y1 - y0) + 2 * edge)
    reach = 18.0
    return QRectF(shape.x - reach, shape.y - reach, 2 * reach, 2 * reach + _PROGRESS)
