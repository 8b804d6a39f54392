"""What a flow reaches outside its folder, and which flows and queries this user has accepted.

A flow that this user's program wrote is accepted as it is saved; one from elsewhere, or one that was changed
elsewhere since, waits until its servers, queries and outputs were looked at. What was accepted is kept in the
state folder by content, so that nothing in a flow can speak for it.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Collection, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
import platformdirs

from keen_trellis.core.errors import SourceError, TrellisError
from keen_trellis.flow.addresses import file_of, is_address, shown_address, shown_place
from keen_trellis.flow.file_format import dump
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.last_run import with_last_run
from keen_trellis.flow.run_values import files_of
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.source import sources_of

SERVER, QUERY, OUTPUT = "server", "query", "output"
STEPS = "steps"
_KEPT = 5_000
TRUST_OPTION = "--trust"


class Reach(msgspec.Struct, frozen=True):
    """One thing that a flow reaches. sort: SERVER, QUERY or OUTPUT.

    place: the address of the server, the database of the query, or the file or database that is written.
    text: the query, or the table that is written.
    """

    sort: str
    place: str
    text: str = ""

    @property
    def server(self) -> str:
        """The address of the server that it concerns, or ""."""
        return self.place if self.sort != OUTPUT and is_address(self.place) else ""


class NotAccepted(SourceError):
    """A source of a flow that waits to be accepted. reach: what it would reach."""

    option = TRUST_OPTION

    def __init__(self, reach: Reach) -> None:
        held_back = "its query is not run" if reach.sort == QUERY else "it does not connect to this server"
        super().__init__(
            f"This flow was not made by you here, so {held_back} until you accept it.",
            where=reach.place,
            remedy="Review what the flow connects to, and accept it.",
        )
        self.reach = reach


def reached_by(settings: SourceSettings) -> tuple[Reach, ...]:
    """What reading a source reaches besides local files."""
    place = shown_place(settings.path)
    found = [Reach(SERVER, place)] if reaches_server(settings.path) else []
    return (*found, Reach(QUERY, place, settings.query)) if settings.query else tuple(found)


def reaches_server(place: str) -> bool:
    """Whether a place is an address that is no file on this machine."""
    try:
        return file_of(place) is None
    except SourceError:
        return True


def reach(flow: Flow, kinds: Kinds, folder: Path) -> tuple[Reach, ...]:
    """All that a flow in `folder` reaches: servers, queries, and outputs outside the folder."""
    found = [entry for settings in sources_of(flow, kinds).values() for entry in reached_by(settings)]
    found += [Reach(SERVER, shown_address(place)) for place in files_of(flow) if reaches_server(place)]
    for step in flow.steps:
        if kinds.ends_rail(step):
            with suppress(TrellisError):
                written = output_reach(kinds.settled(flow, step))
                if reaches_server(written.place) or not is_within(Path(written.place), folder):
                    found.append(written)
    return tuple(dict.fromkeys(found))


def output_reach(settings: OutputSettings) -> Reach:
    """What an output writes: a file wherever links lead, or a table of a server, which its text names."""
    if reaches_server(settings.path):
        return Reach(OUTPUT, shown_address(settings.path), settings.table)
    file = file_of(settings.path)
    assert file is not None
    return Reach(OUTPUT, os.path.realpath(file))


def is_within(path: Path, folder: Path) -> bool:
    """Whether a file lies in a folder or below it, wherever links lead, and in no hidden folder there."""
    try:
        below = Path(os.path.realpath(path)).relative_to(os.path.realpath(folder))
    except ValueError:
        return False
    return not any(part.startswith(".") for part in below.parts)


def waiting(flow: Flow, kinds: Kinds, folder: Path, written: Flow | None = None) -> frozenset[Reach]:
    """What a flow that was read from `folder` reaches and nobody accepted yet.

    written: the flow as it was read, where it has other run values now that the user gave it. Who accepted
    that one accepted it with any values.
    """
    found = reach(flow, kinds, folder)
    if not found:
        return frozenset()
    as_read = flow if written is None else written
    told = found if written is None else reach(written, kinds, folder)
    return frozenset() if _has(_identity(as_read, kinds, folder, told)) else frozenset(found)


def accept(flow: Flow, kinds: Kinds, folder: Path) -> None:
    """Remember that the user wrote or accepted this flow as it is, in `folder`."""
    found = reach(flow, kinds, folder)
    if found:
        _add(_identity(flow, kinds, folder, found))


def accept_queries(entries: Collection[Reach]) -> None:
    """Remember that the user looked at these queries: the functions they call are accepted with them."""
    for entry in entries:
        if entry.sort == QUERY:
            _add(_digest(QUERY, entry.place, entry.text))


def is_accepted_query(place: str, text: str) -> bool:
    """Whether the user accepted all functions that a query calls."""
    return _has(_digest(QUERY, shown_place(place), text))


def accept_steps(text: str) -> None:
    """Remember that steps on the clipboard come from a flow of this user."""
    _add(_digest(STEPS, text))


def are_accepted_steps(text: str) -> bool:
    """Whether steps on the clipboard come from a flow of this user."""
    return _has(_digest(STEPS, text))


def _identity(flow: Flow, kinds: Kinds, folder: Path, found: Sequence[Reach]) -> str:
    """What a flow is told by: all it says but the counts of its last run, and where its outputs go."""
    outside = [f"{entry.place}#{entry.text}" for entry in found if entry.sort == OUTPUT]
    return _digest(dump(with_last_run(flow, None), folder, kinds).decode(), *sorted(outside))


def _digest(*parts: str) -> str:
    whole = "\0".join(parts).encode(errors="surrogateescape")
    # Not the quick digest of contents: who makes a flow must not be able to make one of the same digest.
    return hashlib.sha256(whole).hexdigest()


_here: set[str] = set()  # also where the state folder cannot be written


def _folder() -> Path:
    return Path(platformdirs.user_state_dir("keen-trellis")) / "accepted"


def _has(digest: str) -> bool:
    if digest in _here:
        return True
    with suppress(OSError):
        file = _folder() / digest
        if file.exists():
            os.utime(file)
            return True
    return False


def _add(digest: str) -> None:
    _here.add(digest)
    with suppress(OSError):
        folder = _folder()
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        (folder / digest).touch(mode=0o600)
        entries = list(folder.iterdir())
        if len(entries) > _KEPT:
            # Who is not asked for in so long is asked about once more.
            for old in sorted(entries, key=lambda entry: entry.stat().st_mtime)[: len(entries) - _KEPT]:
                old.unlink(missing_ok=True)
