"""What a kind of step offers, and the registry that knows all kinds."""

from __future__ import annotations

import enum
import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Protocol, TypeVar

import msgspec

from keen_trellis.core.blending import Blended
from keen_trellis.core.errors import FlowFileError, TrellisError
from keen_trellis.core.match import Match
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import ROWS, Step

Made = TypeVar("Made")
Choice = TypeVar("Choice", bound=enum.Enum)


@dataclass(frozen=True)
class InputShape:
    """What a step knows of one input without its rows: the rail's name and fields."""

    name: str
    fields: tuple[Field, ...]


@dataclass(frozen=True)
class InputRows:
    """One input with its rows, and the fingerprint of what they were computed from."""

    name: str
    table: Table
    fingerprint: str


@dataclass(frozen=True)
class StepResult:
    """What a step came to: a table for each port, and the match or the blend if it is a knot.

    disagreements: for fields of both sides made one, in how many pairs both have a value, and another one.
    open_cells: of an output, by field how many cells have no partner.
    """

    ports: dict[str, Table]
    match: Match | None = None
    blended: Blended | None = None
    disagreements: Mapping[str, int] = field(default_factory=dict)
    open_cells: Mapping[str, int] = field(default_factory=dict)

    @property
    def rows(self) -> Table:
        return self.ports[ROWS]


class Context(Protocol):
    """What computing a step may use besides its inputs."""

    task: Task

    def remember(self, parts: Sequence[object], make: Callable[[], Made]) -> Made:
        """What `make` returns, made only once for the same `parts`."""
        ...


class StepKind(Protocol):
    """A kind of step. Everything but `compute` works without a row in hand."""

    name: str
    settings_type: type[msgspec.Struct]
    input_names: tuple[str, ...]
    # Settings that hold a path, stored relative to the flow's file.
    path_settings: tuple[str, ...]
    # Whether it stands on the rail of its one input, as a bead.
    on_rail: bool
    # Whether it takes any number of inputs after those that have names.
    more_inputs: bool

    def ports(self, settings: Any) -> tuple[str, ...]:
        """The ports that rows can be taken from."""
        ...

    def fields(self, settings: Any, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        """The fields at a port."""
        ...

    def problems(self, settings: Any, inputs: Sequence[InputShape]) -> list[TrellisError]:
        """What keeps the step from working."""
        ...

    def fingerprint(self, settings: Any, inputs: Sequence[InputShape]) -> object:
        """All of the settings that the result depends on, as something `repr` tells apart."""
        ...

    def compute(self, settings: Any, inputs: Sequence[InputRows], context: Context) -> StepResult:
        """The step's result."""
        ...

    def sentence(self, settings: Any, inputs: Sequence[InputShape]) -> str:
        """The step read aloud."""
        ...


class Kinds:
    """The registry of the kinds of step."""

    def __init__(self, kinds: Iterable[StepKind]) -> None:
        self._kinds = {kind.name: kind for kind in kinds}

    def find(self, name: str) -> StepKind | None:
        """The kind called `name`, or None if this program does not know it."""
        return self._kinds.get(name)

    def all(self) -> tuple[StepKind, ...]:
        """Every kind, in the order in which they were handed in."""
        return tuple(self._kinds.values())

    def of(self, step: Step) -> StepKind:
        """The kind of `step`; an error that says so if this program does not know it."""
        kind = self.find(step.kind)
        if kind is None:
            raise FlowFileError(
                f"This version does not know the kind of step “{step.kind}”.",
                where=step.name,
                remedy="The step is kept as it is; open the flow with a newer version to use it.",
            )
        return kind

    def settings(self, step: Step) -> Any:
        """The decoded settings of `step`; FlowFileError if they are not what its kind expects."""
        kind = self.of(step)
        try:
            return msgspec.json.decode(step.settings, type=kind.settings_type)
        except msgspec.DecodeError as error:
            raise FlowFileError(f"Its settings cannot be read: {error}.", where=step.name) from error


def encode_settings(settings: msgspec.Struct, old: bytes = b"{}") -> bytes:
    """`settings` as JSON text, with the members of `old` that their type does not know kept as they are."""
    known = _members_of(type(settings))
    members = msgspec.json.decode(msgspec.json.encode(settings), type=dict[str, msgspec.Raw])
    for name, value in msgspec.json.decode(old, type=dict[str, msgspec.Raw]).items():
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
