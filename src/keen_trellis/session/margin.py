"""The margin of the open flow: its files, the tables in them, and what those that are looked at hold."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow.edits import move_files
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.run_values import files_of
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.outcome import FileState, Outcome, stopped
from keen_trellis.session.selection import Selection
from keen_trellis.session.state import State
from keen_trellis.sources.library import FileContent

# So many unused tables of a file that was just put into the margin are listed.
_FEW = 6


class Margin:
    """files: what is known of each, by its path."""

    def __init__(self, state: State) -> None:
        self._state = state
        self.files: dict[str, FileState] = {}
        self._stumps: dict[SourceSettings, Outcome] = {}
        self._to_reveal = ""
        self._listed: dict[str, int] = {}
        state.selected.connect(self._look_at_selected)

    def paths(self) -> list[str]:
        """The files of the margin: those put there, and those that sources name besides."""
        named = (settings.path for settings in self._state.sources().values() if settings.path)
        return list(dict.fromkeys([*files_of(self._state.flow), *named]))

    def begin_anew(self) -> None:
        """Know nothing any more."""
        self.files, self._stumps, self._listed = {}, {}, {}

    # --- the tables that are not used ---

    def unused(self, path: str) -> list[str]:
        """The tables of a file that no rail begins at; none of a file that is one table, and used."""
        state = self.files.get(path)
        if state is None or state.content is None:
            return []
        used = {settings.table for settings in self._state.sources().values() if settings.path == path}
        if used and state.content.is_one_table:
            return []
        return [entry.name for entry in state.content.tables if entry.name not in used]

    def listed(self, path: str) -> list[str]:
        """Those of a file's unused tables that are listed: a few of a file that was just put there.

        Of others none, until somebody wants to see them; and always the one that is selected.
        """
        many = self._listed.get(path, 0)
        selection = self._state.selection
        chosen = selection.table if selection.path == path else ""
        return [name for n, name in enumerate(self.unused(path)) if n < many or name == chosen]

    def list_or_fold(self, path: str) -> None:
        """List all unused tables of a file from now on, or, where they are, fold them away."""
        unused = self.unused(path)
        is_listed = len(self.listed(path)) == len(unused)
        self._listed[path] = 0 if is_listed else len(unused)
        if self._state.selection.path == path and is_listed:
            self._state.select(Selection(path=path))
        self._state.tell([path])

    def look_at_new(self) -> None:
        """Look into the files that nothing is known of."""
        for path in self.paths():
            if path not in self.files:
                if not self._state.flow.steps:
                    self._listed[path] = _FEW
                self._look_into(path)

    def look_again(self) -> None:
        """Look into all files again, as after a refresh."""
        self._stumps = {}
        for path in self.paths():
            self._look_into(path)

    def retry(self) -> None:
        """Look once more at what could not be read, as after a file was put back."""
        for path, state in list(self.files.items()):
            if state.error is not None:
                self._look_into(path)
        for settings, outcome in list(self._stumps.items()):
            if outcome.error is not None:
                del self._stumps[settings]
        self._look_at_selected()

    def _look_into(self, path: str) -> None:
        begun = self.files[path] = FileState()

        def known(state: FileState) -> None:
            # What was asked before the file was looked into again comes too late.
            if self.files.get(path) is begun:
                self.files[path] = state
                self._state.tell([path])
                self._show_revealed(path)
                if state.content is not None:
                    self._look_further(path, state.content)
                    self._look_at_selected()

        self._state.jobs.start(
            f"looking into {shown_name(path)}",
            lambda task: self._state.library.content(path, task),
            lambda content: known(FileState(content=content)),
            lambda error: known(FileState(error=error)),
            lambda _: known(FileState(error=stopped())),
        )

    def _look_further(self, path: str, content: FileContent) -> None:
        """Look for tables that only reading finds: a second one in a sheet."""

        def done(further: FileContent) -> None:
            state = self.files.get(path)
            if state is not None and state.content is content and further != content:
                self.files[path] = FileState(content=further)
                self._state.tell([path])

        self._state.jobs.start(
            f"looking through {shown_name(path)}",
            lambda task: self._state.library.further_content(content, task),
            done,
            lambda _: None,  # what keeps it from being read is said where it is read
        )

    # --- other places ---

    def lost_with(self, old: str, new: str) -> dict[str, str]:
        """Files that are gone as the one at `old` was, and are found beside `new`: where, by the old path."""
        new_folder, old_folder = Path(new).parent, Path(old).parent
        return {
            other: str(new_folder / Path(other).relative_to(old_folder))
            for other in sorted(self.paths())
            if Path(other).is_relative_to(old_folder)
            and not Path(other).exists()
            and (new_folder / Path(other).relative_to(old_folder)).exists()
        }

    def use_files(self, moved: Mapping[str, str]) -> None:
        """Read everything from the new place of its file."""
        names = ", ".join(Path(path).name for path in moved.values())
        self._state.apply(f"Use {names} from its new place", lambda flow: move_files(flow, KINDS, moved))

    # --- stumps ---

    def reveal(self, path: str) -> None:
        """Select the first table of a file as soon as it is known what the file holds."""
        self._to_reveal = path
        self._listed[path] = _FEW
        self._show_revealed(path)

    def _show_revealed(self, path: str) -> None:
        state = self.files.get(path)
        if path != self._to_reveal or state is None or not state.is_known:
            return
        self._to_reveal = ""
        tables = state.content.tables if state.content else ()
        self._state.select(Selection(path=path, table=tables[0].name if tables else ""))

    def called(self, selection: Selection) -> str:
        """What the rail that begins at a stump is called at first: its table's name or title, capitalised."""
        state = self.files.get(selection.path)
        tables = state.content.tables if state is not None and state.content is not None else ()
        name = next((entry.called for entry in tables if entry.name == selection.table), selection.table)
        return name[:1].upper() + name[1:]

    def stump_settings(self, selection: Selection) -> SourceSettings | None:
        """The source that a rail from this stump would have; None while its file is not known."""
        state = self.files.get(selection.path)
        return state.content.settings(selection.table) if state and state.content else None

    def outcome(self, stump: Selection) -> Outcome | None:
        """What a stump holds, or None while it is not known."""
        state = self.files.get(stump.path)
        if state is not None and state.error is not None:
            return Outcome(error=state.error)
        settings = self.stump_settings(stump)
        return self._stumps.get(settings) if settings else None

    def looked_at(self) -> set[SourceSettings]:
        """The tables that were looked at without a rail."""
        return set(self._stumps)

    def _look_at_selected(self) -> None:
        """Read the table of a stump that is selected."""
        selection, library, jobs = self._state.selection, self._state.library, self._state.jobs
        settings = self.stump_settings(selection)
        if settings is None or not selection.table or settings in self._stumps:
            return
        stumps = self._stumps  # what is asked of these comes too late for others

        def known(outcome: Outcome) -> None:
            if stumps is self._stumps:
                stumps[settings] = outcome
                self._state.tell([selection.path])

        def work(task: Task) -> Outcome:
            if library.known(settings) is None:
                first = library.first_rows(settings, task)
                if first is not None:
                    shown = Outcome.of_table(first.table, first.remarks, partial=True)
                    jobs.turns.soon(lambda: known(shown))
            snapshot = library.get(settings, task)
            return Outcome.of_table(snapshot.table, snapshot.remarks, seconds=snapshot.seconds)

        def failed(error: TrellisError) -> None:
            known(Outcome(error=error))

        jobs.start(f"reading {selection.table}", work, known, failed, lambda _: failed(stopped()))
