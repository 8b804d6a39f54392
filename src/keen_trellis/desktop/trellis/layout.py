"""Where everything in the trellis stands: lanes, columns, sizes and words, computed from the flow.

Knows no painter.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.marks import Mark, marks_of
from keen_trellis.desktop.trellis.knots import Cut, Cutting, cut, sized
from keen_trellis.desktop.trellis.lanes import Arrangement, Lane, arranged, lanes_of
from keen_trellis.desktop.trellis.shapes import (
    BEAD,
    KNOT_WIDTH,
    LINE,
    MARGIN_WIDTH,
    MATCHED_PART,
    Bead,
    End,
    FileLine,
    Head,
    Knot,
    Layout,
    Part,
    Point,
    Rail,
    Slat,
    Stub,
    Stump,
    Tie,
    Words,
)
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.shared_filters import feeds_blend, filter_said, unreached
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import FOUND_NOTHING, unused_number
from keen_trellis.flow.steps.join import PASSED_OVER, UNMATCHED_LEFT
from keen_trellis.flow.steps.shared_filter import tie_of
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.locations import TYPED

# With more steps than this the lanes are low, but for the one where the selection is.
MOST_ROOMY = 16
_END_ROOM = 176
_MOST_STUMPS = 6
_STUB = 48
_MOST_WIDENED = 2.2
_BEFORE_KNOT = 90
_HEAD_ROOM = 30  # for the labels of slats


@dataclass(frozen=True)
class _Sizes:
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


_ROOMY = _Sizes(150, 104, 104, 130, 24, 80, (62, 66), (32, 30), (16, 16))
_LOW = _Sizes(58, 46, 52, 40, 13, 26, (15, 15), (13, 13), (13, 13))


class _Planner:
    def __init__(
        self, session: Session, width: float, before: Arrangement, cuttings: Mapping[str, Cutting]
    ) -> None:
        self.session = session
        self._cuttings = cuttings
        self.flow: Flow = session.flow
        self.marks: Mapping[str, Mark] = marks_of(self.flow)
        self.sources = session.sources()
        self.takers: dict[str, list[tuple[Step, int, Input]]] = {}
        for step in self.flow.steps:
            for place, entry in enumerate(step.inputs):
                self.takers.setdefault(entry.step, []).append((step, place, entry))
        self.layout = Layout()
        self.low = len(self.flow.steps) > MOST_ROOMY
        self.size = _LOW if self.low else _ROOMY
        self.lanes = lanes_of(self.flow, KINDS.ends_rail, KINDS.is_knot)
        self.lane_of = {step: lane for lane in self.lanes for step in lane.steps}
        self.depth = _depths(self.flow)
        self.files, self.by_file = self._arrange(before)
        self.y: dict[str, float] = {}  # by step
        self.x: dict[str, float] = {}
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
            groups.append(sorted(used, key=lambda step: _place(tables, self.sources[step].table)))
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
        least = MARGIN_WIDTH + size.column * (len(knots) + 1) + _END_ROOM
        self.layout.least_width = least + size.bead_room * len(beads) + size.slat_room * len(ties)
        given = size.bead_room * len(beads) + size.slat_room * len(ties)
        room = width - MARGIN_WIDTH - _END_ROOM - given
        self.column = max(size.column, room / (len(knots) + 1))
        if self.low:
            # What room there is, is shared out to all columns, up to what they want on roomy lanes.
            wanted = given + size.column * (len(knots) + 1)
            wider = max(min((width - MARGIN_WIDTH - _END_ROOM) / wanted, _MOST_WIDENED), 1.0)
            size = replace(
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

    def plan(self) -> Layout:
        self._margin()
        for lane in self.lanes:
            if not lane.source:
                self._place_lane(lane, self.layout.height)
        for step in self.flow.in_order():
            self.x[step.id] = self.x_of(step)
            if KINDS.ends_rail(step):
                self._output(step)
            elif tie_of(step):
                self._tie(step)
            elif KINDS.on_rail(step):
                self._bead(step)
            elif not KINDS.begins_rail(step):
                self._knot(step)
        for step in self.flow.steps:
            if not KINDS.ends_rail(step):
                self._rails_from(step)
            self._lost_inputs(step)
        self._slats()
        self.layout.height = max(self.layout.height, self.clear_from, *self.y.values(), 0) + 20
        return self.layout

    # --- the margin, and with it the lanes ---

    def _margin(self) -> None:
        y = 10.0
        for path in self.files:
            y = self._file(path, y) + 6
        typed = [step for step, settings in self.sources.items() if settings.reader == TYPED]
        if typed:
            self.layout.files.append(FileLine("", y, "typed into this flow"))
            y += LINE
        for step_id in typed:
            y = self._head(self.flow.step(step_id), y)
        self.layout.height = y + LINE + 12

    def _file(self, path: str, y: float) -> float:
        state = self.session.margin.files.get(path)
        error = state.error if state else None
        said = "cannot be read" if error else "" if state and state.content else "looking into it"
        name = path.rsplit("/", 1)[-1]
        used = self.by_file.get(path, [])
        tables = [entry.name for entry in state.content.tables] if state and state.content else []
        if state and state.content and state.content.is_one_table and not used:
            # A text file is one table: its name stands for both.
            return self._stump(path, tables[0], y, name)
        self.layout.files.append(
            FileLine(path, y, f"{name} · {said}" if said else name, error.what if error else "")
        )
        y += LINE
        in_file = {self.sources[step].table for step in used}
        if state and state.content and state.content.is_one_table:
            tables = []
        stumps = [table for table in tables if table not in in_file]
        for step_id in used:
            above = [t for t in stumps if _place(tables, t) < _place(tables, self.sources[step_id].table)]
            for table in above[:_MOST_STUMPS]:
                y = self._stump(path, table, y)
            stumps = [table for table in stumps if table not in above[:_MOST_STUMPS]]
            y = self._head(self.flow.step(step_id), y)
        for table in stumps[:_MOST_STUMPS]:
            y = self._stump(path, table, y)
        if len(stumps) > _MOST_STUMPS:
            text = f"and {len(stumps) - _MOST_STUMPS} more: Ctrl+K finds them"
            self.layout.files.append(FileLine(path, y, text))
            y += LINE
        return y

    def _stump(self, path: str, table: str, y: float, shown: str = "") -> float:
        selection = Selection(path=path, table=table)
        state = self.session.margin.files[path]
        snapshot = self.session.library.known(state.content.settings(table)) if state.content else None
        count = f"{snapshot.table.rows:,}" if snapshot else ""
        tables = state.content.tables if state.content else ()
        hidden = any(entry.hidden for entry in tables if entry.name == table)
        text = f"{shown or table} · hidden" if hidden else shown or table
        self.layout.stumps.append(Stump(selection, y + LINE / 2, text, count))
        return y + LINE

    def _head(self, step: Step, y: float) -> float:
        lane, *branches = [lane for lane in self.lanes if lane.source == step.id]
        middle = self._place_lane(lane, y + self.size.of_rail[0])
        for branch in branches:
            self._place_lane(branch, 0)
        outcome = self.session.outcome(step.id)
        rows = _rows(outcome)
        settings = self.sources.get(step.id)
        snapshot = self.session.library.known(settings) if settings is not None else None
        old = snapshot is not None and bool(snapshot.old)
        self.layout.heads.append(
            Head(
                Selection(step.id),
                middle,
                step.name,
                self.marks[step.id],
                f"{rows:,}{' · old' if old else ''}" if rows >= 0 else "",
                old or bool(outcome and outcome.error),
            )
        )
        return middle + self.size.of_rail[1]

    def _place_lane(self, lane: Lane, at_least: float) -> float:
        """Put a lane below what stands already; the height of its middle."""
        above, below = self._room_of(lane)
        middle = max(at_least, self.clear_from + above)
        self.clear_from = middle + below
        for step in lane.steps:
            self.y[step] = middle
        return middle

    def _room_of(self, lane: Lane) -> tuple[float, float]:
        size = _ROOMY if self._is_open(lane) else _LOW
        steps = [self.flow.step(step) for step in lane.steps]
        knots = [step for step in steps if KINDS.is_knot(step)]
        if knots:
            # More than two tables: their stubs stand one below the other.
            more = max(len(step.inputs) - 2 for step in knots if step.inputs) if size is _ROOMY else 0
            return size.of_knot[0], size.of_knot[1] + 18 * max(more, 0)
        ends = any(KINDS.ends_rail(step) for step in steps)
        beads = any(KINDS.on_rail(step) for step in steps)
        return (20, 20) if ends and not beads else size.of_bead if beads else size.of_rail

    def _is_open(self, lane: Lane) -> bool:
        return not self.low or self.session.selection.step in lane.steps

    def _captioned(self, step: Step, alarm: bool) -> bool:
        """Whether the words of a step are shown: on a low lane only if it is selected or in trouble."""
        return not self.low or alarm or self.session.selection.step == step.id

    # --- steps ---

    def _hue(self, entry: Input) -> int | None:
        """The hue of the rail at a port: that of its source, as long as no knot is on the way."""
        step = self.flow.find(entry.step)
        while step is not None and entry.port == ROWS and KINDS.on_rail(step) and step.inputs:
            entry = step.inputs[0]
            step = self.flow.find(entry.step)
        mark = self.marks.get(entry.step) if step is not None and entry.port == ROWS else None
        return mark.hue if mark else None

    def _bead(self, step: Step) -> None:
        x, y = self.x[step.id], self.y[step.id]
        outcome = self.session.outcome(step.id)
        alarm = outcome is not None and outcome.error is not None
        captioned = self._captioned(step, alarm)
        room = _ROOMY.bead_room - 8
        self.layout.beads.append(Bead(step.id, x, y, step.name, alarm, room, step.skipped, captioned))
        if captioned:
            self._count_behind(step, alarm, x + _ROOMY.bead_room / 2, _ROOMY.bead_room - 20)

    def _count_behind(self, step: Step, alarm: bool, middle: float, room: float) -> None:
        """The rows behind a step on a rail, where it changed how many they are."""
        outcome = self.session.outcome(step.id)
        rows = _rows(outcome)
        before = self.session.outcome(step.inputs[0].step) if step.inputs else None
        if alarm or (rows >= 0 and rows != _rows(before, step.inputs[0].port)):
            text = "cannot be computed" if alarm else rows_said(rows)
            short = f"{rows:,}" if rows >= 0 else "error"
            if rows == 0:
                text = "0 rows, emptied here"
            words = Words(middle, self.y[step.id] + 19, text, short, alarm or rows == 0, room)
            self.layout.words.append(words)

    def _tie(self, step: Step) -> None:
        outcome = self.session.outcome(step.id)
        alarm = outcome is not None and outcome.error is not None
        tie = tie_of(step)
        x, y = self.x[step.id], self.y[step.id]
        self.layout.ties.append(Tie(tie, x, y, step.id, said=step.name, alarm=alarm, hollow=step.skipped))
        if not self.low or alarm:
            self._count_behind(step, alarm, x + _ROOMY.slat_room / 2 + 4, _ROOMY.slat_room - 16)

    def _knot(self, step: Step) -> None:
        x, y = self.x[step.id], self.y[step.id]
        is_open = self._is_open(self.lane_of[step.id])
        size = _ROOMY if is_open else _LOW
        outcome = self.session.outcome(step.id)
        shown = self._cut(step, outcome)
        alarm = bool(outcome and outcome.error)
        captioned = self._captioned(step, alarm)
        hues = {name: self._hue(step.inputs[n]) for name, n in dict(shown.inputs).items()}
        parts = sized(shown.parts, y - size.knot_above + 3, size.knot_height - 6)
        self.layout.knots.append(
            Knot(
                step.id,
                x,
                y,
                size.knot_above,
                size.knot_height,
                parts,
                shown.caption,
                shown.short_caption or shown.caption,
                shown.detail,
                shown.short or shown.detail,
                self.column - 16 if not self.low else 280,
                hues,
                alarm,
                captioned,
            )
        )
        if captioned:
            self._stubs(step, x, y, shown, parts, hues)
        else:
            self._short_stubs(step, x, y, parts, hues)

    def _cut(self, step: Step, outcome: Outcome | None) -> Cut:
        return cut(step, outcome, self._cuttings.get(step.kind))

    def _stub_shift(self, entry: Input) -> float:
        """A rail carried on from a stub runs where the stub ends."""
        step = self.flow.find(entry.step)
        if entry.port == ROWS or step is None or step.id not in self.lane_of:
            return 0.0
        if not self._is_open(self.lane_of[step.id]) or not self._captioned(step, False):
            return -9.0 if entry.port == UNMATCHED_LEFT else 9.0
        number = unused_number(entry.port) or 0
        takers = [taker for taker, _, own in self.takers.get(step.id, []) if own == entry]
        if entry.port == UNMATCHED_LEFT and takers and all(self.y[t.id] > self.y[step.id] for t in takers):
            return 40.0  # below the words at the knot's own rail, which it would cross otherwise
        return {UNMATCHED_LEFT: -26.0, FOUND_NOTHING: -26.0, MATCHED_PART: 36.0}.get(
            entry.port, 56.0 + 18 * number
        )

    def _stubs(
        self,
        step: Step,
        x: float,
        y: float,
        shown: Cut,
        parts: Sequence[Part],
        hues: Mapping[str, int | None],
    ) -> None:
        """A stub for each part that is left out and not empty, and for each that a rail carries on."""
        stubs = dict(shown.stubs)
        carried_on = self._ports_taken(step)
        self._stubs_without_part(step, x, parts, _STUB)
        for part in parts:
            carried = part.name in carried_on
            if not carried and (part.kept or not part.rows or part.name not in stubs):
                continue
            is_port = part.name not in (MATCHED_PART, FOUND_NOTHING)
            start = (x + KNOT_WIDTH / 2, (part.top + part.bottom) / 2)
            end = (x + KNOT_WIDTH / 2 + _STUB, y + self._stub_shift(Input(step.id, part.name)))
            text, short = stubs.get(part.name, ("", ""))
            # The next knot's second rail bends up in the last stretch before it.
            room = self._next_knot(step) - end[0] - _BEFORE_KNOT if not self.low else 220
            selection = Selection(step.id, part.name) if is_port else None
            # Where a rail carries it on, that says what it is.
            stub = Stub(selection, start, end, text, short, room, hues.get(part.name), not carried)
            self.layout.stubs.append(stub)

    def _stubs_without_part(self, step: Step, x: float, parts: Sequence[Part], length: float) -> None:
        """Stubs that rails carry on and that are no part of the knot: the rows passed over."""
        named = {part.name for part in parts} | {ROWS}
        for port in self._ports_taken(step) - named:
            bottom = max((part.bottom for part in parts), default=self.y[step.id])
            end = (x + KNOT_WIDTH / 2 + length, self.y[step.id] + self._stub_shift(Input(step.id, port)))
            start = (x + KNOT_WIDTH / 2, bottom)
            self.layout.stubs.append(Stub(Selection(step.id, port), start, end, "", "", 0, None, False))

    def _ports_taken(self, step: Step) -> set[str]:
        """The ports of a step that rails carry on."""
        return {entry.port for _, _, entry in self.takers.get(step.id, [])}

    def _next_knot(self, step: Step) -> float:
        """Where the next column with a knot is, or the outputs are."""
        columns = (self.x_of(entry) for entry in self.flow.steps if KINDS.is_knot(entry))
        return min((x for x in columns if x > self.x[step.id]), default=self.layout.width - _END_ROOM / 2)

    def x_of(self, step: Step) -> float:
        """Where the column of a step is."""
        return self.level[min(self.depth[step.id], len(self.level) - 1)]

    def _short_stubs(
        self, step: Step, x: float, y: float, parts: Sequence[Part], hues: Mapping[str, int | None]
    ) -> None:
        """On a low lane, the stubs that are carried on, without words."""
        taken = self._ports_taken(step)
        self._stubs_without_part(step, x, parts, 14)
        for part in parts:
            if part.name in taken:
                start = (x + KNOT_WIDTH / 2, (part.top + part.bottom) / 2)
                end = (x + KNOT_WIDTH / 2 + 14, y + self._stub_shift(Input(step.id, part.name)))
                selection = Selection(step.id, part.name)
                stub = Stub(selection, start, end, "", "", 0, hues.get(part.name), captioned=False)
                self.layout.stubs.append(stub)

    def _output(self, step: Step) -> None:
        x = self.layout.width - _END_ROOM + 20
        self.x[step.id] = x
        outcome = self.session.outcome(step.id)
        name, detail = step.name, "cannot be written"
        with suppress(TrellisError):
            name, detail = KINDS.of(step).summed_up(KINDS.settings(step))
        alarm = bool(outcome and outcome.error)
        if outcome is not None and outcome.guards:
            said, broken = guards_said(outcome.guards)
            detail, alarm = (said if broken else f"{detail} · {said}"), alarm or broken
        detail = "skipped for now" if step.skipped else detail
        self.layout.ends.append(End(Selection(step.id), x, self.y[step.id], name, detail, alarm))

    # --- rails ---

    def _rails_from(self, step: Step) -> None:
        """The rails that carry on from a step, one to each consumer, or one with an open end."""
        outcome = self.session.outcome(step.id)
        x, y = self._right_of(step), self.y[step.id]
        uses = self.takers.get(step.id, [])
        stub = _STUB if self._captioned(step, False) else 14
        for consumer, place, entry in uses:
            start = (x, y) if entry.port == ROWS else (x + stub, y + self._stub_shift(entry))
            end = self._entry_point(consumer, place, start[1])
            lane = self.lane_of[consumer.id]
            early = place == 0 and lane.off == entry and lane.steps[0] == consumer.id
            hue, rows = self._hue(entry), _rows(outcome, entry.port)
            selection = Selection(step.id, entry.port)
            rail = Rail(selection, start, end, hue, rows, False, early, self.size.bend)
            self.layout.rails.append(rail)
            if entry.port != ROWS and self._captioned(step, False):
                self._count_of_port(step, outcome, entry.port, rail)
        if not any(entry.port == ROWS for _, _, entry in uses):
            reach = max(self.column * 0.62, 150) if not self.low else 90
            ends_at = min(x + reach, self.layout.width - 60)
            if KINDS.begins_rail(step):
                ends_at = MARGIN_WIDTH + reach
            rail = Rail(
                Selection(step.id), (x, y), (ends_at, y), self._hue(Input(step.id)), _rows(outcome), True
            )
            self.layout.rails.append(rail)
        if KINDS.is_knot(step) and self._captioned(step, False):
            self._count(step, outcome, x, y, [taker for taker, _, entry in uses if entry.port == ROWS])

    def _count_of_port(self, step: Step, outcome: Outcome | None, port: str, rail: Rail) -> None:
        """What a rail that carries a stub on has, under the first of it that runs level."""
        if rail.rows < 0:
            return
        short = rows_said(rail.rows)
        name = "passed over" if port == PASSED_OVER else "matched" if port == MATCHED_PART else ""
        text = (
            f"{short} {name}" if name else dict(self._cut(step, outcome).stubs).get(port, (short, short))[0]
        )
        left, right, y = rail.level_part
        room = min(right - left - 16, 260)
        self.layout.words.append(Words(left + room / 2, y + 17, text, short, rail.rows == 0, room))

    def _right_of(self, step: Step) -> float:
        x = self.x[step.id]
        if KINDS.begins_rail(step):
            return MARGIN_WIDTH
        return x + (BEAD if KINDS.on_rail(step) else KNOT_WIDTH / 2)

    def _lost_inputs(self, step: Step) -> None:
        """A short dotted rail where a step took rows that are gone."""
        for place, entry in enumerate(step.inputs):
            if self.flow.find(entry.step) is None:
                end = self._entry_point(step, place, self.y[step.id] + (0 if place == 0 else 40))
                start = (max(end[0] - 46, MARGIN_WIDTH), end[1])
                self.layout.rails.append(Rail(Selection(step.id), start, end, None, -1, False))

    def _entry_point(self, consumer: Step, place: int, from_y: float) -> Point:
        """Where a rail enters a step: the nearest lane highest, so that rails from below do not cross."""
        x, y = self.x[consumer.id], self.y[consumer.id]
        if KINDS.ends_rail(consumer):
            return x, y
        if KINDS.on_rail(consumer):
            return x - BEAD, y
        if place == 0:
            return x - KNOT_WIDTH / 2, y
        size = _ROOMY if self._is_open(self.lane_of[consumer.id]) else _LOW
        top = y - size.knot_above
        if from_y < y:
            return x - KNOT_WIDTH / 2, top + size.knot_height * 0.16
        below = sorted(self.y.get(entry.step, y) for entry in consumer.inputs[1:])
        below = [height for height in below if height >= y]
        nth = sum(height < from_y - 1 for height in below)
        share = 0.66 if len(below) < 2 else 0.54 + 0.38 * nth / (len(below) - 1)
        return x - KNOT_WIDTH / 2, top + size.knot_height * share

    def _count(self, step: Step, outcome: Outcome | None, x: float, y: float, consumers: list[Step]) -> None:
        """The rows after a knot, under its rail, and how many more they are than the left table's."""
        figures = outcome.figures if outcome is not None else None
        if outcome is None or figures is None:
            return
        shown = self._cut(step, outcome)
        if self.low and not shown.alarm and not outcome.guards:
            return  # the sentence says it, too
        reach = min((self.x[consumer.id] for consumer in consumers), default=x + self.column)
        middle = (x + reach) / 2 if reach - x < 420 else x + 150
        room = max(reach - x - KNOT_WIDTH - 12, 0 if not self.low else 120)
        middle = middle if not self.low else x + 66
        short = shown.counted_short if room >= _ROOMY.bead_room else rows_said(figures.rows[ROWS])
        self.layout.words.append(Words(middle, y + 19, shown.counted, short, shown.alarm, room))
        if outcome.guards:
            said, alarm = guards_said(outcome.guards)
            broken = sum(not entry.holds for entry in outcome.guards)
            short = f"{broken} broken" if broken > 1 else "guard broken" if broken else "guarded"
            self.layout.words.append(Words(middle, y - 13, said, short, alarm, room, notch=True))

    # --- slats ---

    def _slats(self) -> None:
        for shared in self.flow.filters:
            ties = [tie for tie in self.layout.ties if tie.slat == shared.id]
            x = max((tie.x for tie in ties), default=MARGIN_WIDTH + 60.0)
            ends = [tie.y for tie in ties]
            for source in unreached(self.flow, shared):
                if source not in self.y or not self._runs_at(source, x):
                    continue
                asks = source not in shared.apart and feeds_blend(self.flow, source)
                name = self.flow.step(source).name
                text = f"does not reach {name}" if asks else ""
                tie = Tie(shared.id, x, self.y[source], source=source, said=text, alarm=asks)
                self.layout.ties.append(tie)
                ends.append(tie.y)
            bottom = max(ends, default=60.0) + 14
            selection = Selection(slat=shared.id)
            room = _ROOMY.slat_room + 40
            slat = Slat(selection, x, 6, bottom, filter_said(shared), room)
            self.layout.slats.append(slat)

    def _runs_at(self, source: str, x: float) -> bool:
        """Whether the rail of a source, or the lane at whose head it stands, runs past a slat at x."""
        reach = [
            rail.end[0] for rail in self.layout.rails if rail.selection.step in self.lane_of[source].steps
        ]
        return max(reach, default=0.0) > x


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


def guards_said(guards: Sequence[Checked]) -> tuple[str, bool]:
    """What there is to say about the guards of a step, and whether it is cause for alarm."""
    broken = [entry for entry in guards if not entry.holds]
    if not broken:
        return guards[0].statement if len(guards) == 1 else f"{len(guards)} guards hold", False
    if len(broken) > 1:
        return f"{len(broken)} guards broken", True
    return f"guard broken: {broken[0].verdict.said}", True


def _place(tables: list[str], table: str) -> int:
    return tables.index(table) if table in tables else len(tables)


def _rows(outcome: Outcome | None, port: str = ROWS) -> int:
    return outcome.figures.rows.get(port, -1) if outcome is not None and outcome.figures is not None else -1


def plan(
    session: Session,
    width: float,
    cuttings: Mapping[str, Cutting],
    before: Arrangement | None = None,
) -> Layout:
    """The layout of the session's flow in a trellis `width` pixels wide.

    cuttings: by kind of step, how the bars of its knots are cut.  before: how it lay until now.
    """
    return _Planner(session, width, before or Arrangement(), cuttings).plan()
