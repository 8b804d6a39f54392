"""What a row without partner may be paired with: the other side's values, the likeliest first.

A human chooses; nothing is decided here. RapidFuzz measures how alike values are, once by their letters and
digits alone and once by their words in any order.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rapidfuzz import fuzz, process

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.differences import difference
from keen_trellis.core.insight.reason import Vector
from keen_trellis.core.insight.unexplained_rows import Coded
from keen_trellis.core.link import LinkField, Operator
from keen_trellis.core.match import Match
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text

_MANY, _PART = 50_000, 3
_NOT_WRITTEN = r"[^\p{L}\p{N}]+"


class Candidates(msgspec.Struct, frozen=True):
    """The values that a row's link value may mean.

    value: how it is written.  number: which link field it is about.  texts: the other side's distinct values,
    the likeliest first.  rows: in how many of its rows each stands.  first: the number of one such row.
    likeness: 0 to 100.  agrees: whether one of its rows agrees in all other link fields.  others: so many
    other rows of the own side have the value, of which so many have a partner.
    """

    value: str
    number: int
    texts: pa.Array
    rows: Vector
    first: IndexVector
    likeness: Vector
    agrees: Vector
    others: tuple[int, int]

    def holding(self, text: str, most: int) -> list[int]:
        """The places of the likeliest values that hold a text, in whatever case; of all for no text."""
        if not text:
            return list(range(min(most, len(self.texts))))
        held = pc.match_substring(self.texts, text, ignore_case=True)
        return [int(place) for place in np.flatnonzero(held.to_numpy(zero_copy_only=False))[:most]]


def can_be_paired(links: Sequence[LinkField]) -> list[int]:
    """The numbers of the link fields whose values can be paired by hand: those compared with =."""
    return [number for number, link in enumerate(links) if link.operator is Operator.EQUAL]


def candidates(
    tables: tuple[Table, Table],
    links: Sequence[LinkField],
    found: Match,
    side: str,
    row: int,
    number: int,
    task: Task | None = None,
) -> Candidates:
    """What the value of a row's link field may mean on the other side.

    tables: left and right.  side: "left" or "right", on which the row is.  number: of the link field.
    UsageError if there is no value there.  Cancelled.
    """
    task, mine = task or Task(), 0 if side == "left" else 1
    one, other = tables[mine], tables[1 - mine]
    task.checkpoint(0, 0, "looking at the other side's values")
    expressions = links[number].sides(tables[0].fields, tables[1].fields)
    own = Coded.of(expressions[mine].cells(one).values)
    code = int(own.codes[row])
    if code < 0:
        raise UsageError(
            "The link field of this row is blank: there is no value that could mean another.",
            remedy="Fill the field before the join, or leave such rows out.",
        )
    value = own.texts[code].as_py()
    theirs = Coded.of(expressions[1 - mine].cells(other).values)
    agreeing = _agreeing(tables, links, mine, row, number)
    rows = theirs.counts(np.ones(len(theirs.codes), dtype=bool))
    agrees = theirs.counts(agreeing) > 0
    first = np.zeros(len(theirs.texts), np.int64)
    for mask in (np.ones(len(agreeing), dtype=bool), agreeing):  # rather a row that agrees
        places = np.flatnonzero(mask & (theirs.codes >= 0))[::-1]
        first[theirs.codes[places]] = places
    task.checkpoint(0, 0, "measuring how alike values are")
    likeness = _likeness(value, theirs.texts)
    order = np.lexsort((-rows, -likeness, ~agrees))
    same = np.flatnonzero(own.codes == code)
    lonely = found.left_unmatched_rows if mine == 0 else found.right_unmatched_rows
    matched = int((~np.isin(same, lonely)).sum())
    return Candidates(
        value,
        number,
        theirs.texts.take(pa.array(order)),
        rows[order],
        first[order],
        likeness[order],
        agrees[order],
        (len(same) - 1, matched),
    )


def nearest(value: str, values: pa.Array, most: int, *, least: float) -> list[tuple[str, str]]:
    """Up to `most` of distinct values that are like one, the likeliest first, each with how it differs.

    least: how alike they must be, 0 to 100.  Of very many only those are measured that begin or end alike.
    """
    texts = as_text(values).drop_null()
    if len(texts) > _MANY:
        begins = pc.starts_with(texts, value[:_PART], ignore_case=True)
        ends = pc.ends_with(texts, value[-_PART:], ignore_case=True)
        texts = texts.filter(pc.and_(begins, ends) if _are_many(begins, ends) else pc.or_(begins, ends))
        same = pc.equal(pc.utf8_length(texts), len(value))
        texts = texts.filter(same) if len(texts) > _MANY else texts
    likeness = _likeness(value, texts) if len(texts) else np.zeros(0)
    order = np.argsort(-likeness, kind="stable")[:most]
    found = texts.take(pa.array(order[likeness[order] >= least])).to_pylist()
    return [(text, difference(value, text).said) for text in found]


def _are_many(*masks: pa.Array) -> bool:
    return any((pc.sum(mask).as_py() or 0) > _MANY for mask in masks)


def _agreeing(
    tables: tuple[Table, Table], links: Sequence[LinkField], mine: int, row: int, number: int
) -> Vector:
    """Which rows of the other side agree with a row in all link fields but one."""
    agreeing = np.ones(tables[1 - mine].rows, dtype=bool)
    for place in can_be_paired(links):
        if place == number:
            continue
        expressions = links[place].sides(tables[0].fields, tables[1].fields)
        chosen = ChosenRows(tables[mine], np.array([row]))
        asked = prepare(expressions[mine].cells(chosen), links[place].preparation).of_rows
        there = prepare(expressions[1 - mine].cells(tables[1 - mine]), links[place].preparation).of_rows
        same = pc.equal(as_text(there), as_text(asked)[0]) if asked.type != there.type else None
        same = pc.equal(there, asked[0]) if same is None else same
        agreeing &= same.fill_null(False).to_numpy(zero_copy_only=False)
    return agreeing


def _likeness(value: str, texts: pa.Array) -> Vector:
    """How alike a value and each of others are, 0 to 100."""
    asked = pa.array([value], texts.type)
    spaced = [pc.utf8_lower(column) for column in (asked, texts)]
    bare = [pc.replace_substring_regex(column, _NOT_WRITTEN, "") for column in spaced]
    measured = [
        process.cdist(one.to_pylist(), other.to_pylist(), scorer=scorer, workers=-1)[0]
        for (one, other), scorer in ((bare, fuzz.ratio), (spaced, fuzz.token_sort_ratio))
    ]
    likeness: Vector = np.maximum(*measured).astype(np.float64)
    return likeness
