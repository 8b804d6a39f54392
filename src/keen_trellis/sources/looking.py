"""The look before use: the rows and fields of a table, what is in them, and what is doubtful."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec

from keen_trellis.core.insight.summary import Summary, summary
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.remark import Remark


class Look(msgspec.Struct, frozen=True):
    """What there is to know of a table before it is used."""

    rows: int
    fields: tuple[Summary, ...]
    remarks: tuple[Remark, ...]

    def doubts(self, field: str) -> list[Remark]:
        """What was repaired in, or is doubtful of, one field."""
        return [remark for remark in self.remarks if remark.field == field]

    @property
    def notes(self) -> list[Remark]:
        """What there is to say about the table as a whole."""
        return [remark for remark in self.remarks if not remark.field]

    def as_members(self) -> dict[str, Any]:
        """The look as the members of a JSON object."""
        fields = [
            {
                "name": field.name,
                "type": field.type.value,
                "blanks": field.blanks,
                "distinct": field.distinct,
                "least": field.least,
                "greatest": field.greatest,
                "commonest": [[share.text, share.rows] for share in field.commonest],
                "patterns": [[share.text, share.rows] for share in field.patterns],
                "doubts": [_as_members(remark) for remark in self.doubts(field.name)],
            }
            for field in self.fields
        ]
        return {"rows": self.rows, "fields": fields, "notes": [_as_members(remark) for remark in self.notes]}


def _as_members(remark: Remark) -> dict[str, Any]:
    places = [{"row": place.row, "value": place.value} for place in remark.places]
    return {"text": remark.text, "doubtful": remark.doubtful, "places": places}


def look(table: Table, remarks: Sequence[Remark], task: Task) -> Look:
    """Look at all fields of a table, of which its reader said `remarks`."""
    fields = []
    for number, name in enumerate(table.names):
        task.checkpoint(number, len(table.names), f"summing up {name}")
        fields.append(summary(table, name, task))
    return Look(table.rows, tuple(fields), tuple(remarks))
