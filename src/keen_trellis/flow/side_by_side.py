"""All join types of one match on one scale: what each keeps, loses and leaves empty, and which are alike
today.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from keen_trellis.core.insight.unexplained_rows import written
from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
from keen_trellis.core.joining import MOST_RESULT_ROWS, JoinedField
from keen_trellis.core.match import ListedMatch, Match, MatchCounts
from keen_trellis.core.table import ChosenRows, IndexVector, Table
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.join import JoinKind, JoinSettings
from keen_trellis.flow.wording import question, rows_called, with_article

_EXAMPLES = 3
BANDS = ("unmatched_left", "matched", "unmatched_right")


class TypeLine(msgspec.Struct, frozen=True):
    """What one join type makes of a match.

    rows: of its result.  lost: rows of the left and of the right table that stand nowhere in it.  empty:
    cells without partner that it makes.  alike: another type with the same rows today, and what would make
    them differ, or "".  fates: for each of `BANDS` what becomes of its rows.
    """

    join_type: JoinType
    question: str
    rows: int
    lost: tuple[int, int]
    empty: int
    alike: str
    fates: tuple[str, str, str]


class SideBySide(msgspec.Struct, frozen=True):
    """All types, and a few link values of each of `BANDS`."""

    lines: tuple[TypeLine, ...]
    examples: tuple[tuple[str, ...], ...]


def side_by_side(
    settings: JoinSettings, shapes: Sequence[InputShape], left: Table, right: Table, match: Match
) -> SideBySide:
    """What each type makes of a match."""
    counts, names = match.counts, (shapes[0].name, shapes[1].name)
    lines: list[TypeLine] = []
    for kind in QUESTION_TYPES:
        plan = JoinKind().plan(settings, shapes, kind)
        lines.append(
            TypeLine(
                kind,
                question(kind, *names),
                counts.rows_under(kind),
                _lost(kind, counts),
                _empty(kind, counts, plan),
                _alike(kind, lines, counts, names),
                _fates(kind, names),
            )
        )
    return SideBySide(tuple(lines), _examples(settings, left, right, match))


def _lost(kind: JoinType, counts: MatchCounts) -> tuple[int, int]:
    """Rows of either table that the result has no part of."""
    lost = []
    for has_fields, keeps_unmatched, matched, unmatched, passed in (
        (
            kind.has_left_fields,
            kind.keeps_unmatched_left,
            counts.left_matched,
            counts.left_unmatched,
            counts.left_passed_over,
        ),
        (
            kind.has_right_fields,
            kind.keeps_unmatched_right,
            counts.right_matched,
            counts.right_unmatched,
            counts.right_passed_over,
        ),
    ):
        if not has_fields:
            lost.append(matched + unmatched)
            continue
        gone = 0 if keeps_unmatched else unmatched
        if kind.keeps_pairs:
            gone += 0 if keeps_unmatched else passed
        elif not kind.keeps_matched:
            gone += matched
        lost.append(gone)
    return lost[0], lost[1]


def _empty(kind: JoinType, counts: MatchCounts, plan: Sequence[JoinedField]) -> int:
    """Cells that have no partner: those of the other table's fields in rows that found none."""
    of_right = sum(bool(entry.right) and not entry.left for entry in plan)
    of_left = sum(bool(entry.left) and not entry.right for entry in plan)
    left = counts.left_unpaired if kind.keeps_pairs else counts.left_unmatched
    right = counts.right_unpaired if kind.keeps_pairs else counts.right_unmatched
    cells = left * of_right if kind.keeps_unmatched_left else 0
    return cells + (right * of_left if kind.keeps_unmatched_right else 0)


def _alike(kind: JoinType, before: Sequence[TypeLine], counts: MatchCounts, names: tuple[str, str]) -> str:
    """An earlier type with the same rows and fields today, and what would make them differ."""
    for entry in before:
        other = entry.join_type
        if (kind.has_left_fields, kind.has_right_fields, kind.keeps_matched, kind.keeps_pairs) != (
            other.has_left_fields,
            other.has_right_fields,
            other.keeps_matched,
            other.keeps_pairs,
        ):
            continue
        differ = []
        if kind.keeps_unmatched_left != other.keeps_unmatched_left:
            differ.append((counts.left_unpaired, names[0], names[1]))
        if kind.keeps_unmatched_right != other.keeps_unmatched_right:
            differ.append((counts.right_unpaired, names[1], names[0]))
        if differ and not any(rows for rows, _, _ in differ):
            wishes = " or ".join(
                f"{with_article(rows_called(one)[0])} without {with_article(rows_called(two)[0])}"
                for _, one, two in differ
            )
            return f"today the same as {other.trade_name}; {wishes} would make them differ"
    return ""


def _fates(kind: JoinType, names: tuple[str, str]) -> tuple[str, str, str]:
    matched = "left out"
    if kind.keeps_pairs:
        matched = "every pair"
    elif kind.keeps_matched:
        matched = f"each {rows_called(names[0 if kind is JoinType.LEFT_SEMI else 1])[0]} once"
    return (
        "kept" if kind.keeps_unmatched_left else "left out",
        matched,
        "kept" if kind.keeps_unmatched_right else "left out",
    )


def _examples(settings: JoinSettings, left: Table, right: Table, match: Match) -> tuple[tuple[str, ...], ...]:
    """The link values of the first rows of each band."""
    sides = [link.sides(left.fields, right.fields) for link in settings.link_fields]

    def texts(table: Table, rows: IndexVector, side: int) -> list[str]:
        return written(ChosenRows(table, rows), [entry[side] for entry in sides]) if sides else []

    pairs = np.arange(min(match.pairs, _EXAMPLES))
    if isinstance(match, ListedMatch) and match.pairs > MOST_RESULT_ROWS:
        pairs = pairs[:0]
    rows = match.pair_rows(pairs)
    both = zip(texts(left, rows[0], 0), texts(right, rows[1], 1), strict=True)
    return (
        tuple(texts(left, match.left_unmatched_rows[:_EXAMPLES], 0)),
        tuple(one if one == other else f"{one} = {other}" for one, other in both),
        tuple(texts(right, match.right_unmatched_rows[:_EXAMPLES], 1)),
    )
