"""The edits that the window offers, each with the name it has in the undo list."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from keen_trellis.core.blending import Keep, Stands
from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.insight.composite_proposals import UNIQUE
from keen_trellis.core.insight.proposal import Proposal, why_none
from keen_trellis.core.join_type import JoinType, type_keeping
from keen_trellis.core.task import Task
from keen_trellis.desktop import filters
from keen_trellis.desktop.bench.content import swap_said
from keen_trellis.desktop.document import Document, Selection
from keen_trellis.flow import edits
from keen_trellis.flow.blend_proposal import proposed_other
from keen_trellis.flow.clipboard import copied, pasted
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.proposing import proposals
from keen_trellis.flow.reconciling import Correspondence, correspondences, keys_of
from keen_trellis.flow.reconciling import reconcile as with_comparison
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import (
    FOUND_NOTHING,
    BlendKind,
    OtherSettings,
    keeping,
    placing,
    unused_number,
)
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.join import (
    UNMATCHED_LEFT,
    UNMATCHED_RIGHT,
    JoinKind,
    JoinSettings,
    LinkSettings,
)
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.output import OutputKind, OutputSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.trust import accept_steps, are_accepted_steps, reached_by
from keen_trellis.flow.wording import kept_of_blend, listed, question
from keen_trellis.sources.locations import TYPED


def join_settings(document: Document, step_id: str) -> JoinSettings:
    """The settings of a knot."""
    settings: JoinSettings = KINDS.settings(document.flow.step(step_id))
    return settings


def selected_knot(document: Document) -> Step | None:
    """The knot that is selected, by itself or by one of its stubs, or None."""
    step = document.flow.find(document.selection.step)
    return step if step is not None and step.kind == JoinKind.name else None


# --- files and rails ---


def add_files(document: Document, paths: list[Path]) -> None:
    """Put files and folders into the margin, as one edit."""
    add_places(document, [str(path.absolute()) for path in paths])


def add_places(document: Document, places: list[str]) -> None:
    """Put files, folders, patterns or addresses into the margin, as one edit."""
    flow = document.flow
    for place in places:
        flow = edits.add_file(flow, place)
    names = ", ".join(Path(place).name for place in places)
    if flow is document.flow:
        document.said.emit(f"{names}: in the margin already.")
        return
    document.edit(flow, f"Open {names}")


def begin_typed_table(document: Document) -> None:
    """Begin a rail at an empty table that stands in the flow itself."""
    flow, step = edits.add_source(document.flow, SourceSettings(TYPED), "Typed table")
    document.edit(flow, "Type a table", Selection(step))


def begin_rail(document: Document, stump: Selection) -> None:
    """Begin a rail at a stump."""
    flow, step_id = _with_rail(document, document.flow, stump)
    document.edit(flow, f"Begin rail {stump.table}", Selection(step_id))


def _with_rail(document: Document, flow: Flow, selection: Selection) -> tuple[Flow, str]:
    settings = document.stump_settings(selection)
    if settings is None:
        raise UsageError("The file is still being looked into.", remedy="Try again in a moment.")
    return edits.add_source(flow, settings, rail_name(selection.table))


def rail_name(table: str) -> str:
    """A rail's first name: the table's, with a capital."""
    return table[:1].upper() + table[1:]


def remove_selected(document: Document) -> None:
    """Take the selected step out, or the selected stump's file if no rail begins in it."""
    selection = document.selection
    if selection.slat:
        filters.remove(document, selection.slat)
        return
    if selection.is_stump:
        if any(settings.path == selection.path for settings in document.sources().values()):
            document.said.emit("Rails begin in this file; remove them first.")
            return
        document.edit(
            edits.remove_file(document.flow, selection.path),
            f"Remove {Path(selection.path).name}",
            Selection(),
        )
        return
    if not selection.step:
        return
    if selection.port != ROWS:
        document.said.emit("A stub belongs to its knot: select the knot to remove it.")
        return
    flow, chosen = document.flow, document.chosen_steps
    first = flow.step(chosen[0])
    said = first.name if len(chosen) == 1 else f"{len(chosen)} steps"
    following = Selection(first.inputs[0].step) if first.inputs else Selection()
    for step_id in reversed(chosen):
        flow = edits.remove_step(flow, step_id)
    if flow.find(following.step) is None:
        following = Selection()
    document.edit(flow, f"Remove {said}", following)


def copied_selected(document: Document) -> str:
    """The selected steps as text for the clipboard, "" if none is selected."""
    if not document.chosen_steps:
        return ""
    text = copied(document.flow, document.chosen_steps)
    if not document.library.waiting:
        accept_steps(text)
    return text


def paste(document: Document, text: str) -> None:
    """Put the steps of a text behind what is selected."""
    selection = document.selection
    behind = Input(selection.step, selection.port) if document.flow.find(selection.step) else None
    try:
        flow, new = pasted(document.flow, KINDS, text, behind)
    except TrellisError as error:
        document.failed.emit(error)
        return
    if not are_accepted_steps(text):
        # What somebody else wrote may name a server, as a flow may.
        found = sources_of(flow, KINDS)
        document.wait_for(entry for name in new if name in found for entry in reached_by(found[name]))
    names = ", ".join(flow.step(step_id).name for step_id in new)
    document.edit(flow, f"Paste {names}", Selection(new[-1]))


def reconnect(document: Document, step_id: str, place: int, rows: Input) -> None:
    """Let a step that lacks its rows take others."""
    name, rail = document.flow.step(step_id).name, document.flow.step(rows.step).name
    _try(document, lambda: edits.reconnect(document.flow, step_id, place, rows), f"Lead {rail} to {name}")


def use_field_instead(document: Document, step_id: str, old: str, new: str) -> None:
    """Let a step use another field in place of one that is gone."""
    document.edit(edits.replace_field(document.flow, step_id, old, new), f"Use {new} in place of {old}")


def keep_fields_of_rows(document: Document, knot: str, port: str) -> None:
    """Give the rows of a stub the fields of the kept rows, as far as they have them, under the same names."""
    outcome, flow = document.outcome(knot), document.flow
    if outcome is None or outcome.result is None:
        return
    fields = JoinKind().fields_of_stub(join_settings(document, knot), outcome.inputs, port)
    chosen = tuple(ChosenSettings(of, name if name != of else "") for of, name in fields)
    choice = ChooseSettings(fields=chosen, others=False)
    flow, new = edits.insert_after(flow, Input(knot, port), ChooseKind.name, choice)
    document.edit(flow, "Keep the fields of the kept rows", Selection(new))


def rename_selected(document: Document, name: str) -> None:
    """Give the selected step another name."""
    step = document.flow.step(document.selection.step)
    document.edit(edits.rename(document.flow, step.id, name), f"Rename {step.name}")


def skip_selected(document: Document) -> None:
    """Skip the selected step for now, or use it again."""
    chosen = [document.flow.step(step_id) for step_id in document.chosen_steps]
    if not chosen:
        document.said.emit("Select a step first: it is skipped, and its rows pass through.")
        return
    skipped = not all(step.skipped for step in chosen)
    said = chosen[0].name if len(chosen) == 1 else f"{len(chosen)} steps"

    def make() -> Flow:
        flow = document.flow
        for step in chosen:
            flow = edits.skip(flow, step.id, skipped=skipped)
        return flow

    _try(document, make, f"Skip {said}" if skipped else f"Use {said} again")


def annotate_selected(document: Document, note: str) -> None:
    """Give the selected step a note."""
    step = document.flow.step(document.selection.step)
    document.edit(edits.annotate(document.flow, step.id, note), f"Note on {step.name}")


def move_selected(document: Document, *, later: bool) -> None:
    """Move the selected step along its rail."""
    step = document.flow.find(document.selection.step)
    if step is None:
        document.said.emit("Select a step on a rail first.")
        return
    move = edits.move_later if later else edits.move_earlier
    said = f"Move {step.name} {'later' if later else 'earlier'}"
    _try(document, lambda: move(document.flow, step.id), said)


def _try(document: Document, make: Callable[[], Flow], name: str) -> None:
    """Make an edit, or say why it cannot be made."""
    try:
        document.edit(make(), name)
    except TrellisError as error:
        document.failed.emit(error)


# --- joins ---


def join(document: Document, right: Selection, left: Selection, asked: Callable[[str], None]) -> None:
    """Join what was dragged (`right`) onto a rail (`left`), with the best link that can be proposed.

    Proposing reads both tables and runs off the interface's thread; then the knot stands, and `asked` is
    called with the proposal's evidence, to ask which question the join answers.
    """
    try:
        flow, inputs = _with_rails(document, (left, right))
    except TrellisError as error:
        document.failed.emit(error)
        return
    names = [flow.step(entry.step).name for entry in inputs]

    def work(task: Task) -> list[Proposal]:
        return proposals(document.runner, flow, inputs, document.confirmed, task)

    def done(found: list[Proposal]) -> None:
        links: tuple[LinkSettings, ...] = ()
        evidence = f"{why_none(names[0], names[1])} Choose the link fields below."
        if found:
            best = found[0]
            evidence = best.evidence(names[0], names[1])
            # What is not sure is taken only where it cannot multiply rows.
            if best.firm or best.unique >= UNIQUE:
                links = tuple(LinkSettings.of(link) for link in best.links)
            evidence += "" if best.firm else " Check it, or choose other link fields below."
        settings = JoinSettings(links=links, type=JoinType.LEFT_OUTER.value)
        joined, knot = edits.add_join(flow, inputs[0], inputs[1], settings)
        document.edit(joined, f"Join {names[0]} with {names[1]}", Selection(knot))
        asked(evidence)

    document.jobs.start(f"looking for a link of {names[0]} with {names[1]}", work, done, document.failed.emit)


@dataclass(frozen=True)
class Comparing:
    """What two rails could be compared by. flow: with rails begun at both.  links: what says which rows are
    the same.
    """

    flow: Flow
    inputs: tuple[Input, Input]
    shapes: tuple[InputShape, InputShape]
    links: list[LinkSettings]
    fields: list[Correspondence]


def reconcile(
    document: Document, other: Selection, rail: Selection, asked: Callable[[Comparing], None]
) -> None:
    """Find out how a rail can be compared with another rail or stump, and ask by which fields.

    What says that rows are the same, and which fields say the same, is proposed from the values, off the
    interface's thread; then `asked` is called, and `compare` makes the comparison.
    """
    try:
        flow, inputs = _with_rails(document, (rail, other))
    except TrellisError as error:
        document.failed.emit(error)
        return
    runner = document.runner

    def work(task: Task) -> Comparing:
        left, right = (runner.shape(flow, entry, task) for entry in inputs)
        proposed = proposals(runner, flow, inputs, document.confirmed, task)
        tables = [runner.table(flow, entry, task) for entry in inputs]
        links = keys_of(tables[0], tables[1], proposed, task)
        if not links:
            raise UsageError(
                f"It is not known which rows of {left.name} and {right.name} are the same.",
                remedy="Join them by hand: the full outer join shows what is on one side only.",
            )
        fields = correspondences(tables[0], tables[1], links, task)
        return Comparing(flow, (inputs[0], inputs[1]), (left, right), links, fields)

    document.jobs.start("looking for what says the same", work, asked, document.failed.emit)


def compare(document: Document, found: Comparing, pairs: Sequence[tuple[str, str]]) -> None:
    """Make the comparison of two rails by pairs of fields."""
    left, right = found.shapes
    try:
        flow, last = with_comparison(found.flow, *found.inputs, found.shapes, found.links, pairs)
    except TrellisError as error:
        document.failed.emit(error)
        return
    document.edit(flow, f"Reconcile {left.name} with {right.name}", Selection(last))


def stack(document: Document, second: Selection, first: Selection) -> None:
    """Put the rows of one rail or stump below those of a rail."""
    try:
        flow, inputs = _with_rails(document, (first, second))
        names = [flow.step(entry.step).name for entry in inputs]
        flow, union = edits.add_union(flow, inputs[0], inputs[1], UnionSettings())
    except TrellisError as error:
        document.failed.emit(error)
        return
    document.edit(flow, f"Put {names[1]} below {names[0]}", Selection(union))


def blend(document: Document, other: Selection, main: Selection) -> None:
    """Blend a rail or stump into a main rail, by the links and with the measure that can be proposed.

    Proposing reads both tables and runs off the interface's thread.
    """
    try:
        flow, inputs = _with_rails(document, (main, other))
    except TrellisError as error:
        document.failed.emit(error)
        return
    runner, names = document.runner, [flow.step(entry.step).name for entry in inputs]

    def work(task: Task) -> OtherSettings:
        blended = flow.step(inputs[0].step)
        # A blend takes one table more: it is linked with the rows that the blend begins with.
        base = blended.inputs[0] if blended.kind == BlendKind.name and inputs[0].port == ROWS else inputs[0]
        tables = [runner.table(flow, entry, task) for entry in (base, inputs[1])]
        taken = runner.shape(flow, inputs[0], task).fields
        proposed = proposals(runner, flow, [base, inputs[1]], document.confirmed, task)
        return proposed_other(tables[0], tables[1], proposed, [field.name for field in taken])

    def done(settings: OtherSettings) -> None:
        try:
            blended, step = edits.add_blend(flow, inputs[0], inputs[1], settings)
        except TrellisError as error:
            document.failed.emit(error)
            return
        document.edit(blended, f"Blend {names[1]} into {names[0]}", Selection(step))

    document.jobs.start(f"looking for a link of {names[0]} with {names[1]}", work, done, document.failed.emit)


def remove_other(document: Document, step_id: str, number: int, name: str) -> None:
    """Do without one of the other tables of a blend."""
    _try(document, lambda: edits.remove_other(document.flow, step_id, number), f"Do without {name}")


def keep_of_blend(document: Document, step_id: str, keep: Keep) -> None:
    """Let a blend keep other rows of its main table."""
    step, outcome = document.flow.step(step_id), document.outcome(step_id)
    main = outcome.inputs[0].name if outcome is not None and outcome.inputs else step.name
    settings = keeping(KINDS.settings(step), keep)
    document.change_settings(step_id, settings, f"Keep {kept_of_blend(keep, main)[0]}")


def place_measures(
    document: Document, step_id: str, names: Sequence[str], stands: Stands, by: str = ""
) -> None:
    """Let measures of a blend stand on every row of their group, on the first, or be spread over all."""
    said = {Stands.EVERY: "Repeat", Stands.FIRST: "Show once", Stands.SPREAD: "Spread"}[stands]
    settings = placing(KINDS.settings(document.flow.step(step_id)), names, stands, by)
    document.change_settings(step_id, settings, f"{said} {listed(list(names))}")


def _with_rails(document: Document, selections: Sequence[Selection]) -> tuple[Flow, list[Input]]:
    """The flow with rails begun at those of the selections that are stumps, and all of them as inputs."""
    flow, inputs = document.flow, []
    for selection in selections:
        step_id = selection.step
        if selection.is_stump:
            flow, step_id = _with_rail(document, flow, selection)
        inputs.append(Input(step_id, selection.port))
    return flow, inputs


def change_join(document: Document, step_id: str, name: str, **changes: object) -> None:
    """Give a knot other settings; `name` says what was done."""
    settings = msgspec.structs.replace(join_settings(document, step_id), **changes)
    document.edit(edits.change_settings(document.flow, step_id, settings), name)


def change_join_type(document: Document, step_id: str, kind: JoinType) -> None:
    """Give a knot another join type."""
    outcome = document.outcome(step_id)
    names = (
        [shape.name for shape in outcome.inputs]
        if outcome and len(outcome.inputs) == 2
        else ["left", "right"]
    )
    change_join(document, step_id, f"Ask for {question(kind, *names)}", type=kind.value)


def toggle_part(document: Document, step_id: str, part: str) -> None:
    """Keep a part of a knot, or leave it out; of a step that is no join or blend there are no such parts."""
    step = document.flow.step(step_id)
    if step.kind == BlendKind.name:
        _toggle_part_of_blend(document, step, part)
    if step.kind != JoinKind.name:
        return
    kind = join_settings(document, step_id).join_type
    keeps = {
        UNMATCHED_LEFT: kind.keeps_unmatched_left,
        "matched": kind.keeps_matched,
        UNMATCHED_RIGHT: kind.keeps_unmatched_right,
    }
    if part not in keeps:
        return
    keeps[part] = not keeps[part]
    changed = type_keeping(
        unmatched_left=keeps[UNMATCHED_LEFT],
        matched=keeps["matched"],
        unmatched_right=keeps[UNMATCHED_RIGHT],
    )
    if changed is None:
        document.said.emit("A join keeps at least one part: choose another one first.")
        return
    change_join_type(document, step_id, changed)


def _toggle_part_of_blend(document: Document, step: Step, part: str) -> None:
    keep = KINDS.settings(step).kept
    other = {Keep.EVERY: Keep.FOUND, Keep.FOUND: Keep.EVERY}
    if part == FOUND_NOTHING and keep in other:
        keep_of_blend(document, step.id, other[keep])
    elif unused_number(part) is not None and keep is Keep.GROUPS:
        keep_of_blend(document, step.id, Keep.ALL_GROUPS)
    elif unused_number(part) is not None:
        document.said.emit("Groups without a row stay only where each group is one row: choose what is kept.")


def swap_sides(document: Document, step_id: str) -> None:
    """Let the sides of a knot change places, and say what that changes."""
    settings = join_settings(document, step_id)
    outcome = document.outcome(step_id)
    document.edit(edits.swap_sides(document.flow, step_id, settings), "Swap sides")
    if outcome is not None and len(outcome.inputs) == 2:
        names = (outcome.inputs[0].name, outcome.inputs[1].name)
        document.said.emit(swap_said(names, settings, settings.swapped))


# --- steps on a rail ---


def insert(document: Document, kind: str, settings: RailSettings, name: str) -> str:
    """Put a step behind what is selected, on its rail; its id, "" if nothing is selected."""
    selection = document.selection
    step = document.flow.find(selection.step)
    if step is None or step.kind == OutputKind.name:
        document.said.emit("Select a rail, a knot or a stub first: the step goes behind it.")
        return ""
    flow, new = edits.insert_after(document.flow, Input(step.id, selection.port), kind, settings)
    document.edit(flow, name, Selection(new))
    return new


def branch(document: Document) -> None:
    """Carry the selected rows on in a second place: on a rail that begins with a choice of fields."""
    selection = document.selection
    step = document.flow.find(selection.step)
    if step is None or step.kind == OutputKind.name:
        document.said.emit("Select a rail, a knot or a stub first: its rows go on in a second place.")
        return
    name = f"branch of {edits.rail_name(document.flow, step.id)}"
    rows = Input(step.id, selection.port)
    flow, new = edits.add_step(document.flow, ChooseKind.name, name, [rows], ChooseSettings())
    document.edit(flow, f"Branch off {edits.rail_name(document.flow, step.id)}", Selection(new))


# --- outputs ---


def add_output(document: Document, settings: OutputSettings) -> None:
    """Lead the selected rows to a file; an output to the same file is changed instead of doubled."""
    for step in document.flow.steps:
        if step.kind == "output" and KINDS.settings(step).path == settings.path:
            document.said.emit(f"{step.name} is an output already.")
            document.select(Selection(step.id))
            return
    rows = Input(document.selection.step, document.selection.port)
    flow, step_id = edits.add_output(document.flow, rows, settings)
    document.edit(flow, f"Write to {settings.file_name}", Selection(step_id))
