"""The steps that mend text: in its place, by single corrections, into parts, and out of several fields."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.table import Field
from keen_trellis.core.text_mending import (
    Action,
    How,
    check_mended,
    combined,
    combined_fields,
    corrected,
    mended,
    split,
    split_fields,
)
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed


class ActionSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing done to text, as `core.text_mending` names it."""

    how: str
    what: str = ""
    by: str = ""
    number: int = 0

    @property
    def action(self) -> Action:
        return Action(called(How, self.how, "way to mend text"), self.what, self.by, self.number)


class MendTextSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """fields: texts.  actions: what is done to each, one after the other."""

    fields: tuple[str, ...] = ()
    actions: tuple[ActionSettings, ...] = ()

    @property
    def caption(self) -> str:
        return f"mend {listed(list(self.fields), 1)}" if self.fields else "mend text"


class MendTextKind(OneInputKind):
    """One input; the same fields and rows, some texts written otherwise."""

    name = "mend-text"
    settings_type: type[msgspec.Struct] = MendTextSettings

    def check(self, settings: MendTextSettings, inputs: Sequence[InputShape]) -> None:
        check_mended(inputs[0].fields, settings.fields, _actions(settings))

    def compute(
        self, settings: MendTextSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        return StepResult({ROWS: mended(inputs[0].table, settings.fields, _actions(settings), context.task)})

    def sentence(self, settings: MendTextSettings, inputs: Sequence[InputShape]) -> str:
        done = ", ".join(str(action) for action in _actions(settings)) or "nothing yet"
        return f"In {inputs[0].name}, write {listed(list(settings.fields)) or 'no field'}: {done}."


def _actions(settings: MendTextSettings) -> list[Action]:
    return [entry.action for entry in settings.actions]


class CorrectSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """fields: texts.  pairs: what is written, and what it is read as."""

    fields: tuple[str, ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()

    @property
    def caption(self) -> str:
        return f"correct {listed(list(self.fields), 1)}" if self.fields else "corrections"


class CorrectKind(OneInputKind):
    """One input; the same fields and rows, single values read as others."""

    name = "correct"
    settings_type: type[msgspec.Struct] = CorrectSettings

    def check(self, settings: CorrectSettings, inputs: Sequence[InputShape]) -> None:
        check_mended(inputs[0].fields, settings.fields, ())

    def compute(self, settings: CorrectSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        return StepResult({ROWS: corrected(inputs[0].table, settings.fields, settings.pairs, context.task)})

    def sentence(self, settings: CorrectSettings, inputs: Sequence[InputShape]) -> str:
        values = "1 value" if len(settings.pairs) == 1 else f"{len(settings.pairs):,} values"
        return (
            f"In {listed(list(settings.fields)) or 'no field'} of {inputs[0].name}, read {values} otherwise."
        )


class SplitSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: a text.  between: what divides it.  into: the names of its parts; the last one has the rest."""

    of: str
    between: str
    into: tuple[str, ...]

    @property
    def caption(self) -> str:
        return f"split {self.of}"


class SplitKind(OneInputKind):
    """One input; the same rows, the parts of a text behind it."""

    name = "split"
    settings_type: type[msgspec.Struct] = SplitSettings

    def fields(self, settings: SplitSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return split_fields(inputs[0].fields, settings.of, settings.between, settings.into)

    def compute(self, settings: SplitSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = split(inputs[0].table, settings.of, settings.between, settings.into)
        return StepResult({ROWS: table})

    def sentence(self, settings: SplitSettings, inputs: Sequence[InputShape]) -> str:
        names = listed(list(settings.into))
        return f"Split {settings.of} of {inputs[0].name} at “{settings.between}” into {names}."


class CombineSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: fields of any type.  between: what is written between them.  into: the new field's name."""

    of: tuple[str, ...]
    into: str
    between: str = " "

    @property
    def caption(self) -> str:
        return f"combine {self.into}"


class CombineKind(OneInputKind):
    """One input; the same rows, one field more."""

    name = "combine"
    settings_type: type[msgspec.Struct] = CombineSettings

    def fields(self, settings: CombineSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return combined_fields(inputs[0].fields, settings.of, settings.into)

    def compute(self, settings: CombineSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = combined(inputs[0].table, settings.of, settings.between, settings.into)
        return StepResult({ROWS: table})

    def sentence(self, settings: CombineSettings, inputs: Sequence[InputShape]) -> str:
        names = listed(list(settings.of))
        return f"Combine {names} of {inputs[0].name} into {settings.into}, “{settings.between}” between them."
