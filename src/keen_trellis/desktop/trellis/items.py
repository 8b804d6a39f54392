"""What of the trellis can be picked, walked to and dropped on, with the words that name it."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QPointF, QRectF

from keen_trellis.desktop.trellis.shapes import (
    BEAD,
    FOLD,
    KNOT_WIDTH,
    LINE,
    MARGIN_WIDTH,
    OF_RAIL,
    Knot,
    Layout,
)
from keen_trellis.session.selection import Selection

_LANE = 24
TABLES = "tables of a file"
# What a mouse does with each, in its tooltip.
_DOES = {
    "rail": "drag it onto other rows to join, blend or stack them; a right click lists what can be done",
    "step": "drag it along its rail to move it; a double click leads to its sentence",
    "stub": "rows that leave here; drag it to carry them on",
    "output": "F9 writes it",
    "run value": "a double click changes it; each run may set it anew",
    "table": "a double click starts a rail with it; drag it onto a rail to join the two",
    "tie": "the shared filter reaches this rail here",
    "open ring": "the shared filter does not reach this rail; a click asks for a field to tie it to",
    "shared filter": "a click shows its values, and what it leaves of each rail",
}


class Item(msgspec.Struct, frozen=True):
    """Something in the trellis that can be picked.

    role: what it is, in a word.  part: of a knot.  draggable: it can be led to another rail.  target: another
    rail can be dropped on it.  lane: the height of the lane that it stands on, where that is not its middle.
    """

    rect: QRectF
    selection: Selection
    text: str
    role: str
    part: str = ""
    draggable: bool = False
    target: bool = False
    lane: float | None = None

    @property
    def tip(self) -> str:
        """What it is, and what can be done with it."""
        does = _DOES.get(self.role, "")
        return f"{self.text}{does and f': {does}'}"

    @property
    def place(self) -> QPointF:
        """Where it stands for arrow keys."""
        middle = self.rect.center()
        return middle if self.lane is None else QPointF(middle.x(), self.lane)


def items_of(layout: Layout) -> list[Item]:
    """Everything that can be picked, in reading order."""
    return [*_margin_items(layout), *_rail_items(layout), *_step_items(layout), *_slat_items(layout)]


def _margin_items(layout: Layout) -> list[Item]:
    found = []
    for value in layout.values:
        rect = QRectF(4, value.y, MARGIN_WIDTH - 8, LINE - 2)
        found.append(Item(rect, value.selection, f"{value.name} is {value.text}", "run value"))
    for head in layout.heads:
        rect = QRectF(4, head.y - _LANE / 2, MARGIN_WIDTH - 8, _LANE)
        found.append(Item(rect, head.selection, head.name, "rail", draggable=True, target=True))
    for line in layout.files:
        rect = QRectF(4, line.y, MARGIN_WIDTH - 8, LINE - 2)
        if line.alarm:
            found.append(Item(rect, Selection(path=line.path), f"{line.text}: {line.alarm}", "file"))
        elif line.more:
            does = "fold its unused tables away" if line.more == FOLD else f"list {line.more}"
            found.append(Item(rect, Selection(path=line.path), f"{line.text}: {does}", TABLES))
    for stump in layout.stumps:
        rect = QRectF(4, stump.y - LINE / 2, MARGIN_WIDTH - 8, LINE)
        found.append(Item(rect, stump.selection, stump.name, "table", draggable=True, target=True))
    return found


def _rail_items(layout: Layout) -> list[Item]:
    names = {head.selection.step: head.name for head in layout.heads}
    names |= {knot.step: knot.caption for knot in layout.knots}
    names |= {bead.step: bead.name for bead in layout.beads}
    names |= {tie.step: tie.said for tie in layout.ties if tie.step}
    found = []
    for rail in layout.rails:
        grip = max(rail.thickness / 2, 8)
        left, right, y = rail.level_part
        rect = QRectF(left + 2, y - grip, max(right - left - 4, 8), 2 * grip)
        text = names.get(rail.selection.step, rail.selection.step)
        found.append(Item(rect, rail.selection, text, "rail", draggable=True, target=True))
    return found


def _step_items(layout: Layout) -> list[Item]:
    found: list[Item] = []
    for knot in layout.knots:
        found.extend(_knot_items(knot))
    for bead in layout.beads:
        rect = QRectF(bead.x - BEAD - 6, bead.y - BEAD - 6, 2 * BEAD + 12, 2 * BEAD + 12)
        found.append(Item(rect, Selection(bead.step), bead.name, "step", draggable=True, target=True))
    for stub in layout.stubs:
        if stub.selection is not None:
            rect = QRectF(stub.start[0] + 4, stub.end[1] - 10, 240 if stub.captioned else 16, 20)
            found.append(Item(rect, stub.selection, stub.text, "stub", draggable=True, target=True))
    for end in layout.ends:
        rect = QRectF(end.x - 6, end.y - 18, 160, 36)
        found.append(Item(rect, end.selection, end.name, "output"))
    return found


def _knot_items(knot: Knot) -> list[Item]:
    selection = Selection(knot.step)
    if not knot.parts or knot.parts[0].name.startswith(OF_RAIL):
        rect = QRectF(knot.x - KNOT_WIDTH / 2, knot.top, KNOT_WIDTH, knot.height)
        return [Item(rect, selection, knot.caption, "knot", part="whole", lane=knot.y)]
    found = []
    for part in knot.parts:
        rect = QRectF(knot.x - KNOT_WIDTH / 2, part.top - 1, KNOT_WIDTH, part.bottom - part.top + 2)
        found.append(Item(rect, selection, part.said, "knot", part=part.name, lane=knot.y))
    return found


def _slat_items(layout: Layout) -> list[Item]:
    found = []
    for slat in layout.slats:
        rect = QRectF(slat.x - slat.room / 2, slat.top, slat.room, 22)
        found.append(Item(rect, slat.selection, slat.text, "shared filter"))
    for tie in layout.ties:
        rect = QRectF(tie.x - 11, tie.y - 11, 22, 22)
        if tie.step:
            found.append(Item(rect, Selection(tie.step), tie.said, "tie", draggable=True, target=True))
        else:
            said = tie.said or "not tied to this rail"
            found.append(Item(rect, Selection(slat=tie.slat), said, "open ring", part=tie.source))
    return found
