"""What kinds of step with one input share."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import InputShape, encode_settings


class RailSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """The settings of a step on a rail, which is called by what it does as long as it has no other name."""

    @property
    def caption(self) -> str:
        """What the step does, in a few words."""
        raise NotImplementedError


class OneInputKind:
    """One input and one port. Unless a kind says otherwise it stands on the rail, and keeps the fields."""

    input_names: tuple[str, ...] = ("rows",)
    path_settings: tuple[str, ...] = ()
    more_inputs = False
    on_rail = True

    def rail_name(self, step_name: str, settings: Any, inputs: Sequence[InputShape]) -> str:
        """What the rows behind the step are called: as those before it."""
        return inputs[0].name

    def ports(self, settings: Any) -> tuple[str, ...]:
        return (ROWS,)

    def fields(self, settings: Any, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields

    def check(self, settings: Any, inputs: Sequence[InputShape]) -> None:
        """Raise what keeps the step from working; by default what keeps its fields from being known."""
        self.fields(settings, inputs, ROWS)

    def problems(self, settings: Any, inputs: Sequence[InputShape]) -> list[TrellisError]:
        try:
            self.check(settings, inputs)
        except TrellisError as error:
            return [error]
        return []

    def fingerprint(self, settings: Any, inputs: Sequence[InputShape]) -> object:
        return encode_settings(settings)
