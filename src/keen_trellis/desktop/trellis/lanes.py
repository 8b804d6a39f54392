"""Which steps share a lane, and in which order the lanes lie so that rails seldom cross.

A lane begins at a source, at a branch, or at a stub, and runs on through the first inputs of steps. Knows no
pixels and no session.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache

import msgspec

from keen_trellis.flow.graph import ROWS, Flow, Input, Step

# So many moves that make it better are taken at most.
_ROUNDS = 24


# The source steps of each file, in the order of the files.
Groups = tuple[tuple[str, ...], ...]


class Lane(msgspec.Struct):
    """One lane. source: the step at whose head it lies, "" where that is lost.  off: where it branches off,
    None at a head.
    """

    source: str
    off: Input | None = None
    steps: list[str] = msgspec.field(default_factory=list)


def lanes_of(flow: Flow, ends: Callable[[Step], bool], knots: Callable[[Step], bool]) -> list[Lane]:
    """The lanes of a flow, those that branch off right behind the one they leave."""
    takers: dict[str, list[Step]] = {}
    for step in flow.steps:
        if step.inputs and step.inputs[0].port == ROWS:
            takers.setdefault(step.inputs[0].step, []).append(step)
    # A knot stands on the lane of its first rail rather than an output.
    heirs = {
        before: min(steps, key=lambda step: (ends(step), not knots(step))).id
        for before, steps in takers.items()
    }
    of_step: dict[str, Lane] = {}
    found: list[Lane] = []
    for step in flow.in_order():
        first = step.inputs[0] if step.inputs else None
        before = of_step.get(first.step) if first is not None else None
        if (
            first is not None
            and before is not None
            and first.port == ROWS
            and heirs.get(first.step) == step.id
        ):
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


class Arrangement(msgspec.Struct, frozen=True):
    """An order of the sources, by file, how often rails cross in it, and which rails meet which."""

    groups: Groups = ()
    crossings: int = 0
    meetings: frozenset[tuple[str, str]] = frozenset()


def arranged(groups: Groups, flow: Flow, lanes: Sequence[Lane], before: Arrangement) -> Arrangement:
    """The sources of each file in an order with fewer crossings; the one from before where that is as good.

    groups: the source steps of each file, files without any as empty ones. What did not change stays where it
    was: as long as no rail is new, and none that meets another makes rails cross, the order is kept.
    Otherwise the order in which rails are read from their ends, and moves of one file, or of one source in
    its file, are taken where they make it better.
    """
    return _arranged(
        groups,
        tuple((step.id, step.inputs) for step in flow.steps),
        tuple((lane.source, lane.off, tuple(lane.steps)) for lane in lanes),
        before,
    )


def _as_before(groups: Groups, before: Arrangement) -> Groups:
    """The groups in the order from before; what is new stands where it was given."""
    place = {source: n for n, source in enumerate(entry for group in before.groups for entry in group)}
    if not place:
        return groups
    last = len(place)
    inner = [tuple(sorted(group, key=lambda source: place.get(source, last))) for group in groups]
    used = [group for group in inner if group]
    used.sort(key=lambda group: min(place.get(source, last) for source in group))
    ordered = iter(used)
    return tuple(next(ordered) if group else group for group in inner)


@lru_cache(maxsize=8)
def _arranged(
    groups: Groups,
    inputs: tuple[tuple[str, tuple[Input, ...]], ...],
    lanes: tuple[tuple[str, Input | None, tuple[str, ...]], ...],
    before: Arrangement,
) -> Arrangement:
    """Kept, because it is asked for at every painting and depends on the flow's shape only."""
    by_step = dict(inputs)
    levels: dict[str, int] = {}
    _levels(by_step, levels)
    crossing = _Crossings([Lane(source, off, list(steps)) for source, off, steps in lanes], by_step, levels)
    best = _as_before(groups, before)
    least = crossing.count(best)
    known = {source for group in before.groups for source in group}
    meetings = crossing.meetings
    kept = known.issuperset(source for group in groups for source in group)
    if kept and (least <= before.crossings or meetings <= before.meetings):
        return Arrangement(best, least, meetings)
    read = _as_read(best, by_step)
    if crossing.count(read) < least:
        best, least = read, crossing.count(read)
    for _ in range(_ROUNDS):
        better = next((moved for moved in _moves(best) if crossing.count(moved) < least), None)
        if better is None:
            break
        best, least = better, crossing.count(better)
    return Arrangement(best, least, meetings)


def _levels(inputs: Mapping[str, tuple[Input, ...]], levels: dict[str, int]) -> None:
    """How many steps stand before each one on its longest way."""
    waiting = list(inputs)
    while waiting:
        step = waiting.pop(0)
        known = [entry.step for entry in inputs[step] if entry.step in inputs]
        if all(entry in levels for entry in known):
            levels[step] = max((levels[entry] for entry in known), default=-1) + 1
        else:
            waiting.append(step)


def _as_read(groups: Groups, inputs: Mapping[str, tuple[Input, ...]]) -> Groups:
    """The order in which sources are met when every end is read back to them, first inputs first."""
    taken = {entry.step for entries in inputs.values() for entry in entries}
    place: dict[str, int] = {}
    seen: set[str] = set()
    waiting = [step for step in reversed(list(inputs)) if step not in taken]
    while waiting:
        step = waiting.pop()
        if step in seen or step not in inputs:
            continue
        seen.add(step)
        if not inputs[step]:
            place[step] = len(place)
        waiting.extend(entry.step for entry in reversed(inputs[step]))
    last = len(place)
    inner = [tuple(sorted(group, key=lambda source: place.get(source, last))) for group in groups]
    used = sorted((group for group in inner if group), key=lambda group: place.get(group[0], last))
    ordered = iter(used)
    return tuple(next(ordered) if group else group for group in inner)


def _moves(groups: Groups) -> Iterator[Groups]:
    """All orders that differ by one file, or one source in its file, at another place."""
    used = [n for n, group in enumerate(groups) if group]
    for old in used:
        for new in used:
            if new != old:
                order = [group for n, group in enumerate(groups) if n != old]
                order.insert(new, groups[old])
                yield tuple(order)
    for number, group in enumerate(groups):
        for old in range(len(group)):
            for new in range(len(group)):
                if new != old:
                    inner = [entry for n, entry in enumerate(group) if n != old]
                    inner.insert(new, group[old])
                    yield tuple(tuple(inner) if n == number else entry for n, entry in enumerate(groups))


class _Crossings:
    """Counts how often rails would cross lanes, and how often one would come from above to its knot."""

    def __init__(
        self, lanes: Sequence[Lane], inputs: Mapping[str, tuple[Input, ...]], levels: Mapping[str, int]
    ) -> None:
        of_step = {step: n for n, lane in enumerate(lanes) for step in lane.steps}
        self._lanes = lanes
        # Where each lane ends: at its last step, or at the knot that it leads into.
        self._reach = [max(levels[step] for step in lane.steps) for lane in lanes]
        self._begin = [levels[lane.steps[0]] - 1 if lane.off else 0 for lane in lanes]
        self._bends: list[tuple[int, int, int]] = []
        meetings: set[tuple[str, str]] = set()
        for step, entries in inputs.items():
            for place, entry in enumerate(entries):
                one, other = of_step.get(entry.step), of_step.get(step)
                if one is None or other is None or one == other:
                    continue
                self._bends.append((one, other, levels[step] if place else levels[entry.step]))
                meetings.add((lanes[one].source, lanes[other].source))
                if place:
                    self._reach[one] = max(self._reach[one], levels[step])

        self.meetings = frozenset(meetings)

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
