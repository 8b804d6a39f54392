"""One open flow without an interface: its history, its file, and what its steps come to."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.flow import file_format, run_log, trust
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.confirmed_links import ConfirmedLinks
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.history import History
from keen_trellis.flow.last_run import LastRun, last_run, with_last_run
from keen_trellis.flow.runner import Kept
from keen_trellis.flow.runs import REFRESH
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.correction_lists import CorrectionLists
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.margin import Margin
from keen_trellis.session.noting import Noting
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.refreshing import Refreshing
from keen_trellis.session.results import Results
from keen_trellis.session.saved import SavedFlow, fingerprint
from keen_trellis.session.selection import Selection
from keen_trellis.session.state import State
from keen_trellis.sources.library import Library


class Session(State):
    """What a window, a test or a script drives. Views look at it, call its edits, and hear what changed.

    kept: where results are kept; several sessions may share it, and then compute nothing twice.
    """

    def __init__(self, jobs: Jobs, library: Library, kept: Kept | None = None) -> None:
        super().__init__(jobs, library, kept)
        self.margin = Margin(self)
        self.results = Results(self)
        self.refreshing = Refreshing(self, self.margin, self.results)
        self.runner.kept.looked_at = lambda: (self.results.leased, self.refreshing.comparison)
        self.runner.past = lambda step, count: run_log.past(self.path, step, count)
        self.noting = Noting(self, lambda: self.path)
        self.refreshing.compared.connect(lambda: self.noting.note(REFRESH, since=self.refreshing.began))
        self.confirmed = ConfirmedLinks()
        self.lists = CorrectionLists(self, lambda: self.folder)
        self._saved = SavedFlow()

    # --- the file ---

    @property
    def path(self) -> Path | None:
        return self._saved.path

    @property
    def folder(self) -> Path:
        """Where the flow lies; until it is saved, where the program was started."""
        return self.path.parent if self.path else Path.cwd()

    @property
    def name(self) -> str:
        return self.path.stem if self.path else "Untitled flow"

    def beside_the_flow(self, path: str) -> str:
        """A file of the same name beside the flow, where `path` is not; "" if there is none."""
        beside = self.folder / Path(path).name
        return str(beside) if self.path is not None and not Path(path).exists() and beside.exists() else ""

    @property
    def place(self) -> Path:
        """Where a file is looked for first: the flow's folder, else the first file's, else the user's."""
        if self.path is not None:
            return self.path.parent
        files = [Path(path) for path in self.margin.paths() if not is_address(path)]
        return files[0].parent if files else Path.home()

    @property
    def unsaved(self) -> bool:
        """Whether the flow is another than its file has."""
        return self.flow != self._saved.flow

    def new(self) -> None:
        """Begin an empty flow."""
        self._begin(SavedFlow())

    def open(self, path: Path) -> None:
        """Open the flow in `path`; FlowFileError, and no change, if it cannot be."""
        content = fingerprint(path)
        flow = file_format.load(path, KINDS)
        waiting = trust.waiting(flow, KINDS, path.parent)
        saved = SavedFlow(path.absolute(), flow, content)
        self._begin(saved, last=last_run(flow), waiting=waiting)

    def recover(self, flow: Flow, path: Path | None, *, accepted: bool) -> None:
        """Go on with a flow that was never saved; `path` is the file that it was opened from.

        accepted: whether nothing that it reaches waited for the user when it was kept.
        """
        saved = SavedFlow(path)
        if path is not None and path.exists():
            with suppress(TrellisError):
                saved = SavedFlow(path, file_format.load(path, KINDS), fingerprint(path))
        found = () if accepted else trust.reach(flow, KINDS, path.parent if path else Path.cwd())
        self._begin(saved, flow, waiting=frozenset(found))

    def save(self, path: Path, *, overwrite: bool = False) -> None:
        """Save the flow to `path`; FlowFileError, and nothing written, if it cannot be.

        FlowChangedError if somebody else changed the file since it was opened; overwrite: do it all the same.
        """
        if not overwrite:
            self._saved.check_unchanged(path)
        refreshing = self.refreshing
        refreshing.last = refreshing.counts_now() or refreshing.last
        file_format.save(with_last_run(self.flow, refreshing.last), path, KINDS)
        # What it came to is no edit: it is remembered whatever is undone.
        self.history.carry(lambda flow: with_last_run(flow, refreshing.last))
        self._saved = SavedFlow(path.absolute(), self.flow, fingerprint(path))
        if not self.library.waiting.intersection(self.reach()):
            trust.accept(self.flow, KINDS, path.parent)
        outcomes = self.results.by_step.items()
        inputs = {step: outcome.inputs for step, outcome in outcomes if outcome.inputs}
        self.confirmed.remember(self.flow, KINDS, path.stem, inputs)
        self._flow_changed()

    def carry(self, change: Callable[[Flow], Flow]) -> None:
        self._saved = msgspec.structs.replace(self._saved, flow=change(self._saved.flow))
        super().carry(change)

    def _begin(
        self,
        saved: SavedFlow,
        flow: Flow | None = None,
        *,
        last: LastRun | None = None,
        waiting: frozenset[trust.Reach] = frozenset(),
    ) -> None:
        """Let another flow be open: the one that its file has, unless it is given."""
        self.history = History(saved.flow if flow is None else flow)
        self._saved = saved
        # Opening a flow takes its sources as they are now; what has not changed is not read again.
        self.results.by_step.clear()
        self.margin.begin_anew()
        self.library.take_anew()
        if last is not None:
            self.library.fall_back_on(self.flow, KINDS, last)
        self.library.waiting = waiting
        first = self.flow.steps[:1]
        knots = [step for step in self.flow.steps if KINDS.matches(step)][:1]
        self.selection = Selection((knots or first)[0].id) if first else Selection()
        self._flow_changed()
        self.selected.emit()
        self.refreshing.begin_anew(last)

    def _flow_changed(self) -> None:
        super()._flow_changed()
        self.library.keep_only({*self.sources().values(), *self.margin.looked_at()})
        self.refreshing.forget_gone()
        # Rows before what files have: the threads take first what is asked first.
        self.results.compute()
        self.margin.look_at_new()
        self.changed.emit()

    # --- what it reaches ---

    def reach(self) -> list[trust.Reach]:
        """All that the flow reaches outside its folder."""
        return list(trust.reach(self.flow, KINDS, self.folder))

    def accept_reach(self) -> None:
        """Let the flow reach all that it names, from now on: the user has looked at it."""
        self.library.waiting = frozenset()
        trust.accept_queries(self.reach())
        for flow in (self.flow, self._saved.flow):
            trust.accept(flow, KINDS, self.folder)
        self.compute_again()

    # --- outcomes ---

    def outcome(self, step_id: str) -> Outcome | None:
        """What the step came to, or None while it is not known."""
        return self.results.by_step.get(step_id)

    def selected_outcome(self) -> Outcome | None:
        """What the selection came to, or None while it is not known."""
        if self.selection.is_stump:
            return self.margin.outcome(self.selection)
        return self.outcome(self.selection.step)

    def compute_again(self) -> None:
        """Go on where it was stopped, and try once more what failed, as after a file was put back."""
        self.margin.retry()
        self.results.compute()

    def refresh(self, step_id: str = "") -> None:
        """Take the sources anew, or only that of one step, and say what changed; go on if it was stopped."""
        if self.results.stopped or not self.sources():
            self.compute_again()
        else:
            self.lists.reread()
            self.refreshing.refresh(step_id)
