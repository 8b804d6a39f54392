"""Links that are known to be right: foreign keys, and those of knots in flows that were saved.

A source is known by its file's name and its table, and files whose names differ in digits only are one
source: next month's file is linked as this month's was.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
import platformdirs

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.proposal import Known
from keen_trellis.core.link import LinkField
from keen_trellis.core.task import Task
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import InputShape, Kinds
from keen_trellis.flow.snapshot import Snapshots
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.whole_file import whole_file

_MOST_KEPT = 500
_DIGITS = re.compile(r"\d+")


class Side(msgspec.Struct, frozen=True):
    """Fields of one source."""

    file: str
    table: str
    fields: tuple[str, ...]


class Confirmed(msgspec.Struct, frozen=True):
    """The links of one knot, and the name of the flow in which it stood."""

    left: Side
    right: Side
    links: tuple[LinkSettings, ...]
    flow: str

    @property
    def swapped(self) -> Confirmed:
        """The same links seen from the other side."""
        links = tuple(link.swapped for link in self.links)
        return Confirmed(self.right, self.left, links, self.flow)


class ConfirmedLinks:
    """The links that were confirmed, the latest last, in a file of the user's own."""

    def __init__(self, path: Path | None = None) -> None:
        self._path = path or Path(platformdirs.user_data_dir("keen-trellis")) / "confirmed-links.json"

    def all(self) -> tuple[Confirmed, ...]:
        """What is remembered; nothing where the file cannot be read."""
        with suppress(OSError, msgspec.DecodeError):
            return decoded(self._path.read_bytes(), tuple[Confirmed, ...])
        return ()

    def remember(
        self, flow: Flow, kinds: Kinds, name: str, inputs: Mapping[str, Sequence[InputShape]]
    ) -> None:
        """Remember the links of a flow's knots. inputs: the shapes of each knot's inputs, by its id.

        That it cannot be written is no error: it is a help only.
        """
        made = list(_of_flow(flow, kinds, name, inputs))
        if not made:
            return
        same = {(entry.left, entry.right) for entry in made}
        kept = [entry for entry in self.all() if (entry.left, entry.right) not in same]
        with suppress(OSError):
            self._path.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(self._path) as draft:
                draft.write_bytes(msgspec.json.encode([*kept, *made][-_MOST_KEPT:]))

    def known(self, flow: Flow, kinds: Kinds, left: InputShape, right: InputShape) -> Iterator[Known]:
        """The links that were confirmed between the sources of two inputs, the latest first."""
        sources = sources_of(flow, kinds)
        for entry in reversed(self.all()):
            for way in (entry, entry.swapped):
                if way.left == _side(way.left.fields, left, sources) and way.right == _side(
                    way.right.fields, right, sources
                ):
                    yield Known(tuple(link.link for link in way.links), f"Linked so before, in {entry.flow}")
                    break


def foreign_keys(
    flow: Flow, kinds: Kinds, snapshots: Snapshots, left: InputShape, right: InputShape, task: Task
) -> Iterator[Known]:
    """The links that foreign keys of a database make between two inputs, in either direction."""
    sources = sources_of(flow, kinds)
    for mine, theirs, turned in ((left, right, False), (right, left, True)):
        for origin in dict.fromkeys(field.origin for field in mine.fields if field.origin in sources):
            settings = sources[origin]
            for key in snapshots.get(settings, task).foreign_keys:
                own = _called(key.fields, settings)
                for other in dict.fromkeys(field.origin for field in theirs.fields):
                    there = sources.get(other)
                    if there is None or there.path != settings.path or not _is_called(key.table, there.table):
                        continue
                    pairs = list(zip(own, _called(key.their_fields, there), strict=True))
                    if not _has(mine, own, origin) or not _has(theirs, [pair[1] for pair in pairs], other):
                        continue
                    links = tuple(LinkField(*(pair[::-1] if turned else pair)) for pair in pairs)
                    yield Known(links, f"A foreign key of {settings.table} in {settings.file_name}")


def _is_called(table: str, name: str) -> bool:
    """Whether a source's name of a table means this one; a schema may be left out of it."""
    return name == table or ("." not in name and table.endswith(f".{name}"))


def _has(shape: InputShape, names: Sequence[str], origin: str) -> bool:
    own = {field.name for field in shape.fields if field.origin == origin}
    return own.issuperset(names)


def _called(names: Sequence[str], settings: SourceSettings) -> list[str]:
    """What fields of a source are called once its settings have renamed them."""
    renamed = {entry.name: entry.rename for entry in settings.fields if entry.rename}
    return [renamed.get(name, name) for name in names]


def _of_flow(
    flow: Flow, kinds: Kinds, name: str, inputs: Mapping[str, Sequence[InputShape]]
) -> Iterator[Confirmed]:
    sources = sources_of(flow, kinds)
    for step in flow.steps:
        if not kinds.matches(step) or len(inputs.get(step.id, ())) != 2:
            continue
        links: tuple[LinkSettings, ...] = ()
        with suppress(TrellisError):
            links = kinds.settings(step).links
        if not links or not all(link.link.is_plain for link in links):
            continue
        left, right = inputs[step.id]
        sides = (
            _side([link.left for link in links], left, sources),
            _side([link.right for link in links], right, sources),
        )
        if sides[0] is not None and sides[1] is not None:
            # Corrections belong to the values that there were, not to the link.
            plain = tuple(msgspec.structs.replace(link, correct=(), lists=()) for link in links)
            yield Confirmed(sides[0], sides[1], plain, name)


def _side(names: Sequence[str], shape: InputShape, sources: Mapping[str, SourceSettings]) -> Side | None:
    """The one source that fields of an input come from; None if there are several, or none."""
    by_name = {field.name: field.origin for field in shape.fields}
    origins = {by_name.get(name, "") for name in names}
    settings = sources.get(origins.pop()) if len(origins) == 1 else None
    if settings is None:
        return None
    file = _DIGITS.sub("#", settings.file_name.casefold())
    return Side(file, _DIGITS.sub("#", settings.table.casefold()), tuple(names))
