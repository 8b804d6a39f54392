"""Where a flow is run other than here: what a database or cluster must do for that."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence

import msgspec
import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.in_sql.made_here import Making
from keen_trellis.flow.in_sql.rows import SqlRows
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.to_sql import SentSource


class Made(msgspec.Struct, frozen=True):
    """A temporary table: its name there and its columns."""

    name: str
    columns: tuple[Field, ...]

    @classmethod
    def of(cls, rows: SqlRows) -> Made:
        """The table that holds some rows, with the columns that stand besides their fields."""
        tellers = (Field(name, pa.bool_()) for name in rows.tellers)
        return cls(rows.table, (*rows.fields, *tellers, Field(rows.place, pa.int64())))

    @property
    def names(self) -> list[str]:
        return [column.name for column in self.columns]


class InPlace(msgspec.Struct, frozen=True):
    """A source that is a table there: the query for its rows, typed as the flow has them and numbered, and
    what there is to say of it.
    """

    select: exp.Select
    remarks: tuple[str, ...] = ()


class There(ABC):
    """One session there, in which temporary tables live. All of them are gone when it is closed.

    target: whose SQL it takes.  place: its address as it may be shown.  sent: the bytes that what was sent
    takes there.  fetched: those that came back.
    """

    target: SqlTarget
    place: str
    sent = 0
    fetched = 0

    @abstractmethod
    def holds(self, settings: SourceSettings) -> bool:
        """Whether a source is a table there."""

    @abstractmethod
    def in_place(self, source: SentSource, task: Task) -> InPlace:
        """A source that is there. SourceError if its fields are not as the flow has them; Cancelled."""

    @abstractmethod
    def make(self, tables: Sequence[Made], task: Task) -> None:
        """Make empty temporary tables, all that will be used, before anything else is done."""

    @abstractmethod
    def send(self, name: str, table: Table, what: str, task: Task) -> None:
        """Put rows into a temporary table. TrellisError if they cannot be there; Cancelled."""

    @abstractmethod
    def fill(self, made: Made, select: exp.Expr, what: str, task: Task) -> int:
        """Put the rows of a query into a temporary table, its columns in their order; how many there are."""

    def prepare_there(self, made: Made, select: exp.Expr, making: Making, what: str, task: Task) -> bool:
        """Fill a table of values and what is made of them by running that there; whether it was
        done so: not where the values are few enough to be prepared here, or no Python runs there.
        """
        return False

    @abstractmethod
    def rows(self, select: exp.Expr, fields: Sequence[Field], what: str, task: Task) -> pa.Table:
        """The rows of a query, brought here, with these fields."""

    @abstractmethod
    def keep(self, named: Sequence[tuple[str, SqlRows]], task: Task) -> None:
        """Make tables that stay, of the fields of some rows, all of them or none. TrellisError if one of that
        name is there already.
        """

    @abstractmethod
    def check_free(self, names: Sequence[str], task: Task) -> None:
        """TrellisError if a table of one of these names is there, or none can be made."""


# What databases say of a text that is no number: no other texts are made numbers there than those that say
# why a step cannot go on.
_STOPPED = re.compile(
    r"""invalid input syntax for type bigint: "([^"]+)"|The value '(.+?)' of the type "STRING" cannot be"""
)


def stopped_by(told: str) -> str:
    """What a step said that could not go on, in what a database tells; "" where it tells something else."""
    found = _STOPPED.search(told)
    return next(filter(None, found.groups()), "") if found is not None else ""


def no_field(field: Field, step: str) -> SourceError:
    """That a source there lacks a field that the flow reads."""
    return SourceError(
        f"It no longer has the field “{field.name}”.", where=step, remedy="Take the source anew."
    )


def names_there(settings: SourceSettings, step: str) -> dict[str, str]:
    """What fields are called there that are called otherwise in the flow. SourceError for one that is read
    otherwise than it stands there.
    """
    read = [entry.name for entry in settings.fields if entry.type or entry.correct]
    if read:
        raise SourceError(
            f"“{read[0]}” is read by a type or corrections that are set for it, which is not done there.",
            where=step,
            remedy="Change it in a step behind the source.",
        )
    return {entry.rename: entry.name for entry in settings.fields if entry.rename}
