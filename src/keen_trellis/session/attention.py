"""What needs attention in the open flow: what cannot work, broken guards, doubts, gaps left open."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from keen_trellis.core.computing import BY_ZERO, NOT_CAST, OUT_OF_RANGE
from keen_trellis.flow.graph import Step
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.run_values import files_of
from keen_trellis.flow.shared_filters import feeds_blend, unreached
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.unread import unread
from keen_trellis.flow.wording import listed, open_said
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


class Need(msgspec.Struct, frozen=True):
    """One thing. selection: where it is.  alarm: it is wrong; otherwise it is only doubtful."""

    selection: Selection
    name: str
    what: str
    text: str
    alarm: bool = False


def needs(session: Session) -> list[Need]:
    """Everything that needs attention, what is wrong first, otherwise in the order of the flow."""
    found = [*_of_files(session), *_not_read(session)]
    failed: set[str] = set()
    for step in session.flow.in_order():
        outcome = session.outcome(step.id)
        if outcome is None:
            continue
        if outcome.error is not None:
            # What only waits for a step before it says nothing of its own.
            if not any(entry.step in failed for entry in step.inputs):
                text = f"{outcome.error.what} {outcome.error.remedy}".strip()
                found.append(Need(Selection(step.id), step.name, "cannot work", text, alarm=True))
            failed.add(step.id)
            continue
        found += [_skipped(step)] if step.skipped else _of_step(session, step, outcome)
    found += _of_outputs(session)
    found += _of_filters(session)
    return sorted(found, key=lambda need: not need.alarm)


def _of_files(session: Session) -> Iterator[Need]:
    used = {settings.path for settings in session.sources().values()}
    for path, state in session.margin.files.items():
        if state.error is not None and path not in used and path in files_of(session.flow):
            text = f"{state.error.what} {state.error.remedy}".strip()
            yield Need(Selection(path=path), shown_name(path), "cannot be read", text, alarm=True)


def _not_read(session: Session) -> Iterator[Need]:
    """What the flow says and this version does not use: the rows may be others than it means."""
    for entry in unread(session.flow, KINDS):
        place = Selection(entry.step) if entry.step else Selection()
        name = entry.name or "The flow"
        yield Need(place, name, "not read", str(msgspec.structs.replace(entry, name="")), alarm=True)


def _of_outputs(session: Session) -> Iterator[Need]:
    """Outputs with open cells although gaps are filled before them; otherwise their sentence tells."""
    flow = session.flow
    for step in flow.steps:
        outcome = session.outcome(step.id)
        open_cells = outcome.figures.open_cells if outcome is not None and outcome.figures is not None else {}
        if not open_cells:
            continue
        filled = [found for name in flow.upstream(step.id) if (found := _filled_at(session, name))]
        known = {name for gaps in filled for name, count in gaps.items() if count}
        if filled and not open_cells.keys() <= known:
            text = f"{open_said(open_cells, 'written without a partner')}."
            yield Need(Selection(step.id), step.name, "open gaps", text)


def _filled_at(session: Session, step_id: str) -> Mapping[str, int]:
    """The fields whose gaps a step fills, with how many it leaves; none if it fills none."""
    outcome = session.outcome(step_id)
    figures = outcome.figures if outcome is not None else None
    return figures.still_open if figures is not None and not figures.passed_on else {}


def _of_filters(session: Session) -> Iterator[Need]:
    """Rails that lead into a blend without a filter that others of its tables are filtered by."""
    flow = session.flow
    for shared in flow.filters:
        missing = [source for source in unreached(flow, shared) if source not in shared.apart]
        names = [flow.step(source).name for source in missing if feeds_blend(flow, source)]
        if names:
            text = f"It does not reach {listed(names)}: choose a field for it, or say that it need not."
            yield Need(Selection(slat=shared.id), shared.name, "shared filter", text)


def _skipped(step: Step) -> Need:
    text = "It is skipped for now; its rows pass through."
    return Need(Selection(step.id), step.name, "skipped", text)


def _of_step(session: Session, step: Step, outcome: Outcome) -> Iterator[Need]:
    place = Selection(step.id)
    settings = session.sources().get(step.id)
    snapshot = session.library.known(settings) if settings is not None else None
    if snapshot is not None and snapshot.old:
        text = f"Its rows are those from before: {snapshot.old}"
        yield Need(place, step.name, "old rows", text, alarm=True)
    for remark in outcome.remarks:
        if remark.doubtful:
            what = "does not fit" if remark.misfit_of else "a sample" if remark.is_sample else "doubtful"
            yield Need(place, step.name, what, str(remark), alarm=bool(remark.misfit_of))
    for entry in outcome.guards if not KINDS.begins_rail(step) else ():
        if not entry.holds:
            text = f"{entry.statement}: {entry.verdict.said}"
            yield Need(place, step.name, "guard broken", text, alarm=True)
    yield from _of_result(step, outcome, place)


def _of_result(step: Step, outcome: Outcome, place: Selection) -> Iterator[Need]:
    figures = outcome.figures
    if figures is None or outcome.step is None or outcome.step.skipped:
        return  # not known, or not of the step as it is now
    kind, settings = KINDS.of(outcome.step), KINDS.settings(outcome.step)
    for what, text in kind.doubts(settings, figures, outcome.inputs):
        yield Need(place, step.name, what, text)
    for name, count in figures.disagreements.items():
        if count:
            text = f"The two sides of {name} disagree in {count:,} pairs; one of them is shown."
            yield Need(place, step.name, "disagreement", text)
    if figures.passed_on:
        return  # the rows of the step before, which has its own needs
    if any(figures.still_open.values()):
        yield Need(place, step.name, "open gaps", f"{open_said(figures.still_open, 'still open')}.")
    failed = [
        f"{figures.lost[what]:,} {what}"
        for what in (BY_ZERO, NOT_CAST, OUT_OF_RANGE)
        if figures.lost.get(what)
    ]
    if failed:
        yield Need(place, step.name, "blank", f"Its expression gave blank: {', '.join(failed)}.")
