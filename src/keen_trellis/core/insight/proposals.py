"""Link proposals: which field of one table could be linked with which field of another, and why.

Left fields are sampled and looked up in whole right fields. What was found counts most, whether the
right field is unique comes next, and names only tip the balance.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rapidfuzz import fuzz

from keen_trellis.core.insight.composite_proposals import UNIQUE, compound, confirmed, joined, periods
from keen_trellis.core.insight.proposal import Known, Proposal
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.parallel import each
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import Cells, Field, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, common_exact_type, held_as

SAMPLE_ROWS = 4_000
_LIKE_NAMES = 0.8
_LEAST_SCORE = 0.35
# How many are offered where none is firm.
_MOST_WEAK = 3
_FEW_VALUES = 10
_LOOKED_AT = 500
# Where a single field finds so many rows and tells them apart, no others are looked for.
_PLENTY = 0.5
# What case and spaces must add to be proposed: a share of the sampled values.
_WORTH_PREPARING = 0.002
# A table is joined with itself to lead from its rows to others, hardly ever each row to itself.
_WITH_ITSELF = 0.3
_PREPARED = Preparation(case=True, outer_spaces=True)


def propose(
    left: Table, right: Table, task: Task | None = None, known: Sequence[Known] = ()
) -> list[Proposal]:
    """Links between the two tables, best first; none where no value of one is in the other.

    Where none is firm, the few that find most are offered as what they are; where a sample finds none, all
    values are looked for. known: links that a database or an earlier flow has; they come first, whatever the
    values say.
    """
    task = task or Task()
    singles = _singles(left, right, SAMPLE_ROWS, task)
    if not singles and left.rows > SAMPLE_ROWS and not known:
        singles = _singles(left, right, left.rows, task)
    found = [single.proposal for single in singles if single.proposal.firm]
    if not any(proposal.unique >= UNIQUE and proposal.found >= _PLENTY for proposal in found):
        # A field of a few values links nothing alone, and yet may tell rows apart together with another.
        parts = [single.proposal for single in singles if single.despite_few >= _LEAST_SCORE]
        found += [
            *compound(left, right, parts, task),
            *periods(left, right, task),
            *joined(left, right, task),
        ]
    said = list(confirmed(left, right, known, task))
    pairs = {frozenset((link.left, link.right) for link in entry.links) for entry in said}
    found = [entry for entry in found if {(link.left, link.right) for link in entry.links} not in pairs]
    if not said and not found:
        singles.sort(key=lambda single: (single.both_running, -single.proposal.found))
        return [single.proposal for single in singles[:_MOST_WEAK]]
    return sorted([*said, *found], key=lambda proposal: -proposal.score)


def _singles(left: Table, right: Table, rows: int, task: Task) -> list[_Single]:
    """The links of one field with one, best first. rows: so many of the left ones are looked at."""
    candidates = [_candidate(left, field, rows) for field in left.fields]

    def with_field(other: Field) -> list[_Single]:
        task.checkpoint(0, len(right.fields), f"looking for values in {other.name}")
        fitting = [candidate for candidate in candidates if _like_kind(candidate.field, other)]
        return _against(fitting, right, other) if fitting else []

    singles = [single for several in each(with_field, right.fields) for single in several]
    return sorted(singles, key=lambda single: -single.proposal.score)


class _Single(msgspec.Struct, frozen=True):
    """A link of one field with one. despite_few: its score if it had many values."""

    proposal: Proposal
    despite_few: float
    both_running: bool


class _Candidate(msgspec.Struct, frozen=True):
    """A left field: distinct filled values of some rows, spread over the whole table.

    columns: where its values are read.
    """

    field: Field
    sample: pa.Array
    running: bool
    columns: frozenset[tuple[int, str]]


def _candidate(table: Table, field: Field, many: int) -> _Candidate:
    rows = spread_rows(table.rows, many)
    sample = pc.unique(table.take(rows, [field.name])[0].values).drop_null()
    running = _is_running(table.column(field.name).values, table.known_distinct(field.name))
    return _Candidate(field, sample, running, _columns(table, field.name))


def _columns(table: Table, name: str) -> frozenset[tuple[int, str]]:
    """The columns of tables that a field's values are read from, in the end."""
    found, waiting = set(), [(table, name)]
    while waiting:
        here, own = waiting.pop()
        read = here.read_from(own)
        if read:
            waiting += read
        else:
            found.add((here.identity, own))
    return frozenset(found)


def _is_running(values: pa.Array, distinct: int | None) -> bool:
    """Whether these are numbers counted up from 0 or 1: they stand in any other such numbers.

    distinct: how many different ones there are, None where that is not known.
    """
    if not pa.types.is_integer(values.type) or values.null_count or not len(values):
        return False
    bounds = pc.min_max(values)
    least, greatest = bounds["min"].as_py(), bounds["max"].as_py()
    # Only if the bounds fit is it worth counting.
    fits = least in (0, 1) and greatest - least + 1 == len(values)
    return fits and (pc.count_distinct(values).as_py() if distinct is None else distinct) == len(values)


def _like_kind(left: Field, right: Field) -> bool:
    # Integers, decimals and reals of different kinds measure things; keys are of one kind.
    return left.type is right.type and left.type not in (FieldType.REAL, FieldType.BOOLEAN)


def _against(candidates: Sequence[_Candidate], right: Table, other: Field) -> list[_Single]:
    values = right.column(other.name).values
    if len(values) == values.null_count:
        return []
    count = right.known_distinct(other.name)
    distinct = values
    if count is None:
        distinct = pc.unique(values).drop_null()
        count = len(distinct)
    as_written = _found_shares(candidates, distinct, Preparation())
    prepared = as_written
    if other.type is FieldType.TEXT and not _are_prepared(
        [distinct, *(entry.sample for entry in candidates)]
    ):
        prepared = _found_shares(candidates, distinct, _PREPARED)
    if not any(prepared):
        return []
    unique = count / (len(values) - values.null_count)
    running, columns = _is_running(values, count), _columns(right, other.name)
    singles = []
    for candidate, plain, more in zip(candidates, as_written, prepared, strict=True):
        ignoring = _PREPARED if more - plain > _WORTH_PREPARING else Preparation()
        share = max(plain, more)
        both_running = running and candidate.running
        few = len(candidate.sample) < _FEW_VALUES and unique < 1
        despite_few, score = (
            _score(candidate, other, share, unique, both_running=both_running, few=said)
            for said in (False, few)
        )
        if share > 0:
            link = LinkField(candidate.field.name, other.name, ignoring)
            asked, itself = len(candidate.sample), candidate.columns == columns
            counted = round(share * asked), asked
            firm = score >= _LEAST_SCORE
            score *= _WITH_ITSELF if itself else 1.0
            made = Proposal((link,), share, unique, score, firm=firm, counted=counted, itself=itself)
            singles.append(_Single(made, despite_few, both_running))
    return singles


def _are_prepared(several: Sequence[pa.Array]) -> bool:
    """Whether the first values of all of them have neither capitals nor outer spaces."""
    first = pa.concat_arrays([values.slice(0, _LOOKED_AT) for values in several])
    return bool(prepare(Cells(first), _PREPARED).of_rows.equals(first))


def _found_shares(
    candidates: Sequence[_Candidate], values: pa.Array, preparation: Preparation
) -> list[float]:
    """For each candidate the share of its sample that stands in `values`; all are looked up in one pass."""
    kind: pa.DataType | None = values.type
    for candidate in candidates:
        kind = common_exact_type(kind, candidate.sample.type) if kind is not None else None
    if kind is None and len(candidates) > 1:  # no type holds all of these decimals
        return [_found_shares([candidate], values, preparation)[0] for candidate in candidates]
    if kind is None:
        return [0.0]
    samples = Cells(pa.concat_arrays([held_as(candidate.sample, kind) for candidate in candidates]))
    values = held_as(values, kind)
    together, whole = (prepare(cells, preparation) for cells in (samples, Cells(values)))
    wanted = together.of_rows.dictionary_encode()
    # The whole field is looked up among the few samples, so that nothing large is ever indexed.
    places = pc.index_in(whole.values, value_set=wanted.dictionary, skip_nulls=True).drop_null()
    there = np.zeros(len(wanted.dictionary) + 1, dtype=bool)
    there[places.to_numpy()] = True
    found = there[wanted.indices.fill_null(len(wanted.dictionary)).to_numpy(zero_copy_only=False)]
    hits = np.concatenate([[0], np.cumsum(found)])
    bounds = np.cumsum([0] + [len(candidate.sample) for candidate in candidates])
    return [float((hits[end] - hits[start]) / max(end - start, 1)) for start, end in pairwise(bounds)]


def _score(
    left: _Candidate, right: Field, found: float, unique: float, *, both_running: bool, few: bool
) -> float:
    """Between 0 and 1. Running numbers stand in each other, and a few values link nothing."""
    alike = fuzz.token_sort_ratio(left.field.name.casefold(), right.name.casefold()) / 100
    worth = 1.0
    if both_running or (left.field.type is not FieldType.TEXT and alike < _LIKE_NAMES):
        worth = 0.3
    if few:
        worth *= 0.2
    if found == 0:
        return 0.0
    # That a field is unique says little where only a few values are found in it.
    return worth * (0.5 * found + 0.35 * unique * min(1.0, 2 * found)) + 0.15 * alike
