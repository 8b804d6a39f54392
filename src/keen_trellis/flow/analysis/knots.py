"""A knot that pairs rows, as a report tells it: counts, types, reasons, and what mends matched."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from keen_trellis.core.insight.mended import MendedPairs
from keen_trellis.core.insight.reason import Kind, Reason
from keen_trellis.core.insight.unexplained_rows import written
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.match import Match
from keen_trellis.core.table import ChosenRows, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.analysis.rows import ReasonRows, shown_fields
from keen_trellis.flow.analysis.value import (
    ExampleTold,
    JoinTold,
    LinkTold,
    MendedTold,
    MendTold,
    ReasonTold,
    RowsTold,
    TypeTold,
)
from keen_trellis.flow.analysis.withheld import Withheld
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.mending import Explained, explained
from keen_trellis.flow.report import as_members
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.side_by_side import side_by_side
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.flow.wording import ignoring, nothing_wrong, question, rows_called

_EXAMPLES = 4
_SAME_PAIR_LOOKED_AT = 200
_AN_EXPRESSION = "an expression"

# What is said of a reason whose own words may hold values that are withheld.
_PLAINLY = {
    Kind.PLACEHOLDER: "a placeholder for no value",
    Kind.BELOW: "below the first value of the other table",
    Kind.ABOVE: "above the last value of the other table",
    Kind.GAP: "in a gap between values of the other table",
}


def join_told(
    runner: Runner, flow: Flow, step: Step, withheld: Withheld, most_rows: int, task: Task
) -> tuple[JoinTold, list[ReasonRows]]:
    """A knot, and the rows of it that have no partner. Raises what computing it raises; Cancelled.

    most_rows: so many of each reason are told with it.
    """
    result = runner.result(flow, step.id, task)
    assert result.match is not None
    settings: JoinSettings = runner.settings(flow, step)
    shapes = runner.input_shapes(flow, step, task)
    left, right = (runner.table(flow, entry, task) for entry in step.inputs)
    names = (shapes[0].name, shapes[1].name)
    kind, links, counts = settings.join_type, settings.link_fields, result.match.counts
    hidden = withheld.hides_link(links, left, right)
    found = Explained((), ())
    if kind is not JoinType.CROSS:
        task.checkpoint(0, 0, f"looking why rows of {step.name} did not match")
        found = explained(settings, left, right, result.match, task)
    rows = list(_rows_without_partner(step, names, found.reasons, (left, right), links, withheld))
    by_reason = {id(entry.reason): entry.told(most_rows) for entry in rows}
    own = runner.kinds.of(step).sentence(settings, shapes)
    told = JoinTold(
        step=step.id,
        name=step.name,
        note=step.note,
        sentence=withheld.sentence(step, own, (left, right)),
        question=question(kind, *names),
        left=names[0],
        right=names[1],
        links=tuple(_link(link, hidden=hidden) for link in links),
        any_of=settings.any_of and len(links) > 1,
        take=_taken(settings.take, hidden=hidden),
        counts=as_members(counts, kind),
        added=counts.pairs - counts.left_matched,
        types=tuple(_types(settings, shapes, left, right, result.match)) if links else (),
        reasons=tuple(
            _reason(reason, settings, names, hidden=hidden, rows=by_reason.get(id(reason)))
            for reason in found.reasons
        ),
        mended=tuple(_mended(found.mended, links, left, right, result.match, hidden=hidden)),
        disagreements=dict(result.disagreements),
        withheld=hidden,
    )
    return told, rows


def _link(link: LinkField, *, hidden: bool) -> LinkTold:
    count = len(link.preparation.corrections)
    # An expression may hold values itself.
    left = _AN_EXPRESSION if hidden and link.left_is_expression else link.left
    right = _AN_EXPRESSION if hidden and link.right_is_expression else link.right
    return LinkTold(left, link.operator.value, right, ignoring(link.preparation), count)


def _taken(take: str, *, hidden: bool) -> str:
    """Which of several partners is taken, "" if all are."""
    return "" if take == "every" else take.partition(":")[0] if hidden else take


def _types(
    settings: JoinSettings, shapes: Sequence[InputShape], left: Table, right: Table, match: Match
) -> Iterator[TypeTold]:
    for line in side_by_side(settings, shapes, left, right, match).lines:
        yield TypeTold(
            line.join_type.trade_name,
            line.question,
            line.rows,
            line.lost,
            line.empty,
            line.alike,
            line.join_type is settings.join_type,
        )


def _reason(
    reason: Reason, settings: JoinSettings, names: tuple[str, str], *, hidden: bool, rows: RowsTold | None
) -> ReasonTold:
    of = names[0] if reason.side == "left" else names[1]
    said = nothing_wrong(*names) if reason.kind is Kind.NOTHING_WRONG else reason.said
    if hidden:
        said = _PLAINLY.get(reason.kind, reason.kind.value.replace("-", " "))
    notes = (entry.note for entry in settings.accepted if entry.side == reason.side and entry.note)
    return ReasonTold(
        kind=reason.kind.value,
        side=reason.side,
        of=rows_called(of)[1],
        rows=reason.rows,
        values=reason.values,
        said=said,
        examples=()
        if hidden
        else tuple(ExampleTold(entry.value, entry.rows, entry.other) for entry in reason.examples),
        mends=()
        if hidden
        else tuple(MendTold(mend.said, mend.gain, mend.way.takes_away, mend.merged) for mend in reason.mends),
        clusters=()
        if hidden
        else tuple(
            f"{entry.rows:,} of them have {entry.value} in {entry.field}, as have {entry.all_rows:,} in all"
            for entry in reason.clusters
        ),
        notes=tuple(dict.fromkeys(notes)) if reason.kind is Kind.ACCEPTED else (),
        withheld=hidden,
        without_partner=rows,
    )


def _mended(
    found: Iterable[MendedPairs],
    links: Sequence[LinkField],
    left: Table,
    right: Table,
    match: Match,
    *,
    hidden: bool,
) -> Iterator[MendedTold]:
    for entry in found:
        examples: tuple[tuple[str, str], ...] = ()
        if not hidden:
            ones, others = match.pair_rows(entry.numbers[:_SAME_PAIR_LOOKED_AT])
            sides = [link.sides(left.fields, right.fields) for link in links]
            texts = zip(
                written(ChosenRows(left, ones), [one for one, _ in sides]),
                written(ChosenRows(right, others), [other for _, other in sides]),
                strict=True,
            )
            examples = tuple(dict.fromkeys(texts))[:_EXAMPLES]
        yield MendedTold(entry.said, len(entry.numbers), examples)


def _rows_without_partner(
    step: Step,
    names: tuple[str, str],
    reasons: Sequence[Reason],
    tables: tuple[Table, Table],
    links: tuple[LinkField, ...],
    withheld: Withheld,
) -> Iterator[ReasonRows]:
    left, right = tables
    hidden = withheld.hides_link(links, left, right)
    for reason in reasons:
        if not reason.kind.is_of_unmatched or not len(reason.row_numbers):
            continue
        own, other, seen, of = (left, right, links, names[0])
        if reason.side == "right":
            own, other, seen, of = (right, left, tuple(link.swapped for link in links), names[1])
        shown = shown_fields(own, other, seen, withheld)
        yield ReasonRows(step.id, step.name, of, reason, own, other, seen, shown, hidden)
