"""Guards: what must hold at a knot or an output on every refresh, written as short texts.

all-left-match, all-right-match; left-unmatched<=12 or <=0.5%, and right-...; left-key-unique,
right-key-unique; no-left-blanks, no-right-blanks; no-rows-added; rows=8000..9000, either end may be missing;
left-unmatched<=last:12, not above the most of the last 12 runs, and right-...; rows=last:12, what these had,
give or take a tenth; total:FIELD, whose sum is the one that it has in its source; one-row-per:FIELD, FIELD;
confidential:FIELD, of which nothing in the result is read.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from math import isclose
from typing import TYPE_CHECKING

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Expression
from keen_trellis.core.insight.reason import Vector, rows_said
from keen_trellis.core.link import LinkField
from keen_trellis.core.match import Match
from keen_trellis.core.preparing import prepare
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import ChosenRows, IndexVector, Table, fields_behind, find_field
from keen_trellis.core.values import FieldType, shortest_number

if TYPE_CHECKING:
    from keen_trellis.core.insight.reasons import Asked  # noqa: TC004 - it says what is held, and is not looked up

LEFT, RIGHT, RESULT = "left", "right", "result"
_SIDES = (LEFT, RIGHT)
_PLAIN = (
    *(f"all-{side}-match" for side in _SIDES),
    *(f"{side}-key-unique" for side in _SIDES),
    *(f"no-{side}-blanks" for side in _SIDES),
    "no-rows-added",
)
_UNMATCHED = re.compile(r"^(left|right)-unmatched<=(\d+)(?:\.(\d+))?(%?)$")
_ROWS = re.compile(r"^rows=(\d*)\.\.(\d*)$")
_BEFORE = re.compile(r"^(left-unmatched<|right-unmatched<|rows)=last:([1-9]\d{0,3})$")
# With so many runs a guard that is offered compares; it is offered where there are at least so many.
_USUAL, _ENOUGH = 12, 3
_TOTAL, _GRAIN, CONFIDENTIAL = "total:", "one-row-per:", "confidential:"
_OF_FIELDS = {
    _TOTAL: "the total of {} is carried unchanged",
    _GRAIN: "one row is one {}",
    CONFIDENTIAL: "{} is confidential: neither here nor in reports",
}
# Sums of reals are equal if they are but for the rounding of the order in which they were added.
CLOSE = 1e-9
_FORMS = (
    "all-left-match, left-unmatched<=5, left-unmatched<=0.5%, left-key-unique, no-left-blanks (each for "
    "right, too), no-rows-added, rows=1..100, left-unmatched<=last:12, rows=last:12 (of so many runs), "
    "total:FIELD, one-row-per:FIELD, confidential:FIELD"
)


class Past(msgspec.Struct, frozen=True):
    """What a step came to in an earlier run: its rows, and of a knot the unmatched rows of either side."""

    rows: int
    left_unmatched: int = 0
    right_unmatched: int = 0


class Guarded(msgspec.Struct, frozen=True):
    """What guards look at. result: the rows of the step.  asked, match: of a knot only.

    total_from: the table in which a field of the result came from its source, or None if it did not.  past:
    what the step came to in so many of the latest runs in which its guards held; None if nobody knows.
    fields_before: the names of all fields of the step and of those before it.
    """

    result: Table
    total_from: Callable[[str], Table | None]
    asked: Asked | None = None
    match: Match | None = None
    past: Callable[[int], Sequence[Past]] | None = None
    fields_before: Callable[[], Collection[str]] | None = None


@dataclass(frozen=True)
class Verdict:
    """What became of a guard. side: left, right or result.  rows: those of that side that break it."""

    guard: str
    holds: bool
    said: str
    side: str = RESULT
    rows: IndexVector = field(default_factory=lambda: np.zeros(0, np.int64), compare=False, repr=False)


def check_text(text: str) -> str:
    """The guard as it is kept; UsageError if the text is none."""
    guard = re.sub(r"\s*(<=|=|\.\.|:)\s*", r"\1", text.strip(), count=2)
    if (
        guard in _PLAIN
        or _UNMATCHED.match(guard)
        or _BEFORE.match(guard)
        or (_ROWS.match(guard) and guard != "rows=..")
        or (guard.startswith((_TOTAL, _GRAIN, CONFIDENTIAL)) and guard.partition(":")[2].strip())
    ):
        return guard
    raise UsageError(f"“{text}” is not a guard.", remedy=f"Guards are: {_FORMS}.")


def check(guard: str, guarded: Guarded) -> Verdict:
    """Whether a guard holds, and the rows that break it. UsageError if it is none here."""
    guard = check_text(guard)
    if found := _ROWS.match(guard):
        return _row_count(guard, guarded.result.rows, *found.groups())
    if found := _BEFORE.match(guard):
        return _as_before(guard, guarded, int(found[2]))
    if guard.startswith(_TOTAL):
        return _total(guard, guarded)
    if guard.startswith(_GRAIN):
        return _grain(guard, guarded.result)
    if guard.startswith(CONFIDENTIAL):
        return _confidential(guard, guarded)
    if guarded.match is None or guarded.asked is None:
        raise UsageError(f"“{guard}” is a guard for a join.", remedy="Set it on the knot.")
    side = RIGHT if "right" in guard else LEFT
    if guard.endswith("key-unique"):
        return _unique(guard, guarded.asked, side)
    if guard.endswith("blanks"):
        return _blanks(guard, guarded.asked, side)
    if guard == "no-rows-added":
        return _added(guard, guarded.match, guarded.result.rows)
    return _unmatched(guard, guarded.asked, guarded.match, side)


def proposals(guarded: Guarded) -> Iterator[str]:
    """Guards that hold now, the most telling first."""
    asked, match = guarded.asked, guarded.match
    if asked is not None and match is not None:
        for side in _SIDES:
            missing = len(_without_partner(asked, match, side))
            if not missing:
                yield f"all-{side}-match"
            elif side == LEFT:
                yield f"left-unmatched<={missing}"
        texts = ["right-key-unique", "left-key-unique", "no-rows-added", "no-left-blanks", "no-right-blanks"]
        yield from (text for text in texts if check(text, guarded).holds)
    for entry in guarded.result.fields:
        if entry.type is not FieldType.BOOLEAN and check(f"{_GRAIN}{entry.name}", guarded).holds:
            yield f"{_GRAIN}{entry.name}"
            break
    for entry in guarded.result.fields:
        is_amount = entry.type is FieldType.DECIMAL and guarded.total_from(entry.name) is not None
        if is_amount and check(f"{_TOTAL}{entry.name}", guarded).holds:
            yield f"{_TOTAL}{entry.name}"
    if _runs_known(guarded) >= _ENOUGH:
        before = [f"{LEFT}-unmatched<=last:{_USUAL}"] if match is not None else []
        for text in (*before, f"rows=last:{_USUAL}"):
            if check(text, guarded).holds:
                yield text
    rows = guarded.result.rows
    yield f"rows={rows * 9 // 10}..{rows * 11 // 10 + 1}"


def _runs_known(guarded: Guarded) -> int:
    """How many earlier runs a guard that is offered would compare with."""
    if guarded.past is None:
        return 0
    try:
        return len(guarded.past(_USUAL))
    except UsageError:  # they cannot be read; a guard that is set says so
        return 0


# --- each kind ---


def _without_partner(asked: Asked, match: Match, side: str) -> IndexVector:
    """Unmatched rows but those accepted as absent."""
    on_left = side == LEFT
    rows = match.left_unmatched_rows if on_left else match.right_unmatched_rows
    accepted = asked.accepted[0 if on_left else 1]
    if not accepted or not len(rows):
        return rows
    from keen_trellis.core.insight.unexplained_rows import written

    table = ChosenRows(asked.left if on_left else asked.right, rows)
    sides = [_expression(asked, link, side) for link in asked.links]
    texts = pa.array(written(table, sides), pa.large_string())
    known = pc.is_in(texts, value_set=pa.array(accepted, pa.large_string()))
    left: IndexVector = rows[~known.to_numpy(zero_copy_only=False)]
    return left


def _expression(asked: Asked, link: LinkField, side: str) -> Expression:
    return link.sides(asked.left.fields, asked.right.fields)[0 if side == LEFT else 1]


def _unmatched(guard: str, asked: Asked, match: Match, side: str) -> Verdict:
    rows = _without_partner(asked, match, side)
    total = (asked.left if side == LEFT else asked.right).rows
    most = Decimal(0)
    if found := _UNMATCHED.match(guard):
        _, whole, fraction, percent = found.groups()
        most = Decimal(f"{whole}.{fraction or 0}")
        if percent:
            most = most * total / 100
    said = f"{rows_said(len(rows))} of {total:,} {_has(len(rows))} no partner"
    return Verdict(guard, len(rows) <= most, said, side, rows)


def _missing(asked: Asked, side: str) -> Vector:
    """Which rows of a side lack the value of a link."""
    table = asked.left if side == LEFT else asked.right
    found = np.zeros(table.rows, dtype=bool)
    for link in asked.links:
        prepared = prepare(_expression(asked, link, side).cells(table), link.preparation)
        for missing in (prepared.blank, prepared.absent, prepared.lost):
            found |= False if missing is None else missing
    return found


def _unique(guard: str, asked: Asked, side: str) -> Verdict:
    table = asked.left if side == LEFT else asked.right
    names = [link.left if side == LEFT else link.right for link in asked.links]
    keys = [Key(name, link.preparation) for name, link in zip(names, asked.links, strict=True)]
    groups, missing = grouped(table, keys), _missing(asked, side)
    often = np.bincount(groups.codes[~missing], minlength=groups.size)
    rows = np.flatnonzero(~missing & (often[groups.codes] > 1))
    values = int(np.count_nonzero(often > 1))
    said = f"{values:,} {'value repeats' if values == 1 else 'values repeat'}, in {rows_said(len(rows))}"
    return Verdict(guard, not values, said if values else "no value repeats", side, rows)


def _blanks(guard: str, asked: Asked, side: str) -> Verdict:
    rows = np.flatnonzero(_missing(asked, side))
    return Verdict(guard, not len(rows), f"{rows_said(len(rows))} without a link value", side, rows)


def _added(guard: str, match: Match, rows: int) -> Verdict:
    several = np.flatnonzero(match.partners_of_left > 1)
    before = len(match.partners_of_left)
    return Verdict(guard, rows <= before, f"{rows:,} rows, {rows_said(before)} before", LEFT, several)


def _row_count(guard: str, rows: int, low: str, high: str) -> Verdict:
    holds = rows >= int(low or 0) and (not high or rows <= int(high))
    return Verdict(guard, holds, rows_said(rows))


def _as_before(guard: str, guarded: Guarded, count: int) -> Verdict:
    """Whether a step comes to what is usual. The first run has nothing to be compared with, and holds."""
    match = guarded.match
    if match is None and not guard.startswith("rows"):
        raise UsageError(f"“{guard}” is a guard for a join.", remedy="Set it on the knot.")
    if guarded.past is None:
        raise UsageError(
            f"“{guard}” compares with earlier runs, and none are kept here.",
            remedy="Set it on a join or an output of a flow that has a file and keeps a log.",
        )
    runs = guarded.past(count)
    if guard.startswith("rows"):
        rows, nothing = guarded.result.rows, np.zeros(0, np.int64)
        side, numbers, said = RESULT, nothing, rows_said(rows)
        known = [entry.rows for entry in runs]
        low, high = (min(known) * 9 // 10, -(-max(known) * 11 // 10)) if known else (0, rows)
    else:
        assert match is not None
        side = RIGHT if guard.startswith("right") else LEFT
        numbers = match.left_unmatched_rows if side == LEFT else match.right_unmatched_rows
        rows, low = len(numbers), 0
        said = f"{rows_said(rows)} {_has(rows)} no partner"
        known = [entry.left_unmatched if side == LEFT else entry.right_unmatched for entry in runs]
        high = max(known, default=rows)
    if not known:
        return Verdict(guard, True, f"{said}; there is no earlier run to compare with", side)
    had = f"{min(known):,} to {max(known):,}" if min(known) < max(known) else f"{max(known):,}"
    last = "the last run" if len(known) == 1 else f"the last {len(known):,} runs"
    return Verdict(guard, low <= rows <= high, f"{said}, {had} in {last}", side, numbers)


def _total(guard: str, guarded: Guarded) -> Verdict:
    name = guard.removeprefix(_TOTAL).strip()
    now = total_of(guarded.result, name)
    source = guarded.total_from(name)
    if source is None:
        raise UsageError(f"“{name}” comes from no source unchanged, so that its total cannot be compared.")
    before = total_of(source, name)
    floats = isinstance(now, float) or isinstance(before, float)
    holds = isclose(now, before, rel_tol=CLOSE) if floats else now == before
    return Verdict(
        guard, holds, f"{name} comes to {amount_said(now)}, in its source to {amount_said(before)}"
    )


def _confidential(guard: str, guarded: Guarded) -> Verdict:
    name = guard.removeprefix(CONFIDENTIAL).strip()
    if guarded.fields_before is not None and name not in guarded.fields_before():
        raise UsageError(f"“{name}” is no field of any step up to here, so that nothing is kept back by it.")
    result = guarded.result
    told = [
        field.name
        for field in result.fields
        if any(own == name for _, own, _ in fields_behind(result, field.name))
    ]
    said = f"{', '.join(told)} {'is' if len(told) == 1 else 'are'} read from it"
    return Verdict(guard, not told, said if told else "nothing in the result is read from it")


def total_of(table: Table, name: str) -> int | float | Decimal:
    """The sum of a field; UsageError if it is no number."""
    entry = find_field(table.fields, name)
    if not entry.type.is_number:
        raise UsageError(f"“{name}” is {entry.type.value}: only numbers have a total.")
    return pc.sum(table.column(name).values).as_py() or 0


def amount_said(value: float | int | Decimal) -> str:
    """A sum in words."""
    return f"{value:,}" if not isinstance(value, float) else shortest_number(value)


def _grain(guard: str, result: Table) -> Verdict:
    names = [name.strip() for name in guard.removeprefix(_GRAIN).split(",")]
    # A name that is no field would be read as an expression.
    groups = grouped(result, [Key(find_field(result.fields, name).name) for name in names])
    rows = np.flatnonzero(np.bincount(groups.codes, minlength=groups.size)[groups.codes] > 1)
    said = f"{rows_said(len(rows))} share {' and '.join(names)} with another"
    return Verdict(guard, not len(rows), said if len(rows) else "each occurs once", RESULT, rows)


def _has(count: int) -> str:
    return "has" if count == 1 else "have"


def in_words(guard: str, names: Sequence[str] = ("left rows", "right rows")) -> str:
    """A guard as a sentence. names: what the rows of either side are called."""
    left, right = names[0], names[-1]
    side = right if "right" in guard.split(":", maxsplit=1)[0] else left
    if found := _UNMATCHED.match(guard):
        _, whole, fraction, percent = found.groups()
        most = f"{int(whole):,}{f'.{fraction}' if fraction else ''}{' %' if percent else ''}"
        return f"at most {most} of {side} without a partner"
    if found := _BEFORE.match(guard):
        return _as_before_in_words(guard, side, int(found[2]))
    if found := _ROWS.match(guard):
        low, high = found.groups()
        if not high:
            return f"at least {int(low):,} rows"
        return f"{int(low):,} to {int(high):,} rows" if low else f"at most {int(high):,} rows"
    for form, said in _OF_FIELDS.items():
        if guard.startswith(form):
            return said.format(guard.removeprefix(form).strip())
    if guard == "no-rows-added":
        return f"no more rows than {left}"
    if guard.startswith("all-"):
        return f"all {side} have a partner"
    if guard.endswith("key-unique"):
        return f"no link value repeats in {side}"
    return f"no link value of {side} is blank"


def _as_before_in_words(guard: str, side: str, count: int) -> str:
    last = "the last run" if count == 1 else f"the last {count:,} runs"
    if guard.startswith("rows"):
        return f"as many rows as in {last}, give or take a tenth"
    return f"no more {side} without a partner than in {last if count == 1 else f'the worst of {last}'}"
