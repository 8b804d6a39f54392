"""Other files, tables or addresses for the sources of a flow: what is different there, and what mends it."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.insight.changes import FieldChange, FieldChangeKind
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.addresses import is_address, shown_place
from keen_trellis.flow.comparison import remembered_fields
from keen_trellis.flow.edits import add_file, change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import SourceCounts, last_run
from keen_trellis.flow.like_names import LIKE_NAMES, each_once, like_names
from keen_trellis.flow.naming import step_named
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.source_settings import FieldSettings, Layout, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.sources.library import Library, resolve
from keen_trellis.sources.readers import READERS


class Repair(msgspec.Struct, frozen=True):
    """What lets a field of the other table stand for one of the table before.

    field: as it is called there.  rename, type: what to call it, and to read it as; "" as it is.
    proposed: whether it is likely enough to be done unless the user says otherwise.
    """

    field: str
    rename: str = ""
    type: str = ""
    proposed: bool = False

    def __str__(self) -> str:
        return f"call {self.field} {self.rename}" if self.rename else f"read {self.field} as {self.type}"


class OtherSource(msgspec.Struct, frozen=True):
    """A source as it would be read from elsewhere. step, name: the source step.

    before, now: what it reads, and would read.  changes: what is different in its fields, as far as is known.
    repairs: what can be done about it.
    """

    step: str
    name: str
    before: SourceSettings
    now: SourceSettings
    changes: tuple[FieldChange, ...]
    repairs: tuple[Repair, ...] = ()

    @property
    def said(self) -> str:
        """What is read instead of what, and what is different, in a sentence."""
        differs = "; ".join(str(change) for change in self.changes)
        what = f"{self.name} is read from {place_of(self.now)} instead of {place_of(self.before)}"
        return f"{what}: {differs}." if differs else f"{what}."

    def taken(self, flow: Flow, repairs: Sequence[Repair] = ()) -> Flow:
        """The flow with it, and with some of its repairs."""
        entries = {entry.rename or entry.name: entry for entry in self.now.fields}
        for repair in repairs:
            entry = entries.get(repair.field, FieldSettings(repair.field))
            given = {"rename": repair.rename} if repair.rename else {"type": repair.type}
            entries[repair.field] = msgspec.structs.replace(entry, **given)
        # What was set for a field whose name another one takes over has nothing to be set for.
        taken_over = {repair.rename for repair in repairs}
        fields = [entry for name, entry in entries.items() if name not in taken_over]
        settings = msgspec.structs.replace(self.now, fields=tuple(fields))
        return change_settings(add_file(flow, settings.path), self.step, settings)


def with_sources(
    flow: Flow, texts: Sequence[str], library: Library, task: Task | None = None
) -> tuple[Flow, list[OtherSource]]:
    """The flow with other sources. texts: NAME=SOURCE[#TABLE] each, the name that of a source step.

    UsageError for what names no source step; SourceError if the other source cannot be read.
    """
    made = []
    for text in texts:
        name, sign, place = text.partition("=")
        if not sign or not place.strip():
            raise UsageError(f"“{text}” sets nothing.", remedy="Write NAME=FILE, or NAME=FILE#TABLE.")
        sources = sources_of(flow, KINDS)
        step = step_named(flow, name.strip(), sources, "The flow has no source “{}”.")
        found = resolve(place.strip(), library, sources[step].table).settings
        other = other_source(flow, step, found, library, task or Task())
        made.append(other)
        flow = other.taken(flow)
    return flow, made


def other_source(flow: Flow, step: str, found: SourceSettings, library: Library, task: Task) -> OtherSource:
    """A source step as it would read `found`. SourceError if that cannot be read.

    What is set for its fields stays; how it is written stays if it is read by the same reader, and where its
    rows are if the table is called the same.
    """
    old: SourceSettings = KINDS.settings(flow.step(step))
    now = msgspec.structs.replace(found, fields=old.fields)
    if found.reader == old.reader:
        layout = old.layout if found.table == old.table else Layout()
        now = msgspec.structs.replace(old, path=found.path, table=found.table, query="", layout=layout)
    before = _fields_before(flow, step, KINDS.settled(flow, flow.step(step)), library, task)
    fields = library.get(now, task).table.fields
    changes = remembered_fields(before, fields) if before is not None else ()
    return OtherSource(step, flow.step(step).name, old, now, changes, _repairs(before, fields, changes))


def place_of(settings: SourceSettings) -> str:
    """Where a source is read from, as a user is told it."""
    if not settings.path:
        return READERS[settings.reader].said if settings.reader in READERS else "the flow itself"
    place = shown_place(settings.path)
    place = place if is_address(place) else shown_name(place)
    if settings.query:
        return f"a query of {place}"
    return f"{settings.table} of {place}" if settings.table else place


def _repairs(
    before: SourceCounts | None, fields: Sequence[Field], changes: Sequence[FieldChange]
) -> tuple[Repair, ...]:
    """A new field in place of each that is gone, by their names; the type from before for each other one.

    Only text takes every value, so that only this is proposed.
    """
    was = dict(before.fields) if before is not None else {}
    types = {field.name: field.type.value for field in fields}
    by_kind = {kind: [c for c in changes if c.kind is kind] for kind in FieldChangeKind}
    gone, new = ([c.name for c in by_kind[kind]] for kind in (FieldChangeKind.GONE, FieldChangeKind.ADDED))
    likeness = (
        (like_names(one, other), one, other) for one in gone for other in new if was[one] == types[other]
    )
    taken = each_once(entry for entry in likeness if entry[0] >= LIKE_NAMES)
    renamed = [Repair(taken[one], rename=one, proposed=True) for one in gone if one in taken]
    text = FieldType.TEXT.value
    return (
        *renamed,
        *(Repair(c.name, type=c.before, proposed=c.before == text) for c in by_kind[FieldChangeKind.RETYPED]),
    )


def _fields_before(
    flow: Flow, step: str, settings: SourceSettings, library: Library, task: Task
) -> SourceCounts | None:
    """The fields that the source has where the flow reads it; else those of its last run; None if unknown.

    A server or a query of the flow is not asked for that, unless it was: the flow may come from elsewhere.
    """
    try:
        snapshot = library.known(settings)
        if snapshot is None and (is_address(settings.path) or settings.query):
            raise SourceError("It is not read.", where=settings.path)
        table = (snapshot or library.get(settings, task)).table
    except SourceError:
        last = last_run(flow)
        return last.sources.get(step) if last is not None else None
    return SourceCounts.of(table)
