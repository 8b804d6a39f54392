"""Lets two rails meet: joins, blends, unions and comparisons, proposed from the values on a thread.

A proposal is an edit: it is made on the flow of the moment in which it is known, begins the rails at stumps
only then, and refuses itself if a step or a field that it relies on is gone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.insight.composite_proposals import UNIQUE
from keen_trellis.core.insight.proposal import Proposal, why_none
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.blend_proposal import proposed_other
from keen_trellis.flow.graph import ROWS, Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.proposing import proposals
from keen_trellis.flow.reconciling import Correspondence, correspondences, keys_of
from keen_trellis.flow.reconciling import reconcile as with_comparison
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import OtherSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.session.editing import with_rail
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session

Rails = tuple[Selection, Selection]  # what comes first, and what is brought to it; each may be a stump


def with_rails(session: Session, flow: Flow, selections: Rails) -> tuple[Flow, tuple[Input, Input]]:
    """The flow with rails begun at those of the selections that are stumps, and both as inputs.

    UsageError if a step is gone, or a file is still being looked into.
    """
    inputs = []
    for selection in selections:
        step_id = selection.step
        if selection.is_stump:
            flow, step_id = with_rail(session, flow, selection)
        elif flow.find(step_id) is None:
            raise UsageError(
                "One of the two rails was removed meanwhile.", remedy="Undo its removal, or ask again."
            )
        inputs.append(Input(step_id, selection.port))
    return flow, (inputs[0], inputs[1])


def _check_fields(session: Session, flow: Flow, rows: Input, fields: Iterable[str]) -> None:
    """UsageError if rows that a proposal relies on have lost one of these fields."""
    upstream, library = flow.upstream(rows.step), session.library
    sources = [settings for step, settings in sources_of(flow, KINDS).items() if step in upstream]
    if any(library.known(settings) is None for settings in sources):
        return  # only reading would tell; the knot itself says what it lacks once it is read
    shape = session.runner.shape(flow, rows)
    there = {field.name for field in shape.fields}
    gone = [name for name in fields if name not in there]
    if gone:
        raise UsageError(
            f"{shape.name} no longer has the field “{gone[0]}”: it was changed meanwhile.",
            remedy="Ask again.",
        )


def _check_links(
    session: Session, flow: Flow, inputs: tuple[Input, Input], links: Sequence[LinkSettings]
) -> None:
    left = [link.left for link in links if not link.left_is_expression]
    right = [link.right for link in links if not link.right_is_expression]
    _check_fields(session, flow, inputs[0], left)
    _check_fields(session, flow, inputs[1], right)


def _begin(session: Session, selections: Rails) -> tuple[Flow, tuple[Input, Input], tuple[str, str]] | None:
    """The flow that a proposal is worked out on, with both inputs and their names; None, and why, if not."""
    try:
        flow, inputs = with_rails(session, session.flow, selections)
    except TrellisError as error:
        session.failed.emit(error)
        return None
    return flow, inputs, _names(flow, inputs)


def _names(flow: Flow, inputs: tuple[Input, Input]) -> tuple[str, str]:
    return flow.step(inputs[0].step).name, flow.step(inputs[1].step).name


def names_now(session: Session, selections: Rails) -> tuple[str, str]:
    """What two rails or stumps are called now; "" for one that is gone."""

    def name(selection: Selection) -> str:
        if selection.is_stump:
            return free_name(session.margin.called(selection), {step.name for step in session.flow.steps})
        step = session.flow.find(selection.step)
        return step.name if step is not None else ""

    return name(selections[0]), name(selections[1])


def join(session: Session, right: Selection, left: Selection, asked: Callable[[str], None]) -> None:
    """Join what was dragged (`right`) onto a rail (`left`), with the best link that can be proposed.

    Proposing reads both tables and runs on a thread; then the knot stands, and `asked` is called with the
    proposal's evidence, to ask which question the join answers.
    """
    rails = (left, right)
    begun = _begin(session, rails)
    if begun is None:
        return
    flow, inputs, (one, other) = begun

    def work(task: Task) -> list[Proposal]:
        return proposals(session.runner, flow, inputs, session.confirmed, task)

    def done(found: list[Proposal]) -> None:
        links: tuple[LinkSettings, ...] = ()
        names = names_now(session, rails)
        evidence = f"{why_none(*names)} Choose the link fields below."
        if found:
            best = found[0]
            evidence = best.evidence(*names)
            # What is not sure is taken only where it cannot multiply rows.
            if best.firm or best.unique >= UNIQUE:
                links = tuple(LinkSettings.of(link) for link in best.links)
            evidence += "" if best.firm else " Check it, or choose other link fields below."
        settings = JoinSettings(links=links, type=JoinType.LEFT_OUTER.value)

        def edit(now: Flow) -> tuple[Flow, str]:
            now, both = with_rails(session, now, rails)
            _check_links(session, now, both, links)
            return edits.add_join(now, *both, settings)

        if session.apply(f"Join {names[0]} with {names[1]}", edit):
            asked(evidence)

    session.jobs.start(f"looking for a link of {one} with {other}", work, done, session.failed.emit)


class Comparing(msgspec.Struct, frozen=True):
    """What two rails could be compared by. links: what says which rows are the same."""

    rails: Rails
    names: tuple[str, str]
    links: list[LinkSettings]
    fields: list[Correspondence]


def reconcile(
    session: Session, other: Selection, rail: Selection, asked: Callable[[Comparing], None]
) -> None:
    """Find out how a rail can be compared with another rail or stump, and ask by which fields.

    What says that rows are the same, and which fields say the same, is proposed from the values, on a
    thread; then `asked` is called, and `compare` makes the comparison.
    """
    rails = (rail, other)
    begun = _begin(session, rails)
    if begun is None:
        return
    runner, (flow, inputs, names) = session.runner, begun

    def work(task: Task) -> Comparing:
        proposed = proposals(runner, flow, inputs, session.confirmed, task)
        left, right = (runner.table(flow, entry, task) for entry in inputs)
        links = keys_of(left, right, proposed, task)
        if not links:
            raise UsageError(
                f"It is not known which rows of {names[0]} and {names[1]} are the same.",
                remedy="Join them by hand: the full outer join shows what is on one side only.",
            )
        return Comparing(rails, names, links, correspondences(left, right, links, task))

    session.jobs.start("looking for what says the same", work, asked, session.failed.emit)


def compare(session: Session, found: Comparing, pairs: Sequence[tuple[str, str]]) -> None:
    """Make the comparison of two rails by pairs of fields."""

    def edit(flow: Flow) -> tuple[Flow, str]:
        flow, inputs = with_rails(session, flow, found.rails)
        _check_links(session, flow, inputs, found.links)
        for entry, fields in zip(inputs, zip(*pairs, strict=True), strict=False):
            _check_fields(session, flow, entry, fields)
        shapes: list[InputShape] = [session.runner.shape(flow, entry) for entry in inputs]
        return with_comparison(flow, *inputs, (shapes[0], shapes[1]), found.links, pairs)

    names = names_now(session, found.rails)
    session.apply(f"Reconcile {names[0]} with {names[1]}", edit)


def stack(session: Session, second: Selection, first: Selection) -> None:
    """Put the rows of one rail or stump below those of a rail."""

    def edit(flow: Flow) -> tuple[Flow, str]:
        flow, inputs = with_rails(session, flow, (first, second))
        return edits.add_union(flow, *inputs, UnionSettings())

    names = names_now(session, (first, second))
    session.apply(f"Put {names[1]} below {names[0]}", edit)


def put_beside(session: Session, right: Selection, left: Selection) -> None:
    """Put the rows of one rail or stump next to those of a rail, by their place."""

    def edit(flow: Flow) -> tuple[Flow, str]:
        flow, inputs = with_rails(session, flow, (left, right))
        return edits.add_beside(flow, *inputs)

    names = names_now(session, (left, right))
    session.apply(f"Put {names[1]} next to {names[0]}", edit)


def blend(session: Session, other: Selection, main: Selection) -> None:
    """Blend a rail or stump into a main rail, by the links and with the measure that can be proposed.

    Proposing reads both tables and runs on a thread.
    """
    rails = (main, other)
    begun = _begin(session, rails)
    if begun is None:
        return
    runner, (flow, inputs, names) = session.runner, begun

    def work(task: Task) -> OtherSettings:
        base = _linked_with(flow, inputs[0])
        tables = [runner.table(flow, entry, task) for entry in (base, inputs[1])]
        taken = runner.shape(flow, inputs[0], task).fields
        proposed = proposals(runner, flow, [base, inputs[1]], session.confirmed, task)
        return proposed_other(tables[0], tables[1], proposed, [field.name for field in taken])

    def done(settings: OtherSettings) -> None:
        def edit(now: Flow) -> tuple[Flow, str]:
            now, both = with_rails(session, now, rails)
            _check_links(session, now, (_linked_with(now, both[0]), both[1]), settings.links)
            return edits.add_blend(now, *both, settings)

        called = names_now(session, rails)
        session.apply(f"Blend {called[1]} into {called[0]}", edit)

    session.jobs.start(f"looking for a link of {names[0]} with {names[1]}", work, done, session.failed.emit)


def _linked_with(flow: Flow, main: Input) -> Input:
    """The rows that a table blended into `main` is linked with: a blend takes one table more, which is linked
    with the rows that the blend begins with.
    """
    step = flow.step(main.step)
    return step.inputs[0] if KINDS.first_only(step) and main.port == ROWS else main
