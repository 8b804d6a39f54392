"""The words of a laid out trellis: which form of each is shown, and exactly where, so that none touch.

What is laid out says of each caption where it would best stand, and in which forms. Here each gets the
longest form that is clear of everything else, a little to the side if need be; what has no room at all is
left to its tooltip.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import Enum, auto
from itertools import pairwise

import msgspec
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QFont, QFontMetrics

from keen_trellis.desktop.plain import elided
from keen_trellis.desktop.theme import font
from keen_trellis.desktop.trellis.shapes import (
    BEAD,
    KNOT_WIDTH,
    MARGIN_WIDTH,
    Bead,
    End,
    Knot,
    Layout,
    Point,
    Rail,
    Slat,
    Stub,
    Tie,
    Words,
)

Shape = Knot | Bead | Stub | End | Words | Tie | Slat


class Role(Enum):
    """What a caption says of its shape."""

    SLAT = auto()
    NAME = auto()
    DETAIL = auto()
    STEP = auto()
    SKIPPED = auto()
    COUNT = auto()
    ALARM = auto()
    STUB = auto()

    @property
    def font(self) -> QFont:
        large, bold = self in (Role.SLAT, Role.NAME), self in _BOLD
        return font(12 if large else 11, bold=bold)


_BOLD = {Role.SLAT, Role.NAME, Role.STEP, Role.ALARM}


class Caption(msgspec.Struct, frozen=True):
    """Words as they are shown. rect: what they cover, in the layout's pixels."""

    of: Shape
    role: Role
    text: str
    rect: QRectF


class _Wanted(msgspec.Struct, frozen=True):
    """Words that are to be placed: centred at x, or, if `left`, beginning there. y: of their middle.

    forms: the longest first.  room: how wide they may be beside others.  slide: how far to the side they may
    stand.  whole: a part of them would say something else, as of a number.
    """

    of: Shape
    role: Role
    x: float
    y: float
    forms: tuple[str, ...]
    room: float
    left: bool = False
    slide: float = 0.0
    whole: bool = False


_GAP = 5.0  # at least so far from what else stands there
_HALF = 7.0  # of a line's height
_WHOLE = 4000
NOTCH = 14.0  # for the sign of a guard, which stands there even without its words
_LEAST = 44.0  # narrower than this a part of a text says nothing
_STEPS_OF_BEND = 6
_BOX = 11.0  # a slat's label stands in a box


def captions_of(layout: Layout) -> list[Caption]:
    """Every caption that there is room for, in the order in which they are drawn."""
    hard, soft = list(_standing(layout)), list(_bends(layout))
    found: list[Caption] = []
    for wanted in _wanted(layout):
        rects = hard + [caption.rect for caption in found]
        placed = _placed(wanted, [*rects, *soft], layout.width) or _placed(wanted, rects, layout.width)
        if placed is not None:
            found.append(placed)
    return [_widened(caption, found, hard, layout) for caption in found]


def _wanted(layout: Layout) -> Iterator[_Wanted]:
    """All words of a layout, what must be read first."""
    for slat in layout.slats:
        yield _Wanted(slat, Role.SLAT, slat.x, slat.top + _BOX, (slat.text,), slat.room)
    for end in layout.ends:
        yield _Wanted(end, Role.NAME, end.x + 10, end.y - 7, (end.name,), 146, left=True)
        yield _Wanted(end, Role.DETAIL, end.x + 10, end.y + 9, (end.detail,), 146, left=True)
    knots = [knot for knot in layout.knots if knot.captioned]
    for knot in knots:
        forms = (knot.caption, knot.short_caption)
        yield _Wanted(knot, Role.NAME, knot.x, knot.top - 23, forms, knot.room, slide=20)
    for bead in layout.beads:
        if bead.captioned:
            role = Role.SKIPPED if bead.skipped else Role.STEP
            name = f"skipped: {bead.name}" if bead.skipped else bead.name
            yield _Wanted(bead, role, bead.x, bead.y - 18, (name,), bead.room)
    for knot in knots:
        details = (knot.detail, knot.short, _share(knot.short))
        yield _Wanted(knot, Role.DETAIL, knot.x, knot.top - 9, details, knot.room, slide=20)
    yield from _counts(layout)


def _counts(layout: Layout) -> Iterator[_Wanted]:
    """How many rows there are behind steps, leave at stubs, and where a slat does not reach."""
    for words in sorted(layout.words, key=lambda words: not words.alarm):
        role = Role.ALARM if words.alarm else Role.COUNT
        least = "" if words.notch else words.short.partition(" ")[0]
        counts = (words.text, words.short, least)
        yield _Wanted(words, role, words.x, words.y, counts, words.room, slide=60, whole=True)
    for stub in layout.stubs:
        if stub.captioned and stub.text:
            counts = (stub.text, stub.short, stub.short.partition(" ")[0])
            at = stub.end[0] + 8
            yield _Wanted(stub, Role.STUB, at, stub.end[1], counts, stub.room, left=True, whole=True)
    for tie in layout.ties:
        if tie.said and not tie.step:
            yield _Wanted(tie, Role.ALARM, tie.x - 12, tie.y + 19, (tie.said,), 260, slide=150)


def _share(said: str) -> str:
    """The percentage that a detail begins with, "" if it does not."""
    number, _, rest = said.partition(" %")
    return f"{number} %" if rest and number.replace(".", "").isdecimal() else ""


def _standing(layout: Layout) -> Iterator[QRectF]:
    """What captions never cover: knots, beads, stubs, slats and the ends of rails."""
    for knot in layout.knots:
        yield QRectF(knot.x - KNOT_WIDTH / 2, knot.top, KNOT_WIDTH, knot.height)
    for bead in layout.beads:
        yield QRectF(bead.x - BEAD, bead.y - BEAD, 2 * BEAD, 2 * BEAD)
    for tie in layout.ties:
        yield QRectF(tie.x - 8, tie.y - 8, 16, 16)
    for slat in layout.slats:
        yield QRectF(slat.x - 1, slat.top + 2 * _BOX, 2, slat.bottom - slat.top - 2 * _BOX)
    for end in layout.ends:
        yield QRectF(end.x - 2, end.y - 12, 4, 24)
    for stub in layout.stubs:
        yield _box(stub.start, stub.end)


def _bends(layout: Layout) -> Iterator[QRectF]:
    """Where rails run from lane to lane: words stand beside them where they can."""
    for rail in layout.rails:
        if not rail.is_level:
            for start, end in pairwise(_bend(rail)):
                yield _box(start, end).adjusted(-rail.thickness / 2, 0, rail.thickness / 2, 0)


def _bend(rail: Rail) -> Iterator[Point]:
    """Points along the turn of a rail."""
    left, right, _ = rail.level_part
    begin, end = (rail.start[0], left) if rail.turns_early else (right, rail.end[0])
    for n in range(_STEPS_OF_BEND + 1):
        way = n / _STEPS_OF_BEND
        eased = way * way * (3 - 2 * way)
        yield begin + (end - begin) * way, rail.start[1] + (rail.end[1] - rail.start[1]) * eased


def _box(start: Point, end: Point) -> QRectF:
    return QRectF(
        min(start[0], end[0]),
        min(start[1], end[1]) - 1,
        abs(end[0] - start[0]),
        abs(end[1] - start[1]) + 2,
    )


def _placed(wanted: _Wanted, others: Sequence[QRectF], width: float) -> Caption | None:
    """The words in the longest form that is clear of the others; None if none is."""
    notched = isinstance(wanted.of, Words) and wanted.of.notch
    half = _BOX if wanted.role is Role.SLAT else _HALF - 1 if notched else _HALF
    left, right = _free(wanted.x, wanted.y, half, others, width, wanted.left)
    room = min(right - left, wanted.room)
    metrics = QFontMetrics(wanted.role.font)
    for words in wanted.forms:
        form = elided(metrics, words, Qt.TextElideMode.ElideMiddle, _WHOLE)
        needed = metrics.horizontalAdvance(form) + 1 + (NOTCH if notched else 0)
        # A number may use the gap; only the sign of a guard stands there whatever room there is.
        least = NOTCH if notched else min(room + _GAP, NOTCH)
        if (form or notched) and needed <= max(room, least):
            return _standing_at(wanted, form, needed, left, right, half)
    if wanted.whole or room < _LEAST or not wanted.forms[0]:
        return None
    cut = Qt.TextElideMode.ElideMiddle if wanted.role is Role.NAME else Qt.TextElideMode.ElideRight
    form = elided(metrics, wanted.forms[0], cut, int(room - 1))
    return _standing_at(wanted, form, metrics.horizontalAdvance(form) + 1, left, right, half)


def _standing_at(
    wanted: _Wanted, form: str, needed: float, left: float, right: float, half: float
) -> Caption | None:
    at = wanted.x
    if not wanted.left:
        at = min(max(wanted.x - needed / 2, left), right - needed)
        if abs(at + needed / 2 - wanted.x) > wanted.slide + 1 and wanted.slide < needed:
            return None
    return Caption(wanted.of, wanted.role, form, QRectF(at, wanted.y - half, needed, 2 * half))


def _free(
    x: float, y: float, half: float, others: Sequence[QRectF], width: float, begins: bool
) -> tuple[float, float]:
    """From where to where nothing else stands at this height around x."""
    left, right = MARGIN_WIDTH + 4.0, width - 2.0
    for rect in others:
        if rect.bottom() <= y - half or rect.top() >= y + half:
            continue
        if (rect.center().x() > x) if not begins else (rect.right() > x):
            right = min(right, rect.left() - _GAP)
        else:
            left = max(left, rect.right() + _GAP)
    return (x, right) if begins else (left, right)


def _widened(caption: Caption, found: Sequence[Caption], hard: Sequence[QRectF], layout: Layout) -> Caption:
    """A caption that was shortened for its share of the room, longer where its neighbours left some."""
    bead = caption.of
    if not isinstance(bead, Bead) or "…" not in caption.text:
        return caption
    others = [*hard, *(entry.rect for entry in found if entry is not caption)]
    wanted = _Wanted(bead, caption.role, bead.x, bead.y - 18, (bead.name,), 2 * bead.room)
    return _placed(wanted, others, layout.width) or caption
