"""Where everything in the trellis stands: lanes, columns, sizes and words, computed from the flow.

Knows no painter. Lengths are in pixels, from the upper left corner of the trellis.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.document import Document, Outcome, Selection
from keen_trellis.desktop.marks import Mark, first_source, marks_of
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import UNMATCHED_LEFT, UNMATCHED_RIGHT, JoinKind, JoinSettings
from keen_trellis.flow.steps.output import OutputKind, OutputSettings
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.steps.union import UnionKind
from keen_trellis.flow.wording import question
from keen_trellis.sources.locations import TYPED

MARGIN_WIDTH = 208
KNOT_WIDTH = 26
KNOT_HEIGHT = 80
KNOT_ABOVE = 24
LANE = 32
ROOM_BELOW_KNOT = 46
ROOM_ABOVE_KNOT = 10
LINE = 20
# Two lanes with knots: the lower one's captions stay clear of the upper one's knots and stubs.
_BETWEEN_KNOT_LANES = 126
SMALLEST_PART = 6
_END_ROOM = 176
_COLUMN_LEAST = 210
_MOST_STUMPS = 6
_STUB = 48
_BEAD_ROOM = 124
BEAD = 7.0
_BEND = 60
MATCHED_PART = "matched"
OF_RAIL = "rows:"


@dataclass(frozen=True)
class FileLine:
    """A file's name in the margin; alarm: it cannot be read."""

    path: str
    y: float
    text: str
    alarm: str = ""


@dataclass(frozen=True)
class Head:
    """Where a rail begins."""

    selection: Selection
    y: float
    name: str
    mark: Mark
    count: str
    alarm: bool


@dataclass(frozen=True)
class Stump:
    """A table of a file that no rail begins at."""

    selection: Selection
    y: float
    name: str
    count: str


@dataclass(frozen=True)
class Rail:
    """A band from one point to another. hue: None for a joined rail; rows: -1 where not known."""

    selection: Selection
    start: tuple[float, float]
    end: tuple[float, float]
    hue: int | None
    rows: int
    open_end: bool

    @property
    def thickness(self) -> float:
        return thickness(self.rows)


@dataclass(frozen=True)
class Part:
    """One part of a knot, from `top` to `bottom`: unmatched left, matched, unmatched right; a rail's rows."""

    name: str
    top: float
    bottom: float
    kept: bool
    rows: int


@dataclass(frozen=True)
class Knot:
    """A join. Its parts are empty while its match is not known. short: its detail where `room` is scarce."""

    step: str
    x: float
    y: float
    parts: tuple[Part, ...]
    caption: str
    detail: str
    short: str
    room: float
    hues: tuple[int | None, ...]
    alarm: bool

    @property
    def top(self) -> float:
        return self.y - KNOT_ABOVE


@dataclass(frozen=True)
class Bead:
    """A step on a rail."""

    step: str
    x: float
    y: float
    name: str
    alarm: bool
    room: float
    skipped: bool = False


@dataclass(frozen=True)
class Stub:
    """Where rows that are left out leave the flow at a knot. short: its text where `room` is scarce."""

    selection: Selection | None
    start: tuple[float, float]
    end: tuple[float, float]
    text: str
    short: str
    room: float
    hue: int | None


@dataclass(frozen=True)
class End:
    """An output at the end of a rail."""

    selection: Selection
    x: float
    y: float
    name: str
    detail: str
    alarm: bool


@dataclass(frozen=True)
class Words:
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


@dataclass
class Layout:
    """Everything that the trellis shows."""

    width: float = 0
    height: float = 0
    least_width: float = 0  # narrower than this it has to be scrolled
    files: list[FileLine] = field(default_factory=list)
    heads: list[Head] = field(default_factory=list)
    stumps: list[Stump] = field(default_factory=list)
    rails: list[Rail] = field(default_factory=list)
    knots: list[Knot] = field(default_factory=list)
    beads: list[Bead] = field(default_factory=list)
    stubs: list[Stub] = field(default_factory=list)
    ends: list[End] = field(default_factory=list)
    words: list[Words] = field(default_factory=list)


def thickness(rows: int) -> float:
    """How thick a rail of so many rows is: logarithmic, at least 2."""
    return 2.0 if rows <= 0 else 2.0 + 2.8 * math.log10(rows + 1)


class _Planner:
    def __init__(self, document: Document, width: float) -> None:
        self.document = document
        self.flow: Flow = document.flow
        self.marks: Mapping[str, Mark] = marks_of(self.flow)
        self.lanes: dict[str, float] = {}
        self.columns: dict[str, float] = {}
        self.layout = Layout()
        self.free_below = 76.0  # room for the captions of a knot on the first lane
        self.depth = self._depths()
        knot_levels = {self.depth[step.id] for step in self._knots()}
        bead_levels = {self.depth[step.id] for step in self.flow.steps if _on_rail(step)} - knot_levels
        beads = _BEAD_ROOM * len(bead_levels)
        room = width - MARGIN_WIDTH - _END_ROOM - beads
        self.column = max(_COLUMN_LEAST, room / (len(knot_levels) + 1))
        self.layout.least_width = MARGIN_WIDTH + _COLUMN_LEAST * (len(knot_levels) + 1) + beads + _END_ROOM
        # Where the steps of each depth stand: beads want less room than knots.
        self.level = [float(MARGIN_WIDTH)]
        for level in range(1, max(knot_levels | bead_levels, default=0) + 1):
            self.level.append(self.level[-1] + (_BEAD_ROOM if level in bead_levels else self.column))
        self.layout.width = max(width, self.layout.least_width)

    def plan(self) -> Layout:
        self._margin()
        for step in self.flow.in_order():
            if step.kind == SourceKind.name:
                self.columns[step.id] = MARGIN_WIDTH
            elif len(step.inputs) > 0 and step.inputs[0].step in self.lanes:
                self.lanes[step.id] = self.lanes[step.inputs[0].step] + self._stub_shift(step.inputs[0])
                if step.kind == OutputKind.name:
                    self._output(step)
                elif _on_rail(step):
                    self._bead(step)
                else:
                    self._knot(step)
        for step in self.flow.steps:
            if step.id in self.columns and step.kind != OutputKind.name:
                self._rails_from(step)
        self.layout.height = max(self.layout.height, *self.lanes.values(), 0) + 24
        return self.layout

    def _knots(self) -> list[Step]:
        return [
            step
            for step in self.flow.steps
            if step.kind not in (SourceKind.name, OutputKind.name) and not _on_rail(step)
        ]

    def _depths(self) -> dict[str, int]:
        depth: dict[str, int] = {}
        for step in self.flow.in_order():
            below = [depth[entry.step] for entry in step.inputs if entry.step in depth]
            depth[step.id] = max(below, default=-1) + 1
        return depth

    def _stub_shift(self, entry: Input) -> float:
        """A rail carried on from a stub runs where the stub ends."""
        return {UNMATCHED_LEFT: -26.0, UNMATCHED_RIGHT: 56.0}.get(entry.port, 0.0)

    # --- the margin ---

    def _margin(self) -> None:
        y = 10.0
        for path in self.document.margin_files():
            y = self._file(path, y) + 6
        typed = [step for step, settings in self.document.sources().items() if settings.reader == TYPED]
        if typed:
            self.layout.files.append(FileLine("", y, "typed into this flow"))
            y += LINE
        for step_id in typed:
            y = self._head(self.flow.step(step_id), y)
        self.layout.height = y + LINE + 12

    def _file(self, path: str, y: float) -> float:
        state = self.document.files.get(path)
        error = state.error if state else None
        said = "cannot be read" if error else "" if state and state.content else "looking into it"
        name = path.rsplit("/", 1)[-1]
        used = {step: settings for step, settings in self.document.sources().items() if settings.path == path}
        tables = [entry.name for entry in state.content.tables] if state and state.content else []
        if state and state.content and state.content.is_one_table and not used:
            # A text file is one table: its name stands for both.
            return self._stump(path, tables[0], y, name)
        self.layout.files.append(
            FileLine(path, y, f"{name} · {said}" if said else name, error.what if error else "")
        )
        y += LINE
        in_file = {settings.table for settings in used.values()}
        if state and state.content and state.content.is_one_table:
            tables = []
        rails = sorted(used, key=lambda step: _place(tables, used[step].table))
        stumps = [table for table in tables if table not in in_file]
        for step_id in rails:
            above = [t for t in stumps if _place(tables, t) < _place(tables, used[step_id].table)]
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
        state = self.document.files[path]
        snapshot = self.document.library.known(state.content.settings(table)) if state.content else None
        count = f"{snapshot.table.rows:,}" if snapshot else ""
        tables = state.content.tables if state.content else ()
        hidden = any(entry.hidden for entry in tables if entry.name == table)
        text = f"{shown or table} · hidden" if hidden else shown or table
        self.layout.stumps.append(Stump(selection, y + LINE / 2, text, count))
        return y + LINE

    def _head(self, step: Step, y: float) -> float:
        knots = [entry for entry in self._knots() if self._runs_through(entry, step)]
        if knots:
            y = max(y + ROOM_ABOVE_KNOT, self.free_below - LANE / 2)
            self.free_below = y + LANE / 2 + _BETWEEN_KNOT_LANES
        outcome = self.document.outcome(step.id)
        rows = _rows(outcome)
        settings = self.document.sources().get(step.id)
        snapshot = self.document.library.known(settings) if settings is not None else None
        old = snapshot is not None and bool(snapshot.old)
        self.lanes[step.id] = y + LANE / 2
        self.layout.heads.append(
            Head(
                Selection(step.id),
                y + LANE / 2,
                step.name,
                self.marks[step.id],
                f"{rows:,}{' · old' if old else ''}" if rows >= 0 else "",
                old or bool(outcome and outcome.error),
            )
        )
        return y + LANE + (ROOM_BELOW_KNOT if knots else 0)

    def _runs_through(self, knot: Step, source: Step) -> bool:
        """Whether the knot stands on the lane that begins at `source`."""
        return first_source(self.flow, knot.id) == source.id

    # --- knots, outputs, rails ---

    def _hue(self, entry: Input) -> int | None:
        """The hue of the rail at a port: that of its source, as long as no knot is on the way."""
        step = self.flow.find(entry.step)
        while step is not None and entry.port == ROWS and _on_rail(step) and step.inputs:
            entry = step.inputs[0]
            step = self.flow.find(entry.step)
        mark = self.marks.get(entry.step) if step is not None and entry.port == ROWS else None
        return mark.hue if mark else None

    def _bead(self, step: Step) -> None:
        x, y = self.level[self.depth[step.id]], self.lanes[step.id]
        self.columns[step.id] = x
        outcome = self.document.outcome(step.id)
        alarm = outcome is not None and outcome.error is not None
        bead = Bead(step.id, x, y, step.name, alarm, _BEAD_ROOM - 8, step.skipped)
        self.layout.beads.append(bead)
        rows = _rows(outcome)
        before = self.document.outcome(step.inputs[0].step)
        if alarm or (rows >= 0 and rows != _rows(before, step.inputs[0].port)):
            short = f"{rows:,}" if rows >= 0 else "error"
            text = "cannot be computed" if alarm else f"{rows:,} {'row' if rows == 1 else 'rows'}"
            if rows == 0:
                text = "0 rows, emptied here"
            words = Words(x + _BEAD_ROOM / 2, y + 19, text, short, alarm or rows == 0, _BEAD_ROOM - 20)
            self.layout.words.append(words)
        self.layout.height = max(self.layout.height, y + LANE)

    def _knot(self, step: Step) -> None:
        x, y = self.level[self.depth[step.id]], self.lanes[step.id]
        self.columns[step.id] = x
        outcome = self.document.outcome(step.id)
        error = outcome.error if outcome else None
        settings = _join_settings(step)
        names = [shape.name for shape in outcome.inputs] if outcome and len(outcome.inputs) == 2 else []
        caption, detail = step.name, "working it out" if error is None else "cannot be computed"
        short = ""
        parts: tuple[Part, ...] = ()
        hues: tuple[int | None, ...] = (
            self._hue(step.inputs[0]),
            self._hue(step.inputs[1]) if len(step.inputs) > 1 else None,
        )
        if settings is not None and names:
            caption = question(settings.join_type, names[0], names[1])
        if settings is not None and outcome and outcome.result and outcome.result.match:
            counts = outcome.result.match.counts
            share = counts.left_matched / counts.left_rows if counts.left_rows else 0.0
            main = names[0].split(" with ")[0]
            short = f"{percent(share)} of {main} found one"
            detail = f"{settings.join_type.trade_name} · {short}"
            parts = _parts(
                y - KNOT_ABOVE, counts.left_unmatched, counts.left_matched, counts.right_unmatched, settings
            )
            self._stubs(step, x, y, parts, settings, names, hues)
        elif step.skipped:
            detail = "skipped for now"
        elif step.kind == UnionKind.name and outcome is not None and outcome.result is not None:
            rows = outcome.result.rows.rows
            detail = f"union · {rows:,} {'row' if rows == 1 else 'rows'}"
            if len(outcome.tables) == len(step.inputs):  # not while another rail is being added
                parts = _stacked(y - KNOT_ABOVE, [table.rows for table in outcome.tables])
            hues = tuple(self._hue(entry) for entry in step.inputs)
        elif settings is None and outcome is not None and outcome.result is not None:
            detail = f"{step.kind} · {outcome.result.rows.rows:,} rows"
        room, alarm = self.column - 16, error is not None
        knot = Knot(step.id, x, y, parts, caption, detail, short or detail, room, hues, alarm)
        self.layout.knots.append(knot)
        self.layout.height = max(self.layout.height, y + KNOT_HEIGHT)

    def _stubs(
        self,
        step: Step,
        x: float,
        y: float,
        parts: tuple[Part, ...],
        settings: JoinSettings,
        names: list[str],
        hues: tuple[int | None, ...],
    ) -> None:
        """A stub for each part that is left out and not empty."""
        where = {UNMATCHED_LEFT: -26.0, MATCHED_PART: 36.0, UNMATCHED_RIGHT: 56.0}
        texts = {
            UNMATCHED_LEFT: f"unmatched {names[0]}",
            MATCHED_PART: "matched pairs left out",
            UNMATCHED_RIGHT: f"unmatched {names[1]}",
        }
        of_hue = {UNMATCHED_LEFT: hues[0], MATCHED_PART: None, UNMATCHED_RIGHT: hues[1]}
        for part in parts:
            if part.kept or not part.rows:
                continue
            selection = None if part.name == MATCHED_PART else Selection(step.id, part.name)
            start = (x + KNOT_WIDTH / 2, (part.top + part.bottom) / 2)
            end = (x + KNOT_WIDTH / 2 + _STUB, y + where[part.name])
            text, short = f"{part.rows:,} {texts[part.name]}", f"{part.rows:,} unmatched"
            if part.name == MATCHED_PART:
                short = f"{part.rows:,} left out"
            # The next knot's second rail bends up in the last stretch before it.
            room = self.column - KNOT_WIDTH - _STUB - _BEND
            self.layout.stubs.append(Stub(selection, start, end, text, short, room, of_hue[part.name]))

    def _output(self, step: Step) -> None:
        x = self.layout.width - _END_ROOM + 20
        self.columns[step.id] = x
        outcome = self.document.outcome(step.id)
        name, detail = step.name, "cannot be written"
        with suppress(TrellisError):
            settings: OutputSettings = KINDS.settings(step)
            name = settings.file_name
            detail = f"sheet {settings.sheet}" if settings.writer == "xlsx" else "delimited text"
        alarm = bool(outcome and outcome.error)
        if outcome is not None and outcome.guards:
            said, broken = guards_said(outcome.guards)
            detail, alarm = (said if broken else f"{detail} · {said}"), alarm or broken
        detail = "skipped for now" if step.skipped else detail
        # Several outputs of one rail stand one below the other.
        beside = [end for end in self.layout.ends if abs(end.y - self.lanes[step.id]) < 30]
        y = self.lanes[step.id] + 40 * len(beside)
        self.lanes[step.id] = y
        self.layout.ends.append(End(Selection(step.id), x, y, name, detail, alarm))
        self.layout.height = max(self.layout.height, y + LANE)

    def _rails_from(self, step: Step) -> None:
        """The rails that carry on from a step, one to each consumer, or one with an open end."""
        outcome = self.document.outcome(step.id)
        x = self.columns[step.id] + (KNOT_WIDTH / 2 if step.kind == JoinKind.name else 0)
        x += BEAD if _on_rail(step) else 0
        y = self.lanes[step.id]
        uses = [
            (consumer, place, entry)
            for consumer in self.flow.steps
            for place, entry in enumerate(consumer.inputs)
            if entry.step == step.id and consumer.id in self.columns
        ]
        for consumer, place, entry in uses:
            rows = _rows(outcome, entry.port)
            hue = self._hue(entry)
            start = (x, y + self._stub_shift(entry))
            if entry.port != ROWS:
                start = (x + _STUB, start[1])
            end = self._entry_point(consumer, place)
            self.layout.rails.append(Rail(Selection(step.id, entry.port), start, end, hue, rows, False))
        if not any(entry.port == ROWS for _, _, entry in uses):
            ends_at = min(x + max(self.column * 0.62, 150), self.layout.width - 60)
            if step.kind == SourceKind.name:
                ends_at = MARGIN_WIDTH + max(self.column * 0.62, 150)
            hue = self._hue(Input(step.id))
            rail = Rail(Selection(step.id), (x, y), (ends_at, y), hue, _rows(outcome), True)
            self.layout.rails.append(rail)
        if step.kind == JoinKind.name:
            self._count(step, outcome, x, y, [consumer for consumer, _, entry in uses if entry.port == ROWS])

    def _entry_point(self, consumer: Step, place: int) -> tuple[float, float]:
        x, y = self.columns[consumer.id], self.lanes[consumer.id]
        if consumer.kind == OutputKind.name:
            return x, y
        if _on_rail(consumer):
            return x - BEAD, y
        return x - KNOT_WIDTH / 2, y if place == 0 else y - KNOT_ABOVE + KNOT_HEIGHT * 0.66

    def _count(self, step: Step, outcome: Outcome | None, x: float, y: float, consumers: list[Step]) -> None:
        """The rows after a knot, under its rail, and how many more they are than the left table's."""
        if outcome is None or outcome.result is None or outcome.result.match is None:
            return
        counts = outcome.result.match.counts
        rows = outcome.result.rows.rows
        text = short = f"{rows:,} {'row' if rows == 1 else 'rows'}"
        settings = _join_settings(step)
        keeps_pairs = settings is not None and settings.join_type.keeps_pairs
        multiplied = keeps_pairs and counts.pairs > counts.left_matched
        if rows == 0:
            text = f"{text}, emptied by this join"
        elif multiplied:
            more = f"{text}, {counts.pairs - counts.left_matched:,} more"
            text, short = f"{more} by repeated keys", more
        count = f"{rows:,} {'row' if rows == 1 else 'rows'}"
        reach = min((self.columns[consumer.id] for consumer in consumers), default=x + self.column)
        middle = (x + reach) / 2 if reach - x < 420 else x + 150
        room = reach - x - KNOT_WIDTH - 12
        short = short if room >= _BEAD_ROOM else count
        self.layout.words.append(Words(middle, y + 19, text, short, multiplied or rows == 0, room))
        if outcome.guards:
            said, alarm = guards_said(outcome.guards)
            broken = sum(not entry.holds for entry in outcome.guards)
            short = f"{broken} broken" if broken > 1 else "guard broken" if broken else "guarded"
            self.layout.words.append(Words(middle, y - 13, said, short, alarm, room, notch=True))


def _on_rail(step: Step) -> bool:
    kind = KINDS.find(step.kind)
    return kind is not None and kind.on_rail


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
    if outcome is None or outcome.result is None or port not in outcome.result.ports:
        return -1
    return outcome.result.ports[port].rows


def _join_settings(step: Step) -> JoinSettings | None:
    if step.kind != JoinKind.name:
        return None
    try:
        settings: JoinSettings = KINDS.settings(step)
        _ = settings.join_type
    except TrellisError:
        return None
    return settings


def _parts(
    top: float, unmatched_left: int, matched: int, unmatched_right: int, settings: JoinSettings
) -> tuple[Part, ...]:
    """The knot's parts from top to bottom, in proportion, none that is not empty too small to click."""
    kind: JoinType = settings.join_type
    rows = {UNMATCHED_LEFT: unmatched_left, MATCHED_PART: matched, UNMATCHED_RIGHT: unmatched_right}
    kept = {
        UNMATCHED_LEFT: kind.keeps_unmatched_left,
        MATCHED_PART: kind.keeps_matched,
        UNMATCHED_RIGHT: kind.keeps_unmatched_right,
    }
    gaps = 2 * 2
    total = sum(rows.values())
    room = KNOT_HEIGHT - 6 - gaps
    sizes = {name: room * count / total if total else 0.0 for name, count in rows.items()}
    small = {name for name, count in rows.items() if sizes[name] < SMALLEST_PART + (4 if count else 0)}
    for name in small:
        sizes[name] = SMALLEST_PART + 4 if rows[name] else SMALLEST_PART / 2
    large = [name for name in rows if name not in small]
    left = room - sum(sizes[name] for name in small)
    weight = sum(rows[name] for name in large)
    for name in large:
        sizes[name] = left * rows[name] / weight
    parts = []
    y = top + 3
    for name, size in sizes.items():
        parts.append(Part(name, y, y + size, kept[name], rows[name]))
        y += size + 2
    return tuple(parts)


def _stacked(top: float, rows: Sequence[int]) -> tuple[Part, ...]:
    """The parts of a union, one a rail, in proportion."""
    room, gap = KNOT_HEIGHT - 6.0, 2.0
    room -= gap * (len(rows) - 1)
    total = max(sum(rows), 1)
    sizes = [max(room * count / total, SMALLEST_PART / 2) for count in rows]
    scale = room / sum(sizes)
    parts, y = [], top + 3
    for number, (count, size) in enumerate(zip(rows, sizes, strict=True)):
        parts.append(Part(f"{OF_RAIL}{number}", y, y + size * scale, True, count))
        y += size * scale + gap
    return tuple(parts)


def plan(document: Document, width: float) -> Layout:
    """The layout of the document's flow in a trellis `width` pixels wide."""
    return _Planner(document, width).plan()
