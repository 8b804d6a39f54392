"""How the bar of a join is cut, and what is said of the rows behind it."""

from __future__ import annotations

import re

import msgspec

from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.match import MatchCounts
from keen_trellis.desktop.trellis.knots import Cut, Cutting
from keen_trellis.desktop.trellis.shapes import MATCHED_PART, Part
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import PASSED_OVER, UNMATCHED_LEFT, UNMATCHED_RIGHT, JoinSettings
from keen_trellis.flow.wording import question
from keen_trellis.session.outcome import Outcome


def cut_join(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    """The bar of a join: the unmatched left rows, the matched ones, the unmatched right ones."""
    settings: JoinSettings = KINDS.settings(step)
    left, right = (shape.name for shape in outcome.inputs)
    kind = settings.join_type
    said = _captioned(plain, step.name, right, question(kind, left, right))
    counts = outcome.figures.counts if outcome.figures is not None else None
    if counts is None:
        return said
    share = counts.left_matched / counts.left_rows if counts.left_rows else 0.0
    short = f"{percent(share)} of {left.split(' with ')[0]} found one"
    parts = (
        _part(UNMATCHED_LEFT, counts.left_unmatched, kind.keeps_unmatched_left, "unmatched left"),
        _part(MATCHED_PART, counts.left_matched, kind.keeps_matched, "matched"),
        _part(UNMATCHED_RIGHT, counts.right_unmatched, kind.keeps_unmatched_right, "unmatched right"),
    )
    stubs = {
        UNMATCHED_LEFT: (
            f"{counts.left_unmatched:,} unmatched {left}",
            f"{counts.left_unmatched:,} unmatched",
        ),
        MATCHED_PART: (
            f"{counts.left_matched:,} matched pairs left out",
            f"{counts.left_matched:,} left out",
        ),
        UNMATCHED_RIGHT: (
            f"{counts.right_unmatched:,} unmatched {right}",
            f"{counts.right_unmatched:,} unmatched",
        ),
    }
    return msgspec.structs.replace(
        _counted(said, counts, kind),
        detail=f"{kind.trade_name} · {short}",
        short=short,
        parts=parts,
        stubs=stubs,
        inputs={UNMATCHED_LEFT: 0, UNMATCHED_RIGHT: 1},
    )


def _captioned(plain: Cut, name: str, right: str, asked: str) -> Cut:
    """The question of a join, and in short what it is joined with; or the name that somebody gave it.

    One that was named after its tables carries its number, where several are of the same ones.
    """
    named = re.fullmatch(
        rf".* (?:with|and|against) {re.escape(right.split(' with ', maxsplit=1)[0])}(?P<number> \d+)?", name
    )
    if named is None:
        return msgspec.structs.replace(plain, caption=name, short_caption=name)
    number = named["number"] or ""
    return msgspec.structs.replace(
        plain, caption=f"{asked}{number and f' ({number.strip()})'}", short_caption=f"with {right}{number}"
    )


def _counted(plain: Cut, counts: MatchCounts, kind: JoinType) -> Cut:
    """How many rows there are behind a join, and how many more than the left table's."""
    added = counts.pairs - counts.left_matched
    if plain.alarm:
        return msgspec.structs.replace(plain, counted=f"{plain.counted}, emptied by this join")
    if not kind.keeps_pairs or added <= 0:
        return plain
    more = f"{plain.counted}, {added:,} more"
    return msgspec.structs.replace(plain, counted=f"{more} by repeated keys", counted_short=more, alarm=True)


JOIN_CUTTING = Cutting(cut_join, UNMATCHED_LEFT, {PASSED_OVER: "passed over", MATCHED_PART: "matched"})


def _part(name: str, rows: int, kept: bool, said: str) -> Part:
    does = "kept; click again to leave it out" if kept else "left out; click again to keep it"
    return Part(name, 0, 0, kept, rows, f"{said}: {rows_said(rows)}, {does}", name != MATCHED_PART)
