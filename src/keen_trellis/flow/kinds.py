"""What a kind of step offers, and the registry that knows all kinds."""

from __future__ import annotations

import enum
import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache
from typing import TYPE_CHECKING, Any, Generic, Protocol, TypeVar

import msgspec
import numpy as np

from keen_trellis.core.blending import Blended
from keen_trellis.core.derived import DerivedTable
from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.filling import FilledTable
from keen_trellis.core.link import LinkField
from keen_trellis.core.match import Match, MatchCounts
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.fates import Fate, Traced
from keen_trellis.flow.graph import ROWS, Flow, Step
from keen_trellis.flow.run_values import bound_settings, named_in

if TYPE_CHECKING:
    import sqlglot.expressions as exp

    from keen_trellis.flow.in_sql.rows import Said, SqlRows, Stacked
    from keen_trellis.flow.in_sql.target import SqlTarget

Made = TypeVar("Made")
Choice = TypeVar("Choice", bound=enum.Enum)
Settings = TypeVar("Settings", bound=msgspec.Struct)


class InputShape(msgspec.Struct, frozen=True):
    """What a step knows of one input without its rows: the rail's name and fields."""

    name: str
    fields: tuple[Field, ...]


def shapes_of(inputs: Sequence[SqlRows]) -> list[InputShape]:
    """What is known of rows that a query has."""
    return [InputShape(entry.name, entry.fields) for entry in inputs]


class InputRows(msgspec.Struct, frozen=True):
    """One input with its rows, and the fingerprint of what they were computed from."""

    name: str
    table: Table
    fingerprint: str


class StepResult(msgspec.Struct, frozen=True, weakref=True):
    """What a step came to: a table for each port, and the match or the blend if it is a knot.

    disagreements: for fields of both sides made one, in how many pairs both have a value, and another one.
    open_cells: of an output, by field how many cells have no partner.  files: how many it is written to.
    no_column: rows whose value becomes no column, by that value.  told: what else is counted, by what it is.
    made_of: the rows of each input that it was computed from, as a runner hands them in.
    """

    ports: dict[str, Table]
    match: Match | None = None
    blended: Blended | None = None
    disagreements: Mapping[str, int] = msgspec.field(default_factory=dict)
    open_cells: Mapping[str, int] = msgspec.field(default_factory=dict)
    files: int = 1
    no_column: Mapping[str, int] = msgspec.field(default_factory=dict)
    told: Mapping[str, int] = msgspec.field(default_factory=dict)
    made_of: tuple[Table, ...] = ()

    @property
    def rows(self) -> Table:
        return self.ports[ROWS]


class BlendFigures(msgspec.Struct, frozen=True):
    """What is counted of a blend. rows: of the main table; nothing: those of them that found nothing.

    found: for each other table how many rows found some of its groups; unused: how many groups no row uses;
    times: on how many rows each group stands, on average; own_times: those of the main table, where these
    are measured.
    """

    rows: int
    nothing: int
    found: tuple[int, ...]
    unused: tuple[int, ...]
    times: tuple[float, ...]
    own_times: float = 1.0

    @classmethod
    def of(cls, blended: Blended) -> BlendFigures:
        others = blended.others
        return cls(
            blended.whole.rows,
            blended.found_nothing,
            tuple(entry.rows_found for entry in others),
            tuple(len(entry.unused_rows) for entry in others),
            tuple(entry.times for entry in others),
            blended.own_times,
        )


class Figures(msgspec.Struct, frozen=True):
    """What is counted of a result: it stays known when the rows themselves are let go of.

    rows: by port.  inputs: rows of each input.  still_open: by field the gaps that filling left.  lost: what
    computing made blank, by what was the matter.  no_column, told: as in a result.
    rungs: how many left rows each rung of a ladder found.  passed_on: the rows are those of an input,
    unchanged.
    """

    rows: Mapping[str, int]
    inputs: tuple[int, ...]
    fields: tuple[Field, ...]
    counts: MatchCounts | None = None
    blend: BlendFigures | None = None
    disagreements: Mapping[str, int] = msgspec.field(default_factory=dict)
    open_cells: Mapping[str, int] = msgspec.field(default_factory=dict)
    still_open: Mapping[str, int] = msgspec.field(default_factory=dict)
    lost: Mapping[str, int] = msgspec.field(default_factory=dict)
    no_column: Mapping[str, int] = msgspec.field(default_factory=dict)
    told: Mapping[str, int] = msgspec.field(default_factory=dict)
    rungs: tuple[int, ...] = ()
    passed_on: bool = False

    @classmethod
    def of(cls, result: StepResult, tables: Sequence[Table]) -> Figures:
        rows = result.rows
        return cls(
            {port: table.rows for port, table in result.ports.items()},
            tuple(table.rows for table in tables),
            rows.fields,
            result.match.counts if result.match is not None else None,
            BlendFigures.of(result.blended) if result.blended is not None else None,
            result.disagreements,
            result.open_cells,
            rows.still_open if isinstance(rows, FilledTable) else {},
            rows.counts if isinstance(rows, DerivedTable) else {},
            result.no_column,
            result.told,
            _rungs(result.match),
            any(rows is table for table in tables),
        )


def _rungs(match: Match | None) -> tuple[int, ...]:
    """How many left rows each rung of a ladder found, passed over or not."""
    if match is None or match.rung_of_left is None:
        return ()
    return tuple(np.bincount(match.rung_of_left)[1:].tolist())


class Context(Protocol):
    """What computing a step may use besides its inputs."""

    task: Task

    def remember(self, parts: Sequence[object], make: Callable[[], Made]) -> Made:
        """What `make` returns, made only once for the same `parts`."""
        ...


class Standing(enum.Enum):
    """Where a step of a kind stands: it begins a rail, is a bead on it, lets rails meet, or ends one."""

    BEGINS = "begins"
    ON_RAIL = "on rail"
    KNOT = "knot"
    ENDS = "ends"


class StepKind(ABC, Generic[Settings]):
    """A kind of step, and all there is to know of it. Nothing but `compute` needs a row in hand.

    input_names: what its inputs are called; more_inputs: whether it takes any number after these.
    path_settings: settings that hold a path, stored relative to the flow's file.  names_rail: whether its
    rows are called otherwise than those before it.  first_only: whether only the rows of its first input come
    out, those of the others being summed up.  has_guards: whether guards can be set on it.  matches: whether
    it pairs the rows of two inputs.
    """

    name: str
    settings_type: type[Settings]
    standing: Standing
    input_names: tuple[str, ...] = ()
    more_inputs = False
    path_settings: tuple[str, ...] = ()
    names_rail = False
    first_only = False
    has_guards = False
    matches = False

    def settled(self, settings: Settings, flow: Flow, step: str) -> Settings:
        """The settings as they are run, with what they name of the flow."""
        return settings

    def ports(self, settings: Settings) -> tuple[str, ...]:
        """The ports that rows can be taken from."""
        return (ROWS,)

    @abstractmethod
    def fields(self, settings: Settings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        """The fields at a port."""

    def rows_called(self, step_name: str, port: str, settings: Settings, inputs: Sequence[InputShape]) -> str:
        """What the rows at a port are called."""
        return step_name

    def check(self, settings: Settings, inputs: Sequence[InputShape]) -> None:
        """Raise what keeps the step from working; by default what keeps its fields from being known."""
        self.fields(settings, inputs, ROWS)

    def problems(self, settings: Settings, inputs: Sequence[InputShape]) -> list[TrellisError]:
        """What keeps the step from working."""
        try:
            self.check(settings, inputs)
        except TrellisError as error:
            return [error]
        return []

    def fingerprint(self, settings: Settings, inputs: Sequence[InputShape]) -> object:
        """All of the settings that the result depends on, as something `repr` tells apart."""
        return encode_settings(settings)

    @abstractmethod
    def compute(self, settings: Settings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        """The step's result."""

    @abstractmethod
    def sentence(self, settings: Settings, inputs: Sequence[InputShape]) -> str:
        """The step read aloud."""

    def sql(
        self, settings: Settings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said | Stacked:
        """The rows at a port in SQL, each value and their order just as `compute` has them. NotInSql."""
        from keen_trellis.flow.in_sql.rows import NotInSql

        raise NotInSql(f"A step of the kind “{self.name}” cannot be said in SQL yet.")

    def sql_counts(
        self, settings: Settings, inputs: Sequence[SqlRows], target: SqlTarget
    ) -> exp.Select | None:
        """Of a kind that matches, one row with what its match comes to, each count of `KnotCounts` but that
        of the result under its name. NotInSql.
        """
        return None

    def met_by_all(self, settings: Settings) -> tuple[tuple[LinkField, int], ...]:
        """Those of its links that hold for whatever it pairs."""
        return self.links(settings)

    def summed_up(self, settings: Settings) -> tuple[str, str]:
        """What an output writes to, and how, in a few words each."""
        return "", ""

    def with_more(self, settings: Settings, more: Settings) -> Settings:
        """The settings of a step that takes one input more; `more` are those of a step of that one alone."""
        return settings

    def part_toggled(
        self, settings: Settings, part: str, inputs: Sequence[InputShape]
    ) -> tuple[Settings, str] | None:
        """The settings that keep a part of a knot that was left out, or leave out one that was kept, and what
        that edit is called; None for a part that cannot be. UsageError where it must stay as it is.
        """
        return None

    def links(self, settings: Settings) -> tuple[tuple[LinkField, int], ...]:
        """By which fields it pairs rows of its first input with those of others, each with the other's number
        among the inputs.
        """
        return ()

    def with_links(self, settings: Settings, change: Callable[[Any, int], Any]) -> Settings:
        """The settings with each link changed, as it stands in them, by a function of it and of the number of
        the input that it leads to.
        """
        return settings

    def fates(
        self, settings: Settings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        """What becomes of rows of its inputs that are followed, besides that cells change. Cancelled."""
        return iter(())

    def doubts(
        self, settings: Settings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        """What may be wrong with what it came to, each with a word that sums it up."""
        return iter(())


class Kinds:
    """The registry of the kinds of step."""

    def __init__(self, kinds: Mapping[str, StepKind[Any]]) -> None:
        self._kinds = kinds

    def find(self, name: str) -> StepKind[Any] | None:
        """The kind called `name`, or None if this program does not know it."""
        return self._kinds.get(name)

    def all(self) -> tuple[StepKind[Any], ...]:
        """Every kind, in the order of the registry."""
        return tuple(self._kinds.values())

    def of(self, step: Step) -> StepKind[Any]:
        """The kind of `step`; an error that says so if this program does not know it."""
        kind = self.find(step.kind)
        if kind is None:
            raise FlowFileError(
                f"This version does not know the kind of step “{step.kind}”.",
                where=step.name,
                remedy="The step is kept as it is; a newer version may know it. "
                f"This one knows: {', '.join(sorted(self._kinds))}.",
            )
        return kind

    def stands(self, step: Step, standing: Standing) -> bool:
        """Whether a step stands there; one of an unknown kind is taken for a knot."""
        kind = self.find(step.kind)
        return (kind.standing if kind is not None else Standing.KNOT) is standing

    def begins_rail(self, step: Step) -> bool:
        """Whether a rail begins at a step: whether it is a source."""
        return self.stands(step, Standing.BEGINS)

    def on_rail(self, step: Step) -> bool:
        """Whether a step is a bead on the rail of its one input."""
        return self.stands(step, Standing.ON_RAIL)

    def is_knot(self, step: Step) -> bool:
        """Whether rails meet in a step."""
        return self.stands(step, Standing.KNOT)

    def ends_rail(self, step: Step) -> bool:
        """Whether a rail ends at a step: whether it is an output."""
        return self.stands(step, Standing.ENDS)

    def matches(self, step: Step) -> bool:
        """Whether a step pairs the rows of two inputs."""
        kind = self.find(step.kind)
        return kind is not None and kind.matches

    def first_only(self, step: Step) -> bool:
        """Whether only rows of a step's first input come out of it."""
        kind = self.find(step.kind)
        return kind is not None and kind.first_only

    def settled(self, flow: Flow, step: Step) -> Any:
        """The settings of a step as they are run, with its run values and what else they name of the flow.

        FlowFileError if they are not what its kind expects; UsageError for a run value without a value.
        """
        return self.settled_anew(flow, step, self._decoded(step, self._bound(flow, step)))

    def settled_anew(self, flow: Flow, step: Step, settings: Any) -> Any:
        """Settings with what they name of the flow as it is now. As `settled`; SourceError for a list of
        corrections that cannot be read.
        """
        try:
            return self.of(step).settled(settings, flow, step.id)
        except TrellisError as error:
            error.where = error.where or step.name
            raise

    def _bound(self, flow: Flow, step: Step) -> bytes:
        given = named_in(step.settings, flow.values)
        if not given:
            return step.settings
        try:
            return bound_settings(step.settings, self.of(step).settings_type, given)
        except UsageError as error:
            error.where = error.where or step.name
            raise

    def settings(self, step: Step) -> Any:
        """The decoded settings of `step`; FlowFileError if they are not what its kind expects."""
        return self._decoded(step, step.settings)

    def _decoded(self, step: Step, settings: bytes) -> Any:
        try:
            return decoded(settings, self.of(step).settings_type)
        except msgspec.DecodeError as error:
            raise FlowFileError(f"Its settings cannot be read: {error}.", where=step.name) from error


def encode_settings(settings: msgspec.Struct, old: bytes = b"{}") -> bytes:
    """`settings` as JSON text, with the members of `old` that their type does not know kept as they are."""
    known = _members_of(type(settings))
    members = decoded(msgspec.json.encode(settings), dict[str, msgspec.Raw])
    for name, value in decoded(old, dict[str, msgspec.Raw]).items():
        if name not in known:
            members[name] = value
    return msgspec.json.encode(members)


@cache
def _members_of(kind: type[msgspec.Struct]) -> frozenset[str]:
    """What the members of a type of settings are called in a file."""
    return frozenset(entry.encode_name for entry in msgspec.structs.fields(kind))


def called(kind: type[Choice], text: str, what: str) -> Choice:
    """The member of an enumeration with this value; FlowFileError, naming all of them, if there is none."""
    try:
        return kind(text)
    except ValueError:
        known = ", ".join(member.value for member in kind)
        raise FlowFileError(f"There is no {what} “{text}”.", remedy=f"There are: {known}.") from None


def digest(*parts: object) -> str:
    """A short fingerprint of `parts`, which `repr` must tell apart."""
    return hashlib.blake2b(repr(parts).encode(), digest_size=16).hexdigest()
