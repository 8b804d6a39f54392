"""Lists of corrections in the window: used by links, filled from them, pruned, proposed where they apply."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from keen_trellis.core.errors import SourceError, TrellisError
from keen_trellis.core.insight.listed import Applying, applying
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.task import Task
from keen_trellis.flow import corrections
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.corrections import LIST_ENDING, Correction, called, listed_pairs, said_now
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import CorrectionList, Flow
from keen_trellis.flow.kinds import StepKind, digest
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.flow.wording import counted
from keen_trellis.session.jobs import Job
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.state import State

_MOST_KNOWN = 50


class Proposed(msgspec.Struct, frozen=True):
    """A list that speaks of unmatched rows of a knot. link: the number of the link that would use it."""

    path: str
    link: int
    found: Applying

    @property
    def said(self) -> str:
        pairs = "1 of its pairs" if self.found.pairs == 1 else f"{self.found.pairs:,} of its pairs"
        return f"use the list {called(self.path)}: {pairs} for {rows_said(self.found.rows)}"


class KnownLists:
    """The lists that this user used, the latest last, in a file of the user's own."""

    def __init__(self, path: Path | None = None) -> None:
        self._path = path or Path(platformdirs.user_data_dir("keen-trellis")) / "lists.json"

    def all(self) -> tuple[str, ...]:
        """Their paths; none where the file cannot be read."""
        with suppress(OSError, msgspec.DecodeError):
            return decoded(self._path.read_bytes(), tuple[str, ...])
        return ()

    def remember(self, path: str) -> None:
        """Remember a list. That it cannot be written is no error: it is a help only."""
        kept = [entry for entry in self.all() if entry != path]
        with suppress(OSError):
            self._path.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(self._path) as draft:
                draft.write_bytes(msgspec.json.encode([*kept, path][-_MOST_KNOWN:]))


class CorrectionLists:
    """What the open flow does with lists. remembered: those of other flows."""

    def __init__(self, state: State, folder: Callable[[], Path]) -> None:
        self._state, self._folder = state, folder
        self.remembered = KnownLists()
        self._job: tuple[str, Job] | None = None

    # --- which there are ---

    def known(self) -> list[str]:
        """The lists of the flow, those that lie beside it or beside its files, and those used lately."""
        state = self._state
        files = [settings.path for settings in state.sources().values() if settings.path]
        folders = {self._folder(), *(Path(path).parent for path in files if not is_address(path))}
        beside = [str(path) for folder in sorted(folders) for path in _lists_in(folder)]
        lately = [path for path in reversed(self.remembered.all()) if Path(path).is_file()]
        return list(dict.fromkeys([*(entry.path for entry in state.flow.lists), *beside, *lately]))

    # --- edits ---

    def use(self, step_id: str, number: int, path: str) -> None:
        """Let a link of a step use a list."""

        def edit(flow: Flow) -> Flow:
            flow, list_id = corrections.with_list(flow, path)
            listed_pairs(flow, [list_id])  # refuses one that cannot be read

            return _with_link(flow, step_id, number, lambda link: _using(link, list_id))

        if self._state.apply(f"Use the list {called(path)}", edit):
            self.remembered.remember(path)

    def leave(self, step_id: str, number: int, list_id: str) -> None:
        """Let a link of a step no longer use a list; the flow forgets a list that no link uses."""

        def edit(flow: Flow) -> Flow:
            def leave(link: LinkSettings) -> LinkSettings:
                return msgspec.structs.replace(link, lists=tuple(e for e in link.lists if e != list_id))

            flow = _with_link(flow, step_id, number, leave)
            used = {entry for link in links_of(flow) for entry in link.lists}
            lists = tuple(entry for entry in flow.lists if entry.id != list_id or entry.id in used)
            return msgspec.structs.replace(flow, lists=lists)

        entry = self._state.flow.correction_list(list_id)
        self._state.apply(f"Do without the list {called(entry.path) if entry else list_id}", edit)

    def keep(self, step_id: str, number: int, path: str) -> None:
        """Put a link's own corrections into a list, and let it use that."""
        link = link_at(self._state.flow, step_id, number)
        if link is None or not link.correct:
            return
        try:
            corrections.add(path, said_now(link.correct))
        except SourceError as error:
            self._state.failed.emit(error)
            return
        moved = set(link.correct)
        self.reread([path])

        def edit(flow: Flow) -> Flow:
            flow, list_id = corrections.with_list(flow, path)

            def use(link: LinkSettings) -> LinkSettings:
                own = tuple(pair for pair in link.correct if pair not in moved)
                return msgspec.structs.replace(_using(link, list_id), correct=own)

            return _with_link(flow, step_id, number, use)

        pairs = counted(len(moved), "corrections")
        if self._state.apply(f"Keep {pairs} in the list {called(path)}", edit):
            self.remembered.remember(path)
            self._state.said.emit(f"{pairs} stand in {Path(path).name}: other flows and people can use them.")

    # --- the files ---

    def prune(self, path: str, entry: Correction) -> bool:
        """Take a pair out of a list; whether that could be done."""
        return self._written(path, lambda: corrections.remove(path, [entry.read]))

    def put_back(self, path: str, entry: Correction) -> bool:
        """Put a pair back that was taken out, as it was said then."""
        return self._written(path, lambda: corrections.add(path, [entry]))

    def _written(self, path: str, write: Callable[[], object]) -> bool:
        try:
            write()
        except SourceError as error:
            self._state.failed.emit(error)
            return False
        self.reread([path])
        return True

    def reread(self, paths: Collection[str] = ()) -> None:
        """Take the flow's lists as their files are now; only some, if paths are given."""
        now = {
            entry.path: entry
            for entry in corrections.reread(self._state.flow).lists
            if not paths or entry.path in paths
        }

        def change(flow: Flow) -> Flow:
            return msgspec.structs.replace(
                flow, lists=tuple(_as_read(entry, now.get(entry.path, entry)) for entry in flow.lists)
            )

        if change(self._state.flow) != self._state.flow:
            self._state.carry(change)

    # --- proposals ---

    def proposed(self, step_id: str, outcome: Outcome) -> tuple[Proposed, ...]:
        """Lists that are not used and that speak of a knot's unmatched rows; they are looked for at first."""
        match = outcome.result.match if outcome.result is not None else None
        step = self._state.flow.find(step_id)
        if match is None or step is None or outcome.partial or len(outcome.tables) != 2:
            return ()
        settings: JoinSettings = KINDS.settings(step)
        used = {entry.path for entry in self._state.flow.lists if entry.id in settings.links_lists}
        paths = [path for path in self.known() if path not in used]
        links = [(number, link) for number, link in enumerate(settings.links) if link.operator == "="]
        if not paths or not links or match.counts.left_unmatched + match.counts.right_unmatched == 0:
            return ()
        times = [Path(path).stat().st_mtime_ns if Path(path).is_file() else 0 for path in paths]
        key = digest("lists", outcome.fingerprint, paths, times)
        found: tuple[Proposed, ...] | None = self._state.runner.kept.find(key)
        if found is not None:
            return found
        if self._job is not None and self._job[0] == key:
            return ()
        tables = outcome.tables[0], outcome.tables[1]

        def work(task: Task) -> tuple[Proposed, ...]:
            made = []
            for path in paths:
                task.checkpoint()
                with suppress(TrellisError):
                    pairs = [(entry.read, entry.meant) for entry in corrections.corrections_in(path)]
                    speaks = [
                        Proposed(path, n, applying(pairs, tables, link.link, match)) for n, link in links
                    ]
                    made += [entry for entry in speaks if entry.found.rows]
            made.sort(key=lambda entry: -entry.found.rows)
            self._state.runner.kept.keep(key, tuple(made))
            return tuple(made)

        def done(made: tuple[Proposed, ...]) -> None:
            if made:
                self._state.tell([step_id])

        self._job = (
            key,
            self._state.jobs.start("looking into lists of corrections", work, done, lambda _: None),
        )
        return ()


def _using(link: LinkSettings, list_id: str) -> LinkSettings:
    """The link with a list that it uses behind all others."""
    others = (entry for entry in link.lists if entry != list_id)
    return msgspec.structs.replace(link, lists=(*others, list_id))


def _as_read(entry: CorrectionList, now: CorrectionList) -> CorrectionList:
    return msgspec.structs.replace(entry, pairs=now.pairs, error=now.error)


def _lists_in(folder: Path) -> list[Path]:
    with suppress(OSError):
        return sorted(folder.glob(f"*{LIST_ENDING}"))
    return []


def links_of(flow: Flow, step_id: str = "") -> Iterator[LinkSettings]:
    """The links of a step, or of all, in their order."""
    for step in flow.steps:
        kind = KINDS.find(step.kind)
        if kind is None or (step_id and step.id != step_id):
            continue
        with suppress(TrellisError):
            yield from _links_in(kind, KINDS.settings(step))


def _links_in(kind: StepKind[Any], settings: Any) -> list[LinkSettings]:
    found: list[LinkSettings] = []

    def see(link: LinkSettings, _: int) -> LinkSettings:
        found.append(link)
        return link

    kind.with_links(settings, see)
    return found


def link_at(flow: Flow, step_id: str, number: int) -> LinkSettings | None:
    """The link of a step with this number."""
    return next((link for n, link in enumerate(links_of(flow, step_id)) if n == number), None)


def _with_link(flow: Flow, step_id: str, number: int, change: Callable[[LinkSettings], LinkSettings]) -> Flow:
    step, count = flow.step(step_id), iter(range(1_000_000))
    kind = KINDS.of(step)
    made = kind.with_links(
        KINDS.settings(step), lambda link, _: change(link) if next(count) == number else link
    )
    return change_settings(flow, step_id, made)


def users(flow: Flow, list_id: str) -> Sequence[str]:
    """The names of the steps that use a list."""
    return [
        step.name for step in flow.steps if any(list_id in link.lists for link in links_of(flow, step.id))
    ]
