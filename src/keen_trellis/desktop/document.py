"""The open flow: its history, its file, and the results of its steps as they become known."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal

from keen_trellis.core.blending import Blended
from keen_trellis.core.errors import FlowFileError, SourceError, TrellisError
from keen_trellis.core.insight.profile import profile
from keen_trellis.core.joining import MOST_RESULT_ROWS
from keen_trellis.core.match import ListedMatch
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.desktop.jobs import Job, Jobs
from keen_trellis.flow import file_format, trust
from keen_trellis.flow.comparison import Comparison, Earlier, compare, counts_of
from keen_trellis.flow.graph import ROWS, Flow, Step
from keen_trellis.flow.guarding import Checked, checked
from keen_trellis.flow.history import History
from keen_trellis.flow.kinds import InputShape, StepResult
from keen_trellis.flow.known_links import ConfirmedLinks
from keen_trellis.flow.last_run import LastRun, last_run, now, with_last_run
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import SourceKind, sources_of
from keen_trellis.sources.library import FileContent, Library
from keen_trellis.sources.queries import NotHarmless

_SHOWN_AFTER = 0.3  # seconds; what is computed sooner needs no sign of progress


@dataclass(frozen=True)
class Outcome:
    """What a step came to: a result, or an error.

    step: the step as it was then; while a newer one is being computed, this is the latest there is.
    inputs, tables: shape and rows of each input, where they could be found out.
    """

    result: StepResult | None = None
    error: TrellisError | None = None
    step: Step | None = None
    inputs: tuple[InputShape, ...] = ()
    tables: tuple[Table, ...] = ()
    remarks: tuple[Remark, ...] = ()
    seconds: float = field(default=0.0, compare=False)
    guards: tuple[Checked, ...] = ()
    partial: bool = False  # only the first rows; the others are being read


@dataclass(frozen=True)
class Selection:
    """What is selected: a port of a step, a table of a file that no rail begins at (a stump), or a slat."""

    step: str = ""
    port: str = ROWS
    path: str = ""
    table: str = ""
    slat: str = ""

    @property
    def is_stump(self) -> bool:
        return bool(self.path)

    def __bool__(self) -> bool:
        return bool(self.step or self.path or self.slat)


@dataclass
class FileState:
    """What is known of a file in the margin: its content, or why it cannot be read, or neither yet."""

    content: FileContent | None = None
    error: TrellisError | None = None


@dataclass
class _Saved:
    """The file as it was when it was opened or saved last. content: a fingerprint of its bytes."""

    path: Path | None = None
    flow: Flow = field(default_factory=Flow)
    content: str = ""


class FlowChangedError(FlowFileError):
    """The flow's file is not as this window left it."""


def _stopped() -> TrellisError:
    """What is said of what the user stopped before it was known."""
    return SourceError("Reading it was stopped.", remedy="Try again.")


def _fingerprint(path: Path) -> str:
    """Of the bytes of a file; "" if it cannot be read."""
    with suppress(OSError):
        return hashlib.blake2b(path.read_bytes(), digest_size=16).hexdigest()
    return ""


class Document(QObject):
    """The model of the window. Views look at it and call its edits; it tells them what changed.

    changed: another flow value.  outcomes_changed: something became known.  selected: the selection moved.
    said: something to tell the user in the status line.  failed: an error to tell the user.
    compared: it is known what a refresh changed.  progressed: the computing of some step came on.
    """

    changed = Signal()
    outcomes_changed = Signal()
    selected = Signal()
    said = Signal(str)
    failed = Signal(object)
    compared = Signal()
    progressed = Signal()

    def __init__(self, jobs: Jobs, library: Library, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.jobs = jobs
        self.library = library
        self.runner = Runner(KINDS, self.library)
        self.confirmed = ConfirmedLinks()
        self.history = History(Flow())
        self.files: dict[str, FileState] = {}
        self.selection = Selection()
        self.chosen: tuple[str, ...] = ()  # two or more steps that are selected together
        self.under_way: dict[str, float] = {}  # the share that is done of steps that take long
        self._begun: tuple[str, float] = ("", 0.0)
        self._outcomes: dict[str, Outcome] = {}
        self._stumps: dict[SourceSettings, Outcome] = {}
        self._computing: Job | None = None
        self._saved = _Saved()
        self._to_reveal = ""
        self._reading: dict[SourceSettings, Job] = {}
        self._profiled: set[str] = set()
        self.comparison: Comparison | None = None
        self._last: LastRun | None = None
        jobs.ended.connect(self._job_ended)
        jobs.progressed.connect(self._job_progressed)

    # --- the flow and its file ---

    @property
    def flow(self) -> Flow:
        return self.history.flow

    @property
    def path(self) -> Path | None:
        return self._saved.path

    @property
    def name(self) -> str:
        return self.path.stem if self.path else "Untitled flow"

    @property
    def unsaved(self) -> bool:
        """Whether the flow is another than its file has."""
        return self.flow != self._saved.flow

    def new(self) -> None:
        """Begin an empty flow."""
        self._replace(Flow(), None)

    def open(self, path: Path) -> None:
        """Open the flow in `path`; FlowFileError, and no change, if it cannot be."""
        content = _fingerprint(path)
        flow = file_format.load(path, KINDS)
        waiting = trust.waiting(flow, KINDS, path.parent)
        self._replace(with_last_run(flow, None), path.absolute(), last_run(flow), waiting)
        self._saved.content = content

    def recover(self, flow: Flow, path: Path | None, *, accepted: bool) -> None:
        """Go on with a flow that was never saved; `path` is the file that it was opened from.

        accepted: whether nothing that it reaches waited for the user when it was kept.
        """
        saved = _Saved(path)
        if path is not None and path.exists():
            with suppress(TrellisError):
                saved = _Saved(path, with_last_run(file_format.load(path, KINDS), None), _fingerprint(path))
        found = () if accepted else trust.reach(flow, KINDS, path.parent if path else Path.cwd())
        self._replace(flow, path, waiting=frozenset(found))
        self._saved = saved
        self.changed.emit()

    # --- what it reaches ---

    def reach(self) -> list[trust.Reach]:
        """All that the flow reaches outside its folder."""
        return list(trust.reach(self.flow, KINDS, self._folder()))

    def refused_queries(self) -> list[NotHarmless]:
        """The queries that were not sent since they call functions that may reach outside."""
        errors = [outcome.error for outcome in self._outcomes.values()]
        return [error for error in errors if isinstance(error, NotHarmless)]

    def accept_reach(self) -> None:
        """Let the flow reach all that it names, from now on: the user has looked at it."""
        self.library.waiting = frozenset()
        trust.accept_queries(self.reach())
        for flow in (self.flow, self._saved.flow):
            trust.accept(flow, KINDS, self._folder())
        self.compute_again()

    def wait_for(self, more: Iterable[trust.Reach]) -> None:
        """Reach none of this before the user has accepted it."""
        self.library.waiting |= frozenset(more)

    def _folder(self) -> Path:
        return self.path.parent if self.path else Path.cwd()

    def save(self, path: Path, *, overwrite: bool = False) -> None:
        """Save the flow to `path`; FlowFileError, and nothing written, if it cannot be.

        FlowChangedError if somebody else changed the file since it was opened; overwrite: do it all the same.
        """
        known = path.absolute() != self.path or _fingerprint(path) in ("", self._saved.content)
        if not known and not overwrite:
            raise FlowChangedError(
                f"{path.name} was changed by somebody else since you opened it.",
                remedy="Overwrite it, or save yours under another name.",
            )
        self._last = self._counts_now() or self._last
        file_format.save(with_last_run(self.flow, self._last), path, KINDS)
        self._saved = _Saved(path.absolute(), self.flow, _fingerprint(path))
        if not self.library.waiting.intersection(self.reach()):
            trust.accept(self.flow, KINDS, path.parent)
        inputs = {step: outcome.inputs for step, outcome in self._outcomes.items() if outcome.inputs}
        self.confirmed.remember(self.flow, KINDS, path.stem, inputs)
        self.changed.emit()

    def _counts_now(self) -> LastRun | None:
        """What the flow comes to, to be remembered; None while some of it is not known."""
        results = {}
        for step in self.flow.steps:
            outcome = self._outcomes.get(step.id)
            if outcome is None or outcome.partial or (outcome.result is not None and outcome.step != step):
                return None
            if outcome.result is not None:
                results[step.id] = outcome.result
        snapshots = {
            step: snapshot
            for step, settings in self.sources().items()
            if (snapshot := self.library.known(settings)) is not None
        }
        return counts_of(self.flow, KINDS, results, snapshots)

    def _replace(
        self,
        flow: Flow,
        path: Path | None,
        last: LastRun | None = None,
        waiting: frozenset[trust.Reach] = frozenset(),
    ) -> None:
        self._last, self.comparison = last, None
        self.history = History(flow)
        self._saved = _Saved(path, flow)
        self._outcomes.clear()
        # Opening a flow takes its sources as they are now; what has not changed is not read again.
        self.files.clear()
        self._stumps.clear()
        self.library.forget_changed()
        self.library.waiting = waiting
        if last is not None:
            self.library.fall_back_on(flow, KINDS, last)
        knots = [step.id for step in flow.steps if step.kind == "join"]
        first = knots[:1] or [step.id for step in flow.steps[:1]]
        self.selection = Selection(first[0]) if first else Selection()
        self._flow_changed()
        self.selected.emit()
        if last is not None:
            self._compare_with(lambda: self.library.before(flow, KINDS, last), last)

    def edit(self, flow: Flow, name: str, select: Selection | None = None) -> None:
        """Make `flow` the current one, as an edit called `name` that can be undone."""
        if flow == self.flow:
            return
        self.history.push(flow, name)
        if select is not None:
            self.selection = select
        self._flow_changed()
        if select is not None:
            self.selected.emit()

    def change_settings(self, step_id: str, settings: msgspec.Struct, name: str) -> None:
        """Give a step other settings."""
        from keen_trellis.flow import edits

        self.edit(edits.change_settings(self.flow, step_id, settings), name)

    def undo(self) -> None:
        """Take the last edit back."""
        if self.history.undo_name:
            self.said.emit(f"Undone: {self.history.undo()}")
            self._flow_changed()

    def redo(self) -> None:
        """Make the edit again that was taken back last."""
        if self.history.redo_name:
            self.said.emit(f"Done again: {self.history.redo()}")
            self._flow_changed()

    def drop_last_edit(self) -> None:
        """Take the last edit back as if it had not been made."""
        self.history.drop_last()
        self._flow_changed()

    def _flow_changed(self) -> None:
        self.chosen = tuple(entry for entry in self.chosen if self.flow.find(entry) is not None)
        gone = self.selection.slat and self.flow.shared_filter(self.selection.slat) is None
        if gone or (self.selection.step and self.flow.find(self.selection.step) is None):
            self.selection = Selection()
            self.selected.emit()
        for path in self.margin_files():
            if path not in self.files:
                self._look_into(path)
        if self.comparison is not None and self.comparison.sources:
            known = {change.step for change in self.comparison.sources}
            if not known <= {step.id for step in self.flow.steps}:
                self.comparison = None
        self.changed.emit()
        self._compute()

    # --- files and stumps ---

    def margin_files(self) -> list[str]:
        """The files of the margin: those put there, and those that sources name besides."""
        named = (settings.path for settings in self.sources().values() if settings.path)
        return list(dict.fromkeys([*self.flow.files, *named]))

    def sources(self) -> dict[str, SourceSettings]:
        """The settings of all source steps by id; those that cannot be read are left out."""
        return sources_of(self.flow, KINDS)

    def _look_into(self, path: str) -> None:
        self.files[path] = FileState()

        def done(content: FileContent) -> None:
            self.files[path] = FileState(content=content)
            self.outcomes_changed.emit()
            self._show_revealed(path)
            self._look_further(path, content)

        def failed(error: TrellisError) -> None:
            self.files[path] = FileState(error=error)
            self.outcomes_changed.emit()
            self._show_revealed(path)

        self.jobs.start(
            f"looking into {Path(path).name}",
            lambda task: self.library.content(path, task),
            done,
            failed,
            lambda _: failed(_stopped()),
        )

    def _look_further(self, path: str, content: FileContent) -> None:
        """Look for tables that only reading finds: a second one in a sheet."""

        def done(further: FileContent) -> None:
            state = self.files.get(path)
            if state is not None and state.content is content and further != content:
                self.files[path] = FileState(content=further)
                self.outcomes_changed.emit()

        self.jobs.start(
            f"looking through {Path(path).name}",
            lambda task: self.library.further_content(content, task),
            done,
            lambda _: None,  # what keeps it from being read is said where it is read
        )

    def beside_the_flow(self, path: str) -> str:
        """A file of the same name beside the flow, where `path` is not; "" if there is none."""
        if self.path is None or Path(path).exists():
            return ""
        beside = self.path.parent / Path(path).name
        return str(beside) if beside.exists() else ""

    def use_file(self, step_id: str, path: str) -> list[tuple[str, str]]:
        """Read a source from another file, and with it all that were read from the same one.

        What else was lost with it and is found beside the new file is handed back, as old and new path.
        """
        old = self.sources()[step_id].path
        self.use_files({old: path})
        new_folder, old_folder = Path(path).parent, Path(old).parent
        others = {entry.path for entry in self.sources().values()} | set(self.flow.files)
        return [
            (other, str(new_folder / Path(other).relative_to(old_folder)))
            for other in sorted(others)
            if Path(other).is_relative_to(old_folder)
            and not Path(other).exists()
            and (new_folder / Path(other).relative_to(old_folder)).exists()
        ]

    def use_files(self, moved: dict[str, str]) -> None:
        """Read everything from the new place of its file."""
        from keen_trellis.flow import edits

        names = ", ".join(Path(path).name for path in moved.values())
        self.edit(edits.move_files(self.flow, KINDS, moved), f"Use {names} from its new place")

    def reveal(self, path: str) -> None:
        """Select the first table of a file as soon as it is known what the file holds."""
        self._to_reveal = path
        self._show_revealed(path)

    def _show_revealed(self, path: str) -> None:
        state = self.files.get(path)
        if path != self._to_reveal or state is None or (state.content is None and state.error is None):
            return
        self._to_reveal = ""
        tables = state.content.tables if state.content else ()
        self.select(Selection(path=path, table=tables[0].name if tables else ""))

    def stump_settings(self, selection: Selection) -> SourceSettings | None:
        """The source that a rail from this stump would have; None while its file is not known."""
        state = self.files.get(selection.path)
        return state.content.settings(selection.table) if state and state.content else None

    # --- selection and outcomes ---

    def select(self, selection: Selection) -> None:
        """Move the selection, and with it give up what is selected besides."""
        if selection == self.selection:
            self.choose_only()
            return
        self.chosen = ()
        self.selection = selection
        if selection.is_stump:
            self._look_at_stump(selection)
        self.selected.emit()

    def choose_too(self, step_id: str) -> None:
        """Select a step besides those that are selected, or no longer."""
        chosen = self.chosen or ((self.selection.step,) if self.selection.step else ())
        if step_id in chosen:
            chosen = tuple(entry for entry in chosen if entry != step_id)
        else:
            chosen = (*chosen, step_id)
        self.selection = Selection(chosen[-1]) if chosen else Selection()
        self.chosen = chosen if len(chosen) > 1 else ()
        self.selected.emit()

    def choose_on(self, selection: Selection) -> None:
        """Move the selection on; the steps that it passes stay selected."""
        if not selection.step:
            self.select(selection)
        elif selection.step in self.chosen:
            self.selection = selection
            self.selected.emit()
        else:
            self.choose_too(selection.step)

    def choose_all(self) -> None:
        """Select all steps together."""
        self.chosen = tuple(step.id for step in self.flow.steps)
        if self.chosen:
            self.selection = Selection(self.chosen[-1])
        self.selected.emit()

    def choose_only(self) -> None:
        """Let only one thing be selected."""
        if self.chosen:
            self.chosen = ()
            self.selected.emit()

    @property
    def chosen_steps(self) -> tuple[str, ...]:
        """The steps that a command is about: all that are selected, in the order of the flow."""
        chosen = self.chosen or (self.selection.step,)
        return tuple(step.id for step in self.flow.steps if step.id in chosen)

    def outcome(self, step_id: str) -> Outcome | None:
        """What the step came to, or None while it is not known."""
        return self._outcomes.get(step_id)

    def selected_outcome(self) -> Outcome | None:
        """What the selection came to, or None while it is not known."""
        if self.selection.is_stump:
            state = self.files.get(self.selection.path)
            if state is not None and state.error is not None:
                return Outcome(error=state.error)
            settings = self.stump_settings(self.selection)
            return self._stumps.get(settings) if settings else None
        return self.outcome(self.selection.step)

    def _look_at_stump(self, selection: Selection) -> None:
        settings = self.stump_settings(selection)
        if settings is None or not selection.table or settings in self._stumps:
            return

        def work(task: Task) -> Outcome:
            if self.library.known(settings) is None:
                first = self.library.first_rows(settings, task)
                if first is not None:
                    shown = Outcome(StepResult({ROWS: first.table}), remarks=first.remarks, partial=True)
                    self.jobs.emit_soon(lambda: done(shown))
            snapshot = self.library.get(settings, task)
            result = StepResult({ROWS: snapshot.table})
            return Outcome(result, remarks=snapshot.remarks, seconds=snapshot.seconds)

        def done(outcome: Outcome) -> None:
            self._stumps[settings] = outcome
            self.outcomes_changed.emit()

        def failed(error: TrellisError) -> None:
            done(Outcome(error=error))

        self.jobs.start(f"reading {selection.table}", work, done, failed, lambda _: failed(_stopped()))

    @property
    def stopped(self) -> bool:
        """Whether the user stopped the computing of the flow before its end."""
        return self._computing is not None and self._computing.task.cancelled

    def _read_ahead(self) -> None:
        """Read all sources at the same time, and on while the flow is edited."""
        for settings in set(self.sources().values()) - set(self._reading):
            if self.library.known(settings) is None:
                work = partial(self.library.get, settings)
                # Its outcome is that of the source's step, which waits for it.
                self._reading[settings] = self.jobs.start(
                    f"reading {settings.file_name}", work, lambda _: None, lambda _: None
                )

    def _job_ended(self, job: Job) -> None:
        was_reading = job in self._reading.values()
        self._reading = {settings: other for settings, other in self._reading.items() if other is not job}
        if was_reading:
            self._nothing_under_way()
        if job is self._computing and job.task.cancelled:
            self._begin_step("")
            self.said.emit("Stopped. F5 goes on.")
            self.outcomes_changed.emit()

    def compute_again(self) -> None:
        """Go on where it was stopped, and try once more what failed, as after a file was put back."""
        for path, state in list(self.files.items()):
            if state.error is not None:
                self._look_into(path)
        self._stumps = {
            settings: outcome for settings, outcome in self._stumps.items() if outcome.error is None
        }
        self._compute()

    # --- refresh ---

    def refresh(self, step_id: str = "") -> None:
        """Take the snapshots of all sources anew, or only that of one step, and say what changed."""
        sources = self.sources()
        chosen = {sources[step_id]} if step_id in sources else set(sources.values())
        if self.stopped or not chosen:
            self.compute_again()
            return
        known = {settings: self.library.known(settings) for settings in sources.values()}
        before = {settings: snapshot for settings, snapshot in known.items() if snapshot is not None}
        last, moment = self._counts_now(), now()

        def work(task: Task) -> None:
            for number, settings in enumerate(sorted(chosen, key=lambda entry: entry.path)):
                task.checkpoint(number, len(chosen), f"refreshing {settings.file_name}")
                with suppress(SourceError):
                    # A source that cannot be read says so at its own step.
                    self.library.refresh(settings, task)

        def done(_: object) -> None:
            self._stumps.clear()
            for path in self.margin_files():
                self._look_into(path)
            self._compute()
            since = msgspec.structs.replace(last, taken=moment) if last is not None else LastRun(moment)
            self._compare_with(lambda: Earlier(before), since, show=True)

        self.jobs.start("refreshing the sources", work, done, self.failed.emit)

    def _compare_with(self, before: Callable[[], Earlier], last: LastRun, *, show: bool = False) -> None:
        """Find out what changed since `last`; a refresh shows it, opening a flow only says so."""
        flow = self.flow

        def work(task: Task) -> Comparison:
            return compare(flow, self.runner, before(), last, task)

        def done(comparison: Comparison) -> None:
            if flow is not self.flow:
                return
            self.comparison = comparison
            changed = not comparison.is_unchanged
            if show:
                self.compared.emit()
            if show and not changed:
                self.said.emit("Refreshed; nothing has changed.")
            elif show:
                self.said.emit("Refreshed.")
            elif changed:
                what = (
                    "The sources have"
                    if not all(s.is_unchanged for s in comparison.sources)
                    else "The flow has"
                )
                self.said.emit(f"{what} changed since this flow was saved: Shift+F5 shows what.")

        self.jobs.start("comparing with before", work, done, self.failed.emit)

    def _compute(self) -> None:
        if self._computing is not None:
            self._computing.cancel()
        self._read_ahead()
        flow = self.flow
        looked_at = flow.upstream(self.selection.step)

        def work(task: Task) -> None:
            # What is looked at comes first, then what else the trellis shows.
            for step in sorted(flow.in_order(), key=lambda step: step.id not in looked_at):
                self.jobs.emit_soon(partial(self._begin_step, step.id))
                outcome = self._outcome_of(flow, step, task)
                self.jobs.emit_soon(partial(self._keep, flow, step, outcome))

        def done(_: object) -> None:
            self._computing = None
            self._begin_step("")
            known = {step.id: self._outcomes[step.id] for step in flow.steps}
            if known != self._outcomes:
                self._outcomes = known
                self.outcomes_changed.emit()
            self._profile_sources()

        self._computing = self.jobs.start("computing the flow", work, done, self.failed.emit)

    def _begin_step(self, step_id: str) -> None:
        self._begun = (step_id, time.monotonic())
        self._nothing_under_way()

    def _nothing_under_way(self) -> None:
        """Begin anew to tell what takes long; what still does so tells of itself again."""
        if self.under_way:
            self.under_way = {}
            self.progressed.emit()

    def _job_progressed(self, job: Job, done: int, total: int, _: str) -> None:
        read = {settings for settings, reading in self._reading.items() if reading is job}
        steps = [step for step, settings in self.sources().items() if settings in read] if read else []
        since = job.started
        if job is self._computing and self._begun[0]:
            steps, since = [self._begun[0]], self._begun[1]
        if steps and time.monotonic() - since > _SHOWN_AFTER:
            self.under_way |= dict.fromkeys(steps, done / total if total > 1 else 0.0)
            self.progressed.emit()

    def _profile_sources(self) -> None:
        """Count the values of sources that were read, for link proposals to come."""
        for settings in set(self.sources().values()):
            snapshot = self.library.known(settings)
            if snapshot is not None and snapshot.identity not in self._profiled:
                self._profiled.add(snapshot.identity)
                work = partial(profile, snapshot.table)
                # Without it proposals only take longer.
                self.jobs.start(
                    f"counting the values of {settings.file_name}", work, lambda _: None, lambda _: None
                )

    def _keep(self, flow: Flow, step: Step, outcome: Outcome) -> None:
        if flow is self.flow and outcome != self._outcomes.get(step.id):
            self._outcomes[step.id] = outcome
            self.outcomes_changed.emit()

    def _outcome_of(self, flow: Flow, step: Step, task: Task) -> Outcome:
        try:
            shapes = tuple(self.runner.input_shapes(flow, step, task))
        except TrellisError as error:
            return Outcome(error=error, step=step)
        # A source's seconds are those of reading it; other steps' begin once their inputs are there.
        is_source = step.kind == SourceKind.name
        tables: tuple[Table, ...] = ()
        with suppress(TrellisError):
            tables = tuple(
                self.runner.table(flow, entry, task)
                for entry in (step.inputs[:1] if step.skipped else step.inputs)
            )
        started = time.perf_counter()
        try:
            result = self.runner.result(flow, step.id, task)
            if result.match is not None:
                _warm(result, task)
            if result.blended is not None:
                _warm_blend(result.blended)
        except TrellisError as error:
            return Outcome(error=error, step=step, inputs=shapes, tables=tables)
        seconds = time.perf_counter() - started
        remarks: tuple[Remark, ...] = ()
        if is_source:
            snapshot = self.library.get(KINDS.settings(step), task)
            seconds, remarks = snapshot.seconds, snapshot.remarks
        guards = self._guards_of(flow, step, result, task)
        return Outcome(result, None, step, shapes, tables, remarks, seconds, guards)

    def _guards_of(self, flow: Flow, step: Step, result: StepResult, task: Task) -> tuple[Checked, ...]:
        """Whether the guards of a step hold; not checked anew while nothing has changed."""
        known = self._outcomes.get(step.id)
        if known is not None and known.result is result and known.step == step:
            return known.guards
        return tuple(checked(self.runner, flow, step, task))


def _warm_blend(blended: Blended) -> None:
    """Count here, off the interface's thread, what bench and trellis are going to ask of a blend."""
    _ = blended.rows_by_combination
    for found in blended.others:
        _ = found.unused_rows, found.rows_found, found.groups_used


def _warm(result: StepResult, task: Task) -> None:
    """Compute here, off the interface's thread, what the bench is going to ask of the match."""
    found: Any = result.match
    for part in (
        "counts",
        "left_unmatched_rows",
        "right_unmatched_rows",
        "left_passed_over_rows",
        "right_passed_over_rows",
        "first_pair_of_left",
        "pair_numbers_only_prepared",
    ):
        task.checkpoint()
        if part != "pair_numbers_only_prepared" or found.counts.pairs_as_written < found.counts.pairs:
            getattr(found, part)
    if found.counts.pairs_as_written < found.counts.pairs:
        _ = found.pair_numbers_as_written
    if isinstance(found, ListedMatch) and found.pairs <= MOST_RESULT_ROWS:
        _ = found.right_of_pair
