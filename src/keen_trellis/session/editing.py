"""The edits that the window offers, each with the name it has in the undo list."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from keen_trellis.core.blending import Keep, Stands
from keen_trellis.core.day import today
from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.flow import edits
from keen_trellis.flow.clipboard import copied, pasted
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.source_settings import CalendarSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import (
    BlendKind,
    placing,
)
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.correct import CorrectKind, CorrectSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.steps.join import (
    JoinKind,
    JoinSettings,
)
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.trust import accept_steps, are_accepted_steps, reached_by
from keen_trellis.flow.wording import listed, rows_called, with_article
from keen_trellis.outputs import WRITERS, writer_of
from keen_trellis.session import filters, run_values
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.locations import CALENDAR, TYPED


def join_settings(session: Session, step_id: str) -> JoinSettings:
    """The settings of a knot."""
    settings: JoinSettings = KINDS.settings(session.flow.step(step_id))
    return settings


def selected_knot(session: Session) -> Step | None:
    """The knot that is selected, by itself or by one of its stubs, or None."""
    step = session.flow.find(session.selection.step)
    return step if step is not None and KINDS.matches(step) else None


# --- files and rails ---


def add_files(session: Session, paths: list[Path]) -> None:
    """Put files and folders into the margin, as one edit."""
    add_places(session, [str(path.absolute()) for path in paths])


def add_places(session: Session, places: Sequence[str]) -> None:
    """Put files, folders, patterns or addresses into the margin, as one edit."""

    def edit(flow: Flow) -> Flow:
        for place in places:
            flow = edits.add_file(flow, place)
        return flow

    names = ", ".join(shown_name(place) for place in places)
    if not session.apply(f"Open {names}", edit):
        session.said.emit(f"{names}: in the margin already.")


def begin_typed_table(session: Session) -> None:
    """Begin a rail at an empty table that stands in the flow itself."""
    session.apply("Type a table", lambda flow: edits.add_source(flow, SourceSettings(TYPED), "Typed table"))


def begin_calendar(session: Session) -> None:
    """Begin a rail at a calendar of the year in which it is."""
    year = today().year
    span = CalendarSettings(f"{year}-01-01", f"{year}-12-31")
    settings = SourceSettings(CALENDAR, calendar=span)
    session.apply("Add a calendar", lambda flow: edits.add_source(flow, settings, "Calendar"))


def begin_rail(session: Session, stump: Selection) -> None:
    """Begin a rail at a stump."""
    session.apply(f"Start rail {stump.table}", lambda flow: with_rail(session, flow, stump))


def with_rail(session: Session, flow: Flow, selection: Selection) -> tuple[Flow, str]:
    """The flow with a rail begun at a stump, and its id; UsageError while the file is being looked into."""
    settings = session.margin.stump_settings(selection)
    if settings is None:
        raise UsageError("The file is still being looked into.", remedy="Try again in a moment.")
    return edits.add_source(flow, settings, session.margin.called(selection))


def why_not_removed(session: Session) -> str:
    """Why what is selected cannot be taken out, "" if it can."""
    selection = session.selection
    if selection.step and selection.port != ROWS:
        return "A stub belongs to its knot: select the knot to remove it."
    used = selection.is_stump and any(
        settings.path == selection.path for settings in session.sources().values()
    )
    return "Rails start in this file: remove them first." if used else ""


def remove_selected(session: Session) -> None:
    """Take the selected step out, or the selected stump's file if no rail begins in it."""
    selection = session.selection
    if why_not := why_not_removed(session):
        session.said.emit(why_not)
        return
    if selection.slat:
        filters.remove(session, selection.slat)
        return
    if selection.value:
        run_values.remove(session, selection.value)
        return
    if selection.is_stump:
        path = selection.path
        session.apply(f"Remove {shown_name(path)}", lambda flow: edits.remove_file(flow, path), Selection())
        return
    if not selection.step:
        return
    chosen = session.chosen_steps
    first = session.flow.step(chosen[0])
    said = first.name if len(chosen) == 1 else f"{len(chosen)} steps"

    def edit(flow: Flow) -> Flow:
        for step_id in reversed(chosen):
            flow = edits.remove_step(flow, step_id)
        return flow

    before = first.inputs[0].step if first.inputs and first.inputs[0].step not in chosen else ""
    session.apply(f"Remove {said}", edit, Selection(before))


def copied_selected(session: Session) -> str:
    """The selected steps as text for the clipboard, "" if none is selected."""
    if not session.chosen_steps:
        return ""
    text = copied(session.flow, session.chosen_steps)
    if not session.library.waiting:
        accept_steps(text)
    return text


def paste(session: Session, text: str) -> None:
    """Put the steps of a text behind what is selected."""
    selection = session.selection
    behind = Input(selection.step, selection.port) if session.flow.find(selection.step) else None
    try:
        flow, new = pasted(session.flow, KINDS, text, behind)
    except TrellisError as error:
        session.failed.emit(error)
        return
    if not are_accepted_steps(text):
        # What somebody else wrote may name a server, as a flow may.
        found = sources_of(flow, KINDS)
        wanted = [entry for name in new if name in found for entry in reached_by(found[name])]
        session.library.waiting |= frozenset(wanted)
    names = ", ".join(flow.step(step_id).name for step_id in new)
    session.apply(f"Paste {names}", lambda _: (flow, new[-1]))


def reconnect(session: Session, step_id: str, place: int, rows: Input) -> None:
    """Let a step that lacks its rows take others."""
    name, rail = session.flow.step(step_id).name, session.flow.step(rows.step).name
    session.apply(f"Lead {rail} to {name}", lambda flow: edits.reconnect(flow, step_id, place, rows))


def use_field_instead(session: Session, step_id: str, old: str, new: str) -> None:
    """Let a step use another field in place of one that is gone."""
    session.apply(f"Use {new} in place of {old}", lambda flow: edits.replace_field(flow, step_id, old, new))


def keep_fields_of_rows(session: Session, knot: str, port: str) -> None:
    """Give the rows of a stub the fields of the kept rows, as far as they have them, under the same names."""
    outcome = session.outcome(knot)
    if outcome is None or outcome.figures is None:
        return
    fields = JoinKind().fields_of_stub(join_settings(session, knot), outcome.inputs, port)
    chosen = tuple(ChosenSettings(of, name if name != of else "") for of, name in fields)
    choice = ChooseSettings(fields=chosen, others=False)
    session.apply(
        "Keep the fields of the kept rows",
        lambda flow: edits.insert_after(flow, Input(knot, port), ChooseKind.name, choice),
    )


def rename_selected(session: Session, name: str) -> None:
    """Give the selected step another name."""
    step = session.flow.step(session.selection.step)
    session.apply(f"Rename {step.name}", lambda flow: edits.rename(flow, step.id, name))


def skip_selected(session: Session) -> None:
    """Skip the selected step for now, or use it again."""
    chosen = [session.flow.step(step_id) for step_id in session.chosen_steps]
    if not chosen:
        session.said.emit("Select a step first: it is skipped, and its rows pass through.")
        return
    skipped = not all(step.skipped for step in chosen)
    said = chosen[0].name if len(chosen) == 1 else f"{len(chosen)} steps"

    def edit(flow: Flow) -> Flow:
        for step in chosen:
            flow = edits.skip(flow, step.id, skipped=skipped)
        return flow

    session.apply(f"Skip {said}" if skipped else f"Use {said} again", edit)


def annotate_selected(session: Session, note: str) -> None:
    """Give the selected step a note."""
    step = session.flow.step(session.selection.step)
    session.apply(f"Note on {step.name}", lambda flow: edits.annotate(flow, step.id, note))


def move_selected(session: Session, *, later: bool) -> None:
    """Move the selected step along its rail."""
    step = session.flow.find(session.selection.step)
    if step is None:
        session.said.emit("Select a step on a rail first.")
        return
    move = edits.move_later if later else edits.move_earlier
    said = f"Move {step.name} {'later' if later else 'earlier'}"
    session.apply(said, lambda flow: move(flow, step.id))


def move_beside(session: Session, step_id: str, other: str, *, after: bool) -> None:
    """Move a step along its rail to be right before or right after another one."""
    moved = edits.move_along(session.flow, step_id, other, after=after)
    if moved is not None:
        session.apply(f"Move {session.flow.step(step_id).name}", lambda _: moved)


# --- knots ---


def remove_other(session: Session, step_id: str, number: int, name: str) -> None:
    """Do without one of the other tables of a blend."""
    session.apply(f"Do without {name}", lambda flow: edits.remove_other(flow, step_id, number))


def keep_of_blend(session: Session, step_id: str, keep: Keep) -> None:
    """Let a blend keep other rows of its main table."""
    settings = KINDS.settings(session.flow.step(step_id))
    session.change_settings(step_id, *BlendKind().keeping(settings, keep, _inputs(session, step_id)))


def _inputs(session: Session, step_id: str) -> tuple[InputShape, ...]:
    """What is known of the inputs of a step."""
    outcome = session.outcome(step_id)
    return outcome.inputs if outcome is not None else ()


def place_measures(
    session: Session, step_id: str, names: Sequence[str], stands: Stands, by: str = ""
) -> None:
    """Let measures of a blend stand on every row of their group, on the first, or be spread over all."""
    said = {Stands.EVERY: "Repeat", Stands.FIRST: "Show once", Stands.SPREAD: "Spread"}[stands]
    settings = placing(KINDS.settings(session.flow.step(step_id)), names, stands, by)
    session.change_settings(step_id, settings, f"{said} {listed(list(names))}")


def change_join(session: Session, step_id: str, name: str, **changes: object) -> None:
    """Give a knot other settings; `name` says what was done."""
    session.change_settings(step_id, lambda now: msgspec.structs.replace(now, **changes), name)


def change_join_type(session: Session, step_id: str, kind: JoinType) -> None:
    """Give a knot another join type."""
    change_join(session, step_id, JoinKind.type_asked(kind, _inputs(session, step_id)), type=kind.value)


def toggle_part(session: Session, step_id: str, part: str) -> None:
    """Keep a part of a knot, or leave it out, if its rows can be."""
    step = session.flow.step(step_id)
    kind = KINDS.find(step.kind)
    try:
        found = (
            kind.part_toggled(KINDS.settings(step), part, _inputs(session, step_id))
            if kind is not None
            else None
        )
    except TrellisError as error:
        session.said.emit(f"{error.what} {error.remedy}")
        return
    if found is not None:
        session.change_settings(step_id, *found)


def swap_sides(session: Session, step_id: str) -> None:
    """Let the sides of a knot change places, and say what that changes."""
    settings = join_settings(session, step_id)
    outcome = session.outcome(step_id)
    session.apply("Swap sides", lambda flow: edits.swap_sides(flow, step_id, settings))
    if outcome is not None and len(outcome.inputs) == 2:
        names = (outcome.inputs[0].name, outcome.inputs[1].name)
        session.said.emit(_swap_said(names, settings, settings.swapped))


def _swap_said(names: tuple[str, str], before: JoinSettings, after: JoinSettings) -> str:
    """What swapping the sides of a knot changed, in one sentence."""
    other = names[1]
    kept = "the same rows are kept" if before.take == after.take else "every match is taken now"
    types = before.join_type, after.join_type
    kind = f" ({types[0].trade_name} became {types[1].trade_name})" if types[0] is not types[1] else ""
    return (
        f"{other} is on the left now{kind}: {kept}; they follow the order of {other}, "
        f"and link fields show {with_article(rows_called(other)[0])}'s value first."
    )


# --- steps on a rail ---


def insert(session: Session, kind: str, settings: RailSettings, name: str) -> str:
    """Put a step behind what is selected, on its rail; its id, "" if nothing is selected."""
    selection = session.selection
    step = session.flow.find(selection.step)
    if step is None or KINDS.ends_rail(step):
        session.said.emit("Select a rail, a knot or a stub first: the step goes after it.")
        return ""
    rows = Input(step.id, selection.port)
    done = session.apply(name, lambda flow: edits.insert_after(flow, rows, kind, settings))
    return session.selection.step if done else ""


def keep_where(session: Session, condition: ConditionSettings) -> None:
    """Keep those of the selected rows for which one more condition holds: in the filter that is selected, or
    in a new one after what is.
    """
    said = f"Keep rows whose {condition.condition}"
    selection = session.selection
    step = session.flow.find(selection.step)
    if step is not None and step.kind == FilterKind.name:
        settings: FilterSettings = KINDS.settings(step)
        if not settings.any_of:
            more = msgspec.structs.replace(settings, conditions=(*settings.conditions, condition))
            session.change_settings(step.id, more, said)
            return
    insert(session, FilterKind.name, FilterSettings(conditions=(condition,)), said)


def correct_value(session: Session, field: str, read: str, meant: str) -> None:
    """Read one value of a field of the selected rows as another: in the step that is selected, if it corrects
    this field, or in a new one after what is.
    """
    said = f"Read {read} as {meant}"
    step = session.flow.find(session.selection.step)
    if step is not None and step.kind == CorrectKind.name:
        settings: CorrectSettings = KINDS.settings(step)
        if settings.fields == (field,):
            pairs = {one: meant if other == read else other for one, other in settings.pairs}
            if read not in pairs.values():
                pairs[read] = meant
            session.change_settings(
                step.id, msgspec.structs.replace(settings, pairs=tuple(pairs.items())), said
            )
            return
    insert(session, CorrectKind.name, CorrectSettings(fields=(field,), pairs=((read, meant),)), said)


def set_field(session: Session, names: Sequence[str], field: str, said: str, **changes: str) -> None:
    """Give a field of the selected rows another name or type: in the step that is selected, if it chooses
    fields, or in a new one after what is. names: all fields, in their order.
    """
    step = session.flow.find(session.selection.step)
    if step is not None and step.kind == ChooseKind.name:
        settings: ChooseSettings = KINDS.settings(step)
        known = {entry.name or entry.of: entry for entry in settings.fields}
        kept = [known.get(name) or ChosenSettings(name) for name in names]
        fields = tuple(
            msgspec.structs.replace(entry, **changes) if name == field else entry
            for name, entry in zip(names, kept, strict=True)
        )
        session.change_settings(step.id, msgspec.structs.replace(settings, fields=fields), said)
        return
    fields = tuple(
        ChosenSettings(name, **changes) if name == field else ChosenSettings(name) for name in names
    )
    insert(session, ChooseKind.name, ChooseSettings(fields=fields), said)


def switch_log(session: Session) -> None:
    """Let the runs of the flow be noted beside it, or no longer."""
    keeps = not session.flow.keeps_log
    session.apply(
        f"Keep {'a' if keeps else 'no'} log of runs", lambda flow: edits.keep_log(flow, keeps=keeps)
    )
    after = "are noted beside it from now on" if keeps else "are no longer noted; its log stays as it is"
    session.said.emit(f"The runs of this flow {after}.")


def branch(session: Session) -> None:
    """Carry the selected rows on in a second place: on a rail that begins with a choice of fields."""
    selection = session.selection
    step = session.flow.find(selection.step)
    if step is None or KINDS.ends_rail(step):
        session.said.emit("Select a rail, a knot or a stub first: its rows go on in a second place.")
        return
    name = f"branch of {edits.rail_name(session.flow, step.id)}"
    rows = Input(step.id, selection.port)
    session.apply(
        f"Branch off {edits.rail_name(session.flow, step.id)}",
        lambda flow: edits.add_step(flow, ChooseKind.name, name, [rows], ChooseSettings()),
    )


# --- outputs ---


def add_output(session: Session, settings: OutputSettings) -> None:
    """Lead the selected rows to a file; an output to the same place is selected instead of doubled."""
    place = writer_of(settings).place(settings)
    for step in session.flow.steps:
        if KINDS.ends_rail(step) and place == _place_of(KINDS.settings(step)):
            session.said.emit(f"{step.name} is an output already.")
            session.select(Selection(step.id))
            return
    rows = Input(session.selection.step, session.selection.port)
    session.apply(f"Write to {settings.file_name}", lambda flow: edits.add_output(flow, rows, settings))


def _place_of(settings: OutputSettings) -> str:
    """Where an output writes; nowhere where this version has no writer for it."""
    writer = WRITERS.get(settings.writer)
    return writer.place(settings) if writer is not None else ""
