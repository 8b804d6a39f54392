"""What the bench shows of a blend: the main table's rows by what they found, and groups that found no place.

Each table has a zone of its own. Rows are named by their number in `Blended.whole`; groups of the other
tables are numbered on from table to table, so that one number tells table and group.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from keen_trellis.core.blending import Blended, Found, Keep
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.link import value_of
from keen_trellis.core.table import Cells, IndexVector, RowOrigin, Table, looked_up
from keen_trellis.desktop.bench.content import (
    LEFT,
    NOTHING_FOUND,
    Band,
    Column,
    Content,
    Destination,
    OneSide,
    Part,
)
from keen_trellis.desktop.bench.shown import Shown
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.kinds import BlendFigures, InputShape
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendSettings, repeated, unused_port
from keen_trellis.flow.wording import groups_said, kept_of_blend, listed, rows_called
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.filters import filters_said
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_OTHER = "other:"
_STAY, _OUT = "stay in the result", "left out"


def other_zone(number: int) -> str:
    """The zone of other table number `number`, from 0."""
    return f"{_OTHER}{number}"


class BlendContent(Content):
    """The bands of a blend, the largest first."""

    def __init__(
        self,
        settings: BlendSettings,
        shapes: Sequence[InputShape],
        blended: Blended,
        reached: Mapping[int, str] | None = None,
    ) -> None:
        self.blended = blended
        self._kept = settings.kept
        self._measures = [tuple(measure.name for measure in entry.measures) for entry in settings.others]
        counts = [found.summary.rows for found in blended.others]
        self._offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        columns = _columns(settings, shapes, blended)
        super().__init__(columns, _bands(shapes, blended, self._offsets), blended.whole)
        self.titles = _titles(settings, shapes, blended, reached or {})
        self.warnings = repeated(settings, BlendFigures.of(blended))
        self._main = shapes[0].name

    @property
    def is_knot(self) -> bool:
        return True

    @property
    def zones(self) -> tuple[str, ...]:
        return (LEFT, *(other_zone(number) for number in range(len(self.blended.others))))

    # --- cells ---

    def _side(self, column: Column, left: IndexVector, right: IndexVector) -> Cells:
        table, rows = self._rows_in(column.zone, left, right)
        of_main = column.zone != LEFT and len(left) > 0 and left[0] >= 0
        if of_main and column.field.name in self._measures[_number(column.zone)]:
            # As it stands on the row: on every one, the first, or spread.
            return self.blended.whole.take(left, [column.field.name])[0]
        return table.take(rows, [column.field.name])[0]

    def table_of(self, column: Column) -> Table:
        return self.left if column.zone == LEFT else self.blended.others[_number(column.zone)].summary

    def _rows_in(self, zone: str, left: IndexVector, right: IndexVector) -> tuple[Table, IndexVector]:
        """The table of a zone, and its rows beside rows of the main table or groups of the others."""
        if zone == LEFT:
            return self.left, left
        number = _number(zone)
        found = self.blended.others[number]
        first, end = self._offsets[number : number + 2]
        rows = np.where((right >= first) & (right < end), right - first, -1)
        return found.summary, np.where(left >= 0, looked_up(found.partner, left), rows)

    def is_absent(self, zone: str, left: int, right: int) -> bool:
        return bool(self._rows_in(zone, np.array([left]), np.array([right]))[1][0] < 0)

    def row_number(self, left: int, right: int) -> int:
        return left if left >= 0 else self._group_of(right)[1]

    def _group_of(self, right: int) -> tuple[int, int]:
        """The other table and the group in it of a number among all groups."""
        number = int(np.searchsorted(self._offsets, right, side="right")) - 1
        return number, right - int(self._offsets[number])

    def origins(self, part: Part, place: int) -> tuple[RowOrigin, ...]:
        left, right = self.row_sides(part, place)
        found: tuple[RowOrigin, ...] = ()
        for zone in self.zones:
            table, rows = self._rows_in(zone, np.array([left]), np.array([right]))
            if rows[0] >= 0:
                found += table.origins(int(rows[0]))
        return found

    def entries(self, left: int, right: int) -> list[tuple[Table, int, str]]:
        """The rows that one line shows: of each table its row or group, and what it is called."""
        found = []
        for zone, title in zip(self.zones, self.titles.values(), strict=True):
            table, rows = self._rows_in(zone, np.array([left]), np.array([right]))
            if rows[0] >= 0:
                found.append((table, int(rows[0]), title[0]))
        return found

    def result_row(self, left: int, right: int) -> tuple[str, int] | None:
        if left < 0:
            number, group = self._group_of(right)
            return unused_port(number), int(np.searchsorted(self.blended.others[number].unused_rows, group))
        if self._kept is not Keep.FOUND:
            return ROWS, left
        found = self.blended.combinations[: left + 1] > 0
        return (ROWS, int(found.sum()) - 1) if found[left] else None

    # --- where bands go ---

    def destinations(self, band: Band, current: object) -> list[Destination]:
        if band.key.startswith(_OTHER):
            if self._kept is Keep.GROUPS:
                return [Destination(_OUT, Keep.GROUPS), Destination(_STAY, Keep.ALL_GROUPS)]
            said = kept_of_blend(Keep.ALL_GROUPS, self._main)[0]
            return [Destination(_OUT, self._kept), Destination(f"stay: {said}", Keep.ALL_GROUPS)]
        if band.key != NOTHING_FOUND or self._kept not in (Keep.EVERY, Keep.FOUND):
            return [Destination(_STAY, self._kept)]
        return [Destination(_STAY, Keep.EVERY), Destination(_OUT, Keep.FOUND)]

    def destination_text(self, band: Band, current: object) -> str:
        out = band.key.startswith(_OTHER) or (band.key == NOTHING_FOUND and self._kept is Keep.FOUND)
        return _OUT if out else _STAY


def _number(zone: str) -> int:
    return int(zone.removeprefix(_OTHER))


def _columns(settings: BlendSettings, shapes: Sequence[InputShape], blended: Blended) -> list[Column]:
    """The main table's link fields and other fields, then each other one's link fields and measures."""
    measures = {measure.name for entry in settings.others for measure in entry.measures}
    fields = [entry for entry in blended.whole.fields if entry.name not in measures]
    main = shapes[0].fields
    linked = {
        name
        for entry in settings.others
        for link in entry.links
        for name in (link.left, *value_of(link.left, main).names)
    }
    first = [entry for entry in fields if entry.name in linked]
    columns = [Column(LEFT, entry) for entry in [*first, *(f for f in fields if f not in first)]]
    for number, found in enumerate(blended.others):
        columns += [Column(other_zone(number), entry) for entry in found.summary.fields]
    return columns


def _titles(
    settings: BlendSettings, shapes: Sequence[InputShape], blended: Blended, reached: Mapping[int, str]
) -> dict[str, tuple[str, str]]:
    """By zone the name of its table, and its funnel: rows, after filters, groups, used."""
    main = [_rows_and_filters(blended.main_rows, reached.get(0, ""))]
    if settings.kept in (Keep.GROUPS, Keep.ALL_GROUPS):
        main.append(groups_said(blended.whole.rows))
    titles = {LEFT: (shapes[0].name, ", ".join(main))}
    for number, (found, shape) in enumerate(zip(blended.others, shapes[1:], strict=True)):
        titles[other_zone(number)] = (shape.name, funnel(found, reached.get(number + 1, "")))
    return titles


def _rows_and_filters(rows: int, filters: str) -> str:
    """How many rows there are; where shared filters left fewer, those before them as well."""
    return filters if filters[:1].isdigit() else ", ".join(part for part in (f"{rows:,}", filters) if part)


def funnel(found: Found, filters: str = "") -> str:
    """What became of the rows of another table, in words. filters: what shared ones left of it."""
    said = [_rows_and_filters(found.rows, filters)]
    if found.left_out:
        said.append(f"{found.rows - found.left_out:,} after its filter")
    said.append(groups_said(found.summary.rows))
    said.append(f"{found.groups_used:,} used")
    return ", ".join(said)


def _bands(shapes: Sequence[InputShape], blended: Blended, offsets: IndexVector) -> list[Band]:
    """The bands that are not empty: rows by what they found, then groups that found no place, most first."""
    main = shapes[0].name.split(" with ")[0]
    names = [shape.name for shape in shapes[1:]]
    one = rows_called(main)[0]
    bands = []
    for kind, rows in blended.rows_by_combination.items():
        key, count = f"found:{kind}", len(rows)
        text = f"{main} {_with(kind, names)} · {rows_said(count)}"
        bands.append(Band(key, text, [Part(key, "", OneSide(count, rows, on_left=True))]))
    bands.sort(key=lambda band: -band.count)
    unused = []
    for number, (found, name) in enumerate(zip(blended.others, names, strict=True)):
        count, key = len(found.unused_rows), other_zone(number)
        if count:
            rows = found.unused_rows + offsets[number]
            text = f"{name} with no {one} · {groups_said(count)}"
            part = Part(key, "", OneSide(count, rows, on_left=False))
            unused.append(Band(key, text, [part], effect="used by no row"))
    return [*bands, *sorted(unused, key=lambda band: -band.count)]


def _with(kind: int, names: Sequence[str]) -> str:
    """Which tables the rows of a band found something in."""
    found = [name for number, name in enumerate(names) if kind >> number & 1]
    if len(found) == len(names):
        return f"with {' and '.join(names)}" if len(names) < 3 else "with all other tables"
    if found:
        return f"with {listed(found)} only"
    return f"without {names[0]}" if len(names) == 1 else "with neither" if len(names) == 2 else "with none"


def rows_of_blend(session: Session, explanations: Explanations, step: Step, outcome: Outcome) -> Shown | None:
    """A blend's bands, with what shared filters do to its tables."""
    blended = outcome.result.blended if outcome.result is not None else None
    if blended is None:
        return None
    reached = filters_said(session, step)
    return Shown(
        (blended, step.settings, outcome.inputs, reached),
        lambda: BlendContent(KINDS.settings(step), outcome.inputs, blended, reached),
    )
