"""Where lanes and columns are, and how much room things have."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from keen_trellis.desktop.marks import Mark, marks_of
from keen_trellis.desktop.trellis.knots import PLAIN, Cut, Cutting, cut
from keen_trellis.desktop.trellis.lanes import Arrangement, Lane, arranged, lanes_of
from keen_trellis.desktop.trellis.shapes import MARGIN_WIDTH, Layout
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.shared_filter import tie_of
from keen_trellis.flow.steps.source import sampled
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

# With more steps than this the lanes are low, but for the one where the selection is.
MOST_ROOMY = 16
END_ROOM = 176
_MOST_WIDENED = 2.2
_HEAD_ROOM = 26  # for the labels of slats
# How far below a knot's rail the first stub ends, and each further one below that.
_FIRST_STUB, _NEXT_STUB = 38.0, 17.0
_UPPER_STUB = -24.0
_LOW_STUB, _NEXT_LOW_STUB = 9.0, 4.0
_BEHIND_STUBS = 11.0
_CAPTION = 34.0  # the two lines above a knot


class _Sizes(msgspec.Struct, frozen=True):
    """How much room things want. above, below: from the middle of a lane with a knot, a bead, nothing."""

    column: float
    bead_room: float
    slat_room: float
    bend: float
    knot_above: float
    knot_height: float
    of_knot: tuple[float, float]
    of_bead: tuple[float, float]
    of_rail: tuple[float, float]


ROOMY = _Sizes(128, 92, 96, 110, 18, 58, (50, 44), (28, 28), (12, 12))
LOW = _Sizes(58, 46, 52, 40, 13, 26, (15, 15), (13, 13), (12, 12))


def of_sample(count: str) -> str:
    """A count of what is made of a sample."""
    return f"{count} of a sample" if count else count


class Places:
    """What the parts of the trellis are laid out by: the flow with who takes what, lanes, columns and sizes.

    layout: what has been laid out so far.  x, y: of the steps placed so far.  clear_from: below what stands.
    """

    def __init__(
        self, session: Session, width: float, before: Arrangement, cuttings: Mapping[str, Cutting]
    ) -> None:
        self.session = session
        self._cuttings = cuttings
        self.flow: Flow = session.flow
        self.marks: Mapping[str, Mark] = marks_of(self.flow)
        self.sources = session.sources()
        # The steps whose rows are not all that there would be, since a source is a sample.
        self.on_samples = self.flow.downstream(sampled(self.sources))
        self.takers: dict[str, list[tuple[Step, int, Input]]] = {}
        for step in self.flow.steps:
            for place, entry in enumerate(step.inputs):
                self.takers.setdefault(entry.step, []).append((step, place, entry))
        self.layout = Layout()
        self.low = len(self.flow.steps) > MOST_ROOMY
        self.size = LOW if self.low else ROOMY
        self.lanes = lanes_of(self.flow, KINDS.ends_rail, KINDS.is_knot)
        self.lane_of = {step: lane for lane in self.lanes for step in lane.steps}
        self.depth = _depths(self.flow)
        self.files, self.by_file = self._arrange(before)
        self.y: dict[str, float] = {}  # by step
        self.x: dict[str, float] = {}
        self._cuts: dict[str, Cut] = {}
        self._lower: dict[str, tuple[str, ...]] = {}
        self.clear_from = _HEAD_ROOM if self.flow.filters else 0.0  # what stands above ends here
        self._place_levels(width)

    def _arrange(self, before: Arrangement) -> tuple[list[str], dict[str, list[str]]]:
        """The files of the margin and the sources in each, in an order with few crossings."""
        files = self.session.margin.paths()
        groups = []
        for path in files:
            state = self.session.margin.files.get(path)
            tables = [entry.name for entry in state.content.tables] if state and state.content else []
            used = [step for step, settings in self.sources.items() if settings.path == path]
            groups.append(sorted(used, key=lambda step: place_in(tables, self.sources[step].table)))
        kept = arranged(tuple(map(tuple, groups)), self.flow, self.lanes, before)
        self.layout.arrangement, found = kept, kept.groups
        order = {source: n for n, group in enumerate(found) for source in group}
        by_file: dict[str, list[str]] = {}
        place: dict[str, tuple[int, bool, int]] = {}
        stood = -1
        for number, (path, group) in enumerate(zip(files, groups, strict=True)):
            # A file that no rail begins in stays behind the one that it stood behind.
            if group:
                stood = order[group[0]]
                by_file[path] = list(found[stood])
            place[path] = (stood, not group, number)
        return sorted(files, key=place.__getitem__), by_file

    def _place_levels(self, width: float) -> None:
        """Where the steps of each depth stand: beads want less room than knots."""
        steps = [step for step in self.flow.steps if not KINDS.ends_rail(step)]
        knots = {self.depth[step.id] for step in steps if KINDS.is_knot(step)}
        ties = {self.depth[step.id] for step in steps if tie_of(step)} - knots
        beads = {self.depth[step.id] for step in steps if KINDS.on_rail(step)} - knots - ties
        size = self.size
        least = MARGIN_WIDTH + size.column * (len(knots) + 1) + END_ROOM
        self.layout.least_width = least + size.bead_room * len(beads) + size.slat_room * len(ties)
        given = size.bead_room * len(beads) + size.slat_room * len(ties)
        room = width - MARGIN_WIDTH - END_ROOM - given
        self.column = max(size.column, room / (len(knots) + 1))
        if self.low:
            # What room there is, is shared out to all columns, up to what they want on roomy lanes.
            wanted = given + size.column * (len(knots) + 1)
            wider = max(min((width - MARGIN_WIDTH - END_ROOM) / wanted, _MOST_WIDENED), 1.0)
            size = msgspec.structs.replace(
                size,
                column=size.column * wider,
                bead_room=size.bead_room * wider,
                slat_room=size.slat_room * wider,
                bend=size.bend * wider,
            )
            self.size, self.column = size, size.column
        self.level = [float(MARGIN_WIDTH)]
        for level in range(1, max(knots | ties | beads, default=0) + 1):
            step = size.slat_room if level in ties else size.bead_room if level in beads else self.column
            self.level.append(self.level[-1] + step)
        self.layout.width = max(width, self.layout.least_width)

    def place_lane(self, lane: Lane, at_least: float) -> float:
        """Put a lane below what stands already; the height of its middle."""
        above, below = self._room_of(lane)
        middle = max(at_least, self.clear_from + above)
        self.clear_from = middle + below
        for step in lane.steps:
            self.y[step] = middle
        return middle

    def _room_of(self, lane: Lane) -> tuple[float, float]:
        size = ROOMY if self.is_open(lane) else LOW
        steps = [self.flow.step(step) for step in lane.steps]
        knots = [step for step in steps if KINDS.is_knot(step)]
        if knots:
            if size is not ROOMY:
                above, below = size.of_knot
                stubs = max(len(self._lower_stubs(step)) for step in knots)
                above += _CAPTION if any(map(self._begins_trouble, knots)) else 0
                return above, max(below, _LOW_STUB + _NEXT_LOW_STUB * stubs)
            stubs = max(len(self._lower_stubs(step)) for step in knots)
            below = _FIRST_STUB + _NEXT_STUB * (stubs - 1) + _BEHIND_STUBS
            return size.of_knot[0], max(size.of_knot[1], below)
        ends = any(KINDS.ends_rail(step) for step in steps)
        beads = any(KINDS.on_rail(step) for step in steps)
        return (20, 20) if ends and not beads else size.of_bead if beads else size.of_rail

    def is_open(self, lane: Lane) -> bool:
        return not self.low or self.session.selection.step in lane.steps

    def captioned(self, step: Step) -> bool:
        """Whether the words of a step are shown: on a low lane only if selected, or where trouble begins."""
        return not self.low or self.session.selection.step == step.id or self._begins_trouble(step)

    def _begins_trouble(self, step: Step) -> bool:
        """Whether a step cannot be computed though all before it could."""
        return self._fails(step.id) and not any(self._fails(entry.step) for entry in step.inputs)

    def _fails(self, step: str) -> bool:
        outcome = self.session.outcome(step)
        return outcome is not None and outcome.error is not None

    def hue(self, entry: Input) -> int | None:
        """The hue of the rail at a port: that of its source, as long as no knot is on the way."""
        step = self.flow.find(entry.step)
        while step is not None and entry.port == ROWS and KINDS.on_rail(step) and step.inputs:
            entry = step.inputs[0]
            step = self.flow.find(entry.step)
        mark = self.marks.get(entry.step) if step is not None and entry.port == ROWS else None
        return mark.hue if mark else None

    def cutting(self, step: Step) -> Cutting:
        """What is known of how the knots of a step's kind are drawn."""
        return self._cuttings.get(step.kind, PLAIN)

    def stub_shift(self, entry: Input) -> float:
        """A rail carried on from a stub runs where the stub ends."""
        step = self.flow.find(entry.step)
        if entry.port == ROWS or step is None or step.id not in self.lane_of:
            return 0.0
        lower = self._lower_stubs(step)
        if not self.is_open(self.lane_of[step.id]) or not self.captioned(step):
            return _LOW_STUB + _NEXT_LOW_STUB * lower.index(entry.port) if entry.port in lower else -_LOW_STUB
        if entry.port in lower:
            return _FIRST_STUB + _NEXT_STUB * lower.index(entry.port)
        return _UPPER_STUB

    def _lower_stubs(self, step: Step) -> tuple[str, ...]:
        """The ports of a knot whose stubs end below its rail, from the top; asked as its lane is placed.

        One that leaves upwards ends below, too, where all that carry it on lie there: it would cross the
        knot's own rail otherwise.
        """
        if step.id not in self._lower:
            shown, upwards = self.cut_of(step), self.cutting(step).upwards
            taken, said = self.ports_taken(step), dict(shown.stubs)
            ports = [
                part.name
                for part in shown.parts
                if part.name in taken or (not part.kept and part.rows and part.name in said)
            ]
            ports += sorted(taken - {ROWS, *ports})
            above = {
                entry.port
                for taker, _, entry in self.takers.get(step.id, [])
                if entry.port == upwards and taker.id in self.y
            }
            if upwards not in taken:
                above = {upwards}
            self._lower[step.id] = tuple(port for port in ports if port not in above)
        return self._lower[step.id]

    def cut_of(self, step: Step) -> Cut:
        """How the bar of a knot is cut."""
        if step.id not in self._cuts:
            shown = cut(step, self.session.outcome(step.id), self.cutting(step))
            if step.id in self.on_samples:
                # No count of a part is taken for one of the whole.
                shown = msgspec.structs.replace(
                    shown, detail=f"{shown.detail} · sample", counted=of_sample(shown.counted)
                )
            self._cuts[step.id] = shown
        return self._cuts[step.id]

    def ports_taken(self, step: Step) -> set[str]:
        """The ports of a step that rails carry on."""
        return {entry.port for _, _, entry in self.takers.get(step.id, [])}

    def x_of(self, step: Step) -> float:
        """Where the column of a step is."""
        return self.level[min(self.depth[step.id], len(self.level) - 1)]


def _depths(flow: Flow) -> dict[str, int]:
    """The column of each step: behind all that it takes rows from; ties of one slat stand in one column."""
    least: dict[str, int] = {}
    depth: dict[str, int] = {}
    steps = list(flow.in_order())
    for _ in range(len(flow.filters) + 2):
        for step in steps:
            below = [depth[entry.step] for entry in step.inputs if entry.step in depth]
            depth[step.id] = max(max(below, default=-1) + 1, least.get(step.id, 0), 1 if step.inputs else 0)
        before = dict(least)
        for shared in flow.filters:
            ties = [step.id for step in steps if tie_of(step) == shared.id]
            column = max((depth[step] for step in ties), default=0)
            # One that stands behind another one of the same slat keeps its own column.
            alone = [
                step
                for step in ties
                if not any(other in flow.upstream(step) for other in ties if other != step)
            ]
            if len(alone) == len(ties):
                least |= dict.fromkeys(ties, column)
        if least == before:
            break
    return depth


def place_in(tables: list[str], table: str) -> int:
    return tables.index(table) if table in tables else len(tables)


def rows_at(outcome: Outcome | None, port: str = ROWS) -> int:
    return outcome.figures.rows.get(port, -1) if outcome is not None and outcome.figures is not None else -1
