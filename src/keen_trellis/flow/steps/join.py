"""The join step: two rails meet in a knot."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedField, JoinedTable, plan_fields
from keen_trellis.core.link import LinkField, Preparation, check_links
from keen_trellis.core.matching import match
from keen_trellis.core.table import Field, Table
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, encode_settings
from keen_trellis.flow.wording import ignoring, question

MATCHED = "matched"
UNMATCHED_LEFT = "unmatched_left"
UNMATCHED_RIGHT = "unmatched_right"

# What each port besides `rows` holds: the match read as this join type.
_TYPE_OF_PORT = {
    MATCHED: JoinType.INNER,
    UNMATCHED_LEFT: JoinType.LEFT_ANTI,
    UNMATCHED_RIGHT: JoinType.RIGHT_ANTI,
}


class LinkSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One pair of link fields; ignore: what is ignored when they are compared."""

    left: str
    right: str
    ignore: tuple[str, ...] = ()

    @property
    def link(self) -> LinkField:
        return LinkField(self.left, self.right, Preparation.ignoring(self.ignore))


class JoinSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """links: all must hold.  type: the join type's name.

    keep, bring: names of left and right fields that come along, in order; null is all of them.
    both_links: link fields stay on both sides.  name_all: brought fields all carry their table's name.
    """

    links: tuple[LinkSettings, ...] = ()
    type: str
    keep: tuple[str, ...] | None = None
    bring: tuple[str, ...] | None = None
    both_links: bool = False
    name_all: bool = False

    @property
    def join_type(self) -> JoinType:
        try:
            return JoinType(self.type)
        except ValueError:
            known = ", ".join(kind.value for kind in JoinType)
            raise FlowFileError(
                f"There is no join type “{self.type}”.", remedy=f"The types are: {known}."
            ) from None

    @property
    def link_fields(self) -> tuple[LinkField, ...]:
        return tuple(entry.link for entry in self.links)

    @property
    def choice(self) -> FieldChoice:
        return FieldChoice(self.keep, self.bring, self.both_links, self.name_all)

    @property
    def swapped(self) -> JoinSettings:
        """The same question asked from the other side: the same rows of both are kept."""
        return msgspec.structs.replace(
            self,
            links=tuple(
                msgspec.structs.replace(entry, left=entry.right, right=entry.left) for entry in self.links
            ),
            type=self.join_type.mirrored.value,
            keep=self.bring,
            bring=self.keep,
        )


class JoinKind:
    """Two inputs, left and right; ports for the result and for each part of the match."""

    name = "join"
    settings_type: type[msgspec.Struct] = JoinSettings
    input_names: tuple[str, ...] = ("left", "right")
    path_settings: tuple[str, ...] = ()

    def ports(self, settings: JoinSettings) -> tuple[str, ...]:
        return (ROWS, MATCHED, UNMATCHED_LEFT, UNMATCHED_RIGHT)

    def fields(self, settings: JoinSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return tuple(entry.field for entry in self.plan(settings, inputs, _TYPE_OF_PORT.get(port)))

    def plan(
        self, settings: JoinSettings, inputs: Sequence[InputShape], join_type: JoinType | None = None
    ) -> tuple[JoinedField, ...]:
        """The fields of the result and where each is read from."""
        left, right = inputs
        return plan_fields(
            left.fields,
            right.fields,
            settings.link_fields,
            join_type or settings.join_type,
            settings.choice,
            right.name,
        )

    def problems(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> list[TrellisError]:
        try:
            if settings.join_type is JoinType.CROSS:
                raise UsageError(
                    "A join with link fields cannot be a cross join.", remedy="Choose another type."
                )
            check_links(settings.link_fields, inputs[0].fields, inputs[1].fields)
            self.plan(settings, inputs)
        except TrellisError as error:
            return [error]
        return []

    def fingerprint(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> object:
        plan = self.plan(settings, inputs)
        names = [(entry.field.name, entry.side, entry.left, entry.right) for entry in plan]
        return encode_settings(settings), names, inputs[1].name

    def compute(self, settings: JoinSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        left, right = inputs
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        links = settings.link_fields
        found = context.remember(
            ("match", left.fingerprint, right.fingerprint, links),
            lambda: match(left.table, right.table, links, context.task),
        )

        def table(join_type: JoinType) -> Table:
            plan = self.plan(settings, shapes, join_type)
            return JoinedTable(left.table, right.table, found, join_type, plan)

        ports = {ROWS: table(settings.join_type)}
        ports |= {port: table(join_type) for port, join_type in _TYPE_OF_PORT.items() if port != MATCHED}
        if settings.join_type is not JoinType.FULL_ANTI:
            ports[MATCHED] = table(JoinType.INNER)
        return StepResult(ports, found)

    def sentence(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> str:
        left, right = inputs
        links = " and ".join(
            f"{entry.left} of {left.name} with {entry.right} of {right.name}, "
            f"{ignoring(entry.link.preparation)}"
            for entry in settings.links
        )
        answer = question(settings.join_type, left.name, right.name)
        return f"Match {links or 'nothing yet'}. This answers: {answer}."
