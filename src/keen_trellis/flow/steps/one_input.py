"""What kinds of step with one input share."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.table import Field
from keen_trellis.flow.kinds import InputShape, Settings, Standing, StepKind


class RailSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """The settings of a step on a rail, which is called by what it does as long as it has no other name."""

    @property
    def caption(self) -> str:
        """What the step does, in a few words."""
        raise NotImplementedError


class OneInputKind(StepKind[Settings]):
    """One input and one port. Unless a kind says otherwise it stands on the rail, and keeps the fields."""

    standing = Standing.ON_RAIL
    input_names = ("rows",)

    def rows_called(self, step_name: str, port: str, settings: Settings, inputs: Sequence[InputShape]) -> str:
        """A step on a rail leaves the rail its name."""
        return inputs[0].name

    def fields(self, settings: Settings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields
