"""Reconciling two rails in one command: rows on one side only, and rows on both whose other fields disagree.

It is made of steps like any others, so that each part of it can be looked at and changed: a full outer join
by the key, a field that says on which side a row stands, one that names the fields that disagree, and the
fields in an order in which those that correspond stand side by side.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow.compute as pc

from keen_trellis.core.comparing import as_comparable
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.quoting import quoted_name, quoted_text
from keen_trellis.core.insight.proposal import Proposal
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import Operator
from keen_trellis.core.matching import match
from keen_trellis.core.table import Cells, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import comparable
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.edits import add_join, change_settings, insert_after, rename
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.like_names import LIKE_NAMES, each_once, like_names
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.steps.join import JoinKind, JoinSettings, LinkSettings
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsKind, RowsToColumnsSettings
from keen_trellis.flow.steps.union import UnionSettings

STANDS, DIFFERS = "stands", "differs in"
IN_BOTH = "in both"
_LOOKED_AT = 6
# So many pairs of rows tell whether two fields mostly agree.
_PAIRS_LOOKED_AT = 5_000
_MOSTLY = 0.5


def only_in(name: str) -> str:
    """What stands for a row that only this table has."""
    return f"only in {name}"


def keys_of(left: Table, right: Table, proposed: Sequence[Proposal], task: Task) -> list[LinkSettings]:
    """By which fields rows are the same: the first links that pair each row with one at most."""
    # Of one table with itself it is the row itself that is compared.
    proposed = sorted(proposed, key=lambda proposal: not proposal.itself)
    for proposal in proposed[:_LOOKED_AT]:
        if all(link.operator is Operator.EQUAL for link in proposal.links):
            counts = match(left, right, proposal.links, task).counts
            if counts.pairs and counts.cardinality == "1:1":
                return [LinkSettings.of(link) for link in proposal.links]
    return [LinkSettings.of(link) for link in proposed[0].links] if proposed else []


class Correspondence(msgspec.Struct, frozen=True):
    """A field of either side that may say the same. agree: the share of the pairs looked at in which they do.

    proposed: by their names, or because they mostly agree.
    """

    one: str
    other: str
    agree: float
    proposed: bool


def correspondences(
    left: Table, right: Table, links: Sequence[LinkSettings], task: Task
) -> list[Correspondence]:
    """Fields of both sides that could be compared, those that are proposed first, in the order of the left.

    Each field is proposed once: with the one whose name is most alike, else with the one that it agrees with.
    """
    linked = {link.left for link in links}, {link.right for link in links}
    ours = [field for field in left.fields if field.name not in linked[0]]
    theirs = [field for field in right.fields if field.name not in linked[1]]
    found = match(left, right, [link.link for link in links], task)
    rows = found.pair_rows(spread_rows(found.pairs, _PAIRS_LOOKED_AT))
    scored = []
    for done, one in enumerate(ours):
        task.checkpoint(done, len(ours), "comparing fields")
        for other in theirs:
            if comparable(one.type, other.type):
                alike = like_names(one.name, other.name)
                agree = _agreement(left.take(rows[0], [one.name])[0], right.take(rows[1], [other.name])[0])
                score = alike if alike >= LIKE_NAMES else 50 * agree if agree >= _MOSTLY else -1.0
                scored.append((score, one.name, other.name, agree))
    taken = each_once(entry[:3] for entry in scored if entry[0] >= 0)
    made = [
        Correspondence(one_name, other_name, agree, taken.get(one_name) == other_name)
        for _, one_name, other_name, agree in scored
    ]
    return sorted(made, key=lambda entry: not entry.proposed)


def _agreement(ours: Cells, theirs: Cells) -> float:
    """In which share of the rows both have a value, and the same one; 0.0 where there are none."""
    both = pc.and_(ours.values.is_valid(), theirs.values.is_valid()).to_numpy(zero_copy_only=False)
    if not both.any():
        return 0.0
    one, other = as_comparable(ours.values, theirs.values)
    return float(np.mean(np.asarray(one == other)[both]))


def reconcile(
    flow: Flow,
    left: Input,
    right: Input,
    shapes: tuple[InputShape, InputShape],
    links: Sequence[LinkSettings],
    pairs: Sequence[tuple[str, str]],
) -> tuple[Flow, str]:
    """The flow with the comparison of two rails behind the first; the flow and the last step's id.

    shapes: of the two inputs.  links: by which rows are the same.  pairs: fields that must agree; without
    any, it is only told which rows are on one side.  UsageError without links.
    """
    if not links:
        raise UsageError("It is not known which rows are the same.", remedy="Join them by hand first.")
    names = shapes[0].name, shapes[1].name
    settings = JoinSettings(
        links=tuple(links), type=JoinType.FULL_OUTER.value, both_links=True, name_all=True
    )
    flow, knot = add_join(flow, left, right, settings)
    flow = rename(flow, knot, f"{names[0]} against {names[1]}")
    plan = JoinKind().plan(settings, shapes)
    called = {entry.right: entry.field.name for entry in plan if entry.right and not entry.left}
    stands = ComputeSettings(field=STANDS, expression=_stands(names))
    flow, last = insert_after(flow, Input(knot), ComputeKind.name, stands)
    there = [(one, called[other]) for one, other in pairs]
    order = [STANDS]
    conditions = [ConditionSettings(STANDS, "none-of", (IN_BOTH,))]
    if there:
        differs = ComputeSettings(field=DIFFERS, expression=_differs(there))
        flow, last = insert_after(flow, Input(last), ComputeKind.name, differs)
        order.append(DIFFERS)
        conditions.append(ConditionSettings(DIFFERS, "filled"))
    order += [name for link in links for name in (link.left, called[link.right])]
    order += [name for pair in there for name in pair]
    fields = tuple(ChosenSettings(name) for name in order)
    flow, last = insert_after(flow, Input(last), ChooseKind.name, ChooseSettings(fields=fields))
    disagree = FilterSettings(conditions=tuple(conditions), any_of=True)
    flow, last = insert_after(flow, Input(last), FilterKind.name, disagree)
    return rename(flow, last, "what disagrees"), last


def which_has(
    flow: Flow, union: str, names: Sequence[str], keys: Sequence[str], free: str
) -> tuple[Flow, str]:
    """The flow with one row for each value of some fields behind a union, and how many rows of it each of its
    tables has: by no more can lists be compared that share nothing but their key. The flow and the step.

    names: of the tables.  free: a name for the field that tells them apart, where the union has none yet.
    UsageError where two tables are called the same.
    """
    if len(set(names)) < len(names):
        raise UsageError(
            "Two of the tables are called the same.", remedy="Give one of the rails another name."
        )
    settings = decoded(flow.step(union).settings, UnionSettings)
    rail = settings.rail_field or free
    flow = change_settings(flow, union, msgspec.structs.replace(settings, rail_field=rail))
    table = RowsToColumnsSettings(of=rail, columns=tuple(names), keys=tuple(keys))
    flow, last = insert_after(flow, Input(union), RowsToColumnsKind.name, table)
    return rename(flow, last, "which table has it"), last


def _stands(names: tuple[str, str]) -> str:
    ours, theirs = (quoted_text(name) for name in names)
    return (
        f"CASE WHEN NOT PARTNER_FOUND({ours}) THEN {quoted_text(only_in(names[1]))} "
        f"WHEN NOT PARTNER_FOUND({theirs}) THEN {quoted_text(only_in(names[0]))} "
        f"ELSE {quoted_text(IN_BOTH)} END"
    )


def _differs(pairs: Sequence[tuple[str, str]]) -> str:
    """The names of the fields of which both sides stand there and differ, one blank and the other not."""
    parts = []
    for one, other in pairs:
        ours, theirs = quoted_name(one), quoted_name(other)
        apart = (
            f"{ours} <> {theirs} OR ({ours} IS NULL AND {theirs} IS NOT NULL) "
            f"OR ({ours} IS NOT NULL AND {theirs} IS NULL)"
        )
        parts.append(f"CASE WHEN {apart} THEN {quoted_text(f'{one}, ')} ELSE '' END")
    listed = f"TRIM(TRAILING ',' FROM TRIM({' || '.join(parts)}))"
    return f"CASE WHEN {quoted_name(STANDS)} = {quoted_text(IN_BOTH)} THEN NULLIF({listed}, '') END"
