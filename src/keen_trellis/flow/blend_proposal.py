"""How a table could take part in a blend: by which links, and what is measured of it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.core.insight.proposal import Proposal
from keen_trellis.core.link import Operator
from keen_trellis.core.measures import Function
from keen_trellis.core.table import Field, Table, spread_rows
from keen_trellis.core.values import FieldType
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.steps.blend import BlendMeasure, OtherSettings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.steps.summarise import measure_name

Vector = np.ndarray[Any, Any]
_DATES = (FieldType.DATE, FieldType.TIMESTAMP)
# At least so many of the main table's months stand in the other one, or months are not what links them.
_SHARED_MONTHS = 0.5
_SHARED_VALUES = 0.5
_SAMPLED = 20_000
_NO_AMOUNT = re.compile(r"(?:^|[\W_])(?:id|no|nr|number|code|key|year|month|day)$", re.IGNORECASE)
GRAINS = {
    "month": "SUBSTRING(CAST({0} AS VARCHAR) FROM 1 FOR 7)",
    "year": "EXTRACT(YEAR FROM {0})",
}
_NAME = r'("(?:[^"]|"")+")'
_SAID = {
    grain: re.compile(re.escape(text).replace(r"\{0\}", _NAME, 1).replace(r"\{0\}", r"\1"))
    for grain, text in GRAINS.items()
}


def grain_of(grain: str, field: str) -> str:
    """The expression for the month or year of a date field, unlike for each year's."""
    return GRAINS[grain].format(quoted_name(field))


def side_said(link: str) -> str:
    """A side of a link in words: “month of Out date” for the expression that is that."""
    for grain, pattern in _SAID.items():
        found = pattern.fullmatch(link)
        if found:
            name = found[1][1:-1].replace('""', '"')
            return f"{grain} of {name}"
    return link


def proposed_links(main: Table, other: Table, proposals: Iterable[Proposal]) -> tuple[LinkSettings, ...]:
    """The best links with =, and the month where both tables have dates that share months."""
    best = next((entry for entry in proposals if entry.firm and entry.link.operator is Operator.EQUAL), None)
    links = [LinkSettings.of(link) for link in best.links] if best is not None else _same_named(main, other)
    linked = {name for link in links for name in (link.left, link.right)}
    for one in _dates(main, linked):
        for their in _dates(other, linked):
            months = [_months(main, one), _months(other, their)]
            shared = np.isin(months[0], months[1])
            if len(shared) and shared.mean() >= _SHARED_MONTHS:
                by = (grain_of("month", one), grain_of("month", their))
                return (*links, LinkSettings(*by, left_is_expression=True, right_is_expression=True))
    return tuple(links)


def _same_named(main: Table, other: Table) -> list[LinkSettings]:
    """A link of fields that are called the same and share most values: keys repeat where grains differ."""
    for field in main.fields:
        for their in other.fields:
            if field.name.casefold() != their.name.casefold() or field.type is not their.type:
                continue
            if field.type in _DATES or field.type.is_number:
                continue
            values = [_sample(main, field.name), _sample(other, their.name)]
            shared = np.isin(values[0], values[1])
            if len(shared) and shared.mean() >= _SHARED_VALUES:
                return [LinkSettings(field.name, their.name)]
    return []


def _sample(table: Table, name: str) -> Vector:
    rows = spread_rows(table.rows, _SAMPLED)
    return np.asarray(table.take(rows, [name])[0].values.drop_null().unique().to_pylist(), dtype=str)


def _dates(table: Table, linked: set[str]) -> list[str]:
    return [field.name for field in table.fields if field.type in _DATES and field.name not in linked]


def _months(table: Table, name: str) -> Vector:
    values = table.column(name).values.drop_null()
    return np.unique(values.cast(pa.timestamp("us")).to_numpy(zero_copy_only=False).astype("datetime64[M]"))


def proposed_measure(
    fields: Sequence[Field], links: Sequence[LinkSettings], taken: Sequence[str]
) -> BlendMeasure:
    """The sum of the first amount, or how many rows there are where there is none. taken: names in use."""
    linked = {link.right for link in links}
    amounts = [
        field.name
        for field in fields
        if field.type.is_number and field.name not in linked and not _NO_AMOUNT.search(field.name)
    ]
    of = amounts[0] if amounts else ""
    function = Function.SUM if of else Function.COUNT
    return BlendMeasure(free_name(measure_name(function, of), taken), function.value, of)


def proposed_other(
    main: Table, other: Table, proposals: Iterable[Proposal], taken: Sequence[str]
) -> OtherSettings:
    """How `other` could be blended into `main`. taken: names of fields that the blend has already."""
    links = proposed_links(main, other, proposals)
    return OtherSettings(links, (proposed_measure(other.fields, links, taken),))
