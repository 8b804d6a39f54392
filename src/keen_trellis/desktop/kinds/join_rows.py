"""What the bench shows of a join: unmatched left, matched, unmatched right, each divided by reasons."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_trellis.core.insight.reason import Kind, Reason, rows_said
from keen_trellis.core.join_type import JoinType, type_keeping
from keen_trellis.core.joining import MOST_RESULT_ROWS
from keen_trellis.core.match import ListedMatch, Match
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.desktop.bench.content import (
    LEFT,
    LINK,
    RIGHT,
    Band,
    Column,
    Content,
    Destination,
    OneSide,
    Part,
    Rows,
)
from keen_trellis.desktop.bench.shown import Shown
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape, StepResult
from keen_trellis.flow.mending import Explained
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.wording import counted, ignoring, nothing_wrong, rows_called
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class _Pairs(Rows):
    """Pairs of a match: all of them, or those with certain numbers."""

    def __init__(self, match: Match, numbers: IndexVector | None) -> None:
        super().__init__(match.pairs if numbers is None else len(numbers))
        self._match, self._numbers = match, numbers

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        return self._match.pair_rows(places if self._numbers is None else self._numbers[places])

    def place_of(self, left: int, right: int) -> int | None:
        if left < 0 or right < 0:
            return None
        first, end = self._match.first_pair_of_left[left : left + 2]
        numbers = np.arange(first, end)
        pair = numbers[self._match.pair_rows(numbers)[1] == right]
        if not len(pair) or self._numbers is None:
            return int(pair[0]) if len(pair) else None
        place = int(np.searchsorted(self._numbers, pair[0]))
        return place if place < self.count and int(self._numbers[place]) == pair[0] else None


class _PairsOfRows(Rows):
    """All pairs of some left rows, which are not listed. until: how many pairs there are up to each row."""

    def __init__(self, match: Match, rows: IndexVector, until: IndexVector) -> None:
        super().__init__(int(until[-1]) if len(until) else 0)
        self._match, self._rows, self._until = match, rows, until

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        which = np.searchsorted(self._until, places, side="right")
        before = np.where(which > 0, self._until[which - 1], 0)
        first = self._match.first_pair_of_left[self._rows[which]]
        return self._match.pair_rows(first + places - before)

    def place_of(self, left: int, right: int) -> int | None:
        which = int(np.searchsorted(self._rows, left))
        if left < 0 or right < 0 or which == len(self._rows) or self._rows[which] != left:
            return None
        first, end = self._match.first_pair_of_left[left : left + 2]
        pair = np.flatnonzero(self._match.pair_rows(np.arange(first, end))[1] == right)
        before = int(self._until[which - 1]) if which else 0
        return before + int(pair[0]) if len(pair) else None


class KnotContent(Content):
    """The rows of both sides of a join, in its bands."""

    def destinations(self, band: Band, current: JoinType) -> list[Destination]:
        """Where the rows of a band can go, as the join types that this makes."""
        keeps = {
            "unmatched_left": current.keeps_unmatched_left,
            "matched": current.keeps_matched,
            "unmatched_right": current.keeps_unmatched_right,
        }

        key = _UNMATCHED_OF_SIDE.get(band.key, band.key)

        def changed(kept: bool) -> JoinType | None:
            now = {**keeps, key: kept}
            if band.key in _PASSED and kept:
                now["matched"] = True  # only beside pairs are they kept
            if now == keeps and band.key != "matched":
                return current
            return type_keeping(
                unmatched_left=now["unmatched_left"],
                matched=now["matched"],
                unmatched_right=now["unmatched_right"],
            )

        found = []
        stay, leave = changed(True), changed(False)
        if band.key == "matched":
            if stay is not None:
                found.append(Destination("every pair", stay))
            found.append(Destination(f"each {rows_called(self.names[0])[0]} once", JoinType.LEFT_SEMI))
            found.append(Destination(f"each {rows_called(self.names[1])[0]} once", JoinType.RIGHT_SEMI))
        elif stay is not None:
            found.append(Destination("stay in the result", stay))
        if leave is not None:
            found.append(Destination("left out", leave))
        return found

    def destination_text(self, band: Band, current: JoinType) -> str:
        """Where the rows of a band go now."""
        if band.key == "matched":
            if current is JoinType.LEFT_SEMI:
                return f"each {rows_called(self.names[0])[0]} once"
            if current is JoinType.RIGHT_SEMI:
                return f"each {rows_called(self.names[1])[0]} once"
            return "every pair" if current.keeps_pairs else "left out"
        left = _UNMATCHED_OF_SIDE.get(band.key, band.key) == "unmatched_left"
        keeps = current.keeps_unmatched_left if left else current.keeps_unmatched_right
        if band.key in _PASSED:
            keeps = keeps and current.keeps_pairs
        return "stay in the result" if keeps else "left out"


def knot_content(
    settings: JoinSettings,
    shapes: Sequence[InputShape],
    left: Table,
    right: Table,
    result: StepResult,
    explained: Explained | None = None,
) -> KnotContent:
    """The bands of a knot: unmatched left, matched, unmatched right. explained: divides them by reasons."""
    match = result.match
    assert match is not None, "a knot's result has a match"
    names = (shapes[0].name, shapes[1].name)
    links = tuple((entry.left, entry.right) for entry in settings.links if entry.link.is_plain)
    counts = match.counts
    one_right = rows_called(names[1])[0]
    bands = [
        Band(
            "unmatched_left",
            f"Unmatched {names[0]} · {rows_said(counts.left_unmatched)}",
            _unmatched_parts("left", match.left_unmatched_rows, explained, names[1]),
            effect=f"found no {one_right}",
        ),
        Band(
            "matched",
            f"Matched · {counted(counts.left_matched, names[0])} with "
            f"{counted(counts.right_matched, names[1])} in {counts.pairs:,} "
            f"{'pair' if counts.pairs == 1 else 'pairs'}",
            _matched_parts(match, settings, explained),
            effect=_nothing_wrong(explained, names),
        ),
        Band(
            "unmatched_right",
            f"Unmatched {names[1]} · {rows_said(counts.right_unmatched)}",
            _unmatched_parts("right", match.right_unmatched_rows, explained, names[0]),
            effect=f"found no {rows_called(names[0])[0]}",
        ),
    ]
    passed = [
        (_PASSED[0], names[0], match.left_passed_over_rows, True),
        (_PASSED[1], names[1], match.right_passed_over_rows, False),
    ]
    for key, name, rows, on_left in passed:
        if len(rows):
            title = f"Passed over · {counted(len(rows), name)} with a match"
            part = Part(key, "", OneSide(len(rows), rows, on_left=on_left))
            bands.insert(-1, Band(key, title, [part], effect="another row was taken"))
    return KnotContent(_knot_columns(settings, shapes), bands, left, right, match, names, links)


def _nothing_wrong(explained: Explained | None, names: tuple[str, str]) -> str:
    """That nothing is wrong, where that is so."""
    kinds = [entry.kind for entry in explained.reasons] if explained is not None else []
    return nothing_wrong(*names) if Kind.NOTHING_WRONG in kinds else ""


_SIGNS = {"<>": "≠", "<=": "≤", ">=": "≥"}
# The bands of rows that match and are in no pair, and the bands whose destination they share.
_PASSED = ("passed_left", "passed_right")
_UNMATCHED_OF_SIDE = {_PASSED[0]: "unmatched_left", _PASSED[1]: "unmatched_right"}


def _unmatched_parts(
    side: str, rows: IndexVector, explained: Explained | None, other_name: str
) -> list[Part]:
    """The rows of one side by the reason why they have no partner in the table called `other_name`."""
    key, on_left = f"unmatched_{side}", side == "left"
    told = [
        entry
        for entry in (explained.reasons if explained else ())
        if entry.side == side and not entry.kind.multiplies and entry.kind is not Kind.NOTHING_WRONG
    ]
    if not told:
        return [Part(key, "", OneSide(len(rows), rows, on_left=on_left))]
    return [
        Part(
            f"{key}:{entry.kind.value}:{entry.said}",
            _reason_text(entry, other_name),
            OneSide(entry.rows, entry.row_numbers, on_left=on_left),
            reason=entry,
            starts_closed=number > 0,
        )
        for number, entry in enumerate(told)
    ]


def _reason_text(reason: Reason, other_name: str = "") -> str:
    """A reason as the head of its rows, with an example."""
    said = reason.said
    if reason.kind is Kind.ABSENT and other_name:
        said = f"not in {other_name}" if len(reason.examples) else said
    rows = f"{rows_said(reason.rows)}"
    if reason.values and reason.values != reason.rows:
        rows = f"{rows}, {reason.values:,} {'value' if reason.values == 1 else 'values'}"
    example = reason.examples[0] if reason.examples else None
    shown = f", as “{example.value}”" if example and example.other else ""
    if reason.kind is Kind.NOTHING_ALIKE:
        return f"{rows}: {said}"
    cluster = "".join(f"; {entry.rows:,} with {entry.field} {entry.value}" for entry in reason.clusters[:1])
    return f"{rows}: {said}{shown}{cluster}"


def _matched_parts(match: Match, settings: JoinSettings, explained: Explained | None) -> list[Part]:
    counts = match.counts
    parts = _matched_by_mend(match, settings, explained)
    told = zip(explained.reasons, explained.pairs_until, strict=True) if explained else ()
    for entry, until in told:
        if until is not None:
            rows = _PairsOfRows(match, entry.row_numbers, until)
            parts.insert(
                0, Part(entry.kind.value, _reason_text(entry), rows, reason=entry, starts_closed=True)
            )
            if len(parts) == 2 and not parts[1].text:
                parts[1].text = f"all {counts.pairs:,} pairs"
    return parts


def _matched_by_mend(match: Match, settings: JoinSettings, explained: Explained | None) -> list[Part]:
    """The pairs as written, and those that match only after mending, by mend."""
    counts = match.counts
    if isinstance(match, ListedMatch) and counts.pairs > MOST_RESULT_ROWS:
        return [
            Part(
                "matched",
                f"{counts.pairs:,} pairs are too many to be listed",
                OneSide(0, None, on_left=True),
            )
        ]
    if match.rung_of_left is not None:
        return _matched_by_rung(match, match.rung_of_left, settings)
    prepared = [entry.link.preparation for entry in settings.links if entry.link.preparation]
    if not prepared:
        return [Part("matched", "", _Pairs(match, None))]
    only_prepared = counts.pairs - counts.pairs_as_written
    said = ignoring(prepared[0]) if len(set(prepared)) == 1 else "their preparation"
    if not only_prepared:
        return [Part("as_written", f"all {counts.pairs:,} pairs as written", _Pairs(match, None))]
    prepared_parts = [
        Part(
            "prepared",
            f"{only_prepared:,} {'pair matches' if only_prepared == 1 else 'pairs match'} only after {said}",
            _Pairs(match, match.pair_numbers_only_prepared),
        )
    ]
    if explained is not None and explained.mended:
        prepared_parts = [
            Part(
                f"prepared:{entry.said}",
                f"{len(entry.numbers):,} {'pair matches' if len(entry.numbers) == 1 else 'pairs match'} only "
                f"by {entry.said}",
                _Pairs(match, entry.numbers),
                starts_closed=number > 0,
            )
            for number, entry in enumerate(explained.mended)
        ]
    return [
        *prepared_parts,
        Part(
            "as_written",
            f"{counts.pairs_as_written:,} as written",
            _Pairs(match, match.pair_numbers_as_written),
        ),
    ]


def _matched_by_rung(match: Match, rung_of_left: IndexVector, settings: JoinSettings) -> list[Part]:
    """The pairs by the rung of the ladder that found them, the last rung first: it is the least sure."""
    of_pair = np.repeat(rung_of_left, match.partners_of_left)
    parts = []
    for number, rung in reversed(list(enumerate(settings.ladder, 1))):
        numbers = np.flatnonzero(of_pair == number)
        said = f"{len(numbers):,} {'pair' if len(numbers) == 1 else 'pairs'} by {rung.said}"
        review = ", to be reviewed" if rung.review and len(numbers) else ""
        signs = {(link.left, link.right): _sign(link) for link in rung.links}
        parts.append(Part(f"rung:{number}", f"{said}{review}", _Pairs(match, numbers), signs=signs))
    return parts


def _sign(link: LinkSettings) -> str:
    """How the fields of a link compare, as a sign between them."""
    return "≈" if link.like is not None else _SIGNS.get(link.operator, link.operator)


def _knot_columns(settings: JoinSettings, shapes: Sequence[InputShape]) -> list[Column]:
    """Left fields, the link fields in the middle, and the right fields that are brought."""
    left = {entry.name: entry for entry in shapes[0].fields}
    right = {entry.name: entry for entry in shapes[1].fields}
    linked_left = {entry.left for entry in settings.links if entry.link.is_plain}
    linked_right = {entry.right for entry in settings.links if entry.link.is_plain}
    kept = [left[name] for name in settings.keep or left if name in left and name not in linked_left]
    chosen = right if settings.bring is None else settings.bring
    brought = [right[name] for name in chosen if name in right and name not in linked_right]
    plain = [entry for entry in settings.links if entry.link.is_plain]
    links = [Column(LINK, left[entry.left], right[entry.right], _sign(entry)) for entry in plain]
    return [Column(LEFT, entry) for entry in kept] + links + [Column(RIGHT, entry) for entry in brought]


def rows_of_join(session: Session, explanations: Explanations, step: Step, outcome: Outcome) -> Shown | None:
    """A join's bands. Its rows follow from its match and its fields, not from its join type."""
    result = outcome.result
    if result is None or result.match is None:
        return None
    settings: JoinSettings = KINDS.settings(step)
    left, right = outcome.tables
    reasons = explanations.of(outcome)
    return Shown(
        (result.match, settings.ladder, settings.keep, settings.bring, reasons),
        lambda: knot_content(settings, outcome.inputs, left, right, result, reasons),
        settings.join_type,
        reasons,
    )
