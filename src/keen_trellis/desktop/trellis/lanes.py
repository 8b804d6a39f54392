"""Which steps share a lane, and in which order the lanes lie so that rails seldom cross.

A lane begins at a source, at a branch, or at a stub, and runs on through the first inputs of steps. Knows no
pixels and no document.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from keen_trellis.flow.graph import ROWS, Flow, Input, Step

# Orders are tried by moving one file or rail at a time, so often at most.
_ROUNDS = 6


@dataclass
class Lane:
    """One lane. source: the step at whose head it lies, "" where that is lost.  off: where it branches off,
    None at a head.
    """

    source: str
    off: Input | None = None
    steps: list[str] = field(default_factory=list)


def lanes_of(flow: Flow, ends: Callable[[Step], bool], knots: Callable[[Step], bool]) -> list[Lane]:
    """The lanes of a flow, those that branch off right behind the one they leave."""
    heirs = {step.id: _heir(flow, step.id, ends, knots) for step in flow.steps}
    of_step: dict[str, Lane] = {}
    found: list[Lane] = []
    for step in flow.in_order():
        first = step.inputs[0] if step.inputs else None
        before = of_step.get(first.step) if first is not None else None
        if first is not None and before is not None and first.port == ROWS and heirs[first.step] == step.id:
            lane = before
        else:
            lane = Lane(before.source if before else step.id if first is None else "", first)
            _put(found, lane, before)
        lane.steps.append(step.id)
        of_step[step.id] = lane
    return found


def _put(lanes: list[Lane], lane: Lane, parent: Lane | None) -> None:
    """Put a lane behind its parent and what branched off that before."""
    if parent is None:
        lanes.append(lane)
        return
    place = next(n for n, entry in enumerate(lanes) if entry is parent) + 1
    while place < len(lanes) and lanes[place].off is not None and lanes[place].source == parent.source:
        place += 1
    lanes.insert(place, lane)


def _heir(flow: Flow, step_id: str, ends: Callable[[Step], bool], knots: Callable[[Step], bool]) -> str:
    """Which of the steps that take a step's rows first stands on its lane: a knot rather than an output."""
    takers = [step for step in flow.consumers(step_id) if step.inputs[0] == Input(step_id)]
    best = min(takers, key=lambda step: (ends(step), not knots(step)), default=None)
    return best.id if best is not None else ""


def arranged(
    groups: Sequence[Sequence[str]], lanes: Sequence[Lane], flow: Flow, levels: Mapping[str, int]
) -> list[list[str]]:
    """The sources of each file in an order with fewer crossings; the given one where that is as good.

    groups: the source steps of each file, files without any as empty ones.  levels: the column of each step.
    Only moves of one file, or of one source within its file, that make it better are taken, so that what does
    not cross stays where it was.
    """
    best = [list(group) for group in groups]
    crossing = _Crossings(lanes, flow, levels)
    least = crossing.count(best)
    for _ in range(_ROUNDS):
        if not least:
            break
        before = least
        for changed in _moves(best):
            count = crossing.count(changed)
            if count < least:
                best, least = changed, count
                break
        if least == before:
            break
    return best


def _moves(groups: list[list[str]]) -> list[list[list[str]]]:
    """All orders that differ by one file, or one source in its file, at another place."""
    moved = []
    used = [n for n, group in enumerate(groups) if group]
    for old in used:
        for new in used:
            if new != old:
                order = [group for n, group in enumerate(groups) if n != old]
                order.insert(new, groups[old])
                moved.append(order)
    for number, group in enumerate(groups):
        for old in range(len(group)):
            for new in range(len(group)):
                if new != old:
                    inner = [entry for n, entry in enumerate(group) if n != old]
                    inner.insert(new, group[old])
                    moved.append([inner if n == number else entry for n, entry in enumerate(groups)])
    return moved


class _Crossings:
    """Counts how often rails would cross lanes, and how often one would come from above to its knot."""

    def __init__(self, lanes: Sequence[Lane], flow: Flow, levels: Mapping[str, int]) -> None:
        of_step = {step: n for n, lane in enumerate(lanes) for step in lane.steps}
        self._lanes = lanes
        # Where each lane ends: at its last step, or at the knot that it leads into.
        self._reach = [max(levels[step] for step in lane.steps) for lane in lanes]
        self._begin = [levels[lane.steps[0]] - 1 if lane.off else 0 for lane in lanes]
        self._bends: list[tuple[int, int, int]] = []
        for step in flow.steps:
            for place, entry in enumerate(step.inputs):
                one, other = of_step.get(entry.step), of_step.get(step.id)
                if one is None or other is None or one == other:
                    continue
                self._bends.append((one, other, levels[step.id] if place else levels[entry.step]))
                if place:
                    self._reach[one] = max(self._reach[one], levels[step.id])

    def count(self, groups: Sequence[Sequence[str]]) -> int:
        order = {source: n for n, source in enumerate(entry for group in groups for entry in group)}
        last = len(order)
        rows = sorted(range(len(self._lanes)), key=lambda n: (order.get(self._lanes[n].source, last), n))
        place = {lane: n for n, lane in enumerate(rows)}
        crossings = 0
        for one, other, level in self._bends:
            low, high = sorted((place[one], place[other]))
            between = rows[low + 1 : high]
            crossings += sum(self._begin[lane] < level < self._reach[lane] for lane in between)
            # It would run through the knot's caption.
            crossings += place[one] < place[other] and self._lanes[other].off is None
        return crossings
