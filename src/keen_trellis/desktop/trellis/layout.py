"""Where everything in the trellis stands: lanes, columns, sizes and words, computed from the flow.

Knows no painter.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.trellis.knots import Cutting, sized
from keen_trellis.desktop.trellis.lanes import Arrangement
from keen_trellis.desktop.trellis.margin import lay_margin
from keen_trellis.desktop.trellis.places import END_ROOM, LOW, ROOMY, Places, of_sample, rows_at
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
    Tie,
    Words,
)
from keen_trellis.desktop.trellis.stubs import STUB, lay_short_stubs, lay_stubs
from keen_trellis.flow.graph import ROWS, Input, Step
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.shared_filters import feeds_blend, filter_said, unreached
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.shared_filter import tie_of
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


class _Planner(Places):
    """Lays out what stands on the lanes, after the margin."""

    def plan(self) -> Layout:
        lay_margin(self)
        for lane in self.lanes:
            if not lane.source:
                self.place_lane(lane, self.layout.height)
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
        self.layout.height = max(self.layout.height, self.clear_from, *self.y.values(), 0) + 4
        return self.layout

    def _bead(self, step: Step) -> None:
        x, y = self.x[step.id], self.y[step.id]
        outcome = self.session.outcome(step.id)
        alarm = outcome is not None and outcome.error is not None
        captioned = self.captioned(step)
        room = ROOMY.bead_room - 8
        self.layout.beads.append(Bead(step.id, x, y, step.name, alarm, room, step.skipped, captioned))
        if captioned:
            self._count_behind(step, alarm, x + ROOMY.bead_room / 2, ROOMY.bead_room - 20)

    def _count_behind(self, step: Step, alarm: bool, middle: float, room: float) -> None:
        """The rows behind a step on a rail, where it changed how many they are."""
        outcome = self.session.outcome(step.id)
        rows = rows_at(outcome)
        before = self.session.outcome(step.inputs[0].step) if step.inputs else None
        if alarm or (rows >= 0 and rows != rows_at(before, step.inputs[0].port)):
            text = "cannot be computed" if alarm else rows_said(rows)
            text = of_sample(text) if step.id in self.on_samples and not alarm else text
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
            self._count_behind(step, alarm, x + ROOMY.slat_room / 2 + 4, ROOMY.slat_room - 16)

    def _knot(self, step: Step) -> None:
        x, y = self.x[step.id], self.y[step.id]
        is_open = self.is_open(self.lane_of[step.id])
        size = ROOMY if is_open else LOW
        outcome = self.session.outcome(step.id)
        shown = self.cut_of(step)
        alarm = bool(outcome and outcome.error)
        captioned = self.captioned(step)
        hues = {name: self.hue(step.inputs[n]) for name, n in dict(shown.inputs).items()}
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
                tuple(hues.items()),
                alarm,
                captioned,
            )
        )
        if captioned:
            lay_stubs(self, step, x, y, shown, parts, hues)
        else:
            lay_short_stubs(self, step, x, y, parts, hues)

    def _output(self, step: Step) -> None:
        x = self.layout.width - END_ROOM + 20
        self.x[step.id] = x
        outcome = self.session.outcome(step.id)
        name, detail = step.name, "cannot be written"
        with suppress(TrellisError):
            name, detail = KINDS.of(step).summed_up(KINDS.settled(self.flow, step))
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
        stub = STUB if self.captioned(step) else 14
        for consumer, place, entry in uses:
            start = (x, y) if entry.port == ROWS else (x + stub, y + self.stub_shift(entry))
            end = self._entry_point(consumer, place, start[1])
            lane = self.lane_of[consumer.id]
            early = place == 0 and lane.off == entry and lane.steps[0] == consumer.id
            hue, rows = self.hue(entry), rows_at(outcome, entry.port)
            selection = Selection(step.id, entry.port)
            rail = Rail(selection, start, end, hue, rows, False, early, self.size.bend)
            self.layout.rails.append(rail)
            if entry.port != ROWS and self.captioned(step):
                self._count_of_port(step, entry.port, rail)
        if not any(entry.port == ROWS for _, _, entry in uses):
            reach = max(self.column * 0.62, 150) if not self.low else 90
            ends_at = min(x + reach, self.layout.width - 60)
            if KINDS.begins_rail(step):
                ends_at = MARGIN_WIDTH + reach
            rail = Rail(
                Selection(step.id), (x, y), (ends_at, y), self.hue(Input(step.id)), rows_at(outcome), True
            )
            self.layout.rails.append(rail)
        if KINDS.is_knot(step) and self.captioned(step):
            self._count(step, outcome, x, y, [taker for taker, _, entry in uses if entry.port == ROWS])

    def _count_of_port(self, step: Step, port: str, rail: Rail) -> None:
        """What a rail that carries a stub on has, under the first of it that runs level."""
        if rail.rows < 0:
            return
        short = rows_said(rail.rows)
        name = dict(self.cutting(step).said).get(port, "")
        text = f"{short} {name}" if name else dict(self.cut_of(step).stubs).get(port, (short, short))[0]
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
        size = ROOMY if self.is_open(self.lane_of[consumer.id]) else LOW
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
        shown = self.cut_of(step)
        if self.low and not shown.alarm and not outcome.guards:
            return  # the sentence says it, too
        reach = min((self.x[consumer.id] for consumer in consumers), default=x + self.column)
        middle = (x + reach) / 2 if reach - x < 420 else x + 150
        room = max(reach - x - KNOT_WIDTH - 12, 0 if not self.low else 120)
        middle = middle if not self.low else x + 66
        short = shown.counted_short if room >= ROOMY.bead_room else rows_said(figures.rows[ROWS])
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
                self.layout.height = max(self.layout.height, tie.y + 28 if asks else 0.0)
                self.layout.ties.append(tie)
                ends.append(tie.y)
            bottom = max(ends, default=60.0) + 14
            selection = Selection(slat=shared.id)
            room = ROOMY.slat_room + 40
            slat = Slat(selection, x, 6, bottom, filter_said(shared), room)
            self.layout.slats.append(slat)

    def _runs_at(self, source: str, x: float) -> bool:
        """Whether the rail of a source, or the lane at whose head it stands, runs past a slat at x."""
        reach = [
            rail.end[0] for rail in self.layout.rails if rail.selection.step in self.lane_of[source].steps
        ]
        return max(reach, default=0.0) > x


def guards_said(guards: Sequence[Checked]) -> tuple[str, bool]:
    """What there is to say about the guards of a step, and whether it is cause for alarm."""
    broken = [entry for entry in guards if not entry.holds]
    if not broken:
        return guards[0].statement if len(guards) == 1 else f"{len(guards)} guards hold", False
    if len(broken) > 1:
        return f"{len(broken)} guards broken", True
    return f"guard broken: {broken[0].verdict.said}", True


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
