"""The margin: files, their tables, and the lanes that begin at them."""

from __future__ import annotations

from keen_trellis.desktop.trellis.places import Places, place_in, rows_at
from keen_trellis.desktop.trellis.shapes import FOLD, LINE, FileLine, Head, Stump, ValueLine
from keen_trellis.flow.graph import Step
from keen_trellis.session.selection import Selection

# Heights: a line with a file's name, and what is left free between two files.
_FILE_LINE = 18
_GAP = 3


def lay_margin(places: Places) -> None:
    """Lay out files with their tables, and with each table that is used the lane that begins at it."""
    y = 6.0
    for value in places.flow.values:
        text = value.value or "not set"
        line = ValueLine(Selection(value=value.name), y, f":{value.name}", text, not value.value)
        places.layout.values.append(line)
        y += LINE
    y += _GAP if places.flow.values else 0
    for path in places.files:
        y = _file(places, path, y) + _GAP
    own = [step for step, settings in places.sources.items() if not settings.path]
    if own:
        places.layout.files.append(FileLine("", y, "in the flow itself"))
        y += _FILE_LINE
    for step_id in own:
        y = _head(places, places.flow.step(step_id), y)
    places.layout.height = y + _GAP


def _file(places: Places, path: str, y: float) -> float:
    state = places.session.margin.files.get(path)
    used = places.by_file.get(path, [])
    content = state.content if state else None
    tables = [entry.name for entry in content.tables] if content else []
    if content and content.is_one_table and not used:
        # A text file is one table: its name stands for both.
        return _stump(places, path, tables[0], y, path.rsplit("/", 1)[-1])
    listed = places.session.margin.listed(path)
    places.layout.files.append(_file_line(places, path, y, len(listed), bool(used)))
    y += _FILE_LINE
    for step_id in used:
        place = place_in(tables, places.sources[step_id].table)
        for table in [name for name in listed if place_in(tables, name) < place]:
            y = _stump(places, path, table, y)
            listed.remove(table)
        y = _head(places, places.flow.step(step_id), y)
    for table in listed:
        y = _stump(places, path, table, y)
    return y


def _file_line(places: Places, path: str, y: float, listed: int, used: bool) -> FileLine:
    state = places.session.margin.files.get(path)
    error = state.error if state else None
    said = "cannot be read" if error else "" if state and state.content else "looking into it"
    name = path.rsplit("/", 1)[-1]
    hidden = len(places.session.margin.unused(path)) - listed
    tables = "table" if hidden == 1 else "tables"
    more = f"{hidden} more {tables}" if used or listed else f"{hidden} {tables}"
    folds = FOLD if listed and used else ""
    return FileLine(
        path,
        y,
        f"{name} · {said}" if said else name,
        error.what if error else "",
        more if hidden else folds,
    )


def _stump(places: Places, path: str, table: str, y: float, shown: str = "") -> float:
    selection = Selection(path=path, table=table)
    state = places.session.margin.files[path]
    snapshot = places.session.library.known(state.content.settings(table)) if state.content else None
    count = f"{snapshot.table.rows:,}" if snapshot else ""
    tables = state.content.tables if state.content else ()
    listing = next((entry for entry in tables if entry.name == table), None)
    text = shown or (listing.called if listing is not None else table)
    text = f"{text} · hidden" if listing is not None and listing.hidden else text
    places.layout.stumps.append(Stump(selection, y + LINE / 2, text, count))
    return y + LINE


def _head(places: Places, step: Step, y: float) -> float:
    lane, *branches = [lane for lane in places.lanes if lane.source == step.id]
    middle = places.place_lane(lane, y + places.size.of_rail[0])
    for branch in branches:
        places.place_lane(branch, 0)
    outcome = places.session.outcome(step.id)
    rows = rows_at(outcome)
    settings = places.sources.get(step.id)
    snapshot = places.session.library.known(settings) if settings is not None else None
    old = snapshot is not None and bool(snapshot.old)
    places.layout.heads.append(
        Head(
            Selection(step.id),
            middle,
            step.name,
            places.marks[step.id],
            f"{rows:,}{' · old' if old else ' · sample' if step.id in places.on_samples else ''}"
            if rows >= 0
            else "",
            old or bool(outcome and outcome.error),
        )
    )
    return middle + places.size.of_rail[1]
