"""Other files, tables or addresses for the sources of a flow, and what is different there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.insight.changes import FieldChange
from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import is_address, shown_place
from keen_trellis.flow.comparison import remembered_fields
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import SourceCounts, last_run
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.sources.library import Library, resolve


@dataclass(frozen=True)
class Replaced:
    """A source that is read from elsewhere. changes: what is different in its fields, as far as is known."""

    step: str
    name: str
    before: str
    now: str
    changes: tuple[FieldChange, ...]

    @property
    def said(self) -> str:
        """What is read instead of what, and what is different, in a sentence."""
        differs = "; ".join(str(change) for change in self.changes)
        what = f"{self.name} is read from {self.now} instead of {self.before}"
        return f"{what}: {differs}." if differs else f"{what}."


def with_sources(
    flow: Flow, texts: Sequence[str], library: Library, task: Task | None = None
) -> tuple[Flow, list[Replaced]]:
    """The flow with other sources. texts: NAME=SOURCE[#TABLE] each, the name that of a source step.

    What is set for the fields of a source stays; how it is written stays if it is read by the same reader.
    UsageError for what names no source step; SourceError if the other source cannot be read.
    """
    task, made = task or Task(), []
    for text in texts:
        name, sign, place = text.partition("=")
        if not sign or not place.strip():
            raise UsageError(f"“{text}” sets nothing.", remedy="Write NAME=FILE, or NAME=FILE#TABLE.")
        step = _source_named(flow, name.strip())
        old: SourceSettings = KINDS.settings(flow.step(step))
        other = resolve(place.strip(), library).settings
        settings = msgspec.structs.replace(other, fields=old.fields)
        if other.reader == old.reader:
            settings = msgspec.structs.replace(old, path=other.path, table=other.table, query="")
        before = _fields_before(flow, step, old, library, task)
        now = library.get(settings, task).table.fields
        changes = remembered_fields(before, now) if before is not None else ()
        made.append(Replaced(step, flow.step(step).name, _place(old), _place(settings), changes))
        flow = change_settings(flow, step, settings)
    return flow, made


def _source_named(flow: Flow, name: str) -> str:
    """The id of the source step with this name or id; UsageError if none or several have it."""
    sources = [flow.step(step) for step in sources_of(flow, KINDS)]
    found = [step.id for step in sources if step.id == name] or [s.id for s in sources if s.name == name]
    if len(found) == 1:
        return found[0]
    known = ", ".join(step.name for step in sources)
    if found:
        raise UsageError(f"Several sources are called “{name}”.", remedy=f"Use an id: {', '.join(found)}.")
    raise UsageError(f"The flow has no source “{name}”.", remedy=f"It has: {known}.")


def _fields_before(
    flow: Flow, step: str, settings: SourceSettings, library: Library, task: Task
) -> SourceCounts | None:
    """The fields that the source has where the flow reads it; else those of its last run; None if unknown.

    A server or a query of the flow is not asked for that: the flow may come from elsewhere.
    """
    try:
        if is_address(settings.path) or settings.query:
            raise SourceError("It is not read.", where=settings.path)
        table = library.get(settings, task).table
    except SourceError:
        last = last_run(flow)
        return last.sources.get(step) if last is not None else None
    return SourceCounts(table.rows, tuple((field.name, field.type.value) for field in table.fields))


def _place(settings: SourceSettings) -> str:
    place = shown_place(settings.path)
    return f"{settings.table} of {place}" if settings.table else place
