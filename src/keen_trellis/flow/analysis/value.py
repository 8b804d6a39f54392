"""The parts of an analysis: counts, words and a few values, ready to be written as JSON.

Values of fields that are withheld are not in it; where some would be, that is said.
"""

from __future__ import annotations

from typing import Any

import msgspec

from keen_trellis.flow.runs import Run

# How a sentence begins that is left out since it speaks of values that are withheld.
LEFT_OUT = "(Left out, since it speaks of "


class FileRead(msgspec.Struct, frozen=True):
    """A file as it was read. path: as seen from the flow's folder, where it lies below that.

    bytes: its size.  changed: when, in UTC.  sha256: of its content.
    """

    path: str
    bytes: int
    changed: str
    sha256: str


class SourceTold(msgspec.Struct, frozen=True, kw_only=True):
    """A source. where: the table in its file or on its server.  content: a fingerprint of its rows.

    old: why its rows are those from before, "" if they are not.  more_files: how many are not listed.
    """

    step: str
    name: str
    where: str
    note: str
    rows: int
    fields: int
    content: str
    files: tuple[FileRead, ...] = ()
    more_files: int = 0
    old: str = ""
    doubts: tuple[str, ...] = ()


class StepTold(msgspec.Struct, frozen=True, kw_only=True):
    """A step. rows_before: of each of its inputs.  rows: of its result.

    step: its id, "" where its name is left out, too, since either may be made of values that are withheld.
    """

    step: str
    name: str
    kind: str
    sentence: str
    note: str
    rows_before: tuple[int, ...]
    rows: int
    skipped: bool = False


class TypeTold(msgspec.Struct, frozen=True):
    """What a join type gives. lost: rows of the left and the right table that are nowhere in it.

    empty: cells without a partner.  alike: another type that gives the same rows today, in words.
    """

    type: str
    question: str
    rows: int
    lost: tuple[int, int]
    empty: int
    alike: str
    chosen: bool


class ExampleTold(msgspec.Struct, frozen=True):
    """A value, how many rows have it, and the one that it means, "" if none is known."""

    value: str
    rows: int
    other: str


class MendTold(msgspec.Struct, frozen=True):
    """What would mend it. gain: rows that would find a partner, or be fewer.  merged: values made one."""

    said: str
    gain: int
    fewer: bool
    merged: int


class RowsTold(msgspec.Struct, frozen=True):
    """Some rows: where each is, and its fields. cells: None is blank.  rows: how many there are in all."""

    fields: tuple[str, ...]
    places: tuple[str, ...]
    cells: tuple[tuple[str | None, ...], ...]
    rows: int


class ReasonTold(msgspec.Struct, frozen=True, kw_only=True):
    """Why rows of one side have no partner, or have several. of: what the rows of the side are called.

    notes: those of values that are accepted as absent.  withheld: its values are left out.
    """

    kind: str
    side: str
    of: str
    rows: int
    values: int
    said: str
    examples: tuple[ExampleTold, ...] = ()
    mends: tuple[MendTold, ...] = ()
    clusters: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    withheld: bool = False
    without_partner: RowsTold | None = None


class MendedTold(msgspec.Struct, frozen=True):
    """Pairs that match only after mending. examples: the values of both sides."""

    said: str
    pairs: int
    examples: tuple[tuple[str, str], ...]


class LinkTold(msgspec.Struct, frozen=True):
    """A link. how: what is ignored when its sides are compared."""

    left: str
    operator: str
    right: str
    how: str
    corrections: int


class JoinTold(msgspec.Struct, frozen=True, kw_only=True):
    """A knot that pairs rows. counts: as `report.as_members` has them.  added: pairs beyond one a row.

    disagreements: for fields of both sides made one, in how many pairs the values differ.
    """

    step: str
    name: str
    note: str
    sentence: str
    question: str
    left: str
    right: str
    links: tuple[LinkTold, ...]
    any_of: bool
    take: str
    counts: dict[str, Any]
    added: int
    types: tuple[TypeTold, ...]
    reasons: tuple[ReasonTold, ...]
    mended: tuple[MendedTold, ...]
    disagreements: dict[str, int]
    withheld: bool = False


class OtherTold(msgspec.Struct, frozen=True, kw_only=True):
    """One of the other tables of a blend, from its rows to what they are used for. times: on how many rows
    each group is, on average.  overcounted: measures whose sum would count them so often.
    """

    name: str
    by: str
    rows: int
    left_out: int
    groups: int
    groups_used: int
    rows_found: int
    times: float
    measures: tuple[str, ...]
    overcounted: tuple[str, ...]


class BlendTold(msgspec.Struct, frozen=True, kw_only=True):
    """A blend. found_nothing: rows of the main table that found no group in any other table."""

    step: str
    name: str
    note: str
    sentence: str
    kept: str
    main: str
    main_rows: int
    rows: int
    found_nothing: int
    others: tuple[OtherTold, ...]


class GuardTold(msgspec.Struct, frozen=True):
    """A guard, and what it says."""

    step: str
    name: str
    guard: str
    statement: str
    holds: bool
    said: str


class GapTold(msgspec.Struct, frozen=True):
    """Cells of a field that are still open at a step: they have no partner, or were not filled."""

    step: str
    name: str
    field: str
    cells: int
    rows: int
    what: str


class FieldTold(msgspec.Struct, frozen=True, kw_only=True):
    """A field of an output. origins: source and field.  blanks, absent: cells.  distinct: values.

    withheld: its values are left out.
    """

    name: str
    type: str
    origins: tuple[str, ...]
    blanks: int
    absent: int
    distinct: int
    minimum: str
    maximum: str
    withheld: bool


class TotalTold(msgspec.Struct, frozen=True, kw_only=True):
    """The sum of an output's field beside that of the field in its source. same: whether they are equal.

    known: whether it is known how often each row of the source is in the output.  missing_rows,
    missing_total: of those that are not.  again_rows, again_total: those that are more than once, and what
    that adds.
    """

    field: str
    source: str
    of: str
    source_rows: int
    source_total: str
    total: str
    difference: str
    same: bool
    known: bool = False
    missing_rows: int = 0
    missing_total: str = ""
    again_rows: int = 0
    again_total: str = ""


class OutputTold(msgspec.Struct, frozen=True, kw_only=True):
    """An output. where: what it writes to.  held_back: whether a guard at or before it does not hold."""

    step: str
    name: str
    note: str
    sentence: str
    where: str
    rows: int
    files: int
    held_back: bool
    fields: tuple[FieldTold, ...]
    totals: tuple[TotalTold, ...]


class Analysis(msgspec.Struct, frozen=True, kw_only=True):
    """What a flow came to, or one step of it and all before it.

    about: the name of that step, "" for the whole flow.  taken: when, in UTC.  since, changes: what is
    different from an earlier run, and when that was; both empty if none is known.  runs: earlier runs, the
    oldest first.  withheld: names of the fields whose values are left out.  not_read: members of the flow
    that this version does not know.
    """

    name: str
    about: str
    version: str
    taken: str
    flow: str
    sources: tuple[SourceTold, ...]
    steps: tuple[StepTold, ...]
    joins: tuple[JoinTold, ...]
    blends: tuple[BlendTold, ...]
    guards: tuple[GuardTold, ...]
    gaps: tuple[GapTold, ...]
    outputs: tuple[OutputTold, ...]
    since: str
    changes: tuple[str, ...]
    runs: tuple[Run, ...]
    withheld: tuple[str, ...]
    not_read: tuple[str, ...] = ()

    @property
    def may_be_pictured(self) -> bool:
        """Whether the trellis shows nothing that is withheld: it has words of steps that speak of values."""
        return not any(step.sentence.startswith(LEFT_OUT) for step in self.steps)

    @property
    def broken(self) -> tuple[GuardTold, ...]:
        """The guards that do not hold."""
        return tuple(guard for guard in self.guards if not guard.holds)
