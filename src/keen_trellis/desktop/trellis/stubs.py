"""Stubs: what a knot leaves out, and what of it a rail carries on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from keen_trellis.desktop.trellis.knots import Cut
from keen_trellis.desktop.trellis.places import END_ROOM, Places
from keen_trellis.desktop.trellis.shapes import KNOT_WIDTH, Part, Stub
from keen_trellis.flow.graph import ROWS, Input, Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.selection import Selection

STUB = 48
_BEFORE_KNOT = 20
_SHORT = 14


def lay_stubs(
    places: Places,
    step: Step,
    x: float,
    y: float,
    shown: Cut,
    parts: Sequence[Part],
    hues: Mapping[str, int | None],
) -> None:
    """A stub for each part that is left out and not empty, and for each that a rail carries on."""
    stubs = dict(shown.stubs)
    carried_on = places.ports_taken(step)
    # Where the next knot is near they end before it.
    length = max(min(STUB, _next_knot(places, step) - x - KNOT_WIDTH - 2), _SHORT)
    _stubs_without_part(places, step, x, parts, length)
    for part in parts:
        carried = part.name in carried_on
        if not carried and (part.kept or not part.rows or part.name not in stubs):
            continue
        start = (x + KNOT_WIDTH / 2, (part.top + part.bottom) / 2)
        end = (x + KNOT_WIDTH / 2 + length, y + places.stub_shift(Input(step.id, part.name)))
        text, short = stubs.get(part.name, ("", ""))
        # The next knot's second rail bends up in the last stretch before it.
        room = _next_knot(places, step) - end[0] - _BEFORE_KNOT if not places.low else 220
        selection = Selection(step.id, part.name) if part.apart else None
        # Where a rail carries it on, that says what it is.
        stub = Stub(selection, start, end, text, short, room, hues.get(part.name), not carried)
        places.layout.stubs.append(stub)


def _stubs_without_part(places: Places, step: Step, x: float, parts: Sequence[Part], length: float) -> None:
    """Stubs that rails carry on and that are no part of the knot: the rows passed over."""
    named = {part.name for part in parts} | {ROWS}
    for port in places.ports_taken(step) - named:
        bottom = max((part.bottom for part in parts), default=places.y[step.id])
        end = (x + KNOT_WIDTH / 2 + length, places.y[step.id] + places.stub_shift(Input(step.id, port)))
        start = (x + KNOT_WIDTH / 2, bottom)
        places.layout.stubs.append(Stub(Selection(step.id, port), start, end, "", "", 0, None, False))


def lay_short_stubs(
    places: Places, step: Step, x: float, y: float, parts: Sequence[Part], hues: Mapping[str, int | None]
) -> None:
    """On a low lane, the stubs that are carried on, without words."""
    taken = places.ports_taken(step)
    _stubs_without_part(places, step, x, parts, _SHORT)
    for part in parts:
        if part.name in taken:
            start = (x + KNOT_WIDTH / 2, (part.top + part.bottom) / 2)
            end = (x + KNOT_WIDTH / 2 + _SHORT, y + places.stub_shift(Input(step.id, part.name)))
            selection = Selection(step.id, part.name)
            stub = Stub(selection, start, end, "", "", 0, hues.get(part.name), captioned=False)
            places.layout.stubs.append(stub)


def _next_knot(places: Places, step: Step) -> float:
    """Where the next column with a knot is, or the outputs are."""
    columns = (places.x_of(entry) for entry in places.flow.steps if KINDS.is_knot(entry))
    return min((x for x in columns if x > places.x[step.id]), default=places.layout.width - END_ROOM / 2)
